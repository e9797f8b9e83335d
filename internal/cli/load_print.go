package cli

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"evensprout/internal/diag"
	"evensprout/internal/journal"
	"evensprout/internal/plan"
	"evensprout/internal/replay"
	"evensprout/internal/report"
	"evensprout/internal/store"
)

// headJSON starts the JSON of a load or of a part of one: its plan, database and numbers in the journal.
func headJSON(c *plan.Compiled, name string, r *journal.Result) *report.Object {
	o := &report.Object{}
	o.Set("plan", c.Plan.Name)
	o.Set("database", name)
	if r.Load > 0 {
		o.Set("load", r.Load)
	}
	if r.Earlier > 0 {
		o.Set("earlier", r.Earlier)
	}
	return o
}

func loadJSON(c *plan.Compiled, name string, r *journal.Result, units []*journal.UnitResult, outputs *outputs) any {
	out := headJSON(c, name, r)
	if r.Unread {
		out.Set("unread", true)
	}
	if len(r.Migrated) > 0 {
		out.Set("migrated", r.Migrated)
	}
	if r.LeftOut > 0 {
		out.Set("left_out", r.LeftOut)
	}
	if len(r.Stepped) > 0 {
		out.Set("stepped", r.Stepped)
	}
	if r.Amended {
		out.Set("amended", true)
	}
	if r.Completed > 0 {
		out.Set("completed", r.Completed)
		out.Set("put_back", r.PutBack)
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
	out.Set("elapsed_ns", r.Elapsed)
	out.Set("entities", r.Entities)
	if r.Indexes != nil {
		out.Set("indexes", r.Indexes)
	}
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
	if users := usersOf(c); len(users) > 0 {
		out.Set("logins", users)
	}
	if path := outputs.rejectsPath(); path != "" {
		out.Set("rejects_file", path)
	}
	return out
}

// printNothingToDo says that an earlier load wrote the rows.
func (a *program) printNothingToDo(r *journal.Result, name string) {
	if r.LeftOut > 0 {
		fmt.Fprintf(
			a.out,
			"%s load %d already wrote these rows, except %s that were left out. Nothing to do in %s.\nload "+
				"--retry-rejected tries those again.\n",
			a.page.Good("done:"),
			r.Earlier,
			diag.Count(r.LeftOut, "row", "rows"),
			name,
		)
		return
	}
	fmt.Fprintf(
		a.out,
		"%s load %d already wrote these rows. Nothing to do in %s.\n",
		a.page.Good("done:"),
		r.Earlier,
		name,
	)
}

// loadTable counts what was done, by entity, and how many tables were left alone.
func loadTable(r *journal.Result) (t report.Table, skipped int) {
	counts := []struct {
		name string
		of   func(journal.Entity) int64
		all  bool // shown also if it is 0 throughout
	}{
		{"Before", func(e journal.Entity) int64 { return e.Before }, true},
		{"Loaded earlier", func(e journal.Entity) int64 { return int64(e.Loaded) }, false},
		{"Removed", func(e journal.Entity) int64 { return e.Removed }, false},
		{"Inserted", func(e journal.Entity) int64 { return e.Inserted }, true},
		{"Updated", func(e journal.Entity) int64 { return e.Updated }, false},
		{"Unchanged", func(e journal.Entity) int64 { return e.Unchanged }, false},
		{"Kept", func(e journal.Entity) int64 { return e.Kept }, false},
		{"Rejected", func(e journal.Entity) int64 { return e.Rejected }, false},
		{"Not found", func(e journal.Entity) int64 { return e.Unmatched }, false},
		{"After", func(e journal.Entity) int64 { return e.After }, true},
	}
	t = report.Table{Columns: []report.Column{{Name: "Entity"}, {Name: "Table"}}}
	counts = slices.DeleteFunc(counts, func(x struct {
		name string
		of   func(journal.Entity) int64
		all  bool
	}) bool {
		return !x.all && !slices.ContainsFunc(r.Entities, func(e journal.Entity) bool { return x.of(e) != 0 })
	})
	for _, x := range counts {
		t.Columns = append(t.Columns, report.Column{Name: x.name, Number: true})
	}
	t.Columns = append(t.Columns, report.Column{Name: "Fingerprint"})
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
			line = append(line, diag.Number(x.of(e)))
		}
		t.Rows = append(t.Rows, append(line, print))
	}
	return t, skipped
}

// printDone says how many rows were written, and how.
func (a *program) printDone(r *journal.Result, name string) {
	how := "in one transaction"
	if r.Commit != plan.CommitLoad {
		how = "in " + diag.Count(r.Transactions, "transaction", "transactions")
	}
	word := a.page.Good("done:")
	rows, into := r.Rows, "into"
	if r.Amended {
		into = "changed in"
		for _, e := range r.Entities {
			rows += e.Removed
		}
	}
	if r.Amended && rows == 0 {
		fmt.Fprintf(a.out, "\n%s the plan has the same rows as before. Nothing to do in %s.\n", word, name)
		return
	}
	if r.DryRun {
		word, how = a.page.Good("dry run:"), "in one transaction, all rolled back"
	}
	more := ""
	if r.Redrawn > 0 {
		more += ", " + diag.Count(r.Redrawn, "row", "rows") + " redrawn"
	}
	if r.Repeated > 0 {
		more += ", " + diag.Count(r.Repeated, "transaction", "transactions") + " retried"
	}
	fmt.Fprintf(
		a.out,
		"\n%s %s %s %s %s: %s, %s, %s%s\n",
		word,
		diag.Count(rows, "row", "rows"),
		into,
		name,
		how,
		diag.Count(r.Chunks, "chunk", "chunks"),
		diag.Count(r.Sent, "statement", "statements"),
		pace(rows, r.Elapsed),
		more,
	)
}

// printIndexes says what was done with the indexes of large, empty tables.
func (a *program) printIndexes(x *journal.Indexes) {
	switch {
	case x == nil:
	case x.Kept != "":
		fmt.Fprintf(a.out, "Indexes stayed in place: %s.\n", x.Kept)
	default:
		fmt.Fprintf(a.out, "Rebuilt after the rows: %s of %s. --indexes keep leaves them in place.\n",
			diag.Count(int64(x.Rebuilt), "index or key", "indexes and keys"), strings.Join(x.Tables, ", "))
	}
}

// printLoad shows what a load did.
func (a *program) printLoad(x *loading, r *journal.Result, missing int64) {
	name, statements, outputs := x.name, x.statements, x.out
	if r.Earlier > 0 && r.Rows == 0 && r.Transactions == 0 && !r.DryRun {
		a.printNothingToDo(r, name)
		return
	}
	t, skipped := loadTable(r)
	fmt.Fprintln(a.out, a.page.Draw(t))
	if skipped == len(r.Entities) {
		fmt.Fprintf(
			a.out,
			"\n%s every table has rows already, and the plan says when: empty. Nothing to do in %s.\n",
			a.page.Good("done:"),
			name,
		)
		return
	}

	a.printRefusals("row", "left out", r.Rejected, r.Rejections)
	a.printEmpty(r.Entities)
	a.printRefusals("row", "not found", missing, r.Unmatched)
	a.printDone(r, name)
	a.printIndexes(r.Indexes)
	if r.Load > 0 {
		fmt.Fprintf(a.out, "This is load %d; evensprout withdraw %d undoes it.\n", r.Load, r.Load)
	}
	if path := outputs.rejectsPath(); path != "" {
		fmt.Fprintf(a.out, "Rows left out are in %s.\n", path)
	}
	a.printAwkward(r)
	a.printLogins(x.plan)
	if statements {
		a.printStatements(r.Statements)
	}
}

// printStatements lists distinct statements.
func (a *program) printStatements(list []store.Statement) {
	fmt.Fprintln(a.out)
	fmt.Fprintln(a.out, a.page.Draw(statementTable(list)))
}

// statementTable shows distinct statements, with how often they ran.
func statementTable(list []store.Statement) report.Table {
	s := report.Table{
		Columns: []report.Column{
			{Name: "Times", Number: true},
			{Name: "Rows", Number: true},
			{Name: "Time", Number: true},
			{Name: "Statement"},
		},
	}
	for _, st := range list {
		s.Rows = append(
			s.Rows,
			[]string{
				diag.Number(st.Times),
				diag.Number(st.Rows),
				fmt.Sprintf("%.1f ms", st.Elapsed.Seconds()*1000),
				strings.Join(strings.Fields(st.Text), " "),
			},
		)
	}
	return s
}

// printEmpty names the tables that got no row, with the reason of the first.
func (a *program) printEmpty(list []journal.Entity) {
	first := true
	for _, e := range list {
		if e.Refused == nil || e.Rejected == 0 || e.Inserted+e.Updated+e.Unchanged+e.Kept > 0 {
			continue
		}
		if first {
			fmt.Fprintln(a.out, "\nTables without rows:")
			first = false
		}
		fmt.Fprintf(a.out, "  %s (%s): %s\n", e.Entity, e.Table, e.Refused.Error())
		if m := e.Refused.Message; e.Refused.Constraint != "consequence" && m != "" &&
			!strings.Contains(e.Refused.Error(), m) {
			fmt.Fprintf(a.out, "      database: %s\n", m)
		}
	}
}

// printRefusals shows the first rows that were left out.
func (a *program) printRefusals(of, what string, n int64, list []*journal.Refusal) {
	if n == 0 {
		return
	}
	fmt.Fprintf(a.out, "\n%s %s:\n", diag.Count(n, of, of+"s"), what)
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
		fmt.Fprintf(a.out, "  and %s more\n", diag.Number(rest))
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
		out += fmt.Sprintf(" (%s %s per second)", diag.Number(int64(float64(rows)/s)), what)
	}
	return out
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
