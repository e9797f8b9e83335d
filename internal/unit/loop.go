package unit

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"strings"

	"evensprout/internal/cell"
	"evensprout/internal/plan"
	"evensprout/internal/store"
	"evensprout/internal/value"
)

// elementsAtOnce is how many elements are done together at most: memory does not grow with the
// lists.
const elementsAtOnce = 5000

// items are the elements of the list that a loop goes through; none of NULL.
func (r *unitRun) items(s *unitStep, x *occasion) ([]json.RawMessage, error) {
	v, err := r.value(x, s.Over)
	if err != nil || v.IsNull() {
		return nil, err
	}
	return cell.Items([]byte(v.S))
}

// element makes the element of a list, which is done like an occasion.
func (r *unitRun) element(s *unitStep, x *occasion, n int, raw json.RawMessage) *occasion {
	e := &occasion{
		row:    x.row,
		name:   x.name,
		fields: x.fields,
		slots:  append([]value.Value(nil), x.slots...),
		known:  append([]bool(nil), x.known...),
		within: x,
		number: n + 1,
		apart:  x.apart,
	}
	e.path = r.pathOf(s, x, n)
	if s.number >= 0 {
		e.slots[s.number], e.known[s.number] = value.Int(int64(n+1)), true
	}
	for _, j := range s.element {
		slot := &r.unit.Slots[j]
		// What does not fit its type was refused when the plan was checked.
		if v, err := cell.ParseJSON(raw, slot.Type, slot.Scale); err == nil {
			e.slots[j], e.known[j] = v, true
		}
	}
	return e
}

// pathOf is what people call an element, counted from 1: people[3].tickets[1].
func (r *unitRun) pathOf(s *unitStep, x *occasion, n int) string {
	list := s.List
	if s.In != nil {
		if rest, inner := strings.CutPrefix(list, s.In.Element+"."); inner {
			list = x.path + "." + rest
		} else if list == s.In.Element {
			list = x.path
		}
	}
	return fmt.Sprintf("%s[%d]", list, n+1)
}

// occasion is the occasion that an element belongs to in the end.
func (x *occasion) occasion() *occasion {
	for x.within != nil {
		x = x.within
	}
	return x
}

// isWithin reports whether an element is, or belongs to, another one.
func (x *occasion) isWithin(other *occasion) bool {
	for ; x != nil; x = x.within {
		if x == other {
			return true
		}
	}
	return false
}

// part takes a member out of an object.
func (r *unitRun) part(x *occasion, s *plan.Slot) (value.Value, error) {
	of := s.From[0]
	if s.Part.Loop != nil {
		return value.Value{}, nil // told
	}
	members, ok := x.members[of]
	if !ok {
		whole, err := r.value(x, of)
		if err != nil {
			return value.Value{}, err
		}
		if !whole.IsNull() {
			if members, err = cell.Members([]byte(whole.S)); err != nil {
				return value.Value{}, fmt.Errorf("%s: %w", r.unit.Slots[of].Name, err)
			}
		}
		if x.members == nil {
			x.members = map[int]map[string]json.RawMessage{}
		}
		x.members[of] = members
	}
	v, err := cell.ParseJSON(members[s.Part.Member], s.Type, s.Scale)
	if err != nil {
		err = fmt.Errorf("%s: %w", s.Name, err)
	}
	return v, err
}

// eachElement does the steps of a loop for the elements of the lists of occasions. Where no two
// touch the same row, many are done at once; else they are done one after the other.
func (r *unitRun) eachElement(ctx context.Context, s *unitStep, xs []*occasion, careful bool) error {
	do := func(elements []*occasion) error {
		r.touched[s.index] += int64(len(elements))
		return r.doSome(ctx, elements, s.index+1, s.End, careful)
	}
	var together []*occasion
	type turn struct {
		x     *occasion
		items []json.RawMessage
	}
	var turns []turn
	longest := 0
	for _, x := range xs {
		items, err := r.items(s, x)
		if err != nil {
			return &refusedStep{s.index, x, &store.Violation{Kind: store.BadValue, Row: -1, Message: err.Error()}}
		}
		if err := s.expects(x, len(items)); err != nil {
			return err
		}
		if !x.apart || careful {
			turns, longest = append(turns, turn{x, items}), max(longest, len(items))
			continue
		}
		for n, raw := range items {
			if together = append(together, r.element(s, x, n, raw)); len(together) == elementsAtOnce {
				if err := do(together); err != nil {
					return err
				}
				together = together[:0]
			}
		}
	}
	if len(together) > 0 {
		if err := do(together); err != nil {
			return err
		}
	}
	for n := range longest {
		var elements []*occasion
		for _, t := range turns {
			if n < len(t.items) {
				elements = append(elements, r.element(s, t.x, n, t.items[n]))
			}
		}
		if err := do(elements); err != nil {
			return err
		}
	}
	return nil
}

// expects holds the number of elements against what the loop says.
func (s *unitStep) expects(x *occasion, n int) error {
	if got := uint64(n); got >= s.Lo && got <= s.Hi {
		return nil
	}
	list := s.List
	if x.path != "" {
		list = strings.TrimSuffix(x.path+"."+strings.TrimPrefix(list, s.In.Element+"."), "."+s.In.Element)
	}
	return &refusedStep{s.index, x, &store.Violation{
		Kind: store.RowCount, Row: -1,
		Message: fmt.Sprintf("%s has %d elements, and %s are expected", list, n, s.expected()),
	}}
}

// expected says how many rows or elements a step must have.
func (s *unitStep) expected() string {
	switch {
	case s.Hi == plan.AnyNumber:
		return fmt.Sprintf("%d or more", s.Lo)
	case s.Hi > s.Lo:
		return fmt.Sprintf("%d to %d", s.Lo, s.Hi)
	}
	return fmt.Sprint(s.Lo)
}

// elementOf names the part of a list that a refused step was at, as people[3].email: empty outside of lists.
func (r *unitRun) elementOf(x *occasion, s *unitStep, v *store.Violation) string {
	if x == nil || x.path == "" {
		return ""
	}
	part := ""
	for _, in := range s.inputs {
		slot := &r.unit.Slots[in.slot]
		if len(v.Columns) != 1 || in.column.Name != v.Columns[0] || slot.Part == nil || slot.Part.Member == "" {
			continue
		}
		part = cmp.Or(part, strings.TrimPrefix(slot.Name, s.In.Element))
	}
	if !strings.HasPrefix(part, ".") {
		part = ""
	}
	return x.path + part
}
