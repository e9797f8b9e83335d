package load_test

import (
	"testing"

	"evensprout/internal/loadtest"
	"evensprout/internal/withdraw"

	"evensprout/internal/load"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// lateCrew is a plan whose circle is closed by a second write of Vessel.captain_id.
func lateCrew(write string) string {
	return "  Vessel:\n    table: vessels\n    rows: 5\n" + write + "    fields: {id: {count: 1}, name: {pattern: " +
		"\"[a-z]{5}\"}, captain_id: {pick: Crew}, changed_at: {before: clock, within: 9d}}\n" +
		"  Crew:\n    table: crew\n    rows: 20\n    fields: {id: {count: 1}, name: {pattern: \"[a-z]{5}\"}, " +
		"vessel_id: {pick: Vessel}}\n"
}

// onCircle runs a behaviour where references cannot be put off.
func onCircle(t *testing.T, behaviour func(t *testing.T, d *loadtest.DB)) {
	const script = `
CREATE TABLE vessels (id INTEGER PRIMARY KEY, name VARCHAR(20) NOT NULL, captain_id INTEGER, changed_at {moment});
CREATE TABLE crew (id INTEGER PRIMARY KEY, name VARCHAR(20) NOT NULL, vessel_id INTEGER NOT NULL
  REFERENCES vessels (id));`
	loadtest.OnEach(t, script, func(t *testing.T, d *loadtest.DB) {
		if d.Name == "sqlite" {
			t.Skip("it can put off every reference")
		}
		d.Exec(t, "ALTER TABLE vessels ADD CONSTRAINT captains FOREIGN KEY (captain_id) REFERENCES crew (id)")
		if d.Name == "mariadb" {
			d.Exec(
				t,
				"ALTER TABLE vessels MODIFY changed_at DATETIME(6) NOT NULL DEFAULT CURRENT_TIMESTAMP(6) ON UPDATE "+
					"CURRENT_TIMESTAMP(6)",
			)
		}
		require.NoError(t, d.Store.Close())
		d.Store = d.Open(t)
		behaviour(t, d)
	})
}

// A column that takes the time whenever its row is changed keeps the plan's, also where
// rows are written in two steps, and taken back in two.
func TestSecondWritesDoNotStamp(t *testing.T) {
	onCircle(t, func(t *testing.T, d *loadtest.DB) {
		before := loadtest.Dump(t, d.Store)
		r, err := d.Load(t, lateCrew(""), d.Journaled(load.Options{Chunk: 10}))
		require.NoError(t, err)
		for _, line := range d.Table(t, "vessels", "changed_at") {
			assert.Regexp(t, "^2026-0[45]", line)
		}
		diff := d.Compared(t, r.Load)
		assert.True(t, diff.Same(), "%+v", diff)
		d.Withdrawn(t, r.Load, withdraw.Options{})
		assert.Equal(t, before, loadtest.Dump(t, d.Store))
	})
}

// What somebody has changed in a reference that closes a circle stays as it is.
func TestWithdrawOfChangedCircles(t *testing.T) {
	onCircle(t, func(t *testing.T, d *loadtest.DB) {
		r, err := d.Load(t, lateCrew(""), d.Journaled(load.Options{}))
		require.NoError(t, err)
		d.Exec(t, "INSERT INTO crew VALUES (900, 'other', 1)")
		d.Exec(t, "UPDATE vessels SET captain_id = 900 WHERE id = 2")
		v, err := d.Withdraw(t, r.Load, withdraw.Options{})
		require.NoError(t, err)
		assert.Contains(
			t,
			v.LeftRows,
			withdraw.LeftRow{Entity: "Vessel", Row: "Vessel row 1", Key: "id 2", Why: "it was changed since"},
		)
		assert.Contains(t, d.Table(t, "vessels", "id", "captain_id"), "2 900")
	})
}

// A row that is kept is not touched by the second write either.
func TestKeptRowsKeepTheirReferences(t *testing.T) {
	onCircle(t, func(t *testing.T, d *loadtest.DB) {
		d.Exec(t, "INSERT INTO vessels (id, name, changed_at) VALUES (2, 'there', '2020-01-01 00:00:00')")
		e := d.Loaded(t, lateCrew("    write: {mode: keep, match: [id]}\n"), load.Options{})
		assert.Equal(t, int64(1), e["Vessel"].Kept)
		rows := d.Table(t, "vessels", "id", "name", "captain_id", "changed_at")
		assert.Len(t, rows, 5)
		assert.Contains(t, rows, "2 there NULL 2020-01-01T00:00:00Z")
	})
}
