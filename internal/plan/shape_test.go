package plan

import (
	"sort"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestShapesAndCalendars(t *testing.T) {
	rows := grown(t, `  Visit:
    rows: 3000
    fields:
      score: {between: [0, 200], shape: {normal: {mean: 100, spread: 15}}}
      fee:   {between: [1.00, 900.00], shape: {lognormal: {median: 20, p95: 120}}}
      begin: {before: clock, within: 300d, hours: 9-17, weekdays: mon-fri, rush: 10, growth: 4% a month, step: 15m}
      end:   {after: begin, within: 20m..90m, step: 5m}
      night: {after: begin, within: 5d, hours: 22-6, step: 1h}
      day:   {between: [2025-01-01, 2025-12-31], weekdays: {fri: 3, sun: 0}, season: {dec: 4, jul: 0}}
`, "Visit")
	var fees, scores []float64
	number := func(s string) float64 {
		x, err := strconv.ParseFloat(s, 64)
		require.NoError(t, err)
		return x
	}
	hours := map[int]int{}
	for _, r := range rows {
		fees, scores = append(fees, number(r["fee"])), append(scores, number(r["score"]))
		begin, err := time.Parse(time.RFC3339, r["begin"])
		require.NoError(t, err)
		end, err := time.Parse(time.RFC3339, r["end"])
		require.NoError(t, err)
		night, err := time.Parse(time.RFC3339, r["night"])
		require.NoError(t, err)
		assert.Zero(t, begin.Minute()%15)
		assert.True(t, begin.Hour() >= 9 && begin.Hour() < 17, r["begin"])
		assert.NotContains(t, []time.Weekday{time.Saturday, time.Sunday}, begin.Weekday())
		assert.GreaterOrEqual(t, end.Sub(begin), 20*time.Minute)
		assert.LessOrEqual(t, end.Sub(begin), 90*time.Minute)
		assert.True(t, night.Hour() >= 22 || night.Hour() < 6, r["night"])
		hours[begin.Hour()]++
		day, err := time.Parse(time.DateOnly, r["day"])
		require.NoError(t, err)
		assert.NotEqual(t, time.Sunday, day.Weekday())
		assert.NotEqual(t, time.July, day.Month())
	}
	sort.Float64s(fees)
	sort.Float64s(scores)
	assert.InDelta(t, 100, scores[1500], 2)
	assert.InDelta(t, 20, fees[1500], 1.5)
	assert.InDelta(t, 120, fees[2850], 12)
	assert.Greater(t, hours[10], 2*hours[15])
}

func TestChildrenByWeight(t *testing.T) {
	rows := grown(t, `  Person:
    rows: 1000
    fields: {orders: {count_of: Order}}
  Order:
    per: {Person: {0: 50, 1: 30, 2..4: 20}}
    fields: {note: {kind: noun}}
`, "Person")
	orders := count(rows, "orders")
	assert.Equal(t, 500, orders["0"])
	assert.Equal(t, 300, orders["1"])
	assert.Equal(t, 200, orders["2"]+orders["3"]+orders["4"])
}

// Hours outside of a day are refused, whichever of the two it is; 0-24 is the whole day.
func TestHoursOfADay(t *testing.T) {
	for hours, fine := range map[string]bool{
		"9-17": true, "22-6": true, "0-24": true, "23-24": true,
		"24-6": false, "322-6": false, "9-25": false, "9-9": false,
	} {
		p, err := Read("plan.yaml", []byte(`name: visits
edition: 1
seed: larkwater
clock: 2026-03-02T06:00:00Z
entities:
  A:
    rows: 3
    fields: {t: {before: clock, within: 90d, hours: `+hours+`}}
`))
		require.NoError(t, err)
		_, err = p.Compile(Options{})
		if fine {
			assert.NoError(t, err, hours)
			continue
		}
		assert.ErrorContains(t, err, "hours must be two hours of a day", hours)
	}
}
