package report

import (
	"fmt"
	"slices"
	"sort"
	"strconv"
	"strings"
	"unicode/utf8"

	"evensprout/internal/diag"
	"evensprout/internal/value"
)

// Spread is how the values of a field are distributed over some rows.
type Spread struct {
	Rows         int      `json:"rows"`
	Nulls        int      `json:"nulls"`
	Distinct     int      `json:"distinct"`           // different values; -1 if they cannot be told apart
	Least        string   `json:"least,omitempty"`    // of numbers and moments; of texts the shortest
	Most         string   `json:"most,omitempty"`     // or the longest
	Choices      []Choice `json:"choices,omitempty"`  // if there are few different values
	Counts       []int    `json:"counts,omitempty"`   // of numbers and moments, by equal steps that hold least to most
	Starts       []string `json:"starts,omitempty"`   // the values at which these steps begin
	Shortest     int      `json:"shortest,omitempty"` // characters of texts, or bytes of binary values
	Longest      int      `json:"longest,omitempty"`
	Bytes        bool     `json:"bytes,omitempty"`         // lengths are bytes
	Lengths      []int    `json:"lengths,omitempty"`       // rows by equal steps of length
	LengthStarts []int    `json:"length_starts,omitempty"` // where these steps begin
	Common       []Choice `json:"common,omitempty"`        // the most frequent values, if not all are Choices
}

// Choice is a value and how often it comes.
type Choice struct {
	Value string `json:"value"`
	Count int    `json:"count"`
}

// The limits of what is shown.
const (
	fewChoices = 8   // so many different values are shown one by one
	bins       = 32  // of a histogram
	longValue  = 200 // characters; longer ones are not shown one by one
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
	if ordered {
		s.countSteps(values, &least, &most)
		return s
	}
	s.countLengths(values)
	if s.Distinct < s.Rows-s.Nulls && s.Longest <= longValue {
		s.Common = choicesOf(counts)[:fewChoices]
	}
	return s
}

// countSteps counts numbers or moments by equal steps.
func (s *Spread) countSteps(values []value.Value, least, most *value.Value) {
	starts := value.Steps(*least, *most, bins)
	if starts == nil {
		return
	}
	s.Counts = make([]int, len(starts))
	for i := range values {
		if !values[i].IsNull() {
			s.Counts[value.StepOf(starts, values[i])]++
		}
	}
	for _, v := range starts {
		s.Starts = append(s.Starts, v.String())
	}
	s.Starts = Days(s.Starts)
}

// Days leaves out the time of moments if all are midnight.
func Days(moments []string) []string {
	const midnight = "T00:00:00Z"
	out := make([]string, len(moments))
	for i, m := range moments {
		if !strings.HasSuffix(m, midnight) {
			return moments
		}
		out[i] = strings.TrimSuffix(m, midnight)
	}
	return out
}

// countLengths counts texts by their length, in equal steps.
func (s *Spread) countLengths(values []value.Value) {
	lengths := make([]int64, 0, len(values))
	for i := range values {
		v := &values[i]
		switch {
		case v.IsNull():
			continue
		case v.Type == value.Bytes:
			lengths, s.Bytes = append(lengths, int64(len(v.S))), true
		case v.Type == value.UUID || v.Type == value.Boolean:
			return
		default:
			lengths = append(lengths, int64(utf8.RuneCountInString(v.S)))
		}
	}
	if len(lengths) == 0 {
		return
	}
	least, most := slices.Min(lengths), slices.Max(lengths)
	s.Shortest, s.Longest = int(least), int(most)
	starts := value.Steps(value.Int(least), value.Int(most), bins)
	if starts == nil {
		return
	}
	s.Lengths = make([]int, len(starts))
	for _, n := range lengths {
		s.Lengths[value.StepOf(starts, value.Int(n))]++
	}
	for _, v := range starts {
		s.LengthStarts = append(s.LengthStarts, int(v.N))
	}
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
		ends := Days([]string{s.Least, s.Most})
		if len(s.Starts) > 0 && !strings.Contains(s.Starts[0], "T") { // the steps are days, or longer
			for i, end := range ends {
				ends[i], _, _ = strings.Cut(end, "T")
			}
		}
		return fmt.Sprintf("%s %s %s", ends[0], columns(s.Counts), ends[1])
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
			parts = append(parts, fmt.Sprintf("%s %s %s", c.Value, bar(share), Percent(c.Count, s.Rows-s.Nulls)))
		}
		return strings.Join(parts, "  ")
	}

	switch {
	case s.Lengths != nil:
		return fmt.Sprintf("%d %s %s", s.Shortest, columns(s.Lengths), s.Length(s.Longest))
	case s.Longest > 0:
		return s.Length(s.Longest)
	case s.Least == s.Most:
		return s.Least
	}
	return fmt.Sprintf("%s to %s", s.Least, s.Most)
}

// Length is a length in words: characters, or bytes.
func (s Spread) Length(n int) string {
	if s.Bytes {
		return diag.Count(n, "byte", "bytes")
	}
	return diag.Count(n, "character", "characters")
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

// Percent is a share for people, without a fraction.
func Percent(part, whole int) string {
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
		distinct := "-"
		if s.Distinct >= 0 {
			distinct = diag.Number(s.Distinct)
		}
		t.Rows = append(t.Rows, []string{names[i], types[i], Percent(s.Nulls, s.Rows), distinct, s.Picture()})
	}
	return t
}

// Bars shows a spread as a table with a bar for each value, each step or each length; ok is false if there is nothing
// to show so.
func (s Spread) Bars(p Page) (t Table, ok bool) {
	const wide = 40 // characters of the longest bar
	heading, lines := "Value", s.Choices
	switch {
	case s.Counts != nil:
		heading, lines = "From", Gather(s.Starts, s.Counts)
	case len(s.Choices) > 0:
	case s.Lengths != nil:
		heading, lines = "Length", Gather(texts(s.LengthStarts), s.Lengths)
	}
	if len(lines) == 0 {
		return t, false
	}
	t.Columns = []Column{{Name: heading, Number: heading == "Length"}, {Name: "Rows", Number: true},
		{Name: "Share", Number: true}, {Name: "", Whole: true}}
	most := 1
	for _, c := range lines {
		most = max(most, c.Count)
	}
	room := min(wide, max(10, p.Width-50))
	for _, c := range lines {
		drawn := ""
		if c.Count > 0 {
			drawn = bar(float64(c.Count) / float64(most) * float64(room) / 10)
		}
		t.Rows = append(t.Rows, []string{c.Value, diag.Number(c.Count), Percent(c.Count, s.Rows-s.Nulls), drawn})
	}
	return t, true
}

// Gather is counts by what they begin with, at most 16: neighbours are added up.
func Gather(starts []string, counts []int) []Choice {
	const most = 16
	each := (len(counts) + most - 1) / most
	var out []Choice
	for i, n := range counts {
		if i%each == 0 {
			out = append(out, Choice{Value: starts[i]})
		}
		out[len(out)-1].Count += n
	}
	return out
}

func texts(numbers []int) []string {
	out := make([]string, len(numbers))
	for i, n := range numbers {
		out[i] = strconv.Itoa(n)
	}
	return out
}
