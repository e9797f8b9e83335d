package diagram

import (
	"fmt"
	"image/color"
	"math"
	"strings"

	"evensprout/internal/canvas"
)

// familyColors are those of heads: light ones of a set that also people tell apart who do not see all colours (Okabe
// and Ito 2008). A thick line joins the members of a family, too.
var familyColors = []color.RGBA{
	{0xc2, 0xdd, 0xf0, 0xff}, {0xfa, 0xe1, 0xb0, 0xff}, {0xbc, 0xe6, 0xd6, 0xff}, {0xf1, 0xd6, 0xe6, 0xff},
	{0xf6, 0xf3, 0xb8, 0xff}, {0xf3, 0xcf, 0xb5, 0xff}, {0xd8, 0xef, 0xfb, 0xff},
}

var (
	ink       = color.RGBA{0x1a, 0x1a, 0x1a, 0xff}
	faint     = color.RGBA{0x5f, 0x5f, 0x5f, 0xff}
	edgeColor = color.RGBA{0x4a, 0x5a, 0x6a, 0xff}
	frame     = color.RGBA{0x9a, 0xa4, 0xae, 0xff}
	alone     = color.RGBA{0xe9, 0xec, 0xef, 0xff} // the head of a box without a family
	paper     = color.RGBA{0xff, 0xff, 0xff, 0xff}
	planColor = color.RGBA{0x00, 0x5a, 0x8e, 0xff} // only the plan has it
	baseColor = color.RGBA{0xa8, 0x48, 0x00, 0xff} // only the database has it
	circle    = color.RGBA{0xb0, 0x2a, 0x1c, 0xff} // closes a circle
)

// Draw makes a picture: svg or png.
func (l *Layout) Draw(format string) ([]byte, error) {
	const mostPixels = 40_000_000
	if l.width*l.height > mostPixels && format == "png" {
		return nil, fmt.Errorf("the picture would have %.0f x %.0f pixels: SVG has no such limit, and --only and "+
			"--around show less", l.width, l.height)
	}
	on, err := canvas.New(format, int(math.Ceil(l.width)), int(math.Ceil(l.height)))
	if err != nil {
		return nil, err
	}
	d := l.diagram
	on.Text(canvas.Label{At: canvas.At(margin, margin+12), Text: d.Title, Size: 18, Bold: true, Color: ink})
	for i, e := range d.Edges {
		l.drawEdge(on, e, l.lines[i])
	}
	for i := range d.Boxes {
		on.Open(d.Boxes[i].about(), d.Boxes[i].Link)
		drawBox(on, &d.Boxes[i], l.boxes[i])
		on.Close()
	}
	y := l.height - margin - legendLine*float64(len(d.Notes))
	on.Text(canvas.Label{At: canvas.At(margin, y), Text: d.legend(), Size: textSize, Color: faint})
	for _, note := range d.Notes {
		y += legendLine
		on.Text(canvas.Label{At: canvas.At(margin, y), Text: note, Size: textSize, Color: faint})
	}
	return on.End()
}

// legend explains what is drawn.
func (d *Diagram) legend() string {
	text := "An arrow leads to what a field refers to."
	for _, b := range d.Boxes {
		if b.Order > 0 {
			text += " Numbers: the load order."
			break
		}
	}
	has := func(is func(Edge) bool) bool {
		for _, e := range d.Edges {
			if is(e) {
				return true
			}
		}
		return false
	}
	if has(func(e Edge) bool { return e.Family }) {
		text += " Thick line and same colour: rows per row of another entity."
	}
	if has(func(e Edge) bool { return e.Closing }) {
		text += " Dashed: closes a circle, written at the end."
	}
	for _, b := range d.Boxes {
		if b.differs() {
			return text + " +: only in the plan. -: only in the database."
		}
	}
	return text
}

// differs reports whether a box, or a field of it, is only in the plan or only in the database.
func (b *Box) differs() bool {
	for _, f := range b.Fields {
		if f.Mark != Both {
			return true
		}
	}
	return b.Mark != Both
}

// about is what a box is, in a line, for readers who do not see the picture.
func (b *Box) about() string {
	text := b.Name
	if b.Rows != "" {
		text += ", " + b.Rows
	}
	return fmt.Sprintf("%s, %d fields", text, len(b.Fields)+b.Hidden)
}

// head is the title of a box.
func (b *Box) head() string {
	text := b.Mark.sign() + b.Name
	if b.Order > 0 {
		text = fmt.Sprintf("%d  %s", b.Order, text)
	}
	return text
}

func (f *Field) label() string { return f.Mark.sign() + f.Name }

// typeLabel is the type in few letters: with the short names of PostgreSQL, and cut if that is not enough.
func (f *Field) typeLabel() string {
	const most = 20
	label := shortTypes.Replace(f.Type)
	if r := []rune(label); len(r) > most {
		return string(r[:most-1]) + "…"
	}
	return label
}

// shortTypes are other names that PostgreSQL takes for the same types.
var shortTypes = strings.NewReplacer("character varying", "varchar", "character(", "char(", " without time zone", "",
	"timestamp with time zone", "timestamptz", "time with time zone", "timetz")

// sign stands in front of what is only on one side.
func (m Mark) sign() string {
	switch m {
	case PlanOnly:
		return "+ "
	case DatabaseOnly:
		return "- "
	}
	return ""
}

// color is that of texts, so that the sign is not the only hint.
func (m Mark) color(usual color.RGBA) color.RGBA {
	switch m {
	case PlanOnly:
		return planColor
	case DatabaseOnly:
		return baseColor
	}
	return usual
}

// corners are those of a rectangle.
func corners(x, y, w, h float64) []canvas.Point {
	return []canvas.Point{canvas.At(x, y), canvas.At(x+w, y), canvas.At(x+w, y+h), canvas.At(x, y+h)}
}

// drawBox draws a box with its fields.
func drawBox(on canvas.Canvas, b *Box, r rect) {
	outline := b.Mark.color(frame)
	on.Fill(corners(r.x, r.y, r.w, r.h), paper)
	head := alone
	if b.Family > 0 {
		head = familyColors[(b.Family-1)%len(familyColors)]
	}
	on.Fill(corners(r.x, r.y, r.w, headHeight), head)
	edge := corners(r.x, r.y, r.w, r.h)
	on.Line(append(edge, edge[0]), 1.2, outline)
	on.Line([]canvas.Point{canvas.At(r.x, r.y+headHeight), canvas.At(r.x+r.w, r.y+headHeight)}, 1, outline)
	on.Text(canvas.Label{At: canvas.At(r.x+boxPadding, r.y+18), Text: b.head(), Size: titleSize, Bold: true,
		Color: b.Mark.color(ink)})
	on.Text(canvas.Label{At: canvas.At(r.x+r.w-boxPadding, r.y+18), Text: b.Rows, Size: textSize, Anchor: canvas.End,
		Color: ink})
	y := r.y + headHeight
	for _, f := range b.Fields {
		base := y + rowHeight*0.5 + 5
		if f.Key { // a square beside the name
			on.Fill(corners(r.x+boxPadding, base-8, 6, 6), edgeColor)
		}
		on.Text(canvas.Label{At: canvas.At(r.x+boxPadding+12, base), Text: f.label(), Size: textSize, Bold: f.Key,
			Color: f.Mark.color(ink)})
		on.Text(canvas.Label{At: canvas.At(r.x+r.w-boxPadding, base), Text: f.typeLabel(), Size: textSize,
			Anchor: canvas.End, Color: faint})
		y += rowHeight
	}
	if b.Hidden > 0 {
		on.Text(canvas.Label{At: canvas.At(r.x+boxPadding+12, y+rowHeight*0.5+5), Size: textSize, Color: faint,
			Text: fmt.Sprintf("and %d more", b.Hidden)})
	}
}

// drawEdge draws the line of an edge, with an arrow at what it leads to.
func (l *Layout) drawEdge(on canvas.Canvas, e Edge, line []canvas.Point) {
	of, width := edgeColor, 1.3
	if e.Family {
		width = 2.6
	}
	of = e.Mark.color(of)
	if e.Closing {
		of = circle
		for _, dash := range dashes(line, 7, 4) {
			on.Line(dash, width, of)
		}
	} else {
		on.Line(line, width, of)
	}
	end, before := line[len(line)-1], line[len(line)-2]
	const long, wide = 9.0, 4.5
	back := long
	if before.X < end.X {
		back = -long
	}
	on.Fill([]canvas.Point{end, canvas.At(end.X+back, end.Y-wide), canvas.At(end.X+back, end.Y+wide)}, of)
}

// dashes cuts a line into parts with gaps between them.
func dashes(line []canvas.Point, dash, gap float64) [][]canvas.Point {
	var out [][]canvas.Point
	left, drawing := dash, true
	part := []canvas.Point{line[0]}
	for i := 1; i < len(line); i++ {
		at, to := line[i-1], line[i]
		for {
			far := math.Hypot(to.X-at.X, to.Y-at.Y)
			if far <= left {
				left -= far
				part = append(part, to)
				break
			}
			at = canvas.At(at.X+(to.X-at.X)*left/far, at.Y+(to.Y-at.Y)*left/far)
			if drawing {
				out = append(out, append(part, at))
			}
			part, drawing = []canvas.Point{at}, !drawing
			if left = gap; drawing {
				left = dash
			}
		}
	}
	if drawing && len(part) > 1 {
		out = append(out, part)
	}
	return out
}
