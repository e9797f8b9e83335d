package grow

import (
	"errors"
	"fmt"

	"evensprout/internal/value"
)

// Branch is a value of a case, and when it counts.
type Branch struct {
	When  []*Field                        // what the condition is over
	Holds func(values []value.Value) bool // of these fields, in their order
	Value *Field                          // an inner field
}

// byCase is the value of the first branch whose condition holds.
type byCase struct {
	branches []Branch
	rest     *Field // nil: NULL
	typ      value.Type
	scale    uint8
}

// Case makes the value of the first branch whose condition holds, and else that of the field rest, or
// NULL if it is nil. All values have one type; integers among decimals become decimals.
func Case(branches []Branch, rest *Field) (Source, error) {
	if len(branches) == 0 {
		return nil, errors.New("a case has at least one condition")
	}
	s := &byCase{branches: branches, rest: rest, typ: value.Null}
	all := []*Field{rest}
	for _, b := range branches {
		all = append(all, b.Value)
	}
	for _, f := range all {
		if f == nil {
			continue
		}
		switch typ := f.Source.Type(); {
		case typ == value.Null:
		case s.typ == value.Null || s.typ == value.Integer && typ == value.Decimal:
			s.typ = typ
		case s.typ == value.Decimal && typ == value.Integer:
		case s.typ != typ:
			return nil, fmt.Errorf("the values of the case have different types: %s and %s", s.typ, typ)
		}
		s.scale = max(s.scale, f.Source.Scale())
	}
	return s, nil
}

// CaseOfRows is a case whose values are references: all to rows of one entity, of which they keep one field.
func CaseOfRows(branches []Branch, rest *Field) (Source, error) {
	var first *Field
	for _, b := range append([]Branch{{Value: rest}}, branches...) {
		switch {
		case b.Value == nil, b.Value.Source.Type() == value.Null:
		case b.Value.Target() == nil, first != nil && (b.Value.Target() != first.Target() ||
			b.Value.Stored() != first.Stored()):
			return nil, errors.New("some values of the case are references, and others are not, or to other rows")
		case first == nil:
			first = b.Value
		}
	}
	return &caseOfRows{byCase{branches: branches, rest: rest}, first}, nil
}

// caseOfRows is the reference of the first branch whose condition holds.
type caseOfRows struct {
	byCase
	like *Field // one of the references
}

func (s *caseOfRows) Type() value.Type        { return s.like.Source.Type() }
func (s *caseOfRows) Scale() uint8            { return s.like.Source.Scale() }
func (s *caseOfRows) target() *Entity         { return s.like.Target() }
func (s *caseOfRows) stored() *Field          { return s.like.Stored() }
func (s *caseOfRows) grow(cell, *value.Value) {}

func (s *caseOfRows) row(c cell) (Row, bool) {
	f := s.branch(c)
	if f == nil || c.g.value(c.fr, f).IsNull() {
		return Row{}, false
	}
	return c.fr.refs[f.index], true
}

func (s *byCase) Type() value.Type { return s.typ }
func (s *byCase) Scale() uint8     { return s.scale }

func (s *byCase) grow(c cell, v *value.Value) {
	f := s.branch(c)
	if f == nil {
		return
	}
	if *v = *c.g.value(c.fr, f); v.Type == value.Integer && s.typ == value.Decimal || v.Type == value.Decimal {
		r, ok := v.Rescale(s.scale)
		if !ok {
			c.fail(errOverflow)
			return
		}
		r.Type = value.Decimal
		*v = r
	}
}

// branch is the field that the value comes from; nil: NULL.
func (s *byCase) branch(c cell) *Field {
	var room [8]value.Value
	for i := range s.branches {
		b := &s.branches[i]
		values := room[:0]
		for _, of := range b.When {
			values = append(values, *c.g.value(c.fr, of))
		}
		if b.Holds(values) {
			return b.Value
		}
	}
	return s.rest
}

func (s *byCase) reads(show func(*Path)) {
	for _, b := range s.branches {
		for _, f := range b.When {
			show(&Path{Field: f})
		}
		show(&Path{Field: b.Value})
	}
	if s.rest != nil {
		show(&Path{Field: s.rest})
	}
}

// redrawn are the fields whose next attempts change the value.
func (s *byCase) redrawn(*Field) []*Field {
	var out []*Field
	for _, b := range s.branches {
		out = append(out, b.Value.Redrawn()...)
	}
	if s.rest != nil {
		out = append(out, s.rest.Redrawn()...)
	}
	return out
}
