package rng

import "math/bits"

// Philox returns 256 random bits for a counter under a key: Philox4x64-10.
// Source: Salmon, Moraes, Dror, Shaw, "Parallel Random Numbers: As Easy as
// 1, 2, 3" (SC 2011).
func Philox(ctr [4]uint64, key Key) [4]uint64 {
	const (
		mul0, mul1   = 0xD2E7470EE14C6C93, 0xCA5A826395121157
		weyl0, weyl1 = 0x9E3779B97F4A7C15, 0xBB67AE8584CAA73B
	)
	c0, c1, c2, c3 := ctr[0], ctr[1], ctr[2], ctr[3]
	k0, k1 := key[0], key[1]
	for range 10 {
		hi0, lo0 := bits.Mul64(mul0, c0)
		hi1, lo1 := bits.Mul64(mul1, c2)
		c0, c1, c2, c3 = hi1^c1^k0, lo1, hi0^c3^k1, lo0
		k0 += weyl0
		k1 += weyl1
	}
	return [4]uint64{c0, c1, c2, c3}
}

// Below maps a 64-bit fraction u/2^64 to an integer in [0, n), keeping order:
// strata of u stay strata of the result.
func Below(u, n uint64) uint64 {
	hi, _ := bits.Mul64(u, n)
	return hi
}
