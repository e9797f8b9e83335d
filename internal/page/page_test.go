package page

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/diagram"
	"evensprout/internal/plan"
	"evensprout/internal/report"
	"evensprout/internal/value"
)

const ports = `
name: ports
seed: s
clock: 2026-05-01T08:00:00Z
entities:
  Port:
    table: ports
    rows: 100
    fields:
      kind: {choose: {dry: 3, wet: 1}}
      latitude: {between: [36.00000, 58.00000], step: 0.00001}
      longitude: {between: [-9.00000, 20.00000], step: 0.00001}
  Trip:
    table: trips
    rows: 30000
    fields:
      to: {pick: Port, where: {kind: wet}}
      at: {before: clock, within: 300d}
      day: {between: [1990-01-01, 2025-12-31]}
      cost: {between: 1..1000}
  Stop:
    table: stops
    per: {Trip: 0..2}
    fields: {label: {pattern: "[A-Z]{3}"}}
`

func compiled(t *testing.T, text string) *plan.Compiled {
	t.Helper()
	p, err := plan.Read("ports.yaml", []byte(text))
	require.NoError(t, err)
	c, err := p.Compile(plan.Options{})
	require.NoError(t, err)
	t.Cleanup(func() { c.Close() })
	return c
}

func TestAPlanOnAPage(t *testing.T) {
	c := compiled(t, ports)
	p, err := OfPlan(t.Context(), c, diagram.OfPlan(c))
	require.NoError(t, err)
	trip := p.Entity("Trip")
	require.NotNil(t, trip)
	assert.Equal(t, []string{"to: 26 of 100 rows meet the condition; they are found once, so each row needs one draw"},
		trip.Draws)
	assert.Contains(t, string(p.Entity("Port").Places), "100 places from ")
	assert.Equal(t, "10,000 of 30,000 rows, evenly taken", trip.Fields[0].Planned.Of)
	assert.Contains(t, trip.Fields[0].Planned.Facts, "how often a row is referred to is left out")
	assert.Contains(t, trip.Fields[1].Planned.Caption, "a column is a week, from Monday down")
	assert.Contains(t, trip.Fields[2].Planned.Caption, "a column is a year, from January down")
	assert.Contains(t, trip.Fields[3].Planned.Caption, "from 0 to ")
	require.Len(t, trip.Below, 1)
	assert.Equal(t, "Stop for each Trip", trip.Below[0].Title)
	assert.Len(t, trip.Below[0].Chart.Bars, 3, "none, one or two")

	// Each link leads to a row that is there.
	ids := map[string]bool{}
	links := 0
	for _, e := range p.Entities {
		for _, r := range e.Sample.Rows {
			ids[r.ID] = true
		}
	}
	for _, e := range p.Entities {
		for _, r := range e.Sample.Rows {
			for _, cell := range r.Cells {
				if cell.Link != "" {
					links++
					assert.True(t, ids[cell.Link], cell.Link)
				}
			}
		}
	}
	assert.Positive(t, links)
	var b strings.Builder
	require.NoError(t, p.Write(&b))
	assert.Contains(t, b.String(), `<a href="#entity-Port">`, "in the diagram")
}

// What is taken from an entity is spread over all of its rows, and not its first ones.
func TestCountedRowsAreSpread(t *testing.T) {
	c := compiled(t, "name: n\nseed: s\nclock: 2026-05-01T08:00:00Z\nentities:\n  Port:\n    table: ports\n"+
		"    rows: 1000000\n    fields: {code: {count: 1}}\n")
	p, err := OfPlan(t.Context(), c, nil)
	require.NoError(t, err)
	s := p.Entity("Port").Fields[0].Planned.spread
	assert.Equal(t, 10_000, s.Rows)
	assert.Equal(t, "1", s.Least)
	assert.Greater(t, len(s.Counts), 15)
	for _, n := range s.Counts[:len(s.Counts)-1] {
		assert.InDelta(t, s.Counts[0], n, 110)
	}
}

func TestChartsOfTablesBesidePlans(t *testing.T) {
	a := NewChart(report.Spread{Rows: 4, Distinct: 2, Choices: []report.Choice{{Value: "x", Count: 3},
		{Value: "y", Count: 1}}}, "all 4 rows")
	b := NewChart(report.Spread{Rows: 4, Distinct: 2, Choices: []report.Choice{{Value: "x", Count: 2},
		{Value: "y", Count: 2}}}, "all 4 rows")
	again := *a
	again.Beside(a)
	assert.True(t, again.Same)
	b.Beside(a)
	assert.False(t, b.Same)
	assert.Equal(t, Bar{Label: "x", Rows: "3", Share: "75.0%", Width: "100.0%"}, a.Bars[0])
}

func TestCalendarsAndHours(t *testing.T) {
	var values []value.Value
	for _, s := range []string{"2026-03-02T10:30:00Z", "2026-03-02T10:40:00Z", "2026-03-15T00:00:00Z",
		"1969-12-31T23:00:00Z"} {
		v, err := value.ParseTimestamp(s)
		require.NoError(t, err)
		values = append(values, v)
	}
	_, caption, ok := calendar(values)
	assert.True(t, ok)
	assert.Contains(t, caption, "1969-12-31 to 2026-03-15")
	_, caption, ok = calendar(values[:3])
	assert.True(t, ok)
	assert.Contains(t, caption, "darkest: 2 rows a day")
	_, caption, ok = hours(values)
	assert.True(t, ok)
	assert.Equal(t, "by hour of the day, 0 to 23; most at 10: 2 rows", caption)
	_, _, ok = hours(values[2:3])
	assert.False(t, ok, "all are midnight")
	assert.Empty(t, places([]float64{1}, []float64{1}))
}
