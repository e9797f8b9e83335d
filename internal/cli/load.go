package cli

import (
	"context"
	"errors"
	"fmt"
	"math"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/schollz/progressbar/v3"
	"github.com/spf13/cobra"
	"golang.org/x/term"

	"evensprout/internal/files"
	"evensprout/internal/load"
	"evensprout/internal/plan"
	"evensprout/internal/report"
	"evensprout/internal/schema"
	"evensprout/internal/store"
)

// journalFlags are those about earlier loads, and about what is kept of this one.
type journalFlags struct {
	none, noUndo         bool
	resume, restore      bool
	deleteExtra, ifEmpty bool
	extra                string
	wait                 time.Duration
}

func (f *journalFlags) add(c *cobra.Command) {
	c.Flags().BoolVar(&f.resume, "resume", false, "go on with a load of this plan that broke off; if there is none, load as usual")
	c.Flags().BoolVar(&f.restore, "restore", false, "bring the tables back to what was loaded, by the smallest set of changes")
	c.Flags().BoolVar(&f.deleteExtra, "delete-extra", false, "with --restore: delete rows that are not the plan's also from tables that had rows before")
	c.Flags().StringVar(&f.extra, "extra", "", "load as many rows again beside the plan's own, under a name: those that the plan would go on with")
	c.Flags().BoolVar(&f.ifEmpty, "if-empty", false, "leave tables alone that have rows, as when: empty does")
	c.Flags().DurationVar(&f.wait, "wait", 0, "how long to wait for the server, for the planned tables, and for another load of the plan, such as 2m")
	c.Flags().BoolVar(&f.none, "no-journal", false, "keep no journal: the load cannot be resumed or withdrawn, and a second one does not know of it")
	c.Flags().BoolVar(&f.noUndo, "no-undo", false, "do not keep what rows held before they were changed or deleted: such a load is not withdrawn exactly")
}

// check tells flags that do not go together.
func (f *journalFlags) check(write *writeFlags) error {
	for _, x := range []struct {
		bad  bool
		text string
	}{
		{f.none && (f.resume || f.restore || f.extra != ""), "--no-journal goes with none of --resume, --restore and --extra, which need one"},
		{f.resume && f.restore, "--resume and --restore are two things: which is meant?"},
		{f.resume && write.dryRun, "--resume goes on where a load broke off, so it cannot be a --dry-run"},
		{f.deleteExtra && !f.restore, "--delete-extra belongs to --restore"},
		{write.corrected != "" && (f.extra != "" || f.resume || f.restore), "--corrected goes with none of --resume, --restore and --extra"},
		{write.part != "" && (f.none || f.resume || f.restore || f.extra != "" || f.ifEmpty || write.dryRun || write.corrected != "" || write.rebuild || write.changes != ""),
			"--part is one of several that together are a load, so it goes with none of --no-journal, --resume, --restore, --extra, --if-empty, --dry-run, --corrected, --rebuild-indexes and --changes; run again, it goes on by itself"},
		{write.part != "" && write.commit == string(plan.CommitLoad), "--part commits chunk by chunk, so it does not go with --commit load"},
		{load.IsUnitSet(f.extra), "--extra: names that begin with unit: are kept for runs of units"},
		{len(f.extra) > maxExtra || strings.ContainsAny(f.extra, "\n\r\t\x00"), fmt.Sprintf("--extra is a name of at most %d characters", maxExtra)},
		{f.wait < 0, "--wait is a time from now, such as 30s or 2m"},
	} {
		if x.bad {
			return usageError{errors.New(x.text)}
		}
	}
	return nil
}

const maxExtra = 50 // characters of the name of a further set

// loadFlags are the flags that say how to load.
type loadFlags struct {
	chunk, jobs int
}

func (f *loadFlags) add(c *cobra.Command) {
	c.Flags().IntVar(&f.chunk, "chunk", 0, fmt.Sprintf("at most so many rows in a chunk; a family is kept whole (default %d, or %d where rows are compared with those of a table)", load.DefaultChunk, load.StagedChunk))
	c.Flags().IntVar(&f.jobs, "jobs", jobsDefault(), "how many growers work at a time; with commit: chunk also connections")
}

func (f *loadFlags) options(c *cobra.Command) (load.Options, error) {
	if c.Flags().Changed("chunk") && (f.chunk < 1 || f.chunk > math.MaxInt32) {
		return load.Options{}, usageError{fmt.Errorf("--chunk is a number of rows from 1 up, and here is %d", f.chunk)}
	}
	if f.jobs < 1 || f.jobs > 256 {
		return load.Options{}, usageError{fmt.Errorf("--jobs lies between 1 and 256, and here is %d", f.jobs)}
	}
	return load.Options{Chunk: uint64(f.chunk), Jobs: f.jobs}, nil
}

// writeFlags are those of load alone.
type writeFlags struct {
	commit, part     string
	policies         []string
	rejects, changes string
	maxRejects       int64
	corrected        string
	statements       bool
	dryRun, rebuild  bool
}

func (f *writeFlags) add(a *app, c *cobra.Command) {
	c.Flags().StringVar(&f.commit, "commit", "", "what is committed together: load, chunk or family; else as the plan says")
	c.Flags().StringArrayVar(&f.policies, "on-violation", nil, "KIND=POLICY: what to do about refused rows (stop, skip, redraw), such as unique=skip; all=skip for every kind")
	c.Flags().StringVar(&f.rejects, "rejects", "", "file for rows that were left out, as NDJSON; else NAME.rejects.ndjson")
	c.Flags().StringVar(&f.corrected, "corrected", "", "rejects file, corrected by hand: load its rows, and nothing else")
	c.Flags().Int64Var(&f.maxRejects, "max-rejects", 0, "stop, and roll back, when more rows would be left out")
	c.Flags().StringVar(&f.changes, "changes", "", "file for what update and upsert changed, from what, to what, as CSV")
	c.Flags().BoolVar(&f.statements, "statements", false, "list every distinct statement with how often it ran, rows and time")
	partFlag(c, &f.part)
	c.Flags().BoolVar(&f.dryRun, "dry-run", false, "do everything, then roll back")
	c.Flags().BoolVar(&f.rebuild, "rebuild-indexes", false, "drop the indexes of empty tables and make them again after the rows, inside the transaction")
	c.Flags().StringArrayVar(&a.allowed, "allow-host", nil, "host, other than this machine, that may be written to")
}

// options adds what the flags say.
func (f *writeFlags) options(c *cobra.Command, o load.Options) (load.Options, error) {
	o.DryRun, o.Rebuild, o.MaxRejects = f.dryRun, f.rebuild, f.maxRejects
	if f.part != "" {
		var err error
		if o.Part, err = parsePart(f.part); err != nil {
			return o, err
		}
		o.Commit = plan.CommitChunk
	}
	if f.commit != "" {
		var err error
		if o.Commit, err = plan.ParseCommit(f.commit); err != nil {
			return o, usageError{fmt.Errorf("--commit: %w", err)}
		}
	}
	if c.Flags().Changed("max-rejects") && f.maxRejects < 1 {
		return o, usageError{fmt.Errorf("--max-rejects is a number from 1 up; to allow none, leave --on-violation out")}
	}
	o.Policies = plan.Policies{}
	for _, text := range f.policies {
		if err := plan.ParsePolicy(text, o.Policies); err != nil {
			return o, usageError{fmt.Errorf("--on-violation: %w", err)}
		}
	}
	return o, nil
}

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
what was loaded. Fit for start-up scripts: load --wait 2m --quiet.

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
  evensprout load --commit chunk --chunk 5000 --statements
  evensprout load --resume                          # after a load broke off
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
			if err := unit.check(&journal, &write); err != nil {
				return err
			}
			a.writes, a.extra = true, journal.extra
			unit.without = unit.without || write.part != ""
			a.withUnits = !unit.without && journal.extra == "" && write.corrected == ""
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
			if write.corrected != "" {
				if c, err = corrected(c, write.corrected); err != nil {
					return err
				}
				if journal.extra, err = load.CorrectedSet(write.corrected); err != nil {
					return err
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
				o.Journal.Wait = max(0, time.Until(deadline))
			}
			o.Again = a.again
			if journal.restore {
				done, err := a.restored(cmd.Context(), s, c.Plan.Name, c.Database, name, o, &journal, max(0, time.Until(deadline)))
				if done || err != nil {
					return err
				}
			}
			out := &outputs{rejects: write.rejects, changes: write.changes, name: c.Plan.Name}
			out.into(&o)
			switch {
			case write.part != "":
				err = a.loadedPart(cmd.Context(), c, s, name, o)
			case len(unit.names) > 0 || len(c.Targets) == 0:
				err = a.unitsAlone(cmd.Context(), c, units, s, name, o, unit.again, write.statements, out)
			default:
				err = a.loaded(cmd.Context(), c, units, s, name, o, write.statements, out, journal.resume)
			}
			return errors.Join(err, out.close())
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
	for {
		c, s, name, err := a.compile(ctx, args, true)
		if err == nil || !time.Now().Before(deadline) || !mayCome(err) {
			return c, s, name, err
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
	if err != nil || len(all) == 0 {
		return false, err
	}
	return a.restored(ctx, s, p.Name, nil, name, o, journal, 0)
}

// restored brings the tables back; false if nothing was loaded yet.
func (a *app) restored(ctx context.Context, s store.Store, planName string, db *schema.Database, name string, o load.Options, journal *journalFlags, wait time.Duration) (bool, error) {
	pasts, err := load.RecallAll(ctx, s, planName, journal.extra, db, files.Rows)
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
	switch {
	case a.json:
		err = a.writeJSON(r)
	case !a.quiet:
		a.tellRestoration(r, name)
	}
	return true, err
}

// corrected makes a plan of the rows of a rejects file.
func corrected(c *plan.Compiled, path string) (*plan.Compiled, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, plan.Problems{{File: path, Message: "the rejects file cannot be read: " + err.Error()}}
	}
	defer f.Close()
	return load.FromRejects(c, path, f)
}

// errRejects tells that a load is done, but some rows were left out or not found.
var errRejects = errors.New("some rows were left out")

// loaded loads, or goes on with a load that broke off, runs units, and tells what was done.
func (a *app) loaded(ctx context.Context, c *plan.Compiled, units []*plan.CompiledUnit, s store.Store, name string, o load.Options, statements bool, out *outputs, resume bool) error {
	o.Folder = c.Plan.Folder()
	var open *load.Entry
	var err error
	if resume {
		if open, err = load.OpenLoad(ctx, s, c.Plan.Name, o.Journal.Extra); err != nil {
			return err
		}
		if !a.quiet && open == nil {
			fmt.Fprintln(a.err, "note: no load of this plan broke off, so there is nothing to go on with")
		} else if !a.quiet {
			fmt.Fprintf(a.err, "note: going on with load %d, begun %s, from the plan as it was then\n", open.Number, open.Began.Format(shownMoment))
		}
	}
	stop := a.progress(&o, "rows")
	var r *load.Result
	if open != nil {
		r, err = load.Resume(ctx, s, open.Number, o)
	} else {
		r, err = load.Run(ctx, c, s, o)
	}
	stop()
	if err != nil {
		return err
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

func loadJSON(c *plan.Compiled, name string, r *load.Result, units []*load.UnitResult, outputs *outputs) any {
	out := &report.Object{}
	out.Set("plan", c.Plan.Name)
	out.Set("database", name)
	if r.Load > 0 {
		out.Set("load", r.Load)
	}
	if r.Earlier > 0 {
		out.Set("earlier", r.Earlier)
	}
	out.Set("rows", r.Rows)
	out.Set("rejected", r.Rejected)
	out.Set("redrawn", r.Redrawn)
	out.Set("commit", r.Commit)
	out.Set("dry_run", r.DryRun)
	out.Set("transactions", r.Transactions)
	out.Set("repeated", r.Repeated)
	out.Set("chunks", r.Chunks)
	out.Set("statements_sent", r.Sent)
	out.Set("seconds", math.Round(r.Elapsed.Seconds()*1000)/1000)
	out.Set("entities", r.Entities)
	if r.Statements != nil {
		out.Set("statements", r.Statements)
	}
	if len(units) > 0 {
		out.Set("units", units)
	}
	if len(r.Rejections) > 0 {
		out.Set("rejections", r.Rejections)
	}
	if len(r.Unmatched) > 0 {
		out.Set("unmatched", r.Unmatched)
	}
	if path := outputs.rejectsPath(); path != "" {
		out.Set("rejects_file", path)
	}
	return out
}

// tellLoad shows what a load did.
func (a *app) tellLoad(c *plan.Compiled, name string, r *load.Result, statements bool, outputs *outputs, missing int64) {
	if r.Earlier > 0 && r.Rows == 0 && r.Transactions == 0 && !r.DryRun {
		fmt.Fprintf(a.out, "%s load %d wrote these rows already, and they are there. Nothing to do in %s.\n", a.page.Good("done:"), r.Earlier, name)
		return
	}
	counts := []struct {
		name string
		of   func(load.Entity) int64
		all  bool // shown also if it is 0 throughout
	}{
		{"Before", func(e load.Entity) int64 { return e.Before }, true},
		{"Loaded earlier", func(e load.Entity) int64 { return int64(e.Loaded) }, false},
		{"Removed", func(e load.Entity) int64 { return e.Removed }, false},
		{"Inserted", func(e load.Entity) int64 { return e.Inserted }, true},
		{"Updated", func(e load.Entity) int64 { return e.Updated }, false},
		{"Unchanged", func(e load.Entity) int64 { return e.Unchanged }, false},
		{"Kept", func(e load.Entity) int64 { return e.Kept }, false},
		{"Rejected", func(e load.Entity) int64 { return e.Rejected }, false},
		{"Not found", func(e load.Entity) int64 { return e.Unmatched }, false},
		{"After", func(e load.Entity) int64 { return e.After }, true},
	}
	t := report.Table{Columns: []report.Column{{Name: "Entity"}, {Name: "Table"}}}
	counts = slices.DeleteFunc(counts, func(x struct {
		name string
		of   func(load.Entity) int64
		all  bool
	}) bool {
		return !x.all && !slices.ContainsFunc(r.Entities, func(e load.Entity) bool { return x.of(e) != 0 })
	})
	for _, x := range counts {
		t.Columns = append(t.Columns, report.Column{Name: x.name, Number: true})
	}
	t.Columns = append(t.Columns, report.Column{Name: "Fingerprint"})
	skipped := 0
	for _, e := range r.Entities {
		print := e.Fingerprint.String()
		if e.Skipped {
			print = "left alone: the table has rows"
			skipped++
		}
		if e.Loaded > 0 && e.Inserted == 0 {
			if print = "loaded earlier"; r.Earlier > 0 {
				print = fmt.Sprintf("all loaded by load %d", r.Earlier)
			}
		}
		line := []string{e.Entity, e.Table}
		for _, x := range counts {
			line = append(line, report.Number(x.of(e)))
		}
		t.Rows = append(t.Rows, append(line, print))
	}
	fmt.Fprintln(a.out, a.page.Draw(t))
	if skipped == len(r.Entities) {
		fmt.Fprintf(a.out, "\n%s every table has rows already, and the plan says when: empty. Nothing to do in %s.\n", a.page.Good("done:"), name)
		return
	}
	a.tellRefusals("row", "left out", r.Rejected, r.Rejections)
	a.tellEmpty(r.Entities)
	a.tellRefusals("row", "not found", missing, r.Unmatched)
	how := "in one transaction"
	if r.Commit != plan.CommitLoad {
		how = "in " + report.Count(r.Transactions, "transaction", "transactions")
	}
	word := a.page.Good("done:")
	if r.DryRun {
		word, how = a.page.Good("dry run:"), "in one transaction, all rolled back"
	}
	more := ""
	if r.Redrawn > 0 {
		more += ", " + report.Count(r.Redrawn, "row", "rows") + " drawn again"
	}
	if r.Repeated > 0 {
		more += ", " + report.Count(r.Repeated, "transaction", "transactions") + " begun again"
	}
	fmt.Fprintf(a.out, "\n%s %s into %s %s: %s, %s, %s%s\n", word,
		report.Count(r.Rows, "row", "rows"), name, how, report.Count(r.Chunks, "chunk", "chunks"), report.Count(r.Sent, "statement", "statements"), pace(r.Rows, r.Elapsed), more)
	if r.Load > 0 {
		fmt.Fprintf(a.out, "It is load %d: evensprout withdraw %d takes it back.\n", r.Load, r.Load)
	}
	if path := outputs.rejectsPath(); path != "" {
		fmt.Fprintf(a.out, "Rows left out are in %s.\n", path)
	}
	if statements {
		a.tellStatements(r.Statements)
	}
}

// tellStatements lists distinct statements.
func (a *app) tellStatements(list []store.Statement) {
	fmt.Fprintln(a.out)
	s := report.Table{Columns: []report.Column{{Name: "Times", Number: true}, {Name: "Rows", Number: true}, {Name: "Time", Number: true}, {Name: "Statement"}}}
	for _, st := range list {
		s.Rows = append(s.Rows, []string{report.Number(st.Times), report.Number(st.Rows), fmt.Sprintf("%.1f ms", st.Elapsed.Seconds()*1000), strings.Join(strings.Fields(st.Text), " ")})
	}
	fmt.Fprintln(a.out, a.page.Draw(s))
}

// tellEmpty names the tables that got no row, with the reason of the first.
func (a *app) tellEmpty(list []load.Entity) {
	first := true
	for _, e := range list {
		if e.Refused == nil || e.Rejected == 0 || e.Inserted+e.Updated+e.Unchanged+e.Kept > 0 {
			continue
		}
		if first {
			fmt.Fprintln(a.out, "\nThese got no row:")
			first = false
		}
		fmt.Fprintf(a.out, "  %s (%s): %s\n", e.Entity, e.Table, e.Refused.Error())
		if m := e.Refused.Message; e.Refused.Constraint != "consequence" && m != "" && !strings.Contains(e.Refused.Error(), m) {
			fmt.Fprintf(a.out, "      database: %s\n", m)
		}
	}
}

// tellRefusals shows the first rows that were left out.
func (a *app) tellRefusals(of, what string, n int64, list []*load.Refusal) {
	if n == 0 {
		return
	}
	fmt.Fprintf(a.out, "\n%s %s:\n", report.Count(n, of, of+"s"), what)
	for _, r := range list {
		at := ""
		if r.Place != "" {
			at = r.Place + ": "
		}
		fmt.Fprintf(a.out, "  %s%s\n", at, r.Error())
		if r.Other != "" {
			fmt.Fprintf(a.out, "      other row: %s\n", r.Other)
		}
	}
	if rest := n - int64(len(list)); rest > 0 {
		fmt.Fprintf(a.out, "  and %s more\n", report.Number(rest))
	}
}

// pace is the time that rows took, and how many that is in a second.
func pace(rows int64, d time.Duration) string { return paceOf("rows", rows, d) }

func paceOf(what string, rows int64, d time.Duration) string {
	s := d.Seconds()
	out := fmt.Sprintf("%.1f s", s)
	if s < 0.95 {
		out = fmt.Sprintf("%d ms", max(1, d.Milliseconds()))
	}
	if s > 0 && rows > 0 {
		out += fmt.Sprintf(" (%s %s a second)", report.Number(int64(float64(rows)/s)), what)
	}
	return out
}

// progress lets a load tell how far it is: a bar on a terminal, else a plain line
// every few seconds. The function it returns ends that.
func (a *app) progress(o *load.Options, what string) func() {
	if a.quiet {
		return func() {}
	}
	const (
		barEvery  = 100 * time.Millisecond
		lineEvery = 3 * time.Second
		textWidth = 75 // of what stands behind the bar
	)
	started := time.Now()
	last := started
	how := func(done, total uint64) string {
		rate := float64(done) / time.Since(started).Seconds()
		left := time.Duration(float64(total-done)/rate*1000) * time.Millisecond
		return fmt.Sprintf("%s of %s %s, %s %s a second, %s left",
			report.Number(done), report.Number(total), what, report.Number(int64(rate)), what, max(left.Round(time.Second), time.Second))
	}
	if f, ok := a.err.(*os.File); !ok || !term.IsTerminal(int(f.Fd())) {
		o.Progress = func(done, total uint64) {
			if time.Since(last) >= lineEvery && done < total {
				last = time.Now()
				fmt.Fprintf(a.err, "loading: %d%%, %s\n", 100*done/total, how(done, total))
			}
		}
		return func() {}
	}
	var bar *progressbar.ProgressBar
	o.Progress = func(done, total uint64) {
		if time.Since(last) < barEvery {
			return
		}
		last = time.Now()
		if bar == nil {
			bar = progressbar.NewOptions64(int64(total), progressbar.OptionSetWriter(a.err), progressbar.OptionSetPredictTime(false),
				progressbar.OptionShowDescriptionAtLineEnd(), progressbar.OptionSetElapsedTime(false), progressbar.OptionClearOnFinish(),
				progressbar.OptionSetWidth(max(10, min(50, a.errPage.Width-textWidth))))
		}
		bar.Set64(int64(done))
		bar.Describe(how(done, total)) // draws again, with the new place
	}
	return func() {
		if bar != nil {
			bar.Clear()
		}
	}
}
