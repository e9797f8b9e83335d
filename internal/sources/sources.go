// Package sources is where fields of a draft get their values: the text of a source as a plan writes it, how many
// different values it has, and some of them.
package sources

import (
	"cmp"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"evensprout/internal/grow"
	"evensprout/internal/plan"
	"evensprout/internal/schema"
	"evensprout/internal/value"
)

// Source is where a field gets its values, as a flow mapping of YAML.
type Source struct {
	Text    string
	Space   uint64 // how many different values there are; 0 if they cannot be made to differ
	Fixed   bool   // the same in every row
	Follows bool   // it follows from another field
	Own     string // the column of its own row that it repeats, if any
	Alone   bool   // its values differ by themselves
	Longest int    // characters of a pattern's longest text; 0 if not known

	Why   string // what its numbers stand for, where they do not tell
	Plain string // of a part of a draw: the source that it stands for
}

// Countable is a source with so many different values.
func Countable(text string, space uint64) Source { return Source{Text: text, Space: space} }

// With adds a modifier to a source.
func (s Source) With(modifier string) string {
	if !strings.HasSuffix(s.Text, "}") {
		return s.Text
	}
	return strings.TrimSuffix(s.Text, "}") + ", " + modifier + "}"
}

// Chosen is a source that picks from values, as far as the column can hold them.
func Chosen(c *schema.Column, values []value.Value) Source {
	seen := map[string]bool{}
	var items []string
	for _, v := range values {
		text := v.String()
		switch {
		case v.IsNull():
			continue
		case isWritten(c, v):
			if c.Length > 0 && utf8.RuneCountInString(text) > c.Length {
				continue
			}
			text = plan.Scalar(text)
			if v.Type != value.Text {
				text = strconv.Quote(v.String())
			}
		case c.Kind == schema.Boolean:
			text = strconv.FormatBool(isYes(v))
		case c.Kind == schema.Date && v.Type == value.Timestamp:
			text = value.Value{Type: value.Date, N: v.N / value.Day}.String()
		case v.Type == value.Text:
			text = v.S // a number or moment in quotes
		}
		if key := value.Fold(text); !seen[key] {
			seen[key] = true
		}
		if !slices.Contains(items, text) {
			items = append(items, text)
		}
	}
	return Countable("{choose: ["+strings.Join(items, ", ")+"]}", uint64(len(seen)))
}

// isYes reads a value as a truth: 1, true and yes are true.
func isYes(v value.Value) bool {
	s := strings.ToLower(v.S)
	return v.N != 0 || strings.HasPrefix(s, "t") || strings.HasPrefix(s, "y")
}

// isWritten reports whether a column holds a value as text.
func isWritten(c *schema.Column, v value.Value) bool {
	return c.Kind == schema.Text || c.Kind == schema.Bytes || c.Kind == schema.Any && v.Type == value.Text
}

// ChosenTexts is a source that picks from texts.
func ChosenTexts(values []string) Source {
	list := make([]value.Value, len(values))
	for i, v := range values {
		list[i] = value.String(v)
	}
	return Chosen(&schema.Column{Kind: schema.Text}, list)
}

// Patterned is a source of a pattern; without values if it cannot be one.
func Patterned(pattern string) Source {
	s := Source{Text: "{pattern: " + plan.Scalar(pattern) + "}"}
	src, err := grow.Pattern(pattern)
	if err != nil {
		return Source{}
	}
	if c, ok := src.(grow.Countable); ok && grow.Distinct(src) {
		s.Space = c.Space()
	}
	_, s.Longest = grow.LongestText(src)
	return s
}

// Values grows values of a source; nil if it is none.
func Values(s Source, n int) []value.Value {
	text := "name: probe\nseed: probe\nclock: " + Clock + "\nentities:\n  Probe:\n    rows: " + strconv.Itoa(
		n,
	) + "\n    fields:\n      value: " + s.Text + "\n"
	p, err := plan.Read("probe.yaml", []byte(text))
	if err != nil {
		return nil
	}
	c, err := p.Compile(plan.Options{})
	if err != nil {
		return nil
	}
	defer c.Close()
	g := grow.NewGrower(c.Set)
	defer g.Close()
	e := c.Targets[0].Grow
	at := slices.IndexFunc(e.Fields, func(f *grow.Field) bool { return f.Name == "value" })
	var b grow.Batch
	g.Grow(e, grow.Row{}, n, &b)
	out := make([]value.Value, n)
	for i := range out {
		out[i] = b.Row(i)[at]
	}
	return out
}

const (
	// Clock is that of the plan that grows the values of a source.
	Clock  = "2026-05-01T08:00:00Z"
	Probes = 128 // Values by which a source is tried
)

// KindName finds the name of the kind in a source.
var KindName = regexp.MustCompile(`^\{kind: ([a-z0-9-]+)`)

// LongestProse is how many characters texts of a kind have at most, with room to spare.
var LongestProse = map[string]int{"sentence": 160, "comment": 80, "headline": 90, "log-line": 90, "error-message": 60,
	"support-request": 120, "product-description": 120, "commit-message": 90, "words": 80, "paragraph": 1000}

// FitsLength reports whether the texts of a source are short enough, as far as that can be
// told without growing some.
func FitsLength(s Source, length int) bool {
	if s.Longest > 0 {
		return s.Longest <= length
	}
	m := KindName.FindStringSubmatch(s.Text)
	if m == nil {
		if p, ok := strings.CutPrefix(s.Text, "{uuid"); ok {
			return p != "" && length >= 36
		}
		return !strings.HasPrefix(s.Text, "{pattern") && !strings.HasPrefix(s.Text, "{choose") ||
			passesLength(s, length)
	}
	kinds := grow.Kinds()
	i := slices.IndexFunc(kinds, func(k grow.Kind) bool { return k.Name == m[1] })
	if i < 0 {
		return false
	}
	if kinds[i].Space() == 0 {
		return length >= cmp.Or(LongestProse[m[1]], 4000)
	}
	src, err := grow.NewKind(kinds[i], grow.KindOptions{})
	if err != nil {
		return false
	}
	_, n := grow.LongestText(src)
	return n <= length
}

// passesLength reports whether a source's texts are short enough.
func passesLength(s Source, length int) bool {
	for _, v := range Values(s, Probes) {
		if utf8.RuneCountInString(v.String()) > length {
			return false
		}
	}
	return true
}

// SpaceOf is how many values a source has that a name suggests.
func SpaceOf(text string) uint64 {
	if m := KindName.FindStringSubmatch(text); m != nil {
		for _, k := range grow.Kinds() {
			if k.Name == m[1] {
				return k.Space()
			}
		}
	}
	if p, ok := strings.CutPrefix(text, "{pattern: \""); ok {
		return Patterned(strings.TrimSuffix(p, "\"}")).Space
	}
	if strings.HasPrefix(text, "{choose") {
		return uint64(strings.Count(text, ",") + 1)
	}
	return 0
}

// Span writes a range of days as the column's type.
func Span(c *schema.Column, lo, hi int64) Source {
	if hi < lo {
		return Source{}
	}
	if c.Kind == schema.Date {
		return Countable(fmt.Sprintf("{between: [%s, %s]}", ShownDay(lo), ShownDay(hi)), uint64(hi-lo+1))
	}
	return Countable(
		fmt.Sprintf("{between: [%sT00:00:00Z, %sT23:59:59Z]}", ShownDay(lo), ShownDay(hi)),
		uint64(hi-lo+1)*86_400,
	)
}

// ShownDay writes a number of days since 1970 as a date.
func ShownDay(n int64) string { return value.Value{Type: value.Date, N: n}.String() }

// Seconds is the source of whole numbers that count seconds since 1970, from one day to before another one, and the
// least and the greatest of them. Days count since 1970, too.
func Seconds(first, end int64) (s Source, least, most int64) {
	const day = 86_400
	least, most = first*day, end*day-1
	s = Countable(fmt.Sprintf("{between: [%d, %d]}", least, most), uint64(most-least)+1)
	s.Why = fmt.Sprintf("seconds since 1970: %s to %s", ShownDay(first), ShownDay(end-1))
	return s, least, most
}
