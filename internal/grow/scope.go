package grow

import (
	"fmt"
	"slices"
	"strconv"

	"evensprout/internal/rng"
	"evensprout/internal/value"
)

// scope is the part of an entity's rows within which a group's values differ: the rows
// below one ancestor, or the rows that have the same number among their siblings. Every
// scope has a permutation of its own, so a row's values follow from its place there.
type scope struct {
	by   *Field    // the field that tells scopes apart
	of   *Entity   // the ancestor; nil if siblings' numbers are the scopes
	down []*Entity // from the ancestor's children to the entity
}

// scopeOf finds the smallest scope that some of the fields name, and returns the other
// fields; nil if they name none.
func (e *Entity) scopeOf(fields []*Field) (*scope, []*Field) {
	var rest []*Field
	var found *scope
	for _, f := range fields {
		of := f.ancestor()
		if of == nil {
			rest = append(rest, f)
			continue
		}
		s := &scope{by: f, of: of}
		for at := e; at != of; at = at.Parent {
			s.down = append([]*Entity{at}, s.down...)
		}
		if found == nil || len(s.down) < len(found.down) {
			found = s
		}
	}

	if found != nil {
		return found, rest
	}
	for i, f := range fields {
		if s, ok := f.Source.(*counter); ok && s.restart {
			return &scope{by: f}, append(append(rest[:0:0], fields[:i]...), fields[i+1:]...)
		}
	}
	return nil, fields
}

// ancestor is the entity above this one to whose row a field refers; nil if it does not.
func (f *Field) ancestor() *Entity {
	if !f.RefersUp() {
		return nil
	}
	to := f.Target()
	for at := f.Entity.Parent; at != nil; at = at.Parent {
		if at == to {
			return at
		}
	}
	return nil
}

// most is how many rows a scope may have; without one, how many there are.
func (s *scope) most(g *Grower, e *Entity) uint64 {
	switch {
	case s == nil:
		return firstPlace(e) + e.Rows
	case s.of == nil:
		return e.Parent.Total()
	}
	most := uint64(1)
	for _, d := range s.down {
		most = min(most, MaxSpace/max(d.Deal.Max, 1)) * d.Deal.Max
	}
	below := map[uint64]uint64{}
	for i := range e.Side {
		up := s.ancestor(g, Row{N: uint64(i), Side: true}).N
		below[up]++
		most = max(most, below[up])
	}
	return most
}

// ancestor is the row above a row that tells its scope.
func (s *scope) ancestor(g *Grower, r Row) Row {
	for i := len(s.down) - 1; i >= 0; i-- {
		r, _ = g.parentOf(s.down[i], r)
	}
	return r
}

// named reports whether rows that agree in some fields are of one scope.
func (s *scope) named(fields []*Field) bool {
	if s == nil {
		return true
	}
	return slices.ContainsFunc(fields, func(f *Field) bool {
		if s.of == nil {
			return f == s.by
		}
		for at := f.ancestor(); at != nil; at = at.Parent {
			if at == s.of {
				return true
			}
		}
		return false
	})
}

// place is a row's scope and its place there. Of the space of a group, siblings' numbers
// give the last places to rows outside the numbered sequence.
func (s *scope) place(g *Grower, fr *frame, size uint64) (rng.ID, uint64) {
	if s == nil {
		if fr.row.Side {
			return rng.ID{}, fr.row.N
		}
		return rng.ID{}, firstPlace(fr.e) + fr.row.N
	}
	if s.of == nil {
		parent, ordinal := g.up(fr)
		if parent.Side {
			return rng.ID{0, ordinal}, size - 1 - parent.N
		}
		return rng.ID{0, ordinal}, parent.N
	}
	up := s.ancestor(g, fr.row)
	first := up.N
	for _, e := range s.down {
		first = g.firstChild(e, up.Side, first)
	}
	return g.id(s.of, up), fr.row.N - first
}

// firstPlace is the place of the first grown row of an entity: it leaves room for rows
// that are given by name, as numbers that count do.
func firstPlace(e *Entity) uint64 {
	switch n := len(e.Side); {
	case n == 0:
		return 0
	case n <= 1000:
		return 1000
	}
	return maxSide
}

// parentOf is the row above a row, and the row's number among its siblings.
func (g *Grower) parentOf(e *Entity, r Row) (Row, uint64) {
	if r.Side {
		s := &e.Side[r.N]
		return Row{N: uint64(s.Parent), Side: true}, s.Ordinal
	}
	p, o := g.dealt[e.index].Parent(r.N)
	return Row{N: p}, o
}

// permutation is the one of a scope.
func (g *Group) permutation(id rng.ID) rng.Permutation {
	w := rng.Philox([4]uint64{id[1], id[0], 0, 9}, g.key)
	return rng.NewPermutation(rng.Key{w[0], w[1]}, g.size)
}

// settleScope counts the rows of a scope against the group's values, and finds the
// places of side rows.
func (g *Group) settleScope(gr *Grower) *FinishError {
	e, s := g.entity, g.scope
	g.most = max(s.most(gr, e), 1)
	if g.most > g.size && g.spare == nil && (g.text == nil || s.of == nil) {
		return &FinishError{
			Entity: e,
			Field:  g.lead(),
			Message: fmt.Sprintf("%s may have %d rows that need different values of %s, and only %d exist",
				s.describe(), g.most, g.names(), g.size),
		}
	}

	g.side, g.rounds, g.taken = make([]uint64, len(e.Side)), make([]uint64, len(e.Side)), map[string]int{}
	for i := range e.Side {
		fr := gr.spare(e, Row{N: uint64(i), Side: true})
		id, pos := s.place(gr, fr, g.size)
		fr.close()
		p := g.permutation(id)
		g.side[i], g.rounds[i] = p.At(pos%g.size), pos/g.size
	}

	for i := range e.Side {
		if !g.byHand(i) {
			continue
		}
		row := Row{N: uint64(i), Side: true}
		key := g.rowKey(gr, row)
		if j, ok := g.taken[key]; ok && g.whole(gr, row) {
			return &FinishError{
				Entity: e,
				Field:  g.lead(),
				Row:    e.Side[i].Name,
				Message: fmt.Sprintf("%s and %s have the same %s",
					e.Label(Row{N: uint64(j), Side: true}), e.Label(row), g.names()),
			}
		}
		g.taken[key] = i
	}

	if len(g.taken) == 0 {
		return nil
	}

	// A row whose values another has by hand takes the place that the other left free.
	for i := range e.Side {
		if g.byHand(i) {
			continue
		}
		c := cell{g: gr, fr: gr.spare(e, Row{N: uint64(i), Side: true})}
		at := groupAt{known: true, index: g.side[i], round: g.rounds[i]}
		g.avoidTaken(c, &at)
		c.fr.close()
		g.side[i], g.rounds[i] = at.index, at.round
	}
	return nil
}

// describe names one scope for people.
func (s *scope) describe() string {
	if s.of == nil {
		return "one number of " + s.by.Name
	}
	return "one " + s.of.Name
}

// byHand reports whether a side row says a value of the group itself.
func (g *Group) byHand(i int) bool {
	given := g.entity.Side[i].Given
	for _, f := range []*Field{g.text, g.shown, g.spare} {
		if f != nil {
			if _, ok := given[f]; ok {
				return true
			}
		}
	}
	for j := range g.members {
		if _, ok := given[g.members[j].field]; ok {
			return true
		}
	}
	return false
}

// whole reports whether no value of the group is NULL in a row.
func (g *Group) whole(gr *Grower, r Row) bool {
	fr := gr.spare(g.entity, r)
	defer fr.close()
	for _, f := range []*Field{g.text, g.spare} {
		if f != nil && gr.value(fr, f).IsNull() {
			return false
		}
	}
	for i := range g.members {
		if gr.value(fr, g.members[i].field).IsNull() {
			return false
		}
	}
	return true
}

// scoped is the place of a grown row in the group of a scope.
func (g *Group) scoped(c cell, at *groupAt) {
	id, pos := g.scope.place(c.g, c.fr, g.size)
	p := g.permutation(id)
	if layers := g.size / max(g.most, 1); layers > 1 {
		if draw := g.drawn(c); draw > 0 && g.text == nil && g.spare == nil && draw < layers {
			pos += draw * (g.size / layers)
		}
	}
	at.index, at.round = p.At(pos%g.size), pos/g.size
}

// retryScoped is the place of a row at a later attempt: one that no row of the scope has
// at first, as long as there are any; else a value with a further number.
func (g *Group) retryScoped(c cell, attempt uint64) (groupAt, bool) {
	id, pos := g.scope.place(c.g, c.fr, g.size)
	p := g.permutation(id)
	low, high := g.most, g.size
	if g.scope != nil && g.scope.of == nil { // rows outside the numbered sequence stand at the end
		low, high = g.entity.Parent.Rows, g.size-uint64(len(g.entity.Parent.Side))
	}
	if low < high {
		start := rng.Philox([4]uint64{c.fr.id[1], c.fr.id[0], 0, 8}, g.key)
		index := p.At(low + (rng.Below(start[0], high-low)+attempt)%(high-low))
		b := c.g.take()
		held := len(g.taken) > 0 && g.isTakenByGiven(c, index, b)
		c.g.give(b)
		return groupAt{known: true, index: index}, !held
	}
	if g.text == nil && g.spare == nil {
		return groupAt{}, false
	}
	return groupAt{known: true, index: p.At(pos % g.size), round: pos/g.size + attempt*g.turns()}, true
}

// turns is how often a scope may use up the members' values.
func (g *Group) turns() uint64 { return (g.most + g.size - 1) / g.size }

// width is how many fields a row of values has that differ together.
func (g *Group) width() int {
	switch {
	case g.text != nil:
		return 1
	case g.spare != nil:
		return len(g.members) + 1
	}
	return len(g.members)
}

// takesNumber reports whether a number can keep a field's values apart within a scope.
func (f *Field) takesNumber(s *scope) bool {
	if s != nil && s.of == nil || f.group != nil || f.numbered != nil || f.Target() != nil {
		return false
	}
	_, moment := f.Source.(*stretch)
	return moment && s != nil || f.Source.Type() == value.Text
}

// number makes a value differ from those of the rows of its scope that have the same
// values otherwise: a text ends with it, and a moment leaves that rest.
func (g *Group) number(c cell, v *value.Value) {
	if g.scope != nil && g.most <= g.size {
		return // the members suffice
	}
	round := g.at(c).round
	s, moment := c.f.Source.(*stretch)
	if !moment {
		b := append(append(c.g.take(), v.S...), '-')
		b = strconv.AppendUint(b, round+1, 10)
		c.setText(v, b)
		c.g.give(b)
		return
	}
	if !s.leave(c, v, int64(round%g.turns()), int64(g.turns())) {
		c.fail(
			fmt.Errorf(
				"%d rows of %s need different moments, and the range has too few",
				g.turns(),
				g.scope.describe(),
			),
		)
	}
}
