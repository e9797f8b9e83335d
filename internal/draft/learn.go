package draft

import (
	"fmt"
	"strings"

	"evensprout/internal/habits"
	"evensprout/internal/schema"
	"evensprout/internal/value"
)

// mayTake reports whether a field may have a source, as far as conditions tell.
func (t *Table) mayTake(f *Field, s Source) bool {
	d := t.domains[f.Column.Name]
	if d == nil {
		d = &domain{}
	}
	return s.Text != "" && len(d.opaque) == 0 && admits(f.Column, d, s) && len(values(s, 1)) > 0
}

// learn lets fields take their values as the rows that are there have them.
func (t *Table) learn() {
	l := t.d.Learned[t.Schema]
	if l == nil || l.Rows == 0 {
		return
	}
	for _, f := range t.Fields {
		h := l.Columns[f.Column.Name]
		if h == nil || f.unsaid || f.Source.Follows || f.Source.Text == "null" ||
			strings.HasPrefix(f.Source.Text, "{after") {
			continue
		}
		if f.Nulls {
			f.nulls = habits.Percent(h.Nulls, l.Rows)
			f.Nulls = h.Nulls > 0
		}
		if f.lead || f.ref != nil || t.inKey(f) || f.Source.Text == "" {
			continue
		}
		s := habitual(h, f.Column, l.Rows-h.Nulls)
		if t.mayTake(f, s) {
			f.Source = s
			f.Comment = fmt.Sprintf("as in the %d existing rows", l.Rows)
		}
	}

	if t.parent != nil && t.children == "" {
		if c, ok := l.Children[t.parent.Columns[0]]; ok && c[1] <= mostChildren && c[1] > 0 {
			t.children = fmt.Sprintf("%d..%d", c[0], c[1])
		}
	}
}

// habitual makes values as a column has them.
func habitual(h *habits.Habit, c *schema.Column, rows int64) Source {
	switch {
	case rows == 0:
		return Source{}
	case c.Kind == schema.Boolean:
		yes := int64(0)
		for _, f := range h.Often {
			if f.Value.N != 0 {
				yes = f.Count
			}
		}
		return countable("{share: "+habits.Percent(yes, rows)+"}", 2)
	case len(h.Often) > 0 && h.Rest*20 <= rows && h.Type != value.Date && h.Type != value.Timestamp: // a set of codes
		var items []string
		for _, f := range h.Often {
			one := strings.TrimSuffix(strings.TrimPrefix(chosen(c, []value.Value{f.Value}).Text, "{choose: ["), "]}")
			if one == "" {
				return Source{}
			}
			items = append(items, fmt.Sprintf("%s: %d", one, f.Count))
		}
		return countable("{choose: {"+strings.Join(items, ", ")+"}}", uint64(len(items)))
	case len(h.Numbers) > 0:
		return habitualSpan(h, c)
	}
	return Source{}
}

// habitualSpan is the range that most numbers or moments lie in, its ends rounded so that they
// are nobody's.
func habitualSpan(h *habits.Habit, c *schema.Column) Source {
	lo, hi := h.Numbers[len(h.Numbers)/100], h.Numbers[len(h.Numbers)-1-len(h.Numbers)/100]
	switch h.Type {
	case value.Date:
		return span(c, lo-lo%7, hi-hi%7+7)
	case value.Timestamp:
		lo, hi = lo/value.Day, hi/value.Day
		return span(c, lo-lo%7, hi-hi%7+7)
	}
	unit := int64(1)
	for hi-lo > 100*unit {
		unit *= 10
	}
	down, up := lo-((lo%unit)+unit)%unit, hi
	if up%unit != 0 {
		up = hi - ((hi%unit)+unit)%unit + unit
	}
	show := func(n int64) string { return value.Value{Type: value.Decimal, Scale: h.Scale, N: n}.String() }
	if down == up {
		return Source{}
	}
	return countable(fmt.Sprintf("{between: [%s, %s]}", show(down), show(up)), uint64(up-down)+1)
}
