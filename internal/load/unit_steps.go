package load

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"evensprout/internal/grow"
	"evensprout/internal/plan"
	"evensprout/internal/schema"
	"evensprout/internal/store"
)

// refusedStep tells that a step refused an occasion.
type refusedStep struct {
	step int
	at   *occasion // nil if it is not known which of several it was
	v    *store.Violation
}

func (e *refusedStep) Error() string { return e.v.Error() }

// value is a value of an occasion; of an expression it is computed when it is first
// asked for.
func (r *unitRun) value(x *occasion, slot int) (grow.Value, error) {
	if x.known[slot] {
		return x.slots[slot], nil
	}
	s := &r.unit.Slots[slot]
	v := s.Value
	switch {
	case s.Field >= 0:
		v = x.fields[s.Field]
	case s.Step >= 0:
		return grow.Value{}, nil // the row was allowed not to be there
	case s.Expr != nil:
		in := make([]grow.Value, len(s.From))
		for i, from := range s.From {
			var err error
			if in[i], err = r.value(x, from); err != nil {
				return v, err
			}
		}
		var err error
		if v, err = s.Expr.Eval(in); err != nil {
			return v, fmt.Errorf("%s: %w", s.Name, err)
		}
	}
	x.slots[slot], x.known[slot] = v, true
	return v, nil
}

// values are the values of a step's statements, for each occasion.
func (r *unitRun) values(s *unitStep, xs []*occasion) ([][]grow.Value, error) {
	out := make([][]grow.Value, len(xs))
	if s.one == nil {
		s.one = make([]grow.Value, len(s.inputs))
	}
	for i, x := range xs {
		row := s.one
		if len(xs) > 1 {
			row = make([]grow.Value, len(s.inputs))
		}
		for j, in := range s.inputs {
			v, err := r.value(x, in.slot)
			if err != nil {
				return nil, &refusedStep{s.index, x, &store.Violation{Kind: store.BadValue, Row: -1, Table: s.tableName(), Message: err.Error()}}
			}
			row[j] = v
		}
		out[i] = row
	}
	return out, nil
}

// lay makes the values of a step ready for its statements.
func (r *unitRun) lay(ctx context.Context, s *unitStep, xs []*occasion) ([][]grow.Value, store.Occasions, error) {
	values, err := r.values(s, xs)
	if err != nil {
		return nil, nil, err
	}
	laid, err := r.tx.Lay(ctx, s.columns, values)
	return values, laid, err
}

// piece does occasions that are not done yet.
func (r *unitRun) piece(ctx context.Context, xs []*occasion) error {
	if r.set && len(xs) > 1 {
		// Few at a time are not worth a temporary table.
		if layers := r.layers(xs); len(layers)*4 <= len(xs) {
			done, err := r.inLayers(ctx, layers)
			if done {
				r.atonce += int64(len(xs))
			}
			if done || err != nil {
				return err
			}
		}
	}
	if len(xs) > 1 {
		// One by one, but under one mark: what is refused is the exception.
		layers := make([][]*occasion, len(xs))
		for i := range xs {
			layers[i] = xs[i : i+1]
		}
		done, err := r.inLayers(ctx, layers)
		if done || err != nil {
			return err
		}
	}
	for _, x := range xs {
		if err := r.single(ctx, x); err != nil {
			return err
		}
		if err := ctx.Err(); err != nil {
			return err
		}
	}
	return nil
}

// mark is how far the transaction is, to go back to.
type mark struct {
	sections int
	touched  []int64
}

func (r *unitRun) mark() mark { return mark{len(r.undo.sections), slices.Clone(r.touched)} }

func (r *unitRun) backTo(m mark) {
	r.undo.sections, r.touched = r.undo.sections[:m.sections], slices.Clone(m.touched)
}

// inLayers does layers of occasions, each by one statement for every step. If anything is
// refused, it takes them all back, and they are to be done again, each under a mark of its
// own: that tells which it is, and what is true of those before it.
func (r *unitRun) inLayers(ctx context.Context, layers [][]*occasion) (bool, error) {
	const name = "evensprout_piece"
	m := r.mark()
	if err := r.tx.Savepoint(ctx, name); err != nil {
		return false, err
	}
	for _, layer := range layers {
		err := r.doSteps(ctx, layer, false)
		var refused *refusedStep
		if errors.As(err, &refused) {
			r.backTo(m)
			for _, layer := range layers {
				for _, x := range layer {
					clear(x.known)
				}
			}
			if err := r.tx.RollbackTo(ctx, name); err != nil {
				return false, err
			}
			return false, r.tx.Release(ctx, name)
		}
		if err == nil {
			err = ctx.Err()
		}
		if err != nil {
			return false, err
		}
	}
	for _, layer := range layers {
		r.done += int64(len(layer))
	}
	return true, r.tx.Release(ctx, name)
}

// single does one occasion. If it is refused, it is taken back alone, and the policy
// says what becomes of it.
func (r *unitRun) single(ctx context.Context, x *occasion) error {
	const name = "evensprout_occasion"
	m := r.mark()
	if err := r.tx.Savepoint(ctx, name); err != nil {
		return err
	}
	one := []*occasion{x}
	err := r.doSteps(ctx, one, false)
	for careful := false; err != nil; careful = true {
		var refused *refusedStep
		if !errors.As(err, &refused) {
			return err
		}
		r.backTo(m)
		clear(x.known)
		if err := r.tx.RollbackTo(ctx, name); err != nil {
			return err
		}
		if careful {
			if err := r.tx.Release(ctx, name); err != nil {
				return err
			}
			refusal := r.refuse(x, refused.step, refused.v)
			if r.policy(refused.v.Kind) != plan.Skip {
				return refusal
			}
			return r.reject(ctx, x, refusal)
		}
		err = r.doSteps(ctx, one, true) // so that the refusal can be looked into
	}
	r.done++
	return r.tx.Release(ctx, name)
}

// doSteps does all steps of occasions, none of which touches a row that another one
// does. With careful there is one, and a row that is refused is looked into.
func (r *unitRun) doSteps(ctx context.Context, xs []*occasion, careful bool) error {
	for _, s := range r.steps {
		var err error
		switch s.Word {
		case plan.StepClear:
			continue // done before
		case plan.StepFind:
			err = r.find(ctx, s, xs)
		case plan.StepRequire:
			err = r.require(ctx, s, xs)
		case plan.StepInsert:
			err = r.insertRows(ctx, s, xs, careful)
		case plan.StepUpsert:
			err = r.upsertRows(ctx, s, xs, careful)
		case plan.StepUpdate:
			err = r.updateRows(ctx, s, xs)
		case plan.StepDelete:
			err = r.deleteRows(ctx, s, xs)
		}
		var v *store.Violation
		if errors.As(err, &v) {
			refused := &refusedStep{step: s.index, v: v}
			if len(xs) == 1 {
				refused.at = xs[0]
			}
			return refused
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// find looks up the row of each occasion.
func (r *unitRun) find(ctx context.Context, s *unitStep, xs []*occasion) error {
	values, laid, err := r.lay(ctx, s, xs)
	if err != nil {
		return err
	}
	counts := make([]uint64, len(xs))
	err = laid.Look(ctx, s.look, func(n int64, row []grow.Value) error {
		counts[n]++
		for i, c := range s.Read {
			for j := range r.unit.Slots {
				if slot := &r.unit.Slots[j]; slot.Step == s.index && slot.Column == c {
					xs[n].slots[j], xs[n].known[j] = coerced(row[i], slot), true
				}
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	return r.counted(s, xs, values, counts)
}

// coerced is a value as expressions expect it of a slot.
func coerced(v grow.Value, s *plan.Slot) grow.Value {
	if s.Type == grow.Decimal && (v.Type == grow.Integer || v.Type == grow.Decimal) {
		if d, ok := v.Rescale(max(s.Scale, v.Scale)); ok {
			return d
		}
	}
	return v
}

// counted holds how many rows a step has touched against what it says, and counts them.
func (r *unitRun) counted(s *unitStep, xs []*occasion, values [][]grow.Value, counts []uint64) error {
	for i, n := range counts {
		if n >= s.Lo && n <= s.Hi {
			continue
		}
		v := &store.Violation{Kind: store.RowCount, Row: -1, Table: s.Table.Name}
		for _, m := range s.match {
			v.Columns, v.Values = append(v.Columns, m.Column.Name), append(v.Values, values[i][m.Input])
		}
		expected := fmt.Sprint(s.Lo)
		switch {
		case s.Hi == plan.AnyNumber:
			expected += " or more"
		case s.Hi > s.Lo:
			expected += fmt.Sprintf(" to %d", s.Hi)
		}
		v.Message = fmt.Sprintf("%d rows of %s have this, and %s is expected", n, s.Table.Name, expected)
		switch {
		case n == 0:
			v.Message = fmt.Sprintf("no row of %s has this", s.Table.Name)
		case s.Hi == 1:
			v.Message = fmt.Sprintf("%d rows of %s have this, and one is expected", n, s.Table.Name)
		}
		return &refusedStep{s.index, xs[i], v}
	}
	for _, n := range counts {
		r.touched[s.index] += int64(n)
	}
	return nil
}

// require holds a condition against each occasion.
func (r *unitRun) require(ctx context.Context, s *unitStep, xs []*occasion) error {
	for _, x := range xs {
		in := make([]grow.Value, len(s.From))
		var shown []string
		var given []store.Cell
		var held bool
		v := &store.Violation{Kind: store.Requirement, Row: -1, Message: s.Because}
		for i, slot := range s.From {
			var err error
			if in[i], err = r.value(x, slot); err != nil {
				v.Kind, v.Message = store.BadValue, err.Error()
				return &refusedStep{s.index, x, v}
			}
			shown = append(shown, fmt.Sprintf("%s is %s", r.unit.Slots[slot].Name, in[i]))
			given = append(given, store.Cell{Column: r.columnFor(slot), Value: in[i]})
		}
		var err error
		if s.Condition != nil {
			var out grow.Value
			out, err = s.Condition.Eval(in)
			held = out.Type == grow.Boolean && out.N == 1
			if err != nil {
				v.Kind, v.Message = store.BadValue, err.Error()
				return &refusedStep{s.index, x, v}
			}
		} else if held, err = r.tx.Holds(ctx, s.SQL, given); err != nil {
			return fmt.Errorf("unit %s, step %d: the condition in SQL cannot be looked at: %w", r.unit.Plan.Name, s.index+1, err)
		}
		if held {
			r.touched[s.index]++
			continue
		}
		if v.Message == "" {
			v.Message = "the condition does not hold"
		}
		if len(shown) > 0 {
			v.Message += " (" + strings.Join(shown, ", ") + ")"
		}
		return &refusedStep{s.index, x, v}
	}
	return nil
}

// fits holds values against what their columns can hold.
func (s *unitStep) fits(xs []*occasion, values [][]grow.Value, columns []*schema.Column, inputs []int) error {
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
func (r *unitRun) add(ctx context.Context, s *unitStep, xs []*occasion, values [][]grow.Value, careful bool) error {
	if err := s.fits(xs, values, s.into.Columns, s.into.Fields); err != nil {
		return err
	}
	rows := func(yield func(*grow.Batch) bool) {
		b := &grow.Batch{Len: len(values), Width: len(s.inputs)}
		for _, row := range values {
			b.Values = append(b.Values, row...)
		}
		yield(b)
	}
	do := func() (keys []grow.Value, err error) {
		switch {
		case s.key != nil && len(xs) > 1:
			return r.tx.InsertUnkeyed(ctx, s.into, s.key, rows)
		case len(xs) > 1 || slices.ContainsFunc(s.into.Columns, func(c *schema.Column) bool { return c.Identity == schema.Always }):
			_, err = r.tx.Insert(ctx, s.into, rows)
			return nil, err
		}
		laid, err := r.tx.Lay(ctx, s.columns, values)
		if err != nil {
			return nil, err
		}
		key, err := laid.Add(ctx, s.insert, s.key)
		return []grow.Value{key}, err
	}
	var keys []grow.Value
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
	if r.undoes() {
		r.undo.added(s, values, keys)
	}
	return nil
}

// carefully adds a row under a savepoint, so that, if it is refused, set-based queries
// can tell why.
func (r *unitRun) carefully(ctx context.Context, s *unitStep, rows store.Rows, do func() ([]grow.Value, error)) ([]grow.Value, error) {
	const name = "evensprout_row"
	if err := r.tx.Savepoint(ctx, name); err != nil {
		return nil, err
	}
	keys, err := do()
	var v *store.Violation
	if err == nil || !errors.As(err, &v) {
		return keys, errors.Join(err, r.tx.Release(ctx, name))
	}
	if err := r.tx.RollbackTo(ctx, name); err != nil {
		return nil, err
	}
	st, failed := r.tx.Stage(ctx, &store.Write{Into: s.into, Mode: store.Insert}, rows)
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
	if err := laid.Look(ctx, s.look, func(n int64, _ []grow.Value) error {
		there[n] = true
		return nil
	}); err != nil {
		return err
	}
	part := func(want bool) (ps []*occasion, vs [][]grow.Value) {
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

// raced tells whether a row that was not there is there now: then another transaction
// has added it in between, and this one is begun again.
func (r *unitRun) raced(ctx context.Context, s *unitStep, values [][]grow.Value, err error) error {
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

// change changes rows, and says how many each occasion matched.
func (r *unitRun) change(ctx context.Context, s *unitStep, xs []*occasion, values [][]grow.Value) ([]uint64, error) {
	var columns []*schema.Column
	var inputs []int
	for _, a := range s.set {
		if a.Expr.Op == schema.OpInput {
			columns, inputs = append(columns, a.Column), append(inputs, a.Expr.Input)
		}
	}
	if err := s.fits(xs, values, columns, inputs); err != nil {
		return nil, err
	}
	laid, err := r.tx.Lay(ctx, s.columns, values)
	if err != nil {
		return nil, err
	}
	counts := make([]uint64, len(xs))
	if len(xs) == 1 && !s.keeps && s.Word == plan.StepUpdate && r.traits.CountsMatches {
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
	var before, after [][]grow.Value
	computes := s.computes
	err = laid.Look(ctx, s.look, func(n int64, row []grow.Value) error {
		counts[n]++
		if !s.keeps {
			return nil
		}
		before = append(before, slices.Clone(row))
		if computes {
			var next []grow.Value
			if next, computes = s.compute(row, values[n]); computes {
				after = append(after, next)
			}
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	for _, n := range counts {
		if n < s.Lo || n > s.Hi {
			return counts, nil // told by the caller: nothing is written
		}
	}
	found := map[string][]grow.Value{}
	note := func(row []grow.Value) error {
		found[keyOfValues(row[:len(s.rowKey)])] = slices.Clone(row)
		return nil
	}
	_, shown, err := laid.Change(ctx, s.change, note)
	if err != nil || len(before) == 0 {
		return counts, err
	}
	if !computes {
		if !shown {
			if err := r.lookAgain(ctx, s, laid, before, note); err != nil {
				return nil, err
			}
		}
		after = make([][]grow.Value, len(before))
		for i, row := range before {
			if after[i] = found[keyOfValues(row[:len(s.rowKey)])]; after[i] == nil {
				return nil, s.lost()
			}
		}
	}
	r.undo.changed(s, before, after)
	return counts, nil
}

// lost tells of a row that cannot be found again.
func (s *unitStep) lost() error {
	return fmt.Errorf("a row of %s is gone that %s has just changed: a trigger?", s.Table.Name, s.Label())
}

// lookAgain reads what rows hold that were changed.
func (r *unitRun) lookAgain(ctx context.Context, s *unitStep, laid store.Occasions, before [][]grow.Value, note func([]grow.Value) error) error {
	look := s.after
	if look == nil {
		keys := make([][]grow.Value, len(before))
		for i, row := range before {
			keys[i] = row[:len(s.rowKey)]
		}
		var err error
		if laid, err = r.tx.Lay(ctx, s.rowKey, keys); err != nil {
			return err
		}
		look = s.afterKey
	}
	return laid.Look(ctx, look, func(_ int64, row []grow.Value) error { return note(row) })
}

// keyOfValues is a text that differs where values do.
func keyOfValues(values []grow.Value) string {
	var b []byte
	for i := range values {
		b = values[i].AppendCanonical(b)
	}
	return string(b)
}

// deleteRows deletes the rows of each occasion.
func (r *unitRun) deleteRows(ctx context.Context, s *unitStep, xs []*occasion) error {
	values, laid, err := r.lay(ctx, s, xs)
	if err != nil {
		return err
	}
	counts := make([]uint64, len(xs))
	var before [][]grow.Value
	err = laid.Look(ctx, s.look, func(n int64, row []grow.Value) error {
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
	if r.undoes() {
		if err := r.keepRemoved(ctx, s.index, s.Table, before, map[string]bool{}); err != nil {
			return err
		}
	}
	return laid.Remove(ctx, s.remove)
}

// keepRemoved keeps rows that are about to be deleted, and in front of them those that
// go with them. Each is kept once, though it may refer to itself or go for two reasons:
// kept are those that are.
func (r *unitRun) keepRemoved(ctx context.Context, step int, t *schema.Table, rows [][]grow.Value, kept map[string]bool) error {
	copies := map[string]int{} // without a primary key, rows can be alike
	rows = slices.DeleteFunc(rows, func(row []grow.Value) bool {
		name := t.Name + "\x00" + keyOfValues(keyOrRow(t, row))
		copies[name]++
		name = fmt.Sprint(name, copies[name])
		was := kept[name]
		kept[name] = true
		return was
	})
	if len(rows) == 0 {
		return nil
	}
	for _, other := range r.plan.Database.Tables {
		for i := range other.References {
			ref := &other.References[i]
			if ref.To != t || !ref.Cascade {
				continue
			}
			for _, row := range rows {
				var where []store.Cell
				for j, name := range ref.Columns {
					where = append(where, store.Cell{Column: other.Column(name), Value: row[slices.Index(t.Columns, t.Column(ref.Targets[j]))]})
				}
				if slices.ContainsFunc(where, func(c store.Cell) bool { return c.Value.IsNull() }) {
					continue // nothing refers to NULL
				}
				var below [][]grow.Value
				err := r.store.Select(ctx, store.Query{Table: other, Columns: other.Columns, Where: where, Exact: true}, func(row []grow.Value) error {
					below = append(below, slices.Clone(row))
					return nil
				})
				if err == nil {
					err = r.keepRemoved(ctx, step, other, below, kept)
				}
				if err != nil {
					return err
				}
			}
		}
	}
	r.undo.removed(step, t, rows)
	return nil
}

// keyOrRow is what tells a row of a table from others: its key, or all of it.
func keyOrRow(t *schema.Table, row []grow.Value) []grow.Value {
	var key []grow.Value
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
		return &Refusal{Kind: v.Kind, Entity: r.unit.Plan.Name, Step: fmt.Sprintf("%d: %s", step+1, s.Label()), Table: s.Table.Name, Constraint: v.Constraint, Refers: v.Refers, Code: v.Code, Message: v.Message,
			Hint: "delete the rows that refer to it first, in a step of their own"}
	}
	for _, other := range r.plan.Database.Tables {
		for i := range other.References {
			ref := &other.References[i]
			if ref.To != s.Table || !ref.Cascade || other == s.Table {
				continue
			}
			n := 0
			if err := r.tx.Referring(ctx, other, ref, func([]grow.Value) error { n++; return nil }); err != nil {
				return err
			}
			if n > 0 {
				return refuse(&store.Violation{Kind: store.ForeignKey, Constraint: ref.Name, Message: fmt.Sprintf("%d rows of %s refer to rows of %s, and would go as well", n, other.Name, s.Table.Name)})
			}
		}
	}
	if r.undoes() {
		var rows [][]grow.Value
		err := r.store.Select(ctx, store.Query{Table: s.Table, Columns: s.Table.Columns, Exact: true}, func(row []grow.Value) error {
			rows = append(rows, slices.Clone(row))
			return nil
		})
		if err != nil {
			return err
		}
		r.undo.removed(step, s.Table, rows)
	}
	n, err := r.tx.Clear(ctx, s.Table)
	var v *store.Violation
	if errors.As(err, &v) {
		return refuse(v)
	}
	r.touched[step] += n
	return err
}
