package report

import (
	"fmt"
	"io"
	"strings"

	"github.com/jedib0t/go-pretty/v6/text"

	"evensprout/internal/diag"
)

// Live is lines on a terminal that are drawn again in their place.
type Live struct {
	to    io.Writer
	page  Page
	lines int // that are on the terminal now
}

// NewLive draws on a terminal.
func NewLive(to io.Writer, page Page) *Live { return &Live{to: to, page: page} }

// Draw puts lines in the place of those before, in one write, so that nothing flickers. Lines that are too long are
// cut: one that wraps would take two.
func (l *Live) Draw(lines []string) {
	var b strings.Builder
	l.back(&b)
	for _, line := range lines {
		b.WriteString(text.Trim(line, max(l.page.Width-1, 1)) + "\x1b[K\n") // K clears what was there before
	}
	b.WriteString("\x1b[J") // and what is below
	l.lines = len(lines)
	io.WriteString(l.to, b.String())
}

// Clear takes the lines away.
func (l *Live) Clear() {
	var b strings.Builder
	l.back(&b)
	b.WriteString("\x1b[J")
	l.lines = 0
	io.WriteString(l.to, b.String())
}

// back goes to the beginning of the first line.
func (l *Live) back(b *strings.Builder) {
	b.WriteString("\r")
	if l.lines > 0 {
		fmt.Fprintf(b, "\x1b[%dA", l.lines)
	}
}

// Step is a part of a longer work.
type Step struct {
	Name        string
	Done, Total uint64
}

// Steps shows how far steps are, with bars: at most so many lines, around the last ones that have begun.
func (p Page) Steps(steps []Step, most int) []string {
	if last := p.lastBegun(steps); len(steps) > most {
		from := min(max(last-most/2, 0), len(steps)-most)
		steps = steps[from : from+most]
	}
	name, numbers := 0, 0
	counts := make([]string, len(steps))
	for i, s := range steps {
		counts[i] = diag.Number(s.Done) + " of " + diag.Number(s.Total)
		name, numbers = max(name, text.StringWidth(s.Name)), max(numbers, len(counts[i]))
	}
	const least, widest, edges = 6, 30, 8
	wide := min(p.Width-name-numbers-edges, widest)
	out := make([]string, len(steps))
	for i, s := range steps {
		line := fmt.Sprintf("  %s  %*s", text.Pad(s.Name, name, ' '), numbers, counts[i])
		if wide >= least {
			line += "  " + progressBar(s, wide)
		}
		if s.Done == 0 && s.Total > 0 {
			line = p.Dim(line)
		}
		out[i] = line
	}
	return out
}

// lastBegun is the last step that has begun.
func (p Page) lastBegun(steps []Step) int {
	for i := len(steps) - 1; i > 0; i-- {
		if steps[i].Done > 0 {
			return i
		}
	}
	return 0
}

// progressBar is a bar of so many characters.
func progressBar(s Step, wide int) string {
	full := wide
	if s.Total > 0 {
		full = int(float64(s.Done) / float64(s.Total) * float64(wide))
	}
	return strings.Repeat("━", full) + strings.Repeat("─", wide-full)
}
