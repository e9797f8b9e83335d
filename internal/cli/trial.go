package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"evensprout/internal/cell"
	"evensprout/internal/diag"
	"evensprout/internal/files"
	"evensprout/internal/load"
	"evensprout/internal/plan"
	"evensprout/internal/report"
	"evensprout/internal/safe"
	"evensprout/internal/trial"
)

type trialFlags struct {
	entity, counts, chart, file, table string
	repeat                             int
	limit                              time.Duration
}

func (a *program) trial() *cobra.Command {
	var f trialFlags
	c := &cobra.Command{
		Use:   "trial [PLAN]",
		Short: "Compare the speed of several ways to write your rows",
		Long: `trial writes rows of the plan to a table of your database in several ways, and shows
for each way the rows per second, the statements and bytes, and how much slower it is than
the fastest: one row per statement, with and without a transaction; many rows per
statement; the database's bulk path; and for existing rows, a loop that finds and writes,
an UPDATE with CASE, and a staged upsert. Last, it says which way load uses, and why.

trial creates the table for itself, with the columns and keys of the entity's table, and
drops it afterwards. The ways are measured in turn, several times; the median counts.
--chart draws them.

Rows come from the entity with the most rows, or from --entity; or from a file, instead
of a plan: --file passengers.csv --table passengers.`,
		Example: `  evensprout trial
  evensprout trial larkwater/evensprout.yaml --entity Ticket --counts 100,1000,10000
  evensprout trial --db postgres://app@localhost/app --chart trial.png
  evensprout trial --db sqlite:app.db --file passengers.csv --table passengers`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			counts, err := f.check()
			if err != nil {
				return err
			}
			a.ws.Writes = true
			if f.file != "" {
				if args, err = a.planOfFile(&f, args); err != nil {
					return err
				}
			}
			c, s, name, err := a.ws.Compile(cmd.Context(), args, true)
			if err != nil {
				return err
			}
			defer s.Close()
			defer c.Close()
			t, err := triedEntity(c, &f)
			if err != nil {
				return err
			}
			if counts, err = countsFor(t, counts, cmd.Flags().Changed("counts")); err != nil {
				return err
			}
			db, ok := s.(trial.Database)
			if !ok {
				return errors.New("trial does not support this database")
			}
			return a.tried(cmd.Context(), &trying{c, t, db, name, counts}, &f)
		},
	}
	c.Flags().StringVar(&f.entity, "entity", "", "write rows of this `ENTITY` (default: the one with the most rows)")
	c.Flags().
		StringVar(&f.counts, "counts", "100,1000,10000", "numbers of rows, separated by commas")
	c.Flags().IntVar(&f.repeat, "repeat", 3, "how many times to measure each way")
	c.Flags().
		DurationVar(&f.limit, "limit", 5*time.Second, "end a measurement after this time, and count what was "+
			"written until then")
	c.Flags().StringVar(&f.chart, "chart", "", "write a chart to this `FILE` (.png or .svg)")
	a.overwriteFlag(c)
	c.Flags().StringVar(&f.file, "file", "", "write the rows of this `FILE`, instead of a plan's")
	c.Flags().StringVar(&f.table, "table", "", "with --file: the table to write to")
	a.allowFlag(c)
	a.clockFlag(c)
	return c
}

// Limits on trials: all rows of one are held in memory.
const (
	maxTried   = 1_000_000
	maxRepeats = 100
)

func (f *trialFlags) check() ([]int, error) {
	bad := func(format string, args ...any) ([]int, error) { return nil, diag.Usagef(format, args...) }
	var counts []int
	for part := range strings.SplitSeq(f.counts, ",") {
		n, err := strconv.Atoi(strings.TrimSpace(part))
		if err != nil || n < 1 || n > maxTried {
			return bad(
				"--counts must be numbers of rows up to %s, such as 100,1000,10000, got %q",
				diag.Number(int64(maxTried)),
				f.counts,
			)
		}
		counts = append(counts, n)
	}

	slices.Sort(counts)
	ext := strings.ToLower(filepath.Ext(f.chart))
	switch {
	case f.repeat < 1 || f.repeat > maxRepeats:
		return bad("--repeat must be between 1 and %d, got %d", maxRepeats, f.repeat)
	case f.limit < time.Millisecond:
		return bad("--limit must be a duration, such as 5s")
	case f.chart != "" && ext != ".png" && ext != ".svg":
		return bad("--chart must be a file that ends in .png or .svg, got %q", f.chart)
	case (f.file == "") != (f.table == ""):
		return bad("--file and --table must be used together: --file passengers.csv --table passengers")
	case f.file != "" && f.entity != "":
		return bad("--file and --entity cannot be combined")
	}
	return slices.Compact(counts), nil
}

// planOfFile makes a plan of a file whose columns are called as the table's.
func (a *program) planOfFile(f *trialFlags, args []string) ([]string, error) {
	if len(args) > 0 {
		return nil, diag.Usagef("--file and a plan cannot be combined")
	}
	names, err := files.Names(f.file, files.Options{})
	if err != nil {
		return nil, err
	}
	folder, err := os.MkdirTemp("", "evensprout-")
	if err != nil {
		return nil, err
	}
	a.ws.AtEnd = append(a.ws.AtEnd, func() error { return os.RemoveAll(folder) })
	at, err := filepath.Abs(f.file)
	if err != nil {
		return nil, err
	}
	quoted := func(s string) string { return string(cell.AppendJSONText(nil, s)) }
	var b strings.Builder
	fmt.Fprintf(
		&b,
		"name: trial\nseed: trial\nclock: 2026-05-01T08:00:00Z\nentities:\n  %s:\n    table: %s\n    rows_from:\n  "+
			"    file: %s\n      columns:\n",
		quoted(f.table),
		quoted(f.table),
		quoted(at),
	)
	for _, n := range names {
		fmt.Fprintf(&b, "        %s: %s\n", quoted(n), quoted(n))
	}
	path := filepath.Join(folder, "trial.yaml")
	return []string{path}, os.WriteFile(path, []byte(b.String()), 0o600)
}

// triedEntity is the one asked for, or the one with the most rows.
func triedEntity(c *plan.Compiled, f *trialFlags) (*plan.Target, error) {
	if f.entity != "" {
		return entityNamed(c, "--entity", f.entity)
	}
	var most *plan.Target
	for _, t := range c.Targets {
		if !t.Plan.Existing && (most == nil || t.Grow.Rows > most.Grow.Rows) {
			most = t
		}
	}
	if most == nil {
		return nil, diag.Usagef("the plan has no entity with rows to write")
	}
	return most, nil
}

// countsFor leaves out counts for which there are not enough rows, unless they were asked
// for.
func countsFor(t *plan.Target, counts []int, asked bool) ([]int, error) {
	rows := t.Grow.Rows
	if rows == 0 {
		return nil, diag.Usagef("%s has no generated rows to write", t.Plan.Name)
	}
	if most := counts[len(counts)-1]; asked && uint64(most) > rows {
		return nil, diag.Usagef(
			"--counts asks for %s, and %s has %s: raise rows: in the plan, or choose another entity with --entity",
			diag.Count(most, "row", "rows"),
			t.Plan.Name,
			diag.Count(rows, "generated row", "generated rows"))

	}
	out := slices.DeleteFunc(slices.Clone(counts), func(n int) bool { return uint64(n) > rows })
	if len(out) < len(counts) && !slices.Contains(out, int(rows)) {
		out = append(out, int(rows))
	}
	return out, nil
}

// trying is what trial measures, and where.
type trying struct {
	plan   *plan.Compiled
	target *plan.Target
	db     trial.Database
	name   string // of the database, for people
	counts []int
}

// writeChart draws a trial into a file, in the form that its name says.
func writeChart(r *trial.Result, to safe.Output) error {
	picture, err := chartOf(r).Draw(strings.TrimPrefix(strings.ToLower(filepath.Ext(to.Path)), "."))
	if err != nil {
		return err
	}
	return to.Write(picture)
}

func (a *program) tried(ctx context.Context, x *trying, f *trialFlags) error {
	o := trial.Options{Counts: x.counts, Repeat: f.repeat, Limit: f.limit, Again: a.ws.Again,
		RebuildFrom: load.RebuildFrom}
	last := time.Now()
	o.Progress = func(done, all int, what string) {
		const every = 2 * time.Second
		if !a.quiet && time.Since(last) > every {
			last = time.Now()
			fmt.Fprintf(a.err, "trial: %d of %d measurements, now %s\n", done, all, what)
		}
	}
	chart := a.output(f.chart, x.plan.Plan, f.file)
	if f.chart != "" { // before measurements that take minutes
		if err := chart.Check(); err != nil {
			return a.inTheWay(fmt.Errorf("the chart cannot be written, and nothing was tried: %w", err))
		}
	}
	r, err := trial.Run(ctx, x.db, x.target, x.plan.Set, o)
	if err != nil {
		return err
	}

	if a.json {
		err = a.writeJSON(r)
	} else {
		a.printTrial(r, x.name)
	}
	if f.chart == "" || err != nil {
		return err
	}
	if err := writeChart(r, chart); err != nil {
		return a.inTheWay(fmt.Errorf("the chart cannot be written: %w", err))
	}
	if !a.json {
		fmt.Fprintf(a.out, "The chart is %s.\n", f.chart)
	}
	return nil
}

var jobTitles = map[trial.Job]string{
	trial.Add:    "adding rows to an empty table",
	trial.Change: "changing one column of existing rows",
}

// trialTable is the measurements of a job; stopped tells that the limit ended one of them.
func trialTable(r *trial.Result, job trial.Job) (t report.Table, stopped bool) {
	t = report.Table{Columns: []report.Column{{Name: "Way", Whole: true}}}
	for _, n := range r.Counts {
		t.Columns = append(t.Columns, report.Column{Name: diag.Count(n, "row", "rows"), Number: true})
	}
	t.Columns = append(
		t.Columns,
		report.Column{Name: "Statements", Number: true},
		report.Column{Name: "Bytes", Number: true},
		report.Column{Name: "Slower", Number: true},
	)
	for i := 0; i < len(r.Measures); i += len(r.Counts) {
		of := r.Measures[i : i+len(r.Counts)]
		if of[0].Job != job {
			continue
		}
		line := []string{of[0].Way}
		for _, m := range of {
			cell := diag.Number(int64(m.Rate))
			if m.Written < m.Rows {
				cell, stopped = cell+"*", true
			}
			line = append(line, cell)
		}
		last := of[len(of)-1]
		slower := fmt.Sprintf("%.1f times", last.Slower)
		if last.Slower == 1 {
			slower = "the best"
		}
		t.Rows = append(t.Rows, append(line, diag.Number(last.Statements), diag.Number(last.Bytes), slower))
	}
	return t, stopped
}

// comesOut says how the way that load takes came out.
func comesOut(c trial.Choice) string {
	how := fmt.Sprintf("%.1f times slower here than %s", c.Slower, c.Fastest)
	const alike = 1.05
	switch {
	case c.Way == c.Fastest:
		how = "the fastest of all here"
	case c.Slower < alike:
		how = "as fast here as " + c.Fastest
	}
	if c.Way != c.Slowest {
		how += fmt.Sprintf(", and %.1f times as fast as %s", c.Faster, c.Slowest)
	}
	return how
}

func (a *program) printTrial(r *trial.Result, name string) {
	fmt.Fprintf(
		a.out,
		"%s, %s columns, in %s: rows per second, each way measured %s\n",
		a.page.Bold(r.Entity),
		diag.Number(int64(r.Columns)),
		name,
		diag.Count(r.Repeat, "time", "times"),
	)
	for _, job := range []trial.Job{trial.Add, trial.Change} {
		t, stopped := trialTable(r, job)
		if len(t.Rows) == 0 {
			continue
		}
		title := jobTitles[job]
		if job == trial.Change {
			title = strings.Replace(title, "one column", "the column "+r.Changed, 1)
		}
		fmt.Fprintf(a.out, "\n%s\n%s\n", a.page.Bold(title), a.page.Draw(t))
		if stopped {
			fmt.Fprintln(a.out, "* ended by --limit: the rate is of what was written until then")
		}
	}

	if r.Unchosen != "" {
		fmt.Fprintf(a.out, "\nNo rows were changed: %s.\n", r.Unchosen)
	}
	fmt.Fprintf(
		a.out,
		"\nStatements, bytes and the last column are those of %s.\n",
		diag.Count(slices.Max(r.Counts), "row", "rows"),
	)
	for _, c := range r.Chosen {
		fmt.Fprintf(a.out, "For %s load takes %s: %s. %s\n", loadJobs[c.Job], c.Way, comesOut(c), c.Why)
	}
}

var loadJobs = map[trial.Job]string{
	trial.Add:    "new rows (write: insert)",
	trial.Change: "rows that may be there (write: keep, upsert, update)",
}

func chartOf(r *trial.Result) report.Chart {
	c := report.Chart{
		Title: fmt.Sprintf(
			"Ways of writing %s, %d columns, in %s (the thick lines are how load writes)",
			r.Entity,
			r.Columns,
			r.Engine,
		),
	}
	for _, job := range []trial.Job{trial.Add, trial.Change} {
		p := report.Panel{Title: jobTitles[job], X: "rows", Y: "rows per second"}
		for i := 0; i < len(r.Measures); i += len(r.Counts) {
			of := r.Measures[i : i+len(r.Counts)]
			if of[0].Job != job {
				continue
			}
			l := report.Line{Name: of[0].Way, Strong: of[0].Own}
			for _, m := range of {
				l.X, l.Y = append(l.X, float64(m.Rows)), append(l.Y, m.Rate)
			}
			p.Lines = append(p.Lines, l)
		}
		if len(p.Lines) > 0 {
			c.Panels = append(c.Panels, p)
		}
	}
	return c
}
