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

	"evensprout/internal/load"
	"evensprout/internal/plan"
	"evensprout/internal/report"
	"evensprout/internal/store"
)

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
	commit           string
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
	c.Flags().BoolVar(&f.dryRun, "dry-run", false, "do everything, then roll back")
	c.Flags().BoolVar(&f.rebuild, "rebuild-indexes", false, "drop the indexes of empty tables and make them again after the rows, inside the transaction")
	c.Flags().StringArrayVar(&a.allowed, "allow-host", nil, "host, other than this machine, that may be written to")
}

// options adds what the flags say.
func (f *writeFlags) options(c *cobra.Command, o load.Options) (load.Options, error) {
	o.DryRun, o.Rebuild, o.MaxRejects = f.dryRun, f.rebuild, f.maxRejects
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

The rows do not depend on --chunk and --jobs. Loading a second time stops before the
first row, unless the mode or when: empty says what to do about rows that are there.

Exit codes: 0 done, 3 the plan is wrong, 4 the database does not fit the plan or
cannot be reached, 5 a row was refused and everything rolled back, 6 done, but some
rows were left out or not found, 130 interrupted.`,
		Example: `  evensprout load
  evensprout load larkwater/evensprout.yaml --db sqlite:app.db --jobs 4
  evensprout load --db postgres://app@localhost/app --on-violation unique=skip --rejects left-out.ndjson
  evensprout load prices.yaml --dry-run --changes changes.csv
  evensprout load --corrected left-out.ndjson       # after the rows in it were corrected
  evensprout load --commit chunk --chunk 5000 --statements`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			o, err := flags.options(cmd)
			if err != nil {
				return err
			}
			if o, err = write.options(cmd, o); err != nil {
				return err
			}
			a.writes = true
			c, s, name, err := a.compile(cmd.Context(), args, true)
			if err != nil {
				return err
			}
			defer s.Close()
			defer c.Close()
			a.warn(c)
			if write.corrected != "" {
				if c, err = corrected(c, write.corrected); err != nil {
					return err
				}
			}
			out := &outputs{rejects: write.rejects, changes: write.changes, name: c.Plan.Name}
			out.into(&o)
			o.Again = func(ctx context.Context) (store.Store, error) { return store.Open(ctx, a.drivers, a.opened) }
			err = a.loaded(cmd.Context(), c, s, name, o, write.statements, out)
			return errors.Join(err, out.close())
		},
	}
	flags.add(c)
	write.add(a, c)
	a.clockFlag(c)
	return c
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

// loaded loads and tells what was done.
func (a *app) loaded(ctx context.Context, c *plan.Compiled, s store.Store, name string, o load.Options, statements bool, out *outputs) error {
	o.Folder = c.Plan.Folder()
	stop := a.progress(&o)
	r, err := load.Run(ctx, c, s, o)
	stop()
	if err != nil {
		return err
	}
	if r.Notice != "" {
		fmt.Fprintln(a.err, "note:", r.Notice)
	}
	missing := int64(0)
	for _, e := range r.Entities {
		missing += e.Unmatched
	}
	if a.json {
		if !statements {
			r.Statements = nil
		}
		err = a.writeJSON(loadJSON(c, name, r, out))
	} else {
		a.tellLoad(c, name, r, statements, out, missing)
	}
	if err == nil && (r.Rejected > 0 || missing > 0) {
		err = errRejects
	}
	return err
}

func loadJSON(c *plan.Compiled, name string, r *load.Result, files *outputs) any {
	out := &report.Object{}
	out.Set("plan", c.Plan.Name)
	out.Set("database", name)
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
	if len(r.Rejections) > 0 {
		out.Set("rejections", r.Rejections)
	}
	if len(r.Unmatched) > 0 {
		out.Set("unmatched", r.Unmatched)
	}
	if path := files.rejectsPath(); path != "" {
		out.Set("rejects_file", path)
	}
	return out
}

// tellLoad shows what a load did.
func (a *app) tellLoad(c *plan.Compiled, name string, r *load.Result, statements bool, files *outputs, missing int64) {
	counts := []struct {
		name string
		of   func(load.Entity) int64
		all  bool // shown also if it is 0 throughout
	}{
		{"Before", func(e load.Entity) int64 { return e.Before }, true},
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
	a.tellRefusals("left out", r.Rejected, r.Rejections)
	a.tellRefusals("not found", missing, r.Unmatched)
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
	if path := files.rejectsPath(); path != "" {
		fmt.Fprintf(a.out, "Rows left out are in %s.\n", path)
	}
	if statements {
		fmt.Fprintln(a.out)
		s := report.Table{Columns: []report.Column{{Name: "Times", Number: true}, {Name: "Rows", Number: true}, {Name: "Time", Number: true}, {Name: "Statement"}}}
		for _, st := range r.Statements {
			s.Rows = append(s.Rows, []string{report.Number(st.Times), report.Number(st.Rows), fmt.Sprintf("%.1f ms", st.Elapsed.Seconds()*1000), strings.Join(strings.Fields(st.Text), " ")})
		}
		fmt.Fprintln(a.out, a.page.Draw(s))
	}
}

// tellRefusals shows the first rows that were left out.
func (a *app) tellRefusals(what string, n int64, list []*load.Refusal) {
	if n == 0 {
		return
	}
	fmt.Fprintf(a.out, "\n%s %s:\n", report.Count(n, "row", "rows"), what)
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
func pace(rows int64, d time.Duration) string {
	s := d.Seconds()
	out := fmt.Sprintf("%.1f s", s)
	if s < 0.95 {
		out = fmt.Sprintf("%d ms", max(1, d.Milliseconds()))
	}
	if s > 0 && rows > 0 {
		out += fmt.Sprintf(" (%s rows a second)", report.Number(int64(float64(rows)/s)))
	}
	return out
}

// progress lets a load tell how far it is: a bar on a terminal, else a plain line
// every few seconds. The function it returns ends that.
func (a *app) progress(o *load.Options) func() {
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
		return fmt.Sprintf("%s of %s rows, %s rows a second, %s left",
			report.Number(done), report.Number(total), report.Number(int64(rate)), max(left.Round(time.Second), time.Second))
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
