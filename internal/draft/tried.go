package draft

import (
	"slices"
	"strings"
	"unicode/utf8"

	"evensprout/internal/schema"
	"evensprout/internal/sources"
	"evensprout/internal/value"
)

// passes is the share of a source's values that a column takes.
func passes(c *schema.Column, d *domain, s Source) float64 {
	if s.Text == "" {
		return 0 // NULL would pass
	}
	list := sources.Values(s, sources.Probes)
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
func takesAny(c *schema.Column, d *domain, tries []Source) bool {
	const many = 2000
	return slices.ContainsFunc(tries, func(s Source) bool {
		return slices.ContainsFunc(sources.Values(s, many), func(v value.Value) bool { return takes(c, d, v) })
	})
}

// admits reports whether a column takes every value of a source.
func admits(c *schema.Column, d *domain, s Source) bool {
	if s.Text == "" || c.Kind == schema.Text && c.Length > 0 && !sources.FitsLength(s, c.Length) {
		return false
	}
	if len(d.conditions) == 0 && (!c.Narrow || strings.HasPrefix(s.Text, "{pattern")) {
		return true
	}
	return passes(c, d, s) >= 1
}
