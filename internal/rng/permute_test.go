package rng

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestPermutationIsABijection(t *testing.T) {
	for n := uint64(1); n <= 700; n++ {
		p := NewPermutation(testKey(int(n), "unique"), n)
		seen := make([]bool, n)
		for i := range n {
			j := p.At(i)
			assert.Less(t, j, n)
			assert.False(t, seen[j], "n=%d i=%d", n, i)
			seen[j] = true
		}
	}
}

func TestPermutationOfLargeSpaces(t *testing.T) {
	for _, n := range []uint64{1 << 20, 1<<20 + 7, 328_509_000_000, 1 << 62} {
		p := NewPermutation(testKey(1, "unique"), n)
		seen := map[uint64]bool{}
		for i := range uint64(20_000) {
			j := p.At(i)
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
		p := NewPermutation(testKey(i, "unique"), n)
		var counts [8]float64
		for r := range uint64(rows) {
			counts[p.At(r)*8/n]++
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
		forth, back := NewDealt(d), NewDealt(d)
		next := uint64(0)
		for parent := range uint64(300) {
			first, end := forth.First(parent), forth.First(parent+1)
			assert.Equal(t, next, first)
			assert.GreaterOrEqual(t, end-first, c[0])
			assert.LessOrEqual(t, end-first, c[1])
			for child := first; child < end; child++ {
				p, o := back.Parent(child)
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

// Over many keys, every row of a small space meets every value equally often, and
// neighbours meet every pair of values.
func TestPermutationOfSmallSpacesIsUniform(t *testing.T) {
	for _, c := range []struct {
		n     uint64
		limit float64 // 99.9% of chi-squared
	}{{5, 18.467}, {8, 24.322}} {
		const keys = 20_000
		rejected := 0
		for row := range c.n {
			counts := make([]float64, c.n)
			for i := range keys {
				p := NewPermutation(testKey(i, "small"), c.n)
				counts[p.At(row)]++
			}
			if chi(counts, keys) > c.limit {
				rejected++
			}
		}
		assert.LessOrEqual(t, rejected, 1, "n=%d", c.n)
		pairs := make([]float64, c.n*(c.n-1))
		for i := range keys {
			p := NewPermutation(testKey(i, "pairs"), c.n)
			a, b := p.At(0), p.At(1)
			if b > a {
				b--
			}
			pairs[a*(c.n-1)+b]++
		}
		assert.Less(t, chi(pairs, keys), map[uint64]float64{5: 43.820, 8: 93.168}[c.n], "pairs of n=%d", c.n)
	}
}

// In spaces of all sizes, pairs of neighbours meet every pair of eighths.
func TestPermutationPairsLookRandom(t *testing.T) {
	for _, n := range []uint64{16, 40, 100, 700, 5000, 1 << 15, 1 << 19, 1 << 20, 1 << 23} {
		const keys = 20_000
		pairs := make([]float64, 64)
		for i := range keys {
			p := NewPermutation(testKey(i, "pairs"), n)
			pairs[p.At(uint64(i)%(n-1))*8/n*8+p.At(uint64(i)%(n-1)+1)*8/n]++
		}
		// Two values of a small space are never the same: compare with what that leaves.
		want := make([]float64, 64)
		for a := range n {
			for b := range n {
				if a != b && n <= 700 {
					want[a*8/n*8+b*8/n] += keys / float64(n*(n-1))
				}
			}
			if n > 700 {
				break
			}
		}
		sum := 0.0
		for i := range pairs {
			if n > 700 {
				want[i] = keys / 64
			}
			sum += (pairs[i] - want[i]) * (pairs[i] - want[i]) / want[i]
		}
		assert.Less(t, sum, 103.442, "n=%d", n) // 99.9% of chi-squared, 63 degrees of freedom
	}
}

func chi(counts []float64, total float64) float64 {
	want, sum := total/float64(len(counts)), 0.0
	for _, c := range counts {
		sum += (c - want) * (c - want) / want
	}
	return sum
}
