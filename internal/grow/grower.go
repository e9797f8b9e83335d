package grow

import (
	"sort"
	"unsafe"

	"evensprout/internal/rng"
	"evensprout/internal/value"
)

// Source makes the values of a field. Sources are made by this package's
// constructors and hold no state of their own between cells.
type Source interface {
	Type() value.Type
	Scale() uint8
	// grow sets v, which is zero (NULL) before.
	grow(c cell, v *value.Value)
}

// Countable is a source whose possible values can be numbered.
type Countable interface {
	Source
	// Space is the number of possible values, at most MaxSpace.
	Space() uint64
	// at sets v to the value with that number; below the space, different
	// numbers give different values under Fold.
	at(c cell, index uint64, v *value.Value)
}

// What sources may tell of themselves beside, each in a method of its own. A source that
// tells nothing is drawn anew as it is, differs only by a group, makes texts of any length,
// and refers to no row above.
type (
	// redrawer tells which fields' next attempts change its values, if not its own field's.
	redrawer interface{ redrawn(f *Field) []*Field }
	// differer reports whether its values differ from row to row by themselves.
	differer interface{ differs(f *Field) bool }
	// sibling reports whether its values differ among the children of a parent.
	sibling interface{ differsWithin() bool }
	// speller knows all texts that it makes.
	speller interface{ texts() []string }
	// bounded knows the longest text that it makes.
	bounded interface{ longest() string }
	// counting makes values that change where some entity has more rows, and tells of which
	// field: its own, or one that it is made of.
	counting interface {
		counts(f *Field, seen []*Field) *Field
	}
	// riser reports whether it refers to a row above its own in the family.
	riser interface{ refersUp() bool }
)

// MaxSpace bounds value spaces, so that products of two fit 64 bits with room.
const MaxSpace = 1 << 62

// reference is a source whose values are keys of rows of another entity.
type reference interface {
	Source
	target() *Entity
	// stored is the target's field whose value is kept, normally its key.
	stored() *Field
	row(c cell) (Row, bool)
}

// Target returns the entity that a field refers to, or nil.
func (f *Field) Target() *Entity {
	if r, ok := f.Source.(reference); ok {
		return r.target()
	}
	return nil
}

// Stored returns the field of the target whose value a reference keeps, or nil.
func (f *Field) Stored() *Field {
	if r, ok := f.Source.(reference); ok {
		return r.stored()
	}
	return nil
}

// Grower grows rows of a finished Set. It belongs to one goroutine.
type Grower struct {
	set    *Set
	frames [][]*frame   // by entity: reusable frames, most recently used first
	dealt  []*rng.Dealt // by entity
	casts  []*rng.Casting
	blocks [][]block // by entity, once it has a frame: by field and draw
	trees  map[*tree]*rng.Dealt
	totals map[*Field]*total
	tables map[*Entity]TableReader
	ids    map[*Entity][]rng.ID // of rows of small tables, as far as they were asked for; zero: not yet
	text   arena
	bufs   [][]byte // scratch, taken and given back
	prose  stream   // of the text that is being made
	err    error

	record *Record
	seen   uint64 // the version of the record that the frames were grown by
}

// block remembers the random words of the block of rows last drawn for.
type block struct {
	number uint64
	words  [4]uint64
	known  bool
}

// draw tells the purposes apart for which a field draws a fraction.
type draw int

const (
	drawValue draw = iota
	drawNull
	drawAwkward
	draws // how many there are
)

// NewGrower returns a grower for a set.
func NewGrower(s *Set) *Grower {
	g := &Grower{set: s, frames: make([][]*frame, len(s.Entities)), dealt: make([]*rng.Dealt, len(s.Entities))}
	g.casts = make([]*rng.Casting, len(s.Entities))
	g.blocks = make([][]block, len(s.Entities))
	g.trees, g.totals, g.tables = map[*tree]*rng.Dealt{}, map[*Field]*total{}, map[*Entity]TableReader{}
	g.ids = map[*Entity][]rng.ID{}
	g.record = s.Record
	for _, e := range s.Entities {
		if e.Profiles != nil {
			g.casts[e.index] = rng.NewCasting(e.Profiles.cast)
		}
		if e.Deal != nil {
			g.dealt[e.index] = rng.NewDealt(e.Deal)
		}
	}
	return g
}

// Err is the first error, a *RowError, if some row could not be grown. Such a row
// holds NULL there.
func (g *Grower) Err() error { return g.err }

// frame holds the cells of one row as far as they are known.
type frame struct {
	e      *Entity
	row    Row
	id     rng.ID
	parent Row
	ord    uint64
	upward bool // parent and ord are known
	busy   int
	valid  bool
	known  []bool
	values []value.Value
	refs   []Row
	groups []groupAt

	levels  []int    // of the factors of a covering; nil: it has none
	odd     []uint8  // by field: which of its awkward values it holds, from 1; empty if the entity has none
	tries   []uint64 // by tie: how often its fields were drawn again
	settled []bool   // by tie: that is known
}

// cell is what a source sees: one field of one row.
type cell struct {
	g  *Grower
	fr *frame
	f  *Field
}

func (g *Grower) newFrame(e *Entity) *frame {
	if g.blocks[e.index] == nil {
		g.blocks[e.index] = make([]block, len(e.Fields)*int(draws))
	}
	fr := &frame{
		e: e, known: make([]bool, len(e.Fields)), values: make([]value.Value, len(e.Fields)),
		refs: make([]Row, len(e.Fields)), groups: make([]groupAt, len(e.Groups)),
		tries: make([]uint64, len(e.ties)), settled: make([]bool, len(e.ties)),
	}
	if e.hasAwkward {
		fr.odd = make([]uint8, len(e.Fields))
	}
	return fr
}

func (fr *frame) reset(g *Grower, r Row) {
	fr.row, fr.id, fr.upward, fr.valid = r, g.id(fr.e, r), false, true
	clear(fr.known)
	clear(fr.settled)
	clear(fr.odd)
	fr.levels = nil
	if c := fr.e.Covering; c != nil && !r.Side && len(c.rows) > 0 {
		fr.levels = c.rows[r.N%uint64(len(c.rows))]
	}
	for i := range fr.groups {
		fr.groups[i].known = false
	}
}

// open returns a frame for a row; close it after use. A row that is open
// already, or was used last, is found again with its cells.
func (g *Grower) open(e *Entity, r Row) *frame {
	frames := g.frames[e.index]
	var free *frame
	for _, fr := range frames {
		if fr.valid && fr.row == r {
			fr.busy++
			return fr
		}
		if fr.busy == 0 {
			free = fr
		}
	}
	if free == nil {
		free = g.newFrame(e)
		g.frames[e.index] = append(frames, free)
	}
	free.reset(g, r)
	free.busy = 1
	return free
}

// spare returns a frame of its own for trying out a row: open never finds it
// by its row, so what is tried leaves no trace. Close it after use.
func (g *Grower) spare(e *Entity, r Row) *frame {
	for _, fr := range g.frames[e.index] {
		if fr.busy == 0 {
			fr.reset(g, r)
			fr.busy, fr.valid = 1, false
			return fr
		}
	}
	fr := g.newFrame(e)
	fr.reset(g, r)
	fr.busy, fr.valid = 1, false
	g.frames[e.index] = append(g.frames[e.index], fr)
	return fr
}

func (fr *frame) close() { fr.busy-- }

// value returns a cell, growing it if it is not known yet.
func (g *Grower) value(fr *frame, f *Field) *value.Value {
	if f.tied > 0 && !fr.settled[f.tied-1] {
		g.drawUntilMet(fr, f.tied)
	}
	v := &fr.values[f.index]
	if !fr.known[f.index] {
		*v = value.Value{}
		if fr.odd != nil {
			fr.odd[f.index] = 0
		}
		c := cell{g, fr, f}
		c.grow(v)
		if err := checked(v); err != nil {
			c.fail(err)
			*v = value.Value{}
		}
		fr.known[f.index] = true
	}
	return v
}

// given sets a cell that is written by hand; false if it is not.
func (c cell) given(v *value.Value) bool {
	if !c.fr.row.Side {
		return false
	}
	given, ok := c.fr.e.Side[c.fr.row.N].Given[c.f]
	if !ok {
		return false
	}
	*v = given.Value
	if c.f.ref != nil && !v.IsNull() {
		c.refer(c.f.ref, given.Ref, v)
	}
	return true
}

func (c cell) grow(v *value.Value) {
	if c.given(v) {
		return
	}
	for i := range c.f.If {
		if !c.f.If[i].holds(c, c.fr) {
			return
		}
	}
	if l := c.levelOf(); l != nil {
		if l.set(c, v) || c.f.ref == nil && c.between(v) {
			return
		}
	} else if c.f.Nulls.Part > 0 && c.f.Nulls.hit(c.fraction(drawNull)) {
		return
	}
	if c.f.ref != nil {
		if row, ok := c.f.ref.row(c); ok {
			c.refer(c.f.ref, row, v)
		}
		return
	}

	if c.f.group != nil && c.f.group.text != c.f {
		c.f.Source.(Countable).at(c, c.digit(), v)
		return
	}
	if c.f.mixes() && c.makeAwkward(v) {
		return
	}
	c.f.Source.grow(c, v)
	if c.f.numbered != nil && !v.IsNull() {
		c.f.numbered.number(c, v)
	}
}

// refer makes the cell a reference to a row.
func (c cell) refer(r reference, row Row, v *value.Value) {
	c.fr.refs[c.f.index] = row
	if s, ok := r.(*lookup); ok && s.own != nil {
		*v = *c.g.value(c.fr, s.own) // no need to read that row
		return
	}
	fr := c.g.open(r.target(), row)
	*v = *c.g.value(fr, r.stored())
	fr.close()
}

// fraction is this row's draw for a purpose, in units of 2^-64.
func (c cell) fraction(d draw) uint64 {
	k := &c.f.keys[d]
	a := c.tries()
	if d != drawNull {
		a = c.attempt()
	}
	if a > 0 {
		return rng.Philox([4]uint64{c.fr.id[1], c.fr.id[0], a, 0}, *k)[0]
	}
	if c.fr.row.Side || c.f.Free || c.fr.e.Table != nil {
		return rng.Philox([4]uint64{c.fr.id[1], c.fr.id[0], 0, 0}, *k)[0]
	}
	n := c.fr.row.N
	number := n >> rng.BlockBits
	if number == 0 && c.fr.e.Parent == nil {
		return k.EvenFirst(n)
	}
	b := &c.g.blocks[c.fr.e.index][c.f.index*int(draws)+int(d)]
	if !b.known || b.number != number {
		*b = block{number, k.ShuffleWords(number), true}
	}
	return k.EvenIn(&b.words, n)
}

// stream is an endless row of independent draws for one cell.
type stream struct {
	key   rng.Key
	ctr   [4]uint64
	words [4]uint64
	next  int
}

func (c cell) stream() stream {
	return stream{key: c.f.key(), ctr: [4]uint64{c.fr.id[1], c.fr.id[0], c.attempt(), 16}, next: 4}
}

// attempt tells the draws of a cell apart: after a refusal of the database, and, in its
// upper half, after a condition that was not met.
func (c cell) attempt() uint64 { return c.g.record.Attempt(c.f, c.fr.row) | c.tries() }

// tries is the part of attempt that belongs to conditions.
func (c cell) tries() uint64 {
	if c.f.tied == 0 {
		return 0
	}
	return c.fr.tries[c.f.tied-1] << 32
}

// word draws 64 bits.
func (s *stream) word() uint64 {
	if s.next == len(s.words) {
		s.words = rng.Philox(s.ctr, s.key)
		s.ctr[3]++
		s.next = 0
	}
	s.next++
	return s.words[s.next-1]
}

// below draws a number in [0, n).
func (s *stream) below(n uint64) uint64 { return rng.Below(s.word(), n) }

// up finds the parent of the frame's row and its ordinal among its siblings.
func (g *Grower) up(fr *frame) (Row, uint64) {
	if !fr.upward {
		fr.upward = true
		if fr.row.Side {
			s := &fr.e.Side[fr.row.N]
			fr.parent, fr.ord = Row{N: uint64(s.Parent), Side: true}, s.Ordinal
		} else {
			p, o := g.dealt[fr.e.index].Parent(fr.row.N)
			fr.parent, fr.ord = Row{N: p}, o
		}
	}
	return fr.parent, fr.ord
}

// Path reaches a field from a row: over references, then to the field.
type Path struct {
	Hops  []*Field
	Field *Field
}

// follow returns the field at the end of a path; NULL if a reference is NULL.
func (c cell) follow(p *Path) value.Value {
	if len(p.Hops) == 0 {
		return *c.g.value(c.fr, p.Field)
	}
	return c.g.follow(c.fr, p.Hops, p.Field)
}

func (g *Grower) follow(fr *frame, hops []*Field, f *Field) value.Value {
	if len(hops) == 0 {
		return *g.value(fr, f)
	}
	hop := hops[0]
	if g.value(fr, hop).IsNull() {
		return value.Value{}
	}
	next := g.open(hop.ref.target(), fr.refs[hop.index])
	v := g.follow(next, hops[1:], f)
	next.close()
	return v
}

// followRow returns the row to which the reference at the end of a path points;
// false if some reference on the way is NULL.
func (g *Grower) followRow(fr *frame, p *Path) (Row, bool) {
	fr.busy++
	for _, hop := range p.Hops {
		null := g.value(fr, hop).IsNull()
		next := fr.refs[hop.index]
		fr.close()
		if null {
			return Row{}, false
		}
		fr = g.open(hop.ref.target(), next)
	}
	null := g.value(fr, p.Field).IsNull()
	row := fr.refs[p.Field.index]
	fr.close()
	return row, !null
}

// take lends a scratch buffer; give takes it back.
func (g *Grower) take() []byte {
	if n := len(g.bufs); n > 0 {
		b := g.bufs[n-1]
		g.bufs = g.bufs[:n-1]
		return b[:0]
	}
	return make([]byte, 0, 256)
}

func (g *Grower) give(b []byte) { g.bufs = append(g.bufs, b) }

// setText makes the cell a text, copied from scratch bytes.
func (c cell) setText(v *value.Value, b []byte) {
	v.Type, v.S = value.Text, c.g.text.keep(b)
}

// arena keeps text in large blocks, so that cells cost no allocation of their
// own. A block is never written twice: it lives as long as strings point to it.
type arena struct{ block []byte }

const arenaBlock = 64 << 10

func (a *arena) keep(b []byte) string {
	if len(b) == 0 {
		return ""
	}
	if len(a.block)+len(b) > cap(a.block) {
		a.block = make([]byte, 0, max(arenaBlock, len(b)))
	}
	at := len(a.block)
	a.block = append(a.block, b...)
	return unsafe.String(&a.block[at], len(b))
}

// Batch is a run of rows of one entity, one value for each of its fields. It may be used
// again.
type Batch struct {
	value.Batch
	Entity *Entity
	First  Row // the rows are consecutive
	Print  Fingerprint
	Odd    Tally // its awkward values
	// Version is that of the Record that the rows were grown by.
	Version uint64
}

// Slice returns the rows from lo to hi-1, sharing their values. It has no fingerprint.
func (b *Batch) Slice(lo, hi int) *Batch {
	return &Batch{Batch: *b.Batch.Slice(lo, hi), Entity: b.Entity, First: b.At(lo)}
}

// At names the i-th row.
func (b *Batch) At(i int) Row { return Row{N: b.First.N + uint64(i), Side: b.First.Side} }

// Grow fills b with rows first, first+1, ... and their fingerprint; what inner
// fields hold there means nothing. The batch stays valid however the grower is used
// afterwards.
func (g *Grower) Grow(e *Entity, first Row, n int, b *Batch) {
	g.fill(e, first, n, b, room{MaxBatch, false})
}

// GrowSome does the same with at least one row and at most n: with fewer where they hold
// more than SomeBytes.
func (g *Grower) GrowSome(e *Entity, first Row, n int, b *Batch) {
	g.fill(e, first, n, b, room{SomeBytes, true})
}

// room is how many bytes rows may hold together, and whether fewer rows will do where they hold more.
type room struct {
	bytes int
	fewer bool
}

// fill grows rows until the room is full; then it ends or, unless fewer will do, fails.
func (g *Grower) fill(e *Entity, first Row, n int, b *Batch, in room) {
	width := len(e.Fields)
	b.Entity, b.First, b.Len, b.Width, b.Print, b.Odd = e, first, n, width, Fingerprint{}, nil
	b.Version = g.refresh()
	if cap(b.Values) < n*width {
		b.Values = make([]value.Value, n*width)
	}
	b.Values = b.Values[:n*width]
	size := 0
	for i := range n {
		fr := g.open(e, b.At(i))
		row := 0
		for _, f := range e.Fields {
			if !f.Inner {
				row += len(g.value(fr, f).S)
			}
		}
		if size += row; row > MaxRow || size > in.bytes && !in.fewer {
			err := errBatch
			if row > MaxRow {
				err = errLongRow
			}
			if g.err == nil {
				g.err = &RowError{e.Label(b.At(i)), "", err}
			}
			fr.close()
			clear(b.Values[i*width:])
			return
		}
		copy(b.Values[i*width:], fr.values)
		b.Print.Add(g.print(fr))
		b.Odd.tally(fr)
		fr.close()
		if size > in.bytes {
			b.Len, b.Values = i+1, b.Values[:(i+1)*width]
			return
		}
	}
}

// refresh forgets cells that were grown by an older version of the record.
func (g *Grower) refresh() uint64 {
	if g.record == nil {
		return 0
	}
	version := g.record.Version()
	if version != g.seen {
		g.seen = version
		for _, frames := range g.frames {
			for _, fr := range frames {
				fr.valid = false
			}
		}
		clear(g.totals)
	}
	return version
}

// Families returns, for roots first to last-1 (grown or side rows), the range of
// rows of a member of the family.
func (g *Grower) Families(e *Entity, side bool, first, last uint64) (from, to uint64) {
	if e.Parent == nil {
		return first, last
	}
	from, to = g.Families(e.Parent, side, first, last)
	return g.firstChild(e, side, from), g.firstChild(e, side, to)
}

// Below returns the range of e's rows whose parent is r: numbers of grown rows, or
// indexes of side rows, as r is.
func (g *Grower) Below(e *Entity, r Row) (from, to uint64) {
	return g.firstChild(e, r.Side, r.N), g.firstChild(e, r.Side, r.N+1)
}

// firstChild is the number or index of the first row below a parent: also how many
// rows stand below the parents before it.
func (g *Grower) firstChild(e *Entity, side bool, parent uint64) uint64 {
	if side {
		return uint64(sort.Search(len(e.Side), func(i int) bool { return uint64(e.Side[i].Parent) >= parent }))
	}
	return g.dealt[e.index].First(parent)
}

// Parent is the row above a row; false if its entity has no parent.
func (g *Grower) Parent(e *Entity, r Row) (Row, bool) {
	if e.Parent == nil {
		return Row{}, false
	}
	g.refresh()
	fr := g.open(e, r)
	defer fr.close()
	up, _ := g.up(fr)
	return up, true
}

// Refers returns the row that a field of a row refers to; false if the field is no
// reference, or NULL.
func (g *Grower) Refers(e *Entity, r Row, f *Field) (Row, bool) {
	if f.Target() == nil {
		return Row{}, false
	}
	g.refresh()
	fr := g.open(e, r)
	defer fr.close()
	if g.value(fr, f).IsNull() {
		return Row{}, false
	}
	return fr.refs[f.index], true
}
