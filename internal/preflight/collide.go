package preflight

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"evensprout/internal/load"

	"evensprout/internal/grow"
	"evensprout/internal/plan"
	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/value"

	"github.com/zeebo/xxh3"
)

// How many rows of an entity are held against the keys of the rows that are there: where
// these can be read as a whole, and where each must be looked up.
const (
	maxMet      = 50_000
	maxLookedUp = 200
)

// collisions tells which of the plan's rows have keys of rows that are there.
func (f *foresight) collisions(ctx context.Context, l *load.Session) error {
	if err := l.StepOver(ctx, f.store); err != nil {
		return err
	}
	tx, err := f.store.Begin(ctx, store.TxOptions{Reads: true})
	if err != nil {
		return err
	}
	defer tx.Rollback()
	var present *load.Present
	if err := l.Before(ctx, f.store, tx); errors.As(err, &present) {
		for _, row := range present.Tables {
			f.wrong(
				l.Plan.Target(row.Entity),
				"leave such tables alone with when: empty; add only what is missing with write: keep or upsert; "+
					"or load other rows beside these with keys that start higher",
				"the rows of %s already exist: the table %s holds rows (%d): %s",
				row.Entity,
				row.Table,
				row.Rows,
				row.Found,
			)
		}
	} else if err != nil {
		return err
	}

	for _, t := range l.List {
		told := present != nil &&
			slices.ContainsFunc(present.Tables, func(p load.PresentTable) bool { return p.Entity == t.Plan.Name })
		mode := t.Writes.Mode
		if told || t.Out.Before == 0 || t.Out.Skipped || t.Plan.Existing || mode == store.Update ||
			mode == store.Replace {
			continue
		}
		if err := f.collide(ctx, l, tx, t); err != nil {
			return err
		}
	}
	return nil
}

// look finds the key of another row that a row has; nil if it has none.
type look func(ctx context.Context, row []value.Value) (*store.Violation, error)

// meeting is what rows of an entity meet in their table.
type meeting struct {
	rows   uint64 // looked at
	met    uint64 // of these, that have a key of another row
	stuck  uint64 // of these, that no other draw would free
	first  *store.Violation
	row    grow.Row
	reason string // of the last that is stuck

	target *load.Target
	look   look
	redraw bool // those that collide are drawn again, as a load would
	all    bool // the keys of all rows that are there are known
	grower *grow.Grower
	record *grow.Record
	drawn  map[xxh3.Uint128]bool // keys that rows were given by another draw
}

// collide tells which of an entity's rows would collide with rows that are there.
func (f *foresight) collide(ctx context.Context, l *load.Session, tx store.Tx, t *load.Target) error {
	look, most := lookUp(t, tx), uint64(maxLookedUp)
	if t.Out.Before <= f.known {
		k, err := l.Knows(ctx, f.store, t)
		if err != nil {
			return err
		}
		look, most = func(_ context.Context, values []value.Value) (*store.Violation, error) {
			return k.Collision(values), nil
		}, maxMet
	}

	policy := l.Policy(t, store.Unique)
	if policy == plan.Skip {
		return nil
	}
	m, err := f.meet(ctx, l, t, meeting{look: look, redraw: policy == plan.Redraw}, most)
	if err != nil || m.first == nil {
		return err
	}
	var fields []string
	for i, c := range m.first.Columns {
		fields = append(fields, fmt.Sprintf("%s %s", t.FieldOf(c), m.first.Values[i]))
	}
	of := fmt.Sprintf("%d of %d rows", m.met, m.rows)
	if m.rows < t.Grow.Total() {
		of = fmt.Sprintf("%d of the first %d rows", m.met, m.rows)
	}
	met := fmt.Sprintf(
		"%s of %s have keys that existing rows of %s also have, such as %s, with %s (%s)",
		of,
		t.Plan.Name,
		t.Table.Name,
		t.Grow.Label(m.row),
		strings.Join(fields, ", "),
		m.first.Constraint,
	)
	switch {
	case policy == plan.Stop && t.Writes.Mode == store.Upsert:
		f.warn(t.Target, "the load will fail, unless it changes these keys of the other rows", "%s", met)
	case policy == plan.Stop:
		f.wrong(
			t.Target,
			"generate such values again with on_violation: {unique: redraw}, leave these rows out with skip, or "+
				"keep the existing rows with write: keep or upsert and match",
			"%s",
			met,
		)
	case m.stuck > 0:
		f.wrong(
			t.Target,
			"give it a source with more values, or plan fewer rows",
			"%s, and for %d of them no other value is free: %s",
			met,
			m.stuck,
			m.reason,
		)
	}
	return nil
}

// lookUp looks a row's keys up one by one.
func lookUp(t *load.Target, tx store.Tx) look {
	keys := t.Keys()
	if t.Writes.Mode != store.Insert { // a row that is there is not added
		slices.SortStableFunc(keys, func(a, b load.KnownKey) int {
			return cmp.Compare(matches(t, b), matches(t, a))
		})
	}
	return func(ctx context.Context, row []value.Value) (*store.Violation, error) {
		for _, key := range keys {
			values := make([]value.Value, len(key.Columns))
			null := false
			for i, at := range key.Places {
				values[i] = row[at]
				null = null || values[i].IsNull()
			}
			if null {
				continue
			}
			n, err := tx.Find(ctx, t.Table, key.Columns, values)
			switch {
			case err != nil:
				return nil, err
			case n > 0 && matches(t, key) > 0:
				return nil, nil
			case n > 0:
				return key.Violation(row), nil
			}
		}
		return nil, nil
	}
}

// matches is 1 if rows that are there are recognised by a key, else 0.
func matches(t *load.Target, key load.KnownKey) int {
	if t.Writes.Mode != store.Insert && load.SameColumns(key.Columns, t.Writes.Match) {
		return 1
	}
	return 0
}

// meet grows rows of an entity, at most so many of each sort, and looks each up.
func (f *foresight) meet(
	ctx context.Context,
	l *load.Session,
	t *load.Target,
	of meeting,
	most uint64,
) (*meeting, error) {
	const enough = 20 // rows that are stuck
	m := &of
	m.target, m.all, m.record, m.drawn = t, t.Out.Before <= f.known, grow.NewRecord(), map[xxh3.Uint128]bool{}
	defer func(r *grow.Record) { l.Plan.Set.Record = r }(l.Plan.Set.Record)
	l.Plan.Set.Record = m.record
	m.grower = grow.NewGrower(l.Plan.Set)
	defer m.grower.Close()
	var b grow.Batch
	for _, side := range []bool{true, false} {
		total := min(t.Grow.Rows, most)
		if side {
			total = min(uint64(len(t.Grow.Side)), most)
		}
		for from := uint64(0); from < total && m.stuck < enough; from += 1000 {
			m.grower.Grow(t.Grow, grow.Row{N: from, Side: side}, int(min(1000, total-from)), &b)
			if err := m.grower.Err(); err != nil {
				return nil, err
			}
			for i := range b.Len {
				if err := m.add(ctx, b.At(i), b.Row(i)); err != nil {
					return nil, err
				}
			}
		}
	}
	return m, nil
}

// add looks at one row.
func (m *meeting) add(ctx context.Context, row grow.Row, values []value.Value) error {
	m.rows++
	v, err := m.look(ctx, values)
	if v == nil || err != nil {
		return err
	}
	m.met++
	if m.first == nil {
		m.first, m.row = v, row
	}
	if !m.redraw {
		return nil
	}
	why, err := m.free(ctx, row, v)
	if why != "" {
		m.stuck++
		m.reason = why
	}
	return err
}

// free draws a row again until it collides with nothing; else it says why it does.
func (m *meeting) free(ctx context.Context, row grow.Row, v *store.Violation) (string, error) {
	t := m.target
	var b grow.Batch
	for v != nil {
		fields := t.Redrawable(row, v)
		if len(fields) == 0 {
			return load.NothingToRedraw, nil
		}
		for _, field := range fields {
			most := uint64(load.MaxAttempts)
			if n, _, ok := field.Attempts(); ok && len(fields) == 1 && m.all {
				most = max(most, min(n, load.MaxWalk))
			}
			if m.record.Redraw(field, row) > most {
				return fmt.Sprintf("it was redrawn %d times", most), nil
			}
		}
		m.grower.Grow(t.Grow, row, 1, &b)
		if err := m.grower.Err(); err != nil {
			return "", err
		}
		var places []int
		for _, name := range v.Columns {
			places = append(
				places,
				slices.IndexFunc(t.Columns, func(c *schema.Column) bool { return c != nil && c.Name == name }),
			)
		}
		last := v
		var err error
		if v, err = m.look(ctx, b.Row(0)); err != nil {
			return "", err
		}
		if h, ok := load.HashOf(b.Row(0), places); v == nil && ok {
			if m.drawn[h] {
				v = last
			}
			m.drawn[h] = true
		}
	}
	return "", nil
}
