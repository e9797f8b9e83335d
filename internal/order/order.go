// Package order decides what is written before what: parents before children,
// picked entities before those that pick them, families whole.
package order

import (
	"iter"
	"slices"

	"evensprout/internal/grow"
	"evensprout/internal/plan"
)

// Order is the order in which a plan's entities are loaded.
type Order struct {
	Families []Family
	// Late are references to rows that may come later.
	Late []Late
}

// Late is a reference to rows that may come later: they close a circle.
type Late struct {
	Target *plan.Target
	Field  int // of Target.Grow
}

// Family is an entity and all that is planned per it, parents first.
type Family []*plan.Target

// Of orders a compiled plan. Entities that need not wait for each other keep the
// order of the plan.
func Of(c *plan.Compiled) Order {
	var o Order
	byEntity := map[*grow.Entity]*plan.Target{}
	var roots []*grow.Entity
	for _, t := range c.Targets {
		byEntity[t.Grow] = t
		if t.Grow.Parent == nil && !t.Plan.Existing {
			roots = append(roots, t.Grow)
		}
	}
	members := map[*grow.Entity]Family{}
	for _, r := range roots {
		members[r] = family(r, byEntity)
	}
	const (
		waiting = iota
		placing
		placed
	)
	state := map[*grow.Entity]int{}
	var place func(root *grow.Entity)
	place = func(root *grow.Entity) {
		state[root] = placing
		for _, t := range members[root] {
			for i, f := range t.Grow.Fields {
				to := f.Target()
				if to == nil || f.RefersUp() || to == t.Grow || byEntity[to].Plan.Existing {
					continue // rows above stand before, a row of the same entity is an earlier one
				}
				switch r := to.Root(); {
				case r == root || state[r] == placing:
					if !f.Inner {
						o.Late = append(o.Late, Late{t, i})
					}
				case state[r] == waiting:
					place(r)
				}
			}
		}
		state[root] = placed
		o.Families = append(o.Families, members[root])
	}
	for _, r := range roots {
		if state[r] == waiting {
			place(r)
		}
	}
	return o
}

func family(e *grow.Entity, byEntity map[*grow.Entity]*plan.Target) Family {
	f := Family{byEntity[e]}
	for _, c := range e.Children() {
		f = append(f, family(c, byEntity)...)
	}
	return f
}

// Targets returns all entities in load order.
func (o *Order) Targets() []*plan.Target { return slices.Concat(o.families()...) }

func (o *Order) families() [][]*plan.Target {
	out := make([][]*plan.Target, len(o.Families))
	for i, f := range o.Families {
		out[i] = f
	}
	return out
}

// Run is consecutive rows of one entity.
type Run struct {
	Target *plan.Target
	First  grow.Row
	Rows   uint64
}

// Chunk is rows that go to the database together: whole families of one root.
type Chunk []Run

// Chunks cuts a family into chunks of at most most rows, but never a row from what
// is planned per it. skip leaves out entities.
func (f Family) Chunks(g *grow.Grower, most uint64, skip func(*plan.Target) bool) iter.Seq[Chunk] {
	root := f[0].Grow
	return func(yield func(Chunk) bool) {
		for _, side := range []bool{true, false} {
			total := root.Rows
			if side {
				total = uint64(len(root.Side))
			}
			for from := uint64(0); from < total; {
				to := f.end(g, side, from, total, most, skip)
				if c := f.chunk(g, side, from, to, skip); len(c) > 0 && !yield(c) {
					return
				}
				from = to
			}
		}
	}
}

// end finds the last root row that still fits into a chunk beginning at from.
func (f Family) end(g *grow.Grower, side bool, from, total, most uint64, skip func(*plan.Target) bool) uint64 {
	rows := func(to uint64) uint64 {
		n := uint64(0)
		for _, r := range f.chunk(g, side, from, to, skip) {
			n += r.Rows
		}
		return n
	}
	lo, hi := from+1, min(total, from+most) // one family at least, however large
	for lo < hi {
		if mid := lo + (hi-lo+1)/2; rows(mid) <= most {
			lo = mid
		} else {
			hi = mid - 1
		}
	}
	return lo
}

func (f Family) chunk(g *grow.Grower, side bool, from, to uint64, skip func(*plan.Target) bool) Chunk {
	var c Chunk
	for _, t := range f {
		if skip != nil && skip(t) {
			continue
		}
		a, b := g.Families(t.Grow, side, from, to)
		if b > a {
			c = append(c, Run{t, grow.Row{N: a, Side: side}, b - a})
		}
	}
	return c
}
