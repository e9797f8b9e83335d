package structs

import (
	"fmt"
	"strings"

	"evensprout/internal/diag"
	"evensprout/internal/draft"
	"evensprout/internal/lexicon"
	"evensprout/internal/plan"
	"evensprout/internal/schema"
	"evensprout/internal/value"
)

// Match is a struct and the table that it is mapped to.
type Match struct {
	Struct *Struct
	Table  *schema.Table
	Fields map[*schema.Column]*Field
}

// Disagreement is something that a struct and its table say differently.
type Disagreement struct {
	File    string `json:"file,omitempty"`
	Line    int    `json:"line,omitempty"`
	Column  int    `json:"column,omitempty"`
	Message string `json:"message"`
}

func (d Disagreement) String() string {
	if d.File == "" {
		return d.Message
	}
	return fmt.Sprintf("%s:%d:%d: %s", d.File, d.Line, d.Column, d.Message)
}

// Hold finds the table of each struct, and tells where the two disagree.
func Hold(list []Struct, db *schema.Database) ([]Match, []Disagreement) {
	var matches []Match
	var out []Disagreement
	for i := range list {
		s := &list[i]
		tell := func(f *Field, format string, args ...any) {
			at := s.Place
			if f != nil {
				at = f.Place
			}
			out = append(out, Disagreement{at.Filename, at.Line, at.Column, fmt.Sprintf(format, args...)})
		}
		t := s.table(db)
		if t == nil {
			near := diag.Nearest(strings.ToLower(s.Name), db.TableNames())
			if near != "" {
				near = ", such as " + near
			}
			tell(nil, "the struct %s has no table; name it with a method TableName%s", s.Name, near)
			continue
		}
		m := Match{s, t, map[*schema.Column]*Field{}}
		for j := range s.Fields {
			f := &s.Fields[j]
			c := t.Column(f.Column)
			if f.Column == "" {
				c = t.ByConvention(f.Name)
			}
			if c == nil {
				tell(f, "the field %s.%s has no column in %s", s.Name, f.Name, t.Name)
				continue
			}
			m.Fields[c] = f
			switch {
			case f.Nullable && c.NotNull && !c.Default:
				tell(f, "%s.%s may be nil, and the column %s.%s is NOT NULL", s.Name, f.Name, t.Name, c.Name)
			case !f.Nullable && !c.NotNull && f.Kind != schema.Bytes && f.Kind != schema.JSON && f.Kind != schema.Any:
				tell(
					f,
					"%s.%s (%s) cannot hold NULL, which the column %s.%s may be",
					s.Name,
					f.Name,
					f.Type,
					t.Name,
					c.Name,
				)
			}
		}
		for _, c := range t.Columns {
			if m.Fields[c] == nil {
				tell(nil, "the column %s.%s has no field in %s", t.Name, c.Name, s.Name)
			}
		}
		matches = append(matches, m)
	}
	return matches, out
}

// table is the table of a struct: the one that it names, or the one that is called so.
func (s *Struct) table(db *schema.Database) *schema.Table {
	if s.Table != "" {
		return db.Table(s.Table)
	}
	for _, t := range db.Tables {
		if schema.Plain(plan.EntityName(t.LocalName())) == schema.Plain(s.Name) ||
			schema.Plain(t.LocalName()) == schema.Plain(s.Name) {
			return t
		}
	}
	return nil
}

// Database makes tables of structs, for a draft without a database.
func Database(list []Struct) *schema.Database {
	db := &schema.Database{}
	for _, s := range list {
		t := &schema.Table{Name: s.Table}
		if t.Name == "" {
			t.Name = plural(lexicon.Snake.Of(s.Name))
		}
		for _, f := range s.Fields {
			c := &schema.Column{
				Name:     f.Column,
				Declared: f.Type,
				Kind:     f.Kind,
				Bits:     f.Bits,
				Unsigned: f.Unsigned,
				NotNull:  !f.Nullable,
				Digits:   6,
			}
			if c.Name == "" {
				c.Name = lexicon.Snake.Of(f.Name)
			}
			for _, x := range f.Choices {
				if x.IsText {
					c.Values = append(c.Values, x.Text)
				}
			}
			if numbers := numbersOf(f); numbers != "" {
				t.Checks = append(t.Checks, schema.Check{Expression: fmt.Sprintf("%q IN (%s)", c.Name, numbers)})
			}
			if strings.EqualFold(c.Name, "id") {
				t.PrimaryKey, c.NotNull = []string{c.Name}, true
			}
			t.Columns = append(t.Columns, c)
		}
		db.Tables = append(db.Tables, t)
	}
	return db
}

// numbersOf says which numbers a field of a struct can hold.
func numbersOf(f Field) string {
	var list []string
	for _, x := range f.Choices {
		if !x.IsText {
			list = append(list, fmt.Sprint(x.Number))
		}
	}
	return strings.Join(list, ", ")
}

// Name lets structs give their names, and the constants of their types, to a draft.
func Name(o *draft.Options, matches []Match) {
	o.Entities, o.Fields, o.Choices = map[*schema.Table]string{}, map[*schema.Column]string{},
		map[*schema.Column][]value.Value{}
	for _, m := range matches {
		o.Entities[m.Table] = m.Struct.Name
		for c, f := range m.Fields {
			o.Fields[c] = f.Name
			for _, x := range f.Choices {
				v := value.Int(x.Number)
				if x.IsText {
					v = value.String(x.Text)
				}
				o.Choices[c] = append(o.Choices[c], v)
			}
		}
	}
}

// plural is the name of a table of a word: crew_members, ferries.
func plural(word string) string {
	switch {
	case strings.HasSuffix(word, "y") && len(word) > 1 && !strings.ContainsRune("aeiou", rune(word[len(word)-2])):
		return word[:len(word)-1] + "ies"
	case strings.HasSuffix(word, "s"),
		strings.HasSuffix(word, "x"),
		strings.HasSuffix(word, "ch"),
		strings.HasSuffix(word, "sh"):
		return word + "es"
	}
	return word + "s"
}
