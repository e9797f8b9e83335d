package grow

import (
	"strings"
	"time"
	"unicode/utf8"

	"evensprout/internal/rng"
	"evensprout/internal/value"
)

// An Awkward value is one that breaks weak applications, although column, keys and conditions allow it.
type Awkward struct {
	Name string // such as text.rtl: what a report of a fault can quote

	fixed  value.Value
	moment func(lo, hi, unit int64) (int64, bool) // of a moment between two, in microseconds; nil: fixed
}

// usualLongest is how long awkward texts are at most, in characters, where the source does not tell.
const usualLongest = 80

// maxLongest bounds what a plan can ask for.
const maxLongest = 100_000

// awkwardTexts are texts by their names, the harmless first: it fits every column.
var awkwardTexts = []struct{ name, text string }{
	{"text.one-letter", "I"},
	{"text.empty", ""},
	{"text.blank", " "},
	{"text.blanks-around", " both ends "},
	{"text.newline", "two\nlines"},
	{"text.tab", "one\ttab"},
	{"text.quotes", `O'Hara "Quill"`},
	{"text.backslash", `a\b\\n%s`},
	{"text.markup", "<b>bold</b> & <i>so on"},
	{"text.script", "<script>alert(1)</script>"},
	{"text.template", "{{name}} ${name} #{1+1}"},
	{"text.sql", "'; DROP TABLE t; --"},
	{"text.wildcards", "100%_*?"},
	{"text.formula", "=1+1"},
	{"text.path", "../../etc"},
	{"text.null", "NULL"},
	{"text.true", "true"},
	{"text.number", "0012"},
	{"text.exponent", "1e3"},
	{"text.date", "2026-02-30"},
	{"text.combining", "Zoe\u0308 A\u030angstro\u0308m"},
	{"text.case", "\u0130stanbul Stra\u00dfe \ufb01n"},
	{"text.rtl", "\u05e9\u05dc\u05d5\u05dd \u0645\u0631\u062d\u0628\u0627 123"},
	{"text.zero-width", "zero\u200bwidth\u200d\u2060"},
	{"text.direction", "left\u202ethgir\u202c"},
	{"text.astral", "\U0001d4d4\U0001d4ff\U0001d4ee\U0001d4f7 \U0001f986"},
	{"text.joined", "\U0001f469\u200d\U0001f692\U0001f1ea\U0001f1fa"},
}

// AwkwardOf are the awkward values that a source can have in the place of its own, with texts of at most so many
// characters (0: as the source tells). Only sources of free text, numbers of a range and moments have any or,
// with any, every source of text that has not only certain values.
func AwkwardOf(s Source, longest uint64, any bool) []Awkward {
	if c, ok := s.(*copied); ok && len(c.path.Hops) == 0 && c.path.Field.Inner {
		s = c.path.Field.Source
	}
	switch s := s.(type) {
	case *ranged:
		return awkwardNumbers(s)
	case *shaped:
		return awkwardNumbers(&s.of)
	case *stretch, *scheduled:
		return awkwardMoments(s.Type())
	}
	if s.Type() != value.Text || !freeText(s, any) {
		return nil
	}
	known := longest
	if known == 0 {
		_, n := LongestText(s)
		known = uint64(n)
	}
	if known == 0 {
		known = usualLongest
	}
	return awkwardTextsTo(int(min(known, maxLongest)))
}

// awkwardTextsTo are the texts with at most so many characters.
func awkwardTextsTo(longest int) []Awkward {
	var out []Awkward
	add := func(name, text string) {
		if utf8.RuneCountInString(text) <= longest {
			out = append(out, Awkward{Name: name, fixed: value.String(text)})
		}
	}
	for _, t := range awkwardTexts {
		add(t.name, t.text)
	}
	sentence := strings.TrimSpace(strings.Repeat("as long as it gets ", longest/len("as long as it gets ")+1)[:longest])
	add("text.longest", sentence+strings.Repeat(".", longest-len(sentence)))
	add("text.long-word", strings.Repeat("w", min(longest, 40)))
	return out
}

// freeKinds are kinds and parts whose texts people write freely: everything can stand there. Others have a form.
var freeKinds = map[string]bool{
	"given-name": true, "family-name": true, "name": true, "nickname": true, "street-address": true, "street": true,
	"locality": true, "region": true, "address": true, "org": true, "organization-title": true, "department": true,
	"slogan": true, "event": true, "course": true, "school": true, "book-title": true, "product-name": true,
	"brand": true, "dish": true, "pet-name": true, "diagnosis": true, "holder": true, "description": true,
	"text": true, "title": true, "words": true,
}

// freeText reports whether people could write anything where a source writes.
func freeText(s Source, any bool) bool {
	switch s := s.(type) {
	case *kindSource:
		return true
	case *formKind:
		return any || freeKinds[s.kind.Name]
	case *countedKind:
		return any || freeKinds[s.kind.Name]
	case *partOf:
		return any || freeKinds[s.part.Name] && s.kind.kind.Name != "file"
	case *literal, *choice, *copied, *entryPart, *byCase, *stored, *login:
		return false
	}
	return any
}

// awkwardNumbers are values of a range: its ends, zero, and one with all of its decimals; of moments and
// times, those of a calendar.
func awkwardNumbers(r *ranged) []Awkward {
	switch r.typ {
	case value.Date, value.Timestamp:
		return awkwardMoments(r.typ)
	}
	at := func(index uint64) value.Value {
		var v value.Value
		r.at(cell{}, index, &v)
		return v
	}
	family := "number"
	if r.typ == value.Time {
		family = "time"
	}
	out := []Awkward{{Name: family + ".smallest", fixed: at(0)}, {Name: family + ".largest", fixed: at(r.n - 1)}}
	if r.typ == value.Time {
		return out
	}
	if r.lo < 0 && r.lo+int64(r.n-1)*r.step > 0 && r.lo%r.step == 0 {
		out = append(out, Awkward{Name: "number.zero", fixed: at(uint64(-r.lo / r.step))})
	}
	for i := r.n / 3; r.typ == value.Decimal && i < min(r.n, r.n/3+100); i++ {
		if v := at(i); v.N%10 != 0 {
			return append(out, Awkward{Name: "number.many-decimals", fixed: v})
		}
	}
	return out
}

// awkwardMoments are moments that each row has, and those of a calendar, where a row can have them.
func awkwardMoments(typ value.Type) []Awkward {
	out := []Awkward{
		{Name: "moment.first", moment: func(lo, _, _ int64) (int64, bool) { return lo, true }},
		{Name: "moment.last", moment: func(_, hi, _ int64) (int64, bool) { return hi, true }},
		{Name: "moment.leap-day", moment: yearly(func(year int) time.Time {
			return time.Date(year, time.February, 29, 12, 0, 0, 0, time.UTC)
		}, time.February)},
		{Name: "moment.year-end", moment: yearly(func(year int) time.Time {
			return time.Date(year, time.December, 31, 23, 59, 59, 0, time.UTC)
		}, time.December)},
	}
	if typ == value.Date {
		return out
	}
	return append(out,
		// Hours on the clocks of much of Europe and of North America that a change of daylight saving time skips or
		// repeats.
		Awkward{Name: "moment.dst-skipped", moment: yearly(lastSunday(time.March, 2, 30), time.March)},
		Awkward{Name: "moment.dst-repeated", moment: yearly(lastSunday(time.October, 2, 30), time.October)},
		Awkward{Name: "moment.dst-skipped-us", moment: yearly(nthSunday(time.March, 2), time.March)},
		Awkward{Name: "moment.dst-repeated-us", moment: yearly(nthSunday(time.November, 1), time.November)},
		Awkward{Name: "moment.midnight", moment: func(lo, hi, unit int64) (int64, bool) {
			at := lo + floorMod(-lo, value.Day)
			return at, at <= hi && floorMod(at-lo, unit) == 0
		}},
	)
}

// lastSunday is a time on the last Sunday of a month.
func lastSunday(month time.Month, hour, minute int) func(year int) time.Time {
	return func(year int) time.Time {
		at := time.Date(year, month+1, 0, hour, minute, 0, 0, time.UTC)
		return at.AddDate(0, 0, -int(at.Weekday()))
	}
}

// nthSunday is half past two on a Sunday of March, or half past one on one of November.
func nthSunday(month time.Month, nth int) func(year int) time.Time {
	hour := 2
	if month == time.November {
		hour = 1
	}
	return func(year int) time.Time {
		at := time.Date(year, month, 1, hour, 30, 0, 0, time.UTC)
		return at.AddDate(0, 0, (7-int(at.Weekday()))%7+7*(nth-1))
	}
}

// yearly finds the last moment between two that comes once a year, in a month; some years may not have it.
func yearly(in func(year int) time.Time, month time.Month) func(lo, hi, unit int64) (int64, bool) {
	const years = 9 // two leap days are at most 8 years apart
	return func(lo, hi, unit int64) (int64, bool) {
		last := time.UnixMicro(hi).UTC().Year()
		for year := last; year > last-years; year-- {
			at := in(year)
			us := at.UnixMicro()
			if unit == value.Day {
				us -= floorMod(us, value.Day)
			}
			if at.Month() == month && us >= lo && us <= hi && floorMod(us-lo, unit) == 0 {
				return us, true
			}
		}
		return 0, false
	}
}

// window is the moments that a cell can have: the first, the last and their distance in microseconds.
func window(c cell, s Source) (lo, hi, unit int64, ok bool) {
	if of, copy := s.(*copied); copy {
		s = of.path.Field.Source
	}
	switch s := s.(type) {
	case *stretch:
		lo, n, ok := s.room(c)
		return lo, lo + int64(n-1)*s.unit, s.unit, ok
	case *scheduled:
		return s.lo, s.lo + int64(s.n-1)*s.unit, s.unit, true
	case *ranged:
		scale := int64(1)
		if s.typ == value.Date {
			scale = value.Day
		}
		return s.lo * scale, (s.lo + int64(s.n-1)*s.step) * scale, s.step * scale, true
	}
	return 0, 0, 0, false
}

// SetAwkward puts awkward values in the place of a share of the field's values. A unique field, and one that
// makes another unique, keeps its own.
func (f *Field) SetAwkward(s Share, values []Awkward) {
	f.awkward, f.awkwardValues = s, values
	f.Entity.hasAwkward = f.Entity.hasAwkward || s.Part > 0
}

// Awkward are the awkward values that the field mixes in, and their share; none if it keeps its own.
func (f *Field) Awkward() ([]Awkward, Share) {
	if !f.mixes() {
		return nil, Share{}
	}
	return f.awkwardValues, f.awkward
}

func (f *Field) mixes() bool {
	return f.awkward.Part > 0 && f.group == nil && f.numbered == nil && f.ref == nil
}

// LongestAwkward is the longest awkward text of a field.
func (f *Field) LongestAwkward() string {
	var texts []string
	if f.awkward.Part > 0 {
		for _, a := range f.awkwardValues {
			texts = append(texts, a.fixed.S)
		}
	}
	return longestOf(texts)
}

// makeAwkward sets the cell to an awkward value, if it is among those that have one.
func (c cell) makeAwkward(v *value.Value) bool {
	in, part := c.f.awkward.split(c.fraction(drawAwkward))
	if !in {
		return false
	}
	at := rng.Below(part, uint64(len(c.f.awkwardValues)))
	a := &c.f.awkwardValues[at]
	if a.moment == nil {
		*v = a.fixed
		c.fr.odd[c.f.index] = uint8(at) + 1
		return true
	}
	lo, hi, unit, ok := window(c, c.f.Source)
	if !ok {
		return false
	}
	us, ok := a.moment(lo, hi, unit)
	if !ok {
		at, us = at%2, lo // the row cannot have this one: the first and the last are always there
		if at == 1 {
			us = hi
		}
	}
	v.Type, v.Scale = c.f.Source.Type(), c.f.Source.Scale()
	if v.N = us; v.Type == value.Date {
		v.N = value.FloorDiv(us, value.Day)
	}
	c.fr.odd[c.f.index] = uint8(at) + 1
	return true
}

// Tally counts awkward values by their names.
type Tally map[string]int64

// Add adds, or takes away where times is -1, the awkward values of another tally.
func (t *Tally) Add(o Tally, times int64) {
	for name, n := range o {
		if *t == nil {
			*t = Tally{}
		}
		(*t)[name] += n * times
	}
}

// AwkwardIn names the awkward value of a field of a row; empty if it holds one of its own.
func (g *Grower) AwkwardIn(e *Entity, r Row, f *Field) string {
	if !f.mixes() {
		return ""
	}
	g.refresh()
	fr := g.open(e, r)
	defer fr.close()
	g.value(fr, f)
	if at := fr.odd[f.index]; at > 0 {
		return f.awkwardValues[at-1].Name
	}
	return ""
}

// tally adds the awkward values of a row whose cells are known.
func (t *Tally) tally(fr *frame) {
	for i, at := range fr.odd {
		if at > 0 {
			if *t == nil {
				*t = Tally{}
			}
			(*t)[fr.e.Fields[i].awkwardValues[at-1].Name]++
		}
	}
}
