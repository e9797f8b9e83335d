package load

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"evensprout/internal/grow"
	"evensprout/internal/plan"
	"evensprout/internal/store"
	"evensprout/internal/value"
)

// Unfinished tells that a load of the plan broke off, or that its withdrawal did.
type Unfinished struct{ Entry *Entry }

func (e *Unfinished) Error() string {
	what := "was not finished"
	if e.Entry.State == StateWithdrawing {
		what = "is half withdrawn"
	}
	return fmt.Sprintf("load %d of %s, begun %s by %s, %s", e.Entry.Number, e.Entry.Plan, e.Entry.Began.Format("2006-01-02 15:04:05"), e.Entry.Actor, what)
}

// Altered tells that the plan says other things about rows than when they were loaded.
type Altered struct {
	Entry       *Entry
	Differences []plan.Difference
}

func (e *Altered) Error() string {
	return fmt.Sprintf("the plan is not the one that was loaded (load %d of %s)", e.Entry.Number, e.Entry.Began.Format("2006-01-02 15:04:05"))
}

// Gone tells that rows that were loaded are no longer there.
type Gone struct {
	Entry    *Entry
	Entities []EntityDifference
}

func (e *Gone) Error() string {
	n := int64(0)
	for _, x := range e.Entities {
		n += x.Missing
	}
	is := "are"
	if n == 1 {
		is = "is"
	}
	return fmt.Sprintf("%s of load %d %s no longer there", countRows(n), e.Entry.Number, is)
}

// countRows is a number of rows in words.
func countRows(n int64) string {
	if n == 1 {
		return "1 row"
	}
	return fmt.Sprintf("%d rows", n)
}

// repeated looks at what earlier loads of the plan have written: that is not repeated.
// It tells whether nothing is left to be done.
func (l *loader) repeated(ctx context.Context, w *writer) (bool, error) {
	if l.journal == nil {
		return false, nil
	}
	of := l.journal.tables.Loads
	entries, err := readEntries(ctx, w.store, l.journal.tables, cells(of, "plan", l.plan.Plan.Name, "extra", l.journal.extra), false)
	if err != nil {
		return false, err
	}
	l.journal.part, l.memory = 1, nil
	var done, partly []*Entry
	for _, e := range entries {
		l.journal.part = max(l.journal.part, e.Part+1)
		if e.elsewhere != "" {
			continue
		}
		switch e.State {
		case StateOpen, StateWithdrawing:
			return false, &Unfinished{e}
		case StateDone:
			done = append(done, e)
		case StatePartly:
			done, partly = append(done, e), append(partly, e)
		}
	}
	l.result.Earlier, l.result.PutBack, l.result.Completed, l.result.LeftOut = 0, 0, 0, 0
	l.reset()
	loaded := l.isLoaded(done)
	if err := l.beside(ctx, w.store); err != nil {
		return false, err
	}
	if err := l.afterEarlier(ctx, w.store); err != nil {
		return false, err
	}
	if idle, err := l.allLeftAlone(ctx, w.store); idle || err != nil {
		return idle, err
	}
	if !loaded {
		return false, l.recallOwn(ctx, w.store, done)
	}
	last := done[len(done)-1]
	if err := l.sameAs(ctx, w.store, last); err != nil {
		return false, err
	}
	l.memory = newMemory(l.plan)
	if err := l.complete(ctx, w, partly); err != nil {
		return false, err
	}
	if err := l.stillThere(ctx, w.store, last); err != nil {
		return false, err
	}
	l.result.Earlier = last.Number
	l.reset()
	if l.result.LeftOut, err = countLeftOut(ctx, w.store, last.Plan); err != nil {
		return false, err
	}
	left := false
	for _, t := range l.list {
		left = left || !t.loaded && t.Grow.Total() > 0 || t.loaded && (t.from < t.Grow.Rows || t.fromSide < uint64(len(t.Grow.Side)))
	}
	if left {
		return false, nil
	}
	for _, t := range l.list {
		if t.out.Before, err = w.store.Count(ctx, t.Table); err != nil {
			return false, err
		}
		t.out.After = t.out.Before
	}
	return true, nil
}

// allLeftAlone tells whether every table is to be filled only while it is empty (when:
// empty), and has rows: then nothing is done, whatever was loaded and deleted before.
func (l *loader) allLeftAlone(ctx context.Context, s store.Store) (bool, error) {
	if slices.ContainsFunc(l.list, func(t *target) bool { return !t.Plan.WhenEmpty && t.Grow.Total() > 0 }) {
		return false, nil
	}
	for _, t := range l.list {
		n, err := s.Count(ctx, t.Table)
		if err != nil || n == 0 && t.Grow.Total() > 0 {
			return false, err
		}
		t.out.Before, t.out.After, t.out.Skipped = n, n, n > 0
	}
	return true, nil
}

// recallOwn learns which keys the rows of this plan have in tables that are left alone.
func (l *loader) recallOwn(ctx context.Context, s store.Store, done []*Entry) error {
	if !slices.ContainsFunc(l.list, func(t *target) bool { return t.own }) {
		return nil
	}
	last := done[len(done)-1]
	var altered *Altered
	if err := l.sameAs(ctx, s, last); errors.As(err, &altered) {
		for _, t := range l.list {
			t.own = false // they are not the rows of the plan as it is now
		}
		return nil
	} else if err != nil {
		return err
	}
	l.memory = newMemory(l.plan)
	pasts, err := RecallAll(ctx, s, last.Plan, last.Extra, l.plan.Database, l.o.Journal.by())
	if err != nil {
		return err
	}
	defer CloseAll(pasts)
	return l.remember(pasts)
}

// remember learns what the chunks of earlier loads noted.
func (l *loader) remember(pasts []*Past) error {
	for _, p := range pasts {
		for _, c := range p.chunks {
			if err := l.memory.learn(c.Log); err != nil {
				return err
			}
		}
		l.renumbered(p)
	}
	return nil
}

// isLoaded marks the entities that earlier loads have inserted, and tells whether there
// are any.
func (l *loader) isLoaded(done []*Entry) bool {
	any := false
	for _, t := range l.list {
		t.loaded, t.own, t.from, t.fromSide, t.moved = false, false, 0, 0, nil
		for _, e := range done {
			for _, x := range e.About.Entities {
				switch {
				case x.Entity != t.Plan.Name || x.Skipped || t.Write.Mode != plan.Insert:
				case t.Plan.WhenEmpty: // it is filled again once it is empty
					t.own = true
				default:
					t.loaded, any = true, true
					t.from, t.fromSide = max(t.from, x.Rows), max(t.fromSide, x.Given)
				}
			}
		}
	}
	return any
}

// Shift finds, for a further set of rows of a plan, how many grown rows stand in front
// of its own, by entity: those of the plan itself, and of the sets before. So all values
// and keys of the set are those that the plan would go on with.
func Shift(ctx context.Context, s store.Store, p *plan.Plan, extra string) (map[string]uint64, error) {
	all, err := Entries(ctx, s, p.Name)
	if err != nil {
		return nil, err
	}
	shift := map[string]uint64{}
	own := false
	for _, e := range all {
		if e.State == StateWithdrawn || e.About.Corrected {
			continue
		}
		if e.Extra == extra {
			return e.About.Shift, nil
		}
		own = own || e.Extra == "" && e.State == StateDone
		for _, x := range e.About.Entities {
			shift[x.Entity] = max(shift[x.Entity], x.Rows)
		}
	}
	if !own {
		return nil, &store.Fault{Kind: store.Refused, Message: fmt.Sprintf("the rows of %s itself are not loaded yet, so no further set can stand beside them", p.Name), Hint: "evensprout load, then load --extra"}
	}
	return shift, nil
}

// beside leaves out of a further set what is there already: the rows in front, those
// written by hand, and those of files.
func (l *loader) beside(ctx context.Context, s store.Store) error {
	if l.plan.Shift == nil {
		return l.overlaps(ctx, s)
	}
	now, err := Shift(ctx, s, l.plan.Plan, l.journal.extra)
	if err == nil && !maps.Equal(now, l.plan.Shift) {
		err = &store.Fault{Kind: store.Refused, Message: "another set of rows was loaded in the meantime", Hint: "load again"}
	}
	if err != nil {
		return err
	}
	g := grow.NewGrower(l.plan.Set)
	defer g.Close()
	for _, t := range l.list {
		from := t.Grow.Rows
		if t.Write.Mode == plan.Insert && t.Grow.Root().Table == nil {
			_, from = g.Families(t.Grow, false, 0, l.plan.Shift[t.Grow.Root().Name])
		}
		t.loaded, t.from, t.fromSide = true, max(t.from, from), uint64(len(t.Grow.Side))
	}
	return nil
}

// overlaps tells if the plan's own rows have become so many that they meet those of a
// further set.
func (l *loader) overlaps(ctx context.Context, s store.Store) error {
	all, err := Entries(ctx, s, l.plan.Plan.Name)
	if err != nil {
		return err
	}
	for _, e := range all {
		for _, t := range l.list {
			if first, ok := e.About.Shift[t.Plan.Name]; ok && t.Grow.Parent == nil && t.Grow.Rows > first && e.State != StateWithdrawn {
				return &store.Fault{Kind: store.Refused, Message: fmt.Sprintf("%s has %d rows now, and those from %d on are of the further set %s (load %d)", t.Plan.Name, t.Grow.Rows, first, e.Extra, e.Number),
					Hint: fmt.Sprintf("evensprout withdraw %d first, or load more rows by --extra with another name", e.Number)}
			}
		}
	}
	return nil
}

// sameAs holds the plan against the one of an earlier load. New entities, and more
// rows, are no difference.
func (l *loader) sameAs(ctx context.Context, s store.Store, last *Entry) error {
	full, err := FindEntry(ctx, s, last.Number)
	if err != nil {
		return err
	}
	earlier, err := archivedPlan(full)
	if err != nil {
		return err
	}
	diffs := slices.DeleteFunc(l.plan.Plan.Differences(earlier), func(d plan.Difference) bool {
		return d.Was == "" && strings.HasPrefix(d.Path, "entities.") && strings.Count(d.Path, ".") == 1
	})
	diffs = l.migrated(diffs, earlier, last)
	if was, is := last.About.ClockSet, l.plan.Set.Clock.String(); was != is && (was != "" || !l.plan.Set.Clock.IsNull()) {
		diffs = append(diffs, plan.Difference{Path: "clock", Was: was, Is: is})
	}
	var inputs []plan.Difference
	for _, path := range l.plan.Inputs {
		now, _, err := readInput(path)
		if err != nil {
			return err
		}
		for _, x := range last.About.Inputs {
			if x.Path == now.Path && x.Digest != now.Digest {
				inputs = append(inputs, plan.Difference{Path: path, Was: fmt.Sprintf("%d bytes with SHA-256 %s", x.Bytes, x.Digest[:12]), Is: fmt.Sprintf("%d bytes with SHA-256 %s", now.Bytes, now.Digest[:12])})
			}
		}
	}
	if diffs, err = l.appended(ctx, s, last, diffs, inputs); err != nil {
		return err
	}
	for _, t := range l.list {
		if t.loaded && t.from > t.Grow.Rows {
			diffs = append(diffs, plan.Difference{Path: "entities." + t.Plan.Name + ".rows", Was: fmt.Sprint(t.from), Is: fmt.Sprint(t.Grow.Rows)})
		}
	}
	if len(diffs) > 0 {
		return &Altered{last, diffs}
	}
	return nil
}

// complete puts the missing rows of loads back that are partly withdrawn. What their
// withdrawals left is as it is.
func (l *loader) complete(ctx context.Context, w *writer, partly []*Entry) error {
	if len(partly) == 0 {
		return nil
	}
	var pasts []*Past
	defer func() { CloseAll(pasts) }()
	for _, e := range partly {
		p, err := Recall(ctx, w.store, e.Number, l.plan.Database, l.o.Journal.by())
		if err != nil {
			return err
		}
		pasts = append(pasts, p)
	}
	o := RestoreOptions{DryRun: l.o.DryRun, OnlyMissing: true, Again: l.o.Again}
	r, err := restoreLocked(ctx, w.store, pasts, o)
	if err != nil || l.o.DryRun {
		return err
	}
	tables := l.journal.tables
	err = l.repeat(ctx, w, func() error {
		if err := w.begin(ctx); err != nil {
			return err
		}
		for _, e := range partly {
			key := leftKey(e.Number)
			if _, err := w.tx.Delete(ctx, tables.Chunks, key.cells(tables.Chunks)); err != nil {
				return err
			}
			if _, err := w.tx.Set(ctx, tables.Loads, cells(tables.Loads, "state", string(StateDone)), cells(tables.Loads, "number", e.Number)); err != nil {
				return err
			}
		}
		return w.commit(ctx)
	})
	l.result.PutBack, l.result.Completed = r.Inserted, partly[0].Number
	return err
}

// stillThere looks whether the rows of the plan's earlier loads are there, and learns
// what their chunks noted.
func (l *loader) stillThere(ctx context.Context, s store.Store, last *Entry) error {
	pasts, err := RecallAll(ctx, s, last.Plan, last.Extra, l.plan.Database, l.o.Journal.by())
	if err != nil {
		return err
	}
	defer CloseAll(pasts)
	diff, err := Compare(ctx, s, pasts, CompareOptions{OnlyMissing: true})
	if err != nil {
		return err
	}
	for _, e := range diff.Entities {
		if t := l.named(e.Entity); e.Missing > 0 && (t == nil || !t.Plan.WhenEmpty) {
			return &Gone{last, diff.Entities}
		}
	}
	return l.remember(pasts)
}

// named is the target of an entity; nil if the plan does not have it.
func (l *loader) named(entity string) *target {
	for _, t := range l.list {
		if t.Plan.Name == entity {
			return t
		}
	}
	return nil
}

// amend writes down what was found before the first row.
func (l *loader) amend(ctx context.Context, w *writer) error {
	l.describeEntities()
	about, err := json.Marshal(l.journal.about)
	if err != nil {
		return err
	}
	of := l.journal.tables.Loads
	_, err = w.tx.Set(ctx, of, cells(of, "about", string(about)), cells(of, "number", l.journal.number))
	return err
}

// adoptChunks takes over the chunks of a load that is resumed.
func (l *loader) adoptChunks(ctx context.Context, w *writer) error {
	chunks, err := Chunks(ctx, w.store, l.journal.number)
	if err != nil {
		return err
	}
	l.journal.done = map[chunkKey]bool{}
	for _, c := range chunks {
		if c.key == beforeAll(l.journal.number) {
			if err := w.learn(c.Log); err != nil {
				return err
			}
		}
		if c.key.family < 0 {
			continue // not a chunk
		}
		if err := w.adopt(c); err != nil {
			return err
		}
	}
	return l.watchAgain(w)
}

// adoptChunk takes over a chunk that another process wrote, or this one in a
// transaction whose commit was not answered.
func (w *writer) adoptChunk(ctx context.Context, key chunkKey) error {
	if err := w.rollback(); err != nil {
		return err
	}
	chunks, err := Chunks(ctx, w.store, key.load)
	if err != nil {
		return err
	}
	for _, c := range chunks {
		if c.key == key {
			if c.State != StateDone {
				break
			}
			return w.adopt(c)
		}
	}
	return &store.Fault{Kind: store.Transient, Message: "a chunk was being written by another process, and then was not"}
}

// adopt counts a chunk that is committed, and learns what it noted.
func (w *writer) adopt(c *ChunkEntry) error {
	if err := w.counted(c); err != nil || w.o.Part.Number > 0 {
		return err // who writes a part hands out what it rejects
	}
	return w.handOutLogged(c.Log)
}

func (w *writer) counted(c *ChunkEntry) error {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.journal.done == nil {
		w.journal.done = map[chunkKey]bool{}
	}
	w.journal.done[c.key] = true
	for _, t := range w.list {
		e, ok := c.Result.Entities[t.Plan.Name]
		if !ok {
			continue
		}
		t.out.merge(e)
		w.done += uint64(e.Inserted + e.Updated + e.Unchanged + e.Kept)
	}
	w.result.Redrawn += c.Result.Redrawn
	w.result.Chunks++
	w.result.Transactions++
	return w.learn(c.Log)
}

// learn takes what a log notes into account.
func (l *loader) learn(log *chunkLog) error {
	m := &memory{set: l.plan.Set, record: l.record, real: l.real, keys: map[*grow.Entity]map[grow.Row]value.Value{}, inserted: map[*grow.Entity][]loggedRows{}}
	if l.steps == nil {
		l.steps = map[*grow.Entity][]keyRun{}
	}
	m.columns, m.steps = newMemory(l.plan).columns, l.steps
	return m.learn(log)
}

// handOutLogged gives away rejections that were noted, but maybe not handed out.
func (w *writer) handOutLogged(log *chunkLog) error {
	for _, r := range log.Rejected {
		for _, t := range w.list {
			if t.Plan.Name != r.Entity {
				continue
			}
			x := w.rejection(t, grow.Row{N: r.Row, Side: r.Given}, r.Refusal)
			if r.Refusal.Kind == store.RowCount {
				w.state.missing = append(w.state.missing, x)
			} else {
				w.state.rejections = append(w.state.rejections, x)
			}
		}
	}
	w.mu.Lock()
	w.rejected += int64(len(w.state.rejections))
	err := w.handOut()
	w.mu.Unlock()
	w.state = newState()
	return err
}
