package load

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"maps"
	"slices"

	"evensprout/internal/journal"

	"evensprout/internal/grow"
	"evensprout/internal/order"
	"evensprout/internal/plan"
	"evensprout/internal/store"
	"evensprout/internal/value"
)

// source gives the rows of a run, in order.
type source func(run order.Run) iter.Seq[*grow.Batch]

// Writer writes chunks through one connection.
type Writer struct {
	Session *Session
	Store   store.Store // its connection
	own     bool        // close the store at the end
	Tx      store.Tx    // nil if none is open

	g      *grow.Grower // grows rows again
	by     *grow.Record // what g takes into account
	spare  grow.Batch
	At     journal.Key // where the journal is written, and how often
	Seq    int
	Growth error // of the rows that are being read

	state                    // of the transaction
	decided state            // of a chunk whose transaction is tried again, before that
	stuck   *journal.Refusal // of the last row that was drawn again
}

// state is what a chunk did, as long as it may be taken back.
type state struct {
	outcomes map[*Target]*outcome
	redrawn  int64
	touched  map[*grow.Entity]map[grow.Row]bool // rows rejected or drawn again
	log      journal.Log

	rejections []*Rejection
	rejectedOf map[*Target]int64
	missing    []*Rejection // rows that an update found no row for
	changes    []Changed
}

// outcome is what a chunk did to one entity.
type outcome struct {
	store.Outcome
	unmatched, removed int64
	print              grow.Fingerprint
	odd                grow.Tally // awkward values
}

// errAgain tells that the chunk must be written again, with what the record now says.
var errAgain = errors.New("the chunk is written again")

// maxRounds bounds how often a chunk is written again; each round takes care of all
// refused rows that it meets.
const maxRounds = 200

// MaxAttempts bounds how often a row's fields are drawn again.
const MaxAttempts = 100

// Close ends the growers.
func (w *Writer) Close() {
	w.Rollback()
	if w.g != nil {
		w.g.Close()
		w.g = nil
	}
	if w.own {
		w.Session.Count(w.Store)
		w.Store.Close()
	}
}

// Count keeps the statements of a connection that is given up.
func (l *Session) Count(s store.Store) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, st := range s.Statements() {
		l.Statements.Add(st)
	}
}

// shared is a writer through the same connection.
func (w *Writer) shared() *Writer { return &Writer{Session: w.Session, Store: w.Store} }

// reopen replaces a broken connection.
func (w *Writer) reopen(ctx context.Context) error {
	fresh, err := w.Session.Options.Again(ctx)
	if err != nil {
		return err
	}
	w.Session.Count(w.Store)
	if w.own {
		w.Store.Close()
	}
	w.Store, w.own = fresh, true
	return nil
}

// Begin begins a transaction.
func (w *Writer) Begin(ctx context.Context) error {
	return w.begin(ctx, false)
}

// BeginReading begins a transaction that writes to nothing but temporary tables, and is rolled back.
func (w *Writer) BeginReading(ctx context.Context) error { return w.begin(ctx, true) }

func (w *Writer) begin(ctx context.Context, reads bool) error {
	l := w.Session
	o := store.TxOptions{Late: l.defers, Loose: l.Loose, Until: l.Options.Patience.Until, Reads: reads}
	tx, err := w.Store.Begin(ctx, o)
	w.Tx = tx
	return err
}

// newState is the state before the first chunk.
func newState() state {
	return state{
		outcomes:   map[*Target]*outcome{},
		touched:    map[*grow.Entity]map[grow.Row]bool{},
		rejectedOf: map[*Target]int64{},
	}
}

// carried is what stays when rows are written again: decisions, not counts. It is a copy: the chunks of a transaction
// begin with the same decisions, and each adds its own.
func (s state) carried() state {
	fresh := newState()
	fresh.redrawn, fresh.log, fresh.rejections = s.redrawn, s.log, slices.Clone(s.rejections)
	for e, rows := range s.touched {
		fresh.touched[e] = maps.Clone(rows)
	}
	maps.Copy(fresh.rejectedOf, s.rejectedOf)
	fresh.log.Keys, fresh.log.Inserted = nil, nil // found again
	return fresh
}

// Rollback ends the transaction, if one is open, and keeps nothing of it.
func (w *Writer) Rollback() error {
	if w.Tx == nil {
		return nil
	}
	err := w.Tx.Rollback()
	w.Tx = nil
	return err
}

// Grower grows single rows by the present record.
func (w *Writer) Grower() *grow.Grower {
	if w.g == nil || w.by != w.Session.Record {
		if w.g != nil {
			w.g.Close()
		}
		w.g, w.by = grow.NewGrower(w.Session.Plan.Set), w.Session.Record
	}
	return w.g
}

// failed remembers an error of growing rows that are being written.
func (w *Writer) failed(err error) {
	if w.Growth == nil {
		w.Growth = err
	}
}

// regrow grows the rows of a run here and now.
func (w *Writer) regrow(run order.Run) iter.Seq[*grow.Batch] {
	return func(yield func(*grow.Batch) bool) {
		var room grow.Batch
		for b, err := range run.Grown(w.Grower(), &room) {
			if err != nil {
				w.failed(err)
				return
			}
			if !yield(b) {
				return
			}
		}
	}
}

// chunk writes a chunk, again if rows were drawn again.
func (w *Writer) chunk(ctx context.Context, c order.Chunk, src source) error {
	done, err := w.enterChunk(ctx, c)
	if err != nil {
		return err
	}
	if done {
		return errCommitted
	}
	again := w.mayRepeat(c)
	const mark = "evensprout_chunk"
	if again {
		if err := w.Tx.Savepoint(ctx, mark); err != nil {
			return err
		}
	}
	before := w.state
	w.state = w.decided.carried()
	if err := w.rounds(ctx, c, src, mark); err != nil {
		return err
	}
	if again {
		if err := w.Tx.Release(ctx, mark); err != nil {
			return err
		}
	}
	for _, run := range c {
		if err := w.addFiles(w.Session.Targets[run.Target], run); err != nil {
			return err
		}
	}
	if err := w.leaveChunk(ctx, &w.state); err != nil {
		return err
	}
	w.state = before.plus(w.state)
	w.Session.mu.Lock()
	w.Session.Result.Chunks++
	w.Session.mu.Unlock()
	return nil
}

// rounds writes the runs of a chunk, and writes them again from a savepoint while rows of it are
// drawn again.
func (w *Writer) rounds(ctx context.Context, c order.Chunk, src source, mark string) error {
	seq := w.Seq
	for round := 0; ; round++ {
		err := w.runs(ctx, c, src)
		if err == nil {
			err = w.recomputeSums(ctx, c)
		}
		if !errors.Is(err, errAgain) {
			return err
		}
		if round == maxRounds {
			w.stuck.Hint = fmt.Sprintf("rows of this chunk were redrawn %d times, and this one is still refused: "+
				"give it more values, plan fewer rows, or use skip", round)
			return w.stuck
		}
		if err := w.Tx.RollbackTo(ctx, mark); err != nil {
			return err
		}
		w.state = w.state.carried()
		w.Seq = seq
		src = w.regrow
	}
}

// plus adds what another state did.
func (s state) plus(t state) state {
	for of, o := range t.outcomes {
		if s.outcomes[of] == nil {
			s.outcomes[of] = &outcome{}
		}
		sum := s.outcomes[of]
		sum.Add(o.Outcome)
		sum.unmatched += o.unmatched
		sum.removed += o.removed
		sum.print.Add(o.print)
		sum.odd.Add(o.odd, 1)
	}
	s.redrawn += t.redrawn
	s.log.Add(t.log)
	s.rejections = append(s.rejections, t.rejections...)
	for of, n := range t.rejectedOf {
		s.rejectedOf[of] += n
	}
	s.missing = append(s.missing, t.missing...)
	s.changes = append(s.changes, t.changes...)
	return s
}

// of is what was done to an entity so far.
func (s *state) of(t *Target) *outcome {
	if s.outcomes[t] == nil {
		s.outcomes[t] = &outcome{}
	}
	return s.outcomes[t]
}

// touch notes that a row differs from the one that was planned.
func (s *state) touch(e *grow.Entity, r grow.Row) {
	if s.touched[e] == nil {
		s.touched[e] = map[grow.Row]bool{}
	}
	s.touched[e][r] = true
}

// mayRepeat reports whether a policy may make it necessary to write a chunk again.
func (w *Writer) mayRepeat(c order.Chunk) bool {
	for _, run := range c {
		if t := w.Session.Targets[run.Target]; w.Session.lenient(t) {
			return true
		}
	}
	return false
}

// refusals are the kinds of violations by which a database refuses a row.
var refusals = []store.ViolationKind{
	store.Unique,
	store.ForeignKey,
	store.NotNull,
	store.Check,
	store.Exclusion,
	store.TooLong,
	store.OutOfRange,
	store.BadValue,
	store.Raised,
}

// lenient reports whether some violation of an entity's rows does not stop the load.
func (l *Session) lenient(t *Target) bool {
	for _, kind := range refusals {
		if l.Policy(t, kind) != plan.Stop {
			return true
		}
	}
	return false
}

// runs writes the runs of a chunk, each from the source of its batches.
func (w *Writer) runs(ctx context.Context, c order.Chunk, src source) error {
	for _, run := range c {
		t := w.Session.Targets[run.Target]
		err := w.run(ctx, t, run, src)
		if w.Growth != nil {
			err, w.Growth = w.Growth, nil // the cause of whatever followed
		}
		if err != nil {
			if errors.Is(err, errAgain) {
				// The rest of the chunk is on its way, too.
				for _, rest := range c[slices.IndexFunc(c,
					func(r order.Run) bool { return r.First == run.First && r.Target == run.Target })+1:] {
					for range src(rest) {
					}
				}
			}
			return unwritten(t, err)
		}
	}
	return nil
}

// run writes the rows of one entity in a chunk.
func (w *Writer) run(ctx context.Context, t *Target, run order.Run, src source) error {
	if w.looksFirst(t) {
		return w.staged(ctx, t, src(run), nil)
	}
	const mark = "evensprout_run"
	rows := src(run)
	for round := 0; ; round++ {
		if err := w.Tx.Savepoint(ctx, mark); err != nil {
			return err
		}
		p := &Pass{}
		n, keys, err := w.insert(ctx, t, w.rows(t, rows, p))
		switch {
		case w.Growth != nil:
			return w.Growth
		case p.err != nil:
			return p.err
		case p.again:
			return errAgain
		case err == nil && n != p.N:
			err = store.LeftOut(p.N, n)
		case err == nil:
			o := w.of(t)
			o.Inserted += n
			o.print.Add(p.print)
			o.odd.Add(p.odd, 1)
			if err := w.gotKeys(t, p, keys); err != nil {
				return err
			}
			return w.Tx.Release(ctx, mark)
		}
		var v *store.Violation
		if !errors.As(err, &v) {
			return err
		}
		if v.Row >= 0 && w.Session.Policy(t, v.Kind) == plan.Stop {
			return w.Session.RefusalOf(t, p.Row(v.Row), v)
		}
		if err := w.Tx.RollbackTo(ctx, mark); err != nil {
			return err
		}
		if err := w.Tx.Release(ctx, mark); err != nil {
			return err
		}
		if !t.Unkeyed {
			return w.staged(ctx, t, w.regrow(run), v)
		}
		// Keys come back only with the rows, so these are sent again without the guilty.
		if round == maxRounds {
			return fmt.Errorf("%s: rows keep being refused: %w", t.Plan.Name, err)
		}
		if err := w.sortOut(ctx, t, w.regrow(run), v); err != nil {
			return err
		}
		rows = w.regrow(run)
	}
}

// insert uses the bulk path.
func (w *Writer) insert(ctx context.Context, t *Target, rows store.Rows) (int64, []value.Value, error) {
	if !t.Unkeyed {
		n, err := w.Tx.Insert(ctx, t.Writes.Into, rows)
		return n, nil, err
	}
	keys, err := w.Tx.InsertUnkeyed(ctx, t.Writes.Into, t.Key, rows)
	return int64(len(keys)), keys, err
}

// looksFirst reports whether rows are held against the tables before they are written:
// always where some may be there, and where refused ones are expected; else it costs
// more than to let the constraints speak.
func (w *Writer) looksFirst(t *Target) bool {
	if t.Writes.Mode != store.Insert && t.Writes.Mode != store.Replace {
		return true
	}
	if t.Unkeyed || w.Session.Policy(t, store.Unique) == plan.Stop {
		return false
	}
	return t.Out.Before > 0 && t.known == nil || !t.distinct
}

// addFiles makes the placeholder files of rows that are written.
func (w *Writer) addFiles(t *Target, run order.Run) error {
	if w.Session.files == nil {
		return nil
	}
	named := false
	for _, f := range t.Grow.Fields {
		_, is := f.File()
		named = named || is
	}
	if !named {
		return nil
	}
	for b := range w.regrow(run) {
		for i := range b.Len {
			if !w.Session.Record.Rejected(t.Grow, b.At(i)) {
				if err := w.Session.files.add(b.Slice(i, i+1)); err != nil {
					return err
				}
			}
		}
	}
	return w.Growth
}

// flush hands out what the transaction did, once it cannot be taken back.
func (w *Writer) flush() error {
	w.Session.mu.Lock()
	defer w.Session.mu.Unlock()
	for t, o := range w.outcomes {
		o.counted(&t.Out)
	}
	w.Session.Result.Redrawn += w.redrawn
	return w.handOut()
}

// counted adds what a chunk did to what an entity's rows became.
func (o *outcome) counted(e *journal.Entity) {
	e.Merge(
		journal.Entity{
			Inserted:    o.Inserted,
			Updated:     o.Updated,
			Unchanged:   o.Unchanged,
			Kept:        o.Kept,
			Removed:     o.removed,
			Unmatched:   o.unmatched,
			Fingerprint: o.print,
			Awkward:     o.odd,
		},
	)
}

// Commit ends a transaction of the journal's own.
func (w *Writer) Commit(ctx context.Context) error {
	err := w.Tx.Commit(context.WithoutCancel(ctx))
	if err == nil {
		w.Tx = nil
	}
	return err
}
