package load

import (
	"context"
	"slices"

	"evensprout/internal/grow"
	"evensprout/internal/order"
	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/value"
)

// gotKeys notes the keys that the database gave.
func (w *Writer) gotKeys(t *Target, p *Pass, keys []value.Value) error {
	if len(keys) == 0 || !t.referred && w.Session.Journal == nil {
		return nil
	}
	at := slices.Index(t.Grow.Fields, t.Grow.Key)
	var room grow.Batch
	for _, s := range p.segments {
		next := s.number
		run := order.Run{Target: t.Target, First: s.first, Rows: uint64(s.rows)}
		for b, err := range run.Grown(w.Grower(), &room) {
			if err != nil {
				return err
			}
			for i := range b.Len {
				w.Session.rename(t, b.Row(i)[at], keys[next])
				next++
			}
		}
		w.log.Key(t.Plan.Name, s.first, keys[s.number:s.number+s.rows])
	}
	return nil
}

// reportKeys hands the primary keys of the planned rows to the option Keyed.
func (l *Session) reportKeys(w *Writer) {
	var one grow.Batch
	g := w.Grower()
	for _, t := range l.List {
		if t.Plan.Existing || t.Table == nil {
			continue
		}
		for n := range t.Grow.Total() {
			row := grow.Row{N: n}
			if side := uint64(len(t.Grow.Side)); n < side {
				row.Side = true
			} else {
				row.N -= side
			}
			g.Grow(t.Grow, row, 1, &one)
			w.translate(t, &one)
			if key := l.keyCells(t, one.Row(0)); key != nil {
				l.Options.Keyed(t.Plan.Name, key)
			}
		}
	}
}

// keyCells are the primary key of a row in the database; nil if it is not known.
func (l *Session) keyCells(t *Target, values []value.Value) []store.Cell {
	var key []store.Cell
	for _, name := range t.Table.PrimaryKey {
		c := t.Table.Column(name)
		i := slices.IndexFunc(t.Columns, func(o *schema.Column) bool { return o == c })
		if i < 0 {
			return nil
		}
		v := values[i]
		if t.Grow.Fields[i] == t.Grow.Key {
			l.mu.Lock()
			if real, ok := l.real[t.Grow][v]; ok {
				v = real
			}
			l.mu.Unlock()
		}
		if v.IsNull() {
			return nil
		}
		key = append(key, store.Cell{Column: c, Value: v})
	}
	return key
}

// rename notes which key a row has in the table in place of the planned one.
func (l *Session) rename(t *Target, planned, real value.Value) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.real[t.Grow] == nil {
		l.real[t.Grow] = map[value.Value]value.Value{}
	}
	l.real[t.Grow][planned] = real
}

// realKeys notes the keys of rows that were there before.
func (w *Writer) realKeys(ctx context.Context, t *Target, st store.Stage, p *Pass) error {
	at := slices.Index(t.Grow.Fields, t.Grow.Key)
	g := w.Grower()
	var one grow.Batch
	return st.Keys(ctx, t.Key, !t.Unkeyed, func(n int64, key value.Value) error {
		row := p.Row(n)
		g.Grow(t.Grow, row, 1, &one)
		if one.Row(0)[at] == key {
			return g.Err()
		}
		w.Session.rename(t, one.Row(0)[at], key)
		w.log.Key(t.Plan.Name, row, []value.Value{key})
		return g.Err()
	})
}

// KeyOfValues is a text that differs where values do.
func KeyOfValues(values []value.Value) string {
	var b []byte
	for i := range values {
		b = values[i].AppendCanonical(b)
	}
	return string(b)
}
