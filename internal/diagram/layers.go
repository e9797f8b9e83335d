package diagram

import (
	"cmp"
	"slices"
)

// The layout stands boxes in columns: what a box refers to stands to its left, as it is loaded earlier. Boxes of a
// column are sorted and placed near what they are joined with (Sugiyama, Tagawa, Toda 1981, with positions in place of
// ranks); the places of a column are the nearest to the wanted ones that keep their distance, by pooling adjacent
// violators.

// columns returns the column of each box. Edges that close a circle do not count.
func (d *Diagram) columns() []int {
	targets := make([][]int, len(d.Boxes))
	sources := make([][]int, len(d.Boxes))
	for _, e := range d.forward() {
		targets[e.From] = append(targets[e.From], e.To)
		sources[e.To] = append(sources[e.To], e.From)
	}
	column := make([]int, len(d.Boxes))
	done := make([]bool, len(d.Boxes))
	var place func(i int) int
	place = func(i int) int {
		if !done[i] {
			done[i] = true
			for _, to := range targets[i] {
				column[i] = max(column[i], place(to)+1)
			}
		}
		return column[i]
	}
	for i := range d.Boxes {
		place(i)
	}
	// What refers to nothing stands beside the first that refers to it.
	for i := range d.Boxes {
		if len(targets[i]) == 0 && len(sources[i]) > 0 {
			nearest := slices.MinFunc(sources[i], func(a, b int) int { return cmp.Compare(column[a], column[b]) })
			column[i] = column[nearest] - 1
		}
	}
	return column
}

// forward returns the edges without those that would close a circle, or lead to their own box.
func (d *Diagram) forward() []Edge {
	next := make([][]int, len(d.Boxes))
	reaches := func(from, to int) bool {
		seen := map[int]bool{from: true}
		for waiting := []int{from}; len(waiting) > 0; {
			at := waiting[len(waiting)-1]
			waiting = waiting[:len(waiting)-1]
			if at == to {
				return true
			}
			for _, n := range next[at] {
				if !seen[n] {
					seen[n] = true
					waiting = append(waiting, n)
				}
			}
		}
		return false
	}
	var out []Edge
	add := func(e Edge) {
		if e.From != e.To && !reaches(e.To, e.From) {
			next[e.From] = append(next[e.From], e.To)
			out = append(out, e)
		}
	}
	for _, e := range d.Edges {
		if e.Family {
			add(e)
		}
	}
	for _, e := range d.Edges {
		if !e.Family && !e.Closing {
			add(e)
		}
	}
	return out
}

// neighbour is a box at the other end of an edge.
type neighbour struct {
	box    int
	weight float64
}

// familyWeight draws the members of a family together.
const familyWeight = 4

// neighbours are those of each box.
func (d *Diagram) neighbours() [][]neighbour {
	out := make([][]neighbour, len(d.Boxes))
	for _, e := range d.Edges {
		weight := 1.0
		if e.Family {
			weight = familyWeight
		}
		if e.From != e.To {
			out[e.From] = append(out[e.From], neighbour{e.To, weight})
			out[e.To] = append(out[e.To], neighbour{e.From, weight})
		}
	}
	return out
}

// arrange returns the middle of each box in its column, in pixels. heights are those of the boxes. The order of a
// column does not depend on heights, so that another field of a box leaves the others where they are.
func (d *Diagram) arrange(column []int, heights []float64) []float64 {
	stacks := make([][]int, slices.Max(append(slices.Clone(column), -1))+1)
	for i, c := range column {
		stacks[c] = append(stacks[c], i)
	}
	a := arrangement{diagram: d, stacks: stacks, joined: d.neighbours(), middle: make([]float64, len(d.Boxes)),
		heights: make([]float64, len(d.Boxes))}
	const alike, sorting, placing = 100, 18, 8
	for i := range a.heights {
		a.heights[i] = alike
	}
	for _, stack := range stacks {
		a.spread(stack, func(i int) float64 { return a.middle[i] })
	}
	best, least := cloneStacks(stacks), d.length(a.middle)
	for round := range sorting {
		a.round(round, true)
		if l := d.length(a.middle); l < least-0.5 {
			best, least = cloneStacks(stacks), l
		}
	}
	a.stacks, a.heights = best, heights
	for round := range placing {
		a.round(round, false)
	}
	return a.middle
}

// arrangement is boxes on their way to their places.
type arrangement struct {
	diagram *Diagram
	stacks  [][]int // the boxes of each column, from the top
	joined  [][]neighbour
	heights []float64
	middle  []float64
	center  float64 // of all
}

// gravity draws boxes to the center, so that the picture gets no higher than need be.
const gravity = 0.6

func cloneStacks(stacks [][]int) [][]int {
	out := make([][]int, len(stacks))
	for i, s := range stacks {
		out[i] = slices.Clone(s)
	}
	return out
}

// round moves the boxes of each column to where they are wanted: from the left, and in every other round from the
// right.
func (a *arrangement) round(n int, sorting bool) {
	a.center = 0
	for _, m := range a.middle {
		a.center += m / float64(len(a.middle))
	}
	for i := range a.stacks {
		stack := a.stacks[i]
		if n%2 == 1 {
			stack = a.stacks[len(a.stacks)-1-i]
		}
		if sorting {
			slices.SortStableFunc(stack, func(x, y int) int { return cmp.Compare(a.wanted(x), a.wanted(y)) })
		}
		a.spread(stack, a.wanted)
	}
}

// wanted is where a box would stand if it were alone in its column: in the middle of what it is joined with.
func (a *arrangement) wanted(box int) float64 {
	if len(a.joined[box]) == 0 {
		return a.middle[box]
	}
	sum, weights := gravity*a.center, gravity
	for _, n := range a.joined[box] {
		sum += n.weight * a.middle[n.box]
		weights += n.weight
	}
	return sum / weights
}

// length is how far edges lead up or down, weighted.
func (d *Diagram) length(middle []float64) float64 {
	sum := 0.0
	for _, e := range d.Edges {
		far := middle[e.From] - middle[e.To]
		if far < 0 {
			far = -far
		}
		if e.Family {
			far *= familyWeight
		}
		sum += far
	}
	return sum
}

// spread places the boxes of a stack, in their order, as near to where they are wanted as their heights allow: it
// minimises the sum of the squares of the distances, by pooling adjacent violators (Ayer and others 1955).
func (a *arrangement) spread(stack []int, wanted func(int) float64) {
	type pool struct {
		sum   float64 // of the wanted places, without what lies between
		count float64
	}
	offsets := make([]float64, len(stack))
	for n := 1; n < len(stack); n++ {
		offsets[n] = offsets[n-1] + (a.heights[stack[n-1]]+a.heights[stack[n]])/2 + boxGap
	}
	var pools []pool
	for n, i := range stack {
		pools = append(pools, pool{wanted(i) - offsets[n], 1})
		for k := len(pools) - 1; k > 0 && pools[k-1].sum/pools[k-1].count >= pools[k].sum/pools[k].count; k-- {
			pools[k-1].sum += pools[k].sum
			pools[k-1].count += pools[k].count
			pools = pools[:k]
		}
	}
	n := 0
	for _, p := range pools {
		for range int(p.count) {
			a.middle[stack[n]] = p.sum/p.count + offsets[n]
			n++
		}
	}
}
