package grow

import (
	"fmt"
	"math/bits"
	"slices"
	"sync"

	"evensprout/internal/rng"
	"evensprout/internal/value"
)

// upward is the reference to the parent.
type upward struct{ to *Entity }

// Upward makes the reference of a child to its parent.
func Upward(parent *Entity) Source { return &upward{parent} }

func (s *upward) Type() value.Type        { return s.to.Key.Source.Type() }
func (s *upward) Scale() uint8            { return s.to.Key.Source.Scale() }
func (s *upward) target() *Entity         { return s.to }
func (s *upward) stored() *Field          { return s.to.Key }
func (s *upward) grow(cell, *value.Value) {}
func (s *upward) row(c cell) (Row, bool)  { p, _ := c.g.up(c.fr); return p, true }

// pick is a reference to some row of an entity.
type pick struct {
	PickOptions
	to      *Entity
	hot     uint64          // rows that a skew favours
	ranks   *histogram      // rows by how popular they are
	shuffle rng.Permutation // which rows these are
	below   *Path           // the picked row's parent, where that is the condition
	order   []segment       // rows that can be picked, by when they were loaded; nil: in the order of the rows
	found   *bitmap         // rows that meet conditions that are the same for all
	late    *bitmap         // found, made only when trying failed; guarded by look
	look    sync.Once
}

// PickOptions say how rows are picked.
type PickOptions struct {
	By       *Field // the field of the picked row that the cell holds, normally its key
	Distinct bool   // the children of one parent pick different rows
	Skew     *Skew
	Where    []Condition // of the picked row; As is seen from the picking row
	One      bool        // exactly one row must meet the conditions
}

// Skew makes some rows more popular than others: a share of the rows gets a share of the picks or, with Zipf,
// each rank is rarer than the one before.
type Skew struct {
	Top, Get Share
	Zipf     *Zipf // in place of the shares
}

// Pick makes references to the rows of an entity, spread evenly unless the options
// say otherwise. An entity that picks itself picks an earlier row; the first has
// none. Where no row meets the conditions, the cell is NULL.
func Pick(to *Entity, o PickOptions) Source {
	s := &pick{PickOptions: o, to: to}
	if len(o.Where) == 1 && to.Up != nil && o.Where[0].Path.Field == to.Up && len(o.Where[0].Path.Hops) == 0 &&
		!o.Where[0].Not {
		s.below = o.Where[0].As
	}
	return s
}

func (s *pick) Type() value.Type        { return s.By.Source.Type() }
func (s *pick) Scale() uint8            { return s.By.Source.Scale() }
func (s *pick) target() *Entity         { return s.to }
func (s *pick) stored() *Field          { return s.By }
func (s *pick) grow(cell, *value.Value) {}

// Space is how many rows can be picked: where conditions are fixed, known once these rows
// are found.
func (s *pick) Space() uint64 {
	if s.found != nil {
		return s.found.count
	}
	return s.to.Total()
}

// nth is the i-th row that can be picked.
func (s *pick) nth(i uint64) Row {
	if s.order != nil {
		return s.ordered(i)
	}
	if s.found != nil {
		i = s.found.at(i)
	}
	return s.to.at(i)
}

func (s *pick) at(c cell, i uint64, v *value.Value) {
	c.refer(s, s.nth(i), v)
}

func (s *pick) settle(f *Field) *FinishError {
	total := s.to.Total()
	if total == 0 && f.Entity.Total() > 0 {
		return &FinishError{
			Entity:  f.Entity,
			Field:   f,
			Message: fmt.Sprintf("picks from %s, which has no rows", s.to.Name),
		}
	}

	if s.Distinct {
		most := f.Entity.Deal.Max
		for i, given := 0, uint64(0); i < len(f.Entity.Side); i++ {
			if f.Entity.Side[i].Name != "" {
				if i == 0 || f.Entity.Side[i-1].Parent != f.Entity.Side[i].Parent {
					given = 0
				}
				given++
				most = max(most, given+f.Entity.Deal.Max)
			}
		}
		if most > total {
			return &FinishError{Entity: f.Entity, Field: f, Message: fmt.Sprintf(
				"one %s may need %d different %s, and only %d exist", f.Entity.Parent.Name, most, s.to.Name, total)}
		}
	}

	if s.Skew != nil && total > 0 && s.Skew.Zipf != nil {
		s.ranks = s.Skew.Zipf.histogram(total)
		s.shuffle = rng.NewPermutation(f.key().Sub("skew"), total)
	} else if s.Skew != nil && total > 0 {
		hi, lo := bits.Mul64(total, s.Skew.Top.Part)
		hot, _ := bits.Div64(hi, lo, s.Skew.Top.Whole)
		s.hot = min(max(hot, 1), total)
		s.shuffle = rng.NewPermutation(f.key().Sub("skew"), total)
	}
	return nil
}

func (s *pick) row(c cell) (Row, bool) {
	n := s.to.Total()
	switch {
	case c.f.group != nil:
		return s.nth(c.digit()), true
	case s.Distinct:
		return s.apart(c, n), true
	case s.below != nil:
		return s.child(c)
	case s.Where != nil:
		return s.matching(c)
	case s.ranks != nil:
		return s.to.at(s.shuffle.At(s.ranks.number(c.fraction(drawValue)))), true
	case s.Skew != nil:
		u := c.fraction(drawValue)
		if in, part := s.Skew.Get.split(u); in {
			return s.to.at(s.shuffle.At(rng.Below(part, s.hot))), true
		} else if s.hot < n {
			return s.to.at(s.shuffle.At(s.hot + rng.Below(part, n-s.hot))), true
		}
		return s.to.at(rng.Below(u, n)), true
	case s.to == c.fr.e:
		n = c.fr.row.N
		if !c.fr.row.Side {
			n += uint64(len(s.to.Side))
		}
		if n == 0 {
			return Row{}, false
		}
	}
	return s.to.at(rng.Below(c.fraction(drawValue), n)), true
}

// split reports whether a fraction falls into the share, and where inside or outside
// of it, again as a fraction.
func (s Share) split(u uint64) (bool, uint64) {
	hi, lo := bits.Mul64(u, s.Whole)
	if hi < s.Part {
		q, _ := bits.Div64(hi, lo, s.Part)
		return true, q
	}
	q, _ := bits.Div64(hi-s.Part, lo, s.Whole-s.Part)
	return false, q
}

// apart returns the pick of a row whose siblings must pick others: the parent's
// own permutation of the rows, in the order of the siblings. What a sibling
// given by name holds is passed over.
func (s *pick) apart(c cell, n uint64) Row {
	parent, ordinal := c.g.up(c.fr)
	id := c.fr.e.Parent.ID(parent)
	w := rng.Philox([4]uint64{id[1], id[0], 0, 5}, c.f.key())
	p := rng.NewPermutation(rng.Key{w[0], w[1]}, n)
	if !c.fr.row.Side {
		return s.to.at(p.At(ordinal))
	}
	held := map[Row]bool{}
	from, to := c.g.Below(c.fr.e, parent)
	skip := uint64(0) // siblings before this one that do not use the permutation
	for i := from; i < to; i++ {
		if given, ok := c.fr.e.Side[i].Given[c.f]; ok {
			held[given.Ref] = true
			if i < c.fr.row.N {
				skip++
			}
		}
	}

	for i, left := uint64(0), ordinal-skip; i < n; i++ {
		row := s.to.at(p.At(i))
		if held[row] {
			continue
		}
		if left == 0 {
			return row
		}
		left--
	}
	return s.to.at(p.At(ordinal % n)) // settle has made sure that there are enough
}

// copied is the value of another field.
type copied struct{ path Path }

// Same makes a copy of another field: of the same row, or over references. The copy
// of a reference is one, too.
func Same(p Path) Source {
	if p.Field.Target() != nil {
		return &copiedReference{p}
	}
	return &copied{p}
}

func (s *copied) Type() value.Type            { return s.path.Field.Source.Type() }
func (s *copied) Scale() uint8                { return s.path.Field.Source.Scale() }
func (s *copied) grow(c cell, v *value.Value) { *v = c.follow(&s.path) }

// copiedReference points to the row to which another reference points.
type copiedReference struct{ path Path }

func (s *copiedReference) of() reference           { return s.path.Field.Source.(reference) }
func (s *copiedReference) Type() value.Type        { return s.of().Type() }
func (s *copiedReference) Scale() uint8            { return s.of().Scale() }
func (s *copiedReference) target() *Entity         { return s.of().target() }
func (s *copiedReference) stored() *Field          { return s.of().stored() }
func (s *copiedReference) grow(cell, *value.Value) {}
func (s *copiedReference) row(c cell) (Row, bool)  { return c.g.followRow(c.fr, &s.path) }

// RefersUp reports whether a field refers to a row above its own in the family, so that
// the row is always there before.
func (f *Field) RefersUp() bool {
	if s, ok := f.Source.(riser); ok {
		return s.refersUp()
	}
	return false
}

// AddsUp returns the entities over whose rows an aggregate goes, from the child down;
// nil if the field is none.
func (f *Field) AddsUp() []*Entity {
	if s, ok := f.Source.(*aggregate); ok {
		return s.down
	}
	return nil
}

// Aggregation is what an aggregate does with the values below a row.
type Aggregation int

// The aggregations. Without rows, Sum and CountOf are 0, the others NULL.
const (
	Sum Aggregation = iota
	CountOf
	MinOf
	MaxOf
)

// aggregate is computed from a field of the rows below.
type aggregate struct {
	op   Aggregation
	down []*Entity // from the child to the entity that has the field
	of   *Field    // nil for CountOf
}

// Aggregate computes over a field of the rows below a row: down leads from a
// child entity to the field's own. It sees rows, not the database.
func Aggregate(op Aggregation, down []*Entity, of *Field) (Source, error) {
	if op == Sum && !value.IsNumber(of.Source.Type()) {
		return nil, fmt.Errorf(
			"a sum needs numbers, and %s.%s is of type %s",
			of.Entity.Name,
			of.Name,
			of.Source.Type(),
		)
	}
	return &aggregate{op, down, of}, nil
}

func (s *aggregate) Type() value.Type {
	if s.op == CountOf {
		return value.Integer
	}
	return s.of.Source.Type()
}

func (s *aggregate) Scale() uint8 {
	if s.op == CountOf {
		return 0
	}
	return s.of.Source.Scale()
}

func (s *aggregate) grow(c cell, v *value.Value) {
	if s.op == Sum || s.op == CountOf {
		v.Type, v.Scale = s.Type(), s.Scale()
	}
	s.walk(c, c.fr.row, s.down, v)
}

func (s *aggregate) walk(c cell, r Row, down []*Entity, v *value.Value) {
	g := c.g
	e := down[0]
	from, to := g.Below(e, r)
	if s.op == CountOf && len(down) == 1 && !g.record.AnyRejected(e) {
		v.N += int64(to - from)
		return
	}
	for n := from; n < to; n++ {
		row := Row{N: n, Side: r.Side}
		switch {
		case g.record.Rejected(e, row):
			continue
		case len(down) > 1:
			s.walk(c, row, down[1:], v)
			continue
		case s.op == CountOf:
			v.N++
			continue
		}
		fr := g.open(e, row)
		s.add(c, v, g.value(fr, s.of))
		fr.close()
	}
}

func (s *aggregate) add(c cell, v *value.Value, x *value.Value) {
	switch {
	case x.IsNull():
	case s.op == Sum:
		sum, ok := plus(v.N, x.N)
		if v.N = sum; !ok {
			c.fail(errOverflow)
		}
	case v.IsNull(), s.op == MinOf && less(x, v), s.op == MaxOf && less(v, x):
		*v = *x
	}
}

func less(a, b *value.Value) bool {
	if a.N != b.N {
		return a.N < b.N
	}
	return a.S < b.S
}

func (s *upward) redrawn(*Field) []*Field { return nil }

func (s *upward) refersUp() bool { return true }

func (s *aggregate) redrawn(*Field) []*Field { return nil }

func (s *aggregate) counts(_ *Field, seen []*Field) *Field {
	if s.of == nil {
		return nil
	}
	return s.of.countsMatter(seen)
}

func (s *copiedReference) redrawn(*Field) []*Field { return nil }

func (s *copiedReference) refersUp() bool {
	below := func(hop *Field) bool { return !hop.RefersUp() }
	return !slices.ContainsFunc(s.path.Hops, below) && s.path.Field.RefersUp()
}

func (s *pick) redrawn(f *Field) []*Field {
	if s.Distinct {
		return nil // siblings share one permutation
	}
	return []*Field{f}
}

func (s *pick) differsWithin() bool { return s.Distinct }

func (s *pick) counts(f *Field, _ []*Field) *Field { return f }

func (s *copied) redrawn(*Field) []*Field {
	if len(s.path.Hops) > 0 {
		return nil
	}
	return s.path.Field.Redrawn()
}

func (s *copied) differs(*Field) bool { return len(s.path.Hops) == 0 && s.path.Field.Inherent() }

func (s *copied) longest() string {
	text, _ := LongestText(s.path.Field.Source)
	return text
}
