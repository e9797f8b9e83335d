package habits

import (
	"fmt"
	"regexp"
	"strings"
	"unicode/utf8"
)

// Limits on the formats of texts.
const (
	mostFormats  = 40 // different ones of a column
	longestCode  = 40 // characters
	mostOfFormat = 95 // percent of the texts that have it
	mostDigits   = 8  // that stand alone: longer numbers may be somebody's
)

// run is characters of one class in a row.
type run struct {
	class      byte // U upper-case letters, L lower-case ones, D digits; else the character itself
	text       string
	same       bool // it is the same in all texts
	least, max int
}

// format is texts with the same classes of characters in the same order.
type format struct {
	runs  []run
	count int64
}

// formats counts the formats of a column's texts.
type formats struct {
	of    map[string]*format
	all   int64
	many  bool
	lines []int // lengths, in characters
}

// note takes a text in.
func (f *formats) note(text string) {
	f.all++
	f.lines = append(f.lines, utf8.RuneCountInString(text))
	if f.many || len(text) > longestCode || text == "" {
		return
	}
	runs := split(text)
	var key strings.Builder
	for _, r := range runs {
		key.WriteByte(r.class)
	}
	if f.of == nil {
		f.of = map[string]*format{}
	}
	known := f.of[key.String()]
	if known == nil {
		if len(f.of) == mostFormats {
			f.many = true
			return
		}
		f.of[key.String()] = &format{runs, 1}
		return
	}
	known.count++
	for i := range known.runs {
		k, r := &known.runs[i], runs[i]
		k.same = k.same && k.text == r.text
		k.least, k.max = min(k.least, r.least), max(k.max, r.max)
	}
}

// split cuts a text into runs. A character that is not of ASCII is a class of its own, x.
func split(text string) []run {
	var out []run
	for i := range len(text) {
		class := text[i]
		switch c := text[i]; {
		case c >= 'A' && c <= 'Z':
			class = 'U'
		case c >= 'a' && c <= 'z':
			class = 'L'
		case c >= '0' && c <= '9':
			class = 'D'
		case c >= 0x80 || c < ' ':
			class = 'x'
		}
		if last := len(out) - 1; last >= 0 && out[last].class == class {
			out[last].text += text[i : i+1]
			out[last].least++
			out[last].max++
			continue
		}
		out = append(out, run{class: class, text: text[i : i+1], same: true, least: 1, max: 1})
	}
	return out
}

// pattern is the format of nearly all texts as a regular expression; empty if they have none, or if it is that of words
// or of a telephone number.
func (f *formats) pattern(least int64) string {
	if f.many || f.all < 4*least {
		return ""
	}
	for key, x := range f.of {
		if x.count*100 < f.all*mostOfFormat {
			continue
		}
		letters, digits := strings.Count(key, "U"), 0
		for _, r := range x.runs {
			if r.class == 'D' {
				digits += r.max
			}
		}
		if strings.Contains(key, "x") || digits == 0 && (letters == 0 || len(x.runs) > 1) ||
			letters == 0 && digits > mostDigits {
			return ""
		}
		return written(x.runs)
	}
	return ""
}

// written are runs as a regular expression. What is the same in all texts stays.
func written(runs []run) string {
	var b strings.Builder
	for _, r := range runs {
		switch class := map[byte]string{'U': "[A-Z]", 'L': "[a-z]", 'D': "[0-9]"}[r.class]; {
		case class == "" || r.same:
			b.WriteString(regexp.QuoteMeta(r.text))
		case r.least == r.max && r.max == 1:
			b.WriteString(class)
		case r.least == r.max:
			fmt.Fprintf(&b, "%s{%d}", class, r.max)
		default:
			fmt.Fprintf(&b, "%s{%d,%d}", class, r.least, r.max)
		}
	}
	return b.String()
}
