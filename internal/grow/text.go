package grow

import (
	"errors"
	"fmt"
	"strconv"
	"strings"

	"evensprout/internal/value"
)

// template is text with the values of other fields in it, compiled to parts.
type template struct {
	parts  []part
	number int    // where a number goes that keeps texts apart: after this part; -1 for none
	glue   string // what stands before that number
}

// part is either literal text or a value with filters.
type part struct {
	literal string
	path    *Path
	filters []value.Filter
}

// TemplateError is a fault at a byte offset of a template.
type TemplateError struct {
	Offset  int
	Name    string // the name that was not found, or empty
	Message string
}

func (e *TemplateError) Error() string { return e.Message }

const maxTemplateParts = 1000

// Template compiles a text such as "{given_name|ascii|lower}@example.net";
// {{ and }} stand for braces. resolve finds the field that a name means.
func Template(text string, resolve func(name string) (*Path, error)) (Source, error) {
	t := &template{number: -1}
	var lit strings.Builder
	flush := func() {
		if lit.Len() > 0 {
			t.parts = append(t.parts, part{literal: lit.String()})
			lit.Reset()
		}
	}
	for i := 0; i < len(text); {
		switch {
		case strings.HasPrefix(text[i:], "{{"), strings.HasPrefix(text[i:], "}}"):
			lit.WriteByte(text[i])
			i += 2
		case text[i] == '}':
			return nil, &TemplateError{Offset: i, Message: "this } has no matching {; write }} for a brace"}
		case text[i] == '{':
			end := strings.IndexByte(text[i:], '}')
			if end < 0 {
				return nil, &TemplateError{Offset: i, Message: "this { has no matching }; write {{ for a brace"}
			}
			flush()
			p, err := compilePart(text[i+1:i+end], i+1, resolve)
			if err != nil {
				return nil, err
			}
			t.parts = append(t.parts, p)
			i += end + 1
		default:
			lit.WriteByte(text[i])
			i++
		}
		if len(t.parts) > maxTemplateParts {
			return nil, &TemplateError{Offset: i, Message: fmt.Sprintf("more than %d parts", maxTemplateParts)}
		}
	}

	flush()
	return t, nil
}

func compilePart(text string, offset int, resolve func(string) (*Path, error)) (part, error) {
	name, rest, more := strings.Cut(text, "|")
	path, err := resolve(strings.TrimSpace(name))
	if err != nil {
		var te *TemplateError
		if errors.As(err, &te) {
			te.Offset = offset
			return part{}, te
		}
		return part{}, &TemplateError{Offset: offset, Name: strings.TrimSpace(name), Message: err.Error()}
	}
	p := part{path: path}
	at := offset + len(name) + 1
	for more {
		name, rest, more = strings.Cut(rest, "|")
		f, err := value.NewFilter(strings.TrimSpace(name))
		if err != nil {
			return part{}, &TemplateError{Offset: at, Message: err.Error()}
		}
		p.filters = append(p.filters, f)
		at += len(name) + 1
	}
	return p, nil
}

func (t *template) Type() value.Type { return value.Text }
func (t *template) Scale() uint8     { return 0 }

func (t *template) grow(c cell, v *value.Value) {
	number := uint64(0)
	if c.f.group != nil {
		number = c.groupAt().round
	}
	b := t.append(c, c.g.take(), number)
	c.setText(v, b)
	c.g.give(b)
}

// append renders the template; a number above 0 keeps apart what would repeat.
func (t *template) append(c cell, b []byte, number uint64) []byte {
	for i := range t.parts {
		p := &t.parts[i]
		switch {
		case p.path == nil:
			b = append(b, p.literal...)
		case len(p.path.Hops) == 0:
			if v := c.g.value(c.fr, p.path.Field); !v.IsNull() {
				b = p.render(b, v)
			}
		default:
			if v := c.follow(p.path); !v.IsNull() {
				b = p.render(b, &v)
			}
		}
		if len(b) > value.MaxBytes {
			return b // it is refused as it is
		}
		if i == t.number && number > 0 {
			b = append(b, t.glue...)
			b = strconv.AppendUint(b, number+1, 10)
		}
	}
	return b
}

func (p *part) render(b []byte, v *value.Value) []byte {
	from := len(b)
	if v.Type == value.Text {
		b = append(b, v.S...)
	} else {
		b = v.AppendText(b)
	}
	for _, f := range p.filters {
		b = f.Apply(b, from)
	}
	return b
}

func (s *template) redrawn(*Field) []*Field {
	var paths []Path
	for i := range s.parts {
		if s.parts[i].path != nil {
			paths = append(paths, *s.parts[i].path)
		}
	}
	return redrawn(paths)
}
