package draft

import (
	"fmt"
	"slices"
	"strings"

	"evensprout/internal/lexicon"
	"evensprout/internal/predicate"
	"evensprout/internal/schema"
	"evensprout/internal/sources"
	"evensprout/internal/value"
)

// usualDay is the day of the plan's clock, if the options name none, and wideDay the first that drafts use.
var (
	usualDay = mustDay("2026-05-01")
	wideDay  = mustDay("1970-01-02")
)

// someTime is how many days before the clock the dates of a draft begin.
const someTime = 485

// today is the day of the plan's clock.
func (o *Options) today() int64 {
	if o.Today == 0 {
		return usualDay
	}
	return o.Today
}

// Clock is the plan's clock: the beginning of a day, so that it is not ahead of the server's.
func (o *Options) Clock() string {
	if o.Today == 0 {
		return sources.Clock
	}
	return sources.ShownDay(o.Today) + "T00:00:00Z"
}

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
	m := lexicon.Of(name)
	return m.Says("birth")
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

// moments are sources of dates, times of day and moments.
func moments(c *schema.Column, d *domain, today int64) []Source {
	if c.Kind == schema.Time {
		return []Source{
			sources.Countable("{between: [06:00, 21:45], step: 15m}", 64),
			sources.Countable("{between: [00:00:00, 23:59:59]}", 86_400),
		}
	}
	lo, isLo := day(d.Min, true)
	hi, isHi := day(d.Max, false)
	switch {
	case isLo && isHi:
	case isLo:
		hi = max(today-1, lo+400)
	case isHi:
		lo = min(today-someTime, hi-400)
	case c.Kind == schema.Date && lexicon.Of(c.Name).Says("founded"):
		return []Source{sources.Span(c, mustDay("1950-01-01"), mustDay("2020-12-31"))}
	case c.Kind == schema.Date && isBirth(c.Name):
		return []Source{sources.Span(c, mustDay("1950-01-01"), mustDay("2008-12-31"))}
	case c.Kind == schema.Date:
		return append([]Source{sources.Span(c, today-someTime, today-1)}, elsewhere(c)...)
	default:
		return append([]Source{{Text: "{before: clock, within: 400d}"}}, elsewhere(c)...)
	}
	return []Source{sources.Span(c, lo, hi), sources.Span(c, lo, lo), sources.Span(c, today-400, today-1)}
}

// seconds is the source of a whole number that is a moment by its name; empty if it is none, or if its type or its
// conditions want other numbers.
func seconds(c *schema.Column, d *domain, today int64) Source {
	if c.Kind != schema.Integer || !lexicon.IsMoment(c.Name) {
		return Source{}
	}
	first, last := lexicon.EventOf(c.Name).Days(someTime)
	s, least, most := sources.Seconds(today+first, today+last)
	if in := limitsOf(c, d); least < in.low || most > in.high {
		return Source{}
	}
	return s
}

// elsewhere are other times, for conditions on parts of a moment.
func elsewhere(c *schema.Column) []Source {
	var out []Source
	for _, ends := range [][2]string{{"2020-01-01", "2024-12-31"}, {"2015-01-01", "2019-12-31"},
		{"2000-01-01", "2009-12-31"}, {"2027-01-01", "2037-12-31"}, {"1970-01-02", "1999-12-31"}} {
		out = append(out, sources.Span(c, mustDay(ends[0]), mustDay(ends[1])))
	}
	return out
}

// wideMoments have room for unique values.
func wideMoments(c *schema.Column, d *domain, today int64) []Source {
	if c.Kind == schema.Time {
		return []Source{sources.Countable("{between: [00:00:00, 23:59:59]}", 86_400)}
	}
	lo, hi := wideDay, mustDay("2037-12-31")
	if c.Kind == schema.Timestamp {
		lo, hi = today-someTime, today-1
	}
	if n, ok := day(d.Min, true); ok {
		lo = n
		hi = max(hi, lo+400)
	}
	if n, ok := day(d.Max, false); ok {
		hi = n
		lo = min(lo, hi)
	}
	return []Source{sources.Span(c, lo, hi)}
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
	late.Source = Source{
		Text: fmt.Sprintf("{after: %s, within: %s}", quoteField(early.Name), t.spanBetween(early, late, "30d")),
	}
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

// happening is a moment of a row, and its event.
type happening struct {
	field *Field
	event lexicon.Event
}

// pair lets moments of a row follow each other: what is paid comes after what is ordered, and what is changed after
// what is created.
func (t *Table) pair() {
	t.follow()
	var list []happening
	for _, f := range t.Fields {
		if t.isFreeMoment(f) {
			list = append(list, happening{f, lexicon.EventOf(f.Column.Name)})
		}
	}
	slices.SortStableFunc(list, func(a, b happening) int { return a.event.Rank - b.event.Rank })
	for i, h := range list {
		f := h.field
		f.begins = i == 0
		if strings.HasPrefix(f.Source.Text, "{after") {
			continue
		}
		before := earlier(list[:i], h)
		if before == nil || f.followed && t.restsOn(before, f) {
			continue
		}
		past := ""
		if h.event.Past {
			past = ", before: clock"
		}
		within := t.spanBetween(before, f, h.event.Within) + sameKind(before, f)
		f.Source = Source{Text: fmt.Sprintf("{after: %s%s, within: %s}", quoteField(before.Name), past, within)}
	}
}

// sameKind says that a moment after a date has a time of day.
func sameKind(early, late *Field) string {
	if early.Column.Kind == schema.Date && late.Column.Kind == schema.Timestamp {
		return ", step: 1m"
	}
	return ""
}

// spanBetween is how far an end lies behind its beginning: what has times of day is over on the same day, unless it is
// of the kind that lasts.
func (t *Table) spanBetween(early, late *Field, usual string) string {
	if early.Column.Kind != late.Column.Kind && !strings.HasSuffix(usual, "d") {
		return "30d"
	}
	a, b, of := lexicon.Of(early.Column.Name), lexicon.Of(late.Column.Name), lexicon.Of(t.Schema.LocalName())
	if late.Column.Kind == schema.Timestamp && a.Says("started", "scheduled") && b.Says("ended", "closed") &&
		!of.Says("subscription", "order", "employee", "job") {
		return "20m..3h"
	}
	return usual
}

// restsOn reports whether a moment is drawn after another, maybe over others.
func (t *Table) restsOn(f, of *Field) bool {
	for range t.Fields {
		name, ok := strings.CutPrefix(f.Source.Text, "{after: ")
		if !ok {
			return false
		}
		name, _, _ = strings.Cut(name, ",")
		i := slices.IndexFunc(t.Fields, func(o *Field) bool { return quoteField(o.Name) == name })
		if i < 0 {
			return false
		}
		if f = t.Fields[i]; f == of {
			return true
		}
	}
	return true
}

// earlier is the last moment before another that all of its rows have; nil if there is none. A moment that may be
// NULL comes before one that is NULL with it.
func earlier(list []happening, of happening) *Field {
	for i := len(list) - 1; i >= 0; i-- {
		f := list[i].field
		same := list[i].event.Rank == of.event.Rank && of.event.Rank > lexicon.UnknownEvent ||
			of.event.Rank >= lexicon.AnyTime && list[i].event.Rank >= lexicon.UnknownEvent &&
				i > 0 // it may happen at any time
		switch {
		case same, of.event.Apart && !f.Column.NotNull:
		case f.Column.NotNull:
			return f
		case !of.field.Column.NotNull && f.Nulls && of.event.Rank < lexicon.AnyTime &&
			list[i].event.Rank > lexicon.UnknownEvent:
			return f // paid, then shipped
		}
	}
	return nil
}

// isFreeMoment reports whether a field holds a moment or a date that may follow another one.
func (t *Table) isFreeMoment(f *Field) bool {
	k := f.Column.Kind
	return (k == schema.Timestamp || k == schema.Date) &&
		f.Source.Text != "" && !f.Source.Follows && !f.Source.Fixed &&
		!isBirth(f.Column.Name) && t.domains[f.Column.Name] == nil && !t.bound(f)
}

// afterParents lets rows come after those that they belong to: what is paid comes after the order.
func (d *drafter) afterParents() {
	for _, t := range d.tables {
		if t.existing {
			continue
		}
		for _, f := range t.Fields {
			if !f.begins || !t.mayBeginLater(f) {
				continue
			}
			if path, begun := t.beginningAbove(f); path != "" {
				f.follows = begun
				f.Source = Source{Text: "{after: " + path + ", before: clock, within: 60d" + sameKind(begun, f) + "}"}
			}
		}
	}
}

// keepHours lets what is agreed upon begin in working hours: appointments, lessons, visits.
func (d *drafter) keepHours() {
	for _, t := range d.tables {
		if t.existing || !lexicon.Of(t.Schema.LocalName()).Says("meeting", "scheduled") {
			continue
		}
		for _, f := range t.Fields {
			m := lexicon.Of(f.Column.Name)
			text := f.Source.Text
			free := strings.HasSuffix(text, "within: 60d}") || strings.HasSuffix(text, "within: 400d}")
			if free && f.Column.Kind == schema.Timestamp && m.Says("started", "scheduled") {
				f.Source.Text = f.Source.With("hours: 8-18, weekdays: mon-fri, step: 15m")
			}
		}
	}
}

// mayBeginLater reports whether a moment comes from the range that all moments have.
func (t *Table) mayBeginLater(f *Field) bool {
	usual := moments(f.Column, &domain{}, t.d.today())
	return len(usual) > 0 && f.Source.Text == usual[0].Text && !isBirth(f.Column.Name)
}

// beginningAbove is the path to the moment in which the row above began, or one that a row cannot be without, and its
// field; empty if there is none.
func (t *Table) beginningAbove(own *Field) (string, *Field) {
	moment := func(o *Table) *Field {
		for _, m := range o.Fields {
			// A date that is no event, such as that of a launch, may be long ago.
			known := m.Column.Kind == schema.Timestamp || lexicon.EventOf(m.Column.Name).Rank != lexicon.UnknownEvent
			if m.begins && m.Column.NotNull && known && !lexicon.Of(m.Column.Name).Says("founded") && !m.leadsTo(own) {
				return m
			}
		}
		return nil
	}
	if t.parent != nil && t.parent.known() != nil {
		if m := moment(t.parent.known()); m != nil {
			return quoteField(t.parent.known().Entity) + "." + quoteField(m.Name), m
		}
	}
	for f, of := range t.leads() {
		if m := moment(of); m != nil && of.head() != t.head() {
			return quoteField(f.Name) + "." + quoteField(m.Name), m
		}
	}
	return "", nil
}
