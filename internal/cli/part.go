package cli

import (
	"context"
	"fmt"
	"os"
	"strconv"
	"strings"

	"evensprout/internal/journal"

	"github.com/spf13/cobra"

	"evensprout/internal/diag"
	"evensprout/internal/load"
	"evensprout/internal/order"
	"evensprout/internal/plan"
	"evensprout/internal/report"
	"evensprout/internal/store"
)

// partFlag lets a command take a share of the rows.
func partFlag(c *cobra.Command, into *string) {
	c.Flags().
		StringVar(into, "part", "", "write this share of the rows: 3/16 or env/16")
}

// indexVariables are where schedulers tell a task of an indexed job its number.
var indexVariables = []struct {
	name  string
	first string // the variable with the least number; empty: that is 0
}{
	{
		"JOB_COMPLETION_INDEX",
		"",
	}, {"AWS_BATCH_JOB_ARRAY_INDEX", ""}, {"BATCH_TASK_INDEX", ""}, {"CLOUD_RUN_TASK_INDEX", ""},
	{"SLURM_ARRAY_TASK_ID", "SLURM_ARRAY_TASK_MIN"}, {"PBS_ARRAY_INDEX", ""},
}

// parsePart reads a part, its number from the environment if that is asked for.
func parsePart(text string) (order.Part, error) {
	if text == "" {
		return order.Part{}, nil
	}
	if of, ok := strings.CutPrefix(text, "env/"); ok {
		var names []string
		number := ""
		for _, v := range indexVariables {
			names = append(names, v.name)
			at := os.Getenv(v.name)
			if at == "" {
				continue
			}
			n, err := strconv.ParseInt(at, 10, 32)
			first := int64(0)
			if err == nil && v.first != "" {
				first, err = strconv.ParseInt(os.Getenv(v.first), 10, 32)
			}
			if err != nil {
				return order.Part{}, diag.Usagef(
					"--part: %s must hold the number of a task, got %q", v.name, at)

			}
			number = strconv.FormatInt(n-first+1, 10)
			break
		}
		if number == "" {
			return order.Part{}, diag.Usagef(
				"--part env/%s needs one of these environment variables: %s",
				of,
				strings.Join(names, ", "))

		}
		text = number + "/" + of
	}

	p, err := order.ParsePart(text)
	if err != nil {
		return p, diag.Usagef("--part: %w", err)
	}
	return p, nil
}

// loadedPart writes a part of the rows, and tells how far the load has come.
func (a *program) loadedPart(ctx context.Context, c *plan.Compiled, s store.Store, name string, o load.Options) error {
	o.Folder = c.Plan.Folder()
	stop := a.progress(&o, inOrder(c), "rows")
	r, err := load.RunPart(ctx, c, s, o)
	stop()
	if err != nil {
		return err
	}
	switch p := r.Part; {
	case a.json:
		err = a.writeJSON(partJSON(c, name, r))
	case a.quiet:
	case p == nil:
		fmt.Fprintf(
			a.out,
			"%s load %d already wrote these rows, in all of its parts. Nothing to do in %s.\n",
			a.page.Good("done:"),
			r.Earlier,
			name,
		)
	default:
		a.printPart(c, name, r)
	}
	if err == nil && r.Part != nil && r.Part.Whole &&
		len(c.Plan.Units) == 0 { // else they need not hold before the units
		err = load.CheckAlways(ctx, s, c.Always)
	}
	if err == nil && r.Part != nil {
		for _, e := range r.Part.Entities {
			if e.Rejected+e.Unmatched > 0 {
				return errRejects
			}
		}
	}
	return err
}

func partJSON(c *plan.Compiled, name string, r *journal.Result) any {
	o := headJSON(c, name, r)
	if r.Part != nil {
		o.Set("part", r.Part)
	}
	o.Set("repeated", r.Repeated)
	o.Set("elapsed_ns", r.Elapsed)
	return o
}

func (a *program) printPart(c *plan.Compiled, name string, r *journal.Result) {
	t := report.Table{
		Columns: []report.Column{
			{Name: "Entity"},
			{Name: "Table"},
			{Name: "Inserted", Number: true},
			{Name: "Rejected", Number: true},
			{Name: "Fingerprint of the part"},
		},
	}
	rows := int64(0)
	for _, e := range r.Part.Entities {
		n := e.Inserted + e.Updated
		rows += n
		t.Rows = append(
			t.Rows,
			[]string{e.Entity, e.Table, diag.Number(n), diag.Number(e.Rejected), e.Fingerprint.String()},
		)
	}

	fmt.Fprintln(a.out, a.page.Draw(t))
	how := fmt.Sprintf("%d of %d parts are done", r.Part.Done, r.Part.Of)
	if r.Part.Whole {
		how = "it was the last: the load is complete"
		if len(c.Plan.Units) > 0 {
			how += "; its units are run by evensprout load --unit NAME"
		}
	}

	fmt.Fprintf(
		a.out,
		"\n%s part %s of load %d in %s: %s, %s; %s.\n",
		a.page.Good("done:"),
		r.Part.Part,
		r.Load,
		name,
		diag.Count(rows, "row", "rows"),
		pace(rows, r.Elapsed),
		how,
	)
}
