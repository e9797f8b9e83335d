package grow

import (
	"fmt"

	"evensprout/internal/cover"
	"evensprout/internal/value"
)

// Covering makes the rows of an entity the fewest in which the choices of its fields meet: every pair, or every
// triple.
type Covering struct {
	Strength int

	factors []factor
	rows    [][]int // the level of each factor in each row
}

// factor is a field, and what its levels are.
type factor struct {
	field *Field
	kinds []level
}

// level is one of the choices of a field.
type level struct {
	null  bool
	index uint64 // of the source's values
	inner bool   // any value but the first and the last
}

// Factors are the names of the fields whose choices meet, in the order of the fields.
func (c *Covering) Factors() []string {
	var names []string
	for _, f := range c.factors {
		names = append(names, f.field.Name)
	}
	return names
}

// maxChoices bounds the choices of a field that meets others one by one.
const maxChoices = 100

// levelsOf are the levels of a field: its choices, the ends of a range and what lies between, and NULL. Nil if it
// has fewer than two.
func levelsOf(f *Field) []level {
	var out []level
	choices := func(n uint64) {
		for i := range n {
			out = append(out, level{index: i})
		}
	}
	ends := func(n uint64) {
		choices(min(n, 1))
		if n > 2 {
			out = append(out, level{inner: true})
		}
		if n > 1 {
			out = append(out, level{index: n - 1})
		}
	}
	switch s := f.Source.(type) {
	case *choice:
		if s.Space() <= maxChoices {
			choices(s.Space())
		}
	case *portion:
		if s.share.Part > 0 && s.share.Part < s.share.Whole {
			choices(2)
		}
	case *ranged:
		ends(s.n)
	case *shaped:
		ends(s.of.n)
	}
	if out == nil {
		out = []level{{inner: true}}
	}
	if f.canBeNull() {
		out = append(out, level{null: true})
	}
	if len(out) < 2 {
		return nil
	}
	return out
}

// canBeNull reports whether some rows have no value, and others may have one.
func (f *Field) canBeNull() bool {
	return f.Nulls.Part > 0 && f.Nulls.Part < f.Nulls.Whole || len(f.If) > 0
}

// settle finds the rows.
func (c *Covering) settle(s *Set, e *Entity) *FinishError {
	var levels []int
	for _, f := range e.Fields {
		if f.Inner || f.Hidden || f.group != nil || !decided(f) {
			continue
		}
		if kinds := levelsOf(f); kinds != nil {
			c.factors = append(c.factors, factor{f, kinds})
			levels = append(levels, len(kinds))
			f.factor = len(c.factors)
		}
	}
	if len(levels) == 0 {
		return &FinishError{Entity: e, Message: "no field has choices that rows could cover: choose, share, between " +
			"or nulls"}
	}
	t := &coverTrial{covering: c, entity: e, grower: NewGrower(s)}
	defer t.grower.Close()
	rows, err := cover.Rows(levels, c.Strength, t.condition())
	if err != nil {
		return &FinishError{Entity: e, Message: fmt.Sprintf("covering: %s", err)}
	}
	c.rows = rows
	e.Rows += uint64(len(rows)) // beside those of other sets of the plan's rows
	return nil
}

// coverTrial tries rows before there are any.
type coverTrial struct {
	covering *Covering
	entity   *Entity
	grower   *Grower
	ties     []*tie // that can be tried
}

// condition reports whether a row meets the conditions that depend on the row alone; nil if there are none.
func (t *coverTrial) condition() func([]int) bool {
	for _, tie := range t.entity.ties {
		alone := true
		for _, f := range tie.fields {
			alone = alone && ownRow(f)
		}
		if alone {
			t.ties = append(t.ties, tie)
		}
	}
	conditional := false
	for _, f := range t.covering.factors {
		conditional = conditional || len(f.field.If) > 0
	}
	if len(t.ties) == 0 && !conditional {
		return nil
	}
	return t.allows
}

// decided reports whether the conditions of a field depend on the row alone.
func decided(f *Field) bool {
	for i := range f.If {
		c := &f.If[i]
		if len(c.Path.Hops) > 0 || !ownRow(c.Path.Field) || c.As != nil && (len(c.As.Hops) > 0 || !ownRow(c.As.Field)) {
			return false
		}
	}
	return true
}

// ownRow reports whether a value depends on its row alone, so that it is known before all rows are.
func ownRow(f *Field) bool {
	if f.group != nil || f.numbered != nil || f.ref != nil {
		return false
	}
	switch s := f.Source.(type) {
	case *literal, *choice, *portion, *ranged, *shaped, *formKind, *countedKind, *kindSource, *drawnWhole, *entryOf,
		*scheduled, *identifier, *pattern:
		return true
	case reader:
		own := true
		s.reads(func(p *Path) { own = own && len(p.Hops) == 0 && p.Field.Entity == f.Entity && ownRow(p.Field) })
		_, isDocument := s.(*document)
		return own && !isDocument
	}
	return false
}

// trialDraws is how often the values between the levels are drawn.
const trialDraws = 40

// allows tries a row.
func (t *coverTrial) allows(levels []int) bool {
	g := t.grower
	fr := g.spare(t.entity, Row{})
	defer fr.close()
	fr.levels = levels
	for i := range fr.settled {
		fr.settled[i] = true // conditions are tried here
	}
	for _, tie := range t.ties {
		met := false
		number := tie.fields[0].tied - 1
		for try := range uint64(trialDraws) {
			fr.tries[number] = try
			for _, f := range tie.fields {
				fr.known[f.index] = false
			}
			if met = g.unmet(fr, tie) == nil; met {
				break
			}
		}
		if !met {
			return false
		}
	}
	for i, f := range t.covering.factors {
		if null := f.kinds[levels[i]].null; !t.canBe(fr, f.field, null) {
			return false
		}
	}
	g.err = nil // what cannot be computed is reported for a row that is there
	return true
}

// canBe reports whether the conditions of a field let it be NULL, or not NULL.
func (t *coverTrial) canBe(fr *frame, f *Field, null bool) bool {
	if len(f.If) == 0 {
		return true
	}
	for i := range f.If {
		if !f.If[i].holds(cell{t.grower, fr, f}, fr) {
			return null
		}
	}
	return !null || f.Nulls.Part > 0
}

// levelOf is the level of a cell; nil if the row or the field has none.
func (c cell) levelOf() *level {
	if c.f.factor == 0 || c.fr.levels == nil {
		return nil
	}
	at := c.f.factor - 1
	return &c.fr.e.Covering.factors[at].kinds[c.fr.levels[at]]
}

// set sets a cell to its level; false if its source draws a value between the ends.
func (l *level) set(c cell, v *value.Value) bool {
	switch {
	case l.null:
		return true
	case l.inner:
		return false
	}
	c.f.Source.(Countable).at(c, l.index, v)
	return true
}

// between draws a value that is neither the first nor the last, of a range with more than two.
func (c cell) between(v *value.Value) bool {
	r, ok := c.f.Source.(*ranged)
	if s, shaped := c.f.Source.(*shaped); shaped {
		r, ok = &s.of, true
	}
	if !ok || r.n <= 2 {
		return false
	}
	u := fraction{u: c.fraction(drawValue), left: 64}
	r.at(c, 1+u.below(r.n-2), v)
	return true
}
