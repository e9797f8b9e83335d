package grow

import (
	"fmt"
	"math/bits"
	"slices"

	"evensprout/internal/rng"
)

// A pool is the rows that a unique pick draws from. Where both the pool and the picking
// entity have grown since rows were loaded, the rows that are there keep what they have
// picked, and further rows draw from what is left. Everything follows from how many rows
// there were at each load, so a row is still found at once: in time that grows with the
// number of loads, not of rows.

// Sizes are how many rows each entity had when it was loaded, by the entity's name.
type Sizes map[string]Size

// Size is how many rows an entity had: grown ones, and those outside the numbered sequence.
type Size struct {
	Rows uint64 `json:"rows"`
	Side uint64 `json:"side,omitempty"`
}

// era is the rows of an entity that were added by one load, and the values that they drew
// from.
type era struct {
	rows, side      uint64   // rows of the entity before the era
	endRow, endSide uint64   // and after it
	sizes           []uint64 // of each member's values
	fresh           []uint64 // of these, how many there were before the era
	left            uint64   // values that the era before has left
	size            uint64   // all values to draw from
	usable          uint64   // of these, for grown rows
	shuffle         rng.Permutation
}

// Continue makes rows that are grown from now on keep apart from those of earlier loads:
// earlier are their counts, oldest first. It must be called before growers are made.
func (s *Set) Continue(earlier []Sizes) []*FinishError {
	g := NewGrower(s)
	defer g.Close()
	var faults []*FinishError
	for _, e := range s.Entities {
		for _, group := range e.Groups {
			if fault := group.continued(g, earlier); fault != nil {
				faults = append(faults, fault)
			}
		}
	}
	return faults
}

// Pools reports whether some rows are picked at most once, so that it matters what earlier
// loads have picked.
func (s *Set) Pools() bool {
	return slices.ContainsFunc(
		s.Entities,
		func(e *Entity) bool { return slices.ContainsFunc(e.Groups, (*Group).pools) },
	)
}

// pools reports whether the values of a group are rows that may become more, or so few that
// rows by hand take those of others; and the group can keep apart from them.
func (g *Group) pools() bool {
	if g.text != nil || g.spare != nil || g.scope != nil {
		return false
	}
	found := g.size < tinySpace
	for i := range g.members {
		f := g.members[i].field
		if f.tied > 0 {
			return false // draws again in layers of its own
		}
		_, ok := f.Source.(*pick)
		found = found || ok
	}
	return found
}

// Unsteady names what keeps a field from drawing only what earlier loads have left once
// rows are added; empty if nothing does.
func (f *Field) Unsteady() string {
	p, ok := f.Source.(*pick)
	if !ok || f.group == nil {
		return ""
	}
	if s := f.group.scope; s != nil && s.of == nil {
		return fmt.Sprintf(
			"%s picks differently for each number of %s if %s has more rows",
			f.Name,
			s.by.Name,
			p.to.Name,
		)
	}
	for i := range p.Where {
		if of := p.Where[i].Path.Field.countsMatter(nil); of != nil {
			return fmt.Sprintf(
				"whether a row of %s meets the condition depends on how many rows there are, by %s.%s",
				p.to.Name,
				of.Entity.Name,
				of.Name,
			)
		}
	}
	return ""
}

// countsMatter finds, among a field and those that it is made of, one whose values change
// where some entity has more rows; nil if there is none.
func (f *Field) countsMatter(seen []*Field) *Field {
	if slices.Contains(seen, f) {
		return nil
	}
	seen = append(seen, f)
	if s, ok := f.Source.(counting); ok {
		if found := s.counts(f, seen); found != nil {
			return found
		}
	}
	if f.group != nil {
		for _, m := range f.group.members {
			if _, ok := m.field.Source.(*pick); ok {
				return m.field
			}
		}
	}

	var found *Field
	if r, ok := f.Source.(reader); ok {
		r.reads(func(p *Path) {
			for _, x := range append(slices.Clone(p.Hops), p.Field) {
				if found == nil {
					found = x.countsMatter(seen)
				}
			}
		})
	}
	return found
}

// before are the sizes of the eras before now. Loads that drew from the same are one era;
// there are none where rows are gone, because then the plan has changed.
func (g *Group) before(earlier []Sizes, now Sizes) []Sizes {
	of := g.entity.Name
	alike := func(a, b Sizes) bool {
		for name := range now {
			if name != of && a[name] != b[name] {
				return false
			}
		}
		return a[of].Side == b[of].Side
	}
	var counts []Sizes
	for _, c := range earlier {
		if c[of] == (Size{}) {
			continue // no row of it was there
		}
		for name, n := range now {
			if c[name].Rows > n.Rows || c[name].Side > n.Side {
				return nil
			}
		}
		if n := len(counts); n > 0 && alike(counts[n-1], c) {
			counts[n-1] = c
		} else {
			counts = append(counts, c)
		}
	}

	if n := len(counts); n > 0 && alike(counts[n-1], now) {
		counts = counts[:n-1]
	}
	return counts
}

// continued lays out the eras of a group.
func (g *Group) continued(gr *Grower, earlier []Sizes) *FinishError {
	g.eras = nil
	for i := range g.members {
		if p, ok := g.members[i].field.Source.(*pick); ok {
			p.order = nil
		}
	}
	e := g.entity
	if !g.pools() {
		return nil
	}
	now := Sizes{}
	for _, m := range g.members {
		if p, ok := m.field.Source.(*pick); ok {
			now[p.to.Name] = Size{p.to.Rows, uint64(len(p.to.Side))}
		}
	}
	now[e.Name] = Size{e.Rows, uint64(len(e.Side))}
	counts := g.before(earlier, now)
	if len(counts) == 0 {
		return nil
	}
	for i := range g.members {
		if p, ok := g.members[i].field.Source.(*pick); ok {
			p.order = p.segments(counts)
		}
	}
	var before *era
	for i, c := range append(counts, now) {
		next := g.era(before, c, i == 0)
		if next.endRow-next.rows > next.usable {
			f := g.members[0].field
			return &FinishError{
				Entity: e,
				Field:  f,
				Message: fmt.Sprintf(
					"%d more rows need different values of %s, and existing rows leave only %d",
					next.endRow-next.rows,
					g.names(),
					next.usable,
				),
			}
		}
		g.eras = append(g.eras, *next)
		before = next
	}

	g.place(gr, reserveOf(g.eras[0].size, g.eras[0].endSide))
	return nil
}

// era lays out what the rows added by one load draw from.
func (g *Group) era(before *era, c Sizes, first bool) *era {
	to := c[g.entity.Name]
	x := &era{endRow: to.Rows, endSide: to.Side}
	all, old := uint64(1), uint64(1)
	for i := range g.members {
		m := &g.members[i]
		size := m.radix
		if p, ok := m.field.Source.(*pick); ok {
			size = p.upTo(c[p.to.Name])
		}
		x.sizes = append(x.sizes, size)
		was := size
		if before != nil {
			was = before.sizes[i]
		}
		x.fresh = append(x.fresh, was)
		all, old = all*size, old*was
	}

	if first {
		x.size, x.usable = all, all
		if to.Side > 0 {
			x.usable = all - reserveOf(all, to.Side)
		}
		x.shuffle = rng.NewPermutation(g.key, x.size)
		return x
	}

	x.rows, x.side = before.endRow, before.endSide
	x.left = before.usable - min(before.endRow-before.rows, before.usable)
	x.size = x.left + all - old
	x.usable = x.size - min(x.endSide-x.side, x.size)
	x.shuffle = rng.NewPermutation(rng.Key{g.key[0], g.key[1] + uint64(len(g.eras))}, x.size)
	return x
}

const tinySpace = 64

// reserveOf is how many values are kept for rows outside the numbered sequence. A tiny
// space is not worth a reserve of its own.
func reserveOf(size, side uint64) uint64 {
	if size < tinySpace {
		return min(side, size)
	}
	return size / 8
}

// inEra is the index of the values of a row.
func (g *Group) inEra(row Row, attempt uint64) (uint64, bool) {
	for k := range g.eras {
		x := &g.eras[k]
		last := k == len(g.eras)-1
		switch {
		case row.Side && (row.N < x.endSide || last):
			if k == 0 {
				return 0, false // placed with the others of the first load
			}
			return g.drawnFrom(k, x.shuffle.At(x.size-1-(row.N-x.side))), true
		case !row.Side && (row.N < x.endRow || last):
			at := row.N - x.rows
			if attempt > 0 { // one that no row has at first
				used := x.endRow - x.rows
				if used >= x.usable {
					return 0, false
				}
				at = used + (at+attempt)%(x.usable-used)
			}
			return g.drawnFrom(k, x.shuffle.At(at)), true
		}
	}
	return 0, false
}

// drawnFrom is the index of the i-th value that an era has to draw from: what the era
// before has left comes first, then what is new.
func (g *Group) drawnFrom(k int, i uint64) uint64 {
	for ; k > 0; k-- {
		x := &g.eras[k]
		if i >= x.left {
			return g.newIn(x, i-x.left)
		}
		before := &g.eras[k-1]
		i = before.shuffle.At(before.endRow - before.rows + i)
	}
	index := uint64(0)
	for j, size := range g.eras[0].sizes {
		index += i % size * g.members[j].stride
		i /= size
	}
	return index
}

// newIn is the index of the i-th combination that an era has and the one before had not:
// some member's value is new, those of the members before it are not, and those after it
// are any.
func (g *Group) newIn(x *era, i uint64) uint64 {
	index := uint64(0)
	for j := range x.sizes {
		rest := uint64(1)
		for _, size := range x.sizes[j+1:] {
			rest *= size
		}
		for _, size := range x.fresh[:j] {
			rest *= size
		}
		if n := (x.sizes[j] - x.fresh[j]) * rest; i >= n {
			i -= n
			continue
		}
		for k := range x.sizes {
			from, n := uint64(0), x.sizes[k]
			switch {
			case k < j:
				n = x.fresh[k]
			case k == j:
				from, n = x.fresh[k], x.sizes[k]-x.fresh[k]
			}
			index += (from + i%n) * g.members[k].stride
			i /= n
		}
		return index
	}
	return index
}

// segment is rows that follow each other, as positions among all rows of an entity.
type segment struct{ from, to, before uint64 } // before: rows of earlier segments that can be picked

// segments orders the rows that can be picked by when they were loaded.
func (s *pick) segments(counts []Sizes) []segment {
	var out []segment
	var had Size
	n := uint64(0)
	add := func(from, to uint64) {
		if from < to {
			out = append(out, segment{from, to, n})
			n += s.rank(to) - s.rank(from)
		}
	}
	side := uint64(len(s.to.Side))
	for _, c := range append(counts[:len(counts):len(counts)], Sizes{s.to.Name: {s.to.Rows, side}}) {
		to := c[s.to.Name]
		add(had.Side, to.Side)
		add(side+had.Rows, side+to.Rows)
		had = to
	}
	return out
}

// rank is how many rows before a position can be picked.
func (s *pick) rank(position uint64) uint64 {
	if s.found == nil {
		return position
	}
	return s.found.rank(position)
}

// upTo is how many rows could be picked when there were so many.
func (s *pick) upTo(c Size) uint64 {
	side := uint64(len(s.to.Side))
	return s.rank(c.Side) + s.rank(side+c.Rows) - s.rank(side)
}

// ordered is the i-th row that can be picked, in the order in which they were loaded.
func (s *pick) ordered(i uint64) Row {
	k := 0
	for k+1 < len(s.order) && s.order[k+1].before <= i {
		k++
	}
	i += s.rank(s.order[k].from) - s.order[k].before
	if s.found != nil {
		i = s.found.at(i)
	}
	return s.to.at(i)
}

// rank counts the rows of the set before a position.
func (m *bitmap) rank(position uint64) uint64 {
	if position == 0 {
		return 0
	}
	word := position / 64
	n := uint64(0)
	run := word / bitmapRun
	if run < uint64(len(m.sums)) {
		n = m.sums[run]
	} else {
		return m.count
	}
	for w := run * bitmapRun; w < word && w < uint64(len(m.words)); w++ {
		n += uint64(bits.OnesCount64(m.words[w]))
	}
	if word < uint64(len(m.words)) {
		n += uint64(bits.OnesCount64(m.words[word] & (1<<(position%64) - 1)))
	}
	return n
}
