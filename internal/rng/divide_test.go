package rng

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestDivisor(t *testing.T) {
	k := testKey(1, "divide")
	for i := range uint64(200_000) {
		w := Philox([4]uint64{i, 0, 0, 0}, k)
		n, by := w[0]%maxSpace, w[1]>>(w[2]%63)+1
		if by > maxSpace {
			continue
		}
		q, r := NewDivisor(by).DivMod(n)
		assert.Equal(t, [2]uint64{n / by, n % by}, [2]uint64{q, r})
	}
	for _, by := range []uint64{1, 2, 3, maxSpace - 1, maxSpace} {
		for _, n := range []uint64{0, 1, by - 1, by % maxSpace, maxSpace - 1} {
			q, r := NewDivisor(by).DivMod(n)
			assert.Equal(t, [2]uint64{n / by, n % by}, [2]uint64{q, r}, "%d / %d", n, by)
		}
	}
}
