package unit

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"maps"
	"slices"
	"sync"
	"time"

	"evensprout/internal/load"

	"evensprout/internal/diag"
	"evensprout/internal/journal"

	"evensprout/internal/grow"
	"evensprout/internal/plan"
	"evensprout/internal/schema"
	"evensprout/internal/store"
)

// Partial is an error of a unit, of which so many occasions were committed before.
type Partial struct {
	Err       error
	Unit      string
	Occasions int64
	Load      int64
}

func (p *Partial) Error() string { return p.Err.Error() }
func (p *Partial) Unwrap() error { return p.Err }

// unitRun is a run of a unit.
type unitRun struct {
	w      *load.Writer
	unit   *plan.CompiledUnit
	steps  []*unitStep
	result *journal.UnitResult
	salt   string        // tells a run that repeats what is done from the first one
	held   *journal.Held // the lock of the run; nil before it has begun
	ledger ledger        // which occasions are done; nil without a journal
	counts map[occasionName]uint32
	set    bool // many occasions can be done at once, see canDoManyAtOnce
	keys   [][]keyOfStep

	// Of the transaction.
	first   uint64 // its first occasion
	undo    journal.Undo
	touched []int64 // rows, by step
	done    int64
	earlier int64
	atonce  int64
	refused []*load.Rejection
	stopped []int64 // runs of the unit that stopped before, by number
}

// beginWait is how long another run of the plan is waited for that is just beginning.
const beginWait = 10 * time.Second

// pieceSize is how many occasions are done together at most, where that is possible.
const pieceSize = 1000

// Run does the occasions of a unit that are not done yet; o.Insist does them all. What
// stops it is rolled back up to the last commit, and the error tells why: a *Refusal, a
// *store.Fault, a *grow.RowError, or *Broken; a *Partial around it tells what was
// committed.
func Run(
	ctx context.Context,
	c *plan.Compiled,
	u *plan.CompiledUnit,
	s store.Store,
	o load.Options,
) (*journal.UnitResult, error) {
	l, err := load.NewSession(c, s, o)
	if err != nil {
		return nil, err
	}
	l.Repeats = unitRepeats
	before := s.Statements()
	r := &unitRun{w: &load.Writer{Session: l, Store: s}, unit: u, counts: map[occasionName]uint32{}}
	l.AllThere = r.allThere
	defer r.w.Close()
	defer func() {
		if r.held != nil {
			r.held.Release(ctx)
		}
	}()
	r.result = &journal.UnitResult{Unit: u.Plan.Name, Together: u.Plan.Together, DryRun: o.DryRun}
	l.Reset()
	if o.Journal != nil {
		err := journal.WhileLocked(ctx, max(o.Journal.Wait, beginWait), o.Patience.Waits, func() error {
			return r.openUnit(ctx, o.Insist)
		})
		if err != nil {
			return nil, err
		}
	}
	if err := r.prepareSteps(); err != nil {
		return nil, errors.Join(err, r.forgetUnit(ctx))
	}
	if err := load.RefuseLasting(r.written(), o.DryRun, l.Options.Commit); err != nil {
		return nil, errors.Join(err, r.forgetUnit(ctx))
	}
	r.result.Undo = r.w.Session.Undoes()
	err = r.run(ctx)
	if err == nil {
		err = r.conclude(ctx)
	}
	if err != nil {
		if ctx.Err() != nil {
			err = context.Cause(ctx)
		}
		p := &Partial{Err: err, Unit: u.Plan.Name}
		if r.result.Transactions > 0 && !o.DryRun {
			p.Occasions, p.Load = r.result.Done, r.result.Load
		} else if failed := r.forgetUnit(context.WithoutCancel(ctx)); failed != nil {
			p.Load = r.result.Load // its entry stays, and says nothing
		}
		return nil, p
	}
	l.Count(r.w.Store)
	r.result.Statements = since(before, l.Statements.Statements())
	for _, st := range r.result.Statements {
		r.result.Sent += st.Times
	}
	r.result.Repeated = l.Result.Repeated
	r.result.Elapsed = time.Since(l.Began)
	return r.result, nil
}

// written are the tables that steps write to.
func (r *unitRun) written() []*schema.Table {
	var out []*schema.Table
	for _, s := range r.steps {
		if s.Table != nil && s.Word != plan.StepFind {
			out = append(out, s.Table)
		}
	}
	return out
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
	tx, err := r.w.Store.Begin(ctx, store.TxOptions{
		Isolation: store.Isolation(r.unit.Plan.Isolation),
		Until:     r.w.Session.Options.Patience.Until,
	})
	r.w.Tx = tx
	return err
}

// run does all occasions.
func (r *unitRun) run(ctx context.Context) error {
	total := r.unit.Grow.Total()
	r.result.Occasions = int64(total)
	for _, s := range r.steps {
		r.result.Steps = append(r.result.Steps, journal.StepResult{
			Step: s.Label(), Table: s.tableName(), Loop: s.Word == plan.StepFor,
		})
	}
	size := r.unit.Plan.Together
	if size == 0 || r.w.Session.Options.DryRun {
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

// progressed reports occasions that are done.
func (r *unitRun) progressed(done, total uint64) {
	if r.w.Session.Options.Progress != nil {
		r.w.Session.Options.Progress(load.Progress{Done: done, Total: total})
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

// clears reports whether any step empties its table.
func (r *unitRun) clears() bool {
	return slices.ContainsFunc(r.steps, func(s *unitStep) bool { return s.Word == plan.StepClear })
}

// whole does a unit that begins by emptying tables: all its occasions are one, which is
// known by all that they hold.
func (r *unitRun) whole(ctx context.Context, total uint64) error {
	h := sha256.New()
	g := grow.NewGrower(r.w.Session.Plan.Set)
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
	return r.w.Session.Repeat(ctx, r.w, func() error {
		r.first, r.undo, r.refused, r.done, r.earlier, r.atonce = first, journal.Undo{}, nil, 0, 0, 0
		r.touched = make([]int64, len(r.steps))
		if err := r.begin(ctx); err != nil {
			return err
		}
		if r.ledger != nil {
			r.w.At, r.w.Seq = journal.Key{
				Load:   r.w.Session.Journal.Number,
				Family: journal.FamilyUnit,
				First:  int64(r.first),
			}, 0
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
	if err := r.w.Tx.Settle(ctx); err != nil {
		return r.w.Session.Refusal(nil, nil, err)
	}
	if r.unit.Plan.Together == 0 && r.done > 0 || r.w.Session.Options.DryRun {
		if err := r.w.Session.Always(ctx, r.w.Tx); err != nil {
			return err
		}
	}
	if r.w.Session.Options.DryRun {
		if err := r.w.Rollback(); err != nil {
			return err
		}
		return r.took()
	}

	if r.done == 0 { // nothing to commit
		if err := r.w.Rollback(); err != nil {
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
	if err := r.w.Tx.Commit(context.WithoutCancel(ctx)); err != nil {
		return r.w.Session.Refusal(nil, nil, err)
	}
	r.w.Tx = nil
	r.result.Transactions++
	if r.ledger != nil {
		r.ledger.committed()
	}
	return r.took()
}

// keepUndo writes down how to take back what was done since it was last called.
func (r *unitRun) keepUndo(ctx context.Context) error {
	if !r.w.Session.Undoes() {
		return nil
	}
	packets, err := r.undo.Pack()
	if err == nil {
		err = r.w.KeepPackets(ctx, r.unit.Plan.Name, "", journal.ContentUnit, packets)
	}
	r.undo = journal.Undo{}
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
		if len(r.result.Rejections) < load.MaxTold {
			r.result.Rejections = append(r.result.Rejections, x.Refusal)
		}
		if r.w.Session.Options.Rejected != nil {
			if err := r.w.Session.Options.Rejected(*x); err != nil {
				return err
			}
		}
	}
	return nil
}

// Outcome counts the occasions that are committed.
func (p *Partial) Outcome() (string, map[string]any) {
	members := map[string]any{"unit": p.Unit}
	if p.Occasions == 0 {
		return fmt.Sprintf("The unit %s was rolled back.", p.Unit), members
	}
	text := fmt.Sprintf(
		"The open transaction was rolled back; of %s, %s.",
		p.Unit,
		diag.Count(p.Occasions, "occasion is committed", "occasions are committed"),
	)
	members["committed"] = map[string]any{"occasions": p.Occasions}
	if p.Load > 0 {
		members["load"] = p.Load
		text += fmt.Sprintf(
			"\nThe same command does the others; evensprout withdraw %d undoes these.",
			p.Load,
		)
	}
	return text, members
}
