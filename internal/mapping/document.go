package mapping

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"go/token"
	"io"
	"slices"
	"strings"
	"unicode/utf8"

	"evensprout/internal/diag"
	"evensprout/internal/safe"
	"evensprout/internal/schema"
)

// Edition is the edition of the JSON document that is read here.
const Edition = 1

// Limits on a document.
const (
	maxDocument  = 16 << 20 // bytes
	maxEntities  = 5000
	maxFields    = 2000 // of an entity
	maxConstants = 1000 // of a field
	maxLength    = 100_000_000
)

// documented is an entity as a document has it.
type documented struct {
	Name   string            `json:"name"`
	Table  string            `json:"table"`
	File   string            `json:"file"`
	Line   int               `json:"line"`
	Fields []json.RawMessage `json:"fields"`
}

// documentedField is a field as a document has it.
type documentedField struct {
	Name      string            `json:"name"`
	Column    string            `json:"column"`
	Type      string            `json:"type"`
	Length    int               `json:"length"`
	Nullable  bool              `json:"nullable"`
	Key       bool              `json:"key"`
	Constants []json.RawMessage `json:"constants"`
	Refers    string            `json:"refers"`
	Line      int               `json:"line"`
}

// kinds are the types of fields.
var kinds = []schema.Kind{schema.Integer, schema.Decimal, schema.Real, schema.Text, schema.Bytes, schema.Boolean,
	schema.Date, schema.Time, schema.Timestamp, schema.UUID, schema.JSON, schema.Any}

// ReadDocument reads the JSON document in which a program describes its mapped entities. The error is diag.Problems,
// with all of them, or that of the file.
func ReadDocument(path string) ([]Entity, error) {
	text, err := safe.ReadFile(path, maxDocument)
	if err != nil {
		return nil, err
	}
	return parseDocument(path, text)
}

// parseDocument reads a document.
func parseDocument(path string, text []byte) ([]Entity, error) {
	d := &document{path: path, text: text}
	out := d.entities()
	d.relations(out)
	if len(d.problems) > 0 {
		return nil, d.problems
	}
	return out, nil
}

// document is a document while it is read.
type document struct {
	path     string
	text     []byte
	problems diag.Problems
}

// maxProblems bounds how many problems of a document are listed.
const maxProblems = 50

// wrong adds a problem at an offset.
func (d *document) wrong(offset int, hint, format string, args ...any) {
	if len(d.problems) == maxProblems {
		return
	}
	p := d.place(offset)
	d.problems = append(d.problems, &diag.Problem{File: d.path, Line: p.Line, Column: p.Column,
		Message: fmt.Sprintf(format, args...), Hint: hint})
}

// place is the line and the column, in characters, of an offset.
func (d *document) place(offset int) token.Position {
	before := d.text[:min(max(offset, 0), len(d.text))]
	start := bytes.LastIndexByte(before, '\n') + 1
	return token.Position{Filename: d.path, Offset: offset, Line: 1 + bytes.Count(before, []byte{'\n'}),
		Column: 1 + utf8.RuneCount(before[start:])}
}

const shape = `the document is {"edition": 1, "entities": [{"name": "Port", "fields": [{"name": "code"}]}]}`

// entities reads the whole document.
func (d *document) entities() []Entity {
	if !utf8.Valid(d.text) {
		d.wrong(0, "write it as UTF-8", "the file is not UTF-8")
		return nil
	}
	var whole struct {
		Edition  int               `json:"edition"`
		Entities []json.RawMessage `json:"entities"`
	}
	if !d.decode(0, d.text, &whole) {
		return nil
	}
	switch {
	case whole.Edition != Edition:
		d.wrong(0, `write "edition": 1 at its beginning`, "the document is of edition %d, and this program reads %d",
			whole.Edition, Edition)
		return nil
	case len(whole.Entities) == 0:
		d.wrong(0, shape, "the document has no entities")
	case len(whole.Entities) > maxEntities:
		d.wrong(0, "", "the document has more than %d entities", maxEntities)
		return nil
	}
	var out []Entity
	from := 0
	for _, raw := range whole.Entities {
		from = d.find(raw, from)
		if e, ok := d.entity(raw, from); ok {
			if slices.ContainsFunc(out, func(o Entity) bool { return o.Name == e.Name }) {
				d.wrong(from, "", "the entity %s is described twice", e.Name)
			}
			out = append(out, e)
		}
		from += len(raw)
	}
	return out
}

// find is where a part of the document lies, which begins at an offset or after it.
func (d *document) find(raw []byte, from int) int {
	return from + max(bytes.Index(d.text[from:], raw), 0)
}

// decode reads a JSON object strictly; false if it is none, which is noted.
func (d *document) decode(from int, text []byte, into any) bool {
	dec := json.NewDecoder(bytes.NewReader(text))
	dec.DisallowUnknownFields()
	err := dec.Decode(into)
	if err == nil {
		if _, more := dec.Token(); more != io.EOF {
			d.wrong(from+int(dec.InputOffset()), "", "there is text after the document")
			return false
		}
		return true
	}
	var syntax *json.SyntaxError
	var kind *json.UnmarshalTypeError
	switch {
	case errors.As(err, &syntax):
		d.wrong(from+int(syntax.Offset)-1, shape, "this is not JSON: %s", syntax)
	case errors.As(err, &kind):
		d.wrong(
			from+int(kind.Offset)-1,
			shape,
			"%s must be %s, got %s",
			member(kind.Field),
			word(kind.Type.Kind().String()),
			kind.Value,
		)
	case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF):
		d.wrong(len(d.text), shape, "the document ends too early")
	default:
		name := strings.Trim(strings.TrimPrefix(err.Error(), "json: unknown field "), `"`)
		at := max(bytes.Index(text, []byte(`"`+name+`"`)), 0)
		d.wrong(from+at, near(name, into), "there is no member %q here", name)
	}
	return false
}

// member names a member of the document, or the document itself.
func member(name string) string {
	if name == "" {
		return "the value"
	}
	return name
}

// word says what a member must be.
func word(kind string) string {
	switch kind {
	case "string":
		return "a text"
	case "int":
		return "a whole number"
	case "bool":
		return "true or false"
	case "slice":
		return "a list"
	case "struct":
		return "an object"
	}
	return "a " + kind
}

// near is a hint for a member that is not known.
func near(name string, of any) string {
	text, err := json.Marshal(of)
	var members map[string]json.RawMessage
	if err != nil || json.Unmarshal(text, &members) != nil {
		return ""
	}
	var known []string
	for m := range members {
		known = append(known, m)
	}
	slices.Sort(known)
	if m := diag.Nearest(name, known); m != "" {
		return "did you mean " + m + "?"
	}
	return "there are " + strings.Join(known, ", ")
}

// entity reads an entity.
func (d *document) entity(raw []byte, from int) (Entity, bool) {
	var x documented
	if !d.decode(from, raw, &x) {
		return Entity{}, false
	}
	e := Entity{Name: x.Name, Table: x.Table, Place: d.placed(from, x.File, x.Line), Of: ofEntity}
	switch {
	case x.Name == "":
		d.wrong(from, shape, "the entity has no name")
	case len(x.Fields) == 0:
		d.wrong(from, shape, "the entity %s has no fields", x.Name)
	case len(x.Fields) > maxFields:
		d.wrong(from, "", "the entity %s has more than %d fields", x.Name, maxFields)
		return e, false
	}
	for _, f := range x.Fields {
		from = d.find(f, from)
		if field, ok := d.field(f, from, &x); ok {
			if slices.ContainsFunc(e.Fields, func(o Field) bool { return o.Name == field.Name }) {
				d.wrong(from, "", "the field %s.%s is described twice", e.Name, field.Name)
			}
			e.Fields = append(e.Fields, field)
		}
		from += len(f)
	}
	return e, true
}

// placed is where people find an entity or a field: where the document says, or in the document.
func (d *document) placed(from int, file string, line int) token.Position {
	if file == "" || line <= 0 {
		return d.place(from)
	}
	return token.Position{Filename: safe.OneLine(file), Line: line, Column: 1}
}

// field reads a field of an entity.
func (d *document) field(raw []byte, from int, of *documented) (Field, bool) {
	var x documentedField
	if !d.decode(from, raw, &x) {
		return Field{}, false
	}
	f := Field{Name: x.Name, Column: x.Column, Type: x.Type, Kind: schema.Kind(x.Type), Nullable: x.Nullable,
		Length: x.Length, Key: x.Key, Refers: x.Refers, Place: d.placed(from, of.File, x.Line)}
	if x.Type == "" {
		f.Kind, f.Type = schema.Any, string(schema.Any)
	}
	switch {
	case x.Name == "":
		d.wrong(from, shape, "a field of %s has no name", of.Name)
	case !slices.Contains(kinds, f.Kind):
		d.wrong(
			from,
			"there are "+strings.Join(words(kinds), ", "),
			"%s.%s has a type that is not known: %s",
			of.Name,
			x.Name,
			x.Type,
		)
	case x.Length < 0 || x.Length > maxLength:
		d.wrong(
			from,
			"",
			"the length of %s.%s must be between 1 and %d, got %d",
			of.Name,
			x.Name,
			maxLength,
			x.Length,
		)
	case len(x.Constants) > maxConstants:
		d.wrong(from, "", "%s.%s has more than %d constants", of.Name, x.Name, maxConstants)
		return f, false
	}
	for _, c := range x.Constants {
		at := d.find(c, from)
		var text string
		var number int64
		switch {
		case json.Unmarshal(c, &text) == nil && string(c) != "null":
			f.Choices = append(f.Choices, Choice{Text: text, IsText: true})
		case json.Unmarshal(c, &number) == nil && string(c) != "null":
			f.Choices = append(f.Choices, Choice{Number: number})
		default:
			d.wrong(at, "", "a constant of %s.%s must be a text or a whole number, got %s", of.Name, x.Name, short(c))
		}
	}
	return f, true
}

// short is the beginning of a part of a document.
func short(text []byte) string {
	const most = 40
	if len(text) > most {
		text = append(slices.Clone(text[:most]), "..."...)
	}
	return safe.OneLine(string(bytes.ToValidUTF8(text, []byte("?"))))
}

// words are kinds as the document spells them.
func words(list []schema.Kind) []string {
	out := make([]string, len(list))
	for i, k := range list {
		out[i] = string(k)
	}
	return out
}

// relations checks that what fields refer to is described.
func (d *document) relations(list []Entity) {
	names := make([]string, len(list))
	for i, e := range list {
		names[i] = e.Name
	}
	for _, e := range list {
		for _, f := range e.Fields {
			if f.Refers == "" {
				continue
			}
			to, field, ok := referred(list, f.Refers)
			switch {
			case to == nil:
				hint := ""
				if n := diag.Nearest(f.Refers, names); n != "" {
					hint = "did you mean " + n + "?"
				}
				d.wrong(f.Place.Offset, hint, "%s.%s refers to %s, which is not described", e.Name, f.Name, f.Refers)
			case !ok:
				d.wrong(
					f.Place.Offset,
					"",
					"%s.%s refers to %s, and %s has no field %s",
					e.Name,
					f.Name,
					f.Refers,
					to.Name,
					field,
				)
			}
		}
	}
}

// referred is the entity that a field refers to, and the field there, if it is named; ok is false if there is no such
// field.
func referred(list []Entity, refers string) (to *Entity, field string, ok bool) {
	name, field, _ := strings.Cut(refers, ".")
	at := slices.IndexFunc(list, func(e Entity) bool { return e.Name == name })
	if at < 0 {
		return nil, field, false
	}
	return &list[at], field, field == "" || list[at].field(field) != nil
}

// field finds a field by its name.
func (e *Entity) field(name string) *Field {
	for i := range e.Fields {
		if e.Fields[i].Name == name {
			return &e.Fields[i]
		}
	}
	return nil
}
