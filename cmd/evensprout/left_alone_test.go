package main

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const linkTables = `
CREATE TABLE ports (id {key}, code VARCHAR(12) NOT NULL UNIQUE, label VARCHAR(60) NOT NULL);
CREATE TABLE docks (id {key}, label VARCHAR(60) NOT NULL);
CREATE TABLE berths (id {key}, port_id INTEGER REFERENCES ports (id), dock_id INTEGER REFERENCES docks (id),
  number INTEGER NOT NULL);
CREATE TABLE piles (id {key}, port_id INTEGER REFERENCES ports (id), dock_id INTEGER REFERENCES docks (id),
  number INTEGER NOT NULL);
CREATE TABLE notes (id {key}, port_id INTEGER NOT NULL REFERENCES ports (id), words VARCHAR(60) NOT NULL);
INSERT INTO ports (id, code, label) VALUES (1, 'X9', 'a stranger'), (501, 'P1', 'North'), (502, 'P2', 'South');
INSERT INTO docks (id, label) VALUES (1, 'another stranger'), (77, 'Dry dock');`

const linkPlan = `name: links
seed: links
clock: 2026-05-01T08:00:00Z
entities:
  Port:
    table: ports
    WHEN
    given:
      north: {code: P1, label: North}
      south: {code: P2, label: South}
  Berth:
    table: berths
    per: {Port: 2}
    fields: {number: {between: [1, 90]}}
  Pile:
    table: piles
    rows: 40
    fields: {port_id: {pick: Port}, number: {between: [1, 90]}}
units:
  note:
    per: {Port: 1}
    steps:
      - insert: notes
        set: {port_id: Port, words: "'noted'"}
`

func linked(when string) string { return strings.Replace(linkPlan, "WHEN", when, 1) }

// Rows that refer to a table that is left alone refer to the rows that are there, found by
// match or a unique key, never to whoever has the planned keys.
func TestRowsReferToWhatIsLeftAlone(t *testing.T) {
	without := linked("when: empty")[:strings.Index(linked("when: empty"), "units:")]
	clean := func(t *testing.T, s *site, before string) {
		assert.ElementsMatch(t, []string{"501", "501", "502", "502"}, s.column(t, "berths", "port_id"))
		piles := s.column(t, "piles", "port_id")
		assert.Len(t, piles, 40)
		assert.Subset(t, []string{"501", "502"}, piles)
		r := s.on("compare")
		assert.Zero(t, r.code, r.out+r.errOut)
		r = s.on("load")
		assert.Zero(t, r.code, r.errOut)
		r = s.on("withdraw")
		assert.Zero(t, r.code, r.errOut)
		assert.Equal(t, before, s.rows(t))
	}
	t.Run("a unique key", func(t *testing.T) {
		onTables(t, linkTables, without, func(t *testing.T, s *site) {
			before := s.rows(t)
			r := s.on("load")
			require.Zero(t, r.code, r.errOut)
			clean(t, s, before)
		})
	})
	t.Run("if-empty", func(t *testing.T) {
		onTables(t, linkTables, strings.Replace(without, "when: empty\n    ", "", 1), func(t *testing.T, s *site) {
			r := s.on("load", "--if-empty")
			require.Zero(t, r.code, r.errOut)
			assert.Subset(t, []string{"501", "502"}, s.column(t, "berths", "port_id"))
		})
	})
	t.Run("match", func(t *testing.T) {
		onTables(
			t,
			linkTables,
			strings.Replace(without, "when: empty", "when: empty\n    write: {mode: keep, match: [code]}", 1),
			func(t *testing.T, s *site) {
				before := s.rows(t)
				r := s.on("load")
				require.Zero(t, r.code, r.errOut)
				clean(t, s, before)
			},
		)
	})
	t.Run("chunks", func(t *testing.T) {
		onTables(t, linkTables, without, func(t *testing.T, s *site) {
			before := s.rows(t)
			r := s.on("load", "--commit", "chunk", "--chunk", "10")
			require.Zero(t, r.code, r.errOut)
			clean(t, s, before)
		})
	})
	t.Run("parts", func(t *testing.T) {
		onTables(t, linkTables, without, func(t *testing.T, s *site) {
			before := s.rows(t)
			for _, part := range []string{"2/3", "1/3", "3/3"} {
				r := s.on("load", "--part", part)
				require.Zero(t, r.code, r.errOut)
			}
			clean(t, s, before)
		})
	})
	t.Run("nothing to find them by", func(t *testing.T) {
		plan := strings.NewReplacer("table: ports", "table: docks", "code: P1, ", "", "code: P2, ", "", "port_id",
			"dock_id").
			Replace(without)
		onTables(t, linkTables, plan, func(t *testing.T, s *site) {
			before := s.rows(t)
			r := s.on("load")
			assert.Equal(t, 4, r.code, r.errOut)
			assert.Contains(t, r.errOut, "docks")
			assert.Contains(t, r.errOut, "another stranger")
			assert.Equal(t, before, s.rows(t))
			assert.Equal(t, 4, s.on("load", "--commit", "chunk").code)
			assert.Equal(t, before, s.rows(t))
		})
	})
	t.Run("a row that is not there", func(t *testing.T) {
		onTables(
			t,
			strings.Replace(linkTables, ", (502, 'P2', 'South')", "", 1),
			without,
			func(t *testing.T, s *site) {
				before := s.rows(t)
				for _, args := range [][]string{{"load"}, {"load", "--commit", "chunk"}, {"load", "--part", "1/2"}} {
					r := s.on(args...)
					assert.Equal(t, 4, r.code, r.errOut)
					assert.Contains(t, r.errOut, "Port.south")
					assert.Contains(t, r.errOut, `code "P2"`)
					assert.Equal(t, before, s.rows(t))
				}
				// What the hint says works.
				s.write(
					"evensprout.yaml",
					strings.Replace(without, "when: empty", "write: {mode: keep, match: [code]}", 1),
				)
				r := s.on("load")
				assert.Zero(t, r.code, r.errOut)
			},
		)
	})
	t.Run("units", func(t *testing.T) {
		onTables(t, linkTables, linked("when: empty"), func(t *testing.T, s *site) {
			before := s.rows(t)
			r := s.on("load")
			require.Zero(t, r.code, r.errOut)
			assert.ElementsMatch(t, []string{"501", "502"}, s.column(t, "notes", "port_id"))
			for range 2 {
				r = s.on("withdraw")
				assert.Zero(t, r.code, r.errOut)
			}
			assert.Equal(t, before, s.rows(t))
		})
	})
}

const startPlan = `name: start
seed: start
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
`

var emptyLinkTables = linkTables[:strings.Index(linkTables, "INSERT")]

// A start-up script fills tables that are empty, and leaves the others alone.
func TestIfEmptyLeavesWhatHasRows(t *testing.T) {
	onTables(t, emptyLinkTables, startPlan, func(t *testing.T, s *site) {
		start := func() {
			t.Helper()
			r := s.on("load", "--if-empty", "--quiet")
			assert.Zero(t, r.code, r.errOut)
			assert.Empty(t, r.out+r.errOut)
		}
		start()
		first := s.rows(t)
		start()
		assert.Equal(t, first, s.rows(t))

		s.exec(t, "DELETE FROM berths WHERE id = 3")
		some := s.rows(t)
		start()
		assert.Equal(t, some, s.rows(t), "rows are there: they are left alone")

		s.exec(t, "DELETE FROM berths")
		start()
		assert.Equal(t, first, s.rows(t), "there are none: they are filled")

		s.exec(t, "DELETE FROM berths", "DELETE FROM ports")
		start()
		assert.Equal(t, first, s.rows(t))

		// A changed plan does not matter where nothing is written.
		s.write("evensprout.yaml", strings.Replace(startPlan, "seed: start", "seed: other", 1))
		start()
		assert.Equal(t, first, s.rows(t))
		r := s.on("load", "--if-empty")
		assert.Zero(t, r.code, r.errOut)
		assert.Contains(t, r.out, "Nothing to do")
		assert.Equal(
			t,
			3,
			strings.Count(s.on("history", "--json").out, `"began"`),
			"a load that writes nothing leaves no entry",
		)
	})
}

func TestOnceMeansOnce(t *testing.T) {
	onTables(t, emptyLinkTables, "once: true\n"+startPlan, func(t *testing.T, s *site) {
		r := s.on("load")
		require.Zero(t, r.code, r.errOut)
		s.exec(t, "DELETE FROM berths")
		some := s.rows(t)
		for _, plan := range []string{"once: true\n" + startPlan,
			strings.Replace("once: true\n"+startPlan, "seed: start", "seed: other", 1)} {
			s.write("evensprout.yaml", plan)
			r = s.on("load")
			assert.Zero(t, r.code, r.errOut)
			assert.Equal(t, 1, strings.Count(r.out, "\n"), r.out)
			assert.Regexp(t, `^done: load \d+ filled .* once: true\. Nothing to do\.\n$`, r.out)
			assert.Equal(t, some, s.rows(t))
			r = s.on("load", "--quiet")
			assert.Zero(t, r.code, r.errOut)
			assert.Empty(t, r.out+r.errOut)
		}
		s.write("evensprout.yaml", "once: true\n"+startPlan)
		r = s.on("load", "--json")
		assert.Zero(t, r.code, r.errOut)
		assert.Regexp(t, `"earlier": \d`, r.out)
		assert.Equal(t, 2, s.on("load", "--no-journal").code, "without a journal nobody knows")
		assert.Zero(t, s.on("withdraw").code)
		r = s.on("load")
		assert.Zero(t, r.code, r.errOut)
		assert.Contains(t, r.out, "24 rows")
	})
}
