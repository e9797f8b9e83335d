package habits

import (
	"context"
	"slices"

	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/value"
)

// Contents is what a table holds before anything is loaded.
type Contents struct {
	Rows    uint64
	Highest map[string]int64         // of whole numbers that are the only column of the primary key
	Values  map[string][]value.Value // of the columns of keys, in a small table
}

// WholeRows is how many rows of a table are looked at whole.
const WholeRows = 1000

// Look reads what the tables hold, as far as it matters for keys.
func Look(ctx context.Context, s store.Store, db *schema.Database) (map[*schema.Table]*Contents, error) {
	out := map[*schema.Table]*Contents{}
	for _, t := range db.Tables {
		n, why, err := store.CountReached(ctx, s, t)
		if err != nil {
			return nil, err
		}
		switch {
		case why != nil:
			t.Broken = "its rows cannot be read: " + why.Error()
			continue
		case n == 0:
			continue
		}
		h := &Contents{Rows: uint64(n), Highest: map[string]int64{}, Values: map[string][]value.Value{}}
		out[t] = h
		if len(t.PrimaryKey) == 1 {
			c := t.Column(t.PrimaryKey[0])
			err := s.Select(
				ctx,
				store.Query{Table: t, Columns: []*schema.Column{c}, Skip: n - 1, Limit: 1},
				func(row []value.Value) error {
					if row[0].Type == value.Integer {
						h.Highest[c.Name] = row[0].N
					}
					return nil
				},
			)
			if err != nil {
				return nil, err
			}
		}
		if n > WholeRows {
			continue
		}
		columns := ofKeys(t)
		if len(columns) == 0 {
			continue
		}
		err = s.Select(ctx, store.Query{Table: t, Columns: columns, Limit: WholeRows}, func(row []value.Value) error {
			for i, c := range columns {
				h.Values[c.Name] = append(h.Values[c.Name], row[i])
			}
			return nil
		})
		if err != nil {
			return nil, err
		}
	}
	return out, nil
}

// ofKeys are the columns of a table's keys.
func ofKeys(t *schema.Table) []*schema.Column {
	var columns []*schema.Column
	for _, k := range t.Keys() {
		for _, name := range k.Columns {
			if c := t.Column(name); c != nil && !slices.Contains(columns, c) {
				columns = append(columns, c)
			}
		}
	}
	return columns
}
