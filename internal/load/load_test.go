package load_test

import (
	"context"
	"path/filepath"
	"strings"
	"testing"

	"evensprout/internal/load"
	"evensprout/internal/loadtest"

	"evensprout/internal/journal"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/demo"
	"evensprout/internal/plan"
	"evensprout/internal/store"
	"evensprout/internal/store/sqlite"
	"evensprout/internal/store/storetest"
	"evensprout/internal/value"
)

// database is a new file with the tables of a script.
func TestMain(m *testing.M) { storetest.Main(m) }

func database(t *testing.T, script string) store.Store {
	t.Helper()
	path := filepath.Join(t.TempDir(), "test.db")
	require.NoError(t, sqlite.Create(path, script))
	s, err := sqlite.Driver{}.Open(t.Context(), "sqlite:"+path)
	require.NoError(t, err)
	t.Cleanup(func() { s.Close() })
	return s
}

func compile(t *testing.T, s store.Store, text string) *plan.Compiled {
	t.Helper()
	p, err := plan.Read("plan.yaml", []byte(text))
	require.NoError(t, err)
	db, err := s.Survey(t.Context())
	require.NoError(t, err)
	c, err := p.Compile(plan.Options{Database: db})
	require.NoError(t, err)
	return c
}

func TestTheSampleIsTheSameHoweverItIsLoaded(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes long")
	}
	var dumps []string
	for _, o := range []load.Options{{}, {Jobs: 7, Chunk: 1}, {Jobs: 3, Chunk: 333}, {Jobs: 1, Chunk: 1_000_000}} {
		s := database(t, demo.Schema)
		c := compile(t, s, demo.Entities)
		r, err := load.Run(t.Context(), c, s, o)
		require.NoError(t, err)
		prints, err := c.Set.Fingerprints(t.Context(), 2)
		require.NoError(t, err)
		for _, e := range r.Entities {
			for i, target := range c.Targets {
				if target.Plan.Name == e.Entity {
					assert.Equal(t, prints[i], e.Fingerprint, e.Entity)
					assert.Equal(t, int64(target.Grow.Total()), e.Inserted)
					assert.Equal(t, e.Before+e.Inserted, e.After)
				}
			}
		}
		dumps = append(dumps, loadtest.Dump(t, s))
	}
	for _, d := range dumps[1:] {
		assert.True(t, dumps[0] == d, "another dump")
	}
}

// What the sample promises, as the database itself sees it.
func TestTheSampleHoldsTogether(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes long")
	}
	s := database(t, demo.Schema+`
CREATE VIEW wrong_totals AS SELECT b.id FROM bookings b
  JOIN tickets t ON t.booking_id = b.id GROUP BY b.id HAVING round(100 * b.total) <> round(100 * sum(t.price));
CREATE TABLE answers (question TEXT PRIMARY KEY, n INTEGER);`)
	c := compile(t, s, demo.Entities)
	_, err := load.Run(t.Context(), c, s, load.Options{})
	require.NoError(t, err)
	rows := func(table string) [][]string {
		db, err := s.Survey(t.Context())
		require.NoError(t, err)
		var out [][]string
		tb := db.Table(table)
		require.NoError(
			t,
			s.Select(t.Context(), store.Query{Table: tb, Columns: tb.Columns}, func(row []value.Value) error {
				var line []string
				for _, v := range row {
					line = append(line, v.String())
				}
				out = append(out, line)
				return nil
			}),
		)
		return out
	}
	totals, prices := map[string]int64{}, map[string]int64{}
	for _, r := range rows("tickets") {
		p, err := value.ParseDecimal(r[5])
		require.NoError(t, err)
		totals[r[1]] += p.N
		prices[r[4]+r[5]]++
	}
	assert.Len(t, prices, 4, "a ticket costs what its class costs")
	for _, r := range rows("bookings") {
		p, err := value.ParseDecimal(r[6])
		require.NoError(t, err)
		assert.Equal(t, totals[r[0]], p.N, "booking %s", r[0])
		assert.Less(t, r[4], "2026-05-01T08:00:00Z")
	}
	active, emails := 0, map[string]bool{}
	for _, r := range rows("passengers") {
		if r[6] == "active" {
			active++
		}
		emails[r[3]] = true
		assert.True(t, r[9] == "NULL" || r[9] > r[8], "seen before joining: %v", r)
	}
	assert.InDelta(t, 4001, active, 8)
	assert.Len(t, emails, 5002)
}

func TestASecondLoadStopsBeforeTheFirstRow(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes long")
	}
	s := database(t, demo.Schema)
	c := compile(t, s, demo.Entities)
	_, err := load.Run(t.Context(), c, s, load.Options{})
	require.NoError(t, err)
	before := loadtest.Dump(t, s)
	_, err = load.Run(t.Context(), c, s, load.Options{})
	var present *load.Present
	require.ErrorAs(t, err, &present)
	assert.Len(t, present.Tables, 11)
	assert.Contains(t, err.Error(), "passengers holds 5002 rows: Passenger.ada, field for field")
	assert.Equal(t, before, loadtest.Dump(t, s))

	guarded := compile(t, s, strings.Replace(demo.Entities, "entities:", "when: empty\nentities:", 1))
	r, err := load.Run(t.Context(), guarded, s, load.Options{})
	require.NoError(t, err)
	assert.Zero(t, r.Rows)
	for _, e := range r.Entities {
		assert.True(t, e.Skipped)
	}
	assert.Equal(t, before, loadtest.Dump(t, s))
}

const boats = `
CREATE TABLE piers (id INTEGER PRIMARY KEY, code VARCHAR(5) NOT NULL UNIQUE);
CREATE TABLE boats (id INTEGER PRIMARY KEY, pier_id INTEGER NOT NULL REFERENCES piers (id),
  label VARCHAR(9) NOT NULL, UNIQUE (pier_id, label));
`

const boatsPlan = loadtest.Head + `  Pier: {table: piers, rows: 40, fields: {code: {pattern: "[A-Z]{5}", unique: true}}}
  Boat: {table: boats, per: {Pier: 3}, fields: {label: {choose: [Heron, Tern, Swift, Wren, Lark, Otter]}}}
`

func TestAViolationIsToldInThePlansWords(t *testing.T) {
	s := database(t, boats)
	before := loadtest.Dump(t, s)
	_, err := load.Run(t.Context(), compile(t, s, boatsPlan), s, load.Options{})
	var r *journal.Refusal
	require.ErrorAs(t, err, &r)
	assert.Equal(t, store.Unique, r.Kind)
	assert.Equal(t, "Boat", r.Entity)
	assert.Regexp(t, `^Boat row \d+$`, r.Row)
	assert.Equal(t, []string{"Pier", "label"}, r.Fields)
	assert.Equal(t, []string{"pier_id", "label"}, r.Columns)
	assert.Equal(t, "UNIQUE (pier_id, label)", r.Constraint)
	assert.Regexp(t, `^Boat row \d+ \(id \d+\), which this load wrote earlier$`, r.Other)
	assert.Equal(t, "add unique: [[Pier, label]] to Boat in the plan", r.Hint)
	assert.Equal(t, before, loadtest.Dump(t, s), "nothing stays")
	followed := strings.Replace(boatsPlan, "per: {Pier: 3}", "per: {Pier: 3}, unique: [[Pier, label]]", 1)
	_, err = load.Run(t.Context(), compile(t, s, followed), s, load.Options{})
	require.NoError(t, err)
}

func TestAKeyThatBelongsToAnotherRowIsFoundBeforehand(t *testing.T) {
	s := database(t, boats+"INSERT INTO piers VALUES (1, 'OTHER');")
	_, err := load.Run(t.Context(), compile(t, s, boatsPlan), s, load.Options{})
	var present *load.Present
	require.ErrorAs(t, err, &present)
	assert.Equal(t, "the key of Pier row 0 (id 1), at another row", present.Tables[0].Found)
}

func TestRowsBesideOthersAreFine(t *testing.T) {
	s := database(t, boats+"INSERT INTO piers VALUES (900, 'OTHER');")
	c := compile(t, s, loadtest.Head+`  Pier: {table: piers, rows: 40, fields: {code: {pattern: "[A-Z]{5}", `+
		`unique: true}}}`)
	prints, err := c.Set.Fingerprints(t.Context(), 1)
	require.NoError(t, err)
	r, err := load.Run(t.Context(), c, s, load.Options{})
	require.NoError(t, err)
	assert.Equal(
		t,
		journal.Entity{
			Entity:      "Pier",
			Table:       "piers",
			Mode:        plan.Insert,
			Before:      1,
			Inserted:    40,
			After:       41,
			Fingerprint: prints[0],
		},
		r.Entities[0],
	)
}

// A circle of references is held against the tables at the end.
func TestCirclesLoad(t *testing.T) {
	s := database(t, `
CREATE TABLE captains (id INTEGER PRIMARY KEY, ship_id INTEGER NOT NULL REFERENCES ships (id));
CREATE TABLE ships (id INTEGER PRIMARY KEY, captain_id INTEGER NOT NULL REFERENCES captains (id));`)
	c := compile(
		t,
		s,
		loadtest.Head+"  Captain: {table: captains, rows: 9, fields: {ship: {pick: Ship}}}\n  Ship: {table: ships, "+
			"rows: 5, fields: {captain: {pick: Captain}}}\n",
	)
	r, err := load.Run(t.Context(), c, s, load.Options{Chunk: 2})
	require.NoError(t, err)
	assert.Equal(t, int64(14), r.Rows)
}

func TestALateReferenceToNothingNamesTheRow(t *testing.T) {
	s := database(t, `
CREATE TABLE captains (id INTEGER PRIMARY KEY, ship_id INTEGER NOT NULL REFERENCES ships (id), second_id INTEGER
  REFERENCES ships (id));
CREATE TABLE ships (id INTEGER PRIMARY KEY, captain_id INTEGER NOT NULL REFERENCES captains (id));`)
	c := compile(
		t,
		s,
		loadtest.Head+"  Captain: {table: captains, rows: 9, fields: {ship: {pick: Ship}, second: {value: 77, "+
			"column: second_id}}}\n  Ship: {table: ships, rows: 5, fields: {captain: {pick: Captain}}}\n",
	)
	_, err := load.Run(t.Context(), c, s, load.Options{})
	var r *journal.Refusal
	require.ErrorAs(t, err, &r)
	assert.Equal(t, store.ForeignKey, r.Kind)
	assert.Equal(t, "Captain row 0", r.Row)
}

// A trigger that adds rows of its own makes the counts disagree: that is told.
func TestCountsThatDoNotAddUp(t *testing.T) {
	s := database(
		t,
		boats+"CREATE TRIGGER more AFTER INSERT ON piers WHEN NEW.id = 3 BEGIN INSERT INTO piers VALUES (900, "+
			"'EXTRA'); END;",
	)
	before := loadtest.Dump(t, s)
	_, err := load.Run(
		t.Context(),
		compile(t, s, loadtest.Head+`  Pier: {table: piers, rows: 40, fields: {code: {pattern: "[A-Z]{5}", unique: `+
			`true}}}`),
		s,
		load.Options{},
	)
	var r *journal.Refusal
	require.ErrorAs(t, err, &r)
	assert.Equal(t, store.ViolationKind("row_count"), r.Kind)
	assert.Contains(t, r.Message, "0 rows, 40 were inserted, and it now has 41:")
	assert.Equal(t, before, loadtest.Dump(t, s))
}

func TestAnInterruptedLoadLeavesNothing(t *testing.T) {
	s := database(t, demo.Schema)
	c := compile(t, s, demo.Entities)
	ctx, cancel := context.WithCancel(t.Context())
	_, err := load.Run(ctx, c, s, load.Options{Chunk: 100, Progress: func(p load.Progress) {
		if p.Done > 10_000 {
			cancel()
		}
	}})
	require.ErrorIs(t, err, context.Canceled)
	for _, target := range c.Targets {
		n, err := s.Count(t.Context(), target.Table)
		require.NoError(t, err)
		assert.Zero(t, n, target.Plan.Name)
	}
}

// A million rows into SQLite, growing included; see docs/performance.md.
func BenchmarkLoad(b *testing.B) {
	for b.Loop() {
		path := filepath.Join(b.TempDir(), "bench.db")
		require.NoError(b, sqlite.Create(path, benchTable))
		s, err := sqlite.Driver{}.Open(b.Context(), "sqlite:"+path)
		require.NoError(b, err)
		p, err := plan.Read("plan.yaml", []byte(loadtest.Head+benchEntity))
		require.NoError(b, err)
		db, err := s.Survey(b.Context())
		require.NoError(b, err)
		c, err := p.Compile(plan.Options{Database: db})
		require.NoError(b, err)
		r, err := load.Run(b.Context(), c, s, load.Options{Jobs: 2})
		require.NoError(b, err)
		b.ReportMetric(float64(r.Rows)/r.Elapsed.Seconds(), "rows/s")
		require.NoError(b, s.Close())
	}
}

// benchTable and benchEntity are a table of seven columns and its rows.
const (
	benchTable = "CREATE TABLE readings (id INTEGER PRIMARY KEY, code TEXT NOT NULL UNIQUE, label TEXT NOT NULL, " +
		"status TEXT NOT NULL, level INTEGER NOT NULL, price DECIMAL(8,2) NOT NULL, taken_at TIMESTAMP NOT NULL)"
	benchEntity = `  Reading:
    table: readings
    rows: 200000
    fields:
      code:     {pattern: "[A-HJ-NP-Z]{2}[0-9]{8}", unique: true}
      label:    {kind: name}
      status:   {choose: {active: 80, dormant: 15, barred: 5}}
      level:    {between: 1..100000}
      price:    {between: [1.00, 99.95], step: 0.05}
      taken_at: {before: clock, within: 400d}
`
)
