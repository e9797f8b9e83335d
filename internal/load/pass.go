package load

import (
	"iter"
	"slices"
	"sort"

	"evensprout/internal/journal"

	"evensprout/internal/grow"
	"evensprout/internal/store"
	"evensprout/internal/value"
)

// Pass is one reading of a run's rows on their way to the database.
type Pass struct {
	segments []segment
	N        int64 // rows so far
	print    grow.Fingerprint
	odd      grow.Tally // awkward values
	again    bool
	err      error
}

// segment is consecutive rows with consecutive numbers in the write.
type segment struct {
	number int64
	first  grow.Row
	rows   int64
}

// Row is the row with a number in the write.
func (p *Pass) Row(number int64) grow.Row {
	i := sort.Search(len(p.segments), func(i int) bool { return p.segments[i].number+p.segments[i].rows > number })
	if i == len(p.segments) {
		return grow.Row{}
	}
	s := p.segments[i]
	return grow.Row{N: s.first.N + uint64(number-s.number), Side: s.first.Side}
}

// let passes on the rows of a batch but those left out, and notes which they are. It
// reports whether to go on.
func (p *Pass) let(b *grow.Batch, out func(i int) bool, yield func(*grow.Batch) bool) bool {
	from := 0
	send := func(to int) bool {
		if to == from {
			return true
		}
		part := b
		if to-from < b.Len {
			part = b.Slice(from, to)
		}
		p.segments = append(p.segments, segment{p.N, part.First, int64(part.Len)})
		p.N += int64(part.Len)
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

// onlyValues are rows without whose they are.
func onlyValues(rows iter.Seq[*grow.Batch]) store.Rows {
	return func(yield func(*value.Batch) bool) {
		for b := range rows {
			if !yield(&b.Batch) {
				return
			}
		}
	}
}

// rows lets through the rows that may be written.
func (w *Writer) rows(t *Target, src iter.Seq[*grow.Batch], p *Pass) store.Rows {
	return func(yield func(*value.Batch) bool) {
		for b := range src {
			if b.Version != w.Session.Record.Version() {
				b = w.fresh(b) // it was on its way before something was drawn again
			}
			w.translate(t, b)
			p.print.Add(b.Print)
			p.odd.Add(b.Odd, 1)
			excluded := func(i int) bool { return p.err != nil || w.excluded(t, b, i, p) }
			going := p.let(b, excluded, func(part *grow.Batch) bool { return p.err == nil && yield(&part.Batch) })
			if p.err != nil || !going {
				return
			}
			w.progress(t, b.Len)
		}
	}
}

// fresh grows the rows of a batch again, into one whose values may be changed.
func (w *Writer) fresh(b *grow.Batch) *grow.Batch {
	g := w.Grower()
	g.Grow(b.Entity, b.First, b.Len, &w.spare)
	if err := g.Err(); err != nil {
		w.failed(err)
	}
	return &w.spare
}

// translate puts keys that rows really have in the place of planned ones, and NULL
// where a reference is written at the end.
func (w *Writer) translate(t *Target, b *grow.Batch) {
	for _, f := range t.refs {
		late := slices.Contains(t.Late, f)
		field := t.Grow.Fields[f]
		to := w.Session.ByGrow[field.Target()]
		w.Session.mu.Lock()
		renamed := field.Stored() == to.Grow.Key && w.Session.Renamed(to.Grow)
		w.Session.mu.Unlock()
		if !late && !renamed {
			continue
		}
		if late {
			for i := range b.Len {
				b.Row(i)[f] = value.Value{}
			}
			continue
		}
		w.Session.mu.Lock()
		for i := range b.Len {
			v := &b.Row(i)[f]
			if key, ok := w.Session.RealKey(to.Grow, *v); ok {
				*v = key
			}
		}
		w.Session.mu.Unlock()
	}

	// Rows that step over numbers that are taken.
	earlier, now := w.Session.Memory.stepsOf(t.Grow), w.Session.steps[t.Grow]
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

// excluded reports whether a row is left out: it was rejected, it refers to a row that
// was, or a value does not fit its column.
func (w *Writer) excluded(t *Target, b *grow.Batch, i int, p *Pass) bool {
	row := b.At(i)
	if w.Session.Record.Rejected(t.Grow, row) {
		w.subtractFingerprint(t, row, p)
		return true
	}
	var v *store.Violation
	for _, f := range t.refs {
		field := t.Grow.Fields[f]
		to := field.Target()
		if !w.Session.Record.AnyRejected(to) || slices.Contains(t.Late, f) {
			continue
		}
		if at, ok := w.Grower().Refers(t.Grow, row, field); ok && w.Session.Record.Rejected(to, at) {
			v = &store.Violation{
				Kind:       store.ForeignKey,
				Table:      t.Table.Name,
				Columns:    []string{t.Columns[f].Name},
				Values:     []value.Value{b.Row(i)[f]},
				Constraint: journal.Consequence,
				Refers:     w.Session.ByGrow[to].Table.Name,
				Message:    "it refers to " + to.Label(at) + ", which was rejected",
			}
			p.err = w.reject(t, row, v)
			w.subtractFingerprint(t, row, p)
			return true
		}
	}

	values := b.Row(i)
	for _, j := range t.checked {
		if v = store.Misfit(t.Writes.Columns[j], &values[t.Writes.Fields[j]]); v != nil {
			break
		}
	}
	if v == nil && t.known != nil {
		v = t.known.Collision(values)
	}
	if v == nil && t.seen != nil {
		v = w.duplicateOfEarlier(t, row, values)
	}
	if v == nil {
		return false
	}
	v.Table = t.Table.Name
	again, err := w.decide(t, row, v)
	p.again = p.again || again
	p.err = err
	w.subtractFingerprint(t, row, p)
	return true
}

// subtractFingerprint takes a row out of the fingerprint, and of what is counted.
func (w *Writer) subtractFingerprint(t *Target, row grow.Row, p *Pass) {
	var one grow.Batch
	w.Grower().Grow(t.Grow, row, 1, &one)
	p.print.Sub(one.Print)
	p.odd.Add(one.Odd, -1)
}
