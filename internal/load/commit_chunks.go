package load

import (
	"context"
	"errors"
	"maps"
	"sync"

	"evensprout/internal/grow"
	"evensprout/internal/order"
	"evensprout/internal/plan"
	"evensprout/internal/store"
)

// inMany commits each chunk, with several connections where that is possible.
func (l *loader) inMany(ctx context.Context, w *writer) error {
	resumed := l.journal != nil && l.journal.number > 0
	if !resumed {
		if err := l.stepOver(ctx, w.store); err != nil {
			return err
		}
	}
	err := l.repeat(ctx, w, func() error {
		l.reset()
		w.state = newState()
		if err := w.begin(ctx); err != nil {
			return err
		}
		if err := l.before(ctx, w.store, w.tx); err != nil {
			return err
		}
		return w.rollback()
	})
	if err != nil {
		return err
	}
	if err := l.reserve(ctx, w); err != nil {
		return err
	}
	switch {
	case l.journal == nil:
	case resumed:
		if err := l.adoptChunks(ctx, w); err != nil {
			return err
		}
	default:
		err := l.repeat(ctx, w, func() error {
			if err := w.begin(ctx); err != nil {
				return err
			}
			if err := l.enter(ctx, w); err != nil {
				if errors.Is(err, errCommitted) {
					return nil // the commit before was not answered
				}
				return err
			}
			if err := l.keepLinks(ctx, w); err != nil {
				return err
			}
			return w.commit(ctx)
		})
		if err != nil {
			return err
		}
	}
	if err := l.families(ctx, w); err != nil {
		return errors.Join(err, l.forget(context.WithoutCancel(ctx), w))
	}
	if l.o.Part.Number > 0 {
		if whole, err := l.endPart(ctx, w); err != nil || !whole {
			return err
		}
	}
	return l.repeat(ctx, w, func() error {
		if err := w.begin(ctx); err != nil {
			return err
		}
		if err := l.after(ctx, w); err != nil {
			return err
		}
		if err := l.always(ctx, w.tx); err != nil {
			return err
		}
		if l.journal == nil {
			return w.rollback()
		}
		if err := l.readBack(ctx, w); err != nil {
			return err
		}
		if err := l.conclude(ctx, w); err != nil {
			return err
		}
		return w.commit(ctx)
	})
}

// families commits the chunks of all families, and those again that were lost.
func (l *loader) families(ctx context.Context, w *writer) error {
	for lost := 0; ; lost++ {
		err := func() error {
			for _, f := range l.order.Families {
				if err := l.family(ctx, w, f); err != nil {
					return err
				}
			}
			return l.repeat(ctx, w, func() error { return l.allThere(ctx, w.store) })
		}()
		if !errors.Is(err, errLost) || lost == maxRepeats {
			return err
		}
		l.mu.Lock()
		l.journal.written = nil // or the next connection would be found wanting again
		l.mu.Unlock()
		if err := l.repeat(ctx, w, func() error { return l.recount(ctx, w) }); err != nil {
			return err
		}
	}
}

// errLost tells that chunks are gone that were committed: a server answers to which they
// never came, such as a standby that has taken over.
var errLost = errors.New("chunks that were committed are gone: another server answers, which does not have them")

// allThere compares what this process has committed with the journal.
func (l *loader) allThere(ctx context.Context, s store.Store) error {
	if l.journal == nil {
		return nil
	}
	l.mu.Lock()
	written := maps.Clone(l.journal.written)
	l.mu.Unlock()
	if len(written) == 0 {
		return nil
	}
	chunks, err := Chunks(ctx, s, l.journal.number)
	if err != nil {
		return err
	}
	for _, c := range chunks {
		if c.State == StateDone {
			delete(written, c.key)
		}
	}
	if len(written) > 0 {
		return errLost
	}
	return nil
}

// recount takes over what the journal has of this load, and nothing else.
func (l *loader) recount(ctx context.Context, w *writer) error {
	if _, err := FindEntry(ctx, w.store, l.journal.number); err != nil {
		return err
	}
	chunks, err := Chunks(ctx, w.store, l.journal.number)
	if err != nil {
		return err
	}
	l.mu.Lock()
	l.done, l.rejected, l.rejects, l.unmatched = 0, 0, nil, nil
	l.result.Chunks, l.result.Transactions, l.result.Redrawn = 0, 0, 0
	for _, t := range l.list {
		before := t.out
		t.out = Entity{Entity: before.Entity, Table: before.Table, Mode: before.Mode, Before: before.Before, Skipped: before.Skipped, Loaded: before.Loaded}
	}
	l.journal.done, l.journal.written = map[chunkKey]bool{}, map[chunkKey]bool{}
	l.mu.Unlock()
	for _, c := range chunks {
		if c.key.family < 0 || c.State != StateDone {
			continue
		}
		if err := w.counted(c); err != nil {
			return err
		}
		l.journal.written[c.key] = true
		for _, x := range c.Log.Rejected {
			l.rejected++
			if len(l.rejects) < maxTold {
				l.rejects = append(l.rejects, x.Refusal)
			}
		}
	}
	return nil
}

// family commits the chunks of one family.
func (l *loader) family(ctx context.Context, w *writer, f order.Family) error {
	for i, part := range l.partsOf(f) {
		if i > 0 && l.o.Part.Number > 0 {
			if err := l.adoptNew(ctx, w); err != nil {
				return err
			}
		}
		if err := l.familyPart(ctx, w, f, part); err != nil {
			return err
		}
	}
	return nil
}

// inOrder tells whether a family has rows that refer to others of their own entity.
func inOrder(f order.Family) bool {
	for _, t := range f {
		for _, field := range t.Grow.Fields {
			if field.Target() == t.Grow {
				return true
			}
		}
	}
	return false
}

// familyPart commits the chunks of a part of one family. Rows that refer to others of
// their own entity need the order, so they go through one connection.
func (l *loader) familyPart(ctx context.Context, w *writer, f order.Family, part order.Part) error {
	connections := min(l.o.Jobs, l.traits.Writers)
	if l.o.Again == nil {
		connections = 1
	}
	if inOrder(f) {
		connections = 1
	}
	g := grow.NewGrower(l.plan.Set)
	defer g.Close()
	chunks := make(chan order.Chunk)
	ctx, stop := context.WithCancelCause(ctx)
	defer stop(nil)
	var all sync.WaitGroup
	work := func(w *writer) {
		defer all.Done()
		defer w.close()
		for c := range chunks {
			if err := l.commitChunk(ctx, w, c); err != nil {
				stop(err)
				return
			}
		}
	}
	all.Add(connections)
	go work(w.shared())
	for range connections - 1 {
		go func() {
			s, err := l.o.Again(ctx)
			if err != nil {
				stop(err)
				all.Done()
				return
			}
			work(&writer{loader: l, store: s, own: true})
		}()
	}
feed:
	for c := range l.cutPart(g, f, l.mostCommitted(f), part) {
		if l.isDone(c) {
			continue
		}
		select {
		case chunks <- c:
		case <-ctx.Done():
			break feed
		}
	}
	close(chunks)
	all.Wait()
	return context.Cause(ctx)
}

// isDone tells whether a chunk is committed, as far as is known here.
func (l *loader) isDone(c order.Chunk) bool {
	if l.journal == nil {
		return false
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.journal.done[l.keyOf(c)]
}

// mostCommitted is the upper bound of rows that are committed together.
func (l *loader) mostCommitted(f order.Family) uint64 {
	if l.o.Commit == plan.CommitFamily {
		return 1
	}
	return l.most(f)
}

// commitChunk writes a chunk in a transaction of its own.
func (l *loader) commitChunk(ctx context.Context, w *writer, c order.Chunk) error {
	w.state = newState()
	return l.repeat(ctx, w, func() error {
		w.decided, w.state = w.state.carried(), newState() // what was decided before a deadlock stays decided
		if err := w.begin(ctx); err != nil {
			return err
		}
		err := w.chunk(ctx, c, w.regrow)
		if errors.Is(err, errCommitted) {
			return w.adoptChunk(ctx, w.at)
		}
		if err != nil {
			return err
		}
		if err := w.tx.Settle(ctx); err != nil {
			return l.refusal(nil, nil, err)
		}
		if err := w.tx.Commit(context.WithoutCancel(ctx)); err != nil {
			return l.refusal(nil, nil, err)
		}
		l.mu.Lock()
		l.result.Transactions++
		if l.o.Part.Number > 0 {
			l.journal.done[w.at] = true
		}
		if l.journal != nil {
			if l.journal.written == nil {
				l.journal.written = map[chunkKey]bool{}
			}
			l.journal.written[w.at] = true
		}
		l.mu.Unlock()
		w.tx = nil
		return w.flush()
	})
}
