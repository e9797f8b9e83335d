package load

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"slices"

	"evensprout/internal/archive"
	"evensprout/internal/journal"

	"evensprout/internal/diag"
	"evensprout/internal/grow"
	"evensprout/internal/order"
	"evensprout/internal/plan"
	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/value"
)

// PastLoad is a load of the journal whose rows can be grown again, as they were written.
type PastLoad struct {
	Entry    *journal.Entry
	Plan     *plan.Compiled
	By       archive.Operator
	Session  *Session
	Chunks   []*journal.ChunkEntry
	memory   *Memory
	done     map[journal.Key]bool        // chunks that are in the tables
	whole    bool                        // all of them are
	rewrites map[string]*rewrites        // by entity: what triggers made of rows
	Left     map[string][]journal.RowRun // rows that a withdrawal has left alone, by entity; nil: all are there
}

// Recall makes the plan of a load again, with what its chunks noted. db is the tables of
// the store; nil: they are read.
func Recall(
	ctx context.Context,
	r journal.Reader,
	number int64,
	db *schema.Database,
	by archive.Operator,
) (*PastLoad, error) {
	s := r.Store
	e, err := r.Entry(ctx, number)
	if err != nil {
		return nil, err
	}
	if db == nil {
		if db, err = s.Survey(ctx); err != nil {
			return nil, err
		}
	}
	if e.About.Unit != "" {
		return nil, &store.Fault{
			Kind:    store.Refused,
			Message: fmt.Sprintf("load %d is a run of the unit %s and has no planned rows", number, e.About.Unit),
		}
	}
	if max(e.About.Revision, 1) != grow.RevisionOf(e.About.Edition) {
		return nil, &store.Fault{
			Kind: store.Refused,
			Message: fmt.Sprintf("load %d was written by %s, which generates other rows than this version",
				number, e.About.Version),
			Hint: fmt.Sprintf("withdraw it with that version; or delete its rows, and remove it from the journal "+
				"with evensprout history --forget %d", number),
		}
	}

	c, err := archive.Revive(e, db, by)
	var problems diag.Problems
	if errors.As(err, &problems) { // of the plan that the journal keeps, not of the user's file
		first := problems[0].Message
		for _, x := range problems {
			if !x.Warning {
				first = x.Message
				break
			}
		}
		return nil, &store.Fault{
			Kind:    store.Refused,
			Message: fmt.Sprintf("load %d of %s does not fit the tables as they are now: %s", number, e.Plan, first),
			Hint: fmt.Sprintf("evensprout history --forget %d removes it from the journal, and leaves its "+
				"rows", number),
		}
	}
	if err != nil {
		return nil, fmt.Errorf("the rows of load %d cannot be generated again: %w", number, err)
	}
	if err := by.HoldAgainst(e, c.Lost); err != nil {
		return nil, errors.Join(err, c.Close())
	}
	p := &PastLoad{
		Entry:  e,
		Plan:   c,
		By:     by,
		memory: NewMemory(c),
		done:   map[journal.Key]bool{},
		whole:  e.State == journal.StateDone || e.About.Commit == plan.CommitLoad,
	}
	err = p.prepare(ctx, r)
	if err == nil {
		err = p.checkIgnored(db)
	}
	if err != nil {
		return nil, errors.Join(err, c.Close())
	}
	return p, nil
}

// checkIgnored refuses names of the command line that are no column of any table and no field of the plan: a misspelt
// one would change nothing, and nobody would notice.
func (p *PastLoad) checkIgnored(db *schema.Database) error {
	names := p.Plan.Plan.Ignorable(db)
	for _, i := range p.By.Ignore {
		if slices.Contains(names, i) {
			continue
		}
		nearest := diag.Nearest(i, names)
		if nearest == "" {
			return diag.Usagef("--ignore %s: no table has such a column", i)
		}
		return diag.Usagef("--ignore %s: no table has such a column; did you mean %s?", i, nearest)
	}
	return nil
}

// RecallLocked recalls a load while nobody else works on its plan.
func RecallLocked(
	ctx context.Context,
	s store.Store,
	number int64,
	by archive.Operator,
	do func(*PastLoad) error,
) error {
	h, e, err := journal.LockLoad(ctx, s, number)
	if err != nil {
		return err
	}
	defer h.Release(ctx)
	if e.Unreadable != "" {
		return &journal.Unreadable{Entry: e}
	}
	unlock, err := lockParts(ctx, s, e)
	if err != nil {
		return err
	}
	defer unlock()
	if e.About.Unit != "" {
		return do(&PastLoad{Entry: e, By: by, Session: &Session{Read: h.Reader(s)}})
	}
	p, err := Recall(ctx, h.Reader(s), number, nil, by)
	if err != nil {
		return err
	}
	return errors.Join(do(p), p.Close())
}

// learnEarlier learns what loads of earlier parts noted: rows of this load may refer to theirs.
func (p *PastLoad) learnEarlier(ctx context.Context, r journal.Reader) error {
	e := p.Entry
	earlier, err := r.Entries(ctx, e.Plan)
	if err != nil {
		return err
	}
	for _, x := range earlier {
		if x.Extra == e.Extra && x.Part < e.Part && x.State == journal.StateDone {
			chunks, err := r.Chunks(ctx, x.Number)
			if err != nil {
				return err
			}
			for _, c := range chunks {
				if err := p.memory.Learn(c.Log); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// prepare learns what the load noted.
func (p *PastLoad) prepare(ctx context.Context, r journal.Reader) error {
	e, s := p.Entry, r.Store
	var err error
	if p.Session, err = NewSession(p.Plan, s,
		Options{Chunk: e.About.Chunk, Part: order.Part{Of: e.About.Parts}, Commit: e.About.Commit,
			Folder: p.Folder()}); err != nil {
		return err
	}
	l := p.Session
	l.Read = r
	if err := l.goOn(e.About.Earlier); err != nil {
		return err
	}
	for _, t := range l.List {
		i := slices.IndexFunc(e.About.Entities, func(x journal.AboutEntity) bool { return x.Entity == t.Plan.Name })
		if i < 0 {
			return fmt.Errorf("the journal has nothing about %s in load %d", t.Plan.Name, e.Number)
		}
		x := e.About.Entities[i]
		t.resumed, t.Before, t.LeftOut, t.loaded, t.from = true, x.Before, x.Skipped, x.Loaded, x.From
		if t.loaded {
			t.fromSide = min(x.Given-min(x.GivenNew, x.Given), uint64(len(t.Grow.Side)))
		}
	}

	if p.Chunks, err = r.Chunks(ctx, e.Number); err != nil {
		return err
	}
	if err := p.learnEarlier(ctx, r); err != nil {
		return err
	}
	if err := p.learnRewritten(ctx, s); err != nil {
		return err
	}
	clear(p.memory.inserted) // of this load alone
	for _, c := range p.Chunks {
		if err := p.memory.Learn(c.Log); err != nil {
			return err
		}
		if c.Key.Family >= 0 {
			p.done[c.Key] = c.State == journal.StateDone
		}
	}

	for _, ranges := range p.memory.inserted {
		slices.SortFunc(ranges, journal.RowRun.Compare)
	}
	l.Memory = p.memory
	l.Reset()
	for _, t := range l.List {
		t.Out.Before, t.Out.Skipped = t.Before, t.LeftOut
	}
	return nil
}

// Folder is where placeholder files lie: beside the operator's plan. Without one they are not
// touched.
func (p *PastLoad) Folder() string {
	if !p.By.Knows(p.Entry) {
		return ""
	}
	return p.By.Plan.Folder()
}

// Close releases the files that rows are read from.
func (p *PastLoad) Close() error { return p.Plan.Close() }

// Identity is how rows of an entity are found in the table: by the primary key, or by
// another unique key, as far as the plan knows it; else by all that was written.
func (t *Target) Identity() (columns []*schema.Column, alike bool) {
	if len(t.Writes.Match) > 0 {
		return t.Writes.Match, false
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
	return t.Writes.Columns, true
}

// Into is where the written values stand: all columns that were written, and the key
// that the database gave.
func (t *Target) Into() store.Into {
	into := t.Writes.Into
	if t.Unkeyed {
		into.Columns = append([]*schema.Column{t.Key}, into.Columns...)
		into.Fields = append([]int{slices.Index(t.Grow.Fields, t.Grow.Key)}, into.Fields...)
	}
	return into
}

// Runs are the rows of an entity that the load has written, in pieces of at most most
// rows.
func (p *PastLoad) Runs(w *Writer, t *Target, most uint64) iter.Seq[order.Run] {
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
		if t.LeftOut {
			return
		}
		if p.whole {
			if n := uint64(len(t.Grow.Side)); n > t.fromSide &&
				!send(order.Run{Target: t.Target, First: grow.Row{N: t.fromSide, Side: true}, Rows: n - t.fromSide}) {
				return
			}
			send(order.Run{Target: t.Target, First: grow.Row{N: t.from}, Rows: t.Grow.Rows - min(t.from, t.Grow.Rows)})
			return
		}
		for _, f := range p.Session.Order.Families {
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
func (p *PastLoad) cut(w *Writer, f order.Family) iter.Seq[order.Chunk] {
	return p.Session.cut(w.Grower(), f, p.Session.mostCommitted(f))
}

// keyOf is the key of a chunk's entry.
func (p *PastLoad) keyOf(c order.Chunk) journal.Key {
	return journal.KeyOf(p.Entry.Number, p.Plan, c[0])
}

// Written are the rows of a run as they were written, without those that were not. The
// pass learns which they are; it may be nil.
func (p *PastLoad) Written(w *Writer, t *Target, run order.Run, into *Pass) iter.Seq[*grow.Batch] {
	if into == nil {
		into = &Pass{}
	}
	keys := p.memory.keys[t.Grow]
	at := -1
	if t.Grow.Key != nil {
		at = slices.Index(t.Grow.Fields, t.Grow.Key)
	}
	return func(yield func(*grow.Batch) bool) {
		for b := range w.regrow(run) {
			w.translate(t, b)
			if len(t.Late) > 0 {
				w.growLate(t, b)
			}
			gone := func(i int) bool {
				row := b.At(i)
				if key, ok := keys[row]; ok && at >= 0 {
					b.Row(i)[at] = key
				}
				if err := p.asRewritten(t, row, b.Row(i)); err != nil && w.Growth == nil {
					w.Growth = err
				}
				return w.Session.Record.Rejected(t.Grow, row) || !p.Remains(t, row)
			}
			if !into.let(b, gone, yield) {
				return
			}
		}
	}
}

// Remains reports whether a row is still the load's: a withdrawal that was done in part has
// left some.
func (p *PastLoad) Remains(t *Target, row grow.Row) bool {
	return p.Left == nil || within(p.Left[t.Plan.Name], row)
}

// These are single rows as they were written.
func (p *PastLoad) These(w *Writer, t *Target, rows []grow.Row, into *Pass) store.Rows {
	return func(yield func(*value.Batch) bool) {
		for _, row := range rows {
			for b := range p.Written(w, t, order.Run{Target: t.Target, First: row, Rows: 1}, into) {
				if !yield(&b.Batch) {
					return
				}
			}
		}
	}
}

// growLate puts the references back that were NULL at first.
func (w *Writer) growLate(t *Target, b *grow.Batch) {
	var fresh grow.Batch
	w.Grower().Grow(t.Grow, b.First, b.Len, &fresh)
	for i := range b.Len {
		for _, f := range t.Late {
			b.Row(i)[f] = fresh.Row(i)[f]
		}
	}
	w.closeCircle(t, b)
}

// added reports whether the load has added a row, and not only changed it.
func (p *PastLoad) added(t *Target, row grow.Row) bool {
	switch t.Writes.Mode {
	case store.Insert, store.Replace:
		return true
	case store.Update:
		return false
	}
	return within(p.memory.inserted[t.Grow], row)
}

// within reports whether a row is among ranges, which are in order.
func within(ranges []journal.RowRun, row grow.Row) bool {
	i, exact := slices.BinarySearchFunc(ranges, journal.RowRun{Given: row.Side, First: row.N}, journal.RowRun.Compare)
	if exact {
		return true
	}
	return i > 0 && ranges[i-1].Given == row.Side && row.N < ranges[i-1].First+ranges[i-1].Rows
}

// Planned makes a past load of a plan that the journal does not have: its rows are
// compared as they are planned.
func Planned(c *plan.Compiled, s store.Store) (*PastLoad, error) {
	p := &PastLoad{
		Entry: &journal.Entry{
			Plan:  c.Plan.Name,
			State: journal.StateDone,
			Part:  1,
			About: journal.About{Commit: plan.CommitLoad},
		},
		Plan:   c,
		memory: NewMemory(c),
		whole:  true,
	}
	var err error
	if p.Session, err = NewSession(c, s, Options{}); err != nil {
		return nil, err
	}
	p.Session.Memory, p.Session.Read = p.memory, journal.Unlocked(s)
	p.Session.Reset()
	return p, nil
}

// Loads are those of a plan, or of a further set of its rows.
type Loads struct{ Plan, Extra string }

// RecallAll recalls all finished loads of a plan that are not withdrawn, oldest first.
// db is the tables of the store; nil: they are read.
func RecallAll(
	ctx context.Context,
	r journal.Reader,
	of Loads,
	db *schema.Database,
	by archive.Operator,
) (pasts []*PastLoad, err error) {
	entries, err := r.Entries(ctx, of.Plan)
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
		if e.Extra != of.Extra || e.State != journal.StateDone {
			continue
		}
		if db == nil {
			if db, err = r.Store.Survey(ctx); err != nil {
				return pasts, err
			}
		}
		p, err := Recall(ctx, r, e.Number, db, by)
		if err != nil {
			return pasts, err
		}
		pasts = append(pasts, p)
	}
	return pasts, nil
}

// CloseAll closes past loads.
func CloseAll(pasts []*PastLoad) error {
	var errs []error
	for _, p := range pasts {
		errs = append(errs, p.Close())
	}
	return errors.Join(errs...)
}

// LeftKey is the key under which a withdrawal notes the rows that it left.
func LeftKey(load int64) journal.Key { return journal.Key{Load: load, Family: -2} }

// LearnLeft learns which rows a withdrawal before this one has left.
func (p *PastLoad) LearnLeft() {
	for _, c := range p.Chunks {
		if c.Key != LeftKey(p.Entry.Number) {
			continue
		}
		p.Left = map[string][]journal.RowRun{}
		for _, x := range c.Log.Left {
			p.Left[x.Entity] = append(p.Left[x.Entity], x)
		}
	}
}

// TargetOf finds an entity by its name; nil if there is none.
func (l *Session) TargetOf(entity string) *Target {
	i := slices.IndexFunc(l.List, func(t *Target) bool { return t.Plan.Name == entity })
	return l.List[i]
}

// Compared is a write by which staged rows are held against the table: of rows that the
// load added all columns, else those that it set.
func (p *PastLoad) Compared(t *Target, added bool) *store.Write {
	write := &store.Write{Into: t.Into(), Mode: store.Update, Distinct: true}
	write.Match, write.Alike = t.Identity()
	set := t.Writes.Set
	if added {
		set = write.Columns
	}
	for _, c := range set {
		if !slices.Contains(write.Match, c) && !p.Ignores(t, c) {
			write.Set = append(write.Set, c)
		}
	}
	return write
}

// Ignores reports whether it does not count what a column holds: the operator's plan, or without it that of the load,
// says so, or the command line.
func (p *PastLoad) Ignores(t *Target, c *schema.Column) bool {
	by := p.Plan.Plan
	if p.By.Knows(p.Entry) {
		by = p.By.Plan
	}
	field := t.FieldOf(c.Name)
	return by.Ignores(t.Plan.Name, c.Name, field) || slices.Contains(p.By.Ignore, c.Name) || slices.Contains(p.By.Ignore, field)
}

// IgnoresAny reports whether some column of an entity's table does not count.
func (p *PastLoad) IgnoresAny(t *Target) bool {
	return slices.ContainsFunc(t.Table.Columns, func(c *schema.Column) bool { return p.Ignores(t, c) })
}

// Only lets through the rows of a run that the load added, or that it did not.
func (p *PastLoad) Only(w *Writer, t *Target, run order.Run, added bool, into *Pass) store.Rows {
	if len(p.Kinds(t)) == 1 {
		return onlyValues(p.Written(w, t, run, into))
	}
	return func(yield func(*value.Batch) bool) {
		for b := range p.Written(w, t, run, nil) {
			for i := range b.Len {
				if p.added(t, b.At(i)) != added {
					continue
				}
				into.segments = append(into.segments, segment{into.N, b.At(i), 1})
				into.N++
				if !yield(b.Batch.Slice(i, i+1)) {
					return
				}
			}
		}
	}
}

// KeyText is the key of a row, for people.
func (p *PastLoad) KeyText(w *Writer, t *Target, row grow.Row, columns []*schema.Column) string {
	if len(columns) > 3 {
		return "" // all that it has: too much to be a key
	}
	for b := range p.Written(w, t, order.Run{Target: t.Target, First: row, Rows: 1}, nil) {
		var values []value.Value
		for _, c := range columns {
			values = append(values, b.Row(0)[slices.Index(t.Columns, c)])
		}
		return Pairs(columns, values)
	}
	return ""
}

// Kinds are what rows of an entity may be: added by the load, or only changed.
func (p *PastLoad) Kinds(t *Target) []bool {
	switch t.Writes.Mode {
	case store.Insert, store.Replace:
		return []bool{true}
	case store.Update:
		return []bool{false}
	}
	return []bool{true, false}
}

// EntityDifference is the difference of one entity.
type EntityDifference struct {
	Entity  string `json:"entity"`
	Table   string `json:"table"`
	Planned int64  `json:"planned"` // rows that the load wrote
	Rows    int64  `json:"rows"`    // that the table has
	Missing int64  `json:"missing"`
	Changed int64  `json:"changed"`
	Extra   int64  `json:"extra"`  // rows of a table that the load found empty
	Others  int64  `json:"others"` // rows of a table that had rows before, which are not the plan's
	// ByUnits are rows that units have added, changed or removed, and left as they are:
	// they are no difference.
	ByUnits int64 `json:"by_units"`
	// Fingerprint tells that the rows were found the same by their fingerprint alone.
	Fingerprint bool `json:"by_fingerprint"`

	MissingRows []RowDifference `json:"missing_rows,omitempty"` // the first of them
	ChangedRows []RowDifference `json:"changed_rows,omitempty"`
	ExtraRows   []RowDifference `json:"extra_rows,omitempty"`

	Removed int64 `json:"-"` // by units
}

// RowDifference is a row that differs.
type RowDifference struct {
	Row   string           `json:"row,omitempty"` // of the plan
	Key   string           `json:"key,omitempty"`
	Cells []CellDifference `json:"cells,omitempty"`
}

// Add adds the difference of another load.
func (e *EntityDifference) Add(o EntityDifference) {
	e.Planned += o.Planned
	e.Missing += o.Missing
	e.Changed += o.Changed
	e.Extra += o.Extra
	e.Others += o.Others
	e.ByUnits += o.ByUnits
	e.Fingerprint = e.Fingerprint && o.Fingerprint
	e.MissingRows = append(e.MissingRows, o.MissingRows...)
	e.ChangedRows = append(e.ChangedRows, o.ChangedRows...)
	e.ExtraRows = append(e.ExtraRows, o.ExtraRows...)
}

// CellDifference is a cell that differs.
type CellDifference struct {
	Field string `json:"field"`
	Is    string `json:"is"`
	Plan  string `json:"plan"`
}
