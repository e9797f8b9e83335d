package report

import (
	"bytes"
	"fmt"
	"image/color"
	"math"
	"slices"

	"evensprout/internal/diag"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/text"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"
	"gonum.org/v1/plot/vg/vgimg"
	"gonum.org/v1/plot/vg/vgsvg"
)

// Chart is lines over numbers, both ways on scales of powers. Panels stand below each
// other.
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

// Size of charts, in pixels of a picture.
const (
	chartWidth  = 1280
	chartHeight = 800
)

// lineColours are told apart also by people who do not see all colours (Okabe and Ito
// 2008), and by their marks.
var lineColours = []color.RGBA{
	{
		0x00,
		0x72,
		0xb2,
		0xff,
	}, {0xe6, 0x9f, 0x00, 0xff}, {0x00, 0x9e, 0x73, 0xff}, {0xcc, 0x79, 0xa7, 0xff}, {0x56, 0xb4, 0xe9, 0xff},
	{0x88, 0x88, 0x88, 0xff},
}

var lineMarks = []draw.GlyphDrawer{
	draw.CircleGlyph{},
	draw.SquareGlyph{},
	draw.PyramidGlyph{},
	draw.RingGlyph{},
	draw.BoxGlyph{},
	draw.TriangleGlyph{},
}

var strongColour = color.RGBA{0xb0, 0x2a, 0x1c, 0xff}

// Draw makes a picture: png or svg.
func (c Chart) Draw(format string) ([]byte, error) {
	const dpi = 96
	w, h := vg.Length(chartWidth)*vg.Inch/dpi, vg.Length(chartHeight)*vg.Inch/dpi
	var canvas vg.CanvasWriterTo
	var sized vg.CanvasSizer
	switch format {
	case "png":
		x := vgimg.PngCanvas{Canvas: vgimg.NewWith(vgimg.UseWH(w, h), vgimg.UseDPI(dpi))}
		canvas, sized = x, x
	case "svg":
		x := vgsvg.New(w, h)
		canvas, sized = x, x
	default:
		return nil, fmt.Errorf("a chart is drawn as png or svg, and here is %q", format)
	}
	all := draw.New(sized)
	all.SetColor(color.White)
	all.Fill(all.Rectangle.Path())
	const head = vg.Length(30)
	title := draw.TextStyle{
		Color:   color.Black,
		Font:    plot.DefaultFont,
		XAlign:  draw.XCenter,
		YAlign:  draw.YTop,
		Handler: plot.DefaultTextHandler,
	}
	title.Font.Variant, title.Font.Size = "Sans", 14
	all.FillText(title, vg.Point{X: all.Center().X, Y: all.Max.Y - 8}, c.Title)
	each := (all.Max.Y - all.Min.Y - head) / vg.Length(max(1, len(c.Panels)))
	for i, p := range c.Panels {
		top := all.Max.Y - head - each*vg.Length(i)
		if err := p.draw(draw.Canvas{Canvas: all.Canvas,
			Rectangle: vg.Rectangle{Min: vg.Point{X: all.Min.X + 12, Y: top - each + 8},
				Max: vg.Point{X: all.Max.X - 12, Y: top}}}); err != nil {
			return nil, err
		}
	}
	var b bytes.Buffer
	_, err := canvas.WriteTo(&b)
	return b.Bytes(), err
}

// powers are marks of a scale: what was measured at, or powers of ten.
type powers struct{ at []float64 }

func (t powers) Ticks(lo, hi float64) []plot.Tick {
	var out []plot.Tick
	if t.at != nil {
		for _, x := range t.at {
			out = append(out, plot.Tick{Value: x, Label: diag.Number(int64(x))})
		}
		return out
	}
	for e := math.Floor(math.Log10(lo)); e <= math.Ceil(math.Log10(hi)); e++ {
		for m := 1.0; m < 10; m++ {
			if v := m * math.Pow(10, e); v >= lo && v <= hi {
				tick := plot.Tick{Value: v}
				if m == 1 || hi/lo < 100 && (m == 2 || m == 5) {
					tick.Label = diag.Number(int64(v))
				}
				out = append(out, tick)
			}
		}
	}
	return out
}

func (p Panel) draw(c draw.Canvas) error {
	x := plot.New()
	sans := func(s *text.Style, size vg.Length) { s.Font.Variant, s.Font.Size = "Sans", size }
	x.Title.Text, x.X.Label.Text, x.Y.Label.Text = p.Title, p.X, p.Y
	sans(&x.Title.TextStyle, 12)
	sans(&x.X.Label.TextStyle, 10)
	sans(&x.Y.Label.TextStyle, 10)
	sans(&x.X.Tick.Label, 9)
	sans(&x.Y.Tick.Label, 9)
	x.Title.Padding = 4
	x.X.Scale, x.Y.Scale = plot.LogScale{}, plot.LogScale{}
	var at []float64
	for _, l := range p.Lines {
		for _, v := range l.X {
			if !slices.Contains(at, v) {
				at = append(at, v)
			}
		}
	}
	slices.Sort(at)
	x.X.Tick.Marker, x.Y.Tick.Marker = powers{at}, powers{}
	grid := plotter.NewGrid()
	grid.Vertical.Color, grid.Horizontal.Color = color.Gray{0xe4}, color.Gray{0xe4}
	x.Add(grid)
	for i, l := range p.Lines {
		points := make(plotter.XYs, len(l.X))
		for j := range points {
			points[j] = plotter.XY{X: l.X[j], Y: l.Y[j]}
		}
		line, marks, err := plotter.NewLinePoints(points)
		if err != nil {
			return err
		}
		line.Color, line.Width = lineColours[i%len(lineColours)], 1.6
		if l.Strong {
			line.Color, line.Width = strongColour, 2.8
		}
		marks.Color, marks.Shape, marks.Radius = line.Color, lineMarks[i%len(lineMarks)], 3.2
		x.Add(line, marks)
	}
	if len(at) == 0 {
		return nil
	}
	x.X.Min, x.X.Max = at[0]*0.8, at[len(at)-1]*1.15
	lo, hi := math.Inf(1), 0.0
	for _, l := range p.Lines {
		lo, hi = min(lo, slices.Min(l.Y)), max(hi, slices.Max(l.Y))
	}
	x.Y.Min, x.Y.Max = lo*0.7, hi*1.4
	// The names stand at the ends of the lines, apart from each other.
	const names, apart = vg.Length(230), vg.Length(13)
	area := c
	area.Max.X -= names
	x.Draw(area)
	data := x.DataCanvas(area)
	_, toY := x.Transforms(&data)
	order := make([]int, len(p.Lines))
	for i := range order {
		order[i] = i
	}
	end := func(i int) vg.Length { return toY(p.Lines[i].Y[len(p.Lines[i].Y)-1]) }
	slices.SortFunc(order, func(a, b int) int {
		if end(a) > end(b) {
			return -1
		}
		return 1
	})
	places := make([]vg.Length, len(order))
	for n, i := range order {
		places[n] = end(i)
		if n > 0 {
			places[n] = min(places[n], places[n-1]-apart)
		}
	}
	if n := len(places) - 1; n >= 0 && places[n] < data.Min.Y {
		places[n] = data.Min.Y
		for n--; n >= 0; n-- {
			places[n] = max(places[n], places[n+1]+apart)
		}
	}
	for n, i := range order {
		l := p.Lines[i]
		style := draw.TextStyle{
			Color:   lineColours[i%len(lineColours)],
			Font:    plot.DefaultFont,
			YAlign:  draw.YCenter,
			Handler: plot.DefaultTextHandler,
		}
		style.Font.Variant, style.Font.Size = "Sans", 10
		if l.Strong {
			style.Color, style.Font.Weight = strongColour, 2 // bold
		}
		from := vg.Point{X: data.Max.X + 3, Y: end(i)}
		to := vg.Point{X: data.Max.X + 16, Y: places[n]}
		c.StrokeLine2(draw.LineStyle{Color: style.Color, Width: 0.7}, from.X, from.Y, to.X, to.Y)
		c.FillText(style, vg.Point{X: to.X + 4, Y: to.Y}, l.Name)
	}
	return nil
}
