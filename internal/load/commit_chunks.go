package load

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"sync"
	"sync/atomic"

	"evensprout/internal/journal"

	"evensprout/internal/grow"
	"evensprout/internal/order"
	"evensprout/internal/plan"
	"evensprout/internal/store"
)

// inMany commits each chunk, with several connections where that is possible.
func (l *Session) inMany(ctx context.Context, w *Writer) error {
	resumed := l.Journal != nil && l.Journal.Number > 0
	if !resumed {
		if err := l.StepOver(ctx, w.Store); err != nil {
			return err
		}
	}
	err := l.Repeat(ctx, w, func() error {
		l.Reset()
		w.state = newState()
		if err := w.Begin(ctx); err != nil {
			return err
		}
		if err := l.Before(ctx, w.Store, w.Tx); err != nil {
			return err
		}
		return w.Rollback()
	})
	if err != nil {
		return err
	}
	if err := l.Reserve(ctx, w); err != nil {
		return err
	}
	switch {
	case l.Journal == nil:
	case resumed:
		err = l.adoptChunks(ctx, w)
	default:
		err = l.Repeat(ctx, w, func() error { return l.begin(ctx, w) })
	}
	if err != nil {
		return err
	}
	return l.againIfLost(ctx, w)
}

// allChunks commits all chunks, and that the load, or its part, is done.
func (l *Session) allChunks(ctx context.Context, w *Writer) error {
	if err := l.families(ctx, w); err != nil {
		if errors.Is(err, ErrLost) {
			return err
		}
		return errors.Join(err, l.forget(context.WithoutCancel(ctx), w))
	}
	if l.Options.Part.Number > 0 {
		if whole, err := l.endPart(ctx, w); err != nil || !whole {
			return err
		}
	}
	return l.Repeat(ctx, w, func() error { return l.end(ctx, w) })
}

// begin commits the journal's entry, before the first chunk.
func (l *Session) begin(ctx context.Context, w *Writer) error {
	if err := w.Begin(ctx); err != nil {
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
	return w.Commit(ctx)
}

// end commits what belongs after the last chunk: sequences, invariants, and that the load
// is done.
func (l *Session) end(ctx context.Context, w *Writer) error {
	if err := w.Begin(ctx); err != nil {
		return err
	}
	if err := l.after(ctx, w); err != nil {
		return err
	}
	if err := l.Always(ctx, w.Tx); err != nil {
		return err
	}
	if l.Journal == nil {
		return w.Rollback()
	}
	if err := l.readBack(ctx, w); err != nil {
		return err
	}
	if err := l.conclude(ctx, w); err != nil {
		return err
	}
	return w.Commit(ctx)
}

// families commits the chunks of all families.
func (l *Session) families(ctx context.Context, w *Writer) error {
	for _, f := range l.Order.Families {
		if err := l.family(ctx, w, f); err != nil {
			return err
		}
	}
	return l.Repeat(ctx, w, func() error { return l.allThere(ctx, w.Store) })
}

// againIfLost commits all chunks, and those again that were lost.
func (l *Session) againIfLost(ctx context.Context, w *Writer) error {
	if l.Journal != nil {
		l.Journal.begun = true
	}
	for lost := 0; ; lost++ {
		err := l.allChunks(ctx, w)
		if !errors.Is(err, ErrLost) || lost == MaxRepeats {
			return err
		}
		l.mu.Lock()
		l.Journal.written, l.Journal.done = nil, nil // or the next connection would be found wanting again
		l.mu.Unlock()
		if err := l.Repeat(ctx, w, func() error { return l.recount(ctx, w) }); errors.Is(err, ErrLost) {
			return l.lost() // no chunks are known, so it is the load that is not there
		} else if err != nil {
			return err
		}
	}
}

// ErrLost tells that chunks are gone that were committed: a server answers to which they
// never came, such as a standby that has taken over.
var ErrLost = errors.New("committed chunks are gone: another server answers, which does not have them")

// allThere compares what this process has committed, and what it knows that other parts have, with the journal: rows
// may refer to theirs.
func (l *Session) allThere(ctx context.Context, s store.Store) error {
	if l.Journal == nil || !l.Journal.begun {
		return nil
	}
	var none *journal.NoEntry
	if _, err := l.Read.On(s).Entry(ctx, l.Journal.Number); errors.As(err, &none) {
		return ErrLost
	} else if err != nil {
		return err
	}
	written := map[journal.Key]bool{}
	l.mu.Lock()
	maps.Copy(written, l.Journal.written)
	maps.Copy(written, l.Journal.done)
	l.mu.Unlock()
	chunks, err := l.Read.On(s).Chunks(ctx, l.Journal.Number)
	if err != nil {
		return err
	}
	for _, c := range chunks {
		if c.State == journal.StateDone {
			delete(written, c.Key)
		}
	}
	if len(written) > 0 {
		return ErrLost
	}
	return nil
}

// lost reports that the load itself is gone, and with it all that it had committed.
func (l *Session) lost() error {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.Result.Chunks, l.Result.Transactions = 0, 0
	return &store.Fault{
		Kind:    store.Missing,
		Message: fmt.Sprintf("load %d is gone: the server that answers now never had it", l.Journal.Number),
		Hint:    "run the same command again: nothing of that load is there",
	}
}

// recount takes over what the journal has of this load, and nothing else.
func (l *Session) recount(ctx context.Context, w *Writer) error {
	if _, err := l.Read.On(w.Store).Entry(ctx, l.Journal.Number); err != nil {
		var none *journal.NoEntry
		if errors.As(err, &none) {
			err = l.lost()
		}
		return err
	}
	chunks, err := l.Read.On(w.Store).Chunks(ctx, l.Journal.Number)
	if err != nil {
		return err
	}
	l.mu.Lock()
	l.done, l.doneOf, l.rejected, l.rejects, l.unmatched = 0, nil, 0, nil, nil
	l.Result.Chunks, l.Result.Transactions, l.Result.Redrawn = 0, 0, 0
	for _, t := range l.List {
		before := t.Out
		t.Out = journal.Entity{
			Entity:  before.Entity,
			Table:   before.Table,
			Mode:    before.Mode,
			Before:  before.Before,
			Skipped: before.Skipped,
			Loaded:  before.Loaded,
		}
	}

	l.Journal.done, l.Journal.written = map[journal.Key]bool{}, map[journal.Key]bool{}
	l.mu.Unlock()
	for _, c := range chunks {
		if c.Key.Family < 0 || c.State != journal.StateDone {
			continue
		}
		if err := w.counted(c); err != nil {
			return err
		}
		l.Journal.written[c.Key] = true
		for _, x := range c.Log.Rejected {
			l.rejected++
			if len(l.rejects) < MaxTold {
				l.rejects = append(l.rejects, x.Refusal)
			}
		}
	}
	return nil
}

// family commits the chunks of one family.
func (l *Session) family(ctx context.Context, w *Writer, f order.Family) error {
	for i, part := range l.partsOf(f) {
		if i > 0 && l.Options.Part.Number > 0 {
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

// inOrder reports whether a family has rows that refer to others of their own entity.
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
func (l *Session) familyPart(ctx context.Context, w *Writer, f order.Family, part order.Part) error {
	connections := min(l.Options.Jobs, l.Traits.Writers)
	if l.Options.Again == nil {
		connections = 1
	}
	if inOrder(f) {
		connections = 1
	}
	g := grow.NewGrower(l.Plan.Set)
	defer g.Close()
	chunks := make(chan order.Chunk)
	ctx, stop := context.WithCancelCause(ctx)
	defer stop(nil)
	var all sync.WaitGroup
	work := func(w *Writer) {
		defer all.Done()
		defer w.Close()
		for c := range chunks {
			if err := l.commitChunk(ctx, w, c); err != nil {
				stop(err)
				return
			}
		}
	}
	all.Add(connections)
	go work(w.shared())
	// The others join when the server, or a pool in front of it, has a connection free. One that has none when all
	// chunks are given out is not needed any more.
	opening, enough := context.WithCancel(ctx)
	defer enough()
	var missing atomic.Int64
	for range connections - 1 {
		go func() {
			s, err := l.connectToSame(opening)
			if err == nil {
				work(&Writer{Session: l, Store: s, own: true})
				return
			}
			switch {
			case opening.Err() != nil:
			case isUnreachable(err):
				missing.Add(1)
			default:
				stop(err)
			}
			all.Done()
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
	enough()
	all.Wait()
	l.mu.Lock()
	l.Result.Unconnected = max(l.Result.Unconnected, int(missing.Load()))
	l.mu.Unlock()
	return context.Cause(ctx)
}

// connectToSame opens another connection, to a server that has what is committed: another one may have taken over.
// A server that is about to go may break it at once; then it is opened again.
func (l *Session) connectToSame(ctx context.Context) (store.Store, error) {
	pause := cmp.Or(l.Options.Pause, firstPause)
	for n := 0; ; n++ {
		s, err := l.Options.Again(ctx)
		if err != nil {
			return nil, err
		}
		if err = l.allThere(ctx, s); err == nil {
			return s, nil
		}
		err = errors.Join(err, s.Close())
		var fault *store.Fault
		if !errors.As(err, &fault) || fault.Kind != store.Lost || n >= maxReconnects {
			return nil, err
		}
		if err := wait(ctx, pause); err != nil {
			return nil, err
		}
		pause = min(2*pause, longestPause)
	}
}

// isUnreachable reports whether a connection could not be opened, because the server has none free or is not there.
func isUnreachable(err error) bool {
	var fault *store.Fault
	return errors.As(err, &fault) && fault.Kind == store.Unreachable
}

// isDone reports whether a chunk is committed, as far as is known here.
func (l *Session) isDone(c order.Chunk) bool {
	if l.Journal == nil {
		return false
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.Journal.done[l.keyOf(c)]
}

// mostCommitted is the upper bound of rows that are committed together.
func (l *Session) mostCommitted(f order.Family) uint64 {
	if l.Options.Commit == plan.CommitFamily {
		return 1
	}
	return l.most(f)
}

// commitChunk writes a chunk in a transaction of its own.
func (l *Session) commitChunk(ctx context.Context, w *Writer, c order.Chunk) error {
	w.state = newState()
	return l.Repeat(ctx, w, func() error {
		w.decided, w.state = w.state.carried(), newState() // what was decided before a deadlock stays decided
		if err := w.Begin(ctx); err != nil {
			return err
		}
		err := w.chunk(ctx, c, w.regrow)
		if errors.Is(err, errCommitted) {
			return w.adoptChunk(ctx, w.At)
		}
		if err != nil {
			return err
		}
		if err := w.Tx.Settle(ctx); err != nil {
			return l.Refusal(nil, nil, err)
		}
		if err := w.Tx.Commit(context.WithoutCancel(ctx)); err != nil {
			return l.Refusal(nil, nil, err)
		}
		l.mu.Lock()
		l.Result.Transactions++
		if l.Options.Part.Number > 0 {
			l.Journal.done[w.At] = true
		}
		if l.Journal != nil {
			if l.Journal.written == nil {
				l.Journal.written = map[journal.Key]bool{}
			}
			l.Journal.written[w.At] = true
		}
		l.mu.Unlock()
		w.Tx = nil
		return w.flush()
	})
}
