package load

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"slices"

	"evensprout/internal/grow"
	"evensprout/internal/order"
	"evensprout/internal/plan"
	"evensprout/internal/schema"
	"evensprout/internal/store"
)

// Past is a load of the journal whose rows can be grown again, as they were written.
type Past struct {
	Entry    *Entry
	Plan     *plan.Compiled
	by       Operator
	l        *loader
	chunks   []*ChunkEntry
	memory   *memory
	done     map[chunkKey]bool       // chunks that are in the tables
	whole    bool                    // all of them are
	rewrites map[string]*rewrites    // by entity: what triggers made of rows
	left     map[string][]loggedRows // rows that a withdrawal has left alone, by entity; nil: all are there
}

// Recall makes the plan of a load again, with what its chunks noted. db is the tables of
// the store; nil: they are read.
func Recall(ctx context.Context, s store.Store, number int64, db *schema.Database, by Operator) (*Past, error) {
	e, err := FindEntry(ctx, s, number)
	if err != nil {
		return nil, err
	}
	if db == nil {
		if db, err = s.Survey(ctx); err != nil {
			return nil, err
		}
	}
	if e.About.Unit != "" {
		return nil, &store.Fault{Kind: store.Refused, Message: fmt.Sprintf("load %d is a run of the unit %s, whose rows are not planned", number, e.About.Unit)}
	}
	c, err := revive(e, db, by)
	var problems plan.Problems
	if errors.As(err, &problems) { // of the plan that the journal keeps, not of the user's file
		first := problems[0].Message
		for _, x := range problems {
			if !x.Warning {
				first = x.Message
				break
			}
		}
		return nil, &store.Fault{Kind: store.Refused, Message: fmt.Sprintf("load %d of %s does not fit the tables as they are now: %s", number, e.Plan, first),
			Hint: fmt.Sprintf("evensprout history --forget %d closes it, and leaves the tables as they are", number)}
	}
	if err != nil {
		return nil, fmt.Errorf("load %d cannot be grown again: %w", number, err)
	}
	if err := by.same(e, c.Lost); err != nil {
		return nil, errors.Join(err, c.Close())
	}
	p := &Past{Entry: e, Plan: c, by: by, memory: newMemory(c), done: map[chunkKey]bool{}, whole: e.State == StateDone || e.About.Commit == plan.CommitLoad}
	if err := p.prepare(ctx, s); err != nil {
		return nil, errors.Join(err, c.Close())
	}
	return p, nil
}

// held recalls a load while nobody else works on its plan.
func held(ctx context.Context, s store.Store, number int64, by Operator, do func(*Past) error) error {
	e, err := FindEntry(ctx, s, number)
	if err != nil {
		return err
	}
	if err := lockPlan(ctx, s, e.Plan); err != nil {
		return err
	}
	defer unlockPlan(ctx, s, e.Plan)
	unlock, err := lockParts(ctx, s, e)
	if err != nil {
		return err
	}
	defer unlock()
	if e.About.Unit != "" {
		return do(&Past{Entry: e, by: by})
	}
	p, err := Recall(ctx, s, number, nil, by)
	if err != nil {
		return err
	}
	return errors.Join(do(p), p.Close())
}

// prepare learns what the load noted.
func (p *Past) prepare(ctx context.Context, s store.Store) error {
	e := p.Entry
	var err error
	if p.l, err = newLoader(p.Plan, s, Options{Chunk: e.About.Chunk, Part: order.Part{Of: e.About.Parts}, Commit: e.About.Commit, Folder: p.folder()}); err != nil {
		return err
	}
	l := p.l
	if err := l.goOn(e.About.Earlier); err != nil {
		return err
	}
	for _, t := range l.list {
		i := slices.IndexFunc(e.About.Entities, func(x AboutEntity) bool { return x.Entity == t.Plan.Name })
		if i < 0 {
			return fmt.Errorf("the journal says nothing of %s in load %d", t.Plan.Name, e.Number)
		}
		x := e.About.Entities[i]
		t.resumed, t.before, t.skipped, t.loaded, t.from = true, x.Before, x.Skipped, x.Loaded, x.From
		if t.loaded {
			t.fromSide = min(x.Given-min(x.GivenNew, x.Given), uint64(len(t.Grow.Side)))
		}
	}
	if p.chunks, err = Chunks(ctx, s, e.Number); err != nil {
		return err
	}
	earlier, err := Entries(ctx, s, e.Plan)
	if err != nil {
		return err
	}
	// Rows of this load may refer to those of earlier parts.
	for _, x := range earlier {
		if x.Extra == e.Extra && x.Part < e.Part && x.State == StateDone {
			chunks, err := Chunks(ctx, s, x.Number)
			if err != nil {
				return err
			}
			for _, c := range chunks {
				if err := p.memory.learn(c.Log); err != nil {
					return err
				}
			}
		}
	}
	if err := p.learnRewritten(ctx, s); err != nil {
		return err
	}
	clear(p.memory.inserted) // of this load alone
	for _, c := range p.chunks {
		if err := p.memory.learn(c.Log); err != nil {
			return err
		}
		if c.key.family >= 0 {
			p.done[c.key] = c.State == StateDone
		}
	}
	for _, ranges := range p.memory.inserted {
		slices.SortFunc(ranges, loggedRows.compare)
	}
	l.memory = p.memory
	l.reset()
	for _, t := range l.list {
		t.out.Before, t.out.Skipped = t.before, t.skipped
	}
	return nil
}

// folder is where placeholder files lie: beside the operator's plan. Without one they are not
// touched.
func (p *Past) folder() string {
	if !p.by.knows(p.Entry) {
		return ""
	}
	return p.by.Plan.Folder()
}

// Close releases the files that rows are read from.
func (p *Past) Close() error { return p.Plan.Close() }

// identity is how rows of an entity are found in the table: by the primary key, or by
// another unique key, as far as the plan knows it; else by all that was written.
func (t *target) identity() (columns []*schema.Column, alike bool) {
	if len(t.write.Match) > 0 {
		return t.write.Match, false
	}
	for _, u := range t.Table.Keys() {
		columns = nil
		for _, name := range u.Columns {
			c := t.Table.Column(name)
			if !slices.Contains(t.Columns, c) || !c.NotNull && len(t.Table.PrimaryKey) == 0 {
				columns = nil
				break
			}
			columns = append(columns, c)
		}
		if columns != nil && !u.Partial && !u.Deferrable {
			return columns, false
		}
	}
	return t.write.Columns, true
}

// into is where the written values stand: all columns that were written, and the key
// that the database gave.
func (t *target) into() store.Into {
	into := t.write.Into
	if t.unkeyed {
		into.Columns = append([]*schema.Column{t.key}, into.Columns...)
		into.Fields = append([]int{slices.Index(t.Grow.Fields, t.Grow.Key)}, into.Fields...)
	}
	return into
}

// runs are the rows of an entity that the load has written, in pieces of at most most
// rows.
func (p *Past) runs(w *writer, t *target, most uint64) iter.Seq[order.Run] {
	return func(yield func(order.Run) bool) {
		send := func(run order.Run) bool {
			for run.Rows > 0 {
				part := run
				part.Rows = min(part.Rows, most)
				if !yield(part) {
					return false
				}
				run.First.N += part.Rows
				run.Rows -= part.Rows
			}
			return true
		}
		if t.skipped {
			return
		}
		if p.whole {
			if n := uint64(len(t.Grow.Side)); n > t.fromSide && !send(order.Run{Target: t.Target, First: grow.Row{N: t.fromSide, Side: true}, Rows: n - t.fromSide}) {
				return
			}
			send(order.Run{Target: t.Target, First: grow.Row{N: t.from}, Rows: t.Grow.Rows - min(t.from, t.Grow.Rows)})
			return
		}
		for _, f := range p.l.order.Families {
			if !slices.Contains(f, t.Target) {
				continue
			}
			for c := range p.cut(w, f) {
				if !p.done[p.keyOf(c)] {
					continue
				}
				for _, run := range c {
					if run.Target == t.Target && !send(run) {
						return
					}
				}
			}
		}
	}
}

// cut cuts a family as the load did.
func (p *Past) cut(w *writer, f order.Family) iter.Seq[order.Chunk] {
	return p.l.cut(w.grower(), f, p.l.mostCommitted(f))
}

func (p *Past) keyOf(c order.Chunk) chunkKey {
	return keyOf(p.Entry.Number, p.Plan, c[0])
}

// written are the rows of a run as they were written, without those that were not. The
// pass learns which they are; it may be nil.
func (p *Past) written(w *writer, t *target, run order.Run, into *pass) iter.Seq[*grow.Batch] {
	if into == nil {
		into = &pass{}
	}
	keys := p.memory.keys[t.Grow]
	at := -1
	if t.Grow.Key != nil {
		at = slices.Index(t.Grow.Fields, t.Grow.Key)
	}
	return func(yield func(*grow.Batch) bool) {
		for b := range w.regrow(run) {
			w.translate(t, b)
			if len(t.late) > 0 {
				w.growLate(t, b)
			}
			gone := func(i int) bool {
				row := b.At(i)
				if key, ok := keys[row]; ok && at >= 0 {
					b.Row(i)[at] = key
				}
				if err := p.asRewritten(t, row, b.Row(i)); err != nil && w.growth == nil {
					w.growth = err
				}
				return w.record.Rejected(t.Grow, row) || !p.remains(t, row)
			}
			if !into.let(b, gone, yield) {
				return
			}
		}
	}
}

// remains tells whether a row is still the load's: a withdrawal that was done in part has
// left some.
func (p *Past) remains(t *target, row grow.Row) bool {
	return p.left == nil || within(p.left[t.Plan.Name], row)
}

// these are single rows as they were written.
func (p *Past) these(w *writer, t *target, rows []grow.Row, into *pass) store.Rows {
	return func(yield func(*grow.Batch) bool) {
		for _, row := range rows {
			for b := range p.written(w, t, order.Run{Target: t.Target, First: row, Rows: 1}, into) {
				if !yield(b) {
					return
				}
			}
		}
	}
}

// growLate puts the references back that were NULL at first.
func (w *writer) growLate(t *target, b *grow.Batch) {
	var fresh grow.Batch
	w.grower().Grow(t.Grow, b.First, b.Len, &fresh)
	for i := range b.Len {
		for _, f := range t.late {
			b.Row(i)[f] = fresh.Row(i)[f]
		}
	}
	w.closeCircle(t, b)
}

// added tells whether the load has added a row, and not only changed it.
func (p *Past) added(t *target, row grow.Row) bool {
	switch t.write.Mode {
	case store.Insert, store.Replace:
		return true
	case store.Update:
		return false
	}
	return within(p.memory.inserted[t.Grow], row)
}

// within tells whether a row is among ranges, which are in order.
func within(ranges []loggedRows, row grow.Row) bool {
	i, exact := slices.BinarySearchFunc(ranges, loggedRows{Given: row.Side, First: row.N}, loggedRows.compare)
	if exact {
		return true
	}
	return i > 0 && ranges[i-1].Given == row.Side && row.N < ranges[i-1].First+ranges[i-1].Rows
}

// Planned makes a past load of a plan that the journal does not have: its rows are
// compared as they are planned.
func Planned(c *plan.Compiled, s store.Store) (*Past, error) {
	p := &Past{Entry: &Entry{Plan: c.Plan.Name, State: StateDone, Part: 1, About: About{Commit: plan.CommitLoad}}, Plan: c, memory: newMemory(c), whole: true}
	var err error
	if p.l, err = newLoader(c, s, Options{}); err != nil {
		return nil, err
	}
	p.l.memory = p.memory
	p.l.reset()
	return p, nil
}

// RecallAll recalls all finished loads of a plan that are not withdrawn, oldest first.
// db is the tables of the store; nil: they are read.
func RecallAll(ctx context.Context, s store.Store, name, extra string, db *schema.Database, by Operator) (pasts []*Past, err error) {
	entries, err := Entries(ctx, s, name)
	if err != nil {
		return nil, err
	}
	defer func() {
		if err != nil {
			CloseAll(pasts)
			pasts = nil
		}
	}()
	for _, e := range entries {
		if e.Extra != extra || e.State != StateDone {
			continue
		}
		if db == nil {
			if db, err = s.Survey(ctx); err != nil {
				return pasts, err
			}
		}
		p, err := Recall(ctx, s, e.Number, db, by)
		if err != nil {
			return pasts, err
		}
		pasts = append(pasts, p)
	}
	return pasts, nil
}

// CloseAll closes past loads.
func CloseAll(pasts []*Past) error {
	var errs []error
	for _, p := range pasts {
		errs = append(errs, p.Close())
	}
	return errors.Join(errs...)
}
