package load

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"maps"
	"slices"
	"sync"
	"time"

	"evensprout/internal/grow"
	"evensprout/internal/plan"
	"evensprout/internal/store"
)

// UnitResult is what a run of a unit did.
type UnitResult struct {
	Unit         string        `json:"unit"`
	Load         int64         `json:"load,omitempty"` // its number in the journal; 0 if it is not there
	Occasions    int64         `json:"occasions"`      // all that there are
	Done         int64         `json:"done"`           // by this run
	Earlier      int64         `json:"earlier"`        // by earlier runs, or by others at the same time
	Rejected     int64         `json:"rejected"`
	Together     uint64        `json:"together"` // occasions in one transaction; 0: all
	Transactions int           `json:"transactions"`
	Repeated     int           `json:"repeated"`
	AtOnce       int64         `json:"at_once"` // occasions that were done many at a time
	DryRun       bool          `json:"dry_run"`
	Undo         bool          `json:"undo"` // it can be withdrawn
	Steps        []StepResult  `json:"steps"`
	Elapsed      time.Duration `json:"elapsed_ns"`

	Statements []store.Statement `json:"statements,omitempty"`
	Sent       int64             `json:"statements_sent"`
	Rejections []*Refusal        `json:"rejections,omitempty"` // the first of them
}

// StepResult is what a step did over all occasions.
type StepResult struct {
	Step  string `json:"step"` // such as update Sailing
	Table string `json:"table,omitempty"`
	Rows  int64  `json:"rows"` // found, added, changed or removed
}

// UnitPartial is an error of a unit, of which so many occasions were committed before.
type UnitPartial struct {
	Err       error
	Unit      string
	Occasions int64
	Load      int64
}

func (p *UnitPartial) Error() string { return p.Err.Error() }
func (p *UnitPartial) Unwrap() error { return p.Err }

// unitRun is a run of a unit.
type unitRun struct {
	*writer
	unit   *plan.CompiledUnit
	steps  []*unitStep
	result *UnitResult
	salt   string // tells a run that repeats what is done from the first one
	ledger ledger // which occasions are done; nil without a journal
	counts map[occasionName]uint32
	set    bool // many occasions can be done at once, see canDoManyAtOnce
	keys   [][]keyOfStep

	// Of the transaction.
	first   uint64 // its first occasion
	undo    undoLog
	touched []int64 // rows, by step
	done    int64
	earlier int64
	atonce  int64
	refused []*Rejection
	stopped []int64 // runs of the unit that stopped before, by number
}

// pieceSize is how many occasions are done together at most, where that is possible.
const pieceSize = 1000

// RunUnit does the occasions of a unit that are not done yet; insist does them all. What
// stops it is rolled back up to the last commit, and the error tells why: a *Refusal, a
// *store.Fault, a *grow.RowError, or *Broken; a *UnitPartial around it tells what was
// committed.
func RunUnit(ctx context.Context, c *plan.Compiled, u *plan.CompiledUnit, s store.Store, o Options, insist bool) (*UnitResult, error) {
	l, err := newLoader(c, s, o)
	if err != nil {
		return nil, err
	}
	l.repeats = unitRepeats
	before := s.Statements()
	r := &unitRun{writer: &writer{loader: l, store: s}, unit: u, counts: map[occasionName]uint32{}}
	defer r.close()
	defer func() {
		if r.journal != nil && r.journal.number > 0 {
			unlockPlan(ctx, r.store, runName(c.Plan.Name, r.journal.number))
		}
	}()
	r.result = &UnitResult{Unit: u.Plan.Name, Together: u.Plan.Together, DryRun: o.DryRun}
	l.reset()
	if o.Journal != nil {
		if err := r.openUnit(ctx, insist); err != nil {
			return nil, err
		}
	}
	if err := r.prepareSteps(); err != nil {
		return nil, errors.Join(err, r.forgetUnit(ctx))
	}
	r.result.Undo = r.undoes()
	err = r.run(ctx)
	if err == nil {
		err = r.conclude(ctx)
	}
	if err != nil {
		if ctx.Err() != nil {
			err = context.Cause(ctx)
		}
		p := &UnitPartial{Err: err, Unit: u.Plan.Name}
		if r.result.Transactions > 0 && !o.DryRun {
			p.Occasions, p.Load = r.result.Done, r.result.Load
		} else if failed := r.forgetUnit(context.WithoutCancel(ctx)); failed != nil {
			p.Load = r.result.Load // its entry stays, and says nothing
		}
		return nil, p
	}
	l.count(r.store)
	r.result.Statements = since(before, l.statements.Statements())
	for _, st := range r.result.Statements {
		r.result.Sent += st.Times
	}
	r.result.Repeated = l.result.Repeated
	r.result.Elapsed = time.Since(l.began)
	return r.result, nil
}

// since are the statements that ran after some were counted.
func since(before, after []store.Statement) []store.Statement {
	was := map[string]store.Statement{}
	for _, s := range before {
		was[s.Text] = s
	}
	var out []store.Statement
	for _, s := range after {
		b := was[s.Text]
		s.Times, s.Rows, s.Elapsed = s.Times-b.Times, s.Rows-b.Rows, s.Elapsed-b.Elapsed
		if s.Times > 0 {
			out = append(out, s)
		}
	}
	return out
}

// unitRepeats bounds how often a transaction of a unit is begun again: units are often
// run beside each other, over the same rows.
const unitRepeats = 50

// begin opens a transaction of the unit.
func (r *unitRun) begin(ctx context.Context) error {
	tx, err := r.store.Begin(ctx, store.TxOptions{Isolation: store.Isolation(r.unit.Plan.Isolation)})
	r.tx = tx
	return err
}

// run does all occasions.
func (r *unitRun) run(ctx context.Context) error {
	total := r.unit.Grow.Total()
	r.result.Occasions = int64(total)
	for _, s := range r.steps {
		r.result.Steps = append(r.result.Steps, StepResult{Step: s.Label(), Table: s.tableName()})
	}
	size := r.unit.Plan.Together
	if size == 0 || r.o.DryRun {
		size = max(total, 1)
	}
	if r.clears() {
		return r.whole(ctx, total)
	}
	if size <= pieceSize {
		return r.small(ctx, total, size)
	}
	for first := uint64(0); first < total; first += size {
		if err := r.large(ctx, first, min(size, total-first)); err != nil {
			return err
		}
		r.progressed(min(first+size, total), total)
	}
	return nil
}

func (r *unitRun) progressed(done, total uint64) {
	if r.o.Progress != nil {
		r.o.Progress(done, total)
	}
}

// small does transactions whose occasions stand in memory. The next ones are grown while
// those before are written.
func (r *unitRun) small(ctx context.Context, total, size uint64) error {
	type grown struct {
		xs  []*occasion
		err error
	}
	ahead := make(chan grown, 1)
	ctx, stop := context.WithCancel(ctx)
	var growing sync.WaitGroup
	defer growing.Wait() // the file is closed once nobody reads it
	defer stop()
	growing.Go(func() {
		defer close(ahead)
		block := max(size, pieceSize/size*size)
		for first := uint64(0); first < total; first += block {
			xs, err := r.occasions(first, min(block, total-first))
			select {
			case ahead <- grown{xs, err}:
			case <-ctx.Done():
				return
			}
			if err != nil {
				return
			}
		}
	})
	first := uint64(0)
	for g := range ahead {
		if g.err != nil {
			return g.err
		}
		for xs := range slices.Chunk(g.xs, int(size)) {
			if err := r.attempt(ctx, first, func() error { return r.fenced(ctx, xs) }); err != nil {
				return err
			}
			first += uint64(len(xs))
			r.progressed(first, total)
		}
	}
	return ctx.Err()
}

func (r *unitRun) clears() bool {
	return slices.ContainsFunc(r.steps, func(s *unitStep) bool { return s.Word == plan.StepClear })
}

// whole does a unit that begins by emptying tables: all its occasions are one, which is
// known by all that they hold.
func (r *unitRun) whole(ctx context.Context, total uint64) error {
	h := sha256.New()
	g := grow.NewGrower(r.plan.Set)
	defer g.Close()
	var b []byte
	for n := range total {
		b, _ = g.AppendIdentity(b[:0], r.unit.Grow, r.rowAt(n))
		fmt.Fprintf(h, "%d ", len(b))
		h.Write(b)
	}
	if err := g.Err(); err != nil {
		return err
	}
	r.counts = map[occasionName]uint32{}
	name := r.named(h.Sum(nil), 0)
	return r.attempt(ctx, 0, func() error {
		fresh, err := r.fresh(ctx, []occasionName{name})
		if err != nil {
			return err
		}
		if len(fresh) == 0 {
			r.earlier += int64(total)
			return nil
		}
		for i, s := range r.steps {
			if s.Word == plan.StepClear {
				if err := r.clearTable(ctx, i); err != nil {
					return err
				}
			}
		}
		for from := uint64(0); from < total; from += pieceSize {
			piece, err := r.occasions(from, min(pieceSize, total-from))
			if err == nil {
				err = r.piece(ctx, piece)
			}
			if err == nil {
				err = r.keepUndo(ctx)
			}
			if err != nil {
				return err
			}
		}
		return nil
	})
}

// large does occasions in one transaction, which are too many to stand in memory.
func (r *unitRun) large(ctx context.Context, first, n uint64) error {
	counts := r.counts
	return r.attempt(ctx, first, func() error {
		r.counts = maps.Clone(counts) // a second attempt must not count equal lines again
		for from := first; from < first+n; from += pieceSize {
			piece, err := r.occasions(from, min(pieceSize, first+n-from))
			if err == nil {
				err = r.fenced(ctx, piece)
			}
			if err == nil {
				err = r.keepUndo(ctx) // memory does not grow with the transaction
			}
			if err != nil {
				return err
			}
		}
		return nil
	})
}

// fenced does the occasions of a piece that are not done yet.
func (r *unitRun) fenced(ctx context.Context, piece []*occasion) error {
	names := make([]occasionName, len(piece))
	for i, x := range piece {
		names[i] = x.name
		clear(x.known)
	}
	fresh, err := r.fresh(ctx, names)
	if err != nil {
		return err
	}
	r.earlier += int64(len(piece) - len(fresh))
	todo := make([]*occasion, len(fresh))
	for i, at := range fresh {
		todo[i] = piece[at]
	}
	if len(todo) == 0 {
		return nil
	}
	return r.piece(ctx, todo)
}

// attempt does something in a transaction, again after a transient fault.
func (r *unitRun) attempt(ctx context.Context, first uint64, do func() error) error {
	return r.repeat(ctx, r.writer, func() error {
		r.first, r.undo, r.refused, r.done, r.earlier, r.atonce = first, undoLog{}, nil, 0, 0, 0
		r.touched = make([]int64, len(r.steps))
		if err := r.begin(ctx); err != nil {
			return err
		}
		if r.ledger != nil {
			r.at, r.seq = chunkKey{load: r.journal.number, family: familyUnit, first: int64(r.first)}, 0
			if err := r.ledger.begin(ctx); err != nil {
				return err
			}
		}
		if err := do(); err != nil {
			return err
		}
		return r.finishUnit(ctx)
	})
}

// finishUnit writes down how to take the transaction back, and commits it.
func (r *unitRun) finishUnit(ctx context.Context) error {
	if err := r.tx.Settle(ctx); err != nil {
		return r.refusal(nil, nil, err)
	}
	if r.unit.Plan.Together == 0 || r.o.DryRun {
		if err := r.always(ctx, r.tx); err != nil {
			return err
		}
	}
	if r.o.DryRun {
		if err := r.rollback(); err != nil {
			return err
		}
		return r.took()
	}
	if r.done == 0 { // nothing to commit
		if err := r.rollback(); err != nil {
			return err
		}
		return r.took()
	}
	if r.ledger != nil {
		if err := r.ledger.end(ctx); err != nil {
			return err
		}
	}
	if err := r.keepUndo(ctx); err != nil {
		return err
	}
	if err := ctx.Err(); err != nil {
		return err
	}
	if err := r.tx.Commit(context.WithoutCancel(ctx)); err != nil {
		return r.refusal(nil, nil, err)
	}
	r.tx = nil
	r.result.Transactions++
	if r.ledger != nil {
		r.ledger.committed()
	}
	return r.took()
}

// keepUndo writes down how to take back what was done since it was last called.
func (r *unitRun) keepUndo(ctx context.Context) error {
	if !r.undoes() {
		return nil
	}
	packets, err := r.undo.pack()
	if err == nil {
		err = r.keepPackets(ctx, r.unit.Plan.Name, "", contentUnit, packets)
	}
	r.undo = undoLog{}
	return err
}

// took counts what the transaction did, once it cannot be taken back, and hands out
// what was rejected.
func (r *unitRun) took() error {
	for i, n := range r.touched {
		r.result.Steps[i].Rows += n
	}
	r.result.Done += r.done
	r.result.Earlier += r.earlier
	r.result.AtOnce += r.atonce
	for _, x := range r.refused {
		r.result.Rejected++
		if len(r.result.Rejections) < maxTold {
			r.result.Rejections = append(r.result.Rejections, x.Refusal)
		}
		if r.o.Rejected != nil {
			if err := r.o.Rejected(*x); err != nil {
				return err
			}
		}
	}
	return nil
}
