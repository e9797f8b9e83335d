package cli

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"evensprout/internal/diag"
	"evensprout/internal/grow"
	"evensprout/internal/journal"
	"evensprout/internal/plan"
	"evensprout/internal/report"
	"evensprout/internal/value"
)

// usualAwkward is the share of awkward values that preview shows of a plan that mixes none in.
const usualAwkward = "2%"

// awkwardField is what a field holds of one awkward value.
type awkwardField struct {
	Name  string      `json:"name"`
	Value value.Value `json:"value"` // of the first row
	Rows  int         `json:"rows"`
	Row   string      `json:"row"` // the first
}

// showAwkward lists the awkward values of each field, over the first rows.
func (v *previewer) showAwkward(targets []*plan.Target) error {
	var list []*report.Object
	for i, t := range targets {
		fields, names, looked, err := v.awkwardFields(t)
		if err != nil {
			return err
		}
		o := &report.Object{}
		o.Set("entity", t.Plan.Name)
		o.Set("rows", looked)
		o.Set("fields", fields)
		list = append(list, o)
		if v.a.json {
			continue
		}
		table := report.Table{Columns: []report.Column{{Name: "Field"}, {Name: "Name"}, {Name: "Value"},
			{Name: "Rows", Number: true}, {Name: "First row"}}}
		for _, name := range names {
			for _, f := range fields[name] {
				table.Rows = append(table.Rows, []string{name, f.Name, plainly(f.Value), strconv.Itoa(f.Rows), f.Row})
			}
		}
		title := diag.Count(looked, "row", "rows")
		if looked < t.Grow.Total() {
			title = fmt.Sprintf("the first %s of %s", diag.Number(looked), diag.Count(t.Grow.Total(), "row", "rows"))
		}
		if len(table.Rows) == 0 {
			title += ": no awkward values"
		}
		v.section(i, t.Plan.Name, title, table)
	}
	if v.a.json {
		return v.a.writeJSON(map[string]any{"plan": v.plan.Plan.Name, "entities": list})
	}
	return nil
}

// awkwardFields are the awkward values of the first rows by field, and the names of the fields in their order.
func (v *previewer) awkwardFields(t *plan.Target) (map[string][]*awkwardField, []string, uint64, error) {
	fields, looked := map[string][]*awkwardField{}, min(t.Grow.Total(), maxSpread)
	var names []string
	var mixing []*grow.Field
	for _, f := range t.Grow.Fields {
		if _, share := f.Awkward(); share.Part > 0 {
			names, mixing = append(names, f.Name), append(mixing, f)
		}
	}
	err := v.each(t, looked, func(row grow.Row, _ []value.Value) error {
		for _, f := range mixing {
			name := v.grower.AwkwardIn(t.Grow, row, f)
			if name == "" {
				continue
			}
			at := slices.IndexFunc(fields[f.Name], func(x *awkwardField) bool { return x.Name == name })
			if at < 0 {
				at = len(fields[f.Name])
				fields[f.Name] = append(fields[f.Name], &awkwardField{Name: name,
					Value: v.grower.Cell(t.Grow, row, f), Row: t.Grow.Label(row)})
			}
			fields[f.Name][at].Rows++
		}
		return nil
	})
	for _, list := range fields {
		slices.SortFunc(list, func(a, b *awkwardField) int { return strings.Compare(a.Name, b.Name) })
	}
	return fields, names, looked, err
}

// plainly shows a value with signs that cannot be seen, or act on a terminal, as escapes.
func plainly(v value.Value) string {
	if v.Type != value.Text {
		return v.String()
	}
	const most = 40
	text := v.S
	if utf8.RuneCountInString(text) > most {
		text = string([]rune(text)[:most]) + "..."
	}
	return strconv.QuoteToGraphic(text)
}

// printAwkward says which awkward values a load has written, a line for each family of names.
func (a *program) printAwkward(r *journal.Result) {
	var all grow.Tally
	for _, e := range r.Entities {
		all.Add(e.Awkward, 1)
	}
	sum := int64(0)
	var families []string
	of := map[string][]string{}
	for _, name := range slices.Sorted(maps.Keys(all)) {
		if all[name] <= 0 {
			continue
		}
		family, member, _ := strings.Cut(name, ".")
		if of[family] == nil {
			families = append(families, family)
		}
		sum += all[name]
		of[family] = append(of[family], member+"_"+diag.Number(all[name]))
	}
	if sum == 0 {
		return
	}
	fmt.Fprintf(a.out, "%s (preview --awkward lists them):\n", diag.Count(sum, "awkward value", "awkward values"))
	for _, family := range families {
		lines := wrap(strings.Join(of[family], ", "), awkwardWidth)
		lines = strings.ReplaceAll(strings.ReplaceAll(lines, "\n", "\n          "), "_", " ")
		fmt.Fprintf(a.out, "  %-7s %s\n", family, lines)
	}
}

// awkwardWidth is the width of the list of awkward values, in columns.
const awkwardWidth = 90
