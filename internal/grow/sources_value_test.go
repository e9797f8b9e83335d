package grow

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/value"
)

func TestUUIDsHaveTheirVersion(t *testing.T) {
	x := &fleet{set: &Set{Seed: "u", Edition: "1"}}
	e := x.set.NewEntity("Thing")
	e.Rows = 500
	x.field(e, "four", RandomUUID())
	x.field(e, "seven", OrderedUUID(must(value.ParseTimestamp("2026-05-01T08:00:00Z"))))
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

// Moments lie strictly after one end and before the other, and no further than the
// span away.
func TestMomentsStayWithinTheirEnds(t *testing.T) {
	clock := must(value.ParseTimestamp("2026-05-01T08:00:00Z"))
	x := &fleet{set: &Set{Seed: "m", Edition: "1"}}
	e := x.set.NewEntity("Thing")
	e.Rows = 3000
	a := x.field(e, "a", must(Moment(nil, &End{Fixed: clock}, MomentOptions{Within: must(value.ParseSpan("10d"))})))
	x.field(
		e,
		"b",
		must(
			Moment(
				&End{Path: &Path{Field: a}},
				&End{Fixed: clock},
				MomentOptions{Within: must(value.ParseSpan("2h"))},
			),
		),
	)
	x.field(e, "c", must(Moment(&End{Path: &Path{Field: a}}, &End{Fixed: clock}, MomentOptions{})))
	x.field(
		e,
		"d",
		must(
			Moment(
				&End{Fixed: must(value.ParseDate("2026-05-01"))},
				nil,
				MomentOptions{Within: must(value.ParseSpan("3d"))},
			),
		),
	)
	require.Empty(t, x.set.Finish())
	var batch Batch
	NewGrower(x.set).Grow(e, Row{}, 3000, &batch)
	days := map[string]int{}
	for i := range batch.Len {
		r := batch.Row(i)
		assert.True(t, r[0].N < clock.N && r[0].N >= clock.N-10*value.Day, r[0].String())
		assert.True(t, r[1].N > r[0].N && r[1].N <= r[0].N+2*value.Hour, r[1].String())
		assert.True(t, r[2].N > r[0].N, r[2].String())
		days[r[3].String()]++
	}
	for _, day := range []string{"2026-05-02", "2026-05-03", "2026-05-04"} {
		assert.InDelta(t, 1000, days[day], 8, "days are even")
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
		"a*": "no upper bound", "a+": "no upper bound", "a{2,}": "no upper bound", "(a": "this ( has no matching )",
		"a)": "this )", "[a": "this [ has no matching ]",
		"[z-a]": "reversed", "a{3,1}": "reversed", "?a": "nothing to repeat", "a{1}{2}": "two repeats",
		`\q`: "is not supported", "(?i)a": "only (?:",
		"[^ -~]": "empty", "a{9999}": "numbers up to", "(a{900}){900}": "at most", `a\`: "at the end",
		"a^": "only possible at the start",
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
		"a?a?": true, "(a|aa){2}": true, "(a|b)(c|d)": false, "[ab]{1,3}": false, "(ab|a)(c|bc)": true,
		"x{0,2}y": false, "(a|b|ab)": false, "(a?){2}": true,
	} {
		s := &Set{Seed: "p", Edition: "1"}
		e := s.NewEntity("Thing")
		f := s.NewField(e, "f", "f")
		f.Source = must(Pattern(expr))
		assert.Equal(t, ambiguous, e.Unique(f) != nil, expr)
	}
}

func TestTextsThatRunIntoEachOtherCannotBeUnique(t *testing.T) {
	for text, fine := range map[string]bool{"{a}-{b}": true, "{a}{b}": false, "{a}e{b}": false, "{a}9{b}": true,
		"{a}": true, "fixed": false} {
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
			seen[value.Fold(b.Row(i)[0].S)] = true
		}
		if unique && len(seen) != b.Len {
			t.Fatalf("%q: %d different texts of %d", expr, len(seen), b.Len)
		}
	})
}

// So does the template compiler.
func FuzzTemplate(f *testing.F) {
	for _, s := range []string{"{a|lower}.{b|trim:3}@example.net", "{{x}}", "{a", "}", "{a|pad:8|slug}",
		"{ a | upper " +
			"}"} {
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
