package load

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"evensprout/internal/plan"
	"evensprout/internal/schema"
	"evensprout/internal/store"
)

// Stays tells that rows of earlier loads would stay, so that nothing was done.
type Stays struct{ Withdrawal *Withdrawal }

func (e *Stays) Error() string {
	return fmt.Sprintf("%s of load %d cannot be taken back", countRows(e.Withdrawal.Left), e.Withdrawal.Load)
}

// Anew takes back what earlier loads of a plan, and runs of its units, have done, and loads
// the plan as it is now, all in one transaction. Rows that would be left behind stop it
// before anything is done: a *Stays.
func Anew(ctx context.Context, c *plan.Compiled, s store.Store, o Options, w WithdrawOptions) (taken []*Withdrawal, r *Result, err error) {
	o.Commit, o.Again, w.Again = plan.CommitLoad, nil, nil
	w.Commit, w.Wait, w.DryRun = plan.CommitLoad, 0, false
	l, err := newLoader(c, s, o)
	if err != nil {
		return nil, nil, err
	}
	for _, t := range l.list {
		for _, f := range t.Grow.Fields {
			if _, ok := f.File(); ok {
				return nil, nil, &store.Fault{Kind: store.Refused, Message: fmt.Sprintf("%s.%s makes files, which are put into place and removed outside the transaction", t.Plan.Name, f.Name), Hint: "evensprout withdraw, then load"}
			}
		}
	}
	// Outside the transaction: where tables are made, or counters moved, some engines commit.
	if _, err := s.Journal(ctx, !o.DryRun); err != nil {
		return nil, nil, noJournal(err)
	}
	if err := patient(ctx, o.Journal.Wait, func() error { return lockPlan(ctx, s, c.Plan.Name) }); err != nil {
		return nil, nil, err
	}
	defer unlockPlan(ctx, s, c.Plan.Name)
	entries, err := anewEntries(ctx, s, c.Plan.Name)
	if err != nil {
		return nil, nil, err
	}
	outer := &writer{loader: l, store: s}
	if err := l.reserve(ctx, outer); err != nil {
		return nil, nil, err
	}
	if err := outer.begin(ctx); err != nil {
		return nil, nil, err
	}
	defer outer.rollback()
	inside := &inside{Store: s, tx: outer.tx}
	for _, e := range entries {
		v, err := Withdraw(ctx, inside, e.Number, w)
		if err != nil {
			return nil, nil, err
		}
		if v.Left > 0 {
			return nil, nil, &Stays{v}
		}
		taken = append(taken, v)
	}
	if r, err = Run(ctx, c, inside, o); err != nil {
		return nil, nil, err
	}
	if o.DryRun {
		return taken, r, outer.rollback()
	}
	if err := ctx.Err(); err != nil {
		return nil, nil, context.Cause(ctx)
	}
	if err := outer.commit(ctx); err != nil {
		return nil, nil, err
	}
	for _, x := range r.Stepped { // keys that were not reserved before
		t := l.named(x.Entity)
		if t.key.Identity == schema.NoIdentity {
			continue
		}
		if err := s.Reserve(ctx, t.Table, t.key, x.First+x.Rows-1); err != nil {
			return nil, nil, err
		}
	}
	return taken, r, nil
}

// anewEntries are the loads of a plan that are taken back, the last one first.
func anewEntries(ctx context.Context, s store.Store, name string) ([]*Entry, error) {
	all, err := Entries(ctx, s, name)
	if err != nil {
		return nil, err
	}
	all = slices.DeleteFunc(all, func(e *Entry) bool { return e.State == StateWithdrawn })
	for _, e := range all {
		if e.Extra != "" && e.About.Unit == "" {
			return nil, &store.Fault{Kind: store.Refused, Message: fmt.Sprintf("load %d put the further set %s beside the plan's rows", e.Number, e.Extra), Hint: fmt.Sprintf("evensprout withdraw %d first", e.Number)}
		}
		if e.State == StateOpen || e.State == StateWithdrawing {
			return nil, &Unfinished{e}
		}
	}
	slices.Reverse(all)
	return all, nil
}

// inside is a store within a transaction that goes on: what begins and commits there is a
// step of it.
type inside struct {
	store.Store
	tx    store.Tx
	steps int
}

func (s *inside) Begin(ctx context.Context, _ store.TxOptions) (store.Tx, error) {
	s.steps++
	step := &step{Tx: s.tx, ctx: context.WithoutCancel(ctx), mark: fmt.Sprintf("evensprout_anew_%d", s.steps)}
	return step, s.tx.Savepoint(ctx, step.mark)
}

// The lock is held, and counters are moved, around the transaction.

func (s *inside) Lock(context.Context, string) (string, error) { return "", nil }
func (s *inside) Unlock(context.Context, string) error         { return nil }

func (s *inside) Reserve(context.Context, *schema.Table, *schema.Column, int64) error { return nil }

// step is a transaction inside another.
type step struct {
	store.Tx
	ctx  context.Context
	mark string
	done bool
}

func (t *step) Commit(ctx context.Context) error {
	err := t.Tx.Release(ctx, t.mark)
	t.done = err == nil
	return err
}

func (t *step) Rollback() error {
	if t.done {
		return nil
	}
	t.done = true
	return errors.Join(t.Tx.RollbackTo(t.ctx, t.mark), t.Tx.Release(t.ctx, t.mark))
}
