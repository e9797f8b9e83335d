package report

import (
	"cmp"
	"image/color"
	"math"
	"slices"

	"evensprout/internal/canvas"
	"evensprout/internal/diag"
)

// Chart is lines over numbers, on logarithmic axes. Panels are drawn below each other.
type Chart struct {
	Title  string
	Panels []Panel
}

// Panel is one system of axes.
type Panel struct {
	Title, X, Y string
	Lines       []Line
}

// Line is the points of one thing, in the order of X. All numbers are above 0.
type Line struct {
	Name   string
	Strong bool // it is what the chart is about
	X, Y   []float64
}

// Size and margins of charts, in pixels.
const (
	chartWidth  = 1280
	chartHeight = 800
	marginTop   = 52  // for the chart's title
	panelTop    = 52  // for the titles of a panel and of its axis
	panelBottom = 48  // for the numbers below
	marginLeft  = 110 // for the numbers beside the axis
	marginRight = 345 // for the names of the lines
)

// lineColors differ also for people who do not see all colours (Okabe and Ito 2008), and the marks
// of the lines differ as well.
var lineColors = []color.RGBA{
	{0x00, 0x72, 0xb2, 0xff}, {0xe6, 0x9f, 0x00, 0xff}, {0x00, 0x9e, 0x73, 0xff}, {0xcc, 0x79, 0xa7, 0xff},
	{0x56, 0xb4, 0xe9, 0xff}, {0x88, 0x88, 0x88, 0xff},
}

var (
	strongColor = color.RGBA{0xb0, 0x2a, 0x1c, 0xff}
	gridColor   = color.RGBA{0xe4, 0xe4, 0xe4, 0xff}
	axisColor   = color.RGBA{0x70, 0x70, 0x70, 0xff}
	black       = color.RGBA{0x10, 0x10, 0x10, 0xff}
)

// Draw makes a picture: png or svg.
func (c Chart) Draw(format string) ([]byte, error) {
	on, err := canvas.New(format, chartWidth, chartHeight)
	if err != nil {
		return nil, err
	}
	on.Text(canvas.Label{At: canvas.At(chartWidth/2, 34), Text: c.Title, Size: 22,
		Anchor: canvas.Middle, Bold: true, Color: black})
	each := float64(chartHeight-marginTop) / float64(max(1, len(c.Panels)))
	for i, p := range c.Panels {
		top := marginTop + each*float64(i)
		p.draw(on, area{marginLeft, top + panelTop, chartWidth - marginRight, top + each - panelBottom})
	}
	return on.End()
}

// area is the part of a canvas between the axes of a panel.
type area struct{ left, top, right, bottom float64 }

// scale maps numbers to pixels, logarithmically.
type scale struct{ lo, hi, from, to float64 }

func (s scale) at(v float64) float64 {
	return s.from + (s.to-s.from)*math.Log(v/s.lo)/math.Log(s.hi/s.lo)
}

// draw draws the panel: a grid, the lines, and their names at their ends.
func (p Panel) draw(on canvas.Canvas, in area) {
	on.Text(canvas.Label{At: canvas.At((in.left+in.right)/2, in.top-30), Text: p.Title, Size: 18,
		Anchor: canvas.Middle, Color: black})
	at, lo, hi := p.extent()
	if len(at) == 0 {
		return
	}
	x := scale{at[0] * 0.8, at[len(at)-1] * 1.15, in.left, in.right}
	y := scale{lo * 0.7, hi * 1.4, in.bottom, in.top}
	p.drawGrid(on, in, x, y, at)
	for i, l := range p.Lines {
		var points []canvas.Point
		for j := range l.X {
			points = append(points, canvas.At(x.at(l.X[j]), y.at(l.Y[j])))
		}
		of, width := l.look(i)
		on.Line(points, width, of)
		for _, q := range points {
			drawMark(on, i, q, of)
		}
	}
	p.drawNames(on, in, y)
}

// look is the colour of a line and its width.
func (l Line) look(i int) (color.RGBA, float64) {
	if l.Strong {
		return strongColor, 4
	}
	return lineColors[i%len(lineColors)], 2.2
}

// extent is the numbers along the axis below, in order, and the least and the greatest beside it.
func (p Panel) extent() (at []float64, lo, hi float64) {
	lo = math.Inf(1)
	for _, l := range p.Lines {
		at = append(at, l.X...)
		lo, hi = min(lo, slices.Min(l.Y)), max(hi, slices.Max(l.Y))
	}
	slices.Sort(at)
	return slices.Compact(at), lo, hi
}

// drawGrid draws the axes with their numbers: along the one below those that were measured at, along
// the other powers of ten.
func (p Panel) drawGrid(on canvas.Canvas, in area, x, y scale, at []float64) {
	const size = 14
	for _, v := range at {
		px := x.at(v)
		on.Line([]canvas.Point{canvas.At(px, in.top), canvas.At(px, in.bottom)}, 1, gridColor)
		on.Text(canvas.Label{At: canvas.At(px, in.bottom+20), Text: diag.Number(int64(v)), Size: size,
			Anchor: canvas.Middle, Color: black})
	}
	for _, v := range ticks(y.lo, y.hi) {
		py := y.at(v)
		on.Line([]canvas.Point{canvas.At(in.left, py), canvas.At(in.right, py)}, 1, gridColor)
		on.Text(canvas.Label{At: canvas.At(in.left-10, py+5), Text: diag.Number(int64(v)), Size: size,
			Anchor: canvas.End, Color: black})
	}
	corner := canvas.At(in.left, in.bottom)
	on.Line([]canvas.Point{canvas.At(in.left, in.top), corner, canvas.At(in.right, in.bottom)}, 1.2, axisColor)
	on.Text(canvas.Label{At: canvas.At(in.right+10, in.bottom+20), Text: p.X, Size: size, Color: axisColor})
	on.Text(canvas.Label{At: canvas.At(in.left-100, in.top-12), Text: p.Y, Size: size, Color: axisColor})
}

// ticks are the powers of ten between two numbers; with 2 and 5 times these where they are few.
func ticks(lo, hi float64) []float64 {
	factors := []float64{1}
	if hi/lo < 100 {
		factors = []float64{1, 2, 5}
	}
	var out []float64
	for e := math.Floor(math.Log10(lo)); e <= math.Ceil(math.Log10(hi)); e++ {
		for _, m := range factors {
			if v := m * math.Pow(10, e); v >= lo && v <= hi {
				out = append(out, v)
			}
		}
	}
	return out
}

// drawNames writes the names at the ends of the lines, apart from each other.
func (p Panel) drawNames(on canvas.Canvas, in area, y scale) {
	const apart, size = 19.0, 15
	order := make([]int, len(p.Lines))
	for i := range order {
		order[i] = i
	}
	end := func(i int) float64 { return y.at(p.Lines[i].Y[len(p.Lines[i].Y)-1]) }
	slices.SortStableFunc(order, func(a, b int) int { return cmp.Compare(end(a), end(b)) })
	places := make([]float64, len(order))
	for n, i := range order {
		if places[n] = end(i); n > 0 {
			places[n] = max(places[n], places[n-1]+apart)
		}
	}
	if n := len(places) - 1; n >= 0 && places[n] > in.bottom {
		places[n] = in.bottom
		for n--; n >= 0; n-- {
			places[n] = min(places[n], places[n+1]-apart)
		}
	}
	for n, i := range order {
		of, _ := p.Lines[i].look(i)
		on.Line([]canvas.Point{canvas.At(in.right+4, end(i)), canvas.At(in.right+20, places[n])}, 1, of)
		on.Text(canvas.Label{At: canvas.At(in.right+26, places[n]+5), Text: p.Lines[i].Name, Size: size,
			Bold: p.Lines[i].Strong, Color: of})
	}
}

// drawMark marks a point of the i-th line: a disc, a square or a triangle, filled or not.
func drawMark(on canvas.Canvas, i int, at canvas.Point, of color.RGBA) {
	const radius = 5
	shape := [][]canvas.Point{
		canvas.Polygon(at, radius, 20, 0), canvas.Polygon(at, radius+1, 4, 0.125), canvas.Polygon(at, radius+1, 3, 0),
	}[i%3]
	if i/3%2 == 0 {
		on.Fill(shape, of)
		return
	}
	on.Fill(shape, color.RGBA{0xff, 0xff, 0xff, 0xff})
	on.Line(append(shape, shape[0]), 1.6, of)
}
