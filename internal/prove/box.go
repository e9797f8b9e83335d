package prove

import (
	"cmp"
	"slices"

	"evensprout/internal/value"
)

// Limits on boxes.
const (
	boxColumns = 3 // that a box is over
	boxRows    = 5 // accepted rows that a box must hold
)

// interval is a part of the values of a column, both ends included.
type interval struct{ from, to value.Value }

func (x interval) holds(v value.Value) bool { return size(x.from) <= size(v) && size(v) <= size(x.to) }

// box finds ranges of several columns so that no refused row lies in all of them, with as many accepted rows as there
// can be. A condition over the columns together, such as width < height, mostly holds there. Empty if there are none.
func box(features []*feature) []*narrowed {
	named := slices.ContainsFunc(features, func(f *feature) bool { return f.named })
	var of []*feature
	var cuts [][]interval
	for _, f := range features {
		if c := f.intervals(); f.named == named && f.via == nil && c != nil && len(of) < boxColumns {
			of, cuts = append(of, f), append(cuts, c)
		}
	}
	if len(of) < 2 {
		return nil
	}
	best := boxRows - 1
	var chosen []interval
	var choose func(some []interval)
	choose = func(some []interval) {
		if len(some) < len(of) {
			for _, c := range cuts[len(some)] {
				choose(append(some, c))
			}
			return
		}
		if n := inside(of, some, func(f *feature) []value.Value { return f.accepted }); n > best &&
			inside(of, some, func(f *feature) []value.Value { return f.refused }) == 0 {
			best, chosen = n, slices.Clone(some)
		}
	}
	choose(make([]interval, 0, len(of)))
	var out []*narrowed
	for i, c := range chosen {
		if whole := cuts[i][0]; c != whole {
			out = append(out, &narrowed{feature: of[i], from: &c.from, to: &c.to})
		}
	}
	return out
}

// inside counts the rows whose values lie in all intervals.
func inside(of []*feature, box []interval, values func(*feature) []value.Value) int {
	n := 0
	for i := range values(of[0]) {
		in := true
		for j, f := range of {
			in = in && box[j].holds(values(f)[i])
		}
		if in {
			n++
		}
	}
	return n
}

// intervals are the whole range of a column's values and parts of it, down to an eighth at each end; nil if they have
// no order or are not of one type.
func (f *feature) intervals() []interval {
	all := slices.Concat(f.accepted, f.refused)
	least, most, ok := ends(all)
	if !ok || size(least) == size(most) {
		return nil
	}
	slices.SortFunc(all, func(a, b value.Value) int { return cmp.Compare(size(a), size(b)) })
	out := []interval{{least, most}}
	for _, part := range []int{2, 4, 8} {
		out = append(out, interval{least, all[(len(all)-1)/part]}, interval{all[len(all)-1-(len(all)-1)/part], most})
	}
	return out
}
