package habits

import (
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"

	"evensprout/internal/schema"
	"evensprout/internal/value"
)

// numbersLike are numbers as a habit keeps them: in order.
func numbersLike(kind value.Type, scale uint8, n int, draw func(r *rand.Rand) float64) *Habit {
	r := rand.New(rand.NewPCG(1, 2))
	h := &Habit{Type: kind, Scale: scale}
	for range n {
		h.Numbers = append(h.Numbers, int64(math.Round(draw(r))))
	}
	slices.Sort(h.Numbers)
	return h
}

func TestShapesAreLearned(t *testing.T) {
	even := numbersLike(value.Integer, 0, 2000, func(r *rand.Rand) float64 { return float64(r.IntN(1000)) })
	assert.Empty(t, even.Shape())
	normal := numbersLike(value.Integer, 0, 2000, func(r *rand.Rand) float64 { return 500 + 40*r.NormFloat64() })
	assert.Regexp(t, `^shape: {normal: {mean: (49|50)0, spread: (3[89]|4[012])}}$`, normal.Shape())
	skewed := numbersLike(value.Decimal, 2, 2000, func(r *rand.Rand) float64 {
		return 2000 * math.Exp(0.9*r.NormFloat64())
	})
	assert.Regexp(t, `^shape: {lognormal: {median: (19|20|21).00, p95: [789]\d.00}}$`, skewed.Shape())
	few := numbersLike(value.Integer, 0, shapeRows-1, func(r *rand.Rand) float64 { return 500 + 40*r.NormFloat64() })
	assert.Empty(t, few.Shape(), "of few numbers no shape is told")
	assert.EqualValues(t, 5, numbersLike(value.Integer, 0, 500, func(r *rand.Rand) float64 {
		return float64(5 * r.IntN(90))
	}).Step())
	assert.Zero(t, even.Step())
	assert.Zero(t, (&Habit{Type: value.Integer, Numbers: make([]int64, 500)}).Step(), "all are 0")
}

// A moment is day days after the first of 2024, a Monday, and some hours.
func moment(day, hour, minute int) float64 {
	return float64((19723+int64(day))*value.Day + (int64(hour)*60+int64(minute))*value.Day/1440)
}

func TestCalendarsAreLearned(t *testing.T) {
	office := numbersLike(value.Timestamp, 0, 3000, func(r *rand.Rand) float64 {
		return moment(r.IntN(50)*7+r.IntN(5), 8+r.IntN(10), r.IntN(60))
	})
	assert.Equal(t, "hours: 8-18, weekdays: mon-fri", office.Calendar())
	always := numbersLike(value.Timestamp, 0, 3000, func(r *rand.Rand) float64 {
		return moment(r.IntN(400), r.IntN(24), r.IntN(60))
	})
	assert.Empty(t, always.Calendar())
	fridays := numbersLike(value.Date, 0, 3000, func(r *rand.Rand) float64 {
		return float64(19723 + r.IntN(50)*7 + min(r.IntN(9), 4+r.IntN(3)))
	})
	assert.Contains(t, fridays.Calendar(), "weekdays: {")
	growing := numbersLike(value.Timestamp, 0, 5000, func(r *rand.Rand) float64 {
		return moment(int(360*math.Sqrt(r.Float64())), r.IntN(24), r.IntN(60))
	})
	assert.Regexp(t, `^growth: \d+% a month$`, growing.Calendar())
	long := &Habit{Type: value.Date, Numbers: []int64{math.MinInt32, math.MaxInt32}}
	for range shapeRows {
		long.Numbers = append(long.Numbers, math.MaxInt32)
	}
	assert.NotContains(t, long.Calendar(), "growth", "millennia are no months")
}

func TestFormatsAreLearned(t *testing.T) {
	for want, text := range map[string]func(i int) string{
		"CL-[0-9]{4}":              func(i int) string { return fmt.Sprintf("CL-%04d", i*37%10000) },
		"[A-Z][0-9]{1,3}/[0-9]{2}": func(i int) string { return fmt.Sprintf("%c%d/2%d", 'A'+i%7, i, i%9) },
		`[0-9]{3}\.[a-z]{2}`:       func(i int) string { return fmt.Sprintf("%03d.%c%c", i, 'a'+i%7, 'b'+i%9) },
		"[A-Z]{3}":                 func(i int) string { return fmt.Sprintf("%c%cX", 'A'+i%7, 'B'+i%5) },
		"":                         func(i int) string { return fmt.Sprintf("%010d", i) }, // somebody's number
		"\x00two words":            func(i int) string { return []string{"Ada Low", "Bo Stone"}[i%2] },
		"\x00not of ASCII":         func(i int) string { return fmt.Sprintf("é%d", i) },
		"\x00empty":                func(i int) string { return "" },
	} {
		f := formats{}
		for i := range 200 {
			f.note(text(i))
		}
		if want != "" && want[0] == 0 {
			want = ""
		}
		assert.Equal(t, want, f.pattern(5))
	}
	f := formats{}
	for i := range 15 {
		f.note(fmt.Sprintf("X%d", i))
	}
	assert.Empty(t, f.pattern(5), "too few to hide one among")
}

func TestDependencesAreLearned(t *testing.T) {
	table := &schema.Table{Name: "jobs", Columns: []*schema.Column{
		{Name: "id", Kind: schema.Integer}, {Name: "state", Kind: schema.Text, Length: 10},
		{Name: "urgent", Kind: schema.Boolean}, {Name: "ended", Kind: schema.Date},
	}, PrimaryKey: []string{"id"}}
	list := stateColumns(table)
	assert.Len(t, list, 2)
	for i := range 300 {
		state := []string{"open", "done", "gone"}[i%3]
		row := []value.Value{value.Int(int64(i)), value.String(state), value.Int(int64(i % 2)), {}}
		if state != "open" {
			row[3] = value.Int(5)
		}
		for _, s := range list {
			s.note(row)
		}
	}
	d := depend(table, list, 3, 5)
	assert.Equal(t, &Dependence{"state", []value.Value{value.String("done"), value.String("gone")}}, d)
	assert.Nil(t, depend(table, list, 3, 101), "each value must occur that often")
	assert.Nil(t, depend(table, list, 1, 5), "state itself is never NULL")
}

func TestChildrenAreCounted(t *testing.T) {
	parents := map[string]uint64{}
	for i := range 60 {
		parents[fmt.Sprint(i)] = uint64(1 + i%3)
	}
	c := childrenOf(parents, 90, 5)
	assert.Equal(t, "{0: 33, 1: 22, 2: 22, 3: 22}", c.Weights)
	assert.EqualValues(t, 0, c.Least)
	assert.EqualValues(t, 3, c.Most)
	parents["rare"] = 977
	c = childrenOf(parents, 90, 5)
	assert.NotContains(t, c.Weights, "977", "what one row has is not told")
	assert.EqualValues(t, 3, c.Most)
	assert.Empty(t, childrenOf(map[string]uint64{"a": 3}, 1, 5).Weights)
	assert.Empty(t, childrenOf(nil, 50, 5).Weights)
}

// Whatever the numbers are, a shape is one that a plan can be given, and nothing fails.
func FuzzHabits(f *testing.F) {
	f.Add(int64(1), int64(50), uint8(0), uint8(1))
	f.Add(int64(math.MinInt64), int64(math.MaxInt64), uint8(9), uint8(2))
	f.Fuzz(func(t *testing.T, a, b int64, scale, kind uint8) {
		r := rand.New(rand.NewPCG(uint64(a), uint64(b)))
		types := []value.Type{value.Integer, value.Decimal, value.Date, value.Timestamp}
		h := &Habit{Type: types[kind%4], Scale: scale % 10}
		for range 150 {
			h.Numbers = append(h.Numbers, a/2+int64(r.Float64()*float64(b/4)))
		}
		slices.Sort(h.Numbers)
		h.Shape()
		h.Step()
		h.Calendar()
		c := &schema.Column{Kind: schema.Integer}
		if h.Type == value.Date || h.Type == value.Timestamp {
			c.Kind = schema.Timestamp
		}
		for _, s := range h.spans(c) {
			assert.NotEmpty(t, s.Text)
		}
	})
}
