package grow

import (
	"errors"
	"fmt"
	"strings"

	"evensprout/internal/value"
)

// List is a kind of the plan's own: entries of one or several parts that agree.
type List struct {
	Name  string
	Parts []ListPart

	weights []uint64 // of the entries; nil: all are as frequent
}

// ListPart is one part of all entries. Its values have one type, or are NULL.
type ListPart struct {
	Name   string
	Type   value.Type
	Scale  uint8
	Values []value.Value

	alone bool // no two entries share it
}

// MaxEntries bounds the entries of a list.
const MaxEntries = 1_000_000

// NewList makes a list of entries. Entries that are the same count once, with all of their weight.
func NewList(name string, parts []ListPart, weights []uint64) (*List, error) {
	if len(parts) == 0 || len(parts[0].Values) == 0 {
		return nil, errors.New("the list is empty")
	}
	if len(parts[0].Values) > MaxEntries {
		return nil, fmt.Errorf("the list has more than %d entries", MaxEntries)
	}
	l := &List{Name: name, Parts: make([]ListPart, len(parts))}
	copy(l.Parts, parts)
	for i := range l.Parts {
		l.Parts[i].Values = nil
	}
	first := map[string]int{}
	for n := range parts[0].Values {
		var key strings.Builder
		for i := range parts {
			fmt.Fprintf(&key, "%q ", parts[i].Values[n].String())
		}
		weight := uint64(1)
		if weights != nil {
			weight = weights[n]
		}
		at, again := first[key.String()]
		if !again {
			first[key.String()] = len(l.weights)
			l.weights = append(l.weights, weight)
			for i := range parts {
				l.Parts[i].Values = append(l.Parts[i].Values, parts[i].Values[n])
			}
			continue
		}
		l.weights[at] += weight
	}
	for i := range l.Parts {
		l.Parts[i].alone = tellsApart(l.Parts[i].Values)
	}
	return l, nil
}

// tellsApart reports whether all values differ, as unique keys see them.
func tellsApart(values []value.Value) bool {
	seen := make(map[string]bool, len(values))
	for i := range values {
		key := value.Fold(values[i].String())
		if values[i].IsNull() || seen[key] {
			return false
		}
		seen[key] = true
	}
	return true
}

// Source makes entries of the list: values, if it has one part, and else numbers of entries whose parts PartOf
// takes.
func (l *List) Source() (Source, error) {
	if len(l.Parts) == 1 {
		return Choose(l.Parts[0].Values, l.weights)
	}
	numbers := make([]value.Value, len(l.weights))
	for i := range numbers {
		numbers[i] = value.Int(int64(i))
	}
	src, err := Choose(numbers, l.weights)
	if err != nil {
		return nil, err
	}
	return &entryOf{src.(*choice), l}, nil
}

// entryOf is the number of an entry.
type entryOf struct {
	number *choice
	list   *List
}

func (s *entryOf) Type() value.Type                        { return value.Integer }
func (s *entryOf) Scale() uint8                            { return 0 }
func (s *entryOf) Space() uint64                           { return s.number.Space() }
func (s *entryOf) grow(c cell, v *value.Value)             { s.number.grow(c, v) }
func (s *entryOf) at(c cell, index uint64, v *value.Value) { s.number.at(c, index, v) }

// part makes a part of the entry that a field holds.
func (s *entryOf) part(of *Field, name string) (Source, error) {
	var names []string
	for i := range s.list.Parts {
		if s.list.Parts[i].Name == name {
			return &entryPart{of, s.list, i}, nil
		}
		names = append(names, s.list.Parts[i].Name)
	}
	return nil, fmt.Errorf("%s has no part %s: its parts are %s", s.list.Name, name, strings.Join(names, ", "))
}

// entryPart is a part of the entry that another field holds.
type entryPart struct {
	of   *Field
	list *List
	at   int
}

func (s *entryPart) Type() value.Type { return s.list.Parts[s.at].Type }
func (s *entryPart) Scale() uint8     { return s.list.Parts[s.at].Scale }

func (s *entryPart) grow(c cell, v *value.Value) {
	number := c.g.value(c.fr, s.of)
	if number.IsNull() {
		return
	}
	*v = s.list.Parts[s.at].Values[number.N]
}

func (s *entryPart) redrawn(*Field) []*Field { return s.of.Redrawn() }

func (s *entryPart) reads(show func(*Path)) { show(&Path{Field: s.of}) }

// single reports whether the part differs wherever the entry does.
func (s *entryPart) single() bool { return s.list.Parts[s.at].alone }

func (s *entryPart) differs(*Field) bool { return s.single() && s.of.Inherent() }

func (s *entryPart) texts() []string {
	if s.list.Parts[s.at].Type != value.Text {
		return nil
	}
	var out []string
	for _, v := range s.list.Parts[s.at].Values {
		out = append(out, v.S)
	}
	return out
}

func (s *entryPart) longest() string { return longestOf(s.texts()) }
