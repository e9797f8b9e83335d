package withdraw

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"iter"
	"maps"
	"slices"
	"time"

	"evensprout/internal/archive"
	"evensprout/internal/load"
	"evensprout/internal/replay"

	"evensprout/internal/diag"
	"evensprout/internal/journal"

	"evensprout/internal/grow"
	"evensprout/internal/order"
	"evensprout/internal/plan"
	"evensprout/internal/schema"
	"evensprout/internal/store"
)

// Options say how to withdraw.
type Options struct {
	Commit  plan.Commit // CommitLoad: all or nothing; CommitChunk: resumable
	DryRun  bool
	Changed bool // take back also what others have changed since
	// Referring deletes also the rows that refer to those that go, and those that refer
	// to these.
	Referring bool
	Wait      time.Duration // for another run of the plan
	Patience  load.Patience
	By        archive.Operator
	Again     func(context.Context) (store.Store, error)
	InPlace   bool // of Reload: write only what differs, if that can be done
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
	FilesLeft int `json:"files_left,omitempty"`
	// rows that referred to those that went, and went as well, by table
	Others  map[string]int64 `json:"others,omitempty"`
	Elapsed time.Duration    `json:"elapsed_ns"`
	// Lost are fields whose columns are gone since, as Port.label.
	Lost []string `json:"lost,omitempty"`

	byEntity map[string]int // places in Entities
	left     map[*load.Target][]grow.Row
}

// clone is a copy, because a withdrawal that is tried again begins anew.
func (w *Withdrawal) clone() Withdrawal {
	c := *w
	c.Entities, c.LeftRows, c.Others, c.left = slices.Clone(
		w.Entities,
	), slices.Clone(
		w.LeftRows,
	), maps.Clone(
		w.Others,
	), maps.Clone(
		w.left,
	)
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
		return fmt.Sprintf("load %d, a run of the unit %s, depends on load %d", e.By, e.Unit, e.Number)
	}
	return fmt.Sprintf("load %d added rows to what load %d had loaded", e.By, e.Number)
}

// AlreadyError tells that a load is withdrawn already.
type AlreadyError struct{ Load int64 }

func (e *AlreadyError) Error() string { return fmt.Sprintf("load %d is already withdrawn", e.Load) }

// Report says where the loads are listed.
func (e *AlreadyError) Report() diag.Report {
	return diag.Report{Kind: diag.Usage, Message: e.Error(), Hint: "evensprout history lists the loads", Members: map[string]any{"fault": store.Refused}}
}

// HalfWithdrawn is an error after some steps of a withdrawal were committed.
type HalfWithdrawn struct {
	Err  error
	Load int64
}

func (e *HalfWithdrawn) Error() string { return e.Err.Error() }
func (e *HalfWithdrawn) Unwrap() error { return e.Err }

// Run takes a load back: rows that it added go, children first; rows that it
// changed get their former contents, and rows that it deleted come back. What others
// have changed since, or now refer to, is left alone and told.
func Run(ctx context.Context, s store.Store, number int64, o Options) (out *Withdrawal, err error) {
	err = journal.WhileLocked(ctx, o.Wait, o.Patience.Waits, func() error {
		return load.RecallLocked(ctx, s, number, o.By, func(p *load.PastLoad) (err error) {
			out, err = withdraw(ctx, p, s, o)
			return err
		})
	})
	return out, err
}

// withdraw is Run for who holds the plan's lock.
func withdraw(ctx context.Context, p *load.PastLoad, s store.Store, o Options) (*Withdrawal, error) {
	if p.Entry.About.Unit != "" {
		return withdrawUnit(ctx, s, p.Entry, o)
	}
	e, number := p.Entry, p.Entry.Number
	p.LearnLeft()
	if p.Entry.State == journal.StateWithdrawn {
		return nil, &AlreadyError{number}
	}

	all, err := p.Session.Read.On(s).Entries(ctx, e.Plan)
	if err != nil {
		return nil, err
	}
	for _, x := range slices.Backward(all) {
		if x.Extra == e.Extra && x.Part > e.Part && x.State != journal.StateWithdrawn &&
			slices.ContainsFunc(x.About.Entities, func(a journal.AboutEntity) bool { return a.Loaded }) {
			return nil, &Continued{number, x.Number, ""}
		}
		// Of a run that is partly withdrawn, what could go has gone.
		if x.About.Unit != "" && x.Number > number && x.State != journal.StateWithdrawn &&
			x.State != journal.StatePartly &&
			e.Extra == "" {
			return nil, &Continued{number, x.Number, x.About.Unit}
		}
	}

	began := time.Now()
	v := &withdrawal{PastLoad: p, o: o}
	v.w = &load.Writer{Session: p.Session, Store: s}
	defer v.w.Close()
	if v.tables, err = s.Journal(ctx, false); err != nil {
		return nil, err
	}
	if v.reach, err = p.By.Reach(e, v.tables, p.Plan.Database); err != nil {
		return nil, err
	}
	for _, t := range p.Session.List {
		if err := v.reach(t.Table.Name); err != nil {
			return nil, err
		}
	}
	if err := o.refuseLasting(tablesOf(p.Session)...); err != nil {
		return nil, err
	}
	p.Session.Options.Again, p.Session.Options.Patience = o.Again, o.Patience
	p.Session.LoosenCircles()

	// Rows that refer to each other by references which are held against the tables at the
	// commit, and which cannot be NULL, go in one transaction.
	if o.Commit == plan.CommitChunk && !o.DryRun && (len(v.ignored()) == 0 || e.State == journal.StateWithdrawing) {
		err = v.inMany(ctx)
	} else {
		err = p.Session.Repeat(ctx, v.w, func() error { return v.inOne(ctx) })
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

// refuseLasting refuses to write to tables that could not be rolled back, as the options say whether they must be.
func (o Options) refuseLasting(tables ...*schema.Table) error {
	return load.RefuseLasting(tables, o.DryRun, cmp.Or(o.Commit, plan.CommitLoad))
}

// tablesOf are the tables that a load wrote to.
func tablesOf(l *load.Session) []*schema.Table {
	var out []*schema.Table
	for _, t := range l.List {
		if !t.Plan.Existing {
			out = append(out, t.Table)
		}
	}
	return out
}

// withdrawal is the taking back of one load.
type withdrawal struct {
	*load.PastLoad
	o      Options
	w      *load.Writer
	tables *store.Journal
	reach  func(table string) error // reports if a table is not one that may be touched
	was    journal.State            // of the load, before a withdrawal in steps; empty if it is none
	gone   map[journal.Key]bool     // steps that are done, of a withdrawal that broke off
	noted  map[journal.Key]bool     // steps that this one has done
	out    Withdrawal
	files  []placed // placeholder files of rows that are gone
	// unreturned counts deleted rows that could not be put back: their contents stay in the
	// journal.
	unreturned int64
	touched    map[*load.Target]map[grow.Row]bool // rows that others had changed at first; nil: to be looked for
	changed    map[int]grow.Row                   // those of out.LeftRows that others have changed, by their places
}

// reset forgets what was counted in a transaction that is begun again.
func (v *withdrawal) reset() {
	v.out = Withdrawal{
		Lost:     v.Plan.Lost,
		Load:     v.Entry.Number,
		Plan:     v.Entry.Plan,
		DryRun:   v.o.DryRun,
		byEntity: map[string]int{},
		left:     map[*load.Target][]grow.Row{},
	}
	for _, t := range v.Session.List {
		v.out.byEntity[t.Plan.Name] = len(v.out.Entities)
		v.out.Entities = append(v.out.Entities, WithdrawnEntity{Entity: t.Plan.Name, Table: t.Table.Name})
	}
	v.files, v.unreturned, v.changed = nil, 0, map[int]grow.Row{}
}

// of is what was done to the rows of an entity.
func (v *withdrawal) of(t *load.Target) *WithdrawnEntity {
	return &v.out.Entities[v.out.byEntity[t.Plan.Name]]
}

// The words that take back rows, too, that are else left alone.
const (
	alsoChanged   = "changed"
	alsoReferring = "referring"
)

// leave notes a row that is left alone, and by which word it would go, too; empty if by
// none.
func (v *withdrawal) leave(t *load.Target, row grow.Row, also, why string) {
	if also != "" && !slices.Contains(v.out.Also, also) {
		v.out.Also = append(v.out.Also, also)
		slices.Sort(v.out.Also)
	}
	v.out.Left++
	v.of(t).Left++
	v.out.left[t] = append(v.out.left[t], row)
	if len(v.out.LeftRows) < replay.MaxCompared {
		columns, _ := t.Identity()
		v.out.LeftRows = append(
			v.out.LeftRows,
			LeftRow{Entity: t.Plan.Name, Row: t.Grow.Label(row), Key: v.KeyText(v.w, t, row, columns), Why: why},
		)
		if also == alsoChanged {
			v.changed[len(v.out.LeftRows)-1] = row
		}
	}
}

// mark notes how far the withdrawal is; once that is committed, the entry says so, too.
func (v *withdrawal) mark(ctx context.Context, state journal.State) error {
	of := v.tables.Loads
	set := func(from journal.State) (int64, error) {
		return v.w.Tx.Set(ctx, of, journal.Cells(of, "state", string(state)),
			journal.Cells(of, "number", v.Entry.Number, "state", string(from)))
	}
	n, err := set(v.Entry.State)
	if err == nil && n == 0 && v.was != "" { // another server answers, which never learned that this withdrawal began
		n, err = set(v.was)
	}
	if err == nil && n != 1 {
		err = journal.NoLongerError(v.Entry)
	}
	return err
}

// inOne takes everything back in one transaction.
func (v *withdrawal) inOne(ctx context.Context) error {
	v.reset()
	if err := v.w.Begin(ctx); err != nil {
		return err
	}
	err := v.lookFirst(ctx)
	if err == nil {
		err = v.mark(ctx, journal.StateWithdrawn)
	}
	var restore func(context.Context) error
	if err == nil {
		restore, err = v.dropIndexes(ctx)
	}
	for step := range v.steps() {
		if err == nil {
			err = step(ctx)
		}
	}
	if err == nil && restore != nil {
		err = restore(ctx)
	}
	if err == nil {
		err = v.settle(ctx)
	}
	if err == nil {
		err = v.conclude(ctx)
	}
	if err == nil && v.o.DryRun {
		return v.w.Rollback()
	}
	if err == nil {
		err = v.w.Commit(ctx)
	}
	if err != nil {
		return err
	}
	return v.removeFiles()
}

// unanswered reports whether the connection broke in a commit, and another one can be had.
func (v *withdrawal) unanswered(err error) bool {
	var fault *store.Fault
	return errors.As(err, &fault) && fault.Kind == store.Unanswered && v.Session.Options.Again != nil
}

// inMany takes rows back in steps, each in a transaction of its own. If it breaks off,
// it is done again: what is gone is gone.
func (v *withdrawal) inMany(ctx context.Context) error {
	v.reset()
	once := func(do func(context.Context) error) error {
		before := v.out.clone() // a step that is done again counts once
		return v.Session.Repeat(ctx, v.w, func() error {
			v.out = before.clone()
			if err := v.w.Begin(ctx); err != nil {
				return err
			}
			if err := do(ctx); err != nil {
				return err
			}
			if err := v.settle(ctx); err != nil {
				return err
			}
			return v.w.Commit(ctx)
		})
	}

	// What looks and marks may be done again where a commit was not answered.
	transaction := func(do func(context.Context) error) error {
		before := v.out.clone()
		err := once(do)
		if v.unanswered(err) {
			v.out = before // what is done again counts once
			err = once(do)
		}
		return err
	}
	if v.Entry.State != journal.StateWithdrawing {
		err := transaction(func(ctx context.Context) error {
			if err := v.lookFirst(ctx); err != nil {
				return err
			}
			return v.mark(ctx, journal.StateWithdrawing)
		})
		if err != nil {
			return err
		}
		v.was, v.Entry.State = v.Entry.State, journal.StateWithdrawing
	}

	v.gone, v.noted = map[journal.Key]bool{}, map[journal.Key]bool{}
	for _, c := range v.Chunks {
		v.gone[c.Key] = c.State == journal.StateWithdrawn
	}
	for lost := 0; ; lost++ {
		for step := range v.steps() {
			noted := len(v.noted)
			err := once(step)
			if v.unanswered(err) && len(v.noted) > noted {
				continue // whether it is committed, the journal says after the last one
			}
			if err != nil {
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
		if lost == load.MaxRepeats {
			return &HalfWithdrawn{load.ErrLost, v.Entry.Number}
		}
		// Another server answers, which has rows again that were removed: all is done again.
		if err := transaction(v.forgetSteps); err != nil {
			return &HalfWithdrawn{err, v.Entry.Number}
		}
		v.gone, v.noted = map[journal.Key]bool{}, map[journal.Key]bool{}
		v.reset()
	}

	err := transaction(func(ctx context.Context) error {
		if err := v.mark(ctx, journal.StateWithdrawn); err != nil {
			return err
		}
		return v.conclude(ctx)
	})
	if err != nil {
		return &HalfWithdrawn{err, v.Entry.Number}
	}
	return v.removeFiles()
}

// settle holds what was put off against the tables.
func (v *withdrawal) settle(ctx context.Context) error {
	if err := v.w.Tx.Settle(ctx); err != nil {
		return v.Session.Refusal(nil, nil, err)
	}
	return nil
}

// conclude notes the rows that are left, or removes what is not needed any more.
func (v *withdrawal) conclude(ctx context.Context) error {
	if err := v.nameChangers(ctx); err != nil {
		return err
	}
	chunks := v.tables.Chunks
	key := load.LeftKey(v.Entry.Number)
	if _, err := v.w.Tx.Delete(ctx, chunks, key.Cells(chunks)); err != nil {
		return err
	}
	var log journal.Log
	for _, t := range v.Session.List {
		rows := slices.Clone(v.out.left[t])
		slices.SortFunc(rows, func(a, b grow.Row) int {
			return journal.RowRun{Given: a.Side, First: a.N}.Compare(journal.RowRun{Given: b.Side, First: b.N})
		})
		log.Left = journal.AppendRows(log.Left, t.Plan.Name, slices.Compact(rows))
	}

	if v.unreturned == 0 && log.Empty() {
		return v.clean(ctx)
	}
	record, err := log.Pack()
	if err != nil {
		return err
	}
	if err := v.w.Tx.Add(ctx, chunks,
		append(key.Cells(chunks), journal.Cells(chunks, "state", string(journal.StatePartly), "result", "{}",
			"record", record)...)); err != nil {
		return err
	}
	if err := v.forgetSteps(ctx); err != nil {
		return err
	}
	of := v.tables.Loads
	_, err = v.w.Tx.Set(
		ctx,
		of,
		journal.Cells(of, "state", string(journal.StatePartly)),
		journal.Cells(of, "number", v.Entry.Number),
	)
	return err
}

// clean removes previous contents, which are not needed any more.
func (v *withdrawal) clean(ctx context.Context) error {
	if _, err := v.w.Tx.Delete(ctx, v.tables.Contents,
		journal.Cells(v.tables.Contents, "load", v.Entry.Number)); err != nil {
		return err
	}
	return v.forgetSteps(ctx)
}

// forgetSteps removes the notes of the steps that are done.
func (v *withdrawal) forgetSteps(ctx context.Context) error {
	_, err := v.w.Tx.Delete(
		ctx,
		v.tables.Chunks,
		journal.Cells(v.tables.Chunks, "load", v.Entry.Number, "state", string(journal.StateWithdrawn)),
	)
	return err
}

// once does a step unless it was done before, and notes that it is done, where it is
// committed on its own. The key is not that of any chunk.
func (v *withdrawal) once(phase int64, run order.Run, do func(context.Context) error) func(context.Context) error {
	if v.gone == nil {
		return do
	}
	key := journal.KeyOf(v.Entry.Number, v.Plan, run)
	key.Family = -phase - key.Family
	return func(ctx context.Context) error {
		if v.gone[key] {
			return nil
		}
		if err := do(ctx); err != nil {
			return err
		}
		of := v.tables.Chunks
		v.noted[key] = true
		return v.w.Tx.Add(ctx, of, append(key.Cells(of), journal.Cells(of, "state", string(journal.StateWithdrawn))...))
	}
}

// stepsGone reports whether steps that were committed are not in the journal any more.
func (v *withdrawal) stepsGone(ctx context.Context) (bool, error) {
	chunks, err := v.Session.Read.On(v.w.Store).Chunks(ctx, v.Entry.Number)
	if err != nil {
		return false, err
	}
	left := maps.Clone(v.noted)
	for _, c := range chunks {
		if c.State == journal.StateWithdrawn {
			delete(left, c.Key)
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
		for _, t := range slices.Backward(v.Session.List) {
			if t.Writes.Mode != store.Upsert && t.Writes.Mode != store.Update {
				continue
			}
			if !yield(func(ctx context.Context) error { return v.restoreChanged(ctx, t) }) {
				return
			}
		}
		for _, t := range v.Session.List {
			if len(t.Late) == 0 {
				continue
			}
			for run := range v.Runs(v.w, t, load.StagedChunk) {
				if !yield(v.once(phaseUnlink, run, func(ctx context.Context) error { return v.unlink(ctx, t, run) })) {
					return
				}
			}
		}
		for step := range v.removals() {
			if !yield(step) {
				return
			}
		}
		for _, t := range v.Session.List {
			if len(t.Late) > 0 && len(v.out.left[t]) > 0 &&
				!yield(func(ctx context.Context) error { return v.relink(ctx, t) }) {
				return
			}
		}
		if yield(v.returnRemoved) {
			yield(v.tellUnkept)
		}
	}
}

// removals are the steps that remove added rows, children first.
func (v *withdrawal) removals() iter.Seq[func(context.Context) error] {
	return func(yield func(func(context.Context) error) bool) {
		knots := v.knots()
		for _, t := range slices.Backward(v.Session.List) {
			if t.Writes.Mode == store.Update {
				continue
			}
			if knot := knots[t]; knot != nil {
				if t != knot[len(knot)-1] {
					continue // it goes with the last one
				}
				remove := func(ctx context.Context) error { return v.removeKnot(ctx, knot) }
				if !yield(v.once(phaseRemove, order.Run{Target: t.Target}, remove)) {
					return
				}
				continue
			}
			runs := slices.Collect(v.Runs(v.w, t, v.size()))
			for _, run := range slices.Backward(runs) {
				if !yield(v.once(phaseRemove, run, func(ctx context.Context) error { return v.remove(ctx, t, run) })) {
					return
				}
			}
		}
	}
}

// size is how many rows are removed together.
func (v *withdrawal) size() uint64 {
	if v.Entry.About.Chunk > 0 && v.o.Commit == plan.CommitChunk {
		return v.Entry.About.Chunk
	}
	return load.StagedChunk
}

// Report names the load to withdraw first.
func (e *Continued) Report() diag.Report {
	return diag.Report{Kind: diag.Usage, Message: e.Error(), Hint: fmt.Sprintf("run evensprout withdraw %d "+
		"first", e.By)}
}

// Outcome says that a part is withdrawn.
func (e *HalfWithdrawn) Outcome() (string, map[string]any) {
	return fmt.Sprintf(
			"The open transaction was rolled back; part of load %d is withdrawn.\n       Finish with evensprout "+
				"withdraw %d --commit chunk.",
			e.Load,
			e.Load,
		), map[string]any{
			"load": e.Load,
		}
}
