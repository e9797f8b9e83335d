package mapping

import (
	"fmt"
	"go/token"
	"slices"
	"strings"

	"evensprout/internal/diag"
	"evensprout/internal/draft"
	"evensprout/internal/lexicon"
	"evensprout/internal/plan"
	"evensprout/internal/schema"
	"evensprout/internal/value"
)

// Match is an entity and the table that it is mapped to.
type Match struct {
	Entity *Entity
	Table  *schema.Table
	Fields map[*schema.Column]*Field
}

// Disagreement is something that an entity and its table say differently.
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

// comparison gathers disagreements.
type comparison struct {
	list []Entity
	db   *schema.Database
	out  []Disagreement
}

// tell adds a disagreement.
func (x *comparison) tell(at token.Position, format string, args ...any) {
	x.out = append(x.out, Disagreement{at.Filename, at.Line, at.Column, fmt.Sprintf(format, args...)})
}

// Hold finds the table of each entity, and tells where the two disagree.
func Hold(list []Entity, db *schema.Database) ([]Match, []Disagreement) {
	x := &comparison{list: list, db: db}
	var matches []Match
	for i := range list {
		e := &list[i]
		t := e.table(db)
		if t == nil {
			near := diag.Nearest(strings.ToLower(e.Name), db.TableNames())
			if near != "" {
				near = ", such as " + near
			}
			x.tell(e.Place, "the %s %s has no table; name it with %s%s", e.Of, e.Name, e.namesTable(), near)
			continue
		}
		m := Match{e, t, map[*schema.Column]*Field{}}
		for j := range e.Fields {
			f := &e.Fields[j]
			c := f.of(t)
			if c == nil {
				x.tell(f.Place, "the field %s.%s has no column in %s", e.Name, f.Name, t.Name)
				continue
			}
			m.Fields[c] = f
			x.nulls(&m, f, c)
			x.types(&m, f, c)
			x.reference(&m, f, c)
		}
		for _, c := range t.Columns {
			if m.Fields[c] == nil {
				x.tell(e.Place, "the column %s.%s has no field in %s", t.Name, c.Name, e.Name)
			}
		}
		matches = append(matches, m)
	}
	return matches, x.out
}

// namesTable is how a program says the table of an entity.
func (e *Entity) namesTable() string {
	if e.Of == ofStruct {
		return "a method TableName"
	}
	return `the member "table"`
}

// of is the column of a field; nil if there is none.
func (f *Field) of(t *schema.Table) *schema.Column {
	if f.Column != "" {
		return t.Column(f.Column)
	}
	return t.ByConvention(f.Name)
}

// nulls compares what may be NULL.
func (x *comparison) nulls(m *Match, f *Field, c *schema.Column) {
	open := m.Entity.Of == ofStruct && (f.Kind == schema.Bytes || f.Kind == schema.JSON || f.Kind == schema.Any)
	switch {
	case f.Nullable && c.NotNull && !c.Default:
		x.tell(f.Place, "%s.%s may be %s, and the column %s.%s is NOT NULL", m.Entity.Name, f.Name, m.Entity.none(),
			m.Table.Name, c.Name)
	case !f.Nullable && !c.NotNull && !open && !slices.Contains(m.Table.PrimaryKey, c.Name):
		x.tell(f.Place, "%s.%s (%s) cannot hold NULL, which the column %s.%s may be", m.Entity.Name, f.Name, f.Type,
			m.Table.Name, c.Name)
	}
}

// none is what a program calls NULL.
func (e *Entity) none() string {
	if e.Of == ofStruct {
		return "nil"
	}
	return "null"
}

// alike are kinds of columns that hold what a field of another kind holds.
var alike = map[schema.Kind][]schema.Kind{
	schema.Integer:   {schema.Decimal, schema.Real, schema.Boolean, schema.Timestamp},
	schema.Decimal:   {schema.Real, schema.Integer},
	schema.Real:      {schema.Decimal, schema.Integer},
	schema.Text:      {schema.UUID, schema.JSON, schema.Date, schema.Time, schema.Timestamp, schema.Decimal},
	schema.Bytes:     {schema.UUID},
	schema.Boolean:   {schema.Integer},
	schema.Date:      {schema.Timestamp, schema.Text},
	schema.Time:      {schema.Text},
	schema.Timestamp: {schema.Date, schema.Text, schema.Integer},
	schema.UUID:      {schema.Text, schema.Bytes},
	schema.JSON:      {schema.Text, schema.Bytes},
}

// mayHold reports whether a column of a kind may hold the values of a field of a kind.
func mayHold(column, field schema.Kind) bool {
	return field == schema.Any || column == schema.Any || field == column || slices.Contains(alike[field], column)
}

// types compares types, lengths and constants that a document describes. Types of Go say less.
func (x *comparison) types(m *Match, f *Field, c *schema.Column) {
	name, column := m.Entity.Name+"."+f.Name, m.Table.Name+"."+c.Name
	if m.Entity.Of == ofStruct {
		return
	}
	if !mayHold(c.Kind, f.Kind) {
		x.tell(f.Place, "%s is of type %s, and the column %s holds %s", name, f.Type, column, c.Kind)
	}
	if f.Length > 0 && c.Length > 0 && c.Kind == schema.Text && f.Length > c.Length {
		x.tell(f.Place, "%s may have %d characters, and the column %s holds %d", name, f.Length, column, c.Length)
	}
	for _, k := range f.Choices {
		if k.IsText && c.Values != nil && !slices.Contains(c.Values, k.Text) {
			x.tell(f.Place, "the constant %q of %s is not among the values of the column %s", k.Text, name, column)
		}
	}
	if f.Key && !slices.Contains(m.Table.PrimaryKey, c.Name) {
		x.tell(f.Place, "%s is a key, and the column %s is not in the primary key of its table", name, column)
	}
}

// reference compares what a field refers to with the references of its table.
func (x *comparison) reference(m *Match, f *Field, c *schema.Column) {
	if f.Refers == "" {
		return
	}
	to, _, _ := referred(x.list, f.Refers)
	table := to.table(x.db)
	if table == nil {
		return // the problem is reported at its entity
	}
	name, column := m.Entity.Name+"."+f.Name, m.Table.Name+"."+c.Name
	i := slices.IndexFunc(m.Table.References, func(r schema.Reference) bool {
		return slices.Contains(r.Columns, c.Name)
	})
	switch {
	case i < 0:
		x.tell(
			f.Place,
			"%s refers to %s, and the column %s has no foreign key to %s",
			name,
			to.Name,
			column,
			table.Name,
		)
	case m.Table.References[i].To != table:
		x.tell(
			f.Place,
			"%s refers to %s, and the column %s refers to %s",
			name,
			to.Name,
			column,
			m.Table.References[i].Table,
		)
	}
}

// table is the table of an entity: the one that it names, or the one that is called so.
func (s *Entity) table(db *schema.Database) *schema.Table {
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

// Database makes tables of entities, for a draft without a database.
func Database(list []Entity) *schema.Database {
	db := &schema.Database{}
	for i := range list {
		db.Tables = append(db.Tables, list[i].asTable())
	}
	for i, e := range list {
		for j, f := range e.Fields {
			if f.Refers == "" {
				continue
			}
			to, field, _ := referred(list, f.Refers)
			at := slices.IndexFunc(list, func(o Entity) bool { return o.Name == to.Name })
			if r, ok := reference(db.Tables[i].Columns[j], to, db.Tables[at], field); ok {
				db.Tables[i].References = append(db.Tables[i].References, r)
			}
		}
	}
	return db
}

// reference is that of a column to a table; false if it is not known to which column.
func reference(c *schema.Column, to *Entity, table *schema.Table, field string) (schema.Reference, bool) {
	targets := table.PrimaryKey
	if f := to.field(field); f != nil {
		if k := f.of(table); k != nil {
			targets = []string{k.Name}
		}
	}
	if len(targets) != 1 {
		return schema.Reference{}, false
	}
	return schema.Reference{Columns: []string{c.Name}, Table: table.Name, To: table, Targets: targets}, true
}

// asTable is a table that an entity could be mapped to.
func (e *Entity) asTable() *schema.Table {
	t := &schema.Table{Name: e.Table}
	if t.Name == "" {
		t.Name = plural(lexicon.Snake.Of(e.Name))
	}
	keyed := slices.ContainsFunc(e.Fields, func(f Field) bool { return f.Key })
	for _, f := range e.Fields {
		c := &schema.Column{
			Name: f.Column, Declared: f.Type, Kind: f.Kind, Bits: f.Bits, Unsigned: f.Unsigned, Length: f.Length,
			NotNull: !f.Nullable, Digits: 6,
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
		if f.Key || !keyed && strings.EqualFold(c.Name, "id") {
			t.PrimaryKey, c.NotNull = append(t.PrimaryKey, c.Name), true
		}
		t.Columns = append(t.Columns, c)
	}
	return t
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

// Name lets entities give their names, the constants of their types and what they refer to, to a draft.
func Name(o *draft.Options, list []Entity, matches []Match) {
	o.Entities, o.Fields, o.Choices = map[*schema.Table]string{}, map[*schema.Column]string{},
		map[*schema.Column][]value.Value{}
	o.Refers = map[*schema.Column]*schema.Reference{}
	for _, m := range matches {
		o.Entities[m.Table] = m.Entity.Name
		for c, f := range m.Fields {
			o.Fields[c] = f.Name
			for _, x := range f.Choices {
				v := value.Int(x.Number)
				if x.IsText {
					v = value.String(x.Text)
				}
				o.Choices[c] = append(o.Choices[c], v)
			}
			to, field, ok := referred(list, f.Refers)
			at := slices.IndexFunc(matches, func(o Match) bool { return o.Entity == to })
			if !ok || at < 0 {
				continue
			}
			if r, ok := reference(c, to, matches[at].Table, field); ok {
				o.Refers[c] = &r
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
