package grow

import (
	"fmt"
	"math/bits"
	"slices"
	"sort"

	"evensprout/internal/rng"
	"evensprout/internal/value"
)

// Condition compares a field with values, or with another field.
type Condition struct {
	Path Path
	Any  []value.Value // equal to one of these; NULL equals NULL
	Refs []Row         // or, of a reference, pointing to one of these
	As   *Path         // or, if set, equal to this field of the row that asks
	Not  bool          // the opposite
}

// holds reports whether a condition on the frame of some row holds, as the cell sees
// it.
func (k *Condition) holds(c cell, fr *frame) bool {
	v := c.g.follow(fr, k.Path.Hops, k.Path.Field)
	found := false
	switch {
	case k.As != nil:
		w := c.follow(k.As)
		found = v.Equal(&w)
	case k.Refs != nil && !v.IsNull():
		row, _ := c.g.followRow(fr, &k.Path)
		found = slices.Contains(k.Refs, row)
	default:
		for i := range k.Any {
			if found = v.Equal(&k.Any[i]); found {
				break
			}
		}
	}
	return found != k.Not
}

// bitmap is a set of rows with their count, in which the i-th is found.
type bitmap struct {
	words []uint64
	sums  []uint64 // rows before each run of bitmapRun words
	count uint64
}

const bitmapRun = 64

func (m *bitmap) set(i uint64) { m.words[i/64] |= 1 << (i % 64) }

// seal counts the rows.
func (m *bitmap) seal() {
	for i, w := range m.words {
		if i%bitmapRun == 0 {
			m.sums = append(m.sums, m.count)
		}
		m.count += uint64(bits.OnesCount64(w))
	}
}

// at finds the i-th row of the set.
func (m *bitmap) at(i uint64) uint64 {
	run := sort.Search(len(m.sums), func(r int) bool { return m.sums[r] > i }) - 1
	i -= m.sums[run]
	for w := run * bitmapRun; ; w++ {
		n := uint64(bits.OnesCount64(m.words[w]))
		if i >= n {
			i -= n
			continue
		}
		x := m.words[w]
		for range i {
			x &= x - 1
		}
		return uint64(w)*64 + uint64(bits.TrailingZeros64(x))
	}
}

const (
	// maxSearched is how many rows are looked through beforehand, so that picks
	// under a condition are spread evenly. In larger entities rows are tried.
	maxSearched = 1 << 20
	pickTries   = 64
)

// fixed reports whether the conditions are the same for every picking row.
func (s *pick) fixed() bool {
	for i := range s.Where {
		if s.Where[i].As != nil {
			return false
		}
	}
	return true
}

// countable reports whether the rows that meet the conditions can be found beforehand, so
// that a field of them can be unique.
func (s *pick) countable() bool {
	for i := range s.Where {
		if s.Where[i].As != nil || len(s.Where[i].Path.Hops) > 0 {
			return false
		}
	}
	return s.below == nil
}

func (s *pick) search(g *Grower, f *Field) *FinishError {
	if s.found != nil {
		return nil // its group has asked before
	}
	wrong := func(format string, args ...any) *FinishError {
		return &FinishError{Entity: f.Entity, Field: f, Message: fmt.Sprintf(format, args...)}
	}
	large := s.to.Total() > maxSearched
	searched := s.below == nil && s.fixed() && !large
	switch {
	case f.group != nil && large:
		return wrong("rows picked under a condition can be unique among at most %d rows", maxSearched)
	case s.One && !searched:
		return wrong("one: true needs fixed conditions and at most %d rows",
			maxSearched)
	case s.Where == nil || !searched:
		return nil
	}

	s.found = s.lookThrough(cell{g, nil, f})
	switch {
	case s.One && s.found.count != 1:
		return wrong("%d rows of %s meet the conditions; exactly one must", s.found.count, s.to.Name)
	case s.found.count == 0 && f.Entity.Total() > 0:
		return wrong("no row of %s meets the condition", s.to.Name)
	}
	return nil
}

// lookThrough finds the rows that meet the conditions: memory of one bit a row.
func (s *pick) lookThrough(c cell) *bitmap {
	n := s.to.Total()
	m := &bitmap{words: make([]uint64, n/64+1)}
	for i := range n {
		if s.meets(c, s.to.at(i)) {
			m.set(i)
		}
	}
	m.seal()
	return m
}

func (s *pick) meets(c cell, r Row) bool {
	fr := c.g.open(s.to, r)
	defer fr.close()
	for i := range s.Where {
		if !s.Where[i].holds(c, fr) {
			return false
		}
	}
	return true
}

// matching picks a row that meets the conditions: one of those found beforehand, or
// by trying; if that fails, by looking through all rows, from a drawn one on.
func (s *pick) matching(c cell) (Row, bool) {
	n, found := s.to.Total(), s.found
	if found == nil {
		draws := c.stream()
		for range pickTries {
			if r := s.to.at(draws.below(n)); s.meets(c, r) {
				return r, true
			}
		}
		if !s.fixed() {
			from := draws.below(n)
			for i := range n {
				if r := s.to.at((from + i) % n); s.meets(c, r) {
					return r, true
				}
			}
			return Row{}, false
		}
		s.look.Do(func() {
			g := NewGrower(c.g.set)
			defer g.Close()
			s.late = s.lookThrough(cell{g, nil, c.f})
		})
		found = s.late
	}

	if found.count == 0 {
		return Row{}, false
	}
	return s.to.at(found.at(rng.Below(c.fraction(drawValue), found.count))), true
}

// child picks among the rows below the row that the condition names.
func (s *pick) child(c cell) (Row, bool) {
	parent, ok := c.g.followRow(c.fr, s.below)
	if !ok {
		return Row{}, false
	}
	from, to := c.g.Below(s.to, parent)
	if from == to {
		return Row{}, false
	}
	return Row{N: from + rng.Below(c.fraction(drawValue), to-from), Side: parent.Side}, true
}
