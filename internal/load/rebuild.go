package load

import (
	"context"
	"fmt"

	"evensprout/internal/schema"
	"evensprout/internal/store"
)

// rebuilder is a transaction that can drop indexes and make them again inside itself.
type rebuilder interface {
	DropIndexes(ctx context.Context, tables []*schema.Table) (restore func(context.Context) error, err error)
}

// dropIndexes drops what slows a load down, if that is asked for and safe: only of
// tables that are empty, and only where it can be rolled back.
func (l *Session) dropIndexes(ctx context.Context, w *Writer) (func() error, error) {
	if !l.Options.Rebuild {
		return nil, nil
	}
	tx, ok := w.Tx.(rebuilder)
	if !ok {
		return nil, &store.Fault{
			Kind:    store.Refused,
			Message: l.Traits.Engine + " commits when it drops an index, so a failed load could not be rolled back",
			Hint:    "load without --rebuild-indexes",
		}
	}

	var tables []*schema.Table
	for _, t := range l.List {
		if t.Out.Before > t.removedSoFar(w) {
			return nil, &store.Fault{
				Kind: store.Refused,
				Message: fmt.Sprintf(
					"%s has %d rows; indexes are rebuilt only for tables that are empty at the start",
					t.Table.Name,
					t.Out.Before,
				),
				Hint: "load without --rebuild-indexes",
			}
		}
		if l.lenient(t) || t.Writes.Mode != store.Insert && t.Writes.Mode != store.Replace {
			return nil, &store.Fault{
				Kind: store.Refused,
				Message: fmt.Sprintf(
					"%s needs its indexes during the load, because of its mode %s or a policy other than stop",
					t.Table.Name,
					t.Write.Mode,
				),
				Hint: "load without --rebuild-indexes",
			}
		}
		tables = append(tables, t.Table)
	}

	restore, err := tx.DropIndexes(ctx, tables)
	if err != nil {
		return nil, err
	}
	return func() error { return l.Refusal(nil, nil, restore(ctx)) }, nil
}

// removedSoFar counts the rows that this load removed from the table.
func (t *Target) removedSoFar(w *Writer) int64 { return w.of(t).removed }
