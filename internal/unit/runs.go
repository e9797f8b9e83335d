package unit

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"evensprout/internal/load"

	"evensprout/internal/archive"
	"evensprout/internal/diag"
	"evensprout/internal/journal"

	"github.com/google/uuid"

	"evensprout/internal/plan"
	"evensprout/internal/schema"
	"evensprout/internal/store"
)

// openUnit writes the run down, in a transaction of its own: its occasions follow, each
// in the transaction that does it.
func (r *unitRun) openUnit(ctx context.Context, insist bool) error {
	l := r.w.Session
	if err := l.OpenJournal(ctx, r.w.Store); err != nil || l.Journal == nil {
		return err
	}
	j := l.Journal
	l.Read = journal.Unlocked(r.w.Store) // what a dry run finds is over with it
	if !l.Options.DryRun {
		h, err := journal.Lock(ctx, r.w.Store, l.Plan.Plan.Name)
		if err != nil {
			return err
		}
		defer h.Release(ctx)
		l.Read = h.Reader(r.w.Store)
	}
	j.Extra = UnitSet(r.unit.Plan.Name)
	for {
		earlier, err := l.Read.On(r.w.Store).Select(
			ctx,
			j.Tables,
			journal.Cells(j.Tables.Loads, "plan", r.w.Session.Plan.Plan.Name, "extra", j.Extra),
			false,
		)
		if err != nil {
			return err
		}
		j.Part, r.stopped = 1, nil
		known := false
		for _, e := range earlier {
			j.Part = e.Part + 1
			if e.Elsewhere != "" {
				continue
			}
			if e.State == journal.StateWithdrawing {
				return &load.Unfinished{Entry: e}
			}
			if e.State == journal.StateWithdrawn {
				continue
			}
			if e.State == journal.StatePartly {
				return &store.Fault{
					Kind: store.Refused,
					Message: fmt.Sprintf(
						"load %d, a run of the unit %s, is partly withdrawn: some of its rows were left alone",
						e.Number,
						r.unit.Plan.Name,
					),
					Hint: fmt.Sprintf(
						"undo them too with evensprout withdraw %d --also changed --also referring; or keep them "+
							"with evensprout history --forget %d, and its occasions are repeated",
						e.Number,
						e.Number,
					),
				}
			}
			known = true
			if e.State == journal.StateOpen && e.About.Occasions == r.occasionsFile() {
				r.stopped = append(r.stopped, e.Number)
			}
			if insist && e.State == journal.StateDone {
				r.salt = fmt.Sprintf("after load %d", e.Number) // the same when it is done again after a crash
			}
		}
		if r.w.Session.Traits.Writers == 1 {
			r.ledger = &packedLedger{
				run:   r,
				done:  map[occasionName]int64{},
				read:  map[int64]int{},
				ended: map[int64]bool{},
			}
		} else {
			r.ledger = &rowLedger{run: r, watch: known}
		}
		if err := r.keysOfLoads(ctx); err != nil || r.w.Session.Options.DryRun {
			return err
		}
		if err = r.enterUnit(ctx); !errors.Is(err, load.ErrFenced) {
			return err
		}
	}
}

// unitPrefix marks sets of rows that are runs of units.
const unitPrefix = "unit:"

// UnitSet is the name under which the journal knows runs of a unit.
func UnitSet(unit string) string { return unitPrefix + unit }

// IsUnitSet reports whether a name is kept for runs of units.
func IsUnitSet(extra string) bool { return strings.HasPrefix(extra, unitPrefix) }

// enterUnit makes the journal's entry of the run, or goes on with an open one.
func (r *unitRun) enterUnit(ctx context.Context) error {
	j := r.w.Session.Journal
	j.About = journal.About{
		Format:    journal.JournalFormat,
		Version:   r.w.Session.Options.Journal.Version,
		Edition:   r.w.Session.Plan.Set.Edition,
		Seed:      r.w.Session.Plan.Set.Seed,
		Commit:    plan.CommitChunk,
		Undo:      j.Undo,
		Unit:      r.unit.Plan.Name,
		Occasions: r.occasionsFile(),
	}
	var tables []*schema.Table
	for _, step := range r.unit.Steps {
		if step.Table != nil {
			tables = append(tables, step.Table)
		}
	}
	j.About.Schemas = journal.SchemasOf(tables)
	if file := r.unit.Plan.File(r.w.Session.Plan.Plan); file != "" {
		input, _, err := archive.ReadInput(file)
		if err != nil {
			return err
		}
		j.About.Inputs = []journal.Input{input}
	}
	if !r.w.Session.Plan.Set.Clock.IsNull() {
		j.About.ClockSet = r.w.Session.Plan.Set.Clock.String()
	}
	about, err := json.Marshal(j.About)
	if err != nil {
		return err
	}
	j.Token = uuid.NewString()
	of := j.Tables.Loads
	err = r.w.Session.Repeat(ctx, r.w, func() error {
		if err := r.begin(ctx); err != nil {
			return err
		}
		err := r.w.Tx.Add(
			ctx,
			of,
			journal.Cells(
				of,
				"plan",
				r.w.Session.Plan.Plan.Name,
				"extra",
				j.Extra,
				"part",
				j.Part,
				"token",
				j.Token,
				"state",
				string(journal.StateOpen),
				"began",
				journal.Moment(r.w.Session.Began),
				"actor",
				j.Actor,
				"about",
				string(about),
			),
		)
		var v *store.Violation
		if errors.As(err, &v) && v.Kind == store.Unique {
			return load.ErrFenced // or it is this one, whose commit was not answered
		}
		if err != nil {
			return err
		}
		return r.w.Commit(ctx)
	})
	if err != nil && !errors.Is(err, load.ErrFenced) {
		return err
	}
	found, failed := r.w.Session.Read.On(r.w.Store).Select(ctx, j.Tables, journal.Cells(of, "token", j.Token), false)
	if failed != nil {
		return failed
	}
	if len(found) == 0 {
		return err
	}
	j.Number, r.result.Load = found[0].Number, found[0].Number
	r.held, err = journal.LockRun(ctx, r.w.Store, r.w.Session.Plan.Plan.Name, j.Number)
	return err
}

// keysOfLoads learns which keys the database gave to rows that occasions refer to.
func (r *unitRun) keysOfLoads(ctx context.Context) error {
	entries, err := r.w.Session.Read.On(r.w.Store).Entries(ctx, r.w.Session.Plan.Plan.Name)
	if err != nil {
		return err
	}
	m := load.NewMemory(r.w.Session.Plan)
	for _, e := range entries {
		if e.Extra != "" || e.State != journal.StateDone {
			continue
		}
		chunks, err := r.w.Session.Read.On(r.w.Store).Chunks(ctx, e.Number)
		if err != nil {
			return err
		}
		for _, c := range chunks {
			if err := m.Learn(c.Log); err != nil {
				return nil // the plan has fewer rows than then: it is used as it is
			}
		}
	}
	r.w.Session.Memory = m
	r.w.Session.Reset()
	return nil
}

// forgetUnit removes the entry of a run that committed nothing.
func (r *unitRun) forgetUnit(ctx context.Context) error {
	if r.w.Session.Journal == nil || r.w.Session.Journal.Number == 0 {
		return nil
	}
	r.result.Load = 0
	if err := r.w.Rollback(); err != nil {
		return err
	}
	if err := r.begin(ctx); err != nil {
		return err
	}
	of := r.w.Session.Journal.Tables.Loads
	own := journal.Cells(of, "number", r.w.Session.Journal.Number, "token", r.w.Session.Journal.Token)
	if _, err := r.w.Tx.Delete(ctx, of, own); err != nil {
		return err
	}
	return r.w.Commit(ctx)
}

// occasionsFile is the file of the run's occasions; empty if there is none.
func (r *unitRun) occasionsFile() string { return r.unit.Plan.OccasionsFile() }

// closeStopped closes the runs of the unit that stopped before and have the same
// occasions: this one has done the rest of them.
func (r *unitRun) closeStopped(ctx context.Context) error {
	for _, number := range r.stopped {
		h, err := journal.LockRun(ctx, r.w.Store, r.w.Session.Plan.Plan.Name, number)
		var fault *store.Fault
		if errors.As(err, &fault) && fault.Kind == store.Locked {
			continue // it goes on
		}
		if err != nil {
			return err
		}
		of := r.w.Session.Journal.Tables.Loads
		err = r.w.Session.Repeat(ctx, r.w, func() error {
			if err := r.begin(ctx); err != nil {
				return err
			}
			if _, err := r.w.Tx.Set(ctx, of,
				journal.Cells(of, "state", string(journal.StateDone), "ended", journal.Moment(time.Now())),
				journal.Cells(of, "number", number, "state", string(journal.StateOpen))); err != nil {
				return err
			}
			return r.w.Commit(ctx)
		})
		h.Release(ctx)
		if err != nil {
			return err
		}
	}
	return nil
}

// conclude writes down that the run is done, or takes its entry back if it did nothing.
func (r *unitRun) conclude(ctx context.Context) error {
	if r.w.Session.Options.DryRun {
		return nil
	}
	if r.w.Session.Journal == nil {
		return nil
	}
	if err := r.closeStopped(ctx); err != nil {
		return err
	}
	if r.result.Done == 0 {
		return r.forgetUnit(ctx)
	}
	r.result.Elapsed = time.Since(r.w.Session.Began)
	text, err := json.Marshal(&journal.Result{Unit: r.result})
	if err != nil {
		return err
	}
	of := r.w.Session.Journal.Tables.Loads
	return r.w.Session.Repeat(ctx, r.w, func() error {
		if err := r.begin(ctx); err != nil {
			return err
		}
		if _, err := r.w.Tx.Set(ctx, of,
			journal.Cells(of, "state", string(journal.StateDone), "ended", journal.Moment(time.Now()), "summary",
				string(text)), journal.Cells(of, "number", r.w.Session.Journal.Number)); err != nil {
			return err
		}
		return r.w.Commit(ctx)
	})
}

// allThere looks whether a server that answers now has the run's entry and the occasions that were committed: it may be
// a standby that has taken over without them.
func (r *unitRun) allThere(ctx context.Context, s store.Store) error {
	j := r.w.Session.Journal
	if j == nil || j.Number == 0 || j.Tables.Occasions == nil {
		return nil
	}
	entries, done := 0, int64(0)
	q := store.Query{Table: j.Tables.Loads, Where: journal.Cells(j.Tables.Loads, "number", j.Number, "token", j.Token)}
	err := journal.Read(ctx, s, q, []string{"number"}, func(journal.Record) error { entries++; return nil })
	if err != nil {
		return err
	}
	q = store.Query{Table: j.Tables.Occasions, Where: journal.Cells(j.Tables.Occasions, "load", j.Number), AsIs: true}
	err = journal.Read(ctx, s, q, []string{"load"}, func(journal.Record) error { done++; return nil })
	if err != nil {
		return err
	}
	if entries > 0 && done >= r.result.Done {
		return nil
	}
	lost := r.result.Done - done
	if r.result.Done = done; entries == 0 {
		r.result.Done, r.result.Transactions = 0, 0
	}
	what := fmt.Sprintf("run %d of the unit %s is gone", j.Number, r.unit.Plan.Name)
	if entries > 0 {
		what = fmt.Sprintf("%s of the unit %s are gone", diag.Count(lost, "occasion", "occasions"), r.unit.Plan.Name)
	}
	return &store.Fault{
		Kind:    store.Missing,
		Message: what + ": the server that answers now never had this",
		Hint:    "run the same command again: it does what is missing, and nothing twice",
	}
}
