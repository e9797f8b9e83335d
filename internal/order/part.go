package order

import (
	"fmt"
	"math/bits"
	"strconv"
	"strings"
)

// Part is a share of a plan's rows, whole families: the one with that number, from 1, of
// so many. The zero value is all rows.
type Part struct {
	Number uint64 `json:"number"`
	Of     uint64 `json:"of"`
}

// MaxParts bounds how many parts there are.
const MaxParts = 1_000

// ParsePart reads 3/16.
func ParsePart(text string) (Part, error) {
	number, of, ok := strings.Cut(text, "/")
	p := Part{}
	var errs [2]error
	p.Number, errs[0] = strconv.ParseUint(number, 10, 32)
	p.Of, errs[1] = strconv.ParseUint(of, 10, 32)
	switch {
	case !ok || errs[0] != nil || errs[1] != nil:
		return Part{}, fmt.Errorf("a part must be written as 3/16, got %q", text)
	case p.Of < 1 || p.Of > MaxParts:
		return Part{}, fmt.Errorf("the number of parts must be 1 to %d, got %d", MaxParts, p.Of)
	case p.Number < 1 || p.Number > p.Of:
		return Part{}, fmt.Errorf("a part of %d must be numbered 1 to %d, got %d", p.Of, p.Of, p.Number)
	}
	return p, nil
}

// String writes the part as --part reads it: 2/3.
func (p Part) String() string { return fmt.Sprintf("%d/%d", p.Number, p.Of) }

// Whole reports whether the part is all rows.
func (p Part) Whole() bool { return p.Of <= 1 }

// Range is which of n rows without a parent belong to the part: from lo to hi-1. Parts
// differ by at most one row.
func (p Part) Range(n uint64) (lo, hi uint64) {
	if p.Whole() {
		return 0, n
	}
	return share(n, p.Number-1, p.Of), share(n, p.Number, p.Of)
}

// share is n * k / of, rounded down: where the k-th of equal parts of n begins.
func share(n, k, of uint64) uint64 {
	high, low := bits.Mul64(n, k)
	q, _ := bits.Div64(high, low, of)
	return q
}

// Given reports whether the part has the rows written by hand: they all belong to the first.
func (p Part) Given() bool { return p.Whole() || p.Number == 1 }

// All lists all parts.
func (p Part) All() []Part {
	if p.Whole() {
		return []Part{p}
	}
	list := make([]Part, p.Of)
	for i := range list {
		list[i] = Part{uint64(i) + 1, p.Of}
	}
	return list
}
