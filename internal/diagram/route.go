package diagram

import (
	"cmp"
	"math"
	"slices"

	"evensprout/internal/canvas"
)

// Lines run horizontally through the gaps between the boxes of a column, and vertically in the channels between columns
// alone. So no line runs through a box. Lines that lead to the same box run together.

// bundle is the lines that lead to the same box and look alike.
type bundle struct {
	to      int // a box
	closing bool
}

// place is a bundle in a column, or in the channel to the right of it.
type place struct {
	bundle
	column int
}

// trunk is the vertical part of a bundle in a channel.
type trunk struct {
	place
	lo, hi float64
	x      float64
	track  int
}

// leg is the part of a line in one channel: from one height to another.
type leg struct {
	trunk    *trunk
	from, to float64
}

// path is the way of one edge: legs from channel to channel, between the sides of two boxes.
type path struct {
	legs                []leg
	startRight, endLeft bool // it leaves the box to the right; it arrives at the left side
}

// router finds ways, and then the places of channels and columns.
type router struct {
	*Layout
	trunks map[place]*trunk
	passed map[place]float64 // the heights at which bundles pass columns
	paths  []path
}

// route leads all edges, and places the columns.
func (l *Layout) route() {
	r := &router{Layout: l, trunks: map[place]*trunk{}, passed: map[place]float64{}}
	// Short ones first: they need the gaps least, and long ones can go around.
	order := make([]int, len(l.diagram.Edges))
	for i := range order {
		order[i] = i
	}
	far := func(i int) int {
		e := l.diagram.Edges[i]
		return max(l.column[e.From]-l.column[e.To], l.column[e.To]-l.column[e.From])
	}
	slices.SortStableFunc(order, func(a, b int) int { return cmp.Compare(far(a), far(b)) })
	r.paths = make([]path, len(l.diagram.Edges))
	for _, i := range order {
		r.paths[i] = r.lead(l.diagram.Edges[i])
	}
	r.place()
	for i, e := range l.diagram.Edges {
		l.lines[i] = r.points(e, r.paths[i])
	}
}

// lead finds the way of an edge.
func (r *router) lead(e Edge) path {
	from, to := r.column[e.From], r.column[e.To]
	start, end := r.fieldAt(e), r.headAt(e.To)
	trunkIn := func(channel int, a, b float64) *trunk { return r.trunk(e, channel, a, b) }
	if from == to { // around the right side
		return path{legs: []leg{{trunkIn(from, start, end), start, end}}, startRight: true}
	}
	p := path{startRight: from < to, endLeft: from < to}
	step, channel := -1, from-1
	if from < to {
		step, channel = 1, from
	}
	y := start
	for c := from + step; c != to; c += step {
		next := r.cross(c, e, y, end)
		p.legs = append(p.legs, leg{trunkIn(channel, y, next), y, next})
		y, channel = next, channel+step
	}
	p.legs = append(p.legs, leg{trunkIn(channel, y, end), y, end})
	return p
}

// fieldAt is the height at which an edge leaves its box.
func (r *router) fieldAt(e Edge) float64 {
	b := &r.diagram.Boxes[e.From]
	if i := b.field(e.Field); i >= 0 {
		return r.boxes[e.From].y + headHeight + rowHeight*(float64(i)+0.5)
	}
	return r.boxes[e.From].middle()
}

// headAt is the height at which edges arrive at a box.
func (r *router) headAt(box int) float64 { return r.boxes[box].y + headHeight/2 }

// trunk is the vertical part of an edge in a channel, which it shares with others to the same box.
func (r *router) trunk(e Edge, channel int, a, b float64) *trunk {
	at := place{bundle{e.To, e.Closing}, channel}
	t := r.trunks[at]
	if t == nil {
		t = &trunk{place: at, lo: math.Inf(1), hi: math.Inf(-1)}
		r.trunks[at] = t
	}
	t.lo, t.hi = min(t.lo, a, b), max(t.hi, a, b)
	return t
}

// cross finds the height at which an edge passes a column: the free one nearest to its end.
func (r *router) cross(column int, e Edge, from, end float64) float64 {
	at := place{bundle{e.To, e.Closing}, column}
	if y, ok := r.passed[at]; ok {
		return y
	}
	best, least := 0.0, math.Inf(1)
	try := func(y float64) {
		// near to the end of the line, and else to its beginning
		if far := math.Abs(y-end) + math.Abs(y-from)/4; far < least && r.isFree(column, y) {
			best, least = y, far
		}
	}
	try(end)
	try(from)
	top, bottom := math.Inf(1), math.Inf(-1)
	for _, i := range r.columns[column] {
		b := r.boxes[i]
		top, bottom = min(top, b.y), max(bottom, b.y+b.h)
		for y := b.y + b.h + lineApart; y < b.y+b.h+boxGap; y += lineApart {
			try(y)
		}
		for y := b.y - lineApart; y > b.y-boxGap; y -= lineApart {
			try(y)
		}
	}
	// Above and below all boxes there is always room.
	for n := 1; n <= len(r.diagram.Edges)+1; n++ {
		try(top - lineApart*float64(n))
		try(bottom + lineApart*float64(n))
	}
	r.passed[at] = best
	return best
}

// isFree reports whether a line can pass a column at a height.
func (r *router) isFree(column int, y float64) bool {
	for _, i := range r.columns[column] {
		if b := r.boxes[i]; y > b.y-lineApart+0.5 && y < b.y+b.h+lineApart-0.5 {
			return false
		}
	}
	for at, other := range r.passed {
		if at.column == column && math.Abs(other-y) < lineApart-0.5 {
			return false
		}
	}
	return true
}

// place gives trunks their tracks in the channels, and columns their places between these.
func (r *router) place() {
	byChannel := map[int][]*trunk{}
	for _, t := range r.trunks {
		byChannel[t.column] = append(byChannel[t.column], t)
	}
	tracks := map[int]int{}
	for channel, all := range byChannel {
		slices.SortFunc(all, func(a, b *trunk) int {
			return cmp.Or(cmp.Compare(a.lo, b.lo), cmp.Compare(a.hi, b.hi), cmp.Compare(a.to, b.to),
				cmp.Compare(number(a.closing), number(b.closing)))
		})
		var ends []float64 // of the last trunk in each track
		for _, t := range all {
			n := slices.IndexFunc(ends, func(end float64) bool { return end+lineApart < t.lo })
			if n < 0 {
				n = len(ends)
				ends = append(ends, 0)
			}
			ends[n], t.track = t.hi, n
		}
		tracks[channel] = len(ends)
	}
	x := 0.0
	for c, boxes := range r.columns {
		width := 0.0
		for _, i := range boxes {
			r.boxes[i].x = x
			width = max(width, r.boxes[i].w)
		}
		for _, i := range boxes { // boxes of a column are equally wide
			r.boxes[i].w = width
		}
		x += width
		for _, t := range byChannel[c] {
			t.x = x + channelEdge + lineApart*float64(t.track)
		}
		x += 2*channelEdge + lineApart*float64(max(tracks[c]-1, 0))
	}
}

// number is a truth as a number, to sort by.
func number(b bool) int {
	if b {
		return 1
	}
	return 0
}

// points are the corners of the line of an edge.
func (r *router) points(e Edge, p path) []canvas.Point {
	from, to := r.boxes[e.From], r.boxes[e.To]
	start, end := from.x, to.x+to.w
	if p.startRight {
		start = from.x + from.w
	}
	if p.endLeft {
		end = to.x
	}
	out := []canvas.Point{canvas.At(start, p.legs[0].from)}
	for _, l := range p.legs {
		if l.from != l.to {
			out = append(out, canvas.At(l.trunk.x, l.from), canvas.At(l.trunk.x, l.to))
		}
	}
	return append(out, canvas.At(end, p.legs[len(p.legs)-1].to))
}
