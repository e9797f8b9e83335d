package main

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/demo"
	"evensprout/internal/store/storetest"
)

// read is the contents of a file.
func (f *folder) read(name string) string {
	text, err := os.ReadFile(f.file(name))
	require.NoError(f.t, err)
	return string(text)
}

// filled drafts a plan, holds it against the database, loads it, and looks whether every
// table has rows; all without an edit.
func filled(t *testing.T, f *folder, url, commit string, flags ...string) {
	t.Helper()
	r := f.run(append([]string{"survey", "--db", url, "-o", "draft.yaml"}, flags...)...)
	require.Zero(t, r.code, r.errOut)
	text := f.read("draft.yaml")
	r = f.run("check", "draft.yaml", "--db", url)
	require.Zero(t, r.code, "%s\n%s", r.errOut, text)
	r = f.run("load", "draft.yaml", "--db", url, "--commit", commit)
	require.Zero(t, r.code, "%s\n%s", r.errOut, text)
	r = f.run("look", "--db", url, "--json")
	require.Zero(t, r.code, r.errOut)
	var out struct {
		Tables []struct {
			Table string
			Rows  int64
		}
	}
	require.NoError(t, json.Unmarshal([]byte(r.out), &out))
	for _, table := range out.Tables {
		assert.Positive(t, table.Rows, "%s is empty\n%s", table.Table, text)
	}
}

// What PostgreSQL decides about rows beside types and keys.
const postgresTables = `
CREATE FUNCTION is_signal(text) RETURNS boolean LANGUAGE sql IMMUTABLE AS $$ SELECT $1 ~ '^[A-Z]'
  AND length($1) % 2 = 0 $$;
CREATE TYPE weather AS ENUM ('calm', 'it''s wet');
CREATE TYPE place AS (x integer, y text);
CREATE DOMAIN knots AS numeric(4,1) CHECK (VALUE > 0 AND VALUE < 60);
CREATE DOMAIN signal AS text NOT NULL CHECK (is_signal(VALUE));
CREATE SCHEMA "dry dock";
CREATE TABLE piers (code citext_like PRIMARY KEY);
CREATE TABLE winds (id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY, speed knots NOT NULL, gust knots,
  flag signal, sky weather NOT NULL, skies weather[] NOT NULL, at place NOT NULL,
  pier citext_like NOT NULL REFERENCES piers, seen tstzrange NOT NULL, CHECK (gust IS NULL OR gust >= speed),
    EXCLUDE USING gist (seen WITH &&));
CREATE UNIQUE INDEX ON winds (lower(flag)) WHERE speed > 10;
CREATE TABLE "dry dock"."odd ""name" ("select" uuid PRIMARY KEY DEFAULT gen_random_uuid(),
  "größe" numeric(6,3) NOT NULL, a int NOT NULL, b int GENERATED ALWAYS AS (a * 2) STORED, c int,
  UNIQUE NULLS NOT DISTINCT (c));
CREATE TABLE readings (pier citext_like NOT NULL, at timestamptz NOT NULL, depth double precision, PRIMARY KEY (pier,
  at)) PARTITION BY RANGE (at);
CREATE TABLE readings_2024 PARTITION OF readings FOR VALUES FROM ('2024-01-01') TO ('2025-01-01');
CREATE TABLE depots (id serial PRIMARY KEY, main_shed integer);
CREATE TABLE sheds (id serial PRIMARY KEY, depot_id integer NOT NULL REFERENCES depots ON DELETE CASCADE,
  number smallint NOT NULL, UNIQUE (depot_id, number), UNIQUE (depot_id, id));
ALTER TABLE depots ADD FOREIGN KEY (main_shed) REFERENCES sheds;
CREATE TABLE moves (id serial PRIMARY KEY, depot_id integer NOT NULL, from_shed integer NOT NULL,
  to_shed integer NOT NULL, CHECK (from_shed <> to_shed OR depot_id > 0),
  FOREIGN KEY (depot_id, from_shed) REFERENCES sheds (depot_id, id), FOREIGN KEY (depot_id, to_shed)
    REFERENCES sheds (depot_id, id));`

const mariaTables = `
CREATE TABLE piers (code VARCHAR(30) CHARACTER SET latin1 PRIMARY KEY,
  name VARCHAR(40) COLLATE utf8mb4_general_ci NOT NULL UNIQUE, rating TINYINT(1) NOT NULL CHECK (rating BETWEEN 2
  AND 5), score DOUBLE(3,2) NOT NULL);
CREATE TABLE signs (id INT UNSIGNED AUTO_INCREMENT PRIMARY KEY, code VARBINARY(12) NOT NULL UNIQUE,
  kind ENUM('calm','it''s') NOT NULL, flags SET('a','b') NOT NULL, bits BIT(6) NOT NULL, one BIT(1) NOT NULL,
  y YEAR NOT NULL,
  spot POINT NOT NULL, area POLYGON, doc JSON NOT NULL, note TEXT NOT NULL, UNIQUE (note(3)),
    pier VARCHAR(30) CHARACTER SET latin1 NOT NULL, FOREIGN KEY (pier) REFERENCES piers (code));
CREATE TABLE readings (at DATE NOT NULL,
  depth FLOAT NOT NULL) PARTITION BY RANGE (YEAR(at)) (PARTITION a VALUES LESS THAN (2020),
  PARTITION b VALUES LESS THAN (2022));
CREATE TABLE old_log (id INT AUTO_INCREMENT PRIMARY KEY, line TEXT NOT NULL) ENGINE = MyISAM;`

const sqliteTables = `
CREATE TABLE piers (code TEXT COLLATE NOCASE PRIMARY KEY, name VARCHAR(20) NOT NULL CHECK (name GLOB '[A-Z]*'),
  opened DATE NOT NULL, closed DATE, CHECK (closed > opened));
CREATE TABLE moorings (pier TEXT NOT NULL REFERENCES piers, number INTEGER NOT NULL CHECK (number > 0), boat,
  PRIMARY KEY (pier, number)) WITHOUT ROWID;
CREATE UNIQUE INDEX one_boat ON moorings (lower(boat)) WHERE boat IS NOT NULL;
CREATE VIRTUAL TABLE notes USING fts5(body);
CREATE TABLE self (id INTEGER PRIMARY KEY, up INTEGER NOT NULL REFERENCES self, x INTEGER NOT NULL CHECK (x % 3 = 0
  AND typeof(x) = 'integer'));`

func TestSurveyAndLoadFillEveryTable(t *testing.T) {
	f := newFolder(t)
	t.Run("sqlite", func(t *testing.T) {
		f.makeDB("filled.db", sqliteTables)
		filled(t, &folder{t: t, path: f.path}, "sqlite:filled.db", "load", "--rows", "300")
		assert.Empty(t, f.query("filled.db", "PRAGMA foreign_key_check"))
		require.NoError(t, os.Remove(filepath.Join(f.path, "draft.yaml")))
	})
	t.Run("postgres", func(t *testing.T) {
		server := storetest.Postgres(t)
		tables := strings.ReplaceAll(postgresTables, "citext_like", "varchar(9)")
		if storetest.PostgresVersion(t) < 15 {
			tables = strings.ReplaceAll(tables, "NULLS NOT DISTINCT ", "")
		}
		if storetest.PostgresVersion(t) < 13 {
			tables = strings.ReplaceAll(tables, "gen_random_uuid()", "md5(random()::text)::uuid")
		}
		filled(
			t,
			&folder{t: t, path: f.path},
			server.Owned(t, tables),
			"load",
			"--rows",
			"300",
			"--names",
			"camel",
		)
		require.NoError(t, os.Remove(filepath.Join(f.path, "draft.yaml")))
	})
	t.Run("mariadb", func(t *testing.T) {
		// One table is not transactional.
		filled(t, &folder{t: t, path: f.path}, storetest.MariaDB(t).Database(t, mariaTables), "chunk", "--rows", "150")
	})
}

// Tables by pattern bring those that they need; a wrong name gets the nearest right one.
func TestSurveyOfSomeTables(t *testing.T) {
	f := newFolder(t)
	f.makeDB("app.db", demo.Schema)
	r := f.run("survey", "--db", "sqlite:app.db", "--tables", "ref*,Crew")
	require.Zero(t, r.code, r.errOut)
	for _, entity := range []string{"Refund", "Booking", "Passenger", "Crew"} {
		assert.Contains(t, r.out, "\n  "+entity+":\n")
	}
	assert.NotContains(t, r.out, "Amenity")
	for args, want := range map[string]string{"--tables bokings": "did you mean bookings?",
		"--schema sales": "there is no schema", "--names " +
			"shouting": "--names must be one of", "--tables [": "is not a pattern:", "--least 1": "--least must be " +
			"2 or more,",
		"--structs .": "has no Go files"} {
		r := f.run(append([]string{"survey", "--db", "sqlite:app.db"}, strings.Fields(args)...)...)
		assert.NotZero(t, r.code, args)
		assert.Contains(t, r.errOut, want, args)
	}
}

// What is learned is shares and ranges; a value that occurs too seldom is never copied.
func TestLearningKeepsWhatIsRareToItself(t *testing.T) {
	f := newFolder(t)
	var rows []string
	for i := range 400 {
		status, note := "open", "NULL"
		if i%4 == 0 {
			status = "shut"
		}
		if i%5 == 0 {
			note = "'seen'"
		}
		if i < 3 {
			status = "secret"
		}
		rows = append(rows, fmt.Sprintf("(%d, '%s', %s, %d, '2024-03-%02d')", i+1, status, note, 1000+i*10, i%28+1))
	}
	f.makeDB(
		"app.db",
		"CREATE TABLE cases (id INTEGER PRIMARY KEY, status VARCHAR(20) NOT NULL, note VARCHAR(20), cents INTEGER "+
			"NOT NULL, seen DATE NOT NULL);\nINSERT INTO cases VALUES "+strings.Join(
			rows,
			", ",
		)+";",
	)
	r := f.run("survey", "--db", "sqlite:app.db", "--learn")
	require.Zero(t, r.code, r.errOut)
	assert.NotContains(t, r.out, "secret")
	assert.Contains(t, r.out, "status: {choose: {open: 298, shut: 99}}")
	assert.Contains(t, r.out, "note:   {choose: {seen: 80}, nulls: 80%}")
	assert.Contains(t, r.out, "cents:  {between: [1000, 5000], step: 10}")
	assert.Contains(t, r.out, "seen:   {between: [2024-02-29, 2024-04-04]}")
	r = f.run("survey", "--db", "sqlite:app.db", "--learn", "-o", "learned.yaml", "--quiet")
	require.Zero(t, r.code, r.errOut)
	assert.Empty(t, r.out)
	require.Zero(t, f.run("load", "learned.yaml").code)
	assert.Equal(t, []string{"500"}, f.query("app.db", "SELECT count(*) FROM cases"))
}

const mappedStructs = `package models

type Status string

const (
	Active Status = "active"
	Barred Status = "barred"
)

type Passenger struct {
	ID         int64   ` + "`db:\"id\"`" + `
	FirstName  string  ` + "`db:\"given_name\"`" + `
	Status     Status  ` + "`db:\"status\"`" + `
	Nickname   string  ` + "`db:\"nickname\"`" + `
	Tel        string  ` + "`db:\"tel\"`" + `
}
`

func TestSurveyOfStructs(t *testing.T) {
	f := newFolder(t)
	require.NoError(t, os.Mkdir(filepath.Join(f.path, "models"), 0o755))
	f.write("models/models.go", mappedStructs)
	r := f.run("survey", "--structs", "models")
	require.Zero(t, r.code, r.errOut)
	assert.Contains(t, r.out, "name: models\n")
	assert.Contains(t, r.out, "table: passengers")
	assert.Contains(t, r.out, "{choose: {active: 10, barred: 2}}")
	f.makeDB("app.db", demo.Schema)
	r = f.run("survey", "--structs", "models", "--db", "sqlite:app.db", "-o", "plan.yaml")
	require.Zero(t, r.code, r.errOut)
	assert.Contains(t, r.errOut, "models/models.go:14:2: the field Passenger.Nickname has no column in passengers")
	assert.Contains(
		t,
		r.errOut,
		"models/models.go:15:2: Passenger.Tel (string) cannot hold NULL, which the column passengers.tel may be",
	)
	assert.Contains(t, f.read("plan.yaml"), "FirstName:")
	assert.Contains(t, f.read("plan.yaml"), "column: given_name")
	require.Zero(t, f.run("load", "plan.yaml").code)
	r = f.run("survey", "--structs", "models", "--tag", "json")
	assert.Contains(t, r.errOut, "has a field with the tag json")
}

// check grows rows and holds them against columns and conditions; what a load would meet
// in the database is told before.
func TestCheckHoldsRowsAgainstTheTables(t *testing.T) {
	f := newFolder(t)
	f.makeDB(
		"app.db",
		`CREATE TABLE piers (id INTEGER PRIMARY KEY, code VARCHAR(4) NOT NULL, seats SMALLINT NOT NULL
  CHECK (seats BETWEEN 4 AND 20), price DECIMAL(4,2), opened DATE, closed DATE, CHECK (closed > opened));
CREATE TRIGGER watch AFTER INSERT ON piers BEGIN SELECT 1; END;`,
	)
	f.write("plan.yaml", `name: x
seed: x
clock: 2026-05-01T08:00:00Z
database: sqlite:app.db
entities:
  Pier:
    table: piers
    rows: 400
    fields:
      code: {text: "P{id}-{seats}"}
      seats: {between: [1, 40000]}
      price: {between: [1.00, 400.00]}
      opened: {between: [2026-01-01, 2026-03-01]}
      closed: {between: [2026-01-01, 2026-03-01]}
`)
	r := f.run("check", "plan.yaml")
	assert.Equal(t, 4, r.code)
	for _, want := range []string{"plan.yaml:10:7: Pier row", "8 characters are too long for VARCHAR(4)", "does " +
		"not satisfy CHECK (seats BETWEEN 4 AND 20)", "is out of range for SMALLINT, which goes from -32768 to 32767",
		"is out of " +
			"range for DECIMAL(4,2)", "does not satisfy CHECK (closed > opened)"} {
		assert.Contains(t, r.errOut, want)
	}
	f.write(
		"plan.yaml",
		strings.NewReplacer(`{text: "P{id}-{seats}"}`, `{pattern: "[A-Z]{4}"}`, "40000]", "90]", "400.00", "40.00",
			"price: "+
				"{between: [1.00", "price: {between: [2.00").
			Replace(f.read("plan.yaml"))+
			"    meets: [\"seats BETWEEN 4 AND 20\", closed > opened]\n",
	)
	r = f.run("check", "plan.yaml")
	require.Zero(t, r.code, r.errOut)
	assert.Contains(t, r.errOut, "warning: triggers run when rows are written to piers: watch")
	require.Zero(t, f.run("load", "plan.yaml").code)
	assert.Equal(
		t,
		[]string{"0"},
		f.query("app.db", "SELECT count(*) FROM piers WHERE seats NOT BETWEEN 4 AND 20 OR closed <= opened"),
	)
	r = f.run("check", "plan.yaml", "--db", "sqlite:app.db?mode=ro")
	assert.Equal(t, 4, r.code)
	assert.Contains(t, r.errOut, "rows cannot be written to piers: the URL says mode=ro,")
	f.write("plan.yaml", strings.Replace(f.read("plan.yaml"), "name: x", "name: y", 1))
	r = f.run("check", "plan.yaml")
	assert.Equal(t, 4, r.code)
	assert.Contains(t, r.errOut, "Pier already exist: the table piers holds rows (400):")
	f.write(
		"plan.yaml",
		strings.Replace(f.read("plan.yaml"), "closed > opened", "closed > opened AND closed < opened", 1),
	)
	r = f.run("preview", "plan.yaml")
	assert.NotZero(t, r.code)
	assert.Contains(t, r.errOut, "none of 1000 tries meets the condition closed > opened AND closed < opened")
}

// A trigger that raises keeps its table empty; the others are filled, and it is named.
func TestATableThatRefusesIsNamed(t *testing.T) {
	f := newFolder(t)
	f.makeDB("app.db", `CREATE TABLE locks (id INTEGER PRIMARY KEY, name TEXT NOT NULL);
CREATE TABLE ports (id INTEGER PRIMARY KEY, name TEXT NOT NULL, lock_id INTEGER REFERENCES locks);
CREATE TABLE keys (id INTEGER PRIMARY KEY, lock_id INTEGER NOT NULL REFERENCES locks);
CREATE TRIGGER shut BEFORE INSERT ON locks BEGIN SELECT RAISE(ABORT, 'the locks are shut'); END;`)
	require.Zero(t, f.run("survey", "--db", "sqlite:app.db", "-o", "plan.yaml").code)
	assert.Equal(t, 5, f.run("load", "plan.yaml").code)
	r := f.run("load", "plan.yaml", "--commit", "chunk", "--on-violation", "all=skip")
	assert.Equal(t, 6, r.code, r.errOut)
	assert.Contains(t, r.out, "Tables without rows:\n  Lock (locks): Lock row 0: the locks are shut")
	assert.NotEqual(
		t,
		[]string{"0"},
		f.query("app.db", "SELECT count(*) FROM ports"),
		"rows that need no lock are there",
	)
}

func TestLookWithAConditionAndSizes(t *testing.T) {
	f := newFolder(t)
	f.sample(t)
	r := f.run(
		"look",
		"larkwater/evensprout.yaml",
		"Booking",
		"--where",
		"status = 'open' AND total > 50",
		"--limit",
		"2",
		"--json",
	)
	require.Zero(t, r.code, r.errOut)
	var out struct{ Rows []map[string]any }
	require.NoError(t, json.Unmarshal([]byte(r.out), &out))
	require.Len(t, out.Rows, 2)
	assert.Equal(t, "open", out.Rows[0]["status"])
	r = f.run("look", "larkwater/evensprout.yaml", "Booking", "--where", "1 = 1; DROP TABLE bookings")
	assert.Equal(t, 2, r.code)
	assert.Contains(t, r.errOut, "--where must be one condition in SQL:")
	r = f.run("look", "larkwater/evensprout.yaml")
	assert.Regexp(t, `tickets +18,\d{3} +\d+ KiB`, r.out)
}

// A draft that no load takes is not written.
func TestSurveyOfTablesThatCannotBeFilled(t *testing.T) {
	f := newFolder(t)
	f.makeDB("app.db", `CREATE TABLE schema_migrations (version TEXT PRIMARY KEY);
CREATE TABLE ports (id INTEGER PRIMARY KEY, n INTEGER NOT NULL CHECK (n > 5 AND n < 3));
CREATE TABLE boats (id INTEGER PRIMARY KEY, port_id INTEGER NOT NULL REFERENCES ports (id));`)
	for _, args := range [][]string{{"--out", "plan.yaml"}, {}, {"--prove"}} {
		r := f.run(append([]string{"survey", "--db", "sqlite:app.db"}, args...)...)
		assert.Equal(t, 4, r.code, "%v: %s", args, r.errOut)
		assert.Contains(t, r.errOut, "no table can be filled")
		assert.Contains(t, r.errOut, "ports: no value is known for n that satisfies CHECK (n > 5 AND n < 3)")
		assert.Contains(t, r.errOut, "boats: it refers to ports, which is left out")
		assert.Empty(t, r.out)
	}
	assert.NoFileExists(t, f.file("plan.yaml"))
}
