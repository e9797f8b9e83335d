package cli

import (
	"errors"
	"fmt"

	"evensprout/internal/diag"
	"evensprout/internal/draft"
	"evensprout/internal/merge"
	"evensprout/internal/plan"
	"evensprout/internal/prove"
	"evensprout/internal/safe"
	"evensprout/internal/schema"
)

// readInto reads the plan of --into; nil without it.
func (f *surveyFlags) readInto() (*plan.Plan, error) {
	if f.into == "" {
		return nil, nil
	}
	p, err := plan.ReadFile(f.into)
	if errors.Is(err, plan.ErrMissing) {
		return nil, diag.Usagef("--into: there is no plan %s; --out writes a new one", f.into)
	}
	return p, err
}

// saveMerged merges a draft into the plan of --into and writes it, unless that changes nothing. What somebody has saved
// since the plan was read is kept: the draft is merged into that.
func (f *surveyFlags) saveMerged(db *schema.Database, d *draft.Draft) (*merge.Merged, error) {
	for {
		m, err := merge.Plan(f.merged, db, d)
		if err != nil || !m.Changed() || f.dryRun {
			return m, err
		}
		err = safe.Replace(f.into, m.Text, f.merged.Source())
		var changed *safe.ChangedError
		if !errors.As(err, &changed) {
			return m, err
		}
		if f.merged, err = plan.ReadFile(f.into); err != nil {
			return nil, err
		}
	}
}

// mergeInto merges a draft into the plan of --into, and shows what changes.
func (a *program) mergeInto(f *surveyFlags, db *schema.Database, d *draft.Draft, proof *prove.Proof) error {
	m, err := f.saveMerged(db, d)
	if err != nil {
		return err
	}
	for _, c := range m.Changes {
		a.change(f.into, &c)
	}
	switch {
	case !m.Changed() && m.Manual > 0:
		fmt.Fprintf(a.out, "%s is unchanged.\n", f.into)
	case !m.Changed():
		fmt.Fprintf(a.out, "%s %s has all tables and columns of the database\n", a.page.Good("nothing to add:"), f.into)
	case f.dryRun:
		fmt.Fprintf(a.out, "This is a dry run: %s is unchanged.\n", f.into)
	default:
		fmt.Fprintln(a.out, a.page.Good("merged:"), f.into)
	}
	if m.Gone > 0 {
		fmt.Fprintf(a.out, "%s the database has no table or column for %s of the plan\n",
			a.page.Alarm("not in the database:"), diag.Count(int64(m.Gone), "line", "lines"))
		fmt.Fprintln(a.out, "Remove the lines with \"# gone\", or give them the name that the database has.")
	}
	if proof != nil {
		a.printProof(f, proof)
	}
	fmt.Fprintf(a.out, "Next: evensprout check %s\n", f.into)
	return nil
}

// change shows a change of a plan, or what a person has to change.
func (a *program) change(file string, c *merge.Change) {
	fmt.Fprintln(a.out, a.page.Bold(fmt.Sprintf("%s:%d", file, c.Line))+" "+c.What)
	sign := "+ "
	if c.Manual {
		sign = "  "
	}
	if c.Old != "" {
		fmt.Fprintln(a.out, a.page.Alarm("- "+c.Old))
	}
	for _, l := range c.New {
		fmt.Fprintln(a.out, a.page.Good(sign+l))
	}
}
