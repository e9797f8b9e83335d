package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"

	"github.com/spf13/cobra"

	"evensprout/internal/diag"
	"evensprout/internal/diagram"
	"evensprout/internal/journal"
	"evensprout/internal/page"
	"evensprout/internal/plan"
	"evensprout/internal/replay"
	"evensprout/internal/report"
	"evensprout/internal/schema"
	"evensprout/internal/store"
)

// maxPageCounted is how many rows a table may have for its values to be counted for a page.
const maxPageCounted = 100_000

// pageCommand makes the command page.
func (a *program) pageCommand() *cobra.Command {
	var out string
	c := &cobra.Command{
		Use:   "page [PLAN] --out FILE",
		Short: "Write one HTML page that shows a plan and its rows",
		Long: `page writes an HTML file to open in a browser or to send to a colleague: the plan in a
paragraph, the diagram, and for each entity sample rows, whose references lead to the
rows that they point to, and the distribution of each field's values. The file loads
nothing from elsewhere, and works without a network.

It opens no database, unless --db names one. Then the page also shows how many rows
the tables have, what is in them beside what the plan says, the last load with the
rows that it left out, the invariants, and the history.

Rows are generated for the page: all rows of small entities, and up to 10,000 of large
ones, evenly taken. In the database, values are counted in tables of up to 100,000 rows.

load --page and compare --page write such a page of what they did.`,
		Example: `  evensprout page --out larkwater.html
  evensprout page evensprout.yaml --db sqlite:app.db --out app.html
  evensprout load --page load.html
  evensprout compare --page differences.html`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if out == "" {
				return diag.Usagef("page needs the name of the file to write: add --out page.html")
			}
			return a.writePageOf(cmd.Context(), args, out)
		},
	}
	c.Flags().StringVar(&out, "out", "", "write to this `FILE`")
	a.overwriteFlag(c)
	a.clockFlag(c)
	a.useFlags(c)
	return c
}

// pageFlag lets a command write a page of what it did.
func (a *program) pageFlag(c *cobra.Command, to *string) {
	c.Flags().StringVar(to, "page", "", "write a page of the result to this `FILE`, as HTML")
}

// writePageOf writes the page of a plan and, if one is named, of its database.
func (a *program) writePageOf(ctx context.Context, args []string, out string) error {
	if a.ws.DB != "" {
		c, s, name, err := a.ws.Compile(ctx, args, true)
		if err != nil {
			return err
		}
		defer s.Close()
		defer c.Close()
		return a.writePage(ctx, &paged{plan: c, store: s, name: name, out: out, alone: true})
	}
	p, err := a.ws.ReadPlan(args)
	if err != nil {
		return err
	}
	o, err := a.ws.Options()
	if err != nil {
		return err
	}
	o.WithoutUnits = true
	c, err := p.Compile(o)
	if err != nil {
		return err
	}
	defer c.Close()
	return a.writePage(ctx, &paged{plan: c, out: out, alone: true})
}

// paged is what a page shows.
type paged struct {
	plan       *plan.Compiled
	store      store.Store // nil: the plan alone
	name       string      // of the database, for people
	out        string
	alone      bool            // the page is all that the command makes
	load       *journal.Result // nil: the last one in the journal
	units      []*journal.UnitResult
	failed     error // that ended the load
	difference *replay.Difference
}

// writePage gathers a page and writes it.
func (a *program) writePage(ctx context.Context, x *paged) error {
	d := diagram.OfPlan(x.plan)
	if x.plan.Database != nil {
		d = diagram.Beside(x.plan, x.plan.Plan.Bindings(x.plan.Database), x.plan.Database)
	}
	p, err := page.OfPlan(ctx, x.plan, d)
	if err != nil {
		return err
	}
	p.Made = "Made by " + version() + "."
	if x.store != nil {
		if err := a.addDatabase(ctx, p, x); err != nil {
			return err
		}
	}
	var b bytes.Buffer
	if err := p.Write(&b); err != nil {
		return err
	}
	if err := a.output(x.out, x.plan.Plan).Write(b.Bytes()); err != nil {
		return a.inTheWay(err)
	}
	if a.json && x.alone {
		o := &report.Object{}
		o.Set("page", x.out)
		o.Set("bytes", b.Len())
		o.Set("entities", len(p.Entities))
		return a.writeJSON(o)
	}
	a.say("%s shows %s", x.out, diag.Count(len(p.Entities), "entity", "entities"))
	return nil
}

// addDatabase adds what the database has: rows, values, invariants, loads.
func (a *program) addDatabase(ctx context.Context, p *page.Page, x *paged) error {
	p.About = append(p.About, "The database is "+x.name+".")
	names := newLabels(x.store, x.plan.Database)
	for _, t := range x.plan.Targets {
		if t.Table == nil {
			continue
		}
		if err := a.addTable(ctx, names, p.Entity(t.Plan.Name), t); err != nil {
			return err
		}
	}
	broken, err := a.brokenRules(ctx, x.plan.Plan, x.store)
	if err != nil {
		return err
	}
	for i := range p.Rules {
		p.Rules[i].State = "holds"
		if broken == nil {
			continue
		}
		for _, r := range broken.Rules {
			if r.Name == p.Rules[i].Name {
				p.Rules[i].State, p.Rules[i].Broken, p.Rules[i].Rows = "broken", true, r.Rows
			}
		}
	}
	all, err := journal.Unlocked(x.store).Entries(ctx, x.plan.Plan.Name)
	if err != nil {
		return err
	}
	if len(all) > 0 {
		t := page.Tabled(historyTable(all))
		p.History = &t
	}
	p.Load = loadOnPage(x, all)
	if x.difference != nil {
		p.Compared = differenceOnPage(x.difference, x.name)
	}
	return nil
}

// addTable adds how many rows a table has, and the distribution of its values beside the planned one.
func (a *program) addTable(ctx context.Context, names *labels, e *page.Entity, t *plan.Target) error {
	n, why, err := store.CountReached(ctx, names.store, t.Table)
	if err != nil {
		return err
	}
	if why != nil {
		e.About = append(e.About, "the rows of the table are "+notReached)
		return nil
	}
	e.InTable = diag.Count(n, "row", "rows")
	e.About = append(e.About, e.InTable+" in the table now")
	columns := map[string]*schema.Column{}
	for i, f := range t.Grow.Fields {
		if t.Columns[i] != nil {
			columns[f.Name] = t.Columns[i]
		}
	}
	for _, f := range e.Fields {
		c := columns[f.Name]
		switch {
		case c == nil || n == 0:
		case n > maxPageCounted:
			f.Note = fmt.Sprintf("The table has more than %s rows, so its values are not counted here: "+
				"evensprout look %s --spread %s counts them.", diag.Number(maxPageCounted), t.Table.Name, c.Name)
		default:
			counted, err := names.store.Spread(ctx, t.Table, c)
			if err != nil {
				return err
			}
			s, err := names.spread(ctx, t.Table, c, counted)
			if err != nil {
				return err
			}
			f.InTable = page.NewChart(s, "all "+e.InTable)
			f.InTable.Beside(f.Planned)
		}
	}
	return nil
}

// afterPage writes the page of a load that has ended, also of one that was refused; the load's own error stays.
func (a *program) afterPage(ctx context.Context, x *loading, out string, failed error) error {
	var refused *journal.Refusal
	if failed != nil && !errors.Is(failed, errRejects) && !errors.As(failed, &refused) {
		return failed
	}
	bad := a.writePage(ctx, &paged{plan: x.plan, store: x.store, name: x.name, out: out, load: x.loaded, units: x.ran,
		failed: failed})
	if bad != nil {
		bad = fmt.Errorf("the page cannot be written: %w", bad)
	}
	return errors.Join(failed, bad)
}
