package report

import (
	"context"

	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/value"
)

// Labels finds what rows are called that others refer to, and remembers it.
type Labels struct {
	store store.Store
	db    *schema.Database
	known map[string]string
}

// NewLabels looks rows up in a database.
func NewLabels(s store.Store, db *schema.Database) *Labels {
	return &Labels{s, db, map[string]string{}}
}

// Of is the label of the row that a cell refers to; empty if the cell is no
// reference, or if the key itself says as much.
func (l *Labels) Of(ctx context.Context, t *schema.Table, c *schema.Column, v value.Value) (string, error) {
	r := t.Reference(c.Name)
	if r == nil || v.IsNull() {
		return "", nil
	}
	to := l.db.Table(r.Table)
	if to == nil {
		return "", nil
	}
	key, label := to.Column(r.Targets[0]), to.Column(to.Label())
	if key == nil || label == nil || key == label {
		return "", nil
	}
	name := to.Name + "\x00" + v.String()
	if known, ok := l.known[name]; ok {
		return known, nil
	}
	found := "?"
	err := l.store.Select(ctx, store.Query{Table: to, Columns: []*schema.Column{label}, Where: []store.Cell{{Column: key, Value: v}}, Limit: 1}, func(row []value.Value) error {
		found = Cell(row[0])
		return nil
	})
	l.known[name] = found
	return found, err
}
