package load_test

import (
	"os"
	"path/filepath"
	"testing"

	"evensprout/internal/load"
	"evensprout/internal/loadtest"

	"evensprout/internal/journal"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/demo"
	"evensprout/internal/diag"
	"evensprout/internal/draft"
	"evensprout/internal/store"
)

// The sample is the same on every engine, as read back value by value.
func TestTheSampleIsTheSameOnEveryEngine(t *testing.T) {
	var first string
	var prints []string
	loadtest.OnEach(t, demo.Schema, func(t *testing.T, d *loadtest.DB) {
		r, err := d.Load(t, demo.Entities, load.Options{Jobs: 2, Chunk: 3000})
		require.NoError(t, err)
		var p []string
		for _, e := range r.Entities {
			p = append(p, e.Entity+" "+e.Fingerprint.String())
			assert.Equal(t, e.After, e.Inserted)
		}
		got := loadtest.Dump(t, d.Store)
		if first == "" {
			first, prints = got, p
		}
		assert.Equal(t, prints, p)
		assert.True(t, first == got, "another dump than on the first engine")
	})
}

// fare is an entity with one row and a mode.
func fare(write, row string) string {
	return "  Fare:\n    table: fares\n    write: " + write + "\n    given:\n      a: " + row + "\n"
}

// The table in docs/writing.md: what happens to a row that exists, does not exist, or
// collides elsewhere, in each mode.
func TestModes(t *testing.T) {
	const (
		there     = "{id: 7, code: DECK, label: Sun deck, price: 5.00}"
		missing   = "{id: 7, code: BIKE, label: Bicycle, price: 2.00}"
		collides  = "{id: 7, code: BIKE, label: Cabin, price: 2.00}"
		collides2 = "{id: 7, code: DECK, label: Cabin, price: 5.00}"
		same      = "{id: 7, code: DECK, label: Open deck, price: 4.50}"
	)
	type counts struct{ inserted, updated, unchanged, kept, unmatched int64 }
	for _, c := range []struct {
		name, write, row string
		want             counts
		refused          string // the constraint's column; empty if it goes through
		rows             []string
	}{
		{"insert a row that is there", "insert", there, counts{}, "code", nil},
		{"insert a row that is missing", "insert", missing, counts{inserted: 1}, "", []string{"1 DECK Open deck " +
			"4.50", "2 CABIN Cabin 19.00", "7 BIKE Bicycle 2.00"}},
		{"insert a row that collides", "insert", collides, counts{}, "label", nil},
		{"keep a row that is there", "{mode: keep, match: [code]}", there, counts{kept: 1}, "",
			[]string{"1 DECK Open " +
				"deck 4.50", "2 CABIN Cabin 19.00"}},
		{"keep a row that is missing", "{mode: keep, match: [code]}", missing, counts{inserted: 1}, "",
			[]string{"1 DECK Open " +
				"deck 4.50", "2 CABIN Cabin 19.00", "7 BIKE Bicycle 2.00"}},
		{"keep a row that collides", "{mode: keep, match: [code]}", collides, counts{}, "label", nil},
		{"keep what is there, though it collides", "{mode: keep, match: [code]}", collides2, counts{kept: 1}, "",
			[]string{"1 DECK Open " +
				"deck 4.50", "2 CABIN Cabin 19.00"}},
		{"upsert a row that is there", "{mode: upsert, match: [code]}", there, counts{updated: 1}, "",
			[]string{"1 DECK Sun " +
				"deck 5.00", "2 CABIN Cabin 19.00"}},
		{"upsert some columns", "{mode: upsert, match: [code], set: [price]}", there, counts{updated: 1}, "",
			[]string{"1 DECK Open " +
				"deck 5.00", "2 CABIN Cabin 19.00"}},
		{"upsert the same", "{mode: upsert, match: [code]}", same, counts{unchanged: 1}, "", []string{"1 DECK Open " +
			"deck 4.50", "2 CABIN Cabin 19.00"}},
		{"upsert a row that is missing", "{mode: upsert, match: [code]}", missing, counts{inserted: 1}, "",
			[]string{"1 DECK Open " +
				"deck 4.50", "2 CABIN Cabin 19.00", "7 BIKE Bicycle 2.00"}},
		{"upsert a row that collides", "{mode: upsert, match: [code]}", collides, counts{}, "label", nil},
		{"upsert into a collision", "{mode: upsert, match: [code]}", collides2, counts{}, "label", nil},
		{"update a row that is there", "{mode: update, match: [code]}", there, counts{updated: 1}, "",
			[]string{"1 DECK Sun " +
				"deck 5.00", "2 CABIN Cabin 19.00"}},
		{"update a row that is missing", "{mode: update, match: [code]}", missing, counts{unmatched: 1}, "",
			[]string{"1 DECK Open " +
				"deck 4.50", "2 CABIN Cabin 19.00"}},
		{"update the same", "{mode: update, match: [code]}", same, counts{unchanged: 1}, "", []string{"1 DECK Open " +
			"deck 4.50", "2 CABIN Cabin 19.00"}},
		{"update into a collision", "{mode: update, match: [code]}", collides2, counts{}, "label", nil},
		{"replace", "replace", there, counts{inserted: 1}, "", []string{"7 DECK Sun deck 5.00"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			loadtest.OnEach(t, loadtest.Fares, func(t *testing.T, d *loadtest.DB) {
				if c.refused != "" {
					r := d.Refused(t, fare(c.write, c.row), load.Options{})
					assert.Equal(t, store.Unique, r.Kind)
					assert.Equal(t, []string{c.refused}, r.Columns)
					assert.Equal(t, "Fare.a", r.Row)
					assert.NotEmpty(t, r.Other)
					return
				}
				e := d.Loaded(t, fare(c.write, c.row), load.Options{})["Fare"]
				assert.Equal(t, c.want, counts{e.Inserted, e.Updated, e.Unchanged, e.Kept, e.Unmatched})
				assert.Equal(t, c.rows, d.Table(t, "fares", "id", "code", "label", "price"))
			})
		})
	}
}

// A stamp changes only together with another column.
func TestStamps(t *testing.T) {
	loadtest.OnEach(t, loadtest.Fares, func(t *testing.T, d *loadtest.DB) {
		const plan = "  Fare:\n    table: fares\n    write: {mode: upsert, match: [code], set: [price], stamp: " +
			"[updated_at]}\n" +
			"    fields: {updated_at: {value: 2026-05-02T10:00:00Z}}\n    given:\n      deck: {id: 5, code: DECK, " +
			"label: x, price: 4.50}\n      cabin: {id: 6, code: CABIN, label: y, price: 20.00}\n"
		for _, want := range []journal.Entity{{Updated: 1, Unchanged: 1}, {Unchanged: 2}} {
			e := d.Loaded(t, plan, load.Options{})["Fare"]
			assert.Equal(t, [2]int64{want.Updated, want.Unchanged}, [2]int64{e.Updated, e.Unchanged})
			assert.Equal(
				t,
				[]string{"1 Open deck 4.50 NULL", "2 Cabin 20.00 2026-05-02T10:00:00Z"},
				d.Table(t, "fares", "id", "label", "price", "updated_at"),
			)
		}
	})
}

// Texts that a collation holds for equal are not: bytes count.
func TestUnchangedMeansTheSameBytes(t *testing.T) {
	loadtest.OnEach(t, loadtest.Fares, func(t *testing.T, d *loadtest.DB) {
		e := d.Loaded(t, fare("{mode: upsert, match: [code]}", "{id: 7, code: DECK, label: OPEN DECK, price: 4.50}"),
			load.Options{})["Fare"]
		assert.Equal(t, int64(1), e.Updated)
		assert.Equal(t, "OPEN DECK", d.Table(t, "fares", "label")[0])
	})
}

// NULL is a value, too.
func TestUpdatesToAndFromNull(t *testing.T) {
	loadtest.OnEach(
		t,
		"CREATE TABLE piers (id INTEGER PRIMARY KEY, note VARCHAR(9), depth INTEGER); INSERT INTO piers VALUES (1, "+
			"'a', NULL), (2, NULL, 5), (3, NULL, NULL);",
		func(t *testing.T, d *loadtest.DB) {
			e := d.Loaded(t, "  Pier: {table: piers, write: update, given: {a: {id: 1, note: null, depth: 4}, b: "+
				"{id: 2, note: null, depth: null}, c: {id: 3, note: null, depth: null}}}\n", load.Options{})["Pier"]
			assert.Equal(t, int64(2), e.Updated)
			assert.Equal(t, int64(1), e.Unchanged)
			assert.Equal(t, []string{"1 NULL 4", "2 NULL NULL", "3 NULL NULL"}, d.Table(t, "piers"))
		},
	)
}

func TestMatchNeedsAUniqueKeyBehindIt(t *testing.T) {
	loadtest.OnEach(t, loadtest.Fares, func(t *testing.T, d *loadtest.DB) {
		for _, mode := range []string{"keep", "upsert", "update"} {
			_, err := d.TryCompile(
				t,
				fare("{mode: "+mode+", match: [price]}", "{id: 7, code: DECK, label: x, price: 4.50}"),
			)
			var p diag.Problems
			require.ErrorAs(t, err, &p)
			assert.Contains(
				t,
				p.Error(),
				"match: price does not identify one row of fares: the table has no unique key over exactly these "+
					"columns",
			)
			assert.True(t, p.OnlyDatabase())
		}
		_, err := d.TryCompile(t, fare("upsert", "{id: 7, code: DECK, label: x, price: 4.50}"))
		assert.ErrorContains(t, err, "upsert: rows of fares can be identified by several keys: [id] and [code] and "+
			"[label]")
	})
}

func TestTwoRowsWithOneMatchAreAViolation(t *testing.T) {
	loadtest.OnEach(t, loadtest.Fares, func(t *testing.T, d *loadtest.DB) {
		const rows = "  Fare:\n    table: fares\n    write: {mode: upsert, match: [code]}\n    given:\n      a: " +
			"{id: 7, code: BIKE, label: x, price: 1}\n      b: {id: 8, code: BIKE, label: y, price: 2}\n"
		for _, chunk := range []uint64{100, 1} { // in one chunk, and in two
			r := d.Refused(t, rows, load.Options{Chunk: chunk})
			assert.Equal(t, "Fare.b", r.Row)
			assert.Equal(t, []string{"code"}, r.Columns)
		}
	})
}

// A spreadsheet applied to rows that are there, with what it does not find.
func TestAFileAsUpdates(t *testing.T) {
	loadtest.OnEach(t, loadtest.Fares, func(t *testing.T, d *loadtest.DB) {
		folder := t.TempDir()
		require.NoError(
			t,
			os.WriteFile(
				filepath.Join(folder, "prices.csv"),
				[]byte("Code,New\nDECK,5.25\nNONE,1.00\nCABIN,19.00\nNADA,2.00\n"),
				0o644,
			),
		)
		var changes []load.Changed
		var left []load.Rejection
		o := load.Options{
			Changed:  func(c load.Changed) error { changes = append(changes, c); return nil },
			Rejected: func(r load.Rejection) error { left = append(left, r); return nil },
		}
		r, err := d.Load(
			t,
			"  Fare:\n    table: fares\n    write: {mode: update, match: [code], set: [price]}\n    rows_from: "+
				"{file: "+filepath.Join(
				folder,
				"prices.csv",
			)+", key: [code], columns: {code: Code, price: {column: New, as: decimal}}}\n",
			o,
		)
		require.NoError(t, err)
		e := r.Entities[0]
		assert.Equal(t, [4]int64{0, 1, 1, 2}, [4]int64{e.Inserted, e.Updated, e.Unchanged, e.Unmatched})
		require.Len(t, r.Unmatched, 2)
		assert.Equal(t, filepath.Join(folder, "prices.csv")+":3", r.Unmatched[0].Place)
		assert.Equal(t, []string{"NONE"}, r.Unmatched[0].Values)
		assert.Contains(t, r.Unmatched[1].Error(), `code "NADA": no row of fares has this key`)
		require.Len(t, changes, 1)
		assert.Equal(t, "4.50", changes[0].From.String())
		assert.Equal(t, "5.25", changes[0].To.String())
		assert.Equal(t, 2, changes[0].Line)
		assert.Len(t, left, 2)
		assert.Equal(t, []string{"1 DECK 5.25", "2 CABIN 19.00"}, d.Table(t, "fares", "id", "code", "price"))
		stop := d.Refused(
			t,
			"  Fare:\n    table: fares\n    write: {mode: update, match: [code], set: [price]}\n    on_violation: "+
				"{row_count: stop}\n    given: {a: {code: NONE, price: 1}}\n",
			load.Options{},
		)
		assert.Equal(t, store.RowCount, stop.Kind)
	})
}

const vessels = `
CREATE TABLE vessels (id {key}, code VARCHAR(8) NOT NULL UNIQUE, name VARCHAR(20) NOT NULL);
CREATE TABLE trips (id {key}, vessel_id INTEGER NOT NULL REFERENCES vessels (id), day INTEGER NOT NULL,
  note VARCHAR(20));
`

// A row that was there keeps its key, and the new rows below refer to that one.
func TestRowsThatWereThereKeepTheirKeys(t *testing.T) {
	for _, mode := range []string{"keep", "upsert", "update"} {
		loadtest.OnEach(
			t,
			vessels+"INSERT INTO vessels (id, code, name) VALUES (77, 'HERON', 'Heron'), (88, 'TERN', 'Tern');",
			func(t *testing.T, d *loadtest.DB) {
				e := d.Loaded(
					t,
					"  Vessel:\n    table: vessels\n    write: {mode: "+mode+", match: [code]}\n    given: {h: "+
						"{code: HERON, name: Old Heron}, t: {code: TERN, name: Tern}}\n"+
						"  Trip: {table: trips, per: {Vessel: 2}, fields: {day: {count: {restart: true}}}}\n",
					load.Options{},
				)
				assert.Equal(t, int64(4), e["Trip"].Inserted)
				assert.Equal(t, []string{"77 1", "77 2", "88 1", "88 2"}, d.Table(t, "trips", "vessel_id", "day"))
			},
		)
	}
}

func TestTheDatabaseGivesKeys(t *testing.T) {
	loadtest.OnEach(
		t,
		vessels+"INSERT INTO vessels (code, name) VALUES ('HERON', 'Heron');",
		func(t *testing.T, d *loadtest.DB) {
			e := d.Loaded(
				t,
				"  Vessel: {table: vessels, keys: database, rows: 1200, fields: {code: {pattern: \"[A-Z]{6}\", "+
					"unique: "+
					"true}, name: {kind: noun}}}\n"+
					"  Trip: {table: trips, keys: database, per: {Vessel: 2}, fields: {day: {count: {restart: true}}, "+
					"note: {same: Vessel.code}}}\n",
				load.Options{Chunk: 500},
			)
			assert.Equal(t, int64(1200), e["Vessel"].Inserted)
			names := map[string]string{}
			for _, line := range d.Table(t, "vessels", "id", "code") {
				var id, code string
				id, code = cutTwo(line)
				names[id] = code
			}
			trips := d.Table(t, "trips", "vessel_id", "note")
			assert.Len(t, trips, 2400)
			for _, line := range trips {
				id, note := cutTwo(line)
				require.Equal(t, names[id], note, "the trip refers to its own vessel")
			}
		},
	)
}

func cutTwo(line string) (string, string) {
	for i := range line {
		if line[i] == ' ' {
			return line[:i], line[i+1:]
		}
	}
	return line, ""
}

// The application's next row gets a key beyond the planned ones.
func TestCountersMoveOn(t *testing.T) {
	loadtest.OnEach(t, vessels, func(t *testing.T, d *loadtest.DB) {
		d.Loaded(
			t,
			"  Vessel: {table: vessels, rows: 40, fields: {code: {pattern: \"[A-Z]{6}\", unique: true}, name: "+
				"{kind: noun}}}\n",
			load.Options{},
		)
		e := d.Loaded(
			t,
			"  Vessel: {table: vessels, keys: database, given: {next: {code: NEXT, name: Next}}}\n",
			load.Options{},
		)
		assert.Equal(t, int64(1), e["Vessel"].Inserted)
		var key string
		for _, line := range d.Table(t, "vessels", "id", "code") {
			if id, code := cutTwo(line); code == "NEXT" {
				key = id
			}
		}
		assert.Regexp(t, `^4\d$`, key)
	})
}

func TestOtherRowsWithPlannedKeysAreFound(t *testing.T) {
	loadtest.OnEach(
		t,
		vessels+"INSERT INTO vessels (id, code, name) VALUES (30, 'HERON', 'Heron');",
		func(t *testing.T, d *loadtest.DB) {
			_, err := d.Load(
				t,
				"  Vessel: {table: vessels, rows: 40, fields: {code: {pattern: \"[A-Z]{6}\", unique: true}, name: "+
					"{kind: noun}}}\n",
				load.Options{},
			)
			var present *load.Present
			require.ErrorAs(t, err, &present)
			assert.Equal(t, "1 with keys in the planned range (id from 1 to 40)", present.Tables[0].Found)
		},
	)
}

// Rows of the database can be picked, and found by what they are called.
func TestExistingRowsArePicked(t *testing.T) {
	loadtest.OnEach(
		t,
		vessels+"INSERT INTO vessels (id, code, name) VALUES (77, 'HERON', 'Heron'), (88, 'TERN', 'Tern');",
		func(t *testing.T, d *loadtest.DB) {
			e := d.Loaded(
				t,
				"  Vessel: {table: vessels, rows: existing}\n  Trip: {table: trips, rows: 40, fields: {vessel: "+
					"{pick: Vessel}, day: 1, note: {same: vessel.name}}}\n",
				load.Options{},
			)
			assert.Len(t, e, 1, "what is there is not written")
			lines := map[string]int{}
			for _, line := range d.Table(t, "trips", "vessel_id", "note") {
				lines[line]++
			}
			assert.Equal(t, map[string]int{"77 Heron": 20, "88 Tern": 20}, lines)
		},
	)
}

// Rows of a file find rows of the database by a natural key of several columns.
func TestExistingRowsAreFoundByTheirKeys(t *testing.T) {
	loadtest.OnEach(
		t,
		vessels+"INSERT INTO vessels (id, code, name) VALUES (77, 'A', 'one'), (88, 'B', 'one'), (99, 'C', 'two');",
		func(t *testing.T, d *loadtest.DB) {
			folder := t.TempDir()
			path := filepath.Join(folder, "trips.csv")
			require.NoError(t, os.WriteFile(path, []byte("Code,Name,Day\nB,one,1\nC,two,2\n"), 0o644))
			entities := "  Vessel: {table: vessels, rows: existing}\n  Trip:\n    table: trips\n    rows_from: " +
				"{file: " + path + ", columns: {day: Day, vessel: {find: {Vessel: {code: Code, name: Name}}}}}\n"
			d.Loaded(t, entities, load.Options{})
			assert.Equal(t, []string{"88 1", "99 2"}, d.Table(t, "trips", "vessel_id", "day"))
			require.NoError(t, os.WriteFile(path, []byte("Code,Name,Day\nB,two,1\nC,two,2\n"), 0o644))
			_, err := d.TryCompile(t, entities)
			assert.ErrorContains(t, err, `no Vessel has the code and name "B" and "two"`)
			assert.ErrorContains(t, err, "trips.csv:2:1")
		},
	)
}

// The plain draft of the sample's tables loads on every engine as it is.
func TestDraftsLoad(t *testing.T) {
	loadtest.OnEach(t, demo.Schema, func(t *testing.T, d *loadtest.DB) {
		tables, err := d.Store.Survey(t.Context())
		require.NoError(t, err)
		drafted, err := draft.Make(t.Context(), tables, draft.Options{Name: "drafted"})
		require.NoError(t, err)
		text := drafted.Write(draft.Options{Name: "drafted"})
		assert.Contains(t, text, "{choose: {active: 10, dormant: 10, barred: 2}}")
		assert.Contains(t, text, "{between: [40, 400]}")
		r, err := d.Load(t, text, load.Options{})
		require.NoError(t, err)
		assert.Greater(t, r.Rows, int64(1000))
	})
}

// A value that an enumeration does not have is foreseen.
func TestEnumerations(t *testing.T) {
	for _, e := range loadtest.Engines() {
		script := map[string]string{
			"postgres": "CREATE TYPE mood AS ENUM ('calm', 'rough'); CREATE TABLE days (id INTEGER PRIMARY KEY, " +
				"weather mood NOT NULL);",
			"mariadb": "CREATE TABLE days (id INTEGER PRIMARY KEY, weather ENUM('calm', 'rough') NOT NULL);",
		}[e.Name]
		if script == "" {
			continue
		}
		t.Run(e.Name, func(t *testing.T) {
			d := &loadtest.DB{Engine: e, URL: e.Make(t, script)}
			d.Store = d.Open(t)
			_, err := d.TryCompile(t, "  Day: {table: days, rows: 9, fields: {weather: {choose: [calm, ruogh]}}}\n")
			assert.ErrorContains(t, err, `weather can be "ruogh"`)
			assert.ErrorContains(t, err, `did you mean "rough"?`)
			e := d.Loaded(
				t,
				"  Day: {table: days, rows: 9, fields: {weather: {choose: [calm, rough]}}}\n",
				load.Options{},
			)
			assert.Equal(t, int64(9), e["Day"].Inserted)
			e = d.Loaded(t, "  Day: {table: days, write: upsert, rows: 9, fields: {weather: rough}}\n", load.Options{})
			assert.Equal(t, int64(9), e["Day"].Updated+e["Day"].Unchanged)
		})
	}
}

// A grown row refers to the one row of the database that has a natural key.
func TestExactlyOneExistingRow(t *testing.T) {
	loadtest.OnEach(
		t,
		vessels+"INSERT INTO vessels (id, code, name) VALUES (77, 'A', 'one'), (88, 'B', 'one'), (99, 'C', 'two');",
		func(t *testing.T, d *loadtest.DB) {
			entities := func(where string) string {
				return "  Vessel: {table: vessels, rows: existing}\n  Trip: {table: trips, rows: 3, fields: {day: " +
					"1, vessel: {pick: Vessel, where: " + where + ", one: true}}}\n"
			}
			for where, want := range map[string]string{
				"{name: one}": "2 rows of Vessel meet the conditions; exactly one must", "{code: D}": "0 rows of " +
					"Vessel meet the conditions",
			} {
				_, err := d.TryCompile(t, entities(where))
				assert.ErrorContains(t, err, want)
			}
			d.Loaded(t, entities("{name: one, code: B}"), load.Options{})
			assert.Equal(t, []string{"88", "88", "88"}, d.Table(t, "trips", "vessel_id"))
		},
	)
}

// A column that always numbers itself takes planned keys, keeps them in updates, and
// goes on behind them.
func TestColumnsThatAlwaysNumberThemselves(t *testing.T) {
	for _, e := range loadtest.Engines() {
		if e.Name != "postgres" {
			continue
		}
		d := &loadtest.DB{
			Engine: e,
			URL: e.Make(
				t,
				"CREATE TABLE piers (id INTEGER GENERATED ALWAYS AS IDENTITY PRIMARY KEY, code VARCHAR(5) NOT NULL "+
					"UNIQUE, depth INTEGER);",
			),
		}
		d.Store = d.Open(t)
		made := d.Loaded(
			t,
			"  Pier: {table: piers, rows: 5, fields: {code: {pattern: \"[A-Z]{5}\", unique: true}, depth: 1}}\n",
			load.Options{},
		)
		assert.Equal(t, int64(5), made["Pier"].Inserted)
		made = d.Loaded(
			t,
			"  Pier: {table: piers, write: {mode: upsert, match: [code]}, rows: 8, fields: {code: {pattern: "+
				"\"[A-Z]{5}\", unique: true}, depth: 2}}\n",
			load.Options{},
		)
		assert.Equal(t, [2]int64{3, 5}, [2]int64{made["Pier"].Inserted, made["Pier"].Updated})
		made = d.Loaded(
			t,
			"  Pier: {table: piers, keys: database, given: {next: {code: NEXT, depth: 3}}}\n",
			load.Options{},
		)
		assert.Equal(t, int64(1), made["Pier"].Inserted)
		assert.Equal(
			t,
			[]string{"1 2", "2 2", "3 2", "4 2", "5 2", "6 2", "7 2", "8 2", "9 3"},
			d.Table(t, "piers", "id", "depth"),
		)
	}
}
