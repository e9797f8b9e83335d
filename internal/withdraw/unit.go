package withdraw

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"evensprout/internal/replay"

	"evensprout/internal/load"

	"evensprout/internal/journal"

	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/value"
)

// unitWithdrawal is the taking back of a run of a unit.
type unitWithdrawal struct {
	o      Options
	entry  *journal.Entry
	db     *schema.Database
	tables *store.Journal
	reach  func(table string) error // reports if a table is not one that may be touched
	store  store.Store
	tx     store.Tx
	out    Withdrawal

	pending []*journal.UndoSection // to be done together, last steps first
	left    []journal.UndoSection  // what is not taken back, last steps first
	rows    int                    // of these
	keys    map[string]bool        // of these rows
}

// withdrawUnit takes a run of a unit back, in one transaction: last steps first, added
// rows go, changed ones get their former contents, and removed ones come back.
func withdrawUnit(ctx context.Context, s store.Store, e *journal.Entry, o Options) (*Withdrawal, error) {
	if e.State == journal.StateWithdrawn {
		return nil, &AlreadyError{e.Number}
	}

	if e.State == journal.StateOpen {
		h, err := journal.LockRun(ctx, s, e.Plan, e.Number)
		if err != nil {
			return nil, err
		}
		defer h.Release(ctx)
	}

	began := time.Now()
	db, err := s.Survey(ctx)
	if err != nil {
		return nil, err
	}
	tables, err := s.Journal(ctx, false)
	if err != nil {
		return nil, err
	}
	l := &load.Session{Options: load.Options{Again: o.Again, Patience: o.Patience}, Traits: s.Traits()}
	w := &load.Writer{Session: l, Store: s}
	defer w.Close()
	v := &unitWithdrawal{o: o, entry: e, db: db, tables: tables}
	if v.reach, err = o.By.Reach(e, tables, db); err != nil {
		return nil, err
	}
	err = l.Repeat(ctx, w, func() error {
		if err := w.Begin(ctx); err != nil {
			return err
		}
		v.store, v.tx = w.Store, w.Tx
		v.out = Withdrawal{
			Load:     e.Number,
			Plan:     e.Plan,
			Unit:     e.About.Unit,
			DryRun:   o.DryRun,
			byEntity: map[string]int{},
		}
		if err := v.run(ctx); err != nil {
			return err
		}
		if o.DryRun {
			return w.Rollback()
		}
		return w.Commit(ctx)
	})
	if err != nil {
		if ctx.Err() != nil {
			err = context.Cause(ctx)
		}
		return nil, err
	}

	v.out.Elapsed = time.Since(began)
	return &v.out, nil
}

// run takes the occasions of a run back, the last one first.
func (v *unitWithdrawal) run(ctx context.Context) error {
	of := v.tables.Loads
	n, err := v.tx.Set(
		ctx,
		of,
		journal.Cells(of, "state", string(journal.StateWithdrawn)),
		journal.Cells(of, "number", v.entry.Number, "state", string(v.entry.State)),
	)
	if err != nil {
		return err
	}
	if n != 1 {
		return journal.NoLongerError(v.entry)
	}

	if !v.entry.About.Undo {
		return &store.Fault{
			Kind: store.Refused,
			Message: fmt.Sprintf(
				"load %d ran with --no-undo, so the changes of its steps are not known",
				v.entry.Number,
			),
		}
	}

	v.pending, v.left, v.rows, v.keys = nil, nil, 0, map[string]bool{}
	run := journal.UndoRun{Journal: v.tables, Load: v.entry.Number, Backward: true}
	err = run.Sections(ctx, v.store, func(s journal.UndoSection) error { return v.gather(ctx, s) })
	if err == nil {
		err = v.flush(ctx)
	}
	if err != nil {
		return err
	}
	if err := v.tx.Settle(ctx); err != nil {
		return err
	}
	if len(v.left) > 0 {
		return v.keepLeft(ctx)
	}
	if _, err := v.tx.Delete(ctx, v.tables.Contents,
		journal.Cells(v.tables.Contents, "load", v.entry.Number)); err != nil {
		return err
	}
	_, err = v.tx.Delete(ctx, v.tables.Occasions, journal.Cells(v.tables.Occasions, "load", v.entry.Number))
	return err
}

// keepLeft notes what is left of the run, so that a later withdrawal can go on. Its
// occasions stay done until then.
func (v *unitWithdrawal) keepLeft(ctx context.Context) error {
	slices.Reverse(v.left)
	log := journal.Undo{Sections: v.left}
	packets, err := log.Pack()
	if err != nil {
		return err
	}
	of, at := v.tables.Contents, load.LeftKey(v.entry.Number)
	if _, err := v.tx.Delete(ctx, of,
		journal.Cells(of, "load", v.entry.Number, "what", journal.ContentUnit)); err != nil {
		return err
	}
	for i, p := range packets {
		row := append(
			at.Cells(of),
			journal.Cells(
				of,
				"seq",
				int64(i+1),
				"entity",
				v.entry.About.Unit,
				"of",
				"",
				"what",
				journal.ContentUnit,
				"rows",
				p.Rows,
				"body",
				p.Body,
			)...)
		if err := v.tx.Add(ctx, of, row); err != nil {
			return err
		}
	}

	loads := v.tables.Loads
	_, err = v.tx.Set(
		ctx,
		loads,
		journal.Cells(loads, "state", string(journal.StatePartly)),
		journal.Cells(loads, "number", v.entry.Number),
	)
	return err
}

// maxPending bounds the rows that are taken back together.
const maxPending = 2000

// gather puts sections of many occasions together, as long as no two of them are about
// the same row, and none needs to be done before another in a way that the order of
// steps does not tell.
func (v *unitWithdrawal) gather(ctx context.Context, s journal.UndoSection) error {
	keys := make([]string, len(s.Values))
	alone := v.rows+len(s.Values) > maxPending
	for i, row := range s.Values {
		key := row
		if s.Kind != journal.UndoRemoved {
			key = row[:len(s.Key)]
		} else if t := v.db.Table(s.Table); t != nil {
			key = nil
			for _, name := range t.PrimaryKey {
				if at := slices.Index(s.Columns, name); at >= 0 {
					key = append(key, row[at])
				}
			}
		}
		keys[i] = s.Table + "\x00" + load.KeyOfValues(key)
		alone = alone || v.keys[keys[i]]
	}

	for _, p := range v.pending {
		alone = alone || v.ordered(p, &s) || v.ordered(&s, p)
	}
	if alone {
		if err := v.flush(ctx); err != nil {
			return err
		}
	}
	for _, k := range keys {
		v.keys[k] = true
	}
	v.rows += len(s.Values)
	for _, p := range v.pending {
		if p.Alike(s) {
			p.Values = append(p.Values, s.Values...)
			return nil
		}
	}

	v.pending = append(v.pending, &s)
	return nil
}

// ordered reports whether rows of one section may refer to rows of another that is not
// later done back anyway.
func (v *unitWithdrawal) ordered(from, to *journal.UndoSection) bool {
	if from.Kind == journal.UndoChanged && to.Kind == journal.UndoChanged {
		return false
	}
	t := v.db.Table(from.Table)
	if t == nil {
		return false
	}
	for _, r := range t.References {
		if r.To == nil || r.To.Name != to.Table {
			continue
		}
		// A row goes before what it refers to, and comes back after it.
		if !(from.Kind == journal.UndoAdded && from.Step > to.Step) &&
			!(from.Kind == journal.UndoRemoved && from.Step < to.Step) {
			return true
		}
	}
	return false
}

// flush takes back what was gathered.
func (v *unitWithdrawal) flush(ctx context.Context) error {
	slices.SortStableFunc(v.pending, func(a, b *journal.UndoSection) int { return cmp.Compare(b.Step, a.Step) })
	for _, s := range v.pending {
		if err := v.section(ctx, *s); err != nil {
			return err
		}
	}
	v.pending, v.rows, v.keys = nil, 0, map[string]bool{}
	return nil
}

// of is what is told of a table.
func (v *unitWithdrawal) of(table string) *WithdrawnEntity {
	i, ok := v.out.byEntity[table]
	if !ok {
		i = len(v.out.Entities)
		v.out.byEntity[table] = i
		v.out.Entities = append(v.out.Entities, WithdrawnEntity{Entity: v.entry.About.Unit, Table: table})
	}
	return &v.out.Entities[i]
}

// leaving is a row that a withdrawal leaves alone.
type leaving struct {
	row, shown []value.Value // as the journal has it, and its key for people
	also       string        // the word of --also that takes it, too; empty if none does
	why        string
}

// leave notes a row that stays, and why.
func (v *unitWithdrawal) leave(
	s journal.UndoSection,
	t *schema.Table,
	key []*schema.Column,
	x leaving,
) {
	row, shown, also, why := x.row, x.shown, x.also, x.why
	if n := len(v.left); n > 0 && v.left[n-1].Alike(s) {
		v.left[n-1].Values = append(v.left[n-1].Values, row)
	} else {
		s.Values = [][]value.Value{row}
		v.left = append(v.left, s)
	}
	if also != "" && !slices.Contains(v.out.Also, also) {
		v.out.Also = append(v.out.Also, also)
		slices.Sort(v.out.Also)
	}
	v.out.Left++
	v.of(t.Name).Left++
	if len(v.out.LeftRows) < replay.MaxCompared {
		v.out.LeftRows = append(
			v.out.LeftRows,
			LeftRow{Entity: t.Name, Key: load.Pairs(key, shown[:len(key)]), Why: why},
		)
	}
}

// stay tells which rows of a section are gone, or are left because they were changed.
func (v *unitWithdrawal) stay(
	ctx context.Context,
	s journal.UndoSection,
	t *schema.Table,
	key []*schema.Column,
	st store.Stage,
) ([]bool, error) {
	skip := make([]bool, len(s.Values))
	if err := st.Lock(ctx); err != nil {
		return nil, err
	}
	gone, err := st.Unmatched(ctx, 0)
	if err != nil {
		return nil, err
	}
	for _, n := range gone {
		skip[n] = true
		v.of(t.Name).Gone++
	}
	if v.o.Changed {
		return skip, nil
	}
	differing, err := st.Differing(ctx)
	for _, n := range differing {
		skip[n] = true
		v.leave(s, t, key, leaving{s.Values[n], s.Values[n], alsoChanged, "it was changed since"})
	}
	return skip, err
}

// removeReferrers removes the rows that refer to those of a stage which do not stay.
func (v *unitWithdrawal) removeReferrers(
	ctx context.Context,
	t *schema.Table,
	st store.Stage,
	skip []bool,
) error {
	var drop []int64
	for n, yes := range skip {
		if yes {
			drop = append(drop, int64(n))
		}
	}
	if err := st.Drop(ctx, drop); err != nil {
		return err
	}
	if v.out.Others == nil {
		v.out.Others = map[string]int64{}
	}
	others := referrers{v.tx, v.db, map[string]map[string]bool{}, v.out.Others, v.o.refuseLasting}
	return v.told(t, others.remove(ctx, st))
}

// section takes back what a step did to rows of one table.
func (v *unitWithdrawal) section(ctx context.Context, s journal.UndoSection) error {
	t := v.db.Table(s.Table)
	if t == nil {
		v.out.Left += int64(len(s.Values))
		return nil
	}
	if err := v.reach(s.Table); err != nil {
		return err
	}
	if err := v.o.refuseLasting(t); err != nil {
		return err
	}
	var columns []*schema.Column
	for _, name := range slices.Concat(s.Key, s.Columns) {
		c := t.Column(name)
		if c == nil {
			return &store.Fault{
				Kind: store.Refused,
				Message: fmt.Sprintf(
					"the table %s has no column %s any more, which load %d wrote",
					s.Table,
					name,
					v.entry.Number,
				),
			}
		}
		columns = append(columns, c)
	}

	if s.Kind == journal.UndoRemoved {
		return v.giveBack(ctx, s, t, columns)
	}
	k := len(s.Key)
	key := columns[:k]
	written := make([][]value.Value, len(s.Values)) // as the step left them
	for i, row := range s.Values {
		if written[i] = row; s.Kind == journal.UndoChanged {
			written[i] = slices.Concat(row[:k], row[len(columns):])
		}
	}
	st, err := v.stage(ctx, t, columns, key, written)
	if err != nil {
		return err
	}
	skip, err := v.stay(ctx, s, t, key, st)
	if err != nil {
		return err
	}
	if s.Kind == journal.UndoAdded {
		if v.o.Referring {
			if err := v.removeReferrers(ctx, t, st, skip); err != nil {
				return err
			}
			if st, err = v.stage(ctx, t, columns, key, written); err != nil {
				return err
			}
		}
		referred, err := st.Referred(ctx, v.db, nil)
		if err != nil {
			return err
		}
		for _, x := range referred {
			if !skip[x.Row] {
				skip[x.Row] = true
				row := s.Values[x.Row]
				v.leave(s, t, key, leaving{row, row, alsoFor(x), x.Why()})
			}
		}
	}

	var rows [][]value.Value
	for i, row := range s.Values {
		if !skip[i] {
			rows = append(rows, row[:len(columns)])
		}
	}
	if len(rows) == 0 {
		return nil
	}
	laid, err := v.tx.StageInputs(ctx, columns, rows)
	if err != nil {
		return err
	}
	step := &store.Step{Table: t}
	for i := range columns {
		if i < k {
			step.Match = append(step.Match, store.Matched{Column: columns[i], Input: i})
		} else {
			step.Set = append(step.Set, store.Assigned{Column: columns[i], Expr: schema.Given(i)})
		}
	}

	if s.Kind == journal.UndoAdded {
		v.of(t.Name).Removed += int64(len(rows))
		return v.told(t, laid.Remove(ctx, step))
	}
	v.of(t.Name).Restored += int64(len(rows))
	_, _, err = laid.Change(ctx, step, nil)
	return v.told(t, err)
}

// stage lays rows aside to be held against a table.
func (v *unitWithdrawal) stage(
	ctx context.Context,
	t *schema.Table,
	columns, key []*schema.Column,
	rows [][]value.Value,
) (store.Stage, error) {
	write := &store.Write{
		Into:     store.Into{Table: t, Columns: columns},
		Mode:     store.Update,
		Match:    key,
		Set:      columns[len(key):],
		Distinct: true,
	}
	for i := range columns {
		write.Fields = append(write.Fields, i)
	}
	return v.tx.Stage(ctx, write, batches(rows, len(columns)))
}

// batches are rows as a store reads them.
func batches(rows [][]value.Value, width int) store.Rows {
	return func(yield func(*value.Batch) bool) {
		for _, row := range rows {
			if !yield(&value.Batch{Len: 1, Width: width, Values: row}) {
				return
			}
		}
	}
}

// giveBack adds removed rows again, but for those whose key somebody has used since.
func (v *unitWithdrawal) giveBack(
	ctx context.Context,
	s journal.UndoSection,
	t *schema.Table,
	columns []*schema.Column,
) error {
	rows := s.Values
	into := store.Into{Table: t}
	for i, c := range columns {
		if !c.Generated {
			into.Columns, into.Fields = append(into.Columns, c), append(into.Fields, i)
		}
	}
	st, err := v.tx.Stage(ctx, &store.Write{Into: into, Mode: store.Insert}, batches(rows, len(columns)))
	if err != nil {
		return err
	}
	var key []*schema.Column
	for _, name := range t.PrimaryKey {
		key = append(key, t.Column(name))
	}
	keyOf := func(row []value.Value) []value.Value {
		var out []value.Value
		for _, c := range key {
			out = append(out, row[slices.Index(columns, c)])
		}
		return out
	}
	guilty, err := st.Guilty(ctx)
	if err != nil {
		return err
	}
	var drop []int64
	for _, x := range guilty {
		drop = append(drop, x.Row)
		v.leave(s, t, key, leaving{rows[x.Row], keyOf(rows[x.Row]), "", "it cannot be put back: " + x.Message})
	}
	if err := st.Drop(ctx, drop); err != nil {
		return err
	}
	o, err := st.Apply(ctx, 0, int64(len(rows)))
	v.of(t.Name).Returned += o.Inserted
	return v.told(t, err)
}

// told says of which table a refusal is.
func (v *unitWithdrawal) told(t *schema.Table, err error) error {
	var x *store.Violation
	if !errors.As(err, &x) {
		return err
	}
	return &journal.Refusal{
		Kind:       x.Kind,
		Entity:     v.entry.About.Unit,
		Table:      t.Name,
		Constraint: x.Constraint,
		Columns:    x.Columns,
		Fields:     x.Columns,
		Refers:     x.Refers,
		Code:       x.Code,
		Message:    x.Message,
		Hint:       "other rows are in the way: nothing was withdrawn",
	}
}
