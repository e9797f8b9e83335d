package order

import (
	"context"
	"iter"
	"sync"

	"evensprout/internal/grow"
)

// SliceRows is how many rows are grown at a time: a bound on memory, not a chunk.
const SliceRows = 1000

// Slices cuts a run into pieces of at most SliceRows rows.
func (run Run) Slices() iter.Seq[Run] {
	return func(yield func(Run) bool) {
		for at := uint64(0); at < run.Rows; at += SliceRows {
			part := Run{Target: run.Target, First: run.First, Rows: min(SliceRows, run.Rows-at)}
			part.First.N += at
			if !yield(part) {
				return
			}
		}
	}
}

// Pipe grows the rows of chunks on several goroutines while others are written. A few
// batches are on their way at a time, and they are used again, so memory does not grow
// with the number of rows.
type Pipe struct {
	chunks  chan Chunk
	ordered chan *job // in the order of the chunks' rows
	work    chan *job
	free    chan *job
	all     sync.WaitGroup
	stop    context.CancelFunc

	set   *grow.Set
	rest  *grow.Grower // of rows that are too large to be grown with others
	large sync.Map     // entities that have such rows: these are grown when they are asked for
}

// lookAhead is how many chunks may be begun before they are written.
const lookAhead = 64

// job is a chunk that is grown while others are written.
type job struct {
	run   Run
	batch grow.Batch
	ready chan error // of growing
}

// NewPipe begins to grow the rows of chunks by so many workers. End it.
func NewPipe(ctx context.Context, s *grow.Set, jobs int, chunks iter.Seq[Chunk]) *Pipe {
	depth := 2*jobs + 1
	p := &Pipe{
		chunks:  make(chan Chunk, lookAhead),
		ordered: make(chan *job, depth),
		work:    make(chan *job, depth),
		free:    make(chan *job, depth),
		set:     s,
	}
	for range depth {
		p.free <- &job{ready: make(chan error, 1)}
	}
	ctx, p.stop = context.WithCancel(ctx)
	p.all.Add(1 + jobs)
	go func() {
		defer p.all.Done()
		defer close(p.work)
		defer close(p.ordered)
		defer close(p.chunks)
		for c := range chunks {
			select {
			case p.chunks <- c:
			case <-ctx.Done():
				return
			}
			for _, run := range c {
				for part := range run.Slices() {
					select {
					case j := <-p.free:
						j.run = part
						p.ordered <- j // there is room for all jobs
						p.work <- j
					case <-ctx.Done():
						return
					}
				}
			}
		}
	}()
	for range jobs {
		go func() {
			defer p.all.Done()
			g := grow.NewGrower(s)
			defer g.Close()
			for j := range p.work {
				if _, large := p.large.Load(j.run.Target.Grow); large {
					j.batch.Len = 0
					j.ready <- nil
					continue
				}
				g.GrowSome(j.run.Target.Grow, j.run.First, int(j.run.Rows), &j.batch)
				if uint64(j.batch.Len) < j.run.Rows {
					p.large.Store(j.run.Target.Grow, true)
				}
				j.ready <- g.Err()
			}
		}()
	}
	return p
}

// Chunks are the chunks, in order; of each, ask for the rows of all its runs.
func (p *Pipe) Chunks() <-chan Chunk { return p.chunks }

// Rows gives the batches of the next run, all of them, also if the caller stops
// earlier. failed is told an error of growing.
func (p *Pipe) Rows(ctx context.Context, run Run, failed func(error)) iter.Seq[*grow.Batch] {
	return func(yield func(*grow.Batch) bool) {
		going := true
		for range run.Slices() {
			var j *job
			select {
			case j = <-p.ordered:
			case <-ctx.Done():
			}
			if j == nil {
				failed(context.Cause(ctx))
				return
			}
			if err := <-j.ready; err != nil {
				failed(err)
				going = false
			}
			if going && j.batch.Len > 0 {
				going = yield(&j.batch)
			}
			for rest := j.run.after(&j.batch); going && rest.Rows > 0; rest = rest.after(&j.batch) { // large rows
				if p.rest == nil {
					p.rest = grow.NewGrower(p.set)
				}
				p.rest.GrowSome(rest.Target.Grow, rest.First, int(rest.Rows), &j.batch)
				if err := p.rest.Err(); err != nil {
					failed(err)
					going = false
					break
				}
				going = yield(&j.batch)
			}
			p.free <- j
		}
	}
}

// Grown grows the rows of the run, a batch at a time: at most SliceRows rows, and fewer where they are large. The batch
// is used again.
func (run Run) Grown(g *grow.Grower, b *grow.Batch) iter.Seq2[*grow.Batch, error] {
	return func(yield func(*grow.Batch, error) bool) {
		for rest := run; rest.Rows > 0; rest = rest.after(b) {
			g.GrowSome(rest.Target.Grow, rest.First, int(min(SliceRows, rest.Rows)), b)
			if err := g.Err(); err != nil {
				yield(nil, err)
				return
			}
			if !yield(b, nil) {
				return
			}
		}
	}
}

// after is what is left of a run behind a batch of it.
func (run Run) after(b *grow.Batch) Run {
	n := uint64(b.Len)
	run.First.N, run.Rows = run.First.N+n, run.Rows-n
	return run
}

// End stops the goroutines and waits for them.
func (p *Pipe) End() {
	p.stop()
	for range p.ordered { // what is on its way
	}
	p.all.Wait()
	if p.rest != nil {
		p.rest.Close()
	}
}
