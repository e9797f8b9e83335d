package load

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"evensprout/internal/grow"
	"evensprout/internal/plan"
	"evensprout/internal/store"

	"github.com/google/uuid"
)

// UnitResult is what a run of a unit did.
type UnitResult struct {
	Unit         string        `json:"unit"`
	Load         int64         `json:"load,omitempty"` // its number in the journal; 0 if it is not there
	Occasions    int64         `json:"occasions"`      // all that there are
	Done         int64         `json:"done"`           // by this run
	Earlier      int64         `json:"earlier"`        // by earlier runs, or by others at the same time
	Rejected     int64         `json:"rejected"`
	Together     uint64        `json:"together"` // occasions in one transaction; 0: all
	Transactions int           `json:"transactions"`
	Repeated     int           `json:"repeated"`
	AtOnce       int64         `json:"at_once"` // occasions that were done many at a time
	DryRun       bool          `json:"dry_run"`
	Undo         bool          `json:"undo"` // it can be withdrawn
	Steps        []StepResult  `json:"steps"`
	Elapsed      time.Duration `json:"elapsed_ns"`

	Statements []store.Statement `json:"statements,omitempty"`
	Sent       int64             `json:"statements_sent"`
	Rejections []*Refusal        `json:"rejections,omitempty"` // the first of them
}

// StepResult is what a step did over all occasions.
type StepResult struct {
	Step  string `json:"step"` // such as update Sailing
	Table string `json:"table,omitempty"`
	Rows  int64  `json:"rows"` // found, added, changed or removed
}

// UnitPartial is an error of a unit, of which so many occasions were committed before.
type UnitPartial struct {
	Err       error
	Unit      string
	Occasions int64
	Load      int64
}

func (p *UnitPartial) Error() string { return p.Err.Error() }
func (p *UnitPartial) Unwrap() error { return p.Err }

// occasionName is what an occasion is known by in the journal: a digest of the plan, the
// unit and what tells it from the others.
type occasionName [16]byte

// occasion is one occasion of a unit while it is done.
type occasion struct {
	row    grow.Row
	name   occasionName
	fields []grow.Value // of the occasion
	slots  []grow.Value
	known  []bool
}

// unitRun is a run of a unit.
type unitRun struct {
	*writer
	unit   *plan.CompiledUnit
	steps  []*unitStep
	result *UnitResult
	salt   string // tells a run that repeats what is done from the first one
	ledger ledger // which occasions are done; nil without a journal
	counts map[occasionName]uint32
	set    bool // many occasions can be done at once, see canDoManyAtOnce
	keys   [][]keyOfStep

	// Of the transaction.
	first   uint64 // its first occasion
	undo    undoLog
	touched []int64 // rows, by step
	done    int64
	earlier int64
	atonce  int64
	refused []*Rejection
}

// pieceSize is how many occasions are done together at most, where that is possible.
const pieceSize = 1000

// RunUnit does the occasions of a unit that are not done yet; insist does them all. What
// stops it is rolled back up to the last commit, and the error tells why: a *Refusal, a
// *store.Fault, a *grow.RowError, or *Broken; a *UnitPartial around it tells what was
// committed.
func RunUnit(ctx context.Context, c *plan.Compiled, u *plan.CompiledUnit, s store.Store, o Options, insist bool) (*UnitResult, error) {
	l, err := newLoader(c, s, o)
	if err != nil {
		return nil, err
	}
	l.repeats = unitRepeats
	before := s.Statements()
	r := &unitRun{writer: &writer{loader: l, store: s}, unit: u, counts: map[occasionName]uint32{}}
	defer r.close()
	defer func() {
		if r.journal != nil && r.journal.number > 0 {
			unlockPlan(ctx, r.store, runName(c.Plan.Name, r.journal.number))
		}
	}()
	r.result = &UnitResult{Unit: u.Plan.Name, Together: u.Plan.Together, DryRun: o.DryRun}
	l.reset()
	if o.Journal != nil {
		if err := r.openUnit(ctx, insist); err != nil {
			return nil, err
		}
	}
	if err := r.prepareSteps(); err != nil {
		return nil, errors.Join(err, r.forgetUnit(ctx))
	}
	r.result.Undo = r.undoes()
	err = r.run(ctx)
	if err == nil {
		err = r.conclude(ctx)
	}
	if err != nil {
		if ctx.Err() != nil {
			err = context.Cause(ctx)
		}
		p := &UnitPartial{Err: err, Unit: u.Plan.Name}
		if r.result.Transactions > 0 && !o.DryRun {
			p.Occasions, p.Load = r.result.Done, r.result.Load
		} else if failed := r.forgetUnit(context.WithoutCancel(ctx)); failed != nil {
			p.Load = r.result.Load // its entry stays, and says nothing
		}
		return nil, p
	}
	l.count(r.store)
	r.result.Statements = since(before, l.statements.Statements())
	for _, st := range r.result.Statements {
		r.result.Sent += st.Times
	}
	r.result.Repeated = l.result.Repeated
	r.result.Elapsed = time.Since(l.began)
	return r.result, nil
}

// since are the statements that ran after some were counted.
func since(before, after []store.Statement) []store.Statement {
	was := map[string]store.Statement{}
	for _, s := range before {
		was[s.Text] = s
	}
	var out []store.Statement
	for _, s := range after {
		b := was[s.Text]
		s.Times, s.Rows, s.Elapsed = s.Times-b.Times, s.Rows-b.Rows, s.Elapsed-b.Elapsed
		if s.Times > 0 {
			out = append(out, s)
		}
	}
	return out
}

// unitRepeats bounds how often a transaction of a unit is begun again: units are often
// run beside each other, over the same rows.
const unitRepeats = 50

// openUnit writes the run down, in a transaction of its own: its occasions follow, each
// in the transaction that does it.
func (r *unitRun) openUnit(ctx context.Context, insist bool) error {
	if err := r.openJournal(ctx, r.store); err != nil || r.journal == nil {
		return err
	}
	j := r.journal
	j.extra = UnitSet(r.unit.Plan.Name)
	for {
		earlier, err := readEntries(ctx, r.store, j.tables, cells(j.tables.Loads, "plan", r.plan.Plan.Name, "extra", j.extra), false)
		if err != nil {
			return err
		}
		j.part = 1
		known := false
		for _, e := range earlier {
			j.part = e.Part + 1
			if e.State == StateWithdrawing {
				return &Unfinished{e}
			}
			if e.State == StateWithdrawn {
				continue
			}
			known = true
			if insist && e.State == StateDone {
				r.salt = fmt.Sprintf("after load %d", e.Number) // the same when it is done again after a crash
			}
		}
		if r.traits.Writers == 1 {
			r.ledger = &packedLedger{run: r, done: map[occasionName]int64{}, read: map[int64]int{}, ended: map[int64]bool{}}
		} else {
			r.ledger = &rowLedger{run: r, watch: known}
		}
		if err := r.keysOfLoads(ctx); err != nil || r.o.DryRun {
			return err
		}
		if err = r.enterUnit(ctx); !errors.Is(err, errFenced) {
			return err
		}
	}
}

// unitPrefix marks sets of rows that are runs of units.
const unitPrefix = "unit:"

// UnitSet is the name under which the journal knows runs of a unit.
func UnitSet(unit string) string { return unitPrefix + unit }

// IsUnitSet tells whether a name is kept for runs of units.
func IsUnitSet(extra string) bool { return strings.HasPrefix(extra, unitPrefix) }

func (r *unitRun) enterUnit(ctx context.Context) error {
	j := r.journal
	j.about = About{Format: journalFormat, Version: r.o.Journal.Version, Edition: r.plan.Set.Edition, Seed: r.plan.Set.Seed, Commit: plan.CommitChunk, Undo: j.undo, Unit: r.unit.Plan.Name}
	if !r.plan.Set.Clock.IsNull() {
		j.about.ClockSet = r.plan.Set.Clock.String()
	}
	about, err := json.Marshal(j.about)
	if err != nil {
		return err
	}
	j.token = uuid.NewString()
	of := j.tables.Loads
	err = r.repeat(ctx, r.writer, func() error {
		if err := r.begin(ctx); err != nil {
			return err
		}
		err := r.tx.Add(ctx, of, cells(of, "plan", r.plan.Plan.Name, "extra", j.extra, "part", j.part, "token", j.token, "state", string(StateOpen),
			"began", moment(r.began), "actor", j.actor, "about", string(about)))
		var v *store.Violation
		if errors.As(err, &v) && v.Kind == store.Unique {
			return errFenced // or it is this one, whose commit was not answered
		}
		if err != nil {
			return err
		}
		return r.commit(ctx)
	})
	if err != nil && !errors.Is(err, errFenced) {
		return err
	}
	found, failed := readEntries(ctx, r.store, j.tables, cells(of, "token", j.token), false)
	if failed != nil {
		return failed
	}
	if len(found) == 0 {
		return err
	}
	j.number, r.result.Load = found[0].Number, found[0].Number
	return lockPlan(ctx, r.store, runName(r.plan.Plan.Name, j.number))
}

// runName is what a run of a unit locks while it goes on, so that nobody withdraws it
// meanwhile. Runs do not lock each other.
func runName(plan string, load int64) string { return fmt.Sprintf("%s, load %d", plan, load) }

// keysOfLoads learns which keys the database gave to rows that occasions refer to.
func (r *unitRun) keysOfLoads(ctx context.Context) error {
	entries, err := Entries(ctx, r.store, r.plan.Plan.Name)
	if err != nil {
		return err
	}
	m := newMemory(r.plan)
	for _, e := range entries {
		if e.Extra != "" || e.State != StateDone {
			continue
		}
		chunks, err := Chunks(ctx, r.store, e.Number)
		if err != nil {
			return err
		}
		for _, c := range chunks {
			if err := m.learn(c.Log); err != nil {
				return nil // the plan has fewer rows than then: it is used as it is
			}
		}
	}
	r.memory = m
	r.reset()
	return nil
}

// forgetUnit removes the entry of a run that committed nothing.
func (r *unitRun) forgetUnit(ctx context.Context) error {
	if r.journal == nil || r.journal.number == 0 {
		return nil
	}
	r.result.Load = 0
	if err := r.rollback(); err != nil {
		return err
	}
	if err := r.begin(ctx); err != nil {
		return err
	}
	of := r.journal.tables.Loads
	if _, err := r.tx.Delete(ctx, of, cells(of, "number", r.journal.number)); err != nil {
		return err
	}
	return r.commit(ctx)
}

// begin opens a transaction of the unit.
func (r *unitRun) begin(ctx context.Context) error {
	tx, err := r.store.Begin(ctx, store.TxOptions{Isolation: store.Isolation(r.unit.Plan.Isolation)})
	r.tx = tx
	return err
}

// run does all occasions.
func (r *unitRun) run(ctx context.Context) error {
	total := r.unit.Grow.Total()
	r.result.Occasions = int64(total)
	for _, s := range r.steps {
		r.result.Steps = append(r.result.Steps, StepResult{Step: s.Label(), Table: s.tableName()})
	}
	size := r.unit.Plan.Together
	if size == 0 || r.o.DryRun {
		size = max(total, 1)
	}
	if r.clears() {
		return r.whole(ctx, total)
	}
	if size <= pieceSize {
		return r.small(ctx, total, size)
	}
	for first := uint64(0); first < total; first += size {
		if err := r.large(ctx, first, min(size, total-first)); err != nil {
			return err
		}
		r.progressed(min(first+size, total), total)
	}
	return nil
}

func (r *unitRun) progressed(done, total uint64) {
	if r.o.Progress != nil {
		r.o.Progress(done, total)
	}
}

// small does transactions whose occasions stand in memory. The next ones are grown while
// those before are written.
func (r *unitRun) small(ctx context.Context, total, size uint64) error {
	type grown struct {
		xs  []*occasion
		err error
	}
	ahead := make(chan grown, 1)
	ctx, stop := context.WithCancel(ctx)
	var growing sync.WaitGroup
	defer growing.Wait() // the file is closed once nobody reads it
	defer stop()
	growing.Go(func() {
		defer close(ahead)
		block := max(size, pieceSize/size*size)
		for first := uint64(0); first < total; first += block {
			xs, err := r.occasions(first, min(block, total-first))
			select {
			case ahead <- grown{xs, err}:
			case <-ctx.Done():
				return
			}
			if err != nil {
				return
			}
		}
	})
	first := uint64(0)
	for g := range ahead {
		if g.err != nil {
			return g.err
		}
		for xs := range slices.Chunk(g.xs, int(size)) {
			if err := r.attempt(ctx, first, func() error { return r.fenced(ctx, xs) }); err != nil {
				return err
			}
			first += uint64(len(xs))
			r.progressed(first, total)
		}
	}
	return ctx.Err()
}

func (r *unitRun) clears() bool {
	return slices.ContainsFunc(r.steps, func(s *unitStep) bool { return s.Word == plan.StepClear })
}

// whole does a unit that begins by emptying tables: all its occasions are one, which is
// known by all that they hold.
func (r *unitRun) whole(ctx context.Context, total uint64) error {
	h := sha256.New()
	g := grow.NewGrower(r.plan.Set)
	defer g.Close()
	var b []byte
	for n := range total {
		b, _ = g.AppendIdentity(b[:0], r.unit.Grow, r.rowAt(n))
		fmt.Fprintf(h, "%d ", len(b))
		h.Write(b)
	}
	if err := g.Err(); err != nil {
		return err
	}
	r.counts = map[occasionName]uint32{}
	name := r.named(h.Sum(nil), 0)
	return r.attempt(ctx, 0, func() error {
		fresh, err := r.fresh(ctx, []occasionName{name})
		if err != nil {
			return err
		}
		if len(fresh) == 0 {
			r.earlier += int64(total)
			return nil
		}
		for i, s := range r.steps {
			if s.Word == plan.StepClear {
				if err := r.clearTable(ctx, i); err != nil {
					return err
				}
			}
		}
		for from := uint64(0); from < total; from += pieceSize {
			piece, err := r.occasions(from, min(pieceSize, total-from))
			if err == nil {
				err = r.piece(ctx, piece)
			}
			if err == nil {
				err = r.keepUndo(ctx)
			}
			if err != nil {
				return err
			}
		}
		return nil
	})
}

// rowAt is the row of an occasion by its place: those written by hand come first.
func (r *unitRun) rowAt(n uint64) grow.Row {
	if side := uint64(len(r.unit.Grow.Side)); n >= side {
		return grow.Row{N: n - side}
	}
	return grow.Row{N: n, Side: true}
}

// named is the name of an occasion.
func (r *unitRun) named(identity []byte, copies uint32) occasionName {
	h := sha256.New()
	for _, part := range []string{r.plan.Plan.Name, r.unit.Plan.Name, r.salt} {
		fmt.Fprintf(h, "%d %s", len(part), part)
	}
	if r.unit.Grow.Table == nil {
		fmt.Fprintf(h, "seed %s", r.plan.Set.Seed)
	}
	fmt.Fprintf(h, " %d ", copies)
	h.Write(identity)
	return occasionName(h.Sum(nil)[:16])
}

// occasions grows occasions, with their names.
func (r *unitRun) occasions(first, n uint64) ([]*occasion, error) {
	var out []*occasion
	e := r.unit.Grow
	g := r.grower()
	for at := first; at < first+n; {
		row := r.rowAt(at)
		count := min(first+n-at, 64) // few, so that a line is in memory still when it is named
		if row.Side {
			count = min(count, uint64(len(e.Side))-row.N)
		}
		var b grow.Batch
		g.Grow(e, row, int(count), &b)
		if err := g.Err(); err != nil {
			return nil, err
		}
		r.translateOccasions(&b)
		for i := range b.Len {
			x := &occasion{row: b.At(i), fields: b.Row(i), slots: make([]grow.Value, len(r.unit.Slots)), known: make([]bool, len(r.unit.Slots))}
			identity, once := g.AppendIdentity(nil, e, x.row)
			x.name = r.named(identity, 0)
			if !once {
				// Of equal lines the first is told from the second. Memory: a name for
				// each line that differs.
				copies := r.counts[x.name]
				r.counts[x.name] = copies + 1
				x.name = r.named(identity, copies)
			}
			out = append(out, x)
		}
		if err := g.Err(); err != nil {
			return nil, err
		}
		at += count
	}
	return out, nil
}

// translateOccasions puts keys that rows really have in the place of planned ones.
func (r *unitRun) translateOccasions(b *grow.Batch) {
	for j, f := range r.unit.Grow.Fields {
		to := r.byGrow[f.Target()]
		if to == nil || f.Stored() != to.Grow.Key || len(r.real[to.Grow]) == 0 {
			continue
		}
		for i := range b.Len {
			if key, ok := r.real[to.Grow][b.Row(i)[j]]; ok {
				b.Row(i)[j] = key
			}
		}
	}
}

// large does occasions in one transaction, which are too many to stand in memory.
func (r *unitRun) large(ctx context.Context, first, n uint64) error {
	counts := r.counts
	return r.attempt(ctx, first, func() error {
		r.counts = maps.Clone(counts) // a second attempt must not count equal lines again
		for from := first; from < first+n; from += pieceSize {
			piece, err := r.occasions(from, min(pieceSize, first+n-from))
			if err == nil {
				err = r.fenced(ctx, piece)
			}
			if err == nil {
				err = r.keepUndo(ctx) // memory does not grow with the transaction
			}
			if err != nil {
				return err
			}
		}
		return nil
	})
}

// fenced does the occasions of a piece that are not done yet.
func (r *unitRun) fenced(ctx context.Context, piece []*occasion) error {
	names := make([]occasionName, len(piece))
	for i, x := range piece {
		names[i] = x.name
		clear(x.known)
	}
	fresh, err := r.fresh(ctx, names)
	if err != nil {
		return err
	}
	r.earlier += int64(len(piece) - len(fresh))
	todo := make([]*occasion, len(fresh))
	for i, at := range fresh {
		todo[i] = piece[at]
	}
	if len(todo) == 0 {
		return nil
	}
	return r.piece(ctx, todo)
}

// attempt does something in a transaction, again after a transient fault.
func (r *unitRun) attempt(ctx context.Context, first uint64, do func() error) error {
	return r.repeat(ctx, r.writer, func() error {
		r.first, r.undo, r.refused, r.done, r.earlier, r.atonce = first, undoLog{}, nil, 0, 0, 0
		r.touched = make([]int64, len(r.steps))
		if err := r.begin(ctx); err != nil {
			return err
		}
		if r.ledger != nil {
			r.at, r.seq = chunkKey{load: r.journal.number, family: familyUnit, first: int64(r.first)}, 0
			if err := r.ledger.begin(ctx); err != nil {
				return err
			}
		}
		if err := do(); err != nil {
			return err
		}
		return r.finishUnit(ctx)
	})
}

// finishUnit writes down how to take the transaction back, and commits it.
func (r *unitRun) finishUnit(ctx context.Context) error {
	if err := r.tx.Settle(ctx); err != nil {
		return r.refusal(nil, nil, err)
	}
	if r.unit.Plan.Together == 0 || r.o.DryRun {
		if err := r.always(ctx, r.tx); err != nil {
			return err
		}
	}
	if r.o.DryRun {
		if err := r.rollback(); err != nil {
			return err
		}
		return r.took()
	}
	if r.done == 0 { // nothing to commit
		if err := r.rollback(); err != nil {
			return err
		}
		return r.took()
	}
	if r.ledger != nil {
		if err := r.ledger.end(ctx); err != nil {
			return err
		}
	}
	if err := r.keepUndo(ctx); err != nil {
		return err
	}
	if err := ctx.Err(); err != nil {
		return err
	}
	if err := r.tx.Commit(context.WithoutCancel(ctx)); err != nil {
		return r.refusal(nil, nil, err)
	}
	r.tx = nil
	r.result.Transactions++
	if r.ledger != nil {
		r.ledger.committed()
	}
	return r.took()
}

// keepUndo writes down how to take back what was done since it was last called.
func (r *unitRun) keepUndo(ctx context.Context) error {
	if !r.undoes() {
		return nil
	}
	packets, err := r.undo.pack()
	if err == nil {
		err = r.keepPackets(ctx, r.unit.Plan.Name, "", contentUnit, packets)
	}
	r.undo = undoLog{}
	return err
}

// took counts what the transaction did, once it cannot be taken back, and hands out
// what was rejected.
func (r *unitRun) took() error {
	for i, n := range r.touched {
		r.result.Steps[i].Rows += n
	}
	r.result.Done += r.done
	r.result.Earlier += r.earlier
	r.result.AtOnce += r.atonce
	for _, x := range r.refused {
		r.result.Rejected++
		if len(r.result.Rejections) < maxTold {
			r.result.Rejections = append(r.result.Rejections, x.Refusal)
		}
		if r.o.Rejected != nil {
			if err := r.o.Rejected(*x); err != nil {
				return err
			}
		}
	}
	return nil
}

// conclude writes down that the run is done, or takes its entry back if it did nothing.
func (r *unitRun) conclude(ctx context.Context) error {
	if r.o.DryRun {
		return nil
	}
	if r.journal == nil {
		return nil
	}
	if r.result.Done == 0 {
		return r.forgetUnit(ctx)
	}
	r.result.Elapsed = time.Since(r.began)
	text, err := json.Marshal(&Result{Unit: r.result})
	if err != nil {
		return err
	}
	of := r.journal.tables.Loads
	return r.repeat(ctx, r.writer, func() error {
		if err := r.begin(ctx); err != nil {
			return err
		}
		if _, err := r.tx.Set(ctx, of, cells(of, "state", string(StateDone), "ended", moment(time.Now()), "summary", string(text)), cells(of, "number", r.journal.number)); err != nil {
			return err
		}
		return r.commit(ctx)
	})
}

// policy is what to do about a refused occasion.
func (r *unitRun) policy(kind store.ViolationKind) plan.Policy {
	for _, p := range []plan.Policies{r.o.Policies, r.unit.Plan.OnViolation, r.plan.Plan.OnViolation} {
		for _, name := range []string{string(kind), plan.AllKinds} {
			if policy, ok := p[name]; ok && policy != plan.Redraw {
				return policy
			}
		}
	}
	return plan.Stop
}

// reject leaves an occasion out.
func (r *unitRun) reject(ctx context.Context, x *occasion, refusal *Refusal) error {
	if r.ledger != nil {
		if err := r.ledger.forget(ctx, x.name); err != nil {
			return err
		}
	}
	if most := r.o.MaxRejects; most > 0 && r.result.Rejected+int64(len(r.refused))+1 > most {
		return &TooMany{refusal, most}
	}
	out := &Rejection{Refusal: refusal}
	for i, f := range r.unit.Grow.Fields {
		if !f.Inner {
			out.Fields, out.Values = append(out.Fields, f.Name), append(out.Values, x.fields[i])
		}
	}
	r.refused = append(r.refused, out)
	return nil
}

// refuse says in the plan's words why an occasion was refused.
func (r *unitRun) refuse(x *occasion, step int, v *store.Violation) *Refusal {
	s := r.steps[step]
	out := &Refusal{
		Kind: v.Kind, Entity: r.unit.Plan.Name, Row: r.unit.Grow.Label(x.row), Step: fmt.Sprintf("%d: %s", step+1, s.Label()), Table: cmp.Or(v.Table, s.tableName()),
		Constraint: v.Constraint, Columns: v.Columns, Refers: v.Refers, Code: v.Code, Message: v.Message, Fields: v.Columns,
	}
	for _, value := range v.Values {
		out.Values = append(out.Values, value.String())
	}
	if len(v.Other) > 0 {
		out.Other = keyText(v.Other)
	}
	if !x.row.Side {
		if rows, ok := r.unit.Grow.Table.(interface{ Place(uint64) (string, int) }); ok {
			if file, line := rows.Place(x.row.N); line > 0 {
				out.Place = fmt.Sprintf("%s:%d", file, line)
			}
		}
	}
	out.Hint = unitHint(out, s)
	return out
}

func unitHint(r *Refusal, s *unitStep) string {
	switch r.Kind {
	case store.RowCount:
		return "correct the occasion, or say expect: at the step; --on-violation row_count=skip leaves such occasions out"
	case store.Requirement:
		return "correct the occasion; --on-violation requirement=skip leaves such occasions out"
	case store.ForeignKey:
		return "look the row up with find, so that its key is right"
	case store.Unique:
		return "the row is there already: say upsert in place of insert, or --on-violation unique=skip"
	}
	return fmt.Sprintf("correct the occasion; --on-violation %s=skip leaves such occasions out", r.Kind)
}
