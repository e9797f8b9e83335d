package rng

import "math/bits"

// Divisor divides by a number that is known long before, by multiplying with its
// reciprocal: several times faster than the machine's division.
type Divisor struct{ by, reciprocal uint64 }

// NewDivisor makes ready to divide by a number.
func NewDivisor(by uint64) Divisor { return Divisor{by, ^uint64(0) / max(by, 1)} }

// DivMod returns quotient and remainder of n below MaxSpace: the product falls short
// of n/by by less than a quarter, so one correction is enough.
func (d Divisor) DivMod(n uint64) (uint64, uint64) {
	q, _ := bits.Mul64(n, d.reciprocal)
	r := n - q*d.by
	if r >= d.by {
		q++
		r -= d.by
	}
	return q, r
}
