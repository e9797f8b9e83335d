package archive

import (
	"context"
	"fmt"
	"slices"

	"evensprout/internal/grow"
	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/value"
)

// MaxExisting bounds the rows of a table that a plan reads: they are kept in memory.
const MaxExisting = 1_000_000

// Existing reads the rows of a table, in the order of its key, for entities whose rows
// are those that are there.
func Existing(ctx context.Context, s store.Store, t *schema.Table) (grow.Table, error) {
	n, err := s.Count(ctx, t)
	if err != nil {
		return nil, err
	}
	if n > MaxExisting {
		return nil, fmt.Errorf("it has %d rows; at most %d can be read", n, MaxExisting)
	}
	e := &existing{}
	err = s.Select(ctx, store.Query{Table: t, Columns: t.Columns}, func(row []value.Value) error {
		for i := range row {
			if c := t.Columns[i]; c.Kind == schema.Any || c.Kind == schema.Real {
				if !row[i].IsNull() {
					row[i] = value.String(row[i].String()) // no type that could be relied on
				}
			}
		}
		e.rows = append(e.rows, slices.Clone(row))
		return nil
	})
	return e, err
}

// existing is rows in memory. It is its own reader.
type existing struct{ rows [][]value.Value }

func (e *existing) Len() uint64                         { return uint64(len(e.rows)) }
func (e *existing) Reader() grow.TableReader            { return e }
func (e *existing) Row(n uint64) ([]value.Value, error) { return e.rows[n], nil }
func (e *existing) Close() error                        { return nil }
