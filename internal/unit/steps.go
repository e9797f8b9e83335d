package unit

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"evensprout/internal/plan"
	"evensprout/internal/store"
	"evensprout/internal/value"
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
func (r *unitRun) value(x *occasion, slot int) (value.Value, error) {
	if x.known[slot] {
		return x.slots[slot], nil
	}
	s := &r.unit.Slots[slot]
	v := s.Value
	switch {
	case s.Field >= 0:
		v = x.fields[s.Field]
	case s.Step >= 0:
		return value.Value{}, nil // the row was allowed not to be there
	case s.Part != nil:
		var err error
		if v, err = r.part(x, s); err != nil {
			return v, err
		}
	case s.Expr != nil:
		in := make([]value.Value, len(s.From))
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
func (r *unitRun) values(s *unitStep, xs []*occasion) ([][]value.Value, error) {
	out := make([][]value.Value, len(xs))
	if s.one == nil {
		s.one = make([]value.Value, len(s.inputs))
	}
	for i, x := range xs {
		row := s.one
		if len(xs) > 1 {
			row = make([]value.Value, len(s.inputs))
		}
		for j, in := range s.inputs {
			v, err := r.value(x, in.slot)
			if err != nil {
				return nil, &refusedStep{
					s.index,
					x,
					&store.Violation{Kind: store.BadValue, Row: -1, Table: s.tableName(), Message: err.Error()},
				}
			}
			row[j] = v
		}
		out[i] = row
	}
	return out, nil
}

// lay makes the values of a step ready for its statements.
func (r *unitRun) lay(ctx context.Context, s *unitStep, xs []*occasion) ([][]value.Value, store.Occasions, error) {
	values, err := r.values(s, xs)
	if err != nil {
		return nil, nil, err
	}
	laid, err := r.w.Tx.StageInputs(ctx, s.columns, values)
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

// mark notes how much there is to undo, so that an occasion can be taken back alone.
func (r *unitRun) mark() mark { return mark{len(r.undo.Sections), slices.Clone(r.touched)} }

// backTo forgets the undo notes behind a mark.
func (r *unitRun) backTo(m mark) {
	r.undo.Sections, r.touched = r.undo.Sections[:m.sections], slices.Clone(m.touched)
}

// inLayers does layers of occasions, each by one statement for every step. If anything is
// refused, it takes them all back, and they are to be done again, each under a mark of its
// own: that tells which it is, and what is true of those before it.
func (r *unitRun) inLayers(ctx context.Context, layers [][]*occasion) (bool, error) {
	const name = "evensprout_piece"
	m := r.mark()
	if err := r.w.Tx.Savepoint(ctx, name); err != nil {
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
			if err := r.w.Tx.RollbackTo(ctx, name); err != nil {
				return false, err
			}
			return false, r.w.Tx.Release(ctx, name)
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
	return true, r.w.Tx.Release(ctx, name)
}

// single does one occasion. If it is refused, it is taken back alone, and the policy
// says what becomes of it.
func (r *unitRun) single(ctx context.Context, x *occasion) error {
	const name = "evensprout_occasion"
	m := r.mark()
	if err := r.w.Tx.Savepoint(ctx, name); err != nil {
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
		if err := r.w.Tx.RollbackTo(ctx, name); err != nil {
			return err
		}
		if careful {
			if err := r.w.Tx.Release(ctx, name); err != nil {
				return err
			}
			refusal := r.refuse(x, refused)
			if r.policy(refused.v.Kind) != plan.Skip {
				return refusal
			}
			return r.reject(ctx, x, refusal)
		}
		err = r.doSteps(ctx, one, true) // so that the refusal can be looked into
	}

	r.done++
	return r.w.Tx.Release(ctx, name)
}

// doSteps does all steps of occasions, none of which touches a row that another one
// does. With careful there is one, and a row that is refused is looked into.
func (r *unitRun) doSteps(ctx context.Context, xs []*occasion, careful bool) error {
	return r.doSome(ctx, xs, 0, len(r.steps), careful)
}

// doSome does the steps from one place up to another, of occasions or of elements.
func (r *unitRun) doSome(ctx context.Context, xs []*occasion, from, to int, careful bool) error {
	for i := from; i < to; i++ {
		s := r.steps[i]
		var err error
		switch s.Word {
		case plan.StepClear:
			continue // done before
		case plan.StepFind:
			err = r.find(ctx, s, xs)
		case plan.StepFor:
			err = r.eachElement(ctx, s, xs, careful)
			i = s.End - 1
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
	err = laid.Look(ctx, s.look, func(n int64, row []value.Value) error {
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
func coerced(v value.Value, s *plan.Slot) value.Value {
	if s.Type == value.Decimal && (v.Type == value.Integer || v.Type == value.Decimal) {
		if d, ok := v.Rescale(max(s.Scale, v.Scale)); ok {
			return d
		}
	}
	return v
}

// counted holds how many rows a step has touched against what it says, and counts them.
func (r *unitRun) counted(s *unitStep, xs []*occasion, values [][]value.Value, counts []uint64) error {
	for i, n := range counts {
		if n >= s.Lo && n <= s.Hi {
			continue
		}
		v := &store.Violation{Kind: store.RowCount, Row: -1, Table: s.Table.Name}
		for _, m := range s.match {
			v.Columns, v.Values = append(v.Columns, m.Column.Name), append(v.Values, values[i][m.Input])
		}
		v.Message = fmt.Sprintf("%d rows of %s match, and %s are expected", n, s.Table.Name, s.expected())
		switch {
		case n == 0:
			v.Message = fmt.Sprintf("no row of %s matches", s.Table.Name)
		case s.Hi == 1:
			v.Message = fmt.Sprintf("%d rows of %s match, and one is expected", n, s.Table.Name)
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
		in := make([]value.Value, len(s.From))
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
			var out value.Value
			out, err = s.Condition.Eval(in)
			held = out.Type == value.Boolean && out.N == 1
			if err != nil {
				v.Kind, v.Message = store.BadValue, err.Error()
				return &refusedStep{s.index, x, v}
			}
		} else if held, err = r.w.Tx.Holds(ctx, s.SQL, given); err != nil {
			return fmt.Errorf("unit %s, step %d: the condition in SQL cannot be checked: %w", r.unit.Plan.Name,
				s.index+1, err)
		}
		if held {
			r.touched[s.index]++
			continue
		}
		if v.Message == "" {
			v.Message = "the condition is false"
		}
		if len(shown) > 0 {
			v.Message += " (" + strings.Join(shown, ", ") + ")"
		}
		return &refusedStep{s.index, x, v}
	}
	return nil
}
