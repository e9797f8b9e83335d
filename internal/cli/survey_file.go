package cli

import (
	"context"
	"fmt"
	"path/filepath"
	"strings"

	"evensprout/internal/diag"
	"evensprout/internal/draft"
	"evensprout/internal/fileplan"
	"evensprout/internal/schema"
)

// draftForFile drafts a plan that brings the rows of a file into a table.
func (a *program) draftForFile(ctx context.Context, f *surveyFlags, db *schema.Database, o draft.Options) error {
	said := &fileFlags{file: f.file}
	in, err := a.fileInput(said)
	if err != nil {
		return err
	}
	base := strings.TrimSuffix(filepath.Base(f.file), filepath.Ext(f.file))
	name := f.table
	if name == "" {
		name = base
	}
	table := db.Table(name)
	if table == nil {
		return diag.Usagef("--table: the database has no table %s; it has %s", name,
			strings.Join(db.TableNames(), ", "))
	}
	o.Name = base
	in.Table = table
	if err := a.recognise(in, said); err != nil {
		return err
	}
	in.File = besidePlan(f.file, f.out)
	d, err := fileplan.Draft(ctx, *in, o)
	if err != nil {
		return err
	}
	if f.out == "" {
		fmt.Fprint(a.exact, d.Text)
		return nil
	}
	if err := newFile(f.out, d.Text); err != nil {
		return err
	}
	fmt.Fprintf(a.out, "%s a plan for the rows of %s in %s\n", a.page.Good("drafted:"), f.file, f.out)
	how := "rows are added: the file has no unique key of the table"
	if d.Key != nil {
		how = fmt.Sprintf("rows with the same %s are updated, and others are added", strings.Join(d.Key, ", "))
	}
	fmt.Fprintf(a.out, "table %s: %s\n", table.Name, how)
	if len(d.Unknown) > 0 {
		fmt.Fprintf(a.out, "not in the table: %s\n", strings.Join(d.Unknown, ", "))
	}
	fmt.Fprintf(a.out, "Next: evensprout check %[1]s && evensprout load %[1]s\n", f.out)
	return nil
}

// besidePlan is how a plan names a file: from its own folder.
func besidePlan(file, plan string) string {
	if filepath.IsAbs(file) || plan == "" {
		return file
	}
	from, err1 := filepath.Abs(filepath.Dir(plan))
	to, err2 := filepath.Abs(file)
	rel, err3 := filepath.Rel(from, to)
	if err1 != nil || err2 != nil || err3 != nil {
		return file
	}
	return rel
}
