package predicate

import (
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"
)

// tokenKind is the kind of a token.
type tokenKind int

const (
	tokenEnd    tokenKind = iota
	tokenName             // a plain or quoted name, or a keyword
	tokenNumber           //
	tokenText             // in quotes
	tokenSign             // an operator or a bracket
)

// token is a word, a number, a text or a sign of a condition.
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

// Error says what could not be read.
func (e *Error) Error() string { return e.Message }

// MaxLength bounds expressions, in bytes.
const MaxLength = 20_000

// signs are operators of more than one character, the longest first.
var signs = []string{"!~~*", "!~~", "~~*", "<=>", "->>", "#>>", "!~*", "@-@", "<->",
	"::", "<=", ">=", "<>", "!=", "==", "||", "&&", "~*", "!~", "~~", "->", "@>", "<@", "#>", "?|", "?&", "<<", ">>",
	"@@", "-|-", "&<", "&>"}

// scan cuts an expression into tokens.
func scan(text string) ([]token, error) {
	if len(text) > MaxLength {
		return nil, &Error{0, fmt.Sprintf("the expression is longer than %d bytes", MaxLength)}
	}
	l := lexer{text: text}
	for l.at < len(text) {
		if err := l.next(); err != nil {
			return nil, err
		}
	}
	return append(l.out, token{kind: tokenEnd, at: len(text)}), nil
}

// lexer cuts a text into tokens.
type lexer struct {
	text string
	at   int // the byte that is next
	out  []token
}

// next takes the next token, or what is skipped: spaces and comments.
func (l *lexer) next() error {
	rest := l.text[l.at:]
	r, size := utf8.DecodeRuneInString(rest)
	switch {
	case unicode.IsSpace(r):
		l.at += size
	case strings.HasPrefix(rest, "--"):
		end := strings.IndexByte(rest, '\n')
		if end < 0 {
			end = len(rest)
		}
		l.at += end
	case strings.HasPrefix(rest, "/*"):
		end := strings.Index(rest, "*/")
		if end < 0 {
			return &Error{l.at, "a comment is not closed"}
		}
		l.at += end + 2
	case r == '\'':
		return l.quoted(l.at, false)
	case r == '"' || r == '`':
		s, end, err := quoted(l.text, l.at, byte(r), false)
		if err != nil {
			return err
		}
		l.take(token{kind: tokenName, text: s, quoted: true}, end)
	case r == '[' && (len(l.out) == 0 || !bracketFollows(l.out[len(l.out)-1])):
		end := strings.IndexByte(rest, ']')
		if end < 0 {
			return &Error{l.at, "a name in brackets is not closed"}
		}
		l.take(token{kind: tokenName, text: rest[1:end], quoted: true}, l.at+end+1)
	case isDigit(rest, 0) || r == '.' && isDigit(rest, 1):
		n := numberLength(rest)
		l.take(token{kind: tokenNumber, text: rest[:n]}, l.at+n)
	case r == '_' || unicode.IsLetter(r):
		return l.word(rest[:wordLength(rest)])
	default:
		sign := rest[:size]
		for _, s := range signs {
			if strings.HasPrefix(rest, s) {
				sign = s
				break
			}
		}
		l.take(token{kind: tokenSign, text: sign}, l.at+len(sign))
	}
	return nil
}

// take adds a token, which reaches up to an end.
func (l *lexer) take(t token, end int) {
	t.at = l.at
	l.out = append(l.out, t)
	l.at = end
}

// word takes a name, or a text with a prefix: E'..', N'..', _utf8mb4'..'.
func (l *lexer) word(word string) error {
	end := l.at + len(word)
	if end < len(l.text) && l.text[end] == '\'' &&
		(strings.EqualFold(word, "e") || strings.EqualFold(word, "n") || word[0] == '_') {
		return l.quoted(end, !strings.EqualFold(word, "n"))
	}
	l.take(token{kind: tokenName, text: word}, end)
	return nil
}

// quoted takes a text whose quote stands at a place; the token begins where the lexer is.
func (l *lexer) quoted(quote int, escapes bool) error {
	s, end, err := quoted(l.text, quote, '\'', escapes)
	if err != nil {
		return err
	}
	l.take(token{kind: tokenText, text: s}, end)
	return nil
}

// isDigit reports whether there is a digit at a place.
func isDigit(text string, i int) bool { return i < len(text) && text[i] >= '0' && text[i] <= '9' }

// numberLength is how many bytes the number takes that a text begins with.
func numberLength(text string) int {
	i := 0
	for ; i < len(text); i++ {
		c := text[i]
		switch {
		case isDigit(text, i), c == '.':
		case c|0x20 == 'e' && i+1 < len(text) && strings.IndexByte("0123456789+-", text[i+1]) >= 0:
		case (c == '+' || c == '-') && text[i-1]|0x20 == 'e':
		default:
			return i
		}
	}
	return i
}

// wordLength is how many bytes the word takes that a text begins with.
func wordLength(text string) int {
	for i, r := range text {
		if r != '_' && r != '$' && !unicode.IsLetter(r) && !unicode.IsDigit(r) {
			return i
		}
	}
	return len(text)
}

// bracketFollows reports whether a bracket behind a token is an index or ARRAY's, and not
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
	return "", 0, &Error{i, "a quoted part is not closed"}
}
