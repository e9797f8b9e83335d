package main

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const wareTable = `CREATE TABLE wares (sku TEXT PRIMARY KEY, name TEXT, price DECIMAL(9,2), stocked INTEGER, since DATE,
  seen DATETIME)`

// A file as a spreadsheet in another country saves it is read as it is: what was recognised is said, and a plan that is
// saved says the same.
func TestAFileInOtherForms(t *testing.T) {
	f := newFolder(t)
	f.makeDB("a.db", wareTable)
	// Windows-1252, semicolons, decimal commas, days first.
	f.write("wares.csv", "sku;name;price;stocked;since;seen\r\n007;Caf\xe9;1.234,50;1.200;31.12.2025;1.2.2026 7:05\r\n"+
		"1,5;Br\xfccke;0,75;;1.1.2026;\r\n")
	r := f.run("load", "--file", "wares.csv", "--db", "sqlite:a.db", "--save-plan", "wares.yaml")
	require.Zero(t, r.code, r.errOut)
	for _, said := range []string{
		"note: wares.csv is read as windows-1252; --encoding names another encoding",
		`note: the separator of wares.csv is ";"`,
		"note: numbers of wares.csv have a decimal comma",
		"note: dates of wares.csv are written d.m.y",
	} {
		assert.Contains(t, r.errOut, said)
	}
	want := f.dump("a.db")
	for _, row := range []string{"|007|Café|1234.5|1200|2025-12-31|2026-02-01 " +
		"07:05:00", "|1,5|Brücke|0.75||2026-01-01|"} {
		assert.Contains(t, want, row)
	}
	require.Zero(t, f.run("withdraw", "--db", "sqlite:a.db").code)
	r = f.run("load", "wares.yaml")
	require.Zero(t, r.code, r.errOut)
	assert.Equal(
		t,
		strings.Split(want, "\n")[:3],
		strings.Split(f.dump("a.db"), "\n")[:3],
		"the saved plan says the same",
	)
	require.Zero(t, f.run("survey", "--file", "wares.csv", "--db", "sqlite:a.db", "--out", "drafted.yaml").code)
	assert.Contains(t, f.read("drafted.yaml"), "dates: d.m.y")
}

// What can be read in two ways is not guessed, and the way out works.
func TestAFileThatCanBeReadInTwoWays(t *testing.T) {
	f := newFolder(t)
	f.makeDB("a.db", wareTable)
	f.write("wares.csv", "sku,price\nA,\"1,234\"\n")
	r := f.run("load", "--file", "wares.csv", "--db", "sqlite:a.db")
	assert.Equal(t, 2, r.code)
	assert.Contains(t, r.errOut, "can be a decimal comma or a thousands separator: say which with --decimal comma")
	require.Zero(t, f.run("load", "--file", "wares.csv", "--db", "sqlite:a.db", "--decimal", "point").code)
	assert.Contains(t, f.dump("a.db"), "1234")
	f.write("wares.csv", "sku,since\nA,1/2/2026\n")
	r = f.run("load", "--file", "wares.csv", "--db", "sqlite:a.db")
	assert.Contains(t, r.errOut, "d/m/y or m/d/y: say which with --dates")
	r = f.run("load", "--file", "wares.csv", "--db", "sqlite:a.db", "--dates", "y")
	assert.Contains(t, r.errOut, "--dates must be one of d.m.y")
	r = f.run("load", "--file", "wares.csv", "--db", "sqlite:a.db", "--encoding", "martian")
	assert.Contains(t, r.errOut, `"martian" is not the name of an encoding`)
	require.Zero(t, f.run("load", "--file", "wares.csv", "--db", "sqlite:a.db", "--dates", "d/m/y").code)
	assert.Contains(t, f.dump("a.db"), "2026-02-01")
}
