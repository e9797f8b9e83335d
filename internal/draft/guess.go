package draft

import (
	"fmt"
	"slices"
	"strings"

	"evensprout/internal/grow"
	"evensprout/internal/lexicon"
	"evensprout/internal/plan"
	"evensprout/internal/predicate"
	"evensprout/internal/schema"
	"evensprout/internal/sources"
)

// isIdentity reports whether a text column looks like the place of a UUID.
func (t *Table) isIdentity(c *schema.Column) bool {
	const uuidLength = 36
	if c.Kind != schema.Text || c.Length > 0 && c.Length != uuidLength {
		return false
	}
	plain := schema.Plain(c.Name)
	return strings.HasSuffix(plain, "uuid") || strings.HasSuffix(plain, "guid") ||
		plain == "id" && t.Schema.IsKey(c.Name)
}

// texts are sources for a text.
func (t *Table) texts(f *Field, d *domain) []Source {
	c := f.Column
	var out []Source
	shaped := len(d.Shapes) > 0 || d.Longest > 0 || d.Shortest > 0
	if shaped {
		out = append(out, shapes(c, d)...)
	}
	var meant []Source
	for _, text := range lexicon.Sources(t.Schema.LocalName(), c.Name) {
		meant = append(meant, Source{Text: text, Space: sources.SpaceOf(text)})
	}
	out = append(meant, out...)
	if t.isIdentity(c) {
		out = slices.Insert(out, 0, Source{Text: "{uuid: v4}", Space: grow.MaxSpace, Alone: true})
	}
	for _, kind := range []string{"{kind: title}", "{kind: noun}"} {
		out = append(out, Source{Text: kind, Space: sources.SpaceOf(kind)})
	}
	n := 8
	for _, most := range []int{c.Length, d.Longest} {
		if most > 0 {
			n = min(n, most)
		}
	}
	n = max(n, min(d.Shortest, 256))
	for _, class := range []string{"A-Z", "a-z", "0-9", "0-9a-f", "A-Z0-9"} {
		out = append(out, sources.Patterned(fmt.Sprintf("[%s]{%d}", class, n)))
	}
	return slices.DeleteFunc(out, func(s Source) bool { return s.Text == "" })
}

// shapes makes patterns of the texts that conditions ask for.
func shapes(c *schema.Column, d *domain) []Source {
	var out []Source
	for _, n := range d.Shapes {
		if n.Op == predicate.Not || n.Args[1].Op != predicate.Literal {
			continue
		}
		p := predicate.Shape(n)
		out = append(out, sources.Patterned(p), sources.Patterned(predicate.Bounded(p)))
	}

	if d.Longest > 0 || d.Shortest > 0 {
		n := d.Longest
		switch {
		case n == 0:
			n = max(d.Shortest, min(8, max(c.Length, 8)))
		case n > 12:
			n = max(d.Shortest, min(n, 12))
		}
		if c.Length > 0 {
			n = min(n, c.Length)
		}
		if n <= 1000 {
			out = append(out, sources.Patterned(fmt.Sprintf("[a-z0-9]{%d}", n)))
		}
	}
	return slices.DeleteFunc(out, func(s Source) bool { return s.Text == "" })
}

// quoteField writes the name of a field inside a source.
func quoteField(name string) string { return plan.Scalar(name) }
