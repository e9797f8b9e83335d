package grow

import (
	"fmt"
	"math"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/rng"
	"evensprout/internal/value"
)

func zipf(t testing.TB, exponent string) Zipf {
	t.Helper()
	z, err := NewZipf(*decimal(t, exponent))
	require.NoError(t, err)
	return z
}

// Zipf's law: the n-th rank is 1/n^exponent as frequent as the first.
func TestZipf(t *testing.T) {
	assert.Equal(t, []uint64{1 << 20, 1 << 19, 1 << 20 / 3, 1 << 18}, zipf(t, "1").Weights(4))
	assert.InDelta(t, float64(1<<20)/math.Pow(3, 1.5), zipf(t, "1.5").Weights(3)[2], 2)
	for _, bad := range []string{"0", "0.05", "6", "1.0001"} {
		_, err := NewZipf(*decimal(t, bad))
		require.Error(t, err, bad)
	}
	for _, exponent := range []string{"1", "0.7", "1.3"} {
		for _, n := range []uint64{1, 2, 64, 65, 1000, 1 << 40} {
			h := zipf(t, exponent).histogram(n)
			assert.Equal(t, n, h.end())
			assert.Less(t, len(h.sums), 400)
			assert.Zero(t, h.number(0))
			assert.Equal(t, n-1, h.number(math.MaxUint64), "the last rank can be picked, too")
		}
	}
	// In wide bins, the share of all ranks up to some is that of the law.
	h, s := zipf(t, "1").histogram(100_000), 0.0
	harmonic := func(n int) (sum float64) {
		for i := 1; i <= n; i++ {
			sum += 1 / float64(i)
		}
		return sum
	}
	for i := range 10_000 {
		if h.number(uint64(i)*(math.MaxUint64/10_000)) < 1000 {
			s++
		}
	}
	assert.InDelta(t, harmonic(1000)/harmonic(100_000), s/10_000, 0.005)
}

// Distances in time have the shape that is asked for, from the end that counts.
func TestShapedMoments(t *testing.T) {
	clock := must(value.ParseTimestamp("2026-05-01T08:00:00Z"))
	spans := func(s string) *value.Value { v := value.Int(must(value.ParseSpan(s)).After(0, 1)); return &v }
	within := must(value.ParseSpan("48h"))
	by := Shape{Name: "lognormal", Median: spans("90m"), P95: spans("12h")}
	for _, forward := range []bool{true, false} {
		after, before := &End{Fixed: clock}, (*End)(nil)
		if !forward {
			after, before = nil, after
		}
		var hours []float64
		for _, v := range grown(t, must(Moment(after, before, MomentOptions{Within: within, Shape: &by})), 20_000) {
			h := float64(v.N-clock.N) / float64(value.Hour)
			if !forward {
				h = -h
			}
			require.True(t, h > 0 && h <= 48, h)
			hours = append(hours, h)
		}
		below := func(limit float64) (n int) {
			for _, h := range hours {
				if h <= limit {
					n++
				}
			}
			return n
		}
		assert.InDelta(t, 10_000, below(1.5), 300)
		assert.InDelta(t, 19_000, below(12), 150)
	}
	for _, o := range []MomentOptions{
		{Shape: &by}, {Within: within, Shape: &by, By: must(NewCalendar(Calendar{}))},
		{Within: within, Shape: &Shape{Name: "exponential", Mean: spans("1us")}},
	} {
		_, err := Moment(&End{Fixed: clock}, &End{Fixed: clock}, o)
		require.Error(t, err)
	}
}

func TestShapedChildren(t *testing.T) {
	groups := must(ShapedDeal(0, 40, Shape{Name: "exponential"}))
	d, err := rng.NewWeightedDeal(rng.NewKey("a", "b"), groups)
	require.NoError(t, err)
	dealt := rng.NewDealt(d)
	// A fifth of the range, less what the end of the range cuts off: of the whole numbers to 40, 7.25.
	assert.InDelta(t, 7.25, float64(dealt.First(10_000))/10_000, 0.1)
	assert.LessOrEqual(t, d.Max, uint64(40))
	_, err = ShapedDeal(0, 40, Shape{Name: "lognormal"})
	require.ErrorContains(t, err, "above 0")
	_, err = ShapedDeal(0, rng.MaxChildren+1, Shape{Name: "normal"})
	require.Error(t, err)
}

// cast is an entity with profiles, and one below it.
func cast(t testing.TB, weights []uint64, groups [][]rng.DealGroup, rows uint64) (*Set, *Entity, *Entity) {
	t.Helper()
	s := &Set{Seed: "cast", Edition: "1"}
	e, below := s.NewEntity("Member"), s.NewEntity("Trip")
	e.Rows = rows
	f := s.NewField(e, "profile", "profile")
	var err error
	e.Profiles, err = NewProfiles(f, []string{"regular", "lapsed", "barred"}, weights)
	require.NoError(t, err)
	e.Key = s.NewField(e, "id", "id")
	e.Key.Source = must(Count(nil, 1, false))
	e.AddGiven("ada", map[*Field]Given{f: {Value: value.String("barred")}})
	below.Parent, below.Up = e, s.NewField(below, "Member", "Member")
	below.Up.Source = Upward(e)
	below.Deal, err = e.Profiles.Deal(below.Up.DealKey(), groups)
	require.NoError(t, err)
	require.Empty(t, s.Finish())
	return s, e, below
}

func TestProfilesAreExact(t *testing.T) {
	groups := [][]rng.DealGroup{{{Lo: 2, Hi: 4, Weight: 1}}, {{Lo: 1, Hi: 1, Weight: 1}}, {{Lo: 0, Hi: 0, Weight: 1}}}
	s, e, below := cast(t, []uint64{70, 25, 5}, groups, 2000)
	g := NewGrower(s)
	for from := uint64(0); from < 2000; from += rng.CastBlock {
		seen := map[string]int{}
		for n := from; n < from+rng.CastBlock; n++ {
			name := g.Cell(e, Row{N: n}, e.Profiles.Field).S
			seen[name]++
			first, last := g.Below(below, Row{N: n})
			switch name {
			case "regular":
				assert.True(t, last-first >= 2 && last-first <= 4)
			case "lapsed":
				assert.EqualValues(t, 1, last-first)
			case "barred":
				assert.Zero(t, last-first)
			}
		}
		assert.Equal(t, map[string]int{"regular": 350, "lapsed": 125, "barred": 25}, seen)
	}
	first, last := g.Below(below, Row{Side: true})
	assert.Zero(t, last-first, "a given row has as many below as its profile says")
	again, _, _ := cast(t, []uint64{70, 25, 5}, groups, 700)
	assert.True(t, slices.Equal(dump(again, again.Entities[0], 701), dump(s, e, 701)[:701]), "more rows append")
}

// A profile whose share is 0 is for rows that are written in the plan.
func TestAProfileWithoutShare(t *testing.T) {
	groups := [][]rng.DealGroup{{{Lo: 1, Hi: 1, Weight: 1}}, {{Lo: 1, Hi: 1, Weight: 1}}, {{Lo: 7, Hi: 7, Weight: 1}}}
	s, _, below := cast(t, []uint64{70, 30, 0}, groups, 10)
	first, last := NewGrower(s).Below(below, Row{Side: true})
	assert.EqualValues(t, 7, last-first)
	f := s.NewField(s.NewEntity("Other"), "profile", "profile")
	_, err := NewProfiles(f, []string{"a", "b"}, []uint64{100_000, 1})
	require.ErrorContains(t, err, "smaller than one of 500 rows")
	_, err = NewProfiles(f, []string{"a"}, []uint64{0})
	require.Error(t, err)
}

// odd is an entity with a field that mixes awkward values in.
func odd(t testing.TB, src Source, share Share, longest uint64) (*Set, *Entity) {
	t.Helper()
	s := &Set{Seed: "odd", Edition: "1"}
	e := s.NewEntity("Thing")
	e.Rows = 6400
	f := s.NewField(e, "f", "f")
	f.Source = src
	f.SetAwkward(share, AwkwardOf(src, longest, true))
	require.Empty(t, s.Finish())
	return s, e
}

func TestAwkwardSharesAreExact(t *testing.T) {
	sentence := func() Source {
		for _, k := range Kinds() {
			if k.Name == "sentence" {
				return must(NewKind(k, KindOptions{}))
			}
		}
		return nil
	}
	clock := must(value.ParseTimestamp("2026-05-01T08:00:00Z"))
	for name, c := range map[string]struct {
		src   Source
		names int
	}{
		"text":    {sentence(), len(awkwardTexts) + 2},
		"numbers": {must(Between(*decimal(t, "-5.00"), *decimal(t, "9.99"), 0)), 4},
		"dates":   {must(Between(must(value.ParseDate("2020-01-01")), must(value.ParseDate("2026-01-01")), 0)), 4},
		"moments": {must(Moment(nil, &End{Fixed: clock}, MomentOptions{Within: must(value.ParseSpan("9y"))})), 9},
	} {
		s, e := odd(t, c.src, Share{10, 100}, 40)
		var b Batch
		NewGrower(s).Grow(e, Row{}, 6400, &b)
		sum := int64(0)
		for _, n := range b.Odd {
			sum += n
		}
		assert.InDelta(t, 640, sum, 10, name)
		assert.Len(t, b.Odd, c.names, "%s: %v", name, b.Odd)
	}
	s, e := odd(t, sentence(), Share{1, 1}, 3)
	var b Batch
	NewGrower(s).Grow(e, Row{}, 1000, &b)
	for i := range b.Len {
		assert.LessOrEqual(t, len([]rune(b.Row(i)[0].S)), 3)
	}
}

// Awkward moments lie where the field's other moments do, and are what their names say.
func TestAwkwardMoments(t *testing.T) {
	clock := must(value.ParseTimestamp("2026-05-01T08:00:00Z"))
	s, e := odd(t, must(Moment(nil, &End{Fixed: clock}, MomentOptions{Within: must(value.ParseSpan("5y"))})),
		Share{1, 2}, 0)
	g := NewGrower(s)
	seen := map[string]string{}
	for n := range e.Rows {
		v := g.Cell(e, Row{N: n}, e.Fields[0])
		assert.True(t, v.N < clock.N && v.N >= clock.N-5*366*value.Day)
		if name := g.AwkwardIn(e, Row{N: n}, e.Fields[0]); name != "" {
			seen[name] = v.String()
		}
	}
	assert.Equal(t, map[string]string{
		"moment.first": "2021-05-01T08:00:00Z", "moment.last": "2026-05-01T07:59:59Z",
		"moment.leap-day": "2024-02-29T12:00:00Z", "moment.year-end": "2025-12-31T23:59:59Z",
		"moment.dst-skipped": "2026-03-29T02:30:00Z", "moment.dst-repeated": "2025-10-26T02:30:00Z",
		"moment.dst-skipped-us": "2026-03-08T02:30:00Z", "moment.dst-repeated-us": "2025-11-02T01:30:00Z",
		"moment.midnight": "2021-05-02T00:00:00Z",
	}, seen)
	berlin, err := time.LoadLocation("Europe/Berlin")
	require.NoError(t, err)
	skipped := time.Date(2026, 3, 29, 2, 30, 0, 0, berlin)
	assert.NotEqual(t, 2, skipped.Hour(), "that hour is not on the clocks of Berlin")
}

// What must keep its form has no awkward values unless its field says so.
func TestWhatStaysPlain(t *testing.T) {
	plain := func(name string, any bool) bool {
		for _, k := range Kinds() {
			if k.Name == name {
				return len(AwkwardOf(must(NewKind(k, KindOptions{})), 0, any)) == 0
			}
		}
		return false
	}
	for _, name := range []string{"email", "iban", "postal-code", "ean", "url", "status", "age"} {
		if name != "status" {
			assert.True(t, plain(name, false), name)
		}
	}
	assert.False(t, plain("email", true))
	assert.False(t, plain("locality", false))
	assert.Empty(t, AwkwardOf(must(Choose([]value.Value{value.String("a")}, nil)), 0, true))
	assert.Empty(t, AwkwardOf(Literal(value.String("a")), 0, true))
}

func TestLists(t *testing.T) {
	text := func(values ...string) (out []value.Value) {
		for _, v := range values {
			out = append(out, value.String(v))
		}
		return out
	}
	parts := []ListPart{
		{Name: "code", Type: value.Text, Values: text("A", "B", "A", "C")},
		{Name: "town", Type: value.Text, Values: text("x", "y", "x", "y")},
	}
	l, err := NewList("port", parts, []uint64{1, 2, 3, 4})
	require.NoError(t, err)
	assert.Equal(t, []uint64{4, 2, 4}, l.weights, "an entry that is repeated counts once, with all of its weight")
	s := &Set{Seed: "list", Edition: "1"}
	e := s.NewEntity("Call")
	e.Rows = 1000
	of := s.NewField(e, "at", "at")
	of.Source, of.Inner = must(l.Source()), true
	var fields []*Field
	for _, name := range []string{"code", "town"} {
		f := s.NewField(e, name, name)
		f.Source = must(PartOf(of, name))
		fields = append(fields, f)
	}
	_, err = PartOf(of, "nothing")
	require.ErrorContains(t, err, "port has no part nothing: its parts are code, town")
	require.NoError(t, e.Unique(fields[0]), "codes differ")
	require.ErrorContains(t, e.Unique(fields[1]), "many rows of port have the same town")
	_, err = NewList("empty", []ListPart{{Name: "a"}}, nil)
	require.ErrorContains(t, err, "empty")
	_, err = NewList("none", nil, nil)
	require.Error(t, err)
}

func TestALoginHasASaltOfTheSeed(t *testing.T) {
	salts := func(seed string, each bool) []string {
		s := &Set{Seed: seed, Edition: "1"}
		e := s.NewEntity("User")
		e.Rows = 3
		f := s.NewField(e, "password", "password")
		hash := func(salt [16]byte) (string, error) { return fmt.Sprintf("%x", salt), nil }
		f.Source = Login(hash, 32, each)
		require.Empty(t, s.Finish())
		return dump(s, e, 3)
	}
	one := salts("a", false)
	assert.Equal(t, one, salts("a", false))
	assert.NotEqual(t, one, salts("b", false))
	assert.Equal(t, one[0][strings.Index(one[0], "|")+1:], one[1][strings.Index(one[1], "|")+1:])
	each := salts("a", true)
	assert.NotEqual(t, each[0][strings.Index(each[0], "|")+1:], each[1][strings.Index(each[1], "|")+1:])
}
