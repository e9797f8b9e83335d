package grow

import (
	"math"
	"sort"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/value"
)

func decimal(t testing.TB, s string) *value.Value {
	t.Helper()
	v, err := value.ParseDecimal(s)
	require.NoError(t, err)
	return &v
}

// numbers are the values of a range by a shape, sorted.
func numbers(t testing.TB, lo, hi string, by Shape) []float64 {
	t.Helper()
	src := must(Shaped(must(Between(*decimal(t, lo), *decimal(t, hi), 0)), by))
	var out []float64
	for _, v := range grown(t, src, 20_000) {
		out = append(out, float64(v.N)/math.Pow10(int(v.Scale)))
	}
	sort.Float64s(out)
	return out
}

func moments(of []float64) (mean, deviation float64) {
	for _, x := range of {
		mean += x
	}
	mean /= float64(len(of))
	for _, x := range of {
		deviation += (x - mean) * (x - mean)
	}
	return mean, math.Sqrt(deviation / float64(len(of)))
}

func TestShapesHaveTheirMoments(t *testing.T) {
	normal := numbers(t, "0.00", "200.00", Shape{Name: "normal", Mean: decimal(t, "100"), Spread: decimal(t, "15")})
	mean, deviation := moments(normal)
	assert.InDelta(t, 100, mean, 0.5)
	assert.InDelta(t, 15, deviation, 0.5)
	assert.InDelta(t, 100, normal[10_000], 0.7)

	log := numbers(t, "1.00", "5000.00", Shape{Name: "lognormal", Median: decimal(t, "40"), P95: decimal(t, "200")})
	assert.InDelta(t, 40, log[10_000], 1)
	assert.InDelta(t, 200, log[19_000], 6)

	mean, _ = moments(numbers(t, "0.00", "1000.00", Shape{Name: "exponential", Mean: decimal(t, "30")}))
	assert.InDelta(t, 30, mean, 1)

	for _, name := range ShapeNames() { // without parameters, and over few values
		all := numbers(t, "1", "6", Shape{Name: name})
		assert.EqualValues(t, 1, all[0], name)
		assert.EqualValues(t, 6, all[len(all)-1], name)
	}
}

func TestShapesKeepTheirBounds(t *testing.T) {
	all := numbers(t, "90.00", "110.00", Shape{Name: "normal", Mean: decimal(t, "100"), Spread: decimal(t, "50")})
	assert.GreaterOrEqual(t, all[0], 90.0)
	assert.LessOrEqual(t, all[len(all)-1], 110.0)
	_, err := Shaped(must(Between(value.Int(0), value.Int(9), 0)), Shape{Name: "lognormal"})
	assert.ErrorContains(t, err, "above 0")
	_, err = Shaped(must(Between(value.Int(5), value.Int(9), 0)), Shape{Name: "exponential", Mean: decimal(t, "2")})
	assert.ErrorContains(t, err, "mean must be above")
	_, err = Shaped(kind("noun"), Shape{Name: "normal"})
	assert.ErrorContains(t, err, "for numbers")
}

// Ranges of one value, of very many, and parameters far outside are no trouble.
func TestShapesOfOddRanges(t *testing.T) {
	for _, ends := range [][2]int64{{5, 5}, {1, 2}, {1 << 62, math.MaxInt64}, {1, 1<<62 - 1}, {-3, 4}} {
		for _, by := range []Shape{{Name: "normal"}, {Name: "exponential"}, {Name: "lognormal"},
			{Name: "normal", Mean: decimal(t, "1000000000"), Spread: decimal(t, "1")},
			{Name: "lognormal", Median: decimal(t, "1000000"), P95: decimal(t, "1000001")}} {
			src, err := Shaped(must(Between(value.Int(ends[0]), value.Int(ends[1]), 0)), by)
			if by.Name == "lognormal" && ends[0] < 1 {
				assert.ErrorContains(t, err, "above 0")
				continue
			}
			require.NoError(t, err, "%v %v", ends, by)
			for _, v := range grown(t, src, 300) {
				assert.GreaterOrEqual(t, v.N, ends[0])
				assert.LessOrEqual(t, v.N, ends[1])
			}
		}
	}
}

func TestLogarithmsAndPowers(t *testing.T) {
	for _, x := range []int64{1, 2, 3, 10, 12345, 1 << 40} {
		ln, _ := bigLn(bigInt(x)).Float64()
		assert.InDelta(t, math.Log(float64(x)), ln, 1e-12)
		back, _ := bigExp(bigLn(bigInt(x))).Float64()
		assert.InEpsilon(t, float64(x), back, 1e-12)
	}
}

// yearOf are moments of a year by a calendar.
func yearOf(t testing.TB, c Calendar, rows int) []time.Time {
	t.Helper()
	lo, hi := must(value.ParseTimestamp("2025-01-01T00:00:00Z")), must(value.ParseTimestamp("2025-12-31T23:45:00Z"))
	src := must(Schedule(must(Between(lo, hi, 15*value.Minute)), must(NewCalendar(c))))
	var out []time.Time
	for _, v := range grown(t, src, rows) {
		at := time.UnixMicro(v.N).UTC()
		assert.Zero(t, at.Minute()%15)
		assert.Equal(t, 2025, at.Year())
		out = append(out, at)
	}
	return out
}

func TestCalendars(t *testing.T) {
	var office Calendar
	for h := 9; h < 17; h++ {
		office.Hours[h] = 10
	}
	for d := range 5 {
		office.Weekdays[d] = 10
	}
	office.Weekdays[4] = 30
	fridays := 0
	for _, at := range yearOf(t, office, 6000) {
		assert.GreaterOrEqual(t, at.Hour(), 9)
		assert.Less(t, at.Hour(), 17)
		assert.NotEqual(t, time.Saturday, at.Weekday())
		assert.NotEqual(t, time.Sunday, at.Weekday())
		if at.Weekday() == time.Friday {
			fridays++
		}
	}
	assert.InDelta(t, 6000*3/7, fridays, 150)

	var season Calendar
	season.Months[11], season.Months[6] = 3000, NoMonth
	months := map[time.Month]int{}
	for _, at := range yearOf(t, season, 6000) {
		months[at.Month()]++
	}
	assert.Zero(t, months[time.July])
	assert.InDelta(t, 3*months[time.October], months[time.December], 250)

	months = map[time.Month]int{}
	for _, at := range yearOf(t, Calendar{Growth: 100_000}, 8000) { // 10% a month
		months[at.Month()]++
	}
	assert.InDelta(t, 2.85, float64(months[time.December])/float64(months[time.January]), 0.6)
}

// Of a calendar whose hours a row cannot have, the row has another moment, and no row hangs.
func TestCalendarsWithoutRoom(t *testing.T) {
	var night Calendar
	night.Hours[3] = 10
	lo, hi := must(value.ParseTimestamp("2026-05-01T08:00:00Z")), must(value.ParseTimestamp("2026-05-01T09:00:00Z"))
	src := must(Schedule(must(Between(lo, hi, 0)), must(NewCalendar(night))))
	for _, v := range grown(t, src, 50) {
		assert.GreaterOrEqual(t, v.N, lo.N)
		assert.LessOrEqual(t, v.N, hi.N)
	}
	_, err := Schedule(must(Between(value.Int(1), value.Int(9), 0)), must(NewCalendar(night)))
	assert.ErrorContains(t, err, "for moments and dates")
	_, err = NewCalendar(Calendar{Growth: 2_000_000})
	assert.ErrorContains(t, err, "growth")
}
