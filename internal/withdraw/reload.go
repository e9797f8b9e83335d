package withdraw

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"evensprout/internal/load"

	"evensprout/internal/diag"
	"evensprout/internal/journal"

	"evensprout/internal/plan"
	"evensprout/internal/schema"
	"evensprout/internal/store"
)

// Stays tells that rows of earlier loads would stay, so that nothing was done.
type Stays struct{ Withdrawal *Withdrawal }

func (e *Stays) Error() string {
	return fmt.Sprintf("%s of load %d cannot be withdrawn", load.CountRows(e.Withdrawal.Left), e.Withdrawal.Load)
}

// Reload takes back what earlier loads of a plan, and runs of its units, have done, and loads
// the plan as it is now, all in one transaction. Rows that would be left behind stop it
// before anything is done: a *Stays. With Options.InPlace only rows that differ are written, where that can be done;
// rows that do not are not looked at.
func Reload(
	ctx context.Context,
	c *plan.Compiled,
	s store.Store,
	o load.Options,
	w Options,
) (taken []*Withdrawal, r *journal.Result, err error) {
	o.Commit, o.Again, w.Again = plan.CommitLoad, nil, nil
	w.Commit, w.Wait, w.DryRun = plan.CommitLoad, 0, false
	l, err := load.NewSession(c, s, o)
	if err != nil {
		return nil, nil, err
	}
	if err := refuseFiles(l); err != nil {
		return nil, nil, err
	}
	if err := load.RefuseLasting(tablesOf(l), o.DryRun, ""); err != nil {
		return nil, nil, err
	}
	// Outside the transaction: where tables are made, or counters moved, some engines commit.
	if _, err := s.Journal(ctx, !o.DryRun); err != nil {
		return nil, nil, journal.CannotBeKept(err)
	}
	var held *journal.Held
	if err := journal.WhileLocked(ctx, o.Journal.Wait, o.Patience.Waits, func() (err error) {
		held, err = journal.Lock(ctx, s, c.Plan.Name)
		return err
	}); err != nil {
		return nil, nil, err
	}
	defer held.Release(ctx)
	entries, err := reloadEntries(ctx, held.Reader(s), c.Plan.Name)
	if err != nil {
		return nil, nil, err
	}
	l.LoosenCircles()
	outer := &load.Writer{Session: l, Store: s}
	if err := l.Reserve(ctx, outer); err != nil {
		return nil, nil, err
	}
	if err := outer.Begin(ctx); err != nil {
		return nil, nil, err
	}
	defer outer.Rollback()
	x := &reload{plan: c, held: held, inside: &inside{Store: s, tx: outer.Tx}, options: o, withdrawal: w}
	if taken, r, err = x.run(ctx, entries); err != nil {
		return nil, nil, err
	}
	if o.DryRun {
		return taken, r, outer.Rollback()
	}
	if err := ctx.Err(); err != nil {
		return nil, nil, context.Cause(ctx)
	}
	if err := outer.Commit(ctx); err != nil {
		return nil, nil, err
	}
	if err := reserveStepped(ctx, s, l, r); err != nil {
		return nil, nil, err
	}
	return taken, r, nil
}

// reserveStepped moves the counters over keys that were not reserved before.
func reserveStepped(ctx context.Context, s store.Store, l *load.Session, r *journal.Result) error {
	for _, x := range r.Stepped {
		t := l.Named(x.Entity)
		if t.Key.Identity == schema.NoIdentity {
			continue
		}
		if err := s.Reserve(ctx, t.Table, t.Key, x.First+x.Rows-1); err != nil {
			return err
		}
	}
	return nil
}

// reload is a withdrawal and a load in one transaction.
type reload struct {
	plan       *plan.Compiled
	held       *journal.Held
	inside     *inside
	options    load.Options
	withdrawal Options
	why        string // rows are not changed in place; empty if that was not tried
}

// run brings what earlier loads have written to what the plan says now: in place where that is asked for and can be
// done.
func (r *reload) run(ctx context.Context, entries []*journal.Entry) ([]*Withdrawal, *journal.Result, error) {
	var taken []*Withdrawal
	if r.withdrawal.InPlace {
		result, runs, err := r.amend(ctx, entries)
		if result != nil || err != nil {
			return runs, result, err
		}
		taken, entries = runs, entries[len(runs):]
	}
	rest, err := r.withdraw(ctx, entries)
	if err != nil {
		return nil, nil, err
	}
	result, err := load.Run(ctx, r.plan, r.inside, r.options)
	if err != nil {
		return nil, nil, err
	}
	result.NotAmended = r.why
	return append(taken, rest...), result, nil
}

// withdraw takes back what loads have done.
func (r *reload) withdraw(ctx context.Context, entries []*journal.Entry) (taken []*Withdrawal, err error) {
	for _, e := range entries {
		v, err := Run(ctx, r.inside, e.Number, r.withdrawal)
		if err != nil {
			return nil, err
		}
		if v.Left > 0 {
			return nil, &Stays{v}
		}
		taken = append(taken, v)
	}
	return taken, nil
}

// refuseFiles refuses fields that create files.
func refuseFiles(l *load.Session) error {
	for _, t := range l.List {
		for _, f := range t.Grow.Fields {
			if _, ok := f.File(); ok {
				return &store.Fault{
					Kind: store.Refused,
					Message: fmt.Sprintf("%s.%s creates files, which are placed and removed outside the transaction",
						t.Plan.Name, f.Name),
					Hint: "run evensprout withdraw, then load",
				}
			}
		}
	}
	return nil
}

// reloadEntries are the loads of a plan that are taken back, the last one first.
func reloadEntries(ctx context.Context, r journal.Reader, name string) ([]*journal.Entry, error) {
	all, err := r.Entries(ctx, name)
	if err != nil {
		return nil, err
	}
	all = slices.DeleteFunc(all, func(e *journal.Entry) bool { return e.State == journal.StateWithdrawn })
	for _, e := range all {
		if e.Extra != "" && e.About.Unit == "" {
			return nil, &store.Fault{
				Kind:    store.Refused,
				Message: fmt.Sprintf("load %d added the extra set %s beside the plan's rows", e.Number, e.Extra),
				Hint:    fmt.Sprintf("run evensprout withdraw %d first", e.Number),
			}
		}
		if e.State == journal.StateOpen || e.State == journal.StateWithdrawing {
			return nil, &load.Unfinished{Entry: e}
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

// Begin marks a place in the outer transaction.
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

// DropIndexes drops what slows down a load of empty tables, as the outer transaction does.
func (t *step) DropIndexes(ctx context.Context, r store.Rebuild) (store.Dropped, error) {
	if tx, ok := t.Tx.(load.Rebuilder); ok {
		return tx.DropIndexes(ctx, r)
	}
	return store.Dropped{}, &store.Fault{Kind: store.Refused, Message: "this engine commits when it drops an index"}
}

// Commit keeps what was done since the mark.
func (t *step) Commit(ctx context.Context) error {
	err := t.Tx.Release(ctx, t.mark)
	t.done = err == nil
	return err
}

// Rollback goes back to the mark.
func (t *step) Rollback() error {
	if t.done {
		return nil
	}
	t.done = true
	return errors.Join(t.Tx.RollbackTo(t.ctx, t.mark), t.Tx.Release(t.ctx, t.mark))
}

// Report lists the rows that would be left behind.
func (e *Stays) Report() diag.Report {
	v := e.Withdrawal
	r := diag.Report{
		Kind:    diag.Database,
		Message: e.Error() + ":",
		Layout:  v,
		End:     "nothing was written",
		Members: map[string]any{"load": v.Load, "left_rows": v.LeftRows, "also": v.Also},
	}
	if len(v.Also) > 0 {
		r.Hint = fmt.Sprintf("undo them too with evensprout load --anew --also %s", strings.Join(v.Also, " --also "))
	}
	return r
}
