package main

import (
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const pickyTables = `
CREATE TABLE ports (id INTEGER PRIMARY KEY, name VARCHAR(20) NOT NULL,
    active INTEGER NOT NULL CHECK (active IN (0, 1)));
CREATE TABLE boats (id INTEGER PRIMARY KEY, port_id INTEGER NOT NULL REFERENCES ports (id), seats INTEGER NOT NULL,
    status VARCHAR(10) NOT NULL DEFAULT 'new' CHECK (status IN ('new', 'open', 'gone')));
CREATE TABLE boxes (id INTEGER PRIMARY KEY, width INTEGER NOT NULL, height INTEGER NOT NULL);
CREATE TABLE parcels (id INTEGER PRIMARY KEY, width INTEGER NOT NULL, height INTEGER NOT NULL);
CREATE TABLE logs (id INTEGER PRIMARY KEY, boat_id INTEGER NOT NULL REFERENCES boats (id), z VARCHAR(10) NOT NULL);
CREATE TABLE seals (id INTEGER PRIMARY KEY, boat_id INTEGER NOT NULL REFERENCES boats (id), colour TEXT);
`

// each is a trigger of its own, in the dialect of an engine.
var pickyTriggers = []struct{ table, when, message string }{
	{"logs", "(SELECT count(*) FROM logs) >= 30", "too many"},
	{"boats", "new.seats % 2 = 1", "an odd number"},
	{"boats", "(SELECT active FROM ports WHERE id = new.port_id) = 0", "the port is closed"},
	{"boats", "new.status <> 'new'", "boats begin as new"},
	{"boxes", "new.width * new.height > 900000", "too large"},
	{"parcels", "new.width * new.height > 900", "far too large"},
	{"seals", "new.colour IS NOT NULL", "no paint"},
}

// What a trigger refuses is narrowed to what it accepts: values, rows referred to, ranges, the number of rows.
func TestDraftsAreNarrowed(t *testing.T) {
	f := newFolder(t)
	var b strings.Builder
	b.WriteString(pickyTables)
	for i, x := range pickyTriggers {
		b.WriteString("CREATE TRIGGER t" + string(rune('a'+i)) + " BEFORE INSERT ON " + x.table + " WHEN " + x.when +
			" BEGIN SELECT RAISE(ABORT, '" + x.message + "'); END;\n")
	}
	f.makeDB("a.db", b.String())
	r := f.run("survey", "--db", "sqlite:a.db", "--out", "a.yaml", "--prove")
	require.Zero(t, r.code, r.errOut)
	for _, want := range []string{
		"narrowed: boats.seats: the database refuses other values: an odd number\n",
		"narrowed: boats.port_id: the database refuses other values: the port is closed\n",
		"fewer rows: logs: the database refuses more: too many\n", "drafted: a plan for 6 tables",
		"the database refuses other values: too large\n", "the database refuses other values: far too large\n",
	} {
		assert.Contains(t, r.out, want)
	}
	assert.NotContains(t, r.out, "left out")
	plan := f.read("a.yaml")
	assert.Contains(t, plan, "where: {active: [1]}")
	assert.Contains(t, plan, "# the database refuses others: an odd number")
	require.Zero(t, f.run("load", "a.yaml").code)
	assert.Equal(t, []string{"30"}, f.query("a.db", "SELECT count(*) FROM logs"))
	assert.NotEqual(
		t,
		[]string{"1"},
		f.query("a.db", "SELECT count(DISTINCT width) FROM boxes"),
		"a range, not one row",
	)
}

// A table at which the database fails does not cost the others.
func TestDraftsWithoutTablesThatFail(t *testing.T) {
	onTables(t, memberTables, memberPlan, func(t *testing.T, s *site) {
		switch {
		case strings.HasPrefix(s.url, "postgres"):
			s.exec(t, `CREATE FUNCTION refuse() RETURNS trigger LANGUAGE plpgsql AS
				'BEGIN INSERT INTO nowhere VALUES (1); RETURN new; END'`)
			s.exec(t, "CREATE TABLE audits (id integer PRIMARY KEY, w integer NOT NULL)")
			s.exec(t, "CREATE TRIGGER a AFTER INSERT ON audits FOR EACH ROW EXECUTE FUNCTION refuse()")
		default:
			s.exec(t, "CREATE TABLE audits (id integer PRIMARY KEY, w integer NOT NULL)")
			s.exec(t, "CREATE TABLE elsewhere (id integer)")
			body := "INSERT INTO elsewhere VALUES (1)"
			if s.start == nil {
				body = "BEGIN " + body + "; END"
			}
			s.exec(t, "CREATE TRIGGER a AFTER INSERT ON audits FOR EACH ROW "+body)
			s.exec(t, "DROP TABLE elsewhere")
		}
		r := s.on("survey", "--out", "draft.yaml", "--prove")
		require.Zero(t, r.code, r.errOut)
		assert.Contains(t, r.out, "left out: audits: ")
		assert.Contains(t, r.out, "into 3 tables, loaded and rolled back")
		assert.Zero(t, s.on("load", "draft.yaml").code)
	})
}

// Where the user may not write, the draft is proved in a copy.
func TestDraftsAreProvedInACopy(t *testing.T) {
	f := newFolder(t)
	f.makeDB("a.db", stubbornTables)
	before := f.dump("a.db")
	r := f.run("survey", "--db", "sqlite:a.db?mode=ro", "--out", "a.yaml", "--prove")
	require.Zero(t, r.code, r.errOut)
	assert.Contains(t, r.out, "in a copy of the database")
	assert.Contains(t, f.read("a.yaml"), "name: a\n")
	assert.Contains(t, f.read("a.yaml"), "database: sqlite:a.db\n")
	assert.Equal(t, before, f.dump("a.db"))
	entries, err := os.ReadDir(f.path)
	require.NoError(t, err)
	assert.Len(t, entries, 3, "a.db, a.yaml and .cache: the copy is gone")
}

// Where a table has no transactions, nothing is tried, except in a database made for the draft.
func TestProvingWithoutTransactions(t *testing.T) {
	onTables(t, memberTables, memberPlan, func(t *testing.T, s *site) {
		if !strings.HasPrefix(s.url, "mysql") {
			return
		}
		const tables = "CREATE TABLE lamps (id int PRIMARY KEY, n int NOT NULL) ENGINE=Aria TRANSACTIONAL=0;\n"
		s.write("lamps.sql", tables)
		r := s.on("survey", "--ddl", "lamps.sql", "--out", "lamps.yaml", "--prove")
		require.Zero(t, r.code, r.errOut)
		assert.Contains(t, r.out, "proved: 100 rows into 1 table")
		s.exec(t, tables)
		r = s.on("survey", "--out", "draft.yaml", "--prove")
		assert.NotZero(t, r.code)
		assert.Contains(t, r.errOut, "no transaction takes back the rows of lamps")
	})
}

// Of a large draft, a sample is proved; the draft itself stays large.
func TestDraftsAreProvedBySamples(t *testing.T) {
	f := newFolder(t)
	f.makeDB("a.db", "CREATE TABLE ports (id INTEGER PRIMARY KEY, name VARCHAR(20) NOT NULL, n INTEGER NOT NULL);")
	r := f.run("survey", "--db", "sqlite:a.db", "--rows", "30000", "--out", "a.yaml", "--prove")
	require.Zero(t, r.code, r.errOut)
	assert.Contains(t, r.out, "proved: a sample, 1,000 rows into 1 table")
	assert.Contains(t, f.read("a.yaml"), "rows: 30000\n")
	r = f.run("survey", "--db", "sqlite:a.db", "--rows", "30000", "--out", "b.yaml", "--prove=full")
	require.Zero(t, r.code, r.errOut)
	assert.Contains(t, r.out, "proved: 30,000 rows into 1 table")
}
