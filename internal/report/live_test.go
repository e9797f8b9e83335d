package report

import (
	"bytes"
	"strings"
	"testing"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/stretchr/testify/assert"
)

func TestLinesAreDrawnInTheirPlace(t *testing.T) {
	var out bytes.Buffer
	l := NewLive(&out, Page{Width: 10})
	l.Draw([]string{"one", "a line that is too long"})
	assert.Equal(t, "\rone\x1b[K\na line th\x1b[K\n\x1b[J", out.String(), "one that wrapped would take two lines")
	out.Reset()
	l.Draw([]string{"three"})
	assert.Equal(t, "\r\x1b[2Athree\x1b[K\n\x1b[J", out.String())
	out.Reset()
	l.Clear()
	assert.Equal(t, "\r\x1b[1A\x1b[J", out.String())
	out.Reset()
	l.Clear()
	assert.Equal(t, "\r\x1b[J", out.String(), "nothing is there any more")
}

func TestStepsFitTheirPage(t *testing.T) {
	var steps []Step
	for i, name := range []string{"Pier", "Passenger", "Booking", "Ticket", "Meal", "Visit", "Crew", "航路"} {
		s := Step{Name: name, Total: uint64(1000 * (i + 1))}
		if i < 4 {
			s.Done = s.Total
		}
		steps = append(steps, s)
	}
	steps[3].Done = 1000
	for _, width := range []int{20, 40, 60, 80, 200} {
		lines := Page{Width: width}.Steps(steps, 5)
		assert.Len(t, lines, 5)
		assert.Contains(t, lines[2], "Ticket", "the last that has begun stands in the middle")
		for _, line := range lines {
			if width >= 40 {
				assert.LessOrEqual(t, text.StringWidth(line), width, line)
			}
			assert.Equal(t, width >= 40, strings.ContainsAny(line, "━─"), line)
		}
	}
	assert.Contains(t, Page{Width: 60}.Steps(steps, 8)[3], "1,000 of 4,000")
	assert.Empty(t, Page{Width: 60}.Steps(nil, 5))
}
