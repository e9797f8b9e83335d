package withdraw

import (
	"context"
	"errors"
	"slices"

	"evensprout/internal/archive"
	"evensprout/internal/journal"
	"evensprout/internal/load"
	"evensprout/internal/plan"
	"evensprout/internal/schema"
)

// amend changes only the rows in which a plan differs from what was loaded. entries are those of the plan, the last one
// first. Runs of units stay if they cannot have read what changes; else they are withdrawn. The result is nil if the
// rows cannot be changed in place; then taken are the runs that were withdrawn all the same.
func (r *reload) amend(ctx context.Context, entries []*journal.Entry) (
	result *journal.Result,
	taken []*Withdrawal,
	err error,
) {
	runs, first := loadAndRuns(entries)
	if first == nil || r.options.DryRun {
		return nil, nil, nil
	}
	if first, err = r.held.Reader(r.inside).Entry(ctx, first.Number); err != nil { // with its plan
		return nil, nil, err
	}
	var not *load.NotAmended
	a, err := load.Amend(ctx, r.plan, r.held.Reader(r.inside), first, r.options)
	if errors.As(err, &not) {
		r.why = not.Why
		return nil, nil, nil
	}
	if err != nil {
		return nil, nil, err
	}
	defer a.Close()
	stay := len(runs) > 0 && sameOccasions(r.plan, runs) && unitsStay(r.plan, first, a)
	if len(runs) > 0 && !stay {
		if taken, err = r.withdraw(ctx, runs); err != nil {
			return nil, taken, err
		}
	}
	result, err = a.Apply(ctx, r.inside)
	if errors.As(err, &not) {
		r.why = not.Why
		return nil, taken, nil
	}
	if err == nil && stay {
		result.Units = done(r.plan, runs)
	}
	return result, taken, err
}

// loadAndRuns tells the only load of a plan from the runs of its units; nil if there is none, or it is not the only
// one.
func loadAndRuns(entries []*journal.Entry) (runs []*journal.Entry, first *journal.Entry) {
	for _, e := range entries {
		switch {
		case e.About.Unit != "":
			runs = append(runs, e)
		case first != nil:
			return nil, nil
		default:
			first = e
		}
	}
	if len(entries) > 0 && first == entries[len(entries)-1] {
		return runs, first
	}
	return nil, nil
}

// done are the units of a plan, each with a run that did all its occasions; nil if any is not done.
func done(c *plan.Compiled, runs []*journal.Entry) []*journal.UnitResult {
	var out []*journal.UnitResult
	for _, u := range c.Units {
		i := slices.IndexFunc(runs, func(e *journal.Entry) bool {
			return e.About.Unit == u.Plan.Name && e.About.Occasions == u.Plan.OccasionsFile() &&
				e.State == journal.StateDone && e.Summary != nil && e.Summary.Unit != nil &&
				e.Summary.Unit.Done == e.Summary.Unit.Occasions
		})
		if i < 0 {
			return nil
		}
		was := runs[i].Summary.Unit
		steps := slices.Clone(was.Steps)
		for i := range steps {
			steps[i].Rows = 0
		}
		out = append(out, &journal.UnitResult{
			Unit: was.Unit, Occasions: was.Occasions, Earlier: was.Occasions, Together: was.Together, Undo: was.Undo,
			Steps: steps,
		})
	}
	return out
}

// unitsStay reports whether runs of units would do the same once more: but for entities, the plan and
// its files are the same, and no step names a column in which rows differ, or a table whose rows come or go.
func unitsStay(c *plan.Compiled, e *journal.Entry, a *load.Amendment) bool {
	was, err := archive.Plan(e)
	if err != nil || was.Outside() != c.Plan.Outside() || e.About.Used != c.Plan.Used() || !sameFiles(c, e) {
		return false
	}
	for _, u := range c.Units {
		for _, f := range u.Grow.Fields {
			if f.Target() != nil {
				return false // an occasion that is made of rows
			}
		}
		for _, s := range u.Steps {
			if !stepStays(s, a) {
				return false
			}
		}
	}
	return true
}

// sameOccasions reports whether the files that runs of units took their occasions from are as they were.
func sameOccasions(c *plan.Compiled, runs []*journal.Entry) bool {
	for _, u := range c.Units {
		file := u.Plan.File(c.Plan)
		if file == "" {
			continue
		}
		now, _, err := archive.ReadInput(file)
		if err != nil {
			return false
		}
		for _, e := range runs {
			own := e.About.Unit == u.Plan.Name && e.About.Occasions == u.Plan.OccasionsFile()
			if own && (len(e.About.Inputs) != 1 || e.About.Inputs[0].Digest != now.Digest) {
				return false
			}
		}
	}
	return true
}

// stepStays reports whether a step reads and writes nothing that an amendment touches.
func stepStays(s *plan.Step, a *load.Amendment) bool {
	if s.SQL != nil {
		return false // it may read anything
	}
	if s.Table == nil {
		return true
	}
	rows, columns := a.Touches(s.Table)
	if rows {
		return false
	}
	if len(columns) == 0 {
		return true
	}
	if s.Word == plan.StepDelete || s.Word == plan.StepClear {
		return false // the journal keeps whole rows
	}
	return !slices.ContainsFunc(s.Names(), func(c *schema.Column) bool { return slices.Contains(columns, c) })
}

// sameFiles reports whether the files that a plan reads are as they were.
func sameFiles(c *plan.Compiled, e *journal.Entry) bool {
	digests := map[string]string{}
	for _, x := range e.About.Inputs {
		digests[x.Path] = x.Digest
	}
	for _, path := range c.Inputs {
		x, _, err := archive.ReadInput(path)
		if err != nil || digests[x.Path] != x.Digest {
			return false
		}
	}
	return true
}
