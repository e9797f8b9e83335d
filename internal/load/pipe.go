package load

import (
	"context"
	"iter"
	"sync"

	"evensprout/internal/grow"
	"evensprout/internal/order"
)

// sliceRows is how many rows are grown at a time: a bound on memory, not a chunk.
const sliceRows = 1000

// source gives the rows of a run, in order.
type source func(run order.Run) iter.Seq[*grow.Batch]

// cut cuts a run into slices.
func cut(run order.Run) iter.Seq[order.Run] {
	return func(yield func(order.Run) bool) {
		for at := uint64(0); at < run.Rows; at += sliceRows {
			part := order.Run{Target: run.Target, First: run.First, Rows: min(sliceRows, run.Rows-at)}
			part.First.N += at
			if !yield(part) {
				return
			}
		}
	}
}

// pipe grows the rows of chunks on several goroutines while others are written. A few
// batches are on their way at a time, and they are used again, so memory does not grow
// with the number of rows.
type pipe struct {
	chunks  chan order.Chunk
	ordered chan *job // in the order of the chunks' rows
	work    chan *job
	free    chan *job
	all     sync.WaitGroup
	stop    context.CancelFunc
}

// lookAhead is how many chunks may be begun before they are written.
const lookAhead = 64

type job struct {
	run   order.Run
	batch grow.Batch
	ready chan error // of growing
}

func newPipe(ctx context.Context, s *grow.Set, jobs int, chunks iter.Seq[order.Chunk]) *pipe {
	depth := 2*jobs + 1
	p := &pipe{chunks: make(chan order.Chunk, lookAhead), ordered: make(chan *job, depth), work: make(chan *job, depth), free: make(chan *job, depth)}
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
				for part := range cut(run) {
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
				g.Grow(j.run.Target.Grow, j.run.First, int(j.run.Rows), &j.batch)
				j.ready <- g.Err()
			}
		}()
	}
	return p
}

// rows gives the batches of the next run, all of them, also if the caller stops
// earlier. failed is told an error of growing.
func (p *pipe) rows(ctx context.Context, run order.Run, failed func(error)) iter.Seq[*grow.Batch] {
	return func(yield func(*grow.Batch) bool) {
		going := true
		for range cut(run) {
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
			if going {
				going = yield(&j.batch)
			}
			p.free <- j
		}
	}
}

// end stops the goroutines and waits for them.
func (p *pipe) end() {
	p.stop()
	for range p.ordered { // what is on its way
	}
	p.all.Wait()
}
