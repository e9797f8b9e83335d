package postgres

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/store/setwise"
	"evensprout/internal/value"
)

// tablesSQL lists ordinary, partitioned and foreign tables of users, not what extensions made.
const tablesSQL = `
SELECT c.oid, n.nspname, c.relname, c.relkind = 'p', row_security_active(c.oid), c.relrowsecurity,
  coalesce((SELECT string_agg(r.rulename, ', ' ORDER BY r.rulename) FROM pg_rewrite r WHERE r.ev_class = c.oid
    AND r.ev_type <> '1'), ''),
  CASE WHEN c.relkind = 'p' THEN coalesce((SELECT string_agg(coalesce(pg_get_partition_constraintdef(l.relid),
    'true'), chr(31)) FROM pg_partition_tree(c.oid) l WHERE l.isleaf AND l.relid <> c.oid), 'false') ELSE '' END,
  c.relkind = 'f' AND pg_relation_is_updatable(c.oid, false) & 8 = 0, -- 8: INSERT
  has_table_privilege(c.oid, 'SELECT')
FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
WHERE c.relkind IN ('r', 'p', 'f') AND NOT c.relispartition AND c.relpersistence <> 't'
  AND n.nspname <> 'information_schema' AND n.nspname <> 'evensprout' AND n.nspname NOT LIKE 'pg\_%'
  AND NOT EXISTS (SELECT 1 FROM pg_depend d WHERE d.classid = 'pg_class'::regclass AND d.objid = c.oid
    AND d.deptype = 'e')
ORDER BY c.oid`

// columnsSQL lists columns; the base of a domain is what it is made of.
const columnsSQL = `
SELECT a.attrelid, a.attname, format_type(a.atttypid, a.atttypmod), b.typname, b.typtype,
  format_type(b.oid, b.typmod) || CASE WHEN a.attcollation <> t.typcollation THEN ' COLLATE ' ||
    quote_ident(ln.nspname) || '.' || quote_ident(l.collname) ELSE '' END,
  b.typmod, a.attnotnull OR b.must, a.atthasdef OR a.attidentity <> '' OR b.preset, a.attgenerated, a.attidentity,
  coalesce(pg_get_expr(f.adbin, f.adrelid) LIKE 'nextval(%', false),
  (SELECT string_agg(e.enumlabel, chr(31) ORDER BY e.enumsortorder) FROM pg_enum e WHERE e.enumtypid = b.oid), b.oid,
  coalesce((SELECT pg_get_expr(g.adbin, g.adrelid) FROM pg_attrdef g WHERE g.adrelid = a.attrelid
    AND g.adnum = a.attnum AND a.attgenerated <> ''), ''),
  coalesce((SELECT m.nspname FROM pg_opclass k JOIN pg_am x ON x.oid = k.opcmethod AND x.amname = 'btree'
    JOIN pg_amop o ON o.amopfamily = k.opcfamily AND o.amoplefttype = k.opcintype AND o.amoprighttype = k.opcintype
    AND o.amopstrategy = 3
    JOIN pg_operator e ON e.oid = o.amopopr JOIN pg_namespace m ON m.oid = e.oprnamespace WHERE k.opcintype = b.oid
      AND k.opcdefault LIMIT 1), 'pg_catalog'),
  coalesce(pg_get_expr(f.adbin, f.adrelid), '')
FROM pg_attribute a
JOIN pg_class c ON c.oid = a.attrelid AND c.relkind IN ('r', 'p', 'f')
JOIN pg_namespace n ON n.oid = c.relnamespace AND n.nspname <> 'information_schema' AND n.nspname NOT LIKE 'pg\_%'
JOIN pg_type t ON t.oid = a.atttypid
LEFT JOIN pg_collation l ON l.oid = a.attcollation
LEFT JOIN pg_namespace ln ON ln.oid = l.collnamespace
LEFT JOIN pg_attrdef f ON f.adrelid = a.attrelid AND f.adnum = a.attnum AND a.attgenerated = ''
CROSS JOIN LATERAL (
  WITH RECURSIVE d (oid, typname, typtype, base, basemod, typmod, depth, must, preset) AS (
    SELECT t.oid, t.typname, t.typtype, t.typbasetype, t.typtypmod, a.atttypmod, 0, t.typnotnull,
      t.typdefault IS NOT NULL AND t.typtype = 'd'
    UNION ALL
    SELECT x.oid, x.typname, x.typtype, x.typbasetype, x.typtypmod, d.basemod, depth + 1, d.must OR x.typnotnull,
      d.preset
    FROM d JOIN pg_type x ON x.oid = d.base WHERE d.typtype = 'd')
  SELECT * FROM d ORDER BY depth DESC LIMIT 1) b
WHERE a.attnum > 0 AND NOT a.attisdropped
ORDER BY a.attrelid, a.attnum`

// uniquesSQL lists unique indexes, one line for each column; the name is empty for an
// expression. NULLS NOT DISTINCT exists since version 15.
const uniquesSQL = `
SELECT i.indrelid, x.relname, i.indisprimary, i.indpred IS NOT NULL, NOT i.indimmediate,
  coalesce((to_jsonb(i) ->> 'indnullsnotdistinct')::boolean, false), coalesce(a.attname, ''),
  coalesce(pg_get_expr(i.indpred, i.indrelid), ''), CASE WHEN a.attname IS NULL THEN pg_get_indexdef(i.indexrelid,
    k.place::int, false) ELSE '' END
FROM pg_index i JOIN pg_class x ON x.oid = i.indexrelid
CROSS JOIN LATERAL unnest(i.indkey) WITH ORDINALITY AS k (attnum, place)
LEFT JOIN pg_attribute a ON a.attrelid = i.indrelid AND a.attnum = k.attnum AND k.attnum > 0
WHERE i.indisunique AND i.indisvalid AND k.place <= i.indnkeyatts
ORDER BY i.indrelid, i.indexrelid, k.place`

// constraintsSQL lists foreign keys, one line for each column, and checks.
const constraintsSQL = `
SELECT c.conrelid, c.conname, c.contype, c.confrelid, c.confdeltype, c.condeferrable,
  coalesce(a.attname, ''), coalesce(fa.attname, ''), CASE WHEN c.contype = 'c' THEN pg_get_expr(c.conbin,
    c.conrelid) ELSE '' END,
  coalesce((SELECT o.oprname FROM pg_operator o WHERE o.oid = c.conexclop[k.place]), ''),
    coalesce((SELECT pg_get_expr(i.indpred, i.indrelid) FROM pg_index i WHERE i.indexrelid = c.conindid
    AND c.contype = 'x'), '')
FROM pg_constraint c
LEFT JOIN LATERAL unnest(c.conkey) WITH ORDINALITY AS k (attnum, place) ON c.contype IN ('f', 'x')
LEFT JOIN pg_attribute a ON a.attrelid = c.conrelid AND a.attnum = k.attnum
LEFT JOIN pg_attribute fa ON fa.attrelid = c.confrelid AND fa.attnum = c.confkey[k.place]
WHERE c.contype IN ('f', 'c', 'x') AND c.conrelid <> 0
ORDER BY c.conrelid, c.oid, k.place`

// domainsSQL lists the checks of the domains that columns are of.
const domainsSQL = `
WITH RECURSIVE d (attrelid, attname, typ) AS (
  SELECT a.attrelid, a.attname, a.atttypid FROM pg_attribute a JOIN pg_class c ON c.oid = a.attrelid
    AND c.relkind IN ('r', 'p', 'f')
  JOIN pg_type t ON t.oid = a.atttypid AND t.typtype = 'd' WHERE a.attnum > 0 AND NOT a.attisdropped
  UNION ALL SELECT d.attrelid, d.attname, t.typbasetype FROM d JOIN pg_type t ON t.oid = d.typ AND t.typtype = 'd')
SELECT d.attrelid, d.attname, c.conname, pg_get_expr(c.conbin, 0) FROM d JOIN pg_constraint c ON c.contypid = d.typ
  AND c.contype = 'c'
ORDER BY 1, 2, 3`

const triggersSQL = `SELECT tgrelid, tgname, p.prosrc FROM pg_trigger JOIN pg_proc p ON p.oid = tgfoid WHERE NOT ` +
	`tgisinternal AND tgenabled <> 'D' ORDER BY tgrelid, tgname`

// visible are the numbers of the tables that the user's search path finds without their
// schema. Neither the names nor anything else here can be another's: it is all qualified,
// and no operator is used.
func (d *database) visible(ctx context.Context) (map[string]bool, error) {
	out := map[string]bool{}
	err := d.Query(
		ctx,
		"SELECT c.oid FROM pg_catalog.pg_class AS c WHERE pg_catalog.pg_table_is_visible(c.oid)",
		nil,
		[]*schema.Column{{Kind: schema.Text}},
		func(row []value.Value) error {
			out[strings.Clone(row[0].S)] = true
			return nil
		},
	)
	return out, err
}

// Survey reads the tables in the order in which they were made.
func (d *database) Survey(ctx context.Context) (db *schema.Database, err error) {
	visible, err := d.visible(ctx)
	if err != nil {
		return nil, err
	}
	err = d.own(ctx, func() error {
		db, err = d.survey(ctx, visible)
		return err
	})
	return db, err
}

func (d *database) survey(ctx context.Context, visible map[string]bool) (*schema.Database, error) {
	v := &surveying{
		d:       d,
		db:      &schema.Database{},
		visible: visible,
		byOID:   map[string]*schema.Table{},
		types:   catalogue{},
		narrow:  d.conn.ParameterStatus("server_encoding") != "UTF8",
	}
	d.constraints, d.partitioned = map[string]constraint{}, map[string]bool{}
	each := func(sql string, width int, show func(t *schema.Table, r []string)) error {
		return d.texts(ctx, width, sql, nil, func(r []string) {
			r = slices.Clone(r)
			show(v.byOID[r[0]], r)
		})
	}
	if err := v.types.read(each); err != nil {
		return nil, err
	}
	if err := each(tablesSQL, 10, v.table); err != nil {
		return nil, err
	}
	for _, q := range []struct {
		sql   string
		width int
		show  func(t *schema.Table, r []string)
	}{
		{columnsSQL, 17, v.column},
		{uniquesSQL, 9, v.unique},
		{constraintsSQL, 11, v.constraint},
		{domainsSQL, 4, domainCheck},
		{triggersSQL, 3, trigger},
		{referrersOutsideSQL, 9, v.referrerOutside},
	} {
		err := each(q.sql, q.width, func(t *schema.Table, r []string) {
			if t != nil { // else it belongs to what is no table of a plan
				q.show(t, r)
			}
		})
		if err != nil {
			return nil, err
		}
	}
	if err := v.outside(ctx); err != nil {
		return nil, err
	}
	if err := d.readCalls(each); err != nil {
		return nil, err
	}
	v.db.Link()
	d.tables = v.db
	return v.db, nil
}

// surveying is a database that is being read. Its methods take a line of a query, which
// begins with the table's OID.
type surveying struct {
	d       *database
	db      *schema.Database
	visible map[string]bool // by OID, tables that the search path finds
	byOID   map[string]*schema.Table
	types   catalogue
	narrow  bool // the server's encoding does not hold every letter

	lastUnique *schema.Unique // whose columns are being read
	lastTable  *schema.Table
}

func (v *surveying) note(t *schema.Table, name string, c constraint) {
	v.d.constraints[t.Name+"\x00"+name] = c
}

func (v *surveying) table(_ *schema.Table, r []string) {
	t := &schema.Table{Schema: r[1], Local: r[2], Name: r[2]}
	if !v.visible[r[0]] {
		t.Name = r[1] + "." + r[2]
	}
	v.d.partitioned[t.Name] = r[3] == "t"
	t.Secured = r[4] == "t"
	t.Hidden = hidden(t.Secured, r[9] == "t")
	if r[5] == "t" {
		t.Notes = append(t.Notes, "row-level security decides which rows may be written")
	}
	if r[6] != "" {
		t.Notes = append(t.Notes, "rules change what is written: "+r[6])
		t.Ruled = true
	}
	t.Partition = partitionOf(r[7])
	if r[8] == "t" {
		t.Broken = "its server takes none"
	}
	v.byOID[r[0]] = t
	v.db.Tables = append(v.db.Tables, t)
}

// hidden says why a user does not see all rows of a table; empty if it does.
func hidden(secured, readable bool) string {
	switch {
	case !readable:
		return "this user may not read them (GRANT SELECT)"
	case secured:
		return "row-level security hides rows from this user (use a role with BYPASSRLS, or the owner)"
	}
	return ""
}

// referrersOutsideSQL lists foreign keys of single partitions and of tables that extensions made, one line for each
// column: they are no tables of plans, and rows go from them, too.
const referrersOutsideSQL = `
SELECT c.confrelid, n.nspname, r.relname, c.conname, c.confdeltype, a.attname, fa.attname, row_security_active(r.oid),
  has_table_privilege(r.oid, 'SELECT')
FROM pg_constraint c JOIN pg_class r ON r.oid = c.conrelid JOIN pg_namespace n ON n.oid = r.relnamespace
CROSS JOIN LATERAL unnest(c.conkey) WITH ORDINALITY AS k (attnum, place)
JOIN pg_attribute a ON a.attrelid = c.conrelid AND a.attnum = k.attnum
JOIN pg_attribute fa ON fa.attrelid = c.confrelid AND fa.attnum = c.confkey[k.place]
WHERE c.contype = 'f' AND c.conparentid = 0 AND r.relpersistence <> 't' AND (r.relispartition
  OR EXISTS (SELECT 1 FROM pg_depend d WHERE d.classid = 'pg_class'::regclass AND d.objid = r.oid AND d.deptype = 'e'))
ORDER BY c.oid, k.place`

// referrerOutside notes a foreign key of a table that is not surveyed.
func (v *surveying) referrerOutside(to *schema.Table, r []string) {
	name := r[1] + "." + r[2]
	i := slices.IndexFunc(v.db.Outside, func(t *schema.Table) bool { return t.Name == name })
	if i < 0 {
		i = len(v.db.Outside)
		t := &schema.Table{Schema: r[1], Local: r[2], Name: name, Hidden: hidden(r[7] == "t", r[8] == "t")}
		v.db.Outside = append(v.db.Outside, t)
	}
	t := v.db.Outside[i]
	n := len(t.References)
	if n == 0 || t.References[n-1].Name != r[3] {
		t.References = append(t.References, schema.Reference{Name: r[3], Table: to.Name, Cascade: r[4] == "c",
			Blanks: r[4] == "n" || r[4] == "d"})
		n++
	}
	of := &t.References[n-1]
	of.Columns, of.Targets = append(of.Columns, r[5]), append(of.Targets, r[6])
	if t.Column(r[5]) == nil {
		c := *to.Column(r[6])
		c.Name = r[5]
		t.Columns = append(t.Columns, &c)
	}
}

func (v *surveying) column(t *schema.Table, r []string) {
	c := &schema.Column{
		Name:      r[1],
		Declared:  r[2],
		Type:      r[3],
		Base:      r[5],
		NotNull:   r[7] == "t",
		Default:   r[8] == "t",
		Generated: r[9] != "",
		Computed:  trimParentheses(r[14]),
		Operators: r[15],
		Preset:    r[16],
	}
	switch {
	case r[10] == "a":
		c.Identity = schema.Always
	case r[10] == "d" || r[11] == "t":
		c.Identity = schema.Serial
	}

	if r[12] != "" {
		c.Values = strings.Split(r[12], "\x1f")
	}
	typmod, _ := strconv.Atoi(r[6])
	describe(c, r[4], typmod)
	c.Narrow = v.narrow
	if c.Kind == schema.Any {
		c.Form = v.types.form(r[13], typmod)
	}
	t.Columns = append(t.Columns, c)
}

func (v *surveying) unique(t *schema.Table, r []string) {
	if r[2] == "t" {
		t.PrimaryKey = append(t.PrimaryKey, r[6])
		v.note(t, r[1], constraint{kind: store.Unique, columns: t.PrimaryKey, name: t.KeyName(t.PrimaryKey)})
		return
	}
	if v.lastUnique == nil || v.lastUnique.Name != r[1] || v.lastTable != t {
		t.Uniques = append(
			t.Uniques,
			schema.Unique{
				Name:       r[1],
				Partial:    r[3] == "t",
				Deferrable: r[4] == "t",
				NullsEqual: r[5] == "t",
				Where:      trimParentheses(r[7]),
			},
		)
		v.lastUnique, v.lastTable = &t.Uniques[len(t.Uniques)-1], t
	}

	if r[6] == "" {
		v.lastUnique.Partial, v.lastUnique.Expressions = true, append(v.lastUnique.Expressions, trimParentheses(r[8]))
	} else {
		v.lastUnique.Columns = append(v.lastUnique.Columns, r[6])
	}
	v.note(t, r[1], constraint{kind: store.Unique, columns: v.lastUnique.Columns, name: r[1]})
}

func (v *surveying) constraint(t *schema.Table, r []string) {
	switch r[2] {
	case "c":
		v.check(t, r)
	case "x":
		v.exclusion(t, r)
	case "f":
		v.reference(t, r)
	}
}

func (v *surveying) check(t *schema.Table, r []string) {
	c := schema.Check{Name: r[1], Expression: trimParentheses(r[8])}
	var columns []string
	for _, col := range t.Columns {
		if setwise.Mentions(c.Expression, col.Name) {
			columns = append(columns, col.Name)
		}
	}
	t.Checks = append(t.Checks, c)
	v.note(t, r[1], constraint{kind: store.Check, columns: columns, name: setwise.CheckName(c)})
}

func (v *surveying) exclusion(t *schema.Table, r []string) {
	c := v.d.constraints[t.Name+"\x00"+r[1]]
	c.kind, c.name = store.Exclusion, r[1]
	if r[6] != "" {
		c.columns = append(c.columns, r[6])
	}
	v.note(t, r[1], c)
	n := len(t.Exclusions)
	if n == 0 || t.Exclusions[n-1].Name != r[1] {
		t.Exclusions = append(t.Exclusions, schema.Exclusion{Name: r[1], Where: trimParentheses(r[10])})
		n++
	}
	x := &t.Exclusions[n-1]
	x.Columns, x.Operators = append(x.Columns, r[6]), append(x.Operators, r[9])
}

func (v *surveying) reference(t *schema.Table, r []string) {
	to := v.byOID[r[3]]
	if to == nil {
		return
	}
	n := len(t.References)
	if n == 0 || t.References[n-1].Name != r[1] {
		t.References = append(
			t.References,
			schema.Reference{
				Name:       r[1],
				Table:      to.Name,
				Cascade:    r[4] == "c",
				Blanks:     r[4] == "n" || r[4] == "d",
				Deferrable: r[5] == "t",
			},
		)
		n++
	}
	f := &t.References[n-1]
	f.Columns, f.Targets = append(f.Columns, r[6]), append(f.Targets, r[7])
	v.note(t, r[1], constraint{kind: store.ForeignKey, columns: f.Columns, name: r[1], refers: to.Name})
}

// domainCheck adds a condition of a column's domain.
func domainCheck(t *schema.Table, r []string) {
	if c := t.Column(r[1]); c != nil {
		c.Checks = append(c.Checks, schema.Check{Name: r[2], Expression: trimParentheses(r[3])})
	}
}

func trigger(t *schema.Table, r []string) {
	t.Triggers = append(t.Triggers, r[1])
	setwise.Watch(t, r[2])
}

// outside finds tables of which parts are kept elsewhere.
func (v *surveying) outside(ctx context.Context) error {
	byName := map[string]*schema.Table{}
	for _, t := range v.db.Tables {
		byName[t.Schema+"\x1f"+t.LocalName()] = t
	}
	return v.d.texts(ctx, 3, outsideSQL, nil, func(r []string) {
		t := byName[r[0]+"\x1f"+r[1]]
		switch {
		case t == nil || t.External != "":
		case r[2] == "":
			t.External = "it is a foreign table"
			t.Notes = append(t.Notes, "its rows are stored elsewhere: "+t.External)
		default:
			t.External = "its part " + r[2] + " is a foreign table"
			t.Notes = append(t.Notes, "some of its rows are stored elsewhere: "+t.External)
		}
	})
}

// The digits of the type money: all of them, and those after the point in locales whose currency has two.
const moneyDigits, moneyScale = 18, 2

// integerBits are the widths of whole numbers.
var integerBits = map[string]int{"int2": 16, "int4": 32, "int8": 64}

// kinds are what base types hold.
var kinds = map[string]schema.Kind{
	"int2": schema.Integer, "int4": schema.Integer, "int8": schema.Integer,
	"numeric": schema.Decimal, "float4": schema.Real, "float8": schema.Real,
	"bool": schema.Boolean,
	"text": schema.Text, "citext": schema.Text, "name": schema.Text, "varchar": schema.Text, "bpchar": schema.Text,
	"bytea": schema.Bytes,
	"date":  schema.Date, "time": schema.Time, "timestamp": schema.Timestamp, "timestamptz": schema.Timestamp,
	"uuid": schema.UUID,
	"json": schema.JSON, "jsonb": schema.JSON,
}

// describe says what a column holds by the name of its base type and its modifier.
func describe(c *schema.Column, class string, typmod int) {
	const header = 4 // of lengths in modifiers
	c.Digits = 6
	kind, known := kinds[c.Type]
	switch {
	case known:
		c.Kind = kind
	case class == "e":
		c.Kind = schema.Text
	default:
		c.Kind = schema.Any
	}

	c.Bits, c.Zoneless = integerBits[c.Type], c.Type == "timestamp"
	switch c.Type {
	case "float4":
		c.Float = 32
	case "float8":
		c.Float = 64
	case "money":
		// It keeps as many decimals as its locale's currency has; the server rounds others.
		c.Precision, c.Scale = moneyDigits, moneyScale
	case "numeric":
		if typmod >= header {
			c.Precision = (typmod - header) >> 16 & 0xffff
			c.Scale = ((typmod-header)&0x7ff ^ 1024) - 1024
		}
	case "varchar", "bpchar":
		if typmod >= header {
			c.Length = typmod - header
		}
	}

	if (c.Kind == schema.Time || c.Kind == schema.Timestamp) && typmod >= 0 {
		c.Digits = typmod
	}
}

// trimParentheses takes away parentheses around the whole of an expression.
func trimParentheses(s string) string {
	for strings.HasPrefix(s, "(") && strings.HasSuffix(s, ")") {
		depth := 0
		for i, r := range s {
			switch r {
			case '(':
				depth++
			case ')':
				depth--
			}
			if depth == 0 && i < len(s)-1 {
				return s
			}
		}
		s = s[1 : len(s)-1]
	}
	return s
}

// defaultOf is the expression by which the database gives a column its value.
func (d *database) defaultOf(ctx context.Context, t *schema.Table, c *schema.Column) (string, error) {
	sql := `SELECT CASE WHEN a.attidentity <> ''
  THEN 'pg_catalog.nextval(' || quote_literal(pg_get_serial_sequence($1, $2)) || ')' ELSE pg_get_expr(f.adbin,
  f.adrelid) END
		FROM pg_attribute a LEFT JOIN pg_attrdef f ON f.adrelid = a.attrelid AND f.adnum = a.attnum
		  WHERE a.attrelid = $1::regclass AND a.attname = $2`
	expression := ""
	err := d.texts(ctx, 1, sql, args(d.Table(t), c.Name), func(r []string) { expression = strings.Clone(r[0]) })
	if err == nil && expression == "" {
		err = &store.Fault{
			Kind:    store.Foreign,
			Message: fmt.Sprintf("the database assigns no keys to %s.%s: the column has no default", t.Name, c.Name),
			Hint:    "remove keys: database, so that the plan assigns keys",
		}
	}
	return expression, err
}
