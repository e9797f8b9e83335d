package load

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"evensprout/internal/order"
	"evensprout/internal/plan"
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

// partWait is how long a part waits for others where only one can write at a time.
const partWait = time.Hour

// RunPart writes a part of a plan's rows, each of its chunks in a transaction of its own.
// All parts are one load, which the first of them begins and the last one ends, in any
// order and at any time: rows that others refer to are written by whichever part comes to
// them first, and the journal's entries of chunks keep them from being written twice. A
// part that broke off is done by running it again.
func RunPart(ctx context.Context, c *plan.Compiled, s store.Store, o Options) (r *Result, err error) {
	wait := o.Journal.Wait
	if wait == 0 && s.Traits().Writers == 1 {
		wait = partWait
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
	}
	for {
		open, err := OpenLoad(ctx, s, c.Plan.Name, o.Journal.Extra)
		if err != nil {
			return nil, err
		}
		if open != nil {
			if open.About.Parts != o.Part.Of {
				return nil, &OtherParts{open, o.Part.Of}
			}
			if err := l.sameAs(ctx, s, open); err != nil {
				return nil, err
			}
			return joinPart(ctx, s, open, o)
		}
		done, err := l.repeated(ctx, w)
		if err != nil || done {
			return l.finished(w), err
		}
		if err := l.beginParts(ctx, w); err != nil && !errors.Is(err, errFenced) && !errors.Is(err, errCommitted) {
			return nil, err
		}
	}
}

// beginParts writes the load down.
func (l *loader) beginParts(ctx context.Context, w *writer) error {
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
		return w.commit(ctx)
	})
}

// joinPart goes on with a load that is in the journal.
func joinPart(ctx context.Context, s store.Store, open *Entry, o Options) (*Result, error) {
	p, err := Recall(ctx, s, open.Number, nil, o.Journal.Rows)
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
