package report

import (
	"bytes"
	"encoding/xml"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"math"
	"strings"

	"golang.org/x/image/font"
	"golang.org/x/image/font/gofont/gobold"
	"golang.org/x/image/font/gofont/goregular"
	"golang.org/x/image/font/opentype"
	"golang.org/x/image/math/fixed"
	"golang.org/x/image/vector"
)

// point is a place on a canvas, in pixels from the left and from the top.
type point struct{ x, y float64 }

// anchor is the part of a text that stands at its point.
type anchor int

const (
	anchorStart anchor = iota
	anchorMiddle
	anchorEnd
)

// label is a text on a canvas. Its point is on the baseline; size is in pixels.
type label struct {
	at     point
	text   string
	size   float64
	anchor anchor
	bold   bool
	color  color.RGBA
}

// canvas is what charts are drawn on.
type canvas interface {
	// line joins points.
	line(points []point, width float64, c color.RGBA)
	// fill fills the area that points enclose.
	fill(points []point, c color.RGBA)
	text(l label)
	// end returns the picture's bytes.
	end() ([]byte, error)
}

// svgCanvas writes SVG 1.1.
type svgCanvas struct{ b bytes.Buffer }

func newSVG(width, height int) *svgCanvas {
	c := &svgCanvas{}
	fmt.Fprintf(&c.b, `<svg xmlns="http://www.w3.org/2000/svg" width="%d" height="%d" viewBox="0 0 %d %d" `+
		`font-family="sans-serif">`+"\n"+`<rect width="100%%" height="100%%" fill="#ffffff"/>`+"\n",
		width, height, width, height)
	return c
}

func hexOf(c color.RGBA) string { return fmt.Sprintf("#%02x%02x%02x", c.R, c.G, c.B) }

func pointsOf(points []point) string {
	var b strings.Builder
	for i, p := range points {
		if i > 0 {
			b.WriteByte(' ')
		}
		fmt.Fprintf(&b, "%.1f,%.1f", p.x, p.y)
	}
	return b.String()
}

func (c *svgCanvas) line(points []point, width float64, of color.RGBA) {
	fmt.Fprintf(&c.b, `<polyline points="%s" fill="none" stroke="%s" stroke-width="%.1f" `+
		`stroke-linejoin="round"/>`+"\n",
		pointsOf(points), hexOf(of), width)
}

func (c *svgCanvas) fill(points []point, of color.RGBA) {
	fmt.Fprintf(&c.b, `<polygon points="%s" fill="%s"/>`+"\n", pointsOf(points), hexOf(of))
}

func (c *svgCanvas) text(l label) {
	more := ""
	if l.bold {
		more = ` font-weight="bold"`
	}
	fmt.Fprintf(&c.b, `<text x="%.1f" y="%.1f" font-size="%.0f" text-anchor="%s" fill="%s"%s>`,
		l.at.x, l.at.y, l.size, []string{"start", "middle", "end"}[l.anchor], hexOf(l.color), more)
	xml.EscapeText(&c.b, []byte(l.text)) // a buffer takes all
	c.b.WriteString("</text>\n")
}

func (c *svgCanvas) end() ([]byte, error) {
	c.b.WriteString("</svg>\n")
	return c.b.Bytes(), nil
}

// pngCanvas draws pixels.
type pngCanvas struct {
	image         *image.RGBA
	regular, bold *opentype.Font
	err           error // of fonts
}

func newPNG(width, height int) (*pngCanvas, error) {
	c := &pngCanvas{image: image.NewRGBA(image.Rect(0, 0, width, height))}
	for i := range c.image.Pix {
		c.image.Pix[i] = 0xff
	}
	var err error
	if c.regular, err = opentype.Parse(goregular.TTF); err != nil {
		return nil, err
	}
	c.bold, err = opentype.Parse(gobold.TTF)
	return c, err
}

func (c *pngCanvas) fill(points []point, of color.RGBA) {
	box := boundsOf(points).Intersect(c.image.Bounds())
	r := vector.NewRasterizer(box.Dx(), box.Dy())
	for i, p := range points {
		x, y := float32(p.x-float64(box.Min.X)), float32(p.y-float64(box.Min.Y))
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
func boundsOf(points []point) image.Rectangle {
	var box image.Rectangle
	for _, p := range points {
		at := image.Rect(int(math.Floor(p.x)), int(math.Floor(p.y)), int(math.Ceil(p.x))+1, int(math.Ceil(p.y))+1)
		box = box.Union(at)
	}
	return box
}

func (c *pngCanvas) line(points []point, width float64, of color.RGBA) {
	for i, p := range points {
		if i > 0 {
			q := points[i-1]
			long := math.Hypot(p.x-q.x, p.y-q.y)
			if long == 0 {
				continue
			}
			dx, dy := (p.y-q.y)/long*width/2, (q.x-p.x)/long*width/2
			c.fill([]point{{q.x + dx, q.y + dy}, {p.x + dx, p.y + dy}, {p.x - dx, p.y - dy}, {q.x - dx, q.y - dy}}, of)
		}
		if width > 1.5 { // a round join
			c.fill(polygon(p, width/2, 12, 0), of)
		}
	}
}

func (c *pngCanvas) text(l label) {
	of := c.regular
	if l.bold {
		of = c.bold
	}
	face, err := opentype.NewFace(of, &opentype.FaceOptions{Size: l.size, DPI: 72, Hinting: font.HintingFull})
	if err != nil {
		c.err = err
		return
	}
	defer face.Close()
	d := font.Drawer{Dst: c.image, Src: image.NewUniform(l.color), Face: face}
	wide := float64(d.MeasureString(l.text)) / 64
	x := l.at.x - wide*float64(l.anchor)/2
	d.Dot = fixed.Point26_6{X: fixed.Int26_6(x * 64), Y: fixed.Int26_6(l.at.y * 64)}
	d.DrawString(l.text)
}

func (c *pngCanvas) end() ([]byte, error) {
	if c.err != nil {
		return nil, c.err
	}
	var b bytes.Buffer
	err := png.Encode(&b, c.image)
	return b.Bytes(), err
}

// polygon is a regular one around a point; turn is where it begins, in parts of a whole turn from
// the top.
func polygon(at point, radius float64, corners int, turn float64) []point {
	var out []point
	for i := range corners {
		angle := 2 * math.Pi * (turn + float64(i)/float64(corners))
		out = append(out, point{at.x + radius*math.Sin(angle), at.y - radius*math.Cos(angle)})
	}
	return out
}
