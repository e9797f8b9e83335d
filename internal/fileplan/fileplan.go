// Package fileplan drafts a plan that brings the rows of a file into a table.
package fileplan

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"evensprout/internal/diag"
	"evensprout/internal/draft"
	"evensprout/internal/grow"
	"evensprout/internal/lexicon"
	"evensprout/internal/plan"
	"evensprout/internal/safe"
	"evensprout/internal/schema"
)

// Input is a file whose rows are to come into a table.
type Input struct {
	File    string   // as the plan is to name it
	Columns []string // what the file calls its columns
	Table   *schema.Table
	Mode    string  // how rows are written; empty: as the keys suggest
	Match   []Named // columns that tell which row a line is; nil: a key of the table
	Set     []Named // columns that take values of the file; nil: all that it has
	// Sheet of a workbook and Separator of CSV; empty: the first, and a comma.
	Sheet, Separator string
	// Encoding of text, and how numbers and dates are written; empty: as the standards say.
	Encoding, Decimal, Dates string
}

// Named is a column of the table and what the file calls it; an empty header is like the column's name.
type Named struct{ Column, Header string }

// Drafted is a plan for a file.
type Drafted struct {
	Text    string
	Key     []string // columns of the table that tell which row a line of the file is; nil if the file has none
	Set     []string // the others that the file has
	Unknown []string // columns of the file that the table does not have
}

// Draft drafts the plan. Rows of the table that the file names by a unique key are updated, others are added.
func Draft(ctx context.Context, in Input, o draft.Options) (*Drafted, error) {
	w := &writer{in: in, columns: map[*schema.Column]string{}, out: &Drafted{}}
	if err := w.named(); err != nil {
		return nil, err
	}
	w.found()
	if err := w.check(); err != nil {
		return nil, err
	}
	rest := w.rest()
	o.Entities, o.Fields, o.Only, o.Names = nil, nil, nil, lexicon.AsColumns
	d, err := draft.Make(ctx, rest, o)
	if err != nil {
		return nil, err
	}
	i := slices.IndexFunc(d.Tables, func(t *draft.Table) bool { return t.Schema.Name == in.Table.Name })
	if i < 0 {
		return nil, fmt.Errorf("what %s does not have cannot be generated for %s: %s", in.File, in.Table.Name,
			d.Left[0].Reason)
	}
	w.write(d, d.Tables[i], o)
	return w.out, nil
}

// found takes the columns of the file that are called like columns of the table.
func (w *writer) found() {
	for _, name := range w.in.Columns {
		if w.used(name) {
			continue
		}
		c := w.in.Table.ByConvention(name)
		unset := c != nil && w.in.Set != nil && (w.in.Match != nil || !w.in.Table.InKey(c.Name))
		if c == nil || unset || c.Generated || w.columns[c] != "" {
			w.out.Unknown = append(w.out.Unknown, name)
			continue
		}
		w.columns[c] = name
	}
	if w.out.Key == nil {
		w.out.Key = w.key()
	}
	for _, c := range w.in.Table.Columns {
		if w.columns[c] != "" && !slices.Contains(w.out.Key, c.Name) {
			w.out.Set = append(w.out.Set, c.Name)
		}
	}
}

// check refuses a file whose columns are too few.
func (w *writer) check() error {
	in := w.in
	switch {
	case len(w.columns) == 0:
		return fmt.Errorf("%s has no column of the table %s, which has %s", in.File, in.Table.Name,
			strings.Join(in.Table.ColumnNames(), ", "))
	case w.out.Key == nil && in.Mode != "" && in.Mode != "insert":
		return diag.Usagef("%s has no unique key of %s: say with --match which columns tell which row a line is",
			in.File, in.Table.Name)
	case len(w.out.Set) == 0 && (in.Mode == "update" || in.Mode == "upsert"):
		return diag.Usagef("%s has no column of %s but those that tell its rows apart; name the columns that "+
			"take values with --set COLUMN=HEADER; the file has %s", in.File, in.Table.Name,
			strings.Join(in.Columns, ", "))
	}
	return nil
}

// named takes the columns that the command line names.
func (w *writer) named() error {
	for _, list := range [][]Named{w.in.Match, w.in.Set} {
		for _, n := range list {
			c := w.in.Table.ByConvention(n.Column)
			if c == nil {
				return unknown(w.in.Table.Name+" has no column", n.Column, w.in.Table.ColumnNames())
			}
			header := n.Header
			if header == "" {
				header = n.Column
			}
			i := slices.IndexFunc(w.in.Columns, func(s string) bool {
				return s == header || n.Header == "" && w.in.Table.ByConvention(s) == c
			})
			if i < 0 {
				return unknown(w.in.File+" has no column", header, w.in.Columns)
			}
			w.columns[c] = w.in.Columns[i]
		}
	}
	for _, n := range w.in.Match {
		w.out.Key = append(w.out.Key, w.in.Table.ByConvention(n.Column).Name)
	}
	return nil
}

// Kinds are the kinds of the columns of the table that the columns of the file go into.
func (in Input) Kinds() map[string]schema.Kind {
	kinds := map[string]schema.Kind{}
	for _, name := range in.Columns {
		if c := in.Table.ByConvention(name); c != nil {
			kinds[name] = c.Kind
		}
	}
	for _, n := range slices.Concat(in.Match, in.Set) {
		if c := in.Table.ByConvention(n.Column); c != nil && n.Header != "" {
			kinds[n.Header] = c.Kind
		}
	}
	return kinds
}

// used reports whether a column of the file has a place in the table.
func (w *writer) used(header string) bool {
	for _, h := range w.columns {
		if h == header {
			return true
		}
	}
	return false
}

// unknown is the error of a column that is not there.
func unknown(what, name string, known []string) error {
	if near := diag.Nearest(strings.ToLower(name), known); near != "" {
		return diag.Usagef("%s %s; did you mean %s?", what, name, near)
	}
	return diag.Usagef("%s %s; it has %s", what, name, strings.Join(known, ", "))
}

// writer writes the plan for a file.
type writer struct {
	in      Input
	columns map[*schema.Column]string // what the file calls them
	out     *Drafted
}

// key is the shortest unique key of the table that the file has, and that tells rows apart.
func (w *writer) key() (best []string) {
	for _, u := range w.in.Table.Keys() {
		missing := func(name string) bool { return w.columns[w.in.Table.Column(name)] == "" }
		if slices.ContainsFunc(u.Columns, missing) || best != nil && len(best) <= len(u.Columns) {
			continue
		}
		if _, why := w.in.Table.Backing(u.Columns); why == "" {
			best = u.Columns
		}
	}
	return best
}

// rest is a database in which the table has only those columns that it needs and the file does not have, so that a
// draft for it needs no others; of other tables only what the table refers to is left.
func (w *writer) rest() *schema.Database {
	t := *w.in.Table
	t.Columns, t.PrimaryKey, t.Uniques, t.References, t.Checks = nil, nil, nil, nil, nil
	db := &schema.Database{}
	for _, c := range w.in.Table.Columns {
		if w.columns[c] == "" && c.NotNull && !c.Default && !c.Generated {
			t.Columns = append(t.Columns, c)
		}
	}
	has := func(names []string) bool {
		return !slices.ContainsFunc(names, func(name string) bool { return t.Column(name) == nil })
	}
	for _, u := range w.in.Table.Keys() {
		if has(u.Columns) {
			t.Uniques = append(t.Uniques, u)
		}
	}
	for _, x := range w.in.Table.Checks {
		if !w.mentions(x.Expression, &t) {
			t.Checks = append(t.Checks, x)
		}
	}
	for _, r := range w.in.Table.References {
		if r.To == nil || r.To == w.in.Table || !has(r.Columns) {
			continue
		}
		if db.Table(r.To.Name) == nil {
			db.Tables = append(db.Tables, targets(&r))
		}
		t.References = append(t.References, r)
	}
	db.Tables = append(db.Tables, &t)
	db.Link()
	return db
}

// targets is a table with nothing but what a reference refers to.
func targets(r *schema.Reference) *schema.Table {
	to := &schema.Table{Name: r.To.Name, Schema: r.To.Schema, Local: r.To.Local, PrimaryKey: r.Targets}
	for _, name := range r.Targets {
		to.Columns = append(to.Columns, r.To.Column(name))
	}
	return to
}

// mentions reports whether a condition names columns that a table no longer has.
func (w *writer) mentions(condition string, t *schema.Table) bool {
	words := strings.FieldsFunc(strings.ToLower(condition), func(r rune) bool {
		return r != '_' && r != '$' && (r < '0' || r > '9') && (r < 'a' || r > 'z') && r < 0x80
	})
	return slices.ContainsFunc(w.in.Table.Columns, func(c *schema.Column) bool {
		return t.Column(c.Name) == nil && slices.Contains(words, strings.ToLower(c.Name))
	})
}

// write writes the plan.
func (w *writer) write(d *draft.Draft, own *draft.Table, o draft.Options) {
	b := &strings.Builder{}
	fmt.Fprintf(b, "# Drafted for the rows of a file. Edit the file, and load it again.\n\n"+
		"name: %s\nedition: %s\nseed: %[1]s\nclock: %[3]s   # the plan's current time; the real time is never used\n",
		plan.Scalar(o.Name), grow.Latest().Name, o.Clock())
	if o.URL != "" {
		fmt.Fprintf(b, "database: %s\n", plan.Scalar(o.URL))
	}
	b.WriteString("\nentities:\n")
	entities := w.existing(b, d, own)

	fmt.Fprintf(b, "  %s:\n    table: %s\n", plan.Scalar(own.Entity), plan.Scalar(w.in.Table.Name))
	if k := w.in.Table.PrimaryKey; len(k) == 1 {
		if c := w.in.Table.Column(k[0]); w.columns[c] == "" && c.Default {
			b.WriteString("    keys: database\n")
		}
	}
	w.writeMode(b)
	fmt.Fprintf(b, "    rows_from:\n      file: %s\n", plan.Scalar(w.in.File))
	for _, x := range [][2]string{{"sheet", w.in.Sheet}, {"separator", w.in.Separator}, {"encoding", w.in.Encoding},
		{"decimal", w.in.Decimal}, {"dates", w.in.Dates}} {
		if x[1] != "" {
			fmt.Fprintf(b, "      %s: %s\n", x[0], plan.Scalar(x[1]))
		}
	}
	if w.out.Key != nil {
		fmt.Fprintf(b, "      key: %s\n", list(w.out.Key))
	}
	b.WriteString("      columns:\n")
	for _, c := range w.in.Table.Columns {
		header := w.columns[c]
		if header == "" {
			continue
		}
		source := plan.Scalar(header)
		if r := w.in.Table.Reference(c.Name); r != nil && entities[r.To] != "" {
			source = fmt.Sprintf("{column: %s, find: %s}", source, plan.Scalar(entities[r.To]+"."+r.Targets[0]))
		}
		fmt.Fprintf(b, "        %s: %s\n", plan.Scalar(c.Name), source)
	}
	if len(w.out.Unknown) > 0 {
		fmt.Fprintf(b, "      # not in the table: %s\n", safe.OneLine(strings.Join(w.out.Unknown, ", ")))
	}
	w.generated(b, own)
	w.out.Text = b.String()
}

// writeMode writes how rows are written.
func (w *writer) writeMode(b *strings.Builder) {
	switch {
	case w.in.Mode == "insert":
	case w.out.Key == nil:
		b.WriteString("    # the file has no unique key of the table, so its rows are added\n")
	case len(w.out.Set) == 0:
		fmt.Fprintf(b, "    write: {mode: %s, match: %s}\n", w.mode("keep"), list(w.out.Key))
	case w.in.Mode == "keep" || w.in.Mode == "replace":
		fmt.Fprintf(b, "    write: {mode: %s, match: %s}\n", w.in.Mode, list(w.out.Key))
	default:
		fmt.Fprintf(b, "    write: {mode: %s, match: %s, set: %s}\n", w.mode("upsert"), list(w.out.Key),
			list(w.out.Set))
	}
}

// mode is how rows are written, if the input does not say.
func (w *writer) mode(usual string) string { return cmp.Or(w.in.Mode, usual) }

// existing writes the entities of the tables that the rows refer to, and returns their names.
func (w *writer) existing(b *strings.Builder, d *draft.Draft, own *draft.Table) map[*schema.Table]string {
	names := map[*schema.Table]string{}
	taken := map[string]bool{own.Entity: true}
	for _, r := range w.in.Table.References {
		if r.To == nil || r.To == w.in.Table || names[r.To] != "" || len(r.Columns) != 1 {
			continue
		}
		name := plan.EntityName(r.To.LocalName())
		if i := slices.IndexFunc(d.Tables, func(t *draft.Table) bool { return t.Schema.Name == r.To.Name }); i >= 0 {
			name = d.Tables[i].Entity
		}
		if taken[name] {
			continue
		}
		names[r.To], taken[name] = name, true
		fmt.Fprintf(b, "  %s:\n    table: %s\n    rows: existing\n\n", plan.Scalar(name), plan.Scalar(r.To.Name))
	}
	return names
}

// generated writes the fields that the table needs and the file does not have.
func (w *writer) generated(b *strings.Builder, own *draft.Table) {
	head := "    fields:   # which the file does not have\n"
	for _, c := range own.Schema.Columns {
		_, source, comment, ok := own.Line(c, true)
		if !ok {
			continue
		}
		if comment != "" {
			source += "   # " + comment
		}
		fmt.Fprintf(b, "%s      %s: %s\n", head, plan.Scalar(c.Name), source)
		head = ""
	}
}

// list is a list as a plan writes it.
func list(names []string) string {
	out := make([]string, len(names))
	for i, name := range names {
		out[i] = plan.Scalar(name)
	}
	return "[" + strings.Join(out, ", ") + "]"
}
