package diagram

import (
	"fmt"
	"slices"
	"strings"
	"unicode"

	"evensprout/internal/report"
)

// Mermaid writes the diagram as a Mermaid entity relationship diagram.
func (d *Diagram) Mermaid() string {
	var b strings.Builder
	b.WriteString("erDiagram\n")
	for i := range d.Boxes {
		x := &d.Boxes[i]
		fmt.Fprintf(&b, "  %s {\n", mermaidName(x.Name))
		for _, f := range x.Fields {
			keys := []string{}
			if f.Key {
				keys = append(keys, "PK")
			}
			if f.Reference {
				keys = append(keys, "FK")
			}
			line := fmt.Sprintf("    %s %s %s", mermaidWord(f.Type), mermaidWord(f.Name), strings.Join(keys, ", "))
			b.WriteString(strings.TrimRight(line, " ") + "\n")
		}
		b.WriteString("  }\n")
	}
	for _, e := range d.Edges {
		to := "||" // exactly one
		if e.Optional {
			to = "o|"
		}
		label := e.Field
		if e.Closing {
			label += " (closes a circle)"
		}
		fmt.Fprintf(&b, "  %s %s--o{ %s : %s\n", mermaidName(d.Boxes[e.To].Name), to, mermaidName(d.Boxes[e.From].Name),
			mermaidText(label))
	}
	return b.String()
}

// mermaidName is the name of a box: in quotes, if it is not a plain word.
func mermaidName(s string) string {
	if s == mermaidWord(s) {
		return s
	}
	return mermaidText(s)
}

// mermaidText is a text in quotes, which cannot hold quotes itself.
func mermaidText(s string) string {
	s = strings.Map(func(r rune) rune {
		switch {
		case r == '"':
			return '\''
		case !unicode.IsPrint(r):
			return '_'
		}
		return r
	}, s)
	return `"` + s + `"`
}

// mermaidWord is a name of letters, digits and _, which begins with a letter.
func mermaidWord(s string) string {
	out := strings.Map(func(r rune) rune {
		if r < 128 && (unicode.IsLetter(r) || unicode.IsDigit(r)) || r == '_' {
			return r
		}
		return '_'
	}, s)
	if out == "" || out[0] >= '0' && out[0] <= '9' || out[0] == '_' {
		out = "x" + out
	}
	return out
}

// Tree is the diagram for a terminal: boxes in load order, families as trees, and what each refers to.
func (d *Diagram) Tree() report.Table {
	t := report.Table{Columns: []report.Column{
		{Name: "Order", Number: true}, {Name: "Entity"}, {Name: "Rows", Number: true}, {Name: "Refers to"},
	}}
	under := map[int][]int{}
	for i, b := range d.Boxes {
		under[b.Parent] = append(under[b.Parent], i)
	}
	var add func(boxes []int, indent string)
	add = func(boxes []int, indent string) {
		slices.SortStableFunc(boxes, func(a, b int) int { return d.orderOf(a) - d.orderOf(b) })
		for n, i := range boxes {
			b := &d.Boxes[i]
			lead, below := "", ""
			if b.Parent >= 0 {
				lead, below = indent+"├ ", indent+"│ "
				if n == len(boxes)-1 {
					lead, below = indent+"└ ", indent+"  "
				}
			}
			order := ""
			if b.Order > 0 {
				order = fmt.Sprint(b.Order)
			}
			t.Rows = append(t.Rows, []string{order, lead + b.Mark.sign() + b.Name, b.Rows, d.refersTo(i)})
			add(under[i], below)
		}
	}
	add(under[-1], "")
	return t
}

// orderOf is the place of a box: those that are not loaded come last.
func (d *Diagram) orderOf(box int) int {
	if n := d.Boxes[box].Order; n > 0 {
		return n
	}
	return len(d.Boxes) + 1 + box
}

// refersTo lists what a box refers to, but for the one under which it stands.
func (d *Diagram) refersTo(box int) string {
	var list []string
	for _, e := range d.Edges {
		if e.From != box || e.Family && d.Boxes[box].Parent == e.To {
			continue
		}
		text := d.Boxes[e.To].Name
		if e.Field != "" {
			text += " (" + e.Field + ")"
		}
		if e.Closing {
			text += " at the end"
		}
		list = append(list, text)
	}
	return strings.Join(list, ", ")
}
