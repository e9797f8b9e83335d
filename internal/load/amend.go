package load

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"iter"
	"slices"
	"strings"

	"evensprout/internal/grow"
	"evensprout/internal/journal"
	"evensprout/internal/order"
	"evensprout/internal/plan"
	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/value"
)

// NotAmended tells why the rows of a load cannot be changed in place. Withdrawing and loading them still can.
type NotAmended struct{ Why string }

func (e *NotAmended) Error() string { return e.Why }

func notAmended(format string, args ...any) error { return &NotAmended{fmt.Sprintf(format, args...)} }

// Amendment is the difference between the rows that a load has written and those that its plan has now. Applying it
// leaves the tables and the journal as if the load had written the plan as it is now.
type Amendment struct {
	l      *Session  // of the plan as it is now
	past   *PastLoad // of the plan as it was
	w, old *Writer
	pairs  []*amended // in load order
	chunks []amendedChunk

	memory *Remembered // of the earlier rows, and at the end of those of now
	now    map[string]*rememberedRows
	room   []byte
	hashes []uint64
}

// amended is the difference of one entity.
type amended struct {
	now, was *Target
	from     []int  // for each written column of now its place among those of was; -1 if it is new
	isKey    []bool // for each written column: rows are found by it
	differs  []bool // for each written column: some row has another value
	key      []*schema.Column
	updated  []order.Run // rows that stay under their keys
	replaced []order.Run // rows of was whose keys differ
	added    []order.Run // with the rows that take the place of the replaced ones
	surplus  []order.Run // earlier rows that the plan no longer has
}

// amendedChunk is a chunk and what the journal keeps of it.
type amendedChunk struct {
	rows order.Chunk
	did  state
}

// Amend works out the difference; it reads no table and writes nothing. What is remembered of the load saves generating
// the earlier rows; once the rows of now are written, these are remembered. The error is a *NotAmended where the rows
// cannot be changed in place, and a *Refusal where a row cannot be written at all.
func Amend(ctx context.Context, c *plan.Compiled, read journal.Reader, e *journal.Entry, o Options) (*Amendment, error) {
	s := read.Store
	o.Commit = plan.CommitLoad
	l, err := NewSession(c, s, o)
	if err != nil {
		return nil, err
	}
	l.Read = read
	past, err := Recall(ctx, read, e.Number, c.Database, o.Journal.by())
	if err != nil {
		return nil, notAmended("the earlier rows cannot be generated again: %s", err)
	}
	a := &Amendment{l: l, past: past, memory: o.Remembered, now: map[string]*rememberedRows{}}
	a.w, a.old = &Writer{Session: l, Store: s}, &Writer{Session: past.Session, Store: s}
	err = a.suits()
	if err == nil {
		err = a.find(ctx)
	}
	if err != nil {
		return nil, errors.Join(err, a.Close())
	}
	return a, nil
}

// Close ends the growers and releases the files that the earlier rows are read from.
func (a *Amendment) Close() error {
	for _, w := range []*Writer{a.w, a.old} {
		w.Tx = nil // ended by whoever began it
		w.Close()
	}
	return a.past.Close()
}

// suits reports what stands against changing the rows in place.
func (a *Amendment) suits() error {
	e, o := a.past.Entry, a.l.Options
	switch {
	case e.State != journal.StateDone || e.About.Corrected || e.About.Parts > 0 || len(e.About.Earlier) > 0:
		return notAmended("load %d is not a whole load of the plan", e.Number)
	case o.DryRun || o.Rejected != nil || o.Changed != nil || o.Keyed != nil:
		return notAmended("the rows are asked for one by one")
	case len(a.l.List) != len(a.past.Session.List):
		return notAmended("the plan has other entities")
	}
	unplanned := func(c *journal.ChunkEntry) bool { return c.Key.Family < 0 || c.Log != nil && !c.Log.Empty() }
	if slices.ContainsFunc(a.past.Chunks, unplanned) {
		return notAmended("load %d has rows that are not as planned", e.Number)
	}
	return a.match()
}

// match matches the entities with what they were.
func (a *Amendment) match() error {
	for i, now := range a.l.List {
		was := a.past.Session.List[i]
		if now.Plan.Name != was.Plan.Name || now.Table != was.Table {
			return notAmended("the plan has other entities")
		}
		if err := a.pair(now, was); err != nil {
			return err
		}
	}
	return nil
}

// pair matches an entity with what it was.
func (a *Amendment) pair(now, was *Target) error {
	name := now.Plan.Name
	for _, t := range []*Target{now, was} {
		if t.Writes.Mode != store.Insert || t.Unkeyed || t.LeftOut || t.loaded || len(t.Late) > 0 || t.Plan.WhenEmpty {
			return notAmended("%s is not simply inserted", name)
		}
	}
	if a.l.lenient(now) {
		return notAmended("rows of %s may be left out or redrawn", name)
	}
	if len(now.Table.Triggers) > 0 {
		return notAmended("%s has triggers", now.Table.Name)
	}
	key, alike := now.Identity()
	before, _ := was.Identity()
	if alike || !slices.Equal(key, before) {
		return notAmended("the rows of %s have no key to find them by", name)
	}
	x := &amended{now: now, was: was, key: key}
	for _, c := range now.Writes.Columns {
		from := slices.Index(was.Writes.Columns, c)
		x.from = append(x.from, from)
		x.isKey = append(x.isKey, slices.Contains(key, c))
		x.differs = append(x.differs, from < 0)
	}
	for _, c := range was.Writes.Columns {
		if !slices.Contains(now.Writes.Columns, c) {
			return notAmended("the plan has no value for %s.%s any more", name, c.Name)
		}
	}
	a.pairs = append(a.pairs, x)
	return nil
}

// growers are how many generate rows beside the one that compares them.
const growers = 2

// find compares all rows, now and before.
func (a *Amendment) find(ctx context.Context) error {
	a.l.Reset()
	byTarget := map[*plan.Target]*amended{}
	for _, x := range a.pairs {
		byTarget[x.now.Target] = x
		x.now.Out.Before = x.was.Before
		a.l.total += x.now.Grow.Total()
	}
	p := order.NewPipe(ctx, a.l.Plan.Set, max(a.l.Options.Jobs, growers), a.l.chunks())
	defer p.End()
	for c := range p.Chunks() {
		a.w.state = newState()
		for _, run := range c {
			if err := a.compare(byTarget[run.Target], run, p.Rows(ctx, run, a.w.failed)); err != nil {
				return err
			}
		}
		a.chunks = append(a.chunks, amendedChunk{slices.Clone(c), a.w.state})
	}
	for _, x := range a.pairs {
		x.surplus = appendRows(x.surplus, x.was.Target, grow.Row{N: uint64(len(x.now.Grow.Side)), Side: true},
			uint64(len(x.was.Grow.Side)))
		x.surplus = appendRows(x.surplus, x.was.Target, grow.Row{N: x.now.Grow.Rows}, x.was.Grow.Rows)
		if err := a.unreferred(x); err != nil {
			return err
		}
	}
	return ctx.Err()
}

// compare holds the rows of a run against what they were.
func (a *Amendment) compare(x *amended, run order.Run, rows iter.Seq[*grow.Batch]) error {
	had := x.had(run.First.Side)
	known := a.memory.rows(a.past.Entry.Token, x.was, x.now)
	pass := &Pass{}
	n := int64(0)
	for b := range a.w.rows(x.now, rows, pass) {
		first := pass.Row(n)
		n += int64(b.Len)
		a.remember(x.now, first, b)
		old := int(min(uint64(b.Len), had-min(had, first.N))) // of these there were
		added := grow.Row{N: first.N + uint64(old), Side: first.Side}
		x.added = appendRows(x.added, x.now.Target, added, first.N+uint64(b.Len))
		var err error
		hold := func(lo, hi int) bool {
			err = a.hold(x, grow.Row{N: first.N + uint64(lo), Side: first.Side}, b, lo, hi)
			return err == nil
		}
		if known != nil {
			differing(a.hashes, *known.of(first.Side), first, hold)
		} else if old > 0 {
			hold(0, old)
		}
		if err != nil {
			return err
		}
	}
	if err := errors.Join(a.w.Growth, pass.err); err != nil {
		return err
	}
	did := a.w.of(x.now)
	did.Inserted += pass.N
	did.print.Add(pass.print)
	did.odd.Add(pass.odd, 1)
	return nil
}

// remember hashes the rows of a batch.
func (a *Amendment) remember(t *Target, first grow.Row, b *value.Batch) {
	a.hashes = a.hashes[:0]
	if a.memory == nil {
		return
	}
	for i := range b.Len {
		a.hashes = append(a.hashes, t.hashOf(b.Row(i), &a.room))
	}
	if a.l.total > maxRemembered {
		return
	}
	x := a.now[t.Plan.Name]
	if x == nil {
		x = &rememberedRows{columns: columnsOf(t)}
		a.now[t.Plan.Name] = x
	}
	of := x.of(first.Side)
	if uint64(len(*of)) != first.N { // not in order: nothing is known of it later
		x.columns = ""
	}
	*of = append(*of, a.hashes...)
}

// had is how many rows there were, of those written by hand or of the others.
func (x *amended) had(given bool) uint64 {
	if given {
		return uint64(len(x.was.Grow.Side))
	}
	return x.was.Grow.Rows
}

// hold holds rows of a batch, from lo to before hi, against what they were. first is the row at lo.
func (a *Amendment) hold(x *amended, first grow.Row, b *value.Batch, lo, hi int) error {
	had := order.Run{Target: x.was.Target, First: first, Rows: uint64(hi - lo)}
	at := lo
	for was := range a.past.Written(a.old, x.was, had, nil) {
		for i := range was.Len {
			x.hold(grow.Row{N: first.N + uint64(at-lo), Side: first.Side}, b.Row(at), was.Row(i))
			at++
		}
	}
	if a.old.Growth != nil {
		return a.old.Growth
	}
	if at != hi {
		return errors.New("the earlier rows ended early")
	}
	return nil
}

// hold holds a row against what it was.
func (x *amended) hold(row grow.Row, now, was []value.Value) {
	differs, moved := false, false
	for i, f := range x.now.Writes.Fields {
		if from := x.from[i]; from >= 0 && now[f] == was[x.was.Writes.Fields[from]] {
			continue
		}
		differs, x.differs[i] = true, true
		moved = moved || x.isKey[i]
	}
	switch {
	case moved:
		x.replaced = appendRows(x.replaced, x.was.Target, row, row.N+1)
		x.added = appendRows(x.added, x.now.Target, row, row.N+1)
	case differs:
		x.updated = appendRows(x.updated, x.now.Target, row, row.N+1)
	}
}

// appendRows adds the rows from one to before another to runs; none if that is not behind it.
func appendRows(to []order.Run, t *plan.Target, from grow.Row, before uint64) []order.Run {
	if before <= from.N {
		return to
	}
	if n := len(to); n > 0 {
		last := &to[n-1]
		if last.Target == t && last.First.Side == from.Side && last.First.N+last.Rows == from.N {
			last.Rows += before - from.N
			return to
		}
	}
	return append(to, order.Run{Target: t, First: from, Rows: before - from.N})
}

// unreferred refuses to change columns that rows refer to, other than by the key: references may follow by themselves,
// those of rows that are not of this load, too.
func (a *Amendment) unreferred(x *amended) error {
	for _, t := range a.l.Plan.Database.Tables {
		for _, r := range t.References {
			if r.To != x.now.Table {
				continue
			}
			for i, c := range x.now.Writes.Columns {
				if x.differs[i] && !x.isKey[i] && slices.ContainsFunc(r.Targets, func(s string) bool {
					return strings.EqualFold(s, c.Name)
				}) {
					return notAmended("%s refers to %s.%s, whose values differ", t.Name, x.now.Table.Name, c.Name)
				}
			}
		}
	}
	return nil
}

// Touches says what the amendment does to a table: whether rows of it come or go, and the columns in which rows differ.
func (a *Amendment) Touches(t *schema.Table) (rows bool, columns []*schema.Column) {
	for _, x := range a.pairs {
		if x.now.Table != t {
			continue
		}
		rows = rows || len(x.replaced)+len(x.added)+len(x.surplus) > 0
		if len(x.updated) == 0 {
			continue
		}
		for i, c := range x.now.Writes.Columns {
			if x.differs[i] && !x.isKey[i] {
				columns = append(columns, c)
			}
		}
	}
	return rows, columns
}

// concerned are the invariants that the amendment could break.
func (a *Amendment) concerned() []*schema.Rule {
	var out []*schema.Rule
	for _, r := range a.l.Plan.Always {
		if a.concerns(r) {
			out = append(out, r)
		}
	}
	return out
}

// concerns reports whether the amendment touches what an invariant looks at.
func (a *Amendment) concerns(r *schema.Rule) bool {
	if r.Table == nil || r.Where != "" || r.SQL != "" {
		return true // it may look at anything
	}
	touched := func(t *schema.Table, names ...*schema.Column) bool {
		rows, columns := a.Touches(t)
		return rows || slices.ContainsFunc(names, func(c *schema.Column) bool { return slices.Contains(columns, c) })
	}
	var named []*schema.Column
	if r.Every != nil {
		r.Every.Visit(func(e *schema.Expr) {
			if e.Column != nil {
				named = append(named, e.Column)
			}
		})
	}
	of := r.Aggregate
	if of == nil {
		return touched(r.Table, named...)
	}
	for _, name := range of.By.Targets {
		named = append(named, r.Table.Column(name))
	}
	inner := []*schema.Column{of.Column}
	for _, name := range of.By.Columns {
		inner = append(inner, of.Of.Column(name))
	}
	return touched(r.Table, append(named, of.To)...) || touched(of.Of, inner...)
}

// Apply changes the rows, and the journal's entry of the load, in a transaction of s. The error is a *NotAmended if
// rows are not what the load wrote, or the database refuses the way; then nothing is done.
func (a *Amendment) Apply(ctx context.Context, s store.Store) (*journal.Result, error) {
	a.w.Store, a.old.Store = s, s
	if err := a.w.Begin(ctx); err != nil {
		return nil, err
	}
	a.old.Tx = a.w.Tx
	err := a.apply(ctx)
	if err == nil {
		err = a.w.Commit(ctx)
	}
	if err != nil {
		var refused *store.Violation
		if errors.As(err, &refused) {
			err = notAmended("%s", err)
		}
		return nil, errors.Join(err, a.w.Rollback())
	}
	if a.memory != nil && a.l.total <= maxRemembered {
		*a.memory = Remembered{token: a.l.Journal.Token, entities: a.now}
	}
	return a.result(), nil
}

// apply does it in an open transaction. Rows that are replaced go first: others may take over their unique values. Rows
// of which there are too many go last: until then, rows may refer to them.
func (a *Amendment) apply(ctx context.Context) error {
	if err := a.reenter(ctx); err != nil {
		return err
	}
	for _, x := range slices.Backward(a.pairs) {
		if err := a.remove(ctx, x, x.replaced); err != nil {
			return err
		}
	}
	for _, x := range a.pairs {
		if err := a.update(ctx, x); err != nil {
			return err
		}
		if err := a.add(ctx, x); err != nil {
			return err
		}
	}
	for _, x := range slices.Backward(a.pairs) {
		if err := a.remove(ctx, x, x.surplus); err != nil {
			return err
		}
	}
	if err := a.w.Tx.Settle(ctx); err != nil {
		return err
	}
	if !a.l.Options.Later {
		if err := holdsAlways(ctx, a.w.Tx, a.concerned()); err != nil {
			return err
		}
	}
	return a.l.conclude(ctx, a.w)
}

// reenter puts the plan as it is now into the journal's entry of the load.
func (a *Amendment) reenter(ctx context.Context) error {
	e, w := a.past.Entry, a.w
	if err := a.l.OpenJournal(ctx, w.Store); err != nil {
		return err
	}
	j := a.l.Journal
	j.Number, j.Part = e.Number, e.Part
	if err := a.l.describe(); err != nil {
		return err
	}
	about, err := json.Marshal(j.About)
	if err != nil {
		return err
	}
	of := j.Tables.Loads
	n, err := w.Tx.Set(ctx, of,
		journal.Cells(of, "token", j.Token, "began", journal.Moment(a.l.Began), "actor", j.Actor,
			"about", string(about), "body", j.body),
		journal.Cells(of, "number", e.Number, "state", string(journal.StateDone), "token", e.Token))
	if err == nil && n != 1 {
		err = notAmended("load %d has changed meanwhile", e.Number)
	}
	if err != nil {
		return err
	}
	if _, err := w.Tx.Delete(ctx, j.Tables.Chunks, journal.Cells(j.Tables.Chunks, "load", e.Number)); err != nil {
		return err
	}
	w.state = newState()
	for _, c := range a.chunks {
		if _, err := w.enterChunk(ctx, c.rows); err != nil {
			return err
		}
		if err := w.leaveChunk(ctx, &c.did); err != nil {
			return err
		}
		w.state = w.plus(c.did)
	}
	a.l.Result.Chunks = len(a.chunks)
	return nil
}

// pieces cuts runs into pieces that a stage holds.
func pieces(runs []order.Run) iter.Seq[[]order.Run] {
	return func(yield func([]order.Run) bool) {
		var piece []order.Run
		room := uint64(StagedChunk)
		for _, run := range runs {
			for run.Rows > 0 {
				part := run
				part.Rows = min(run.Rows, room)
				piece = append(piece, part)
				run.First.N, run.Rows, room = run.First.N+part.Rows, run.Rows-part.Rows, room-part.Rows
				if room > 0 {
					continue
				}
				if !yield(piece) {
					return
				}
				piece, room = nil, StagedChunk
			}
		}
		if len(piece) > 0 {
			yield(piece)
		}
	}
}

// earlier are rows as the load wrote them.
func (a *Amendment) earlier(x *amended, runs []order.Run) store.Rows {
	return func(yield func(*value.Batch) bool) {
		for _, run := range runs {
			run.Target = x.was.Target
			for b := range a.past.Written(a.old, x.was, run, nil) {
				if !yield(&b.Batch) {
					return
				}
			}
		}
	}
}

// present are rows as the plan has them now.
func (a *Amendment) present(runs []order.Run) store.Rows {
	return func(yield func(*value.Batch) bool) {
		for _, run := range runs {
			for b := range a.w.regrow(run) {
				if !yield(&b.Batch) {
					return
				}
			}
		}
	}
}

// found stages rows as the load wrote them, and holds them against the table in some of the columns.
func (a *Amendment) found(
	ctx context.Context,
	x *amended,
	runs []order.Run,
	of func(*schema.Column) bool,
) (store.Stage, error) {
	write := a.past.Compared(x.was, true)
	write.Set = slices.DeleteFunc(write.Set, func(c *schema.Column) bool { return !of(c) })
	st, err := a.w.Tx.Stage(ctx, write, a.earlier(x, runs))
	if err = errors.Join(err, a.old.Growth); err != nil {
		return nil, err
	}
	if err := st.Lock(ctx); err != nil {
		return nil, err
	}
	gone, err := st.Unmatched(ctx, 1)
	if err != nil {
		return nil, err
	}
	var changed []int64
	if len(write.Set) > 0 {
		if changed, err = st.Differing(ctx); err != nil {
			return nil, err
		}
	}
	if len(gone)+len(changed) > 0 {
		return nil, notAmended("rows of %s were changed or deleted since", x.now.Plan.Name)
	}
	return st, nil
}

// remove deletes rows that nobody refers to.
func (a *Amendment) remove(ctx context.Context, x *amended, runs []order.Run) error {
	for piece := range pieces(runs) {
		st, err := a.found(ctx, x, piece, func(*schema.Column) bool { return true })
		if err != nil {
			return err
		}
		referred, err := st.Referred(ctx, a.l.Plan.Database, restricting(x.now.Table))
		if err != nil {
			return err
		}
		if len(referred) > 0 {
			return notAmended("%s: %s", x.now.Plan.Name, referred[0].Why())
		}
		want := st.Rows()
		n, err := st.Remove(ctx)
		if err == nil && n != want {
			err = store.LeftOut(want, n)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// restricting are the columns by which rows of a table refer to others of it that do not go, or change, with what they
// refer to: the database sees that none is left behind.
func restricting(t *schema.Table) []*schema.Column {
	var out []*schema.Column
	for _, r := range t.References {
		if r.To == t && !r.Cascade && !r.Blanks {
			for _, name := range r.Columns {
				out = append(out, t.Column(name))
			}
		}
	}
	return out
}

// update writes the columns in which rows differ.
func (a *Amendment) update(ctx context.Context, x *amended) error {
	write := &store.Write{Into: x.now.Into(), Mode: store.Update, Match: x.key, Distinct: true}
	for i, c := range x.now.Writes.Columns {
		if x.differs[i] && !x.isKey[i] {
			write.Set = append(write.Set, c)
		}
	}
	written := func(c *schema.Column) bool { return slices.Contains(write.Set, c) }
	for piece := range pieces(x.updated) {
		if _, err := a.found(ctx, x, piece, written); err != nil {
			return err
		}
		st, err := a.w.Tx.Stage(ctx, write, a.present(piece))
		if err = errors.Join(err, a.w.Growth); err != nil {
			return err
		}
		want := st.Rows()
		did, err := st.Apply(ctx, 0, want)
		if n := did.Updated + did.Unchanged; err == nil && n != want {
			err = store.LeftOut(want, n)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// add inserts rows.
func (a *Amendment) add(ctx context.Context, x *amended) error {
	if len(x.added) == 0 {
		return nil
	}
	n, err := a.w.Tx.Insert(ctx, x.now.Writes.Into, a.present(x.added))
	if err = errors.Join(err, a.w.Growth); err != nil {
		return err
	}
	if want := rowsOf(x.added); n != want {
		return store.LeftOut(want, n)
	}
	return nil
}

// rowsOf counts the rows of runs.
func rowsOf(runs []order.Run) int64 {
	n := uint64(0)
	for _, r := range runs {
		n += r.Rows
	}
	return int64(n)
}

// result is what was done to the tables; the journal has all rows as inserted.
func (a *Amendment) result() *journal.Result {
	a.w.flush()
	a.l.Result.Transactions = 1
	a.l.Count(a.w.Store)
	r := a.l.summary()
	r.Amended, r.Concerned, r.Rows = true, a.concerned(), 0
	for i, x := range a.pairs {
		e := &r.Entities[i]
		all := e.Inserted
		e.Before = int64(x.was.Grow.Total())
		e.Inserted, e.Updated = rowsOf(x.added), rowsOf(x.updated)
		e.Removed = rowsOf(x.replaced) + rowsOf(x.surplus)
		e.Unchanged = all - e.Inserted - e.Updated
		e.After = e.Before + e.Inserted - e.Removed
		r.Rows += e.Inserted + e.Updated
	}
	r.Statements = a.l.Statements.Statements()
	for _, st := range r.Statements {
		r.Sent += st.Times
	}
	return r
}
