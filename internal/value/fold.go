package value

import (
	"strings"
	"unicode"
	"unicode/utf8"

	"golang.org/x/text/unicode/norm"
)

// Fold brings text to the form in which it must be unique on every engine:
// compatibility decomposition, no marks, case folded, trimmed. (The default
// collation of one engine holds "Émile", "emile" and "emile " for equal.) Its
// tables are those of golang.org/x/text as pinned in go.mod; a golden test
// notices if an upgrade changes them.
func Fold(s string) string {
	if isLowerASCII(s) {
		return strings.Trim(s, " ")
	}
	if !utf8.ValidString(s) {
		s = strings.ToValidUTF8(s, "\ufffd") // else what follows is not decomposed
	}
	var b strings.Builder
	b.Grow(len(s))
	for _, r := range norm.NFKD.String(s) {
		if unicode.Is(unicode.M, r) {
			continue
		}
		if t, ok := plainLetters[r]; ok {
			b.WriteString(strings.ToLower(t))
			continue
		}
		b.WriteRune(foldRune(r))
	}
	return strings.Trim(b.String(), " \t\u00a0")
}

// foldRune returns the lower-case letter of a rune's folding orbit.
func foldRune(r rune) rune {
	if r < utf8.RuneSelf {
		if r >= 'A' && r <= 'Z' {
			r += 'a' - 'A'
		}
		return r
	}
	least := r
	for f := unicode.SimpleFold(r); f != r; f = unicode.SimpleFold(f) {
		if f < least && !unicode.Is(unicode.M, f) { // iota folds with a mark, too
			least = f
		}
	}
	return unicode.ToLower(least)
}

// isLowerASCII reports whether folding leaves a text as it is.
func isLowerASCII(s string) bool {
	for i := range len(s) {
		if c := s[i]; c >= utf8.RuneSelf || c >= 'A' && c <= 'Z' || c < ' ' {
			return false
		}
	}
	return true
}

// IsASCII reports whether a text has ASCII letters alone.
func IsASCII(s string) bool {
	for i := range len(s) {
		if s[i] >= utf8.RuneSelf {
			return false
		}
	}
	return true
}

// plainLetters are letters that no decomposition takes to ASCII.
var plainLetters = map[rune]string{
	'ß': "ss", 'ẞ': "SS", 'æ': "ae", 'Æ': "AE", 'œ': "oe", 'Œ': "OE", 'ø': "o", 'Ø': "O",
	'đ': "d", 'Đ': "D", 'ð': "d", 'Ð': "D", 'þ': "th", 'Þ': "TH", 'ł': "l", 'Ł': "L",
	'ħ': "h", 'Ħ': "H", 'ı': "i", 'ŋ': "ng", 'Ŋ': "NG", 'ŧ': "t", 'Ŧ': "T", 'ĸ': "k",
	'‘': "'", '’': "'", '“': "\"", '”': "\"", '–': "-", '—': "-",
}

// ToASCII writes text with ASCII letters alone; what has none is left out.
func ToASCII(s string) string {
	if IsASCII(s) {
		return s
	}
	b := make([]byte, 0, len(s))
	for len(s) > 0 {
		if s[0] < utf8.RuneSelf {
			b, s = append(b, s[0]), s[1:]
			continue
		}
		r, size := utf8.DecodeRuneInString(s)
		if t, ok := plainLetters[r]; ok {
			b = append(b, t...)
		} else {
			for _, d := range string(norm.NFKD.PropertiesString(s).Decomposition()) {
				if d < utf8.RuneSelf {
					b = append(b, byte(d))
				} else if t, ok := plainLetters[d]; ok {
					b = append(b, t...)
				}
			}
		}
		s = s[size:]
	}
	return string(b)
}
