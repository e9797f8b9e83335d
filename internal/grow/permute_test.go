package grow

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestPermutationIsABijection(t *testing.T) {
	for n := uint64(1); n <= 700; n++ {
		p := newPermutation(testKey(int(n), "unique"), n)
		seen := make([]bool, n)
		for i := range n {
			j := p.at(i)
			assert.Less(t, j, n)
			assert.False(t, seen[j], "n=%d i=%d", n, i)
			seen[j] = true
		}
	}
}

func TestPermutationOfLargeSpaces(t *testing.T) {
	for _, n := range []uint64{1 << 20, 1<<20 + 7, 328_509_000_000, 1 << 62} {
		p := newPermutation(testKey(1, "unique"), n)
		seen := map[uint64]bool{}
		for i := range uint64(20_000) {
			j := p.at(i)
			assert.Less(t, j, n)
			seen[j] = true
		}
		assert.Len(t, seen, 20_000)
	}
}

// Neighbouring rows get values that are not neighbours, and every quarter of
// the space is met about equally often.
func TestPermutationLooksRandom(t *testing.T) {
	const n, rows = 1_000_003, 40_000
	rejected := 0
	for i := range 100 {
		p := newPermutation(testKey(i, "unique"), n)
		var counts [8]float64
		for r := range uint64(rows) {
			counts[p.at(r)*8/n]++
		}
		chi := 0.0
		for _, c := range counts {
			chi += (c - rows/8) * (c - rows/8) / (rows / 8)
		}
		if chi > chiSquared95[7] {
			rejected++
		}
	}
	assert.LessOrEqual(t, rejected, 12, "of 100; 5 are expected")
}

func TestDealFindsChildAndParentFromEachOther(t *testing.T) {
	for _, c := range [][2]uint64{{0, 3}, {1, 1}, {0, 2}, {3, 3}, {0, 1}, {2, 90}, {0, 5000}} {
		d, err := NewDeal(testKey(1, "deal"), c[0], c[1])
		assert.NoError(t, err)
		forth, back := newDealt(d), newDealt(d)
		next := uint64(0)
		for parent := range uint64(300) {
			first, end := forth.first(parent), forth.first(parent+1)
			assert.Equal(t, next, first)
			assert.GreaterOrEqual(t, end-first, c[0])
			assert.LessOrEqual(t, end-first, c[1])
			for child := first; child < end; child++ {
				p, o := back.parent(child)
				assert.Equal(t, parent, p)
				assert.Equal(t, child-first, o)
			}
			next = end
		}
	}
}

// Every aligned block deals the same multiset of counts, in another order.
func TestDealIsEven(t *testing.T) {
	d, err := NewDeal(testKey(2, "deal"), 0, 3)
	assert.NoError(t, err)
	orders := map[string]bool{}
	for block := range uint64(20) {
		starts := d.starts(block, nil)
		var counts [4]int
		order := ""
		for i := range 64 {
			n := starts[i+1] - starts[i]
			counts[n]++
			order += string(rune('0' + n))
		}
		assert.Equal(t, [4]int{16, 16, 16, 16}, counts)
		orders[order] = true
	}
	assert.Len(t, orders, 20)
}

func TestDealRefusesBadRanges(t *testing.T) {
	_, err := NewDeal(Key{}, 3, 1)
	assert.ErrorContains(t, err, "smaller number comes first")
	_, err = NewDeal(Key{}, 0, MaxChildren+1)
	assert.ErrorContains(t, err, "at most")
}
