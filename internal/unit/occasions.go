package unit

import (
	"crypto/sha256"
	"encoding/json"
	"fmt"

	"evensprout/internal/grow"
	"evensprout/internal/value"
)

// occasionName is what an occasion is known by in the journal: a digest of the plan, the
// unit and what tells it from the others.
type occasionName [16]byte

// occasion is one occasion of a unit while it is done.
type occasion struct {
	row    grow.Row
	name   occasionName
	fields []value.Value // of the occasion
	slots  []value.Value
	known  []bool

	// Of an element of a list: the occasion, or the element, that it belongs to.
	within *occasion
	path   string // such as people[3]; empty of an occasion
	number int    // from 1

	// No two elements of its lists touch the same row: they can be done at once.
	apart   bool
	members map[int]map[string]json.RawMessage // of objects that were taken apart, by slot
}

// rowAt is the row of an occasion by its place: those written by hand come first.
func (r *unitRun) rowAt(n uint64) grow.Row {
	if side := uint64(len(r.unit.Grow.Side)); n >= side {
		return grow.Row{N: n - side}
	}
	return grow.Row{N: n, Side: true}
}

// named is the name of an occasion.
func (r *unitRun) named(identity []byte, copies uint32) occasionName {
	h := sha256.New()
	for _, part := range []string{r.w.Session.Plan.Plan.Name, r.unit.Plan.Name, r.salt} {
		fmt.Fprintf(h, "%d %s", len(part), part)
	}
	if r.unit.Grow.Table == nil {
		fmt.Fprintf(h, "seed %s", r.w.Session.Plan.Set.Seed)
	}
	fmt.Fprintf(h, " %d ", copies)
	h.Write(identity)
	return occasionName(h.Sum(nil)[:16])
}

// occasions grows occasions, with their names.
func (r *unitRun) occasions(first, n uint64) ([]*occasion, error) {
	var out []*occasion
	e := r.unit.Grow
	g := r.w.Grower()
	for at := first; at < first+n; {
		row := r.rowAt(at)
		count := min(first+n-at, 64) // few, so that a line is in memory still when it is named
		if row.Side {
			count = min(count, uint64(len(e.Side))-row.N)
		}
		var b grow.Batch
		g.Grow(e, row, int(count), &b)
		if err := g.Err(); err != nil {
			return nil, err
		}
		r.translateOccasions(&b)
		for i := range b.Len {
			x := &occasion{
				row:    b.At(i),
				fields: b.Row(i),
				slots:  make([]value.Value, len(r.unit.Slots)),
				known:  make([]bool, len(r.unit.Slots)),
			}
			identity, once := g.AppendIdentity(nil, e, x.row)
			x.name = r.named(identity, 0)
			if !once {
				// Of equal lines the first is told from the second. Memory: a name for
				// each line that differs.
				copies := r.counts[x.name]
				r.counts[x.name] = copies + 1
				x.name = r.named(identity, copies)
			}
			out = append(out, x)
		}
		if err := g.Err(); err != nil {
			return nil, err
		}
		at += count
	}
	return out, nil
}

// translateOccasions puts keys that rows really have in the place of planned ones.
func (r *unitRun) translateOccasions(b *grow.Batch) {
	for j, f := range r.unit.Grow.Fields {
		to := r.w.Session.ByGrow[f.Target()]
		if to == nil || f.Stored() != to.Grow.Key || !r.w.Session.Renamed(to.Grow) {
			continue
		}
		for i := range b.Len {
			if key, ok := r.w.Session.RealKey(to.Grow, b.Row(i)[j]); ok {
				b.Row(i)[j] = key
			}
		}
	}
}
