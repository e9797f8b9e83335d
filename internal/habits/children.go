package habits

import (
	"fmt"
	"slices"
	"strings"
)

// Children is how many rows refer to one row, over all rows that they could refer to.
type Children struct {
	Weights     string // as a plan writes it, such as 1..3 or {0: 20, 1: 50, 2..4: 30}; empty if it is not known
	Least, Most uint64
	Top         int64 // percent of the rows that the most popular fifth has
}

// bounds are the numbers of children that are told apart.
var bounds = []uint64{0, 1, 2, 3, 5, 10, 20, 50, 100, 200, 500, 1000}

// mostOfOne bounds how many children a plan gives one row.
const mostOfOne = 1000

// childrenOf sums up how many rows refer to each of some; all is how many there are.
func childrenOf(parents map[string]uint64, all, least int64) Children {
	list := make([]uint64, 0, len(parents))
	total := uint64(0)
	for _, n := range parents {
		list = append(list, n)
		total += n
	}
	for range all - int64(len(parents)) {
		list = append(list, 0)
	}
	slices.Sort(list)
	if int64(len(list)) < least || total == 0 {
		return Children{}
	}
	out := Children{}
	top := uint64(0)
	for _, n := range list[len(list)-(len(list)+4)/5:] {
		top += n
	}
	out.Top = int64(top * 100 / total)

	parts := out.weigh(list, least)
	switch {
	case len(parts) == 0 || out.Most == 0:
		return Children{Top: out.Top}
	case len(parts) == 1:
		out.Weights, _, _ = strings.Cut(parts[0], ":")
	default:
		out.Weights = "{" + strings.Join(parts, ", ") + "}"
	}
	return out
}

// weigh tells how many of some numbers of children, in order, lie in each range, and sets the ends of all.
func (c *Children) weigh(list []uint64, least int64) []string {
	var parts []string
	from := 0
	for i, lo := range bounds {
		hi := uint64(mostOfOne)
		if i+1 < len(bounds) {
			hi = bounds[i+1] - 1
		}
		to := from
		for to < len(list) && list[to] <= hi {
			to++
		}
		if n := to - from; int64(n) >= least { // how many are rare is nobody's business
			if hi > lo {
				lo, hi = list[from+n/20], list[to-1-n/20] // ends that several have, not a single one
			}
			name := fmt.Sprint(lo)
			if hi > lo {
				name = fmt.Sprintf("%d..%d", lo, hi)
			}
			if len(parts) == 0 {
				c.Least = lo
			}
			c.Most = hi
			parts = append(parts, fmt.Sprintf("%s: %d", name, max(n*100/len(list), 1)))
		}
		from = to
	}
	return parts
}
