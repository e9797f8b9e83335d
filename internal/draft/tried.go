package draft

import (
	"cmp"
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

// values grows values of a source; nil if it is none.
func values(s Source, n int) []value.Value {
	text := "name: probe\nseed: probe\nclock: " + clock + "\nentities:\n  Probe:\n    rows: " + strconv.Itoa(
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
	clock  = "2026-05-01T08:00:00Z"
	probes = 128 // values by which a source is tried
)

// passes is the share of a source's values that a column takes.
func passes(c *schema.Column, d *domain, s Source) float64 {
	if s.Text == "" {
		return 0 // NULL would pass
	}
	list := values(s, probes)
	if len(list) == 0 {
		return 0
	}
	good := 0
	for _, v := range list {
		if takes(c, d, v) {
			good++
		}
	}
	return float64(good) / float64(len(list))
}

// takes reports whether a column can hold a value: its type, its length, its conditions.
func takes(c *schema.Column, d *domain, v value.Value) bool {
	if v.Type == value.Text {
		if c.Length > 0 && utf8.RuneCountInString(v.S) > c.Length {
			return false
		}
		if c.Narrow && strings.IndexFunc(v.S, func(r rune) bool { return r > 126 }) >= 0 {
			return false
		}
	}
	for _, k := range d.conditions {
		if !k.Holds([]value.Value{v}) {
			return false
		}
	}
	return true
}

// takesAny reports whether a column takes one of many values of some sources.
func takesAny(c *schema.Column, d *domain, sources []Source) bool {
	const many = 2000
	return slices.ContainsFunc(sources, func(s Source) bool {
		return slices.ContainsFunc(values(s, many), func(v value.Value) bool { return takes(c, d, v) })
	})
}

// admits reports whether a column takes every value of a source.
func admits(c *schema.Column, d *domain, s Source) bool {
	if s.Text == "" || c.Kind == schema.Text && c.Length > 0 && !fitsLength(s, c.Length) {
		return false
	}
	if len(d.conditions) == 0 && (!c.Narrow || strings.HasPrefix(s.Text, "{pattern")) {
		return true
	}
	return passes(c, d, s) >= 1
}

var kindName = regexp.MustCompile(`^\{kind: ([a-z0-9-]+)`)

// longestProse is how many characters texts of a kind have at most, with room to spare.
var longestProse = map[string]int{"sentence": 160, "comment": 80, "headline": 90, "log-line": 90, "error-message": 60,
	"support-request": 120, "product-description": 120, "commit-message": 90, "words": 80, "paragraph": 1000}

// fitsLength reports whether the texts of a source are short enough, as far as that can be
// told without growing some.
func fitsLength(s Source, length int) bool {
	m := kindName.FindStringSubmatch(s.Text)
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
		return length >= cmp.Or(longestProse[m[1]], 4000)
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
	for _, v := range values(s, probes) {
		if utf8.RuneCountInString(v.String()) > length {
			return false
		}
	}
	return true
}
