package draft

import (
	"fmt"
	"slices"
	"strings"

	"evensprout/internal/predicate"
	"evensprout/internal/schema"
	"evensprout/internal/value"
)

// now is the plan's clock, and the days around it that drafts use.
var (
	clockDay = mustDay("2026-05-01")
	firstDay = mustDay("2025-01-01")
	wideDay  = mustDay("1970-01-02")
)

// mustDay reads a date that is written in this program.
func mustDay(s string) int64 {
	v, err := value.ParseDate(s)
	if err != nil {
		panic(err)
	}
	return v.N
}

// isBirth reports whether a column's name says that it holds a day of birth.
func isBirth(name string) bool {
	p := schema.Plain(name)
	return strings.Contains(p, "birth") || strings.Contains(p, "born") || p == "dob" || strings.Contains(p, "geburt") ||
		strings.Contains(p, "naissance") ||
		strings.Contains(p, "nacimiento")
}

// day is a limit as a day number.
func day(l *predicate.Limit, up bool) (int64, bool) {
	if l == nil {
		return 0, false
	}
	v := l.Value
	if v.Type == value.Text {
		var looks bool
		var err error
		if v, looks, err = value.ReadMoment(strings.TrimSuffix(strings.SplitN(v.S, " ", 2)[0], "Z")); !looks ||
			err != nil {
			return 0, false
		}
	}

	n := v.N
	switch v.Type {
	case value.Date:
	case value.Timestamp:
		n /= value.Day
	default:
		return 0, false
	}

	if l.Open || v.Type == value.Timestamp {
		if up {
			return n + 1, true
		}
		return n - 1, true
	}
	return n, true
}

// shownDay writes a number of days since 1970 as a date.
func shownDay(n int64) string { return value.Value{Type: value.Date, N: n}.String() }

// span writes a range of days as the column's type.
func span(c *schema.Column, lo, hi int64) Source {
	if hi < lo {
		return Source{}
	}
	if c.Kind == schema.Date {
		return countable(fmt.Sprintf("{between: [%s, %s]}", shownDay(lo), shownDay(hi)), uint64(hi-lo+1))
	}
	return countable(
		fmt.Sprintf("{between: [%sT00:00:00Z, %sT23:59:59Z]}", shownDay(lo), shownDay(hi)),
		uint64(hi-lo+1)*86_400,
	)
}

// moments are sources of dates, times of day and moments.
func moments(c *schema.Column, d *domain) []Source {
	if c.Kind == schema.Time {
		return []Source{
			countable("{between: [06:00, 21:45], step: 15m}", 64),
			countable("{between: [00:00:00, 23:59:59]}", 86_400),
		}
	}
	lo, isLo := day(d.Min, true)
	hi, isHi := day(d.Max, false)
	switch {
	case isLo && isHi:
	case isLo:
		hi = max(clockDay-1, lo+400)
	case isHi:
		lo = min(firstDay, hi-400)
	case c.Kind == schema.Date && isBirth(c.Name):
		return []Source{span(c, mustDay("1950-01-01"), mustDay("2008-12-31"))}
	case c.Kind == schema.Date:
		return append([]Source{span(c, firstDay, clockDay-1)}, elsewhere(c)...)
	default:
		return append([]Source{{Text: "{before: clock, within: 400d}"}}, elsewhere(c)...)
	}
	return []Source{span(c, lo, hi), span(c, lo, lo), span(c, clockDay-400, clockDay-1)}
}

// elsewhere are other times, for conditions on parts of a moment.
func elsewhere(c *schema.Column) []Source {
	var out []Source
	for _, ends := range [][2]string{{"2020-01-01", "2024-12-31"}, {"2015-01-01", "2019-12-31"},
		{"2000-01-01", "2009-12-31"}, {"2027-01-01", "2037-12-31"}, {"1970-01-02", "1999-12-31"}} {
		out = append(out, span(c, mustDay(ends[0]), mustDay(ends[1])))
	}
	return out
}

// wideMoments have room for unique values.
func wideMoments(c *schema.Column, d *domain) []Source {
	if c.Kind == schema.Time {
		return []Source{countable("{between: [00:00:00, 23:59:59]}", 86_400)}
	}
	lo, hi := wideDay, mustDay("2037-12-31")
	if c.Kind == schema.Timestamp {
		lo, hi = firstDay, clockDay-1
	}
	if n, ok := day(d.Min, true); ok {
		lo = n
		hi = max(hi, lo+400)
	}
	if n, ok := day(d.Max, false); ok {
		hi = n
		lo = min(lo, hi)
	}
	return []Source{span(c, lo, hi)}
}

// follow brings conditions such as ends_at > starts_at to sources: the later moment is
// drawn after the earlier one.
func (t *Table) follow() {
	var left []string
	for _, c := range t.rest {
		n, err := predicate.Parse(c)
		if err != nil || !t.followBy(n) {
			left = append(left, c)
		}
	}
	t.rest = left
}

// followBy lets one moment follow another, as a condition such as ended_at > began_at asks for.
func (t *Table) followBy(n *predicate.Node) bool {
	if len(n.Args) != 2 || n.Args[0].Op != predicate.Column || n.Args[1].Op != predicate.Column {
		return false
	}
	early, late := t.find(n.Args[0].Name), t.find(n.Args[1].Name)
	switch n.Op {
	case predicate.Less, predicate.AtMost:
	case predicate.More, predicate.AtLeast:
		early, late = late, early
	default:
		return false
	}
	if early == nil || late == nil || early == late || !areBothMoments(early, late) ||
		t.domains[late.Column.Name] != nil || t.inKey(late) || late.followed {
		return false
	}
	late.Source = Source{Text: fmt.Sprintf("{after: %s, within: 30d}", quoteField(early.Name))}
	early.followed = true
	late.Comment = "from CHECK (" + n.String() + ")"
	return true
}

// areBothMoments reports whether two fields hold dates, or moments, from ranges of their own, and the
// second may follow the first.
func areBothMoments(early, late *Field) bool {
	k := early.Column.Kind
	return k == late.Column.Kind && (k == schema.Timestamp || k == schema.Date) &&
		(early.Column.NotNull || !late.Column.NotNull) &&
		strings.HasPrefix(early.Source.Text, "{b") && strings.HasPrefix(late.Source.Text, "{b")
}

// bound reports whether a condition over several columns decides about a field.
func (t *Table) bound(f *Field) bool {
	return slices.ContainsFunc(t.rest, func(c string) bool {
		n, err := predicate.Parse(c)
		return err == nil &&
			slices.ContainsFunc(n.Columns(), func(name string) bool { return strings.EqualFold(name, f.Column.Name) })
	})
}

// pair lets moments of a row follow each other: what is changed or ended comes after
// what was begun.
func (t *Table) pair() {
	t.follow()
	var begun *Field
	for _, f := range t.Fields {
		if !t.isFreeMoment(f) {
			continue
		}
		if begun == nil {
			if f.Column.NotNull {
				begun = f
			}
			continue
		}
		if begun.Column.Kind == f.Column.Kind && !f.followed && !strings.HasPrefix(f.Source.Text, "{after") {
			f.Source = Source{Text: fmt.Sprintf("{after: %s, within: 30d}", quoteField(begun.Name))}
		}
	}
}

// isFreeMoment reports whether a field holds a moment or a date that may follow another one.
func (t *Table) isFreeMoment(f *Field) bool {
	k := f.Column.Kind
	return (k == schema.Timestamp || k == schema.Date) &&
		f.Source.Text != "" && !f.Source.Follows && !f.Source.Fixed &&
		!isBirth(f.Column.Name) && t.domains[f.Column.Name] == nil && !t.bound(f)
}
