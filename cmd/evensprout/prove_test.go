package main

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const stubbornTables = `
CREATE TABLE ports (id INTEGER PRIMARY KEY, name VARCHAR(20) NOT NULL, odd VARCHAR(10), n INTEGER NOT NULL);
CREATE TABLE boats (id INTEGER PRIMARY KEY, port_id INTEGER REFERENCES ports (id), seats INTEGER NOT NULL);
CREATE TABLE logs (id INTEGER PRIMARY KEY, boat_id INTEGER NOT NULL REFERENCES boats (id), z VARCHAR(10) NOT NULL);
CREATE TABLE lines (id INTEGER PRIMARY KEY, log_id INTEGER NOT NULL REFERENCES logs (id));
CREATE TRIGGER t2 BEFORE INSERT ON logs BEGIN SELECT RAISE(ABORT, 'nobody may add a log'); END;
CREATE TRIGGER t3 BEFORE INSERT ON boats WHEN new.seats % 2 = 1 BEGIN SELECT RAISE(ABORT, 'seats are even'); END;`

// A draft that the database refuses in part is tried without that part, until it loads. Each trial is rolled back.
func TestDraftsProveThemselves(t *testing.T) {
	f := newFolder(t)
	f.makeDB("a.db", stubbornTables)
	before := f.dump("a.db")
	r := f.run("survey", "--db", "sqlite:a.db", "--out", "a.yaml", "--prove")
	require.Zero(t, r.code, r.errOut)
	assert.Contains(t, r.out, "left out: logs: the database refuses its rows: nobody may add a log")
	assert.Contains(t, r.out, "left out: lines: it refers to logs, which is left out")
	assert.Contains(t, r.out, "proved: ")
	assert.Equal(t, before, f.dump("a.db"), "the database is unchanged")
	assert.Contains(t, f.read("a.yaml"), "# Proved: ")
	r = f.run("load", "a.yaml")
	assert.Zero(t, r.code, r.errOut)
	assert.NotEqual(t, "0", f.query("a.db", "SELECT count(*) FROM ports")[0])
}

func TestProvingOnEachEngine(t *testing.T) {
	onTables(t, memberTables, memberPlan, func(t *testing.T, s *site) {
		before := s.rows(t)
		r := s.on("survey", "--out", "draft.yaml", "--prove")
		require.Zero(t, r.code, r.errOut)
		assert.Contains(t, r.out, "into 3 tables, loaded and rolled back")
		assert.Equal(t, before, s.rows(t), "the database is unchanged")
		assert.Zero(t, s.on("load", "draft.yaml").code)
	})
}

// Where it could do harm, nothing is tried.
func TestProvingIsRefused(t *testing.T) {
	f := newFolder(t)
	f.write("x.go", "package x\n\ntype A struct {\n\tID int `db:\"id\"`\n}\n")
	for args, want := range map[string]string{
		"--structs .":                         "--prove needs a database",
		"--db postgres://me@quay.example/app": "quay.example",
	} {
		r := f.run(append([]string{"survey", "--prove", "--out", "d.yaml"}, strings.Fields(args)...)...)
		assert.NotZero(t, r.code, args)
		assert.Contains(t, r.errOut, want, args)
		assert.NoFileExists(t, f.file("d.yaml"))
	}
}

// A draft is made from a script alone, in a database that is dropped afterwards.
func TestDraftsOfAScript(t *testing.T) {
	onTables(t, memberTables, memberPlan, func(t *testing.T, s *site) {
		s.write("members.sql", strings.ReplaceAll(memberTables, "{key}", s.key))
		args := []string{"survey", "--ddl", "members.sql", "--out", "draft.yaml", "--prove"}
		if s.start != nil {
			args = append(args, "--db", s.url)
		}
		before := s.rows(t)
		r := s.run(args...)
		require.Zero(t, r.code, r.errOut)
		assert.Contains(t, r.out, "drafted: a plan for 3 tables")
		assert.Contains(t, r.out, "proved: ")
		assert.Contains(t, s.read("draft.yaml"), "name: members\n")
		assert.Equal(t, before, s.rows(t))
		r = s.run("during", "--sweep", "--db", s.url)
		assert.Zero(t, r.code, r.errOut)
		assert.NotContains(t, r.out, "dropped", "no database of the draft is left")
		assert.Zero(t, s.on("load", "draft.yaml").code)

		s.write("broken.sql", "CREATE TABLE a (id INTEGER);\nCREATE TABEL b;\n")
		args[2], args[4] = "broken.sql", "other.yaml"
		r = s.run(args...)
		assert.NotZero(t, r.code)
		assert.Contains(t, r.errOut, "broken.sql:2")
		assert.NoFileExists(t, s.file("other.yaml"))
	})
}
