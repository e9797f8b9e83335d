package replay_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/archive"
	"evensprout/internal/files"
	"evensprout/internal/journal"
	"evensprout/internal/load"
	"evensprout/internal/loadtest"
	"evensprout/internal/replay"
	"evensprout/internal/store/storetest"
)

func TestMain(m *testing.M) { storetest.Main(m) }

const (
	script = `CREATE TABLE ports (id {key}, code VARCHAR(8) NOT NULL UNIQUE, label VARCHAR(20));
CREATE TABLE berths (id {key}, port_id INTEGER NOT NULL REFERENCES ports (id), number INTEGER NOT NULL);`
	entities = `  Port:
    table: ports
    rows: 6
    fields: {code: {pattern: "[A-Z]{5}", unique: true}, label: {kind: locality}}
  Berth:
    table: berths
    per: {Port: 2}
    fields: {number: {between: [1, 90]}}
`
)

// past is a load that was done.
func past(t *testing.T, d *loadtest.DB) []*load.PastLoad {
	t.Helper()
	pasts, err := load.RecallAll(
		t.Context(), journal.Unlocked(d.Store), load.Loads{Plan: "t"}, nil, archive.Operator{Rows: files.Rows},
	)
	require.NoError(t, err)
	t.Cleanup(func() { load.CloseAll(pasts) })
	return pasts
}

// of says whose rows are restored.
func of(o replay.RestoreOptions) replay.RestoreOptions {
	o.Of, o.By = load.Loads{Plan: "t"}, archive.Operator{Rows: files.Rows}
	return o
}

// Comparing tells each row that is missing, changed or extra; restoring brings the tables
// back by as many changes, and leaves rows of others in tables that held some.
func TestWhatDiffersIsRestored(t *testing.T) {
	loadtest.OnEach(t, script, func(t *testing.T, d *loadtest.DB) {
		d.Script(t, "INSERT INTO ports (id, code, label) VALUES (900, 'MINE', 'there before')")
		_, err := d.Load(t, entities, d.Journaled(load.Options{}))
		require.NoError(t, err)
		whole := loadtest.Dump(t, d.Store)
		d.Script(
			t,
			"DELETE FROM berths WHERE id IN (1, 4)",
			"UPDATE ports SET label = 'elsewhere' WHERE id = 2",
			"INSERT INTO berths (id, port_id, number) VALUES (700, 900, 1)",
		)
		diff, err := replay.Compare(t.Context(), d.Store, past(t, d), replay.CompareOptions{})
		require.NoError(t, err)
		assert.False(t, diff.Same())
		assert.Equal(t, []int64{2, 1, 1}, []int64{diff.Missing, diff.Changed, diff.Extra})
		assert.Equal(t, "label", diff.Entities[0].ChangedRows[0].Cells[0].Field)

		tried, err := replay.Restore(t.Context(), d.Store, of(replay.RestoreOptions{DryRun: true}))
		require.NoError(t, err)
		done, err := replay.Restore(t.Context(), d.Store, of(replay.RestoreOptions{}))
		require.NoError(t, err)
		assert.Equal(t, []int64{2, 1, 1}, []int64{done.Inserted, done.Updated, done.Deleted})
		assert.Equal(t, []int64{2, 1, 1}, []int64{tried.Inserted, tried.Updated, tried.Deleted}, "as it was foretold")
		assert.Equal(t, whole, loadtest.Dump(t, d.Store))
	})
}

// Rows that are gone are counted and put back; others are left as they are.
func TestRowsThatAreGoneArePutBack(t *testing.T) {
	loadtest.OnEach(t, script, func(t *testing.T, d *loadtest.DB) {
		_, err := d.Load(t, entities, d.Journaled(load.Options{}))
		require.NoError(t, err)
		d.Script(
			t,
			"DELETE FROM berths WHERE id IN (2, 3, 9)",
			"UPDATE ports SET label = 'edited' WHERE id = 1",
		)
		edited := d.Table(t, "ports", "label")
		found, err := replay.EarlierRows{}.Missing(t.Context(), d.Store, past(t, d))
		require.NoError(t, err)
		missing := map[string]int64{}
		for _, e := range found {
			missing[e.Entity] = e.Missing
		}
		assert.Equal(t, map[string]int64{"Port": 0, "Berth": 3}, missing)
		n, err := replay.EarlierRows{}.PutBack(t.Context(), d.Store, past(t, d), load.Options{})
		require.NoError(t, err)
		assert.EqualValues(t, 3, n)
		assert.Len(t, d.Table(t, "berths", "id"), 12)
		assert.ElementsMatch(t, edited, d.Table(t, "ports", "label"), "what was edited stays")
	})
}
