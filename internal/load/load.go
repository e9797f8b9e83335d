// Package load writes a compiled plan into a database: families whole, in one
// transaction or in one for each chunk, with an answer to every refusal.
package load

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"iter"
	"maps"
	"slices"
	"sync"
	"time"

	"evensprout/internal/journal"

	"evensprout/internal/grow"
	"evensprout/internal/order"
	"evensprout/internal/plan"
	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/value"

	"github.com/zeebo/xxh3"
)

// Options say how to load; they do not change what is loaded, but for Policies.
type Options struct {
	Chunk  uint64      // upper bound of rows in a chunk; 0 means DefaultChunk, or StagedChunk
	Jobs   int         // growers, and connections with plan.CommitChunk; 0 means 1
	Folder string      // where placeholder files go; empty means the current folder
	Commit plan.Commit // empty: as the plan says
	DryRun bool        // do everything, then roll back
	// Policies go before those of the plan.
	Policies   plan.Policies
	MaxRejects int64 // stops the load when more rows are rejected; 0: no limit
	// Rejected and Changed, if set, are told what was left out and what was changed,
	// once it cannot be taken back.
	Rejected func(Rejection) error
	Changed  func(Changed) error
	// Later leaves the plan's invariants to be looked at when units are done, too.
	Later bool
	// Indexes says whether secondary indexes, unique and foreign keys of empty tables are dropped, and made again when
	// the rows are in; empty: IndexesAuto.
	Indexes IndexWay
	// Journal asks for the load to be written down in the database; nil: it is not.
	Journal *Journal
	// Again opens another connection to the same database; nil: there is only one.
	Again func(context.Context) (store.Store, error)
	// Part is the share of the rows that is written, in a load that is cut into as many as
	// it says; number 0 means all of them.
	Part order.Part
	// Insist does occasions of units once more that are done.
	Insist bool
	Pause  time.Duration // before a transaction is begun again; 0 means a moment
	// Patience is for locks that others hold on rows, tables or files.
	Patience Patience
	// Keyed, if set, gets at the end the primary key that each row has in its table. Rows that hold NULL there, or have
	// no primary key, are left out.
	Keyed func(entity string, key []store.Cell)
	// Uncounted looks whether tables have rows, and does not count them: for few rows into large tables.
	Uncounted bool
	// Remembered is what is known of the rows of an earlier load that is amended; nil: nothing, and nothing is kept.
	Remembered *Remembered
	// Progress, if set, is told now and then how many rows are written.
	Progress func(Progress)
}

// Patience is how long a transaction waits for locks that others hold, beyond the time after which the engine gives up.
type Patience struct {
	Until time.Time          // zero: it does not
	Waits func(*store.Fault) // is called, also by several connections at a time, when a load waits; may be nil
}

// waits reports whether a fault is a lock that is waited for.
func (p Patience) waits(fault *store.Fault) bool {
	if fault.Kind != store.Locked || !time.Now().Before(p.Until) {
		return false
	}
	if p.Waits != nil {
		p.Waits(fault)
	}
	return true
}

// The upper bounds of rows in a chunk unless said otherwise. Rows that are compared
// with those of a table go by way of a stage, in larger chunks, so that a table is not
// read more often than need be. Neither costs memory here.
const (
	DefaultChunk = 200_000
	StagedChunk  = 250_000
)

// most is the upper bound of rows in a chunk of a family.
func (l *Session) most(f order.Family) uint64 {
	if l.Options.Chunk > 0 {
		return l.Options.Chunk
	}
	for _, t := range f {
		if t.Write.Mode == plan.Keep || t.Write.Mode == plan.Upsert || t.Write.Mode == plan.Update {
			return StagedChunk
		}
	}
	return DefaultChunk
}

// Target is an entity while it is loaded.
type Target struct {
	*plan.Target
	Writes   store.Write               // how its rows are written
	Key      *schema.Column            // of the field that references keep; nil if there is none
	Unkeyed  bool                      // the database gives the keys
	greatest int64                     // of these, the greatest number that was there before; 0 if there was none
	referred bool                      // others keep its key
	refs     []int                     // fields that refer to rows of this load
	Late     []int                     // of these, the ones to be written at the end
	checked  []int                     // places in write.Columns whose values must fit
	Sums     bool                      // some field adds up rows below
	distinct bool                      // the plan keeps all its unique keys by itself
	seen     map[xxh3.Uint128]grow.Row // match values of earlier rows; nil if nothing need be watched
	drawn    map[drawnKey]grow.Row     // values that rows were given by another draw
	known    *known                    // keys of the rows that were there before; nil if they are not read
	// an earlier load wrote its first rows: grown ones up to from, side rows up to fromSide
	loaded   bool
	fromSide uint64
	moved    []journal.Keys // keys of rows that are loaded, where the plan numbers them otherwise now
	from     uint64
	own      bool // an earlier load of the plan as it is now filled its table, which is left alone while it has rows
	resumed  bool // what before and skipped say was found when the load began
	Before   int64
	LeftOut  bool
	Out      journal.Entity // what was done so far
}

// Session is one load: what all its writers share.
type Session struct {
	Plan    *plan.Compiled
	Options Options
	Order   order.Order
	Targets map[*plan.Target]*Target
	ByGrow  map[*grow.Entity]*Target
	List    []*Target      // in load order
	Traits  store.Traits   // what the engine can do
	Loose   []store.Loose  // references that are held against the tables before the commit only
	defers  bool           // late references are held against the tables at the commit
	Journal *journaling    // nil: the load is not written down
	Read    journal.Reader // of the lock under which the load goes on; zero: nothing is read
	Memory  *Memory        // of earlier chunks of this load, or of earlier loads; nil if there are none
	// AllThere looks, on a new connection, whether what was committed is there: another server may have taken over.
	// nil: the chunks of a load are looked for.
	AllThere func(context.Context, store.Store) error
	Began    time.Time

	files   *placeholders             // nil if no field names files
	links   journal.Log               // keys of rows of tables that are left alone
	steps   map[*grow.Entity][]keyRun // numbers in the place of those that are taken
	stepped []journal.Stepped
	stepLog journal.Log  // what the journal is to keep of them
	earlier []grow.Sizes // how many rows there were at earlier loads, if that matters
	Record  *grow.Record // what was rejected and drawn again

	mu         sync.Mutex // guards what follows, with several connections
	real       map[*grow.Entity]map[value.Value]value.Value
	total      uint64
	done       uint64
	doneOf     map[*Target]uint64 // for Progress; nil until it is needed
	rejected   int64
	rejects    []*journal.Refusal
	unmatched  []*journal.Refusal
	Result     journal.Result
	Repeats    int         // bounds how often a transaction is begun again; 0 means maxRepeats
	Statements store.Tally // of all connections
}

// Run loads a plan that was compiled with the store's schema. If anything stops it,
// what is open is rolled back, and the error tells why: a *Refusal, a *Present, a
// *store.Fault, a *grow.RowError, or diag.Problems.
func Run(ctx context.Context, c *plan.Compiled, s store.Store, o Options) (*journal.Result, error) {
	if o.Journal != nil {
		journal := *o.Journal
		journal.Plan = c.Plan
		o.Journal = &journal
	}
	l, err := NewSession(c, s, o)
	if err != nil {
		return nil, err
	}
	w := &Writer{Session: l, Store: s, own: false}
	defer w.Close()
	if o.Journal == nil {
		if err := l.refuseLasting(); err != nil {
			return nil, err
		}
		if err := l.write(ctx, w); err != nil {
			return nil, err
		}
		return l.finished(w), nil
	}
	var r *journal.Result
	err = journal.WhileLocked(ctx, o.Journal.Wait, o.Patience.Waits, func() (err error) {
		r, err = l.once(ctx, w)
		return err
	})
	return r, err
}

// once writes what earlier loads of the plan have not written.
func (l *Session) once(ctx context.Context, w *Writer) (*journal.Result, error) {
	if err := l.refuseManyChunks(); err != nil {
		return nil, err
	}
	if err := l.refuseLasting(); err != nil {
		return nil, err
	}
	if err := l.OpenJournal(ctx, w.Store); err != nil {
		return nil, err
	}
	l.Read = journal.Unlocked(w.Store) // what a dry run finds is over with it
	if l.Journal != nil && !l.Options.DryRun {
		h, err := journal.Lock(ctx, w.Store, l.Plan.Plan.Name)
		if err != nil {
			return nil, err
		}
		defer h.Release(ctx)
		l.Read = h.Reader(w.Store)
	}

	if err := l.cleanOlder(ctx, w); err != nil {
		return nil, err
	}
	for {
		done, err := l.repeated(ctx, w)
		if err != nil {
			return nil, err
		}
		if !done {
			err = l.write(ctx, w)
		}
		if errors.Is(err, ErrFenced) {
			continue // look again at what there is
		}
		if err != nil {
			return nil, err
		}
		return l.finished(w), nil
	}
}

// refuseLasting refuses what could not be rolled back although it is meant to be.
func (l *Session) refuseLasting() error {
	var tables, replaced []*schema.Table
	for _, t := range l.List {
		if t.Plan.Existing {
			continue
		}
		tables = append(tables, t.Table)
		if t.Write.Mode == plan.Replace {
			replaced = append(replaced, t.Table)
		}
	}
	if why := schema.Lasting(replaced); why != "" {
		return &store.Fault{Kind: store.Refused, Message: "replace would lose the old rows if it is refused: " + why,
			Hint: lastingHint + ", or empty the table yourself and load with another mode"}
	}
	return RefuseLasting(tables, l.Options.DryRun, l.Options.Commit)
}

const lastingHint = "ALTER TABLE ... ENGINE=InnoDB"

// RefuseLasting refuses to write to tables in a transaction that could not be rolled back: in a dry run, or where all is
// committed together. Who commits in chunks agrees that what is written stays; an empty commit means that nobody can.
func RefuseLasting(tables []*schema.Table, dryRun bool, commit plan.Commit) error {
	why := schema.Lasting(tables)
	switch {
	case why == "":
		return nil
	case dryRun:
		return &store.Fault{Kind: store.Refused, Message: "a dry run cannot be rolled back here: " + why, Hint: lastingHint}
	case commit == plan.CommitLoad:
		return &store.Fault{Kind: store.Refused, Message: "not all could be rolled back: " + why,
			Hint: lastingHint + "; or, if what is written may stay after a refusal, --commit chunk (in the plan: commit: chunk)"}
	case commit == "":
		return &store.Fault{Kind: store.Refused, Message: "not all could be rolled back: " + why, Hint: lastingHint}
	}
	return nil
}

// NewSession gets ready to load a plan.
func NewSession(c *plan.Compiled, s store.Store, o Options) (*Session, error) {
	o.Jobs = max(o.Jobs, 1)
	o.Commit = cmp.Or(o.Commit, c.Plan.Commit, plan.CommitLoad)
	if err := o.refuseRebuild(); err != nil {
		return nil, err
	}
	l := &Session{Plan: c, Options: o, Order: order.Of(c), Traits: s.Traits(), Began: time.Now()}
	return l, l.prepare()
}

// write writes the rows.
func (l *Session) write(ctx context.Context, w *Writer) error {
	var err error
	if l.Options.Commit == plan.CommitLoad || l.Options.DryRun {
		err = l.inOne(ctx, w)
	} else {
		err = l.inMany(ctx, w)
	}
	if errors.Is(err, errCommitted) {
		return nil
	}
	if err == nil || errors.Is(err, ErrFenced) {
		return err
	}
	if ctx.Err() != nil {
		err = context.Cause(ctx)
	}
	if l.Result.Transactions > 0 {
		p := &Partial{Err: err, Chunks: l.Result.Chunks, Rows: l.rows()}
		if l.Journal != nil {
			p.Load = l.Journal.Number
		}
		return p
	}
	return err
}

// finished is what the load did.
func (l *Session) finished(w *Writer) *journal.Result {
	l.Count(w.Store)
	l.noteChunked()
	r := l.summary()
	if l.Options.Keyed != nil {
		l.reportKeys(w)
	}
	r.Elapsed = time.Since(l.Began)
	r.Statements = l.Statements.Statements()
	for _, st := range r.Statements {
		r.Sent += st.Times
	}
	return r
}

// summary is what is known of the load so far.
func (l *Session) summary() *journal.Result {
	r := l.Result
	r.Commit, r.DryRun, r.Elapsed, r.Notice = l.Options.Commit, l.Options.DryRun, time.Since(l.Began), l.Traits.Notice
	r.Stepped = l.stepped
	r.Rejections, r.Unmatched, r.Rejected = l.rejects, l.unmatched, l.rejected
	for _, t := range l.List {
		r.Entities = append(r.Entities, t.Out)
	}
	r.Rows = l.rows()
	return &r
}

// rows is how many rows the plan has in all.
func (l *Session) rows() int64 {
	n := int64(0)
	for _, t := range l.List {
		n += t.Out.Inserted + t.Out.Updated
	}
	return n
}

// Partial is an error after some chunks were committed.
type Partial struct {
	Err    error
	Chunks int
	Rows   int64
	Load   int64 // in the journal; 0 if it is not there
}

func (p *Partial) Error() string { return p.Err.Error() }
func (p *Partial) Unwrap() error { return p.Err }

// Reset forgets what an attempt did that was rolled back.
func (l *Session) Reset() {
	l.Record, l.real = grow.NewRecord(), map[*grow.Entity]map[value.Value]value.Value{}
	if l.Memory != nil {
		l.Record = l.Memory.record.Clone()
		for e, keys := range l.Memory.real {
			l.real[e] = maps.Clone(keys)
		}
	}

	l.Plan.Set.Record = l.Record
	l.total, l.done, l.doneOf, l.rejected, l.rejects, l.unmatched = 0, 0, nil, 0, nil, nil
	l.Result = journal.Result{
		Repeated:  l.Result.Repeated,
		Earlier:   l.Result.Earlier,
		Completed: l.Result.Completed,
		PutBack:   l.Result.PutBack,
		LeftOut:   l.Result.LeftOut,
		Migrated:  l.Result.Migrated,
	}
	for _, t := range l.List {
		t.drawn = nil
		t.Out = journal.Entity{Entity: t.Plan.Name, Table: t.Table.Name, Mode: t.Write.Mode}
		if t.loaded {
			t.Out.Loaded = t.from + t.fromSide
		}
		// Rows with equal match values in different chunks must be watched for where
		// nothing else keeps them apart. Memory: 32 bytes and a map's overhead for each row.
		if t.seen = nil; len(t.Writes.Match) > 0 && !t.Writes.Distinct &&
			t.Grow.Total() > l.most(order.Family{t.Target}) {
			t.seen = map[xxh3.Uint128]grow.Row{}
		}
	}
}

// Transient faults are met by beginning the transaction again, so many times, after
// a pause that doubles.
const (
	MaxRepeats    = 5
	maxReconnects = 12 // a quarter of a minute in all, in which a standby takes over
	firstPause    = 50 * time.Millisecond

	longestPause = 2 * time.Second
)

// helps reports whether it may help to do again what failed for the (n+1)-th time, and whether
// the connection is broken. Where a commit was not answered, the journal knows whether it was
// done.
func (l *Session) helps(k store.FaultKind, n int) (again, broken bool) {
	broken = k == store.Lost || k == store.Unanswered && l.Journal != nil
	again = k == store.Transient || k == store.Locked && l.Traits.Writers > 1 && n == 0
	return again || broken && l.Options.Again != nil, broken
}

// Repeat runs a transaction, and runs it again where that may help.
func (l *Session) Repeat(ctx context.Context, w *Writer, do func() error) error {
	pause := cmp.Or(l.Options.Pause, firstPause)
	for n := 0; ; n++ {
		err := do()
		if err == nil {
			return nil
		}
		err = w.rolledBack(err)
		var fault *store.Fault
		if !errors.As(err, &fault) || ctx.Err() != nil {
			return err
		}
		if l.Options.Patience.waits(fault) {
			if err := wait(ctx, pause); err != nil {
				return err
			}
			n--
			continue
		}
		again, broken := l.helps(fault.Kind, n)
		most := cmp.Or(l.Repeats, MaxRepeats)
		if broken {
			most = maxReconnects // however often conflicts are met
		}
		if !again || n >= most {
			if n > 0 {
				err = fmt.Errorf("%w (tried %d times)", err, n+1)
			}
			return err
		}
		if err := wait(ctx, pause); err != nil {
			return err
		}
		pause = min(2*pause, longestPause)
		if broken {
			later, failed := l.reconnect(ctx, w, err, n+1 < most)
			if failed != nil {
				return failed
			}
			if later != nil {
				continue // what is done fails at once, and the next pause is longer
			}
		}
		l.mu.Lock()
		l.Result.Repeated++
		l.mu.Unlock()
	}
}

// rolledBack rolls back after an error.
func (w *Writer) rolledBack(err error) error {
	if back := w.Rollback(); back != nil {
		return errors.Join(err, fmt.Errorf("the rollback failed as well: %w", back))
	}
	return err
}

// reconnect replaces a connection that an error broke. later is an error that may pass, if there is more to try: a
// standby may be about to take over, or a server that is about to go answers once more and breaks the new connection,
// too. failed is any other, such as that the server which answers lacks what was committed.
func (l *Session) reconnect(ctx context.Context, w *Writer, broke error, more bool) (later, failed error) {
	err := w.reopen(ctx)
	if err != nil {
		if more {
			return err, nil
		}
		return nil, errors.Join(broke, err)
	}
	look := l.allThere
	if l.AllThere != nil {
		look = l.AllThere
	}
	err = look(ctx, w.Store)
	var fault *store.Fault
	if more && errors.As(err, &fault) && fault.Kind == store.Lost {
		return err, nil
	}
	return nil, err
}

// wait returns after a time, or when the context ends, with the cause of that.
func wait(ctx context.Context, d time.Duration) error {
	select {
	case <-ctx.Done():
		return context.Cause(ctx)
	case <-time.After(d):
		return nil
	}
}

// inOne loads everything in one transaction.
func (l *Session) inOne(ctx context.Context, w *Writer) error {
	l.Reset()

	// Outside the transaction, which some engines would end.
	if err := l.StepOver(ctx, w.Store); err != nil {
		return err
	}
	if err := l.Reserve(ctx, w); err != nil {
		return err
	}
	err := l.Repeat(ctx, w, func() error { return l.transaction(ctx, w) })
	if errors.Is(err, errIndexRefused) {
		l.Options.Indexes = IndexesKeep
		err = l.Repeat(ctx, w, func() error { return l.transaction(ctx, w) })
	}
	return err
}

// transaction loads everything, once.
func (l *Session) transaction(ctx context.Context, w *Writer) error {
	l.Reset()
	w.decided, w.state = newState(), newState()
	if err := w.Begin(ctx); err != nil {
		return err
	}
	if l.Journal != nil && !l.Options.DryRun {
		if err := l.enter(ctx, w); err != nil {
			return err
		}
	}
	if err := l.openFiles(); err != nil {
		return err
	}
	err := l.writeAll(ctx, w)
	if err == nil {
		err = l.finish(ctx, w)
	}
	if l.files != nil {
		// Rows whose commit was not answered may be there: then their files must be.
		var fault *store.Fault
		open := l.Journal != nil && errors.As(err, &fault) && fault.Kind == store.Unanswered
		err = errors.Join(err, l.files.end(open || l.Result.Transactions > 0))
	}
	return err
}

// writeAll writes all chunks with one connection, late references after them.
func (l *Session) writeAll(ctx context.Context, w *Writer) error {
	if err := l.Before(ctx, w.Store, w.Tx); err != nil {
		return err
	}
	if l.Journal != nil {
		if w.At = journal.BeforeAll(l.Journal.Number); !l.Options.DryRun {
			if err := l.amend(ctx, w); err != nil {
				return err
			}
			if err := l.keepLinks(ctx, w); err != nil {
				return err
			}
		}
	}
	if err := l.clear(ctx, w); err != nil {
		return err
	}
	rebuild, err := l.dropIndexes(ctx, w)
	if err != nil {
		return err
	}
	p := order.NewPipe(ctx, l.Plan.Set, l.Options.Jobs, l.chunks())
	defer p.End()
	var added []journal.RowRun
	for c := range p.Chunks() {
		if err := w.chunk(ctx, c, func(run order.Run) iter.Seq[*grow.Batch] {
			return p.Rows(ctx, run,
				w.failed)
		}); err != nil {
			return err
		}
		added = append(added, w.log.Inserted...)
		w.log = journal.Log{} // it is in the journal
	}
	if err := ctx.Err(); err != nil {
		return err
	}
	if rebuild != nil {
		if err := rebuild(); err != nil {
			return err
		}
	}
	return l.second(ctx, w, added)
}

// finish looks at everything once more and commits.
func (l *Session) finish(ctx context.Context, w *Writer) error {
	if err := w.Tx.Settle(ctx); err != nil {
		return l.Refusal(nil, nil, err)
	}
	if err := l.after(ctx, w); err != nil {
		return err
	}
	if err := l.Always(ctx, w.Tx); err != nil {
		return err
	}
	if l.Options.DryRun {
		l.Result.Transactions = 0
		if err := w.Rollback(); err != nil {
			return err
		}
		return w.flush()
	}

	if l.files != nil {
		if err := l.files.place(); err != nil {
			return err
		}
	}
	if err := l.readBack(ctx, w); err != nil {
		return err
	}
	if l.Journal != nil {
		if err := l.conclude(ctx, w); err != nil {
			return err
		}
	}
	if err := ctx.Err(); err != nil {
		return err
	}

	// An interruption must not leave open whether it is committed.
	if err := w.Tx.Commit(context.WithoutCancel(ctx)); err != nil {
		return l.Refusal(nil, nil, err)
	}
	l.Result.Transactions = 1
	return w.flush()
}

// chunks cuts all families, with a grower of its own: they are cut while others write.
func (l *Session) chunks() iter.Seq[order.Chunk] {
	return func(yield func(order.Chunk) bool) {
		g := grow.NewGrower(l.Plan.Set)
		defer g.Close()
		for _, f := range l.Order.Families {
			for c := range l.cut(g, f, l.most(f)) {
				if !yield(c) {
					return
				}
			}
		}
	}
}

// cut cuts a family into chunks, part after part.
func (l *Session) cut(g *grow.Grower, f order.Family, most uint64) iter.Seq[order.Chunk] {
	return func(yield func(order.Chunk) bool) {
		for _, part := range l.Options.Part.All() {
			for c := range l.cutPart(g, f, most, part) {
				if !yield(c) {
					return
				}
			}
		}
	}
}

// cutPart cuts a part of a family, without the rows that need not be written: those of
// tables that are left alone, and those that an earlier load wrote.
func (l *Session) cutPart(g *grow.Grower, f order.Family, most uint64, part order.Part) iter.Seq[order.Chunk] {
	skip := func(t *plan.Target) bool { return l.Targets[t].Out.Skipped }
	return func(yield func(order.Chunk) bool) {
		for c := range f.Chunks(g, most, part, skip) {
			c = slices.DeleteFunc(c, func(r order.Run) bool {
				t := l.Targets[r.Target]
				return r.First.N+r.Rows <= t.loadedTo(r.First.Side)
			})
			for i := range c {
				if to := l.Targets[c[i].Target].loadedTo(c[i].First.Side); c[i].First.N < to {
					c[i].Rows -= to - c[i].First.N
					c[i].First.N = to
				}
			}
			if len(c) > 0 && !yield(c) {
				return
			}
		}
	}
}

// openFiles makes ready for placeholder files, if any field names some.
func (l *Session) openFiles() error {
	for _, t := range l.List {
		for _, f := range t.Grow.Fields {
			if _, ok := f.File(); ok {
				var err error
				l.files, err = newPlaceholders(cmp.Or(l.Options.Folder, "."), l.Plan.Set)
				return err
			}
		}
	}
	return nil
}
