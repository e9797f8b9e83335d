package load

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"iter"
	"os"
	"path"
	"slices"
	"time"

	"evensprout/internal/grow"
	"evensprout/internal/order"
	"evensprout/internal/plan"
	"evensprout/internal/schema"
	"evensprout/internal/store"

	"github.com/zeebo/xxh3"
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
	Rows      func(plan.FileSpec) (plan.FileRows, plan.Problems)
	Again     func(context.Context) (store.Store, error)
	// Progress, if set, is told now and then how many rows are looked at.
	Progress func(done, total uint64)
}

// Withdrawal is what was taken back.
type Withdrawal struct {
	Load     int64             `json:"load"`
	Plan     string            `json:"plan"`
	DryRun   bool              `json:"dry_run"`
	Entities []WithdrawnEntity `json:"entities"` // in load order
	Left     int64             `json:"left"`
	LeftRows []LeftRow         `json:"left_rows,omitempty"` // the first of them
	Files    int               `json:"files,omitempty"`     // placeholder files that were removed
	Others   map[string]int64  `json:"others,omitempty"`    // rows that referred to those that went, and went as well, by table
	Elapsed  time.Duration     `json:"elapsed_ns"`

	byEntity map[string]int // places in Entities
	left     map[*target][]grow.Row
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
type Continued struct{ Number, By int64 }

func (e *Continued) Error() string {
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
	err = patient(ctx, o.Wait, func() (err error) {
		out, err = withdraw(ctx, s, number, o)
		return err
	})
	return out, err
}

func withdraw(ctx context.Context, s store.Store, number int64, o WithdrawOptions) (*Withdrawal, error) {
	e, err := FindEntry(ctx, s, number)
	if err != nil {
		return nil, err
	}
	if err := lockPlan(ctx, s, e.Plan, e.Extra); err != nil {
		return nil, err
	}
	defer unlockPlan(ctx, s, e.Plan, e.Extra)
	p, err := Recall(ctx, s, number, nil, o.Rows)
	if err != nil {
		return nil, err
	}
	defer p.Close()
	if p.Entry.State == StateWithdrawn {
		return nil, &store.Fault{Kind: store.Refused, Message: fmt.Sprintf("load %d is withdrawn already", number), Hint: "evensprout history lists the loads"}
	}
	all, err := Entries(ctx, s, e.Plan)
	if err != nil {
		return nil, err
	}
	for _, x := range all {
		if x.Extra == e.Extra && x.Part > e.Part && x.State != StateWithdrawn && slices.ContainsFunc(x.About.Entities, func(a AboutEntity) bool { return a.Loaded }) {
			return nil, &Continued{number, x.Number}
		}
	}
	v := &withdrawal{Past: p, o: o, began: time.Now()}
	v.w = &writer{loader: p.l, store: s}
	defer v.w.close()
	if v.tables, err = s.Journal(ctx, false); err != nil {
		return nil, err
	}
	p.l.o.Again = o.Again
	if o.Commit == plan.CommitChunk && !o.DryRun {
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
	v.out.Elapsed = time.Since(v.began)
	return &v.out, nil
}

// withdrawal is the taking back of one load.
type withdrawal struct {
	*Past
	o      WithdrawOptions
	w      *writer
	tables *store.Journal
	gone   map[chunkKey]bool // steps that are done, of a withdrawal that broke off
	out    Withdrawal
	began  time.Time
	done   uint64
	files  []string // placeholder files of rows that are gone
}

func (v *withdrawal) reset() {
	v.out = Withdrawal{Load: v.Entry.Number, Plan: v.Entry.Plan, DryRun: v.o.DryRun, byEntity: map[string]int{}, left: map[*target][]grow.Row{}}
	for _, t := range v.l.list {
		v.out.byEntity[t.Plan.Name] = len(v.out.Entities)
		v.out.Entities = append(v.out.Entities, WithdrawnEntity{Entity: t.Plan.Name, Table: t.Table.Name})
	}
	v.done, v.files = 0, nil
}

func (v *withdrawal) of(t *target) *WithdrawnEntity {
	return &v.out.Entities[v.out.byEntity[t.Plan.Name]]
}

// leave notes a row that is left alone.
func (v *withdrawal) leave(t *target, row grow.Row, why string) {
	v.out.Left++
	v.of(t).Left++
	v.out.left[t] = append(v.out.left[t], row)
	if len(v.out.LeftRows) < maxCompared {
		columns, _ := t.identity()
		v.out.LeftRows = append(v.out.LeftRows, LeftRow{Entity: t.Plan.Name, Row: t.Grow.Label(row), Key: v.keyText(v.w, t, row, columns), Why: why})
	}
}

// mark notes how far the withdrawal is.
func (v *withdrawal) mark(ctx context.Context, state State) error {
	of := v.tables.Loads
	n, err := v.w.tx.Set(ctx, of, cells(of, "state", string(state)), cells(of, "number", v.Entry.Number, "state", string(v.Entry.State)))
	if err == nil && n != 1 {
		err = &store.Fault{Kind: store.Refused, Message: fmt.Sprintf("load %d is no longer %s: somebody else works on it", v.Entry.Number, v.Entry.State)}
	}
	v.Entry.State = state
	return err
}

// inOne takes everything back in one transaction.
func (v *withdrawal) inOne(ctx context.Context) error {
	state := v.Entry.State
	v.reset()
	if err := v.w.begin(ctx); err != nil {
		return err
	}
	err := v.mark(ctx, StateWithdrawn)
	for step := range v.steps() {
		if err == nil {
			err = step(ctx)
		}
	}
	if err == nil {
		err = v.settle(ctx)
	}
	if err == nil {
		err = v.clean(ctx)
	}
	if err == nil && v.o.DryRun {
		v.Entry.State = state
		return v.w.rollback()
	}
	if err == nil {
		err = v.w.commit(ctx)
	}
	if err != nil {
		v.Entry.State = state
		return err
	}
	return v.removeFiles()
}

// inMany takes rows back in steps, each in a transaction of its own. If it breaks off,
// it is done again: what is gone is gone.
func (v *withdrawal) inMany(ctx context.Context) error {
	v.reset()
	transaction := func(do func(context.Context) error) error {
		return v.l.repeat(ctx, v.w, func() error {
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
		if err := transaction(func(ctx context.Context) error { return v.mark(ctx, StateWithdrawing) }); err != nil {
			return err
		}
	}
	v.gone = map[chunkKey]bool{}
	for _, c := range v.chunks {
		v.gone[c.key] = c.State == StateWithdrawn
	}
	for step := range v.steps() {
		if err := transaction(step); err != nil {
			return &HalfWithdrawn{err, v.Entry.Number}
		}
	}
	err := transaction(func(ctx context.Context) error {
		if err := v.mark(ctx, StateWithdrawn); err != nil {
			return err
		}
		return v.clean(ctx)
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

// clean removes previous contents, which are not needed any more.
func (v *withdrawal) clean(ctx context.Context) error {
	if _, err := v.w.tx.Delete(ctx, v.tables.Contents, cells(v.tables.Contents, "load", v.Entry.Number)); err != nil {
		return err
	}
	_, err := v.w.tx.Delete(ctx, v.tables.Chunks, cells(v.tables.Chunks, "load", v.Entry.Number, "state", string(StateWithdrawn)))
	return err
}

// once does a step unless it was done before, and notes that it is done, where it is
// committed on its own. The key is not that of any chunk.
func (v *withdrawal) once(phase int64, t *target, run order.Run, do func(context.Context) error) func(context.Context) error {
	if v.gone == nil {
		return do
	}
	key := chunkKey{load: v.Entry.Number, family: -phase - int64(slices.Index(v.Plan.Targets, t.Target)), first: int64(run.First.N)}
	if run.First.Side {
		key.side = 1
	}
	return func(ctx context.Context) error {
		if v.gone[key] {
			return nil
		}
		if err := do(ctx); err != nil {
			return err
		}
		of := v.tables.Chunks
		return v.w.tx.Add(ctx, of, append(key.cells(of), cells(of, "state", string(StateWithdrawn))...))
	}
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
				if !yield(v.once(phaseUnlink, t, run, func(ctx context.Context) error { return v.unlink(ctx, t, run) })) {
					return
				}
			}
		}
		for _, t := range slices.Backward(v.l.list) {
			if t.write.Mode == store.Update {
				continue
			}
			runs := slices.Collect(v.runs(v.w, t, v.size()))
			for _, run := range slices.Backward(runs) {
				if !yield(v.once(phaseRemove, t, run, func(ctx context.Context) error { return v.remove(ctx, t, run) })) {
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

// sorted finds, of staged rows, those that are gone and those that others have changed,
// and drops them.
func (v *withdrawal) sorted(ctx context.Context, t *target, st store.Stage, rows *pass, tell bool) error {
	gone, err := st.Unmatched(ctx)
	if err != nil {
		return err
	}
	if tell {
		v.of(t).Gone += int64(len(gone))
	}
	drop := gone
	if !v.o.Changed {
		changed, err := st.Differing(ctx)
		if err != nil {
			return err
		}
		for _, n := range changed {
			if tell {
				v.leave(t, rows.row(n), "it was changed since")
			}
		}
		drop = append(drop, changed...)
	}
	return st.Drop(ctx, drop)
}

// remove takes away rows that the load added.
func (v *withdrawal) remove(ctx context.Context, t *target, run order.Run) error {
	rows := &pass{}
	st, err := v.w.tx.Stage(ctx, v.compared(t, true), v.without(t, v.only(v.w, t, run, true, rows)))
	if err == nil {
		err = v.w.growth
	}
	if err != nil || rows.n == 0 {
		return err
	}
	if err := v.sorted(ctx, t, st, rows, true); err != nil {
		return err
	}
	if len(t.write.Match) == 0 && v.compared(t, true).Alike {
		if err := v.ambiguous(ctx, t, st, rows); err != nil {
			return err
		}
	}
	if v.o.Referring {
		if err := v.removeReferrers(ctx, t, st, run); err != nil {
			return err
		}
		rows = &pass{}
		if st, err = v.w.tx.Stage(ctx, v.compared(t, true), v.without(t, v.only(v.w, t, run, true, rows))); err != nil {
			return err
		}
		if err := v.sorted(ctx, t, st, rows, false); err != nil {
			return err
		}
	}
	for {
		found, err := st.Referred(ctx, v.l.plan.Database, v.ignored())
		if err != nil {
			return err
		}
		var drop []int64
		var own []grow.Row // referred to by rows of the same table, which may go before them
		tables := map[int64]string{}
		for _, r := range found {
			if tables[r.Row] == "" {
				drop = append(drop, r.Row)
			}
			if tables[r.Row] == "" || r.Table != t.Table.Name {
				tables[r.Row] = r.Table
			}
		}
		for _, n := range drop {
			if tables[n] == t.Table.Name {
				own = append(own, rows.row(n))
				continue
			}
			v.leave(t, rows.row(n), "rows of "+tables[n]+" refer to it")
		}
		if err := st.Drop(ctx, drop); err != nil {
			return err
		}
		n, err := st.Remove(ctx)
		if err != nil {
			return v.l.refusal(t, nil, err)
		}
		v.of(t).Removed += n
		if len(own) == 0 {
			break
		}
		if n == 0 {
			for _, row := range own {
				v.leave(t, row, "rows of "+t.Table.Name+" refer to it")
			}
			break
		}
		rows = &pass{}
		if st, err = v.w.tx.Stage(ctx, v.compared(t, true), v.without(t, v.these(v.w, t, own, rows))); err != nil {
			return err
		}
	}
	v.noteFiles(t, run)
	v.done += run.Rows
	if v.o.Progress != nil {
		v.o.Progress(v.done, max(v.done, uint64(v.total())))
	}
	return nil
}

// removeReferrers deletes the rows of other tables that refer to staged ones.
func (v *withdrawal) removeReferrers(ctx context.Context, t *target, st store.Stage, run order.Run) error {
	seen := map[string]map[string]bool{}
	// Rows of the same table that go anyway are no others.
	match, _ := t.identity()
	if slices.Equal(namesOf(match), t.Table.PrimaryKey) {
		seen[t.Table.Name] = map[string]bool{}
		for b := range v.only(v.w, t, run, true, &pass{}) {
			for i := range b.Len {
				var key []grow.Value
				for _, c := range match {
					key = append(key, b.Row(i)[slices.Index(t.Columns, c)])
				}
				seen[t.Table.Name][pairs(match, key)] = true
			}
		}
	}
	return v.removeReferrersOf(ctx, st, seen)
}

func (v *withdrawal) removeReferrersOf(ctx context.Context, st store.Stage, seen map[string]map[string]bool) error {
	found := map[*schema.Table][][]grow.Value{}
	err := st.Referrers(ctx, v.l.plan.Database, func(t *schema.Table, key []grow.Value) error {
		text := pairs(keyColumns(t), key)
		if seen[t.Name] == nil {
			seen[t.Name] = map[string]bool{}
		}
		if !seen[t.Name][text] {
			seen[t.Name][text] = true
			found[t] = append(found[t], slices.Clone(key))
		}
		return nil
	})
	if err != nil {
		return err
	}
	for _, t := range v.l.plan.Database.Tables { // in an order that does not change
		keys := found[t]
		if len(keys) == 0 {
			continue
		}
		stage := func() (store.Stage, error) { return stageKeys(ctx, v.w.tx, t, keys) }
		st, err := stage()
		if err != nil {
			return err
		}
		if err := v.removeReferrersOf(ctx, st, seen); err != nil {
			return err
		}
		if st, err = stage(); err != nil { // others have used its place since
			return err
		}
		n, err := st.Remove(ctx)
		if err != nil {
			return v.l.refusal(nil, nil, err)
		}
		if v.out.Others == nil {
			v.out.Others = map[string]int64{}
		}
		v.out.Others[t.Name] += n
	}
	return nil
}

func (v *withdrawal) total() uint64 {
	n := uint64(0)
	for _, t := range v.l.list {
		if !t.skipped && t.write.Mode != store.Update {
			n += t.Grow.Total()
		}
	}
	return n
}

// ambiguous leaves rows alone that cannot be told from others: a table without a key
// has more of the same than the load added.
func (v *withdrawal) ambiguous(ctx context.Context, t *target, st store.Stage, rows *pass) error {
	into := t.into()
	hash := func(n int64) xxh3.Uint128 {
		var buf []byte
		for b := range v.written(v.w, t, order.Run{Target: t.Target, First: rows.row(n), Rows: 1}, nil) {
			for j, f := range into.Fields {
				buf = appendMeaning(buf, into.Columns[j], &b.Row(0)[f])
			}
		}
		return xxh3.Hash128(buf)
	}
	ours := map[xxh3.Uint128]int64{}
	for n := range rows.n {
		ours[hash(n)]++
	}
	var more []int64
	err := st.Copies(ctx, func(n, copies int64) error {
		if copies > ours[hash(n)] {
			more = append(more, n)
		}
		return nil
	})
	if err != nil {
		return err
	}
	for _, n := range more {
		v.leave(t, rows.row(n), "the table has no key, and more rows that are the same")
	}
	return st.Drop(ctx, more)
}

// without makes the references NULL that close circles: they were unlinked before.
func (v *withdrawal) without(t *target, rows store.Rows) store.Rows {
	if len(t.late) == 0 {
		return rows
	}
	return func(yield func(*grow.Batch) bool) {
		for b := range rows {
			for i := range b.Len {
				for _, f := range t.late {
					b.Row(i)[f] = grow.Value{}
				}
			}
			if !yield(b) {
				return
			}
		}
	}
}

// ignored are references that are held against the tables at the commit: rows that
// refer to each other by them go in the same transaction.
func (v *withdrawal) ignored() []*schema.Column {
	var out []*schema.Column
	for _, late := range v.l.order.Late {
		t := v.l.targets[late.Target]
		if !slices.Contains(t.late, late.Field) {
			out = append(out, t.Columns[late.Field])
		}
	}
	return out
}

// lateWrite is a write of the references that close circles.
func (t *target) lateWrite() *store.Write {
	write := &store.Write{Into: t.into(), Mode: store.Update, Distinct: true}
	write.Match, write.Alike = t.identity()
	for _, f := range t.late {
		write.Set = append(write.Set, t.Columns[f])
	}
	return write
}

// unlink makes references NULL that close circles, in rows that will go.
func (v *withdrawal) unlink(ctx context.Context, t *target, run order.Run) error {
	rows := &pass{}
	write := v.compared(t, true)
	write.Set = slices.DeleteFunc(write.Set, func(c *schema.Column) bool {
		return slices.ContainsFunc(t.late, func(f int) bool { return t.Columns[f] == c })
	})
	st, err := v.w.tx.Stage(ctx, write, v.only(v.w, t, run, true, rows))
	if err == nil {
		err = v.w.growth
	}
	if err != nil || rows.n == 0 {
		return err
	}
	gone, err := st.Unmatched(ctx)
	if err != nil {
		return err
	}
	changed, err := st.Differing(ctx)
	if err != nil {
		return err
	}
	stays := map[int64]bool{}
	for _, n := range gone {
		stays[n] = true
	}
	for _, n := range changed {
		stays[n] = !v.o.Changed
	}
	var going []grow.Row
	for n := range rows.n {
		if !stays[n] {
			going = append(going, rows.row(n))
		}
	}
	rows = &pass{}
	if st, err = v.w.tx.Stage(ctx, t.lateWrite(), v.without(t, v.these(v.w, t, going, rows))); err != nil {
		return err
	}
	_, err = st.Apply(ctx, 0, rows.n)
	return err
}

// relink gives references back to rows that were left alone after all.
func (v *withdrawal) relink(ctx context.Context, t *target) error {
	rows := &pass{}
	st, err := v.w.tx.Stage(ctx, t.lateWrite(), v.these(v.w, t, v.out.left[t], rows))
	if err != nil {
		return err
	}
	_, err = store.Isolate(ctx, v.w.tx, st, 0, rows.n, func(*store.Violation) error { return nil }) // what it referred to is gone
	return err
}

// contents shows the packets that the journal keeps, in the order in which they were
// written.
func (v *withdrawal) contents(ctx context.Context, what string, want func(entity, table string) bool, show func(entity, table string, rows int64, body []byte) error) error {
	of := v.tables.Contents
	type kept struct {
		entity, table string
		rows          int64
		key           []store.Cell
	}
	var list []kept
	columns := of.Columns[:len(of.Columns)-1]
	err := v.w.store.Select(ctx, store.Query{Table: of, Columns: columns, Where: cells(of, "load", v.Entry.Number, "what", what)}, func(row []grow.Value) error {
		k := kept{row[5].S, row[6].S, row[8].N, nil}
		if !want(k.entity, k.table) {
			return nil
		}
		for i := range 5 {
			k.key = append(k.key, store.Cell{Column: columns[i], Value: row[i]})
		}
		list = append(list, k)
		return nil
	})
	if err != nil {
		return err
	}
	for _, k := range list { // one packet in memory at a time
		var body []byte
		err := v.w.store.Select(ctx, store.Query{Table: of, Columns: []*schema.Column{of.Column("body")}, Where: k.key}, func(row []grow.Value) error {
			body = []byte(row[0].S)
			return nil
		})
		if err == nil {
			err = show(k.entity, k.table, k.rows, body)
		}
		if err == nil {
			_, err = v.w.tx.Delete(ctx, of, k.key)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// restoreChanged gives rows that the load changed their former contents back.
func (v *withdrawal) restoreChanged(ctx context.Context, t *target) error {
	if !v.Entry.About.Undo {
		return nil
	}
	want := func(entity, _ string) bool { return entity == t.Plan.Name }
	return v.contents(ctx, contentChanged, want, func(_, _ string, n int64, body []byte) error { return v.restorePacket(ctx, t, n, body) })
}

// restorePacket restores the rows of one packet.
func (v *withdrawal) restorePacket(ctx context.Context, t *target, n int64, body []byte) error {
	var rows []grow.Row
	former := map[grow.Row][]grow.Value{}
	var names []string
	err := unpack(body, n, true, func(columns []string, planned grow.Row, values []grow.Value) error {
		names = columns
		if !v.w.record.Rejected(t.Grow, planned) {
			rows = append(rows, planned)
			former[planned] = values
		}
		return nil
	})
	if err != nil || len(rows) == 0 {
		return err
	}
	staged := &pass{}
	st, err := v.w.tx.Stage(ctx, v.compared(t, false), v.these(v.w, t, rows, staged))
	if err == nil {
		err = v.w.growth
	}
	if err != nil {
		return err
	}
	gone, err := st.Unmatched(ctx)
	if err != nil {
		return err
	}
	changed, err := st.Differing(ctx)
	if err != nil {
		return err
	}
	skip := map[grow.Row]bool{}
	v.of(t).Gone += int64(len(gone))
	for _, i := range gone {
		skip[staged.row(i)] = true
	}
	for _, i := range changed {
		if !v.o.Changed {
			skip[staged.row(i)] = true
			v.leave(t, staged.row(i), "it was changed since")
		}
	}
	rows = slices.DeleteFunc(rows, func(r grow.Row) bool { return skip[r] })
	if len(rows) == 0 {
		return nil
	}
	write := &store.Write{Into: store.Into{Table: t.Table}, Mode: store.Update, Match: t.write.Match, Distinct: true}
	for i, name := range names {
		c := t.Table.Column(name)
		if c == nil {
			continue
		}
		set := slices.Contains(t.write.Set, c) || slices.Contains(t.write.Stamp, c) || c.Restamps
		if !set && !slices.Contains(t.write.Match, c) {
			continue
		}
		write.Columns, write.Fields = append(write.Columns, c), append(write.Fields, i)
		if set {
			write.Set = append(write.Set, c)
		}
	}
	st, err = v.w.tx.Stage(ctx, write, func(yield func(*grow.Batch) bool) {
		for _, r := range rows {
			if !yield(&grow.Batch{Entity: t.Grow, First: r, Len: 1, Width: len(names), Values: former[r]}) {
				return
			}
		}
	})
	if err != nil {
		return err
	}
	out, err := store.Isolate(ctx, v.w.tx, st, 0, int64(len(rows)), func(x *store.Violation) error {
		v.leave(t, rows[x.Row], "its former contents are refused: "+x.Message)
		return nil
	})
	v.of(t).Restored += out.Updated
	return err
}

// returnRemoved puts rows back that the load deleted, parents first.
func (v *withdrawal) returnRemoved(ctx context.Context) error {
	var tables []string
	err := v.w.store.Select(ctx, store.Query{Table: v.tables.Contents, Columns: []*schema.Column{v.tables.Contents.Column("of")}, Where: cells(v.tables.Contents, "load", v.Entry.Number, "what", contentRemoved)},
		func(row []grow.Value) error {
			if !slices.Contains(tables, row[0].S) {
				tables = append(tables, row[0].S)
			}
			return nil
		})
	if err != nil {
		return err
	}
	for _, name := range byReference(v.l.plan.Database, tables) {
		var again [][]byte // packets whose references to their own table are to be set
		var sizes []int64
		want := func(_, table string) bool { return table == name }
		err := v.contents(ctx, contentRemoved, want, func(entity, table string, n int64, body []byte) error {
			t := v.l.targetOf(entity)
			to := v.l.plan.Database.Table(table)
			if to == nil {
				return fmt.Errorf("the table %s is gone, and its rows cannot be put back", table)
			}
			if len(selfReferences(to)) > 0 {
				again, sizes = append(again, body), append(sizes, n)
			}
			return v.returnPacket(ctx, t, to, n, body)
		})
		for i := range again {
			if err == nil {
				err = v.linkPacket(ctx, v.l.plan.Database.Table(name), sizes[i], again[i])
			}
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// tellUnkept tells how many rows stay as the load left them, because it did not keep
// what they held before.
func (v *withdrawal) tellUnkept(ctx context.Context) error {
	if v.Entry.About.Undo {
		return nil
	}
	sums := Sums(v.Entry, v.chunks)
	for _, t := range v.l.list {
		sum := sums[t.Plan.Name]
		for _, x := range []struct {
			n    int64
			what string
		}{{sum.Updated, "changed"}, {sum.Removed, "deleted"}} {
			if x.n > 0 {
				v.out.Left += x.n
				v.of(t).Left += x.n
				v.out.LeftRows = append(v.out.LeftRows, LeftRow{Entity: t.Plan.Name,
					Why: fmt.Sprintf("%d rows of %s that the load %s stay so: it did not keep what they held before (--no-undo)", x.n, t.Table.Name, x.what)})
			}
		}
	}
	return nil
}

// selfReferences are columns that refer to their own table and may be NULL.
func selfReferences(t *schema.Table) []*schema.Column {
	var out []*schema.Column
	for _, r := range t.References {
		if r.To == t && len(r.Columns) == 1 && !t.Column(r.Columns[0]).NotNull {
			out = append(out, t.Column(r.Columns[0]))
		}
	}
	return out
}

// byReference puts tables behind those that they refer to.
func byReference(db *schema.Database, names []string) []string {
	var out []string
	var place func(name string, depth int)
	place = func(name string, depth int) {
		t := db.Table(name)
		if slices.Contains(out, name) || t == nil || depth > len(names) {
			return
		}
		for _, r := range t.References {
			if r.To != nil && r.To != t && slices.Contains(names, r.To.Name) {
				place(r.To.Name, depth+1)
			}
		}
		if !slices.Contains(out, name) {
			out = append(out, name)
		}
	}
	for _, n := range names {
		place(n, 0)
	}
	return out
}

// packetRows reads a packet as rows of a table; blank columns are read as NULL.
func packetRows(t *schema.Table, n int64, body []byte, blank []*schema.Column) (store.Into, []*grow.Batch, error) {
	into := store.Into{Table: t}
	var rows []*grow.Batch
	err := unpack(body, n, false, func(names []string, _ grow.Row, values []grow.Value) error {
		if into.Columns == nil {
			for i, name := range names {
				if c := t.Column(name); c != nil && !c.Generated {
					into.Columns, into.Fields = append(into.Columns, c), append(into.Fields, i)
				}
			}
		}
		for i, c := range into.Columns {
			if slices.Contains(blank, c) {
				values[into.Fields[i]] = grow.Value{}
			}
		}
		rows = append(rows, &grow.Batch{Len: 1, Width: len(names), Values: values})
		return nil
	})
	return into, rows, err
}

func (v *withdrawal) returnPacket(ctx context.Context, t *target, to *schema.Table, n int64, body []byte) error {
	into, rows, err := packetRows(to, n, body, selfReferences(to))
	if err != nil {
		return err
	}
	st, err := v.w.tx.Stage(ctx, &store.Write{Into: into, Mode: store.Insert, Distinct: true}, slices.Values(rows))
	if err != nil {
		return err
	}
	out, err := store.Isolate(ctx, v.w.tx, st, 0, int64(len(rows)), func(x *store.Violation) error {
		v.out.Left++
		v.of(t).Left++
		key := ""
		for i, c := range into.Columns {
			if slices.Contains(to.PrimaryKey, c.Name) {
				key = pairs([]*schema.Column{c}, []grow.Value{rows[x.Row].Values[into.Fields[i]]})
			}
		}
		if len(v.out.LeftRows) < maxCompared {
			v.out.LeftRows = append(v.out.LeftRows, LeftRow{Entity: t.Plan.Name, Key: key, Why: "a deleted row of " + to.Name + " cannot be put back: " + x.Message})
		}
		return nil
	})
	v.of(t).Returned += out.Inserted
	return err
}

// linkPacket sets the references of rows to others of their table.
func (v *withdrawal) linkPacket(ctx context.Context, t *schema.Table, n int64, body []byte) error {
	into, rows, err := packetRows(t, n, body, nil)
	if err != nil {
		return err
	}
	write := &store.Write{Into: into, Mode: store.Update, Set: selfReferences(t), Distinct: true}
	for _, name := range t.PrimaryKey {
		write.Match = append(write.Match, t.Column(name))
	}
	if len(write.Match) == 0 {
		return nil
	}
	st, err := v.w.tx.Stage(ctx, write, slices.Values(rows))
	if err != nil {
		return err
	}
	_, err = st.Apply(ctx, 0, int64(len(rows)))
	return err
}

// noteFiles collects the placeholder files of rows that are gone.
func (v *withdrawal) noteFiles(t *target, run order.Run) {
	for j, f := range t.Grow.Fields {
		spec, ok := f.File()
		if !ok {
			continue
		}
		for b := range v.written(v.w, t, run, nil) {
			for i := range b.Len {
				if x := b.Row(i)[j]; !x.IsNull() && !slices.Contains(v.out.left[t], b.At(i)) {
					v.files = append(v.files, path.Join(spec.Folder, x.S))
				}
			}
		}
	}
}

// removeFiles removes placeholder files, once the rows are gone for good.
func (v *withdrawal) removeFiles() error {
	if len(v.files) == 0 {
		return nil
	}
	root, err := os.OpenRoot(v.Entry.About.Folder)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	defer root.Close()
	for _, f := range v.files {
		err := root.Remove(f)
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return &FileError{f, err}
		}
		if err == nil {
			v.out.Files++
		}
	}
	return nil
}
