package cli

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/charmbracelet/x/ansi"

	"evensprout/internal/diag"
	"evensprout/internal/habits"
	"evensprout/internal/lookup"
	"evensprout/internal/report"
	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/value"
)

// How far a tree of rows reaches.
const (
	stepsUp   = 2
	stepsDown = 2
)

// lookAtRow shows a row with what it refers to, and what refers to it.
func (a *program) lookAtRow(ctx context.Context, f *lookup.Finder, t *schema.Table, who, label string) error {
	r, err := lookup.Find(ctx, f.Store, t, who, label)
	if err != nil {
		return err
	}
	tree, err := f.Tree(ctx, *r, stepsUp, stepsDown)
	if err != nil {
		return err
	}
	if a.json {
		return a.writeJSON(treeObject(tree))
	}
	fmt.Fprintln(a.out, a.page.Bold(rowName(tree)))
	x := &treePrinter{a, ctx, newLabels(f.Store, f.Tables)}
	return x.print(tree, "", true)
}

// treePrinter draws rows with what they belong to.
type treePrinter struct {
	program *program
	ctx     context.Context
	labels  *labels
}

// rowName is what a row is called: its table, its key and its label.
func rowName(t *lookup.Tree) string {
	name := t.Table.Name + " " + t.Key()
	if t.Label != "" && t.Label != t.Key() {
		name += " " + report.Cell(value.String(t.Label))
	}
	return name
}

// cellsOf are the columns of a row that are neither its key nor a reference nor its label.
func cellsOf(t *lookup.Tree) []string {
	var out []string
	for _, c := range t.Table.Columns {
		v, ok := t.Values[c.Name]
		if !ok || v.IsNull() || slices.Contains(t.Table.PrimaryKey, c.Name) || t.Table.Reference(c.Name) != nil ||
			slices.Contains(t.Table.LabelColumns(), c) {
			continue
		}
		out = append(out, c.Name+" "+shorter(report.Cell(v)))
	}
	return out
}

// shorter cuts a long text.
func shorter(s string) string {
	const most = 40
	if r := []rune(s); len(r) > most {
		return string(r[:most-1]) + "…"
	}
	return s
}

// line prints a line, cut to the width of a terminal.
func (x *treePrinter) line(text string) {
	if page := x.program.page; page.Height > 0 {
		text = ansi.Truncate(text, page.Width, "…")
	}
	fmt.Fprintln(x.program.out, text)
}

// print draws what is above and below a row. The first row has a line for each column.
func (x *treePrinter) print(t *lookup.Tree, indent string, first bool) error {
	a := x.program
	lines := len(t.Above) + len(t.Below)
	next := func() (branch, below string) {
		lines--
		branch, below = branches(lines == 0)
		return a.page.Dim(indent + branch), indent + below
	}
	if first {
		cells := cellsOf(t)
		lines += len(cells)
		for _, c := range cells {
			branch, _ := next()
			x.line(branch + c)
		}
	}
	for _, up := range t.Above {
		branch, below := next()
		head := fmt.Sprintf("%s: %s", strings.Join(up.Columns, ", "), a.page.Bold(rowName(up.Tree)))
		x.line(branch + inline(head, cellsOf(up.Tree)))
		if err := x.print(up.Tree, below, false); err != nil {
			return err
		}
	}
	for _, down := range t.Below {
		branch, below := next()
		n := diag.Count(len(down.Trees), "row", "rows")
		if down.More {
			n = fmt.Sprintf("more than %d rows", len(down.Trees))
		}
		fmt.Fprintf(
			a.out,
			"%s%s by %s: %s\n",
			branch,
			a.page.Bold(down.Table.Name),
			strings.Join(down.Columns, ", "),
			n,
		)
		for i, child := range down.Trees {
			end, deeper := branches(i == len(down.Trees)-1)
			cells, err := x.others(child, down.Columns)
			if err != nil {
				return err
			}
			x.line(a.page.Dim(below+end) + inline(rowName(child), append(cells, cellsOf(child)...)))
			if err := x.print(child, below+deeper, false); err != nil {
				return err
			}
		}
	}
	return nil
}

// others are the references of a row, but for some columns, with the labels of their rows.
func (x *treePrinter) others(t *lookup.Tree, but []string) ([]string, error) {
	var out []string
	for _, c := range t.Table.Columns {
		v, ok := t.Values[c.Name]
		if !ok || v.IsNull() || t.Table.Reference(c.Name) == nil || slices.Contains(but, c.Name) {
			continue
		}
		label, err := x.labels.of(x.ctx, t.Table, c, v)
		if err != nil {
			return nil, err
		}
		out = append(out, strings.TrimSpace(c.Name+" "+report.Cell(v)+" "+label))
	}
	return out, nil
}

// branches are what stands in front of a part of a tree, and of what is below it.
func branches(last bool) (branch, below string) {
	if last {
		return "└─ ", "   "
	}
	return "├─ ", "│  "
}

// inline is a row in one line.
func inline(head string, cells []string) string {
	const shown = 5
	if len(cells) > 0 {
		head += "  " + strings.Join(cells[:min(len(cells), shown)], ", ")
	}
	if len(cells) > shown {
		head += ", …"
	}
	return head
}

// treeObject is a tree of rows as JSON.
func treeObject(t *lookup.Tree) *report.Object {
	values := &report.Object{}
	for _, c := range t.Table.Columns {
		if v, ok := t.Values[c.Name]; ok {
			values.Set(c.Name, report.JSON(v))
		}
	}
	refers, below := []any{}, []any{}
	for _, x := range t.Above {
		o := &report.Object{}
		o.Set("columns", x.Columns)
		o.Set("row", treeObject(x.Tree))
		refers = append(refers, o)
	}
	for _, x := range t.Below {
		rows := []any{}
		for _, r := range x.Trees {
			rows = append(rows, treeObject(r))
		}
		o := &report.Object{}
		o.Set("table", x.Table.Name)
		o.Set("columns", x.Columns)
		o.Set("rows", rows)
		o.Set("more", x.More)
		below = append(below, o)
	}
	o := &report.Object{}
	o.Set("table", t.Table.Name)
	o.Set("values", values)
	o.Set("refers_to", refers)
	o.Set("referred_by", below)
	return o
}

// Limits on what is counted.
const (
	countedRows   = 100_000
	countedValues = 12 // different values of a small column
)

// counted is how often the values of a column occur.
type counted struct {
	column *schema.Column
	rows   map[string]int64
	many   bool
}

// add counts a value, until there are too many.
func (x *counted) add(v string) {
	if x.many {
		return
	}
	x.rows[v]++
	if x.many = len(x.rows) > countedValues; x.many {
		x.rows = nil
	}
}

// lookCounts shows how often each value of small columns occurs.
func (a *program) lookCounts(ctx context.Context, s store.Store, t *schema.Table) error {
	var list []*counted
	for _, c := range t.Columns {
		if c.Kind != schema.Bytes && c.Kind != schema.JSON && !t.IsKey(c.Name) {
			list = append(list, &counted{column: c, rows: map[string]int64{}})
		}
	}
	total := int64(0)
	q := store.Query{Table: t, AsIs: true, Limit: countedRows}
	for _, x := range list {
		q.Columns = append(q.Columns, x.column)
	}
	err := s.Select(ctx, q, func(row []value.Value) error {
		total++
		for i, x := range list {
			x.add(report.Cell(row[i]))
		}
		return nil
	})
	if err != nil {
		return err
	}
	out := report.Table{Columns: []report.Column{{Name: "Column"}, {Name: "Value"}, {Name: "Rows", Number: true},
		{Name: "Share", Number: true}}}
	object := []any{}
	for _, x := range list {
		values := &report.Object{}
		for _, v := range mostFirst(x.rows) {
			out.Rows = append(out.Rows, []string{x.column.Name, v, diag.Number(x.rows[v]),
				habits.Percent(x.rows[v], total)})
			values.Set(v, x.rows[v])
		}
		if len(x.rows) > 0 {
			o := &report.Object{}
			o.Set("column", x.column.Name)
			o.Set("values", values)
			object = append(object, o)
		}
	}
	if a.json {
		o := &report.Object{}
		o.Set("table", t.Name)
		o.Set("total", total)
		o.Set("counts", object)
		return a.writeJSON(o)
	}
	fmt.Fprintf(a.out, "%s  %s\n", a.page.Bold(t.Name), a.page.Dim(diag.Count(total, "row", "rows")))
	switch {
	case len(out.Rows) > 0:
		fmt.Fprintln(a.out, a.page.Draw(out))
	case total > 0:
		fmt.Fprintln(a.out, a.page.Dim(fmt.Sprintf("  every column has more than %d different values", countedValues)))
	}
	if total == countedRows {
		fmt.Fprintln(a.out, a.page.Dim("  only these rows were counted; the table may have more"))
	}
	return nil
}

// mostFirst are values by how often they occur.
func mostFirst(rows map[string]int64) []string {
	out := make([]string, 0, len(rows))
	for v := range rows {
		out = append(out, v)
	}
	slices.SortFunc(
		out,
		func(a, b string) int { return cmp.Or(cmp.Compare(rows[b], rows[a]), strings.Compare(a, b)) },
	)
	return out
}
