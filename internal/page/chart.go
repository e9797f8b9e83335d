package page

import (
	"fmt"
	"html/template"
	"math"
	"slices"
	"strings"
	"time"

	"evensprout/internal/diag"
	"evensprout/internal/report"
	"evensprout/internal/value"
)

// The size of pictures, in the units of their view box.
const (
	wide = 320.0
	high = 64.0
)

// NewChart draws the distribution of a field's values; of says what was counted.
func NewChart(s report.Spread, of string) *Chart {
	c := &Chart{Of: of, Facts: factsOf(s), spread: s}
	counts, starts := s.Counts, s.Starts
	c.Heading = "From"
	if counts == nil {
		counts, starts, c.Heading = s.Lengths, textsOf(s.LengthStarts), "Length, from"
	}
	switch {
	case len(counts) > 1 && (s.Counts != nil || len(s.Choices) == 0):
		c.Picture = histogram(counts, "Rows by steps from "+starts[0]+" to "+starts[len(starts)-1])
		c.Caption = captionOf(counts, starts, s.Counts == nil)
		c.Bars = barsOf(report.Gather(starts, counts), s.Rows-s.Nulls)
	case len(s.Choices) > 0 && len(s.Choices) <= 12:
		c.Heading, c.Open = "Value", true
		c.Bars = barsOf(s.Choices, s.Rows-s.Nulls)
	}
	if len(s.Common) > 0 && !c.Open {
		var most []string
		for _, x := range s.Common[:min(3, len(s.Common))] {
			most = append(most, fmt.Sprintf("%s (%s)", short(x.Value, 30), diag.Number(x.Count)))
		}
		c.Facts = append(c.Facts, "most frequent: "+strings.Join(most, ", "))
	}
	return c
}

// Beside marks a chart of a table that shows the same as the planned one.
func (c *Chart) Beside(planned *Chart) {
	if planned == nil {
		return
	}
	a, b := c.spread, planned.spread
	c.Same = a.Rows == b.Rows && a.Nulls == b.Nulls && a.Distinct == b.Distinct && slices.Equal(a.Counts, b.Counts) &&
		slices.Equal(a.Lengths, b.Lengths) && slices.Equal(a.Choices, b.Choices)
}

// factsOf are the numbers beside a chart.
func factsOf(s report.Spread) []string {
	facts := []string{"NULL " + report.Percent(s.Nulls, s.Rows)}
	switch {
	case s.Distinct < 0:
	case s.Distinct == s.Rows-s.Nulls && s.Distinct > 1:
		facts = append(facts, "each value once")
	default:
		facts = append(facts, diag.Count(s.Distinct, "different value", "different values"))
	}
	if s.Counts != nil {
		facts = append(facts, plainMoment(s.Least)+" to "+plainMoment(s.Most))
	}
	if s.Longest > 0 {
		if s.Shortest == s.Longest {
			return append(facts, s.Length(s.Longest))
		}
		facts = append(facts, fmt.Sprintf("%s to %s", diag.Number(s.Shortest), s.Length(s.Longest)))
	}
	return facts
}

// captionOf says what a histogram shows: its ends and its highest column.
func captionOf(counts []int, starts []string, lengths bool) string {
	most := slices.Max(counts)
	at := starts[slices.Index(counts, most)]
	what := ""
	if lengths {
		what = "length: "
	}
	return what + fmt.Sprintf("%d columns from %s to %s; the highest, from %s, has %s", len(counts),
		plainMoment(starts[0]), plainMoment(starts[len(starts)-1]), plainMoment(at), diag.Count(most, "row", "rows"))
}

// plainMoment leaves the letters out of a moment in ISO 8601.
func plainMoment(s string) string {
	if t, err := time.Parse(time.RFC3339Nano, s); err == nil {
		return strings.TrimSuffix(t.UTC().Format("2006-01-02 15:04:05"), " 00:00:00")
	}
	return s
}

// barsOf are lines with bars, as shares of the longest.
func barsOf(lines []report.Choice, whole int) []Bar {
	most := 1
	for _, c := range lines {
		most = max(most, c.Count)
	}
	var out []Bar
	for _, c := range lines {
		out = append(out, Bar{
			Label: short(plainMoment(c.Value), 60), Rows: diag.Number(c.Count), Share: report.Percent(c.Count, whole),
			Width: fmt.Sprintf("%.1f%%", 100*float64(c.Count)/float64(most)),
		})
	}
	return out
}

// histogram draws counts as columns.
func histogram(counts []int, label string) template.HTML {
	most := float64(max(1, slices.Max(counts)))
	each := wide / float64(len(counts))
	var b strings.Builder
	for i, n := range counts {
		if n == 0 {
			continue
		}
		tall := max(1, float64(n)/most*(high-2))
		fmt.Fprintf(&b, "M%.1f %.0fv-%.1fh%.1fv%.1fz", float64(i)*each, high, tall, max(0.5, each-1), tall)
	}
	return svg(wide, high, label, fmt.Sprintf(`<path class="f" d="%s"/><path class="x" d="M0 %.1fh%.0f"/>`,
		b.String(), high-0.5, wide))
}

// svg is a picture with a name for those who do not see it. What is in it is made of numbers alone.
func svg(w, h float64, label, inside string) template.HTML {
	return template.HTML(fmt.Sprintf(`<svg viewBox="0 0 %.0f %.0f" role="img" aria-label="%s">%s</svg>`,
		w, h, template.HTMLEscapeString(label), inside))
}

// calendar draws how many moments are on each day, or in each month; ok is false if there are none to show.
func calendar(values []value.Value) (picture template.HTML, caption string, ok bool) {
	days := map[int64]int{}
	least, most := int64(math.MaxInt64), int64(math.MinInt64)
	for i := range values {
		v := &values[i]
		if v.Type != value.Date && v.Type != value.Timestamp {
			continue
		}
		day := dayOf(v)
		days[day]++
		least, most = min(least, day), max(most, day)
	}
	const longest = 100 * 366
	if len(days) < 2 || most-least > longest {
		return "", "", false
	}
	from, to := time.Unix(least*86400, 0).UTC(), time.Unix(most*86400, 0).UTC()
	cells, unit := map[[2]int]int{}, "day"
	columns, lines := 0, 7
	if most-least <= 80*7 {
		monday := least - int64((int(from.Weekday())+6)%7)
		for day, n := range days {
			cells[[2]int{int(day-monday) / 7, int(day-monday) % 7}] += n
		}
		columns = int(most-monday)/7 + 1
	} else {
		unit, lines = "month", 12
		for day, n := range days {
			t := time.Unix(day*86400, 0).UTC()
			cells[[2]int{t.Year() - from.Year(), int(t.Month()) - 1}] += n
		}
		columns = to.Year() - from.Year() + 1
	}
	picture, highest := heat(cells, columns, lines, "Rows by "+unit)
	way := "a column is a week, from Monday down"
	if unit == "month" {
		way = "a column is a year, from January down"
	}
	return picture, fmt.Sprintf("%s to %s; %s; darkest: %s a %s", from.Format(time.DateOnly), to.Format(time.DateOnly),
		way, diag.Count(highest, "row", "rows"), unit), true
}

// dayOf is the number of a day since 1970.
func dayOf(v *value.Value) int64 {
	if v.Type == value.Date {
		return v.N
	}
	const day = 24 * 60 * 60 * 1_000_000
	n := v.N / day
	if v.N%day < 0 {
		n--
	}
	return n
}

// heat draws counts in a grid, darker where there are more.
func heat(cells map[[2]int]int, columns, lines int, label string) (template.HTML, int) {
	const shades, size = 5, 9
	most := 1
	for _, n := range cells {
		most = max(most, n)
	}
	var all strings.Builder
	paths := make([]strings.Builder, shades)
	for x := range columns {
		for y := range lines {
			square := fmt.Sprintf("M%d %dh8v8h-8z", x*size, y*size)
			n := cells[[2]int{x, y}]
			if n == 0 {
				all.WriteString(square)
				continue
			}
			paths[(n*shades-1)/most].WriteString(square)
		}
	}
	inside := fmt.Sprintf(`<path class="n" d="%s"/>`, all.String())
	for i := range paths {
		inside += fmt.Sprintf(`<path class="f" opacity="%.1f" d="%s"/>`, 0.2+0.2*float64(i), paths[i].String())
	}
	return svg(max(wide, float64(columns*size)), float64(lines*size), label, inside), most
}

// hours draws how many moments are in each hour of the day; ok is false if all are midnight.
func hours(values []value.Value) (picture template.HTML, caption string, ok bool) {
	counts := make([]int, 24)
	for i := range values {
		v := &values[i]
		if v.Type == value.Timestamp || v.Type == value.Time {
			const hour = 60 * 60 * 1_000_000
			counts[((v.N/hour)%24+24)%24]++
			ok = ok || v.N%(24*hour) != 0
		}
	}
	if !ok {
		return "", "", false
	}
	return histogram(counts, "Rows by hour of the day"), captionHours(counts), true
}

func captionHours(counts []int) string {
	most := slices.Max(counts)
	return fmt.Sprintf("by hour of the day, 0 to 23; most at %d: %s", slices.Index(counts, most),
		diag.Count(most, "row", "rows"))
}

// places draws points by longitude and latitude; nothing if there are too few.
func places(latitudes, longitudes []float64) template.HTML {
	if len(latitudes) < 2 {
		return ""
	}
	south, north := slices.Min(latitudes), slices.Max(latitudes)
	west, east := slices.Min(longitudes), slices.Max(longitudes)
	if north-south > 180 || east-west > 360 {
		return ""
	}
	narrow := math.Cos((south + north) / 2 * math.Pi / 180) // a degree of longitude is so much shorter
	scale := 300 / max((east-west)*narrow, north-south, 0.0001)
	w, h := (east-west)*narrow*scale+20, (north-south)*scale+20
	var b strings.Builder
	for i := range latitudes {
		fmt.Fprintf(&b, "M%.1f %.1fh0", 10+(longitudes[i]-west)*narrow*scale, 10+(north-latitudes[i])*scale)
	}
	return svg(w, h, fmt.Sprintf("%d places from %.2f to %.2f north, %.2f to %.2f east", len(latitudes), south, north,
		west, east), fmt.Sprintf(`<path class="p" d="%s"/>`, b.String()))
}

func textsOf(numbers []int) []string {
	var out []string
	for _, n := range numbers {
		out = append(out, diag.Number(n))
	}
	return out
}

// short cuts a text to a number of characters.
func short(s string, most int) string {
	n := 0
	for i := range s {
		if n == most {
			return s[:i] + "…"
		}
		n++
	}
	return s
}
