package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"evensprout/internal/archive"
	"evensprout/internal/replay"
	"evensprout/internal/withdraw"

	"evensprout/internal/journal"

	"github.com/spf13/cobra"

	"evensprout/internal/diag"
	"evensprout/internal/files"
	"evensprout/internal/load"
	"evensprout/internal/plan"
	"evensprout/internal/report"
	"evensprout/internal/safe"
	"evensprout/internal/schema"
	"evensprout/internal/store"
)

// load makes the command load.
func (a *program) load() *cobra.Command {
	var l loadCommand
	c := &cobra.Command{
		Use:   "load [PLAN]",
		Short: "Load a plan into the database",
		Long: `load checks the plan, generates its rows and writes them, parents first, in one
transaction; then it runs the plan's units and checks its invariants. If the
database refuses a row, everything is rolled back, and load reports the row,
field, value and constraint. The plan can skip or redraw such rows instead.

A journal, a few tables beside yours, records each load: a second load inserts
nothing twice, a plan with more rows adds only these, and a changed plan is
reported. The rows do not depend on --chunk, --jobs or the database.

Exit codes: 0 done, 3 the plan is wrong, 4 the database does not fit or cannot
be reached, 5 a row was refused or an invariant is broken, and everything
uncommitted is rolled back, 6 some rows were left out or not found,
130 interrupted.`,
		Example: `  evensprout load larkwater/evensprout.yaml --db sqlite:app.db
  evensprout load plans                          # all plans of a folder
  evensprout load prices.yaml --dry-run --changes changes.csv
  evensprout load --file stock.xlsx --table bins --mode update --set quantity=Qty
  evensprout load --variant ci --rows Passenger=10000
  evensprout load --anew                         # after you edited the plan
  evensprout load --restore                      # between two tests
  evensprout load --unit sell --occasions sales-of-today.csv`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			on, _ := cmd.Flags().GetBool("watch")
			if on {
				l.keep.anew, l.keep.remembered = true, &load.Remembered{}
			}
			if done, err := a.loadFolder(cmd, args, &l); done {
				return err
			}
			return a.watched(cmd, args, func() error { return a.runLoad(cmd, args, &l) })
		},
	}
	l.rows.add(c)
	l.write.add(a, c)
	l.keep.add(c)
	l.unit.add(c)
	l.file.add(c)
	watchFlag(c)
	a.clockFlag(c)
	a.useFlags(c)
	a.rowsFlag(c)
	a.awkwardFlag(c)
	groupFlags(c, "What to load", "file", "unit", "without-units", "occasions", "again", "part", "extra", "if-empty",
		"anew", "also", "restore", "delete-extra", "corrected", "retry-rejected", "clock", "awkward", "variant",
		"scale", "rows", "only", "schemas", "seed", "watch")
	groupFlags(c, "Refusals", "on-violation", "rejects", "max-rejects")
	groupFlags(c, "Commit and resume", "dry-run", "commit", "chunk", "jobs", "resume", "no-journal", "no-undo",
		"indexes")
	groupFlags(c, outputFlags, "changes", "page", "statements")
	return c
}

// loadCommand is the flags of load.
type loadCommand struct {
	rows  loadFlags
	write writeFlags
	keep  journalFlags
	unit  unitFlags
	file  fileFlags
}

// settle holds the flags against each other.
func (l *loadCommand) settle(cmd *cobra.Command) (load.Options, error) {
	o, err := l.rows.options(cmd)
	if err == nil {
		o, err = l.write.options(cmd, o)
	}
	if err == nil {
		err = l.keep.check(&l.write)
	}
	if err == nil {
		err = l.file.check(cmd.Flags().Args(), l)
	}
	if err != nil {
		return o, err
	}
	if l.keep.restore && cmd.Flags().Changed("clock") {
		return o, diag.Usagef(
			"--restore uses the clock of the load, so it cannot be combined with --clock")

	}
	return o, l.unit.check(&l.keep, &l.write)
}

// plansRows reports whether the load writes the rows that the plan itself plans.
func (l *loadCommand) plansRows() bool {
	return l.keep.extra == "" && l.write.corrected == "" && len(l.unit.names) == 0 && !l.keep.restore
}

// adjust changes a plan as the flags say.
func (l *loadCommand) adjust(c *plan.Compiled) {
	if l.unit.without && l.write.part == "" {
		c.Always = nil // they need not hold before the units have done their part
	}
	if l.keep.ifEmpty {
		for _, e := range c.Plan.Entities {
			e.WhenEmpty = true
		}
	}
}

// runLoad opens the plan and the database, loads, and prints the result.
func (a *program) runLoad(cmd *cobra.Command, args []string, l *loadCommand) error {
	ctx, keep := cmd.Context(), &l.keep
	o, err := l.settle(cmd)
	if err != nil {
		return err
	}
	a.dryRun(o.DryRun)
	a.ws.Writes, a.ws.Extra = true, keep.extra
	if err := a.inlinePlan(ctx, &l.file); err != nil {
		return err
	}
	a.chooseUnits(l)
	if err := a.pageCanBeWritten(l, nil, args...); err != nil { // plans that this one builds on may be loaded first
		return err
	}
	deadline := time.Now().Add(keep.wait)
	if keep.restore && keep.wait == 0 {
		if done, err := a.restoredAlone(ctx, args, o, keep); done || err != nil {
			return err
		}
	}
	c, s, name, err := a.behindBases(ctx, args, l, o)
	if err != nil {
		return err
	}
	defer s.Close()
	defer c.Close()
	if done, err := a.filledOnce(ctx, s, c.Plan, name, l); done || err != nil {
		return err
	}
	if !a.quiet {
		a.warn(c)
	}
	units, err := l.unit.selected(c)
	if err == nil {
		err = load.TryConditions(ctx, s, c)
	}
	if err != nil {
		return err
	}
	if c, err = a.correctedPlan(ctx, s, c, l); c == nil || err != nil {
		return err
	}
	l.adjust(c)
	o.Later, o.Again = len(units) > 0, a.ws.Again
	o.Patience = a.patience(keep.wait, deadline)
	a.keepJournal(&o, keep, deadline)
	if keep.restore {
		to := &restoring{c.Plan, c.Database, s, name, keep, max(0, time.Until(deadline))}
		if done, err := a.restored(ctx, to, o.DryRun); done || err != nil {
			return err
		}
	}
	return a.writeRows(ctx, &loading{
		plan: c, units: units, store: s, name: name, options: o, again: l.unit.again, statements: l.write.statements,
		keep: keep,
	}, l)
}

// behindBases compiles the plan, once those that it builds on are loaded.
func (a *program) behindBases(
	ctx context.Context, args []string, l *loadCommand, o load.Options,
) (*plan.Compiled, store.Store, string, error) {
	return a.ws.CompileWhenReady(ctx, args, l.keep.wait, func() error {
		// Parts are loaded beside each other, so none of them loads what all need.
		if o.DryRun || !l.plansRows() || l.write.part != "" {
			return nil
		}
		first := load.Options{Jobs: o.Jobs}
		if !l.keep.none {
			first.Journal = a.journal("", l.keep.noUndo)
		}
		_, err := a.loadBases(ctx, args, first)
		return err
	})
}

// correctedPlan is the plan of the rows that are tried again, if the flags say so, and
// else the plan itself; nil if there are none.
func (a *program) correctedPlan(
	ctx context.Context,
	s store.Store,
	c *plan.Compiled,
	l *loadCommand,
) (_ *plan.Compiled, err error) {
	if l.keep.retry {
		l.write.corrected, l.keep.extra, err = a.leftOut(ctx, s, c)
		if l.write.corrected == "" || err != nil {
			return nil, err
		}
	}
	if l.write.corrected == "" {
		return c, nil
	}
	if c, err = corrected(c, l.write.corrected); err == nil && !l.keep.retry {
		l.keep.extra, err = archive.CorrectedSet(l.write.corrected)
	}
	return c, err
}

// pageCanBeWritten reports before the first write if the page of the load cannot be written.
func (a *program) pageCanBeWritten(l *loadCommand, p *plan.Plan, args ...string) error {
	if l.write.page == "" {
		return nil
	}
	return a.inTheWay(a.output(l.write.page, p, append(args, l.file.file, a.ws.OccasionsFile, l.write.corrected)...).Check())
}

// patience waits for locks that others hold, and says so; not at all if wait is 0.
func (a *program) patience(wait time.Duration, until time.Time) load.Patience {
	if wait == 0 {
		return load.Patience{}
	}
	var once sync.Once
	return load.Patience{Until: until, Waits: func(f *store.Fault) {
		once.Do(func() { a.say("%s; waiting up to %s longer", f.Message, brief(time.Until(until))) })
	}}
}

// keepJournal says how the load is kept in the journal, or that it is not.
func (a *program) keepJournal(o *load.Options, keep *journalFlags, deadline time.Time) {
	if keep.none {
		if !a.quiet && !o.DryRun {
			fmt.Fprintln(
				a.err,
				"note: without a journal, this load cannot be resumed or withdrawn, and a second load does not "+
					"know of it",
			)
		}
		return
	}
	o.Journal = a.journal(keep.extra, keep.noUndo)
	if keep.wait > 0 {
		o.Journal.Wait = max(1, time.Until(deadline)) // not to be taken for none
	}
}

// writeRows writes the rows, or a part of them, or runs units.
func (a *program) writeRows(ctx context.Context, x *loading, l *loadCommand) error {
	var err error
	if err := a.pageCanBeWritten(l, x.plan.Plan); err != nil {
		return err
	}
	if x.out, err = openOutputs(x.plan, x.options, &l.write); err != nil {
		return err
	}
	x.out.into(&x.options)
	switch {
	case l.write.part != "":
		err = a.loadedPart(ctx, x.plan, x.store, x.name, x.options)
	case len(l.unit.names) > 0 || !slices.ContainsFunc(x.plan.Targets, func(t *plan.Target) bool {
		return !t.Plan.Existing
	}):
		err = a.unitsAlone(ctx, x)
	default:
		x.again = false
		err = a.loaded(ctx, x)
	}
	if l.write.page != "" {
		err = a.afterPage(ctx, x, l.write.page, err)
	}

	// A file that is incomplete outweighs rows that were left out.
	bad := x.out.close(err == nil || errors.Is(err, errRejects))
	if bad != nil && errors.Is(err, errRejects) {
		return bad
	}
	return errors.Join(err, bad)
}

// journal asks for a load to be written down.
func (a *program) journal(extra string, noUndo bool) *load.Journal {
	return &load.Journal{
		Actor:   actor(),
		Version: version(),
		NoUndo:  noUndo,
		Rows:    files.Rows,
		Earlier: replay.EarlierRows{},
		Extra:   extra,
	}
}

// restoredAlone brings the tables back without compiling the plan: its loads are in the
// journal as they were.
func (a *program) restoredAlone(ctx context.Context, args []string, o load.Options, keep *journalFlags) (bool, error) {
	s, p, name, err := a.ws.OpenAlone(ctx, args)
	if err != nil || p == nil {
		return false, err
	}
	defer s.Close()
	all, err := journal.Unlocked(s).Entries(ctx, p.Name)
	if err != nil ||
		!slices.ContainsFunc(
			all,
			func(e *journal.Entry) bool { return e.State == journal.StateDone && e.Extra == keep.extra },
		) {
		return false, err
	}
	return a.restored(ctx, &restoring{plan: p, store: s, name: name, keep: keep}, o.DryRun)
}

// chooseUnits says whether the units of the plan run with the load, and which one is read alone.
func (a *program) chooseUnits(l *loadCommand) {
	l.unit.without = l.unit.without || l.write.part != ""
	a.ws.WithUnits = !l.unit.without && l.keep.extra == "" && l.write.corrected == "" && !l.keep.retry
	if len(l.unit.names) == 1 {
		a.ws.Unit, a.ws.OccasionsFile = l.unit.names[0], l.unit.occasions
	}
}

// restoring is what load --restore brings back.
type restoring struct {
	plan  *plan.Plan
	db    *schema.Database // nil: it is read
	store store.Store
	name  string // of the database, for people
	keep  *journalFlags
	wait  time.Duration
}

// restored brings the tables back; false if nothing was loaded yet.
func (a *program) restored(ctx context.Context, x *restoring, dryRun bool) (bool, error) {
	r, err := replay.Restore(ctx, x.store, replay.RestoreOptions{
		Of: load.Loads{Plan: x.plan.Name, Extra: x.keep.extra}, Database: x.db,
		By:     archive.Operator{Plan: x.plan, Rows: files.Rows}.ToRestore(),
		DryRun: dryRun, DeleteExtra: x.keep.deleteExtra,
		Again: a.ws.Again, Wait: x.wait, Patience: a.patience(x.wait, time.Now().Add(x.wait)),
	})
	if err != nil {
		return false, err
	}
	if r == nil {
		if !a.quiet {
			fmt.Fprintln(a.err, "note: nothing of this plan is loaded yet, so it is loaded now")
		}
		return false, nil
	}

	a.printLost(r.Lost)
	switch {
	case a.json:
		err = a.writeJSON(r)
	case !a.quiet:
		a.printRestoration(r, x.name)
	}
	return true, err
}

// filledOnce reports whether a plan that fills a database once has done so.
func (a *program) filledOnce(ctx context.Context, s store.Store, p *plan.Plan, name string, l *loadCommand) (bool, error) {
	if !p.Once || !l.plansRows() {
		return false, nil
	}
	if l.keep.none {
		return false, diag.Usagef(
			"once: true needs the journal, so it cannot be combined with --no-journal")

	}
	e, err := journal.Unlocked(s).Filled(ctx, p.Name)
	if e == nil || err != nil {
		return false, err
	}
	switch {
	case a.json:
		out := &report.Object{}
		out.Set("plan", p.Name)
		out.Set("database", name)
		out.Set("earlier", e.Number)
		out.Set("rows", 0)
		return true, a.writeJSON(out)
	case !a.quiet:
		fmt.Fprintf(
			a.out,
			"%s load %d filled %s on %s, and the plan says once: true. Nothing to do.\n",
			a.page.Good("done:"),
			e.Number,
			name,
			e.Began.Format(shownMoment),
		)
	}
	return true, nil
}

// leftOut writes the rows that earlier loads left out into a file, to be loaded like a
// corrected one; its name is empty if there are none.
func (a *program) leftOut(ctx context.Context, s store.Store, c *plan.Compiled) (path, set string, err error) {
	rows, set, err := load.LeftOut(
		ctx,
		journal.Unlocked(s),
		c.Plan.Name,
		c.Database,
		archive.Operator{Plan: c.Plan, Rows: files.Rows}.ToRetry(),
	)
	if err != nil {
		return "", "", err
	}
	if len(rows) == 0 {
		if !a.quiet {
			fmt.Fprintf(a.err, "note: no row of %s was left out, so there is nothing to retry\n", c.Plan.Name)
		}
		return "", "", nil
	}

	folder, err := os.MkdirTemp("", "evensprout-")
	if err != nil {
		return "", "", err
	}
	a.ws.AtEnd = append(a.ws.AtEnd, func() error { return os.RemoveAll(folder) })
	path = filepath.Join(folder, "left-out.ndjson")
	f, err := safe.Create(path, 0o600)
	if err != nil {
		return "", "", err
	}
	for _, x := range rows {
		line, err := rejectLine(x)
		if err == nil {
			_, err = f.Write(line)
		}
		if err != nil {
			return "", "", errors.Join(err, f.Close())
		}
	}
	return path, set, f.Close()
}

// corrected makes a plan of the rows of a rejects file.
func corrected(c *plan.Compiled, path string) (*plan.Compiled, error) {
	f, err := safe.Open(path)
	if err != nil {
		return nil, diag.Usagef("--corrected: %w", unreadable(path, err))
	}
	defer f.Close()
	return archive.FromRejects(c, path, f)
}

// errRejects tells that a load is done, but some rows were left out or not found.
var errRejects = errors.New("some rows were left out")

// loading is a load as the command line asks for it.
type loading struct {
	plan       *plan.Compiled
	units      []*plan.CompiledUnit
	store      store.Store
	name       string // of the database, for people
	options    load.Options
	again      bool // occasions that are done are done once more
	statements bool // they are shown
	out        *outputs
	keep       *journalFlags
	loaded     *journal.Result // nil of units alone
	ran        []*journal.UnitResult
}

// brokenOff finds the load that --resume goes on with; nil if there is none.
func (a *program) brokenOff(ctx context.Context, x *loading) (*journal.Entry, error) {
	if !x.keep.resume {
		return nil, nil
	}
	open, err := load.OpenLoad(ctx, journal.Unlocked(x.store), x.plan.Plan.Name, x.options.Journal.Extra)
	if err != nil {
		return nil, err
	}
	if open == nil {
		if !a.quiet {
			fmt.Fprintln(a.err, "note: no load of this plan was interrupted, so there is nothing to resume")
		}
		return nil, nil
	}
	full, err := journal.Unlocked(x.store).Entry(ctx, open.Number)
	if err == nil {
		err = archive.Operator{Plan: x.plan.Plan}.MayResume(full)
	}
	if err == nil && !a.quiet {
		fmt.Fprintf(a.err, "note: going on with load %d, begun %s\n", open.Number, open.Began.Format(shownMoment))
	}
	return open, err
}

// noteLoad tells what is remarkable about a load that is done.
func (a *program) noteLoad(r *journal.Result, taken []*withdraw.Withdrawal) {
	if r.Unread {
		fmt.Fprintln(
			a.err,
			"note: triggers rewrote more rows than the journal keeps; compare reports the others as changed",
		)
	}

	for _, x := range r.Migrated {
		fmt.Fprintln(a.err, "note:", x)
	}
	for _, x := range r.Stepped {
		fmt.Fprintf(
			a.err,
			"note: %s: planned keys are already taken in %s, so %s get keys from %d on\n",
			x.Entity,
			x.Table,
			diag.Count(x.Rows, "row", "rows"),
			x.First,
		)
	}

	if r.Amended {
		fmt.Fprintf(a.err, "note: load %d was changed in place: only rows that differ are written\n", r.Load)
	}
	if r.NotAmended != "" {
		fmt.Fprintf(a.err, "note: all rows were withdrawn and loaded: %s\n", r.NotAmended)
	}
	for _, v := range taken {
		fmt.Fprintf(a.err, "note: load %d was withdrawn: %s\n", v.Load, diag.Count(v.Rows(), "row", "rows"))
	}
	if r.PutBack > 0 {
		fmt.Fprintf(
			a.err,
			"note: %s of load %d, which was partly withdrawn, were put back\n",
			diag.Count(r.PutBack, "row", "rows"),
			r.Completed,
		)
	}

	if r.Notice != "" {
		fmt.Fprintln(a.err, "note:", r.Notice)
	}
	if r.Unconnected > 0 {
		fmt.Fprintf(a.err, "note: the server had no free connection for %d of those that --jobs asks for; the load "+
			"did without\n", r.Unconnected)
	}
}

// loaded loads, or goes on with a load that broke off, runs units, and tells what was done.
func (a *program) loaded(ctx context.Context, x *loading) error {
	x.options.Folder = x.plan.Plan.Folder()
	c, s, o := x.plan, x.store, x.options
	open, err := a.brokenOff(ctx, x)
	if err != nil {
		return err
	}
	stop := a.progress(&o, inOrder(c), "rows")
	var r *journal.Result
	var taken []*withdraw.Withdrawal
	switch {
	case open != nil:
		o.Journal.Plan = c.Plan
		r, err = load.Resume(ctx, s, open.Number, o)
	case x.keep.anew:
		o.Remembered = x.keep.remembered
		taken, r, err = withdraw.Reload(
			ctx,
			c,
			s,
			o,
			withdraw.Options{
				Changed:   x.keep.changed,
				Referring: x.keep.referring,
				InPlace:   x.keep.remembered != nil,
				By:        archive.Operator{Plan: c.Plan, Rows: files.Rows},
			},
		)
	default:
		r, err = load.Run(ctx, c, s, o)
	}

	stop()
	if err != nil {
		return err
	}
	if !a.quiet {
		a.noteLoad(r, taken)
	}
	missing := int64(0)
	for _, e := range r.Entities {
		missing += e.Unmatched
	}
	if !a.json && !a.quiet {
		a.printLoad(x, r, missing)
		if len(x.units) > 0 {
			fmt.Fprintln(a.out)
		}
	}

	x.loaded = r
	left := r.Rejected > 0 || missing > 0
	var done []*journal.UnitResult
	if o.DryRun && len(x.units) > 0 && r.Earlier == 0 {
		if !a.quiet {
			fmt.Fprintln(
				a.err,
				"note: units were not tried, because the rows are not loaded yet; after a load, --unit NAME "+
					"--dry-run tries one",
			)
		}
	} else {
		done, err = a.runUnits(ctx, x)
		if x.ran = done; err != nil {
			return err
		}
	}

	if a.json {
		if !x.statements {
			r.Statements = nil
		}
		err = a.writeJSON(loadJSON(c, x.name, r, done, x.out))
	}

	for _, u := range done {
		left = left || u.Rejected > 0
	}
	if err == nil && open != nil && len(x.units) == 0 { // what the journal keeps of a plan knows of none
		err = load.CheckAlways(ctx, s, c.Always)
	}
	if err == nil && left {
		err = errRejects
	}
	return err
}

// unitsAlone runs units without loading entities.
func (a *program) unitsAlone(ctx context.Context, x *loading) error {
	done, err := a.runUnits(ctx, x)
	if x.ran = done; err != nil {
		return err
	}
	if a.json {
		j := &report.Object{}
		j.Set("plan", x.plan.Plan.Name)
		j.Set("database", x.name)
		j.Set("dry_run", x.options.DryRun)
		j.Set("units", done)
		if path := x.out.rejectsPath(); path != "" {
			j.Set("rejects_file", path)
		}
		if err := a.writeJSON(j); err != nil {
			return err
		}
	}
	for _, u := range done {
		if u.Rejected > 0 {
			return errRejects
		}
	}
	return nil
}
