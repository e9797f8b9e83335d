package grow

import (
	"errors"
	"fmt"
	"math"
	"sort"
	"unicode/utf8"

	"evensprout/internal/rng"
	"evensprout/internal/value"
)

// literal is the same value in every row.
type literal struct{ value value.Value }

// Literal makes a source of one fixed value.
func Literal(v value.Value) Source { return &literal{v} }

func (s *literal) Type() value.Type                    { return s.value.Type }
func (s *literal) Scale() uint8                        { return s.value.Scale }
func (s *literal) grow(_ cell, v *value.Value)         { *v = s.value }
func (s *literal) Space() uint64                       { return 1 }
func (s *literal) at(_ cell, _ uint64, v *value.Value) { *v = s.value }

// counter numbers the rows of an entity, or the children of each parent.
type counter struct {
	from, step int64
	fixed      bool // from was said by the plan
	restart    bool
}

// Count numbers grown rows from, from+step, ... If from is nil, it is 1, or,
// where rows given by name need numbers too, the first of 1001, 1000001 that
// leaves room for them: given rows then have 1, 2, 3 ... With restart, every
// parent's children are numbered anew.
func Count(from *int64, step int64, restart bool) (Source, error) {
	if step == 0 {
		return nil, errors.New("step must not be 0")
	}
	c := &counter{from: 1, step: step, restart: restart}
	if from != nil {
		c.from, c.fixed = *from, true
	}
	return c, nil
}

func (s *counter) Type() value.Type { return value.Integer }
func (s *counter) Scale() uint8     { return 0 }

func (s *counter) grow(c cell, v *value.Value) {
	v.Type = value.Integer
	switch {
	case s.restart:
		_, o := c.g.up(c.fr)
		v.N = s.nth(c, int64(o))
	case c.fr.row.Side:
		v.N = int64(c.fr.row.N) + 1
	default:
		v.N = s.nth(c, int64(c.fr.row.N))
	}
}

func (s *counter) nth(c cell, n int64) int64 {
	way, fits := times(n, s.step)
	at, ok := plus(s.from, way)
	if !ok || !fits {
		c.fail(errOverflow)
	}
	return at
}

func (s *counter) settle(f *Field) *FinishError {
	e := f.Entity
	if s.restart || len(e.Side) == 0 {
		return nil
	}
	side := int64(len(e.Side))
	if !s.fixed {
		s.from = 1001
		if side > 1000 {
			s.from = maxSide + 1
		}
	}

	used := map[int64]string{}
	for i := range e.Side {
		label := e.Label(Row{N: uint64(i), Side: true})
		n := int64(i) + 1
		given, ok := e.Side[i].Given[f]
		if ok {
			if given.Value.Type != value.Integer {
				continue
			}
			n = given.Value.N
		}
		if row := n - s.from; row%s.step == 0 && row/s.step >= 0 && uint64(row/s.step) < e.Rows {
			return &FinishError{e, f, e.Side[i].Name, fmt.Sprintf(
				"%s has the number %d, and so has generated row %d: count from a number beyond the given ones, "+
					"such as {count: {from: %d}}",
				label,
				n,
				row/s.step,
				side+1,
			)}
		}
		if other, ok := used[n]; ok {
			return &FinishError{e, f, e.Side[i].Name, fmt.Sprintf("%s and %s both have the number %d", other, label, n)}
		}
		used[n] = label
	}
	return nil
}

// RowOf finds the row that a numbering field gives the number n, as far as that
// follows from the numbering; a number given by hand is not looked for.
func (f *Field) RowOf(n int64) (Row, bool) {
	s, ok := f.Source.(*counter)
	if !ok || s.restart {
		return Row{}, false
	}
	if at := n - s.from; at%s.step == 0 && at/s.step >= 0 && uint64(at/s.step) < f.Entity.Rows {
		return Row{N: uint64(at / s.step)}, true
	}
	if i := n - 1; i >= 0 && i < int64(len(f.Entity.Side)) {
		if _, given := f.Entity.Side[i].Given[f]; !given {
			return Row{N: uint64(i), Side: true}, true
		}
	}
	return Row{}, false
}

// Numbers returns the least and the greatest number that a numbering field gives to
// grown rows; false if it is none, or its numbers are not dense.
func (f *Field) Numbers() (lo, hi int64, ok bool) {
	s, ok := f.Source.(*counter)
	if !ok || s.restart || s.step != 1 || f.Entity.Rows == 0 {
		return 0, 0, false
	}
	return s.from, s.from + int64(f.Entity.Rows) - 1, true
}

// Counted reports whether a field numbers its rows, so that its values mean nothing by
// themselves.
func (f *Field) Counted() bool {
	_, ok := f.Source.(*counter)
	return ok
}

// ranged is lo, lo+step, ... n values of an integral type.
type ranged struct {
	typ   value.Type
	scale uint8
	lo    int64
	step  int64
	n     uint64
}

// Between makes a source of the values from lo to hi, both included, step apart.
// Both have the same type: a number, a date, a time of day or a moment. A step of
// 0 means the smallest: 1, the last decimal, a day, the last digit of a second.
func Between(lo, hi value.Value, step int64) (Source, error) {
	r := &ranged{typ: lo.Type, scale: max(lo.Scale, hi.Scale), lo: lo.N, step: step}
	top := hi.N
	if err := haveRange(lo.Type, hi.Type); err != nil {
		return nil, err
	}
	if lo.Type == value.Decimal || hi.Type == value.Decimal {
		r.typ = value.Decimal
		a, okA := lo.Rescale(r.scale)
		b, okB := hi.Rescale(r.scale)
		if !okA || !okB {
			return nil, errors.New("the ends of the range have too many digits")
		}
		r.lo, top = a.N, b.N
	}

	if top < r.lo {
		return nil, fmt.Errorf("the range is reversed: %s comes after %s", lo, hi)
	}
	if step < 0 {
		return nil, errors.New("step must be above 0")
	}
	if step == 0 {
		r.step = 1
		if lo.Type == value.Time || lo.Type == value.Timestamp {
			r.step = tick(r.scale)
		}
	}

	distance := uint64(top) - uint64(r.lo)
	if distance/uint64(r.step) >= MaxSpace {
		return nil, errors.New("the range is too large: at most 2^62 values")
	}
	r.n = distance/uint64(r.step) + 1
	return r, nil
}

// haveRange refuses two types between whose values there is no range.
func haveRange(lo, hi value.Type) error {
	switch {
	case value.IsNumber(lo) && value.IsNumber(hi):
		return nil
	case lo != hi:
		return fmt.Errorf("the ends of the range have different types: %s and %s", lo, hi)
	case lo != value.Date && lo != value.Time && lo != value.Timestamp:
		return fmt.Errorf("the type %s has no ranges; numbers, dates, times and moments have", lo)
	}
	return nil
}

// tick is the last shown digit of a second, in microseconds.
func tick(digits uint8) int64 {
	unit := value.Second
	for range digits {
		unit /= 10
	}
	return unit
}

func (s *ranged) Type() value.Type { return s.typ }
func (s *ranged) Scale() uint8     { return s.scale }
func (s *ranged) Space() uint64    { return s.n }
func (s *ranged) grow(c cell, v *value.Value) {
	s.at(c, rng.Below(c.fraction(drawValue), s.n), v)
}

func (s *ranged) at(_ cell, i uint64, v *value.Value) {
	v.Type, v.Scale, v.N = s.typ, s.scale, s.lo+int64(i)*s.step
}

// choice is one of several values, by weight.
type choice struct {
	values []value.Value
	sums   []uint64 // running totals of the weights; nil if all are equal
	typ    value.Type
	scale  uint8
}

// MaxWeight bounds the sum of the weights of a choice.
const MaxWeight = 1 << 40

// Choose makes a source of weighted values, all of one type; integers among
// decimals become decimals. weights may be nil: all equal.
func Choose(values []value.Value, weights []uint64) (Source, error) {
	if len(values) == 0 {
		return nil, errors.New("the list of choices is empty")
	}
	s := &choice{typ: value.Null}
	for _, v := range values {
		switch {
		case v.IsNull():
			return nil, errors.New("null is not a choice: use nulls: 10%")
		case s.typ == value.Null || s.typ == value.Integer && v.Type == value.Decimal:
			s.typ = v.Type
		case s.typ == value.Decimal && v.Type == value.Integer:
		case s.typ != v.Type:
			return nil, fmt.Errorf(
				"the choices have different types: %s and %s (put text in quotes)",
				s.typ,
				v.Type,
			)
		}
		s.scale = max(s.scale, v.Scale)
	}

	for _, v := range values {
		if s.typ == value.Decimal {
			r, ok := v.Rescale(s.scale)
			if !ok {
				return nil, fmt.Errorf("%s has too many digits", v)
			}
			v = r
		}
		s.values = append(s.values, v)
	}

	total := uint64(0)
	equal := true
	for _, w := range weights {
		if w > MaxWeight || total+w > MaxWeight {
			return nil, fmt.Errorf("the weights add up to more than %d", int64(MaxWeight))
		}
		total += w
		s.sums = append(s.sums, total)
		equal = equal && w == weights[0]
	}

	if weights != nil && total == 0 {
		return nil, errors.New("all weights are 0")
	}
	if equal {
		s.sums = nil
	}
	return s, nil
}

func (s *choice) Type() value.Type { return s.typ }
func (s *choice) Scale() uint8     { return s.scale }
func (s *choice) Space() uint64    { return uint64(len(s.values)) }
func (s *choice) grow(c cell, v *value.Value) {
	u := c.fraction(drawValue)
	if s.sums == nil {
		*v = s.values[rng.Below(u, uint64(len(s.values)))]
		return
	}
	t := rng.Below(u, s.sums[len(s.sums)-1])
	*v = s.values[sort.Search(len(s.sums), func(i int) bool { return s.sums[i] > t })]
}
func (s *choice) at(_ cell, i uint64, v *value.Value) { *v = s.values[i] }

// portion is true for a share of the rows.
type portion struct{ share Share }

// True makes a boolean that is true for a share of the rows.
func True(s Share) Source { return &portion{s} }

func (s *portion) Type() value.Type { return value.Boolean }
func (s *portion) Scale() uint8     { return 0 }
func (s *portion) Space() uint64    { return 2 }
func (s *portion) grow(c cell, v *value.Value) {
	*v = value.Bool(s.share.hit(c.fraction(drawValue)))
}
func (s *portion) at(_ cell, i uint64, v *value.Value) { *v = value.Bool(i == 1) }

// identifier is a UUID.
type identifier struct {
	version int
	clock   int64
}

// RandomUUID makes version 4 UUIDs (RFC 9562).
func RandomUUID() Source { return &identifier{version: 4} }

// OrderedUUID makes version 7 UUIDs (RFC 9562) whose time is the plan's clock.
// The bits after the time hold the row number, so that they sort as the rows do.
func OrderedUUID(clock value.Value) Source { return &identifier{7, clock.N} }

func (s *identifier) Type() value.Type { return value.UUID }
func (s *identifier) Scale() uint8     { return 0 }
func (s *identifier) grow(c cell, v *value.Value) {
	w := rng.Philox([4]uint64{c.fr.id[1], c.fr.id[0], c.attempt(), 0}, c.f.key())
	hi, lo := w[0], w[1]
	if s.version == 7 {
		n := c.fr.id[1] // 42 bits of counter, then 32 random bits
		hi = uint64(s.clock/1000)<<16 | n>>30&0xfff
		lo = n&(1<<30-1)<<32 | w[1]&math.MaxUint32
	}
	v.Type = value.UUID
	v.N = int64(hi&^0xf000 | uint64(s.version)<<12)
	v.M = lo&(1<<62-1) | 1<<63
}

// Texts returns the texts that a literal or a choice can be; nil for other sources.
func Texts(s Source) []string {
	if s, ok := s.(speller); ok {
		return s.texts()
	}
	return nil
}

// longestOf is the longest of some texts.
func longestOf(texts []string) string {
	best := ""
	for _, s := range texts {
		if utf8.RuneCountInString(s) > utf8.RuneCountInString(best) {
			best = s
		}
	}
	return best
}

// LongestText returns the longest text that a source is known to make, with its
// length in characters; 0 if that is not known beforehand.
func LongestText(s Source) (string, int) {
	l, ok := s.(bounded)
	if !ok {
		return "", 0
	}
	text := l.longest()
	return text, utf8.RuneCountInString(text)
}

func (n *node) appendLongest(b []byte) []byte {
	switch n.op {
	case opClass:
		return utf8.AppendRune(b, n.runes[0])
	case opEither:
		best := n.subs[0]
		for _, s := range n.subs {
			if s.longest() > best.longest() {
				best = s
			}
		}
		return best.appendLongest(b)
	case opRepeat:
		for range n.max {
			b = n.subs[0].appendLongest(b)
		}
		return b
	}
	for _, s := range n.subs {
		b = s.appendLongest(b)
	}
	return b
}

func (s *literal) redrawn(*Field) []*Field { return nil }

func (s *literal) texts() []string {
	if s.value.Type != value.Text {
		return nil
	}
	return []string{s.value.S}
}

func (s *literal) longest() string { return longestOf(s.texts()) }

func (s *counter) redrawn(*Field) []*Field { return nil }

func (s *counter) differs(*Field) bool { return !s.restart }

func (s *counter) differsWithin() bool { return s.restart }

func (s *identifier) differs(*Field) bool { return true }

func (s *choice) texts() []string {
	var out []string
	for _, v := range s.values {
		if v.Type == value.Text {
			out = append(out, v.S)
		}
	}
	return out
}

func (s *choice) longest() string { return longestOf(s.texts()) }
