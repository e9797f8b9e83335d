package report

import (
	"bytes"
	"encoding/xml"
	"fmt"
	"image/png"
	"io"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestChartsAreDrawn(t *testing.T) {
	line := func(name string, y ...float64) Line {
		l := Line{Name: name, Y: y}
		for i := range y {
			l.X = append(l.X, []float64{100, 1000, 10000}[i])
		}
		return l
	}
	many := Panel{Title: "many that end alike", X: "rows", Y: "rows per second"}
	for i := range 14 {
		many.Lines = append(many.Lines, line(fmt.Sprintf("way %d", i), 500, 500, 500+float64(i)))
	}
	for name, c := range map[string]Chart{
		"two panels": {Title: "Ways", Panels: []Panel{{Title: "a", X: "x", Y: "y",
			Lines: []Line{line("slow", 10, 12, 11),
				{Name: "fast", Strong: true, X: []float64{100, 1000}, Y: []float64{1e6, 2e6}}}}, many}},
		"one point": {Panels: []Panel{{Lines: []Line{line("a", 7)}}}},
		"nothing":   {},
		"no lines":  {Panels: []Panel{{Title: "a"}}},
	} {
		b, err := c.Draw("png")
		require.NoError(t, err, name)
		picture, err := png.Decode(bytes.NewReader(b))
		require.NoError(t, err, name)
		assert.Equal(t, 1280, picture.Bounds().Dx())
		assert.Equal(t, 800, picture.Bounds().Dy())
		b, err = c.Draw("svg")
		require.NoError(t, err, name)
		d := xml.NewDecoder(bytes.NewReader(b))
		for err == nil {
			_, err = d.Token()
		}
		assert.Equal(t, io.EOF, err, name)
	}
	_, err := Chart{}.Draw("gif")
	assert.ErrorContains(t, err, "png or svg")
}

func TestTicksArePowersOfTen(t *testing.T) {
	assert.Equal(t, []float64{1000, 10_000, 100_000}, ticks(900, 200_000))
	assert.Equal(t, []float64{5000, 10_000, 20_000}, ticks(4000, 30_000), "a short scale has more")
}

func TestChartsEscapeNames(t *testing.T) {
	l := Line{Name: `<a> & "b"`, X: []float64{1, 10}, Y: []float64{1, 10}}
	b, err := Chart{Title: "<t>", Panels: []Panel{{Lines: []Line{l}}}}.Draw("svg")
	require.NoError(t, err)
	assert.Contains(t, string(b), "&lt;a&gt; &amp;")
	assert.Contains(t, string(b), "&lt;t&gt;")
}
