package diagram

import (
	"cmp"
	"math"
	"slices"

	"evensprout/internal/canvas"
)

// Sizes of a picture, in pixels.
const (
	textSize    = 13.0
	titleSize   = 14.0
	rowHeight   = 18.0
	headHeight  = 26.0
	boxPadding  = 8.0
	boxGap      = 26.0 // between boxes of a column, where lines pass
	lineApart   = 6.0  // between lines
	channelEdge = 16.0 // between boxes and the lines beside them
	margin      = 24.0
	titleHeight = 40.0
	legendLine  = 20.0
)

// rect is where a box stands.
type rect struct{ x, y, w, h float64 }

func (r rect) middle() float64 { return r.y + r.h/2 }

// Layout is where everything of a diagram stands.
type Layout struct {
	diagram       *Diagram
	width, height float64
	boxes         []rect
	lines         [][]canvas.Point // of each edge, from its field to what it refers to
	column        []int
	columns       [][]int // boxes, from the top
}

// NewLayout stands the boxes of a diagram and leads its edges around them.
func NewLayout(d *Diagram) (*Layout, error) {
	l := &Layout{diagram: d, boxes: make([]rect, len(d.Boxes)), lines: make([][]canvas.Point, len(d.Edges))}
	for i := range d.Boxes {
		w, err := d.Boxes[i].width()
		if err != nil {
			return nil, err
		}
		l.boxes[i].w, l.boxes[i].h = w, d.Boxes[i].height()
	}
	joined := make([]bool, len(d.Boxes))
	for _, e := range d.Edges {
		joined[e.From], joined[e.To] = true, true
	}
	l.stand(joined)
	l.route()
	l.standAlone(joined)
	l.shift()
	return l, nil
}

// width is that of a box: its widest text.
func (b *Box) width() (float64, error) {
	name, err := canvas.Measure(b.head(), titleSize, true)
	if err != nil {
		return 0, err
	}
	rows, err := canvas.Measure(b.Rows, textSize, false)
	if err != nil {
		return 0, err
	}
	widest := name + rows + 30
	for _, f := range b.Fields {
		name, err := canvas.Measure(f.label(), textSize, f.Key)
		if err != nil {
			return 0, err
		}
		typ, err := canvas.Measure(f.typeLabel(), textSize, false)
		if err != nil {
			return 0, err
		}
		widest = max(widest, name+typ+36)
	}
	const most, broader = 420, 1.06 // other fonts than ours are a little broader
	return min(math.Ceil(widest*broader)+2*boxPadding, most), nil
}

// height is that of a box: its head, and a line for each field.
func (b *Box) height() float64 {
	lines := len(b.Fields)
	if b.Hidden > 0 {
		lines++
	}
	h := headHeight + float64(lines)*rowHeight
	if lines > 0 {
		h += boxPadding
	}
	return h
}

// stand places the boxes that are joined with others: all but where columns begin.
func (l *Layout) stand(joined []bool) {
	part := l.diagram.Only(func(i int) bool { return joined[i] })
	var at []int // of the part's boxes in the diagram
	var heights []float64
	for i := range l.boxes {
		if joined[i] {
			at = append(at, i)
			heights = append(heights, l.boxes[i].h)
		}
	}
	column := part.columns()
	middle := part.arrange(column, heights)
	l.column = make([]int, len(l.boxes))
	for n, i := range at {
		l.column[i] = column[n]
		l.boxes[i].y = math.Round(middle[n] - heights[n]/2)
		for len(l.columns) <= column[n] {
			l.columns = append(l.columns, nil)
		}
		l.columns[column[n]] = append(l.columns[column[n]], i)
	}
	for _, c := range l.columns {
		slices.SortFunc(c, func(a, b int) int { return cmp.Compare(l.boxes[a].y, l.boxes[b].y) })
	}
}

// standAlone places the boxes that nothing is joined with below the others, in rows.
func (l *Layout) standAlone(joined []bool) {
	const leastWidth = 1200
	wide, below := leastWidth, math.Inf(-1)
	for i, b := range l.boxes {
		if joined[i] {
			wide, below = max(wide, int(b.x+b.w)), max(below, b.y+b.h)
		}
	}
	for _, line := range l.lines {
		for _, p := range line {
			below = max(below, p.Y+lineApart)
		}
	}
	if math.IsInf(below, -1) {
		below = 0
	}
	x, y, high := 0.0, below+boxGap, 0.0
	for i := range l.boxes {
		if joined[i] {
			continue
		}
		b := &l.boxes[i]
		if x > 0 && x+b.w > float64(wide) {
			x, y, high = 0, y+high+boxGap, 0
		}
		b.x, b.y = x, y
		x, high = x+b.w+boxGap, max(high, b.h)
	}
}

// shift moves everything so that it begins behind the margin and the title, and finds the size of the whole.
func (l *Layout) shift() {
	top := math.Inf(1)
	for _, b := range l.boxes {
		top = min(top, b.y)
	}
	for _, line := range l.lines {
		for _, p := range line {
			top = min(top, p.Y)
		}
	}
	if math.IsInf(top, 1) {
		top = 0
	}
	dy := margin + titleHeight - top
	for i := range l.boxes {
		b := &l.boxes[i]
		b.x, b.y = b.x+margin, b.y+dy
		l.width, l.height = max(l.width, b.x+b.w), max(l.height, b.y+b.h)
	}
	for _, line := range l.lines {
		for i := range line {
			line[i].X, line[i].Y = line[i].X+margin, line[i].Y+dy
			l.width, l.height = max(l.width, line[i].X), max(l.height, line[i].Y)
		}
	}
	l.width += margin
	l.height += 1.5*margin + legendLine*float64(1+len(l.diagram.Notes))
}
