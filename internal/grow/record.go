package grow

import (
	"maps"
	"sync"
	"sync/atomic"

	"evensprout/internal/rng"
)

// Record is what a pure function of the plan cannot know, because only a database
// decides it: rows that were refused, and values that were drawn again. Rows are a
// function of plan and record. It may be used by several goroutines.
type Record struct {
	version  atomic.Uint64 // how often something was added
	mu       sync.RWMutex
	rejected map[*Entity]map[Row]bool
	attempts map[*Field]map[Row]uint64
}

// NewRecord makes an empty record.
func NewRecord() *Record {
	return &Record{rejected: map[*Entity]map[Row]bool{}, attempts: map[*Field]map[Row]uint64{}}
}

// Clone is a copy that can be added to on its own.
func (r *Record) Clone() *Record {
	r.mu.RLock()
	defer r.mu.RUnlock()
	c := NewRecord()
	for e, rows := range r.rejected {
		c.rejected[e] = maps.Clone(rows)
	}
	for f, rows := range r.attempts {
		c.attempts[f] = maps.Clone(rows)
	}
	c.version.Store(r.version.Load())
	return c
}

// Version changes whenever something is added.
func (r *Record) Version() uint64 { return r.version.Load() }

// Reject notes that a row is not there.
func (r *Record) Reject(e *Entity, row Row) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.rejected[e] == nil {
		r.rejected[e] = map[Row]bool{}
	}
	r.rejected[e][row] = true
	r.version.Add(1)
}

// Rejected reports whether a row is not there.
func (r *Record) Rejected(e *Entity, row Row) bool {
	if r == nil || r.version.Load() == 0 {
		return false
	}
	r.mu.RLock()
	defer r.mu.RUnlock()
	return r.rejected[e][row]
}

// AnyRejected reports whether some row of an entity is not there.
func (r *Record) AnyRejected(e *Entity) bool {
	if r == nil || r.version.Load() == 0 {
		return false
	}
	r.mu.RLock()
	defer r.mu.RUnlock()
	return len(r.rejected[e]) > 0
}

// Redraw takes the next attempt of a field of a row, and returns its number.
func (r *Record) Redraw(f *Field, row Row) uint64 {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.attempts[f] == nil {
		r.attempts[f] = map[Row]uint64{}
	}
	r.attempts[f][row]++
	r.version.Add(1)
	return r.attempts[f][row]
}

// Retry sets the attempt of a field of a row.
func (r *Record) Retry(f *Field, row Row, attempt uint64) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.attempts[f] == nil {
		r.attempts[f] = map[Row]uint64{}
	}
	r.attempts[f][row] = attempt
	r.version.Add(1)
}

// Attempt is the attempt of a field of a row, 0 for the first.
func (r *Record) Attempt(f *Field, row Row) uint64 {
	if r == nil || r.version.Load() == 0 {
		return 0
	}
	r.mu.RLock()
	defer r.mu.RUnlock()
	return r.attempts[f][row]
}

// Redrawn returns the fields whose next attempts may change a field's value: itself,
// or those that it is built of. It is empty if the value follows from others, or from
// the row's place, altogether.
func (f *Field) Redrawn() []*Field {
	if f.group != nil {
		return []*Field{f.group.lead()}
	}
	if f.numbered != nil {
		return []*Field{f.numbered.lead()}
	}
	if s, ok := f.Source.(redrawer); ok {
		return s.redrawn(f)
	}
	return []*Field{f}
}

func redrawn(paths []Path) []*Field {
	var out []*Field
	for _, p := range paths {
		if len(p.Hops) == 0 {
			out = append(out, p.Field.Redrawn()...)
		}
	}
	return out
}

// lead is the field by which a group's attempts are counted.
func (g *Group) lead() *Field {
	switch {
	case g.text != nil:
		return g.text
	case len(g.members) > 0:
		return g.members[0].field
	}
	return g.spare
}

// reserveAttempts is how many attempts of a row stay in the reserve.
const reserveAttempts = 64

// Attempts is how many attempts of a field of a unique group lead to every value that no
// planned row has at first, and the number of different values; false if the field is in
// no group.
func (f *Field) Attempts() (attempts, values uint64, ok bool) {
	g := f.group
	if g == nil {
		return 0, 0, false
	}
	rows := g.entity.Rows
	if g.most > 0 {
		rows = g.most
	}
	return reserveAttempts + g.size - min(rows, g.size), g.size, true
}

// retry is the place of a row in the group at a later attempt: somewhere in the
// reserve, and nowhere that grown rows or given ones stand. Attempts after these walk over
// all places that grown rows leave free, from one that differs from row to row: then
// rows that are added later may have to be drawn again in their turn.
func (g *Group) retry(c cell, attempt uint64) (groupAt, bool) {
	if g.most > 0 {
		return g.retryScoped(c, attempt)
	}
	if len(g.eras) > 0 {
		index, ok := g.inEra(c.fr.row, attempt)
		return groupAt{known: true, index: index}, ok
	}
	rows := min(g.entity.Rows, g.size)
	low := max(g.size-g.size/8, rows)
	walk := attempt > reserveAttempts || low >= g.size
	if walk {
		low = rows
	}
	if low >= g.size {
		return groupAt{}, false
	}
	const tries = 64
	b := c.g.take()
	defer func() { c.g.give(b) }()
	if walk {
		start := rng.Philox([4]uint64{c.fr.id[1], c.fr.id[0], 0, 8}, g.key)
		index := g.first.At(low + (rng.Below(start[0], g.size-low)+attempt)%(g.size-low))
		return groupAt{known: true, index: index}, len(g.taken) == 0 || !g.isTakenByGiven(c, index, b)
	}
	for i := range uint64(tries) {
		w := rng.Philox([4]uint64{c.fr.id[1], c.fr.id[0], attempt, 7 + i<<8}, g.key)
		index := g.first.At(low + rng.Below(w[0], g.size-low))
		if len(g.taken) > 0 && g.isTakenByGiven(c, index, b) {
			continue
		}
		return groupAt{known: true, index: index}, true
	}
	return groupAt{}, false
}

// isTakenByGiven reports whether a row written by hand has the values of a place.
func (g *Group) isTakenByGiven(c cell, index uint64, b []byte) bool {
	fr := c.g.spare(g.entity, c.fr.row)
	fr.groups[g.slot] = groupAt{known: true, index: index}
	b = g.appendKey(c.g, fr, b[:0])
	fr.close()
	_, held := g.taken[string(b)]
	return held
}
