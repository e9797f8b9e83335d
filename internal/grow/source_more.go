package grow

import (
	"errors"
	"fmt"
	"sort"
	"strconv"
	"unicode/utf16"
	"unicode/utf8"

	"evensprout/internal/diag"
	"evensprout/internal/value"
)

// running adds up a field over a parent's children.
type running struct {
	of   *Field
	from *Path // the total before the first child; nil for 0
}

// Running makes the total of a field over the children of one parent, up to and
// including this one.
func Running(of *Field, from *Path) (Source, error) {
	if !value.IsNumber(of.Source.Type()) {
		return nil, fmt.Errorf("a total needs numbers, and %s is of type %s", of.Name, of.Source.Type())
	}
	if from != nil && !value.IsNumber(from.Field.Source.Type()) {
		return nil, fmt.Errorf(
			"a total begins with a number, and %s is of type %s",
			from.Field.Name,
			from.Field.Source.Type(),
		)
	}
	return &running{of, from}, nil
}

func (s *running) Type() value.Type {
	if s.of.Source.Type() == value.Decimal || s.from != nil && s.from.Field.Source.Type() == value.Decimal {
		return value.Decimal
	}
	return value.Integer
}

func (s *running) Scale() uint8 {
	if s.from != nil {
		return max(s.of.Source.Scale(), s.from.Field.Source.Scale())
	}
	return s.of.Source.Scale()
}

// total is a running total as far as it is known: neighbours come together.
type total struct {
	parent Row
	next   uint64 // the row behind the last one counted
	sum    int64
}

func (s *running) grow(c cell, v *value.Value) {
	parent, _ := c.g.up(c.fr)
	first, _ := c.g.Below(c.fr.e, parent)
	t := c.g.totals[c.f]
	if t == nil {
		t = &total{}
		c.g.totals[c.f] = t
	}
	scale := s.Scale()
	if t.next == 0 || t.parent != parent || t.next > c.fr.row.N {
		*t = total{parent: parent, next: first}
		if s.from != nil {
			if start := c.follow(s.from); !start.IsNull() {
				begin, ok := start.Rescale(scale)
				if t.sum = begin.N; !ok {
					c.fail(errOverflow)
				}
			}
		}
	}

	for ; t.next <= c.fr.row.N; t.next++ {
		if c.g.record.Rejected(c.fr.e, Row{N: t.next, Side: parent.Side}) {
			continue
		}
		fr := c.g.open(c.fr.e, Row{N: t.next, Side: parent.Side})
		if x := *c.g.value(fr, s.of); !x.IsNull() {
			x, fits := x.Rescale(scale)
			sum, ok := plus(t.sum, x.N)
			if t.sum = sum; !fits || !ok {
				c.fail(errOverflow)
			}
		}
		fr.close()
	}

	v.Type, v.Scale, v.N = s.Type(), scale, t.sum
	if v.Type == value.Integer {
		v.Scale = 0
	}
}

// random is bytes.
type random struct{ length Range }

// MaxBytes bounds the random bytes of a cell.
const MaxBytes = 1 << 20

// RandomBytes makes bytes of a length.
func RandomBytes(length Range) (Source, error) {
	if length.Lo > length.Hi || length.Hi > MaxBytes {
		return nil, fmt.Errorf("bytes must have a length from 0 to %d, the smaller number first", MaxBytes)
	}
	return &random{length}, nil
}

func (s *random) Type() value.Type { return value.Bytes }
func (s *random) Scale() uint8     { return 0 }
func (s *random) grow(c cell, v *value.Value) {
	draws := c.stream()
	n := s.length.draw(&draws)
	b := c.g.take()
	for uint64(len(b)) < n {
		w := draws.word()
		for i := 0; i < 8 && uint64(len(b)) < n; i++ {
			b = append(b, byte(w>>(8*i)))
		}
	}
	v.Type, v.S = value.Bytes, c.g.text.keep(b)
	c.g.give(b)
}

// Part is one part of a JSON value: an object, a list, or the value of a field.
type Part struct {
	Keys  []string // of an object
	Parts []Part   // of an object or a list
	List  bool
	Count *Field // how many parts of the list count; nil for all
	Field *Field // a single value; nil for an object or a list
}

// document is a JSON value made of inner fields.
type document struct{ root Part }

// Document makes JSON values (in the form of RFC 8785) of the values of other
// fields of the row.
func Document(root Part) (Source, error) {
	if err := root.order(0); err != nil {
		return nil, err
	}
	return &document{root}, nil
}

// order sorts the keys of objects by their UTF-16 code units, as RFC 8785 asks.
func (p *Part) order(depth int) error {
	if depth > 20 {
		return errors.New("nested more than 20 levels deep")
	}
	for i := range p.Parts {
		if err := p.Parts[i].order(depth + 1); err != nil {
			return err
		}
	}
	if p.Keys != nil {
		sort.Sort((*byKey)(p))
	}
	return nil
}

type byKey Part

func (p *byKey) Len() int { return len(p.Keys) }
func (p *byKey) Less(i, j int) bool {
	a, b := utf16.Encode([]rune(p.Keys[i])), utf16.Encode([]rune(p.Keys[j]))
	for k := 0; k < len(a) && k < len(b); k++ {
		if a[k] != b[k] {
			return a[k] < b[k]
		}
	}
	return len(a) < len(b)
}
func (p *byKey) Swap(i, j int) {
	p.Keys[i], p.Keys[j] = p.Keys[j], p.Keys[i]
	p.Parts[i], p.Parts[j] = p.Parts[j], p.Parts[i]
}

func (s *document) Type() value.Type { return value.JSON }
func (s *document) Scale() uint8     { return 0 }
func (s *document) grow(c cell, v *value.Value) {
	b := s.root.append(c, c.g.take())
	v.Type, v.S = value.JSON, c.g.text.keep(b)
	c.g.give(b)
}

func (p *Part) append(c cell, b []byte) []byte {
	if p.Field != nil {
		return appendJSON(b, c.g.value(c.fr, p.Field))
	}
	open, shut := byte('{'), byte('}')
	if p.List {
		open, shut = '[', ']'
	}
	b = append(b, open)
	n := len(p.Parts)
	if p.Count != nil {
		n = min(n, int(c.g.value(c.fr, p.Count).N))
	}
	for i := range p.Parts[:n] {
		if len(b) > value.MaxBytes {
			return b // it is refused as it is
		}
		if i > 0 {
			b = append(b, ',')
		}
		if !p.List {
			b = append(appendJSONText(b, p.Keys[i]), ':')
		}
		b = p.Parts[i].append(c, b)
	}
	return append(b, shut)
}

func appendJSON(b []byte, v *value.Value) []byte {
	switch v.Type {
	case value.Null:
		return append(b, "null"...)
	case value.Integer:
		return strconv.AppendInt(b, v.N, 10)
	case value.Decimal:
		n, scale := v.N, v.Scale
		for scale > 0 && n%10 == 0 {
			n /= 10
			scale--
		}
		return value.AppendDecimal(b, n, scale)
	case value.Boolean:
		return strconv.AppendBool(b, v.N != 0)
	case value.JSON:
		return append(b, v.S...)
	}
	return appendJSONText(b, v.String())
}

// appendJSONText quotes text as RFC 8785 asks: only what must be is escaped.
func appendJSONText(b []byte, s string) []byte {
	const hex = "0123456789abcdef"
	b = append(b, '"')
	for _, r := range s {
		switch {
		case r == '"' || r == '\\':
			b = append(b, '\\', byte(r))
		case r == '\n':
			b = append(b, '\\', 'n')
		case r == '\r':
			b = append(b, '\\', 'r')
		case r == '\t':
			b = append(b, '\\', 't')
		case r == '\b':
			b = append(b, '\\', 'b')
		case r == '\f':
			b = append(b, '\\', 'f')
		case r < ' ':
			b = append(b, '\\', 'u', '0', '0', hex[r>>4], hex[r&15])
		default:
			b = utf8.AppendRune(b, r)
		}
	}
	return append(b, '"')
}

// RowError is a row that could not be grown.
type RowError struct {
	Row, Field string
	Err        error
}

func (e *RowError) Error() string {
	if e.Field == "" { // it is about the whole row
		return fmt.Sprintf("%s: %s", e.Row, e.Err)
	}
	return fmt.Sprintf("%s, field %s: %s", e.Row, e.Field, e.Err)
}

func (e *RowError) Unwrap() error { return e.Err }

// Report names the row and the field.
func (e *RowError) Report() diag.Report {
	return diag.Report{Kind: diag.BadPlan, Message: e.Error(), Members: map[string]any{"row": e.Row, "field": e.Field},
		Hint: "narrow the fields that the expression reads, or leave out such rows with if:", End: "nothing was " +
			"written"}
}

// computed is made by a function of other fields.
type computed struct {
	typ    value.Type
	scale  uint8
	inputs []Path
	by     func(inputs []value.Value) (value.Value, error)
}

// Computed makes the values that a pure function makes of other fields. Where it
// fails, growing stops with its error: see Grower.Err.
func Computed(typ value.Type, scale uint8, inputs []Path, by func([]value.Value) (value.Value, error)) Source {
	return &computed{typ, scale, inputs, by}
}

func (s *computed) Type() value.Type { return s.typ }
func (s *computed) Scale() uint8     { return s.scale }
func (s *computed) grow(c cell, v *value.Value) {
	in := make([]value.Value, len(s.inputs))
	for i := range s.inputs {
		in[i] = c.follow(&s.inputs[i])
	}
	out, err := s.by(in)
	if err != nil {
		c.fail(err)
		return
	}
	*v = out
}

func (s *running) redrawn(*Field) []*Field { return nil }

func (s *computed) redrawn(*Field) []*Field { return redrawn(s.inputs) }
