package grow

import (
	"errors"
	"fmt"
	"math/big"
	"math/bits"
	"sort"

	"evensprout/internal/rng"
	"evensprout/internal/value"
)

// Shape says how the numbers of a range are distributed. Parameters that are not given follow from the
// range.
type Shape struct {
	Name         string
	Mean, Spread *value.Value // spread is the standard deviation
	Median, P95  *value.Value // half, and 95 of 100, are at most that
}

// shapeParams are the shapes with their parameters.
var shapeParams = []struct {
	name   string
	params []string
}{
	{"uniform", nil},
	{"normal", []string{"mean", "spread"}},
	{"lognormal", []string{"median", "p95"}},
	{"exponential", []string{"mean"}},
}

// text says a shape in full.
func (by Shape) text() string {
	out := by.Name
	for _, v := range []*value.Value{by.Mean, by.Spread, by.Median, by.P95} {
		if out += " "; v != nil {
			out += v.String()
		}
	}
	return out
}

// ShapeNames are the names of all shapes.
func ShapeNames() []string {
	var out []string
	for _, s := range shapeParams {
		out = append(out, s.name)
	}
	return out
}

// ShapeParams are the names of a shape's parameters.
func ShapeParams(name string) []string {
	for _, s := range shapeParams {
		if s.name == name {
			return s.params
		}
	}
	return nil
}

// shaped are the values of a range by a histogram: bins with weights, within which all values are as
// frequent. Bounds hold exactly, and growing needs integers alone.
type shaped struct {
	of ranged
	histogram
}

// histogram is numbers from 0 on, in bins with weights. Within a bin, all numbers are as frequent.
type histogram struct {
	first []uint64 // the first number of each bin, and the end of the last
	sums  []uint64 // running totals of the weights
}

// number is the number at a fraction of the whole weight.
func (h *histogram) number(of uint64) uint64 {
	u := fraction{u: of, left: 64}
	n := u.below(h.sums[len(h.sums)-1])
	bin := sort.Search(len(h.sums), func(i int) bool { return h.sums[i] > n })
	// Where the number lies in its bin follows from where it lies in the weight of the bin.
	before := uint64(0)
	if bin > 0 {
		before = h.sums[bin-1]
	}
	inside := fraction{u: scale64(n-before, u.u, h.sums[bin]-before), left: 64}
	return h.first[bin] + inside.below(h.first[bin+1]-h.first[bin])
}

// end is the number after the last.
func (h *histogram) end() uint64 { return h.first[len(h.first)-1] }

// groups are the bins as shares of parents that have so many children; lo is what the first number stands for.
func (h *histogram) groups(lo uint64) []rng.DealGroup {
	var out []rng.DealGroup
	before := uint64(0)
	for i, sum := range h.sums {
		out = append(out, rng.DealGroup{Lo: lo + h.first[i], Hi: lo + h.first[i+1] - 1,
			Weight: (sum - before) >> (weightBits - 20)})
		before = sum
	}
	return out
}

// ShapedDeal are the shares of parents with lo to hi children by a shape.
func ShapedDeal(lo, hi uint64, by Shape) ([]rng.DealGroup, error) {
	if hi > rng.MaxChildren {
		return nil, fmt.Errorf("at most %d children for one parent", rng.MaxChildren)
	}
	src, err := Between(value.Int(int64(lo)), value.Int(int64(hi)), 1)
	if err == nil {
		src, err = Shaped(src, by)
	}
	if err != nil {
		return nil, err
	}
	if s, ok := src.(*shaped); ok {
		return s.groups(lo), nil
	}
	return []rng.DealGroup{{Lo: lo, Hi: hi, Weight: 1}}, nil
}

// shapeBins is how many bins a histogram has at most.
const shapeBins = 256

// Shapes remembers what shapes are made of: many fields of a plan have the same range and shape, and a shape takes
// milliseconds. The zero value is ready; it belongs to one goroutine.
type Shapes struct{ known map[shapeKey]histogram }

// shapeKey is all that a histogram depends on.
type shapeKey struct {
	lo, step int64
	n        uint64
	scale    uint8
	by       string
}

// Shaped distributes the numbers of a range by a shape.
func Shaped(s Source, by Shape) (Source, error) { return new(Shapes).Shaped(s, by) }

// Shaped distributes the numbers of a range by a shape.
func (x *Shapes) Shaped(s Source, by Shape) (Source, error) {
	r, ok := s.(*ranged)
	if !ok || !value.IsNumber(r.typ) {
		return nil, errors.New("a shape is for numbers; for moments use hours, weekdays, rush, season and growth")
	}
	if by.Name == "uniform" || r.n == 1 {
		return s, nil
	}
	out := &shaped{of: *r}
	key := shapeKey{r.lo, r.step, r.n, r.scale, by.text()}
	if known, ok := x.known[key]; ok {
		out.histogram = known
		return out, nil
	}
	density, err := out.bins(by)
	if err != nil {
		return nil, err
	}
	total := uint64(0)
	for i := range len(out.first) - 1 {
		total += max(1, density(i)) // no value is impossible
		out.sums = append(out.sums, total)
	}
	if x.known == nil {
		x.known = map[shapeKey]histogram{}
	}
	x.known[key] = out.histogram
	return out, nil
}

// parameter is the value of a parameter, or one in its place.
func (s *shaped) parameter(v *value.Value, usual *big.Float) (*big.Float, error) {
	if v == nil {
		return usual, nil
	}
	r, ok := v.Rescale(s.of.scale)
	if !ok {
		return nil, fmt.Errorf("%s has more decimals than the range", v)
	}
	return bigInt(r.N), nil
}

// bins cuts the range into bins, and returns the weight of each.
func (s *shaped) bins(by Shape) (func(bin int) uint64, error) {
	lo, hi := bigInt(s.of.lo), bigInt(s.of.lo+int64(s.of.n-1)*s.of.step)
	switch by.Name {
	case "normal":
		return s.normal(by, lo, hi)
	case "exponential":
		return s.exponential(by, lo, hi)
	}
	return s.lognormal(by, lo, hi)
}

// normal is the shape of sums of many small things.
func (s *shaped) normal(by Shape, lo, hi *big.Float) (func(bin int) uint64, error) {
	mean, err1 := s.parameter(by.Mean, quo(add(lo, hi), 2))
	spread, err2 := s.parameter(by.Spread, quo(sub(hi, lo), 6))
	if err := errors.Join(err1, err2); err != nil {
		return nil, err
	}
	if spread.Sign() <= 0 {
		return nil, errors.New("spread must be above 0")
	}
	s.linear()
	return func(bin int) uint64 { return s.scaled(bin, gauss(s.middle(bin), mean, spread)) }, nil
}

// exponential is the shape of waiting times.
func (s *shaped) exponential(by Shape, lo, hi *big.Float) (func(bin int) uint64, error) {
	mean, err := s.parameter(by.Mean, add(lo, quo(sub(hi, lo), 5)))
	if err != nil {
		return nil, err
	}
	rest := sub(mean, lo)
	if rest.Sign() <= 0 {
		return nil, errors.New("mean must be above the lower end of the range")
	}
	s.linear()
	return func(bin int) uint64 {
		return s.scaled(bin, bigExp(new(big.Float).Neg(div(sub(s.middle(bin), lo), rest))))
	}, nil
}

// lognormal is the shape of prices and sizes: few are large.
func (s *shaped) lognormal(by Shape, lo, hi *big.Float) (func(bin int) uint64, error) {
	if s.of.lo <= 0 {
		return nil, errors.New("lognormal numbers are above 0: let the range begin above it")
	}
	low, high := bigLn(lo), bigLn(hi)
	middle, err1 := s.parameter(by.Median, bigExp(quo(add(low, high), 2)))
	p95, err2 := s.parameter(by.P95, nil)
	if err := errors.Join(err1, err2); err != nil {
		return nil, err
	}
	if middle.Sign() <= 0 || p95 != nil && p95.Cmp(middle) <= 0 {
		return nil, errors.New("median must be above 0, and p95 above it")
	}
	mu, sigma := bigLn(middle), quo(sub(high, low), 6)
	if p95 != nil {
		sigma = div(sub(bigLn(p95), mu), div(bigInt(1_644_854), bigInt(1_000_000)))
	}
	step := quo(sub(high, low), shapeBins)
	s.equalRatios(lo, low, step)
	logs := make([]*big.Float, len(s.first)) // of the ends of the bins
	for i, first := range s.first {
		if len(s.first) == shapeBins+1 {
			logs[i] = add(low, mul(step, bigInt(int64(i))))
			continue
		}
		logs[i] = bigLn(add(lo, mul(bigUint(first), bigInt(s.of.step)))) // some bins were joined
	}
	return func(bin int) uint64 {
		// Bins that were joined are wider: their weight is the density times the width in logarithms.
		a, b := logs[bin], logs[bin+1]
		return toWeight(mul(gauss(quo(add(a, b), 2), mu, sigma), div(sub(b, a), step)))
	}, nil
}

// equalRatios cuts the range into bins whose ends have the same ratio, so that small values have as
// fine ones as large values. low is the logarithm of the least value.
func (s *shaped) equalRatios(lo, low, step *big.Float) {
	s.first = []uint64{0}
	for i := 1; i <= shapeBins; i++ {
		edge, _ := quo(sub(bigExp(add(low, mul(step, bigInt(int64(i))))), lo), s.of.step).Uint64()
		if i == shapeBins {
			edge = s.of.n
		}
		if edge = min(edge, s.of.n); edge > s.first[len(s.first)-1] {
			s.first = append(s.first, edge)
		}
	}
}

// linear cuts the range into bins of equal width, as far as whole values go.
func (s *shaped) linear() {
	bins := min(s.of.n, shapeBins)
	for i := range bins + 1 {
		s.first = append(s.first, new(big.Int).Quo(new(big.Int).Mul(new(big.Int).SetUint64(s.of.n),
			new(big.Int).SetUint64(i)), new(big.Int).SetUint64(bins)).Uint64())
	}
}

// middle is the middle of a bin.
func (s *shaped) middle(bin int) *big.Float {
	twice := sub(add(bigUint(s.first[bin]), bigUint(s.first[bin+1])), bigInt(1))
	return add(bigInt(s.of.lo), mul(quo(twice, 2), bigInt(s.of.step)))
}

// scaled is the weight of a bin with a density: bins differ by one value in their width.
func (s *shaped) scaled(bin int, density *big.Float) uint64 {
	width := s.first[bin+1] - s.first[bin]
	bins := uint64(len(s.first) - 1)
	return toWeight(div(mul(density, bigUint(width)), div(bigUint(s.of.n), bigUint(bins))))
}

// weightBits are the bits of a density of 1 as a weight.
const weightBits = 32

// toWeight is a density of about 0 to 1 as a whole number.
func toWeight(density *big.Float) uint64 {
	w, _ := mul(density, bigInt(1<<weightBits)).Uint64()
	return min(w, 1<<44)
}

func (s *shaped) Type() value.Type                        { return s.of.Type() }
func (s *shaped) Scale() uint8                            { return s.of.Scale() }
func (s *shaped) Space() uint64                           { return s.of.Space() }
func (s *shaped) at(c cell, index uint64, v *value.Value) { s.of.at(c, index, v) }

func (s *shaped) grow(c cell, v *value.Value) {
	s.of.at(c, s.number(c.fraction(drawValue)), v)
}

// scale64 is (n + u/2^64) / of, as a fraction of 2^64.
func scale64(n, u, of uint64) uint64 {
	if of <= 1 {
		return u
	}
	quotient, _ := bits.Div64(n, u, of)
	return quotient
}

const floatBits = 128 // of the arithmetic that shapes are computed with, the same on every machine

func bigUint(n uint64) *big.Float { return new(big.Float).SetPrec(floatBits).SetUint64(n) }

func bigInt(n int64) *big.Float { return new(big.Float).SetPrec(floatBits).SetInt64(n) }

func add(a, b *big.Float) *big.Float { return new(big.Float).SetPrec(floatBits).Add(a, b) }
func sub(a, b *big.Float) *big.Float { return new(big.Float).SetPrec(floatBits).Sub(a, b) }
func mul(a, b *big.Float) *big.Float { return new(big.Float).SetPrec(floatBits).Mul(a, b) }
func div(a, b *big.Float) *big.Float { return new(big.Float).SetPrec(floatBits).Quo(a, b) }

func quo(a *big.Float, n int64) *big.Float { return div(a, bigInt(n)) }

// gauss is exp(-(x - mean)^2 / (2 spread^2)).
func gauss(x, mean, spread *big.Float) *big.Float {
	z := div(sub(x, mean), spread)
	return bigExp(new(big.Float).Neg(quo(mul(z, z), 2)))
}

// bigExp is e^x: x is halved until the series is short, and the result squared as often.
func bigExp(x *big.Float) *big.Float {
	if x.Cmp(bigInt(-200)) < 0 {
		return bigInt(0)
	}
	halvings := 0
	small := new(big.Float).SetPrec(floatBits).Set(x)
	for new(big.Float).Abs(small).Cmp(big.NewFloat(0.0625)) > 0 {
		small = quo(small, 2)
		halvings++
	}
	sum, term := bigInt(1), bigInt(1)
	for i := int64(1); i < 20; i++ { // 0.0625^20/20! is below 2^-128
		term = quo(mul(term, small), i)
		sum = add(sum, term)
	}
	for range halvings {
		sum = mul(sum, sum)
	}
	return sum
}

// bigLn is the natural logarithm, by Halley's iteration on e^y = x.
func bigLn(x *big.Float) *big.Float {
	y := mul(bigInt(int64(x.MantExp(nil))), new(big.Float).SetPrec(floatBits).Quo(bigInt(693_147), bigInt(1_000_000)))
	for range 5 { // each makes the error its third power: 0.7 becomes less than 2^-128
		e := bigExp(y)
		y = add(y, div(mul(bigInt(2), sub(x, e)), add(x, e)))
	}
	return y
}
