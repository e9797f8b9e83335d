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

	"evensprout/internal/cell"
	"evensprout/internal/diag"
	"evensprout/internal/draft"
	"evensprout/internal/fileplan"
	"evensprout/internal/files"
	"evensprout/internal/safe"
	"evensprout/internal/schema"
	"evensprout/internal/store"
)

// fileFlags are those of a load of a file without a plan.
type fileFlags struct {
	file, table, mode string
	match, set        []string // COLUMN=HEADER, or COLUMN
	sheet, separator  string
	encoding          string
	decimal, dates    string
	save              string // a plan that says the same
}

// fileModes are what --mode can be.
var fileModes = []string{"insert", "keep", "upsert", "update", "replace"}

func (f *fileFlags) add(c *cobra.Command) {
	c.Flags().StringVar(&f.file, "file", "", "without a plan: load this `FILE` into --table, with "+
		"--mode, --match and others (docs/writing.md)")
	c.Flags().StringVar(&f.table, "table", "", "with --file: the table")
	c.Flags().StringVar(&f.mode, "mode", "", "with --file: "+strings.Join(fileModes, ", "))
	c.Flags().StringSliceVar(&f.match, "match", nil, "with --file: columns that tell which row a line is")
	c.Flags().StringSliceVar(&f.set, "set", nil, "with --file: columns that take values of the file")
	c.Flags().StringVar(&f.sheet, "sheet", "", "with --file: a sheet of a workbook")
	c.Flags().StringVar(&f.separator, "separator", "", "with --file: of CSV")
	c.Flags().StringVar(&f.encoding, "encoding", "", "with --file: of text, such as windows-1252")
	c.Flags().StringVar(&f.decimal, "decimal", "", "with --file: how numbers are written: comma or point")
	c.Flags().StringVar(&f.dates, "dates", "", "with --file: how dates are written, such as d.m.y")
	c.Flags().StringVar(&f.save, "save-plan", "", "with --file: write a plan that does the same to this FILE")
	for _, name := range []string{"table", "mode", "match", "set", "sheet", "separator", "encoding", "decimal", "dates",
		"save-plan"} {
		c.Flags().Lookup(name).Hidden = true // the help of --file names them
	}
}

// check refuses flags that cannot be combined.
func (f *fileFlags) check(args []string, l *loadCommand) error {
	if f.file == "" {
		if slices.Concat(f.match, f.set) != nil ||
			f.table+f.mode+f.sheet+f.save+f.separator+f.encoding+f.decimal+f.dates != "" {
			return diag.Usagef(
				"--table, --mode, --match, --set, --sheet, --separator, --encoding, --decimal, --dates and " +
					"--save-plan need --file",
			)
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
	case f.decimal != "" && !slices.Contains(cell.Decimals, f.decimal):
		return diag.Usagef("--decimal must be one of %s, got %s", strings.Join(cell.Decimals, ", "), f.decimal)
	case f.dates != "" && !slices.Contains(cell.DateForms, f.dates):
		return diag.Usagef("--dates must be one of %s, got %s", strings.Join(cell.DateForms, ", "), f.dates)
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
	if err := a.recognise(in, f); err != nil {
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
		Separator: f.separator, Encoding: f.encoding, Decimal: f.decimal, Dates: f.dates}
	var err error
	if in.Encoding == "" && isText(f.file) {
		if in.Encoding, err = encodingOf(f.file); err != nil {
			return nil, err
		}
		if in.Encoding != "" {
			a.note("%s is read as %s; --encoding names another encoding", f.file, in.Encoding)
		}
	}
	if in.Separator == "" && strings.EqualFold(filepath.Ext(f.file), ".csv") {
		if in.Separator, err = separatorOf(f.file); err != nil {
			return nil, err
		}
		if in.Separator != "" {
			a.note("the separator of %s is %q", f.file, in.Separator)
		}
	}
	o := files.Options{Sheet: f.sheet, Encoding: in.Encoding}
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

// note says what was recognised.
func (a *program) note(format string, args ...any) {
	if !a.quiet {
		fmt.Fprintf(a.err, "note: "+format+"\n", args...)
	}
}

// isText reports whether a file is text with an encoding that nothing says.
func isText(path string) bool {
	return slices.Contains([]string{".csv", ".tsv", ".txt"}, strings.ToLower(filepath.Ext(path)))
}

// encodingOf is the encoding of a text file whose beginning is no UTF-8: UTF-16 has a mark, and what has none is taken
// for the encoding of most spreadsheets; empty for UTF-8.
func encodingOf(path string) (string, error) {
	f, err := safe.Open(path)
	if err != nil {
		return "", unreadable(path, err)
	}
	defer f.Close()
	const most = 1 << 20
	b, err := io.ReadAll(io.LimitReader(f, most))
	if err != nil {
		return "", unreadable(path, err)
	}
	switch {
	case strings.HasPrefix(string(b), "\xff\xfe"):
		return "utf-16le", nil
	case strings.HasPrefix(string(b), "\xfe\xff"):
		return "utf-16be", nil
	case slices.Contains(b, 0):
		return "", nil // no text: whoever reads the file says so
	}
	for range utf8.UTFMax - 1 { // the last character may be cut
		if len(b) == most && !utf8.Valid(b) {
			b = b[:len(b)-1]
		}
	}
	if utf8.Valid(b) {
		return "", nil
	}
	line, mixed := notUTF8(b)
	if mixed {
		return "", diag.Usagef("%s:%d: a byte that is not UTF-8, in a file that is UTF-8 elsewhere: save the file again as UTF-8, or name its "+
			"encoding with --encoding", path, line)
	}
	return "windows-1252", nil
}

// notUTF8 is the first line with a byte that is not UTF-8, and whether other characters beyond ASCII are.
func notUTF8(b []byte) (line int, mixed bool) {
	at := 1
	for len(b) > 0 {
		r, n := utf8.DecodeRune(b)
		switch {
		case r == utf8.RuneError && n == 1 && line == 0:
			line = at
		case n > 1:
			mixed = true
		case r == '\n':
			at++
		}
		b = b[n:]
	}
	return line, mixed
}

// recognisedRows is how many rows of a file show how numbers and dates are written.
const recognisedRows = 2000

// recognise finds out how numbers and dates are written in the columns that take such values.
func (a *program) recognise(in *fileplan.Input, f *fileFlags) error {
	if f.decimal != "" || f.dates != "" {
		return nil // the person knows
	}
	o := files.Options{Sheet: in.Sheet, Encoding: in.Encoding}
	if in.Separator != "" {
		var err error
		if o.Separator, err = files.ParseSeparator(in.Separator); err != nil {
			return err
		}
	}
	numbers, dates, err := numbersAndDates(f.file, o, in.Kinds())
	if err != nil {
		return err
	}
	forms, err := cell.Recognise(numbers, dates, in.Separator == ";")
	if err != nil {
		return diag.Usagef("%s: %w", f.file, err)
	}
	in.Decimal, in.Dates = forms.Decimal, forms.Dates
	if in.Decimal != "" {
		a.note("numbers of %s have a decimal %s", f.file, in.Decimal)
	}
	if in.Dates != "" {
		a.note("dates of %s are written %s", f.file, in.Dates)
	}
	return nil
}

// numbersAndDates are texts at the beginning of a file that are to be numbers, and those that are to be dates.
func numbersAndDates(
	path string, o files.Options, kinds map[string]schema.Kind,
) (numbers, dates []string, err error) {
	r, err := files.Open(path, o)
	if err != nil {
		return nil, nil, err
	}
	defer r.Close()
	for range recognisedRows {
		record, err := r.Next()
		if err != nil {
			break // whoever loads the file says what is wrong
		}
		for i, c := range record.Cells {
			if c.Kind != cell.Text && c.Kind != cell.Quoted {
				continue
			}
			switch kinds[record.Names[i]] {
			case schema.Integer, schema.Decimal, schema.Real:
				numbers = append(numbers, c.Text)
			case schema.Date, schema.Timestamp:
				dates = append(dates, c.Text)
			}
		}
	}
	return numbers, dates, nil
}
