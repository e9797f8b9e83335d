package withdraw

import (
	"context"
	"errors"

	"evensprout/internal/load"
	"evensprout/internal/order"
	"evensprout/internal/replay"
	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/value"
)

// removeSpan removes the rows of a run by the span of their keys, without staging them: the database shows the rows
// that it deletes. If these are not exactly those that the load added, as they were, or others refer to them, all is as
// before and done is false: the rows have to be looked at one by one.
func (v *withdrawal) removeSpan(ctx context.Context, t *load.Target, run order.Run) (done bool, err error) {
	span, ok := v.spanOf(t, run)
	if !ok {
		return false, v.w.Growth
	}
	tx, columns := v.w.Tx, t.Into().Columns
	if referred, err := tx.RefersInto(ctx, v.Session.Plan.Database, span); referred || err != nil {
		return false, err
	}

	const mark = "evensprout_span"
	if err := tx.Savepoint(ctx, mark); err != nil {
		return false, err
	}
	// The rows are grown while the database deletes.
	added, deleted := replay.NewRowSet(columns), replay.NewRowSet(columns)
	grown := make(chan struct{})
	rows := &load.Pass{}
	go func() {
		defer close(grown)
		fields := t.Into().Fields
		for b := range v.Only(v.w, t, run, true, rows) {
			for i := range b.Len {
				added.Add(b.Row(i), fields)
			}
		}
	}()
	err = tx.RemoveSpan(ctx, span, columns, func(row []value.Value) error {
		deleted.Add(row, nil)
		return nil
	})
	<-grown
	if err == nil {
		err = v.w.Growth
	}

	if err != nil && !isRefusal(err) {
		return false, err
	}
	if err != nil || !deleted.Same(added) {
		if err := tx.RollbackTo(ctx, mark); err != nil {
			return false, err
		}
		return false, tx.Release(ctx, mark)
	}
	if err := tx.Release(ctx, mark); err != nil {
		return false, err
	}
	v.of(t).Removed += rows.N
	v.noteFiles(t, run)
	return true, nil
}

// isRefusal reports whether the database, or this program, would not delete rows that it looked at.
func isRefusal(err error) bool {
	var violation *store.Violation
	var fault *store.Fault
	return errors.As(err, &violation) || errors.As(err, &fault) && fault.Kind == store.Refused
}

// spanOf is the span of the keys of a run, if rows are found by a key of whole numbers that counts up, and nothing but
// rows of this kind goes with them.
func (v *withdrawal) spanOf(t *load.Target, run order.Run) (span store.Span, ok bool) {
	match, alike := t.Identity()
	if alike || len(match) != 1 || match[0].Kind != schema.Integer || len(t.Late) > 0 || v.touched != nil ||
		len(t.Table.Triggers) > 0 {
		return span, false
	}
	first, ok := v.keyOf(t, match[0], run.First.N, run)
	if !ok {
		return span, false
	}
	last, ok := v.keyOf(t, match[0], run.First.N+run.Rows-1, run)
	steps := int64(run.Rows) - 1
	if !ok || last < first || steps > 0 && (last-first)%steps != 0 {
		return span, false
	}
	return store.Span{Table: t.Table, Key: match[0], First: first, Last: last}, true
}

// keyOf is the key of a row of a run, as it was written.
func (v *withdrawal) keyOf(t *load.Target, c *schema.Column, n uint64, run order.Run) (key int64, ok bool) {
	into := t.Into()
	run.First.N, run.Rows = n, 1
	for b := range v.Written(v.w, t, run, nil) {
		for i, f := range into.Fields {
			if x := b.Row(0)[f]; into.Columns[i] == c && x.Type == value.Integer {
				return x.N, true
			}
		}
	}
	return 0, false
}
