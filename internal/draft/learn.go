package draft

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"evensprout/internal/habits"
	"evensprout/internal/schema"
	"evensprout/internal/sources"
)

// mayTake reports whether a field may have a source, as far as conditions tell.
func (t *Table) mayTake(f *Field, s Source) bool {
	d := t.domains[f.Column.Name]
	if d == nil {
		d = &domain{}
	}
	return s.Text != "" && len(d.opaque) == 0 && admits(f.Column, d, s) && len(sources.Values(s, 1)) > 0
}

// learn lets fields take their values as the rows that are there have them.
func (t *Table) learn() {
	l := t.d.Learned[t.Schema]
	if l == nil || l.Rows == 0 {
		return
	}
	t.Learned = &Learned{Rows: l.Rows}
	for _, f := range t.Fields {
		if h := l.Columns[f.Column.Name]; h != nil && !f.unsaid && !f.Source.Follows && f.Source.Text != "null" {
			t.learnField(f, h, l)
		}
	}
	for _, f := range t.Fields {
		if h := l.Columns[f.Column.Name]; h != nil && h.When != nil && f.Nulls {
			t.learnWhen(f, h.When)
		}
	}
	t.learnChildren(l)
}

// learnField lets a field have its values as those that are there have them.
func (t *Table) learnField(f *Field, h *habits.Habit, l *habits.Learned) {
	t.learnNulls(f, h, l.Rows)
	switch {
	case f.lead && f.ref != t.parent:
		t.learnPicks(f, l)
	case strings.HasPrefix(f.Source.Text, "{after"):
		t.learnWeek(f, h)
	case f.ref == nil && f.Source.Text != "":
		t.learnValues(f, h, l.Rows)
	}
}

// Learned is what a table's rows have told of it.
type Learned struct {
	Rows  int64    // that were looked at
	Facts []string // for people, such as status: 3 codes
}

// note adds a fact about a column.
func (l *Learned) note(f *Field, format string, args ...any) {
	l.Facts = append(l.Facts, f.Name+": "+fmt.Sprintf(format, args...))
}

// learnNulls lets a field be NULL as often as it is.
func (t *Table) learnNulls(f *Field, h *habits.Habit, rows int64) {
	if !f.Nulls {
		return
	}
	f.nulls = habits.Percent(h.Nulls, rows)
	f.Nulls = h.Nulls > 0
	if h.Nulls > 0 {
		t.Learned.note(f, "%s NULL", f.nulls)
	}
}

// learnPicks lets some rows be picked more often than others.
func (t *Table) learnPicks(f *Field, l *habits.Learned) {
	const popular = 45 // percent of the rows that refer to the most popular fifth: more than chance gives it
	if c := l.Children[f.Column.Name]; c.Top >= popular && c.Top < 100 && f.Source.Text != "distinct" && !t.inKey(f) {
		f.ref.skew = fmt.Sprintf("{top: 20%%, get: %d%%}", c.Top)
		t.Learned.note(f, "the most popular fifth has %d%%", c.Top)
	}
}

// learnValues lets a field have the values, the range or the format of those that are there.
func (t *Table) learnValues(f *Field, h *habits.Habit, rows int64) {
	for _, s := range h.Sources(f.Column, f.Source, t.inKey(f), rows-h.Nulls) {
		if !t.mayTake(f, s.Source) || t.inKey(f) && s.Source.Space < keyRoom*uint64(rows) {
			continue
		}
		f.Source = s.Source
		f.Comment = fmt.Sprintf("as in the %d existing rows", rows)
		t.Learned.note(f, "%s", s.Fact)
		return
	}
}

// spanOfDays finds the distance of {after: paid_at, within: 30d}.
var spanOfDays = regexp.MustCompile(`, within: ([0-9]+)d[,}]`)

// learnWeek lets a moment after another one lie in the hours and on the days in which the others lie.
func (t *Table) learnWeek(f *Field, h *habits.Habit) {
	const daysOfWeek = 7 // a shorter distance may hold none of the days
	m := spanOfDays.FindStringSubmatch(f.Source.Text)
	if m == nil || t.domains[f.Column.Name] != nil || h.Week() == "" {
		return
	}
	if days, err := strconv.Atoi(m[1]); err != nil || days < daysOfWeek {
		return
	}
	f.Source.Text = f.Source.With(h.Week())
	t.Learned.note(f, "%s", h.Week())
}

// keyRoom is how many values a key has room for, by the rows that are there.
const keyRoom = 10

// learnWhen lets a field be NULL where another one says so.
func (t *Table) learnWhen(f *Field, when *habits.Dependence) {
	other := t.find(when.Column)
	if other == nil || other.Nulls || other.unsaid || other.ref != nil || other == f ||
		!strings.HasPrefix(other.Source.Text, "{choose") && !strings.HasPrefix(other.Source.Text, "{share") {
		return
	}
	items := strings.TrimSuffix(strings.TrimPrefix(sources.Chosen(other.Column, when.Values).Text, "{choose: "), "}")
	if other.Column.Kind == schema.Boolean && len(when.Values) == 1 {
		items = strings.Trim(items, "[]")
	}
	f.Source.Text = f.Source.With(fmt.Sprintf("if: {%s: %s}", quoteField(other.Name), items))
	f.Nulls = false
	t.Learned.Facts = slices.DeleteFunc(t.Learned.Facts, func(s string) bool {
		return strings.HasPrefix(s, f.Name+": ") && strings.HasSuffix(s, " NULL")
	})
	t.Learned.note(f, "only if %s is %s", other.Name, strings.Trim(items, "[]"))
}

// learnChildren lets rows have as many children as those that are there.
func (t *Table) learnChildren(l *habits.Learned) {
	if t.parent == nil || t.children != "" || t.joins() {
		return
	}
	c, ok := l.Children[t.parent.Columns[0]]
	if !ok || c.Weights == "" || t.parentIsFull(c.Most) {
		return
	}
	t.children, t.least, t.most = c.Weights, c.Least, c.Most
	t.Learned.Facts = append(t.Learned.Facts, "for each "+t.parent.known().Entity+": "+c.Weights)
}

// parentIsFull reports whether children are counted in a column that does not hold so many.
func (t *Table) parentIsFull(most uint64) bool {
	for _, k := range t.Schema.Keys() {
		if slices.Contains(k.Columns, t.parent.Columns[0]) {
			f := t.sibling(k.Columns, t.parent)
			if f == nil {
				return true
			}
			_, highest := typeRange(f.Column)
			if uint64(max(highest, 0)) < most || t.domains[f.Column.Name] != nil {
				return true
			}
		}
	}
	return false
}
