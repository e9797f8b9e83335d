package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"evensprout/internal/archive"
	"evensprout/internal/diag"
	"evensprout/internal/files"
	"evensprout/internal/journal"
	"evensprout/internal/plan"
	"evensprout/internal/report"
	"evensprout/internal/store"
	"evensprout/internal/withdraw"
)

// withdraw makes the command withdraw.
func (a *program) withdraw() *cobra.Command {
	var commit string
	var also []string
	var dryRun bool
	var ignore []string
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
			o := withdraw.Options{DryRun: dryRun, Wait: wait, Again: a.ws.Again,
				Patience: a.patience(wait, time.Now().Add(wait))}
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
			o.By = archive.Operator{Plan: p, Rows: files.Rows, Ignore: ignore}
			if planArgs == nil {
				p = nil // one that lies in the folder says only where the database is
			}
			v, err := a.withdrawOne(cmd.Context(), s, number, o, func() (int64, error) {
				return a.loadToWithdraw(cmd.Context(), s, number, p, planArgs)
			})
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
	c.Flags().DurationVar(&wait, "wait", 0, "wait for another run of the plan, and for locks, as in 5m")
	ignoreFlag(c, &ignore)
	a.allowFlag(c)
	return c
}

// ignoreFlag names columns that do not count when rows are compared.
func ignoreFlag(c *cobra.Command, to *[]string) {
	c.Flags().StringSliceVar(to, "ignore", nil, "columns whose changes do not count, such as last_seen_at")
}

// withdrawOne withdraws the load that is chosen. If none was named, and another process withdraws it first, the next
// one is chosen.
func (a *program) withdrawOne(
	ctx context.Context, s store.Store, named int64, o withdraw.Options, choose func() (int64, error),
) (*withdraw.Withdrawal, error) {
	for {
		number, err := choose()
		if err != nil {
			return nil, err
		}
		v, err := withdraw.Run(ctx, s, number, o)
		var already *withdraw.AlreadyError
		if named == 0 && errors.As(err, &already) {
			continue
		}
		return v, err
	}
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
	all, err := journal.Unlocked(s).AllEntries(ctx)
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
		if p == nil || e.Plan == p.Name {
			return a.lastLoad(e, p == nil)
		}
		if last == nil && e.Unreadable == "" {
			last = e
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

// lastLoad is the number of a load that was found, and not named, unless it cannot be read.
func (a *program) lastLoad(e *journal.Entry, any bool) (int64, error) {
	if e.Unreadable != "" {
		return 0, &journal.Unreadable{Entry: e}
	}
	if any && !a.json {
		fmt.Fprintf(a.err, "note: the last load is load %d of %s\n", e.Number, e.Plan)
	}
	return e.Number, nil
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
	if a.quiet && v.Left == 0 {
		return
	}
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
