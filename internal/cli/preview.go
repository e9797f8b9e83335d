package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"evensprout/internal/grow"
	"evensprout/internal/plan"
	"evensprout/internal/report"
)

// maxPrinted is how many rows preview grows for fingerprints without being asked.
const maxPrinted = 200_000

func (a *app) preview() *cobra.Command {
	var entity string
	var rows int
	var print bool
	c := &cobra.Command{
		Use:   "preview [PLAN]",
		Short: "Grow a few rows and show them; touches no database",
		Long: `preview grows the first rows of each entity and shows them. No database is opened,
so keys that the plan does not mention are left out, and a reference shows the row
that it points to: Passenger.ada is a given row, Passenger 17 a grown one.

Fingerprints are those of all rows of the entity, not only of those shown: a load
of the same plan must come to the same ones.`,
		Example: `  evensprout preview
  evensprout preview larkwater/evensprout.yaml --entity Passenger --rows 20
  evensprout preview --json`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			o, err := a.options()
			if err != nil {
				return err
			}
			if rows < 0 || rows > 10_000 {
				return usageError{fmt.Errorf("--rows lies between 0 and 10000")}
			}
			p, err := a.readPlan(args)
			if err != nil {
				return err
			}
			compiled, err := p.Compile(o)
			if err != nil {
				return err
			}
			targets := compiled.Targets
			if entity != "" {
				t := compiled.Target(entity)
				if t == nil {
					err := fmt.Errorf("--entity: the plan has no entity %s", entity)
					if near := plan.Nearest(entity, compiled.Names()); near != "" {
						err = fmt.Errorf("%w; did you mean %s?", err, near)
					}
					return usageError{err}
				}
				targets = []*plan.Target{t}
			}
			a.warn(compiled)
			return a.previewed(compiled, targets, rows, print || totalRows(compiled) <= maxPrinted)
		},
	}
	c.Flags().StringVar(&entity, "entity", "", "show this entity alone")
	c.Flags().IntVar(&rows, "rows", 3, "how many rows of each entity")
	c.Flags().BoolVar(&print, "fingerprints", false, "print fingerprints, however many rows must be grown for them")
	a.clockFlag(c)
	return c
}

func totalRows(c *plan.Compiled) uint64 {
	n := uint64(0)
	for _, t := range c.Targets {
		n += t.Grow.Total()
	}
	return n
}

func (a *app) previewed(c *plan.Compiled, targets []*plan.Target, rows int, print bool) error {
	var prints []grow.Fingerprint
	if print {
		var err error
		if prints, err = c.Set.Fingerprints(jobsDefault()); err != nil {
			return err
		}
	}
	g := grow.NewGrower(c.Set)
	list := []any{}
	for i, t := range targets {
		shown := previewRows(g, t, rows)
		o := &report.Object{}
		o.Set("entity", t.Plan.Name)
		o.Set("rows", t.Grow.Total())
		title := fmt.Sprintf("%s  %s", a.page.Bold(t.Plan.Name), a.page.Dim(report.Count(t.Grow.Total(), "row", "rows")+relation(t)))
		if print {
			for j, of := range c.Targets {
				if of == t {
					title += a.page.Dim("  fingerprint " + prints[j].String())
					o.Set("fingerprint", prints[j])
				}
			}
		}
		if a.json {
			o.Set("first", shown.objects)
			list = append(list, o)
			continue
		}
		if i > 0 {
			fmt.Fprintln(a.out)
		}
		fmt.Fprintln(a.out, title)
		if len(shown.table.Rows) > 0 {
			fmt.Fprintln(a.out, a.page.Draw(shown.table))
		}
	}
	if err := g.Err(); err != nil {
		return err
	}
	if a.json {
		return a.writeJSON(map[string]any{"plan": c.Plan.Name, "entities": list})
	}
	return nil
}

func relation(t *plan.Target) string {
	if t.Plan.Per == nil {
		return ""
	}
	if t.Plan.Per.Lo == t.Plan.Per.Hi {
		return fmt.Sprintf(", %d for each %s", t.Plan.Per.Lo, t.Plan.Per.Parent)
	}
	return fmt.Sprintf(", %d to %d for each %s", t.Plan.Per.Lo, t.Plan.Per.Hi, t.Plan.Per.Parent)
}

// previewing is some rows, as a table and as objects.
type previewing struct {
	table   report.Table
	objects []*report.Object
}

func previewRows(g *grow.Grower, t *plan.Target, rows int) previewing {
	p := previewing{objects: []*report.Object{}}
	p.table.Columns = []report.Column{{Name: ""}}
	for _, f := range t.Grow.Fields {
		if !f.Hidden && !f.Inner {
			typ := f.Source.Type()
			if f.Target() != nil {
				typ = grow.Text // shown as a label
			}
			p.table.Columns = append(p.table.Columns, report.Column{Name: f.Name, Number: typ == grow.Integer || typ == grow.Decimal, Whole: typ != grow.Text})
		}
	}
	add := func(side bool, total uint64) {
		n := min(uint64(rows-len(p.table.Rows)), total)
		var b grow.Batch
		g.Grow(t.Grow, grow.Row{Side: side}, int(n), &b)
		for i := range b.Len {
			line := []string{strings.Trim(strings.TrimPrefix(t.Grow.Label(b.At(i)), t.Plan.Name), ". ")}
			o := &report.Object{}
			for j, f := range t.Grow.Fields {
				if f.Hidden || f.Inner {
					continue
				}
				v := b.Row(i)[j]
				if to, ok := g.Refers(t.Grow, b.At(i), f); ok {
					label := f.Target().Label(to)
					line = append(line, label)
					o.Set(f.Name, label)
					continue
				}
				line = append(line, cell(v))
				o.Set(f.Name, report.JSON(v))
			}
			p.table.Rows = append(p.table.Rows, line)
			p.objects = append(p.objects, o)
		}
	}
	add(true, uint64(len(t.Grow.Side)))
	add(false, t.Grow.Rows)
	return p
}

// cell shows a value in a table: NULL as a sign of its own, moments with a blank.
func cell(v grow.Value) string {
	switch v.Type {
	case grow.Null:
		return "∅"
	case grow.Boolean:
		if v.N != 0 {
			return "yes"
		}
		return "no"
	case grow.Timestamp:
		return string(grow.AppendTimestamp(nil, v))
	}
	return v.String()
}
