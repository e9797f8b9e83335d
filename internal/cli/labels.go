package cli

import (
	"context"
	"slices"

	"evensprout/internal/report"
	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/value"
)

// labels finds what rows are called that others refer to, and remembers it.
type labels struct {
	store store.Store
	db    *schema.Database
	known map[string]string
}

// newLabels looks rows up in a database.
func newLabels(s store.Store, db *schema.Database) *labels {
	return &labels{s, db, map[string]string{}}
}

// of is the label of the row that a cell refers to; empty if the cell is no
// reference, or if the key itself says as much.
func (l *labels) of(ctx context.Context, t *schema.Table, c *schema.Column, v value.Value) (string, error) {
	r := t.Reference(c.Name)
	if r == nil || v.IsNull() {
		return "", nil
	}
	to := l.db.Table(r.Table)
	if to == nil {
		return "", nil
	}
	key, columns := to.Column(r.Targets[0]), to.LabelColumns()
	if key == nil || len(columns) == 0 || len(columns) == 1 && columns[0] == key {
		return "", nil
	}
	name := to.Name + "\x00" + v.String()
	if known, ok := l.known[name]; ok {
		return known, nil
	}
	found := "?"
	err := l.store.Select(
		ctx,
		store.Query{
			Table:   to,
			Columns: columns,
			Where:   []store.Cell{{Column: key, Value: v}},
			Limit:   1,
		},
		func(row []value.Value) error {
			found = to.LabelOf(func(c *schema.Column) string { return report.Cell(row[slices.Index(columns, c)]) })
			return nil
		},
	)
	l.known[name] = found
	return found, err
}
