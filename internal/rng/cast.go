package rng

import (
	"errors"
	"fmt"
	"slices"
)

// Cast gives rows one of several profiles by weight: every aligned block of rows holds a fixed number of each, in
// keyed order.
type Cast struct {
	key   Key
	of    []int // the profile of each slot of a block
	first []int // the first slot of each profile, and the end of the last
}

// NewCast casts profiles by weight. The shares are exact to one of CastBlock rows.
func NewCast(k Key, weights []uint64) (*Cast, error) {
	total := uint64(0)
	for _, w := range weights {
		total += min(w, MaxDealWeight)
	}
	if total == 0 {
		return nil, errors.New("all shares are 0")
	}
	c := &Cast{key: k}
	sum := uint64(0)
	for profile, w := range weights {
		c.first = append(c.first, len(c.of))
		sum += min(w, MaxDealWeight)
		for uint64(len(c.of)) < (sum*CastBlock+total/2)/total {
			c.of = append(c.of, profile)
		}
		if w > 0 && len(c.of) == c.first[profile] {
			return nil, fmt.Errorf("a share is smaller than one of %d rows", CastBlock)
		}
	}
	c.first = append(c.first, len(c.of))
	return c, nil
}

// CastBlock is how many rows hold the exact shares.
const CastBlock = weightedBlock

// slots returns the slot of each row of a block.
func (c *Cast) slots(block uint64) []uint64 {
	slots := make([]uint64, len(c.of))
	for i := range slots {
		slots[i] = uint64(i)
	}
	shuffle(slots, c.key, block, 5)
	return slots
}

// Of is the profile of a row outside the numbered sequence.
func (c *Cast) Of(id ID) int {
	w := Philox([4]uint64{id[1], id[0], 0, 6}, c.key)
	return c.of[Below(w[0], uint64(len(c.of)))]
}

// Casting remembers the block last asked for, because neighbours come together.
type Casting struct {
	cast  *Cast
	block uint64
	slots []uint64
}

// NewCasting remembers nothing yet.
func NewCasting(c *Cast) *Casting { return &Casting{cast: c, block: ^uint64(0)} }

// At is the profile of a numbered row.
func (c *Casting) At(row uint64) int {
	size := uint64(len(c.cast.of))
	if c.block != row/size {
		c.block = row / size
		c.slots = c.cast.slots(c.block)
	}
	return c.cast.of[c.slots[row%size]]
}

// NewCastDeal deals the children of parents with profiles: groups are those of each profile.
func NewCastDeal(k Key, c *Cast, groups [][]DealGroup) (*Deal, error) {
	d := &Deal{key: k, cast: c}
	for profile, list := range groups {
		counts, err := weightedCounts(list, uint64(c.first[profile+1]-c.first[profile]))
		if err != nil {
			return nil, err
		}
		d.counts = append(d.counts, counts...)
		if len(counts) == 0 { // only rows outside the numbered sequence can have the profile
			if counts, err = weightedCounts(list, weightedBlock); err != nil {
				return nil, err
			}
		}
		d.byProfile = append(d.byProfile, counts)
	}
	d.sum()
	for _, counts := range d.byProfile {
		d.Max = max(d.Max, slices.Max(counts))
	}
	return d, nil
}

// OfProfile returns the number of children of a row outside the numbered sequence that has a profile.
func (d *Deal) OfProfile(id ID, profile int) uint64 {
	w := Philox([4]uint64{id[1], id[0], 0, 4}, d.key)
	counts := d.byProfile[profile]
	return counts[Below(w[0], uint64(len(counts)))]
}

// ByProfile reports whether the parents' profiles tell how many children they have.
func (d *Deal) ByProfile() bool { return d.cast != nil }

// castOrder puts the counts of a block in the order of its parents: those of each profile are shuffled among
// themselves.
func (d *Deal) castOrder(block uint64, counts []uint64) {
	for profile := range len(d.cast.first) - 1 {
		part := counts[d.cast.first[profile]:d.cast.first[profile+1]]
		shuffle(part, d.key, block, 7+uint64(profile))
	}
	bySlot := append([]uint64(nil), counts...)
	for i, slot := range d.cast.slots(block) {
		counts[i] = bySlot[slot]
	}
}
