package draft

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"evensprout/internal/grow"
	"evensprout/internal/lexicon"
	"evensprout/internal/schema"
	"evensprout/internal/sources"
	"evensprout/internal/value"
)

// fill decides where each field gets its values.
func (t *Table) fill(ctx context.Context) error {
	for _, f := range t.Fields {
		wordy := f.Column.Kind == schema.Text || f.Column.Kind == schema.Any || f.Column.Kind == schema.JSON
		if f.ref == nil && wordy && slices.Contains(t.Schema.Watched, f.Column.Name) &&
			(f.Column.Default || !f.Column.NotNull) &&
			!t.Schema.IsKey(f.Column.Name) &&
			!t.d.targeted(f) {
			f.unsaid = true // a trigger looks at it, and does not say what it expects
		}
	}
	if err := t.fillRest(ctx); err != nil {
		return err
	}
	for _, f := range t.Fields {
		if f.Source.Follows || f.lead {
			t.meetOther(f)
		}
	}
	t.pair()
	t.Meets = append(t.Meets, t.rest...)
	return t.askTogether(ctx)
}

// fillRest decides about the fields that have no source yet.
func (t *Table) fillRest(ctx context.Context) error {
	if t.existing {
		return nil
	}
	for _, f := range t.Fields {
		switch {
		case f.unsaid, f.Source.Text != "", t.parent != nil && f.ref == t.parent, f.lead, t.plannedKey(f):
			continue
		}
		if err := t.fillField(ctx, f); err != nil {
			return err
		}
	}
	return nil
}

// plannedKey reports whether a field is a key that the plan need not mention.
func (t *Table) plannedKey(f *Field) bool {
	key := t.Schema.PrimaryKey
	return len(key) == 1 && key[0] == f.Column.Name && t.contents().Rows == 0 && f.named() &&
		t.domains[key[0]] == nil &&
		f.ref == nil &&
		(f.Column.Kind == schema.UUID || f.Column.Kind == schema.Integer && (f.Column.Bits == 0 || f.Column.Bits > 16))
}

// fillField finds the source of a field: the first candidate that meets the conditions of its
// column.
func (t *Table) fillField(ctx context.Context, f *Field) error {
	if why := t.d.Found.Avoid[f.Column]; why != "" {
		f.avoid(why)
		return nil
	}
	c, d := f.Column, t.domain(f.Column)
	delete(t.domains, c.Name) // an empty one was made
	if len(d.conditions) > 0 || len(d.opaque) > 0 || !isFree(d) {
		t.domains[c.Name] = d
	}
	if t.countsOn(f, d) {
		return nil
	}
	f.Nulls = !c.NotNull && !d.NotNull && !t.d.targeted(f) && !slices.Contains(t.Schema.Watched, c.Name) &&
		!t.nullsEqual(c)
	if share := lexicon.NullShare(c.Name); f.Nulls && share != "" {
		f.nulls, f.Nulls = share, share != "0%"
	}
	if d.Null {
		f.null("a condition allows nothing else")
		return nil
	}
	for _, from := range d.from {
		f.Comment = "from CHECK (" + from + ")"
	}
	if d.why != "" {
		f.Comment = d.why
	}
	candidates := t.candidates(f, d)
	several := slices.ContainsFunc(candidates, func(s Source) bool { return s.Space != 1 })
	if len(d.opaque) > 0 {
		for _, s := range candidates {
			if (s.Space != 1 || !several) && admits(c, d, s) {
				f.Source = s
				break
			}
		}
		return t.ask(ctx, f, d, candidates)
	}

	for _, s := range candidates {
		if s.Space == 1 && several {
			continue // always the same: only if nothing else will do
		}
		if admits(c, d, s) {
			f.Source, f.Comment = s, cmp.Or(f.Comment, s.Why)
			return nil
		}
	}

	t.fillRarely(f, d, candidates, several)
	return nil
}

// countsOn counts a primary key on from the highest that the table has. In an empty table without a key it counts what
// is called one: the tables behind it, as on other servers, may have keys.
func (t *Table) countsOn(f *Field, d *domain) bool {
	c, key := f.Column, t.Schema.PrimaryKey
	highest, held := t.contents().Highest[c.Name]
	unkeyed := len(key) == 0 && schema.Plain(c.Name) == "id" && t.contents().Rows == 0
	if c.Kind != schema.Integer || !isFree(d) || !unkeyed && (len(key) != 1 || key[0] != c.Name || !held) {
		return false
	}
	_, most := typeRange(c)
	first := int64(1)
	if held {
		first = beyond(highest, c)
		f.Comment = fmt.Sprintf("the table has keys up to %d", highest)
	}
	f.Source = Source{Text: fmt.Sprintf("{count: %d}", first), Space: uint64(max(most-first, 0)), Alone: true}
	return true
}

// fillRarely takes the candidate that passes most often where none always does: it is
// drawn until it passes. Where none can, the field is left NULL, or the table out.
func (t *Table) fillRarely(f *Field, d *domain, candidates []Source, several bool) {
	c := f.Column

	// None passes always: the one that passes most often, drawn until it does.
	best := -1.0
	const rare = 0.02
	for _, s := range candidates {
		if s.Space == 1 && several && best >= rare {
			continue
		}
		if share := passes(c, d, s); share > best {
			best, f.Source = share, s
		}
	}

	if best == 1 {
		return
	}
	if best <= 0 && !c.NotNull {
		f.null(f.Comment)
		return
	}
	if len(candidates) == 0 {
		if !c.NotNull || c.Default {
			f.null("values of the type " + c.Declared + " are not known here")
			if c.NotNull {
				f.Source = Source{} // the database has a default
			}
			return
		}
		t.leave(fmt.Sprintf("no values are known for %s, of the type %s", c.Name, c.Declared))
		return
	}

	if best <= 0 && (d.Empty() || !takesAny(c, d, candidates)) {
		t.leave(fmt.Sprintf("no value is known for %s that satisfies CHECK (%s)", c.Name,
			strings.Join(d.from, ") and CHECK (")))
		return
	}
	t.Meets = append(t.Meets, d.from...)
}

// nullsEqual reports whether a key lets only one row have NULL in a column.
func (t *Table) nullsEqual(c *schema.Column) bool {
	return slices.ContainsFunc(
		t.Schema.Uniques,
		func(u schema.Unique) bool { return u.NullsEqual && slices.Contains(u.Columns, c.Name) },
	)
}

// isFree reports whether no condition narrows a domain.
func isFree(d *domain) bool {
	return d.Only == nil && d.Min == nil && d.Max == nil && !d.NotNull && !d.Null && len(d.Shapes) == 0 &&
		d.Longest == 0 &&
		d.Shortest == 0 &&
		len(d.Not) == 0
}

// meetOther keeps the conditions on a field whose values come from elsewhere.
func (t *Table) meetOther(f *Field) {
	if d := t.domains[f.Column.Name]; d != nil {
		t.Meets = append(t.Meets, d.from...)
	}
}

// bytesOf are bytes as many as a column, or a condition on their length, asks for.
func bytesOf(c *schema.Column, d *domain) []Source {
	n := c.Length
	if n == 0 || n > 16 {
		n = 16
	}
	if d.Longest > 0 || d.Shortest > 0 {
		n = max(d.Shortest, 1)
		if d.Longest > 0 && d.Longest < n || d.Shortest == 0 && n > d.Longest {
			n = d.Longest
		}
		if d.Shortest == 0 {
			n = min(16, d.Longest)
		}
	} else if c.Type == "binary" {
		n = c.Length // else the server fills it up
	}
	return []Source{{Text: fmt.Sprintf("{bytes: %d}", n)}, sources.Patterned(fmt.Sprintf("[a-z0-9]{%d}", n))}
}

// candidates are sources for a column, the most telling first.
func (t *Table) candidates(f *Field, d *domain) []Source {
	c := f.Column
	if values := d.Values(); values != nil {
		return []Source{sources.Chosen(c, values)}
	}
	if c.Values != nil {
		return []Source{sources.ChosenTexts(c.Values)}
	}
	if len(d.marked) > 0 && isFree(d) && !t.inKey(f) {
		most := slices.MaxFunc(d.marked, func(a, b value.Value) int { return cmp.Compare(a.N, b.N) }).N
		marked := append(slices.Clone(d.marked), value.Int(most+1), value.Int(most+2))
		return numbers(t.Schema.LocalName(), c, d, sources.Chosen(c, marked))
	}

	switch c.Kind {
	case schema.Integer, schema.Decimal, schema.Real:
		return numbers(t.Schema.LocalName(), c, d, seconds(c, d, t.d.today()))
	case schema.Boolean:
		return []Source{
			sources.Countable("{share: "+lexicon.TrueShare(c.Name, c.Preset)+"}", 2),
			sources.Countable("{share: 50%}", 2),
			sources.Countable("{choose: [true]}", 1),
			sources.Countable("{choose: [false]}", 1),
		}
	case schema.Date, schema.Timestamp, schema.Time:
		return moments(c, d, t.d.today())
	case schema.UUID:
		return []Source{{Text: "{uuid: v4}", Space: grow.MaxSpace, Alone: true}}
	case schema.JSON:
		return append(documents(c), Source{Text: "{value: \"{}\"}", Fixed: true},
			Source{Text: "{value: \"[]\"}", Fixed: true})
	case schema.Bytes:
		return bytesOf(c, d)
	}

	if c.Form != "" {
		return []Source{sources.Patterned(c.Form)}
	}

	// Of a type that nobody here knows: one engine takes numbers and texts everywhere,
	// the others may understand a text.
	return t.texts(f, d)
}
