package grow

import (
	"errors"
	"fmt"
	"math/bits"

	"evensprout/internal/rng"
	"evensprout/internal/value"
)

// End is one end of a stretch of time: a fixed moment, or a field.
type End struct {
	Fixed value.Value
	Path  *Path // nil if fixed
}

// Type is the logical type of the end.
func (e *End) Type() value.Type {
	if e.Path != nil {
		return e.Path.Field.Source.Type()
	}
	return e.Fixed.Type
}

func (e *End) value(c cell) value.Value {
	if e.Path != nil {
		return c.follow(e.Path)
	}
	return e.Fixed
}

// stretch is a moment after one end, before another, or both.
type stretch struct {
	after, before *End       // at least one
	within        value.Span // zero if both ends are there and nothing more is said
	least         value.Span // from the first end
	by            *Calendar  // nil: all moments are as frequent
	shape         *shaped    // of the distance from the first end, in units; nil: all are as frequent
	typ           value.Type // Date or Timestamp
	digits        uint8
	unit          int64 // of microseconds
}

// MomentOptions say more about moments between ends.
type MomentOptions struct {
	Least, Within value.Span // from the first end that is given
	Digits        uint8      // of a second
	Step          int64      // in microseconds; 0: the smallest. One shorter than a day makes moments of dates
	Dates         bool       // the days of the moments
	By            *Calendar  // nil: all moments are as frequent
	// Shape is how distances from the first end are distributed; its parameters are microseconds. nil: all are
	// as frequent.
	Shape *Shape
}

// Moment makes moments strictly after one end and strictly before the other, at
// most a span away from the first that is given. Where that leaves no room, it
// is the first moment after the earlier end.
func Moment(after, before *End, o MomentOptions) (Source, error) {
	s := &stretch{after: after, before: before, within: o.Within, least: o.Least, digits: o.Digits, by: o.By,
		unit: o.Step}
	within := o.Within
	first := after
	if first == nil {
		first = before
	}
	if within == (value.Span{}) && (after == nil || before == nil) {
		return nil, errors.New("within is missing: give the longest distance, such as within: 90d")
	}
	for _, e := range []*End{after, before} {
		if e == nil {
			continue
		}
		if t := e.Type(); t != value.Date && t != value.Timestamp {
			return nil, fmt.Errorf("a moment cannot be computed from type %s", t)
		}
	}

	switch s.typ = first.Type(); {
	case o.Dates:
		s.typ = value.Date
	case o.Step%value.Day != 0:
		s.typ = value.Timestamp
	}
	if err := s.setUnit(); err != nil {
		return nil, err
	}
	if o.Shape != nil {
		if err := s.setShape(*o.Shape); err != nil {
			return nil, err
		}
	}
	if s.fixed() {
		return s.simplified()
	}
	return s, nil
}

// simplified is the source of moments whose ends are the same for all rows.
func (s *stretch) simplified() (Source, error) {
	lo, n := s.limits(fixedOf(s.after), fixedOf(s.before))
	for _, us := range []int64{lo, lo + int64(n-1)*s.unit} {
		if err := value.InCalendar(&value.Value{Type: value.Timestamp, N: us}); err != nil {
			return nil, fmt.Errorf("the span is too long: %w", err)
		}
	}
	switch {
	case s.shape != nil:
		return s, nil
	case s.by != nil:
		return &scheduled{s.typ, s.scale(), lo, n, s.unit, s.by}, nil
	}
	return &ranged{typ: s.typ, scale: s.scale(), lo: s.fold(lo), step: s.fold(s.unit), n: n}, nil
}

// setUnit sets the smallest step, in microseconds, and refuses a span that is not made of such steps.
func (s *stretch) setUnit() error {
	smallest := tick(s.digits)
	if s.typ == value.Date {
		smallest = value.Day
	}
	if s.unit == 0 {
		s.unit = smallest
	}
	if s.unit%smallest != 0 {
		return errors.New("step is not a multiple of the smallest step")
	}
	if s.typ == value.Date {
		if s.within.Micros%value.Day != 0 {
			return errors.New("a date moves by whole days: d, w, mo, y")
		}
	}
	if s.within != (value.Span{}) && s.within.Months == 0 && s.within.Micros < s.unit {
		return errors.New("the span is shorter than the smallest step")
	}
	return nil
}

// setShape distributes the distances of a shape. Where another end leaves less room, they shrink with it.
func (s *stretch) setShape(by Shape) error {
	if s.by != nil {
		return errors.New("a shape cannot be combined with a calendar")
	}
	if s.within == (value.Span{}) {
		return errors.New("a shape of moments needs within: the longest distance")
	}
	least := max(s.least.After(0, 1)/s.unit, 1)
	distances, err := Between(value.Int(least), value.Int(max(s.within.After(0, 1)/s.unit, least)), 1)
	if err != nil {
		return err
	}
	for _, of := range []**value.Value{&by.Mean, &by.Spread, &by.Median, &by.P95} {
		if *of != nil {
			units := value.Int((*of).N / s.unit)
			*of = &units
		}
	}
	src, err := Shaped(distances, by)
	s.shape, _ = src.(*shaped)
	return err
}

// distance is a number below n by the shape.
func (s *stretch) distance(u, n uint64) uint64 {
	hi, lo := bits.Mul64(s.shape.number(u), n)
	d, _ := bits.Div64(hi, lo, s.shape.end())
	if s.after == nil {
		return n - 1 - d // counted from the later end
	}
	return d
}

// fixedOf is the fixed moment of an end; NULL if it has none.
func fixedOf(e *End) value.Value {
	if e == nil {
		return value.Value{}
	}
	return e.Fixed
}

func (s *stretch) fixed() bool {
	return (s.after == nil || s.after.Path == nil) && (s.before == nil || s.before.Path == nil)
}

func (s *stretch) Type() value.Type { return s.typ }
func (s *stretch) Scale() uint8     { return s.scale() }
func (s *stretch) scale() uint8 {
	if s.typ == value.Date {
		return 0
	}
	return s.digits
}

// fold turns microseconds into the unit of the type's N.
func (s *stretch) fold(us int64) int64 {
	if s.typ == value.Date {
		return value.FloorDiv(us, value.Day)
	}
	return us
}

func micros(v value.Value) int64 {
	if v.Type == value.Date {
		return v.N * value.Day
	}
	return v.N
}

// limits returns the first moment and how many there are, a unit apart.
func (s *stretch) limits(after, before value.Value) (int64, uint64) {
	var lo, hi int64
	if s.after != nil {
		a := micros(after)
		from := s.least.After(a, 1)
		lo = from - floorMod(from, s.unit) + s.unit
		if s.least != (value.Span{}) && floorMod(from, s.unit) == 0 {
			lo = from // the shortest distance is one that there can be
		}
		if s.within != (value.Span{}) {
			hi = s.within.After(a, 1)
		}
		if s.before != nil {
			if b := micros(before) - 1; s.within == (value.Span{}) || b < hi {
				hi = b
			}
		}
	} else {
		b := micros(before)
		hi = b - 1
		if s.least != (value.Span{}) {
			hi = s.least.After(b, -1)
		}
		lo = s.within.After(b, -1)
		lo += floorMod(-lo, s.unit)
	}
	if hi < lo {
		return lo, 1
	}
	return lo, uint64(hi-lo)/uint64(s.unit) + 1
}

func floorMod(a, b int64) int64 { return a - value.FloorDiv(a, b)*b }

func (s *stretch) grow(c cell, v *value.Value) {
	lo, n, ok := s.room(c)
	if !ok {
		return
	}
	us := int64(0)
	switch {
	case s.by != nil:
		us = s.by.choose(c, lo, n, s.unit)
	case s.shape != nil:
		us = lo + int64(s.distance(c.fraction(drawValue), n))*s.unit
	default:
		us = lo + int64(rng.Below(c.fraction(drawValue), n))*s.unit
	}
	v.Type, v.Scale, v.N = s.typ, s.scale(), s.fold(us)
}

// room is the first moment that a row can have, and how many there are; false if it has
// none.
func (s *stretch) room(c cell) (lo int64, n uint64, ok bool) {
	var a, b value.Value
	if s.after != nil {
		if a = s.after.value(c); a.IsNull() {
			return 0, 0, false
		}
	}
	if s.before != nil {
		if b = s.before.value(c); b.IsNull() {
			if s.after == nil || s.within == (value.Span{}) {
				return 0, 0, false
			}
			b = value.Value{Type: value.Timestamp, N: s.within.After(micros(a), 1) + 1}
		}
	}
	lo, n = s.limits(a, b)
	return lo, n, true
}

// leave moves a moment to one that leaves a rest when counted in so many steps; false if
// a row has too few moments.
func (s *stretch) leave(c cell, v *value.Value, rest, of int64) bool {
	lo, n, ok := s.room(c)
	if !ok || uint64(of) > n {
		return false
	}
	at := micros(*v)
	at -= floorMod(value.FloorDiv(at, s.unit)-rest, of) * s.unit
	if at < lo {
		at += of * s.unit
	}
	v.N = s.fold(at)
	return true
}
