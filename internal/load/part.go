package load

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"evensprout/internal/journal"

	"evensprout/internal/order"
	"evensprout/internal/plan"
	"evensprout/internal/schema"
	"evensprout/internal/store"
)

// OtherParts tells that a load goes on that is cut in another way.
type OtherParts struct {
	Entry *journal.Entry
	Of    uint64
}

func (e *OtherParts) Error() string {
	how := "as a whole"
	if e.Entry.About.Parts > 0 {
		how = fmt.Sprintf("in %d parts", e.Entry.About.Parts)
	}
	return fmt.Sprintf("load %d of this plan is running or was interrupted, %s, not in %d "+
		"parts", e.Entry.Number, how, e.Of)
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

// lockPart takes the lock of a part, which is held while it is written.
func lockPart(ctx context.Context, s store.Store, plan string, n, of uint64) (*journal.Held, error) {
	return journal.LockShare(ctx, s, fmt.Sprintf("%s, part %d", plan, n), fmt.Sprintf("part %d/%d of %s is being written", n, of, plan))
}

// lockParts takes the locks of all parts of a load that is not done, so that none of them
// is written meanwhile; unlock gives them back. Where somebody has one, that is a
// *store.Fault.
func lockParts(ctx context.Context, s store.Store, e *journal.Entry) (unlock func(), err error) {
	var held []*journal.Held
	unlock = func() {
		for _, h := range held {
			h.Release(ctx)
		}
	}
	if e.State != journal.StateOpen || s.Traits().Writers == 1 { // where one writes at a time, the plan's lock is enough
		return unlock, nil
	}
	for n := range e.About.Parts {
		h, err := lockPart(ctx, s, e.Plan, n+1, e.About.Parts)
		if err != nil {
			unlock()
			return nil, err
		}
		held = append(held, h)
	}
	return unlock, nil
}

// RunPart writes a part of a plan's rows, each of its chunks in a transaction of its own.
// All parts are one load, which the first of them begins and the last one ends, in any
// order and at any time: rows that others refer to are written by whichever part comes to
// them first, and the journal's entries of chunks keep them from being written twice. A
// part that broke off is done by running it again.
func RunPart(ctx context.Context, c *plan.Compiled, s store.Store, o Options) (r *journal.Result, err error) {
	wait := o.Journal.Wait
	if wait == 0 {
		wait = partWait
		if s.Traits().Writers == 1 {
			wait = turnWait
		}
	}
	err = journal.WhileLocked(ctx, wait, o.Patience.Waits, func() error {
		r, err = runPart(ctx, c, s, o)
		return err
	})
	return r, err
}

// runPart is RunPart for who holds the part's lock.
func runPart(ctx context.Context, c *plan.Compiled, s store.Store, o Options) (*journal.Result, error) {
	l, err := NewSession(c, s, o)
	if err != nil {
		return nil, err
	}
	w := &Writer{Session: l, Store: s}
	defer w.Close()
	if err := l.refuseManyChunks(); err != nil {
		return nil, err
	}
	if err := l.OpenJournal(ctx, s); err != nil {
		return nil, err
	}
	if l.Traits.Writers == 1 { // then parts only stand in each other's way
		h, err := journal.Lock(ctx, s, c.Plan.Name)
		if err != nil {
			return nil, err
		}
		defer h.Release(ctx)
		l.Read = h.Reader(s)
	} else {
		h, err := lockPart(ctx, s, c.Plan.Name, o.Part.Number, o.Part.Of)
		if err != nil {
			return nil, err
		}
		defer h.Release(ctx)
		l.Read = h.Reader(s)
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
	return joinPart(ctx, l.Read.On(s), open, c.Database, o)
}

// findParts finds the load that the part belongs to, and begins it if there is none. Where
// an earlier load has written all rows, there is none, and the result tells.
func (l *Session) findParts(ctx context.Context, w *Writer) (*journal.Entry, *journal.Result, error) {
	name, extra := l.Plan.Plan.Name, l.Options.Journal.Extra
	for {
		open, err := OpenLoad(ctx, l.Read.On(w.Store), name, extra)
		if open != nil || err != nil {
			return open, nil, err
		}
		// One at a time begins a load: counters are moved, which others must not see half-done.
		var h *journal.Held
		if l.Traits.Writers > 1 {
			if h, err = journal.Lock(ctx, w.Store, name); err != nil {
				return nil, nil, err
			}
		}
		r, err := func() (*journal.Result, error) {
			if h != nil {
				defer h.Release(ctx)
			}
			if open, err := OpenLoad(ctx, l.Read.On(w.Store), name, extra); open != nil || err != nil {
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
		if r != nil || err != nil && !errors.Is(err, ErrFenced) && !errors.Is(err, errCommitted) {
			return nil, r, err
		}
	}
}

// beginParts writes the load down.
func (l *Session) beginParts(ctx context.Context, w *Writer) error {
	if err := l.StepOver(ctx, w.Store); err != nil {
		return err
	}
	if err := l.Repeat(ctx, w, func() error {
		l.Reset()
		if err := w.Begin(ctx); err != nil {
			return err
		}
		if err := l.Before(ctx, w.Store, w.Tx); err != nil {
			return err
		}
		return w.Rollback()
	}); err != nil {
		return err
	}
	if err := l.Reserve(ctx, w); err != nil {
		return err
	}
	return l.Repeat(ctx, w, func() error {
		if err := w.Begin(ctx); err != nil {
			return err
		}
		if err := l.enter(ctx, w); err != nil {
			return err
		}
		if err := l.keepLinks(ctx, w); err != nil {
			return err
		}
		return w.Commit(ctx)
	})
}

// joinPart goes on with a load that is in the journal.
func joinPart(
	ctx context.Context,
	read journal.Reader,
	open *journal.Entry,
	db *schema.Database,
	o Options,
) (*journal.Result, error) {
	p, err := Recall(ctx, read, open.Number, db, o.Journal.toResume())
	if err != nil {
		return nil, err
	}
	p.Session.Repeats = partRepeats
	r, err := p.resume(ctx, read.Store, o)
	return r, errors.Join(err, p.Close())
}

// partsOf are the parts of a family that are to be written, in order. Where rows of other
// families refer to it, these must be there, whoever writes them: the own part first, so
// that processes that begin together share the work.
func (l *Session) partsOf(f order.Family) []order.Part {
	all := l.Options.Part.All()
	own := l.Options.Part.Number
	if own == 0 || inOrder(f) {
		return all
	}
	if !l.referred(f) {
		return []order.Part{l.Options.Part}
	}
	return slices.Concat(all[own-1:], all[:own-1])
}

// referred reports whether rows of other families refer to some of a family.
func (l *Session) referred(f order.Family) bool {
	for _, t := range l.List {
		if slices.Contains(f, t.Target) {
			continue
		}
		for _, field := range t.Grow.Fields {
			if to := field.Target(); to != nil &&
				slices.ContainsFunc(f, func(x *plan.Target) bool { return x.Grow == to }) {
				return true
			}
		}
	}
	return false
}

// adoptNew takes over chunks that others have committed since.
func (l *Session) adoptNew(ctx context.Context, w *Writer) error {
	chunks, err := l.Read.On(w.Store).Chunks(ctx, l.Journal.Number)
	if err != nil {
		return err
	}
	for _, c := range chunks {
		if c.Key.Family < 0 || c.State != journal.StateDone || l.Journal.done[c.Key] {
			continue
		}
		if err := w.adopt(c); err != nil {
			return err
		}
	}
	return nil
}

// endPart sees how far the load has come, and reports whether all of it is written.
func (l *Session) endPart(ctx context.Context, w *Writer) (bool, error) {
	if err := l.adoptNew(ctx, w); err != nil {
		return false, err
	}
	chunks, err := l.Read.On(w.Store).Chunks(ctx, l.Journal.Number)
	if err != nil {
		return false, err
	}
	byKey := map[journal.Key]*journal.ChunkEntry{}
	for _, c := range chunks {
		byKey[c.Key] = c
	}
	r := &journal.PartResult{Part: l.Options.Part, Whole: true}
	sums := map[string]journal.Entity{}
	g := w.Grower()
	for _, part := range l.Options.Part.All() {
		done := true
		for _, f := range l.Order.Families {
			for c := range l.cutPart(g, f, l.mostCommitted(f), part) {
				entry := byKey[l.keyOf(c)]
				done = done && entry != nil && entry.State == journal.StateDone
				if entry == nil || part != l.Options.Part {
					continue
				}
				r.Chunks++
				for name, e := range entry.Result.Entities {
					sum := sums[name]
					sum.Merge(e)
					sums[name] = sum
				}
			}
		}
		if done {
			r.Done++
		}
		r.Whole = r.Whole && done
	}

	for _, t := range l.List {
		e := sums[t.Plan.Name]
		e.Entity, e.Table, e.Mode = t.Plan.Name, t.Table.Name, t.Write.Mode
		r.Entities = append(r.Entities, e)
	}
	l.Result.Part = r
	l.Result.Load = l.Journal.Number
	return r.Whole, nil
}
