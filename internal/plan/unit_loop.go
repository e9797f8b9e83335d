package plan

import (
	"fmt"
	"slices"
	"strings"

	"evensprout/internal/cell"
	"evensprout/internal/value"
)

const loopHint = "such as {for: person in people, steps: [{insert: Passenger, set: {name: person.name}}]}"

// stepName checks a name that a step gives to something.
func (p *Plan) stepName(at place, name, what string) {
	if !isName(name) || name == occasionWord || name == rowWord || name == clockWord {
		p.add(at, "%q is not a valid name for %s", name, what).
			Advise("use letters, digits and _, but not %s, %s or %s", occasionWord, rowWord, clockWord)
	}
}

// loop reads what a loop is over, as in for: person in people.
func (p *Plan) loop(s *StepSaid, v *node) {
	s.Lo, s.Hi = 0, AnyNumber
	s.targetPlace = v.place
	words := strings.Fields(v.text)
	if !v.scalar() || len(words) != 3 || words[1] != "in" {
		p.add(v.place, "for must say what an element is called, and the list, got %s", v.what()).
			Advise("for: person in people")
		return
	}
	s.Element, s.List = words[0], words[2]
	p.stepName(v.place, s.Element, "an element")
}

// nameRow refuses a name of a row that is taken.
func (u *unitCompiler) nameRow(s *Step) {
	if s.As == "" {
		return
	}
	if slices.ContainsFunc(u.out.Steps, func(x *Step) bool { return x.As == s.As && x.seenBy(s) }) {
		u.c.add(s.place, "two steps of %s name their row %s", u.said.Name, s.As)
	}
	if slices.Contains(u.loopNames(s), s.As) {
		u.c.add(s.place, "%s is already the name of an element", s.As)
	}
}

// loop compiles a loop and the steps below it.
func (u *unitCompiler) loop(s *Step) {
	u.out.Steps = append(u.out.Steps, s)
	s.Over = -1
	for _, name := range []string{s.Element, s.Numbered} {
		switch {
		case name == "":
		case u.field(name) >= 0:
			u.c.add(s.targetPlace, "%s is already a field of the occasion", name).Advise("give the element " +
				"another name")
		case u.isRow(s, name) || slices.Contains(u.loopNames(s.outer()), name) ||
			s.Element == s.Numbered:
			u.c.add(s.targetPlace, "%s is already the name of a row or an element", name).
				Advise("give the element another name")
		}
	}
	if s.List != "" {
		if err := u.list(s); err != nil {
			u.c.add(s.targetPlace, "%s: %s", s.Label(), err).Nearest(s.List, u.visible(s.outer()))
		}
	}
	u.compileSteps(s.StepSaid.Steps, s)
	s.End = len(u.out.Steps)
}

// outer stands for a step beside a loop, which does not see what the loop names.
func (s *Step) outer() *Step { return &Step{StepSaid: &StepSaid{}, In: s.In} }

// list finds the list of a loop, and what its elements are like.
func (u *unitCompiler) list(s *Step) error {
	path := strings.TrimPrefix(s.List, occasionWord+".")
	head, rest, _ := strings.Cut(path, ".")
	var slot int
	var shape *cell.Shape
	var err error
	at := path // what people call the list
	if l := u.loopNamed(s.outer(), head); l != nil && path == s.List {
		if l.Over < 0 || l.Element != head {
			if l.Element == head {
				return nil // told
			}
			return fmt.Errorf("%s is a number, not a list", head)
		}
		slot, shape = u.element(l), l.items
	} else {
		i := u.field(head)
		if i < 0 {
			return fmt.Errorf("the occasions of %s have no field %s", u.said.Name, head)
		}
		if u.of.fields[i].state != compiled {
			return nil // told
		}
		slot = u.fieldSlot(i)
		if shape, err = u.shape(i); err != nil {
			return err
		}
	}
	if rest != "" {
		if slot, shape, err = u.member(slot, shape, rest); err != nil {
			return err
		}
	}
	if row := max(shape.Plain, shape.Object); row >= 0 {
		for _, first := range []int64{shape.Plain, shape.Object} {
			if first >= 0 {
				row = min(row, first)
			}
		}
		return fmt.Errorf("%s is not a list in %s", at, u.placeOf(row))
	}
	s.Over, s.items = slot, shape.Items
	if s.items == nil {
		s.items = cell.NewShape()
	}
	return nil
}

// placeOf says where an occasion stands.
func (u *unitCompiler) placeOf(row int64) string {
	file, line := u.of.rowFile.Place(uint64(row))
	return fmt.Sprintf("%s:%d", file, line)
}

// shape reads what the values of a field with JSON are like, over all occasions: their parts
// have types as columns of a file have.
func (u *unitCompiler) shape(i int) (*cell.Shape, error) {
	if shape := u.shapes[i]; shape != nil {
		return shape, nil
	}
	f := u.of.fields[i]
	if f.decl.word != wordStored {
		return nil, fmt.Errorf("%s does not come from a file, so it has no parts", f.decl.Name)
	}
	shape := cell.NewShape()
	r := u.of.rowFile.Reader()
	defer r.Close()
	for n := range u.of.rowFile.Len() {
		values, err := r.Row(n)
		if err != nil {
			return nil, err
		}
		switch v := values[f.fileColumn]; {
		case v.IsNull():
		case v.Type != value.JSON && !strings.HasPrefix(v.S, "[") && !strings.HasPrefix(v.S, "{"):
			return nil, fmt.Errorf("%s is neither a list nor an object in %s", f.decl.Name, u.placeOf(int64(n)))
		default:
			if err := shape.See([]byte(v.S), int64(n)); err != nil {
				return nil, fmt.Errorf("%s in %s: %w", f.decl.Name, u.placeOf(int64(n)), err)
			}
		}
	}
	if u.shapes == nil {
		u.shapes = map[int]*cell.Shape{}
	}
	u.shapes[i] = shape
	return shape, nil
}

// member is the slot of a part of an object, such as address.town, and what it is like.
func (u *unitCompiler) member(of int, shape *cell.Shape, path string) (int, *cell.Shape, error) {
	for name := range strings.SplitSeq(path, ".") {
		whole := u.out.Slots[of].Name
		if row := shape.List; row >= 0 {
			return 0, nil, fmt.Errorf("%s is a list in %s: go through it with for", whole, u.placeOf(row))
		}
		if row := shape.Plain; row >= 0 {
			return 0, nil, fmt.Errorf("%s is not an object in %s", whole, u.placeOf(row))
		}
		part := shape.Members[name]
		if part == nil {
			if shape.Object >= 0 {
				return 0, nil, &noMemberError{whole, name, shape.Names()}
			}
			part = cell.NewShape() // there is no object at all
		}
		t, scale, empty := resultOf(part)
		of = u.slot(Slot{
			Name: whole + "." + name, Type: t, Scale: scale, Field: -1, Step: -1,
			From: []int{of}, Part: &Part{Member: name, Empty: empty},
		})
		shape = part
	}
	return of, shape, nil
}

// noMemberError tells of a key that no object has.
type noMemberError struct {
	of, name string
	known    []string
}

func (e *noMemberError) Error() string {
	text := fmt.Sprintf("no %s has the key %s", e.of, e.name)
	if len(e.known) > 0 {
		text += "; known: " + strings.Join(firstFew(e.known), ", ")
	}
	return text
}

// loopNamed is the loop around a step whose element or number has a name; nil if there is none.
func (u *unitCompiler) loopNamed(s *Step, name string) *Step {
	for in := s.In; in != nil; in = in.In {
		if in.Element == name || in.Numbered == name {
			return in
		}
	}
	return nil
}

// loopNames are the names of elements and of their numbers that a step sees.
func (u *unitCompiler) loopNames(s *Step) []string {
	var names []string
	for in := s.In; in != nil; in = in.In {
		names = append(names, in.Element)
		if in.Numbered != "" {
			names = append(names, in.Numbered)
		}
		if in.items != nil {
			for _, m := range in.items.Names() {
				names = append(names, in.Element+"."+m)
			}
		}
	}
	return names
}

// ofLoop finds the element of a loop, its number, or a part of it.
func (u *unitCompiler) ofLoop(s *Step, head, rest string) (slot int, found bool, err error) {
	l := u.loopNamed(s, head)
	switch {
	case l == nil:
		return 0, false, nil
	case l.Over < 0: // told
		return u.slot(Slot{Name: head, Field: -1, Step: -1, Part: &Part{Loop: l}}), true, nil
	case l.Numbered == head && rest != "":
		return 0, false, fmt.Errorf("%s is a number, and has no parts", head)
	case l.Numbered == head:
		return u.slot(Slot{
			Name: head, Type: value.Integer, Field: -1, Step: -1, From: []int{l.Over}, Part: &Part{Loop: l,
				Number: true},
		}), true, nil
	}
	slot = u.element(l)
	shape := l.items
	if rest != "" {
		if slot, shape, err = u.member(slot, shape, rest); err != nil {
			return 0, false, err
		}
	}
	if t := u.out.Slots[slot]; t.Type == value.JSON && shape.Plain >= 0 {
		row := max(shape.Object, shape.List)
		return 0, false, fmt.Errorf("%s is a plain value in %s, and a list or an object in %s", t.Name,
			u.placeOf(shape.Plain), u.placeOf(row))
	}
	return slot, true, nil
}

// element is the slot of the element that a loop is at.
func (u *unitCompiler) element(l *Step) int {
	t, scale, empty := resultOf(l.items)
	return u.slot(Slot{
		Name: l.Element, Type: t, Scale: scale, Field: -1, Step: -1, From: []int{l.Over},
		Part: &Part{Loop: l, Empty: empty},
	})
}

// resultOf is the type of what stands in a place; what is NULL throughout counts as text, and fits any column.
func resultOf(s *cell.Shape) (t value.Type, scale uint8, empty bool) {
	if t, scale = s.Result(); t == value.Null {
		return value.Text, 0, true
	}
	return t, scale, false
}

// seenBy reports whether another step can use a step's row: it is in the same loop, or in one
// within it.
func (s *Step) seenBy(other *Step) bool {
	if s.In == nil {
		return true
	}
	for in := other.In; in != nil; in = in.In {
		if in == s.In {
			return true
		}
	}
	return false
}

// samePart reports whether two slots hold the same part of the same value.
func samePart(a, b Slot) bool {
	if a.Part == nil || b.Part == nil {
		return a.Part == b.Part
	}
	return *a.Part == *b.Part && slices.Equal(a.From, b.From)
}
