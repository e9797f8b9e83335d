package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"evensprout/internal/app"
	"evensprout/internal/archive"
	"evensprout/internal/withdraw"

	"evensprout/internal/journal"

	"evensprout/internal/diag"
	"evensprout/internal/during"
	"evensprout/internal/files"
	"evensprout/internal/load"
	"evensprout/internal/plan"
	"evensprout/internal/store"
)

// duringActor begins the actor of loads that are withdrawn when a command ends.
const duringActor = "during, "

// duringShared runs a command beside a database that others use too, and withdraws its loads
// afterwards.
func (a *program) duringShared(ctx context.Context, args []string, run *during.Command, f *duringFlags) (err error) {
	a.ws.Hold = func(ctx context.Context, s store.Store, p *plan.Plan) error {
		return a.alone(ctx, s, p.Name, f.wait)
	}
	if err := a.loadBasesToStay(ctx, args, f.wait); err != nil {
		return err
	}
	c, s, name, err := a.ws.Compile(ctx, args, true)
	if err != nil {
		return err
	}
	defer s.Close()
	defer c.Close()
	a.ws.Hold = nil // it is held
	if !a.quiet {
		a.warn(c)
	}
	if err := load.TryConditions(ctx, s, c); err != nil {
		return err
	}
	defer s.Unlock(context.WithoutCancel(ctx), duringLock(c.Plan.Name))
	if _, err := a.takenBack(ctx, s, c.Plan); err != nil { // what a killed run has left
		return err
	}
	journal := a.journal("", false)
	journal.Actor, journal.Wait = duringActor+journal.Actor, f.wait
	loads, err := a.fill(ctx, c, s, load.Options{Jobs: jobsDefault(), Journal: journal, Folder: c.Plan.Folder()})
	defer func() {
		// The command may have taken as long as it liked: servers end idle connections.
		if again, gone := a.withdrawn(context.WithoutCancel(ctx), archive.Operator{Plan: c.Plan, Rows: files.Rows},
			loads); gone != nil {
			err = errors.Join(
				err,
				fmt.Errorf(
					"what was loaded is still there (load %v), and evensprout during --sweep undoes it: %w",
					again,
					gone,
				),
			)
		}
	}()
	if err != nil {
		return err
	}
	if len(loads) == 0 {
		a.say("%s was loaded before, and stays loaded", c.Plan.Name)
	} else {
		a.say("%s in %s, as load %s", c.Plan.Name, name, numbers(loads))
	}
	run.Variables = a.variables(a.ws.Opened, f)
	if err := ctx.Err(); err != nil {
		return context.Cause(ctx)
	}
	return a.ran(ctx, run)
}

// loadBasesToStay loads what the plan builds on. It stays loaded: others who use the database may need it meanwhile.
func (a *program) loadBasesToStay(ctx context.Context, args []string, wait time.Duration) error {
	journal := a.journal("", false)
	journal.Wait = wait
	loaded, err := a.loadBases(ctx, args, load.Options{Jobs: jobsDefault(), Journal: journal})
	if err == nil && loaded {
		a.say("what the plan builds on stays loaded, because others may use it; evensprout history lists it")
	}
	return err
}

// numbers is a list of loads for a message.
func numbers(list []int64) string {
	var out []string
	for _, n := range list {
		out = append(out, fmt.Sprint(n))
	}
	return strings.Join(out, ", ")
}

// duringLock is the name of the lock that two runs of one plan take in turn.
func duringLock(name string) string { return "during " + name }

// alone waits until no other run works with the plan's rows.
func (a *program) alone(ctx context.Context, s store.Store, name string, wait time.Duration) error {
	const every = 100 * time.Millisecond
	deadline := time.Now().Add(wait)
	told := false
	for {
		holder, err := s.Lock(ctx, duringLock(name))
		if err != nil || holder == "" {
			return err
		}
		if time.Now().After(deadline) {
			return &store.Fault{
				Kind: store.Locked,
				Message: fmt.Sprintf(
					"another run works with the rows of %s (%s; waited %s)",
					name,
					holder,
					brief(wait),
				),
				Hint: "--wait says how long to wait for it; without --shared, each run has a database of its own",
			}
		}
		if !told {
			a.say("waiting for another run that works with the rows of %s (%s)", name, holder)
			told = true
		}
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-time.After(every):
		}
	}
}

// withdrawn takes loads back, the last first, through a connection of its own. It returns
// those that are still there.
func (a *program) withdrawn(ctx context.Context, by archive.Operator, loads []int64) ([]int64, error) {
	if len(loads) == 0 {
		return nil, nil
	}
	s, err := a.ws.Again(ctx)
	if err != nil {
		return loads, err
	}
	defer s.Close()

	// What the command has changed, and what it has added below the rows, goes as well.
	o := withdraw.Options{Changed: true, Referring: true, By: by, Again: a.ws.Again, Wait: time.Minute}
	for i, n := range slices.Backward(loads) {
		w, err := withdraw.Run(ctx, s, n, o)
		if err != nil {
			return loads[:i+1], err
		}
		for table, rows := range w.Others {
			a.say("%s of %s were removed, because they referred to removed "+
				"rows", diag.Count(rows, "row", "rows"), table)
		}
		if w.Left > 0 {
			a.say(
				"%s of load %d could not be withdrawn: evensprout withdraw %d shows which",
				diag.Count(w.Left, "row", "rows"),
				n,
				n,
			)
		}
	}
	return nil, nil
}

// takenBack withdraws what killed runs have left of a plan. What the journal says is not
// enough for that: the plan of such a load must be the operator's.
func (a *program) takenBack(ctx context.Context, s store.Store, p *plan.Plan) ([]during.Swept, error) {
	all, err := journal.Unlocked(s).Entries(ctx, p.Name)
	if err != nil {
		return nil, err
	}
	by := archive.Operator{Plan: p, Rows: files.Rows, Strict: true}
	var loads []int64
	var out []during.Swept
	for _, e := range all {
		if !strings.HasPrefix(e.Actor, duringActor) || e.State == journal.StateWithdrawn {
			continue
		}
		name := fmt.Sprintf("load %d of %s", e.Number, e.Plan)
		full, err := journal.Unlocked(s).Entry(ctx, e.Number)
		if err != nil {
			return out, err
		}
		if e.About.Unit == "" && !by.Same(full) {
			out = append(
				out,
				during.Swept{
					Name: name,
					Why: fmt.Sprintf(
						"the journal's plan of it differs from %s; evensprout withdraw %d undoes it",
						p.File(),
						e.Number,
					),
					Left: true,
				},
			)
			continue
		}
		loads = append(loads, e.Number)
		out = append(out, during.Swept{Name: name, Why: "left by a killed run"})
	}

	_, err = a.withdrawn(ctx, by, loads)
	return out, err
}

// printSwept tells what was removed, and what was left and why.
func (a *program) printSwept(gone []during.Swept) error {
	if a.json {
		byLeft := map[bool][]during.Swept{false: {}, true: {}}
		for _, g := range gone {
			byLeft[g.Left] = append(byLeft[g.Left], g)
		}
		return a.writeJSON(map[string]any{"removed": byLeft[false], "left": byLeft[true]})
	}
	removed := 0
	for _, g := range gone {
		what := "removed"
		if g.Left {
			what = "left"
		} else {
			removed++
		}
		fmt.Fprintf(a.out, "%s %s: %s\n", what, g.Name, g.Why)
	}
	if removed == 0 {
		fmt.Fprintln(a.out, "There is nothing to remove.")
	}
	return nil
}

// swept removes what killed runs have left.
func (a *program) swept(ctx context.Context, args []string, f *duringFlags) error {
	var p *plan.Plan
	path := ""
	if _, err := os.Stat(app.DefaultPlan); err == nil || len(args) > 0 {
		var err error
		if p, err = a.ws.ReadPlan(args); err != nil {
			return err
		}
		path = app.DefaultPlan
		if len(args) > 0 {
			path = args[0]
		}
	}

	u := a.ws.URL(p, path)
	if u == "" {
		return app.ErrNoDatabase
	}
	own, err := a.scratch(ctx, u)
	if err != nil {
		return err
	}
	defer own.Close()
	gone, err := during.Sweep(ctx, own, f.sweepKept, f.cache)
	if err != nil {
		return err
	}
	a.ws.Opened = u
	if s, err := store.Open(ctx, a.ws.Drivers, u); err == nil { // a private run needs no such database
		defer s.Close()
		list, err := a.sweptLoads(ctx, s, p)
		if err != nil {
			return err
		}
		gone = append(gone, list...)
	}
	return a.printSwept(gone)
}

// sweptLoads withdraws loads of killed runs of the operator's plan, unless somebody works with
// it. Those of other plans are listed.
func (a *program) sweptLoads(ctx context.Context, s store.Store, p *plan.Plan) ([]during.Swept, error) {
	all, err := journal.Unlocked(s).Entries(ctx, "")
	if err != nil {
		return nil, err
	}
	var out []during.Swept
	mine := false
	for _, e := range all {
		switch {
		case !strings.HasPrefix(e.Actor, duringActor) || e.State == journal.StateWithdrawn:
		case p != nil && e.Plan == p.Name:
			mine = true
		default:
			out = append(
				out,
				during.Swept{
					Name: fmt.Sprintf("load %d of %s", e.Number, e.Plan),
					Why:  "it belongs to another plan: evensprout during PLAN --sweep",
					Left: true,
				},
			)
		}
	}

	if !mine {
		return out, nil
	}
	holder, err := s.Lock(ctx, duringLock(p.Name))
	if err != nil || holder != "" {
		return out, err
	}
	list, err := a.takenBack(ctx, s, p)
	return append(out, list...), errors.Join(err, s.Unlock(context.WithoutCancel(ctx), duringLock(p.Name)))
}

// scratch opens the server of a URL, on which databases are made and dropped, if the user may write there.
func (a *program) scratch(ctx context.Context, u string) (store.Scratch, error) {
	if err := a.ws.Guard(u); err != nil {
		return nil, err
	}
	return store.OpenScratch(ctx, a.ws.Drivers, u)
}
