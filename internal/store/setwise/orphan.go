package setwise

import (
	"context"
	"strings"

	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/value"
)

// Orphan finds a row of a table whose reference points to nothing; nil if there is none.
func (tx *Tx) Orphan(ctx context.Context, t *schema.Table, r *schema.Reference) (*store.Violation, error) {
	own := columnsOf(t, r.Columns)
	keys := columnsOf(t, t.PrimaryKey)
	var there, matches []string
	for i, c := range own {
		name := "c." + tx.Engine.Quote(c.Name)
		there = append(there, name+" IS NOT NULL")
		matches = append(matches, tx.Engine.Equal("p."+tx.Engine.Quote(r.Targets[i]), name, c))
	}
	columns := append(append([]*schema.Column{}, own...), keys...)
	sql := "SELECT " + strings.Join(
		Names(tx.Engine, "c.", columns),
		", ",
	) + " FROM " + tx.Engine.Table(
		t,
	) + " AS c WHERE " + strings.Join(
		there,
		" AND ",
	) +
		" AND NOT EXISTS (SELECT 1 FROM " + tx.Engine.Table(
		r.To,
	) + " AS p WHERE " + strings.Join(
		matches,
		" AND ",
	) + ") LIMIT 1"
	var v *store.Violation
	err := tx.Engine.Query(ctx, sql, nil, columns, func(row []value.Value) error {
		v = &store.Violation{
			Kind:       store.ForeignKey,
			Row:        -1,
			Table:      t.Name,
			Constraint: r.Name,
			Columns:    r.Columns,
			Refers:     r.Table,
			Message:    "a reference points to a row that does not exist",
		}
		for i := range own {
			v.Values = append(v.Values, row[i])
		}
		for i, c := range keys {
			v.Key = append(v.Key, store.Pair{Column: c.Name, Value: row[len(own)+i]})
		}
		return nil
	})
	return v, err
}
