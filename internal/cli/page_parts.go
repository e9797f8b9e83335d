package cli

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"evensprout/internal/diag"
	"evensprout/internal/journal"
	"evensprout/internal/load"
	"evensprout/internal/page"
	"evensprout/internal/plan"
	"evensprout/internal/replay"
	"evensprout/internal/report"
)

// maxOnPage bounds the refusals and differing rows of a kind that a page shows.
const maxOnPage = 50

// loadOnPage is what a load did: the one that has just ended, or the last one of the journal; nil if there is none.
func loadOnPage(x *paged, all []*journal.Entry) *page.Load {
	r, title := x.load, titleOfLoad(x.load)
	switch {
	case x.failed != nil && r == nil:
		title = "Load: refused, and everything that was not committed is rolled back"
	case r == nil:
		e := lastLoad(all)
		if e == nil {
			return nil
		}
		r, title = e.Summary, fmt.Sprintf("Load %d, of %s", e.Number, e.Began.Format(shownMoment))
	}
	out := &page.Load{Title: title}
	var refused []*journal.Refusal
	var one *journal.Refusal
	if errors.As(x.failed, &one) {
		refused = append(refused, one)
	}
	if r != nil {
		addResult(out, r)
		refused = slices.Concat(refused, r.Rejections, r.Unmatched)
	}
	if len(x.units) > 0 {
		list := page.Tabled(unitTable(x.units))
		out.Units = &list
	}
	for _, u := range x.units {
		refused = append(refused, u.Rejections...)
	}
	if rest := len(refused) - maxOnPage; rest > 0 {
		out.More = fmt.Sprintf("and %s more", diag.Number(rest))
		refused = refused[:maxOnPage]
	}
	for _, refusal := range refused {
		out.Refusals = append(out.Refusals, refusalOnPage(refusal))
	}
	return out
}

// titleOfLoad is the heading of a load that has just ended.
func titleOfLoad(r *journal.Result) string {
	switch {
	case r != nil && r.DryRun:
		return "Dry run: everything is rolled back"
	case r != nil && r.Load > 0:
		return fmt.Sprintf("Load %d", r.Load)
	}
	return "Load"
}

// lastLoad is the last load that is done and still there; nil if there is none.
func lastLoad(all []*journal.Entry) *journal.Entry {
	for _, e := range slices.Backward(all) {
		if e.Summary != nil && e.Summary.Unit == nil && e.State != journal.StateWithdrawn {
			return e
		}
	}
	return nil
}

// addResult adds the numbers of a load.
func addResult(to *page.Load, r *journal.Result) {
	to.Facts = loadFacts(r)
	t, _ := loadTable(r)
	to.Entities = page.Tabled(t)
	if len(r.Statements) > 0 {
		list := page.Tabled(statementTable(r.Statements))
		to.Statements = &list
	}
	if r.Rejected > int64(len(r.Rejections)) {
		to.More = fmt.Sprintf("%s were left out; the first %d are shown", diag.Count(r.Rejected, "row", "rows"),
			len(r.Rejections))
	}
}

// loadFacts are the numbers of a load.
func loadFacts(r *journal.Result) []string {
	facts := []string{diag.Count(r.Rows, "row", "rows") + " written"}
	if r.Earlier > 0 && r.Rows == 0 {
		facts = []string{fmt.Sprintf("load %d had already written these rows", r.Earlier)}
	}
	for _, x := range []struct {
		n    int64
		what string
	}{{r.Rejected, "left out"}, {r.Redrawn, "redrawn"}} {
		if x.n > 0 {
			facts = append(facts, diag.Count(x.n, "row", "rows")+" "+x.what)
		}
	}
	how := "one transaction"
	if r.Commit != plan.CommitLoad {
		how = diag.Count(r.Transactions, "transaction", "transactions")
	}
	facts = append(facts, how)
	if r.Sent > 0 {
		facts = append(facts, diag.Count(r.Sent, "statement", "statements"))
	}
	facts = append(facts, pace(r.Rows, r.Elapsed))
	if r.Repeated > 0 {
		facts = append(facts, diag.Count(r.Repeated, "transaction", "transactions")+" retried")
	}
	if x := r.Indexes; x != nil && x.Kept == "" {
		rebuilt := diag.Count(int64(x.Rebuilt), "index or key", "indexes and keys")
		facts = append(facts, rebuilt+" rebuilt after the rows")
	}
	return facts
}

// unitTable shows what runs of units did.
func unitTable(list []*journal.UnitResult) report.Table {
	t := report.Table{Columns: []report.Column{{Name: "Unit"}, {Name: "Done", Number: true},
		{Name: "Done earlier", Number: true}, {Name: "Left out", Number: true}, {Name: "Transactions", Number: true},
		{Name: "Time", Number: true}}}
	for _, u := range list {
		t.Rows = append(t.Rows, []string{u.Unit, diag.Number(u.Done), diag.Number(u.Earlier), diag.Number(u.Rejected),
			diag.Number(int64(u.Transactions)), u.Elapsed.Round(time.Millisecond).String()})
	}
	return t
}

// refusalOnPage is a row that the database refused, with what to do.
func refusalOnPage(r *journal.Refusal) page.Refusal {
	out := page.Refusal{Summary: r.Summary(), Hint: r.Hint}
	line := func(name, text string) {
		if text != "" {
			out.Lines = append(out.Lines, [2]string{name, text})
		}
	}
	line("row", strings.TrimSpace(r.Row+" "+r.Element))
	for i, f := range r.Fields {
		if i < len(r.Values) {
			line("field", f+" = "+cutValue(r.Values[i]))
		}
	}
	line("line", r.Place)
	if r.Constraint == "consequence" { // the summary says all
		return out
	}
	line("table", r.Table)
	line("constraint", r.Constraint)
	line("other row", r.Other)
	line("refers to", r.Refers)
	line("database", strings.TrimSpace(r.Message+" "+r.Code))
	return out
}

// differenceOnPage is how tables differ from what was loaded.
func differenceOnPage(d *replay.Difference, name string) *page.Comparison {
	out := &page.Comparison{Same: d.Same(), Title: name + " is as it was loaded.",
		Counts: page.Tabled(differenceTable(d))}
	if !d.Same() {
		out.Title = fmt.Sprintf("%s missing, %s changed, %s extra.", diag.Count(d.Missing, "row", "rows"),
			diag.Number(d.Changed), diag.Number(d.Extra))
		if len(d.Broken) > 0 {
			out.Title += " " + diag.Count(len(d.Broken), "invariant is broken", "invariants are broken") + "."
		}
	}
	for _, e := range d.Entities {
		for _, g := range []struct {
			what string
			n    int64
			rows []load.RowDifference
		}{
			{"missing from " + e.Table, e.Missing, e.MissingRows}, {"changed in " + e.Table, e.Changed, e.ChangedRows},
			{"extra in " + e.Table, e.Extra, e.ExtraRows},
		} {
			if g.n > 0 {
				out.Groups = append(out.Groups, differencesOnPage(g.what, g.n, g.rows))
			}
		}
	}
	return out
}

// differencesOnPage are the rows of one kind of difference.
func differencesOnPage(what string, n int64, rows []load.RowDifference) page.Differences {
	out := page.Differences{Title: diag.Count(n, "row", "rows") + " " + what}
	for i, r := range rows {
		if i == maxOnPage {
			break
		}
		x := page.Differing{Row: r.Row}
		if r.Key != "" {
			x.Row = strings.TrimSpace(x.Row + " (" + r.Key + ")")
		}
		for _, c := range r.Cells {
			x.Cells = append(x.Cells, fmt.Sprintf("%s is %s, loaded as %s", c.Field, cutValue(c.Is), cutValue(c.Plan)))
		}
		out.Rows = append(out.Rows, x)
	}
	if rest := n - int64(len(out.Rows)); rest > 0 {
		out.More = fmt.Sprintf("and %s more", diag.Number(rest))
	}
	return out
}
