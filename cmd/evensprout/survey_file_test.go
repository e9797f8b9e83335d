package main

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const wareTables = `
CREATE TABLE ports (id {key}, code VARCHAR(3) NOT NULL UNIQUE);
CREATE TABLE wares (id {key}, sku VARCHAR(12) NOT NULL UNIQUE, label VARCHAR(40) NOT NULL,
  in_stock INTEGER NOT NULL, port_id INTEGER NOT NULL REFERENCES ports (id), made_on DATE NOT NULL,
  sold_on DATE, CHECK (sold_on >= made_on));`

// A file of quantities is applied without a line written by hand, and applied again after it has changed.
func TestAPlanForAFile(t *testing.T) {
	onTables(t, wareTables, "", func(t *testing.T, s *site) {
		s.exec(t, "INSERT INTO ports (id, code) VALUES (1, 'ABC')", "INSERT INTO ports (id, code) VALUES (2, 'DEF')")
		s.write("wares.json", `[{"SKU": "A-1", "inStock": 4, "portId": 1, "colour": "red"},
			{"SKU": "A-2", "inStock": 7, "portId": 2}]`)
		r := s.on("survey", "--file", "wares.json", "--out", "wares.yaml")
		require.Zero(t, r.code, r.errOut)
		assert.Contains(t, r.out, "table wares: rows with the same sku are updated, and others are added")
		assert.Contains(t, r.out, "not in the table: colour")
		assert.Contains(t, r.out, "Next: evensprout check wares.yaml && evensprout load wares.yaml")
		r = s.on("load", "wares.yaml")
		require.Zero(t, r.code, r.out+r.errOut+s.read("wares.yaml"))
		assert.Equal(t, []string{"4", "7"}, s.column(t, "wares", "in_stock"))
		labels, days := s.column(t, "wares", "label"), s.column(t, "wares", "made_on")

		s.write("wares.json", `[{"SKU": "A-2", "inStock": 9, "portId": 1}, {"SKU": "A-3", "inStock": 1, "portId": 2},
			{"SKU": "A-1", "inStock": 4, "portId": 1}]`)
		r = s.on("load", "wares.yaml")
		require.Zero(t, r.code, r.out+r.errOut)
		assert.ElementsMatch(t, []string{"4", "9", "1"}, s.column(t, "wares", "in_stock"))
		assert.Subset(t, s.column(t, "wares", "label"), labels, "what the file does not say stays")
		assert.Subset(t, s.column(t, "wares", "made_on"), days)

		s.write("bad.csv", "sku,in_stock,port_id\nA-9,1,77\n")
		require.Zero(t, s.on("survey", "--file", "bad.csv", "--table", "wares", "--out", "bad.yaml").code)
		r = s.on("load", "bad.yaml")
		assert.NotZero(t, r.code)
		assert.Contains(t, r.errOut, `no Port has the id "77"`)
	})
}

// Without a key of the table, rows are added; with nothing but a key, they are kept.
func TestPlansForFilesByTheirKeys(t *testing.T) {
	f := newFolder(t)
	f.makeDB("a.db", "CREATE TABLE notes (id INTEGER PRIMARY KEY, line VARCHAR(40) NOT NULL, \"odd: #\" INTEGER);"+
		"CREATE TABLE codes (code CHAR(2) PRIMARY KEY, label VARCHAR(20));")
	f.write("notes.csv", "line,\"odd: #\",\"{x\ny\"\nfirst,1,2\nsecond,3,4\n")
	f.write("codes.txt", "AB\nCD\n")
	f.write("codes.csv", "code\nAB\nCD\n")
	r := f.run("survey", "--db", "sqlite:a.db", "--file", "notes.csv", "-o", "notes.yaml")
	require.Zero(t, r.code, r.errOut)
	assert.Contains(t, r.out, "rows are added: the file has no unique key of the table")
	r = f.run("load", "notes.yaml")
	require.Zero(t, r.code, r.errOut+f.read("notes.yaml"))
	assert.Equal(t, []string{"1|first|1", "2|second|3"}, f.query("a.db", "SELECT * FROM notes"))

	require.Zero(t, f.run("survey", "--db", "sqlite:a.db", "--file", "codes.csv", "-o", "codes.yaml").code)
	assert.Contains(t, f.read("codes.yaml"), "write: {mode: keep, match: [code]}")
	for range 2 {
		r = f.run("load", "codes.yaml")
		require.Zero(t, r.code, r.errOut)
	}
	assert.Equal(t, []string{"AB", "CD"}, f.query("a.db", "SELECT code FROM codes"))
}

func TestPlansForFilesAreRefused(t *testing.T) {
	f := newFolder(t)
	f.makeDB("a.db", "CREATE TABLE notes (id INTEGER PRIMARY KEY, line VARCHAR(40));"+
		"CREATE TABLE odd (x INT, n TEXT NOT NULL CHECK (length(n) < 0))")
	f.write("a.csv", "x,y\n1,2\n")
	f.write("empty.csv", "")
	for want, args := range map[string][]string{
		"the database has no table a; it has notes, odd": {"--file", "a.csv"},
		"a.csv has no column of the table notes":         {"--file", "a.csv", "--table", "notes"},
		"what a.csv does not have cannot be generated for odd: no value is known for n": {
			"--file", "a.csv", "--table", "odd",
		},
		"there is no file b.csv": {"--file", "b.csv", "--table", "notes"},
		"empty.csv":              {"--file", "empty.csv", "--table", "notes"},
		"rows cannot be read from this kind of file": {"--file", "a.db", "--table", "notes"},
		"--file cannot be combined with --into":      {"--file", "a.csv", "--into", "p.yaml"},
		"--table needs --file":                       {"--table", "notes"},
	} {
		r := f.run(append([]string{"survey", "--db", "sqlite:a.db"}, args...)...)
		assert.NotZero(t, r.code, want)
		assert.Contains(t, r.errOut, want)
	}
}
