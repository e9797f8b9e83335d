package plan

import (
	"fmt"
	"strings"
	"unicode/utf8"

	"evensprout/internal/diag"
)

// place is a position in a plan file, from 1; zero if there is none.
type place struct{ line, column int }

// collector gathers problems of one file.
type collector struct {
	file  string
	lines []string
	found diag.Problems
}

// What is reported of one file: whoever has more problems has another file.
const (
	maxProblems = 200
	maxExcerpt  = 1000 // bytes of a line that is shown
)

// add adds a problem that stops the plan from being used.
func (c *collector) add(at place, message string, args ...any) *diag.Problem {
	if len(c.found) >= maxProblems {
		if len(c.found) == maxProblems {
			c.found = append(
				c.found,
				&diag.Problem{
					File:    c.file,
					Message: fmt.Sprintf("these are the first %d problems; there are more", maxProblems),
				},
			)
		}
		return &diag.Problem{Unlisted: true}
	}

	p := &diag.Problem{File: c.file, Line: at.line, Column: at.column, Message: fmt.Sprintf(message, args...)}
	if at.line > 0 && at.line <= len(c.lines) {
		p.Excerpt = strings.TrimRight(c.lines[at.line-1], "\r")
		if len(p.Excerpt) > maxExcerpt {
			p.Excerpt = strings.ToValidUTF8(p.Excerpt[:maxExcerpt], "") + "..."
		}
		if !utf8.ValidString(p.Excerpt) {
			p.Excerpt = strings.ToValidUTF8(p.Excerpt, "?")
		}
	}

	c.found = append(c.found, p)
	return p
}
