package safe

import (
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"
)

// OneLine is a text in one line, fit for a comment: each run of blanks and line ends becomes one blank.
func OneLine(s string) string { return Visible(strings.Join(strings.Fields(s), " ")) }

// Visible writes out what would act on a terminal instead of being shown: control
// characters such as escape sequences begin with, those that change the direction of text,
// and bytes that are no UTF-8. Data, names, comments and messages of a database may hold
// them. Line feeds and tabs stay.
func Visible(s string) string {
	if clean(s) {
		return s
	}
	var b strings.Builder
	for i := 0; i < len(s); {
		r, n := utf8.DecodeRuneInString(s[i:])
		b.WriteString(visible(r, n, s[i]))
		i += n
	}
	return b.String()
}

// clean reports whether a text can be shown as it is.
func clean(s string) bool {
	for i := 0; i < len(s); {
		r, n := utf8.DecodeRuneInString(s[i:])
		if acts(r) || r == utf8.RuneError && n < 2 {
			return false
		}
		i += n
	}
	return true
}

// visible is the escape that stands for a character which is not shown.
func visible(r rune, n int, first byte) string {
	switch {
	case r == utf8.RuneError && n < 2:
		return fmt.Sprintf(`\x%02x`, first)
	case r == '\r':
		return `\r`
	case acts(r) && r < 0x80:
		return fmt.Sprintf(`\x%02x`, r)
	case acts(r):
		return fmt.Sprintf(`\u%04x`, r)
	}
	return string(r)
}

// acts reports whether a character does something else than to be shown.
func acts(r rune) bool {
	switch {
	case r == '\n' || r == '\t':
		return false
	case unicode.IsControl(r), r == '\u2028', r == '\u2029', r == '\u061c', r == '\u200e', r == '\u200f', r == '\ufeff':
		return true
	}
	return r >= '\u202a' && r <= '\u202e' || r >= '\u2066' && r <= '\u2069'
}
