package main

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const appendTables = `
CREATE TABLE ports (id {key}, code VARCHAR(8) NOT NULL UNIQUE, label VARCHAR(60));
CREATE TABLE berths (id {key}, port_id INTEGER NOT NULL REFERENCES ports (id), number INTEGER);
CREATE TABLE goods (id {key}, name VARCHAR(20) NOT NULL UNIQUE, berth_id INTEGER REFERENCES berths (id));
CREATE TABLE notes (id {key}, port_id INTEGER NOT NULL REFERENCES ports (id), words VARCHAR(60));`

const appendPlan = `name: grows
seed: s
clock: 2026-05-01T08:00:00Z
entities:
  Port:
    table: ports
    rows: 5
    fields: {code: {pattern: "P[0-9]{5}", unique: true}, label: {kind: locality}}
  Berth:
    table: berths
    per: {Port: 2}
    fields: {number: {between: 1..90}}
  Good:
    table: goods
    rows_from: {file: goods.csv, key: [name], columns: {name: name}}
    fields: {berth: {pick: Berth}}
`

// Rows that are added to a plan by hand, to its files, or as entities, are appended: what
// is loaded stays as it is, and there is no word of a changed plan.
func TestAddedRowsAreAppended(t *testing.T) {
	onTables(t, appendTables, appendPlan, func(t *testing.T, s *site) {
		var dumps []string
		load := func() {
			t.Helper()
			dumps = append(dumps, s.rows(t))
			r := s.on("load")
			require.Zero(t, r.code, r.errOut)
			assert.NotContains(t, r.out+r.errOut, "plan is not the one")
			r = s.on("compare")
			assert.Zero(t, r.code, r.out+r.errOut)
		}
		goods := "name\nrope\ntar\n"
		s.write("goods.csv", goods)
		load()
		first := s.rows(t)

		// The first row by hand: from now on, planned numbers begin beyond those.
		plan := strings.Replace(
			appendPlan,
			"    rows: 5\n",
			"    rows: 5\n    given: {main: {code: M1, label: Main}}\n",
			1,
		)
		s.write("evensprout.yaml", plan)
		load()
		assert.Equal(t, []string{"M1"}, s.column(t, "ports", "code")[5:])
		assert.Len(t, s.column(t, "berths", "id"), 12)
		for _, line := range strings.Split(first, "\n") {
			assert.Contains(t, s.rows(t), line, "what was loaded is there")
		}

		// A further one, with a child, more rows, and rows of a file.
		plan = strings.Replace(plan, "label: Main}}", "label: Main}, side: {code: M2, label: Side}}", 1)
		plan = strings.Replace(plan, "rows: 5", "rows: 7", 1)
		plan = strings.Replace(
			plan,
			"number: {between: 1..90}}\n",
			"number: {between: 1..90}}\n    given: {last: {port: Port.side, number: 91}}\n",
			1,
		)
		s.write("evensprout.yaml", plan)
		s.write("goods.csv", goods+"oakum\n")
		load()
		assert.Len(t, s.column(t, "ports", "id"), 9)
		assert.Len(t, s.column(t, "berths", "id"), 12+3+4)
		assert.Equal(t, []string{"rope", "tar", "oakum"}, s.column(t, "goods", "name"))

		// An entity.
		plan += "  Note:\n    table: notes\n    per: {Port: 1}\n    fields: {words: {kind: title}}\n"
		s.write("evensprout.yaml", plan)
		load()
		assert.Len(t, s.column(t, "notes", "id"), 9)
		r := s.on("load")
		assert.Zero(t, r.code, r.errOut)
		assert.Contains(t, r.out, "already wrote these rows.")

		// Undone one by one, everything is as it was.
		for i := len(dumps) - 1; i >= 0; i-- {
			r := s.on("withdraw")
			require.Zero(t, r.code, r.out+r.errOut)
			assert.Empty(t, difference(dumps[i], s.rows(t)))
		}
	})
}

// What is put before rows that are loaded, or changes them, is a changed plan.
func TestRowsInBetweenAreAChange(t *testing.T) {
	onTables(
		t,
		appendTables,
		strings.Replace(appendPlan, "    rows: 5\n", "    rows: 5\n    given: {main: {code: M1}}\n", 1),
		func(t *testing.T, s *site) {
			s.write("goods.csv", "name\nrope\ntar\n")
			require.Zero(t, s.on("load").code)
			before, plan := s.rows(t), s.read("evensprout.yaml")
			refused := func(says string) {
				t.Helper()
				r := s.on("load")
				assert.Equal(t, 4, r.code)
				assert.Contains(t, r.errOut, "the plan has changed since it was loaded")
				assert.Contains(t, r.errOut, says)
				assert.Equal(t, before, s.rows(t))
			}
			s.write("evensprout.yaml", strings.Replace(plan, "given: {main", "given: {first: {code: M0}, main", 1))
			refused("entities.Port.given.first is new")
			s.write("evensprout.yaml", strings.Replace(plan, "code: M1", "code: M3", 1))
			refused(`entities.Port.given.main.code was M1, and is M3`)
			s.write("evensprout.yaml", plan)
			s.write("goods.csv", "name\noakum\nrope\ntar\n")
			refused("goods.csv was 14 bytes")
			s.write("goods.csv", "name\nrope\n")
			refused("goods.csv was 14 bytes")
		},
	)
}

const poolTables = `
CREATE TABLE visits (id {key}, state VARCHAR(8) NOT NULL);
CREATE TABLE bills (id {key}, visit_id INTEGER NOT NULL UNIQUE REFERENCES visits (id), note VARCHAR(20));
CREATE TABLE seats (id {key}, visit_id INTEGER NOT NULL REFERENCES visits (id), place VARCHAR(2) NOT NULL,
  UNIQUE (visit_id, place));`

const poolPlan = `name: pool
seed: s
clock: 2026-05-01T08:00:00Z
entities:
  Visit:
    table: visits
    rows: VISITS
    fields: {state: {choose: {open: 60, shut: 40}}}
    given: {GIVEN}
  Bill:
    table: bills
    rows: BILLS
    fields: {visit: {pick: Visit, where: {state: open}, unique: true}}
  Seat:
    table: seats
    rows: SEATS
    unique: [[visit, place]]
    fields: {visit: {pick: Visit}, place: {pattern: "[A-D]"}}
`

// A pool of rows that are picked at most once grows, and so do those that pick: earlier
// rows keep what they have, and new ones draw from what is left.
func TestPoolsGrow(t *testing.T) {
	onTables(t, poolTables, poolPlan, func(t *testing.T, s *site) {
		plan := func(visits, bills, seats, given string) {
			s.write(
				"evensprout.yaml",
				strings.NewReplacer("VISITS", visits, "BILLS", bills, "SEATS", seats, "GIVEN", given).
					Replace(poolPlan),
			)
		}
		var dumps []string
		load := func() {
			t.Helper()
			dumps = append(dumps, s.rows(t))
			r := s.on("load")
			require.Zero(t, r.code, r.errOut)
			r = s.on("compare")
			assert.Zero(t, r.code, r.out+r.errOut)
		}
		plan("40", "20", "90", "")
		load()
		plan("70", "35", "200", "")
		load()
		plan("90", "40", "240", "late: {state: open}")
		load()
		assert.Len(t, s.column(t, "bills", "visit_id"), 40)
		before := s.rows(t)
		plan("90", "90", "240", "late: {state: open}")
		r := s.on("load")
		assert.NotZero(t, r.code)
		assert.Regexp(t, "90 rows need different values of visit, and only [0-9]+ exist\n", r.errOut)
		assert.Equal(t, before, s.rows(t))
		plan("200", "90", "240", "late: {state: open}")
		load()
		for i := len(dumps) - 1; i >= 0; i-- {
			r := s.on("withdraw")
			require.Zero(t, r.code, r.out+r.errOut)
			assert.Empty(t, difference(dumps[i], s.rows(t)))
		}
	})
}
