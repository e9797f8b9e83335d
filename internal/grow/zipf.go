package grow

import (
	"errors"
	"math/big"

	"evensprout/internal/value"
)

// Zipf says how much rarer each rank is than the first: the n-th has the weight 1/n^exponent (Zipf's law).
type Zipf struct{ thousandths int64 }

// NewZipf makes the law of an exponent, a number between 0.1 and 5; 1 is the usual one.
func NewZipf(exponent value.Value) (Zipf, error) {
	r, ok := exponent.Rescale(3)
	if !ok || !value.IsNumber(exponent.Type) || r.N < 100 || r.N > 5000 {
		return Zipf{}, errors.New("the exponent of zipf must be between 0.1 and 5, with at most three decimals")
	}
	return Zipf{r.N}, nil
}

// Weights are the weights of the first ranks.
func (z Zipf) Weights(ranks int) []uint64 {
	var out []uint64
	for rank := range ranks {
		out = append(out, z.weight(bigInt(int64(rank)+1), bigInt(1)))
	}
	return out
}

// weight is that of some ranks around one.
func (z Zipf) weight(rank, width *big.Float) uint64 {
	density := bigExp(new(big.Float).Neg(mul(bigLn(rank), quo(bigInt(z.thousandths), 1000))))
	w, _ := add(mul(mul(density, width), bigInt(1<<20)), quo(bigInt(1), 2)).Uint64() // to the nearest
	return max(1, w)                                                                 // no rank is impossible
}

// Ranks have bins of their own up to zipfAlone; each later bin is an eighth of its first rank wide, within which
// the law changes by little.
const zipfAlone = 64

// histogram are the ranks from 0 to n-1.
func (z Zipf) histogram(n uint64) *histogram {
	h := &histogram{first: []uint64{0}}
	total := uint64(0)
	for at := uint64(0); at < n; {
		width := uint64(1)
		if at >= zipfAlone {
			width = min(at/8, n-at)
		}
		middle := add(bigUint(at), quo(bigUint(width+1), 2)) // of the ranks at+1 to at+width
		total += z.weight(middle, bigUint(width))
		at += width
		h.first, h.sums = append(h.first, at), append(h.sums, total)
	}
	return h
}
