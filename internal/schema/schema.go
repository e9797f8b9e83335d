// Package schema describes the tables of a database as plain data.
package schema

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strings"
	"unicode"
)

// Kind is what a column holds, as far as its declared type tells.
type Kind string

// The kinds of columns.
const (
	Integer   Kind = "integer"
	Decimal   Kind = "decimal"
	Real      Kind = "real"
	Text      Kind = "text"
	Bytes     Kind = "bytes"
	Boolean   Kind = "boolean"
	Date      Kind = "date"
	Time      Kind = "time"
	Timestamp Kind = "timestamp"
	UUID      Kind = "uuid"
	JSON      Kind = "json"
	Any       Kind = "any" // no type, or one that we do not know
)

// Database is all tables of a database, in the order in which it lists them.
type Database struct {
	Tables []*Table `json:"tables"`
	// Outside are tables that are none of its own, and refer to them: of other databases, or such as no plan fills.
	Outside []*Table `json:"-"`
}

// Table is a table with its keys and constraints. Name tells it from all others of
// the database; where there are schemas, a table outside the first one on the search
// path is called schema.table.
type Table struct {
	Name       string      `json:"name"`
	Schema     string      `json:"schema,omitempty"` // empty where there are none
	Local      string      `json:"-"`                // its name inside the schema; empty if it is Name
	Columns    []*Column   `json:"columns"`
	PrimaryKey []string    `json:"primary_key,omitempty"` // columns in key order
	Uniques    []Unique    `json:"uniques,omitempty"`     // the primary key is not among them
	References []Reference `json:"references,omitempty"`
	Checks     []Check     `json:"checks,omitempty"`
	Triggers   []string    `json:"triggers,omitempty"` // names of those that fire when rows are written
	Watched    []string    `json:"watched,omitempty"`  // columns that triggers look at
	// Labelled says how people call a row, if a plan does: {code} {name}.
	Labelled   string      `json:"-"`
	Raises     bool        `json:"raises,omitempty"` // triggers may refuse rows, as far as their text tells
	Feeds      []string    `json:"feeds,omitempty"`  // tables to which triggers add rows
	Exclusions []Exclusion `json:"exclusions,omitempty"`
	// the condition under which a partition takes a row; empty if there are none
	Partition string   `json:"partition,omitempty"`
	Notes     []string `json:"notes,omitempty"`   // what else decides about writing, for people
	Broken    string   `json:"broken,omitempty"`  // why no row can be written; empty if rows can
	Secured   bool     `json:"secured,omitempty"` // policies on rows bind this user
	// why its rows, or some, are kept elsewhere; empty if they are not
	External string `json:"external,omitempty"`
	Unsafe   bool   `json:"unsafe,omitempty"` // its engine has no transactions: what is written there, stays
	// Ruled tells that rules of the database change what is written, so that rows must go by INSERT.
	Ruled bool `json:"-"`
	// Hidden says why this user does not see all of its rows; empty if it does.
	Hidden string `json:"-"`
	// Spills names a table without transactions that triggers of this one may write to; empty if there is none.
	Spills string `json:"-"`
}

// LocalName is the table's name inside its schema.
func (t *Table) LocalName() string { return cmp.Or(t.Local, t.Name) }

// Qualified is the table's name with its schema, as in public.orders; where there are no schemas, its name.
func (t *Table) Qualified() string {
	if t.Schema == "" {
		return t.Name
	}
	return t.Schema + "." + t.LocalName()
}

// Column is a column of a table.
type Column struct {
	Name      string   `json:"name"`
	Declared  string   `json:"declared"` // the type as the database spells it
	Operators string   `json:"-"`        // the schema of its type's equality; empty: the engine's own
	Kind      Kind     `json:"kind"`
	Length    int      `json:"length,omitempty"`    // of texts in characters, of bytes in bytes; 0 if not limited
	Precision int      `json:"precision,omitempty"` // of decimals, all digits; 0 if not limited
	Scale     int      `json:"scale,omitempty"`     // of decimals, digits after the point
	Bits      int      `json:"bits,omitempty"`      // of integers; 0 means 64
	Unsigned  bool     `json:"unsigned,omitempty"`  // of integers and decimals
	Digits    int      `json:"digits,omitempty"`    // of a second, of times and moments
	Values    []string `json:"values,omitempty"`    // the only ones allowed, of an enumeration
	NotNull   bool     `json:"not_null,omitempty"`
	Default   bool     `json:"default,omitempty"`   // it has a default value, or numbers itself
	Preset    string   `json:"preset,omitempty"`    // the expression of the default value, as far as the database tells
	Generated bool     `json:"generated,omitempty"` // computed by the database: never written
	// of a generated column: the expression, as far as the database tells
	Computed string `json:"computed,omitempty"`
	Restamps bool   `json:"restamps,omitempty"` // it takes the time whenever its row is changed
	// of moments: it keeps no time zone, so that programs must agree on one
	Zoneless bool     `json:"zoneless,omitempty"`
	Identity Identity `json:"identity,omitempty"` // how it numbers itself
	Checks   []Check  `json:"checks,omitempty"`   // of its domain: the value is called VALUE in them
	// of Any: a pattern of texts that the type takes; empty if it is not known
	Form   string `json:"form,omitempty"`
	Narrow bool   `json:"narrow,omitempty"` // of texts: it cannot hold all letters of Unicode
	// of moments: the last that it holds, in microseconds since 1970; 0 if that does not matter
	Latest int64 `json:"-"`
	Exact  int   `json:"-"` // of decimals: digits that the engine keeps exactly; 0 for all
	Float  int   `json:"-"` // of floating-point numbers: their bits, 32 or 64; 0 if they are not known
	// Numbers tells that the engine makes numbers of texts that look like numbers, such as 501 of '00501'.
	Numbers bool `json:"-"`
	// of other types that hold whole numbers: the least and the greatest; both 0 if they hold others, too
	Least, Most int64  `json:"-"`
	Type        string `json:"-"` // what its engine's store knows the type by
	Base        string `json:"-"` // the type as a temporary table declares it
}

// Lasting says of the first table which a transaction that writes to these tables cannot take back why it cannot;
// empty if it takes back all.
func Lasting(tables []*Table) string {
	for _, t := range tables {
		switch {
		case t.Unsafe:
			return "the storage engine of " + t.Name + " has no transactions"
		case t.Spills != "":
			return "a trigger of " + t.Name + " may write to " + t.Spills + ", whose storage engine has no transactions"
		}
	}
	return ""
}

// Range is the least and the greatest whole number that the column's type holds, as
// far as they fit 64 bits.
func (c *Column) Range() (lo, hi int64) {
	bits := c.Bits
	if bits == 0 {
		bits = 64
	}
	switch {
	case c.Unsigned && bits >= 63:
		return 0, math.MaxInt64
	case c.Unsigned:
		return 0, 1<<bits - 1
	case bits >= 64:
		return math.MinInt64, math.MaxInt64
	}
	return -1 << (bits - 1), 1<<(bits-1) - 1
}

// Identity is how a column numbers itself.
type Identity string

// The ways to number. Of columns that Always do, a statement may not change the
// number, and must say so explicitly when it gives one.
const (
	NoIdentity Identity = ""
	Serial     Identity = "serial" // a sequence or counter that moves when no number is given
	Always     Identity = "always"
)

// Unique is a unique constraint or index over columns. Partial indexes, indexes over
// expressions and over the beginnings of texts are told apart, because they do not tell
// rows apart by their columns.
type Unique struct {
	Name        string         `json:"name"`
	Columns     []string       `json:"columns"`
	Partial     bool           `json:"partial,omitempty"`
	Where       string         `json:"where,omitempty"`       // which rows it binds, if not all
	Expressions []string       `json:"expressions,omitempty"` // what it is over beside columns
	Beginnings  map[string]int `json:"beginnings,omitempty"`  // columns of which only so many characters or bytes count

	Deferrable bool `json:"deferrable,omitempty"`
	NullsEqual bool `json:"nulls_equal,omitempty"` // two NULLs collide
}

// Exclusion is an exclusion constraint: no two rows for which all operators hold.
type Exclusion struct {
	Name      string   `json:"name"`
	Columns   []string `json:"columns"` // empty for an expression
	Operators []string `json:"operators"`
	Where     string   `json:"where,omitempty"`
}

// Check is a CHECK constraint; its name may be empty.
type Check struct {
	Name       string `json:"name,omitempty"`
	Expression string `json:"expression"`
}

// Reference is a foreign key.
type Reference struct {
	Name       string   `json:"name,omitempty"`
	Columns    []string `json:"columns"`
	Table      string   `json:"table"`
	To         *Table   `json:"-"`                    // the same; nil if the database does not have it
	Targets    []string `json:"targets"`              // the columns referred to
	Deferrable bool     `json:"deferrable,omitempty"` // may be held against the tables at the commit
	Cascade    bool     `json:"cascade,omitempty"`    // rows go when what they refer to goes
	Blanks     bool     `json:"blanks,omitempty"`     // it becomes NULL, or its default, when what it refers to goes
}

// Custom reports whether values of the column are compared by operators that are not the engine's own.
func (c *Column) Custom() bool { return c.Operators != "" && c.Operators != "pg_catalog" }

// Table finds a table by its name, or by that of its schema and its own; letter case counts only if two differ by it.
func (d *Database) Table(name string) *Table {
	i := find(name, len(d.Tables), func(i int) string { return d.Tables[i].Name })
	if i < 0 {
		i = find(name, len(d.Tables), func(i int) string { return d.Tables[i].Qualified() })
	}
	if i < 0 {
		return nil
	}
	return d.Tables[i]
}

// Referring are all tables whose rows may refer to others of the database: its own, and those of other databases or
// otherwise not among them.
func (d *Database) Referring() []*Table { return slices.Concat(d.Tables, d.Outside) }

// IsOutside reports whether a table is not one of the database's own.
func (d *Database) IsOutside(t *Table) bool { return slices.Contains(d.Outside, t) }

// Takes reports whether rows change or go when what they refer to goes, without the database refusing it.
func (r *Reference) Takes() bool { return r.Cascade || r.Blanks }

// Link sets where the references point to, and their columns where they name none.
func (d *Database) Link() {
	for _, t := range d.Referring() {
		for i := range t.References {
			r := &t.References[i]
			if r.To = d.Table(r.Table); r.To != nil && r.Targets == nil {
				r.Targets = r.To.PrimaryKey
			}
		}
	}
}

// Schemas returns the names of the schemas that tables are in, sorted; nil if the engine has none.
func (d *Database) Schemas() []string {
	var names []string
	for _, t := range d.Tables {
		if t.Schema != "" {
			names = append(names, t.Schema)
		}
	}
	slices.Sort(names)
	return slices.Compact(names)
}

// TableNames returns the names of all tables.
func (d *Database) TableNames() []string {
	names := make([]string, len(d.Tables))
	for i, t := range d.Tables {
		names[i] = t.Name
	}
	return names
}

// Column finds a column by name; letter case counts only if two differ by it.
func (t *Table) Column(name string) *Column {
	i := find(name, len(t.Columns), func(i int) string { return t.Columns[i].Name })
	if i < 0 {
		return nil
	}
	return t.Columns[i]
}

// find looks for the exact name, then for the same name in another case.
func find(name string, n int, at func(int) string) int {
	for i := range n {
		if at(i) == name {
			return i
		}
	}
	for i := range n {
		if strings.EqualFold(at(i), name) {
			return i
		}
	}
	return -1
}

// ColumnNames returns the names of all columns.
func (t *Table) ColumnNames() []string { return NamesOf(t.Columns) }

// KeyColumns are the columns that tell rows apart: those of the primary key, or all.
func (t *Table) KeyColumns() []*Column {
	if len(t.PrimaryKey) == 0 {
		return t.Columns
	}
	columns := make([]*Column, len(t.PrimaryKey))
	for i, name := range t.PrimaryKey {
		columns[i] = t.Column(name)
	}
	return columns
}

// NamesOf are the names of columns.
func NamesOf(columns []*Column) []string {
	names := make([]string, len(columns))
	for i, c := range columns {
		names[i] = c.Name
	}
	return names
}

// Plain returns a name without letter case and word signs, so that givenName,
// given_name and GivenName are the same.
func Plain(name string) string {
	return strings.Map(func(r rune) rune {
		if r == '_' || r == '-' || r == ' ' {
			return -1
		}
		return unicode.ToLower(r)
	}, name)
}

// ByConvention finds the column that a field's name means: the same name, or
// the same words written in another convention.
func (t *Table) ByConvention(name string) *Column {
	if c := t.Column(name); c != nil {
		return c
	}
	for _, c := range t.Columns {
		if Plain(c.Name) == Plain(name) {
			return c
		}
	}
	return nil
}

// Reference returns the foreign key that consists of one column, or nil.
func (t *Table) Reference(column string) *Reference {
	for i, r := range t.References {
		if len(r.Columns) == 1 && strings.EqualFold(r.Columns[0], column) {
			return &t.References[i]
		}
	}
	return nil
}

// WideReference returns the foreign key of several columns that a column belongs
// to, or nil.
func (t *Table) WideReference(column string) *Reference {
	for i, r := range t.References {
		if len(r.Columns) > 1 &&
			slices.ContainsFunc(r.Columns, func(c string) bool { return strings.EqualFold(c, column) }) {
			return &t.References[i]
		}
	}
	return nil
}

// Keys returns the sets of columns that must be unique: the primary key first.
func (t *Table) Keys() []Unique {
	var keys []Unique
	if len(t.PrimaryKey) > 0 {
		keys = append(keys, Unique{Name: "primary key", Columns: t.PrimaryKey})
	}
	return append(keys, t.Uniques...)
}

// Backing finds the unique key over just these columns that can tell rows apart: not
// partial, not deferrable, and no column of it NULL, or NULLs equal. The text says why
// there is none.
func (t *Table) Backing(columns []string) (*Unique, string) {
	same := func(u *Unique) bool {
		return len(u.Columns) == len(columns) && !slices.ContainsFunc(columns, func(c string) bool {
			return !slices.ContainsFunc(u.Columns, func(k string) bool { return strings.EqualFold(k, c) })
		})
	}
	why := "the table has no unique key over exactly these columns"
	keys := t.Keys()
	for i := range keys {
		u := &keys[i]
		if !same(u) {
			continue
		}
		nullable := ""
		for _, name := range u.Columns {
			if c := t.Column(name); c != nil && !c.NotNull && !u.NullsEqual {
				nullable = c.Name
			}
		}
		switch {
		case u.Partial:
			why = fmt.Sprintf("the index %s over them covers only some rows", u.Name)
		case u.Deferrable:
			why = fmt.Sprintf("the key %s over them is deferrable, so it is checked only at the commit", u.Name)
		case nullable != "":
			why = fmt.Sprintf("%s may be NULL, and rows with NULL do not conflict", nullable)
		default:
			return u, ""
		}
	}
	return nil, why
}

// KeyName is what messages call the unique key over some columns; empty if there is none.
func (t *Table) KeyName(columns []string) string {
	if slices.Equal(columns, t.PrimaryKey) {
		return "PRIMARY KEY (" + strings.Join(columns, ", ") + ")"
	}
	for _, u := range t.Uniques {
		if slices.Equal(u.Columns, columns) {
			return u.Name
		}
	}
	return ""
}

// InKey reports whether a column is a part of a unique key.
func (t *Table) InKey(column string) bool {
	return slices.ContainsFunc(t.Keys(), func(u Unique) bool {
		return slices.ContainsFunc(u.Columns, func(c string) bool { return strings.EqualFold(c, column) })
	})
}

// IsKey reports whether the column alone is unique in the table.
func (t *Table) IsKey(column string) bool {
	return slices.ContainsFunc(t.Keys(), func(u Unique) bool {
		return !u.Partial && len(u.Columns) == 1 && strings.EqualFold(u.Columns[0], column)
	})
}

// Label is the column that tells people which row it is: a name, a title, a
// code, else some text; empty if the table has none.
func (t *Table) Label() string {
	for _, want := range []string{"name", "title", "label", "fullname", "displayname", "familyname", "lastname",
		"surname", "code", "reference", "slug", "username", "email", "callsign", "subject", "number"} {
		for _, c := range t.Columns {
			if Plain(c.Name) == want {
				return c.Name
			}
		}
	}
	for _, c := range t.Columns {
		if c.Kind == Text && t.Reference(c.Name) == nil && !slices.Contains(t.PrimaryKey, c.Name) {
			return c.Name
		}
	}
	return ""
}
