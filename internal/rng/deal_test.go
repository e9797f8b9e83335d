package rng

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Each group has its share of the parents, and a child finds its parent.
func TestWeightedDeal(t *testing.T) {
	d, err := NewWeightedDeal(testKey(1, "weighted"), []DealGroup{{0, 0, 50}, {1, 1, 30}, {2, 4, 20}})
	require.NoError(t, err)
	dealt := NewDealt(d)
	counts := map[uint64]int{}
	const parents = 5000
	for p := range uint64(parents) {
		first, next := dealt.First(p), dealt.First(p+1)
		counts[next-first]++
		for child := first; child < next; child++ {
			parent, ordinal := dealt.Parent(child)
			require.Equal(t, p, parent)
			require.Equal(t, child-first, ordinal)
		}
	}
	assert.Equal(t, 2500, counts[0])
	assert.Equal(t, 1500, counts[1])
	assert.Equal(t, 1000, counts[2]+counts[3]+counts[4])
	assert.InDelta(t, 333, counts[3], 30)
	assert.EqualValues(t, 4, d.Max)

	_, err = NewWeightedDeal(testKey(1, "weighted"), []DealGroup{{0, 0, 0}})
	assert.ErrorContains(t, err, "all weights are 0")
	_, err = NewWeightedDeal(testKey(1, "weighted"), []DealGroup{{3, 2, 1}})
	assert.ErrorContains(t, err, "the smaller number comes first")
}
