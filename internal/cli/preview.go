package cli

import (
	"context"
	"encoding/csv"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"evensprout/internal/diag"
	"evensprout/internal/grow"
	"evensprout/internal/plan"
	"evensprout/internal/report"
	"evensprout/internal/value"
)

const (
	maxPrinted = 200_000 // rows that preview grows for fingerprints without being asked
	maxSpread  = 10_000  // rows of an entity that preview --spread looks at
	maxPreview = 1_000_000
)

// previewFlags say what to show.
type previewFlags struct {
	entity, row        string
	rows               int
	print, csv, spread bool
	awkward            bool
}

func (a *program) preview() *cobra.Command {
	var flags previewFlags
	c := &cobra.Command{
		Use:   "preview [PLAN]",
		Short: "Show a few rows; opens no database",
		Long: `preview generates the first rows of each entity and shows them. It opens no database,
so keys that the plan does not mention are left out, and a reference shows the row that
it points to: Passenger.ada is a row written in the plan, Passenger row 17 a generated one.

With --row, it shows one row of an entity, however far out, and what is planned below it.
With --awkward, it lists the awkward values that the plan mixes in (awkward: 2%), in which
fields and rows. With --spread, it shows the distribution of each field's values, over up to 10,000 rows
of each entity.

Fingerprints cover all rows of the entity, not only those shown. A load of the same plan
must produce the same fingerprints.`,
		Example: `  evensprout preview
  evensprout preview larkwater/evensprout.yaml --entity Passenger --rows 20
  evensprout preview --entity Passenger --row 4321
  evensprout preview --entity Passenger --spread
  evensprout preview --entity Passenger --awkward
  evensprout preview --entity Passenger --rows 1000 --csv > passengers.csv`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.watched(cmd, args, func() error { return a.previewPlan(cmd.Context(), args, flags) })
		},
	}
	c.Flags().StringVar(&flags.entity, "entity", "", "show only this `ENTITY`, or the occasions of this unit")
	c.Flags().IntVar(&flags.rows, "rows", 3, "how many rows of each entity to show")
	c.Flags().
		StringVar(&flags.row, "row", "", "show only this row and what is below it: Passenger.17, Passenger.ada, "+
			"or a number or name with --entity")
	c.Flags().BoolVar(&flags.spread, "spread", false, "show how the values of each field are distributed")
	c.Flags().BoolVar(&flags.awkward, "awkward", false, "show the awkward values that the plan mixes in")
	c.Flags().BoolVar(&flags.csv, "csv", false, "print rows as CSV (RFC 4180); needs --entity")
	c.Flags().
		BoolVar(&flags.print, "fingerprints", false, "print fingerprints, even of very many rows")
	watchFlag(c)
	a.clockFlag(c)
	a.useFlags(c)
	return c
}

// previewPlan shows rows of a plan.
func (a *program) previewPlan(ctx context.Context, args []string, flags previewFlags) error {
	o, err := a.ws.Options()
	if err != nil {
		return err
	}
	if err := flags.check(); err != nil {
		return err
	}
	flags.splitRow()
	p, err := a.ws.ReadPlan(args)
	if err == nil && flags.awkward && !p.MixesAwkward() {
		a.say("the plan mixes in no awkward values; these are what load --awkward %s would add", usualAwkward)
		p, err = p.WithAwkward(usualAwkward)
	}
	if err != nil {
		return err
	}
	unit := slices.ContainsFunc(p.Units, func(u *plan.Unit) bool { return u.Name == flags.entity })
	o.WithoutUnits = !unit
	compiled, err := p.Compile(o)
	if err != nil {
		return err
	}
	defer compiled.Close()
	targets := slices.DeleteFunc(slices.Clone(compiled.Targets), compiled.Elsewhere)
	if unit {
		i := slices.IndexFunc(
			compiled.Occasions,
			func(t *plan.Target) bool { return t.Plan.Name == flags.entity },
		)
		targets = compiled.Occasions[i : i+1]
	} else if flags.entity != "" {
		t, err := entityNamed(compiled, "--entity", flags.entity)
		if err != nil {
			return err
		}
		targets = []*plan.Target{t}
	}
	a.warn(compiled)
	v := &previewer{a: a, plan: compiled, grower: grow.NewGrower(compiled.Set), flags: flags}
	defer v.grower.Close()
	if err := v.show(ctx, targets); err != nil {
		return err
	}
	return v.grower.Err()
}

func (f *previewFlags) check() error {
	switch {
	case f.rows < 0 || f.rows > maxPreview:
		return diag.Usagef("--rows must be between 0 and %d", maxPreview)
	case f.csv && f.entity == "":
		return diag.Usagef("--csv needs --entity NAME")
	case f.row != "" && f.entity == "" && !strings.Contains(f.row, "."):
		return diag.Usagef("--row needs an entity: --row Passenger.%s, or --entity Passenger --row %s", f.row, f.row)
	case alternatives(f.row != "", f.spread, f.csv, f.awkward) > 1:
		return diag.Usagef("use only one of --row, --spread, --csv and --awkward")
	}
	return nil
}

// alternatives counts the flags that are set.
func alternatives(set ...bool) (n int) {
	for _, yes := range set {
		if yes {
			n++
		}
	}
	return n
}

// splitRow takes the entity out of a row such as Passenger.ada.
func (f *previewFlags) splitRow() {
	if entity, row, ok := strings.Cut(f.row, "."); ok && (f.entity == "" || f.entity == entity) {
		f.entity, f.row = entity, row
	}
}

// previewer shows rows of a plan.
type previewer struct {
	a      *program
	plan   *plan.Compiled
	grower *grow.Grower
	flags  previewFlags
}

func (v *previewer) show(ctx context.Context, targets []*plan.Target) error {
	switch {
	case v.flags.row != "":
		return v.showRow(targets[0])
	case v.flags.csv:
		return v.showCSV(targets[0])
	case v.flags.awkward:
		return v.showAwkward(targets)
	case v.flags.spread:
		return v.showSpread(targets)
	}
	return v.showFirst(ctx, targets)
}

// showFirst shows the first rows of each entity.
func (v *previewer) showFirst(ctx context.Context, targets []*plan.Target) error {
	prints := map[*grow.Entity]grow.Fingerprint{}
	if v.flags.print || totalRows(v.plan) <= maxPrinted {
		all, err := v.plan.Set.Fingerprints(ctx, jobsDefault())
		if err != nil {
			return err
		}
		for i, p := range all {
			prints[v.plan.Set.Entities[i]] = p
		}
	}

	list := []any{}
	for i, t := range targets {
		shown := v.first(t, v.flags.rows)
		o := &report.Object{}
		o.Set("entity", t.Plan.Name)
		o.Set("rows", t.Grow.Total())
		title := diag.Count(t.Grow.Total(), "row", "rows") + relation(t)
		if p, ok := prints[t.Grow]; ok {
			title += "  fingerprint " + p.String()
			o.Set("fingerprint", p)
		}
		if v.a.json {
			o.Set("first", shown.objects)
			list = append(list, o)
			continue
		}
		v.section(i, t.Plan.Name, title, shown.table)
	}

	if v.a.json {
		return v.a.writeJSON(map[string]any{"plan": v.plan.Plan.Name, "entities": list})
	}
	return nil
}

// section prints a heading with a table below.
func (v *previewer) section(i int, name, title string, t report.Table) {
	if i > 0 {
		fmt.Fprintln(v.a.out)
	}
	if title != "" {
		title = "  " + v.a.page.Dim(title)
	}
	fmt.Fprintln(v.a.out, v.a.page.Bold(name)+title)
	if len(t.Rows) > 0 {
		fmt.Fprintln(v.a.out, v.a.page.Draw(t))
	}
}

func totalRows(c *plan.Compiled) uint64 {
	n := uint64(0)
	for _, t := range c.Targets {
		n += t.Grow.Total()
	}
	return n
}

// relation says how many rows there are for each parent.
func relation(t *plan.Target) string {
	if t.Plan.Per == nil {
		return ""
	}
	lo, hi, parent := t.Least, t.Most, t.Plan.Per.Parent
	if lo == hi {
		return fmt.Sprintf(", %d for each %s", lo, parent)
	}
	return fmt.Sprintf(", %d to %d for each %s", lo, hi, parent)
}

// showRow shows one row and what is planned below it.
func (v *previewer) showRow(t *plan.Target) error {
	row, err := rowNamed(t, v.flags.row)
	if err != nil {
		return &diag.UsageError{Err: err}
	}
	shown := newSample(t)
	v.add(shown, row, 1)
	o := &report.Object{}
	o.Set("entity", t.Plan.Name)
	o.Set("row", t.Grow.Label(row))
	o.Set("fields", shown.objects[0])
	if !v.a.json {
		side := report.Table{Columns: []report.Column{{Name: "Field", Whole: true}, {Name: "Value"}}}
		for i, c := range shown.table.Columns[1:] {
			side.Rows = append(side.Rows, []string{c.Name, shown.table.Rows[0][i+1]})
		}
		v.section(0, t.Grow.Label(row), "", side)
	}

	below := &report.Object{}
	v.below(t, row, below)
	if v.a.json {
		o.Set("below", below)
		return v.a.writeJSON(o)
	}
	return nil
}

// below shows the rows below a row, a few of each entity.
func (v *previewer) below(t *plan.Target, row grow.Row, into *report.Object) {
	for _, child := range v.plan.Targets {
		if child.Grow.Parent != t.Grow {
			continue
		}
		from, to := v.grower.Below(child.Grow, row)
		shown := newSample(child)
		v.add(shown, grow.Row{N: from, Side: row.Side}, min(to-from, uint64(v.flags.rows)))
		list := &report.Object{}
		list.Set("rows", to-from)
		list.Set("first", shown.objects)
		into.Set(child.Plan.Name, list)
		if !v.a.json {
			v.section(1, child.Plan.Name, diag.Count(to-from, "row", "rows")+" of "+t.Grow.Label(row), shown.table)
		}
	}
}

// rowNamed reads the number of a grown row or the name of a given one.
func rowNamed(t *plan.Target, text string) (grow.Row, error) {
	if n, err := strconv.ParseUint(text, 10, 64); err == nil {
		if n >= t.Grow.Rows {
			return grow.Row{}, fmt.Errorf(
				"--row: %s has %s, numbered from 0",
				t.Plan.Name,
				diag.Count(t.Grow.Rows, "generated row", "generated rows"),
			)
		}
		return grow.Row{N: n}, nil
	}

	var names []string
	for i, s := range t.Grow.Side {
		if s.Name == strings.TrimPrefix(text, t.Plan.Name+".") && s.Name != "" {
			return grow.Row{N: uint64(i), Side: true}, nil
		}
		if s.Name != "" {
			names = append(names, s.Name)
		}
	}

	err := fmt.Errorf("--row: %s has no row named %s", t.Plan.Name, text)
	if near := diag.Nearest(text, names); near != "" {
		err = fmt.Errorf("%w; did you mean %s?", err, near)
	}
	return grow.Row{}, err
}

// showCSV writes rows for other programs: NULL is an empty cell, a reference the name
// of the row that it points to.
func (v *previewer) showCSV(t *plan.Target) error {
	w := csv.NewWriter(v.a.exact)
	w.UseCRLF = true
	var names []string
	for _, f := range t.Grow.Fields {
		if shownField(f) {
			names = append(names, f.Name)
		}
	}
	if err := w.Write(names); err != nil {
		return err
	}
	line := make([]string, 0, len(names))
	err := v.each(t, uint64(v.flags.rows), func(row grow.Row, cells []value.Value) error {
		line = line[:0]
		for i, f := range t.Grow.Fields {
			switch to, ok := v.grower.Refers(t.Grow, row, f); {
			case !shownField(f):
			case ok:
				line = append(line, f.Target().Label(to))
			case cells[i].IsNull():
				line = append(line, "")
			default:
				line = append(line, cells[i].String())
			}
		}
		return w.Write(line)
	})
	w.Flush()
	if err != nil {
		return err
	}
	return w.Error()
}

// showSpread shows how the values of each field are distributed.
func (v *previewer) showSpread(targets []*plan.Target) error {
	list := []any{}
	for i, t := range targets {
		n := min(t.Grow.Total(), maxSpread)
		values := make([][]value.Value, len(t.Grow.Fields))
		labels := make([][]string, len(t.Grow.Fields))
		err := v.each(t, n, func(row grow.Row, cells []value.Value) error {
			for j, f := range t.Grow.Fields {
				if !shownField(f) {
					continue
				}
				values[j] = append(values[j], cells[j])
				if f.Target() != nil {
					label := ""
					if to, ok := v.grower.Refers(t.Grow, row, f); ok {
						label = f.Target().Label(to)
					}
					labels[j] = append(labels[j], label)
				}
			}
			return nil
		})
		if err != nil {
			return err
		}
		o, fields := &report.Object{}, &report.Object{}
		o.Set("entity", t.Plan.Name)
		o.Set("rows", n)
		var names, types []string
		var spreads []report.Spread
		for j, f := range t.Grow.Fields {
			if !shownField(f) {
				continue
			}
			s := report.SpreadOf(values[j], labels[j])
			kind := f.Source.Type().String()
			if f.Target() != nil {
				kind = "reference"
			}
			fields.Set(f.Name, s)
			names, types, spreads = append(names, f.Name), append(types, kind), append(spreads, s)
		}
		o.Set("fields", fields)
		list = append(list, o)
		if !v.a.json {
			title := diag.Count(n, "row", "rows")
			if n < t.Grow.Total() {
				title = fmt.Sprintf("the first %s of %s", diag.Number(n), diag.Count(t.Grow.Total(), "row", "rows"))
			}
			v.section(i, t.Plan.Name, title, report.SpreadTable(names, types, spreads))
		}
	}

	if v.a.json {
		return v.a.writeJSON(map[string]any{"plan": v.plan.Plan.Name, "entities": list})
	}
	return nil
}

// each grows the first rows of an entity, given ones first.
func (v *previewer) each(t *plan.Target, most uint64, show func(grow.Row, []value.Value) error) error {
	const step = 1000
	var b grow.Batch
	for _, side := range []bool{true, false} {
		total := t.Grow.Rows
		if side {
			total = uint64(len(t.Grow.Side))
		}
		for at := uint64(0); at < min(total, most); at += step {
			v.grower.Grow(t.Grow, grow.Row{N: at, Side: side}, int(min(step, min(total, most)-at)), &b)
			if err := v.grower.Err(); err != nil {
				return err
			}
			for i := range b.Len {
				if err := show(b.At(i), b.Row(i)); err != nil {
					return err
				}
			}
		}
		most -= min(total, most)
	}
	return nil
}

// shownField reports whether a field is shown: not a key that the plan leaves unsaid, nor
// what is not stored.
func shownField(f *grow.Field) bool { return !f.Hidden && !f.Inner }

// sample is some rows, as a table and as objects.
type sample struct {
	target  *plan.Target
	table   report.Table
	objects []*report.Object
}

func newSample(t *plan.Target) *sample {
	s := &sample{target: t, objects: []*report.Object{}}
	s.table.Columns = []report.Column{{Name: ""}}
	for _, f := range t.Grow.Fields {
		if !shownField(f) {
			continue
		}
		typ := f.Source.Type()
		if f.Target() != nil {
			typ = value.Text // shown as a label
		}
		s.table.Columns = append(
			s.table.Columns,
			report.Column{
				Name:   f.Name,
				Number: typ == value.Integer || typ == value.Decimal,
				Whole:  typ != value.Text && typ != value.JSON && typ != value.Bytes,
			},
		)
	}
	return s
}

// first is the first rows of an entity.
func (v *previewer) first(t *plan.Target, rows int) *sample {
	s := newSample(t)
	side := min(uint64(len(t.Grow.Side)), uint64(rows))
	v.add(s, grow.Row{Side: true}, side)
	v.add(s, grow.Row{}, min(t.Grow.Rows, uint64(rows)-side))
	return s
}

// add adds consecutive rows.
func (v *previewer) add(s *sample, first grow.Row, n uint64) {
	t := s.target
	var b grow.Batch
	v.grower.Grow(t.Grow, first, int(n), &b)
	for i := range b.Len {
		line := []string{strings.Trim(strings.TrimPrefix(t.Grow.Label(b.At(i)), t.Plan.Name), ". ")}
		o := &report.Object{}
		for j, f := range t.Grow.Fields {
			if !shownField(f) {
				continue
			}
			if to, ok := v.grower.Refers(t.Grow, b.At(i), f); ok {
				label := f.Target().Label(to)
				line = append(line, label)
				o.Set(f.Name, label)
				continue
			}
			line = append(line, report.Cell(b.Row(i)[j]))
			o.Set(f.Name, report.JSON(b.Row(i)[j]))
		}
		s.table.Rows = append(s.table.Rows, line)
		s.objects = append(s.objects, o)
	}
}
