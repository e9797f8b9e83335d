package value

import (
	"fmt"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"
)

// FilterNames lists the filters of templates; N stands for a number.
var FilterNames = []string{"lower", "upper", "title", "slug", "ascii", "trim:N", "pad:N"}

// Filter changes a text.
type Filter struct {
	Name  string
	Apply func(b []byte, from int) []byte // changes b[from:]
}

// trimmed cuts a text behind its first n characters.
func trimmed(n int) func(b []byte, from int) []byte {
	return func(b []byte, from int) []byte {
		runes := 0
		for i := from; i < len(b); {
			if runes == n {
				return b[:i]
			}
			_, size := utf8.DecodeRune(b[i:])
			i += size
			runes++
		}
		return b
	}
}

// padded puts zeros before a text of fewer than n characters.
func padded(n int) func(b []byte, from int) []byte {
	return func(b []byte, from int) []byte {
		for missing := n - utf8.RuneCount(b[from:]); missing > 0; missing-- {
			b = append(b, 0)
			copy(b[from+1:], b[from:])
			b[from] = '0'
		}
		return b
	}
}

// NewFilter makes a filter of what stands in a template, such as slug or trim:8.
func NewFilter(text string) (Filter, error) {
	name, arg, has := strings.Cut(text, ":")
	n := 0
	if name == "trim" || name == "pad" {
		var err error
		if n, err = strconv.Atoi(arg); err != nil || n < 1 || n > 10_000 {
			return Filter{}, fmt.Errorf("%s needs a number from 1 to 10000, such as %s:8", name, name)
		}
	} else if has {
		return Filter{}, fmt.Errorf("filter %q takes no number", name)
	}

	f := Filter{Name: name}
	switch name {
	case "lower":
		f.Apply = whole(asciiLower, strings.ToLower)
	case "upper":
		f.Apply = whole(asciiUpper, strings.ToUpper)
	case "title":
		f.Apply = whole(nil, TitleCase)
	case "slug":
		f.Apply = whole(nil, Slug)
	case "ascii":
		f.Apply = whole(asciiAlready, ToASCII)
	case "trim":
		f.Apply = trimmed(n)
	case "pad":
		f.Apply = padded(n)
	default:
		return Filter{}, fmt.Errorf("there is no filter %q: the filters are %s", name, strings.Join(FilterNames, ", "))
	}
	return f, nil
}

// whole makes a filter of a function on strings, with a way in place for ASCII: it
// returns false at the first other letter. What it did to the letters before does no
// harm to the full function.
func whole(ascii func([]byte) bool, full func(string) string) func([]byte, int) []byte {
	return func(b []byte, from int) []byte {
		if ascii != nil && ascii(b[from:]) {
			return b
		}
		return append(b[:from], full(string(b[from:]))...)
	}
}

// Case tables for ASCII; other bytes stay as they are.
var (
	lowerCase = caseTable('A', 'Z', 'a'-'A')
	upperCase = caseTable('a', 'z', 'A'-'a')
)

// caseTable maps the bytes between two by a distance, and the others to themselves.
func caseTable(from, to byte, by int) (t [256]byte) {
	for i := range t {
		t[i] = byte(i)
		if byte(i) >= from && byte(i) <= to {
			t[i] = byte(i + by)
		}
	}
	return t
}

func asciiLower(b []byte) bool { return mapASCII(b, &lowerCase) }
func asciiUpper(b []byte) bool { return mapASCII(b, &upperCase) }

// mapASCII changes every byte, without a branch, and reports whether all are ASCII.
func mapASCII(b []byte, table *[256]byte) bool {
	all := byte(0)
	for i, x := range b {
		b[i] = table[x]
		all |= x
	}
	return all < utf8.RuneSelf
}

// asciiAlready reports whether all bytes are ASCII.
func asciiAlready(b []byte) bool {
	for _, x := range b {
		if x >= utf8.RuneSelf {
			return false
		}
	}
	return true
}

// TitleCase begins every word with a capital letter.
func TitleCase(s string) string {
	begin := true
	return strings.Map(func(r rune) rune {
		was := begin
		begin = !unicode.IsLetter(r) && !unicode.IsDigit(r) && r != '\'' && r != '’'
		if was {
			return unicode.ToTitle(r)
		}
		return r
	}, s)
}

// Slug keeps lower-case ASCII letters and digits, joined by single hyphens.
func Slug(s string) string {
	var b strings.Builder
	gap := false
	for _, r := range strings.ToLower(ToASCII(s)) {
		if r >= 'a' && r <= 'z' || r >= '0' && r <= '9' {
			if gap && b.Len() > 0 {
				b.WriteByte('-')
			}
			gap = false
			b.WriteRune(r)
		} else if r != '\'' {
			gap = true
		}
	}
	return b.String()
}
