package grow

import (
	"errors"
	"fmt"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"

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
	filters []filter
}

type filter struct {
	name  string
	apply func(b []byte, from int) []byte // changes b[from:]
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
			return nil, &TemplateError{Offset: i, Message: "a } without its {: write }} for a brace"}
		case text[i] == '{':
			end := strings.IndexByte(text[i:], '}')
			if end < 0 {
				return nil, &TemplateError{Offset: i, Message: "a { without its }: write {{ for a brace"}
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
		f, err := newFilter(strings.TrimSpace(name))
		if err != nil {
			return part{}, &TemplateError{Offset: at, Message: err.Error()}
		}
		p.filters = append(p.filters, f)
		at += len(name) + 1
	}
	return p, nil
}

// FilterNames lists the filters of templates; N stands for a number.
var FilterNames = []string{"lower", "upper", "title", "slug", "ascii", "trim:N", "pad:N"}

func newFilter(text string) (filter, error) {
	name, arg, has := strings.Cut(text, ":")
	n := 0
	if name == "trim" || name == "pad" {
		var err error
		if n, err = strconv.Atoi(arg); err != nil || n < 1 || n > 10_000 {
			return filter{}, fmt.Errorf("%s needs a number from 1 to 10000, such as %s:8", name, name)
		}
	} else if has {
		return filter{}, fmt.Errorf("filter %q takes no number", name)
	}
	f := filter{name: name}
	switch name {
	case "lower":
		f.apply = whole(asciiLower, strings.ToLower)
	case "upper":
		f.apply = whole(asciiUpper, strings.ToUpper)
	case "title":
		f.apply = whole(nil, titleCase)
	case "slug":
		f.apply = whole(nil, slug)
	case "ascii":
		f.apply = whole(asciiAlready, value.ToASCII)
	case "trim":
		f.apply = func(b []byte, from int) []byte {
			runes := 0
			for i := from; i < len(b); {
				if runes == n {
					return b[:i]
				}
				_, size := utf8.DecodeRune(b[i:])
				i += size
				runes++
			}
			return b
		}
	case "pad":
		f.apply = func(b []byte, from int) []byte {
			for missing := n - utf8.RuneCount(b[from:]); missing > 0; missing-- {
				b = append(b, 0)
				copy(b[from+1:], b[from:])
				b[from] = '0'
			}
			return b
		}
	default:
		return filter{}, fmt.Errorf("there is no filter %q: the filters are %s", name, strings.Join(FilterNames, ", "))
	}
	return f, nil
}

// whole makes a filter of a function on strings, with a way in place for ASCII: it
// returns false at the first other letter. What it did to the letters before does no
// harm to the full function.
func whole(ascii func([]byte) bool, full func(string) string) func([]byte, int) []byte {
	return func(b []byte, from int) []byte {
		if ascii != nil && ascii(b[from:]) {
			return b
		}
		return append(b[:from], full(string(b[from:]))...)
	}
}

// Case tables for ASCII; other bytes stay as they are.
var (
	lowerCase = caseTable('A', 'Z', 'a'-'A')
	upperCase = caseTable('a', 'z', 'A'-'a')
)

func caseTable(from, to byte, by int) (t [256]byte) {
	for i := range t {
		t[i] = byte(i)
		if byte(i) >= from && byte(i) <= to {
			t[i] = byte(i + by)
		}
	}
	return t
}

func asciiLower(b []byte) bool { return mapASCII(b, &lowerCase) }
func asciiUpper(b []byte) bool { return mapASCII(b, &upperCase) }

// mapASCII changes every byte, without a branch, and tells whether all are ASCII.
func mapASCII(b []byte, table *[256]byte) bool {
	all := byte(0)
	for i, x := range b {
		b[i] = table[x]
		all |= x
	}
	return all < utf8.RuneSelf
}

func asciiAlready(b []byte) bool {
	for _, x := range b {
		if x >= utf8.RuneSelf {
			return false
		}
	}
	return true
}

func titleCase(s string) string {
	begin := true
	return strings.Map(func(r rune) rune {
		was := begin
		begin = !unicode.IsLetter(r) && !unicode.IsDigit(r) && r != '\'' && r != '’'
		if was {
			return unicode.ToTitle(r)
		}
		return r
	}, s)
}

// slug keeps lower-case ASCII letters and digits, joined by single hyphens.
func slug(s string) string {
	var b strings.Builder
	gap := false
	for _, r := range strings.ToLower(value.ToASCII(s)) {
		if r >= 'a' && r <= 'z' || r >= '0' && r <= '9' {
			if gap && b.Len() > 0 {
				b.WriteByte('-')
			}
			gap = false
			b.WriteRune(r)
		} else if r != '\'' {
			gap = true
		}
	}
	return b.String()
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
		if len(b) > MaxValue {
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
		b = f.apply(b, from)
	}
	return b
}

// Filter makes a function of a filter such as slug or trim:8.
func Filter(spec string) (func(string) string, error) {
	f, err := newFilter(spec)
	if err != nil {
		return nil, err
	}
	return func(s string) string { return string(f.apply([]byte(s), 0)) }, nil
}
