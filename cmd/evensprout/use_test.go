package main

import (
	"fmt"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/demo"
)

const variants = `
variants:
  ci:   {scale: 2%}
  demo: {clock: today, seed: demo-1, entities: {Passenger: {rows: 12}}}
`

// A variant is another size of the same plan: the larger one adds rows, on each engine.
func TestSizesAddRows(t *testing.T) {
	onTables(t, demo.Schema, strings.ReplaceAll(demo.Entities, "rows: 5000", "rows: 200")+variants,
		func(t *testing.T, s *site) {
			require.Zero(t, s.on("load", "--variant", "ci").code)
			assert.Len(t, s.cells(t, "passengers", "id"), 6, "four and those written by hand")
			r := s.on("load", "--scale", "10%", "--rows", "Pier=4")
			require.Zero(t, r.code, r.errOut)
			assert.Len(t, s.cells(t, "passengers", "id"), 22)
			assert.Len(t, s.cells(t, "piers", "id"), 4)
			require.Zero(t, s.on("load").code)
			assert.Len(t, s.cells(t, "passengers", "id"), 202)
			r = s.on("load", "--only", "Pier", "--rows", "Pier=12")
			require.Zero(t, r.code, r.errOut)
			assert.Len(t, s.cells(t, "piers", "id"), 12)
			r = s.on("load", "--variant", "demo")
			assert.NotZero(t, r.code)
			assert.Contains(t, r.errOut, `seed was larkwater-2026, and is demo-1`)
			r = s.on("history")
			assert.Contains(t, r.out, "larkwater, variant ci ")
			assert.Contains(t, r.out, "larkwater, scale 10%, rows Pier 4 ")
			for range 4 {
				require.Zero(t, s.on("withdraw").code)
			}
			assert.Len(t, s.cells(t, "passengers", "id"), 0)
		})
}

func TestUsesAreShown(t *testing.T) {
	f := newFolder(t)
	f.write("evensprout.yaml", demo.Entities+variants)
	f.makeDB("larkwater.db", demo.Schema)
	r := f.run("check", "--variant", "demo", "--scale", "50%")
	require.Zero(t, r.code, r.errOut)
	for _, want := range []string{"seed: larkwater-2026 -> demo-1\n", "Passenger.rows: 5000 -> 12\n",
		"Passenger.rows: 12 -> 6\n", "clock: 2026-05-01T08:00:00Z -> 20"} {
		assert.Contains(t, r.out, want)
	}
	r = f.run("check", "--json", "--only", "Pier")
	assert.Contains(t, r.out, `"key": "Passenger"`)
	r = f.run("preview", "--variant", "demo", "--entity", "Passenger")
	assert.Contains(t, r.out, "Passenger  14 rows")
	r = f.run("export", "--only", "Pier", "--out", "rows", "--format", "csv")
	assert.Zero(t, r.code, r.errOut)
	f.write("schema.sql", demo.Schema)
	r = f.run("during", "--schema", "schema.sql", "--variant", "demo", "--", "sh", "-c",
		"test -n \"$DATABASE_URL\" && cp .cache/evensprout/evensprout_run_*.db run.db")
	require.Zero(t, r.code, r.errOut)
	assert.Equal(t, []string{"14"}, f.query("run.db", "SELECT count(*) FROM passengers"))
	r = f.run("load", "--clock", "today", "--dry-run")
	assert.Zero(t, r.code, r.errOut)
	for args, want := range map[string]string{
		"--variant dmo":     `the plan has no variant dmo; did you mean "demo"?`,
		"--rows Pasenger=3": "the plan has no entity Pasenger",
		"--rows Passenger":  "--rows takes an entity and a number, such as Passenger=10000, got \"Passenger\"",
		"--scale x":         "scale must be a factor above 0",
		"--only Nobody":     "the plan has no entity Nobody",
	} {
		r := f.run(append([]string{"check"}, strings.Fields(args)...)...)
		assert.Equal(t, 2, r.code, args)
		assert.Contains(t, r.errOut, want, args)
	}
}

// A file goes into a table without a plan, on each engine, and is withdrawn like a load.
func TestFilesWithoutAPlan(t *testing.T) {
	onTables(
		t,
		"CREATE TABLE bins (id {key}, sku VARCHAR(10) NOT NULL UNIQUE, quantity INTEGER NOT NULL, label VARCHAR(9))",
		"name: x\nseed: x\n",
		func(t *testing.T, s *site) {
			s.exec(t, "INSERT INTO bins (sku, quantity) VALUES ('A1', 1), ('A2', 2), ('A3', 3)")
			before := s.rows(t)
			s.write("stock.csv", "SKU;Qty;Note\nA1;10;q\nA3;7;r\nA9;3;s\n")
			load := []string{
				"load",
				"--file",
				"stock.csv",
				"--table",
				"bins",
				"--mode",
				"update",
				"--match",
				"sku=SKU",
				"--set",
				"quantity=Qty",
			}
			r := s.on(append(load, "--dry-run")...)
			assert.Equal(t, 6, r.code, "a row is not found")
			assert.Equal(t, before, s.rows(t))
			r = s.on(append(load, "--changes", "changes.csv", "--save-plan", "stock.yaml")...)
			assert.Contains(t, r.errOut, `the separator of stock.csv is ";"`)
			assert.Contains(t, r.errOut, "bins has no column Note, so it is not used")
			assert.Contains(t, r.out, `stock.csv:4: Bin row 2: sku "A9": no row of bins has this key`)
			assert.Contains(t, s.read("changes.csv"), "Bin row 0,2,A1,quantity,1,10")
			assert.Contains(t, s.read("stock.yaml"), "write: {mode: update, match: [sku], set: [quantity]}")
			assert.Equal(t, []string{"10", "2", "7"}, s.cells(t, "bins", "quantity"))
			require.Zero(t, s.on("check", "stock.yaml").code)
			number := regexp.MustCompile(`This is load (\d+)`).FindStringSubmatch(r.out)
			require.NotNil(t, number, r.out)
			require.Zero(t, s.on("withdraw", number[1]).code)
			assert.Equal(t, before, s.rows(t))

			s.write("same.yaml", "name: same\nseed: s\nclock: 2026-05-01T08:00:00Z\nentities:\n  Bin:\n"+
				"    table: bins\n"+
				"    keys: database\n    rows_from: {file: same.csv, columns: same, key: [SKU]}\n")
			s.write("same.csv", "SKU,Quantity,Note\nC1,5,x\nC2,6,y\n")
			r = s.on("load", "same.yaml")
			require.Zero(t, r.code, r.errOut)
			assert.Equal(t, []string{"5", "6"}, s.cells(t, "bins", "quantity")[3:])
			s.write("more.csv", "sku,quantity\nB1,5\nB2,6\n")
			r = s.on("load", "--file", "more.csv", "--table", "bins", "--mode", "insert")
			require.Zero(t, r.code, r.errOut)
			assert.Len(t, s.cells(t, "bins", "id"), 7)
		},
	)
}

func TestFilesWithoutAPlanAreRefused(t *testing.T) {
	f := newFolder(t)
	f.makeDB(
		"a.db",
		"CREATE TABLE bins (id INTEGER PRIMARY KEY, sku TEXT NOT NULL UNIQUE, quantity INTEGER NOT NULL);"+
			"CREATE TABLE logs (line TEXT);",
	)
	f.write("stock.csv", "sku,Qty\nA1,ten\n")
	f.write("line.csv", "line\nx\n")
	f.write("empty.csv", "")
	f.write("plan.yaml", demo.Entities)
	for args, want := range map[string]string{
		"--file none.csv --table bins":                     "none.csv",
		"--file empty.csv --table bins":                    "the file is empty",
		"--file stock.csv --table binz":                    "did you mean bins?",
		"--file stock.csv --table bins --match skuu=sku":   "bins has no column skuu; did you mean sku?",
		"--file stock.csv --table bins --match sku=Sku":    "stock.csv has no column Sku; did you mean sku?",
		"--file stock.csv --table bins --mode updated":     "--mode must be one of insert, keep",
		"--file stock.csv --table bins --mode update":      "name the columns that take values with --set",
		"--file line.csv --table logs --mode update":       "say with --match which columns tell",
		"--file stock.csv --table bins --separator xx":     "--separator",
		"--file stock.csv --table bins --set quantity=Qty": `stock.csv:2:4: Qty: "ten" is not a valid integer`,
		"--file stock.csv plan.yaml":                       "cannot be combined with plan.yaml",
		"--file stock.csv --unit sell":                     "--file cannot be combined with --unit",
		"--table bins":                                     "need --file",
	} {
		r := f.run(append([]string{"load", "--db", "sqlite:a.db"}, strings.Fields(args)...)...)
		assert.NotZero(t, r.code, args)
		assert.Contains(t, r.errOut, want, fmt.Sprint(args))
	}
	assert.Equal(t, []string{"0"}, f.query("a.db", "SELECT count(*) FROM bins"))
}
