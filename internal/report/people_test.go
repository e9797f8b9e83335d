package report

import (
	"bytes"
	"errors"
	"testing"

	"github.com/stretchr/testify/assert"

	"evensprout/internal/safe"
)

func TestWhatActsOnATerminalIsWrittenOut(t *testing.T) {
	for in, want := range map[string]string{
		"plain é 日本 🙂\n\t": "plain é 日本 🙂\n\t", "\x1b[31mred": `\x1b[31mred`, "a\rb": `a\rb`, "\x07": `\x07`,
		"\u009b31m": `\u009b31m`, "\x9b31m": `\x9b31m`, "a\u202eb": `a\u202eb`, "\u2066x\u2069": `\u2066x\u2069`,
		"\x1b]0;title\x07": `\x1b]0;title\x07`, "\x1b]52;c;aGk=\x07": `\x1b]52;c;aGk=\x07`, "\b\b": `\x08\x08`,
		"\x7f": `\x7f`, "\u2028": `\u2028`, "\xff\xfe": `\xff\xfe`, "\ufffd": "\ufffd", "\x00": `\x00`,
	} {
		assert.Equal(t, want, safe.Visible(in), "%q", in)
		var b bytes.Buffer
		NewWriter(&b, false).Write([]byte(in))
		assert.Equal(t, want, b.String(), "%q", in)
		b.Reset()
		NewWriter(&b, true).Write([]byte(in))
		assert.Equal(t, want, b.String(), "%q", in)
	}
	var b bytes.Buffer
	p := Page{Color: true, Width: 80}
	own := p.Alarm(
		"error:",
	) + p.Good(
		"fine",
	) + p.Dim(
		"x",
	) + p.Bold(
		"y",
	) + p.Draw(
		Table{Columns: []Column{{Name: "A\x1b[2J"}}, Rows: [][]string{{"b\x1b[31m\u202e"}}},
	)
	NewWriter(&b, true).Write([]byte(own))
	assert.Equal(t, own, b.String(), "the page's own styles stay")
	assert.NotContains(t, own, "\x1b[2J")
	assert.NotContains(t, own, "\x1b[31m")
	assert.NotContains(t, own, "\u202e")
	b.Reset()
	NewWriter(&b, false).Write([]byte(own))
	assert.NotContains(t, b.String(), "\x1b")
}

type full struct{}

func (full) Write([]byte) (int, error) { return 0, errors.New("no room") }

func TestErrorsOfOutputAreRemembered(t *testing.T) {
	w := NewWriter(full{}, false)
	w.Write([]byte("a"))
	assert.Error(t, w.Err())
	e := &Exact{To: full{}}
	e.Write([]byte("a"))
	assert.Error(t, e.Err())
}
