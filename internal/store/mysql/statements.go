package mysql

import (
	"strings"

	"evensprout/internal/store"
)

// statement is one of a script, with the line on which it begins.
type statement struct {
	text string
	line int
}

// skipped is the length of what a text begins with and in which no delimiter counts: a quoted
// text, a comment, or one character.
func skipped(rest string) int {
	skip := 1
	switch c := rest[0]; {
	case c == '\'' || c == '"' || c == '`':
		skip = quoted(rest, c)
	case c == '#' || strings.HasPrefix(rest, "--") &&
		(len(rest) == 2 || strings.ContainsRune(" \t\r\n", rune(rest[2]))):
		if skip = strings.IndexByte(rest, '\n'); skip < 0 {
			skip = len(rest)
		}
	case strings.HasPrefix(rest, "/*"):
		if n := strings.Index(rest[2:], "*/"); n >= 0 {
			skip = n + 4
		} else {
			skip = len(rest)
		}
	}
	return skip
}

// statements cuts a script as the client does: at the delimiter, which the line DELIMITER
// changes, outside of quotes and comments.
func statements(script string) []statement {
	script = strings.TrimPrefix(script, "\ufeff")
	var out []statement
	delimiter, line := ";", 1
	begin, beginLine := 0, 1
	end := func(to int) {
		text := script[begin:to]
		trimmed := strings.TrimLeft(text, " \t\r\n")
		if strings.TrimSpace(trimmed) != "" {
			out = append(
				out,
				statement{strings.TrimSpace(trimmed), beginLine + strings.Count(text[:len(text)-len(trimmed)], "\n")},
			)
		}
	}
	for i := 0; i < len(script); {
		rest := script[i:]
		startOfLine := i == 0 || script[i-1] == '\n'
		if startOfLine && len(rest) > len("delimiter ") && strings.EqualFold(rest[:len("delimiter ")], "delimiter ") &&
			store.OnlyComments(script[begin:i]) {
			word, _, _ := strings.Cut(rest[len("delimiter "):], "\n")
			if word = strings.TrimSpace(word); word != "" {
				delimiter = word
			}
			n := strings.IndexByte(rest, '\n')
			if n < 0 {
				n = len(rest) - 1
			}
			i += n + 1
			line++
			begin, beginLine = i, line
			continue
		}
		skip := 1
		switch {
		case strings.HasPrefix(rest, delimiter):
			end(i)
			i += len(delimiter)
			begin, beginLine = i, line
			continue
		default:
			skip = skipped(rest)
		}
		skip = max(skip, 1)
		line += strings.Count(rest[:skip], "\n")
		i += skip
	}

	end(len(script))

	// What is nothing but comments is no statement.
	kept := out[:0]
	for _, s := range out {
		if !store.OnlyComments(s.text) {
			kept = append(kept, s)
		}
	}
	return kept
}

// quoted is how long a text in quotes is that begins here.
func quoted(s string, quote byte) int {
	for i := 1; i < len(s); i++ {
		switch {
		case s[i] == '\\' && quote != '`':
			i++
		case s[i] == quote && i+1 < len(s) && s[i+1] == quote:
			i++
		case s[i] == quote:
			return i + 1
		}
	}
	return len(s)
}
