package addition

import (
	"slices"
	"strings"

	"evensprout/internal/grow"
	"evensprout/internal/lookup"
	"evensprout/internal/plan"
	"evensprout/internal/schema"
	"evensprout/internal/store"
)

// find is the row that a label names: Passenger.ada of the plan, or the value of a unique column or of the label.
func (b *builder) find(t *plan.Target, label string) (*lookup.Row, error) {
	if entity, name, ok := strings.Cut(label, "."); ok && entity == t.Plan.Name {
		r, err := b.given(t, name)
		if r != nil || err != nil {
			return r, err
		}
	}
	if r, err := b.given(t, label); r != nil || err != nil {
		return r, err
	}
	r, err := lookup.Find(b.ctx, b.store, t.Table, t.Plan.Name, label)
	if r != nil {
		r.Label = label
	}
	return r, err
}

// given is the row of the database that the plan calls by a name; nil if the plan has none.
func (b *builder) given(t *plan.Target, name string) (*lookup.Row, error) {
	if row, ok := b.compiled.RowNamed(t, name); ok {
		return b.inDatabase(t, row)
	}
	return nil, nil
}

// planned is a row of the plan that is in the database: another one for each addition; nil if it is not there.
func (b *builder) planned(t *plan.Target) (*lookup.Row, error) {
	total := t.Grow.Total()
	if total == 0 {
		return nil, nil
	}
	at := b.request.Number % total
	if side := uint64(len(t.Grow.Side)); at >= side {
		return b.inDatabase(t, grow.Row{N: at - side})
	}
	return b.inDatabase(t, grow.Row{N: at, Side: true})
}

// inDatabase is the row of the database that has the natural key of a row of the plan, or else its key, if the plan
// says which; nil if there is none.
func (b *builder) inDatabase(t *plan.Target, at grow.Row) (*lookup.Row, error) {
	var batch grow.Batch
	b.grower.Grow(t.Grow, at, 1, &batch)
	if err := b.grower.Err(); err != nil {
		return nil, err
	}
	for _, c := range slices.Backward(naturalKeys(t)) {
		i := slices.Index(t.Columns, c)
		if i < 0 || t.Grow.Fields[i].Inner || batch.Row(0)[i].IsNull() {
			continue
		}
		where := []store.Cell{{Column: c, Value: batch.Row(0)[i]}}
		list, err := lookup.Rows(b.ctx, b.store, store.Query{Table: t.Table, Where: where, AsIs: true, Limit: 1})
		if err != nil {
			return nil, err
		}
		if len(list) > 0 {
			return &list[0], nil
		}
		return nil, nil
	}
	return nil, nil
}

// naturalKeys are the columns of a table that are unique by themselves, the primary key first, if the plan gives it.
func naturalKeys(t *plan.Target) []*schema.Column {
	var out []*schema.Column
	for _, k := range t.Table.Keys() {
		c := t.Table.Column(k.Columns[0])
		if len(k.Columns) != 1 || k.Partial || c == nil {
			continue
		}
		isKey := slices.Equal(k.Columns, t.Table.PrimaryKey)
		if isKey && t.Plan.DatabaseKeys {
			continue
		}
		out = append(out, c)
	}
	return out
}

// Question is a field that a request can set.
type Question struct {
	Field  string
	Column *schema.Column
	To     *plan.Target // of a reference: what it leads to; nil if it is none
}

// Questions are the fields that a request for an entity can set, in the order of the table, but for those that the
// database fills.
func Questions(c *plan.Compiled, entity string) ([]Question, *plan.Target, error) {
	b := &builder{compiled: c}
	t := c.Target(entity)
	if t == nil {
		return nil, nil, unknown("there is no entity", entity, b.names())
	}
	var out []Question
	for _, column := range t.Table.Columns {
		if column.Generated || column.Identity != schema.NoIdentity {
			continue
		}
		i, _ := b.column(t, column.Name)
		q := Question{Field: column.Name, Column: column, To: b.refersTo(t, i, column)}
		if i >= 0 {
			q.Field = t.Grow.Fields[i].Name
		}
		if slices.Contains(t.Table.PrimaryKey, column.Name) && q.To == nil && column.Kind == schema.Integer {
			continue // it goes on after the greatest
		}
		out = append(out, q)
	}
	return out, t, nil
}
