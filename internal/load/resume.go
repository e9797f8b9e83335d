package load

import (
	"context"
	"fmt"
	"maps"

	"evensprout/internal/journal"

	"evensprout/internal/grow"
	"evensprout/internal/plan"
	"evensprout/internal/store"
)

// OpenLoad finds the load of a plan that broke off; nil if there is none.
func OpenLoad(ctx context.Context, r journal.Reader, name, extra string) (*journal.Entry, error) {
	all, err := r.Entries(ctx, name)
	if err != nil {
		return nil, err
	}
	for _, e := range all {
		if e.Extra == extra && e.State == journal.StateOpen {
			return e, nil
		}
	}
	return nil, nil
}

// Resume goes on with a load that broke off: from the plan that the journal keeps, in
// the same chunks, without those that are committed. Of the options, what would change
// rows or chunks does not count; policies come before those that it was begun with.
func Resume(ctx context.Context, s store.Store, number int64, o Options) (r *journal.Result, err error) {
	err = journal.WhileLocked(ctx, o.Journal.Wait, o.Patience.Waits, func() error {
		return RecallLocked(ctx, s, number, o.Journal.toResume(), func(p *PastLoad) (err error) {
			r, err = p.resume(ctx, s, o)
			return err
		})
	})
	return r, err
}

// resume goes on with a load whose plan was revived.
func (p *PastLoad) resume(ctx context.Context, s store.Store, o Options) (*journal.Result, error) {
	e := p.Entry
	if e.State != journal.StateOpen {
		return nil, fmt.Errorf("load %d is %s, so there is nothing to resume", e.Number, e.State)
	}
	about := e.About
	o.Chunk, o.Commit, o.DryRun, o.Indexes = about.Chunk, about.Commit, false, IndexesAuto
	o.Part.Of = about.Parts
	policies := maps.Clone(about.Policies)
	if policies == nil {
		policies = plan.Policies{}
	}
	maps.Copy(policies, o.Policies)
	o.Policies = policies
	l := p.Session
	l.Options, l.Memory = o, p.memory
	l.Options.Jobs = max(o.Jobs, 1)
	if err := l.prepareAgain(); err != nil {
		return nil, err
	}
	if err := l.OpenJournal(ctx, s); err != nil {
		return nil, err
	}
	l.Journal.Number, l.Journal.Token, l.Journal.Extra, l.Journal.Part, l.Journal.Undo, l.Journal.About = e.Number,
		e.Token, e.Extra, e.Part, about.Undo, about
	w := &Writer{Session: l, Store: s}
	defer w.Close()
	if err := l.write(ctx, w); err != nil {
		return nil, err
	}
	return l.finished(w), nil
}

// prepareAgain works out again how entities are written, and keeps what the journal
// says of them.
func (l *Session) prepareAgain() error {
	before := map[string]*Target{}
	for _, t := range l.List {
		before[t.Plan.Name] = t
	}
	if err := l.prepare(); err != nil {
		return err
	}
	for _, t := range l.List {
		was := before[t.Plan.Name]
		t.resumed, t.Before, t.LeftOut, t.loaded, t.from, t.fromSide = true, was.Before, was.LeftOut, was.loaded,
			was.from, was.fromSide
	}
	return nil
}

// watchAgain lets rows with equal match values be found in chunks that are committed,
// too.
func (l *Session) watchAgain(w *Writer) error {
	for _, f := range l.Order.Families {
		watched := false
		for _, t := range f {
			watched = watched || l.Targets[t].seen != nil
		}
		if !watched {
			continue
		}
		g := grow.NewGrower(l.Plan.Set)
		for c := range l.cut(g, f, l.mostCommitted(f)) {
			if !l.Journal.done[l.keyOf(c)] {
				continue
			}
			for _, run := range c {
				t := l.Targets[run.Target]
				if t.seen == nil {
					continue
				}
				for b := range w.regrow(run) {
					for i := range b.Len {
						if !w.Session.Record.Rejected(t.Grow, b.At(i)) {
							w.duplicateOfEarlier(t, b.At(i), b.Row(i))
						}
					}
				}
			}
		}
		if err := g.Close(); err != nil {
			return err
		}
	}
	return w.Growth
}
