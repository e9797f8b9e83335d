package cli

import (
	"context"
	"fmt"
	"io"
	"runtime/debug"
	"slices"
	"strings"

	"evensprout/internal/unit"

	"evensprout/internal/journal"

	"github.com/spf13/cobra"

	"evensprout/internal/diag"
	"evensprout/internal/load"
	"evensprout/internal/plan"
	"evensprout/internal/report"
	"evensprout/internal/schema"
)

// unitFlags are those of load about units.
type unitFlags struct {
	names     []string // only these units, and no entity; none: all, after the entities
	occasions string   // the file that stands in the place of the unit's own
	again     bool
	without   bool
}

func (f *unitFlags) add(c *cobra.Command) {
	c.Flags().
		StringArrayVar(&f.names, "unit", nil, "run only this `UNIT`, and load no entities; repeatable")
	c.Flags().
		StringVar(&f.occasions, "occasions", "", "with --unit: `FILE` of occasions; - is standard input")
	c.Flags().BoolVar(&f.again, "again", false, "with --unit: repeat occasions that are done")
	c.Flags().BoolVar(&f.without, "without-units", false, "load only entities")
}

func (f *unitFlags) check(journal *journalFlags, write *writeFlags) error {
	for _, x := range []struct {
		bad  bool
		text string
	}{
		{len(f.names) > 0 && f.without, "--unit and --without-units cannot be combined"},
		{len(f.names) > 0 && (journal.resume || journal.restore || journal.extra != "" || journal.ifEmpty ||
			write.corrected != "" || write.rebuilds() || write.changes != ""),
			"--unit loads no entities, so it cannot be combined with --resume, --restore, --extra, --if-empty, " +
				"--corrected, --indexes rebuild or --changes"},
		{len(f.names) > 0 && write.part != "", "--unit and --part cannot be combined"},
		{len(f.names) > 0 && write.commit != "", "--unit and --commit cannot be combined; a unit's transactions " +
			"are set by together: in the plan"},
		{f.again && len(f.names) == 0, "--again needs --unit NAME"},
		{f.occasions != "" && len(f.names) != 1, "--occasions needs exactly one --unit"},
		{f.again && journal.none, "--again and --no-journal cannot be combined: without a journal, every " +
			"occasion is done anyway"},
	} {
		if x.bad {
			return diag.Usagef("%s", x.text)
		}
	}
	return nil
}

// selected are the units that are to be run.
func (f *unitFlags) selected(c *plan.Compiled) ([]*plan.CompiledUnit, error) {
	if f.without {
		return nil, nil
	}
	if len(f.names) == 0 {
		return c.Units, nil
	}
	var names []string
	for _, u := range c.Units {
		names = append(names, u.Plan.Name)
	}
	var out []*plan.CompiledUnit
	for _, u := range c.Units { // in their order
		if slices.Contains(f.names, u.Plan.Name) {
			out = append(out, u)
		}
	}
	for _, name := range f.names {
		if slices.Contains(names, name) {
			continue
		}
		hint := "the plan has no units"
		if near := diag.Nearest(name, names); near != "" {
			hint = fmt.Sprintf("did you mean %q?", near)
		} else if len(names) > 0 {
			hint = "known: " + strings.Join(names, ", ")
		}
		return nil, diag.Usagef("--unit: %s has no unit %q: %s", c.Plan.Name, name, hint)
	}
	return out, nil
}

// runUnits runs units, one after the other, and tells what each has done.
func (a *program) runUnits(ctx context.Context, x *loading) ([]*journal.UnitResult, error) {
	o, units := x.options, x.units
	o.Insist = x.again

	// Occasions are many small things that are soon forgotten: looking for them less often
	// costs a few MiB and saves a fifth of the time.
	defer debug.SetGCPercent(debug.SetGCPercent(400))
	var results []*journal.UnitResult
	tell := func() {
		switch {
		case a.json || a.quiet || len(results) == 0:
		case len(results) == 1 && len(x.units) == 1:
			a.printUnit(results[0], x.name, x.statements, x.out)
		default:
			a.printUnits(results, x.name, x.statements, x.out)
		}
	}
	if x.loaded != nil && x.loaded.Units != nil {
		results, units = x.loaded.Units, nil
	}
	for i, u := range units {
		o.Later = i < len(units)-1
		stop := a.progress(&o, nil, "occasions")
		r, err := unit.Run(ctx, x.plan, u, x.store, o)
		stop()
		if err != nil {
			tell() // of those before
			return results, err
		}
		results = append(results, r)
	}

	tell()
	for _, r := range results {
		if !x.statements {
			r.Statements = nil
		}
	}
	if len(results) == 0 || o.DryRun {
		return results, nil
	}
	return results, load.CheckAlways(ctx, x.store, x.unchecked(results))
}

// unchecked are the invariants that must still be looked at when units are done: none if the last one did all that it
// did in one transaction, which looks at them before it is committed.
func (x *loading) unchecked(results []*journal.UnitResult) []*schema.Rule {
	last := results[len(results)-1]
	if last.Together == 0 && last.Done > 0 {
		return nil
	}
	done := slices.ContainsFunc(results, func(r *journal.UnitResult) bool { return r.Done > 0 })
	if x.loaded != nil && x.loaded.Amended && !done {
		return x.loaded.Concerned
	}
	return x.plan.Always
}

// printUnits shows what several units have done, a line for each.
func (a *program) printUnits(results []*journal.UnitResult, name string, statements bool, out *outputs) {
	var all journal.UnitResult
	for _, r := range results {
		all.Occasions += r.Occasions
		all.Done += r.Done
		all.Earlier += r.Earlier
		all.Rejected += r.Rejected
		all.Sent += r.Sent
		all.Repeated += r.Repeated
		all.Elapsed += r.Elapsed
		all.Rejections = append(all.Rejections, r.Rejections...)
		all.Statements = append(all.Statements, r.Statements...)
	}

	if all.Done+all.Rejected == 0 && all.Earlier > 0 {
		fmt.Fprintf(
			a.out,
			"%s all %s of %s are already done (--unit NAME --again repeats them).\n",
			a.page.Good("done:"),
			diag.Count(all.Occasions, "occasion", "occasions"),
			diag.Count(len(results), "unit", "units"),
		)
		return
	}

	t := report.Table{
		Columns: []report.Column{
			{Name: "Unit"},
			{Name: "Steps", Number: true},
			{Name: "Occasions", Number: true},
			{Name: "Done", Number: true},
		},
	}
	if all.Earlier > 0 {
		t.Columns = append(t.Columns, report.Column{Name: "Already done", Number: true})
	}
	if all.Rejected > 0 {
		t.Columns = append(t.Columns, report.Column{Name: "Left out", Number: true})
	}
	t.Columns = append(
		t.Columns,
		report.Column{Name: "Transactions", Number: true},
		report.Column{Name: "Load", Number: true},
	)
	for _, r := range results {
		line := []string{r.Unit, diag.Number(len(r.Steps)), diag.Number(r.Occasions), diag.Number(r.Done)}
		if all.Earlier > 0 {
			line = append(line, diag.Number(r.Earlier))
		}
		if all.Rejected > 0 {
			line = append(line, diag.Number(r.Rejected))
		}
		number := ""
		if r.Load > 0 {
			number = diag.Number(r.Load)
		}
		t.Rows = append(t.Rows, append(line, diag.Number(r.Transactions), number))
	}

	fmt.Fprintln(a.out, a.page.Draw(t))
	a.printRefusals("occasion", "left out", all.Rejected, all.Rejections)
	word, more := a.page.Good("done:"), ""
	if results[0].DryRun {
		word, more = a.page.Good("dry run:"), ", all rolled back"
	}
	if all.Repeated > 0 {
		more += ", " + diag.Count(all.Repeated, "transaction", "transactions") + " retried"
	}
	fmt.Fprintf(
		a.out,
		"\n%s %s of %s in %s: %s, %s%s\n",
		word,
		diag.Count(all.Done, "occasion", "occasions"),
		diag.Count(len(results), "unit", "units"),
		name,
		diag.Count(all.Sent, "statement", "statements"),
		paceOf("occasions", all.Done, all.Elapsed),
		more,
	)
	if path := out.rejectsPath(); path != "" && all.Rejected > 0 {
		fmt.Fprintf(a.out, "Occasions left out are in %s.\n", path)
	}
	if statements {
		a.printStatements(all.Statements)
	}
}

func (a *program) printUnit(r *journal.UnitResult, name string, statements bool, out *outputs) {
	if r.Done == 0 && r.Rejected == 0 && r.Earlier > 0 {
		all := "all of its " + diag.Count(r.Occasions, "occasion", "occasions") + " are"
		if r.Occasions == 1 {
			all = "its occasion is"
		}
		fmt.Fprintf(
			a.out,
			"%s unit %s: %s already done (--unit %s --again repeats them).\n",
			a.page.Good("done:"),
			r.Unit,
			all,
			r.Unit,
		)
		return
	}

	fmt.Fprintln(a.out, a.page.Draw(stepTable(r)))
	a.printRefusals("occasion", "left out", r.Rejected, r.Rejections)
	word, how := a.page.Good("done:"), "in "+diag.Count(r.Transactions, "transaction", "transactions")
	if r.DryRun {
		word, how = a.page.Good("dry run:"), "in one transaction, all rolled back"
	}
	more := ""
	if r.Earlier > 0 {
		more += ", " + diag.Number(r.Earlier) + " done before"
	}
	if r.Repeated > 0 {
		more += ", " + diag.Count(r.Repeated, "transaction", "transactions") + " retried"
	}
	fmt.Fprintf(
		a.out,
		"\n%s %s of %s in %s, %s: %s, %s%s\n",
		word,
		diag.Count(r.Done, "occasion", "occasions"),
		r.Unit,
		name,
		how,
		diag.Count(r.Sent, "statement", "statements"),
		paceOf("occasions", r.Done, r.Elapsed),
		more,
	)
	switch {
	case r.Load > 0 && r.Undo:
		fmt.Fprintf(a.out, "This is load %d; evensprout withdraw %d undoes it.\n", r.Load, r.Load)
	case r.Load > 0:
		fmt.Fprintf(a.out, "This is load %d; previous contents are not kept, so it cannot be withdrawn.\n", r.Load)
	}

	if path := out.rejectsPath(); path != "" && r.Rejected > 0 {
		fmt.Fprintf(a.out, "Occasions left out are in %s.\n", path)
	}
	if statements {
		a.printStatements(r.Statements)
	}
}

// stepTable lists the steps of a unit, with the rows that each has touched.
func stepTable(r *journal.UnitResult) report.Table {
	t := report.Table{
		Columns: []report.Column{
			{Name: "Step", Number: true},
			{Name: "Of " + r.Unit},
			{Name: "Table"},
			{Name: "Rows", Number: true},
		},
	}
	for i, s := range r.Steps {
		rows := diag.Number(s.Rows)
		switch {
		case s.Loop:
			rows = diag.Count(s.Rows, "element", "elements")
		case s.Table == "":
			rows = "held " + diag.Count(s.Rows, "time", "times")
		}
		t.Rows = append(t.Rows, []string{diag.Number(i + 1), s.Step, s.Table, rows})
	}
	return t
}

// printBroken shows which invariants do not hold.
func (a *program) printBroken(w io.Writer, page report.Page, rules []load.BrokenRule) {
	for _, r := range rules {
		fmt.Fprintf(w, "%s %s\n", page.Alarm("broken:"), r.Name)
		for _, row := range r.Rows {
			fmt.Fprintf(w, "  %s: %s\n", r.Table, row)
		}
		if r.More {
			fmt.Fprintln(w, "  and more")
		}
	}
}
