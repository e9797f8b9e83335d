package load_test

import (
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strconv"
	"strings"
	"testing"

	"evensprout/internal/load"
	"evensprout/internal/loadtest"
	"evensprout/internal/store/storetest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/draft"
)

// TestRandomSchemasFill drafts plans for random schemas and loads them as they are: every
// table must get rows. EVENSPROUT_SCHEMAS says how many schemas for each engine,
// EVENSPROUT_SCHEMA is the first.
func TestRandomSchemasFill(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes long")
	}
	from, n := 1, 12
	if s := os.Getenv("EVENSPROUT_SCHEMAS"); s != "" {
		n, _ = strconv.Atoi(s)
	}
	if s := os.Getenv("EVENSPROUT_SCHEMA"); s != "" {
		from, _ = strconv.Atoi(s)
		if os.Getenv("EVENSPROUT_SCHEMAS") == "" {
			n = 1
		}
	}
	for _, e := range loadtest.Engines() {
		if !storetest.IsTested(e.Name) {
			continue
		}
		t.Run(e.Name, func(t *testing.T) {
			version := 0
			if e.Name == "postgres" {
				storetest.Postgres(t) // installs the server, or skips
				version = storetest.PostgresVersion(t)
			}
			for seed := from; seed < from+n; seed++ {
				t.Run(strconv.Itoa(seed), func(t *testing.T) {
					g := &schemaMaker{engine: e.Name, version: version, r: rand.New(rand.NewPCG(uint64(seed), 7))}
					script := g.script()
					d := &loadtest.DB{Engine: e, URL: e.Make(t, script)}
					d.Store = d.Open(t)
					fills(t, d, script)
					d.Store.Close()
				})
			}
		})
	}
}

// fills drafts a plan for a database, loads it, and looks into every table.
func fills(t *testing.T, d *loadtest.DB, script string) {
	tables, err := d.Store.Survey(t.Context())
	require.NoError(t, err, script)
	o := draft.Options{Name: "random", Probe: d.Store.Passes}
	plan, err := draft.Make(t.Context(), tables, o)
	require.NoError(t, err, script)
	text := plan.Write(o)
	assert.Empty(t, plan.Left, script)
	c, err := d.TryCompile(t, text)
	require.NoError(t, err, script+"\n"+text)
	_, err = load.Run(t.Context(), c, d.Store, load.Options{})
	require.NoError(t, err, script+"\n"+text)
	for _, table := range tables.Tables {
		rows, err := d.Store.Count(t.Context(), table)
		require.NoError(t, err)
		assert.Positive(t, rows, "%s is empty\n%s\n%s", table.Name, script, text)
	}
}

// schemaMaker makes schemas that can be filled, of what our engines offer.
type schemaMaker struct {
	engine  string
	version int // of PostgreSQL
	r       *rand.Rand
	tables  []*madeTable
	before  []string // types and domains
}

type madeTable struct {
	name    string
	columns []madeColumn
	lines   []string
	after   []string
	key     []string // primary key
	keyType []string
	options string
	parted  bool
}

type madeColumn struct {
	name, typ string
	kind      string // int, decimal, text, date, moment, bool, other
	notNull   bool
	used      bool // in a key or a check already
	length    int
}

func (g *schemaMaker) is(engines ...string) bool {
	for _, e := range engines {
		if e == g.engine {
			return true
		}
	}
	return false
}

func (g *schemaMaker) one(list ...string) string { return list[g.r.IntN(len(list))] }
func (g *schemaMaker) chance(percent int) bool   { return g.r.IntN(100) < percent }

func (g *schemaMaker) script() string {
	n := 3 + g.r.IntN(8)
	if g.is("postgres") {
		g.before = append(
			g.before,
			"CREATE TYPE mood AS ENUM ('calm', 'brisk', 'stormy')",
			"CREATE DOMAIN small AS integer CHECK (VALUE BETWEEN 3 AND 9)",
			"CREATE DOMAIN tag AS text NOT NULL CHECK (VALUE ~ '^[a-z]{2,5}$')",
			"CREATE TYPE pair AS (a integer, b text)",
		)
	}
	for i := range n {
		g.table(i)
	}
	g.circle()
	var all []string
	all = append(all, g.before...)
	for _, t := range g.tables {
		all = append(all, t.ddl())
		all = append(all, t.after...)
	}
	return strings.Join(all, ";\n") + ";\n"
}

func (t *madeTable) ddl() string {
	var lines []string
	for _, c := range t.columns {
		null := ""
		if c.notNull {
			null = " NOT NULL"
		}
		lines = append(lines, c.name+" "+c.typ+null)
	}
	return "CREATE TABLE " + t.name + " (\n  " + strings.Join(append(lines, t.lines...), ",\n  ") + "\n)" + t.options
}

func (g *schemaMaker) table(i int) {
	t := &madeTable{
		name: fmt.Sprintf("%s_%d", g.one("boats", "piers", "tickets", "crews", "trips", "fares", "logs", "berths"), i),
	}
	g.key(t)
	for j := range 2 + g.r.IntN(9) {
		t.columns = append(
			t.columns,
			g.column(
				fmt.Sprintf(
					"%s_%d",
					g.one(
						"name",
						"email",
						"amount",
						"status",
						"note",
						"code",
						"level",
						"title",
						"started",
						"ended",
						"phone",
						"x",
					),
					j,
				),
			),
		)
	}
	g.references(t)
	g.overlapping(t)
	g.uniques(t)
	g.checks(t)
	g.partitions(t)
	if g.chance(10) && !t.parted {
		g.generated(t)
	}
	g.tables = append(g.tables, t)
}

// key gives a table its primary key.
func (g *schemaMaker) key(t *madeTable) {
	auto := map[string]string{"sqlite": "INTEGER",
		"postgres": g.one("SERIAL", "BIGINT GENERATED ALWAYS AS IDENTITY", "INTEGER "+
			"GENERATED BY DEFAULT AS IDENTITY"), "mariadb": "INTEGER AUTO_INCREMENT"}[g.engine]
	type candidate struct{ typ, refType string }
	whole := map[string]string{"postgres": "INTEGER", "sqlite": "INTEGER", "mariadb": "INTEGER"}[g.engine]
	if strings.HasPrefix(auto, "BIGINT") {
		whole = "BIGINT"
	}
	kinds := []candidate{
		{auto, whole},
		{auto, whole},
		{auto, whole},
		{"SMALLINT", "SMALLINT"},
		{"BIGINT", "BIGINT"},
		{"VARCHAR(12)", "VARCHAR(12)"},
		{"CHAR(4)", "CHAR(4)"},
		{"DATE", "DATE"},
		{"DECIMAL(6,2)", "DECIMAL(6,2)"},
	}
	if g.is("postgres") {
		kinds = append(
			kinds,
			candidate{"UUID", "UUID"},
			candidate{"TEXT", "TEXT"},
			candidate{"TIMESTAMPTZ", "TIMESTAMPTZ"},
		)
	}
	if g.is("mariadb") {
		kinds = append(kinds, candidate{"BINARY(16)", "BINARY(16)"}, candidate{"INT UNSIGNED", "INT UNSIGNED"})
	}
	switch roll := g.r.IntN(20); {
	case roll < 12 || len(g.tables) == 0:
		k := kinds[g.r.IntN(len(kinds))]
		t.columns = append(t.columns, madeColumn{name: "id", typ: k.typ, notNull: true, used: true})
		t.key, t.keyType = []string{"id"}, []string{k.refType}
	case roll < 14: // shared with another table
		if o := g.single(); o != nil {
			t.columns = append(t.columns, madeColumn{name: "id", typ: o.keyType[0], notNull: true, used: true})
			t.key, t.keyType = []string{"id"}, o.keyType
			t.lines = append(t.lines, fmt.Sprintf("FOREIGN KEY (id) REFERENCES %s (id)", o.name))
			break
		}
		fallthrough
	case roll < 17: // two parts
		first, typ := "part_a", g.one("INTEGER", "VARCHAR(8)")
		if o := g.single(); o != nil && g.chance(70) {
			typ = o.keyType[0]
			t.lines = append(
				t.lines,
				fmt.Sprintf("FOREIGN KEY (part_a) REFERENCES %s (id)%s", o.name, g.one("", " ON DELETE CASCADE")),
			)
		}
		second := "INTEGER"
		if o := g.single(); o != nil && g.chance(50) {
			second = o.keyType[0]
			t.lines = append(t.lines, fmt.Sprintf("FOREIGN KEY (part_b) REFERENCES %s (id)", o.name))
		}
		t.columns = append(
			t.columns,
			madeColumn{name: first, typ: typ, notNull: true, used: true},
			madeColumn{name: "part_b", typ: second, notNull: true, used: true},
		)
		t.key, t.keyType = []string{first, "part_b"}, []string{typ, second}
	default:
		return // none
	}
	t.lines = append(t.lines, "PRIMARY KEY ("+strings.Join(t.key, ", ")+")")
	if g.is("sqlite") && len(t.key) == 1 && t.columns[0].typ == "INTEGER" && g.chance(50) {
		t.lines = t.lines[:len(t.lines)-1]
		t.columns[0].typ = "INTEGER PRIMARY KEY"
	}
}

// single is a table with a key of one column, or nil.
func (g *schemaMaker) single() *madeTable {
	for range 5 {
		if len(g.tables) == 0 {
			return nil
		}
		if o := g.tables[g.r.IntN(len(g.tables))]; len(o.key) == 1 && !o.parted {
			return o
		}
	}
	return nil
}

func (g *schemaMaker) column(name string) madeColumn {
	c := madeColumn{name: name, notNull: g.chance(60)}
	length := 1 + g.r.IntN(40)
	common := [][2]string{
		{"INTEGER", "int"},
		{"SMALLINT", "int"},
		{"BIGINT", "int"},
		{"INTEGER", "int"},
		{"DECIMAL(8,2)", "decimal"},
		{"NUMERIC(4,0)", "decimal"},
		{"DECIMAL(3,3)", "other"},
		{"DOUBLE PRECISION", "decimal"},
		{"REAL", "other"},
		{
			fmt.Sprintf("VARCHAR(%d)", length),
			"text",
		},
		{fmt.Sprintf("CHAR(%d)", length), "text"},
		{"TEXT", "text"},
		{"TEXT", "text"},
		{"DATE", "date"},
		{"TIME", "other"},
		{"BOOLEAN", "bool"},
	}
	switch g.engine {
	case "sqlite":
		common = append(
			common,
			[2]string{"DATETIME", "moment"},
			[2]string{"BLOB", "other"},
			[2]string{"", "other"},
			[2]string{"JSON", "other"},
			[2]string{"NUMERIC", "decimal"},
		)
	case "postgres":
		for _, typ := range strings.Fields("INET CIDR MACADDR INTERVAL JSONB JSON XML INTEGER[] TEXT[] POINT BOX " +
			"INT4RANGE DATERANGE TSTZRANGE TSVECTOR UUID BYTEA MONEY BIT(3) VARBIT(9) TIMETZ mood mood[] small tag " +
			"pair NUMERIC INT4MULTIRANGE CIRCLE POLYGON OID \"char\"") {
			if g.version < 14 {
				typ = strings.Replace(typ, "MULTIRANGE", "RANGE", 1)
			}
			common = append(common, [2]string{typ, "other"})
		}
		common = append(
			common,
			[2]string{"TIMESTAMPTZ", "moment"},
			[2]string{"TIMESTAMP(0)", "moment"},
			[2]string{"TIMESTAMP", "moment"},
		)
	case "mariadb":
		for _, typ := range strings.Fields("TINYINT MEDIUMINT TINYBLOB LONGTEXT YEAR BIT(1) BIT(5) VARBINARY(9) " +
			"BINARY(4) JSON POINT POLYGON UUID INET6 TIME(3) FLOAT") {
			common = append(common, [2]string{typ, "other"})
		}
		common = append(
			common,
			[2]string{"ENUM('calm','brisk','it''s')", "other"},
			[2]string{"SET('deck','cabin')", "other"},
			[2]string{"DATETIME", "moment"},
			[2]string{"DATETIME(6)", "moment"},
			[2]string{"TIMESTAMP NULL", "moment"},
			[2]string{
				"INT UNSIGNED",
				"int",
			},
			[2]string{"VARCHAR(30) CHARACTER SET latin1", "text"},
			[2]string{"VARCHAR(30) CHARACTER SET utf8mb4 COLLATE utf8mb4_general_ci", "text"},
		)
	}
	k := common[g.r.IntN(len(common))]
	c.typ, c.kind = k[0], k[1]
	if strings.Contains(c.typ, "(") && c.kind == "text" {
		fmt.Sscanf(c.typ[strings.Index(c.typ, "(")+1:], "%d", &c.length)
	}
	if strings.Contains(c.typ, "NULL") {
		c.notNull = false
	}
	if c.typ == "tag" {
		c.notNull = true
	}
	return c
}

// free finds a column of some kinds that nothing is said about yet.
func (t *madeTable) free(g *schemaMaker, kinds ...string) *madeColumn {
	for range 8 {
		c := &t.columns[g.r.IntN(len(t.columns))]
		for _, k := range kinds {
			if c.kind == k && !c.used {
				return c
			}
		}
	}
	return nil
}

func (g *schemaMaker) references(t *madeTable) {
	for range g.r.IntN(3) {
		if len(g.tables) == 0 {
			break
		}
		o := g.tables[g.r.IntN(len(g.tables))]
		if len(o.key) == 0 || o.parted {
			continue
		}
		notNull := g.chance(60)
		var names []string
		for k := range o.key {
			name := fmt.Sprintf("ref_%d_%d", len(t.columns), k)
			names = append(names, name)
			typ := o.keyType[k]
			if typ == "VARCHAR(12)" && g.chance(20) {
				typ = "VARCHAR(5)" // holds some of the keys
			}
			t.columns = append(t.columns, madeColumn{name: name, typ: typ, notNull: notNull, used: true})
		}
		line := fmt.Sprintf(
			"FOREIGN KEY (%s) REFERENCES %s (%s)",
			strings.Join(names, ", "),
			o.name,
			strings.Join(o.key, ", "),
		)
		line += g.one("", "", " ON DELETE CASCADE")
		if g.is("postgres", "sqlite") && g.chance(15) {
			line += " DEFERRABLE INITIALLY DEFERRED"
		}
		t.lines = append(t.lines, line)
		switch {
		case g.chance(15):
			t.lines = append(t.lines, "UNIQUE ("+strings.Join(names, ", ")+")")
		case g.chance(20): // with something of its own
			if c := t.free(g, "int", "text"); c != nil && (c.length == 0 || c.length > 3) && c.typ != "TEXT" &&
				c.typ != "LONGTEXT" {
				c.used = true
				t.lines = append(t.lines, "UNIQUE ("+names[0]+", "+c.name+")")
			}
		}
	}
	if len(t.key) == 1 && g.chance(25) {
		null := g.chance(75)
		t.columns = append(t.columns, madeColumn{name: "up", typ: t.keyType[0], notNull: !null, used: true})
		t.lines = append(t.lines, fmt.Sprintf("FOREIGN KEY (up) REFERENCES %s (%s)", t.name, t.key[0]))
	}
}

// overlapping gives a table two references that share a column, so that the rows that they
// point to must agree.
func (g *schemaMaker) overlapping(t *madeTable) {
	if !g.chance(12) {
		return
	}
	typ := g.one("INTEGER", "VARCHAR(20)", "SMALLINT")
	for range 2 {
		o := &madeTable{
			name:    fmt.Sprintf("realms_%d", len(g.tables)+len(t.columns)*100),
			key:     []string{"part_a", "part_b"},
			keyType: []string{typ, g.one("INTEGER", "VARCHAR(12)", "BIGINT")},
		}
		for i, name := range o.key {
			o.columns = append(o.columns, madeColumn{name: name, typ: o.keyType[i], notNull: true, used: true})
		}
		o.columns = append(o.columns, g.column("note_0"))
		o.lines = []string{"PRIMARY KEY (part_a, part_b)"}
		g.tables = append(g.tables, o)
	}
	var wide []*madeTable
	for _, o := range g.tables {
		if len(o.key) == 2 && !o.parted {
			wide = append(wide, o)
		}
	}
	a := wide[g.r.IntN(len(wide))]
	b := wide[g.r.IntN(len(wide))]
	if a == b || a.keyType[0] != b.keyType[0] {
		return
	}
	t.columns = append(t.columns, madeColumn{name: "shared", typ: a.keyType[0], notNull: true, used: true})
	for i, o := range []*madeTable{a, b} {
		name := fmt.Sprintf("shared_%d", i)
		t.columns = append(t.columns, madeColumn{name: name, typ: o.keyType[1], notNull: true, used: true})
		t.lines = append(
			t.lines,
			fmt.Sprintf("FOREIGN KEY (shared, %s) REFERENCES %s (%s)", name, o.name, strings.Join(o.key, ", ")),
		)
	}
}

func (g *schemaMaker) uniques(t *madeTable) {
	for range g.r.IntN(3) {
		c := t.free(g, "int", "text", "date", "decimal", "moment", "other")
		if c == nil || c.kind == "other" && c.typ != "UUID" && c.typ != "INET" || c.length > 0 && c.length < 2 {
			continue
		}
		if g.is("mariadb") && (c.typ == "TEXT" || c.typ == "LONGTEXT") {
			t.lines = append(t.lines, fmt.Sprintf("UNIQUE (%s(%d))", c.name, 2+g.r.IntN(20)))
			c.used = true
			continue
		}
		c.used = true
		switch roll := g.r.IntN(11); {
		case roll == 10 && g.is("postgres", "sqlite"):
			if b := t.free(g, "bool"); b != nil {
				b.used = true
				t.after = append(
					t.after,
					fmt.Sprintf(
						"CREATE UNIQUE INDEX %s_%s ON %s (%s) WHERE %s",
						t.name,
						c.name,
						t.name,
						c.name,
						b.name,
					),
				)
			}
		case roll < 5:
			t.lines = append(t.lines, "UNIQUE ("+c.name+")")
		case roll < 7 && g.is("postgres", "sqlite") && c.kind == "text":
			t.after = append(
				t.after,
				fmt.Sprintf("CREATE UNIQUE INDEX %s_%s ON %s (lower(%s))", t.name, c.name, t.name, c.name),
			)
		case roll < 9 && g.is("postgres", "sqlite"):
			t.after = append(
				t.after,
				fmt.Sprintf(
					"CREATE UNIQUE INDEX %s_%s ON %s (%s) WHERE %s IS NOT NULL",
					t.name,
					c.name,
					t.name,
					c.name,
					c.name,
				),
			)
		case g.is("postgres"):
			nulls := ""
			if g.version >= 15 {
				nulls = "NULLS NOT DISTINCT "
			}
			t.lines = append(t.lines, "UNIQUE "+nulls+"("+c.name+")")
		}
	}
	if g.is("postgres") && g.chance(10) {
		t.columns = append(
			t.columns,
			madeColumn{
				name:    "during",
				typ:     g.one("DATERANGE", "INT4RANGE", "TSRANGE"),
				notNull: g.chance(50),
				used:    true,
			},
		)
		t.lines = append(t.lines, "EXCLUDE USING gist (during WITH &&)")
	}
}

func (g *schemaMaker) checks(t *madeTable) {
	check := func(format string, args ...any) {
		t.lines = append(t.lines, "CHECK ("+fmt.Sprintf(format, args...)+")")
	}
	for range g.r.IntN(4) {
		switch g.r.IntN(14) {
		case 0:
			if c := t.free(g, "int", "decimal"); c != nil {
				c.used = true
				check("%s >= %d", c.name, g.r.IntN(50))
			}
		case 1:
			if c := t.free(g, "int", "decimal"); c != nil {
				c.used = true
				check("%s BETWEEN %d AND %d", c.name, g.r.IntN(5), 5+g.r.IntN(90))
			}
		case 2:
			if c := t.free(g, "text"); c != nil && (c.length == 0 || c.length >= 3) {
				c.used = true
				check("%s IN ('a', 'bb', 'ccc')", c.name)
			}
		case 3:
			if c := t.free(g, "text"); c != nil && (c.length == 0 || c.length >= 6) &&
				!strings.HasPrefix(c.typ, "CHAR") {
				c.used = true
				check("length(%s) > %d", c.name, g.r.IntN(5))
			}
		case 4:
			if c := t.free(g, "text"); c != nil && (c.length == 0 || c.length >= 6) {
				c.used = true
				check("%s LIKE '%s%%'", c.name, g.one("a", "x_", "Q-"))
			}
		case 5: // ranges of one row
			a, b := t.free(g, "date", "moment", "int"), t.free(g, "date", "moment", "int")
			if a != nil && b != nil && a != b && a.kind == b.kind {
				a.used, b.used = true, true
				check("%s %s %s", a.name, g.one("<", "<=", ">", "<>"), b.name)
			}
		case 6:
			a, b := t.free(g, "int", "text"), t.free(g, "int", "date")
			if a != nil && b != nil && a != b && !a.notNull && !b.notNull {
				a.used, b.used = true, true
				check("(%s IS NULL) = (%s IS NULL)", a.name, b.name)
			}
		case 7:
			a, b := t.free(g, "int"), t.free(g, "int")
			if a != nil && b != nil && a != b {
				a.used, b.used = true, true
				check("%s + %s < %d", a.name, b.name, 20+g.r.IntN(100))
			}
		case 8:
			a, b := t.free(g, "bool"), t.free(g, "int")
			if a != nil && b != nil {
				a.used, b.used = true, true
				check("CASE WHEN %s THEN %s > 10 ELSE %s < 90 END", a.name, b.name, b.name)
			}
		case 9:
			if c := t.free(g, "int"); c != nil {
				c.used = true
				check("%s %% %d = 0", c.name, 2+g.r.IntN(4))
			}
		case 10:
			if c := t.free(g, "text"); c != nil {
				c.used = true
				check("%s = %s(%s)", c.name, g.one("lower", "upper"), c.name)
			}
		case 12: // what only the database can compute
			if c := t.free(g, "text"); c != nil && (c.length == 0 || c.length > 3) {
				c.used = true
				check(
					"%s %% 2 = 0",
					map[string]string{"sqlite": "unicode(" + c.name + ")", "postgres": "hashtext(" + c.name + ")",
						"mariadb": "crc32(" + c.name + ")"}[g.engine],
				)
			}
		case 13:
			a, b := t.free(g, "int"), t.free(g, "bool")
			if a != nil && b != nil {
				a.used, b.used = true, true
				check("NOT %s OR %s * 2 BETWEEN 10 AND 40", b.name, a.name)
			}
		case 11:
			if c := t.free(g, "date"); c != nil {
				c.used = true
				check("%s %s '2020-06-30'", c.name, g.one("<", ">="))
			}
		}
	}
}

// partitions cuts a table that nothing refers to.
func (g *schemaMaker) partitions(t *madeTable) {
	geometry := slices.ContainsFunc(
		t.columns,
		func(c madeColumn) bool { return c.typ == "POINT" || c.typ == "POLYGON" },
	)
	if g.is("mariadb") && !geometry && g.chance(12) && len(t.key) == 0 &&
		!strings.Contains(strings.Join(t.lines, " "), "FOREIGN") &&
		!strings.Contains(strings.Join(t.lines, " "), "UNIQUE") {
		t.parted = true
		t.columns = append(t.columns, madeColumn{name: "at", typ: "DATE", notNull: true, used: true})
		t.options = " PARTITION BY RANGE (YEAR(at)) (PARTITION a VALUES LESS THAN (2005), PARTITION b VALUES LESS " +
			"THAN (2012))"
		return
	}
	if !g.is("postgres") || !g.chance(12) || len(t.key) > 0 || len(t.after) > 0 ||
		strings.Contains(strings.Join(t.lines, " "), "UNIQUE") ||
		strings.Contains(strings.Join(t.lines, " "), "EXCLUDE") {
		return
	}
	t.parted = true
	switch g.r.IntN(3) {
	case 0:
		t.columns = append(t.columns, madeColumn{name: "at", typ: "DATE", notNull: true, used: true})
		t.options = " PARTITION BY RANGE (at)"
		t.after = append(
			t.after,
			fmt.Sprintf(
				"CREATE TABLE %s_a PARTITION OF %s FOR VALUES FROM ('2024-01-01') TO ('2024-07-01')",
				t.name,
				t.name,
			),
			fmt.Sprintf(
				"CREATE TABLE %s_b PARTITION OF %s FOR VALUES FROM ('2025-01-01') TO ('2025-07-01')",
				t.name,
				t.name,
			),
		)
	case 1:
		t.columns = append(t.columns, madeColumn{name: "side", typ: "TEXT", notNull: true, used: true})
		t.options = " PARTITION BY LIST (side)"
		t.after = append(
			t.after,
			fmt.Sprintf("CREATE TABLE %s_a PARTITION OF %s FOR VALUES IN ('port', 'starboard')", t.name, t.name),
		)
	default:
		t.columns = append(t.columns, madeColumn{name: "number", typ: "INTEGER", notNull: true, used: true})
		t.options = " PARTITION BY HASH (number)"
		for i := range 2 {
			t.after = append(
				t.after,
				fmt.Sprintf(
					"CREATE TABLE %s_%d PARTITION OF %s FOR VALUES WITH (MODULUS 2, REMAINDER %d)",
					t.name,
					i,
					t.name,
					i,
				),
			)
		}
	}
}

func (g *schemaMaker) generated(t *madeTable) {
	if c := t.free(g, "int"); c != nil {
		t.columns = append(
			t.columns,
			madeColumn{name: "twice", typ: "BIGINT GENERATED ALWAYS AS (" + c.name + " * 2) STORED", used: true},
		)
		if g.is("postgres", "mariadb") && g.chance(50) {
			c.used = true
			t.lines = append(t.lines, "UNIQUE (twice)")
		}
	}
}

// circle lets an early table refer to a late one, by a column that may be NULL or a
// reference that can be put off.
func (g *schemaMaker) circle() {
	if !g.chance(40) || len(g.tables) < 3 || g.is("sqlite") {
		return
	}
	first, last := g.tables[0], g.tables[len(g.tables)-1]
	if len(last.key) != 1 || first.parted || last.parted || len(first.key) == 0 {
		return
	}
	first.columns = append(first.columns, madeColumn{name: "latest", typ: last.keyType[0], used: true})
	line := fmt.Sprintf(
		"ALTER TABLE %s ADD FOREIGN KEY (latest) REFERENCES %s (%s)",
		first.name,
		last.name,
		last.key[0],
	)
	if g.is("postgres") && g.chance(50) {
		line += " DEFERRABLE"
	}
	last.after = append(last.after, line)
}
