package load

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"evensprout/internal/order"
	"evensprout/internal/plan"
	"evensprout/internal/schema"
	"evensprout/internal/store"
)

// PartResult is what one part of a load is, whoever wrote it.
type PartResult struct {
	order.Part
	Entities []Entity `json:"entities"` // in load order; rows before and after are not told
	Chunks   int      `json:"chunks"`
	Done     uint64   `json:"parts_done"` // how many parts are written whole
	Whole    bool     `json:"whole"`      // all of them are, and the load is done
}

// OtherParts tells that a load goes on that is cut in another way.
type OtherParts struct {
	Entry *Entry
	Of    uint64
}

func (e *OtherParts) Error() string {
	how := "as a whole"
	if e.Entry.About.Parts > 0 {
		how = fmt.Sprintf("in %d parts", e.Entry.About.Parts)
	}
	return fmt.Sprintf("load %d of this plan goes on, or broke off, %s, and not in %d parts", e.Entry.Number, how, e.Of)
}

// partRepeats bounds how often a transaction is begun again where many processes write.
const partRepeats = 40

// How long a part waits unless it is told: for another process that writes the same part,
// maybe one whose death the server has not noticed; and where only one can write at a time,
// for its turn.
const (
	partWait = 2 * time.Minute
	turnWait = time.Hour
)

// partLock is the name of the lock of a part, while it is written.
func partLock(plan string, n uint64) string { return fmt.Sprintf("%s, part %d", lockName(plan), n) }

// lockParts takes the locks of all parts of a load that is not done, so that none of them
// is written meanwhile; unlock gives them back. Where somebody has one, that is a
// *store.Fault.
func lockParts(ctx context.Context, s store.Store, e *Entry) (unlock func(), err error) {
	taken := uint64(0)
	unlock = func() {
		for n := uint64(1); n <= taken; n++ {
			s.Unlock(context.WithoutCancel(ctx), partLock(e.Plan, n)) // where that fails, the connection's end does it
		}
	}
	if e.State != StateOpen || s.Traits().Writers == 1 { // where one writes at a time, the plan's lock is enough
		return unlock, nil
	}
	for ; taken < e.About.Parts; taken++ {
		holder, err := s.Lock(ctx, partLock(e.Plan, taken+1))
		if err == nil && holder != "" {
			err = &store.Fault{Kind: store.Locked, Message: fmt.Sprintf("part %d of %d of load %d is being written by %s", taken+1, e.About.Parts, e.Number, holder), Hint: "--wait 5m waits until that is done"}
		}
		if err != nil {
			unlock()
			return nil, err
		}
	}
	return unlock, nil
}

// RunPart writes a part of a plan's rows, each of its chunks in a transaction of its own.
// All parts are one load, which the first of them begins and the last one ends, in any
// order and at any time: rows that others refer to are written by whichever part comes to
// them first, and the journal's entries of chunks keep them from being written twice. A
// part that broke off is done by running it again.
func RunPart(ctx context.Context, c *plan.Compiled, s store.Store, o Options) (r *Result, err error) {
	wait := o.Journal.Wait
	if wait == 0 {
		wait = partWait
		if s.Traits().Writers == 1 {
			wait = turnWait
		}
	}
	err = patient(ctx, wait, func() error {
		r, err = runPart(ctx, c, s, o)
		return err
	})
	return r, err
}

func runPart(ctx context.Context, c *plan.Compiled, s store.Store, o Options) (*Result, error) {
	l, err := newLoader(c, s, o)
	if err != nil {
		return nil, err
	}
	w := &writer{loader: l, store: s}
	defer w.close()
	if err := l.openJournal(ctx, s); err != nil {
		return nil, err
	}
	if l.traits.Writers == 1 { // then parts only stand in each other's way
		if err := lockPlan(ctx, s, c.Plan.Name); err != nil {
			return nil, err
		}
		defer unlockPlan(ctx, s, c.Plan.Name)
	} else {
		name := partLock(c.Plan.Name, o.Part.Number)
		holder, err := s.Lock(ctx, name)
		if err == nil && holder != "" {
			err = &store.Fault{Kind: store.Locked, Message: fmt.Sprintf("part %s is being written by %s", o.Part, holder), Hint: "--wait says how long to wait for that"}
		}
		if err != nil {
			return nil, err
		}
		defer s.Unlock(context.WithoutCancel(ctx), name)
	}
	open, r, err := l.findParts(ctx, w)
	if err != nil || open == nil {
		return r, err
	}
	if open.About.Parts != o.Part.Of {
		return nil, &OtherParts{open, o.Part.Of}
	}
	if err := l.sameAs(ctx, s, open); err != nil {
		return nil, err
	}
	return joinPart(ctx, s, open, c.Database, o)
}

// findParts finds the load that the part belongs to, and begins it if there is none. Where
// an earlier load has written all rows, there is none, and the result tells.
func (l *loader) findParts(ctx context.Context, w *writer) (*Entry, *Result, error) {
	name, extra := l.plan.Plan.Name, l.o.Journal.Extra
	for {
		open, err := OpenLoad(ctx, w.store, name, extra)
		if open != nil || err != nil {
			return open, nil, err
		}
		// One at a time begins a load: counters are moved, which others must not see half-done.
		if l.traits.Writers > 1 {
			if err := lockPlan(ctx, w.store, name); err != nil {
				return nil, nil, err
			}
		}
		r, err := func() (*Result, error) {
			if l.traits.Writers > 1 {
				defer unlockPlan(ctx, w.store, name)
			}
			if open, err := OpenLoad(ctx, w.store, name, extra); open != nil || err != nil {
				return nil, err // begun in the meantime
			}
			done, err := l.repeated(ctx, w)
			if err != nil {
				return nil, err
			}
			if done {
				return l.finished(w), nil
			}
			return nil, l.beginParts(ctx, w)
		}()
		if r != nil || err != nil && !errors.Is(err, errFenced) && !errors.Is(err, errCommitted) {
			return nil, r, err
		}
	}
}

// beginParts writes the load down.
func (l *loader) beginParts(ctx context.Context, w *writer) error {
	if err := l.stepOver(ctx, w.store); err != nil {
		return err
	}
	if err := l.repeat(ctx, w, func() error {
		l.reset()
		if err := w.begin(ctx); err != nil {
			return err
		}
		if err := l.before(ctx, w.store, w.tx); err != nil {
			return err
		}
		return w.rollback()
	}); err != nil {
		return err
	}
	if err := l.reserve(ctx, w); err != nil {
		return err
	}
	return l.repeat(ctx, w, func() error {
		if err := w.begin(ctx); err != nil {
			return err
		}
		if err := l.enter(ctx, w); err != nil {
			return err
		}
		if err := l.keepLinks(ctx, w); err != nil {
			return err
		}
		return w.commit(ctx)
	})
}

// joinPart goes on with a load that is in the journal.
func joinPart(ctx context.Context, s store.Store, open *Entry, db *schema.Database, o Options) (*Result, error) {
	p, err := Recall(ctx, s, open.Number, db, o.Journal.toResume())
	if err != nil {
		return nil, err
	}
	p.l.repeats = partRepeats
	r, err := p.resume(ctx, s, o)
	return r, errors.Join(err, p.Close())
}

// partsOf are the parts of a family that are to be written, in order. Where rows of other
// families refer to it, these must be there, whoever writes them: the own part first, so
// that processes that begin together share the work.
func (l *loader) partsOf(f order.Family) []order.Part {
	all := l.o.Part.All()
	own := l.o.Part.Number
	if own == 0 || inOrder(f) {
		return all
	}
	if !l.referred(f) {
		return []order.Part{l.o.Part}
	}
	return slices.Concat(all[own-1:], all[:own-1])
}

// referred tells whether rows of other families refer to some of a family.
func (l *loader) referred(f order.Family) bool {
	for _, t := range l.list {
		if slices.Contains(f, t.Target) {
			continue
		}
		for _, field := range t.Grow.Fields {
			if to := field.Target(); to != nil && slices.ContainsFunc(f, func(x *plan.Target) bool { return x.Grow == to }) {
				return true
			}
		}
	}
	return false
}

// adoptNew takes over chunks that others have committed since.
func (l *loader) adoptNew(ctx context.Context, w *writer) error {
	chunks, err := Chunks(ctx, w.store, l.journal.number)
	if err != nil {
		return err
	}
	for _, c := range chunks {
		if c.key.family < 0 || c.State != StateDone || l.journal.done[c.key] {
			continue
		}
		if err := w.adopt(c); err != nil {
			return err
		}
	}
	return nil
}

// endPart sees how far the load has come, and tells whether all of it is written.
func (l *loader) endPart(ctx context.Context, w *writer) (bool, error) {
	if err := l.adoptNew(ctx, w); err != nil {
		return false, err
	}
	chunks, err := Chunks(ctx, w.store, l.journal.number)
	if err != nil {
		return false, err
	}
	byKey := map[chunkKey]*ChunkEntry{}
	for _, c := range chunks {
		byKey[c.key] = c
	}
	r := &PartResult{Part: l.o.Part, Whole: true}
	sums := map[string]Entity{}
	g := w.grower()
	for _, part := range l.o.Part.All() {
		done := true
		for _, f := range l.order.Families {
			for c := range l.cutPart(g, f, l.mostCommitted(f), part) {
				entry := byKey[l.keyOf(c)]
				done = done && entry != nil && entry.State == StateDone
				if entry == nil || part != l.o.Part {
					continue
				}
				r.Chunks++
				for name, e := range entry.Result.Entities {
					sum := sums[name]
					sum.merge(e)
					sums[name] = sum
				}
			}
		}
		if done {
			r.Done++
		}
		r.Whole = r.Whole && done
	}
	for _, t := range l.list {
		e := sums[t.Plan.Name]
		e.Entity, e.Table, e.Mode = t.Plan.Name, t.Table.Name, t.Write.Mode
		r.Entities = append(r.Entities, e)
	}
	l.result.Part = r
	l.result.Load = l.journal.number
	return r.Whole, nil
}
