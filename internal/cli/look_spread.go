package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"evensprout/internal/diag"
	"evensprout/internal/plan"
	"evensprout/internal/report"
	"evensprout/internal/schema"
	"evensprout/internal/store"
)

// allColumns stands for every column of a table.
const allColumns = "all"

// columnsNamed finds columns of a table by their names, or by those of an entity's fields.
func columnsNamed(db *schema.Database, p *plan.Plan, t *schema.Table, names []string) ([]*schema.Column, error) {
	fields := map[string]*schema.Column{}
	if p != nil {
		for _, b := range p.Bindings(db) {
			if b.Table == t {
				for name, c := range b.Columns {
					fields[name] = c
				}
			}
		}
	}
	var out []*schema.Column
	for _, name := range names {
		c := t.Column(name)
		if c == nil {
			c = fields[name]
		}
		if c == nil && name == allColumns {
			return t.Columns, nil
		}
		if i := slices.IndexFunc(t.Columns, func(c *schema.Column) bool {
			return schema.Plain(c.Name) == schema.Plain(name)
		}); c == nil && i >= 0 {
			c = t.Columns[i]
		}
		if c == nil {
			err := fmt.Errorf("--spread: %s has no column %s", t.Name, name)
			if near := diag.Nearest(name, t.ColumnNames()); near != "" {
				err = fmt.Errorf("%w; did you mean %s?", err, near)
			}
			return nil, &diag.UsageError{Err: err}
		}
		out = append(out, c)
	}
	return out, nil
}

// lookSpread shows how the values of columns are distributed. The database counts them.
func (a *program) lookSpread(
	ctx context.Context, s store.Store, db *schema.Database, t *schema.Table, columns []*schema.Column,
) error {
	l := newLabels(s, db)
	fields := &report.Object{}
	var names, types []string
	var spreads []report.Spread
	for _, c := range columns {
		counted, err := s.Spread(ctx, t, c)
		if err != nil {
			return err
		}
		x, err := l.spread(ctx, t, c, counted)
		if err != nil {
			return err
		}
		fields.Set(c.Name, x)
		names, types, spreads = append(names, c.Name), append(types, c.Declared), append(spreads, x)
	}
	if a.json {
		o := &report.Object{}
		o.Set("table", t.Name)
		o.Set("total", spreads[0].Rows)
		o.Set("spreads", fields)
		return a.writeJSON(o)
	}
	fmt.Fprintf(a.out, "%s  %s\n", a.page.Bold(t.Name), a.page.Dim(diag.Count(spreads[0].Rows, "row", "rows")))
	if len(columns) > 1 {
		fmt.Fprintln(a.out, a.page.Draw(report.SpreadTable(names, types, spreads)))
		return nil
	}
	a.showSpread(columns[0], &spreads[0])
	return nil
}

// showSpread shows one column's spread, with bars.
func (a *program) showSpread(c *schema.Column, s *report.Spread) {
	about := []string{c.Declared, "NULL " + diag.Number(s.Nulls)}
	if s.Distinct >= 0 {
		about = append(about, diag.Count(s.Distinct, "different value", "different values"))
	}
	if s.Counts != nil {
		about = append(about, s.Least+" to "+s.Most)
	}
	if s.Longest > 0 {
		about = append(about, fmt.Sprintf("%d to %s", s.Shortest, s.Length(s.Longest)))
	}
	fmt.Fprintf(a.out, "%s  %s\n", a.page.Bold(c.Name), strings.Join(about, ", "))
	if t, ok := s.Bars(a.page); ok {
		fmt.Fprintln(a.out, a.page.Draw(t))
	}
	if len(s.Common) == 0 {
		return
	}
	fmt.Fprintln(a.out, a.page.Dim(fmt.Sprintf("The %d most frequent values:", len(s.Common))))
	common := report.Spread{Rows: s.Rows, Nulls: s.Nulls, Choices: s.Common}
	if t, ok := common.Bars(a.page); ok {
		fmt.Fprintln(a.out, a.page.Draw(t))
	}
}

// spread is what the database has counted, with the labels of the rows that a reference points to.
func (l *labels) spread(ctx context.Context, t *schema.Table, c *schema.Column, of *store.Spread) (
	out report.Spread, err error,
) {
	out = report.Spread{Rows: int(of.Rows), Nulls: int(of.Nulls), Distinct: int(of.Distinct),
		Shortest: int(of.Shortest), Longest: int(of.Longest), Lengths: ints(of.Lengths),
		LengthStarts: ints(of.LengthStarts), Bytes: c.Kind == schema.Bytes}
	if !of.Least.IsNull() {
		out.Least, out.Most = of.Least.String(), of.Most.String()
	}
	var common []report.Choice
	for _, f := range of.Common {
		label, err := l.of(ctx, t, c, f.Value)
		if err != nil {
			return out, err
		}
		common = append(common, report.Choice{Value: strings.TrimSpace(report.Cell(f.Value) + " " + label),
			Count: int(f.Rows)})
	}
	switch {
	case of.Distinct <= store.SpreadValues && len(common) > 0:
		out.Choices = common
		return out, nil
	case t.Reference(c.Name) != nil:
		out.Common = common // keys are numbers whose order says nothing
		return out, nil
	}
	if of.Counts != nil {
		out.Counts = ints(of.Counts)
		for _, v := range of.Starts {
			out.Starts = append(out.Starts, v.String())
		}
		out.Starts = report.Days(out.Starts)
		return out, nil
	}
	out.Common = common
	return out, nil
}

func ints(of []int64) []int {
	var out []int
	for _, n := range of {
		out = append(out, int(n))
	}
	return out
}
