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
	"evensprout/internal/store"
	"evensprout/internal/value"
)

// source gives the rows of a run, in order.
type source func(run order.Run) iter.Seq[*grow.Batch]

// writer writes chunks through one connection.
type writer struct {
	*loader
	store store.Store
	own   bool // close the store at the end
	tx    store.Tx

	g      *grow.Grower // grows rows again
	by     *grow.Record // what g takes into account
	spare  grow.Batch
	at     chunkKey // where the journal is written, and how often
	seq    int
	growth error // of the rows that are being read

	state            // of the transaction
	decided state    // of a chunk whose transaction is tried again, before that
	stuck   *Refusal // of the last row that was drawn again
}

// state is what a chunk did, as long as it may be taken back.
type state struct {
	outcomes map[*target]*outcome
	redrawn  int64
	touched  map[*grow.Entity]map[grow.Row]bool // rows rejected or drawn again
	log      chunkLog

	rejections []*Rejection
	rejectedOf map[*target]int64
	missing    []*Rejection // rows that an update found no row for
	changes    []Changed
}

type outcome struct {
	store.Outcome
	unmatched, removed int64
	print              grow.Fingerprint
}

// errAgain tells that the chunk must be written again, with what the record now says.
var errAgain = errors.New("the chunk is written again")

// maxRounds bounds how often a chunk is written again; each round takes care of all
// refused rows that it meets.
const maxRounds = 200

// maxAttempts bounds how often a row's fields are drawn again.
const maxAttempts = 100

func (w *writer) close() {
	w.rollback()
	if w.g != nil {
		w.g.Close()
		w.g = nil
	}
	if w.own {
		w.count(w.store)
		w.store.Close()
	}
}

// count keeps the statements of a connection that is given up.
func (l *loader) count(s store.Store) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, st := range s.Statements() {
		l.statements.Add(st)
	}
}

// shared is a writer through the same connection.
func (w *writer) shared() *writer { return &writer{loader: w.loader, store: w.store} }

// reopen replaces a broken connection.
func (w *writer) reopen(ctx context.Context) error {
	fresh, err := w.o.Again(ctx)
	if err != nil {
		return err
	}
	w.count(w.store)
	if w.own {
		w.store.Close()
	}
	w.store, w.own = fresh, true
	return nil
}

func (w *writer) begin(ctx context.Context) error {
	tx, err := w.store.Begin(ctx, store.TxOptions{Late: w.defers, Loose: w.loose})
	w.tx = tx
	return err
}

func newState() state {
	return state{outcomes: map[*target]*outcome{}, touched: map[*grow.Entity]map[grow.Row]bool{}, rejectedOf: map[*target]int64{}}
}

// carried is what stays when rows are written again: decisions, not counts.
func (s state) carried() state {
	fresh := newState()
	fresh.redrawn, fresh.touched, fresh.log, fresh.rejections, fresh.rejectedOf = s.redrawn, s.touched, s.log, s.rejections, s.rejectedOf
	fresh.log.Keys, fresh.log.Inserted = nil, nil // found again
	if fresh.touched == nil {
		fresh.touched = map[*grow.Entity]map[grow.Row]bool{}
	}
	if fresh.rejectedOf == nil {
		fresh.rejectedOf = map[*target]int64{}
	}
	return fresh
}

func (w *writer) rollback() error {
	if w.tx == nil {
		return nil
	}
	err := w.tx.Rollback()
	w.tx = nil
	return err
}

// grower grows single rows by the present record.
func (w *writer) grower() *grow.Grower {
	if w.g == nil || w.by != w.record {
		if w.g != nil {
			w.g.Close()
		}
		w.g, w.by = grow.NewGrower(w.plan.Set), w.record
	}
	return w.g
}

// failed remembers an error of growing rows that are being written.
func (w *writer) failed(err error) {
	if w.growth == nil {
		w.growth = err
	}
}

// regrow grows the rows of a run here and now.
func (w *writer) regrow(run order.Run) iter.Seq[*grow.Batch] {
	return func(yield func(*grow.Batch) bool) {
		g := w.grower()
		var b grow.Batch
		for part := range run.Slices() {
			g.Grow(part.Target.Grow, part.First, int(part.Rows), &b)
			if err := g.Err(); err != nil {
				w.failed(err)
				return
			}
			if !yield(&b) {
				return
			}
		}
	}
}

// chunk writes a chunk, again if rows were drawn again.
func (w *writer) chunk(ctx context.Context, c order.Chunk, src source) error {
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
		if err := w.tx.Savepoint(ctx, mark); err != nil {
			return err
		}
	}
	before := w.state
	w.state = w.decided.carried()
	seq := w.seq
	for round := 0; ; round++ {
		err := w.runs(ctx, c, src)
		if err == nil {
			err = w.mend(ctx, c)
		}
		if !errors.Is(err, errAgain) {
			if err != nil {
				return err
			}
			break
		}
		if round == maxRounds {
			r := w.stuck
			r.Hint = fmt.Sprintf("rows of this chunk were drawn again %d times, and this one is still refused: give it more values, grow fewer rows, or say skip", round)
			return r
		}
		if err := w.tx.RollbackTo(ctx, mark); err != nil {
			return err
		}
		w.state = w.state.carried()
		w.seq = seq
		src = w.regrow
	}
	if again {
		if err := w.tx.Release(ctx, mark); err != nil {
			return err
		}
	}
	for _, run := range c {
		if err := w.addFiles(w.targets[run.Target], run); err != nil {
			return err
		}
	}
	if err := w.leaveChunk(ctx, &w.state); err != nil {
		return err
	}
	w.state = before.plus(w.state)
	w.mu.Lock()
	w.result.Chunks++
	w.mu.Unlock()
	return nil
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
	}
	s.redrawn += t.redrawn
	s.log.add(t.log)
	s.rejections = append(s.rejections, t.rejections...)
	for of, n := range t.rejectedOf {
		s.rejectedOf[of] += n
	}
	s.missing = append(s.missing, t.missing...)
	s.changes = append(s.changes, t.changes...)
	return s
}

func (s *state) of(t *target) *outcome {
	if s.outcomes[t] == nil {
		s.outcomes[t] = &outcome{}
	}
	return s.outcomes[t]
}

func (s *state) touch(e *grow.Entity, r grow.Row) {
	if s.touched[e] == nil {
		s.touched[e] = map[grow.Row]bool{}
	}
	s.touched[e][r] = true
}

// mayRepeat tells whether a policy may make it necessary to write a chunk again.
func (w *writer) mayRepeat(c order.Chunk) bool {
	for _, run := range c {
		if t := w.targets[run.Target]; w.lenient(t) {
			return true
		}
	}
	return false
}

// refusals are the kinds of violations by which a database refuses a row.
var refusals = []store.ViolationKind{store.Unique, store.ForeignKey, store.NotNull, store.Check, store.Exclusion, store.TooLong, store.OutOfRange, store.BadValue, store.Raised}

// lenient tells whether some violation of an entity's rows does not stop the load.
func (l *loader) lenient(t *target) bool {
	for _, kind := range refusals {
		if l.policy(t, kind) != plan.Stop {
			return true
		}
	}
	return false
}

func (w *writer) runs(ctx context.Context, c order.Chunk, src source) error {
	for _, run := range c {
		t := w.targets[run.Target]
		err := w.run(ctx, t, run, src)
		if w.growth != nil {
			err, w.growth = w.growth, nil // the cause of whatever followed
		}
		if err != nil {
			if errors.Is(err, errAgain) {
				// The rest of the chunk is on its way, too.
				for _, rest := range c[slices.IndexFunc(c, func(r order.Run) bool { return r.First == run.First && r.Target == run.Target })+1:] {
					for range src(rest) {
					}
				}
			}
			return err
		}
	}
	return nil
}

// run writes the rows of one entity in a chunk.
func (w *writer) run(ctx context.Context, t *target, run order.Run, src source) error {
	if w.looksFirst(t) {
		return w.staged(ctx, t, src(run), nil)
	}
	const mark = "evensprout_run"
	rows := src(run)
	for round := 0; ; round++ {
		if err := w.tx.Savepoint(ctx, mark); err != nil {
			return err
		}
		p := &pass{}
		n, keys, err := w.insert(ctx, t, w.rows(t, rows, p))
		switch {
		case w.growth != nil:
			return w.growth
		case p.err != nil:
			return p.err
		case p.again:
			return errAgain
		case err == nil && n != p.n:
			err = store.LeftOut(p.n, n)
		case err == nil:
			o := w.of(t)
			o.Inserted += n
			o.print.Add(p.print)
			if err := w.gotKeys(t, p, keys); err != nil {
				return err
			}
			return w.tx.Release(ctx, mark)
		}
		var v *store.Violation
		if !errors.As(err, &v) {
			return err
		}
		if v.Row >= 0 && w.policy(t, v.Kind) == plan.Stop {
			return w.refusalOf(t, p.row(v.Row), v)
		}
		if err := w.tx.RollbackTo(ctx, mark); err != nil {
			return err
		}
		if err := w.tx.Release(ctx, mark); err != nil {
			return err
		}
		if !t.unkeyed {
			return w.staged(ctx, t, w.regrow(run), v)
		}
		// Keys come back only with the rows, so these are sent again without the guilty.
		if round == maxRounds {
			return fmt.Errorf("%s: rows are refused again and again: %w", t.Plan.Name, err)
		}
		if err := w.sortOut(ctx, t, w.regrow(run), v); err != nil {
			return err
		}
		rows = w.regrow(run)
	}
}

// insert uses the bulk path.
func (w *writer) insert(ctx context.Context, t *target, rows store.Rows) (int64, []value.Value, error) {
	if !t.unkeyed {
		n, err := w.tx.Insert(ctx, t.write.Into, rows)
		return n, nil, err
	}
	keys, err := w.tx.InsertUnkeyed(ctx, t.write.Into, t.key, rows)
	return int64(len(keys)), keys, err
}

// looksFirst tells whether rows are held against the tables before they are written:
// always where some may be there, and where refused ones are expected; else it costs
// more than to let the constraints speak.
func (w *writer) looksFirst(t *target) bool {
	if t.write.Mode != store.Insert && t.write.Mode != store.Replace {
		return true
	}
	if t.unkeyed || w.policy(t, store.Unique) == plan.Stop {
		return false
	}
	return t.out.Before > 0 && t.known == nil || !t.distinct
}

// addFiles makes the placeholder files of rows that are written.
func (w *writer) addFiles(t *target, run order.Run) error {
	if w.files == nil {
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
			if !w.record.Rejected(t.Grow, b.At(i)) {
				if err := w.files.add(b.Slice(i, i+1)); err != nil {
					return err
				}
			}
		}
	}
	return w.growth
}

// flush hands out what the transaction did, once it cannot be taken back.
func (w *writer) flush() error {
	w.mu.Lock()
	defer w.mu.Unlock()
	for t, o := range w.outcomes {
		t.out.add(o)
	}
	w.result.Redrawn += w.redrawn
	return w.handOut()
}

// add counts what a chunk did.
func (e *Entity) add(o *outcome) {
	e.merge(Entity{Inserted: o.Inserted, Updated: o.Updated, Unchanged: o.Unchanged, Kept: o.Kept, Removed: o.removed, Unmatched: o.unmatched, Fingerprint: o.print})
}

// merge adds counts.
func (e *Entity) merge(o Entity) {
	e.Inserted += o.Inserted
	e.Updated += o.Updated
	e.Unchanged += o.Unchanged
	e.Kept += o.Kept
	e.Removed += o.Removed
	e.Rejected += o.Rejected
	e.Unmatched += o.Unmatched
	e.Fingerprint.Add(o.Fingerprint)
}

// commit ends a transaction of the journal's own.
func (w *writer) commit(ctx context.Context) error {
	err := w.tx.Commit(context.WithoutCancel(ctx))
	if err == nil {
		w.tx = nil
	}
	return err
}
