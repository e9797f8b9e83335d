package load

import (
	"context"
	"errors"
	"iter"
	"slices"

	"evensprout/internal/journal"

	"evensprout/internal/grow"
	"evensprout/internal/plan"
	"evensprout/internal/store"
)

// sortOut finds the guilty rows of a run and decides about them; nothing is written.
func (w *Writer) sortOut(ctx context.Context, t *Target, rows iter.Seq[*grow.Batch], first *store.Violation) error {
	const mark = "evensprout_sort"
	if err := w.Tx.Savepoint(ctx, mark); err != nil {
		return err
	}
	before := w.Session.Record.Version()
	write := t.Writes
	write.Mode = store.Insert
	p := &Pass{}
	st, err := w.Tx.Stage(ctx, &write, w.rows(t, rows, p))
	if err == nil {
		err = w.checkStaged(ctx, t, st, p, first)
	}
	if err != nil {
		return err
	}
	if _, err := store.Isolate(ctx, w.Tx, st, p.N, w.refuse(t, p)); err != nil {
		return err
	}
	if p.again {
		return errAgain
	}
	if w.Session.Record.Version() == before {
		return first // nothing is guilty now: what refused the rows is gone
	}
	if err := w.Tx.RollbackTo(ctx, mark); err != nil {
		return err
	}
	return w.Tx.Release(ctx, mark)
}

// staged writes rows by way of a stage. first is what the engine said when it was
// tried without, or nil.
func (w *Writer) staged(ctx context.Context, t *Target, rows iter.Seq[*grow.Batch], first *store.Violation) error {
	p := &Pass{}
	st, err := w.Tx.Stage(ctx, &t.Writes, w.rows(t, rows, p))
	switch {
	case w.Growth != nil:
		return w.Growth
	case p.err != nil:
		return p.err
	case p.again:
		return errAgain
	}

	var v *store.Violation
	if errors.As(err, &v) && v.Row >= 0 {
		return w.Session.RefusalOf(t, p.Row(v.Row), v)
	}
	if err != nil {
		return err
	}
	o := w.of(t)
	if first == nil && !w.Session.lenient(t) && w.Session.Options.Changed == nil &&
		(t.Writes.Mode != store.Update || w.Session.Policy(t, store.RowCount) != plan.Stop) {
		// Nothing is expected to be refused: let the constraints speak first.
		done, err := w.straight(ctx, t, st, p, &first)
		if done || err != nil {
			return err
		}
	}
	if err := w.checkStaged(ctx, t, st, p, first); err != nil {
		return err
	}
	if t.Writes.Mode == store.Update {
		if err := w.matchless(ctx, t, st, p, o); err != nil {
			return err
		}
	}
	if w.Session.Options.Changed != nil {
		if err := w.noteChanges(ctx, t, st, p); err != nil {
			return err
		}
	}
	before, err := w.look(ctx, t, st, p, false)
	if err != nil {
		return err
	}
	out, err := store.Isolate(ctx, w.Tx, st, p.N, w.refuse(t, p))
	if err != nil {
		return err
	}
	if p.again {
		return errAgain
	}
	if err := w.keep(ctx, t, p, before, out); err != nil {
		return err
	}
	return w.wrote(ctx, t, st, p, out)
}

// wrote counts what a stage wrote, and learns the keys of rows that others refer to, and
// those that the database gave.
func (w *Writer) wrote(ctx context.Context, t *Target, st store.Stage, p *Pass, out store.Outcome) error {
	o := w.of(t)
	o.Add(out)
	o.print.Add(p.print)
	o.odd.Add(p.odd, 1)
	noted := t.referred || t.Unkeyed && w.Session.Journal != nil && !w.Session.Options.DryRun
	if noted && t.Key != nil && len(t.Writes.Match) > 0 {
		return w.realKeys(ctx, t, st, p)
	}
	return nil
}

// straight writes staged rows without holding them against the tables before. Where
// they are refused, it takes them back and leaves what the engine said in first.
func (w *Writer) straight(
	ctx context.Context,
	t *Target,
	st store.Stage,
	p *Pass,
	first **store.Violation,
) (bool, error) {
	twins, err := st.Duplicates(ctx)
	if err != nil || len(twins) > 0 {
		return false, err // held tells them
	}
	const mark = "evensprout_straight"
	if err := w.Tx.Savepoint(ctx, mark); err != nil {
		return false, err
	}
	var out store.Outcome
	for guess := true; ; guess = false {
		before, err := w.look(ctx, t, st, p, guess)
		if err != nil {
			return false, err
		}
		if out, err = st.Apply(ctx, 0, p.N); err != nil {
			if !errors.As(err, first) {
				return false, err
			}
			return false, errors.Join(w.Tx.RollbackTo(ctx, mark), w.Tx.Release(ctx, mark))
		}
		if err = w.keep(ctx, t, p, before, out); err == nil {
			break
		}
		if !errors.Is(err, errMixed) {
			return false, err
		}
		if err := w.Tx.RollbackTo(ctx, mark); err != nil {
			return false, err
		}
	}
	if err := w.Tx.Release(ctx, mark); err != nil {
		return false, err
	}
	o := w.of(t)
	if t.Writes.Mode == store.Update && out.Updated < p.N {
		missing := o.unmatched
		if err := w.matchless(ctx, t, st, p, o); err != nil {
			return false, err
		}
		out.Unchanged -= o.unmatched - missing
	}
	return true, w.wrote(ctx, t, st, p, out)
}

// checkStaged holds staged rows against the tables, decides about the guilty ones, and drops
// those that are left out.
func (w *Writer) checkStaged(ctx context.Context, t *Target, st store.Stage, p *Pass, first *store.Violation) error {
	guilty, err := st.Guilty(ctx)
	if err != nil {
		return err
	}
	var drop []int64
	for _, v := range guilty {
		if first != nil && first.Kind == v.Kind && first.Code != "" {
			v.Code = first.Code // what the engine calls it
			if v == guilty[0] {
				v.Message = first.Message
			}
		}
		if v.HasTwin {
			v.TwinLabel = t.Grow.Label(p.Row(v.Twin))
		}
		again, err := w.decide(t, p.Row(v.Row), v)
		if err != nil {
			return err
		}
		p.again = p.again || again
		drop = append(drop, v.Row)
		w.subtractFingerprint(t, p.Row(v.Row), p)
	}

	if p.again {
		return errAgain
	}
	return st.Drop(ctx, drop)
}

// refuse decides about rows that the engine refuses one by one.
func (w *Writer) refuse(t *Target, p *Pass) func(*store.Violation) error {
	return func(v *store.Violation) error {
		again, err := w.decide(t, p.Row(v.Row), v)
		p.again = p.again || again
		w.subtractFingerprint(t, p.Row(v.Row), p)
		return err
	}
}

// matchless tells the rows that an update finds no row for.
func (w *Writer) matchless(ctx context.Context, t *Target, st store.Stage, p *Pass, o *outcome) error {
	rows, err := st.Unmatched(ctx, 0)
	if err != nil || len(rows) == 0 {
		return err
	}
	o.unmatched += int64(len(rows))
	for _, n := range rows {
		row := p.Row(n)
		v := &store.Violation{
			Kind:       store.RowCount,
			Row:        n,
			Table:      t.Table.Name,
			Message:    "no row of " + t.Table.Name + " has this key",
			Constraint: "match",
		}
		var one grow.Batch
		w.Grower().Grow(t.Grow, row, 1, &one)
		for _, c := range t.Writes.Match {
			v.Columns = append(v.Columns, c.Name)
			v.Values = append(v.Values, one.Row(0)[slices.Index(t.Columns, c)])
		}
		if w.Session.Policy(t, store.RowCount) == plan.Stop {
			return w.Session.RefusalOf(t, row, v)
		}
		w.Session.Record.Reject(t.Grow, row)
		w.subtractFingerprint(t, row, p)
		x := &Rejection{Refusal: w.Session.RefusalOf(t, row, v)}
		for i, f := range t.Grow.Fields {
			if c := t.Columns[i]; c != nil && !f.Inner && !f.Hidden {
				x.Fields, x.Values = append(x.Fields, f.Name), append(x.Values, one.Row(0)[i])
			}
		}
		w.missing = append(w.missing, x)
		w.log.Rejected = append(
			w.log.Rejected,
			journal.RejectedRow{Entity: t.Plan.Name, Given: row.Side, Row: row.N, Refusal: x.Refusal},
		)
	}
	return st.Drop(ctx, rows)
}
