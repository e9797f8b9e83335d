package grow

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestDivisor(t *testing.T) {
	k := testKey(1, "divide")
	for i := range uint64(200_000) {
		w := philox([4]uint64{i, 0, 0, 0}, k)
		n, by := w[0]%MaxSpace, w[1]>>(w[2]%63)+1
		if by > MaxSpace {
			continue
		}
		q, r := newDivisor(by).divMod(n)
		assert.Equal(t, [2]uint64{n / by, n % by}, [2]uint64{q, r})
	}
	for _, by := range []uint64{1, 2, 3, MaxSpace - 1, MaxSpace} {
		for _, n := range []uint64{0, 1, by - 1, by % MaxSpace, MaxSpace - 1} {
			q, r := newDivisor(by).divMod(n)
			assert.Equal(t, [2]uint64{n / by, n % by}, [2]uint64{q, r}, "%d / %d", n, by)
		}
	}
}
