package main

import (
	"encoding/json"
	"fmt"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/demo"
)

// growPlan has so many ports, with berths, and piles that refer to ports.
func growPlan(ports, piles int) string {
	return fmt.Sprintf(`name: grow
seed: g
clock: 2026-05-01T08:00:00Z
entities:
  Port:
    table: ports
    rows: %d
    fields: {code: {pattern: "P[0-9]{5}", unique: true}, label: {kind: locality}}
  Berth:
    table: berths
    per: {Port: 2}
    fields: {number: {between: [1, 90]}}
  Pile:
    table: piles
    rows: %d
    fields: {port_id: {pick: Port}, number: {between: [1, 90]}}
`, ports, piles)
}

// Planned keys step over numbers that others have taken.
// asLoaded sees that all loaded rows are there, as they were loaded.
func (s *site) asLoaded(t *testing.T) {
	t.Helper()
	var out struct{ Missing, Changed int64 }
	r := s.on("compare", "--json")
	require.NoError(t, json.Unmarshal([]byte(r.out), &out), r.out+r.errOut)
	assert.Zero(t, out.Missing+out.Changed, r.out)
}

func TestMoreRowsAlwaysGoIn(t *testing.T) {
	ways := map[string][]string{"load": nil, "chunks": {"--commit", "chunk", "--chunk", "7"}}
	for name, args := range ways {
		t.Run(name, func(t *testing.T) {
			onTables(t, linkTables, growPlan(8, 10), func(t *testing.T, s *site) {
				others := []string{
					"INSERT INTO ports (id, code, label) VALUES (10, 'mine', 'mine')",
					"INSERT INTO berths (id, port_id, number) VALUES (30, 10, 5)",
				}
				before := s.rows(t)
				r := s.on(append([]string{"load"}, args...)...)
				require.Zero(t, r.code, r.errOut)
				assert.Contains(
					t,
					r.errOut,
					"note: Port: planned keys are already taken in ports, so 8 rows get keys from 503 on",
					"id 1 is a stranger's",
				)
				assert.Subset(t, s.column(t, "ports", "id"), []string{"503", "510"})
				assert.Zero(t, s.on("compare").code)
				r = s.on("load")
				assert.Zero(t, r.code, r.errOut)
				assert.Contains(t, r.out, "Nothing to do")

				s.exec(t, others...)
				s.write("evensprout.yaml", growPlan(12, 25))
				r = s.on(append([]string{"load"}, args...)...)
				require.Zero(t, r.code, r.errOut)
				assert.Len(t, s.column(t, "ports", "id"), 3+12+1)
				assert.Len(t, s.column(t, "berths", "id"), 24+1)
				s.asLoaded(t)

				// What the application adds afterwards collides with nothing.
				s.exec(
					t,
					"INSERT INTO ports (code, label) VALUES ('next', 'next')",
					"DELETE FROM ports WHERE code = 'next'",
				)

				s.write("evensprout.yaml", growPlan(20, 30))
				r = s.on(append([]string{"load"}, args...)...)
				require.Zero(t, r.code, r.errOut)
				s.asLoaded(t)
				s.exec(t, "DELETE FROM piles WHERE number < 40")
				r = s.on("load", "--restore")
				assert.Zero(t, r.code, r.errOut)
				assert.Zero(t, s.on("compare").code)
				for range 3 {
					r = s.on("withdraw")
					assert.Zero(t, r.code, r.out+r.errOut)
				}
				s.exec(t, "DELETE FROM berths WHERE id = 30", "DELETE FROM ports WHERE id = 10")
				assert.Equal(t, before, s.rows(t))
			})
		})
	}
	t.Run("parts", func(t *testing.T) {
		onTables(t, linkTables, growPlan(30, 40), func(t *testing.T, s *site) {
			before := s.rows(t)
			for _, part := range []string{"2/3", "1/3", "3/3"} {
				r := s.on("load", "--part", part)
				require.Zero(t, r.code, r.errOut)
			}
			assert.Len(t, s.column(t, "ports", "id"), 33)
			r := s.on("compare")
			assert.Zero(t, r.code, r.out+r.errOut)
			assert.Zero(t, s.on("withdraw").code)
			assert.Equal(t, before, s.rows(t))
		})
	})
	t.Run("a further set, and given rows", func(t *testing.T) {
		plan := strings.Replace(
			growPlan(8, 10),
			"    rows: 8\n",
			"    rows: 8\n    given:\n      north: {code: N1, label: North}\n      south: {code: S1, label: South}\n",
			1,
		)
		onTables(t, linkTables, plan, func(t *testing.T, s *site) {
			before := s.rows(t)
			r := s.on("load")
			require.Zero(t, r.code, r.errOut)
			r = s.on("load", "--extra", "stress")
			require.Zero(t, r.code, r.errOut)
			assert.Len(t, s.column(t, "ports", "id"), 3+10+8)
			assert.Zero(t, s.on("compare").code)
			assert.Zero(t, s.on("compare", "--extra", "stress").code)
			for range 2 {
				assert.Zero(t, s.on("withdraw").code)
			}
			assert.Equal(t, before, s.rows(t))
		})
	})
}

// The demo's plan grows after its sales: the rows that units added have keys of their own.
func TestTheDemoGrowsAfterItsSales(t *testing.T) {
	tables := regexp.MustCompile(`INTEGER +PRIMARY KEY`).
		ReplaceAllString(demo.Schema, "{key}")
		// on servers such columns number rows only as identities
	onTables(t, tables, "", func(t *testing.T, s *site) {
		require.Zero(t, s.run("demo", "--without-units").code)
		plan := "larkwater/evensprout.yaml"
		before := s.rows(t)
		r := s.on("load", plan)
		require.Zero(t, r.code, r.errOut)
		sold := s.rows(t)
		text := s.read(plan)
		require.Contains(t, text, "rows: 5000")
		s.write(plan, strings.Replace(text, "rows: 5000", "rows: 6000", 1))
		r = s.on("load", plan)
		require.Zero(t, r.code, r.errOut)
		assert.Contains(t, r.errOut, "note: Booking: planned keys are already taken in bookings, so")
		r = s.on("compare", plan)
		assert.Zero(t, r.code, r.out+r.errOut)
		r = s.on("withdraw", plan)
		require.Zero(t, r.code, r.out+r.errOut)
		assert.Empty(t, difference(sold, s.rows(t)))
		for range 5 {
			r = s.on("withdraw", plan)
			assert.Zero(t, r.code, r.out+r.errOut)
		}
		r = s.on("withdraw", "larkwater/reference.yaml")
		assert.Zero(t, r.code, r.out+r.errOut)
		assert.Empty(t, difference(before, s.rows(t)))
	})
}

// Rows that are there without an entry of the journal do not go in a second time, also where
// somebody has changed the first.
func TestRowsWithoutAJournalAreKnown(t *testing.T) {
	plan := "name: docks\nseed: d\nclock: 2026-05-01T08:00:00Z\nentities:\n  Dock:\n    table: docks\n    rows: " +
		"8\n    fields: {label: {kind: locality}}\n"
	onTables(t, emptyLinkTables, plan, func(t *testing.T, s *site) {
		require.Zero(t, s.on("load", "--no-journal").code)
		s.exec(t, "UPDATE docks SET label = 'mine' WHERE id = 1")
		before := s.rows(t)
		r := s.on("load")
		assert.Equal(t, 4, r.code, r.errOut)
		assert.Contains(t, r.errOut, "Dock row 1, field for field")
		assert.Equal(t, before, s.rows(t))

		require.Zero(t, s.on("withdraw", "--dry-run").code-2, "there is no load")
		s.exec(t, "DELETE FROM docks")
		require.Zero(t, s.on("load").code)
		n := s.number(t, "docks")
		require.Zero(t, s.on("history", "--forget", n).code)
		r = s.on("load")
		assert.Equal(t, 4, r.code, r.errOut)
		assert.Contains(t, r.errOut, "the plan's rows already exist,")
	})
}

// References that close circles follow keys that step over others, load after load.
func TestCirclesStepOverTakenKeys(t *testing.T) {
	tables := `CREATE TABLE vessels (id {key}, name VARCHAR(60) NOT NULL, captain_id INTEGER NULL);
CREATE TABLE crew (id {key}, vessel_id INTEGER NOT NULL REFERENCES vessels (id), name VARCHAR(60) NOT NULL);
INSERT INTO vessels (id, name) VALUES (1, 'mine');
INSERT INTO crew (id, vessel_id, name) VALUES (1, 1, 'me');`
	plan := func(rows int) string {
		return fmt.Sprintf(
			"name: circles\nseed: c\nclock: 2026-05-01T08:00:00Z\nentities:\n  Vessel:\n    table: vessels\n    "+
				"rows: %d\n    fields: {name: {kind: locality}, captain_id: {pick: Crew, nulls: 20%%}}\n"+
				"  Crew:\n    table: crew\n    per: {Vessel: 2}\n    fields: {name: {kind: name}}\n",
			rows,
		)
	}
	onTables(t, tables, plan(6), func(t *testing.T, s *site) {
		if s.name == "sqlite" { // it adds no constraint later
			s.exec(
				t,
				"DROP TABLE crew",
				"DROP TABLE vessels",
				"CREATE TABLE vessels (id INTEGER PRIMARY KEY, name VARCHAR(60) NOT NULL, captain_id INTEGER NULL "+
					"REFERENCES crew (id))",
				"CREATE TABLE crew (id INTEGER PRIMARY KEY, vessel_id INTEGER NOT NULL REFERENCES vessels (id), "+
					"name VARCHAR(60) NOT NULL)",
				"INSERT INTO vessels (id, name) VALUES (1, 'mine')",
				"INSERT INTO crew (id, vessel_id, name) VALUES (1, 1, 'me')",
			)
		} else {
			s.exec(t, "ALTER TABLE vessels ADD CONSTRAINT captains FOREIGN KEY (captain_id) REFERENCES crew (id)")
		}
		before := s.rows(t)
		for _, rows := range []int{6, 12, 30} {
			s.write("evensprout.yaml", plan(rows))
			r := s.on("load")
			require.Zero(t, r.code, r.errOut)
			r = s.on("compare")
			assert.Zero(t, r.code, r.out+r.errOut)
		}
		for range 3 {
			r := s.on("withdraw")
			assert.Zero(t, r.code, r.out+r.errOut)
		}
		assert.Equal(t, before, s.rows(t))
	})
}
