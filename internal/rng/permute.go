package rng

import "math/bits"

// Permutation is a keyed bijection of [0, n): an unbalanced Feistel network on
// the smallest sufficient number of bits, with cycle walking (Black and
// Rogaway, "Ciphers with Arbitrary Finite Domains", CT-RSA 2002). It needs no
// memory, so row n of a unique field is found at once.
type Permutation struct {
	n            uint64
	lo, hi       uint // bits of the two halves, lo >= hi
	rounds       int
	round        [maxRounds]uint64
	maskL, maskH uint64
}

// Rounds by the bits of the space: where a half has few bits, a round mixes little.
// (Measured with pairs of neighbours over many keys: 8 rounds are not enough for 2 or
// 3 bits, 12 are; for 20 bits and more 6 leave nothing to see.)
const maxRounds = 16

// roundsFor is the number of rounds that mix a number of so many bits well.
func roundsFor(width uint) int {
	switch {
	case width <= 12:
		return maxRounds
	case width < 20:
		return 10
	}
	return 6
}

// NewPermutation makes the permutation of [0, n) that a key gives.
func NewPermutation(k Key, n uint64) Permutation {
	width := uint(bits.Len64(n - 1))
	if n <= 1 {
		width = 0
	}
	p := Permutation{n: n, hi: width / 2, lo: width - width/2, rounds: roundsFor(width)}
	p.maskL, p.maskH = 1<<p.lo-1, 1<<p.hi-1
	for i := 0; i < p.rounds; i += 4 {
		w := Philox([4]uint64{uint64(i), n, 0, 2}, k)
		copy(p.round[i:], w[:])
	}
	return p
}

// At returns where i is taken to; i must be below n.
func (p *Permutation) At(i uint64) uint64 {
	if p.n < 2 {
		return 0
	}
	for {
		l, h := i&p.maskL, i>>p.lo
		for r := 0; r < p.rounds; r += 2 {
			h = (h ^ mix(l^p.round[r])) & p.maskH
			l = (l ^ mix(h^p.round[r+1])) & p.maskL
		}
		i = h<<p.lo | l
		if i < p.n {
			return i
		}
	}
}

// mix is the finaliser of a 64-bit hash: two multiply-xorshift steps, taking
// the well mixed high half.
func mix(x uint64) uint64 {
	x ^= x >> 32
	x *= 0xd6e8feb86659fd93
	x ^= x >> 32
	x *= 0xd6e8feb86659fd93
	return x >> 32
}
