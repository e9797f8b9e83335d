package grow

import "math/bits"

// divisor divides by a number that is known long before, by multiplying with its
// reciprocal: several times faster than the machine's division.
type divisor struct{ by, reciprocal uint64 }

func newDivisor(by uint64) divisor { return divisor{by, ^uint64(0) / max(by, 1)} }

// divMod returns quotient and remainder of n below MaxSpace: the product falls short
// of n/by by less than a quarter, so one correction is enough.
func (d divisor) divMod(n uint64) (uint64, uint64) {
	q, _ := bits.Mul64(n, d.reciprocal)
	r := n - q*d.by
	if r >= d.by {
		q++
		r -= d.by
	}
	return q, r
}
