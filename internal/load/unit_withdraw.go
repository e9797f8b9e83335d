package load

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"evensprout/internal/grow"
	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/value"
)

// unitWithdrawal is the taking back of a run of a unit.
type unitWithdrawal struct {
	o      WithdrawOptions
	entry  *Entry
	db     *schema.Database
	tables *store.Journal
	reach  func(table string) error // tells if a table is not one that may be touched
	store  store.Store
	tx     store.Tx
	out    Withdrawal

	pending []*undoSection  // to be done together, last steps first
	left    []undoSection   // what is not taken back, last steps first
	rows    int             // of these
	keys    map[string]bool // of these rows
}

// withdrawUnit takes a run of a unit back, in one transaction: last steps first, added
// rows go, changed ones get their former contents, and removed ones come back.
func withdrawUnit(ctx context.Context, s store.Store, e *Entry, o WithdrawOptions) (*Withdrawal, error) {
	if e.State == StateWithdrawn {
		return nil, &store.Fault{Kind: store.Refused, Message: fmt.Sprintf("load %d is withdrawn already", e.Number), Hint: "evensprout history lists the loads"}
	}
	if e.State == StateOpen {
		if err := lockPlan(ctx, s, runName(e.Plan, e.Number)); err != nil {
			return nil, err
		}
		defer unlockPlan(ctx, s, runName(e.Plan, e.Number))
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
	l := &loader{o: Options{Again: o.Again}, traits: s.Traits()}
	w := &writer{loader: l, store: s}
	defer w.close()
	v := &unitWithdrawal{o: o, entry: e, db: db, tables: tables}
	if v.reach, err = o.By.reach(e, tables, db); err != nil {
		return nil, err
	}
	err = l.repeat(ctx, w, func() error {
		if err := w.begin(ctx); err != nil {
			return err
		}
		v.store, v.tx = w.store, w.tx
		v.out = Withdrawal{Load: e.Number, Plan: e.Plan, Unit: e.About.Unit, DryRun: o.DryRun, byEntity: map[string]int{}}
		if err := v.run(ctx); err != nil {
			return err
		}
		if o.DryRun {
			return w.rollback()
		}
		return w.commit(ctx)
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

func (v *unitWithdrawal) run(ctx context.Context) error {
	of := v.tables.Loads
	n, err := v.tx.Set(ctx, of, cells(of, "state", string(StateWithdrawn)), cells(of, "number", v.entry.Number, "state", string(v.entry.State)))
	if err != nil {
		return err
	}
	if n != 1 {
		return &store.Fault{Kind: store.Refused, Message: fmt.Sprintf("load %d is no longer %s: somebody else works on it", v.entry.Number, v.entry.State)}
	}
	if !v.entry.About.Undo {
		return &store.Fault{Kind: store.Refused, Message: fmt.Sprintf("load %d was run with --no-undo, so it is not known what its steps have changed", v.entry.Number)}
	}
	v.pending, v.left, v.rows, v.keys = nil, nil, 0, map[string]bool{}
	err = undoPackets(ctx, v.store, v.tables, v.entry.Number, true, func(s undoSection) error { return v.gather(ctx, s) })
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
	if _, err := v.tx.Delete(ctx, v.tables.Contents, cells(v.tables.Contents, "load", v.entry.Number)); err != nil {
		return err
	}
	_, err = v.tx.Delete(ctx, v.tables.Occasions, cells(v.tables.Occasions, "load", v.entry.Number))
	return err
}

// keepLeft notes what is left of the run, so that a later withdrawal can go on. Its
// occasions stay done until then.
func (v *unitWithdrawal) keepLeft(ctx context.Context) error {
	slices.Reverse(v.left)
	log := undoLog{sections: v.left}
	packets, err := log.pack()
	if err != nil {
		return err
	}
	of, at := v.tables.Contents, leftKey(v.entry.Number)
	if _, err := v.tx.Delete(ctx, of, cells(of, "load", v.entry.Number, "what", contentUnit)); err != nil {
		return err
	}
	for i, p := range packets {
		row := append(at.cells(of), cells(of, "seq", int64(i+1), "entity", v.entry.About.Unit, "of", "", "what", contentUnit, "rows", p.rows, "body", p.body)...)
		if err := v.tx.Add(ctx, of, row); err != nil {
			return err
		}
	}
	loads := v.tables.Loads
	_, err = v.tx.Set(ctx, loads, cells(loads, "state", string(StatePartly)), cells(loads, "number", v.entry.Number))
	return err
}

// maxPending bounds the rows that are taken back together.
const maxPending = 2000

// gather puts sections of many occasions together, as long as no two of them are about
// the same row, and none needs to be done before another in a way that the order of
// steps does not tell.
func (v *unitWithdrawal) gather(ctx context.Context, s undoSection) error {
	keys := make([]string, len(s.values))
	alone := v.rows+len(s.values) > maxPending
	for i, row := range s.values {
		key := row
		if s.Kind != undoRemoved {
			key = row[:len(s.Key)]
		} else if t := v.db.Table(s.Table); t != nil {
			key = nil
			for _, name := range t.PrimaryKey {
				if at := slices.Index(s.Columns, name); at >= 0 {
					key = append(key, row[at])
				}
			}
		}
		keys[i] = s.Table + "\x00" + keyOfValues(key)
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
	v.rows += len(s.values)
	for _, p := range v.pending {
		if p.alike(s) {
			p.values = append(p.values, s.values...)
			return nil
		}
	}
	v.pending = append(v.pending, &s)
	return nil
}

// ordered tells whether rows of one section may refer to rows of another that is not
// later done back anyway.
func (v *unitWithdrawal) ordered(from, to *undoSection) bool {
	if from.Kind == undoChanged && to.Kind == undoChanged {
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
		if !(from.Kind == undoAdded && from.Step > to.Step) && !(from.Kind == undoRemoved && from.Step < to.Step) {
			return true
		}
	}
	return false
}

// flush takes back what was gathered.
func (v *unitWithdrawal) flush(ctx context.Context) error {
	slices.SortStableFunc(v.pending, func(a, b *undoSection) int { return cmp.Compare(b.Step, a.Step) })
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

func (v *unitWithdrawal) leave(s undoSection, t *schema.Table, key []*schema.Column, row, shown []value.Value, also, why string) {
	if n := len(v.left); n > 0 && v.left[n-1].alike(s) {
		v.left[n-1].values = append(v.left[n-1].values, row)
	} else {
		s.values = [][]value.Value{row}
		v.left = append(v.left, s)
	}
	if also != "" && !slices.Contains(v.out.Also, also) {
		v.out.Also = append(v.out.Also, also)
		slices.Sort(v.out.Also)
	}
	v.out.Left++
	v.of(t.Name).Left++
	if len(v.out.LeftRows) < maxCompared {
		v.out.LeftRows = append(v.out.LeftRows, LeftRow{Entity: t.Name, Key: pairs(key, shown[:len(key)]), Why: why})
	}
}

// section takes back what a step did to rows of one table.
func (v *unitWithdrawal) section(ctx context.Context, s undoSection) error {
	t := v.db.Table(s.Table)
	if t == nil {
		v.out.Left += int64(len(s.values))
		return nil
	}
	if err := v.reach(s.Table); err != nil {
		return err
	}
	var columns []*schema.Column
	for _, name := range slices.Concat(s.Key, s.Columns) {
		c := t.Column(name)
		if c == nil {
			return &store.Fault{Kind: store.Refused, Message: fmt.Sprintf("the table %s has no column %s any more, which load %d wrote", s.Table, name, v.entry.Number)}
		}
		columns = append(columns, c)
	}
	if s.Kind == undoRemoved {
		return v.giveBack(ctx, s, t, columns)
	}
	k := len(s.Key)
	key := columns[:k]
	written := make([][]value.Value, len(s.values)) // as the step left them
	for i, row := range s.values {
		if written[i] = row; s.Kind == undoChanged {
			written[i] = slices.Concat(row[:k], row[len(columns):])
		}
	}
	st, err := v.stage(ctx, t, columns, key, written)
	if err != nil {
		return err
	}
	skip := make([]bool, len(s.values))
	gone, err := st.Unmatched(ctx, 0)
	if err != nil {
		return err
	}
	for _, n := range gone {
		skip[n] = true
		v.of(t.Name).Gone++
	}
	if !v.o.Changed {
		differing, err := st.Differing(ctx)
		if err != nil {
			return err
		}
		for _, n := range differing {
			skip[n] = true
			v.leave(s, t, key, s.values[n], s.values[n], alsoChanged, "it was changed since")
		}
	}
	if s.Kind == undoAdded && v.o.Referring {
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
		if err := removeReferrers(ctx, v.tx, v.db, st, map[string]map[string]bool{}, v.out.Others); err != nil {
			return v.told(t, err)
		}
		if st, err = v.stage(ctx, t, columns, key, written); err != nil {
			return err
		}
	}
	if s.Kind == undoAdded {
		referred, err := st.Referred(ctx, v.db, nil)
		if err != nil {
			return err
		}
		for _, x := range referred {
			if !skip[x.Row] {
				skip[x.Row] = true
				v.leave(s, t, key, s.values[x.Row], s.values[x.Row], alsoReferring, "rows of "+x.Table+" refer to it")
			}
		}
	}
	var rows [][]value.Value
	for i, row := range s.values {
		if !skip[i] {
			rows = append(rows, row[:len(columns)])
		}
	}
	if len(rows) == 0 {
		return nil
	}
	laid, err := v.tx.Lay(ctx, columns, rows)
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
	if s.Kind == undoAdded {
		v.of(t.Name).Removed += int64(len(rows))
		return v.told(t, laid.Remove(ctx, step))
	}
	v.of(t.Name).Restored += int64(len(rows))
	_, _, err = laid.Change(ctx, step, nil)
	return v.told(t, err)
}

// stage lays rows aside to be held against a table.
func (v *unitWithdrawal) stage(ctx context.Context, t *schema.Table, columns, key []*schema.Column, rows [][]value.Value) (store.Stage, error) {
	write := &store.Write{Into: store.Into{Table: t, Columns: columns}, Mode: store.Update, Match: key, Set: columns[len(key):], Distinct: true}
	for i := range columns {
		write.Fields = append(write.Fields, i)
	}
	return v.tx.Stage(ctx, write, batches(rows, len(columns)))
}

// batches are rows as a store reads them.
func batches(rows [][]value.Value, width int) store.Rows {
	return func(yield func(*grow.Batch) bool) {
		for _, row := range rows {
			if !yield(&grow.Batch{Len: 1, Width: width, Values: row}) {
				return
			}
		}
	}
}

// giveBack adds removed rows again, but for those whose key somebody has used since.
func (v *unitWithdrawal) giveBack(ctx context.Context, s undoSection, t *schema.Table, columns []*schema.Column) error {
	rows := s.values
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
		v.leave(s, t, key, rows[x.Row], keyOf(rows[x.Row]), "", fmt.Sprintf("it cannot come back: %s", x.Message))
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
	return &Refusal{Kind: x.Kind, Entity: v.entry.About.Unit, Table: t.Name, Constraint: x.Constraint, Columns: x.Columns, Fields: x.Columns, Refers: x.Refers, Code: x.Code, Message: x.Message,
		Hint: "other rows stand in the way: nothing was withdrawn"}
}
