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

// reference is one entity's need for rows of another family.
type reference struct {
	from     *plan.Target
	field    int
	root, to *grow.Entity // heads of the two families
}

// Of orders a compiled plan. Entities that need not wait for each other keep the
// order of the plan. Circles are broken at references that may be NULL or may be
// looked at late, as far as there are any.
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
	var refs []reference
	for _, root := range roots {
		members[root] = family(root, byEntity)
		late, outward := referencesOf(root, members[root], byEntity)
		o.Late, refs = append(o.Late, late...), append(refs, outward...)
	}
	sorted, late := sortRoots(roots, refs)
	if len(late) > 0 && c.Database != nil {
		sorted, _ = sortRoots(roots, firm(refs))
		late = behind(sorted, refs)
	}
	for _, r := range late {
		if !r.from.Grow.Fields[r.field].Inner {
			o.Late = append(o.Late, Late{r.from, r.field})
		}
	}
	for _, root := range sorted {
		o.Families = append(o.Families, members[root])
	}
	return o
}

// referencesOf returns the references of a family to rows of its own that may come later, and those
// to other families.
func referencesOf(
	root *grow.Entity, members Family, byEntity map[*grow.Entity]*plan.Target,
) (late []Late, outward []reference) {
	for _, t := range members {
		for i, f := range t.Grow.Fields {
			to := f.Target()
			switch {
			case to == nil || f.RefersUp() || to == t.Grow || byEntity[to].Plan.Existing:
				// rows above stand before, and a row of the same entity is an earlier one
			case to.Root() != root:
				outward = append(outward, reference{t, i, root, to.Root()})
			case !f.Inner:
				late = append(late, Late{t, i})
			}
		}
	}
	return late, outward
}

// sortRoots puts heads of families behind those that they refer to. The references
// that it could not follow are returned, too.
func sortRoots(roots []*grow.Entity, refs []reference) (sorted []*grow.Entity, late []reference) {
	from := map[*grow.Entity][]reference{}
	for _, r := range refs {
		from[r.root] = append(from[r.root], r)
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
		for _, r := range from[root] {
			switch state[r.to] {
			case placing:
				late = append(late, r)
			case waiting:
				place(r.to)
			}
		}
		state[root] = placed
		sorted = append(sorted, root)
	}
	for _, r := range roots {
		if state[r] == waiting {
			place(r)
		}
	}
	return sorted, late
}

// soft reports whether a circle may be broken at a reference.
func (r reference) soft() bool {
	col := r.from.Columns[r.field]
	if col == nil {
		return false
	}
	to := r.from.Table.Reference(col.Name)
	return !col.NotNull || to != nil && to.Deferrable
}

// firm returns the references that must be followed, and of the others those that
// close no circle with the ones before them.
func firm(refs []reference) []reference {
	var out []reference
	next := map[*grow.Entity][]*grow.Entity{}
	add := func(r reference) {
		out = append(out, r)
		next[r.root] = append(next[r.root], r.to)
	}
	for _, r := range refs {
		if !r.soft() {
			add(r)
		}
	}
	for _, r := range refs {
		if r.soft() && !reaches(next, r.to, r.root) {
			add(r)
		}
	}
	return out
}

// reaches reports whether an entity can be reached from another.
func reaches(next map[*grow.Entity][]*grow.Entity, from, to *grow.Entity) bool {
	seen := map[*grow.Entity]bool{from: true}
	for waiting := []*grow.Entity{from}; len(waiting) > 0; {
		e := waiting[0]
		waiting = waiting[1:]
		if e == to {
			return true
		}
		for _, n := range next[e] {
			if !seen[n] {
				seen[n] = true
				waiting = append(waiting, n)
			}
		}
	}
	return false
}

// behind returns the references that lead to a later family.
func behind(sorted []*grow.Entity, refs []reference) []reference {
	place := map[*grow.Entity]int{}
	for i, e := range sorted {
		place[e] = i
	}
	var out []reference
	for _, r := range refs {
		if place[r.to] > place[r.root] {
			out = append(out, r)
		}
	}
	return out
}

// family is an entity with all that are planned per it, and theirs.
func family(e *grow.Entity, byEntity map[*grow.Entity]*plan.Target) Family {
	f := Family{byEntity[e]}
	for _, c := range e.Children() {
		if byEntity[c] == nil {
			continue // occasions of a unit, which go into no table
		}
		f = append(f, family(c, byEntity)...)
	}
	return f
}

// Targets returns all entities in load order.
func (o *Order) Targets() []*plan.Target { return slices.Concat(o.families()...) }

// families are the families in load order.
func (o *Order) families() [][]*plan.Target {
	out := make([][]*plan.Target, len(o.Families))
	for i, f := range o.Families {
		out[i] = f
	}
	return out
}

// Runs are an entity's rows that belong to a part, in order: those written by hand, and
// below such, then the numbered ones.
func Runs(g *grow.Grower, t *plan.Target, p Part) []Run {
	var runs []Run
	if n := uint64(len(t.Grow.Side)); n > 0 && p.Given() {
		runs = append(runs, Run{t, grow.Row{Side: true}, n})
	}
	lo, hi := p.Range(t.Grow.Root().Rows)
	if from, to := g.Families(t.Grow, false, lo, hi); to > from {
		runs = append(runs, Run{t, grow.Row{N: from}, to - from})
	}
	return runs
}

// Run is consecutive rows of one entity.
type Run struct {
	Target *plan.Target
	First  grow.Row
	Rows   uint64
}

// Chunk is rows that go to the database together: whole families of one root.
type Chunk []Run

// Chunks cuts a part of a family into chunks of at most most rows, but never a row from
// what is planned per it. skip leaves out entities.
func (f Family) Chunks(g *grow.Grower, most uint64, part Part, skip func(*plan.Target) bool) iter.Seq[Chunk] {
	root := f[0].Grow
	return func(yield func(Chunk) bool) {
		for _, side := range []bool{true, false} {
			first, total := part.Range(root.Rows)
			if side {
				if first, total = 0, uint64(len(root.Side)); !part.Given() {
					continue
				}
			}
			cut := cutter{f, g, side, skip}
			for from := first; from < total; {
				to := cut.end(from, total, most)
				if c := cut.chunk(from, to); len(c) > 0 && !yield(c) {
					return
				}
				from = to
			}
		}
	}
}

// cutter cuts chunks of a family, of its grown rows or of those by hand.
type cutter struct {
	family Family
	grower *grow.Grower
	side   bool
	skip   func(*plan.Target) bool // entities that are left out; may be nil
}

// end finds the last root row that still fits into a chunk beginning at from.
func (c cutter) end(from, total, most uint64) uint64 {
	rows := func(to uint64) uint64 {
		n := uint64(0)
		for _, r := range c.chunk(from, to) {
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

// chunk is the families of the root rows from from to to-1.
func (c cutter) chunk(from, to uint64) Chunk {
	var out Chunk
	for _, t := range c.family {
		if c.skip != nil && c.skip(t) {
			continue
		}
		a, b := c.grower.Families(t.Grow, c.side, from, to)
		if b > a {
			out = append(out, Run{t, grow.Row{N: a, Side: c.side}, b - a})
		}
	}
	return out
}
