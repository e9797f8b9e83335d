package unit

import (
	"fmt"
	"slices"

	"evensprout/internal/plan"
	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/value"
)

// unitStep is a step, with what is known of it before any occasion.
type unitStep struct {
	*plan.Step
	index  int
	inputs []stagedInput // the values that its statements take
	match  []store.Matched
	set    []store.Assigned
	into   store.Into     // where a row that is added has its values, of inputs
	key    *schema.Column // the key that the database gives to such a row; nil if it does not
	rowKey []*schema.Column
	kept   []*schema.Column // what is kept of a row that is changed, behind its key
	keeps  bool             // that is kept

	element []int // of a loop: the slots of an element, one for each type that is made of it
	number  int   // of a loop: the slot of the element's number; -1 if nothing uses it

	columns  []*schema.Column // of inputs
	look     *store.Step      // at the rows, before anything else
	change   *store.Step
	remove   *store.Step
	insert   *store.Step // nil unless a row is added
	after    *store.Step // at changed rows; nil if they are known by their keys
	afterKey *store.Step
	computes bool // what a row holds after a change follows from what it held before
	counts   bool // a change counts its rows by itself: one for each occasion, or something is wrong

	one []value.Value // values of the only occasion, used again
}

// stagedInput is a value of a statement: a slot, in the type of a column.
type stagedInput struct {
	slot   int
	column *schema.Column
}

// tableName is the table of a step; empty for conditions.
func (s *unitStep) tableName() string {
	if s.Table == nil {
		return ""
	}
	return s.Table.Name
}

// prepareSteps works out the statements of each step.
func (r *unitRun) prepareSteps() error {
	for i, said := range r.unit.Steps {
		s := &unitStep{Step: said, index: i}
		r.steps = append(r.steps, s)
		s.number = -1
		for j := range r.unit.Slots {
			switch part := r.unit.Slots[j].Part; {
			case part == nil || part.Loop != said:
			case part.Number:
				s.number = j
			default:
				s.element = append(s.element, j)
			}
		}
		if s.Table == nil {
			continue
		}
		input := func(slot int, c *schema.Column) int {
			s.inputs = append(s.inputs, stagedInput{slot, c})
			return len(s.inputs) - 1
		}
		for _, m := range s.Match {
			s.match = append(s.match, store.Matched{Column: m.Column, Input: input(m.Slot, m.Column)})
		}
		for _, a := range s.Set {
			s.set = append(s.set, store.Assigned{Column: a.Column, Expr: r.placed(a, input)})
		}
		for _, name := range s.Table.PrimaryKey {
			s.rowKey = append(s.rowKey, s.Table.Column(name))
		}
		s.prepareRow(input)
		for _, c := range s.Table.Columns {
			if c.Restamps || slices.ContainsFunc(s.Set, func(a plan.Assignment) bool { return a.Column == c }) {
				s.kept = append(s.kept, c)
			}
		}
		for _, in := range s.inputs {
			s.columns = append(s.columns, in.column)
		}
		if err := r.prepareStatements(s); err != nil {
			return err
		}
	}

	r.set, r.keys = r.canDoManyAtOnce()
	return nil
}

// prepareStatements makes what is asked of the store for a step.
func (r *unitRun) prepareStatements(s *unitStep) error {
	s.keeps = r.w.Session.Undoes() && len(s.rowKey) > 0
	if !r.w.Session.Undoes() && s.Key == nil {
		s.key = nil // nobody asks for it
	}
	if _, why := s.Table.Backing(namesOfMatch(s.match)); s.Word == plan.StepUpdate && !s.keeps && s.Lo == 1 &&
		s.Hi == 1 &&
		r.w.Session.Traits.CountsMatches {
		s.counts = why == "" // no occasion matches two rows
	}
	s.look = &store.Step{Table: s.Table, Match: s.match, Lock: store.ForWrite}
	s.change = &store.Step{Table: s.Table, Match: s.match, Set: s.set}
	s.remove = &store.Step{Table: s.Table, Match: s.match}
	switch {
	case s.Word == plan.StepFind:
		s.look.Read = s.Read
		if !r.unit.Changes(s.Table) {
			s.look.Lock = store.ForShare // what is found must stay true until the unit is done
		}
	case s.Word == plan.StepDelete:
		s.look.Read = s.Table.Columns
	case s.keeps:
		return r.prepareKept(s)
	}
	return nil
}

// prepareKept makes the statements of a step whose rows are kept for a withdrawal: they are read before
// the change and, unless the new contents can be computed, after it.
func (r *unitRun) prepareKept(s *unitStep) error {
	s.look.Read = slices.Concat(s.rowKey, s.kept)
	if s.computes = s.canCompute(); !s.computes {
		s.change.Read = s.look.Read
	}
	s.after = &store.Step{Table: s.Table, Match: s.match, Read: s.look.Read}
	s.afterKey = &store.Step{Table: s.Table, Read: s.look.Read}
	for i, c := range s.rowKey {
		s.afterKey.Match = append(s.afterKey.Match, store.Matched{Column: c, Input: i})
	}
	for _, a := range s.set {
		if slices.Contains(s.rowKey, a.Column) && s.Word != plan.StepInsert {
			return &store.Fault{
				Kind: store.Refused,
				Message: fmt.Sprintf(
					"%s changes the primary key of %s, so it could not be withdrawn",
					s.Label(),
					s.Table.Name,
				),
				Hint: "load with --no-undo, or delete the row and insert another",
			}
		}
		if slices.ContainsFunc(s.match, func(m store.Matched) bool { return m.Column == a.Column }) {
			s.after = nil // what was matched is no longer true of them
		}
	}
	return nil
}

// placed puts the places of a statement's values in the place of slots.
func (r *unitRun) placed(a plan.Assignment, input func(int, *schema.Column) int) *schema.Expr {
	if a.Expr.Op == schema.OpInput {
		return schema.Given(input(a.Expr.Input, a.Column))
	}
	var copied func(e *schema.Expr) *schema.Expr
	copied = func(e *schema.Expr) *schema.Expr {
		out := *e
		out.Args = nil
		for _, arg := range e.Args {
			out.Args = append(out.Args, copied(arg))
		}
		if e.Op == schema.OpInput {
			out.Input = input(e.Input, r.columnFor(e.Input))
		}
		return &out
	}
	return copied(a.Expr)
}

// prepareRow works out the row that a step adds.
func (s *unitStep) prepareRow(input func(int, *schema.Column) int) {
	if s.Word != plan.StepInsert && s.Word != plan.StepUpsert {
		return
	}
	s.into = store.Into{Table: s.Table}
	add := func(c *schema.Column, slot int) {
		s.into.Columns, s.into.Fields = append(s.into.Columns, c), append(s.into.Fields, input(slot, c))
	}
	for _, m := range s.Match {
		add(m.Column, m.Slot)
	}
	for _, f := range s.First {
		add(f.Column, f.Slot)
	}
	for _, a := range s.Set {
		if !slices.Contains(s.into.Columns, a.Column) && a.Expr.Op == schema.OpInput {
			add(a.Column, a.Expr.Input)
		}
	}
	s.insert = &store.Step{Table: s.Table}
	for i, c := range s.into.Columns {
		s.insert.Set = append(s.insert.Set, store.Assigned{Column: c, Expr: schema.Given(s.into.Fields[i])})
	}

	// Its key is asked for also where only a withdrawal needs it.
	if len(s.rowKey) == 1 && s.rowKey[0].Default && !slices.Contains(s.into.Columns, s.rowKey[0]) {
		s.key = s.rowKey[0]
	}
}

// canCompute reports whether what rows hold after a change follows exactly from what they
// held before: by whole numbers and decimals, without a trigger, and nothing restamps.
func (s *unitStep) canCompute() bool {
	if len(s.Table.Triggers) > 0 || len(s.kept) != len(s.set) {
		return false
	}
	exact := true
	for _, a := range s.set {
		if a.Expr.Op == schema.OpInput {
			exact = exact &&
				(a.Column.Kind == schema.Integer || a.Column.Kind == schema.Decimal || a.Column.Kind == schema.Date ||
					a.Column.Kind == schema.Boolean)
			continue
		}
		a.Expr.Visit(func(e *schema.Expr) {
			switch e.Op {
			case schema.OpColumn:
				exact = exact && e.Column == a.Column &&
					(e.Column.Kind == schema.Integer || e.Column.Kind == schema.Decimal)
			case schema.OpInput, schema.OpAdd, schema.OpSubtract:
			default:
				exact = false
			}
		})
	}
	return exact
}

// compute makes what a row holds after a change of what it held before; ok is false if it
// does not fit into a value.
func (s *unitStep) compute(before, values []value.Value) (after []value.Value, ok bool) {
	after = slices.Clone(before)
	for i, c := range s.kept {
		at := slices.IndexFunc(s.set, func(a store.Assigned) bool { return a.Column == c })
		v, ok := computed(s.set[at].Expr, before[len(s.rowKey)+i], values)
		if !ok {
			return nil, false
		}
		after[len(s.rowKey)+i] = v
	}
	return after, true
}

// computed is what the database will compute, in decimals; false if that is not certain.
func computed(e *schema.Expr, column value.Value, values []value.Value) (value.Value, bool) {
	switch e.Op {
	case schema.OpColumn:
		return column, true
	case schema.OpInput:
		return values[e.Input], true
	}

	a, okA := computed(e.Args[0], column, values)
	b, okB := computed(e.Args[1], column, values)
	if !okA || !okB || a.IsNull() || b.IsNull() {
		return value.Value{}, okA && okB
	}
	whole := a.Type == value.Integer && b.Type == value.Integer
	if a.Type != value.Integer && a.Type != value.Decimal || b.Type != value.Integer && b.Type != value.Decimal {
		return a, false
	}
	scale := max(a.Scale, b.Scale)
	x, okX := a.Rescale(scale)
	y, okY := b.Rescale(scale)
	const room = 1 << 62 // a sum of two smaller numbers fits
	if !okX || !okY || x.N >= room || x.N <= -room || y.N >= room || y.N <= -room {
		return a, false
	}
	if e.Op == schema.OpSubtract {
		y.N = -y.N
	}
	if x.N += y.N; whole {
		x.Type = value.Integer
	}
	return x, true
}

// columnFor is a column of the widest type for values of a slot.
func (r *unitRun) columnFor(slot int) *schema.Column {
	s := &r.unit.Slots[slot]
	return store.ColumnFor(s.Type, s.Scale)
}

// namesOfMatch are the columns that a step looks rows up by.
func namesOfMatch(match []store.Matched) []string {
	var names []string
	for _, m := range match {
		names = append(names, m.Column.Name)
	}
	return names
}
