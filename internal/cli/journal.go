package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"os/user"
	"slices"
	"strconv"
	"strings"
	"time"

	"evensprout/internal/archive"
	"evensprout/internal/replay"
	"evensprout/internal/withdraw"

	"evensprout/internal/journal"

	"github.com/spf13/cobra"

	"evensprout/internal/diag"
	"evensprout/internal/files"
	"evensprout/internal/grow"
	"evensprout/internal/load"
	"evensprout/internal/plan"
	"evensprout/internal/report"
	"evensprout/internal/schema"
	"evensprout/internal/store"
)

// errDifferences tells that compare found differences.
var errDifferences = errors.New("the tables are not as they were loaded")

// actor says who works on the database, for others.
func actor() string {
	name := "somebody"
	if u, err := user.Current(); err == nil {
		name = u.Username
	}
	if host, err := os.Hostname(); err == nil {
		name += "@" + host
	}
	return fmt.Sprintf("%s, process %d", name, os.Getpid())
}

// loadNumber reads the number of a load, and the plan, from arguments.
func loadNumber(args []string) (int64, []string, error) {
	number := int64(0)
	var planArgs []string
	for _, arg := range args {
		if n, err := strconv.ParseInt(arg, 10, 64); err == nil && n > 0 && number == 0 {
			number = n
			continue
		}
		if isPlanName(arg) && planArgs == nil {
			planArgs = []string{arg}
			continue
		}
		return 0, nil, diag.Usagef("%q is neither a load number nor a plan (.yaml)", arg)
	}
	return number, planArgs, nil
}

// compareWith says which loads the tables are held against.
type compareWith struct {
	one    bool // the load of a number, else those of the plan
	number int64
	extra  string
}

// recall reads the loads from the journal.
func (w compareWith) recall(ctx context.Context, s store.Store, p *plan.Plan) ([]*load.PastLoad, error) {
	by := archive.Operator{Plan: p, Rows: files.Rows}
	switch {
	case w.one:
		one, err := load.Recall(ctx, s, w.number, nil, by)
		if err != nil {
			return nil, err
		}
		return []*load.PastLoad{one}, nil
	case p != nil:
		return load.RecallAll(ctx, s, load.Loads{Plan: p.Name, Extra: w.extra}, nil, by)
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
	if err == nil && !d.Same() {
		err = errDifferences
	}
	return err
}

// compare makes the command compare.
func (a *program) compare() *cobra.Command {
	var number int64
	var extra string
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
			with := compareWith{one: cmd.Flags().Changed("load"), number: number, extra: extra}
			return a.compared(cmd.Context(), args, with)
		},
	}
	c.Flags().Int64Var(&number, "load", 0, "compare with this load, by its number")
	c.Flags().StringVar(&extra, "extra", "", "compare with this extra set of rows, by its name")
	return c
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
	err = load.CheckAlways(ctx, s, c)
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

// withdraw makes the command withdraw.
func (a *program) withdraw() *cobra.Command {
	var commit string
	var also []string
	var dryRun bool
	var wait time.Duration
	c := &cobra.Command{
		Use:   "withdraw [LOAD] [PLAN]",
		Short: "Undo a load",
		Long: `withdraw undoes a load: it removes the rows that the load added, children first,
restores the rows that it changed, and puts back the rows that it deleted. Without a
number, it undoes the last load that was not withdrawn: of the named plan, or of any.

It removes or restores a row only if the row still holds what the load wrote. Rows that
somebody changed since, and rows that other rows now refer to, are left alone and
listed: --also changed undoes changed rows, too, and --also referring deletes the rows
that refer to removed ones.

It does everything in one transaction. --commit chunk works in steps, which the same
command resumes after an interruption. Sequences are not set back. A run of a unit is
always undone in one transaction, before the loads that it used. A name that ends in
.yaml is a plan: without a number, its last load is undone.`,
		Example: `  evensprout withdraw                 # the last load, of whatever plan
  evensprout withdraw fares.yaml      # the last load of this plan
  evensprout withdraw 3 --dry-run
  evensprout withdraw 3 --db postgres://app@localhost/app --commit chunk`,
		Args: cobra.MaximumNArgs(2),
		RunE: func(cmd *cobra.Command, args []string) error {
			number, planArgs, err := loadNumber(args)
			if err != nil {
				return err
			}
			o := withdraw.Options{DryRun: dryRun, Wait: wait, Again: a.ws.Again}
			if commit != "" {
				if o.Commit, err = plan.ParseCommit(commit); err != nil || o.Commit == plan.CommitFamily {
					return diag.Usagef("--commit must be load or chunk")
				}
			}
			if o.Changed, o.Referring, err = parseAlso(also); err != nil {
				return err
			}
			a.dryRun(dryRun)
			a.ws.Writes = true
			s, p, name, err := a.ws.OpenAlone(cmd.Context(), planArgs)
			if err != nil {
				return err
			}
			defer s.Close()
			o.By = archive.Operator{Plan: p, Rows: files.Rows}
			if planArgs == nil {
				p = nil // one that lies in the folder says only where the database is
			}
			if number, err = a.loadToWithdraw(cmd.Context(), s, number, p, planArgs); err != nil {
				return err
			}
			v, err := withdraw.Run(cmd.Context(), s, number, o)
			if err != nil {
				return err
			}
			a.printLost(v.Lost)
			if a.json {
				err = a.writeJSON(v)
			} else {
				a.printWithdrawal(v, name)
			}
			if err == nil && v.Left > 0 {
				err = errRejects
			}
			return err
		},
	}
	c.Flags().StringVar(&commit, "commit", "load", "what to commit together: load or chunk")
	c.Flags().
		StringArrayVar(&also, "also", nil, "changed: also undo rows that were changed since; referring: also "+
			"delete rows that refer to removed rows; repeatable")
	c.Flags().BoolVar(&dryRun, "dry-run", false, "do everything, then roll it back")
	c.Flags().DurationVar(&wait, "wait", 0, "wait this long for another run of the same plan, such as 5m")
	a.allowFlag(c)
	return c
}

// loadToWithdraw is the load with a number, or the last one that is not withdrawn: of a
// plan, if one is named, else of whatever plan.
func (a *program) loadToWithdraw(
	ctx context.Context,
	s store.Store,
	number int64,
	p *plan.Plan,
	planArgs []string,
) (int64, error) {
	all, err := journal.Entries(ctx, s, "")
	if err != nil {
		return 0, err
	}
	var last *journal.Entry // of any plan
	for _, e := range slices.Backward(all) {
		if number > 0 {
			if e.Number == number && p != nil && e.Plan != p.Name {
				return 0, diag.Usagef(
					"load %d is of the plan %s, and %s is the plan %s",
					number,
					e.Plan,
					planArgs[0],
					p.Name,
				)
			}
			continue
		}
		if e.State == journal.StateWithdrawn {
			continue
		}
		if last == nil {
			last = e
		}
		if p == nil {
			if !a.json {
				fmt.Fprintf(a.err, "note: the last load is load %d of %s\n", e.Number, e.Plan)
			}
			return e.Number, nil
		}
		if e.Plan == p.Name {
			return e.Number, nil
		}
	}
	switch {
	case number > 0:
		return number, nil
	case last != nil:
		return 0, &store.Fault{
			Kind:    store.Refused,
			Message: fmt.Sprintf("%s has no load to withdraw", p.Name),
			Hint: fmt.Sprintf("the last load in this database is of %s: evensprout withdraw "+
				"%d", last.Plan, last.Number),
		}
	}
	return 0, &store.Fault{
		Kind:    store.Refused,
		Message: "there is no load to withdraw",
		Hint:    "evensprout history lists the loads of this database",
	}
}

// withdrawalTable counts what was taken back, by entity and in all.
func withdrawalTable(v *withdraw.Withdrawal) (t report.Table, total int64) {
	t = report.Table{Columns: []report.Column{{Name: "Entity"}, {Name: "Table"}}}
	counts := []struct {
		name string
		of   func(withdraw.WithdrawnEntity) int64
		all  bool
	}{
		{"Removed", func(e withdraw.WithdrawnEntity) int64 { return e.Removed }, true},
		{"Restored", func(e withdraw.WithdrawnEntity) int64 { return e.Restored }, false},
		{"Put back", func(e withdraw.WithdrawnEntity) int64 { return e.Returned }, false},
		{"Already gone", func(e withdraw.WithdrawnEntity) int64 { return e.Gone }, false},
		{"Left alone", func(e withdraw.WithdrawnEntity) int64 { return e.Left }, false},
	}
	for i := range counts {
		shown := counts[i].all
		for _, e := range v.Entities {
			shown = shown || counts[i].of(e) != 0
		}
		if counts[i].all = shown; shown {
			t.Columns = append(t.Columns, report.Column{Name: counts[i].name, Number: true})
		}
	}

	for _, e := range v.Entities {
		line := []string{e.Entity, e.Table}
		for _, c := range counts {
			if c.all {
				line = append(line, diag.Number(c.of(e)))
			}
		}
		total += e.Removed + e.Restored + e.Returned
		t.Rows = append(t.Rows, line)
	}
	return t, total
}

// printWithdrawal prints what a withdrawal removed, restored and left.
func (a *program) printWithdrawal(v *withdraw.Withdrawal, name string) {
	t, total := withdrawalTable(v)
	fmt.Fprintln(a.out, a.page.Draw(t))
	if v.Left > 0 {
		fmt.Fprintf(a.out, "\n%s left alone:\n", diag.Count(v.Left, "row", "rows"))
		printLeft(a.out, v)
	}
	for _, table := range slices.Sorted(maps.Keys(v.Others)) {
		fmt.Fprintf(
			a.out,
			"\nAlso removed, because they referred to these rows: %s of %s\n",
			diag.Count(v.Others[table], "row", "rows"),
			table,
		)
	}

	word, is := a.page.Good("done:"), "is"
	if v.DryRun {
		word, is = a.page.Good("dry run, all rolled back:"), "would be"
	}
	more := ""
	if v.FilesLeft > 0 {
		fmt.Fprintf(
			a.err,
			"note: %s that these rows named %s left in place; name the plan's file to remove them\n",
			diag.Count(v.FilesLeft, "file", "files"),
			map[bool]string{true: "is", false: "are"}[v.FilesLeft == 1],
		)
	}

	if v.Files > 0 {
		more = ", and " + diag.Count(v.Files, "file", "files")
	}
	partly := ""
	if len(v.Also) > 0 {
		partly = "partly "
	}
	fmt.Fprintf(
		a.out,
		"\n%s load %d of %s %s %swithdrawn from %s: %s%s, %s\n",
		word,
		v.Load,
		v.Plan,
		is,
		partly,
		name,
		diag.Count(total, "row", "rows"),
		more,
		pace(total, v.Elapsed),
	)
	if len(v.Also) > 0 && !v.DryRun {
		fmt.Fprintf(
			a.out,
			"evensprout withdraw %d --also %s removes the rest.\n",
			v.Load,
			strings.Join(v.Also, " --also "),
		)
	}
}

// printLeft lists the first rows that a withdrawal leaves.
func printLeft(out io.Writer, v *withdraw.Withdrawal) {
	for i, r := range v.LeftRows {
		if i == maxShownRows {
			break
		}
		head := cmp.Or(r.Row, r.Entity)
		if r.Key != "" {
			head = strings.TrimSpace(head + " (" + r.Key + ")")
		}
		if head != "" {
			head += ": "
		}
		fmt.Fprintf(out, "  %s%s\n", head, r.Why)
	}
	if rest := v.Left - int64(min(len(v.LeftRows), maxShownRows)); rest > 0 {
		fmt.Fprintf(out, "  and %s more\n", diag.Number(rest))
	}
}

// forgotten removes a load from the journal.
func (a *program) forgotten(ctx context.Context, s store.Store, number int64, name string) error {
	if number < 1 {
		return diag.Usagef("--forget needs the number of a load: evensprout history --forget 3")
	}
	e, err := journal.Forget(ctx, s, number)
	if err != nil {
		return err
	}
	if a.json {
		out := &report.Object{}
		out.Set("forgotten", number)
		out.Set("plan", e.Plan)
		return a.writeJSON(out)
	}
	fmt.Fprintf(
		a.out,
		"%s load %d of %s is removed from the journal of %s. Its rows stay.\n",
		a.page.Good("done:"),
		number,
		e.Plan,
		name,
	)
	return nil
}

// printLost tells once which columns of past loads are gone.
func (a *program) printLost(lost []string) {
	if len(lost) > 0 && !a.json {
		fmt.Fprintf(
			a.err,
			"note: the columns of these fields no longer exist, so they are left out: %s\n",
			strings.Join(lost, ", "),
		)
	}
}

// writePlan writes the plan that the journal keeps of a load, as it was.
func (a *program) writePlan(ctx context.Context, s store.Store, number int64) error {
	if number == 0 {
		return diag.Usagef(
			"--plan needs the number of a load: evensprout history 3 --plan")

	}
	e, err := journal.FindEntry(ctx, s, number)
	if err != nil {
		return err
	}
	text, err := archive.StoredPlan(e)
	if err == nil {
		_, err = a.exact.Write(text)
	}
	return err
}

// history makes the command history.
func (a *program) history() *cobra.Command {
	planText := false
	forget := int64(0)
	c := &cobra.Command{
		Use:   "history [LOAD] [PLAN]",
		Short: "List the loads in the journal, or show one",
		Long: `history lists the loads in the journal of the database: plan, time, person, number of
rows, and whether each is done, unfinished or withdrawn. With a number, it shows one load:
its entities, fingerprints, chunks, and the rows that were left out. --forget removes a
load from the journal and leaves its rows: for loads whose tables are gone, or whose rows
stay permanently.

A name that ends in .yaml is a plan; it only says where the database is.`,
		Example: `  evensprout history
  evensprout history 3 --db sqlite:app.db
  evensprout history 3 --plan > was.yaml    # the plan as it was loaded
  evensprout history --forget 3             # its tables are gone
  evensprout history --json`,
		Args: cobra.MaximumNArgs(2),
		RunE: func(cmd *cobra.Command, args []string) error {
			number, planArgs, err := loadNumber(args)
			if err != nil {
				return err
			}
			a.ws.Writes = forget > 0
			s, _, name, err := a.ws.OpenAlone(cmd.Context(), planArgs)
			if err != nil {
				return err
			}
			defer s.Close()
			if cmd.Flags().Changed("forget") {
				return a.forgotten(cmd.Context(), s, forget, name)
			}
			if planText {
				return a.writePlan(cmd.Context(), s, number)
			}
			if number > 0 {
				return a.showLoad(cmd.Context(), s, number)
			}
			all, err := journal.Entries(cmd.Context(), s, "")
			if err != nil {
				return err
			}
			if a.json {
				if all == nil {
					all = []*journal.Entry{}
				}
				return a.writeJSON(map[string]any{"loads": all})
			}
			if len(all) == 0 {
				fmt.Fprintf(a.out, "The journal of %s has no loads.\n", name)
				return nil
			}
			t := report.Table{
				Columns: []report.Column{
					{Name: "Load", Number: true},
					{Name: "Plan"},
					{Name: "State"},
					{Name: "Rows", Number: true},
					{Name: "Left out", Number: true},
					{Name: "Began", Whole: true},
					{Name: "By"},
				},
			}
			for _, e := range all {
				rows, rejected := "", ""
				if e.Summary != nil {
					rows, rejected = diag.Number(e.Summary.Rows), diag.Number(e.Summary.Rejected)
					if u := e.Summary.Unit; u != nil {
						rows, rejected = diag.Count(u.Done, "occasion", "occasions"), diag.Number(u.Rejected)
					}
				}
				t.Rows = append(
					t.Rows,
					[]string{
						strconv.FormatInt(e.Number, 10),
						planName(e),
						stateWord(e.State),
						rows,
						rejected,
						e.Began.Format(shownMoment),
						e.Actor,
					},
				)
			}
			fmt.Fprintln(a.out, a.page.Draw(t))
			return nil
		},
	}
	c.Flags().BoolVar(&planText, "plan", false, "print the plan of a load, as the journal keeps it")
	c.Flags().
		Int64Var(&forget, "forget", 0, "remove a load from the journal, and leave its rows")
	a.allowFlag(c)
	return c
}

const shownMoment = "2006-01-02 15:04:05Z"

// planName is a load's plan for a message, with the name of an extra load.
func planName(e *journal.Entry) string {
	if e.About.Unit != "" {
		return e.Plan + ", unit " + e.About.Unit
	}
	if e.Extra != "" {
		return e.Plan + ", " + e.Extra
	}
	return e.Plan
}

// stateWord is a load's state for a message.
func stateWord(s journal.State) string {
	switch s {
	case journal.StateOpen:
		return "not finished"
	case journal.StateWithdrawing:
		return "partly withdrawn"
	}
	return string(s)
}

// showLoad shows one load of the journal.
func (a *program) showLoad(ctx context.Context, s store.Store, number int64) error {
	e, err := journal.FindEntry(ctx, s, number)
	if err != nil {
		return err
	}
	chunks, err := journal.Chunks(ctx, s, e.Number)
	if err != nil {
		return err
	}
	if a.json {
		return a.writeJSON(map[string]any{"load": e, "chunks": chunks})
	}
	line := func(name, format string, args ...any) {
		fmt.Fprintf(a.out, "%-12s %s\n", name, fmt.Sprintf(format, args...))
	}
	line("load", "%d of %s, %s", e.Number, planName(e), stateWord(e.State))
	line("began", "%s, by %s", e.Began.Format(shownMoment), e.Actor)
	if !e.Ended.IsZero() {
		line("ended", "%s", e.Ended.Format(shownMoment))
	}
	line("program", "%s", e.About.Version)
	if e.About.Unit != "" {
		a.showUnitLoad(e, line)
		return nil
	}
	line("commit", "%s, %s", e.About.Commit, diag.Count(len(chunks), "chunk", "chunks"))
	sums, former := journal.Sums(e, chunks), int64(0)
	for _, sum := range sums {
		former += sum.Updated + sum.Removed
	}
	switch {
	case former > 0 && !e.About.Undo:
		line("previous rows", "%s were changed or deleted; their previous contents were not kept "+
			"(--no-undo)", diag.Number(former))
	case former > 0 && e.State != journal.StateWithdrawn:
		line(
			"previous rows",
			"%s were changed or deleted; their previous contents are kept until the load is withdrawn",
			diag.Number(former),
		)
	}

	for _, x := range e.About.Inputs {
		if x.Path != "" {
			line("file", "%s, %s, SHA-256 %s", x.Path, diag.Count(x.Bytes, "byte", "bytes"), x.Digest)
		}
	}
	fmt.Fprintf(a.out, "\n%s\n", a.page.Draw(entitiesTable(e, sums)))
	a.showChunks(e, chunks)
	a.showLeftOut(chunks)
	return nil
}

// entitiesTable lists the entities of a load with what was done to their rows.
func entitiesTable(e *journal.Entry, sums map[string]journal.Entity) report.Table {
	t := report.Table{
		Columns: []report.Column{
			{Name: "Entity"},
			{Name: "Table"},
			{Name: "Mode"},
			{Name: "Planned", Number: true},
			{Name: "Inserted", Number: true},
			{Name: "Updated", Number: true},
			{Name: "Left out", Number: true},
			{Name: "Fingerprint"},
		},
	}
	for _, x := range e.About.Entities {
		sum := sums[x.Entity]
		print := sum.Fingerprint.String()
		if x.Skipped {
			print = "left alone: the table had rows"
		}
		t.Rows = append(
			t.Rows,
			[]string{
				x.Entity,
				x.Table,
				string(x.Mode),
				diag.Number(int64(x.Rows + x.Given)),
				diag.Number(sum.Inserted),
				diag.Number(sum.Updated),
				diag.Number(sum.Rejected + sum.Unmatched),
				print,
			},
		)
	}
	return t
}

// showLeftOut shows the first rows that a load left out, and why.
func (a *program) showLeftOut(chunks []*journal.ChunkEntry) {
	n := 0
	for _, c := range chunks {
		for _, r := range c.Log.Rejected {
			if n++; n == 1 {
				fmt.Fprintln(a.out, "\nLeft out:")
			}
			if n <= maxShownRows {
				fmt.Fprintf(a.out, "  %s\n", r.Refusal.Error())
			}
		}
	}
	if n > maxShownRows {
		fmt.Fprintf(a.out, "  and %s more\n", diag.Number(int64(n-maxShownRows)))
	}
}

// showUnitLoad shows what a run of a unit did.
func (a *program) showUnitLoad(e *journal.Entry, line func(name, format string, args ...any)) {
	if !e.About.Undo {
		line("previous rows", "previous contents were not kept (--no-undo)")
	}
	if e.Summary == nil || e.Summary.Unit == nil {
		line("occasions", "the run was interrupted; the same command continues it")
		return
	}
	u := e.Summary.Unit
	line(
		"occasions",
		"%s, %s left out, in %s",
		diag.Number(u.Done),
		diag.Number(u.Rejected),
		diag.Count(u.Transactions, "transaction", "transactions"),
	)
	fmt.Fprintf(a.out, "\n%s\n", a.page.Draw(stepTable(u)))
	if len(u.Rejections) > 0 {
		fmt.Fprintln(a.out, "\nLeft out:")
	}
	for i, r := range u.Rejections {
		if i < maxShownRows {
			fmt.Fprintf(a.out, "  %s\n", r.Error())
		}
	}
	if rest := u.Rejected - int64(min(len(u.Rejections), maxShownRows)); rest > 0 {
		fmt.Fprintf(a.out, "  and %s more\n", diag.Number(rest))
	}
}

// showChunks lists the chunks of a load: all of a few, else the last ones.
func (a *program) showChunks(e *journal.Entry, chunks []*journal.ChunkEntry) {
	t := report.Table{
		Columns: []report.Column{
			{Name: "Chunk", Number: true},
			{Name: "Written", Whole: true},
			{Name: "Rows", Number: true},
			{Name: "Of"},
		},
	}
	for i, c := range chunks {
		if i < len(chunks)-maxShownRows {
			continue
		}
		rows := int64(0)
		var names []string
		for _, x := range e.About.Entities {
			if sum, ok := c.Result.Entities[x.Entity]; ok {
				rows += sum.Inserted + sum.Updated
				names = append(names, x.Entity)
			}
		}
		t.Rows = append(
			t.Rows,
			[]string{strconv.Itoa(i + 1), c.Ended.Format(shownMoment), diag.Number(rows), strings.Join(names, ", ")},
		)
	}

	if len(t.Rows) == 0 {
		return
	}
	fmt.Fprintf(a.out, "\n%s\n", a.page.Draw(t))
	if rest := len(chunks) - len(t.Rows); rest > 0 {
		fmt.Fprintf(a.out, "  and %s before these\n", diag.Number(int64(rest)))
	}
}

// printRestoration shows what a restoration did.
func (a *program) printRestoration(r *replay.Restoration, name string) {
	t := report.Table{
		Columns: []report.Column{
			{Name: "Entity"},
			{Name: "Table"},
			{Name: "Planned", Number: true},
			{Name: "Inserted", Number: true},
			{Name: "Restored", Number: true},
			{Name: "Deleted", Number: true},
		},
	}
	kept := int64(0)
	for _, e := range r.Entities {
		kept += e.Kept
		t.Rows = append(
			t.Rows,
			[]string{
				e.Entity,
				e.Table,
				diag.Number(e.Rows),
				diag.Number(e.Inserted),
				diag.Number(e.Updated),
				diag.Number(e.Deleted),
			},
		)
	}

	fmt.Fprintln(a.out, a.page.Draw(t))
	word, is := a.page.Good("done:"), "is"
	if r.DryRun {
		word, is = a.page.Good("dry run, all rolled back:"), "would be"
	}
	if r.Inserted+r.Updated+r.Deleted == 0 {
		fmt.Fprintf(a.out, "\n%s %s already was as loaded (%s)\n", word, name, pace(0, r.Elapsed))
	} else {
		fmt.Fprintf(a.out, "\n%s %s %s as loaded: %s inserted, %s restored, %s deleted (%s)\n", word, name,
			is,
			diag.Count(r.Inserted, "row", "rows"), diag.Number(r.Updated), diag.Number(r.Deleted), pace(0, r.Elapsed))
	}

	if kept > 0 {
		fmt.Fprintf(
			a.out,
			"%s not in the plan are in tables that had rows before; --delete-extra deletes them.\n",
			diag.Count(kept, "row", "rows"),
		)
	}
}
