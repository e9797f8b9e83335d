package report

import (
	"fmt"
	"sort"
	"strings"
	"unicode/utf8"

	"evensprout/internal/diag"
	"evensprout/internal/value"
)

// Spread is how the values of a field are distributed over some rows.
type Spread struct {
	Rows     int      `json:"rows"`
	Nulls    int      `json:"nulls"`
	Distinct int      `json:"distinct"`
	Least    string   `json:"least,omitempty"`   // of numbers and moments; of texts the shortest
	Most     string   `json:"most,omitempty"`    // or the longest
	Choices  []Choice `json:"choices,omitempty"` // if there are few different values
	Counts   []int    `json:"counts,omitempty"`  // of numbers and moments, by equal steps from least to most
}

// Choice is a value and how often it comes.
type Choice struct {
	Value string `json:"value"`
	Count int    `json:"count"`
}

const (
	fewChoices = 8  // so many different values are shown one by one
	bins       = 32 // of a histogram
)

// widen makes a range of values hold one more: by number, or by the length of texts.
func widen(least, most, v *value.Value) {
	switch {
	case least.IsNull():
		*least, *most = *v, *v
	case isOrdered(v.Type):
		if v.N < least.N {
			*least = *v
		}
		if v.N > most.N {
			*most = *v
		}
	default:
		if len(v.S) < len(least.S) {
			*least = *v
		}
		if len(v.S) > len(most.S) {
			*most = *v
		}
	}
}

// choicesOf are values by how often they occur, the most frequent first.
func choicesOf(counts map[string]int) []Choice {
	var out []Choice
	for value, n := range counts {
		out = append(out, Choice{value, n})
	}
	sort.Slice(out, func(i, j int) bool {
		a, b := out[i], out[j]
		return a.Count > b.Count || a.Count == b.Count && a.Value < b.Value
	})
	return out
}

// SpreadOf counts the values of a field; labels stand for references, and are nil
// for other fields.
func SpreadOf(values []value.Value, labels []string) Spread {
	s := Spread{Rows: len(values)}
	counts := map[string]int{}
	var least, most value.Value
	ordered := labels == nil
	for i := range values {
		v := &values[i]
		if v.IsNull() {
			s.Nulls++
			continue
		}
		text := v.String()
		if labels != nil {
			text = labels[i]
		}
		counts[text]++
		ordered = ordered && isOrdered(v.Type)
		widen(&least, &most, v)
	}

	s.Distinct = len(counts)
	if labels == nil && !least.IsNull() {
		s.Least, s.Most = least.String(), most.String()
	}
	if s.Distinct <= fewChoices || labels != nil {
		s.Choices = choicesOf(counts)
		return s
	}
	if ordered && most.N > least.N {
		s.Counts = make([]int, bins)
		width := uint64(most.N) - uint64(least.N)
		for i := range values {
			if v := &values[i]; !v.IsNull() {
				at := (uint64(v.N) - uint64(least.N)) / (width/bins + 1)
				s.Counts[at]++
			}
		}
	}
	return s
}

// isOrdered reports whether values of a type have a smallest and a greatest one worth showing.
func isOrdered(t value.Type) bool {
	switch t {
	case value.Integer, value.Decimal, value.Date, value.Time, value.Timestamp:
		return true
	}
	return false
}

// Picture draws the spread in one line: bars for a few choices or for rows referred
// to, a histogram for numbers and moments, the extremes of texts.
func (s Spread) Picture() string {
	switch {
	case s.Rows == s.Nulls:
		return "no values"
	case s.Counts != nil:
		return fmt.Sprintf("%s %s %s", s.Least, columns(s.Counts), s.Most)
	case len(s.Choices) > fewChoices:
		most, least := s.Choices[0], s.Choices[len(s.Choices)-1]
		var counts []int
		for _, c := range s.Choices {
			counts = append(counts, c.Count)
		}
		return fmt.Sprintf(
			"%s× %s %s %s× %s",
			diag.Number(most.Count),
			most.Value,
			columns(squeeze(counts, bins)),
			diag.Number(least.Count),
			least.Value,
		)
	case len(s.Choices) > 0:
		var parts []string
		for _, c := range s.Choices {
			share := float64(c.Count) / float64(s.Rows-s.Nulls)
			parts = append(parts, fmt.Sprintf("%s %s %s", c.Value, bar(share), percent(c.Count, s.Rows-s.Nulls)))
		}
		return strings.Join(parts, "  ")
	}

	short, long := utf8.RuneCountInString(s.Least), utf8.RuneCountInString(s.Most)
	if short == long {
		return diag.Count(long, "character", "characters")
	}
	return fmt.Sprintf("%d to %d characters", short, long)
}

// squeeze averages counts down to a number of columns.
func squeeze(counts []int, most int) []int {
	if len(counts) <= most {
		return counts
	}
	out := make([]int, most)
	for i := range out {
		from, to := i*len(counts)/most, (i+1)*len(counts)/most
		for _, c := range counts[from:to] {
			out[i] += c
		}
		out[i] /= to - from
	}
	return out
}

// columns draws counts as columns of eight heights, from 0.
func columns(counts []int) string {
	most := 1
	for _, c := range counts {
		most = max(most, c)
	}
	var b strings.Builder
	for _, c := range counts {
		if c == 0 {
			b.WriteRune('·')
			continue
		}
		b.WriteRune([]rune("▁▂▃▄▅▆▇█")[(c*8-1)/most])
	}
	return b.String()
}

// bar draws a share of up to ten blocks.
func bar(share float64) string {
	eighths := max(1, int(share*80+0.5))
	out := strings.Repeat("█", eighths/8)
	if rest := eighths % 8; rest > 0 {
		out += string([]rune("▏▎▍▌▋▊▉")[rest-1])
	}
	return out
}

// percent is a share for people, without a fraction.
func percent(part, whole int) string {
	if whole == 0 {
		return "-"
	}
	return fmt.Sprintf("%.1f%%", 100*float64(part)/float64(whole))
}

// SpreadTable shows the spreads of the fields of an entity.
func SpreadTable(names []string, types []string, spreads []Spread) Table {
	t := Table{
		Columns: []Column{
			{Name: "Field", Whole: true},
			{Name: "Type", Whole: true},
			{Name: "NULL", Number: true},
			{Name: "Different", Number: true},
			{Name: "Spread"},
		},
	}
	for i, s := range spreads {
		t.Rows = append(
			t.Rows,
			[]string{names[i], types[i], percent(s.Nulls, s.Rows), diag.Number(s.Distinct), s.Picture()},
		)
	}
	return t
}
