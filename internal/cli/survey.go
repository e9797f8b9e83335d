package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"evensprout/internal/diag"
	"evensprout/internal/draft"
	"evensprout/internal/safe"
	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/structs"
	"evensprout/internal/value"
)

func (a *program) survey() *cobra.Command {
	var f surveyFlags
	c := &cobra.Command{
		Use:   "survey",
		Short: "Draft a plan from a database",
		Long: `survey reads tables, columns, types, keys and references, and drafts a plan: how many
rows, and where each field gets its values, chosen by type, name and simple conditions.
The draft loads as it is and fills every table; edit it to make the values yours. survey
writes nothing to the database.

Columns that the database computes are left out. Tables that cannot be filled are named
at the head of the draft with the reason. A comment after a field gives the reason for a
choice. Conditions that only the database can compute, such as its own functions, are
tested there with values in a query.

--learn reads existing rows, at most 100,000 of each table: shares of NULL, how often
codes occur, ranges of numbers and times, children for each parent. It copies no value
that occurs fewer than 5 times (change that with --least).

--structs reads Go structs with db:"..." tags (another tag: --tag). Without a database,
they become the draft; with one, they give the draft its names, constants of their types
become choices, and disagreements with the tables are reported.

With --json, survey prints the description of the tables instead.`,
		Example: `  evensprout survey --db sqlite:app.db
  evensprout survey --db sqlite:app.db --out evensprout.yaml
  evensprout survey --db postgres://app@localhost/app --out evensprout.yaml
  evensprout survey --db postgres://app@localhost/app --schema sales --tables 'order*,customers' -o orders.yaml
  evensprout survey --db sqlite:app.db --rows 1000 --names camel --learn
  evensprout survey --structs ./internal/models --out evensprout.yaml
  evensprout survey --db postgres://app@localhost/app --structs ./internal/models --tag db
  evensprout survey --db mysql://app@localhost/app --json`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error { return a.draft(cmd.Context(), &f) },
	}
	a.allowFlag(c)
	c.Flags().StringVarP(&f.out, "out", "o", "", "write the plan to this `FILE`, which must not exist yet")
	c.Flags().Uint64Var(&f.rows, "rows", 0, "rows for each table, as far as its keys allow (default: by the "+
		"shape of the tables)")
	c.Flags().
		StringVar(&f.names, "names", "", "style of field names: "+strings.Join(draft.Namings, ", ")+" (default: "+
			"as columns)")
	c.Flags().
		StringSliceVar(&f.tables, "tables", nil, "draft only these tables and those that they need: names or "+
			"patterns such as 'order*'")
	c.Flags().StringVar(&f.schema, "schema", "", "draft only tables of this schema and those that they need")
	c.Flags().StringVar(&f.folder, "structs", "", "read Go structs in this `FOLDER` and its subfolders")
	c.Flags().StringVar(&f.tag, "tag", "db", "with --structs: the struct tag that names columns")
	c.Flags().BoolVar(&f.learn, "learn", false, "take shares and ranges of values from existing rows")
	c.Flags().Int64Var(&f.least, "least", draft.LeastOften, "with --learn: copy a value only if it occurs at "+
		"least this often")
	return c
}

// surveyFlags are the flags of survey.
type surveyFlags struct {
	out, names, schema string
	tables             []string
	rows               uint64
	learn              bool
	folder, tag        string // of Go structs
	least              int64
}

func (f *surveyFlags) check() error {
	if f.names != "" && !slices.Contains(draft.Namings, f.names) {
		return diag.Usagef("--names must be one of %s, got %s", strings.Join(draft.Namings, ", "), f.names)
	}
	for _, p := range f.tables {
		if _, err := path.Match(p, ""); err != nil {
			return diag.Usagef("--tables %s is not a pattern: * stands for any letters, ? for one, [a-z] for one "+
				"of some", p)
		}
	}
	if f.least < 2 {
		return diag.Usagef("--least must be 2 or more, because a value that occurs once may be personal")
	}
	return nil
}

// mapped are the Go structs that the flags name.
func (f *surveyFlags) mapped() ([]structs.Struct, error) {
	if f.folder == "" {
		return nil, nil
	}
	mapped, err := structs.Read(f.folder, f.tag)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, diag.Usagef("--structs: there is no folder %s", f.folder)
	}
	if err == nil && len(mapped) == 0 {
		err = fmt.Errorf("no struct in %s has a field with the tag %s; choose another with --tag", f.folder, f.tag)
	}
	return mapped, err
}

// draft surveys a database, or reads structs, and writes a plan.
func (a *program) draft(ctx context.Context, f *surveyFlags) error {
	if err := f.check(); err != nil {
		return err
	}
	mapped, err := f.mapped()
	if err != nil {
		return err
	}
	o := draft.Options{Rows: f.rows, Names: draft.Naming(f.names)}
	u := a.ws.URL(nil, "")
	s, db, err := a.surveyed(ctx, f, mapped, u, &o)
	if err != nil {
		return err
	}
	if s != nil {
		defer s.Close()
	}
	matches, told := structs.Hold(mapped, db)
	if a.json {
		return a.writeJSON(surveyed{db, told})
	}
	if len(db.Tables) == 0 {
		return &store.Fault{
			Kind:    store.Missing,
			Message: fmt.Sprintf("%s has no tables", a.ws.Shown(u)),
			Hint:    "run your migrations first",
		}
	}

	for _, d := range told {
		fmt.Fprintln(a.err, d)
	}
	structs.Name(&o, matches)
	if o.Only, err = draft.Wanted(db, f.tables, f.schema); err != nil {
		return err
	}
	if s != nil {
		if err := f.look(ctx, s, db, &o); err != nil {
			return err
		}
	}
	d, err := draft.Make(ctx, db, o)
	if err != nil {
		return err
	}
	if f.out == "" {
		fmt.Fprint(a.exact, d.Write(o))
		return nil
	}
	if err := newFile(f.out, d.Write(o)); err != nil {
		return err
	}
	a.printDraft(d, f.out)
	return nil
}

// look adds to a draft's options what the database can do and what its tables hold.
func (f *surveyFlags) look(ctx context.Context, s store.Store, db *schema.Database, o *draft.Options) (err error) {
	o.Loosens = s.Traits().DefersAll || s.Traits().Loosens
	o.Held, err = draft.Look(ctx, s, db)
	if err == nil && f.learn {
		o.Learned, err = draft.Learn(ctx, s, db, o.Held, f.least)
	}
	return err
}

// surveyed reads the tables of a database, or of structs where no database is named: then
// the store is nil.
func (a *program) surveyed(
	ctx context.Context,
	f *surveyFlags,
	mapped []structs.Struct,
	u string,
	o *draft.Options,
) (store.Store, *schema.Database, error) {
	switch {
	case u != "":
		s, err := store.Open(ctx, a.ws.Drivers, u)
		if err != nil {
			return nil, nil, err
		}
		db, err := s.Survey(ctx)
		if err != nil {
			s.Close()
			return nil, nil, err
		}
		place := store.Describe(a.ws.Drivers, u)
		o.Name, o.URL, o.Probe = place.Name, draftURL(u, place, f.out), s.Passes
		if why := a.ws.MayAsk(u); why != "" {
			o.Probe = func(context.Context, []*schema.Column, string, [][]value.Value) ([]bool, error) {
				return nil, &store.NotAsked{Why: why}
			}
		}
		return s, db, nil
	case mapped != nil:
		path, err := filepath.Abs(f.folder)
		o.Name = filepath.Base(path)
		return nil, structs.Database(mapped), err
	}
	return nil, nil, &store.Fault{
		Kind:    store.BadURL,
		Message: "no database is named",
		Hint: "name it with --db sqlite:app.db or the environment variable DATABASE_URL; or draft from Go " +
			"structs alone with --structs FOLDER",
	}
}

// newFile writes a file that must not exist yet.
func newFile(path, text string) error {
	f, err := safe.Create(path, 0o644)
	if errors.Is(err, fs.ErrExist) {
		return fmt.Errorf("%s already exists: nothing was written; name another file, or move it away", path)
	}
	if err != nil {
		return err
	}
	_, err = f.WriteString(text)
	return errors.Join(err, f.Close())
}

func (a *program) printDraft(d *draft.Draft, path string) {
	fmt.Fprintf(
		a.out,
		"%s a plan for %s in %s\n",
		a.page.Good("drafted:"),
		diag.Count(len(d.Tables), "table", "tables"),
		path,
	)
	for _, l := range d.Left {
		if !l.Unasked {
			fmt.Fprintf(a.out, "left out: %s: %s\n", l.Table, l.Reason)
		}
	}
	fmt.Fprintf(a.out, "Next: evensprout check %s && evensprout preview %s\n", path, path)
}

// surveyed is what survey --json writes.
type surveyed struct {
	*schema.Database
	Disagreements []structs.Disagreement `json:"disagreements,omitempty"`
}

// draftURL is the database as a plan in a file names it: a file seen from the
// plan's folder, and of a server user, host and database alone.
func draftURL(u string, p store.Place, out string) string {
	if p.File == "" {
		return p.Shown
	}
	if filepath.IsAbs(p.File) || out == "" {
		return u
	}
	from, err1 := filepath.Abs(filepath.Dir(out))
	to, err2 := filepath.Abs(p.File)
	rel, err3 := filepath.Rel(from, to)
	if err1 != nil || err2 != nil || err3 != nil {
		return u
	}
	return "sqlite:" + rel
}
