package unit

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"evensprout/internal/load"

	"evensprout/internal/journal"

	"evensprout/internal/plan"
	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/value"
)

// fits holds values against what their columns can hold.
func (s *unitStep) fits(xs []*occasion, values [][]value.Value, columns []*schema.Column, inputs []int) error {
	for i, row := range values {
		for j, c := range columns {
			if v := store.Misfit(c, &row[inputs[j]]); v != nil {
				v.Table = s.Table.Name
				return &refusedStep{s.index, xs[i], v}
			}
		}
	}
	return nil
}

// insertRows adds a row for each occasion.
func (r *unitRun) insertRows(ctx context.Context, s *unitStep, xs []*occasion, careful bool) error {
	values, err := r.values(s, xs)
	if err != nil {
		return err
	}
	if err := r.add(ctx, s, xs, values, careful); err != nil {
		return err
	}
	r.touched[s.index] += int64(len(xs))
	return nil
}

// add adds rows.
func (r *unitRun) add(ctx context.Context, s *unitStep, xs []*occasion, values [][]value.Value, careful bool) error {
	if err := s.fits(xs, values, s.into.Columns, s.into.Fields); err != nil {
		return err
	}
	rows := func(yield func(*value.Batch) bool) {
		b := &value.Batch{Len: len(values), Width: len(s.inputs)}
		for _, row := range values {
			b.Values = append(b.Values, row...)
		}
		yield(b)
	}
	do := func() (keys []value.Value, err error) {
		switch {
		case s.key != nil && len(xs) > 1:
			return r.w.Tx.InsertUnkeyed(ctx, s.into, s.key, rows)
		case len(xs) > 1 || slices.ContainsFunc(s.into.Columns,
			func(c *schema.Column) bool { return c.Identity == schema.Always }):
			_, err = r.w.Tx.Insert(ctx, s.into, rows)
			return nil, err
		}
		laid, err := r.w.Tx.StageInputs(ctx, s.columns, values)
		if err != nil {
			return nil, err
		}
		key, err := laid.Add(ctx, s.insert, s.key)
		return []value.Value{key}, err
	}
	var keys []value.Value
	var err error
	if careful {
		keys, err = r.carefully(ctx, s, rows, do)
	} else {
		keys, err = do()
	}
	if err != nil {
		return err
	}
	for j := range r.unit.Slots {
		if slot := &r.unit.Slots[j]; slot.Step == s.index && s.key != nil && slot.Column == s.key {
			for i, x := range xs {
				x.slots[j], x.known[j] = keys[i], true
			}
		}
	}

	if r.w.Session.Undoes() {
		s.undoAdded(&r.undo, values, keys)
	}
	return nil
}

// carefully adds a row under a savepoint, so that, if it is refused, set-based queries
// can tell why.
func (r *unitRun) carefully(
	ctx context.Context,
	s *unitStep,
	rows store.Rows,
	do func() ([]value.Value, error),
) ([]value.Value, error) {
	const name = "evensprout_row"
	if err := r.w.Tx.Savepoint(ctx, name); err != nil {
		return nil, err
	}
	keys, err := do()
	var v *store.Violation
	if err == nil || !errors.As(err, &v) {
		return keys, errors.Join(err, r.w.Tx.Release(ctx, name))
	}
	if err := r.w.Tx.RollbackTo(ctx, name); err != nil {
		return nil, err
	}
	st, failed := r.w.Tx.Stage(ctx, &store.Write{Into: s.into, Mode: store.Insert}, rows)
	if failed == nil {
		var guilty []*store.Violation
		if guilty, failed = st.Guilty(ctx); failed == nil && len(guilty) > 0 {
			found := guilty[0]
			if found.Code == "" {
				found.Code, found.Message = v.Code, v.Message
			}
			return nil, found
		}
	}
	if errors.As(failed, new(*store.Violation)) {
		return nil, failed
	}
	return nil, err
}

// upsertRows changes the row of each occasion, or adds it.
func (r *unitRun) upsertRows(ctx context.Context, s *unitStep, xs []*occasion, careful bool) error {
	values, laid, err := r.lay(ctx, s, xs)
	if err != nil {
		return err
	}
	there := make([]bool, len(xs))
	if err := laid.Look(ctx, s.look, func(n int64, _ []value.Value) error {
		there[n] = true
		return nil
	}); err != nil {
		return err
	}

	part := func(want bool) (ps []*occasion, vs [][]value.Value) {
		for i, x := range xs {
			if there[i] == want {
				ps, vs = append(ps, x), append(vs, values[i])
			}
		}
		return ps, vs
	}
	if ps, vs := part(false); len(ps) > 0 {
		if err := r.add(ctx, s, ps, vs, careful); err != nil {
			return r.raced(ctx, s, vs, err)
		}
	}
	if ps, vs := part(true); len(ps) > 0 {
		if _, err := r.change(ctx, s, ps, vs); err != nil {
			return err
		}
	}
	r.touched[s.index] += int64(len(xs))
	return nil
}

// raced reports whether a row that was not there is there now: then another transaction
// has added it in between, and this one is begun again.
func (r *unitRun) raced(ctx context.Context, s *unitStep, values [][]value.Value, err error) error {
	var v *store.Violation
	if !errors.As(err, &v) || v.Kind != store.Unique || len(v.Columns) != len(s.Match) {
		return err
	}
	for _, m := range s.Match {
		if !slices.Contains(v.Columns, m.Column.Name) {
			return err
		}
	}
	return &store.Fault{Kind: store.Transient, Message: "another transaction added the same row", Err: v}
}

// updateRows changes the rows of each occasion.
func (r *unitRun) updateRows(ctx context.Context, s *unitStep, xs []*occasion) error {
	values, err := r.values(s, xs)
	if err != nil {
		return err
	}
	counts, err := r.change(ctx, s, xs, values)
	if err != nil {
		return err
	}
	return r.counted(s, xs, values, counts)
}

// given are the columns that are set to values of the occasion, and which these are.
func (s *unitStep) given() (columns []*schema.Column, inputs []int) {
	for _, a := range s.set {
		if a.Expr.Op == schema.OpInput {
			columns, inputs = append(columns, a.Column), append(inputs, a.Expr.Input)
		}
	}
	return columns, inputs
}

// change changes rows, and says how many each occasion matched.
func (r *unitRun) change(ctx context.Context, s *unitStep, xs []*occasion, values [][]value.Value) ([]uint64, error) {
	columns, inputs := s.given()
	if err := s.fits(xs, values, columns, inputs); err != nil {
		return nil, err
	}
	laid, err := r.w.Tx.StageInputs(ctx, s.columns, values)
	if err != nil {
		return nil, err
	}
	counts := make([]uint64, len(xs))
	if len(xs) == 1 && !s.keeps && s.Word == plan.StepUpdate && r.w.Session.Traits.CountsMatches {
		n, _, err := laid.Change(ctx, s.change, nil) // what it has done too much is taken back
		counts[0] = uint64(n)
		return counts, err
	}
	if s.counts && len(xs) > 1 {
		n, _, err := laid.Change(ctx, s.change, nil)
		if err == nil && n != int64(len(xs)) {
			// Which of them it was, tells the look that each has when it is done alone.
			err = &refusedStep{s.index, nil, &store.Violation{Kind: store.RowCount, Row: -1, Table: s.Table.Name}}
		}
		for i := range counts {
			counts[i] = 1
		}
		return counts, err
	}

	var before, after [][]value.Value
	computes := s.computes
	err = laid.Look(ctx, s.look, func(n int64, row []value.Value) error {
		counts[n]++
		if !s.keeps {
			return nil
		}
		before = append(before, slices.Clone(row))
		if computes {
			var next []value.Value
			if next, computes = s.compute(row, values[n]); computes {
				after = append(after, next)
			}
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	if slices.ContainsFunc(counts, func(n uint64) bool { return n < s.Lo || n > s.Hi }) {
		return counts, nil // told by the caller: nothing is written
	}
	found := map[string][]value.Value{}
	note := func(row []value.Value) error {
		found[load.KeyOfValues(row[:len(s.rowKey)])] = slices.Clone(row)
		return nil
	}
	_, shown, err := laid.Change(ctx, s.change, note)
	if err != nil || len(before) == 0 {
		return counts, err
	}
	if !computes && !shown {
		if err := r.lookAgain(ctx, s, laid, before, note); err != nil {
			return nil, err
		}
	}
	if !computes {
		if after, err = s.changedTo(before, found); err != nil {
			return nil, err
		}
	}
	s.undoChanged(&r.undo, before, after)
	return counts, nil
}

// changedTo finds what rows hold after a change, in the order of what they held before.
func (s *unitStep) changedTo(before [][]value.Value, found map[string][]value.Value) ([][]value.Value, error) {
	after := make([][]value.Value, len(before))
	for i, row := range before {
		if after[i] = found[load.KeyOfValues(row[:len(s.rowKey)])]; after[i] == nil {
			return nil, s.lost()
		}
	}
	return after, nil
}

// lost tells of a row that cannot be found again.
func (s *unitStep) lost() error {
	return fmt.Errorf("a row of %s that %s just changed is gone: does a trigger delete it?", s.Table.Name, s.Label())
}

// lookAgain reads what rows hold that were changed.
func (r *unitRun) lookAgain(
	ctx context.Context,
	s *unitStep,
	laid store.Occasions,
	before [][]value.Value,
	note func([]value.Value) error,
) error {
	look := s.after
	if look == nil {
		keys := make([][]value.Value, len(before))
		for i, row := range before {
			keys[i] = row[:len(s.rowKey)]
		}
		var err error
		if laid, err = r.w.Tx.StageInputs(ctx, s.rowKey, keys); err != nil {
			return err
		}
		look = s.afterKey
	}
	return laid.Look(ctx, look, func(_ int64, row []value.Value) error { return note(row) })
}

// deleteRows deletes the rows of each occasion.
func (r *unitRun) deleteRows(ctx context.Context, s *unitStep, xs []*occasion) error {
	values, laid, err := r.lay(ctx, s, xs)
	if err != nil {
		return err
	}
	counts := make([]uint64, len(xs))
	var before [][]value.Value
	err = laid.Look(ctx, s.look, func(n int64, row []value.Value) error {
		counts[n]++
		before = append(before, slices.Clone(row))
		return nil
	})
	if err == nil {
		err = r.counted(s, xs, values, counts)
	}
	if err != nil || len(before) == 0 {
		return err
	}
	takes := func(ref schema.Reference) bool { return ref.To == s.Table && ref.Takes() }
	outside := slices.ContainsFunc(r.w.Session.Plan.Database.Outside, func(other *schema.Table) bool {
		return slices.ContainsFunc(other.References, takes)
	})
	for _, other := range r.w.Session.Plan.Database.Tables {
		if i := slices.IndexFunc(other.References, takes); i >= 0 && other.Hidden != "" {
			return unseen(other, &other.References[i])
		}
	}
	if r.w.Session.Undoes() || outside { // rows of tables that are not of the plan's database are looked for in any case
		if err := r.keepRemoved(ctx, s.index, s.Table, before, map[string]bool{}); err != nil {
			return err
		}
	}
	return laid.Remove(ctx, s.remove)
}

// keepRemoved keeps rows that are about to be deleted, and in front of them those that
// go with them. Each is kept once, though it may refer to itself or go for two reasons:
// kept are those that are.
func (r *unitRun) keepRemoved(
	ctx context.Context,
	step int,
	t *schema.Table,
	rows [][]value.Value,
	kept map[string]bool,
) error {
	copies := map[string]int{} // without a primary key, rows can be alike
	rows = slices.DeleteFunc(rows, func(row []value.Value) bool {
		name := t.Name + "\x00" + load.KeyOfValues(keyOrRow(t, row))
		copies[name]++
		name = fmt.Sprint(name, copies[name])
		was := kept[name]
		kept[name] = true
		return was
	})
	if len(rows) == 0 {
		return nil
	}
	for _, other := range r.w.Session.Plan.Database.Referring() {
		for i := range other.References {
			ref := &other.References[i]
			if ref.To != t || !ref.Takes() {
				continue
			}
			if other.Hidden != "" {
				return unseen(other, ref)
			}
			for _, row := range rows {
				var where []store.Cell
				for j, name := range ref.Columns {
					where = append(
						where,
						store.Cell{
							Column: other.Column(name),
							Value:  row[slices.Index(t.Columns, t.Column(ref.Targets[j]))],
						},
					)
				}
				if slices.ContainsFunc(where, func(c store.Cell) bool { return c.Value.IsNull() }) {
					continue // nothing refers to NULL
				}
				var below [][]value.Value
				err := r.w.Store.Select(
					ctx,
					store.Query{Table: other, Columns: other.Columns, Where: where, Exact: true, Fresh: true},
					func(row []value.Value) error {
						below = append(below, slices.Clone(row))
						return nil
					},
				)
				if err != nil {
					return err
				}
				if len(below) > 0 && r.w.Session.Plan.Database.IsOutside(other) {
					return &store.Violation{Kind: store.ForeignKey, Row: -1, Table: t.Name, Constraint: ref.Name, Refers: t.Name,
						Message: "rows of " + other.Name + " refer to it, which is not a table of this database, and would change with it"}
				}
				if ref.Blanks {
					r.keepBlanked(step, other, ref, below, kept)
				} else if err := r.keepRemoved(ctx, step, other, below, kept); err != nil {
					return err
				}
			}
		}
	}
	r.undo.Removed(step, t, rows)
	return nil
}

// unseen refuses to delete rows that others may refer to which this user does not see, and which would go along.
func unseen(t *schema.Table, ref *schema.Reference) *store.Violation {
	return &store.Violation{Kind: store.ForeignKey, Row: -1, Table: ref.To.Name, Constraint: ref.Name, Refers: ref.To.Name,
		Message: "rows of " + t.Name + " may refer to it, and would change with it: " + t.Hidden}
}

// keepBlanked keeps the references of rows that become NULL when what they refer to is deleted. Rows that go
// themselves, and those that nothing tells from others, are left out.
func (r *unitRun) keepBlanked(step int, t *schema.Table, ref *schema.Reference, rows [][]value.Value, kept map[string]bool) {
	s := journal.UndoSection{Step: step, Kind: journal.UndoChanged, Table: t.Name, Key: t.PrimaryKey, Columns: ref.Columns}
	for _, row := range rows {
		key := keyOrRow(t, row)
		if len(t.PrimaryKey) == 0 || kept[fmt.Sprint(t.Name+"\x00"+load.KeyOfValues(key), 1)] {
			continue
		}
		var was []value.Value
		for _, name := range ref.Columns {
			was = append(was, row[slices.Index(t.Columns, t.Column(name))])
		}
		s.Values = append(s.Values, slices.Concat(key, was, make([]value.Value, len(was))))
	}
	if len(s.Values) > 0 {
		r.undo.Add(s)
	}
}

// keyOrRow is what tells a row of a table from others: its key, or all of it.
func keyOrRow(t *schema.Table, row []value.Value) []value.Value {
	var key []value.Value
	for i, c := range t.Columns {
		if slices.Contains(t.PrimaryKey, c.Name) {
			key = append(key, row[i])
		}
	}
	if len(key) == 0 {
		return row
	}
	return key
}

// clearTable empties a table before the first occasion.
func (r *unitRun) clearTable(ctx context.Context, step int) error {
	s := r.steps[step]
	refuse := func(v *store.Violation) error {
		v.Table = s.Table.Name
		return &journal.Refusal{
			Kind:       v.Kind,
			Entity:     r.unit.Plan.Name,
			Step:       fmt.Sprintf("%d: %s", step+1, s.Label()),
			Table:      s.Table.Name,
			Constraint: v.Constraint,
			Refers:     v.Refers,
			Code:       v.Code,
			Message:    v.Message,
			Hint:       "first delete the rows that refer to it, in a separate step",
		}
	}
	if err := r.w.Tx.LockRows(ctx, r.w.Session.Plan.Database, s.Table); err != nil {
		return err
	}
	for _, other := range r.w.Session.Plan.Database.Referring() {
		for i := range other.References {
			ref := &other.References[i]
			if ref.To != s.Table || !ref.Takes() || other == s.Table {
				continue
			}
			if other.Hidden != "" {
				return refuse(unseen(other, ref))
			}
			n := 0
			if err := r.w.Tx.Referring(ctx, other, ref, func([]value.Value) error { n++; return nil }); err != nil {
				return err
			}
			if n > 0 {
				return refuse(
					&store.Violation{
						Kind:       store.ForeignKey,
						Constraint: ref.Name,
						Message: fmt.Sprintf(
							"%d rows of %s refer to rows of %s, and would be deleted or changed as well",
							n,
							other.Name,
							s.Table.Name,
						),
					},
				)
			}
		}
	}

	if r.w.Session.Undoes() {
		var rows [][]value.Value
		err := r.w.Store.Select(
			ctx,
			store.Query{Table: s.Table, Columns: s.Table.Columns, Exact: true, Fresh: true},
			func(row []value.Value) error {
				rows = append(rows, slices.Clone(row))
				return nil
			},
		)
		if err != nil {
			return err
		}
		r.undo.Removed(step, s.Table, rows)
	}

	n, err := r.w.Tx.Clear(ctx, s.Table)
	var v *store.Violation
	if errors.As(err, &v) {
		return refuse(v)
	}
	r.touched[step] += n
	return err
}
