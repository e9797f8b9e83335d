package load

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"evensprout/internal/journal"

	"evensprout/internal/grow"
	"evensprout/internal/plan"
	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/value"
)

// count counts the rows of a table that are there, reads their keys where these are wanted,
// and reports whether the plan's own rows must be searched among them.
func (l *Session) count(ctx context.Context, s store.Store, tx store.Tx, t *Target) (searched bool, err error) {
	if t.Out.Before, err = l.countRows(ctx, s, tx, t); err != nil {
		return false, err
	}
	if t.greatest = 0; t.Unkeyed && t.Key.Kind == schema.Integer && t.Out.Before > 0 {
		if t.greatest, err = tx.Greatest(ctx, t.Table, t.Key); err != nil {
			return false, err
		}
	}
	if t.resumed {
		t.Out.Before, t.Out.Skipped = t.Before, t.LeftOut
	} else if t.Out.Before > 0 && t.Plan.WhenEmpty && !t.loaded {
		t.Out.Skipped = true
	}
	if t.Out.Skipped {
		return false, nil
	}
	l.total += t.Grow.Total()
	if t.known = nil; l.wantsKnown(t) {
		if t.known, err = l.Knows(ctx, s, t); err != nil {
			return false, err
		}
	}
	return !t.resumed && !t.loaded && t.Out.Before > 0 && t.Grow.Total() > 0 && t.Write.Mode == plan.Insert &&
		l.Policy(t, store.Unique) == plan.Stop, nil
}

// countRows counts the rows of a table or, if they need not be counted, tells 1 if there are some.
func (l *Session) countRows(ctx context.Context, s store.Store, tx store.Tx, t *Target) (n int64, err error) {
	if !l.Options.Uncounted {
		return tx.Count(ctx, t.Table)
	}
	c := t.Table.Columns[0]
	err = s.Select(ctx, store.Query{Table: t.Table, Columns: []*schema.Column{c}, AsIs: true, Limit: 1},
		func([]value.Value) error {
			n = 1
			return nil
		})
	return n, err
}

// Before counts the rows that are there, and stops where the plan's own are.
func (l *Session) Before(ctx context.Context, s store.Store, tx store.Tx) error {
	g := grow.NewGrower(l.Plan.Set)
	defer g.Close()
	present := &Present{}
	for _, t := range l.List {
		searched, err := l.count(ctx, s, tx, t)
		if err != nil {
			return err
		}
		if !searched {
			continue
		}
		found, err := l.present(ctx, tx, g, t)
		if err != nil {
			return err
		}
		if found != "" {
			present.Tables = append(present.Tables, PresentTable{t.Plan.Name, t.Table.Name, t.Out.Before, found})
		}
	}
	if len(present.Tables) > 0 {
		return present
	}
	return l.linkLeft(ctx, s)
}

// present looks for the first planned row in a table that is not empty, whole or its
// key alone, and for other rows with planned keys.
func (l *Session) present(ctx context.Context, tx store.Tx, g *grow.Grower, t *Target) (string, error) {
	first := grow.Row{Side: len(t.Grow.Side) > 0}
	var b grow.Batch
	g.Grow(t.Grow, first, 1, &b)
	into := t.Writes.Into
	values := make([]value.Value, len(into.Columns))
	var key []*schema.Column
	var keyValues []value.Value
	for i, f := range into.Fields {
		values[i] = b.Row(0)[f]
		if slices.Contains(t.Table.PrimaryKey, into.Columns[i].Name) {
			key, keyValues = append(key, into.Columns[i]), append(keyValues, values[i])
		}
	}

	label := t.Grow.Label(first)
	n, err := tx.Find(ctx, t.Table, into.Columns, values)
	if err != nil {
		return "", err
	}
	if n > 0 && !t.Unkeyed {
		return label + ", field for field", nil
	}
	if l.Renamed(t.Grow) { // it has numbers that are free
		return l.presentLater(ctx, tx, g, t, first)
	}
	if len(key) == 0 || len(key) < len(t.Table.PrimaryKey) {
		return "", nil
	}
	if n, err = tx.Find(ctx, t.Table, key, keyValues); err != nil {
		return "", err
	}
	if n > 0 {
		return fmt.Sprintf("the key of %s (%s), at another row", label, Pairs(key, keyValues)), nil
	}
	return presentAmong(ctx, tx, t)
}

// presentAmong counts the rows whose keys are among the numbers that the plan gives.
func presentAmong(ctx context.Context, tx store.Tx, t *Target) (string, error) {
	if t.Grow.Key == nil || t.Key == nil || t.Key.Kind != schema.Integer {
		return "", nil
	}
	lo, hi, ok := t.Grow.Key.Numbers()
	if !ok {
		return "", nil
	}
	n, err := tx.Between(ctx, store.Span{Table: t.Table, Key: t.Key, First: lo, Last: hi})
	if err != nil || n == 0 {
		return "", err
	}
	return fmt.Sprintf("%d with keys in the planned range (%s from %d to %d)", n, t.Key.Name, lo, hi), nil
}

// presentLater looks for some of the rows after the first one, whole: somebody may have
// changed that, and rows that are there already must not go in a second time.
func (l *Session) presentLater(
	ctx context.Context,
	tx store.Tx,
	g *grow.Grower,
	t *Target,
	first grow.Row,
) (string, error) {
	const looked = 5
	rows := t.Grow.Rows
	if first.Side {
		rows = uint64(len(t.Grow.Side))
	}
	var b grow.Batch
	g.GrowSome(t.Grow, first, int(min(rows, looked)), &b)
	if err := g.Err(); err != nil {
		return "", err
	}
	into := t.Writes.Into
	values := make([]value.Value, len(into.Columns))
	for i := range b.Len {
		for j, f := range into.Fields {
			values[j] = b.Row(i)[f]
		}
		n, err := tx.Find(ctx, t.Table, into.Columns, values)
		if err != nil {
			return "", err
		}
		if n > 0 {
			return t.Grow.Label(b.At(i)) + ", field for field", nil
		}
	}
	return "", nil
}

// Pairs shows columns with their values.
func Pairs(columns []*schema.Column, values []value.Value) string {
	var out []string
	for i, c := range columns {
		out = append(out, c.Name+" "+values[i].String())
	}
	return strings.Join(out, ", ")
}

// Reserve moves counters beyond the planned keys, so that nobody is given one of them.
func (l *Session) Reserve(ctx context.Context, w *Writer) error {
	if l.Options.DryRun {
		return nil
	}
	for _, t := range l.List {
		if t.Unkeyed || t.Out.Skipped || t.Key == nil || t.Key.Identity == schema.NoIdentity || t.Grow.Key == nil ||
			t.Write.Mode == plan.Update {
			continue
		}
		_, hi, ok := t.Grow.Key.Numbers()
		for _, r := range l.steps[t.Grow] {
			hi, ok = max(hi, r.hi+r.by), true
		}
		if side := int64(len(t.Grow.Side)); !ok {
			hi, ok = side, side > 0 // given rows are numbered from 1
		}
		if !ok {
			continue
		}
		if err := w.Store.Reserve(ctx, t.Table, t.Key, hi); err != nil {
			return err
		}
	}
	return nil
}

// after counts again, where nobody else can write at the same time: then what the
// database says must be what we think. Elsewhere a count would also see the rows of
// others, and it may take as long as a third of the load; there it is the number of
// rows before and those that the statements wrote.
func (l *Session) after(ctx context.Context, w *Writer) error {
	for _, t := range l.List {
		if l.Traits.Writers > 1 || l.Options.Uncounted {
			o := w.of(t)
			t.Out.After = t.Out.Before + t.Out.Inserted + o.Inserted - t.Out.Removed - o.removed
			continue
		}
		var err error
		if t.Out.After, err = w.Tx.Count(ctx, t.Table); err != nil {
			return err
		}
		o := w.of(t) // what is not handed out yet
		inserted := t.Out.Inserted + o.Inserted
		if want := t.Out.Before + inserted - t.Out.Removed - o.removed; t.Out.After != want {
			return &journal.Refusal{
				Kind: store.RowCount, Entity: t.Plan.Name, Table: t.Table.Name,
				Message: fmt.Sprintf(
					"the table had %d rows, %d were inserted, and it now has %d: something in the database, such "+
						"as a trigger, adds or removes rows",
					t.Out.Before,
					inserted,
					t.Out.After,
				),
			}
		}
	}
	return nil
}
