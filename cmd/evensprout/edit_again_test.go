package main

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const clockPlan = `name: clock
seed: c
clock: 2026-05-01T08:00:00Z
entities:
  Trip:
    table: trips
    rows: 40
    fields:
      starts_at:  {between: [2026-04-30T00:00:00Z, 2026-05-03T00:00:00Z]}
      state:      {derive: "starts_at < clock ? 'done' : 'planned'"}
      note:       {text: "as of {clock}"}
      updated_at: {value: clock}
`

// The plan's clock stands in expressions, in texts and as a value.
func TestTheClockInExpressions(t *testing.T) {
	tables := "CREATE TABLE trips (id {key}, starts_at TIMESTAMP NULL, state VARCHAR(20) NOT NULL, note " +
		"VARCHAR(80), updated_at TIMESTAMP NULL);"
	onTables(t, tables, clockPlan, func(t *testing.T, s *site) {
		r := s.on("load")
		require.Zero(t, r.code, r.errOut)
		states := strings.Join(s.column(t, "trips", "state"), " ")
		assert.Contains(t, states, "done")
		assert.Contains(t, states, "planned")
		assert.Equal(t, "as of 2026-05-01T08:00:00Z", s.column(t, "trips", "note")[0])
		for _, at := range s.column(t, "trips", "updated_at") {
			assert.Regexp(t, `^2026-05-01[T ]08:00:00`, at)
		}
		assert.Zero(t, s.on("compare").code)

		s.write("evensprout.yaml", strings.Replace(clockPlan, "{value: clock}", "clock", 1))
		r = s.on("check")
		assert.Equal(t, 4, r.code, r.errOut)
		assert.Contains(t, r.errOut, "the plan's clock as {value: clock}")
	})
}

const editPlan = `name: start
seed: SEED
clock: 2026-05-01T08:00:00Z
entities:
  Port:
    table: ports
    rows: 8
    fields: {code: {pattern: "P[0-9]{5}", unique: true}, label: {kind: locality}}
  Berth:
    table: berths
    per: {Port: 2}
    fields: {number: {between: [1, 90]}}
units:
  note:
    per: {Port: 1}
    steps:
      - insert: notes
        set: {port_id: Port, words: "'noted'"}
`

// Edit, and run again: one step takes the rows back and loads the plan as it is now.
func TestAnew(t *testing.T) {
	onTables(t, emptyLinkTables, editPlan, func(t *testing.T, s *site) {
		before := s.rows(t)
		edit := func(seed string) { s.write("evensprout.yaml", strings.Replace(editPlan, "SEED", seed, 1)) }
		edit("one")
		r := s.on("load", "--anew")
		require.Zero(t, r.code, r.errOut)
		first := s.rows(t)

		edit("two")
		r = s.on("load")
		assert.Equal(t, 4, r.code)
		assert.Contains(
			t,
			r.errOut,
			"two\n       evensprout load --anew replaces the earlier rows by those of the plan as it is now;",
		)
		r = s.on("load", "--anew", "--dry-run")
		assert.Zero(t, r.code, r.errOut)
		assert.Equal(t, first, s.rows(t))
		r = s.on("load", "--anew")
		require.Zero(t, r.code, r.errOut)
		second := s.rows(t)
		assert.NotEqual(t, first, second)
		assert.Len(t, s.column(t, "notes", "id"), 8)
		r = s.on("compare")
		assert.Zero(t, r.code, r.out+r.errOut)

		// Again with the first plan: the same rows as at first, but for numbers that a
		// counter gave to units.
		edit("one")
		require.Zero(t, s.on("load", "--anew").code)
		assert.Equal(t, first[:strings.Index(first, "== notes")], s.rows(t)[:strings.Index(s.rows(t), "== notes")])

		// What would be left behind stops it before anything is done.
		s.exec(
			t,
			"UPDATE berths SET number = 99 WHERE id = 3",
			"INSERT INTO piles (id, port_id, number) VALUES (1, 5, 7)",
		)
		changed := s.rows(t)
		edit("two")
		r = s.on("load", "--anew")
		assert.Equal(t, 4, r.code, r.errOut)
		assert.Contains(t, r.errOut, "it was changed since")
		assert.Contains(t, r.errOut, "rows of piles refer to it")
		assert.Contains(t, r.errOut, "undo them too with evensprout load --anew --also changed --also referring")
		assert.Contains(t, r.errOut, "nothing was written")
		assert.Equal(t, changed, s.rows(t))
		r = s.on("load", "--anew", "--also", "changed", "--also", "referring")
		require.Zero(t, r.code, r.errOut)
		assert.Zero(t, s.on("compare").code)

		// A plan that is refused leaves everything as it was.
		now := s.rows(t)
		s.write(
			"evensprout.yaml",
			strings.Replace(
				strings.Replace(editPlan, "SEED", "three", 1),
				"label: {kind: locality}",
				"label: {choose: [a, null]}",
				1,
			),
		)
		r = s.on("load", "--anew")
		assert.NotZero(t, r.code)
		assert.Equal(t, now, s.rows(t))

		for range 2 {
			r = s.on("withdraw")
			assert.Zero(t, r.code, r.out+r.errOut)
		}
		assert.Equal(t, before, s.rows(t))
	})
}

const potterPlan = `name: pottery
seed: p
clock: 2026-05-01T08:00:00Z
entities:
  Potter:
    table: potters
    rows: 20
    fields: {name: {kind: name}, reports_to: {tree: {depth: 3, fan: 2..4}}}
    given:
      one: {name: Ada}
  Bowl:
    table: bowls
    given:
      blue: {potter: Potter.one, glaze: blue}
      red:  {potter: Potter.one, glaze: red}
`

// References of given rows, and of trees, find columns that end in _id.
func TestFieldsFindTheColumnsOfReferences(t *testing.T) {
	tables := `CREATE TABLE potters (id {key}, name VARCHAR(60) NOT NULL, reports_to_id INTEGER
  REFERENCES potters (id));
CREATE TABLE bowls (id {key}, potter_id INTEGER NOT NULL REFERENCES potters (id), glaze VARCHAR(20) NOT NULL);`
	onTables(t, tables, potterPlan, func(t *testing.T, s *site) {
		r := s.on("load")
		require.Zero(t, r.code, r.errOut)
		assert.Equal(t, []string{"1", "1"}, s.column(t, "bowls", "potter_id"))
		assert.NotContains(t, strings.Join(s.column(t, "potters", "reports_to_id"), " "), "1001 1001 1001 1001 1001")
		assert.Zero(t, s.on("compare").code)
	})
}

// After a migration the journal's loads are known over what is still there.
func TestAfterAMigration(t *testing.T) {
	tables := `CREATE TABLE ports (id {key}, code VARCHAR(12) NOT NULL, label VARCHAR(60) NOT NULL,
  depth INTEGER NOT NULL);
CREATE TABLE berths (id {key}, port_id INTEGER NOT NULL REFERENCES ports (id), number INTEGER NOT NULL);`
	plan := `name: moved
seed: m
clock: 2026-05-01T08:00:00Z
entities:
  Port:
    table: ports
    rows: ROWS
    fields:
      code: {pattern: "P[0-9]{5}"}
FIELDS
  Berth:
    table: berths
    per: {Port: 2}
    fields: {number: {between: [1, 90]}}
`
	say := func(rows, fields string) string {
		return strings.NewReplacer("ROWS", rows, "FIELDS", fields).Replace(plan)
	}
	old := say("8", "      label: {kind: locality}\n      depth: {between: [2, 9]}")
	edited := say("8", "      title: {kind: locality, was: label}\n      country: {choose: [XA, XB]}")
	onTables(t, tables, old, func(t *testing.T, s *site) {
		require.Zero(t, s.on("load").code)
		s.exec(
			t,
			"ALTER TABLE ports RENAME COLUMN label TO title",
			"ALTER TABLE ports DROP COLUMN depth",
			"ALTER TABLE ports ADD COLUMN country VARCHAR(2) DEFAULT 'XZ' NOT NULL",
		)
		s.write("evensprout.yaml", edited)
		r := s.on("load")
		require.Zero(t, r.code, r.errOut)
		assert.Contains(t, r.errOut, "note: Port.title was label")
		assert.Contains(t, r.errOut, "note: the column of Port.depth is gone")
		assert.Contains(t, r.errOut, "note: the column of Port.country is new")
		r = s.on("compare")
		assert.Zero(t, r.code, r.out+r.errOut)
		assert.Equal(t, 1, strings.Count(r.errOut, "Port.depth"), r.errOut)
		s.exec(t, "DELETE FROM berths WHERE id > 5")
		r = s.on("load", "--restore")
		assert.Zero(t, r.code, r.errOut)
		assert.Zero(t, s.on("compare").code)

		s.write("evensprout.yaml", strings.Replace(edited, "rows: 8", "rows: 11", 1))
		r = s.on("load")
		require.Zero(t, r.code, r.errOut)
		assert.Len(t, s.column(t, "ports", "id"), 11)
		assert.Zero(t, s.on("compare").code)
		for range 2 {
			r = s.on("withdraw")
			assert.Zero(t, r.code, r.out+r.errOut)
		}
		assert.Empty(t, s.column(t, "ports", "id"))

		// Tables that are gone.
		require.Zero(t, s.on("load").code)
		n := s.number(t, "moved")
		s.exec(t, "DROP TABLE berths", "DROP TABLE ports")
		r = s.on("withdraw", n)
		assert.Equal(t, 2, r.code)
		assert.Contains(t, r.errOut, "evensprout history --forget "+n)
		assert.NotContains(t, r.errOut, "evensprout.yaml:")
		r = s.on("history", "--forget", n)
		assert.Zero(t, r.code, r.errOut)
		assert.Contains(t, r.out, "is removed from the journal")
		assert.Equal(t, 2, s.on("history", "--forget", n).code)
	})
}

// A dry run makes no journal.
func TestADryRunOfAnewLeavesNothing(t *testing.T) {
	onTables(t, emptyLinkTables, startPlan, func(t *testing.T, s *site) {
		r := s.on("load", "--anew", "--dry-run")
		require.Zero(t, r.code, r.errOut)
		db := s.open(t)
		defer db.Close()
		journal, err := db.Journal(t.Context(), false)
		require.NoError(t, err)
		assert.Nil(t, journal)
	})
}
