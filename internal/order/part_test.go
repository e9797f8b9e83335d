package order

import (
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestPartsAreTheWholeOnceEach(t *testing.T) {
	for range 2000 {
		n, of := rand.Uint64N(1<<uint(rand.IntN(50)+1)), 1+rand.Uint64N(40)
		next := uint64(0)
		least, most := n, uint64(0)
		for _, p := range (Part{1, of}).All() {
			lo, hi := p.Range(n)
			require.Equal(t, next, lo, "%d rows, part %s", n, p)
			next, least, most = hi, min(least, hi-lo), max(most, hi-lo)
		}
		require.Equal(t, n, next)
		require.LessOrEqual(t, most-least, uint64(1))
	}
	lo, hi := Part{}.Range(17)
	assert.Equal(t, [2]uint64{0, 17}, [2]uint64{lo, hi})
	assert.Equal(t, []Part{{}}, Part{}.All())
}

func TestPartsAreRead(t *testing.T) {
	p, err := ParsePart("3/16")
	require.NoError(t, err)
	assert.Equal(t, Part{3, 16}, p)
	assert.True(t, Part{1, 16}.Given())
	assert.False(t, p.Given())
	for _, bad := range []string{"", "3", "0/4", "5/4", "-1/4", "1/0", "a/b", "1/99999", "1/2/3", "1 / 2"} {
		_, err := ParsePart(bad)
		assert.Error(t, err, bad)
	}
}
