package grow

import (
	"fmt"
	"math"
)

// upward is the reference to the parent.
type upward struct{ to *Entity }

// Upward makes the reference of a child to its parent.
func Upward(parent *Entity) Source { return &upward{parent} }

func (s *upward) Type() Type             { return s.to.Key.Source.Type() }
func (s *upward) Scale() uint8           { return s.to.Key.Source.Scale() }
func (s *upward) target() *Entity        { return s.to }
func (s *upward) stored() *Field         { return s.to.Key }
func (s *upward) grow(cell, *Value)      {}
func (s *upward) row(c cell) (Row, bool) { p, _ := c.g.up(c.fr); return p, true }

// pick is a reference to some row of an entity.
type pick struct {
	to       *Entity
	by       *Field
	distinct bool
}

// Pick makes references to the rows of an entity, spread evenly. The cell holds
// the row's field by. With distinct, the children of one parent pick different
// rows. An entity that picks itself picks an earlier row; the first has none.
func Pick(to *Entity, by *Field, distinct bool) Source {
	return &pick{to, by, distinct}
}

func (s *pick) Type() Type        { return s.by.Source.Type() }
func (s *pick) Scale() uint8      { return s.by.Source.Scale() }
func (s *pick) target() *Entity   { return s.to }
func (s *pick) stored() *Field    { return s.by }
func (s *pick) grow(cell, *Value) {}
func (s *pick) Space() uint64     { return s.to.Total() }
func (s *pick) at(c cell, i uint64, v *Value) {
	c.refer(s, s.to.at(i), v)
}

func (s *pick) settle(f *Field) *FinishError {
	total := s.to.Total()
	if total == 0 && f.Entity.Total() > 0 {
		return &FinishError{Entity: f.Entity, Field: f, Message: fmt.Sprintf("picks from %s, which has no rows", s.to.Name)}
	}
	if s.distinct {
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
				"one %s may need %d different %s, and there are only %d", f.Entity.Parent.Name, most, s.to.Name, total)}
		}
	}
	return nil
}

func (s *pick) row(c cell) (Row, bool) {
	n := s.to.Total()
	switch {
	case c.f.group != nil:
		return s.to.at(c.digit()), true
	case s.distinct:
		return s.apart(c, n), true
	case s.to == c.fr.e:
		n = c.fr.row.N
		if !c.fr.row.Side {
			n += uint64(len(s.to.Side))
		}
		if n == 0 {
			return Row{}, false
		}
	}
	return s.to.at(below(c.fraction(drawValue), n)), true
}

// apart returns the pick of a row whose siblings must pick others: the parent's
// own permutation of the rows, in the order of the siblings. What a sibling
// given by name holds is passed over.
func (s *pick) apart(c cell, n uint64) Row {
	parent, ordinal := c.g.up(c.fr)
	id := c.fr.e.Parent.ID(parent)
	w := philox([4]uint64{id[1], id[0], 0, 5}, c.f.key())
	p := newPermutation(Key{w[0], w[1]}, n)
	if !c.fr.row.Side {
		return s.to.at(p.at(ordinal))
	}
	held := map[Row]bool{}
	from, to := c.g.childRows(c.fr.e, parent)
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
		row := s.to.at(p.at(i))
		if held[row] {
			continue
		}
		if left == 0 {
			return row
		}
		left--
	}
	return s.to.at(p.at(ordinal % n)) // settle has made sure that there are enough
}

// copied is the value of another field.
type copied struct{ path Path }

// Same makes a copy of another field: of the same row, or over references.
func Same(p Path) Source { return &copied{p} }

func (s *copied) Type() Type            { return s.path.Field.Source.Type() }
func (s *copied) Scale() uint8          { return s.path.Field.Source.Scale() }
func (s *copied) grow(c cell, v *Value) { *v = c.follow(&s.path) }

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
	if op == Sum && !isNumber(of.Source.Type()) {
		return nil, fmt.Errorf("a sum needs numbers, and %s.%s is of type %s", of.Entity.Name, of.Name, of.Source.Type())
	}
	return &aggregate{op, down, of}, nil
}

func (s *aggregate) Type() Type {
	if s.op == CountOf {
		return Integer
	}
	return s.of.Source.Type()
}

func (s *aggregate) Scale() uint8 {
	if s.op == CountOf {
		return 0
	}
	return s.of.Source.Scale()
}

func (s *aggregate) grow(c cell, v *Value) {
	if s.op == Sum || s.op == CountOf {
		v.Type, v.Scale = s.Type(), s.Scale()
	}
	s.walk(c.g, c.fr.row, s.down, v)
}

func (s *aggregate) walk(g *Grower, r Row, down []*Entity, v *Value) {
	e := down[0]
	from, to := g.childRows(e, r)
	if s.op == CountOf && len(down) == 1 {
		v.N += int64(to - from)
		return
	}
	for n := from; n < to; n++ {
		row := Row{N: n, Side: r.Side}
		if len(down) > 1 {
			s.walk(g, row, down[1:], v)
			continue
		}
		fr := g.open(e, row)
		s.add(v, g.value(fr, s.of))
		fr.close()
	}
}

func (s *aggregate) add(v *Value, x *Value) {
	switch {
	case x.IsNull():
	case s.op == Sum:
		if sum := v.N + x.N; (sum > v.N) == (x.N > 0) {
			v.N = sum
		} else if x.N > 0 {
			v.N = math.MaxInt64
		} else if x.N < 0 {
			v.N = math.MinInt64
		}
	case v.IsNull(), s.op == MinOf && less(x, v), s.op == MaxOf && less(v, x):
		*v = *x
	}
}

func less(a, b *Value) bool {
	if a.N != b.N {
		return a.N < b.N
	}
	return a.S < b.S
}

// childRows returns the range of e's rows whose parent is r: numbers of grown
// rows, or indexes of side rows.
func (g *Grower) childRows(e *Entity, r Row) (from, to uint64) {
	return g.firstChild(e, r.Side, r.N), g.firstChild(e, r.Side, r.N+1)
}
