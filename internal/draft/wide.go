package draft

import (
	"fmt"
	"strings"

	"evensprout/internal/habits"
	"evensprout/internal/predicate"
	"evensprout/internal/schema"
	"evensprout/internal/sources"
	"evensprout/internal/value"
)

// wide is the source by which a column can be unique, for as many rows as possible.
func (t *Table) wide(f *Field) Source {
	c, d := f.Column, t.domains[f.Column.Name]
	if d == nil {
		d = &domain{}
	}
	s := f.Source
	if s.Plain != "" && s.Space == 0 { // many share the part of a draw
		s = Source{Text: s.Plain, Space: sources.SpaceOf(s.Plain)}
	}
	if s.Alone || s.Fixed && c.Kind != schema.JSON || s.Follows || d.Only != nil || c.Values != nil ||
		c.Kind == schema.Boolean {
		return s
	}
	if limit := t.beginning(f); limit > 0 && !sources.FitsLength(s, limit) {
		s.Space = 0 // only the beginning counts
	}
	if len(d.opaque) > 0 {
		return s // the database was asked about these
	}
	if t.isLookup() && s.Space >= fewest && c.Kind == schema.Text && isMeaningful(s) {
		return s // few rows with values that mean something
	}
	for _, w := range t.wider(f, s, d) {
		if w.Alone || w.Space > s.Space && admits(c, d, w) {
			return w
		}
	}
	if c.Kind == schema.Integer && len(d.conditions) > 0 && !admits(c, d, s) {
		return t.listed(c, d)
	}
	return s
}

// isMeaningful reports whether values of a source are more than signs.
func isMeaningful(s Source) bool {
	return strings.HasPrefix(s.Text, "{kind: ") || strings.HasPrefix(s.Text, "{from: ")
}

// fewest is how many values a table of codes has at least.
const fewest = 5

// wider are sources with many values for a column that must be unique; none if the one
// that it has will do.
func (t *Table) wider(f *Field, s Source, d *domain) []Source {
	c := f.Column
	switch c.Kind {
	case schema.Integer:
		return t.wideIntegers(c, d)
	case schema.Decimal, schema.Real:
		w := *d
		if w.Max == nil {
			digits := 9
			if c.Precision > 0 {
				digits = min(max(c.Precision-c.Scale, 0), 9)
			}
			w.Max = &predicate.Limit{Value: value.Int(max(value.Pow10(digits)-1, 1)), Open: digits == 0}
		}
		if w.Min == nil {
			w.Min = &predicate.Limit{Value: value.Int(0)}
		}
		return numbers("", c, &w)
	case schema.Date, schema.Timestamp, schema.Time:
		return wideMoments(c, d, t.d.today())
	case schema.Text, schema.Any, schema.Bytes:
		limit := t.beginning(f)
		if s.Space >= t.ample() && (limit == 0 || limit >= c.Length && c.Length > 0 || sources.FitsLength(s, limit)) {
			return nil
		}
		return wideTexts(c, d, limit)
	}
	return nil
}

// wideIntegers count on from the keys that are there, or are spread over the type's range.
func (t *Table) wideIntegers(c *schema.Column, d *domain) []Source {
	_, most := typeRange(c)
	held := t.contents()
	key := len(t.Schema.PrimaryKey) == 1 && t.Schema.PrimaryKey[0] == c.Name
	if len(d.conditions) == 0 && (most > 1<<15 && c.Identity == schema.NoIdentity || key) &&
		held.Rows <= habits.WholeRows {
		first := int64(1)
		if held.Rows > 0 {
			highest := int64(0)
			for _, v := range held.Values[c.Name] {
				highest = max(highest, v.N)
			}
			first = beyond(highest, c)
		}
		return []Source{{Text: fmt.Sprintf("{count: %d}", first), Space: uint64(most - first), Alone: true}}
	}
	w := *d
	if w.Max == nil {
		w.Max = &predicate.Limit{Value: value.Int(min(most, 999_999_999))}
	}
	if w.Min == nil {
		w.Min = &predicate.Limit{Value: value.Int(1)}
	}
	return numbers("", c, &w)
}

// wideTexts are patterns as long as the column, its conditions and limit allow, at most
// 12 characters unless it must be longer; a limit of 0 is none.
func wideTexts(c *schema.Column, d *domain, limit int) []Source {
	if c.Kind == schema.Any && c.Form != "" {
		return nil
	}
	n := 12
	for _, most := range []int{c.Length, d.Longest, limit} {
		if most > 0 {
			n = min(n, most)
		}
	}
	n = max(n, min(d.Shortest, 64))
	var list []Source
	if title := (Source{Text: "{kind: title}", Space: sources.SpaceOf("{kind: title}")}); c.Kind == schema.Text &&
		(limit == 0 || sources.FitsLength(title, limit)) {
		list = append(list, title)
	}
	if c.Type == "binary" && n < c.Length {
		list = append(list, sources.Patterned(fmt.Sprintf("[a-z0-9]{%d}", c.Length)))
	}
	if n >= 8 {
		list = append(list, sources.Patterned(fmt.Sprintf("[A-Z]{%d}[0-9]{%d}", (n+1)/2, n-(n+1)/2)))
	}
	for _, class := range []string{"a-z0-9", "A-Z0-9", "0-9"} {
		list = append(list, sources.Patterned(fmt.Sprintf("[%s]{%d}", class, n)))
	}
	return list
}

// ample is how many values make a source unique without a second thought: a plan may
// grow.
func (t *Table) ample() uint64 { return 4 * t.wish() }

// beginning is how many characters count in the narrowest unique index of a column; 0
// for all.
func (t *Table) beginning(f *Field) int {
	n := 0
	for _, u := range t.Schema.Uniques {
		if b := u.Beginnings[f.Column.Name]; b > 0 && (n == 0 || b < n) {
			n = b
		}
	}
	return n
}
