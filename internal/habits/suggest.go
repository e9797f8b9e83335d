package habits

import (
	"evensprout/internal/schema"
	"evensprout/internal/sources"
	"evensprout/internal/value"
	"fmt"
	"slices"
	"strings"
)

// Suggestion is a source for the values that a column has, and what it is for people.
type Suggestion struct {
	sources.Source
	Fact string
}

// Sources are sources for values as a column has them, the closest first. former is the source that it would have, and
// rows how many have a value.
func (h *Habit) Sources(c *schema.Column, former sources.Source, isKey bool, rows int64) []Suggestion {
	switch {
	case rows == 0:
	case c.Kind == schema.Boolean:
		yes := int64(0)
		for _, f := range h.Often {
			if f.Value.N != 0 {
				yes = f.Count
			}
		}
		share := Percent(yes, rows)
		return []Suggestion{{sources.Countable("{share: "+share+"}", 2), share + " true"}}
	case h.isCodes(rows) && !isKey:
		return h.codes(c)
	case len(h.Numbers) > 0 && !isKey:
		return h.spans(c)
	case c.Kind == schema.Text:
		return h.texts(former)
	}
	return nil
}

// isCodes reports whether nearly all values of a column are among a few.
func (h *Habit) isCodes(rows int64) bool {
	isMoment := h.Type == value.Date || h.Type == value.Timestamp
	return len(h.Often) > 0 && h.Rest*20 <= rows && !isMoment && (h.Numbers == nil || len(h.Often) <= mostStates)
}

// codes are the values of a column by their frequency.
func (h *Habit) codes(c *schema.Column) []Suggestion {
	var items []string
	for _, f := range h.Often {
		chosen := sources.Chosen(c, []value.Value{f.Value}).Text
		one := strings.TrimSuffix(strings.TrimPrefix(chosen, "{choose: ["), "]}")
		if one == "" {
			return nil
		}
		items = append(items, fmt.Sprintf("%s: %d", one, f.Count))
	}
	text := "{choose: {" + strings.Join(items, ", ") + "}}"
	return []Suggestion{{sources.Countable(text, uint64(len(items))), counted(len(items))}}
}

// counted says how many codes there are.
func counted(n int) string {
	if n == 1 {
		return "1 code"
	}
	return fmt.Sprintf("%d codes", n)
}

// vague are sources of texts that say nothing of what a column means: a format says more.
var vague = []string{"title", "noun", "slug", "code", "words", "comment", "sentence", "paragraph", "adjective"}

// prose are kinds of texts by their length, the shortest first.
var prose = []string{"title", "comment", "sentence", "paragraph"}

// texts are sources for texts with a format, or of a length.
func (h *Habit) texts(former sources.Source) []Suggestion {
	kind := ""
	if m := sources.KindName.FindStringSubmatch(former.Text); m != nil {
		kind = m[1]
	}
	if !strings.HasPrefix(former.Text, "{pattern") && !slices.Contains(vague, kind) {
		return nil
	}
	if h.Pattern != "" {
		return []Suggestion{{sources.Patterned(h.Pattern), "format " + h.Pattern}}
	}
	if h.Length == 0 || !slices.Contains(prose, kind) {
		return nil
	}
	best := prose[0]
	for _, k := range prose[1:] {
		if h.Length >= typicalLength[k] {
			best = k
		}
	}
	if best == kind {
		return nil
	}
	text := "{kind: " + best + "}"
	return []Suggestion{
		{
			sources.Source{Text: text, Space: sources.SpaceOf(text)},
			fmt.Sprintf("mostly up to %d characters", h.Length),
		},
	}
}

// typicalLength is from how many characters on texts are of a kind.
var typicalLength = map[string]int{"comment": 25, "sentence": 60, "paragraph": 200}

// spans are the range that most numbers or moments lie in, its ends rounded so that they are nobody's, with
// their shape or calendar, and without.
func (h *Habit) spans(c *schema.Column) []Suggestion {
	lo, hi := h.Numbers[len(h.Numbers)/100], h.Numbers[len(h.Numbers)-1-len(h.Numbers)/100]
	day := int64(1)
	switch h.Type {
	case value.Timestamp:
		day = value.Day
		fallthrough
	case value.Date:
		lo, hi = lo/day, hi/day
		s := sources.Span(c, lo-lo%7, hi-hi%7+7)
		return withModifier(
			s,
			h.Calendar(),
			fmt.Sprintf("%s to %s", sources.ShownDay(lo-lo%7), sources.ShownDay(hi-hi%7+7)),
		)
	}
	unit := int64(1)
	for hi-lo > 100*unit {
		unit *= 10
	}
	step := h.Step()
	if step > 0 {
		unit = max(unit-unit%step, step)
	}
	down, up := lo-((lo%unit)+unit)%unit, hi
	if up%unit != 0 {
		up = hi - ((hi%unit)+unit)%unit + unit
	}
	shape := h.Shape()
	if down <= 0 && strings.HasPrefix(shape, "shape: {lognormal") {
		down = max(step, twoDigits(max(float64(lo), 1)))
	}
	if down >= up {
		return nil
	}
	text, space := fmt.Sprintf("{between: [%s, %s]}", h.Shown(down), h.Shown(up)), uint64(up-down)+1
	fact := h.Shown(down) + " to " + h.Shown(up)
	if step > 0 {
		text = sources.Source{Text: text}.With("step: " + h.Shown(step))
		space, fact = uint64(up-down)/uint64(step)+1, fact+" by "+h.Shown(step)
	}
	return withModifier(sources.Countable(text, space), shape, fact)
}

// withModifier is a source with a modifier, if there is one, and without.
func withModifier(s sources.Source, modifier, fact string) []Suggestion {
	plain := Suggestion{s, fact}
	if modifier == "" {
		return []Suggestion{plain}
	}
	return []Suggestion{{sources.Source{Text: s.With(modifier)}, fact + ", " + modifier}, plain}
}
