package load

import (
	"context"
	"fmt"
	"maps"

	"evensprout/internal/grow"
	"evensprout/internal/plan"
	"evensprout/internal/store"
)

// OpenLoad finds the load of a plan that broke off; nil if there is none.
func OpenLoad(ctx context.Context, s store.Store, name, extra string) (*Entry, error) {
	all, err := Entries(ctx, s, name)
	if err != nil {
		return nil, err
	}
	for _, e := range all {
		if e.Extra == extra && e.State == StateOpen {
			return e, nil
		}
	}
	return nil, nil
}

// Resume goes on with a load that broke off: from the plan that the journal keeps, in
// the same chunks, without those that are committed. Of the options, what would change
// rows or chunks does not count; policies come before those that it was begun with.
func Resume(ctx context.Context, s store.Store, number int64, o Options) (r *Result, err error) {
	err = patient(ctx, o.Journal.Wait, func() error {
		return held(ctx, s, number, o.Journal.toResume(), func(p *Past) (err error) {
			r, err = p.resume(ctx, s, o)
			return err
		})
	})
	return r, err
}

func (p *Past) resume(ctx context.Context, s store.Store, o Options) (*Result, error) {
	e := p.Entry
	if e.State != StateOpen {
		return nil, fmt.Errorf("load %d is %s, so there is nothing to go on with", e.Number, e.State)
	}
	about := e.About
	o.Chunk, o.Commit, o.DryRun, o.Rebuild = about.Chunk, about.Commit, false, false
	o.Part.Of = about.Parts
	policies := maps.Clone(about.Policies)
	if policies == nil {
		policies = plan.Policies{}
	}
	maps.Copy(policies, o.Policies)
	o.Policies = policies
	l := p.l
	l.o, l.memory = o, p.memory
	l.o.Jobs = max(o.Jobs, 1)
	if err := l.prepareAgain(); err != nil {
		return nil, err
	}
	if err := l.openJournal(ctx, s); err != nil {
		return nil, err
	}
	l.journal.number, l.journal.token, l.journal.extra, l.journal.part, l.journal.undo, l.journal.about = e.Number, e.token, e.Extra, e.Part, about.Undo, about
	w := &writer{loader: l, store: s}
	defer w.close()
	if err := l.write(ctx, w); err != nil {
		return nil, err
	}
	return l.finished(w), nil
}

// prepareAgain works out again how entities are written, and keeps what the journal
// says of them.
func (l *loader) prepareAgain() error {
	before := map[string]*target{}
	for _, t := range l.list {
		before[t.Plan.Name] = t
	}
	if err := l.prepare(); err != nil {
		return err
	}
	for _, t := range l.list {
		was := before[t.Plan.Name]
		t.resumed, t.before, t.skipped, t.loaded, t.from, t.fromSide = true, was.before, was.skipped, was.loaded, was.from, was.fromSide
	}
	return nil
}

// watchAgain lets rows with equal match values be found in chunks that are committed,
// too.
func (l *loader) watchAgain(w *writer) error {
	for _, f := range l.order.Families {
		watched := false
		for _, t := range f {
			watched = watched || l.targets[t].seen != nil
		}
		if !watched {
			continue
		}
		g := grow.NewGrower(l.plan.Set)
		for c := range l.cut(g, f, l.mostCommitted(f)) {
			if !l.journal.done[l.keyOf(c)] {
				continue
			}
			for _, run := range c {
				t := l.targets[run.Target]
				if t.seen == nil {
					continue
				}
				for b := range w.regrow(run) {
					for i := range b.Len {
						if !w.record.Rejected(t.Grow, b.At(i)) {
							w.twin(t, b.At(i), b.Row(i))
						}
					}
				}
			}
		}
		if err := g.Close(); err != nil {
			return err
		}
	}
	return w.growth
}
