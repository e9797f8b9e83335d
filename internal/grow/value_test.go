package grow

import (
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestDecimalsAreReadAndShownExactly(t *testing.T) {
	for _, text := range []string{"0", "7", "-7", "4.50", "-0.05", "0.001", "922337203685477.5807", "-9223372036854775808", "12345678.000000000000000001"[:20]} {
		v, err := ParseDecimal(text)
		require.NoError(t, err, text)
		assert.Equal(t, text, v.String())
	}
	for _, text := range []string{"", ".", "1.", ".5", "1e5", "0x10", "1.2.3", "--1", "1.-2", "9223372036854775808", "0.1234567890123456789", "one"} {
		_, err := ParseDecimal(text)
		assert.Error(t, err, text)
	}
}

func TestRescaleLosesNothing(t *testing.T) {
	v := must(ParseDecimal("4.50"))
	r, ok := v.Rescale(1)
	assert.True(t, ok)
	assert.Equal(t, "4.5", r.String())
	_, ok = v.Rescale(0)
	assert.False(t, ok)
	_, ok = Int(math.MaxInt64).Rescale(1)
	assert.False(t, ok)
}

func TestUUIDsAreReadAndShown(t *testing.T) {
	const text = "019de28d-3c00-7cbb-955b-ce3417366a71"
	assert.Equal(t, text, must(ParseUUID(text)).String())
	for _, bad := range []string{"", "x", text[:35], text + "0", "019d-e28d3c00-7cbb-955b-ce3417366a71", "019de28d_3c00_7cbb_955b_ce3417366a71"} {
		_, err := ParseUUID(bad)
		assert.Error(t, err, bad)
	}
}

func TestUUIDsHaveTheirVersion(t *testing.T) {
	x := &fleet{set: &Set{Seed: "u", Edition: "1"}}
	e := x.set.NewEntity("Thing")
	e.Rows = 500
	x.field(e, "four", RandomUUID())
	x.field(e, "seven", OrderedUUID(must(ParseTimestamp("2026-05-01T08:00:00Z"))))
	require.Empty(t, x.set.Finish())
	var b Batch
	NewGrower(x.set).Grow(e, Row{}, 500, &b)
	last := ""
	for i := range b.Len {
		four, seven := b.Row(i)[0].String(), b.Row(i)[1].String()
		assert.Equal(t, byte('4'), four[14])
		assert.Equal(t, byte('7'), seven[14])
		assert.Contains(t, "89ab", four[19:20])
		assert.Contains(t, "89ab", seven[19:20])
		assert.Less(t, last, seven, "they sort as the rows do")
		last = seven
	}
}

func TestDatesAreReadAndShown(t *testing.T) {
	for _, text := range []string{"1970-01-01", "2024-02-29", "1900-02-28", "0001-01-01", "9999-12-31"} {
		assert.Equal(t, text, must(ParseDate(text)).String())
	}
	assert.Equal(t, int64(0), must(ParseDate("1970-01-01")).N)
	for _, bad := range []string{"2023-02-29", "1900-02-29", "2026-13-01", "2026-00-10", "2026-1-1", "26-01-01", "2026/01/01", "2026-04-31"} {
		_, err := ParseDate(bad)
		assert.Error(t, err, bad)
	}
}

// Every day of a long stretch has the date after the day before.
func TestCivilIsTheInverseOfDays(t *testing.T) {
	for days := int64(-800_000); days < 800_000; days += 37 {
		y, m, d := Civil(days)
		assert.Equal(t, days, daysOf(y, m, d))
		assert.True(t, m >= 1 && m <= 12 && d >= 1 && d <= monthDays(y, m))
	}
}

func TestMomentsAreReadAndShown(t *testing.T) {
	for text, want := range map[string]string{
		"2026-05-01T08:00:00Z": "2026-05-01T08:00:00Z", "2026-05-01 08:00:00": "2026-05-01T08:00:00Z", "2026-05-01T08:00Z": "2026-05-01T08:00:00Z",
		"2026-05-01T08:00:00.25Z": "2026-05-01T08:00:00.25Z", "2026-05-01T08:00:00+02:00": "2026-05-01T06:00:00Z", "2026-01-01T00:30:00+01:00": "2025-12-31T23:30:00Z",
		"1969-12-31T23:59:59Z": "1969-12-31T23:59:59Z",
	} {
		assert.Equal(t, want, must(ParseTimestamp(text)).String(), text)
	}
	for _, bad := range []string{"", "noon", "2026-05-01", "2026-05-01T25:00:00Z", "2026-05-01T08:60:00Z", "2026-05-01T08:00:00+2", "2026-05-01T08:00:00.1234567Z"} {
		_, err := ParseTimestamp(bad)
		assert.Error(t, err, bad)
	}
	assert.Equal(t, "06:05:00", must(ParseTime("06:05")).String())
	_, err := ParseTime("24:00:00")
	assert.Error(t, err)
}

func TestSpans(t *testing.T) {
	from := must(ParseTimestamp("2024-01-31T10:00:00Z"))
	for text, want := range map[string]string{
		"90m": "2024-01-31T11:30:00Z", "1h30m": "2024-01-31T11:30:00Z", "1d": "2024-02-01T10:00:00Z", "2w": "2024-02-14T10:00:00Z",
		"1mo": "2024-02-29T10:00:00Z", "13mo": "2025-02-28T10:00:00Z", "1y": "2025-01-31T10:00:00Z", "30s": "2024-01-31T10:00:30Z",
	} {
		span := must(ParseSpan(text))
		assert.Equal(t, want, Value{Type: Timestamp, N: span.after(from.N, 1)}.String(), text)
	}
	for _, bad := range []string{"", "90", "d", "1.5d", "0d", "-1d", "3x", "99999999999999d", "1 d"} {
		_, err := ParseSpan(bad)
		assert.Error(t, err, bad)
	}
}

// Moments lie strictly after one end and before the other, and no further than the
// span away.
func TestMomentsStayWithinTheirEnds(t *testing.T) {
	clock := must(ParseTimestamp("2026-05-01T08:00:00Z"))
	x := &fleet{set: &Set{Seed: "m", Edition: "1"}}
	e := x.set.NewEntity("Thing")
	e.Rows = 3000
	a := x.field(e, "a", must(Moment(nil, &End{Fixed: clock}, must(ParseSpan("10d")), 0)))
	x.field(e, "b", must(Moment(&End{Path: &Path{Field: a}}, &End{Fixed: clock}, must(ParseSpan("2h")), 0)))
	x.field(e, "c", must(Moment(&End{Path: &Path{Field: a}}, &End{Fixed: clock}, Span{}, 0)))
	x.field(e, "d", must(Moment(&End{Fixed: must(ParseDate("2026-05-01"))}, nil, must(ParseSpan("3d")), 0)))
	require.Empty(t, x.set.Finish())
	var batch Batch
	NewGrower(x.set).Grow(e, Row{}, 3000, &batch)
	days := map[string]int{}
	for i := range batch.Len {
		r := batch.Row(i)
		assert.True(t, r[0].N < clock.N && r[0].N >= clock.N-10*Day, r[0].String())
		assert.True(t, r[1].N > r[0].N && r[1].N <= r[0].N+2*Hour, r[1].String())
		assert.True(t, r[2].N > r[0].N, r[2].String())
		days[r[3].String()]++
	}
	for _, day := range []string{"2026-05-02", "2026-05-03", "2026-05-04"} {
		assert.InDelta(t, 1000, days[day], 8, "days are even")
	}
}

func TestFold(t *testing.T) {
	for _, same := range [][]string{
		{"Émile", "emile", "EMILE ", "e\u0301mile"}, {"straße", "STRASSE"}, {"Ångström", "angstrom"}, {"ﬁne", "fine"}, {"Øre", "ore"}, {"Σίσυφος", "σισυφοσ"},
	} {
		for _, s := range same {
			assert.Equal(t, Fold(same[0]), Fold(s), s)
		}
	}
	assert.NotEqual(t, Fold("a b"), Fold("ab"))
	assert.NotEqual(t, Fold("a-b"), Fold("a_b"))
}

func TestFilters(t *testing.T) {
	for _, c := range [][3]string{
		{"lower", "Émile A", "émile a"}, {"upper", "émile", "ÉMILE"}, {"title", "open deck's end", "Open Deck's End"}, {"ascii", "Zoë Jovanić ß", "Zoe Jovanic ss"},
		{"slug", "Émile & Sons, Ltd", "emile-sons-ltd"}, {"trim:3", "Zoë X", "Zoë"}, {"pad:5", "42", "00042"}, {"lower", "PLAIN", "plain"},
	} {
		f, err := newFilter(c[0])
		require.NoError(t, err)
		assert.Equal(t, "before "+c[2], string(f.apply([]byte("before "+c[1]), 7)), c[0])
	}
	for _, bad := range []string{"", "lowre", "trim", "trim:0", "trim:x", "lower:3", "pad:99999"} {
		_, err := newFilter(bad)
		assert.Error(t, err, bad)
	}
}

func TestPatternsMakeWhatTheyDescribe(t *testing.T) {
	for expr, check := range map[string]*struct {
		regexp string
		space  uint64
	}{
		"[A-C]{2}[0-9]":      {`^[A-C]{2}[0-9]$`, 90},
		"(ab|c|d{1,2})x?":    {`^(ab|c|d{1,2})x?$`, 8},
		`\d{3}-\w`:           {`^\d{3}-\w$`, 1000 * 37}, // \w has 63 signs, of which 37 differ when folded
		"^LW-[^a-z ]{1}\\.$": {`^LW-[^a-z ]\.$`, 68},
		"[äöü]":              {`^[äöü]$`, 3},
		"":                   {`^$`, 1},
	} {
		src := must(Pattern(expr))
		assert.Equal(t, check.space, src.(Countable).Space(), expr)
		s := &Set{Seed: "p", Edition: "1"}
		e := s.NewEntity("Thing")
		e.Rows = 300
		s.NewField(e, "free", "free").Source = src
		require.Empty(t, s.Finish())
		for _, line := range dump(s, e, 100) {
			assert.Regexp(t, check.regexp, line)
		}
	}
}

func TestPatternsThatAreRefused(t *testing.T) {
	for expr, message := range map[string]string{
		"a*": "no upper bound", "a+": "no upper bound", "a{2,}": "no upper bound", "(a": "without its )", "a)": "without its (", "[a": "without its ]",
		"[z-a]": "swapped", "a{3,1}": "swapped", "?a": "nothing to repeat", "a{1}{2}": "two repeats", `\q`: "not known", "(?i)a": "only (?:",
		"[^ -~]": "empty", "a{9999}": "numbers up to", "(a{900}){900}": "at most", `a\`: "at the end", "a^": "only stands at the start",
	} {
		_, err := Pattern(expr)
		var p *PatternError
		require.ErrorAs(t, err, &p, expr)
		assert.Contains(t, p.Message, message, expr)
		assert.LessOrEqual(t, p.Offset, len(expr))
	}
}

// What can be read in two ways is not counted as unique.
func TestAmbiguousPatternsCannotBeUnique(t *testing.T) {
	for expr, ambiguous := range map[string]bool{
		"a?a?": true, "(a|aa){2}": true, "(a|b)(c|d)": false, "[ab]{1,3}": false, "(ab|a)(c|bc)": true, "x{0,2}y": false, "(a|b|ab)": false, "(a?){2}": true,
	} {
		s := &Set{Seed: "p", Edition: "1"}
		e := s.NewEntity("Thing")
		f := s.NewField(e, "f", "f")
		f.Source = must(Pattern(expr))
		assert.Equal(t, ambiguous, e.Unique(f) != nil, expr)
	}
}

func TestTextsThatRunIntoEachOtherCannotBeUnique(t *testing.T) {
	for text, fine := range map[string]bool{"{a}-{b}": true, "{a}{b}": false, "{a}e{b}": false, "{a}9{b}": true, "{a}": true, "fixed": false} {
		x := &fleet{set: &Set{Seed: "t", Edition: "1"}}
		e := x.set.NewEntity("Thing")
		x.field(e, "a", kind("noun"))
		x.field(e, "b", kind("noun"))
		f := x.field(e, "f", x.template(e, text))
		err := e.UniqueText(f)
		assert.Equal(t, fine, err == nil, "%s: %v", text, err)
	}
}

// The pattern compiler takes anything: it makes texts or tells why not.
func FuzzPattern(f *testing.F) {
	for _, s := range []string{"[A-HJ-NP-Z]{2}[0-9]{6}", "(ab|c){1,3}x?", `\d\w\.`, "[^a]", "((((", "a{1,", "[]]"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, expr string) {
		src, err := Pattern(expr)
		if err != nil {
			return
		}
		s := &Set{Seed: "f", Edition: "1"}
		e := s.NewEntity("Thing")
		e.Rows = min(4, src.(Countable).Space())
		fd := s.NewField(e, "f", "f")
		fd.Source = src
		unique := e.Unique(fd) == nil
		if len(s.Finish()) > 0 {
			return
		}
		seen := map[string]bool{}
		var b Batch
		NewGrower(s).Grow(e, Row{}, int(e.Rows), &b)
		for i := range b.Len {
			seen[Fold(b.Row(i)[0].S)] = true
		}
		if unique && len(seen) != b.Len {
			t.Fatalf("%q: %d different texts of %d", expr, len(seen), b.Len)
		}
	})
}

// So does the template compiler.
func FuzzTemplate(f *testing.F) {
	for _, s := range []string{"{a|lower}.{b|trim:3}@example.net", "{{x}}", "{a", "}", "{a|pad:8|slug}", "{ a | upper }"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, text string) {
		x := &fleet{set: &Set{Seed: "f", Edition: "1"}}
		e := x.set.NewEntity("Thing")
		e.Rows = 2
		a, b := x.field(e, "a", kind("name")), x.field(e, "b", must(Count(nil, 1, false)))
		src, err := Template(text, func(name string) (*Path, error) {
			switch name {
			case "a":
				return &Path{Field: a}, nil
			case "b":
				return &Path{Field: b}, nil
			}
			return nil, assert.AnError
		})
		if err != nil {
			return
		}
		fd := x.field(e, "f", src)
		_ = e.UniqueText(fd)
		if len(x.set.Finish()) == 0 {
			dump(x.set, e, 2)
		}
	})
}

func TestMomentsByTheirLooks(t *testing.T) {
	for text, want := range map[string]string{
		"2026-05-01": "date", "2026-05-01T08:00": "timestamp", "2026-05-01 08:00:00.5Z": "timestamp", "08:15": "time", "08:15:30": "time", "08:15:30.25": "time",
		"2026-02-30": "wrong", "25:00": "wrong", "2026-05-01T99:00": "wrong", "": "no", "8:15": "no", "2026-5-1": "no", "08:15 or later": "no", "2026-05-01x": "no",
		"192.0.2.1": "no", "12345678901234567890123456789012345678901234567890": "no",
	} {
		v, looks, err := ReadMoment(text)
		got := v.Type.String()
		switch {
		case !looks:
			got = "no"
		case err != nil:
			got = "wrong"
		}
		assert.Equal(t, want, got, text)
	}
}
