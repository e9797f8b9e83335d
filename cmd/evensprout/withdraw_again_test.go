package main

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// number is the number of a plan's last load.
func (s *site) number(t *testing.T, plan string) string {
	t.Helper()
	var loads []struct {
		Number int64
		Plan   string
	}
	r := s.on("history", "--json")
	require.Zero(t, r.code, r.errOut)
	listed(t, r, &loads)
	last := int64(0)
	for _, l := range loads {
		if l.Plan == plan {
			last = max(last, l.Number)
		}
	}
	return fmt.Sprint(last)
}

// What a withdrawal leaves behind can be withdrawn later, or completed again.
func TestAWithdrawalCanBeFinished(t *testing.T) {
	for _, commit := range []string{"load", "chunk"} {
		t.Run(commit, func(t *testing.T) {
			onTables(t, emptyLinkTables, startPlan, func(t *testing.T, s *site) {
				before := s.rows(t)
				require.Zero(t, s.on("load", "--commit", commit).code)
				loaded := s.rows(t)
				n := s.number(t, "start")
				s.exec(
					t,
					"UPDATE berths SET number = 99 WHERE id = 3",
					"UPDATE ports SET label = 'mine' WHERE id = 8",
				)

				r := s.on("withdraw", "--commit", commit)
				assert.Equal(t, 6, r.code, r.errOut)
				assert.Contains(t, r.out, "partly withdrawn")
				assert.Contains(t, r.out, "evensprout withdraw "+n+" --also changed")
				assert.Contains(t, s.on("history").out, "partly withdrawn")
				assert.Len(t, s.column(t, "berths", "id"), 1)
				assert.Len(t, s.column(t, "ports", "id"), 2, "port 8, and the port of berth 3")

				// Again: the report has only what is left.
				r = s.on("withdraw", "--commit", commit)
				assert.Equal(t, 6, r.code, r.errOut)
				assert.Contains(t, r.out, "3 rows left alone")

				// A load adds what is missing, and leaves what was changed.
				r = s.on("load")
				assert.Zero(t, r.code, r.errOut)
				assert.Contains(t, r.errOut, "21 rows of load "+n+", which was partly withdrawn, were put back")
				assert.Equal(t, 2, strings.Count(difference(loaded, s.rows(t)), "\n+ "))
				assert.NotContains(t, s.on("history").out, "partly")

				r = s.on("withdraw", "--commit", commit)
				assert.Equal(t, 6, r.code, r.errOut)
				r = s.on("withdraw", n, "--also", "changed", "--commit", commit)
				assert.Zero(t, r.code, r.out+r.errOut)
				assert.Equal(t, before, s.rows(t))
				assert.NotContains(t, s.on("history").out, "partly")
				r = s.on("withdraw", n)
				assert.Equal(t, 2, r.code)
				assert.Contains(t, r.errOut, "withdrawn")
			})
		})
	}
}

const touchPlan = `name: touch
seed: touch
clock: 2026-05-01T08:00:00Z
entities:
  Berth:
    table: berths
    write: {mode: update, match: [id], set: [number]}
    given:
      third: {id: 3, number: 99}
`

func TestAWithdrawalNamesWhatStandsInItsWay(t *testing.T) {
	onTables(t, emptyLinkTables, startPlan, func(t *testing.T, s *site) {
		before := s.rows(t)
		require.Zero(t, s.on("load").code)
		n := s.number(t, "start")
		s.write("touch.yaml", touchPlan)
		r := s.on("load", "touch.yaml")
		require.Zero(t, r.code, r.errOut)
		later := s.number(t, "touch")
		s.exec(t, "INSERT INTO piles (id, port_id, number) VALUES (1, 5, 7)")

		r = s.on("withdraw", n)
		assert.Equal(t, 6, r.code, r.errOut)
		assert.Contains(t, r.out, "load "+later+" changed it: withdraw "+later+" first")
		assert.Contains(t, r.out, "rows of piles refer to it")
		r = s.on("withdraw", later)
		assert.Zero(t, r.code, r.out+r.errOut)
		r = s.on("withdraw", n)
		assert.Equal(t, 6, r.code)
		assert.Contains(t, r.out, "1 row left alone")
		assert.Contains(t, r.out, "evensprout withdraw "+n+" --also referring")
		r = s.on("withdraw", n, "--also", "referring")
		assert.Zero(t, r.code, r.out+r.errOut)
		assert.Equal(t, before, s.rows(t))
	})
}

// Changed rows get their former contents back at last, each once.
func TestAnUpdateThatIsPartlyWithdrawn(t *testing.T) {
	onTables(t, priceTables, pricePlan, func(t *testing.T, s *site) {
		before := s.rows(t)
		require.Zero(t, s.on("load").code)
		s.exec(t, "UPDATE fares SET price = 77 WHERE code = 'CABIN'")
		r := s.on("withdraw")
		assert.Equal(t, 6, r.code)
		assert.Contains(t, s.rows(t), "DECK|Open deck|4.50")
		r = s.on("withdraw")
		assert.Equal(t, 6, r.code)
		assert.Contains(t, r.out, "1 row left alone")
		r = s.on("withdraw", "--also", "changed")
		assert.Zero(t, r.code, r.out+r.errOut)
		assert.Equal(t, before, s.rows(t))
	})
}

func TestWithdrawTakesTheNamedPlansLoad(t *testing.T) {
	onTables(t, emptyLinkTables, startPlan, func(t *testing.T, s *site) {
		s.write(
			"docks.yaml",
			"name: docks\nseed: d\nclock: 2026-05-01T08:00:00Z\nentities:\n  Dock:\n    table: docks\n    rows: "+
				"3\n    fields: {label: {kind: locality}}\n",
		)
		s.write("none.yaml", strings.Replace(s.read("docks.yaml"), "name: docks", "name: none", 1))
		require.Zero(t, s.on("load").code)
		require.Zero(t, s.on("load", "docks.yaml").code)
		start, docks := s.number(t, "start"), s.number(t, "docks")

		r := s.on("withdraw", "none.yaml")
		assert.Equal(t, 2, r.code)
		assert.Contains(t, r.errOut, "has no load to withdraw")
		assert.Contains(t, r.errOut, "evensprout withdraw "+docks)
		r = s.on("withdraw", docks, "evensprout.yaml")
		assert.Equal(t, 2, r.code)
		assert.Contains(t, r.errOut, "load "+docks+" is of the plan docks, and evensprout.yaml is the plan start")
		assert.Len(t, s.column(t, "docks", "id"), 3)

		r = s.on("withdraw", "evensprout.yaml")
		assert.Zero(t, r.code, r.errOut)
		assert.Empty(t, s.column(t, "ports", "id"))
		assert.Len(t, s.column(t, "docks", "id"), 3)
		r = s.on("withdraw")
		assert.Zero(t, r.code, r.errOut)
		assert.True(t, strings.HasPrefix(r.errOut, "note: the last load is load "+docks+" of docks\n"), r.errOut)
		assert.Empty(t, s.column(t, "docks", "id"))
		assert.NotEqual(t, start, docks)
	})
}

const runTables = `
CREATE TABLE ports (id {key}, label VARCHAR(60) NOT NULL, notes INTEGER NOT NULL DEFAULT 0);
CREATE TABLE notes (id {key}, port_id INTEGER NOT NULL REFERENCES ports (id), words VARCHAR(60) NOT NULL);
CREATE TABLE replies (id {key}, note_id INTEGER NOT NULL REFERENCES notes (id), words VARCHAR(60) NOT NULL);`

const runPlan = `name: runs
seed: s
clock: 2026-05-01T08:00:00Z
entities:
  Port: {table: ports, rows: 8, fields: {label: {kind: locality}, notes: {value: 0}}}
units:
  note:
    per: {Port: 1}
    steps:
      - insert: notes
        set: {port_id: Port, words: "'noted'"}
      - update: ports
        match: {id: Port}
        set: {notes: notes + 1}
`

// The withdrawal of a run of a unit that leaves rows can be finished, too.
func TestAWithdrawalOfARunCanBeFinished(t *testing.T) {
	onTables(t, runTables, runPlan, func(t *testing.T, s *site) {
		require.Zero(t, s.on("load", "--without-units").code)
		first := s.number(t, "runs")
		before := s.rows(t)
		r := s.on("load")
		require.Zero(t, r.code, r.errOut)
		after := s.rows(t)
		ids := s.column(t, "notes", "id")
		s.exec(
			t,
			"UPDATE notes SET words = 'mine' WHERE id = "+ids[2],
			"INSERT INTO replies (id, note_id, words) VALUES (1, "+ids[4]+", 'a reply')",
			"UPDATE ports SET notes = 7 WHERE id = 1",
		)

		n := s.number(t, "runs")
		r = s.on("withdraw")
		assert.Equal(t, 6, r.code, r.out+r.errOut)
		assert.Contains(t, r.out, "3 rows left alone")
		assert.Contains(t, r.out, "evensprout withdraw "+n+" --also changed --also referring removes the rest.")
		assert.Contains(t, s.on("history").out, "partly withdrawn")
		assert.Len(t, s.column(t, "notes", "id"), 2)
		some := s.rows(t)

		// Again: what is left is as before. A load says how to go on.
		r = s.on("withdraw", n)
		assert.Equal(t, 6, r.code, r.out+r.errOut)
		assert.Contains(t, r.out, "3 rows left alone")
		assert.Equal(t, some, s.rows(t))
		r = s.on("load")
		assert.Equal(t, 2, r.code, r.out+r.errOut)
		assert.Contains(t, r.errOut, "load "+n+", a run of the unit note, is partly withdrawn")
		assert.Equal(t, some, s.rows(t))

		r = s.on("withdraw", n, "--also", "changed", "--also", "referring")
		require.Zero(t, r.code, r.out+r.errOut)
		assert.Contains(t, r.out, "Also removed, because they referred to these rows: 1 row of replies")
		assert.Empty(t, difference(before, s.rows(t)))
		r = s.on("load")
		require.Zero(t, r.code, r.errOut)
		assert.Len(t, s.column(t, "notes", "id"), 8)
		assert.Equal(t, strings.Count(after, "\n"), strings.Count(s.rows(t), "\n"))

		// Or what is left stays, and the occasions are done again.
		ids = s.column(t, "notes", "id")
		s.exec(t, "UPDATE notes SET words = 'mine' WHERE id = "+ids[2])
		n = s.number(t, "runs")
		require.Equal(t, 6, s.on("withdraw").code)
		assert.Equal(
			t,
			6,
			s.on("withdraw", first, "--dry-run").code,
			"it does not stand in the way of the load below, but its rows are left",
		)
		require.Zero(t, s.on("history", "--forget", n).code)
		r = s.on("load")
		require.Zero(t, r.code, r.errOut)
		assert.Len(t, s.column(t, "notes", "id"), 9)
	})
}
