package predicate

import (
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"
)

type tokenKind int

const (
	tokenEnd    tokenKind = iota
	tokenName             // a plain or quoted name, or a keyword
	tokenNumber           //
	tokenText             // in quotes
	tokenSign             // an operator or a bracket
)

type token struct {
	kind   tokenKind
	text   string
	quoted bool // of names: in quotes, so that it is no keyword
	at     int
}

// Error is a fault in an expression: Offset is in bytes.
type Error struct {
	Offset  int
	Message string
}

func (e *Error) Error() string { return e.Message }

// MaxLength bounds expressions, in bytes.
const MaxLength = 20_000

// signs are operators of more than one character, the longest first.
var signs = []string{"!~~*", "!~~", "~~*", "<=>", "->>", "#>>", "!~*", "@-@", "<->",
	"::", "<=", ">=", "<>", "!=", "==", "||", "&&", "~*", "!~", "~~", "->", "@>", "<@", "#>", "?|", "?&", "<<", ">>", "@@", "-|-", "&<", "&>"}

// scan cuts an expression into tokens.
func scan(text string) ([]token, error) {
	if len(text) > MaxLength {
		return nil, &Error{0, fmt.Sprintf("the expression is longer than %d bytes", MaxLength)}
	}
	var out []token
	for i := 0; i < len(text); {
		r, size := utf8.DecodeRuneInString(text[i:])
		at := i
		switch {
		case unicode.IsSpace(r):
			i += size
			continue
		case strings.HasPrefix(text[i:], "--"):
			end := strings.IndexByte(text[i:], '\n')
			if end < 0 {
				end = len(text) - i
			}
			i += end
			continue
		case strings.HasPrefix(text[i:], "/*"):
			end := strings.Index(text[i:], "*/")
			if end < 0 {
				return nil, &Error{at, "a comment does not end"}
			}
			i += end + 2
			continue
		case r == '\'':
			s, end, err := quoted(text, i, '\'', false)
			if err != nil {
				return nil, err
			}
			// Two texts behind each other are one.
			out = append(out, token{kind: tokenText, text: s, at: at})
			i = end
			continue
		case r == '"' || r == '`':
			s, end, err := quoted(text, i, byte(r), false)
			if err != nil {
				return nil, err
			}
			out = append(out, token{kind: tokenName, text: s, quoted: true, at: at})
			i = end
			continue
		case r == '[' && (len(out) == 0 || !bracketFollows(out[len(out)-1])):
			end := strings.IndexByte(text[i:], ']')
			if end < 0 {
				return nil, &Error{at, "a name in brackets does not end"}
			}
			out = append(out, token{kind: tokenName, text: text[i+1 : i+end], quoted: true, at: at})
			i += end + 1
			continue
		case r >= '0' && r <= '9' || r == '.' && i+1 < len(text) && text[i+1] >= '0' && text[i+1] <= '9':
			for i < len(text) && (text[i] >= '0' && text[i] <= '9' || text[i] == '.' || (text[i]|0x20) == 'e' && i+1 < len(text) && strings.IndexByte("0123456789+-", text[i+1]) >= 0 ||
				(text[i] == '+' || text[i] == '-') && (text[i-1]|0x20) == 'e') {
				i++
			}
			out = append(out, token{kind: tokenNumber, text: text[at:i], at: at})
			continue
		case r == '_' || unicode.IsLetter(r):
			for i < len(text) {
				r, size := utf8.DecodeRuneInString(text[i:])
				if r != '_' && r != '$' && !unicode.IsLetter(r) && !unicode.IsDigit(r) {
					break
				}
				i += size
			}
			word := text[at:i]
			// A prefix of a text: E'..', N'..', _utf8mb4'..'.
			if i < len(text) && text[i] == '\'' &&
				(strings.EqualFold(word, "e") || strings.EqualFold(word, "n") || word[0] == '_') {
				s, end, err := quoted(text, i, '\'', !strings.EqualFold(word, "n"))
				if err != nil {
					return nil, err
				}
				out = append(out, token{kind: tokenText, text: s, at: at})
				i = end
				continue
			}
			out = append(out, token{kind: tokenName, text: word, at: at})
			continue
		}
		sign := text[i : i+size]
		for _, s := range signs {
			if strings.HasPrefix(text[i:], s) {
				sign = s
				break
			}
		}
		out = append(out, token{kind: tokenSign, text: sign, at: at})
		i += len(sign)
	}
	return append(out, token{kind: tokenEnd, at: len(text)}), nil
}

// bracketFollows tells whether a bracket behind a token is an index or ARRAY's, and not
// a name in brackets.
func bracketFollows(t token) bool {
	if t.kind == tokenSign {
		return t.text == ")" || t.text == "]"
	}
	return t.kind == tokenText ||
		t.kind == tokenName && (t.quoted || strings.EqualFold(t.text, "array") || !isKeyword(t.text))
}

// quoted reads a text or name in quotes that begins at i: a doubled quote stands for
// one, with escapes also what follows a backslash.
func quoted(text string, i int, quote byte, escapes bool) (string, int, error) {
	var b strings.Builder
	for j := i + 1; j < len(text); j++ {
		switch {
		case text[j] == quote && j+1 < len(text) && text[j+1] == quote:
			j++
		case text[j] == quote:
			return b.String(), j + 1, nil
		case escapes && text[j] == '\\' && j+1 < len(text):
			j++
			switch text[j] {
			case 'n':
				b.WriteByte('\n')
				continue
			case 't':
				b.WriteByte('\t')
				continue
			case 'r':
				b.WriteByte('\r')
				continue
			}
		}
		b.WriteByte(text[j])
	}
	return "", 0, &Error{i, "what is in quotes does not end"}
}
