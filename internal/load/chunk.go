package load

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"iter"
	"slices"
	"sort"

	"evensprout/internal/grow"
	"evensprout/internal/order"
	"evensprout/internal/plan"
	"evensprout/internal/store"
)

// writer writes chunks through one connection.
type writer struct {
	*loader
	store store.Store
	own   bool // close the store at the end
	tx    store.Tx

	g      *grow.Grower // grows rows again
	by     *grow.Record // what g takes into account
	spare  grow.Batch
	growth error // of the rows that are being read

	state // of the transaction
}

// state is what a chunk did, as long as it may be taken back.
type state struct {
	outcomes map[*target]*outcome
	redrawn  int64
	touched  map[*grow.Entity]map[grow.Row]bool // rows rejected or drawn again
	journal  []store.Note

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
		for _, st := range w.store.Statements() {
			w.mu.Lock()
			w.statements.Add(st)
			w.mu.Unlock()
		}
		w.store.Close()
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
	for _, st := range w.store.Statements() {
		w.mu.Lock()
		w.statements.Add(st)
		w.mu.Unlock()
	}
	if w.own {
		w.store.Close()
	}
	w.store, w.own = fresh, true
	return nil
}

func (w *writer) begin(ctx context.Context) error {
	tx, err := w.store.Begin(ctx, store.TxOptions{Late: w.defers})
	w.tx = tx
	return err
}

func newState() state {
	return state{outcomes: map[*target]*outcome{}, touched: map[*grow.Entity]map[grow.Row]bool{}, rejectedOf: map[*target]int64{}}
}

// carried is what stays when rows are written again: decisions, not counts.
func (s state) carried() state {
	fresh := newState()
	fresh.redrawn, fresh.touched, fresh.journal, fresh.rejections, fresh.rejectedOf = s.redrawn, s.touched, s.journal, s.rejections, s.rejectedOf
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
		for part := range cut(run) {
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
	again := w.mayRepeat(c)
	const mark = "evensprout_chunk"
	if again {
		if err := w.tx.Savepoint(ctx, mark); err != nil {
			return err
		}
	}
	before := w.state
	w.state = newState()
	w.touched = before.touched // of a transaction that is tried again; else empty
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
			return fmt.Errorf("the rows were drawn again %d times, and some are still refused", round)
		}
		if err := w.tx.RollbackTo(ctx, mark); err != nil {
			return err
		}
		w.state = w.state.carried()
		src = w.regrow
	}
	if again {
		if err := w.tx.Release(ctx, mark); err != nil {
			return err
		}
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
	s.journal = append(s.journal, t.journal...)
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

// lenient tells whether some violation of an entity's rows does not stop the load.
func (l *loader) lenient(t *target) bool {
	for _, kind := range []store.ViolationKind{store.Unique, store.ForeignKey, store.NotNull, store.Check, store.Exclusion, store.TooLong, store.OutOfRange, store.BadValue, store.Raised} {
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

// pass is one reading of a run's rows on their way to the database.
type pass struct {
	segments []segment
	n        int64
	print    grow.Fingerprint
	again    bool
	err      error
}

// segment is consecutive rows with consecutive numbers in the write.
type segment struct {
	number int64
	first  grow.Row
	rows   int64
}

// row is the row with a number in the write.
func (p *pass) row(number int64) grow.Row {
	i := sort.Search(len(p.segments), func(i int) bool { return p.segments[i].number+p.segments[i].rows > number })
	if i == len(p.segments) {
		return grow.Row{}
	}
	s := p.segments[i]
	return grow.Row{N: s.first.N + uint64(number-s.number), Side: s.first.Side}
}

// rows lets through the rows that may be written.
func (w *writer) rows(t *target, src iter.Seq[*grow.Batch], p *pass) store.Rows {
	return func(yield func(*grow.Batch) bool) {
		for b := range src {
			if b.Version != w.record.Version() {
				b = w.fresh(b) // it was on its way before something was drawn again
			}
			w.translate(t, b)
			p.print.Add(b.Print)
			from := 0
			send := func(to int) bool {
				if to == from {
					return true
				}
				part := b
				if to-from < b.Len {
					part = b.Slice(from, to)
				}
				p.segments = append(p.segments, segment{p.n, part.First, int64(part.Len)})
				p.n += int64(part.Len)
				return yield(part)
			}
			for i := range b.Len {
				if !w.excluded(t, b, i, p) {
					continue
				}
				if p.err != nil || !send(i) {
					return
				}
				from = i + 1
			}
			if !send(b.Len) {
				return
			}
			w.progress(b.Len)
		}
	}
}

func (w *writer) fresh(b *grow.Batch) *grow.Batch {
	g := w.grower()
	g.Grow(b.Entity, b.First, b.Len, &w.spare)
	if err := g.Err(); err != nil {
		w.failed(err)
	}
	return &w.spare
}

func (w *writer) progress(n int) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.done += uint64(n)
	if w.o.Progress != nil {
		w.o.Progress(min(w.done, w.total), w.total)
	}
}

// translate puts keys that rows really have in the place of planned ones, and NULL
// where a reference is written at the end.
func (w *writer) translate(t *target, b *grow.Batch) {
	for _, f := range t.refs {
		late := slices.Contains(t.late, f)
		field := t.Grow.Fields[f]
		to := w.byGrow[field.Target()]
		var real map[grow.Value]grow.Value
		if field.Stored() == to.Grow.Key {
			w.mu.Lock()
			real = w.real[to.Grow]
			w.mu.Unlock()
		}
		if !late && len(real) == 0 {
			continue
		}
		for i := range b.Len {
			v := &b.Row(i)[f]
			if late {
				*v = grow.Value{}
				continue
			}
			w.mu.Lock()
			key, ok := real[*v]
			w.mu.Unlock()
			if ok {
				*v = key
			}
		}
	}
}

// excluded tells whether a row is left out: it was rejected, it refers to a row that
// was, or a value does not fit its column.
func (w *writer) excluded(t *target, b *grow.Batch, i int, p *pass) bool {
	row := b.At(i)
	if w.record.Rejected(t.Grow, row) {
		w.unprint(t, row, p)
		return true
	}
	var v *store.Violation
	for _, f := range t.refs {
		field := t.Grow.Fields[f]
		to := field.Target()
		if !w.record.AnyRejected(to) || slices.Contains(t.late, f) {
			continue
		}
		if at, ok := w.grower().Refers(t.Grow, row, field); ok && w.record.Rejected(to, at) {
			v = &store.Violation{Kind: store.ForeignKey, Table: t.Table.Name, Columns: []string{t.Columns[f].Name}, Values: []grow.Value{b.Row(i)[f]},
				Constraint: "consequence", Refers: w.byGrow[to].Table.Name, Message: "it refers to " + to.Label(at) + ", which was rejected"}
			w.reject(t, row, v)
			w.unprint(t, row, p)
			return true
		}
	}
	values := b.Row(i)
	for _, j := range t.checked {
		if v = store.Misfit(t.write.Columns[j], &values[t.write.Fields[j]]); v != nil {
			break
		}
	}
	if v == nil && t.known != nil {
		v = t.known.collision(values)
	}
	if v == nil && t.seen != nil {
		v = w.twin(t, values)
	}
	if v == nil {
		return false
	}
	v.Table = t.Table.Name
	again, err := w.decide(t, row, v)
	p.again = p.again || again
	p.err = err
	w.unprint(t, row, p)
	return true
}

// unprint takes a row out of the fingerprint.
func (w *writer) unprint(t *target, row grow.Row, p *pass) {
	var one grow.Batch
	w.grower().Grow(t.Grow, row, 1, &one)
	p.print.Sub(one.Print)
}

// run writes the rows of one entity in a chunk.
func (w *writer) run(ctx context.Context, t *target, run order.Run, src source) error {
	if w.looksFirst(t) {
		return w.staged(ctx, t, src(run), func() iter.Seq[*grow.Batch] { return w.regrow(run) }, nil)
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
		case err == nil:
			if n != p.n {
				return &Refusal{Kind: store.RowCount, Entity: t.Plan.Name, Table: t.Table.Name,
					Message: fmt.Sprintf("%d rows were sent and %d written: something in the database, such as a trigger or rule, leaves rows out", p.n, n)}
			}
			if err := w.addFiles(t, run); err != nil {
				return err
			}
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
			return w.refusalOf(t, p.row(v.Row), p, v)
		}
		if err := w.tx.RollbackTo(ctx, mark); err != nil {
			return err
		}
		if err := w.tx.Release(ctx, mark); err != nil {
			return err
		}
		if !t.unkeyed {
			return w.staged(ctx, t, w.regrow(run), func() iter.Seq[*grow.Batch] { return w.regrow(run) }, v)
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
func (w *writer) insert(ctx context.Context, t *target, rows store.Rows) (int64, []grow.Value, error) {
	if !t.unkeyed {
		n, err := w.tx.Insert(ctx, t.write.Into, rows)
		return n, nil, err
	}
	keys, err := w.tx.InsertUnkeyed(ctx, t.write.Into, t.key, rows)
	return int64(len(keys)), keys, err
}

// gotKeys notes the keys that the database gave.
func (w *writer) gotKeys(t *target, p *pass, keys []grow.Value) error {
	if len(keys) == 0 || !t.referred {
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
		w.noteKeys(t, s, keys[s.number:s.number+s.rows])
	}
	return nil
}

func (w *writer) rename(t *target, planned, real grow.Value) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.real[t.Grow] == nil {
		w.real[t.Grow] = map[grow.Value]grow.Value{}
	}
	w.real[t.Grow][planned] = real
}

func (w *writer) noteKeys(t *target, s segment, keys []grow.Value) {
	texts := make([]string, len(keys))
	for i, k := range keys {
		texts[i] = k.String()
	}
	detail, _ := json.Marshal(map[string]any{"first": s.first.N, "given": s.first.Side, "keys": texts})
	w.state.journal = append(w.state.journal, store.Note{Load: w.id, Entity: t.Plan.Name, Row: t.Grow.Label(s.first), What: store.NoteKey, Detail: string(detail)})
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

// sortOut finds the guilty rows of a run and decides about them; nothing is written.
func (w *writer) sortOut(ctx context.Context, t *target, rows iter.Seq[*grow.Batch], first *store.Violation) error {
	const mark = "evensprout_sort"
	if err := w.tx.Savepoint(ctx, mark); err != nil {
		return err
	}
	before := w.record.Version()
	write := t.write
	write.Mode = store.Insert
	p := &pass{}
	st, err := w.tx.Stage(ctx, &write, w.rows(t, rows, p))
	if err == nil {
		_, err = w.held(ctx, t, st, p, first)
	}
	if err != nil {
		return err
	}
	if _, err := store.Isolate(ctx, w.tx, st, 0, p.n, w.refuse(t, p)); err != nil {
		return err
	}
	if p.again {
		return errAgain
	}
	if w.record.Version() == before {
		return first // nothing is guilty now: what refused the rows is gone
	}
	if err := w.tx.RollbackTo(ctx, mark); err != nil {
		return err
	}
	return w.tx.Release(ctx, mark)
}

// staged writes rows by way of a stage. first is what the engine said when it was
// tried without, or nil.
func (w *writer) staged(ctx context.Context, t *target, rows iter.Seq[*grow.Batch], again func() iter.Seq[*grow.Batch], first *store.Violation) error {
	p := &pass{}
	w.remember(t)
	st, err := w.tx.Stage(ctx, &t.write, w.rows(t, rows, p))
	switch {
	case w.growth != nil:
		return w.growth
	case p.err != nil:
		return p.err
	case p.again:
		return errAgain
	}
	var v *store.Violation
	if errors.As(err, &v) && v.Row >= 0 {
		return w.refusalOf(t, p.row(v.Row), p, v)
	}
	if err != nil {
		return err
	}
	o := w.of(t)
	if first == nil && !w.lenient(t) && w.o.Changed == nil && (t.write.Mode != store.Update || w.policy(t, store.RowCount) != plan.Stop) {
		// Nothing is expected to be refused: let the constraints speak first.
		done, err := w.straight(ctx, t, st, p, &first)
		if done || err != nil {
			return err
		}
	}
	if _, err := w.held(ctx, t, st, p, first); err != nil {
		return err
	}
	if t.write.Mode == store.Update {
		if err := w.matchless(ctx, t, st, p, o); err != nil {
			return err
		}
	}
	if w.o.Changed != nil {
		if err := w.noteChanges(ctx, t, st, p); err != nil {
			return err
		}
	}
	out, err := store.Isolate(ctx, w.tx, st, 0, p.n, w.refuse(t, p))
	if err != nil {
		return err
	}
	if p.again {
		return errAgain
	}
	o.Add(out)
	o.print.Add(p.print)
	if t.referred && len(t.write.Match) > 0 {
		return w.realKeys(ctx, t, st, p)
	}
	return nil
}

// straight writes staged rows without holding them against the tables before. Where
// they are refused, it takes them back and leaves what the engine said in first.
func (w *writer) straight(ctx context.Context, t *target, st store.Stage, p *pass, first **store.Violation) (bool, error) {
	twins, err := st.Twins(ctx)
	if err != nil || len(twins) > 0 {
		return false, err // held tells them
	}
	const mark = "evensprout_straight"
	if err := w.tx.Savepoint(ctx, mark); err != nil {
		return false, err
	}
	out, err := st.Apply(ctx, 0, p.n)
	if err != nil {
		if !errors.As(err, first) {
			return false, err
		}
		return false, errors.Join(w.tx.RollbackTo(ctx, mark), w.tx.Release(ctx, mark))
	}
	if err := w.tx.Release(ctx, mark); err != nil {
		return false, err
	}
	o := w.of(t)
	if t.write.Mode == store.Update && out.Updated < p.n {
		before := o.unmatched
		if err := w.matchless(ctx, t, st, p, o); err != nil {
			return false, err
		}
		out.Unchanged -= o.unmatched - before
	}
	o.Add(out)
	o.print.Add(p.print)
	if t.referred && len(t.write.Match) > 0 {
		return true, w.realKeys(ctx, t, st, p)
	}
	return true, nil
}

// held holds staged rows against the tables, decides about the guilty ones, and drops
// those that are left out.
func (w *writer) held(ctx context.Context, t *target, st store.Stage, p *pass, first *store.Violation) (bool, error) {
	guilty, err := st.Guilty(ctx)
	if err != nil {
		return false, err
	}
	var drop []int64
	for _, v := range guilty {
		if first != nil && first.Kind == v.Kind && first.Code != "" {
			v.Code = first.Code // what the engine calls it
			if v == guilty[0] {
				v.Message = first.Message
			}
		}
		if v.HasTwin {
			v.TwinLabel = t.Grow.Label(p.row(v.Twin))
		}
		again, err := w.decide(t, p.row(v.Row), v)
		if err != nil {
			return false, err
		}
		p.again = p.again || again
		drop = append(drop, v.Row)
		w.unprint(t, p.row(v.Row), p)
	}
	if p.again {
		return false, errAgain
	}
	return len(drop) > 0, st.Drop(ctx, drop)
}

// refuse decides about rows that the engine refuses one by one.
func (w *writer) refuse(t *target, p *pass) func(*store.Violation) error {
	return func(v *store.Violation) error {
		again, err := w.decide(t, p.row(v.Row), v)
		p.again = p.again || again
		w.unprint(t, p.row(v.Row), p)
		return err
	}
}

// matchless tells the rows that an update finds no row for.
func (w *writer) matchless(ctx context.Context, t *target, st store.Stage, p *pass, o *outcome) error {
	rows, err := st.Unmatched(ctx)
	if err != nil || len(rows) == 0 {
		return err
	}
	o.unmatched += int64(len(rows))
	for _, n := range rows {
		row := p.row(n)
		v := &store.Violation{Kind: store.RowCount, Row: n, Table: t.Table.Name, Message: "no row of " + t.Table.Name + " has this key", Constraint: "match"}
		var one grow.Batch
		w.grower().Grow(t.Grow, row, 1, &one)
		for _, c := range t.write.Match {
			v.Columns = append(v.Columns, c.Name)
			v.Values = append(v.Values, one.Row(0)[slices.Index(t.Columns, c)])
		}
		if w.policy(t, store.RowCount) == plan.Stop {
			return w.refusalOf(t, row, nil, v)
		}
		w.record.Reject(t.Grow, row)
		w.unprint(t, row, p)
		x := &Rejection{Refusal: w.refusalOf(t, row, nil, v)}
		for i, f := range t.Grow.Fields {
			if c := t.Columns[i]; c != nil && !f.Inner && !f.Hidden {
				x.Fields, x.Values = append(x.Fields, f.Name), append(x.Values, one.Row(0)[i])
			}
		}
		w.missing = append(w.missing, x)
	}
	return st.Drop(ctx, rows)
}

// realKeys notes the keys of rows that were there before.
func (w *writer) realKeys(ctx context.Context, t *target, st store.Stage, p *pass) error {
	at := slices.Index(t.Grow.Fields, t.Grow.Key)
	g := w.grower()
	var one grow.Batch
	return st.Keys(ctx, t.key, !t.unkeyed, func(n int64, key grow.Value) error {
		row := p.row(n)
		g.Grow(t.Grow, row, 1, &one)
		if one.Row(0)[at] == key {
			return g.Err()
		}
		w.rename(t, one.Row(0)[at], key)
		w.noteKeys(t, segment{first: row, rows: 1}, []grow.Value{key})
		return g.Err()
	})
}

// remember begins to watch for rows with equal match values in different chunks, where
// nothing else keeps them apart. Memory: 16 bytes and a map's overhead for each row.
func (w *writer) remember(t *target) {
	if t.seen == nil && len(t.write.Match) > 0 && !t.write.Distinct && t.Grow.Total() > w.most(order.Family{t.Target}) {
		t.seen = map[[2]uint64]bool{}
	}
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
		t.out.Inserted += o.Inserted
		t.out.Updated += o.Updated
		t.out.Unchanged += o.Unchanged
		t.out.Kept += o.Kept
		t.out.Removed += o.removed
		t.out.Unmatched += o.unmatched
		t.out.Fingerprint.Add(o.print)
	}
	w.result.Redrawn += w.redrawn
	return w.handOut()
}

// notes writes the journal's entries.
func (w *writer) notes(ctx context.Context) error {
	if len(w.state.journal) == 0 || w.o.DryRun {
		return nil
	}
	return w.tx.Note(ctx, w.state.journal)
}
