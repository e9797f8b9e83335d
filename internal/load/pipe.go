package load

import (
	"sync"

	"evensprout/internal/grow"
	"evensprout/internal/order"
	"evensprout/internal/plan"
)

// sliceRows is how many rows are grown at a time: a bound on memory, not a chunk.
const sliceRows = 1000

// pipe grows runs of rows on several goroutines and gives the batches back in the
// order in which the runs were put. A few batches are on their way at a time, and
// they are used again, so memory does not grow with the number of rows.
type pipe struct {
	work    chan *job
	waiting []*job // in order
	free    []*job
	depth   int
	growers sync.WaitGroup
}

type job struct {
	run   order.Run
	batch grow.Batch
	ready chan error // of growing
}

func newPipe(s *grow.Set, jobs int) *pipe {
	p := &pipe{work: make(chan *job, 2*jobs), depth: 2*jobs + 1}
	for range jobs {
		p.growers.Add(1)
		go func() {
			defer p.growers.Done()
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

// put hands a run to the growers. If enough are on their way, it first waits for
// the oldest and gives it to take.
func (p *pipe) put(r order.Run, take func(*grow.Batch, *plan.Target) error) error {
	if len(p.waiting) == p.depth {
		if err := p.next(take); err != nil {
			return err
		}
	}
	var j *job
	if n := len(p.free); n > 0 {
		j, p.free = p.free[n-1], p.free[:n-1]
	} else {
		j = &job{ready: make(chan error, 1)}
	}
	j.run = r
	p.waiting = append(p.waiting, j)
	p.work <- j
	return nil
}

// next waits for the oldest batch.
func (p *pipe) next(take func(*grow.Batch, *plan.Target) error) error {
	j := p.waiting[0]
	p.waiting = p.waiting[:copy(p.waiting, p.waiting[1:])]
	err := <-j.ready
	p.free = append(p.free, j)
	if err != nil {
		return err
	}
	return take(&j.batch, j.run.Target)
}

// drain takes all batches that are still on their way.
func (p *pipe) drain(take func(*grow.Batch, *plan.Target) error) error {
	for len(p.waiting) > 0 {
		if err := p.next(take); err != nil {
			return err
		}
	}
	return nil
}

// stop ends the growers.
func (p *pipe) stop() {
	close(p.work)
	p.growers.Wait()
}
