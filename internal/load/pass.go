package load

import (
	"iter"
	"slices"
	"sort"

	"evensprout/internal/grow"
	"evensprout/internal/store"
	"evensprout/internal/value"
)

// pass is one reading of a run's rows on their way to the database.
type pass struct {
	segments []segment
	n        int64
	print    grow.Fingerprint
	again    bool
	err      error
}

// segment is consecutive rows with consecutive numbers in the write.
type segment struct {
	number int64
	first  grow.Row
	rows   int64
}

// row is the row with a number in the write.
func (p *pass) row(number int64) grow.Row {
	i := sort.Search(len(p.segments), func(i int) bool { return p.segments[i].number+p.segments[i].rows > number })
	if i == len(p.segments) {
		return grow.Row{}
	}
	s := p.segments[i]
	return grow.Row{N: s.first.N + uint64(number-s.number), Side: s.first.Side}
}

// let passes on the rows of a batch but those left out, and notes which they are. It
// tells whether to go on.
func (p *pass) let(b *grow.Batch, out func(i int) bool, yield func(*grow.Batch) bool) bool {
	from := 0
	send := func(to int) bool {
		if to == from {
			return true
		}
		part := b
		if to-from < b.Len {
			part = b.Slice(from, to)
		}
		p.segments = append(p.segments, segment{p.n, part.First, int64(part.Len)})
		p.n += int64(part.Len)
		return yield(part)
	}
	for i := range b.Len {
		if !out(i) {
			continue
		}
		if !send(i) {
			return false
		}
		from = i + 1
	}
	return send(b.Len)
}

// rows lets through the rows that may be written.
func (w *writer) rows(t *target, src iter.Seq[*grow.Batch], p *pass) store.Rows {
	return func(yield func(*grow.Batch) bool) {
		for b := range src {
			if b.Version != w.record.Version() {
				b = w.fresh(b) // it was on its way before something was drawn again
			}
			w.translate(t, b)
			p.print.Add(b.Print)
			excluded := func(i int) bool { return p.err != nil || w.excluded(t, b, i, p) }
			going := p.let(b, excluded, func(part *grow.Batch) bool { return p.err == nil && yield(part) })
			if p.err != nil || !going {
				return
			}
			w.progress(b.Len)
		}
	}
}

func (w *writer) fresh(b *grow.Batch) *grow.Batch {
	g := w.grower()
	g.Grow(b.Entity, b.First, b.Len, &w.spare)
	if err := g.Err(); err != nil {
		w.failed(err)
	}
	return &w.spare
}

func (w *writer) progress(n int) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.done += uint64(n)
	if w.o.Progress != nil {
		w.o.Progress(min(w.done, w.total), w.total)
	}
}

// translate puts keys that rows really have in the place of planned ones, and NULL
// where a reference is written at the end.
func (w *writer) translate(t *target, b *grow.Batch) {
	for _, f := range t.refs {
		late := slices.Contains(t.late, f)
		field := t.Grow.Fields[f]
		to := w.byGrow[field.Target()]
		w.mu.Lock()
		renamed := field.Stored() == to.Grow.Key && w.renamed(to.Grow)
		w.mu.Unlock()
		if !late && !renamed {
			continue
		}
		if late {
			for i := range b.Len {
				b.Row(i)[f] = value.Value{}
			}
			continue
		}
		w.mu.Lock()
		for i := range b.Len {
			v := &b.Row(i)[f]
			if key, ok := w.realKey(to.Grow, *v); ok {
				*v = key
			}
		}
		w.mu.Unlock()
	}
	// Rows that step over numbers that are taken.
	earlier, now := w.memory.stepsOf(t.Grow), w.steps[t.Grow]
	if len(earlier)+len(now) == 0 {
		return
	}
	at := fieldPlace(t.Grow, t.Grow.Key)
	for i := range b.Len {
		v := &b.Row(i)[at]
		if key, ok := stepOf(earlier, *v); ok {
			*v = key
		} else if key, ok := stepOf(now, *v); ok {
			*v = key
		}
	}
}

// excluded tells whether a row is left out: it was rejected, it refers to a row that
// was, or a value does not fit its column.
func (w *writer) excluded(t *target, b *grow.Batch, i int, p *pass) bool {
	row := b.At(i)
	if w.record.Rejected(t.Grow, row) {
		w.unprint(t, row, p)
		return true
	}
	var v *store.Violation
	for _, f := range t.refs {
		field := t.Grow.Fields[f]
		to := field.Target()
		if !w.record.AnyRejected(to) || slices.Contains(t.late, f) {
			continue
		}
		if at, ok := w.grower().Refers(t.Grow, row, field); ok && w.record.Rejected(to, at) {
			v = &store.Violation{Kind: store.ForeignKey, Table: t.Table.Name, Columns: []string{t.Columns[f].Name}, Values: []value.Value{b.Row(i)[f]},
				Constraint: consequence, Refers: w.byGrow[to].Table.Name, Message: "it refers to " + to.Label(at) + ", which was rejected"}
			p.err = w.reject(t, row, v)
			w.unprint(t, row, p)
			return true
		}
	}
	values := b.Row(i)
	for _, j := range t.checked {
		if v = store.Misfit(t.write.Columns[j], &values[t.write.Fields[j]]); v != nil {
			break
		}
	}
	if v == nil && t.known != nil {
		v = t.known.collision(values)
	}
	if v == nil && t.seen != nil {
		v = w.twin(t, row, values)
	}
	if v == nil {
		return false
	}
	v.Table = t.Table.Name
	again, err := w.decide(t, row, v)
	p.again = p.again || again
	p.err = err
	w.unprint(t, row, p)
	return true
}

// unprint takes a row out of the fingerprint.
func (w *writer) unprint(t *target, row grow.Row, p *pass) {
	var one grow.Batch
	w.grower().Grow(t.Grow, row, 1, &one)
	p.print.Sub(one.Print)
}
