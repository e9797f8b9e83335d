package cli

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"evensprout/internal/archive"
	"evensprout/internal/diag"
	"evensprout/internal/files"
	"evensprout/internal/grow"
	"evensprout/internal/journal"
	"evensprout/internal/load"
	"evensprout/internal/plan"
	"evensprout/internal/replay"
	"evensprout/internal/report"
	"evensprout/internal/schema"
	"evensprout/internal/store"
)

// errDifferences tells that compare found differences.
var errDifferences = errors.New("the tables are not as they were loaded")

// compareWith says which loads the tables are held against.
type compareWith struct {
	one    bool // the load of a number, else those of the plan
	number int64
	extra  string
	page   string   // the file of a page that shows the result
	ignore []string // columns that do not count
}

// recall reads the loads from the journal.
func (w compareWith) recall(ctx context.Context, s store.Store, p *plan.Plan) ([]*load.PastLoad, error) {
	by := archive.Operator{Plan: p, Rows: files.Rows, Ignore: w.ignore}
	switch {
	case w.one:
		one, err := load.Recall(ctx, journal.Unlocked(s), w.number, nil, by)
		if err != nil {
			return nil, err
		}
		return []*load.PastLoad{one}, nil
	case p != nil:
		return load.RecallAll(ctx, journal.Unlocked(s), load.Loads{Plan: p.Name, Extra: w.extra}, nil, by)
	}
	return nil, diag.Usagef("compare needs a plan, or --load N")
}

// compared holds the tables against loads, or against the plan where there are none.
func (a *program) compared(ctx context.Context, args []string, with compareWith) error {
	s, p, name, err := a.ws.OpenAlone(ctx, args)
	if err != nil {
		return err
	}
	defer s.Close()
	pasts, err := with.recall(ctx, s, p)
	if err != nil {
		return err
	}
	if len(pasts) == 0 {
		if with.extra != "" {
			return diag.Usagef("no extra set %q of %s was loaded", with.extra, p.Name)
		}
		s.Close()
		c, fresh, _, err := a.ws.Compile(ctx, args, true)
		if err != nil {
			return err
		}
		defer fresh.Close()
		s = fresh
		one, err := load.Planned(c, s)
		if err != nil {
			return err
		}
		pasts = []*load.PastLoad{one}
		fmt.Fprintln(
			a.err,
			"note: the journal has no load of this plan, so the tables are compared with the plan itself",
		)
	}

	defer load.CloseAll(pasts)
	started := time.Now()
	d, err := replay.Compare(ctx, s, pasts, replay.CompareOptions{})
	if err != nil {
		return err
	}
	a.printLost(d.Lost)
	var broken *load.Broken
	if p, err = inSchemasOf(p, pasts); err != nil {
		return err
	}
	if broken, err = a.brokenRules(ctx, p, s); err != nil {
		return err
	}
	if broken != nil {
		d.Broken = broken.Rules
	}
	if a.json {
		err = a.writeJSON(d)
	} else {
		a.printDifference(d, name, time.Since(started))
	}
	if err == nil {
		err = a.comparedPage(ctx, args, with.page, d)
	}
	if err == nil && !d.Same() {
		err = errDifferences
	}
	return err
}

// comparedPage writes a page of a comparison, if out names its file.
func (a *program) comparedPage(ctx context.Context, args []string, out string, d *replay.Difference) error {
	if out == "" {
		return nil
	}
	c, s, name, err := a.ws.Compile(ctx, args, true)
	if err != nil {
		return err
	}
	defer s.Close()
	defer c.Close()
	return a.writePage(ctx, &paged{plan: c, store: s, name: name, out: out, difference: d})
}

// compare makes the command compare.
func (a *program) compare() *cobra.Command {
	var number int64
	var extra, page string
	var ignore []string
	c := &cobra.Command{
		Use:   "compare [PLAN]",
		Short: "Show which rows are missing, changed or extra",
		Long: `compare generates the rows of the plan's loads again, as the journal recorded them, and
compares them with the tables: which rows are missing, which were changed (field by
field), and which are extra. Rows outside the plan are extra in tables that were empty
before the first load; in other tables they are only counted.

An unchanged table costs one pass: compare recognises it by its fingerprint. Values that
databases rewrite (trailing zeros, the order of JSON keys, trailing blanks of a CHAR)
are compared by meaning. compare writes only temporary tables.

If the journal has no load of the plan, the plan itself is generated and compared.
Changes that units made are not differences. The plan's invariants are checked, too.

Exit codes: 0 everything is as loaded, 7 there are differences.`,
		Example: `  evensprout compare
  evensprout compare larkwater/evensprout.yaml --db sqlite:app.db --json
  evensprout compare --load 3`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			with := compareWith{one: cmd.Flags().Changed("load"), number: number, extra: extra, page: page, ignore: ignore}
			if with.one && page != "" {
				return diag.Usagef("--page shows a plan, so it cannot be combined with --load")
			}
			return a.compared(cmd.Context(), args, with)
		},
	}
	c.Flags().Int64Var(&number, "load", 0, "compare with this load, by its number")
	a.pageFlag(c, &page)
	c.Flags().StringVar(&extra, "extra", "", "compare with this extra set of rows, by its name")
	ignoreFlag(c, &ignore)
	return c
}

// inSchemasOf is a plan in the schemas that its last load filled; nil for no plan.
func inSchemasOf(p *plan.Plan, pasts []*load.PastLoad) (*plan.Plan, error) {
	last := pasts[len(pasts)-1].Plan.Plan
	if p == nil || p.Schemas != nil || last.Schemas == nil {
		return p, nil
	}
	return p.WithUse(plan.Use{Schemas: last.Schemas})
}

// brokenRules looks at the invariants of a plan; nil if all hold, or there is no plan.
func (a *program) brokenRules(ctx context.Context, p *plan.Plan, s store.Store) (*load.Broken, error) {
	if p == nil || len(p.Always) == 0 {
		return nil, nil
	}
	db, err := s.Survey(ctx)
	if err != nil {
		return nil, err
	}
	c, err := p.Compile(
		plan.Options{
			Database:     db,
			WithoutUnits: true,
			Rows:         a.ws.OpenRows,
			Existing:     func(t *schema.Table) (grow.Table, error) { return archive.Existing(ctx, s, t) },
		},
	)
	if err != nil {
		return nil, err
	}
	defer c.Close()
	err = load.CheckAlways(ctx, s, c.Always)
	var broken *load.Broken
	if errors.As(err, &broken) {
		return broken, nil
	}
	return nil, err
}

// maxShownRows bounds the rows of a kind that are shown; --json has more.
const maxShownRows = 10

// differenceTable counts what differs, by entity.
func differenceTable(d *replay.Difference) report.Table {
	others, units := false, false
	for _, e := range d.Entities {
		others, units = others || e.Others > 0, units || e.ByUnits > 0
	}
	t := report.Table{
		Columns: []report.Column{
			{Name: "Entity"},
			{Name: "Table"},
			{Name: "Planned", Number: true},
			{Name: "In the table", Number: true},
			{Name: "Missing", Number: true},
			{Name: "Changed", Number: true},
			{Name: "Extra", Number: true},
		},
	}
	if others {
		t.Columns = append(t.Columns, report.Column{Name: "Not in the plan", Number: true})
	}
	if units {
		t.Columns = append(t.Columns, report.Column{Name: "By units", Number: true})
	}
	t.Columns = append(t.Columns, report.Column{Name: "Found by"})
	for _, e := range d.Entities {
		by := "row by row"
		if e.Fingerprint {
			by = "fingerprint"
		}
		line := []string{
			e.Entity,
			e.Table,
			diag.Number(e.Planned),
			diag.Number(e.Rows),
			diag.Number(e.Missing),
			diag.Number(e.Changed),
			diag.Number(e.Extra),
		}
		if others {
			line = append(line, diag.Number(e.Others))
		}
		if units {
			line = append(line, diag.Number(e.ByUnits))
		}
		t.Rows = append(t.Rows, append(line, by))
	}
	return t
}

// printDifference prints how a database differs from what a load wrote.
func (a *program) printDifference(d *replay.Difference, name string, took time.Duration) {
	if a.quiet && d.Same() {
		return
	}
	fmt.Fprintln(a.out, a.page.Draw(differenceTable(d)))
	for _, e := range d.Entities {
		a.printRows("missing from "+e.Table, e.Missing, e.MissingRows)
		a.printRows("changed in "+e.Table, e.Changed, e.ChangedRows)
		a.printRows("extra in "+e.Table, e.Extra, e.ExtraRows)
	}
	if len(d.Broken) > 0 {
		fmt.Fprintln(a.out)
		a.printBroken(a.out, a.page, d.Broken)
	}
	if d.Missing+d.Changed+d.Extra == 0 && len(d.Broken) > 0 {
		fmt.Fprintf(
			a.out,
			"\n%s the rows are as they were loaded, and %s broken (%s).\n",
			a.page.Alarm("different:"),
			diag.Count(len(d.Broken), "invariant is", "invariants are"),
			pace(0, took),
		)
		return
	}

	if d.Same() {
		fmt.Fprintf(a.out, "\n%s %s is as it was loaded (%s).\n", a.page.Good("same:"), name, pace(0, took))
		return
	}
	fmt.Fprintf(
		a.out,
		"\n%s %s missing, %s changed, %s extra (%s). evensprout load --restore brings the tables back.\n",
		a.page.Alarm("different:"),
		diag.Count(d.Missing, "row", "rows"),
		diag.Number(d.Changed),
		diag.Number(d.Extra),
		pace(0, took),
	)
	for _, m := range d.Meaning {
		fmt.Fprintf(a.out, "Compared by meaning: %s (%s)\n", m.Why, strings.Join(m.Columns, ", "))
	}
}

// printRows prints the first rows of one kind of difference.
func (a *program) printRows(what string, n int64, rows []load.RowDifference) {
	if n == 0 {
		return
	}
	fmt.Fprintf(a.out, "\n%s %s:\n", diag.Count(n, "row", "rows"), what)
	for i, r := range rows {
		if i == maxShownRows {
			break
		}
		head := r.Row
		if r.Key != "" {
			head = strings.TrimSpace(head + " (" + r.Key + ")")
		}
		fmt.Fprintf(a.out, "  %s\n", head)
		for _, c := range r.Cells {
			fmt.Fprintf(a.out, "      %s is %s, loaded as %s\n", c.Field, cutValue(c.Is), cutValue(c.Plan))
		}
	}
	if rest := n - int64(min(len(rows), maxShownRows)); rest > 0 {
		fmt.Fprintf(a.out, "  and %s more\n", diag.Number(rest))
	}
}
