package load

import (
	"context"
	"slices"

	"evensprout/internal/grow"
	"evensprout/internal/store"
	"evensprout/internal/value"
)

// gotKeys notes the keys that the database gave.
func (w *writer) gotKeys(t *target, p *pass, keys []value.Value) error {
	if len(keys) == 0 || !t.referred && w.journal == nil {
		return nil
	}
	at := slices.Index(t.Grow.Fields, t.Grow.Key)
	var b grow.Batch
	g := w.grower()
	for _, s := range p.segments {
		g.Grow(t.Grow, s.first, int(s.rows), &b)
		if err := g.Err(); err != nil {
			return err
		}
		for i := range b.Len {
			w.rename(t, b.Row(i)[at], keys[s.number+int64(i)])
		}
		w.log.key(t.Plan.Name, s.first, keys[s.number:s.number+s.rows])
	}
	return nil
}

func (l *loader) rename(t *target, planned, real value.Value) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.real[t.Grow] == nil {
		l.real[t.Grow] = map[value.Value]value.Value{}
	}
	l.real[t.Grow][planned] = real
}

// realKeys notes the keys of rows that were there before.
func (w *writer) realKeys(ctx context.Context, t *target, st store.Stage, p *pass) error {
	at := slices.Index(t.Grow.Fields, t.Grow.Key)
	g := w.grower()
	var one grow.Batch
	return st.Keys(ctx, t.key, !t.unkeyed, func(n int64, key value.Value) error {
		row := p.row(n)
		g.Grow(t.Grow, row, 1, &one)
		if one.Row(0)[at] == key {
			return g.Err()
		}
		w.rename(t, one.Row(0)[at], key)
		w.log.key(t.Plan.Name, row, []value.Value{key})
		return g.Err()
	})
}
