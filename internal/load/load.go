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
	// Rebuild drops secondary indexes, unique and foreign keys of empty tables and
	// makes them again when the rows are in.
	Rebuild bool
	// Journal asks for the load to be written down in the database; nil: it is not.
	Journal *Journal
	// Again opens another connection to the same database; nil: there is only one.
	Again func(context.Context) (store.Store, error)
	// Part is the share of the rows that is written, in a load that is cut into as many as
	// it says; number 0 means all of them.
	Part  order.Part
	pause time.Duration // before a transaction is begun again; 0 means firstPause
	// Progress, if set, is told now and then how many rows are written.
	Progress func(done, total uint64)
}

// The upper bounds of rows in a chunk unless said otherwise. Rows that are compared
// with those of a table go by way of a stage, in larger chunks, so that a table is not
// read more often than need be. Neither costs memory here.
const (
	DefaultChunk = 200_000
	StagedChunk  = 250_000
)

// most is the upper bound of rows in a chunk of a family.
func (l *loader) most(f order.Family) uint64 {
	if l.o.Chunk > 0 {
		return l.o.Chunk
	}
	for _, t := range f {
		if t.Write.Mode == plan.Keep || t.Write.Mode == plan.Upsert || t.Write.Mode == plan.Update {
			return StagedChunk
		}
	}
	return DefaultChunk
}

// Result is what a load did, with counts from the database itself.
type Result struct {
	Load         int64         `json:"load,omitempty"`      // its number in the journal; 0 if it is not there
	Earlier      int64         `json:"earlier,omitempty"`   // the load that wrote the rows that were not repeated
	Completed    int64         `json:"completed,omitempty"` // the load that was partly withdrawn, and whose missing rows were put back
	PutBack      int64         `json:"put_back,omitempty"`  // these rows
	Stepped      []Stepped     `json:"stepped,omitempty"`   // keys that are not the planned ones
	LeftOut      int64         `json:"left_out,omitempty"`  // rows that earlier loads left out, and that are not there yet
	Unread       bool          `json:"unread,omitempty"`    // triggers rewrote more rows than the journal keeps
	Migrated     []string      `json:"migrated,omitempty"`  // how the tables have changed since the plan was loaded
	Entities     []Entity      `json:"entities"`            // in load order
	Rows         int64         `json:"rows"`                // inserted or updated
	Rejected     int64         `json:"rejected"`
	Redrawn      int64         `json:"redrawn"`
	Chunks       int           `json:"chunks"`
	Transactions int           `json:"transactions"`
	Repeated     int           `json:"repeated"` // transactions begun again after a deadlock or the like
	Commit       plan.Commit   `json:"commit"`
	DryRun       bool          `json:"dry_run"`
	Elapsed      time.Duration `json:"elapsed_ns"`
	Notice       string        `json:"notice,omitempty"`
	Unit         *UnitResult   `json:"unit,omitempty"` // of a run of a unit, in the journal
	Part         *PartResult   `json:"part,omitempty"` // what one part did, of a load in parts
	// Statements are the distinct statements, and Sent how many ran.
	Statements []store.Statement `json:"statements,omitempty"`
	Sent       int64             `json:"statements_sent"`
	// Unmatched are the first rows that update found no row for.
	Unmatched []*Refusal `json:"unmatched,omitempty"`
	// Rejections are the first rows that were left out.
	Rejections []*Refusal `json:"rejections,omitempty"`
}

// Entity is what a load did with one entity.
type Entity struct {
	Entity      string           `json:"entity"`
	Table       string           `json:"table"`
	Mode        plan.Mode        `json:"mode"`
	Before      int64            `json:"rows_before"`
	Inserted    int64            `json:"inserted"`
	Updated     int64            `json:"updated"`
	Unchanged   int64            `json:"unchanged"`
	Kept        int64            `json:"kept"`
	Removed     int64            `json:"removed"`
	Rejected    int64            `json:"rejected"`
	Refused     *Refusal         `json:"refused,omitempty"` // the first of its rows that was left out
	Unmatched   int64            `json:"unmatched"`
	After       int64            `json:"rows_after"`
	Skipped     bool             `json:"skipped"`          // its table was not empty, and the plan says when: empty
	Loaded      uint64           `json:"loaded,omitempty"` // rows that an earlier load wrote, and this one did not repeat
	Fingerprint grow.Fingerprint `json:"fingerprint"`
}

// target is an entity while it is loaded.
type target struct {
	*plan.Target
	write    store.Write
	key      *schema.Column            // of the field that references keep; nil if there is none
	unkeyed  bool                      // the database gives the keys
	greatest int64                     // of these, the greatest number that was there before; 0 if there was none
	referred bool                      // others keep its key
	refs     []int                     // fields that refer to rows of this load
	late     []int                     // of these, the ones to be written at the end
	checked  []int                     // places in write.Columns whose values must fit
	sums     bool                      // some field adds up rows below
	distinct bool                      // the plan keeps all its unique keys by itself
	seen     map[xxh3.Uint128]grow.Row // match values of earlier rows; nil if nothing need be watched
	drawn    map[drawnKey]grow.Row     // values that rows were given by another draw
	known    *known                    // keys of the rows that were there before; nil if they are not read
	loaded   bool                      // an earlier load wrote its first rows: grown ones up to from, side rows up to fromSide
	fromSide uint64
	moved    []loggedKeys // keys of rows that are loaded, where the plan numbers them otherwise now
	from     uint64
	own      bool // an earlier load of the plan as it is now filled its table, which is left alone while it has rows
	resumed  bool // what before and skipped say was found when the load began
	before   int64
	skipped  bool
	out      Entity
}

// loader is one load.
type loader struct {
	plan    *plan.Compiled
	o       Options
	order   order.Order
	targets map[*plan.Target]*target
	byGrow  map[*grow.Entity]*target
	list    []*target // in load order
	traits  store.Traits
	loose   []store.Loose
	defers  bool        // late references are held against the tables at the commit
	journal *journaling // nil: the load is not written down
	memory  *memory     // of earlier chunks of this load, or of earlier loads; nil if there are none
	began   time.Time
	files   *placeholders             // nil if no field names files
	links   chunkLog                  // keys of rows of tables that are left alone
	steps   map[*grow.Entity][]keyRun // numbers in the place of those that are taken
	stepped []Stepped
	stepLog chunkLog     // what the journal is to keep of them
	earlier []grow.Sizes // how many rows there were at earlier loads, if that matters
	record  *grow.Record

	mu         sync.Mutex // guards what follows, with several connections
	real       map[*grow.Entity]map[value.Value]value.Value
	total      uint64
	done       uint64
	rejected   int64
	rejects    []*Refusal
	unmatched  []*Refusal
	result     Result
	repeats    int // bounds how often a transaction is begun again; 0 means maxRepeats
	statements store.Tally
}

// Run loads a plan that was compiled with the store's schema. If anything stops it,
// what is open is rolled back, and the error tells why: a *Refusal, a *Present, a
// *store.Fault, a *grow.RowError, or plan.Problems.
func Run(ctx context.Context, c *plan.Compiled, s store.Store, o Options) (*Result, error) {
	if o.Journal != nil {
		journal := *o.Journal
		journal.Plan = c.Plan
		o.Journal = &journal
	}
	l, err := newLoader(c, s, o)
	if err != nil {
		return nil, err
	}
	w := &writer{loader: l, store: s, own: false}
	defer w.close()
	if o.Journal == nil {
		if err := l.write(ctx, w); err != nil {
			return nil, err
		}
		return l.finished(w), nil
	}
	var r *Result
	err = patient(ctx, o.Journal.Wait, func() (err error) {
		r, err = l.once(ctx, w)
		return err
	})
	return r, err
}

// once writes what earlier loads of the plan have not written.
func (l *loader) once(ctx context.Context, w *writer) (*Result, error) {
	if err := l.openJournal(ctx, w.store); err != nil {
		return nil, err
	}
	if l.journal != nil && !l.o.DryRun {
		if err := lockPlan(ctx, w.store, l.plan.Plan.Name); err != nil {
			return nil, err
		}
		defer func() { unlockPlan(ctx, w.store, l.plan.Plan.Name) }()
	}
	for {
		done, err := l.repeated(ctx, w)
		if err != nil {
			return nil, err
		}
		if !done {
			err = l.write(ctx, w)
		}
		if errors.Is(err, errFenced) {
			continue // look again at what there is
		}
		if err != nil {
			return nil, err
		}
		return l.finished(w), nil
	}
}

func newLoader(c *plan.Compiled, s store.Store, o Options) (*loader, error) {
	o.Jobs = max(o.Jobs, 1)
	o.Commit = cmp.Or(o.Commit, c.Plan.Commit, plan.CommitLoad)
	l := &loader{plan: c, o: o, order: order.Of(c), traits: s.Traits(), began: time.Now()}
	return l, l.prepare()
}

// write writes the rows.
func (l *loader) write(ctx context.Context, w *writer) error {
	var err error
	if l.o.Commit == plan.CommitLoad || l.o.DryRun {
		err = l.inOne(ctx, w)
	} else {
		err = l.inMany(ctx, w)
	}
	if errors.Is(err, errCommitted) {
		return nil
	}
	if err == nil || errors.Is(err, errFenced) {
		return err
	}
	if ctx.Err() != nil {
		err = context.Cause(ctx)
	}
	if l.result.Transactions > 0 {
		p := &Partial{Err: err, Chunks: l.result.Chunks, Rows: l.rows()}
		if l.journal != nil {
			p.Load = l.journal.number
		}
		return p
	}
	return err
}

// finished is what the load did.
func (l *loader) finished(w *writer) *Result {
	l.count(w.store)
	r := l.summary()
	r.Elapsed = time.Since(l.began)
	r.Statements = l.statements.Statements()
	for _, st := range r.Statements {
		r.Sent += st.Times
	}
	return r
}

// summary is what is known of the load so far.
func (l *loader) summary() *Result {
	r := l.result
	r.Commit, r.DryRun, r.Elapsed, r.Notice = l.o.Commit, l.o.DryRun, time.Since(l.began), l.traits.Notice
	r.Stepped = l.stepped
	r.Rejections, r.Unmatched, r.Rejected = l.rejects, l.unmatched, l.rejected
	for _, t := range l.list {
		r.Entities = append(r.Entities, t.out)
	}
	r.Rows = l.rows()
	return &r
}

func (l *loader) rows() int64 {
	n := int64(0)
	for _, t := range l.list {
		n += t.out.Inserted + t.out.Updated
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

// reset forgets what an attempt did that was rolled back.
func (l *loader) reset() {
	l.record, l.real = grow.NewRecord(), map[*grow.Entity]map[value.Value]value.Value{}
	if l.memory != nil {
		l.record = l.memory.record.Clone()
		for e, keys := range l.memory.real {
			l.real[e] = maps.Clone(keys)
		}
	}
	l.plan.Set.Record = l.record
	l.total, l.done, l.rejected, l.rejects, l.unmatched = 0, 0, 0, nil, nil
	l.result = Result{Repeated: l.result.Repeated, Earlier: l.result.Earlier, Completed: l.result.Completed, PutBack: l.result.PutBack, LeftOut: l.result.LeftOut, Migrated: l.result.Migrated}
	for _, t := range l.list {
		t.drawn = nil
		t.out = Entity{Entity: t.Plan.Name, Table: t.Table.Name, Mode: t.Write.Mode}
		if t.loaded {
			t.out.Loaded = t.from + t.fromSide
		}
		// Rows with equal match values in different chunks must be watched for where
		// nothing else keeps them apart. Memory: 32 bytes and a map's overhead for each row.
		if t.seen = nil; len(t.write.Match) > 0 && !t.write.Distinct && t.Grow.Total() > l.most(order.Family{t.Target}) {
			t.seen = map[xxh3.Uint128]grow.Row{}
		}
	}
}

// Transient faults are met by beginning the transaction again, so many times, after
// a pause that doubles.
const (
	maxRepeats    = 5
	maxReconnects = 8 // some seconds in all, in which a standby takes over
	firstPause    = 50 * time.Millisecond

	longestPause = 2 * time.Second
)

// repeat runs a transaction, and runs it again where that may help.
func (l *loader) repeat(ctx context.Context, w *writer, do func() error) error {
	pause := cmp.Or(l.o.pause, firstPause)
	for n := 0; ; n++ {
		err := do()
		if err == nil {
			return nil
		}
		if back := w.rollback(); back != nil {
			err = errors.Join(err, fmt.Errorf("taking the rows back failed as well: %w", back))
		}
		var fault *store.Fault
		if !errors.As(err, &fault) || ctx.Err() != nil {
			return err
		}
		again := fault.Kind == store.Transient || fault.Kind == store.Locked && l.traits.Writers > 1 && n == 0
		broken := fault.Kind == store.Lost || fault.Kind == store.Unanswered && l.journal != nil // the journal knows whether it was committed
		if broken && l.o.Again != nil {
			again = true
		}
		most := cmp.Or(l.repeats, maxRepeats)
		if broken {
			most = maxReconnects // however often conflicts are met
		}
		if !again || n >= most {
			if n > 0 {
				err = fmt.Errorf("%w (tried %d times)", err, n+1)
			}
			return err
		}
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-time.After(pause):
		}
		pause = min(2*pause, longestPause)
		if broken {
			if fresh := w.reopen(ctx); fresh != nil {
				if n+1 >= most {
					return errors.Join(err, fresh)
				}
				continue // a standby may be about to take over: what is done fails at once, and the next pause is longer
			}
			if gone := l.allThere(ctx, w.store); gone != nil {
				return gone
			}
		}
		l.mu.Lock()
		l.result.Repeated++
		l.mu.Unlock()
	}
}

// inOne loads everything in one transaction.
func (l *loader) inOne(ctx context.Context, w *writer) error {
	l.reset()
	// Outside the transaction, which some engines would end.
	if err := l.stepOver(ctx, w.store); err != nil {
		return err
	}
	if err := l.reserve(ctx, w); err != nil {
		return err
	}
	return l.repeat(ctx, w, func() error {
		l.reset()
		w.decided, w.state = newState(), newState()
		if err := w.begin(ctx); err != nil {
			return err
		}
		if l.journal != nil && !l.o.DryRun {
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
			open := l.journal != nil && errors.As(err, &fault) && fault.Kind == store.Unanswered
			err = errors.Join(err, l.files.end(open || l.result.Transactions > 0))
		}
		return err
	})
}

func (l *loader) writeAll(ctx context.Context, w *writer) error {
	if err := l.before(ctx, w.store, w.tx); err != nil {
		return err
	}
	if l.journal != nil {
		if w.at = beforeAll(l.journal.number); !l.o.DryRun {
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
	p := order.NewPipe(ctx, l.plan.Set, l.o.Jobs, l.chunks())
	defer p.End()
	var added []loggedRows
	for c := range p.Chunks() {
		if err := w.chunk(ctx, c, func(run order.Run) iter.Seq[*grow.Batch] { return p.Rows(ctx, run, w.failed) }); err != nil {
			return err
		}
		added = append(added, w.log.Inserted...)
		w.log = chunkLog{} // it is in the journal
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
func (l *loader) finish(ctx context.Context, w *writer) error {
	if err := w.tx.Settle(ctx); err != nil {
		return l.refusal(nil, nil, err)
	}
	if err := l.after(ctx, w); err != nil {
		return err
	}
	if err := l.always(ctx, w.tx); err != nil {
		return err
	}
	if l.o.DryRun {
		l.result.Transactions = 0
		if err := w.rollback(); err != nil {
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
	if l.journal != nil {
		if err := l.conclude(ctx, w); err != nil {
			return err
		}
	}
	if err := ctx.Err(); err != nil {
		return err
	}
	// An interruption must not leave open whether it is committed.
	if err := w.tx.Commit(context.WithoutCancel(ctx)); err != nil {
		return l.refusal(nil, nil, err)
	}
	l.result.Transactions = 1
	return w.flush()
}

// chunks cuts all families, with a grower of its own: they are cut while others write.
func (l *loader) chunks() iter.Seq[order.Chunk] {
	return func(yield func(order.Chunk) bool) {
		g := grow.NewGrower(l.plan.Set)
		defer g.Close()
		for _, f := range l.order.Families {
			for c := range l.cut(g, f, l.most(f)) {
				if !yield(c) {
					return
				}
			}
		}
	}
}

// cut cuts a family into chunks, part after part.
func (l *loader) cut(g *grow.Grower, f order.Family, most uint64) iter.Seq[order.Chunk] {
	return func(yield func(order.Chunk) bool) {
		for _, part := range l.o.Part.All() {
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
func (l *loader) cutPart(g *grow.Grower, f order.Family, most uint64, part order.Part) iter.Seq[order.Chunk] {
	skip := func(t *plan.Target) bool { return l.targets[t].out.Skipped }
	return func(yield func(order.Chunk) bool) {
		for c := range f.Chunks(g, most, part, skip) {
			c = slices.DeleteFunc(c, func(r order.Run) bool {
				t := l.targets[r.Target]
				return r.First.N+r.Rows <= t.loadedTo(r.First.Side)
			})
			for i := range c {
				if to := l.targets[c[i].Target].loadedTo(c[i].First.Side); c[i].First.N < to {
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
func (l *loader) openFiles() error {
	for _, t := range l.list {
		for _, f := range t.Grow.Fields {
			if _, ok := f.File(); ok {
				var err error
				l.files, err = newPlaceholders(cmp.Or(l.o.Folder, "."), l.plan.Set)
				return err
			}
		}
	}
	return nil
}
