package main

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/demo"
)

// anAddition is what add --json prints.
type anAddition struct {
	Load   int64
	Plan   string
	Rows   []struct{ Values map[string]any }
	Needed []struct {
		Entity string
		Values map[string]any
	}
}

// adds runs add --json.
func (s *site) adds(t *testing.T, args ...string) anAddition {
	t.Helper()
	r := s.on(append([]string{"add", "--json"}, args...)...)
	require.Zero(t, r.code, r.errOut)
	var out anAddition
	require.NoError(t, json.Unmarshal([]byte(r.out), &out))
	return out
}

// A row is added with what it needs, on each engine; the n-th addition is the same everywhere, and withdraw undoes it.
func TestRowsAreAdded(t *testing.T) {
	first := map[string]any{}
	onTables(
		t,
		demo.Schema,
		strings.ReplaceAll(demo.Entities, "rows: 5000", "rows: 50"),
		func(t *testing.T, s *site) {
			require.Zero(t, s.on("load").code)
			before := s.rows(t)
			x := s.adds(t, "Passenger", "status=barred", "card=LW001042")
			require.Len(t, x.Rows, 1)
			assert.Equal(t, "larkwater-add-1", x.Plan)
			assert.Equal(t, "barred", x.Rows[0].Values["status"])
			assert.Equal(t, "LW001042", x.Rows[0].Values["card"])
			for _, name := range []string{"given_name", "family_name", "email", "tel"} {
				if first[name] == nil {
					first[name] = x.Rows[0].Values[name]
				}
				assert.Equal(t, first[name], x.Rows[0].Values[name], name)
			}

			y := s.adds(t, "Booking", "passenger=Passenger.ada", "--with", "Ticket:2")
			assert.Equal(t, "larkwater-add-2", y.Plan)
			require.Len(t, y.Needed, 2)
			assert.Equal(t, y.Rows[0].Values["id"], y.Needed[0].Values["booking_id"])
			card := s.adds(t, "Booking", fmt.Sprintf("passenger=%s", "LW001042"))
			assert.Equal(t, x.Rows[0].Values["id"], card.Rows[0].Values["passenger_id"], "found by a unique value")
			z := s.adds(t, "Ticket", fmt.Sprintf("booking=%s", y.Rows[0].Values["reference"]), "fare_class=saloon")
			assert.EqualValues(t, 3, z.Rows[0].Values["position"], "counted on")
			assert.Equal(t, "SALOON", z.Rows[0].Values["fare_class_code"])
			assert.Empty(t, z.Needed)
			five := s.adds(t, "Timetable", "weekday=3", "--count", "5")
			assert.Len(t, five.Rows, 5)
			free := s.adds(t, "Vessel", "home_pier=1", "name=Wide Lantern 7", "seats=120")
			assert.EqualValues(t, 1, free.Rows[0].Values["home_pier_id"], "found by its key")

			r := s.on("add", "Crew", "job=Cook", "--dry-run")
			assert.Zero(t, r.code, r.errOut)
			assert.Contains(t, r.out, "dry run: 1 row of Crew, all rolled back")
			for _, load := range []int64{free.Load, five.Load, z.Load, card.Load, y.Load, x.Load} {
				r := s.on("withdraw", fmt.Sprint(load))
				require.Zero(t, r.code, r.errOut)
			}
			assert.Equal(t, before, s.rows(t), "nothing is left of the additions")
			assert.Equal(t, "larkwater-add-7", s.adds(t, "Crew").Plan, "an addition that was withdrawn counts")
		},
	)
}

// What is not there is grown as well, and what an addition cannot do is refused at once.
func TestAdditionsWithoutALoad(t *testing.T) {
	onTables(t, demo.Schema, demo.Entities, func(t *testing.T, s *site) {
		x := s.adds(t, "Ticket", "price=9.00")
		var needed []string
		for _, n := range x.Needed {
			needed = append(needed, n.Entity)
		}
		assert.ElementsMatch(
			t,
			[]string{
				"FareClass",
				"FareClass",
				"FareClass",
				"FareClass",
				"Pier",
				"Vessel",
				"Timetable",
				"Sailing",
				"Passenger",
				"Booking",
			},
			needed,
		)
		assert.EqualValues(t, 9, x.Rows[0].Values["price"])
	})
}

func TestAdditionsThatAreRefused(t *testing.T) {
	f := newFolder(t)
	f.write("evensprout.yaml", demo.Entities)
	f.makeDB("larkwater.db", demo.Schema)
	require.Zero(t, f.run("load").code)
	before := f.dump("larkwater.db")
	for args, want := range map[string]string{
		"Pasenger":                                        "there is no entity Pasenger; did you mean Passenger?",
		"Passenger statsu=x":                              "Passenger has no field statsu; did you mean status?",
		"Passenger points=abc":                            `points=abc: "abc" is not a valid integer`,
		"Passenger given_name":                            "given_name is not FIELD=VALUE",
		"Passenger tel=1 tel=2":                           "tel is set twice",
		"Passenger --count 0":                             "--count must be between 1 and 1000, got 0",
		"Passenger --with Ticket:2":                       "Passenger has no child Ticket",
		"Passenger --with Booking:x":                      "--with must be an entity and a number",
		"Passenger --profile lapsed":                      "Passenger has no profile lapsed",
		"Booking --in Pier.x":                             "Booking does not refer to Pier",
		"Booking --in Passenger":                          "--in must be an entity and a row",
		"Booking passenger=Nobody":                        "passengers has no row Nobody",
		"Booking sailing=LW-9201":                         "did you mean LW-9",
		"Booking passenger=Taylor":                        "Taylor fits several rows of Passenger, such as those with",
		"FareClass code=ZONE":                             "how FareClass gets label, price: set them, as in label=",
		"Passenger status=odd":                            "does not hold",
		"Passenger points=1 --keep ada":                   "the plan has a row Passenger.ada already",
		"Passenger points=1 --keep a.b":                   "not a valid name for a row",
		"Passenger points=1 --keep x --count 2":           "--keep writes one row",
		"Passenger points=1 --ask":                        "--ask needs a terminal",
		"Passenger email=bo@example.com":                  "already exists",
		"Passenger given_name=" + strings.Repeat("x", 50): "holds 40 characters, and this has 50",
	} {
		r := f.run(append([]string{"add"}, strings.Fields(args)...)...)
		assert.NotZero(t, r.code, args)
		assert.Contains(t, r.errOut, want, args)
	}
	assert.Equal(t, before, f.dump("larkwater.db"))
}

// What stands in a row that is referred to does not get into the plan as anything but a value.
func TestAdditionsDoNotTrustRows(t *testing.T) {
	const nasty = `"}, given: {x: {id: 9}}}
  evil: {table: docks, rows: 5}
# {{{ ''`
	onTables(
		t,
		"CREATE TABLE docks (id {key}, code VARCHAR(200) NOT NULL UNIQUE, about JSON);\n"+
			"CREATE TABLE riders (id {key}, dock_id INTEGER NOT NULL REFERENCES docks (id), "+
			"name VARCHAR(20) NOT NULL);",
		"name: x\nseed: x\nclock: 2026-05-01T08:00:00Z\nentities:\n  Dock: {table: docks, keys: database, rows: 1, "+
			"fields: "+
			"{code: {count: 1}}}\n  Rider: {table: riders, keys: database, rows: 1, fields: {dock: {pick: Dock}, "+
			"name: {kind: given-name}}}\n",
		func(t *testing.T, s *site) {
			s.exec(t, "INSERT INTO docks (code, about) VALUES ('"+nasty+
				"', '{\"a\": \"}, b: 1\"}')")
			key := s.cells(t, "docks", "id")[0]
			x := s.adds(t, "Rider", "dock="+key)
			assert.Equal(t, key, fmt.Sprint(x.Rows[0].Values["dock_id"]))
			assert.Len(t, s.cells(t, "docks", "id"), 1)
		},
	)
}

// A row of a table without a primary key cannot be named, and that is said.
func TestAdditionsNameNoRowsWithoutKey(t *testing.T) {
	f := newFolder(t)
	f.makeDB("a.db", "CREATE TABLE docks (code TEXT NOT NULL UNIQUE);\nINSERT INTO docks VALUES ('north');\n"+
		"CREATE TABLE riders (id INTEGER PRIMARY KEY, dock TEXT NOT NULL REFERENCES docks (code));")
	r := f.run("add", "riders", "dock=north", "--db", "sqlite:a.db")
	assert.Equal(t, 2, r.code, r.errOut)
	assert.Contains(t, r.errOut, "dock=north: the table docks has no primary key, so its rows cannot be named")
}

// Without a plan, rows are added to the tables alone.
func TestAdditionsWithoutAPlan(t *testing.T) {
	f := newFolder(t)
	f.makeDB("app.db", `CREATE TABLE docks (id INTEGER PRIMARY KEY, code TEXT NOT NULL UNIQUE);
CREATE TABLE riders (id INTEGER PRIMARY KEY, dock_id INTEGER NOT NULL REFERENCES docks (id), email TEXT NOT NULL UNIQUE,
  status TEXT NOT NULL CHECK (status IN ('active', 'barred')));`)
	for range 3 {
		r := f.run("add", "riders", "status=barred", "--count", "2", "--db", "sqlite:app.db")
		require.Zero(t, r.code, r.errOut)
	}
	first := f.query("app.db", "SELECT code FROM docks ORDER BY id LIMIT 1")[0]
	r := f.run("add", "riders", "dock="+first, "--json", "--db", "sqlite:app.db")
	require.Zero(t, r.code, r.errOut)
	assert.Contains(t, r.out, `"dock_id": 1,`, "dock is dock_id, by the code of the dock")
	r = f.run("withdraw", "--db", "sqlite:app.db")
	require.Zero(t, r.code, r.errOut)
	assert.Equal(t, []string{"6"}, f.query("app.db", "SELECT count(*) FROM riders WHERE status = 'barred'"))
	assert.NotEqual(t, []string{"0"}, f.query("app.db", "SELECT count(*) FROM docks"))
}

// A row that is kept stands in the plan in one line more, and the next load writes it.
func TestAdditionsThatAreKept(t *testing.T) {
	f := newFolder(t)
	f.write("evensprout.yaml", demo.Entities)
	f.makeDB("larkwater.db", demo.Schema)
	require.Zero(t, f.run("load").code)
	r := f.run("add", "Passenger", "status=barred", "card=LW777777", "--keep", "lapsed", "--dry-run")
	require.Zero(t, r.code, r.errOut)
	assert.Equal(t, demo.Entities, f.read("evensprout.yaml"), "a dry run keeps nothing")
	r = f.run("add", "Passenger", "status=barred", "card=LW777777", "--keep", "lapsed")
	require.Zero(t, r.code, r.errOut)
	r = f.run("add", "Booking", "passenger=Passenger.ada", "sailing=1", "--keep", "sold")
	require.Zero(t, r.code, r.errOut)
	assert.Contains(t, r.out, "Not in the plan: sailing")
	var fresh []string
	lines := strings.Split(f.read("evensprout.yaml"), "\n")
	for _, line := range lines {
		if !strings.Contains(demo.Entities, line+"\n") {
			fresh = append(fresh, strings.TrimSpace(line))
		}
	}
	assert.Equal(t, []string{`lapsed: {status: "barred", card: "LW777777"}`, "sold: {Passenger: Passenger.ada}"}, fresh)
	assert.Len(t, lines, strings.Count(demo.Entities, "\n")+1+3, "given: of Booking is new, too")
	for range 2 {
		require.Zero(t, f.run("withdraw").code)
	}
	r = f.run("load", "--anew")
	require.Zero(t, r.code, r.errOut)
	assert.Contains(t, f.run("look", "passengers", "--where", "card = 'LW777777'").out, "barred")
}

// Rows whose keys are UUIDs are found and added like others.
func TestAdditionsWithUUIDs(t *testing.T) {
	const tables = `CREATE TABLE members (id {uuid} PRIMARY KEY, card VARCHAR(12) NOT NULL UNIQUE);
CREATE TABLE loans (id {key}, member_id {uuid} NOT NULL, FOREIGN KEY (member_id) REFERENCES members (id))`
	for _, e := range engines() {
		t.Run(e.name, func(t *testing.T) {
			kind := map[string]string{"sqlite": "TEXT", "postgres": "UUID", "mariadb": "UUID"}[e.name]
			s := &site{folder: newFolder(t), engine: e, script: strings.ReplaceAll(tables, "{uuid}", kind)}
			s.url = s.database(t)
			const id = "9f3a2c4e-1111-4222-8333-444455556677"
			x := s.adds(t, "members", "card=M-1", "id="+id)
			assert.Equal(t, id, x.Rows[0].Values["id"])
			y := s.adds(t, "loans", "member=M-1", "--count", "2")
			require.Len(t, y.Rows, 2)
			assert.Equal(t, id, y.Rows[1].Values["member_id"])
			z := s.adds(t, "loans", "member="+id)
			assert.Equal(t, id, z.Rows[0].Values["member_id"])
		})
	}
}

// Many people add rows at the same time: each gets a row of its own, whatever they add.
func TestManyAddAtOnce(t *testing.T) {
	const tables = "CREATE TABLE piers (id {key}, code VARCHAR(20) NOT NULL UNIQUE, label VARCHAR(40));" +
		"CREATE TABLE boats (id {key}, name VARCHAR(40) NOT NULL, pier_id INTEGER NOT NULL REFERENCES piers (id));"
	const entities = "name: quay\nseed: s\nclock: 2026-05-01T08:00:00Z\nentities:\n" +
		"  Pier:\n    table: piers\n    rows: 3\n    fields: {code: {pattern: \"P[0-9]{5}\", unique: true}, label: {kind: locality}}\n" +
		"  Boat:\n    table: boats\n    per: {Pier: 2}\n    fields: {name: {kind: locality}}\n"
	onTables(t, tables, entities, func(t *testing.T, s *site) {
		require.Zero(t, s.on("load").code)
		const people = 8
		results := make(chan result, people)
		for i := range people {
			go func() {
				if i%2 == 0 {
					results <- s.on("add", "--json", "Boat", fmt.Sprintf("name=Boat %d", i))
				} else {
					results <- s.on("add", "--json", "Pier", fmt.Sprintf("label=Pier %d", i))
				}
			}()
		}
		loads := map[int64]bool{}
		for range people {
			r := <-results
			require.Zero(t, r.code, r.errOut)
			var out anAddition
			require.NoError(t, json.Unmarshal([]byte(r.out), &out))
			require.Len(t, out.Rows, 1)
			assert.False(t, loads[out.Load], "load %d was another call's", out.Load)
			loads[out.Load] = true
		}
		assert.Equal(t, "4", s.answer(t, "SELECT count(*) FROM boats WHERE name LIKE 'Boat %'"))
		assert.Equal(t, "4", s.answer(t, "SELECT count(*) FROM piers WHERE label LIKE 'Pier %'"))
	})
}
