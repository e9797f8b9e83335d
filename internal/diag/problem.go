package diag

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
)

// Problem is one thing that is wrong with a plan, and where.
type Problem struct {
	File     string `json:"file"`
	Line     int    `json:"line"`   // from 1; 0 if it is about the whole file
	Column   int    `json:"column"` // from 1, in characters
	Message  string `json:"message"`
	Hint     string `json:"hint,omitempty"` // what to do
	Excerpt  string `json:"excerpt,omitempty"`
	Database bool   `json:"database,omitempty"` // the plan is fine, but this database does not fit it
	Warning  bool   `json:"warning,omitempty"`  // it may go well all the same

	Unlisted bool `json:"-"` // there are too many others: it is not shown
}

// String shows the problem as file:line:column, an excerpt and a hint.
func (p *Problem) String() string {
	plain := func(s string) string { return s }
	return p.Show(plain, plain)
}

// Place is where the problem is, as file:line:column.
func (p *Problem) Place() string {
	at := p.File
	if p.Line > 0 {
		at += fmt.Sprintf(":%d", p.Line)
		if p.Column > 0 {
			at += fmt.Sprintf(":%d", p.Column)
		}
	}
	return at
}

// Show is String with the place and the mark set apart by the functions.
func (p *Problem) Show(place, mark func(string) string) string {
	var b strings.Builder
	b.WriteString(place(p.Place() + ":"))
	b.WriteByte(' ')
	if p.Warning {
		b.WriteString("warning: ")
	}
	b.WriteString(p.Message)
	if p.Excerpt != "" {
		margin := fmt.Sprintf("%6d | ", p.Line)
		line, before := p.window()
		fmt.Fprintf(
			&b,
			"\n%s%s\n%s| %s%s",
			margin,
			line,
			strings.Repeat(" ", len(margin)-2),
			strings.Repeat(" ", before),
			mark("^"),
		)
	}

	if p.Hint != "" {
		b.WriteString("\n         " + strings.ReplaceAll(p.Hint, "\n", "\n         "))
	}
	return b.String()
}

// window cuts a long line around the place, and tells how far in that is.
func (p *Problem) window() (string, int) {
	const most = 100
	runes := []rune(strings.ReplaceAll(p.Excerpt, "\t", " "))
	from := 0
	if p.Column > most-20 {
		from = min(p.Column-most/2, len(runes))
	}
	return string(runes[from:min(len(runes), from+most)]), max(0, p.Column-1-from)
}

// Problems is everything found wrong with a plan at once.
type Problems []*Problem

// Error shows all problems, in the order of the file.
func (ps Problems) Error() string {
	plain := func(s string) string { return s }
	return ps.Show(plain, plain)
}

// Headline is the first problem in one line, and how many others there are.
func (ps Problems) Headline() string {
	if len(ps) == 0 {
		return ""
	}
	line := ps[0].Place() + ": " + ps[0].Message
	if more := len(ps) - 1; more > 0 {
		line += " (and " + Count(more, "more problem", "more problems") + ")"
	}
	return line
}

// Show is Error with places and marks set apart by the functions.
func (ps Problems) Show(place, mark func(string) string) string {
	const most = 100
	var lines []string
	for i, p := range ps {
		if i == most {
			lines = append(lines, fmt.Sprintf("... and %d more", len(ps)-most))
			break
		}
		lines = append(lines, p.Show(place, mark))
	}
	return strings.Join(lines, "\n")
}

// Errors are the problems that are not warnings.
func (ps Problems) Errors() Problems { return ps.where(func(p *Problem) bool { return !p.Warning }) }

// Warnings are the problems that may go well.
func (ps Problems) Warnings() Problems { return ps.where(func(p *Problem) bool { return p.Warning }) }

// where returns the problems that a function wants.
func (ps Problems) where(want func(*Problem) bool) Problems {
	var out Problems
	for _, p := range ps {
		if want(p) {
			out = append(out, p)
		}
	}
	return out
}

// OnlyDatabase reports whether the plan itself is fine.
func (ps Problems) OnlyDatabase() bool {
	return !slices.ContainsFunc(ps, func(p *Problem) bool { return !p.Database })
}

// Sort puts what must be mended before what may go well, each in the order of the file.
func (ps Problems) Sort() {
	weight := func(p *Problem) int {
		if p.Warning {
			return 1
		}
		return 0
	}
	slices.SortStableFunc(ps, func(a, b *Problem) int {
		return cmp.Or(
			cmp.Compare(weight(a), weight(b)),
			cmp.Compare(a.File, b.File),
			cmp.Compare(a.Line, b.Line),
			cmp.Compare(a.Column, b.Column),
		)
	})
}

// Advise sets what to do about a problem.
func (p *Problem) Advise(format string, args ...any) *Problem {
	p.Hint = fmt.Sprintf(format, args...)
	return p
}

// Nearest sets the hint to the name that was most likely meant, if one is near;
// else, if there are few, to all of them.
func (p *Problem) Nearest(wrong string, names []string) *Problem {
	if p.Unlisted {
		return p
	}
	if near := Nearest(wrong, names); near != "" {
		return p.Advise("did you mean %q?", near)
	}
	if len(names) > 0 && len(names) <= 30 {
		sorted := slices.Clone(names)
		slices.Sort(sorted)
		return p.Advise("known: %s", strings.Join(sorted, ", "))
	}
	return p
}
