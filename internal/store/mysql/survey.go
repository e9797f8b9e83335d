package mysql

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/store/setwise"
	"evensprout/internal/value"
)

const tablesSQL = `SELECT table_name, coalesce(engine, ''), coalesce((SELECT support.transactions
  FROM information_schema.engines support WHERE support.engine = t.engine), 'YES') FROM information_schema.tables t
WHERE table_schema = DATABASE() AND table_type IN ('BASE TABLE', 'SYSTEM VERSIONED')
  AND table_name NOT IN ('evensprout_loads', 'evensprout_chunks', 'evensprout_contents', 'evensprout_occasions',
  '` + markTable + `') ORDER BY ` +
	`create_time, table_name`

const columnsSQL = `SELECT table_name, column_name, data_type, column_type, coalesce(character_maximum_length, 0),
  coalesce(numeric_precision, 0),
  coalesce(numeric_scale, 0), coalesce(datetime_precision, 0), is_nullable, coalesce(column_default, 'NULL'), extra,
  coalesce(character_set_name, ''), coalesce(collation_name, ''), coalesce(generation_expression, '')
FROM information_schema.columns WHERE table_schema = DATABASE() ORDER BY table_name, ordinal_position`

const uniquesSQL = `SELECT table_name, index_name, coalesce(column_name, ''), coalesce(sub_part, 0), %s
FROM information_schema.statistics WHERE table_schema = DATABASE() AND non_unique = 0 ORDER BY table_name,
  index_name, seq_in_index`

const partitionsSQL = `SELECT table_name, partition_method, partition_expression, coalesce(partition_description, '')
FROM information_schema.partitions WHERE table_schema = DATABASE() AND partition_method IS NOT NULL
  ORDER BY table_name, partition_ordinal_position`

const referencesSQL = `SELECT k.table_name, k.constraint_name, k.column_name, k.referenced_table_name,
  k.referenced_column_name, r.delete_rule
FROM information_schema.key_column_usage k
JOIN information_schema.referential_constraints r
  ON r.constraint_schema = k.constraint_schema AND r.constraint_name = k.constraint_name AND r.table_name = k.table_name
WHERE k.table_schema = DATABASE() AND k.referenced_table_schema = DATABASE() ORDER BY k.table_name,
  k.constraint_name, k.ordinal_position`

// outsideSQL lists foreign keys of other databases that refer to tables of this one, as far as this user has rights
// there.
const outsideSQL = `SELECT k.table_schema, k.table_name, k.constraint_name, k.column_name, k.referenced_table_name,
  k.referenced_column_name, r.delete_rule
FROM information_schema.key_column_usage k
JOIN information_schema.referential_constraints r
  ON r.constraint_schema = k.constraint_schema AND r.constraint_name = k.constraint_name AND r.table_name = k.table_name
WHERE k.referenced_table_schema = DATABASE() AND k.table_schema <> DATABASE()
ORDER BY k.table_schema, k.table_name, k.constraint_name, k.ordinal_position`

// The foreign keys that the engine knows, whatever rights this user has; only users with the right PROCESS may ask.
const (
	everyReferenceMariaDB = `SELECT id, for_name, ref_name, type & 3, DATABASE() FROM information_schema.innodb_sys_foreign`
	everyReferenceMySQL   = `SELECT id, for_name, ref_name, type & 3, DATABASE() FROM information_schema.innodb_foreign`
)

// checksSQL: MariaDB says the table in check_constraints itself, MySQL in
// table_constraints.
const (
	checksMariaDB = `SELECT table_name, constraint_name, check_clause FROM information_schema.check_constraints
WHERE constraint_schema = DATABASE() ORDER BY table_name, constraint_name`
	checksMySQL = `SELECT t.table_name, c.constraint_name, c.check_clause FROM information_schema.check_constraints c
JOIN information_schema.table_constraints t ON t.constraint_schema = c.constraint_schema
  AND t.constraint_name = c.constraint_name
WHERE c.constraint_schema = DATABASE() AND t.constraint_type = 'CHECK' ORDER BY t.table_name, c.constraint_name`
)

const triggersSQL = `SELECT event_object_table, trigger_name, action_statement FROM information_schema.triggers
WHERE event_object_schema = DATABASE() ORDER BY event_object_table, trigger_name`

// Survey reads the tables of the current database. The server shows a table that is being
// altered in part: then it is asked again.
func (d *database) Survey(ctx context.Context) (*schema.Database, error) {
	const tries, pause = 20, 50 * time.Millisecond
	for try := 1; ; try++ {
		db, err := d.survey(ctx)
		if err != nil || !slices.ContainsFunc(db.Tables, torn) {
			return db, err
		}
		if try == tries {
			return nil, &store.Fault{
				Kind:    store.Transient,
				Message: "a table keeps being altered",
				Hint:    "try again when migrations are done",
			}
		}
		select {
		case <-ctx.Done():
			return nil, context.Cause(ctx)
		case <-time.After(pause):
		}
	}
}

// torn reports whether a table is shown in part.
func torn(t *schema.Table) bool {
	return len(t.Columns) == 0 ||
		slices.ContainsFunc(t.PrimaryKey, func(name string) bool { return t.Column(name) == nil })
}

// uniqueColumn adds a column of a primary key, or of a unique index, to its table.
func uniqueColumn(t *schema.Table, r []string) {
	if r[1] == "PRIMARY" {
		t.PrimaryKey = append(t.PrimaryKey, r[2])
		return
	}
	n := len(t.Uniques)
	if n == 0 || t.Uniques[n-1].Name != r[1] {
		t.Uniques = append(t.Uniques, schema.Unique{Name: r[1]})
		n++
	}
	u := &t.Uniques[n-1]
	if r[3] != "0" {
		if u.Beginnings == nil {
			u.Beginnings = map[string]int{}
		}
		u.Partial, u.Beginnings[r[2]] = true, number(r[3])
	}
	if r[2] == "" {
		u.Partial, u.Expressions = true, append(u.Expressions, r[4])
	} else {
		u.Columns = append(u.Columns, r[2])
	}
}

// settle decides what only all of a table's description tells.
func settle(t *schema.Table) {
	t.Partition = strings.TrimPrefix(t.Partition, " OR ")
	if strings.HasSuffix(t.Partition, anywhere) {
		t.Partition = ""
	}
	for _, c := range t.Columns {
		if c.Kind == schema.Boolean && c.Type == "tinyint" && counts(t, c) {
			c.Kind = schema.Integer
		}
	}
}

func (d *database) survey(ctx context.Context) (*schema.Database, error) {
	db := &schema.Database{}
	byName := map[string]*schema.Table{}
	text := &schema.Column{Kind: schema.Any}
	each := func(sql string, width int, show func(t *schema.Table, r []string)) error {
		columns := slices.Repeat([]*schema.Column{text}, width)
		r := make([]string, width)
		return d.Query(ctx, sql, nil, columns, func(row []value.Value) error {
			for i := range row {
				r[i] = row[i].S
			}
			if t := byName[r[0]]; t != nil || sql == tablesSQL {
				show(t, r)
			}
			return nil
		})
	}
	triggers := map[*schema.Table]string{} // their texts
	checksSQL, expression := checksMySQL, "coalesce(expression, '')"
	if d.maria {
		checksSQL, expression = checksMariaDB, "''"
	}
	uniques := fmt.Sprintf(uniquesSQL, expression)
	for _, q := range []struct {
		sql   string
		width int
		show  func(t *schema.Table, r []string)
	}{
		{tablesSQL, 3, func(_ *schema.Table, r []string) {
			t := &schema.Table{Name: r[0], Unsafe: r[2] != "YES"}
			if isExternal(r[1]) {
				t.External = "its engine is " + r[1]
				t.Notes = append(t.Notes, "its rows are stored elsewhere: "+t.External)
			}
			if t.Unsafe {
				t.Notes = append(t.Notes, "its engine "+r[1]+" has no transactions: rows written there cannot be "+
					"rolled back")
			}
			byName[r[0]] = t
			db.Tables = append(db.Tables, t)
		}},
		{columnsSQL, 14, func(t *schema.Table, r []string) { t.Columns = append(t.Columns, column(r[1:])) }},
		{uniques, 5, uniqueColumn},
		{referencesSQL, 6, func(t *schema.Table, r []string) {
			n := len(t.References)
			if n == 0 || t.References[n-1].Name != r[1] {
				t.References = append(t.References,
					schema.Reference{Name: r[1], Table: r[3], Cascade: r[5] == "CASCADE",
						Blanks: strings.HasPrefix(r[5], "SET ")})
				n++
			}
			f := &t.References[n-1]
			f.Columns, f.Targets = append(f.Columns, r[2]), append(f.Targets, r[4])
		}},
		{checksSQL, 3, func(t *schema.Table, r []string) {
			if m := jsonCheck.FindStringSubmatch(r[2]); m != nil && t.Column(m[1]) != nil {
				t.Column(m[1]).Kind = schema.JSON // the way in which MariaDB declares JSON
				return
			}
			t.Checks = append(t.Checks, schema.Check{Name: r[1], Expression: r[2]})
		}},
		{partitionsSQL, 4, func(t *schema.Table, r []string) { partition(t, r[1], r[2], r[3]) }},
		{triggersSQL, 3, func(t *schema.Table, r []string) {
			t.Triggers = append(t.Triggers, r[1])
			triggers[t] += r[2] + "\n"
			setwise.Watch(t, r[2])
		}},
	} {
		if err := each(q.sql, q.width, q.show); err != nil {
			return nil, err
		}
	}

	d.settleAll(db)
	if err := d.outside(ctx, db); err != nil {
		return nil, err
	}
	for t := range triggers {
		t.Spills = spills(t, db, triggers, map[*schema.Table]bool{})
	}
	db.Link()
	return db, nil
}

// outside finds tables of other databases that refer to those of this one, and tables that this user does not see.
func (d *database) outside(ctx context.Context, db *schema.Database) error {
	err := d.readTexts(ctx, outsideSQL, 7, func(r []string) {
		to := db.Table(r[4])
		if to == nil || to.Column(r[5]) == nil {
			return
		}
		t := outsideTable(db, r[0], r[1])
		n := len(t.References)
		if n == 0 || t.References[n-1].Name != r[2] {
			t.References = append(t.References, schema.Reference{Name: r[2], Table: r[4], Cascade: r[6] == "CASCADE",
				Blanks: strings.HasPrefix(r[6], "SET ")})
			n++
		}
		f := &t.References[n-1]
		f.Columns, f.Targets = append(f.Columns, r[3]), append(f.Targets, r[5])
		if t.Column(r[3]) == nil {
			c := *to.Column(r[5])
			c.Name = r[3]
			t.Columns = append(t.Columns, &c)
		}
	})
	if err != nil {
		return err
	}
	return d.unread(ctx, db)
}

// settleAll ends the survey of the tables, and notes those without transactions.
func (d *database) settleAll(db *schema.Database) {
	d.tables, d.unsafe = db, nil
	for _, t := range db.Tables {
		settle(t)
		if t.Unsafe {
			d.unsafe = append(d.unsafe, t)
		}
	}
}

// readTexts reads rows of a catalogue, of some width, as texts.
func (d *database) readTexts(ctx context.Context, sql string, width int, show func(r []string)) error {
	columns := slices.Repeat([]*schema.Column{{Kind: schema.Any}}, width)
	return d.Query(ctx, sql, nil, columns, func(row []value.Value) error {
		r := make([]string, width)
		for i := range row {
			r[i] = strings.Clone(row[i].S)
		}
		show(r)
		return nil
	})
}

// outsideTable is a table of another database, which is added if it is new.
func outsideTable(db *schema.Database, in, name string) *schema.Table {
	for _, t := range db.Outside {
		if t.Schema == in && t.Local == name {
			return t
		}
	}
	t := &schema.Table{Schema: in, Local: name, Name: in + "." + name}
	db.Outside = append(db.Outside, t)
	return t
}

// unread finds tables that refer to those of the database, and that this user may not read.
func (d *database) unread(ctx context.Context, db *schema.Database) error {
	every := everyReferenceMySQL
	if d.maria {
		every = everyReferenceMariaDB
	}
	err := d.readTexts(ctx, every, 5, func(r []string) {
		in, table, ok := strings.Cut(fileName(r[1]), "/")
		own, target, _ := strings.Cut(fileName(r[2]), "/")
		to := db.Table(target)
		if !ok || to == nil || own != r[4] || in == own && db.Table(table) != nil ||
			slices.ContainsFunc(db.Outside, func(t *schema.Table) bool { return t.Schema == in && t.Local == table }) {
			return
		}
		t := outsideTable(db, in, table)
		t.Hidden = "this user may not read them (GRANT SELECT)"
		t.References = append(t.References, schema.Reference{Name: r[0], Table: to.Name, Cascade: r[3] == "1", Blanks: r[3] == "2"})
	})
	var fault *store.Fault
	if errors.As(err, &fault) && fault.Kind == store.Denied {
		return nil // docs/security.md says what this user cannot see
	}
	return err
}

// encoded is a character in the name of a file, as the server writes those of tables.
var encoded = regexp.MustCompile(`@[0-9a-f]{4}`)

// fileName is the name that a file's name stands for.
func fileName(name string) string {
	return encoded.ReplaceAllStringFunc(name, func(x string) string {
		n, err := strconv.ParseUint(x[1:], 16, 16)
		if err != nil {
			return x
		}
		return string(rune(n))
	})
}

// calling is a call of a procedure, which may write to any table.
var calling = regexp.MustCompile(`(?i)\bcall\b`)

// spills finds a table without transactions that triggers of a table may write to, or those of tables that they name.
func spills(t *schema.Table, db *schema.Database, triggers map[*schema.Table]string, seen map[*schema.Table]bool) string {
	if seen[t] {
		return ""
	}
	seen[t] = true
	text := triggers[t]
	for _, other := range db.Tables {
		switch named := setwise.Mentions(text, other.Name); {
		case other.Unsafe && (named || calling.MatchString(text)):
			return other.Name
		case named:
			if name := spills(other, db, triggers, seen); name != "" {
				return name
			}
		}
	}
	return ""
}

var jsonCheck = regexp.MustCompile("^json_valid\\(`([^`]+)`\\)$")

// anywhere ends the condition of partitions that take all rows.
const anywhere = " OR TRUE"

// partition adds the condition of one partition to its table's.
func partition(t *schema.Table, method, expression, description string) {
	columns := strings.HasSuffix(method, "COLUMNS")
	if columns && strings.Contains(expression, ",") {
		t.Partition += anywhere // several columns: left to the server
		return
	}
	switch {
	case strings.HasPrefix(method, "RANGE") && description == "MAXVALUE":
		t.Partition += anywhere
	case strings.HasPrefix(method, "RANGE"):
		t.Partition += fmt.Sprintf(" OR %s < %s", expression, description)
	case strings.HasPrefix(method, "LIST"):
		t.Partition += fmt.Sprintf(" OR %s IN (%s)", expression, description)
	default:
		t.Partition += anywhere // by hash or key
	}
}

// counts reports whether a small number is more than true or false: it is compared, is in
// a key, or refers to something.
func counts(t *schema.Table, c *schema.Column) bool {
	if c.Identity != schema.NoIdentity {
		return true
	}
	has := func(columns []string) bool { return slices.Contains(columns, c.Name) }
	for _, k := range t.Keys() {
		if has(k.Columns) {
			return true
		}
	}
	for _, r := range t.References {
		if has(r.Columns) {
			return true
		}
	}
	return slices.ContainsFunc(t.Checks, func(k schema.Check) bool { return setwise.Mentions(k.Expression, c.Name) })
}

// lastTimestamp is the last moment of the type TIMESTAMP, 2038-01-19T03:14:07Z, in
// microseconds; it begins in 1970.
const lastTimestamp = (1<<31 - 1) * 1_000_000

// geometries are types of places in the plane, with a pattern of their text.
var geometries = map[string]string{
	"geometry": `POINT\([1-9] [1-9]\)`, "point": `POINT\([1-9] [1-9]\)`, "linestring": `LINESTRING\([1-4] ` +
		`[1-9],[5-9] [1-9]\)`,
	"polygon": `POLYGON\(\(0 0,[1-4] 0,[1-4] [5-9],0 [5-9],0 0\)\)`, "multipoint": `MULTIPOINT\([1-4] [1-9],[5-9] ` +
		`[1-9]\)`, "multilinestring": `MULTILINESTRING\(\([1-4] [1-9],[5-9] [1-9]\)\)`,
	"multipolygon": `MULTIPOLYGON\(\(\(0 0,[1-4] 0,[1-4] [5-9],0 [5-9],0 0\)\)\)`,
	"geometrycollection": `GEOMETRYCOLLECTION\(POINT\([1-9] ` +
		`[1-9]\)\)`,
}

// column reads a line of information_schema.columns.
func column(r []string) *schema.Column {
	c := &schema.Column{Name: r[0], Type: r[1], Declared: r[2], NotNull: r[7] == "NO", Base: r[2]}
	extra := strings.ToLower(r[9])
	c.Generated = strings.Contains(extra, "virtual generated") || strings.Contains(extra, "stored generated") ||
		strings.Contains(extra, "persistent")
	c.Computed = r[12]
	c.Restamps = strings.Contains(extra, "on update")
	if c.Default = r[8] != "NULL"; c.Default {
		c.Preset = r[8]
	}
	if strings.Contains(extra, "auto_increment") {
		c.Default, c.Identity = true, schema.Serial
	}
	c.Unsigned = strings.Contains(r[2], "unsigned")
	length := number(r[3])
	if r[11] != "" {
		c.Base += " CHARACTER SET " + r[10] + " COLLATE " + r[11]
	}
	c.Digits = 6
	if bits := integerBits[r[1]]; bits > 0 {
		c.Kind, c.Bits = schema.Integer, bits
		if strings.HasPrefix(r[2], "tinyint(1)") {
			c.Kind = schema.Boolean
		}
		return c
	}

	switch r[1] {
	case "decimal":
		c.Kind, c.Precision, c.Scale = schema.Decimal, number(r[4]), number(r[5])
	case "float", "double":
		c.Kind, c.Float = schema.Real, 64
		if r[1] == "float" {
			c.Float = 32
		}
		if strings.Contains(r[2], "(") { // DOUBLE(4,2) ends at 99.99
			c.Precision, c.Scale = number(r[4]), number(r[5])
		}
	case "bit":
		c.Kind, c.Bits, c.Unsigned = schema.Integer, number(r[4]), true
		if c.Bits == 1 {
			c.Kind = schema.Boolean
		}
	case "binary", "varbinary", "tinyblob":
		c.Kind, c.Length = schema.Bytes, length
	case "blob", "mediumblob", "longblob":
		c.Kind = schema.Bytes
	case "date":
		c.Kind = schema.Date
	case "time":
		c.Kind, c.Digits = schema.Time, number(r[6])
	case "datetime", "timestamp":
		c.Kind, c.Digits, c.Zoneless = schema.Timestamp, number(r[6]), r[1] == "datetime"
		if r[1] == "timestamp" {
			c.Latest = lastTimestamp
		}
	case "uuid":
		c.Kind = schema.UUID
	case "json":
		c.Kind, c.Base = schema.JSON, "json"
	default:
		textColumn(c, r)
	}
	return c
}

// integerBits are the widths of whole numbers.
var integerBits = map[string]int{"tinyint": 8, "smallint": 16, "mediumint": 24, "int": 32, "bigint": 64}

// textColumn reads what is written as a text.
func textColumn(c *schema.Column, r []string) {
	switch r[1] {
	case "char", "varchar", "tinytext": // that in bytes, so letters beyond ASCII may find less room
		c.Kind, c.Length = schema.Text, number(r[3])
	case "text", "mediumtext", "longtext":
		c.Kind = schema.Text
	case "enum":
		c.Kind, c.Values = schema.Text, enumValues(r[2])
	case "year":
		// The server makes 2005 of 5, and 2000 of 0.
		c.Kind, c.Form, c.Least, c.Most = schema.Any, `20[0-2][0-9]`, 1901, 2155
	case "set":
		c.Kind, c.Form = schema.Any, setwise.AnyOf(enumValues(r[2]))
	case "inet4":
		c.Kind, c.Form = schema.Any, `(192\.0\.2|198\.51\.100|203\.0\.113)\.([1-9]|[1-9][0-9]|1[0-9][0-9])`
	case "inet6":
		c.Kind, c.Form = schema.Any, `2001:db8::[1-9a-f][0-9a-f]{0,3}`
	default:
		c.Kind, c.Form = schema.Any, geometries[r[1]]
	}
	unicode := r[10] == "ucs2"
	for _, set := range []string{"utf8", "utf16", "utf32"} {
		unicode = unicode || strings.HasPrefix(r[10], set)
	}
	c.Narrow = c.Kind == schema.Text && r[10] != "" && !unicode
}

func number(s string) int {
	n, _ := strconv.Atoi(s)
	return n
}

// enumValues reads, with their escapes, enum('a','b') and set('a','b').
func enumValues(declared string) []string {
	var values []string
	_, rest, ok := strings.Cut(declared, "(")
	for ok && strings.HasPrefix(rest, "'") {
		var b strings.Builder
		i := 1
		for i < len(rest) {
			if rest[i] == '\'' {
				if i+1 < len(rest) && rest[i+1] == '\'' {
					i++
				} else {
					break
				}
			}
			c := rest[i]
			if c == '\\' && i+1 < len(rest) { // as the server writes texts in definitions
				i++
				if c = rest[i]; strings.IndexByte("nr0tZ", c) >= 0 {
					c = map[byte]byte{'n': '\n', 'r': '\r', '0': 0, 't': '\t', 'Z': 0x1a}[c]
				}
			}
			b.WriteByte(c)
			i++
		}
		values = append(values, b.String())
		rest = strings.TrimPrefix(rest[min(i+1, len(rest)):], ",")
	}
	return values
}
