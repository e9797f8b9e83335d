package export

import (
	"bytes"
	"fmt"
	"slices"
	"strings"

	"evensprout/internal/cell"
	"evensprout/internal/files"
	"evensprout/internal/plan"
)

// PlanName is what the plan is called that reads an export back.
const PlanName = "evensprout.yaml"

// Plan writes a plan whose rows are those of an export's files: with the same
// fingerprints, whatever becomes of the plan that they were grown from.
func Plan(c *plan.Compiled, m *files.Manifest) []byte {
	var b bytes.Buffer
	text := func(s string) string { return string(cell.AppendJSONText(nil, s)) } // YAML reads JSON's texts
	fmt.Fprintf(&b, "# Rows that %s generated, from the files beside this one.\n\n", comment(m.MadeBy))
	fmt.Fprintf(&b, "name: %s\nedition: %s\nseed: %s\n", text(m.Plan), m.Edition, text(m.Seed))
	if m.Clock != "" {
		fmt.Fprintf(&b, "clock: %s\n", m.Clock)
	}
	fmt.Fprintln(&b, "\nentities:")
	for _, t := range c.Targets {
		if t.Plan.Existing && m.Entity(t.Plan.Name) == nil {
			fmt.Fprintf(&b, "  %s: {table: %s, rows: existing}\n", text(t.Plan.Name), text(t.Plan.Table))
		}
	}
	for _, e := range m.Entities {
		t := c.Target(e.Entity)
		fmt.Fprintf(&b, "  %s:\n", text(e.Entity))
		if e.Table != "" {
			fmt.Fprintf(&b, "    table: %s\n", text(e.Table))
		}
		if t.Plan.DatabaseKeys {
			fmt.Fprintln(&b, "    keys: database")
		}
		if w := t.Plan.Write; w != nil && w.Mode != plan.Insert {
			fmt.Fprintf(&b, "    write: {mode: %s", w.Mode)
			for _, part := range []struct {
				name   string
				fields []string
			}{{"match", w.Match}, {"set", w.Set}, {"stamp", w.Stamp}} {
				if len(part.fields) > 0 {
					fmt.Fprintf(&b, ", %s: [%s]", part.name, strings.Join(each(part.fields, text), ", "))
				}
			}
			fmt.Fprintln(&b, "}")
		}
		fmt.Fprintf(
			&b,
			"    rows_from:\n      file: %s\n      manifest: %s\n",
			text(e.File),
			files.ManifestName,
		)
		if e.Inside != "" {
			fmt.Fprintf(&b, "      inside: %s\n", text(e.Inside))
		}
		b.WriteString("      columns:\n")
		for _, col := range e.Columns {
			fmt.Fprintf(&b, "        %s: {column: %s, as: %s", text(col.Field), text(col.Name), col.Type)
			of, _, _ := strings.Cut(col.Refers, ".")
			known := slices.ContainsFunc(
				c.Targets,
				func(t *plan.Target) bool { return t.Plan.Name == of && (t.Plan.Existing || m.Entity(of) != nil) },
			)
			if col.Refers != "" && known {
				fmt.Fprintf(&b, ", find: %s", text(col.Refers))
			}
			if col.Column != "" && col.Column != col.Field {
				fmt.Fprintf(&b, ", into: %s", text(col.Column))
			}
			if col.Hidden {
				fmt.Fprint(&b, ", hidden: true")
			}
			fmt.Fprintln(&b, "}")
		}
	}
	return b.Bytes()
}

// each does something to every text of a list.
func each(list []string, do func(string) string) []string {
	var out []string
	for _, s := range list {
		out = append(out, do(s))
	}
	return out
}
