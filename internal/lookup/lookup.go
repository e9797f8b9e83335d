// Package lookup finds rows of a database by what people call them, and what they belong to.
package lookup

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"evensprout/internal/cell"
	"evensprout/internal/diag"
	"evensprout/internal/fit"
	"evensprout/internal/predicate"
	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/value"
)

// Row is a row of the database.
type Row struct {
	Table  *schema.Table
	Values map[string]value.Value // by column; bytes are left out
	Label  string                 // what people call it; empty if the table has no such column
}

// Key tells the row from others of its table.
func (r Row) Key() string {
	var parts []string
	for _, k := range r.Table.PrimaryKey {
		parts = append(parts, r.Values[k].String())
	}
	return strings.Join(parts, ", ")
}

// valueTypes are the types of values that columns of a kind hold.
var valueTypes = map[schema.Kind]value.Type{
	schema.Integer: value.Integer, schema.Decimal: value.Decimal, schema.Real: value.Decimal, schema.Text: value.Text,
	schema.Boolean: value.Boolean, schema.Date: value.Date, schema.Time: value.Time,
	schema.Timestamp: value.Timestamp, schema.UUID: value.UUID, schema.JSON: value.JSON,
}

// Parse reads a value of a column.
func Parse(c *schema.Column, s string) (value.Value, error) {
	kind, ok := valueTypes[c.Kind]
	if !ok || kind == value.Text {
		if c.Length > 0 && len([]rune(s)) > c.Length {
			return value.Value{}, fmt.Errorf("the column %s holds %d characters, and this has %d", c.Name, c.Length,
				len([]rune(s)))
		}
		if c.Values != nil && !slices.Contains(c.Values, s) {
			return value.Value{}, fmt.Errorf("the column %s holds %s", c.Name, strings.Join(c.Values, ", "))
		}
		return value.String(s), nil
	}
	return cell.Parse(cell.Cell{Text: s}, kind)
}

// Check reads a value of a column, and refuses what the column, or a check of it alone, refuses.
func Check(t *schema.Table, c *schema.Column, s string) (value.Value, error) {
	v, err := Parse(c, s)
	if err != nil {
		return v, err
	}
	if misfit := fit.Value(c, &v); misfit != nil {
		return v, errors.New(misfit.Message)
	}
	refuses := func(n *predicate.Node, err error) bool {
		if err != nil {
			return false // the database will tell
		}
		k, err := predicate.Compile(n)
		if err != nil || len(k.Columns) != 1 || !strings.EqualFold(k.Columns[0], c.Name) {
			return false
		}
		truth, err := k.Truth([]value.Value{v})
		return err == nil && truth == 0
	}
	for _, k := range t.Checks {
		if refuses(predicate.Parse(k.Expression)) {
			return v, fmt.Errorf("%s CHECK (%s) does not hold", k.Name, k.Expression)
		}
	}
	for _, k := range c.Checks {
		if refuses(predicate.ParseDomain(k.Expression, c.Name)) {
			return v, fmt.Errorf("CHECK (%s) of its type does not hold", k.Expression)
		}
	}
	return v, nil
}

// Labels are texts that name rows of a table, of so many rows at most: their labels or, where several rows share one,
// their unique values.
func Labels(ctx context.Context, s store.Store, t *schema.Table, most int64) ([]string, error) {
	columns := labelColumns(t)
	for _, c := range t.LabelColumns() {
		if !slices.Contains(columns, c) {
			columns = append(columns, c)
		}
	}
	if len(columns) == 0 {
		return nil, nil
	}
	var labels, uniques []string
	times := map[string]int{}
	err := s.Select(ctx, store.Query{Table: t, Columns: columns, AsIs: true, Limit: most}, func(r []value.Value) error {
		label := t.LabelOf(func(c *schema.Column) string { return r[slices.Index(columns, c)].String() })
		times[label]++
		labels, uniques = append(labels, label), append(uniques, r[0].String())
		return nil
	})
	for i, l := range labels {
		if l == "" || times[l] > 1 {
			labels[i] = uniques[i]
		}
	}
	return labels, err
}

// labelColumns are the columns by which a row may be named, those with unique values first.
func labelColumns(t *schema.Table) []*schema.Column {
	var out []*schema.Column
	add := func(name string) {
		if c := t.Column(name); c != nil && !slices.Contains(out, c) {
			out = append(out, c)
		}
	}
	for _, k := range t.Keys() {
		if len(k.Columns) == 1 && !k.Partial {
			add(k.Columns[0])
		}
	}
	for _, c := range t.LabelColumns() {
		add(c.Name)
	}
	add(t.Label())
	return out
}

// Rows reads rows of a table.
func Rows(ctx context.Context, s store.Store, q store.Query) ([]Row, error) {
	for _, c := range q.Table.Columns {
		if c.Kind != schema.Bytes && (c.Kind != schema.Any || c.NotNull) {
			q.Columns = append(q.Columns, c)
		}
	}
	var out []Row
	err := s.Select(ctx, q, func(values []value.Value) error {
		r := Row{Table: q.Table, Values: map[string]value.Value{}}
		for i, c := range q.Columns {
			r.Values[c.Name] = values[i]
		}
		r.Label = q.Table.LabelOf(func(c *schema.Column) string { return r.Values[c.Name].String() })
		out = append(out, r)
		return nil
	})
	return out, err
}

// Find is the row that a text names: by the value of a unique column, or by its label. who is what the table's rows are
// called. It is an error if there is none, or if several have the label.
func Find(ctx context.Context, s store.Store, t *schema.Table, who, label string) (*Row, error) {
	for _, where := range conditions(t, label) {
		list, err := Rows(ctx, s, store.Query{Table: t, Where: where, AsIs: true, Limit: 3})
		if err != nil {
			return nil, err
		}
		switch len(list) {
		case 0:
			continue
		case 1:
			return &list[0], nil
		}
		return nil, diag.Usagef(
			"%s fits several rows of %s, such as those with the keys %s and %s: name one by its key",
			label,
			who,
			list[0].Key(),
			list[1].Key(),
		)
	}
	return nil, none(ctx, s, t, label)
}

// conditions are those by which a text may name a row: one for each unique column, and one for the label.
func conditions(t *schema.Table, label string) [][]store.Cell {
	var out [][]store.Cell
	for _, c := range labelColumns(t) {
		if v, err := Parse(c, label); err == nil {
			out = append(out, []store.Cell{{Column: c, Value: v}})
		}
	}
	columns := t.LabelColumns()
	parts := t.ReadLabel(label)
	if len(columns) < 2 || len(parts) != len(columns) {
		return out
	}
	var where []store.Cell
	for i, c := range columns {
		v, err := Parse(c, parts[i])
		if err != nil {
			return out
		}
		where = append(where, store.Cell{Column: c, Value: v})
	}
	return append(out, where)
}

// none is the error of a label that no row has, with the nearest label that one has.
func none(ctx context.Context, s store.Store, t *schema.Table, label string) error {
	const looked = 2000
	var labels []string
	columns := t.LabelColumns()
	for _, c := range labelColumns(t) {
		if c.Kind == schema.Text && !slices.Contains(columns, c) {
			columns = append(columns, c)
		}
	}
	if len(columns) > 0 {
		q := store.Query{Table: t, Columns: columns, AsIs: true, Limit: looked}
		err := s.Select(ctx, q, func(r []value.Value) error {
			for _, v := range r {
				labels = append(labels, v.String())
			}
			labels = append(labels, t.LabelOf(func(c *schema.Column) string {
				return r[slices.Index(columns, c)].String()
			}))
			return nil
		})
		if err != nil {
			return err
		}
	}
	hint := ""
	if near := diag.Nearest(label, labels); near != "" {
		hint = "; did you mean " + near + "?"
	}
	return diag.Usagef("%s has no row %s%s", t.Name, label, hint)
}

// Tree is a row with the rows that it refers to, and those that refer to it.
type Tree struct {
	Row
	Above []Above
	Below []Below
}

// Above is a row that a reference leads to.
type Above struct {
	Columns []string
	Tree    *Tree
}

// Below are rows that refer to a row.
type Below struct {
	Table   *schema.Table
	Columns []string // by which they refer
	Trees   []*Tree
	More    bool // there are more
}

// mostBelow bounds how many rows of a table are shown below one.
const mostBelow = 20

// Finder finds rows that belong together.
type Finder struct {
	Store  store.Store
	Tables *schema.Database
}

// Tree finds what a row belongs to, so many steps up, and what belongs to it, so many steps down.
func (x *Finder) Tree(ctx context.Context, r Row, up, down int) (*Tree, error) {
	t := &Tree{Row: r}
	for i := range r.Table.References {
		ref := &r.Table.References[i]
		if up == 0 || ref.To == nil {
			continue
		}
		where, ok := cells(ref.To, ref.Targets, r.Values, ref.Columns)
		if !ok {
			continue
		}
		list, err := Rows(ctx, x.Store, store.Query{Table: ref.To, Where: where, AsIs: true, Limit: 1})
		if err != nil {
			return nil, err
		}
		if len(list) == 0 {
			continue
		}
		above, err := x.Tree(ctx, list[0], up-1, 0)
		if err != nil {
			return nil, err
		}
		t.Above = append(t.Above, Above{ref.Columns, above})
	}
	if down == 0 {
		return t, nil
	}
	for _, o := range x.Tables.Tables {
		for i := range o.References {
			ref := &o.References[i]
			if ref.To != r.Table {
				continue
			}
			below, err := x.below(ctx, t, o, ref, down)
			if err != nil {
				return nil, err
			}
			if len(below.Trees) > 0 {
				t.Below = append(t.Below, *below)
			}
		}
	}
	return t, nil
}

// below finds the rows of a table that refer to a row.
func (x *Finder) below(
	ctx context.Context, t *Tree, o *schema.Table, ref *schema.Reference, down int,
) (*Below, error) {
	out := &Below{Table: o, Columns: ref.Columns}
	where, ok := cells(o, ref.Columns, t.Values, ref.Targets)
	if !ok {
		return out, nil
	}
	list, err := Rows(ctx, x.Store, store.Query{Table: o, Where: where, Limit: mostBelow + 1})
	if err != nil {
		return nil, err
	}
	if out.More = len(list) > mostBelow; out.More {
		list = list[:mostBelow]
	}
	for _, r := range list {
		tree, err := x.Tree(ctx, r, 0, down-1)
		if err != nil {
			return nil, err
		}
		out.Trees = append(out.Trees, tree)
	}
	return out, nil
}

// cells are columns with values of others; false if one is NULL or not there.
func cells(t *schema.Table, columns []string, values map[string]value.Value, from []string) ([]store.Cell, bool) {
	var out []store.Cell
	for i, name := range columns {
		c := t.Column(name)
		v, ok := values[from[i]]
		if c == nil || !ok || v.IsNull() {
			return nil, false
		}
		out = append(out, store.Cell{Column: c, Value: v})
	}
	return out, true
}
