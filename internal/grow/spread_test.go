package grow

import (
	"math"
	"strconv"
	"testing"

	"github.com/stretchr/testify/assert"

	"evensprout/internal/rng"
)

// chiSquared95 is the 95% quantile of chi-squared for the degrees of freedom
// used here (Abramowitz and Stegun, table 26.8).
var chiSquared95 = map[int]float64{1: 3.841, 2: 5.991, 4: 9.488, 7: 14.067, 9: 16.919, 63: 82.529}

func testKey(i int, name string) rng.Key { return rng.NewKey("1", strconv.Itoa(i), "Thing", name) }

// even is what a cell shared: see cell.fraction.
func even(k rng.Key, n uint64, root bool) uint64 {
	block := n >> rng.BlockBits
	if block == 0 && root {
		return k.EvenFirst(n)
	}
	w := k.ShuffleWords(block)
	return k.EvenIn(&w, n)
}

// The tests below are about even; rows really draw so.
func TestCellsDrawEvenly(t *testing.T) {
	x := (&fleet{rows: 500}).build(t)
	g := NewGrower(x.set)
	for _, e := range []*Entity{x.person, x.booking} {
		f := e.Fields[1]
		for n := range uint64(300) {
			fr := g.open(e, Row{N: n})
			for d, key := range f.keys {
				assert.Equal(t, even(key, n, e.Parent == nil), cell{g, fr, f}.fraction(draw(d)))
			}
			fr.close()
		}
	}
}

func TestShuffle64IsABijection(t *testing.T) {
	for i := range 200 {
		k := testKey(i, "a")
		var seen uint64
		for j := range uint64(64) {
			w := k.ShuffleWords(uint64(i % 7))
			seen |= 1 << rng.Shuffle64(&w, j)
		}
		assert.Equal(t, ^uint64(0), seen)
	}
}

func TestScrambleKeepsLowBitsTogether(t *testing.T) {
	// Owen scrambling: rows that agree in their k low bits stay in one stratum
	// of 2^-k, others leave it.
	for i := range 50 {
		k := testKey(i, "a")
		for j := range uint64(64) {
			for b := uint(1); b < 20; b++ {
				x, y := k.Scramble(j), k.Scramble(j+1<<b)
				assert.Equal(t, x&(1<<b-1), y&(1<<b-1))
				assert.NotEqual(t, x>>b&1, y>>b&1)
			}
		}
	}
}

// Shares are exact, up to rounding, over every aligned run of 2^k >= 64 rows.
func TestEvenIsExactOverAlignedRuns(t *testing.T) {
	for i := range 100 {
		k := testKey(i, "share")
		limit := uint64(i+1) << 57 // some share of the whole
		for _, run := range []uint64{64, 128, 512, 4096} {
			for start := uint64(0); start < 3*run; start += run {
				hits := 0
				for n := start; n < start+run; n++ {
					if even(k, n, false) < limit {
						hits++
					}
				}
				exact := float64(run) * float64(limit) / math.Exp2(64)
				assert.Less(t, math.Abs(float64(hits)-exact), 1.0)
			}
		}
	}
}

// Ten rows over three equal choices show all three, whatever the key.
func TestFirstRowsShowEveryChoice(t *testing.T) {
	for i := range 500 {
		k := testKey(i, "status")
		seen := map[uint64]bool{}
		for n := range uint64(10) {
			seen[rng.Below(even(k, n, true), 3)] = true
		}
		assert.Len(t, seen, 3)
	}
}

// 18% of 5000 rows is 900: within 2 for 95% of keys, within 6 for all.
func TestShareOf5000(t *testing.T) {
	limit := uint64(math.Exp2(64) * 0.18)
	const keys = 1000
	near := 0
	for i := range keys {
		k := testKey(i, "share")
		hits := 0
		for n := range uint64(5000) {
			if even(k, n, true) < limit {
				hits++
			}
		}
		off := hits - 900
		if off < 0 {
			off = -off
		}
		if off <= 2 {
			near++
		}
		assert.LessOrEqual(t, off, 6, "key %d: %d hits", i, hits)
	}
	t.Logf("within 2 for %.1f%% of keys", float64(near)/keys*100)
	assert.GreaterOrEqual(t, near, keys*95/100)
}

// Pairs of fields are independent: chi-squared over 1000 pairs of keys is
// rejected at the 5% level for at most 7% of them.
func TestFieldPairsAreIndependent(t *testing.T) {
	for _, c := range []struct {
		name   string
		levels uint64
		rows   uint64
		start  uint64
	}{{"binary", 2, 1000, 64}, {"ternary", 3, 5000, 0}, {"first rows", 3, 1000, 0}, {"quarters", 4, 640, 64},
		{"eighths", 8, 5000, 64}} {
		t.Run(c.name, func(t *testing.T) {
			const keys = 1000
			rejected := 0
			df := int((c.levels - 1) * (c.levels - 1))
			limit, ok := map[int]float64{1: 3.841, 4: 9.488, 9: 16.919, 49: 66.339}[df]
			assert.True(t, ok)
			for i := range keys {
				a, b := testKey(i, "a"), testKey(i, "b")
				var cells [8][8]float64
				var rowSum, colSum [8]float64
				for n := c.start; n < c.start+c.rows; n++ {
					x, y := rng.Below(even(a, n, true), c.levels), rng.Below(even(b, n, true), c.levels)
					cells[x][y]++
					rowSum[x]++
					colSum[y]++
				}
				chi := 0.0
				for x := range c.levels {
					for y := range c.levels {
						want := rowSum[x] * colSum[y] / float64(c.rows)
						chi += (cells[x][y] - want) * (cells[x][y] - want) / want
					}
				}
				if chi > limit {
					rejected++
				}
			}
			t.Logf("rejected: %.1f%% of keys", float64(rejected)/keys*100)
			assert.LessOrEqual(t, rejected, keys*7/100)
		})
	}
}

// In families of 2 to 8 neighbours the number of hits is close to binomial:
// siblings are neither all alike nor forced to differ.
func TestHitsInFamiliesAreCloseToBinomial(t *testing.T) {
	for _, p := range []float64{0.25, 0.5} {
		limit := uint64(math.Exp2(63) * p * 2)
		if p == 0.5 {
			limit = 1 << 63
		}
		for size := 2; size <= 8; size++ {
			counts := make([]float64, size+1)
			families := 0.0
			for i := range 300 {
				k := testKey(i, "family")
				for f := range 60 {
					hits := 0
					for j := range size {
						if even(k, uint64(f*size+j), false) < limit {
							hits++
						}
					}
					counts[hits]++
					families++
				}
			}
			// Total variation distance from the binomial distribution.
			distance := 0.0
			for h := 0; h <= size; h++ {
				binomial := math.Exp(lchoose(size, h)) * math.Pow(p, float64(h)) * math.Pow(1-p, float64(size-h))
				distance += math.Abs(counts[h]/families-binomial) / 2
			}
			// Drawing 8 of 64 without replacement is itself 0.03 away.
			assert.Less(t, distance, 0.04, "size %d, p %.2f", size, p)
		}
	}
}

func lchoose(n, k int) float64 {
	a, _ := math.Lgamma(float64(n + 1))
	b, _ := math.Lgamma(float64(k + 1))
	c, _ := math.Lgamma(float64(n - k + 1))
	return a - b - c
}

// Each value of one field meets each position inside a block equally often.
func TestShuffle64IsUniform(t *testing.T) {
	var counts [64][64]float64
	const keys = 6400
	for i := range keys {
		k := testKey(i, "uniform")
		for j := range uint64(64) {
			w := k.ShuffleWords(3)
			counts[j][rng.Shuffle64(&w, j)]++
		}
	}
	rejected := 0
	for j := range counts {
		chi := 0.0
		for _, c := range counts[j] {
			chi += (c - keys/64) * (c - keys/64) / (keys / 64)
		}
		if chi > chiSquared95[63] {
			rejected++
		}
	}
	assert.LessOrEqual(t, rejected, 8, "of 64 positions; 3 are expected")
}
