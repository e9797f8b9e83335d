package cli

import (
	"bufio"
	"cmp"
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/spf13/cobra"

	"evensprout/internal/diag"
	"evensprout/internal/draft"
	"evensprout/internal/fileplan"
	"evensprout/internal/files"
	"evensprout/internal/schema"
	"evensprout/internal/store"
)

// fileFlags are those of a load of a file without a plan.
type fileFlags struct {
	file, table, mode string
	match, set        []string // COLUMN=HEADER, or COLUMN
	sheet, separator  string
	save              string // a plan that says the same
}

// fileModes are what --mode can be.
var fileModes = []string{"insert", "keep", "upsert", "update", "replace"}

func (f *fileFlags) add(c *cobra.Command) {
	c.Flags().StringVar(&f.file, "file", "", "without a plan: load this `FILE` into --table; with --mode, --match, "+
		"--set, --sheet, --separator, --save-plan (docs/writing.md)")
	c.Flags().StringVar(&f.table, "table", "", "with --file: the table")
	c.Flags().StringVar(&f.mode, "mode", "", "with --file: "+strings.Join(fileModes, ", "))
	c.Flags().StringSliceVar(&f.match, "match", nil, "with --file: columns that tell which row a line is")
	c.Flags().StringSliceVar(&f.set, "set", nil, "with --file: columns that take values of the file")
	c.Flags().StringVar(&f.sheet, "sheet", "", "with --file: a sheet of a workbook")
	c.Flags().StringVar(&f.separator, "separator", "", "with --file: of CSV")
	c.Flags().StringVar(&f.save, "save-plan", "", "with --file: write a plan that does the same to this FILE")
	for _, name := range []string{"table", "mode", "match", "set", "sheet", "separator", "save-plan"} {
		c.Flags().Lookup(name).Hidden = true // the help of --file names them
	}
}

// check refuses flags that cannot be combined.
func (f *fileFlags) check(args []string, l *loadCommand) error {
	if f.file == "" {
		if slices.Concat(f.match, f.set) != nil || f.table+f.mode+f.sheet+f.save+f.separator != "" {
			return diag.Usagef("--table, --mode, --match, --set, --sheet, --separator and --save-plan need --file")
		}
		return nil
	}
	switch {
	case len(args) > 0:
		return diag.Usagef("--file loads a file without a plan, so it cannot be combined with %s", args[0])
	case len(l.unit.names) > 0 || l.write.corrected != "" || l.keep.retry || l.keep.restore:
		return diag.Usagef("--file cannot be combined with --unit, --corrected, --retry-rejected or --restore")
	case f.mode != "" && !slices.Contains(fileModes, f.mode):
		return diag.Usagef("--mode must be one of %s, got %s", strings.Join(fileModes, ", "), f.mode)
	}
	return nil
}

// headers reads COLUMN=HEADER.
func headers(list []string) []fileplan.Named {
	var out []fileplan.Named
	for _, s := range list {
		column, header, _ := strings.Cut(s, "=")
		out = append(out, fileplan.Named{Column: column, Header: header})
	}
	return out
}

// inlinePlan makes the plan that loads a file into a table, and lets the workspace use it.
func (a *program) inlinePlan(ctx context.Context, f *fileFlags) error {
	if f.file == "" {
		return nil
	}
	in, err := a.fileInput(f)
	if err != nil {
		return err
	}
	s, _, err := a.ws.Open(ctx, nil, nil)
	if err != nil {
		return err
	}
	if s == nil {
		return diag.Usagef("--file needs a database: name it with --db or DATABASE_URL")
	}
	defer s.Close()
	db, err := s.Survey(ctx)
	if err != nil {
		return err
	}
	o := draft.Options{Name: strings.TrimSuffix(filepath.Base(f.file), filepath.Ext(f.file)),
		Today: time.Now().Unix() / secondsOfADay}
	if in.Table, err = findTable(db, nil, cmp.Or(f.table, o.Name)); err != nil {
		return err
	}
	d, err := fileplan.Draft(ctx, *in, o)
	if err != nil {
		return err
	}
	a.noteUnused(in.Table, d.Unknown)
	a.ws.Inline = []byte(d.Text)
	if f.save == "" {
		return nil
	}
	in.File = besidePlan(f.file, f.save)
	o.URL = draftURL(a.ws.Opened, store.Describe(a.ws.Drivers, a.ws.Opened), f.save)
	if d, err = fileplan.Draft(ctx, *in, o); err != nil {
		return err
	}
	return newFile(f.save, d.Text)
}

// noteUnused lists the columns of a file that are not used.
func (a *program) noteUnused(t *schema.Table, columns []string) {
	for _, u := range columns {
		near := ""
		if n := diag.Nearest(strings.ToLower(u), t.ColumnNames()); n != "" {
			near = fmt.Sprintf("; to use it: --set %s=%q", n, u)
		}
		if !a.quiet {
			fmt.Fprintf(a.err, "note: %s has no column %s, so it is not used%s\n", t.Name, u, near)
		}
	}
}

// fileInput is what the flags say of a file, and its columns.
func (a *program) fileInput(f *fileFlags) (*fileplan.Input, error) {
	in := &fileplan.Input{File: f.file, Mode: f.mode, Match: headers(f.match), Set: headers(f.set), Sheet: f.sheet,
		Separator: f.separator}
	var err error
	if in.Separator == "" && strings.EqualFold(filepath.Ext(f.file), ".csv") {
		if in.Separator, err = separatorOf(f.file); err != nil {
			return nil, err
		}
		if in.Separator != "" && !a.quiet {
			fmt.Fprintf(a.err, "note: the separator of %s is %q\n", f.file, in.Separator)
		}
	}
	o := files.Options{Sheet: f.sheet}
	if in.Separator != "" {
		if o.Separator, err = files.ParseSeparator(in.Separator); err != nil {
			return nil, diag.Usagef("--separator: %w", err)
		}
	}
	in.Columns, err = files.Names(f.file, o)
	return in, err
}

// separatorOf looks at the first line of a CSV file: a semicolon, a tab or a bar is its separator if it is more
// frequent there than the comma; empty if the comma is.
func separatorOf(path string) (string, error) {
	f, err := os.Open(path)
	if err != nil {
		return "", unreadable(path, err)
	}
	defer f.Close()
	const most = 64 << 10
	line, err := bufio.NewReader(io.LimitReader(f, most)).ReadString('\n')
	if err != nil && err != io.EOF || !utf8.ValidString(line) {
		return "", nil // whoever reads the file says what is wrong
	}
	counts, quoted := map[rune]int{}, false
	for _, r := range line {
		if r == '"' {
			quoted = !quoted
		}
		if !quoted {
			counts[r]++
		}
	}
	best := ','
	for _, r := range ";\t|" {
		if counts[r] > counts[best] {
			best = r
		}
	}
	if best == ',' {
		return "", nil
	}
	return string(best), nil
}
