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
	tx := v.w.Tx
	if referred, err := tx.RefersInto(ctx, v.Session.Plan.Database, span); referred || err != nil {
		return false, err
	}
	const mark = "evensprout_span"
	if err := tx.Savepoint(ctx, mark); err != nil {
		return false, err
	}
	rows, err := v.deleteSpan(ctx, t, run, span)
	if err != nil && !isRefusal(err) {
		return false, err
	}
	if done = err == nil && rows >= 0; !done {
		if err := tx.RollbackTo(ctx, mark); err != nil {
			return false, err
		}
	}
	if err := tx.Release(ctx, mark); err != nil || !done {
		return false, err
	}
	v.of(t).Removed += rows
	v.noteFiles(t, run)
	return true, nil
}

// deleteSpan deletes a span and says how many rows these were; -1 if they were not those that the load added.
func (v *withdrawal) deleteSpan(ctx context.Context, t *load.Target, run order.Run, span store.Span) (int64, error) {
	// The rows are grown while the database deletes.
	into := t.Into()
	width := len(t.Grow.Fields)
	columns, values := v.Unplanned(t)
	for i, c := range columns {
		into.Columns, into.Fields = append(into.Columns[:len(into.Columns):len(into.Columns)], c),
			append(into.Fields[:len(into.Fields):len(into.Fields)], width+i)
	}
	added, deleted := replay.NewRowSet(into.Columns), replay.NewRowSet(into.Columns)
	grown := make(chan struct{})
	rows := &load.Pass{}
	go func() {
		defer close(grown)
		for b := range v.Only(v.w, t, run, true, rows) {
			for i := range b.Len {
				added.Add(append(b.Row(i)[:width:width], values...), into.Fields)
			}
		}
	}()
	err := v.w.Tx.RemoveSpan(ctx, span, into.Columns, func(row []value.Value) error {
		deleted.Add(row, nil)
		return nil
	})
	<-grown
	if err == nil {
		err = v.w.Growth
	}
	if err != nil || !deleted.Same(added) {
		return -1, err
	}
	return rows.N, nil
}

// isRefusal reports whether the database, or this program, would not delete rows that it looked at.
func isRefusal(err error) bool {
	var violation *store.Violation
	var fault *store.Fault
	return errors.As(err, &violation) || errors.As(err, &fault) && fault.Kind == store.Refused
}

// spanOf is the span of the keys of a run, if rows are found by a key of whole numbers that counts up, nothing but rows
// of this kind goes with them, and what is deleted can come back.
func (v *withdrawal) spanOf(t *load.Target, run order.Run) (span store.Span, ok bool) {
	match, alike := t.Identity()
	if alike || len(match) != 1 || match[0].Kind != schema.Integer || match[0].Custom() || len(t.Late) > 0 ||
		v.touched != nil || len(t.Table.Triggers) > 0 || t.Table.Unsafe || v.IgnoresAny(t) {
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
