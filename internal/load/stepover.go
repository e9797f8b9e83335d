package load

import (
	"context"
	"fmt"
	"math"

	"evensprout/internal/journal"

	"evensprout/internal/grow"
	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/value"
)

// The rows of most entities are numbered, and others, such as the application, number rows
// of the same tables. Where they have planned numbers, rows that are not written yet get the
// next free ones: a run of them for each entity, which the journal keeps. References count
// as what they point to, so fingerprints do not change.

// keyRun says that the planned numbers from lo to hi stand for keys that are by greater;
// less, if by is below 0.
type keyRun struct{ lo, hi, by int64 }

// StepOver finds which rows that are to be written have numbers that are taken, and gives
// them free ones. Before a transaction and before counters are moved.
func (l *Session) StepOver(ctx context.Context, s store.Store) error {
	l.stepped, l.steps, l.stepLog = nil, map[*grow.Entity][]keyRun{}, journal.Log{}
	if l.Options.Journal == nil {
		return nil // who loads again would not know which rows are whose
	}
	tx, err := s.Begin(ctx, store.TxOptions{Reads: true})
	if err != nil {
		return err
	}
	defer tx.Rollback()
	for _, t := range l.List {
		l.stepLog.Keys = append(l.stepLog.Keys, t.moved...)
		if !t.numbered() || t.resumed || t.Plan.WhenEmpty && !t.loaded { // such a table is empty, or left alone
			continue
		}
		if err := l.step(ctx, tx, t); err != nil {
			return err
		}
	}
	return nil
}

// numbered reports whether the plan numbers the rows of an entity and adds all of them.
func (t *Target) numbered() bool {
	return t.Writes.Mode == store.Insert && !t.Unkeyed && !t.Plan.Existing && t.Key != nil &&
		t.Key.Kind == schema.Integer &&
		t.Grow.Key != nil &&
		t.Grow.Key.Counted()
}

// step gives the rows of an entity that are to be written other numbers, if some of theirs
// are taken.
func (l *Session) step(ctx context.Context, tx store.Tx, t *Target) error {
	lo, hi, grown := t.Grow.Key.Numbers()
	if lo += int64(t.from); grown && t.loaded && lo > hi {
		grown = false
	}
	side, first := int64(len(t.Grow.Side)), int64(t.fromSide)
	for i := range t.Grow.Side {
		if _, said := t.Grow.Side[i].Given[t.Grow.Key]; said && int64(i) >= first {
			side = 0 // numbers by hand are what the author wants
		}
	}
	next, err := tx.Greatest(ctx, t.Table, t.Key)
	if err != nil {
		return err
	}
	if next == 0 {
		return nil // nobody has a number that the plan could give
	}
	if next = max(next, side); grown {
		next = max(next, hi)
	}
	give := func(given bool, row uint64, lo, hi int64) error {
		taken, err := tx.Between(ctx, store.Span{Table: t.Table, Key: t.Key, First: lo, Last: hi})
		if err != nil || taken == 0 {
			return err
		}
		rows := hi - lo + 1
		if next > math.MaxInt64-rows {
			return nil // then it is refused as before
		}
		if last := value.Int(next + rows); store.Misfit(t.Key, &last) != nil {
			return nil
		}
		run := keyRun{lo, hi, next + 1 - lo}
		l.steps[t.Grow] = append(l.steps[t.Grow], run)
		l.stepped = append(
			l.stepped,
			journal.Stepped{Entity: t.Plan.Name, Table: t.Table.Name, Rows: rows, First: next + 1},
		)
		l.stepLog.Keys = append(
			l.stepLog.Keys,
			journal.Keys{
				RowRun: journal.RowRun{Entity: t.Plan.Name, Given: given, First: row, Rows: uint64(rows)},
				From:   next + 1,
				Run:    true,
			},
		)
		next += rows
		return nil
	}
	if side > first {
		if err := give(true, t.fromSide, first+1, side); err != nil {
			return err
		}
	}
	if !grown {
		return nil
	}
	return give(false, t.from, lo, hi)
}

// stepOf is the key for which a planned number stands; false if it stands for itself.
func stepOf(runs []keyRun, v value.Value) (value.Value, bool) {
	if v.Type != value.Integer {
		return v, false
	}
	for _, r := range runs {
		if v.N >= r.lo && v.N <= r.hi {
			return value.Int(v.N + r.by), true
		}
	}
	return v, false
}

// RealKey is the key that a row really has, by its planned one; false if it is that one.
// The loader is locked.
func (l *Session) RealKey(e *grow.Entity, planned value.Value) (value.Value, bool) {
	if key, ok := l.real[e][planned]; ok {
		return key, true
	}
	if key, ok := stepOf(l.Memory.stepsOf(e), planned); ok {
		return key, true
	}
	return stepOf(l.steps[e], planned)
}

// Renamed reports whether some rows of an entity have other keys than the planned ones.
func (l *Session) Renamed(e *grow.Entity) bool {
	return len(l.real[e]) > 0 || len(l.Memory.stepsOf(e)) > 0 || len(l.steps[e]) > 0
}

// stepsOf are the runs that earlier loads noted; there may be no memory.
func (m *Memory) stepsOf(e *grow.Entity) []keyRun {
	if m == nil {
		return nil
	}
	return m.steps[e]
}

// learnRun takes a run of keys into account.
func (m *Memory) learnRun(g *grow.Grower, e *grow.Entity, x journal.Keys) error {
	var b grow.Batch
	g.Grow(e, grow.Row{N: x.First, Side: x.Given}, 1, &b)
	if err := g.Err(); err != nil {
		return err
	}
	planned := b.Row(0)[fieldPlace(e, e.Key)]
	if planned.Type != value.Integer || x.Rows == 0 || x.Rows > math.MaxInt64 ||
		planned.N > math.MaxInt64-int64(x.Rows) ||
		x.From > math.MaxInt64-int64(x.Rows) ||
		x.From < 1 {
		return fmt.Errorf("the journal's keys of %s are none", e.Label(grow.Row{N: x.First, Side: x.Given}))
	}
	m.steps[e] = append(m.steps[e], keyRun{planned.N, planned.N + int64(x.Rows) - 1, x.From - planned.N})
	return nil
}

// fieldPlace is the place of a field among those of its entity; -1 if it is none of them.
func fieldPlace(e *grow.Entity, f *grow.Field) int {
	for i := range e.Fields {
		if e.Fields[i] == f {
			return i
		}
	}
	return -1
}
