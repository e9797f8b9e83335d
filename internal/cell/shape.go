package cell

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"

	"evensprout/internal/value"
)

// Shape is what the values of JSON in one place are like, over many rows. The zero value
// has seen none.
type Shape struct {
	Type    value.Type // the narrowest that holds all plain values; Null if there are none
	Scale   uint8      // digits after the point, of decimals
	Members map[string]*Shape
	Items   *Shape // of lists

	// The first row with a value of each form; -1 if there is none.
	Plain, Object, List int64
}

// Limits on values of JSON whose parts are used.
const (
	maxDepth   = 16
	maxMembers = 2000 // of an object
)

// NewShape returns the shape of nothing.
func NewShape() *Shape { return &Shape{Plain: -1, Object: -1, List: -1} }

// See adds a value of JSON, which stands in a row.
func (s *Shape) See(raw []byte, row int64) error { return s.see(raw, row, 0) }

func (s *Shape) see(raw []byte, row int64, depth int) error {
	if depth > maxDepth {
		return fmt.Errorf("lists and objects are nested more than %d deep", maxDepth)
	}
	switch form(raw) {
	case '{':
		note(&s.Object, row)
		return s.seeObject(raw, row, depth)
	case '[':
		note(&s.List, row)
		items, err := Items(raw)
		if s.Items == nil {
			s.Items = NewShape()
		}
		for i := 0; i < len(items) && err == nil; i++ {
			err = s.Items.see(items[i], row, depth+1)
		}
		return err
	}
	c, err := OfJSON(raw)
	if err != nil || c.Kind == Absent {
		return err
	}
	note(&s.Plain, row)
	t, scale := Looks(c)
	s.Type, s.Scale = Join(s.Type, t), max(s.Scale, scale)
	return nil
}

// note keeps the first row.
func note(first *int64, row int64) {
	if *first < 0 {
		*first = row
	}
}

// seeObject adds the members of an object.
func (s *Shape) seeObject(raw []byte, row int64, depth int) error {
	members, err := Members(raw)
	if err != nil {
		return err
	}
	if s.Members == nil {
		s.Members = map[string]*Shape{}
	}
	for name, x := range members {
		if s.Members[name] == nil {
			if len(s.Members) == maxMembers {
				return fmt.Errorf("objects have more than %d different keys", maxMembers)
			}
			s.Members[name] = NewShape()
		}
		if err := s.Members[name].see(x, row, depth+1); err != nil {
			return err
		}
	}
	return nil
}

// Names are the keys of the objects, sorted.
func (s *Shape) Names() []string { return slices.Sorted(maps.Keys(s.Members)) }

// Result is the type of the place as a whole: JSON as soon as there is an object or a list.
func (s *Shape) Result() (value.Type, uint8) {
	if s.Object >= 0 || s.List >= 0 {
		return value.JSON, 0
	}
	return s.Type, s.Scale
}

// form is the first character that is not blank.
func form(raw []byte) byte {
	for _, b := range raw {
		if b != ' ' && b != '\t' && b != '\n' && b != '\r' {
			return b
		}
	}
	return 'n'
}

// Items are the elements of a list; none of null.
func Items(raw []byte) ([]json.RawMessage, error) {
	var out []json.RawMessage
	return out, json.Unmarshal(raw, &out)
}

// Members are the members of an object; none of null.
func Members(raw []byte) (map[string]json.RawMessage, error) {
	var out map[string]json.RawMessage
	return out, json.Unmarshal(raw, &out)
}

// ParseJSON reads a value of JSON strictly as a type.
func ParseJSON(raw json.RawMessage, t value.Type, scale uint8) (value.Value, error) {
	if len(raw) == 0 {
		return value.Value{}, nil
	}
	c, err := OfJSON(raw)
	if err != nil || c.Kind == Absent {
		return value.Value{}, err
	}
	v, err := Parse(c, t)
	if t == value.Decimal && err == nil {
		if w, ok := v.Rescale(scale); ok {
			v = w
		}
	}
	return v, err
}
