package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"time"

	"github.com/spf13/cobra"

	"evensprout/internal/files"
	"evensprout/internal/load"
	"evensprout/internal/plan"
	"evensprout/internal/report"
	"evensprout/internal/safe"
	"evensprout/internal/schema"
	"evensprout/internal/store"
)

func (a *app) load() *cobra.Command {
	var flags loadFlags
	var write writeFlags
	var journal journalFlags
	var unit unitFlags
	c := &cobra.Command{
		Use:   "load [PLAN]",
		Short: "Check, then write a plan into the database",
		Long: `load checks the plan, grows its rows and writes them, parents before children, in
one transaction: if anything is refused, the tables are as before, and you are told
which row, field, value and constraint it was.

How rows are written is the plan's to say, for each entity: write: insert (new rows,
the default), keep (add what is missing), upsert (add or change), update (change what
is there), replace (empty the table and fill it). What to do about refused rows is
said by kind: stop (the default), skip (leave them out, into a file that can be
corrected), redraw (grow their values anew).

The rows do not depend on --chunk and --jobs. Each load is written down in a journal, a
few tables of this program's own: what the plan has inserted is not inserted again, more
rows add only the rest, and a plan that has changed is told. A load that broke off goes
on with --resume; evensprout withdraw takes a load back; --part 3/16 writes a share of the
rows, so that several processes or machines do the work of one load; --restore brings tables back to
what was loaded; --anew takes the plan's rows back and loads the plan as it is now, in one transaction. Fit for start-up scripts: load --wait 2m --quiet.

Units, steps that are done together for each of their occasions, follow the entities;
--unit runs one alone, from another file if --occasions names one. An occasion that is
done is not done again. At last, and before the commit where there is one, the plan's
invariants are looked at.

Exit codes: 0 done, 3 the plan is wrong, 4 the database does not fit the plan or
cannot be reached, 5 a row was refused or an invariant is broken, and what was open is
rolled back, 6 done, but some rows or occasions were left out or not found, 130
interrupted.`,
		Example: `  evensprout load
  evensprout load larkwater/evensprout.yaml --db sqlite:app.db --jobs 4
  evensprout load --db postgres://app@localhost/app --on-violation unique=skip --rejects left-out.ndjson
  evensprout load prices.yaml --dry-run --changes changes.csv
  evensprout load --corrected left-out.ndjson       # after the rows in it were corrected
  evensprout load --retry-rejected                  # after what stood in their way is gone
  evensprout load --commit chunk --chunk 5000 --statements
  evensprout load --resume                          # after a load broke off
  evensprout load --anew                            # after the plan was edited
  evensprout load --restore                         # between two tests
  evensprout load --extra stress --quiet            # a further set of rows
  evensprout load --part 3/16                       # with 15 other processes, in any order
  evensprout load --unit sell --dry-run             # what the steps would touch
  evensprout load --unit sell --occasions sales-of-today.csv`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			o, err := flags.options(cmd)
			if err != nil {
				return err
			}
			if o, err = write.options(cmd, o); err != nil {
				return err
			}
			if err := journal.check(&write); err != nil {
				return err
			}
			if journal.restore && cmd.Flags().Changed("clock") {
				return usageError{errors.New("--restore brings rows back as they were loaded, with the clock of then: --clock cannot be combined with it")}
			}
			if err := unit.check(&journal, &write); err != nil {
				return err
			}
			a.writes, a.extra = true, journal.extra
			unit.without = unit.without || write.part != ""
			a.withUnits = !unit.without && journal.extra == "" && write.corrected == "" && !journal.retry
			if len(unit.names) == 1 {
				a.unit, a.occasionsFile = unit.names[0], unit.occasions
			}
			deadline := time.Now().Add(journal.wait)
			if journal.restore && journal.wait == 0 {
				done, err := a.restoredAlone(cmd.Context(), args, o, &journal)
				if done || err != nil {
					return err
				}
			}
			c, s, name, err := a.compileWhenReady(cmd.Context(), args, journal.wait)
			if err != nil {
				return err
			}
			defer s.Close()
			defer c.Close()
			if c.Plan.Once && journal.extra == "" && write.corrected == "" && len(unit.names) == 0 && !journal.restore {
				done, err := a.filledOnce(cmd.Context(), s, c.Plan, name, journal.none)
				if done || err != nil {
					return err
				}
			}
			if !a.quiet {
				a.warn(c)
			}
			units, err := unit.selected(c)
			if err != nil {
				return err
			}
			if err := load.TryConditions(cmd.Context(), s, c); err != nil {
				return err
			}
			if journal.retry {
				if write.corrected, journal.extra, err = a.leftOut(cmd.Context(), s, c); write.corrected == "" || err != nil {
					return err
				}
			}
			if write.corrected != "" {
				if c, err = corrected(c, write.corrected); err != nil {
					return err
				}
				if !journal.retry {
					if journal.extra, err = load.CorrectedSet(write.corrected); err != nil {
						return err
					}
				}
			}
			o.Later = len(units) > 0
			if unit.without && write.part == "" {
				c.Always = nil // they need not hold before the units have done their part
			}
			if journal.ifEmpty {
				for _, e := range c.Plan.Entities {
					e.WhenEmpty = true
				}
			}
			if journal.none && !a.quiet && !o.DryRun {
				fmt.Fprintln(a.err, "note: no journal is kept, so this load cannot be resumed or withdrawn, and a second one does not know of it")
			}
			if !journal.none {
				o.Journal = a.journal(journal.extra, journal.noUndo)
				if journal.wait > 0 {
					o.Journal.Wait = max(1, time.Until(deadline)) // not to be taken for none
				}
			}
			o.Again = a.again
			if journal.restore {
				done, err := a.restored(cmd.Context(), s, c.Plan, c.Database, name, o, &journal, max(0, time.Until(deadline)))
				if done || err != nil {
					return err
				}
			}
			out, err := openOutputs(c, o, &write)
			if err != nil {
				return err
			}
			out.into(&o)
			switch {
			case write.part != "":
				err = a.loadedPart(cmd.Context(), c, s, name, o)
			case len(unit.names) > 0 || len(c.Targets) == 0:
				err = a.unitsAlone(cmd.Context(), c, units, s, name, o, unit.again, write.statements, out)
			default:
				err = a.loaded(cmd.Context(), c, units, s, name, o, write.statements, out, &journal)
			}
			// A file that is incomplete outweighs rows that were left out.
			if bad := out.close(err == nil || errors.Is(err, errRejects)); bad != nil && errors.Is(err, errRejects) {
				err = bad
			} else {
				err = errors.Join(err, bad)
			}
			return err
		},
	}
	flags.add(c)
	write.add(a, c)
	journal.add(c)
	unit.add(c)
	a.clockFlag(c)
	c.Flags().BoolVar(&a.quiet, "quiet", false, "say nothing unless something is wrong")
	return c
}

// journal asks for a load to be written down.
func (a *app) journal(extra string, noUndo bool) *load.Journal {
	return &load.Journal{Actor: actor(), Version: version(), NoUndo: noUndo, Rows: files.Rows, Extra: extra}
}

// readyPoll is how often a server or a table that is not there yet is looked for.
const readyPoll = 250 * time.Millisecond

// compileWhenReady compiles the plan once the server answers and has the planned tables
// and columns, as long as there is time.
func (a *app) compileWhenReady(ctx context.Context, args []string, wait time.Duration) (*plan.Compiled, store.Store, string, error) {
	deadline := time.Now().Add(wait)
	for told := false; ; told = true {
		c, s, name, err := a.compile(ctx, args, true)
		if err == nil || !time.Now().Before(deadline) || !mayCome(err) {
			return c, s, name, err
		}
		if !told && !a.quiet { // it may never come: a name may be mistyped
			fmt.Fprintf(a.err, "note: waiting at most %s for this to change:\n%s\n", wait, err)
		}
		select {
		case <-ctx.Done():
			return nil, nil, "", context.Cause(ctx)
		case <-time.After(readyPoll):
		}
	}
}

// mayCome tells whether an error may be gone soon: the server starts, the database is
// made, migrations are running.
func mayCome(err error) bool {
	var problems plan.Problems
	if errors.As(err, &problems) {
		return problems.Errors().OnlyDatabase()
	}
	var fault *store.Fault
	return errors.As(err, &fault) && slices.Contains([]store.FaultKind{store.Unreachable, store.Missing, store.Lost, store.Locked, store.Transient}, fault.Kind)
}

// restoredAlone brings the tables back without compiling the plan: its loads are in the
// journal as they were.
func (a *app) restoredAlone(ctx context.Context, args []string, o load.Options, journal *journalFlags) (bool, error) {
	s, p, name, err := a.openAlone(ctx, args)
	if err != nil || p == nil {
		return false, err
	}
	defer s.Close()
	all, err := load.Entries(ctx, s, p.Name)
	if err != nil || !slices.ContainsFunc(all, func(e *load.Entry) bool { return e.State == load.StateDone && e.Extra == journal.extra }) {
		return false, err
	}
	return a.restored(ctx, s, p, nil, name, o, journal, 0)
}

// restored brings the tables back; false if nothing was loaded yet.
func (a *app) restored(ctx context.Context, s store.Store, p *plan.Plan, db *schema.Database, name string, o load.Options, journal *journalFlags, wait time.Duration) (bool, error) {
	pasts, err := load.RecallAll(ctx, s, p.Name, journal.extra, db, load.Operator{Plan: p, Rows: files.Rows}.ToRestore())
	if err != nil {
		return false, err
	}
	defer load.CloseAll(pasts)
	if len(pasts) == 0 {
		if !a.quiet {
			fmt.Fprintln(a.err, "note: nothing of this plan was loaded yet, so it is loaded now")
		}
		return false, nil
	}
	r, err := load.Restore(ctx, s, pasts, load.RestoreOptions{DryRun: o.DryRun, DeleteExtra: journal.deleteExtra, Again: a.again, Wait: wait})
	if err != nil {
		return false, err
	}
	a.tellLost(r.Lost)
	switch {
	case a.json:
		err = a.writeJSON(r)
	case !a.quiet:
		a.tellRestoration(r, name)
	}
	return true, err
}

// filledOnce tells whether a plan that fills a database once has done so.
func (a *app) filledOnce(ctx context.Context, s store.Store, p *plan.Plan, name string, noJournal bool) (bool, error) {
	if noJournal {
		return false, usageError{errors.New("once: true looks into the journal, so the plan cannot be loaded with --no-journal")}
	}
	e, err := load.Filled(ctx, s, p.Name)
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
		fmt.Fprintf(a.out, "%s load %d filled %s on %s, and the plan says once: true. Nothing to do.\n", a.page.Good("done:"), e.Number, name, e.Began.Format(shownMoment))
	}
	return true, nil
}

// leftOut writes the rows that earlier loads left out into a file, to be loaded like a
// corrected one; its name is empty if there are none.
func (a *app) leftOut(ctx context.Context, s store.Store, c *plan.Compiled) (path, set string, err error) {
	rows, set, err := load.LeftOut(ctx, s, c.Plan.Name, c.Database, load.Operator{Plan: c.Plan, Rows: files.Rows}.ToRetry())
	if err != nil {
		return "", "", err
	}
	if len(rows) == 0 {
		if !a.quiet {
			fmt.Fprintf(a.err, "note: no row of %s is left out, so there is nothing to try again\n", c.Plan.Name)
		}
		return "", "", nil
	}
	folder, err := os.MkdirTemp("", "evensprout-")
	if err != nil {
		return "", "", err
	}
	a.atEnd = append(a.atEnd, func() error { return os.RemoveAll(folder) })
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
		return nil, usageError{fmt.Errorf("--corrected: %w", unreadable(path, err))}
	}
	defer f.Close()
	return load.FromRejects(c, path, f)
}

// errRejects tells that a load is done, but some rows were left out or not found.
var errRejects = errors.New("some rows were left out")

// loaded loads, or goes on with a load that broke off, runs units, and tells what was done.
func (a *app) loaded(ctx context.Context, c *plan.Compiled, units []*plan.CompiledUnit, s store.Store, name string, o load.Options, statements bool, out *outputs, journal *journalFlags) error {
	o.Folder = c.Plan.Folder()
	var open *load.Entry
	var err error
	if journal.resume {
		if open, err = load.OpenLoad(ctx, s, c.Plan.Name, o.Journal.Extra); err != nil {
			return err
		}
		if open != nil {
			full, err := load.FindEntry(ctx, s, open.Number)
			if err == nil {
				err = load.Operator{Plan: c.Plan}.MayResume(full)
			}
			if err != nil {
				return err
			}
		}
		if !a.quiet && open == nil {
			fmt.Fprintln(a.err, "note: no load of this plan broke off, so there is nothing to go on with")
		} else if !a.quiet {
			fmt.Fprintf(a.err, "note: going on with load %d, begun %s\n", open.Number, open.Began.Format(shownMoment))
		}
	}
	stop := a.progress(&o, "rows")
	var r *load.Result
	var taken []*load.Withdrawal
	switch {
	case open != nil:
		o.Journal.Plan = c.Plan
		r, err = load.Resume(ctx, s, open.Number, o)
	case journal.anew:
		taken, r, err = load.Anew(ctx, c, s, o, load.WithdrawOptions{Changed: journal.changed, Referring: journal.referring, By: load.Operator{Plan: c.Plan, Rows: files.Rows}})
	default:
		r, err = load.Run(ctx, c, s, o)
	}
	stop()
	if err != nil {
		return err
	}
	if !a.quiet {
		if r.Unread {
			fmt.Fprintln(a.err, "note: triggers rewrote more rows than the journal keeps: compare reports the others as changed")
		}
		for _, x := range r.Migrated {
			fmt.Fprintln(a.err, "note:", x)
		}
		for _, x := range r.Stepped {
			fmt.Fprintf(a.err, "note: %s: planned keys are taken in %s, so %s have the keys from %d on\n", x.Entity, x.Table, report.Count(x.Rows, "row", "rows"), x.First)
		}
		for _, v := range taken {
			fmt.Fprintf(a.err, "note: load %d was taken back: %s\n", v.Load, report.Count(v.Rows(), "row", "rows"))
		}
	}
	if r.PutBack > 0 && !a.quiet {
		fmt.Fprintf(a.err, "note: %s of load %d, which was partly withdrawn, were put back\n", report.Count(r.PutBack, "row", "rows"), r.Completed)
	}
	if r.Notice != "" && !a.quiet {
		fmt.Fprintln(a.err, "note:", r.Notice)
	}
	missing := int64(0)
	for _, e := range r.Entities {
		missing += e.Unmatched
	}
	if !a.json && !a.quiet {
		a.tellLoad(c, name, r, statements, out, missing)
		if len(units) > 0 {
			fmt.Fprintln(a.out)
		}
	}
	left := r.Rejected > 0 || missing > 0
	var done []*load.UnitResult
	if o.DryRun && len(units) > 0 && r.Earlier == 0 {
		if !a.quiet {
			fmt.Fprintln(a.err, "note: the rows are not there yet, so units were not tried; once they are, --unit NAME --dry-run tries one")
		}
	} else if done, err = a.runUnits(ctx, c, units, s, name, o, false, statements, out); err != nil {
		return err
	}
	if a.json {
		if !statements {
			r.Statements = nil
		}
		err = a.writeJSON(loadJSON(c, name, r, done, out))
	}
	for _, u := range done {
		left = left || u.Rejected > 0
	}
	if err == nil && open != nil && len(units) == 0 { // what the journal keeps of a plan knows of none
		err = load.CheckAlways(ctx, s, c)
	}
	if err == nil && left {
		err = errRejects
	}
	return err
}

// unitsAlone runs units without loading entities.
func (a *app) unitsAlone(ctx context.Context, c *plan.Compiled, units []*plan.CompiledUnit, s store.Store, name string, o load.Options, again, statements bool, out *outputs) error {
	done, err := a.runUnits(ctx, c, units, s, name, o, again, statements, out)
	if err != nil {
		return err
	}
	if a.json {
		j := &report.Object{}
		j.Set("plan", c.Plan.Name)
		j.Set("database", name)
		j.Set("dry_run", o.DryRun)
		j.Set("units", done)
		if path := out.rejectsPath(); path != "" {
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
