// Package canvas draws lines, areas and texts, as SVG or PNG.
package canvas

import (
	"bytes"
	"encoding/xml"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"math"
	"strings"
	"sync"

	"golang.org/x/image/font"
	"golang.org/x/image/font/gofont/gobold"
	"golang.org/x/image/font/gofont/goregular"
	"golang.org/x/image/font/opentype"
	"golang.org/x/image/math/fixed"
	"golang.org/x/image/vector"

	"evensprout/internal/safe"
)

// Point is a place on a canvas, in pixels from the left and from the top.
type Point struct{ X, Y float64 }

// At is a point.
func At(x, y float64) Point { return Point{x, y} }

// Anchor is the part of a text that stands at its point.
type Anchor int

// The anchors of texts.
const (
	Start Anchor = iota
	Middle
	End
)

// Label is a text on a canvas. Its Point is on the baseline; size is in pixels.
type Label struct {
	At     Point
	Text   string
	Size   float64
	Anchor Anchor
	Bold   bool
	Color  color.RGBA
}

// Canvas is what pictures are drawn on.
type Canvas interface {
	// Line joins points.
	Line(points []Point, width float64, c color.RGBA)
	// Fill fills the area that points enclose.
	Fill(points []Point, c color.RGBA)
	Text(l Label)
	// Open begins what belongs together, with a name for readers of the picture, and where a click on it leads, such as
	// #a-part-of-the-page; empty: nowhere. Close ends it.
	Open(name, link string)
	Close()
	// End returns the picture's bytes.
	End() ([]byte, error)
}

// New is a canvas of a format, svg or png; nil if there is no such format.
func New(format string, width, height int) (Canvas, error) {
	switch format {
	case "svg":
		return newSVG(width, height), nil
	case "png":
		return newPNG(width, height)
	}
	return nil, fmt.Errorf("a picture must be png or svg, got %q", format)
}

// Measure is how wide a text is, in pixels, in the font of PNG files. Other fonts differ by some percent.
func Measure(text string, size float64, bold bool) (float64, error) {
	all, err := fonts()
	if err != nil {
		return 0, err
	}
	of := all.regular
	if bold {
		of = all.bold
	}
	face, err := opentype.NewFace(of, &opentype.FaceOptions{Size: size, DPI: 72, Hinting: font.HintingFull})
	if err != nil {
		return 0, err
	}
	defer face.Close()
	return float64(font.MeasureString(face, text)) / 64, nil
}

// typefaces are those of PNG files.
type typefaces struct{ regular, bold *opentype.Font }

// fonts are the Go fonts, read once: they never change.
var fonts = sync.OnceValues(func() (typefaces, error) {
	regular, err := opentype.Parse(goregular.TTF)
	if err != nil {
		return typefaces{}, err
	}
	bold, err := opentype.Parse(gobold.TTF)
	return typefaces{regular, bold}, err
})

// svgCanvas writes SVG 1.1.
type svgCanvas struct {
	b      bytes.Buffer
	linked bool // what is open is a link
}

func newSVG(width, height int) *svgCanvas {
	c := &svgCanvas{}
	fmt.Fprintf(&c.b, `<svg xmlns="http://www.w3.org/2000/svg" width="%d" height="%d" viewBox="0 0 %d %d" `+
		`font-family="sans-serif">`+"\n"+`<rect width="100%%" height="100%%" fill="#ffffff"/>`+"\n",
		width, height, width, height)
	return c
}

func hexOf(c color.RGBA) string { return fmt.Sprintf("#%02x%02x%02x", c.R, c.G, c.B) }

func pointsOf(points []Point) string {
	var b strings.Builder
	for i, p := range points {
		if i > 0 {
			b.WriteByte(' ')
		}
		fmt.Fprintf(&b, "%.1f,%.1f", p.X, p.Y)
	}
	return b.String()
}

func (c *svgCanvas) Line(points []Point, width float64, of color.RGBA) {
	fmt.Fprintf(&c.b, `<polyline points="%s" fill="none" stroke="%s" stroke-width="%.1f" `+
		`stroke-linejoin="round"/>`+"\n",
		pointsOf(points), hexOf(of), width)
}

func (c *svgCanvas) Fill(points []Point, of color.RGBA) {
	fmt.Fprintf(&c.b, `<polygon points="%s" fill="%s"/>`+"\n", pointsOf(points), hexOf(of))
}

func (c *svgCanvas) Text(l Label) {
	more := ""
	if l.Bold {
		more = ` font-weight="bold"`
	}
	fmt.Fprintf(&c.b, `<text x="%.1f" y="%.1f" font-size="%.0f" text-anchor="%s" fill="%s"%s>`,
		l.At.X, l.At.Y, l.Size, []string{"start", "middle", "end"}[l.Anchor], hexOf(l.Color), more)
	xml.EscapeText(&c.b, []byte(safe.Visible(l.Text))) // a buffer takes all
	c.b.WriteString("</text>\n")
}

func (c *svgCanvas) Open(name, link string) {
	c.linked = link != ""
	if c.linked {
		c.b.WriteString(`<a href="`)
		xml.EscapeText(&c.b, []byte(link))
		c.b.WriteString(`">`)
	}
	c.b.WriteString("<g><title>")
	xml.EscapeText(&c.b, []byte(safe.Visible(name)))
	c.b.WriteString("</title>\n")
}

func (c *svgCanvas) Close() {
	c.b.WriteString("</g>\n")
	if c.linked {
		c.b.WriteString("</a>\n")
		c.linked = false
	}
}

func (c *svgCanvas) End() ([]byte, error) {
	c.b.WriteString("</svg>\n")
	return c.b.Bytes(), nil
}

// pngCanvas draws pixels.
type pngCanvas struct {
	image *image.RGBA
	fonts typefaces
	err   error // of fonts
}

func newPNG(width, height int) (*pngCanvas, error) {
	c := &pngCanvas{image: image.NewRGBA(image.Rect(0, 0, width, height))}
	for i := range c.image.Pix {
		c.image.Pix[i] = 0xff
	}
	var err error
	c.fonts, err = fonts()
	return c, err
}

func (c *pngCanvas) Fill(points []Point, of color.RGBA) {
	box := boundsOf(points).Intersect(c.image.Bounds())
	r := vector.NewRasterizer(box.Dx(), box.Dy())
	for i, p := range points {
		x, y := float32(p.X-float64(box.Min.X)), float32(p.Y-float64(box.Min.Y))
		if i == 0 {
			r.MoveTo(x, y)
			continue
		}
		r.LineTo(x, y)
	}
	r.ClosePath()
	r.Draw(c.image, box, image.NewUniform(of), image.Point{})
}

// boundsOf is the smallest rectangle of whole pixels around points.
func boundsOf(points []Point) image.Rectangle {
	var box image.Rectangle
	for _, p := range points {
		at := image.Rect(int(math.Floor(p.X)), int(math.Floor(p.Y)), int(math.Ceil(p.X))+1, int(math.Ceil(p.Y))+1)
		box = box.Union(at)
	}
	return box
}

func (c *pngCanvas) Line(points []Point, width float64, of color.RGBA) {
	for i, p := range points {
		if i > 0 {
			q := points[i-1]
			long := math.Hypot(p.X-q.X, p.Y-q.Y)
			if long == 0 {
				continue
			}
			dx, dy := (p.Y-q.Y)/long*width/2, (q.X-p.X)/long*width/2
			c.Fill([]Point{{q.X + dx, q.Y + dy}, {p.X + dx, p.Y + dy}, {p.X - dx, p.Y - dy}, {q.X - dx, q.Y - dy}}, of)
		}
		if width > 1.5 { // a round join
			c.Fill(Polygon(p, width/2, 12, 0), of)
		}
	}
}

func (c *pngCanvas) Text(l Label) {
	of := c.fonts.regular
	if l.Bold {
		of = c.fonts.bold
	}
	face, err := opentype.NewFace(of, &opentype.FaceOptions{Size: l.Size, DPI: 72, Hinting: font.HintingFull})
	if err != nil {
		c.err = err
		return
	}
	defer face.Close()
	d := font.Drawer{Dst: c.image, Src: image.NewUniform(l.Color), Face: face}
	wide := float64(d.MeasureString(l.Text)) / 64
	x := l.At.X - wide*float64(l.Anchor)/2
	d.Dot = fixed.Point26_6{X: fixed.Int26_6(x * 64), Y: fixed.Int26_6(l.At.Y * 64)}
	d.DrawString(l.Text)
}

func (c *pngCanvas) Open(string, string) {}
func (c *pngCanvas) Close()              {}

func (c *pngCanvas) End() ([]byte, error) {
	if c.err != nil {
		return nil, c.err
	}
	var b bytes.Buffer
	err := png.Encode(&b, c.image)
	return b.Bytes(), err
}

// Polygon is a regular one around a point; turn is where it begins, in parts of a whole turn from
// the top.
func Polygon(at Point, radius float64, corners int, turn float64) []Point {
	var out []Point
	for i := range corners {
		angle := 2 * math.Pi * (turn + float64(i)/float64(corners))
		out = append(out, Point{at.X + radius*math.Sin(angle), at.Y - radius*math.Cos(angle)})
	}
	return out
}
