package load

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"evensprout/internal/journal"

	"evensprout/internal/grow"
	"evensprout/internal/plan"
	"evensprout/internal/store"
)

// A plan grows: rows are added to an entity, to its given rows, and to the file that it
// has its rows from. As long as the new ones stand after those that are loaded, a later
// load writes them alone.

// loadedTo is where the rows of an entity begin that no earlier load wrote.
func (t *Target) loadedTo(side bool) uint64 {
	switch {
	case !t.loaded:
		return 0
	case side:
		return t.fromSide
	}
	return t.from
}

// isLoaded reports whether an earlier load wrote a row.
func (t *Target) isLoaded(row grow.Row) bool { return row.N < t.loadedTo(row.Side) }

// appended adds to the differences of a plan those of its given rows and of its files that
// are more than rows at the end.
func (l *Session) appended(
	ctx context.Context,
	s store.Store,
	last *journal.Entry,
	diffs, inputs []plan.Difference,
) ([]plan.Difference, error) {
	given := func(d plan.Difference) bool {
		words := strings.Split(d.Path, ".")
		return d.Was == "" && len(words) >= 3 && len(words) <= 4 && words[0] == "entities" && words[2] == "given"
	}
	if len(inputs) == 0 && !slices.ContainsFunc(diffs, given) {
		return diffs, nil
	}
	if len(slices.DeleteFunc(slices.Clone(diffs), given)) > 0 {
		return append(diffs, inputs...), nil // the plan has changed anyhow
	}
	p, err := Recall(ctx, l.Read.On(s), last.Number, l.Plan.Database, l.Options.Journal.by())
	if err != nil {
		var fault *store.Fault
		if errors.As(err, &fault) && fault.Kind != store.Refused {
			return nil, err
		}
		return append(diffs, inputs...), nil // what was loaded cannot be told any more
	}
	defer p.Close()
	for _, t := range l.List {
		if !t.loaded {
			continue
		}
		same, err := t.beginsAs(p.Plan.Target(t.Plan.Name))
		if err != nil {
			return nil, err
		}
		if !same {
			return append(diffs, inputs...), nil
		}
	}
	return slices.DeleteFunc(diffs, given), nil
}

// beginsAs reports whether the rows by hand and those of a file begin with those of an
// earlier plan.
func (t *Target) beginsAs(was *plan.Target) (bool, error) {
	if was == nil {
		return false, nil
	}
	if len(was.Grow.Side) > len(t.Grow.Side) {
		return false, nil
	}
	for i := range was.Grow.Side {
		if was.Grow.Side[i].ID != t.Grow.Side[i].ID {
			return false, nil
		}
	}
	if (was.Grow.Table == nil) != (t.Grow.Table == nil) {
		return false, nil
	}
	if was.Grow.Table == nil {
		return true, nil
	}
	n := was.Grow.Table.Len()
	if n > t.Grow.Table.Len() {
		return false, nil
	}
	before, now := was.Grow.Table.Reader(), t.Grow.Table.Reader()
	defer before.Close()
	defer now.Close()
	for i := range n {
		a, err := before.Row(i)
		if err != nil {
			return false, err
		}
		b, err := now.Row(i)
		if err != nil || !slices.Equal(a, b) {
			return false, err
		}
	}
	return true, nil
}

// renumbered notes the keys of a load whose rows the plan numbers otherwise now: numbers
// of grown rows begin beyond given ones as soon as there are any.
func (l *Session) renumbered(p *PastLoad) {
	for _, t := range l.List {
		was := p.Session.Named(t.Plan.Name)
		if was == nil || !t.loaded || !t.numbered() || !was.numbered() {
			continue
		}
		from, _, okThen := was.Grow.Key.Numbers()
		to, _, okNow := t.Grow.Key.Numbers()
		rows := was.Grow.Rows - min(was.from, was.Grow.Rows)
		if !okThen || !okNow || from == to || rows == 0 {
			continue
		}
		run := keyRun{to + int64(was.from), to + int64(was.Grow.Rows) - 1, from - to}
		l.Memory.steps[t.Grow] = append(l.Memory.steps[t.Grow], run)
		t.moved = append(
			t.moved,
			journal.Keys{
				RowRun: journal.RowRun{Entity: t.Plan.Name, First: was.from, Rows: rows},
				From:   from + int64(was.from),
				Run:    true,
			},
		)
	}
}

// afterEarlier makes rows that are to be written draw unique references from what earlier
// loads have left.
func (l *Session) afterEarlier(ctx context.Context, s store.Store) error {
	if l.earlier = nil; !l.Plan.Set.Pools() {
		return nil
	}
	all, err := l.Read.On(s).Entries(ctx, l.Plan.Plan.Name)
	if err != nil {
		return err
	}
	var earlier []grow.Sizes
	for _, e := range all {
		if e.Elsewhere != "" || e.State != journal.StateDone && e.State != journal.StatePartly || e.About.Corrected ||
			e.About.Unit != "" {
			continue
		}
		now := grow.Sizes{}
		for _, x := range e.About.Entities {
			now[x.Entity] = grow.Size{Rows: x.Rows, Side: x.Given}
		}
		if earlier = slices.Clone(e.About.Earlier); len(earlier) == 0 || !maps.Equal(earlier[len(earlier)-1], now) {
			earlier = append(earlier, now)
		}
	}
	return l.goOn(earlier)
}

// goOn tells the plan's rows how many there were at earlier loads.
func (l *Session) goOn(earlier []grow.Sizes) error {
	l.earlier = earlier
	faults := l.Plan.Set.Continue(earlier)
	if len(faults) == 0 {
		return nil
	}
	f := faults[0]
	return &store.Fault{
		Kind:    store.Refused,
		Message: fmt.Sprintf("%s.%s: %s", f.Entity.Name, f.Field.Name, f.Message),
		Hint:    "plan more rows to pick from, or fewer that pick",
	}
}
