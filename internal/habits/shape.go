package habits

import (
	"fmt"
	"math"
	"slices"
	"strings"

	"evensprout/internal/value"
)

// shapeRows is how many numbers are needed to tell how they are distributed.
const shapeRows = 100

// Standard distances of a normal distribution, in standard deviations.
const (
	quartiles    = 1.349 // from the first quartile to the third
	flattest     = 0.48  // the quartiles' share of the 5th to the 95th percentile: normal 0.41, even 0.56
	mostLopsided = 1.5   // the longer side of a distribution that counts as even-sided, by the shorter
	lopsided     = 2.0   // the same, of one that counts as lognormal
)

// Shape says how numbers are distributed, as a plan writes it; empty if evenly, or if there are too few.
func (h *Habit) Shape() string {
	if len(h.Numbers) < shapeRows || h.Type != value.Integer && h.Type != value.Decimal {
		return ""
	}
	q := func(share float64) float64 { return float64(h.Numbers[int(share*float64(len(h.Numbers)-1))]) }
	low, middle, high := q(0.05), q(0.5), q(0.95)
	lower, upper, inner := middle-low, high-middle, q(0.75)-q(0.25)
	switch {
	case lower <= 0 || upper <= 0 || inner <= 0:
		return ""
	case q(0.01) >= 0 && middle > 0 && upper > lopsided*lower:
		return fmt.Sprintf("shape: {lognormal: {median: %s, p95: %s}}", h.rounded(middle), h.rounded(high))
	case max(lower, upper) < mostLopsided*min(lower, upper) && inner/(high-low) < flattest:
		return fmt.Sprintf("shape: {normal: {mean: %s, spread: %s}}", h.rounded(middle), h.rounded(inner/quartiles))
	}
	return ""
}

// rounded is a number of two significant digits, so that it is nobody's.
func (h *Habit) rounded(n float64) string { return h.Shown(twoDigits(n)) }

// twoDigits rounds a number, in units of the last place, to two significant digits.
func twoDigits(n float64) int64 {
	unit := math.Pow10(max(int(math.Floor(math.Log10(max(math.Abs(n), 1))))-1, 0))
	return int64(math.Round(n/unit) * unit)
}

// Step is the greatest number of which all numbers are multiples; 0 if it is the smallest that there is.
func (h *Habit) Step() int64 {
	if len(h.Numbers) < shapeRows || h.Type != value.Integer && h.Type != value.Decimal {
		return 0
	}
	g := int64(0)
	for _, n := range h.Numbers {
		if g = divisor(g, n); g == 1 || g == -1 {
			return 0
		}
	}
	return max(g, -g)
}

// divisor is the greatest common divisor of two numbers.
func divisor(a, b int64) int64 {
	for b != 0 {
		a, b = b, a%b
	}
	return a
}

// Shown is a number as a plan writes it.
func (h *Habit) Shown(n int64) string {
	return value.Value{Type: value.Decimal, Scale: h.Scale, N: n}.String()
}

// Limits on what is told of moments.
const (
	nearlyAll   = 0.98
	hardlyAny   = 0.02
	mostHours   = 16   // that count as opening hours
	unequalDays = 22.5 // the chi-square of seven days that chance exceeds once in a thousand times
	monthDays   = 30.0
	fewMonths   = 4
	leastGrowth = 0.02 // a month
	likely      = 0.5  // share of the variance that the growth explains
)

var dayNames = []string{"mon", "tue", "wed", "thu", "fri", "sat", "sun"}

// Calendar says which moments are frequent, as a plan writes it: hours and days of the week, those of UTC, and growth.
func (h *Habit) Calendar() string {
	return strings.Join(
		slices.DeleteFunc([]string{h.Week(), h.growth()}, func(s string) bool { return s == "" }),
		", ",
	)
}

// Week says which hours and days of the week are frequent, as a plan writes it.
func (h *Habit) Week() string {
	if len(h.Numbers) < shapeRows || h.Type != value.Timestamp && h.Type != value.Date {
		return ""
	}
	var hours [24]float64
	var days [7]float64
	for _, n := range h.Numbers {
		d, rest := n, int64(0)
		if h.Type == value.Timestamp {
			d, rest = floor(n, value.Day)
			hours[rest/(value.Day/24)]++
		}
		_, weekday := floor(d+3, 7) // 1 January 1970 was a Thursday
		days[weekday]++
	}
	var out []string
	all := float64(len(h.Numbers))
	if h.Type == value.Timestamp {
		if text := opening(hours, all); text != "" {
			out = append(out, text)
		}
	}
	if text := week(days, all); text != "" {
		out = append(out, text)
	}
	return strings.Join(out, ", ")
}

// floor divides rounding down.
func floor(n, by int64) (quotient, rest int64) {
	rest = ((n % by) + by) % by
	return (n - rest) / by, rest
}

// opening are the hours in which nearly all moments lie, if they are not most of a day.
func opening(hours [24]float64, all float64) string {
	for length := 1; length <= mostHours; length++ {
		for from := 0; from+length <= 24; from++ {
			sum := 0.0
			for _, n := range hours[from : from+length] {
				sum += n
			}
			if sum >= nearlyAll*all {
				if length == 1 {
					return "" // of dates without a time
				}
				return fmt.Sprintf("hours: %d-%d", from, from+length)
			}
		}
	}
	return ""
}

// week are the days on which moments lie, if these are not all alike.
func week(days [7]float64, all float64) string {
	if days[5]+days[6] < hardlyAny*all {
		return "weekdays: mon-fri"
	}
	chi := 0.0
	for _, n := range days {
		chi += (n - all/7) * (n - all/7) / (all / 7)
	}
	if chi < unequalDays {
		return ""
	}
	var out []string
	for i, n := range days {
		if w := math.Round(n*7/all*10) / 10; w != 1 && w > 0 {
			out = append(out, fmt.Sprintf("%s: %g", dayNames[i], w))
		}
	}
	if out == nil {
		return ""
	}
	return "weekdays: {" + strings.Join(out, ", ") + "}"
}

// growth is by how much more moments there are in a month than in the one before, on the line of least squares through
// the logarithms of the months' counts.
func (h *Habit) growth() string {
	day := int64(1)
	switch {
	case h.Type == value.Timestamp:
		day = value.Day
	case h.Type != value.Date:
		return ""
	}
	if len(h.Numbers) < shapeRows {
		return ""
	}
	first, last := h.Numbers[0]/day, h.Numbers[len(h.Numbers)-1]/day
	months := int(float64(last-first) / monthDays) // the last one, which is not whole, does not count
	if months < fewMonths || months > 1200 {
		return ""
	}
	counts := make([]float64, months)
	for _, n := range h.Numbers {
		if m := int(float64(n/day-first) / monthDays); m < months {
			counts[m]++
		}
	}
	var sx, sy, sxx, sxy, syy float64
	for x, n := range counts {
		y := math.Log(n + 1)
		sx, sy, sxx, sxy, syy = sx+float64(x), sy+y, sxx+float64(x*x), sxy+float64(x)*y, syy+y*y
	}
	n := float64(months)
	dx, dy, d := n*sxx-sx*sx, n*syy-sy*sy, n*sxy-sx*sy
	if dx == 0 || dy <= 0 || d*d/(dx*dy) < likely {
		return ""
	}
	rate := math.Exp(d/dx) - 1
	if rate < leastGrowth || rate > 1 {
		return ""
	}
	return fmt.Sprintf("growth: %.0f%% a month", rate*100)
}
