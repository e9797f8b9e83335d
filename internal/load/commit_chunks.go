package load

import (
	"context"
	"errors"
	"sync"

	"evensprout/internal/grow"
	"evensprout/internal/order"
	"evensprout/internal/plan"
)

// inMany commits each chunk, with several connections where that is possible.
func (l *loader) inMany(ctx context.Context, w *writer) error {
	resumed := l.journal != nil && l.journal.number > 0
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
			return w.commit(ctx)
		})
		if err != nil {
			return err
		}
	}
	for _, f := range l.order.Families {
		if err := l.family(ctx, w, f); err != nil {
			return errors.Join(err, l.forget(context.WithoutCancel(ctx), w))
		}
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
		if err := l.conclude(ctx, w); err != nil {
			return err
		}
		return w.commit(ctx)
	})
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
		l.mu.Unlock()
		w.tx = nil
		return w.flush()
	})
}
