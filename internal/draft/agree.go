package draft

import (
	"fmt"
	"slices"
	"strings"

	"evensprout/internal/grow"
	"evensprout/internal/lexicon"
	"evensprout/internal/predicate"
	"evensprout/internal/schema"
	"evensprout/internal/sources"
)

// agree lets the fields of a row fit each other.
func (t *Table) agree() {
	t.nameBesideSurname()
	for _, g := range lexicon.Records() {
		if g.Of != "" && !g.References(t.Schema.LocalName()) {
			continue
		}
		var fields []*Field
		parts := map[string]bool{}
		for _, f := range t.Fields {
			part := g.Parts[f.Source.Text]
			if part == "" || parts[part] || f.Column.Narrow || !t.takesPart(f, g.Kind, part) || t.another(f, part) {
				continue
			}
			parts[part] = true
			fields = append(fields, f)
		}
		needed := g.Needs == "" || slices.ContainsFunc(fields, func(f *Field) bool { return f.Source.Text == g.Needs })
		if len(fields) < 2 || !needed || t.find(g.Draw) != nil {
			continue
		}
		fields[0].Draws = append(fields[0].Draws, Draw{g.Draw, "{kind: " + g.Kind + "}"})
		for _, f := range fields {
			part := g.Parts[f.Source.Text]
			s := Source{Text: fmt.Sprintf("{from: %s.%s}", g.Draw, part), Plain: f.Source.Text}
			if alone(g.Kind, part) {
				s.Space = min(sources.SpaceOf("{kind: "+g.Kind+"}"), personSpace) // no other one has it
			}
			f.Source = s
		}
	}
	t.order()
	for _, f := range t.Fields {
		t.weigh(f)
	}
}

// nameBesideSurname lets a name beside a family name be the given name: nombre, apellidos.
func (t *Table) nameBesideSurname() {
	var name *Field
	for _, f := range t.Fields {
		m := lexicon.Of(f.Column.Name)
		switch {
		case f.Source.Text == "{kind: given-name}":
			return
		case f.Source.Text == "{kind: name}" && m.Alone() && m.Says("name"):
			name = f
		}
	}
	surname := slices.ContainsFunc(t.Fields, func(f *Field) bool { return f.Source.Text == "{kind: family-name}" })
	if name != nil && surname {
		name.Source = Source{Text: "{kind: given-name}", Space: sources.SpaceOf("{kind: given-name}")}
	}
}

// another reports whether a name is that of another person than the one whose names the table has: a contact.
func (t *Table) another(f *Field, part string) bool {
	m := lexicon.Of(f.Column.Name)
	return part == "name" && !m.Says("name", "full", "label") && slices.ContainsFunc(t.Fields, func(o *Field) bool {
		return o.Source.Text == "{kind: family-name}" || strings.HasPrefix(o.Source.Text, "{from: who.family-name")
	})
}

// alone reports whether no two values of a kind with parts share a part.
func alone(kind, part string) bool {
	return slices.ContainsFunc(grow.Kinds(), func(k grow.Kind) bool { return k.Name == kind && k.Alone(part) })
}

// takesPart reports whether a column takes a part of a kind: conditions may ask for no more than amounts that are not
// below 0, and the number of stars.
func (t *Table) takesPart(f *Field, kind, part string) bool {
	c := f.Column
	if c.Kind == schema.Text && c.Length > 0 && c.Length < longestPart(kind, part) {
		return false
	}
	d := t.domains[c.Name]
	return d == nil || c.Kind != schema.Text && len(d.opaque) == 0 && admits(c, d, f.Source) && f.Source.Text != ""
}

// longestPart is how many characters a part of a kind has at most.
func longestPart(kind, part string) int {
	for _, k := range grow.Kinds() {
		if k.Name == kind {
			return k.LongestPart(part)
		}
	}
	return 0
}

// personSpace is how many rows the parts of a draw keep apart that are its own alone.
const personSpace = 1_000_000

// order keeps numbers and moments that are two ends of one thing in their order.
func (t *Table) order() {
	for _, a := range t.Fields {
		for _, name := range lexicon.OtherEnds(a.Column.Name) {
			b := t.plainly(name)
			if b == nil || !t.varies(a) || !t.varies(b) || a.Column.Kind != b.Column.Kind {
				continue
			}
			n := &predicate.Node{
				Op: predicate.AtMost,
				Args: []*predicate.Node{
					{Op: predicate.Column, Name: a.Column.Name},
					{Op: predicate.Column, Name: b.Column.Name},
				},
			}
			t.Meets = append(t.Meets, n.String())
		}
	}
}

// plainly is the field of a name without signs between its words; nil if there is none.
func (t *Table) plainly(name string) *Field {
	i := slices.IndexFunc(t.Fields, func(f *Field) bool { return schema.Plain(f.Column.Name) == name })
	if i < 0 {
		return nil
	}
	return t.Fields[i]
}

// varies reports whether a field can be drawn again: it is a range of its own.
func (t *Table) varies(f *Field) bool {
	k := f.Column.Kind
	return (k == schema.Integer || k == schema.Decimal || k == schema.Real || k == schema.Date ||
		k == schema.Timestamp || k == schema.Time) &&
		f.ref == nil &&
		!t.inKey(f) &&
		!f.unsaid &&
		strings.HasPrefix(f.Source.Text, "{between")
}
