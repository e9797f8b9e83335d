package rng

import (
	"errors"
	"fmt"
)

// Deal gives parents their numbers of children: every aligned block of parents
// holds a fixed multiset of counts in keyed order. A child's number and its
// parent are found from each other within one block.
type Deal struct {
	Max    uint64 // children of one parent, at most
	key    Key
	counts []uint64 // the multiset of one block of len(counts) parents
	total  uint64   // children of a full block
	sorted []uint64 // the counts that DealOf was given
	cast   *Cast    // of the parents, where their profiles tell the counts, which are by slot then; or nil

	byProfile [][]uint64 // of the cast: the counts of each profile
}

// Count is the i-th of the counts that DealOf was given.
func (d *Deal) Count(i uint64) uint64 { return d.sorted[i] }

const (
	DealBlock = 64   // least number of parents in a block
	dealMost  = 1024 // largest number of parents in a block
	// MaxChildren bounds the children of one parent.
	MaxChildren = 1_000_000
)

// NewDeal deals min to max children, all numbers equally often.
func NewDeal(k Key, min, max uint64) (*Deal, error) {
	if min > max {
		return nil, fmt.Errorf("the smaller number comes first: %d..%d", max, min)
	}
	if max > MaxChildren {
		return nil, fmt.Errorf("at most %d children for one parent", MaxChildren)
	}
	d := &Deal{Max: max, key: k}
	kinds := max - min + 1
	size := kinds
	if kinds < DealBlock {
		size = kinds * ((DealBlock + kinds - 1) / kinds)
	} else if kinds > dealMost {
		size = dealMost
	}
	for i := range size {
		// The middle of the i-th of size equal parts of the range.
		c := min + (2*i+1)*kinds/(2*size)
		d.counts = append(d.counts, c)
		d.total += c
	}
	return d, nil
}

// DealGroup is a share of the parents that have Lo to Hi children, all numbers equally often.
type DealGroup struct{ Lo, Hi, Weight uint64 }

// weightedBlock is the number of parents in a block of groups: each has its exact share of them, to the
// nearest parent.
const weightedBlock = 500

// MaxDealWeight bounds the weight of a group.
const MaxDealWeight = 1 << 32

// NewWeightedDeal deals the children of groups, each to its share of the parents.
func NewWeightedDeal(k Key, groups []DealGroup) (*Deal, error) {
	counts, err := weightedCounts(groups, weightedBlock)
	if err != nil {
		return nil, err
	}
	d := &Deal{key: k, counts: counts}
	d.sum()
	return d, nil
}

// weightedCounts are the numbers of children of so many parents, by group.
func weightedCounts(groups []DealGroup, parents uint64) ([]uint64, error) {
	total := uint64(0)
	for _, g := range groups {
		if g.Lo > g.Hi {
			return nil, fmt.Errorf("the smaller number comes first: %d..%d", g.Hi, g.Lo)
		}
		if g.Hi > MaxChildren {
			return nil, fmt.Errorf("at most %d children for one parent", MaxChildren)
		}
		total += min(g.Weight, MaxDealWeight)
	}
	if total == 0 {
		return nil, errors.New("all weights are 0")
	}
	var counts []uint64
	sum, before := uint64(0), uint64(0)
	for _, g := range groups {
		sum += min(g.Weight, MaxDealWeight)
		until := (sum*parents + total/2) / total // parents of this group and those before it
		size := until - before
		for i := range size {
			// The middle of the i-th of size equal parts of the range.
			counts = append(counts, g.Lo+(2*i+1)*(g.Hi-g.Lo+1)/(2*size))
		}
		before = until
	}
	return counts, nil
}

// sum adds the counts up.
func (d *Deal) sum() {
	for _, c := range d.counts {
		d.total += c
		d.Max = max(d.Max, c)
	}
}

// DealOf deals any counts, equally often, as few as dealBlock at most.
func DealOf(k Key, counts []uint64) *Deal {
	d := &Deal{key: k, sorted: counts}
	for range (DealBlock + len(counts) - 1) / len(counts) {
		for _, c := range counts {
			d.counts = append(d.counts, c)
			d.total += c
		}
	}
	return d
}

// starts returns, for each parent of a block, the number of children of the
// parents before it in that block, and at the end the block's total. dst is
// reused.
func (d *Deal) starts(block uint64, dst []uint64) []uint64 {
	n := len(d.counts)
	if cap(dst) < 2*n+1 {
		dst = make([]uint64, 2*n+1)
	}
	dst = dst[:2*n+1]
	order := dst[n+1:]
	copy(order, d.counts)

	if d.cast != nil {
		d.castOrder(block, order)
	} else {
		shuffle(order, d.key, block, 3)
	}

	sum := uint64(0)
	for i, c := range order {
		dst[i] = sum
		sum += c
	}
	dst[n] = sum
	return dst[:n+1]
}

// shuffle puts numbers in an order that belongs to a block: Fisher-Yates, driven by the block's own random words.
func shuffle(order []uint64, k Key, block, purpose uint64) {
	var w [4]uint64
	n := len(order)
	for i := n - 1; i > 0; i-- {
		at := n - 1 - i
		if at%4 == 0 {
			w = Philox([4]uint64{block, uint64(at / 4), 0, purpose}, k)
		}
		j := Below(w[at%4], uint64(i+1))
		order[i], order[j] = order[j], order[i]
	}
}

// Of returns the number of children of a row outside the numbered sequence.
func (d *Deal) Of(id ID) uint64 {
	w := Philox([4]uint64{id[1], id[0], 0, 4}, d.key)
	return d.counts[Below(w[0], uint64(len(d.counts)))]
}

// Dealt remembers the block last asked for, because neighbours come together.
type Dealt struct {
	deal   *Deal
	block  uint64
	starts []uint64
}

// NewDealt remembers nothing yet.
func NewDealt(d *Deal) *Dealt { return &Dealt{deal: d, block: ^uint64(0)} }

// load deals one block.
func (t *Dealt) load(block uint64) {
	if t.block != block {
		t.starts = t.deal.starts(block, t.starts[:0])
		t.block = block
	}
}

// First returns the number of the first child of a parent, which is also how
// many children all parents before it have.
func (t *Dealt) First(parent uint64) uint64 {
	size := uint64(len(t.deal.counts))
	if parent%size == 0 {
		return parent / size * t.deal.total
	}
	t.load(parent / size)
	return parent/size*t.deal.total + t.starts[parent%size]
}

// Parent returns the parent of a child and the child's ordinal among its
// siblings.
func (t *Dealt) Parent(child uint64) (parent, ordinal uint64) {
	block, rest := child/t.deal.total, child%t.deal.total
	t.load(block)
	// The last parent whose first child is not after this one: parents
	// without children share a start with their successor.
	lo, hi := 0, len(t.deal.counts)
	for lo+1 < hi {
		mid := int(uint(lo+hi) >> 1)
		if t.starts[mid] <= rest {
			lo = mid
		} else {
			hi = mid
		}
	}
	return block*uint64(len(t.deal.counts)) + uint64(lo), rest - t.starts[lo]
}
