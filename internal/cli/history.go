package cli

import (
	"context"
	"fmt"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"evensprout/internal/archive"
	"evensprout/internal/diag"
	"evensprout/internal/journal"
	"evensprout/internal/report"
	"evensprout/internal/store"
)

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

// writePlan writes the plan that the journal keeps of a load, as it was.
func (a *program) writePlan(ctx context.Context, s store.Store, number int64) error {
	if number == 0 {
		return diag.Usagef(
			"--plan needs the number of a load: evensprout history 3 --plan")

	}
	e, err := journal.Unlocked(s).Entry(ctx, number)
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
			all, err := journal.Unlocked(s).AllEntries(cmd.Context())
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
			fmt.Fprintln(a.out, a.page.Draw(historyTable(all)))
			a.showUnreadable(all)
			return nil
		},
	}
	c.Flags().BoolVar(&planText, "plan", false, "print the plan of a load, as the journal keeps it")
	c.Flags().
		Int64Var(&forget, "forget", 0, "remove a load from the journal, and leave its rows")
	a.allowFlag(c)
	return c
}

// historyTable lists loads.
func historyTable(all []*journal.Entry) report.Table {
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
				historyState(e),
				rows,
				rejected,
				e.Began.Format(shownMoment),
				e.Actor,
			},
		)
	}
	return t
}

const shownMoment = "2006-01-02 15:04:05Z"

// planName is a load's plan for a message, with the name of an extra load, or the variant and size.
func planName(e *journal.Entry) string {
	switch {
	case e.About.Unit != "":
		return e.Plan + ", unit " + e.About.Unit
	case e.Extra != "":
		return e.Plan + ", " + e.Extra
	case e.About.Used != "":
		return e.Plan + ", " + e.About.Used
	}
	return e.Plan
}

// showUnreadable says of loads why they cannot be read.
func (a *program) showUnreadable(all []*journal.Entry) {
	space := "\n"
	for _, e := range all {
		if e.Unreadable != "" {
			fmt.Fprintf(a.out, "%sload %d cannot be read: %s\n", space, e.Number, e.Unreadable)
			space = ""
		}
	}
}

// historyState is a load's state for the list of all loads.
func historyState(e *journal.Entry) string {
	if e.Unreadable != "" {
		return "cannot be read"
	}
	return stateWord(e.State)
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
	e, err := journal.Unlocked(s).Entry(ctx, number)
	if err != nil {
		return err
	}
	chunks, err := journal.Unlocked(s).Chunks(ctx, e.Number)
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
