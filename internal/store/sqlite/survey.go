package sqlite

import (
	"context"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"zombiezen.com/go/sqlite"

	"evensprout/internal/predicate"
	"evensprout/internal/schema"
	"evensprout/internal/store/setwise"
	"evensprout/internal/value"
)

// Survey reads the tables in the order in which they were made.
func (d *database) Survey(ctx context.Context) (*schema.Database, error) {
	version, err := setwise.Number(ctx, d, "PRAGMA main.schema_version")
	if err != nil {
		return nil, err
	}
	db := &schema.Database{}
	scripts, strict := map[string]string{}, map[string]bool{}
	err = d.rows(
		`SELECT s.name, s.sql, l.strict FROM sqlite_schema s JOIN pragma_table_list l ON l.name = s.name AND l.schema = 'main'
		WHERE l.type = 'table' AND s.name NOT LIKE 'sqlite\_%' ESCAPE '\' AND s.name NOT IN ('evensprout_loads',
		  'evensprout_chunks', 'evensprout_contents', 'evensprout_occasions') ORDER BY s.rowid`,
		nil,
		func(s *sqlite.Stmt) error {
			t := &schema.Table{Name: s.ColumnText(0)}
			scripts[t.Name] = s.ColumnText(1)
			strict[t.Name] = s.ColumnBool(2)
			db.Tables = append(db.Tables, t)
			return nil
		},
	)
	if err != nil {
		return nil, err
	}
	other, err := d.scripts()
	if err != nil {
		return nil, err
	}
	for _, t := range db.Tables {
		uniques := func(t *schema.Table) error { return d.uniques(t, other.indexes) }
		for _, read := range []func(*schema.Table) error{d.columns, uniques, d.references} {
			if err := read(t); err != nil {
				return nil, err
			}
		}
		for _, x := range other.triggers[t.Name] {
			t.Triggers = append(t.Triggers, x.name)
			setwise.Watch(t, x.sql)
		}
		for _, c := range t.Columns {
			c.Numbers = c.Numbers && !strict[t.Name] // a STRICT table keeps what it is given
		}
		t.Checks = checks(scripts[t.Name])
		counted(t)
	}
	db.Link()
	breakReferences(db)
	for _, t := range db.Tables {
		alike(t)
		if t.Broken == "" {
			t.Broken = d.refuses(t)
		}
	}
	d.tables, d.version = db, version
	return db, nil
}

// breakReferences marks tables whose references SQLite cannot follow, so that it accepts no row there. Where the other
// table has no primary key, its row number is meant.
func breakReferences(db *schema.Database) {
	for _, t := range db.Tables {
		for i := range t.References {
			switch r := t.References[i]; {
			case r.To == nil:
				t.Broken = "it refers to " + r.Table + ", which does not exist, so SQLite accepts no row"
			case !keyed(r.To, r.Targets):
				t.Broken = fmt.Sprintf(
					"it refers to %s (%s), which is not a key there, so SQLite accepts no row",
					r.Table,
					strings.Join(r.Targets, ", "),
				)
			}
			for r := &t.References[i]; len(r.Targets) < len(r.Columns); {
				r.Targets = append(r.Targets, "rowid")
			}
		}
	}
}

// keyed reports whether columns are a key that the engine lets others refer to.
func keyed(t *schema.Table, columns []string) bool {
	for _, k := range t.Keys() {
		if !k.Partial && len(k.Columns) == len(columns) && !slices.ContainsFunc(columns, func(c string) bool {
			return !slices.ContainsFunc(k.Columns, func(x string) bool { return strings.EqualFold(x, c) })
		}) {
			return true
		}
	}
	return false
}

// counted takes columns for numbers that conditions compare with numbers, whatever their
// type is called: a moment may be kept as one.
func counted(t *schema.Table) {
	for _, k := range t.Checks {
		n, err := predicate.Parse(k.Expression)
		if err != nil {
			continue
		}
		n.Visit(func(x *predicate.Node) {
			switch x.Op {
			case predicate.Less, predicate.AtMost, predicate.More, predicate.AtLeast:
			default:
				return
			}
			for i, a := range x.Args {
				c := t.Column(a.Name)
				if other := x.Args[1-i]; a.Op == predicate.Column && c != nil && other.Op == predicate.Literal &&
					other.Value.Type == value.Integer &&
					(c.Kind == schema.Date || c.Kind == schema.Time || c.Kind == schema.Timestamp) {
					c.Kind = schema.Integer
				}
			}
		})
	}
}

// alike takes columns for what those hold that they refer to, whatever their type is
// called.
func alike(t *schema.Table) {
	for _, r := range t.References {
		for i, name := range r.Columns {
			c, target := t.Column(name), holder(r, i)
			if c != nil && target != nil && c.Kind != target.Kind {
				c.Kind, c.Length, c.Bits = target.Kind, target.Length, target.Bits
			}
		}
	}
}

// holder is the column whose values the i-th column of a reference has in the end; nil
// if there is none.
func holder(r schema.Reference, i int) *schema.Column {
	for range 10 { // a key may refer to a key
		if r.To == nil {
			return nil
		}
		target := r.To.Column(r.Targets[i])
		if target == nil {
			return nil
		}
		up := r.To.Reference(target.Name)
		if up == nil {
			return target
		}
		r, i = *up, 0
	}
	return nil
}

// refuses tells why the engine takes no row of a table, whatever its values: it cannot
// make a statement of it. Nothing runs.
func (d *database) refuses(t *schema.Table) string {
	stmt, _, err := d.conn.PrepareTransient("INSERT INTO " + quote(t.Name) + " DEFAULT VALUES")
	if err != nil {
		return "SQLite accepts no row: " + strings.TrimPrefix(err.Error(), "sqlite: prepare: ")
	}
	stmt.Finalize()
	return ""
}

func (d *database) columns(t *schema.Table) error {
	type keyPart struct {
		place int
		name  string
	}
	var key []keyPart
	err := d.rows(
		"SELECT name, type, \"notnull\", dflt_value IS NOT NULL, pk, hidden, coalesce(dflt_value, '') FROM "+
			"pragma_table_xinfo(?)",
		[]string{t.Name},
		func(s *sqlite.Stmt) error {
			hidden := s.ColumnInt(5)
			if hidden == 1 {
				return nil
			}
			c := &schema.Column{
				Name: s.ColumnText(
					0,
				), Declared: s.ColumnText(1), NotNull: s.ColumnBool(2), Default: s.ColumnBool(3),
				Generated: hidden >= 2, Preset: s.ColumnText(6),
			}
			describe(c)
			c.Base = c.Declared
			if pk := s.ColumnInt(4); pk > 0 {
				key = append(key, keyPart{pk, c.Name})
			}
			t.Columns = append(t.Columns, c)
			return nil
		},
	)
	if err != nil {
		return err
	}
	t.PrimaryKey = make([]string, len(key))
	for _, k := range key {
		t.PrimaryKey[k.place-1] = k.name
		c := t.Column(k.name)
		c.NotNull = true // even where the engine would let a NULL pass
		if len(key) == 1 && strings.EqualFold(c.Declared, "INTEGER") {
			c.Default = true // the row number: given by the engine if left out
		}
	}
	return nil
}

func (d *database) uniques(t *schema.Table, scripts map[string]string) error {
	type index struct {
		name            string
		origin          string
		partial, unsure bool
		columns         []string
	}
	var list []*index
	err := d.rows(
		"SELECT name, origin, partial FROM pragma_index_list(?) WHERE \"unique\" ORDER BY seq DESC",
		[]string{t.Name},
		func(s *sqlite.Stmt) error {
			list = append(
				list,
				&index{name: s.ColumnText(0), origin: s.ColumnText(1), partial: s.ColumnBool(2)},
			)
			return nil
		},
	)
	if err != nil {
		return err
	}
	for _, x := range list {
		if x.origin == "pk" {
			continue
		}
		err := d.rows(
			"SELECT cid, name, coll FROM pragma_index_xinfo(?) WHERE key ORDER BY seqno",
			[]string{x.name},
			func(s *sqlite.Stmt) error {
				if s.ColumnInt(0) < 0 {
					x.unsure = true // an expression, or the row number
					return nil
				}
				x.columns = append(x.columns, s.ColumnText(1))
				return nil
			},
		)
		if err != nil {
			return err
		}
		name := x.name
		if x.origin == "u" {
			name = describeKey(x.columns)
		}
		u := schema.Unique{Name: name, Columns: x.columns, Partial: x.partial || x.unsure}
		if u.Partial {
			u.Expressions, u.Where = indexParts(scripts[x.name])
		}
		t.Uniques = append(t.Uniques, u)
	}
	return nil
}

// indexParts finds in the text of an index what it is over beside columns, and which
// rows it binds.
func indexParts(sql string) (expressions []string, where string) {
	open := strings.IndexByte(sql, '(')
	if open < 0 {
		return nil, ""
	}
	end := closing(sql, open)
	if end < 0 {
		return nil, ""
	}
	if rest := strings.TrimSpace(sql[end+1:]); len(rest) > 5 && strings.EqualFold(rest[:5], "WHERE") {
		where = strings.TrimSpace(rest[5:])
	}
	depth, from := 0, open+1
	for i := open + 1; i <= end; {
		if skip := literalEnd(sql, i); skip > i {
			i = skip
			continue
		}
		switch {
		case sql[i] == '(':
			depth++
		case sql[i] == ')' && i < end:
			depth--
		case (sql[i] == ',' || i == end) && depth == 0:
			part := strings.TrimSpace(sql[from:i])
			if strings.ContainsAny(part, "(|+-*/") {
				expressions = append(expressions, part)
			}
			from = i + 1
		}
		i++
	}
	return expressions, where
}

func (d *database) references(t *schema.Table) error {
	byID := map[int]int{}
	return d.rows(
		"SELECT id, \"table\", \"from\", \"to\", on_delete FROM pragma_foreign_key_list(?) ORDER BY id DESC, seq",
		[]string{t.Name},
		func(s *sqlite.Stmt) error {
			id := s.ColumnInt(0)
			at, ok := byID[id]
			if !ok {
				at = len(t.References)
				byID[id] = at
				t.References = append(
					t.References,
					schema.Reference{
						Table:   s.ColumnText(1),
						Cascade: s.ColumnText(4) == "CASCADE",
						Blanks:  strings.HasPrefix(s.ColumnText(4), "SET "),
					},
				)
			}
			r := &t.References[at]
			r.Columns = append(r.Columns, s.ColumnText(2))
			if !s.ColumnIsNull(3) {
				r.Targets = append(r.Targets, s.ColumnText(3))
			}
			r.Name = "FOREIGN KEY (" + strings.Join(r.Columns, ", ") + ")"
			return nil
		},
	)
}

// scripts are the statements that made indexes and triggers. They are read once: the engine searches all of its schema
// for those of one table.
type scripts struct {
	indexes  map[string]string    // by name
	triggers map[string][]trigger // by table, in the order of their names
}

// trigger is a trigger and the statement that made it.
type trigger struct{ name, sql string }

func (d *database) scripts() (scripts, error) {
	out := scripts{map[string]string{}, map[string][]trigger{}}
	err := d.rows(
		"SELECT type, name, tbl_name, sql FROM sqlite_schema WHERE type IN ('index', 'trigger') AND sql IS NOT NULL "+
			"ORDER BY name",
		nil,
		func(s *sqlite.Stmt) error {
			name, table, sql := s.ColumnText(1), s.ColumnText(2), s.ColumnText(3)
			if s.ColumnText(0) == "index" {
				out.indexes[name] = sql
				return nil
			}
			out.triggers[table] = append(out.triggers[table], trigger{name, sql})
			return nil
		},
	)
	return out, err
}

var declaration = regexp.MustCompile(`^\s*([^(]*?)\s*(?:\(\s*(\d+)\s*(?:,\s*(\d+)\s*)?\))?\s*$`)

// maxExact is the number of digits that a numeric column keeps exactly.
const maxExact = 15

// describe reads a column's declared type. The engine itself takes anything; what
// the declaration says is kept by this program.
func describe(c *schema.Column) {
	m := declaration.FindStringSubmatch(c.Declared)
	if m == nil {
		c.Kind, c.Numbers = schema.Any, true
		return
	}
	name := strings.ToUpper(m[1])
	n, _ := strconv.Atoi(m[2])
	scale, _ := strconv.Atoi(m[3])
	has := func(words ...string) bool { return containsAny(name, words...) }
	if kind, is := momentKind(name); is {
		c.Kind = kind
		return
	}
	switch {
	case name == "" || name == "ANY":
		c.Kind = schema.Any
	case has("BOOL"):
		c.Kind = schema.Boolean
	case has("DECIMAL", "NUMERIC", "MONEY"):
		c.Kind, c.Precision, c.Scale, c.Exact = schema.Decimal, n, scale, maxExact
	case has("REAL", "DOUB", "FLOA"):
		c.Kind, c.Exact = schema.Real, maxExact
	case has("UUID", "GUID"):
		c.Kind = schema.UUID
	case has("JSON"):
		c.Kind = schema.JSON
	case has("INT"):
		c.Kind, c.Bits = schema.Integer, integerBits[name]
	case has("CHAR", "CLOB", "TEXT"):
		c.Kind, c.Length = schema.Text, n
	case has("BLOB", "BINARY", "BYTEA"):
		c.Kind = schema.Bytes
	default:
		c.Kind = schema.Any
	}
	c.Numbers = takesNumbers(name) && (c.Kind == schema.Any || c.Kind == schema.Text || c.Kind == schema.JSON)
}

// momentKind is the kind of a declared type that holds dates or times.
func momentKind(declared string) (kind schema.Kind, is bool) {
	switch {
	case containsAny(declared, "DATETIME", "TIMESTAMP"):
		return schema.Timestamp, true
	case declared == "DATE":
		return schema.Date, true
	case declared == "TIME":
		return schema.Time, true
	}
	return kind, false
}

// takesNumbers reports whether a column of the declared type keeps a text that looks like a number as a number: the
// engine's rules of affinity, section 3.1 of its page on data types.
func takesNumbers(declared string) bool {
	texts := containsAny(declared, "CHAR", "CLOB", "TEXT", "BLOB") || declared == ""
	return strings.Contains(declared, "INT") || !texts
}

// containsAny reports whether a text contains one of some words.
func containsAny(text string, words ...string) bool {
	return slices.ContainsFunc(words, func(w string) bool { return strings.Contains(text, w) })
}

// integerBits are the sizes of integers that a declaration limits below 64 bits.
var integerBits = map[string]int{"TINYINT": 8, "SMALLINT": 16, "INT2": 16, "MEDIUMINT": 24}

// checks finds the CHECK constraints in the text of a table's definition, which is
// the only place where the engine keeps them.
func checks(sql string) []schema.Check {
	var out []schema.Check
	name := ""
	for i := 0; i < len(sql); {
		switch skip := literalEnd(sql, i); {
		case skip > i:
			i = skip
		case wordAt(sql, i, "CONSTRAINT"):
			name, i = nameAt(sql, i+len("CONSTRAINT"))
		case wordAt(sql, i, "CHECK"):
			open := strings.IndexByte(sql[i:], '(')
			if open < 0 {
				return out
			}
			end := closing(sql, i+open)
			if end < 0 {
				return out
			}
			out = append(out, schema.Check{Name: name, Expression: strings.TrimSpace(sql[i+open+1 : end])})
			name, i = "", end
		default:
			if sql[i] == ',' {
				name = ""
			}
			i++
		}
	}
	return out
}

// nameAt reads the name behind i, plain or quoted, and returns where it ends.
func nameAt(sql string, i int) (string, int) {
	for i < len(sql) && strings.IndexByte(" \t\r\n", sql[i]) >= 0 {
		i++
	}
	if i == len(sql) {
		return "", i
	}
	if end := literalEnd(sql, i); end > i+1 {
		return strings.Trim(sql[i:end], "\"'`[]"), end
	}
	end := i
	for end < len(sql) && strings.IndexByte(" \t\r\n(,", sql[end]) < 0 {
		end++
	}
	return sql[i:end], end
}

// literalEnd returns the end of the string, quoted name or comment that begins at i,
// else i.
func literalEnd(sql string, i int) int {
	end := func(from int, sign string) int {
		if n := strings.Index(sql[from:], sign); n >= 0 {
			return from + n + len(sign)
		}
		return len(sql)
	}
	switch {
	case strings.HasPrefix(sql[i:], "--"):
		return end(i, "\n")
	case strings.HasPrefix(sql[i:], "/*"):
		return end(i, "*/")
	case sql[i] == '\'' || sql[i] == '"' || sql[i] == '`':
		return end(i+1, sql[i:i+1])
	case sql[i] == '[':
		return end(i, "]")
	}
	return i
}

func wordAt(sql string, i int, word string) bool {
	letter := func(c byte) bool {
		return c == '_' || c >= '0' && c <= '9' || c|0x20 >= 'a' && c|0x20 <= 'z'
	}
	end := i + len(word)
	return end <= len(sql) && strings.EqualFold(sql[i:end], word) && (i == 0 || !letter(sql[i-1])) &&
		(end == len(sql) || !letter(sql[end]))
}

// closing finds the parenthesis that closes the one at open, or -1.
func closing(sql string, open int) int {
	depth := 0
	for i := open; i < len(sql); {
		if skip := literalEnd(sql, i); skip > i {
			i = skip
			continue
		}
		switch sql[i] {
		case '(':
			depth++
		case ')':
			if depth--; depth == 0 {
				return i
			}
		}
		i++
	}
	return -1
}

// describeKey names a unique key for messages.
func describeKey(columns []string) string {
	return fmt.Sprintf("UNIQUE (%s)", strings.Join(columns, ", "))
}
