package load

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"evensprout/internal/journal"
	"evensprout/internal/plan"
	"evensprout/internal/schema"
	"evensprout/internal/store"
)

// IndexWay says what a load does with indexes while it writes rows.
type IndexWay string

// The ways. The zero value is IndexesAuto.
const (
	IndexesAuto    IndexWay = "auto"    // rebuild those of large, empty tables, where that is safe
	IndexesKeep    IndexWay = "keep"    // leave all in place
	IndexesRebuild IndexWay = "rebuild" // rebuild all, or refuse
)

// RebuildFrom is the number of rows from which IndexesAuto rebuilds the indexes of a table. It is where rebuilding
// begins to pay on PostgreSQL and SQLite; see docs/performance.md.
const RebuildFrom = 50_000

// Rebuilder is a transaction that can drop indexes and make them again inside itself.
type Rebuilder interface {
	// DropIndexes drops what slows down a load of empty tables. A *store.Fault says why nothing was dropped.
	DropIndexes(ctx context.Context, r store.Rebuild) (store.Dropped, error)
}

// dropIndexes drops what slows a load down, where that is safe: only of tables that are empty, and only where it can be
// rolled back. It returns what makes everything again; nil if nothing was dropped.
func (l *Session) dropIndexes(ctx context.Context, w *Writer) (func() error, error) {
	asked := l.Options.Indexes == IndexesRebuild
	if l.Options.Indexes == IndexesKeep {
		return nil, nil
	}
	tx, ok := w.Tx.(Rebuilder)
	if !ok || !l.Traits.Rebuilds {
		if !asked {
			return nil, nil
		}
		return nil, inPlace(
			l.Traits.Engine + " commits when it drops an index, so a failed load could not be rolled back",
		)
	}
	large, filled, err := l.rebuildable(w, asked)
	if err != nil || len(large) == 0 {
		return nil, err
	}
	if asked {
		filled = l.Plan.Database.Tables // whoever uses a table that is referred to has to wait
	}
	dropped, err := tx.DropIndexes(ctx, store.Rebuild{Tables: large, Filled: filled, Wait: asked})
	var fault *store.Fault
	if !asked && errors.As(err, &fault) && slices.Contains(
		[]store.FaultKind{store.Refused, store.Locked, store.Denied}, fault.Kind) {
		l.Result.Indexes = &journal.Indexes{Kept: fault.Message}
		return nil, nil
	}
	if err != nil || dropped.Count == 0 {
		return nil, err
	}
	l.Result.Indexes = &journal.Indexes{Rebuilt: dropped.Count}
	for _, t := range dropped.Tables {
		l.Result.Indexes.Tables = append(l.Result.Indexes.Tables, t.Name)
	}
	return func() error {
		err := dropped.Restore(ctx)
		var v *store.Violation
		if errors.As(err, &v) {
			return errors.Join(errIndexRefused, err)
		}
		return err
	}, nil
}

// errIndexRefused tells that rows do not go together with an index that is made again. The load is run again with all
// indexes in place, which shows the first such row, and in the same words as always.
var errIndexRefused = errors.New("an index cannot be made again")

// rebuildable are the tables whose indexes may be rebuilt, and all that this load fills from empty. If rebuilding is
// asked for, a table that must keep its indexes is an error.
func (l *Session) rebuildable(w *Writer, asked bool) (large, filled []*schema.Table, err error) {
	for _, t := range l.List {
		why := l.needsIndexes(t, w)
		if why != "" && asked {
			return nil, nil, inPlace(why)
		}
		if why != "" || slices.Contains(filled, t.Table) {
			continue
		}
		filled = append(filled, t.Table)
		if asked || t.Grow.Total() >= RebuildFrom && l.Options.Part.Whole() {
			large = append(large, t.Table)
		}
	}
	return large, filled, nil
}

// needsIndexes says why a table keeps its indexes; empty if they can be rebuilt.
func (l *Session) needsIndexes(t *Target, w *Writer) string {
	switch {
	case t.Out.Before > t.removedSoFar(w):
		return fmt.Sprintf("%s has %d rows; indexes are rebuilt only for tables that are empty at the start",
			t.Table.Name, t.Out.Before)
	case l.lenient(t) || t.Writes.Mode != store.Insert && t.Writes.Mode != store.Replace:
		return fmt.Sprintf("%s needs its indexes during the load, because of its mode %s or a policy other than stop",
			t.Table.Name, t.Write.Mode)
	}
	return ""
}

// inPlace refuses to rebuild indexes.
func inPlace(why string) error {
	return &store.Fault{Kind: store.Refused, Message: why, Hint: "load without --indexes rebuild"}
}

// refuseRebuild refuses to rebuild indexes where a load commits in between: an interrupted load would leave tables
// without them.
func (o Options) refuseRebuild() error {
	if o.Indexes != IndexesRebuild || o.Commit == plan.CommitLoad || o.DryRun {
		return nil
	}
	return &store.Fault{
		Kind: store.Refused,
		Message: fmt.Sprintf("indexes are rebuilt only in one transaction, and commit: %s commits in between: an "+
			"interrupted load would leave tables without indexes", o.Commit),
		Hint: "load with --commit load, or without --indexes rebuild",
	}
}

// noteChunked says why a load that commits in between leaves indexes in place, where rebuilding them would have paid.
func (l *Session) noteChunked() {
	large := slices.ContainsFunc(l.List, func(t *Target) bool {
		return t.Out.Before == 0 && t.Out.Inserted >= RebuildFrom
	})
	if large && l.Traits.Rebuilds && l.Options.Indexes != IndexesKeep && l.Options.Commit != plan.CommitLoad &&
		!l.Options.DryRun {
		l.Result.Indexes = &journal.Indexes{Kept: fmt.Sprintf("commit: %s commits in between", l.Options.Commit)}
	}
}

// removedSoFar counts the rows that this load removed from the table.
func (t *Target) removedSoFar(w *Writer) int64 { return w.of(t).removed }
