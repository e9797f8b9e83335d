package load

import (
	"context"
	"fmt"
	"iter"
	"maps"
	"slices"
	"time"

	"evensprout/internal/grow"
	"evensprout/internal/order"
	"evensprout/internal/plan"
	"evensprout/internal/store"
)

// WithdrawOptions say how to withdraw.
type WithdrawOptions struct {
	Commit  plan.Commit // CommitLoad: all or nothing; CommitChunk: resumable
	DryRun  bool
	Changed bool // take back also what others have changed since
	// Referring deletes also the rows that refer to those that go, and those that refer
	// to these.
	Referring bool
	Wait      time.Duration
	By        Operator
	Again     func(context.Context) (store.Store, error)
}

// Withdrawal is what was taken back.
type Withdrawal struct {
	Load     int64             `json:"load"`
	Plan     string            `json:"plan"`
	Unit     string            `json:"unit,omitempty"` // of a run of a unit; then Entities are tables
	DryRun   bool              `json:"dry_run"`
	Entities []WithdrawnEntity `json:"entities"` // in load order
	Left     int64             `json:"left"`
	LeftRows []LeftRow         `json:"left_rows,omitempty"` // the first of them
	// Also are the words by which the rows that are left can be taken back, too.
	Also  []string `json:"also,omitempty"`
	Files int      `json:"files,omitempty"` // placeholder files that were removed
	// FilesLeft are placeholder files that stay, because their plan was not named.
	FilesLeft int              `json:"files_left,omitempty"`
	Others    map[string]int64 `json:"others,omitempty"` // rows that referred to those that went, and went as well, by table
	Elapsed   time.Duration    `json:"elapsed_ns"`
	// Lost are fields whose columns are gone since, as Port.label.
	Lost []string `json:"lost,omitempty"`

	byEntity map[string]int // places in Entities
	left     map[*target][]grow.Row
}

func (w *Withdrawal) clone() Withdrawal {
	c := *w
	c.Entities, c.LeftRows, c.Others, c.left = slices.Clone(w.Entities), slices.Clone(w.LeftRows), maps.Clone(w.Others), maps.Clone(w.left)
	return c
}

// Rows is how many rows were taken back.
func (w *Withdrawal) Rows() int64 {
	n := int64(0)
	for _, e := range w.Entities {
		n += e.Removed + e.Restored + e.Returned
	}
	return n
}

// WithdrawnEntity is what was taken back of one entity.
type WithdrawnEntity struct {
	Entity   string `json:"entity"`
	Table    string `json:"table"`
	Removed  int64  `json:"removed"`  // rows that the load had added
	Restored int64  `json:"restored"` // rows that it had changed
	Returned int64  `json:"returned"` // rows that it had deleted
	Gone     int64  `json:"gone"`     // rows that were not there any more
	Left     int64  `json:"left"`
}

// LeftRow is a row that was left alone.
type LeftRow struct {
	Entity string `json:"entity"`
	Row    string `json:"row,omitempty"`
	Key    string `json:"key,omitempty"`
	Why    string `json:"why"`
}

// Continued tells that a later load rests on one.
type Continued struct {
	Number, By int64
	Unit       string // the later one is a run of a unit
}

func (e *Continued) Error() string {
	if e.Unit != "" {
		return fmt.Sprintf("load %d, a run of the unit %s, rests on load %d", e.By, e.Unit, e.Number)
	}
	return fmt.Sprintf("load %d added rows to what load %d had loaded", e.By, e.Number)
}

// HalfWithdrawn is an error after some steps of a withdrawal were committed.
type HalfWithdrawn struct {
	Err  error
	Load int64
}

func (e *HalfWithdrawn) Error() string { return e.Err.Error() }
func (e *HalfWithdrawn) Unwrap() error { return e.Err }

// Withdraw takes a load back: rows that it added go, children first; rows that it
// changed get their former contents, and rows that it deleted come back. What others
// have changed since, or now refer to, is left alone and told.
func Withdraw(ctx context.Context, s store.Store, number int64, o WithdrawOptions) (out *Withdrawal, err error) {
	err = patient(ctx, o.Wait, func() error {
		return held(ctx, s, number, o.By, func(p *Past) (err error) {
			out, err = p.withdraw(ctx, s, o)
			return err
		})
	})
	return out, err
}

func (p *Past) withdraw(ctx context.Context, s store.Store, o WithdrawOptions) (*Withdrawal, error) {
	if p.Entry.About.Unit != "" {
		return withdrawUnit(ctx, s, p.Entry, o)
	}
	e, number := p.Entry, p.Entry.Number
	p.learnLeft()
	if p.Entry.State == StateWithdrawn {
		return nil, &store.Fault{Kind: store.Refused, Message: fmt.Sprintf("load %d is withdrawn already", number), Hint: "evensprout history lists the loads"}
	}
	all, err := Entries(ctx, s, e.Plan)
	if err != nil {
		return nil, err
	}
	for _, x := range slices.Backward(all) {
		if x.Extra == e.Extra && x.Part > e.Part && x.State != StateWithdrawn && slices.ContainsFunc(x.About.Entities, func(a AboutEntity) bool { return a.Loaded }) {
			return nil, &Continued{number, x.Number, ""}
		}
		// Of a run that is partly withdrawn, what could go has gone.
		if x.About.Unit != "" && x.Number > number && x.State != StateWithdrawn && x.State != StatePartly && e.Extra == "" {
			return nil, &Continued{number, x.Number, x.About.Unit}
		}
	}
	began := time.Now()
	v := &withdrawal{Past: p, o: o}
	v.w = &writer{loader: p.l, store: s}
	defer v.w.close()
	if v.tables, err = s.Journal(ctx, false); err != nil {
		return nil, err
	}
	if v.reach, err = p.by.reach(e, v.tables, p.Plan.Database); err != nil {
		return nil, err
	}
	for _, t := range p.l.list {
		if err := v.reach(t.Table.Name); err != nil {
			return nil, err
		}
	}
	p.l.o.Again = o.Again
	// Rows that refer to each other by references which are held against the tables at the
	// commit, and which cannot be NULL, go in one transaction.
	if o.Commit == plan.CommitChunk && !o.DryRun && (len(v.ignored()) == 0 || e.State == StateWithdrawing) {
		err = v.inMany(ctx)
	} else {
		err = p.l.repeat(ctx, v.w, func() error { return v.inOne(ctx) })
	}
	if err != nil {
		if ctx.Err() != nil {
			err = context.Cause(ctx)
		}
		return nil, err
	}
	v.out.Elapsed = time.Since(began)
	return &v.out, nil
}

// withdrawal is the taking back of one load.
type withdrawal struct {
	*Past
	o      WithdrawOptions
	w      *writer
	tables *store.Journal
	reach  func(table string) error // tells if a table is not one that may be touched
	gone   map[chunkKey]bool        // steps that are done, of a withdrawal that broke off
	noted  map[chunkKey]bool        // steps that this one has done
	out    Withdrawal
	files  []placed // placeholder files of rows that are gone
	// unreturned counts deleted rows that could not be put back: their contents stay in the
	// journal.
	unreturned int64
	touched    map[*target]map[grow.Row]bool // rows that others had changed at first; nil: to be looked for
	changed    map[int]grow.Row              // those of out.LeftRows that others have changed, by their places
}

func (v *withdrawal) reset() {
	v.out = Withdrawal{Lost: v.Plan.Lost, Load: v.Entry.Number, Plan: v.Entry.Plan, DryRun: v.o.DryRun, byEntity: map[string]int{}, left: map[*target][]grow.Row{}}
	for _, t := range v.l.list {
		v.out.byEntity[t.Plan.Name] = len(v.out.Entities)
		v.out.Entities = append(v.out.Entities, WithdrawnEntity{Entity: t.Plan.Name, Table: t.Table.Name})
	}
	v.files, v.unreturned, v.changed = nil, 0, map[int]grow.Row{}
}

func (v *withdrawal) of(t *target) *WithdrawnEntity {
	return &v.out.Entities[v.out.byEntity[t.Plan.Name]]
}

// The words that take back rows, too, that are else left alone.
const (
	alsoChanged   = "changed"
	alsoReferring = "referring"
)

// leave notes a row that is left alone, and by which word it would go, too; empty if by
// none.
func (v *withdrawal) leave(t *target, row grow.Row, also, why string) {
	if also != "" && !slices.Contains(v.out.Also, also) {
		v.out.Also = append(v.out.Also, also)
		slices.Sort(v.out.Also)
	}
	v.out.Left++
	v.of(t).Left++
	v.out.left[t] = append(v.out.left[t], row)
	if len(v.out.LeftRows) < maxCompared {
		columns, _ := t.identity()
		v.out.LeftRows = append(v.out.LeftRows, LeftRow{Entity: t.Plan.Name, Row: t.Grow.Label(row), Key: v.keyText(v.w, t, row, columns), Why: why})
		if also == alsoChanged {
			v.changed[len(v.out.LeftRows)-1] = row
		}
	}
}

// mark notes how far the withdrawal is; once that is committed, the entry says so, too.
func (v *withdrawal) mark(ctx context.Context, state State) error {
	of := v.tables.Loads
	n, err := v.w.tx.Set(ctx, of, cells(of, "state", string(state)), cells(of, "number", v.Entry.Number, "state", string(v.Entry.State)))
	if err == nil && n != 1 {
		err = &store.Fault{Kind: store.Refused, Message: fmt.Sprintf("load %d is no longer %s: somebody else works on it", v.Entry.Number, v.Entry.State)}
	}
	return err
}

// inOne takes everything back in one transaction.
func (v *withdrawal) inOne(ctx context.Context) error {
	v.reset()
	if err := v.w.begin(ctx); err != nil {
		return err
	}
	err := v.lookFirst(ctx)
	if err == nil {
		err = v.mark(ctx, StateWithdrawn)
	}
	for step := range v.steps() {
		if err == nil {
			err = step(ctx)
		}
	}
	if err == nil {
		err = v.settle(ctx)
	}
	if err == nil {
		err = v.conclude(ctx)
	}
	if err == nil && v.o.DryRun {
		return v.w.rollback()
	}
	if err == nil {
		err = v.w.commit(ctx)
	}
	if err != nil {
		return err
	}
	return v.removeFiles()
}

// inMany takes rows back in steps, each in a transaction of its own. If it breaks off,
// it is done again: what is gone is gone.
func (v *withdrawal) inMany(ctx context.Context) error {
	v.reset()
	transaction := func(do func(context.Context) error) error {
		before := v.out.clone() // a step that is done again counts once
		return v.l.repeat(ctx, v.w, func() error {
			v.out = before.clone()
			if err := v.w.begin(ctx); err != nil {
				return err
			}
			if err := do(ctx); err != nil {
				return err
			}
			if err := v.settle(ctx); err != nil {
				return err
			}
			return v.w.commit(ctx)
		})
	}
	if v.Entry.State != StateWithdrawing {
		err := transaction(func(ctx context.Context) error {
			if err := v.lookFirst(ctx); err != nil {
				return err
			}
			return v.mark(ctx, StateWithdrawing)
		})
		if err != nil {
			return err
		}
		v.Entry.State = StateWithdrawing
	}
	v.gone, v.noted = map[chunkKey]bool{}, map[chunkKey]bool{}
	for _, c := range v.chunks {
		v.gone[c.key] = c.State == StateWithdrawn
	}
	for lost := 0; ; lost++ {
		for step := range v.steps() {
			if err := transaction(step); err != nil {
				return &HalfWithdrawn{err, v.Entry.Number}
			}
		}
		var gone bool
		if err := transaction(func(ctx context.Context) (err error) {
			gone, err = v.stepsGone(ctx)
			return err
		}); err != nil {
			return &HalfWithdrawn{err, v.Entry.Number}
		}
		if !gone {
			break
		}
		if lost == maxRepeats {
			return &HalfWithdrawn{errLost, v.Entry.Number}
		}
		// Another server answers, which has rows again that were removed: all is done again.
		if err := transaction(v.forgetSteps); err != nil {
			return &HalfWithdrawn{err, v.Entry.Number}
		}
		v.gone, v.noted = map[chunkKey]bool{}, map[chunkKey]bool{}
		v.reset()
	}
	err := transaction(func(ctx context.Context) error {
		if err := v.mark(ctx, StateWithdrawn); err != nil {
			return err
		}
		return v.conclude(ctx)
	})
	if err != nil {
		return &HalfWithdrawn{err, v.Entry.Number}
	}
	return v.removeFiles()
}

func (v *withdrawal) settle(ctx context.Context) error {
	if err := v.w.tx.Settle(ctx); err != nil {
		return v.l.refusal(nil, nil, err)
	}
	return nil
}

// conclude notes the rows that are left, or removes what is not needed any more.
func (v *withdrawal) conclude(ctx context.Context) error {
	if err := v.nameChangers(ctx); err != nil {
		return err
	}
	chunks := v.tables.Chunks
	key := leftKey(v.Entry.Number)
	if _, err := v.w.tx.Delete(ctx, chunks, key.cells(chunks)); err != nil {
		return err
	}
	var log chunkLog
	for _, t := range v.l.list {
		rows := slices.Clone(v.out.left[t])
		slices.SortFunc(rows, func(a, b grow.Row) int {
			return loggedRows{Given: a.Side, First: a.N}.compare(loggedRows{Given: b.Side, First: b.N})
		})
		log.Left = appendRows(log.Left, t.Plan.Name, slices.Compact(rows))
	}
	if v.unreturned == 0 && log.empty() {
		return v.clean(ctx)
	}
	record, err := log.pack()
	if err != nil {
		return err
	}
	if err := v.w.tx.Add(ctx, chunks, append(key.cells(chunks), cells(chunks, "state", string(StatePartly), "result", "{}", "record", record)...)); err != nil {
		return err
	}
	if err := v.forgetSteps(ctx); err != nil {
		return err
	}
	of := v.tables.Loads
	_, err = v.w.tx.Set(ctx, of, cells(of, "state", string(StatePartly)), cells(of, "number", v.Entry.Number))
	return err
}

// leftKey is the key under which a withdrawal notes the rows that it left.
func leftKey(load int64) chunkKey { return chunkKey{load: load, family: -2} }

// learnLeft learns which rows a withdrawal before this one has left.
func (p *Past) learnLeft() {
	for _, c := range p.chunks {
		if c.key != leftKey(p.Entry.Number) {
			continue
		}
		p.left = map[string][]loggedRows{}
		for _, x := range c.Log.Left {
			p.left[x.Entity] = append(p.left[x.Entity], x)
		}
	}
}

// clean removes previous contents, which are not needed any more.
func (v *withdrawal) clean(ctx context.Context) error {
	if _, err := v.w.tx.Delete(ctx, v.tables.Contents, cells(v.tables.Contents, "load", v.Entry.Number)); err != nil {
		return err
	}
	return v.forgetSteps(ctx)
}

// forgetSteps removes the notes of the steps that are done.
func (v *withdrawal) forgetSteps(ctx context.Context) error {
	_, err := v.w.tx.Delete(ctx, v.tables.Chunks, cells(v.tables.Chunks, "load", v.Entry.Number, "state", string(StateWithdrawn)))
	return err
}

// once does a step unless it was done before, and notes that it is done, where it is
// committed on its own. The key is not that of any chunk.
func (v *withdrawal) once(phase int64, run order.Run, do func(context.Context) error) func(context.Context) error {
	if v.gone == nil {
		return do
	}
	key := keyOf(v.Entry.Number, v.Plan, run)
	key.family = -phase - key.family
	return func(ctx context.Context) error {
		if v.gone[key] {
			return nil
		}
		if err := do(ctx); err != nil {
			return err
		}
		of := v.tables.Chunks
		v.noted[key] = true
		return v.w.tx.Add(ctx, of, append(key.cells(of), cells(of, "state", string(StateWithdrawn))...))
	}
}

// stepsGone tells whether steps that were committed are not in the journal any more.
func (v *withdrawal) stepsGone(ctx context.Context) (bool, error) {
	chunks, err := Chunks(ctx, v.w.store, v.Entry.Number)
	if err != nil {
		return false, err
	}
	left := maps.Clone(v.noted)
	for _, c := range chunks {
		if c.State == StateWithdrawn {
			delete(left, c.key)
		}
	}
	return len(left) > 0, nil
}

// The phases of a withdrawal whose steps are noted, as keys of the journal.
const (
	phaseRemove = 1_000_000
	phaseUnlink = 2_000_000
)

// steps are the parts of a withdrawal, in their order: changed rows get their former
// contents, references that close circles become NULL, added rows go, children first,
// and deleted ones come back.
func (v *withdrawal) steps() iter.Seq[func(context.Context) error] {
	return func(yield func(func(context.Context) error) bool) {
		for _, t := range slices.Backward(v.l.list) {
			if t.write.Mode != store.Upsert && t.write.Mode != store.Update {
				continue
			}
			if !yield(func(ctx context.Context) error { return v.restoreChanged(ctx, t) }) {
				return
			}
		}
		for _, t := range v.l.list {
			if len(t.late) == 0 {
				continue
			}
			for run := range v.runs(v.w, t, StagedChunk) {
				if !yield(v.once(phaseUnlink, run, func(ctx context.Context) error { return v.unlink(ctx, t, run) })) {
					return
				}
			}
		}
		for _, t := range slices.Backward(v.l.list) {
			if t.write.Mode == store.Update {
				continue
			}
			if knot := v.knotOf(t); knot != nil {
				if t == knot[len(knot)-1] && !yield(v.once(phaseRemove, order.Run{Target: t.Target}, func(ctx context.Context) error { return v.removeKnot(ctx, knot) })) {
					return
				}
				continue
			}
			runs := slices.Collect(v.runs(v.w, t, v.size()))
			for _, run := range slices.Backward(runs) {
				if !yield(v.once(phaseRemove, run, func(ctx context.Context) error { return v.remove(ctx, t, run) })) {
					return
				}
			}
		}
		for _, t := range v.l.list {
			if len(t.late) > 0 && len(v.out.left[t]) > 0 && !yield(func(ctx context.Context) error { return v.relink(ctx, t) }) {
				return
			}
		}
		if yield(v.returnRemoved) {
			yield(v.tellUnkept)
		}
	}
}

// size is how many rows are removed together.
func (v *withdrawal) size() uint64 {
	if v.Entry.About.Chunk > 0 && v.o.Commit == plan.CommitChunk {
		return v.Entry.About.Chunk
	}
	return StagedChunk
}
