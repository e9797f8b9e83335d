package load

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/google/uuid"

	"evensprout/internal/plan"
	"evensprout/internal/schema"
	"evensprout/internal/store"
)

// openUnit writes the run down, in a transaction of its own: its occasions follow, each
// in the transaction that does it.
func (r *unitRun) openUnit(ctx context.Context, insist bool) error {
	if err := r.openJournal(ctx, r.store); err != nil || r.journal == nil {
		return err
	}
	j := r.journal
	j.extra = UnitSet(r.unit.Plan.Name)
	for {
		earlier, err := readEntries(ctx, r.store, j.tables, cells(j.tables.Loads, "plan", r.plan.Plan.Name, "extra", j.extra), false)
		if err != nil {
			return err
		}
		j.part, r.stopped = 1, nil
		known := false
		for _, e := range earlier {
			j.part = e.Part + 1
			if e.elsewhere != "" {
				continue
			}
			if e.State == StateWithdrawing {
				return &Unfinished{e}
			}
			if e.State == StateWithdrawn {
				continue
			}
			if e.State == StatePartly {
				return &store.Fault{Kind: store.Refused, Message: fmt.Sprintf("load %d, a run of the unit %s, is partly withdrawn: some of its rows were left alone", e.Number, r.unit.Plan.Name),
					Hint: fmt.Sprintf("evensprout withdraw %d --also changed --also referring takes them back, too; evensprout history --forget %d leaves them, and its occasions are done again", e.Number, e.Number)}
			}
			known = true
			if e.State == StateOpen && e.About.Occasions == r.occasionsFile() {
				r.stopped = append(r.stopped, e.Number)
			}
			if insist && e.State == StateDone {
				r.salt = fmt.Sprintf("after load %d", e.Number) // the same when it is done again after a crash
			}
		}
		if r.traits.Writers == 1 {
			r.ledger = &packedLedger{run: r, done: map[occasionName]int64{}, read: map[int64]int{}, ended: map[int64]bool{}}
		} else {
			r.ledger = &rowLedger{run: r, watch: known}
		}
		if err := r.keysOfLoads(ctx); err != nil || r.o.DryRun {
			return err
		}
		if err = r.enterUnit(ctx); !errors.Is(err, errFenced) {
			return err
		}
	}
}

// unitPrefix marks sets of rows that are runs of units.
const unitPrefix = "unit:"

// UnitSet is the name under which the journal knows runs of a unit.
func UnitSet(unit string) string { return unitPrefix + unit }

// IsUnitSet tells whether a name is kept for runs of units.
func IsUnitSet(extra string) bool { return strings.HasPrefix(extra, unitPrefix) }

func (r *unitRun) enterUnit(ctx context.Context) error {
	j := r.journal
	j.about = About{Format: journalFormat, Version: r.o.Journal.Version, Edition: r.plan.Set.Edition, Seed: r.plan.Set.Seed, Commit: plan.CommitChunk, Undo: j.undo, Unit: r.unit.Plan.Name, Occasions: r.occasionsFile()}
	var tables []*schema.Table
	for _, step := range r.unit.Steps {
		if step.Table != nil {
			tables = append(tables, step.Table)
		}
	}
	j.about.Schemas = schemasOf(tables)
	if !r.plan.Set.Clock.IsNull() {
		j.about.ClockSet = r.plan.Set.Clock.String()
	}
	about, err := json.Marshal(j.about)
	if err != nil {
		return err
	}
	j.token = uuid.NewString()
	of := j.tables.Loads
	err = r.repeat(ctx, r.writer, func() error {
		if err := r.begin(ctx); err != nil {
			return err
		}
		err := r.tx.Add(ctx, of, cells(of, "plan", r.plan.Plan.Name, "extra", j.extra, "part", j.part, "token", j.token, "state", string(StateOpen),
			"began", moment(r.began), "actor", j.actor, "about", string(about)))
		var v *store.Violation
		if errors.As(err, &v) && v.Kind == store.Unique {
			return errFenced // or it is this one, whose commit was not answered
		}
		if err != nil {
			return err
		}
		return r.commit(ctx)
	})
	if err != nil && !errors.Is(err, errFenced) {
		return err
	}
	found, failed := readEntries(ctx, r.store, j.tables, cells(of, "token", j.token), false)
	if failed != nil {
		return failed
	}
	if len(found) == 0 {
		return err
	}
	j.number, r.result.Load = found[0].Number, found[0].Number
	return lockPlan(ctx, r.store, runName(r.plan.Plan.Name, j.number))
}

// runName is what a run of a unit locks while it goes on, so that nobody withdraws it
// meanwhile. Runs do not lock each other.
func runName(plan string, load int64) string { return fmt.Sprintf("%s, load %d", plan, load) }

// keysOfLoads learns which keys the database gave to rows that occasions refer to.
func (r *unitRun) keysOfLoads(ctx context.Context) error {
	entries, err := Entries(ctx, r.store, r.plan.Plan.Name)
	if err != nil {
		return err
	}
	m := newMemory(r.plan)
	for _, e := range entries {
		if e.Extra != "" || e.State != StateDone {
			continue
		}
		chunks, err := Chunks(ctx, r.store, e.Number)
		if err != nil {
			return err
		}
		for _, c := range chunks {
			if err := m.learn(c.Log); err != nil {
				return nil // the plan has fewer rows than then: it is used as it is
			}
		}
	}
	r.memory = m
	r.reset()
	return nil
}

// forgetUnit removes the entry of a run that committed nothing.
func (r *unitRun) forgetUnit(ctx context.Context) error {
	if r.journal == nil || r.journal.number == 0 {
		return nil
	}
	r.result.Load = 0
	if err := r.rollback(); err != nil {
		return err
	}
	if err := r.begin(ctx); err != nil {
		return err
	}
	of := r.journal.tables.Loads
	if _, err := r.tx.Delete(ctx, of, cells(of, "number", r.journal.number)); err != nil {
		return err
	}
	return r.commit(ctx)
}

// occasionsFile is the file of the run's occasions; empty if there is none.
func (r *unitRun) occasionsFile() string {
	if r.unit.Plan.Occasions == nil || r.unit.Plan.Occasions.RowsFrom == nil {
		return ""
	}
	return r.unit.Plan.Occasions.RowsFrom.File
}

// closeStopped closes the runs of the unit that stopped before and have the same
// occasions: this one has done the rest of them.
func (r *unitRun) closeStopped(ctx context.Context) error {
	for _, number := range r.stopped {
		name := runName(r.plan.Plan.Name, number)
		holder, err := r.store.Lock(ctx, name)
		if err != nil {
			return err
		}
		if holder != "" {
			continue // it goes on
		}
		of := r.journal.tables.Loads
		err = r.repeat(ctx, r.writer, func() error {
			if err := r.begin(ctx); err != nil {
				return err
			}
			if _, err := r.tx.Set(ctx, of, cells(of, "state", string(StateDone), "ended", moment(time.Now())), cells(of, "number", number, "state", string(StateOpen))); err != nil {
				return err
			}
			return r.commit(ctx)
		})
		if err := errors.Join(err, r.store.Unlock(context.WithoutCancel(ctx), name)); err != nil {
			return err
		}
	}
	return nil
}

// conclude writes down that the run is done, or takes its entry back if it did nothing.
func (r *unitRun) conclude(ctx context.Context) error {
	if r.o.DryRun {
		return nil
	}
	if r.journal == nil {
		return nil
	}
	if err := r.closeStopped(ctx); err != nil {
		return err
	}
	if r.result.Done == 0 {
		return r.forgetUnit(ctx)
	}
	r.result.Elapsed = time.Since(r.began)
	text, err := json.Marshal(&Result{Unit: r.result})
	if err != nil {
		return err
	}
	of := r.journal.tables.Loads
	return r.repeat(ctx, r.writer, func() error {
		if err := r.begin(ctx); err != nil {
			return err
		}
		if _, err := r.tx.Set(ctx, of, cells(of, "state", string(StateDone), "ended", moment(time.Now()), "summary", string(text)), cells(of, "number", r.journal.number)); err != nil {
			return err
		}
		return r.commit(ctx)
	})
}
