package load

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"evensprout/internal/archive"
	"evensprout/internal/journal"

	"evensprout/internal/grow"
	"evensprout/internal/plan"
	"evensprout/internal/store"
	"evensprout/internal/value"
)

// Unfinished tells that a load of the plan broke off, or that its withdrawal did.
type Unfinished struct{ Entry *journal.Entry }

func (e *Unfinished) Error() string {
	what := "is unfinished"
	if e.Entry.State == journal.StateWithdrawing {
		what = "is partly withdrawn"
	}
	return fmt.Sprintf(
		"load %d of %s, begun %s by %s, %s",
		e.Entry.Number,
		e.Entry.Plan,
		e.Entry.Began.Format("2006-01-02 15:04:05"),
		e.Entry.Actor,
		what,
	)
}

// Altered tells that the plan says other things about rows than when they were loaded.
type Altered struct {
	Entry       *journal.Entry
	Differences []plan.Difference
}

func (e *Altered) Error() string {
	return fmt.Sprintf(
		"the plan has changed since it was loaded (load %d of %s)",
		e.Entry.Number,
		e.Entry.Began.Format("2006-01-02 15:04:05"),
	)
}

// Gone tells that rows that were loaded are no longer there.
type Gone struct {
	Entry    *journal.Entry
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
	return fmt.Sprintf("%s of load %d %s missing", CountRows(n), e.Entry.Number, is)
}

// CountRows is a number of rows in words.
func CountRows(n int64) string {
	if n == 1 {
		return "1 row"
	}
	return fmt.Sprintf("%d rows", n)
}

// sortEarlier are the earlier loads of the plan into these tables: all that wrote rows, and
// those of them that were partly withdrawn. It sets which part of the plan this load is.
func (l *Session) sortEarlier(entries []*journal.Entry) (done, partly []*journal.Entry, err error) {
	l.Journal.Part = 1
	for _, e := range entries {
		l.Journal.Part = max(l.Journal.Part, e.Part+1)
		if e.Elsewhere != "" {
			continue
		}
		switch e.State {
		case journal.StateOpen, journal.StateWithdrawing:
			return nil, nil, &Unfinished{e}
		case journal.StateDone:
			done = append(done, e)
		case journal.StatePartly:
			done, partly = append(done, e), append(partly, e)
		}
	}
	return done, partly, nil
}

// hasRowsLeft reports whether rows of the entity are not loaded yet.
func (t *Target) hasRowsLeft() bool {
	if !t.loaded {
		return t.Grow.Total() > 0
	}
	return t.from < t.Grow.Rows || t.fromSide < uint64(len(t.Grow.Side))
}

// repeated looks at what earlier loads of the plan have written: that is not repeated.
// It reports whether nothing is left to be done.
func (l *Session) repeated(ctx context.Context, w *Writer) (bool, error) {
	if l.Journal == nil {
		return false, nil
	}
	if l.Options.Journal.Earlier == nil {
		return false, errors.New("a load with a journal needs Options.Journal.Earlier")
	}
	done, partly, err := l.earlierEntries(ctx, w.Store)
	if err != nil {
		return false, err
	}
	l.Result.Earlier, l.Result.PutBack, l.Result.Completed, l.Result.LeftOut = 0, 0, 0, 0
	l.Reset()
	loaded := l.isLoaded(done)
	if err := l.beside(ctx, w.Store); err != nil {
		return false, err
	}
	if err := l.afterEarlier(ctx, w.Store); err != nil {
		return false, err
	}
	if idle, err := l.allLeftAlone(ctx, w.Store); idle || err != nil {
		return idle, err
	}
	if !loaded {
		return false, l.recallOwn(ctx, w.Store, done)
	}
	last := done[len(done)-1]
	if err := l.sameAs(ctx, w.Store, last); err != nil {
		return false, err
	}
	l.Memory = NewMemory(l.Plan)
	if err := l.complete(ctx, w, partly); err != nil {
		return false, err
	}
	if err := l.stillThere(ctx, w.Store, last); err != nil {
		return false, err
	}
	l.Result.Earlier = last.Number
	l.Reset()
	if l.Result.LeftOut, err = countLeftOut(ctx, l.Read.On(w.Store), last.Plan); err != nil {
		return false, err
	}
	if slices.ContainsFunc(l.List, (*Target).hasRowsLeft) {
		return false, nil
	}
	for _, t := range l.List {
		if t.Out.Before, err = w.Store.Count(ctx, t.Table); err != nil {
			return false, err
		}
		t.Out.After = t.Out.Before
	}
	return true, nil
}

// earlierEntries reads the journal's entries about loads of this plan: those that are done, and the
// one that broke off.
func (l *Session) earlierEntries(ctx context.Context, s store.Store) (done, partly []*journal.Entry, err error) {
	of := l.Journal.Tables.Loads
	entries, err := l.Read.On(s).Select(
		ctx,
		l.Journal.Tables,
		journal.Cells(of, "plan", l.Plan.Plan.Name, "extra", l.Journal.Extra),
		false,
	)
	if err != nil {
		return nil, nil, err
	}
	l.Memory = nil
	return l.sortEarlier(entries)
}

// allLeftAlone reports whether every table is to be filled only while it is empty (when:
// empty), and has rows: then nothing is done, whatever was loaded and deleted before.
func (l *Session) allLeftAlone(ctx context.Context, s store.Store) (bool, error) {
	if slices.ContainsFunc(l.List, func(t *Target) bool { return !t.Plan.WhenEmpty && t.Grow.Total() > 0 }) {
		return false, nil
	}
	for _, t := range l.List {
		n, err := s.Count(ctx, t.Table)
		if err != nil || n == 0 && t.Grow.Total() > 0 {
			return false, err
		}
		t.Out.Before, t.Out.After, t.Out.Skipped = n, n, n > 0
	}
	return true, nil
}

// recallOwn learns which keys the rows of this plan have in tables that are left alone.
func (l *Session) recallOwn(ctx context.Context, s store.Store, done []*journal.Entry) error {
	if !slices.ContainsFunc(l.List, func(t *Target) bool { return t.own }) {
		return nil
	}
	last := done[len(done)-1]
	var altered *Altered
	if err := l.sameAs(ctx, s, last); errors.As(err, &altered) {
		for _, t := range l.List {
			t.own = false // they are not the rows of the plan as it is now
		}
		return nil
	} else if err != nil {
		return err
	}
	l.Memory = NewMemory(l.Plan)
	pasts, err := RecallAll(ctx, l.Read.On(s), Loads{last.Plan, last.Extra}, l.Plan.Database, l.Options.Journal.by())
	if err != nil {
		return err
	}
	defer CloseAll(pasts)
	return l.remember(pasts)
}

// remember learns what the chunks of earlier loads noted.
func (l *Session) remember(pasts []*PastLoad) error {
	for _, p := range pasts {
		for _, c := range p.Chunks {
			if err := l.Memory.Learn(c.Log); err != nil {
				return err
			}
		}
		l.renumbered(p)
	}
	return nil
}

// isLoaded marks the entities that earlier loads have inserted, and reports whether there
// are any.
func (l *Session) isLoaded(done []*journal.Entry) bool {
	any := false
	for _, t := range l.List {
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
func Shift(ctx context.Context, r journal.Reader, p *plan.Plan, extra string) (map[string]uint64, error) {
	all, err := r.Entries(ctx, p.Name)
	if err != nil {
		return nil, err
	}
	shift := map[string]uint64{}
	own := false
	for _, e := range all {
		if e.State == journal.StateWithdrawn || e.About.Corrected {
			continue
		}
		if e.Extra == extra {
			return e.About.Shift, nil
		}
		own = own || e.Extra == "" && e.State == journal.StateDone
		for _, x := range e.About.Entities {
			shift[x.Entity] = max(shift[x.Entity], x.Rows)
		}
	}

	if !own {
		return nil, &store.Fault{
			Kind: store.Refused,
			Message: fmt.Sprintf(
				"the rows of %s itself are not loaded yet, so an extra set cannot be loaded",
				p.Name,
			),
			Hint: "evensprout load, then load --extra",
		}
	}
	return shift, nil
}

// beside leaves out of a further set what is there already: the rows in front, those
// written by hand, and those of files.
func (l *Session) beside(ctx context.Context, s store.Store) error {
	if l.Plan.Shift == nil {
		return l.overlaps(ctx, s)
	}
	now, err := Shift(ctx, l.Read.On(s), l.Plan.Plan, l.Journal.Extra)
	if err == nil && !maps.Equal(now, l.Plan.Shift) {
		err = &store.Fault{
			Kind:    store.Refused,
			Message: "another set of rows was loaded in the meantime",
			Hint:    "load again",
		}
	}
	if err != nil {
		return err
	}
	g := grow.NewGrower(l.Plan.Set)
	defer g.Close()
	for _, t := range l.List {
		from := t.Grow.Rows
		if t.Write.Mode == plan.Insert && t.Grow.Root().Table == nil {
			_, from = g.Families(t.Grow, false, 0, l.Plan.Shift[t.Grow.Root().Name])
		}
		t.loaded, t.from, t.fromSide = true, max(t.from, from), uint64(len(t.Grow.Side))
	}
	return nil
}

// overlaps reports if the plan's own rows have become so many that they meet those of a
// further set.
func (l *Session) overlaps(ctx context.Context, s store.Store) error {
	all, err := l.Read.On(s).Entries(ctx, l.Plan.Plan.Name)
	if err != nil {
		return err
	}
	for _, e := range all {
		for _, t := range l.List {
			if first, ok := e.About.Shift[t.Plan.Name]; ok && t.Grow.Parent == nil && t.Grow.Rows > first &&
				e.State != journal.StateWithdrawn {
				return &store.Fault{
					Kind: store.Refused,
					Message: fmt.Sprintf(
						"%s has %d rows now, and the rows from %d on belong to the extra set %s (load %d)",
						t.Plan.Name,
						t.Grow.Rows,
						first,
						e.Extra,
						e.Number,
					),
					Hint: fmt.Sprintf(
						"run evensprout withdraw %d first, or load more rows with --extra and another name",
						e.Number,
					),
				}
			}
		}
	}
	return nil
}

// changedFiles are the files that are not as they were: those of rows, and the lists of kinds.
func (l *Session) changedFiles(last *journal.Entry) (rows, lists []plan.Difference, err error) {
	kinds := l.Plan.Plan.KindFiles()
	for _, path := range l.Plan.Inputs {
		now, _, err := archive.ReadInput(path)
		if err != nil {
			return nil, nil, err
		}
		for _, was := range last.About.Inputs {
			if was.Path != now.Path || was.Digest == now.Digest {
				continue
			}
			d := plan.Difference{
				Path: path,
				Was:  fmt.Sprintf("%d bytes with SHA-256 %s", was.Bytes, was.Digest[:12]),
				Is:   fmt.Sprintf("%d bytes with SHA-256 %s", now.Bytes, now.Digest[:12]),
			}
			if slices.Contains(kinds, path) {
				lists = append(lists, d)
			} else {
				rows = append(rows, d)
			}
		}
	}
	return rows, lists, nil
}

// sameAs holds the plan against the one of an earlier load. New entities, and more
// rows, are no difference.
func (l *Session) sameAs(ctx context.Context, s store.Store, last *journal.Entry) error {
	full, err := l.Read.On(s).Entry(ctx, last.Number)
	if err != nil {
		return err
	}
	earlier, err := archive.Plan(full)
	if err != nil {
		return err
	}
	diffs := slices.DeleteFunc(l.Plan.Plan.Differences(earlier), func(d plan.Difference) bool {
		return d.Was == "" && strings.HasPrefix(d.Path, "entities.") && strings.Count(d.Path, ".") == 1
	})
	diffs = l.migrated(diffs, earlier, last)
	if was, is := last.About.ClockSet, l.Plan.Set.Clock.String(); was != is &&
		(was != "" || !l.Plan.Set.Clock.IsNull()) {
		diffs = append(diffs, plan.Difference{Path: "clock", Was: was, Is: is})
	}
	inputs, lists, err := l.changedFiles(last)
	if err != nil {
		return err
	}
	diffs = append(diffs, lists...)
	if diffs, err = l.appended(ctx, s, last, diffs, inputs); err != nil {
		return err
	}
	for _, t := range l.List {
		if t.loaded && t.from > t.Grow.Rows {
			diffs = append(
				diffs,
				plan.Difference{
					Path: "entities." + t.Plan.Name + ".rows",
					Was:  fmt.Sprint(t.from),
					Is:   fmt.Sprint(t.Grow.Rows),
				},
			)
		}
	}

	if len(diffs) > 0 {
		return &Altered{last, diffs}
	}
	return nil
}

// complete puts the missing rows of loads back that are partly withdrawn. What their
// withdrawals left is as it is.
func (l *Session) complete(ctx context.Context, w *Writer, partly []*journal.Entry) error {
	if len(partly) == 0 {
		return nil
	}
	var pasts []*PastLoad
	defer func() { CloseAll(pasts) }()
	for _, e := range partly {
		p, err := Recall(ctx, l.Read.On(w.Store), e.Number, l.Plan.Database, l.Options.Journal.by())
		if err != nil {
			return err
		}
		pasts = append(pasts, p)
	}

	putBack, err := l.Options.Journal.Earlier.PutBack(ctx, w.Store, pasts, l.Options)
	if err != nil || l.Options.DryRun {
		return err
	}
	tables := l.Journal.Tables
	err = l.Repeat(ctx, w, func() error {
		if err := w.Begin(ctx); err != nil {
			return err
		}
		for _, e := range partly {
			key := LeftKey(e.Number)
			if _, err := w.Tx.Delete(ctx, tables.Chunks, key.Cells(tables.Chunks)); err != nil {
				return err
			}
			if _, err := w.Tx.Set(ctx, tables.Loads, journal.Cells(tables.Loads, "state", string(journal.StateDone)),
				journal.Cells(tables.Loads, "number", e.Number)); err != nil {
				return err
			}
		}
		return w.Commit(ctx)
	})
	l.Result.PutBack, l.Result.Completed = putBack, partly[0].Number
	return err
}

// stillThere looks whether the rows of the plan's earlier loads are there, and learns
// what their chunks noted.
func (l *Session) stillThere(ctx context.Context, s store.Store, last *journal.Entry) error {
	pasts, err := RecallAll(ctx, l.Read.On(s), Loads{last.Plan, last.Extra}, l.Plan.Database, l.Options.Journal.by())
	if err != nil {
		return err
	}
	defer CloseAll(pasts)
	found, err := l.Options.Journal.Earlier.Missing(ctx, s, pasts)
	if err != nil {
		return err
	}
	for _, e := range found {
		if t := l.Named(e.Entity); e.Missing > 0 && (t == nil || !t.Plan.WhenEmpty) {
			return &Gone{last, found}
		}
	}
	return l.remember(pasts)
}

// Named is the target of an entity; nil if the plan does not have it.
func (l *Session) Named(entity string) *Target {
	for _, t := range l.List {
		if t.Plan.Name == entity {
			return t
		}
	}
	return nil
}

// amend writes down what was found before the first row.
func (l *Session) amend(ctx context.Context, w *Writer) error {
	l.describeEntities()
	about, err := json.Marshal(l.Journal.About)
	if err != nil {
		return err
	}
	of := l.Journal.Tables.Loads
	_, err = w.Tx.Set(ctx, of, journal.Cells(of, "about", string(about)), journal.Cells(of, "number", l.Journal.Number))
	return err
}

// adoptChunks takes over the chunks of a load that is resumed.
func (l *Session) adoptChunks(ctx context.Context, w *Writer) error {
	chunks, err := l.Read.On(w.Store).Chunks(ctx, l.Journal.Number)
	if err != nil {
		return err
	}
	l.Journal.done = map[journal.Key]bool{}
	for _, c := range chunks {
		if c.Key == journal.BeforeAll(l.Journal.Number) {
			if err := w.Session.learn(c.Log); err != nil {
				return err
			}
		}
		if c.Key.Family < 0 {
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
func (w *Writer) adoptChunk(ctx context.Context, key journal.Key) error {
	if err := w.Rollback(); err != nil {
		return err
	}
	chunks, err := w.Session.Read.On(w.Store).Chunks(ctx, key.Load)
	if err != nil {
		return err
	}
	for _, c := range chunks {
		if c.Key == key {
			if c.State != journal.StateDone {
				break
			}
			return w.adopt(c)
		}
	}
	return &store.Fault{
		Kind:    store.Transient,
		Message: "a chunk was being written by another process, and then was not",
	}
}

// adopt counts a chunk that is committed, and learns what it noted.
func (w *Writer) adopt(c *journal.ChunkEntry) error {
	if err := w.counted(c); err != nil || w.Session.Options.Part.Number > 0 {
		return err // who writes a part hands out what it rejects
	}
	return w.handOutLogged(c.Log)
}

// counted takes over a chunk that an earlier run committed.
func (w *Writer) counted(c *journal.ChunkEntry) error {
	w.Session.mu.Lock()
	defer w.Session.mu.Unlock()
	if w.Session.Journal.done == nil {
		w.Session.Journal.done = map[journal.Key]bool{}
	}
	w.Session.Journal.done[c.Key] = true
	for _, t := range w.Session.List {
		e, ok := c.Result.Entities[t.Plan.Name]
		if !ok {
			continue
		}
		t.Out.Merge(e)
		w.Session.done += uint64(e.Inserted + e.Updated + e.Unchanged + e.Kept)
	}
	w.Session.Result.Redrawn += c.Result.Redrawn
	w.Session.Result.Chunks++
	w.Session.Result.Transactions++
	return w.Session.learn(c.Log)
}

// learn takes what a log notes into account.
func (l *Session) learn(log *journal.Log) error {
	m := &Memory{
		set:      l.Plan.Set,
		record:   l.Record,
		real:     l.real,
		keys:     map[*grow.Entity]map[grow.Row]value.Value{},
		inserted: map[*grow.Entity][]journal.RowRun{},
	}
	if l.steps == nil {
		l.steps = map[*grow.Entity][]keyRun{}
	}
	m.columns, m.steps = NewMemory(l.Plan).columns, l.steps
	return m.Learn(log)
}

// handOutLogged gives away rejections that were noted, but maybe not handed out.
func (w *Writer) handOutLogged(log *journal.Log) error {
	for _, r := range log.Rejected {
		for _, t := range w.Session.List {
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
	w.Session.mu.Lock()
	w.Session.rejected += int64(len(w.state.rejections))
	err := w.handOut()
	w.Session.mu.Unlock()
	w.state = newState()
	return err
}
