package unit

import (
	"slices"
	"strings"

	"evensprout/internal/plan"
	"evensprout/internal/schema"
	"evensprout/internal/value"
)

// keyOfStep tells which row a step touches: values of the occasion alone.
type keyOfStep struct {
	table   string
	columns []*schema.Column
	slots   []int
}

// canDoManyAtOnce reports whether the steps of a unit may be done for many occasions at
// once, step by step, so that the result is the same as one occasion after the other.
// That is so if the rows that an occasion looks at or writes, in tables that the unit
// writes, are known before it begins, because occasions of which no two touch the same
// row can then be done in any order. keys are what tells these rows.
//
// Whatever is refused is taken back, and done again one after the other: so only what
// would be refused there, and not here, is to be ruled out.
func (r *unitRun) canDoManyAtOnce() (bool, [][]keyOfStep) {
	keys := make([][]keyOfStep, len(r.steps))
	columns := map[*schema.Table][]string{} // by which rows of a table are known
	inserts := map[*schema.Table]bool{}
	for i, s := range r.steps {
		switch {
		case s.Word == plan.StepRequire && s.SQL != nil:
			return false, nil // it may look at anything
		case s.Table == nil || s.Word == plan.StepClear:
			continue
		}
		if !r.unit.Changes(s.Table) {
			continue // rows that are only looked at
		}
		if len(s.Table.Triggers) > 0 {
			return false, nil // they may do anything
		}
		if s.Word == plan.StepInsert {
			inserts[s.Table] = true
			continue
		}
		by, slots := r.identityOf(s)
		if len(by) == 0 {
			return false, nil
		}
		names := schema.NamesOf(by)
		if known, seen := columns[s.Table]; seen && !slices.Equal(known, names) {
			return false, nil // the same row may be meant in two ways
		}
		columns[s.Table] = names
		keys[i] = append(keys[i], keyOfStep{s.Table.Name, by, slots})
	}

	inOrder := slices.ContainsFunc(r.steps, func(s *unitStep) bool {
		if s.Table == nil || s.Word == plan.StepClear {
			return false
		}
		meansAdded := inserts[s.Table] && columns[s.Table] != nil // an occasion may mean a row that another one adds
		return meansAdded || !r.commutes(s, columns)
	})
	if inOrder {
		return false, nil
	}
	return true, keys
}

// identityOf are the columns and the occasion's own values that tell which row a step
// means. A key that a find of the same unit has read stands for what found it.
// There are none if the row is known only later.
func (r *unitRun) identityOf(s *unitStep) (columns []*schema.Column, slots []int) {
	match := slices.Clone(s.Match)
	if len(match) == 1 && len(s.Table.PrimaryKey) == 1 && match[0].Column.Name == s.Table.PrimaryKey[0] {
		if slot := r.unit.Slots[match[0].Slot]; slot.Step >= 0 && slot.Column == match[0].Column &&
			r.steps[slot.Step].Word == plan.StepFind &&
			r.steps[slot.Step].Table == s.Table {
			match = slices.Clone(r.steps[slot.Step].Match)
		}
	}
	slices.SortFunc(match, func(a, b plan.Operand) int { return strings.Compare(a.Column.Name, b.Column.Name) })
	for _, m := range match {
		if !r.ofOccasion(m.Slot) {
			return nil, nil
		}
		columns, slots = append(columns, m.Column), append(slots, m.Slot)
	}
	return columns, slots
}

// ofOccasion reports whether a slot is known before the first step.
func (r *unitRun) ofOccasion(slot int) bool {
	s := r.unit.Slots[slot]
	return s.Step < 0 && !slices.ContainsFunc(s.From, func(i int) bool { return !r.ofOccasion(i) })
}

// keepsKeys reports whether a change leaves what tells rows apart, or is referred to, as it is.
func (s *unitStep) keepsKeys(known []string) bool {
	for _, a := range s.Set {
		if slices.Contains(known, a.Column.Name) {
			return false
		}
		for _, key := range s.Table.Keys() {
			if slices.Contains(key.Columns, a.Column.Name) {
				return false
			}
		}
	}
	return true
}

// commutes reports whether a step does the same to the rows of an occasion, whatever steps
// of other occasions were done before it.
func (r *unitRun) commutes(s *unitStep, known map[*schema.Table][]string) bool {
	written := slices.Clone(s.into.Columns)
	for _, a := range s.Set {
		written = append(written, a.Column)
	}
	if (s.Word == plan.StepUpdate || s.Word == plan.StepUpsert) && !s.keepsKeys(known[s.Table]) {
		return false
	}
	for i := range s.Table.References {
		ref := &s.Table.References[i]
		for _, c := range written {
			if !slices.Contains(ref.Columns, c.Name) || ref.To == nil || !r.unit.Changes(ref.To) {
				continue
			}
			if ref.To == s.Table || !r.refersWithin(s, c, ref.To) {
				return false // it may refer to a row that another occasion adds or removes
			}
		}
	}
	return s.Word != plan.StepDelete || !r.isReferredTo(s.Table)
}

// isReferredTo reports whether deleting a row of a table can delete or block rows of others that the
// unit changes.
func (r *unitRun) isReferredTo(t *schema.Table) bool {
	for _, other := range r.w.Session.Plan.Database.Tables {
		for i := range other.References {
			if ref := &other.References[i]; ref.To == t && (ref.Cascade || r.unit.Changes(other)) {
				return true
			}
		}
	}
	return false
}

// refersWithin reports whether what a step writes into a column is the key of a row that
// the same occasion has found or added.
func (r *unitRun) refersWithin(s *unitStep, c *schema.Column, to *schema.Table) bool {
	within := func(slot int) bool {
		x := r.unit.Slots[slot]
		return x.Step >= 0 && r.steps[x.Step].Table == to
	}
	removed := slices.ContainsFunc(r.steps, func(x *unitStep) bool {
		return x.Table == to &&
			(x.Word == plan.StepInsert || x.Word == plan.StepUpsert || x.Word == plan.StepDelete ||
				x.Word == plan.StepClear)
	})
	if !removed {
		return true // rows of it are only changed, and not what is referred to
	}
	for i, in := range s.into.Columns {
		if in == c && !within(s.inputs[s.into.Fields[i]].slot) {
			return false
		}
	}
	for _, a := range s.Set {
		if a.Column == c && (a.Expr.Op != schema.OpInput || !within(a.Expr.Input)) {
			return false
		}
	}
	return true
}

// layers deals occasions into layers, so that no two of a layer touch the same row, and
// those that do are in their order.
func (r *unitRun) layers(xs []*occasion) [][]*occasion {
	last := map[string]int{} // the last layer that touches a row, from 1
	var layers [][]*occasion
	for _, x := range xs {
		at := 0
		x.apart = true
		touched := map[string]*occasion{}
		if err := r.touches(x, 0, len(r.steps), touched); err != nil {
			x.apart, at = false, len(layers) // done alone, it tells what is wrong
		}
		for k := range touched {
			at = max(at, last[k])
		}
		if at == len(layers) {
			layers = append(layers, nil)
		}
		layers[at] = append(layers[at], x)
		for k := range touched {
			last[k] = at + 1
		}
	}
	return layers
}

// touches collects the rows that some steps touch, with who does: the occasion or an element of
// its lists. If two elements touch the same row, they are to be done in turn.
func (r *unitRun) touches(x *occasion, from, to int, touched map[string]*occasion) error {
	for i := from; i < to; i++ {
		s := r.steps[i]
		if s.Word == plan.StepFor {
			i = s.End - 1
			if !slices.ContainsFunc(r.keys[s.index+1:s.End], func(k []keyOfStep) bool { return len(k) > 0 }) {
				continue
			}
			items, err := r.items(s, x)
			if err != nil {
				return err
			}
			for n := range items {
				if err := r.touches(r.element(s, x, n, items[n]), s.index+1, s.End, touched); err != nil {
					return err
				}
			}
			continue
		}
		for _, k := range r.keys[i] {
			key, err := r.rowKey(k, x)
			if err != nil {
				return err
			}
			if by := touched[key]; by != nil && !x.isWithin(by) {
				x.occasion().apart = false
			}
			touched[key] = x
		}
	}
	return nil
}

// rowKey is what tells the row that a step touches.
func (r *unitRun) rowKey(k keyOfStep, x *occasion) (string, error) {
	key := append([]byte(k.table), 0)
	for i, slot := range k.slots {
		v, err := r.value(x, slot)
		if err != nil {
			return "", err
		}
		if kind := k.columns[i].Kind; kind == schema.Text || kind == schema.Any {
			v = value.String(value.Fold(v.String())) // what some engine may hold for equal
		}
		key = v.AppendCanonical(key)
	}
	return string(key), nil
}
