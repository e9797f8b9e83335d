package cli

import (
	"context"
	"fmt"
	"math"
	"os"
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
	c.Flags().IntVar(&f.chunk, "chunk", load.DefaultChunk, "at most so many rows in a chunk; a family is kept whole")
	c.Flags().IntVar(&f.jobs, "jobs", jobsDefault(), "how many growers work at a time")
}

func (f *loadFlags) options() (load.Options, error) {
	if f.chunk < 1 || f.chunk > math.MaxInt32 {
		return load.Options{}, usageError{fmt.Errorf("--chunk is a number of rows from 1 up, and here is %d", f.chunk)}
	}
	if f.jobs < 1 || f.jobs > 256 {
		return load.Options{}, usageError{fmt.Errorf("--jobs lies between 1 and 256, and here is %d", f.jobs)}
	}
	return load.Options{Chunk: uint64(f.chunk), Jobs: f.jobs}, nil
}

func (a *app) load() *cobra.Command {
	var flags loadFlags
	c := &cobra.Command{
		Use:   "load [PLAN]",
		Short: "Check, then write a plan into the database",
		Long: `load checks the plan, grows its rows and writes them, parents before children, in
one transaction: if anything is refused, the tables are as before, and you are told
which row, field, value and constraint it was.

The rows do not depend on --chunk and --jobs. Loading a second time stops before the
first row, unless the plan says when: empty, which leaves tables alone that have rows.

Exit codes: 0 done, 3 the plan is wrong, 4 the database does not fit the plan or
cannot be reached, 5 a row was refused and everything rolled back, 130 interrupted.`,
		Example: `  evensprout load
  evensprout load larkwater/evensprout.yaml --db sqlite:app.db --jobs 4`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			o, err := flags.options()
			if err != nil {
				return err
			}
			c, s, name, err := a.compile(cmd.Context(), args, true)
			if err != nil {
				return err
			}
			defer s.Close()
			defer c.Close()
			a.warn(c)
			return a.loaded(cmd.Context(), c, s, name, o)
		},
	}
	flags.add(c)
	a.clockFlag(c)
	return c
}

// loaded loads and tells what was done.
func (a *app) loaded(ctx context.Context, c *plan.Compiled, s store.Store, name string, o load.Options) error {
	o.Folder = c.Plan.Folder()
	stop := a.progress(&o)
	r, err := load.Run(ctx, c, s, o)
	stop()
	if err != nil {
		return err
	}
	if a.json {
		out := &report.Object{}
		out.Set("plan", c.Plan.Name)
		out.Set("database", name)
		out.Set("rows", r.Rows)
		out.Set("transactions", r.Transactions)
		out.Set("chunks", r.Chunks)
		out.Set("seconds", math.Round(r.Elapsed.Seconds()*1000)/1000)
		out.Set("entities", r.Entities)
		return a.writeJSON(out)
	}
	t := report.Table{Columns: []report.Column{
		{Name: "Entity"}, {Name: "Table"}, {Name: "Before", Number: true}, {Name: "Inserted", Number: true}, {Name: "After", Number: true}, {Name: "Fingerprint"},
	}}
	skipped := 0
	for _, e := range r.Entities {
		print := e.Fingerprint.String()
		if e.Skipped {
			print = "left alone: the table has rows"
			skipped++
		}
		t.Rows = append(t.Rows, []string{e.Entity, e.Table, report.Number(e.Before), report.Number(e.Inserted), report.Number(e.After), print})
	}
	fmt.Fprintln(a.out, a.page.Draw(t))
	if skipped == len(r.Entities) {
		fmt.Fprintf(a.out, "\n%s every table has rows already, and the plan says when: empty. Nothing to do in %s.\n", a.page.Good("done:"), name)
		return nil
	}
	fmt.Fprintf(a.out, "\n%s %s into %s in one transaction: %s, %s\n", a.page.Good("done:"),
		report.Count(r.Rows, "row", "rows"), name, report.Count(r.Chunks, "chunk", "chunks"), pace(r.Rows, r.Elapsed))
	return nil
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
