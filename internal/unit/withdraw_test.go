package unit_test

import (
	"testing"

	"evensprout/internal/loadtest"
	"evensprout/internal/withdraw"

	"evensprout/internal/load"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What a unit did is taken back to the last bit, last steps first, also where the same
// row was changed many times.
func TestWithdrawingAUnitRestoresTheDump(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes long")
	}
	for _, size := range []string{"1", "100", "all"} {
		loadtest.OnEach(t, purse, func(t *testing.T, d *loadtest.DB) {
			k := newDesk(t, d)
			k.write(t, "moves.csv", moves(50, 9))
			k.fill(t, together(size))
			before := loadtest.Dump(t, k.Store)
			r, err := k.run(t, together(size), k.Journaled(load.Options{Policies: skipAll()}))
			require.NoError(t, err)
			require.NotEqual(t, before, loadtest.Dump(t, k.Store))

			dry, err := withdraw.Run(t.Context(), k.Store, r.Load, withdraw.Options{DryRun: true})
			require.NoError(t, err)
			w, err := withdraw.Run(t.Context(), k.Store, r.Load, withdraw.Options{})
			require.NoError(t, err)
			assert.Equal(t, dry.Entities, w.Entities)
			assert.Zero(t, w.Left)
			assert.Equal(t, before, loadtest.Dump(t, k.Store))

			_, err = withdraw.Run(t.Context(), k.Store, r.Load, withdraw.Options{})
			assert.ErrorContains(t, err, "withdrawn")
			again, err := k.run(t, together(size), k.Journaled(load.Options{Policies: skipAll()}))
			require.NoError(t, err)
			assert.Equal(t, r.Done, again.Done, "what was withdrawn can be done again")
		})
	}
}

// Rows that go with a deleted one come back with it, each once: also one that goes for
// two reasons, one that refers to itself, and one that is deleted beside what it refers to.
func TestWithdrawingADeleteGivesBackWhatWentWithIt(t *testing.T) {
	const tables = `
CREATE TABLE harbours (id INTEGER PRIMARY KEY, code VARCHAR(10) UNIQUE, main_id INTEGER, FOREIGN KEY (main_id)
  REFERENCES harbours (id) ON DELETE CASCADE);
CREATE TABLE piers (id INTEGER PRIMARY KEY, harbour_id INTEGER NOT NULL, FOREIGN KEY (harbour_id)
  REFERENCES harbours (id) ON DELETE CASCADE);
CREATE TABLE crews (id INTEGER PRIMARY KEY, harbour_code VARCHAR(10), FOREIGN KEY (harbour_code)
  REFERENCES harbours (code) ON DELETE CASCADE);
CREATE TABLE duties (id INTEGER PRIMARY KEY, pier_id INTEGER, crew_id INTEGER, FOREIGN KEY (pier_id)
  REFERENCES piers (id) ON DELETE CASCADE, FOREIGN KEY (crew_id) REFERENCES crews (id) ON DELETE CASCADE);
CREATE TABLE notes (duty_id INTEGER, note VARCHAR(20), FOREIGN KEY (duty_id) REFERENCES duties (id) ON DELETE CASCADE);`
	for condition, matched := range map[string]string{
		"{id: 1}":      "the row that refers to itself",
		"{main_id: 1}": "it, and the one below it, by one statement",
		"{id: 3}":      "a row whose code is NULL: the crew without a harbour stays",
	} {
		loadtest.OnEach(t, tables, func(t *testing.T, d *loadtest.DB) {
			k := newDesk(t, d)
			d.Script(t,
				"INSERT INTO harbours VALUES (1, 'LW', 1), (2, 'OB', 1), (3, NULL, NULL), (4, 'FP', 4)",
				"INSERT INTO piers VALUES (1, 1), (2, 2), (3, 3), (4, 4)",
				"INSERT INTO crews VALUES (1, 'LW'), (2, 'OB'), (3, NULL), (4, 'FP')",
				"INSERT INTO duties VALUES (1, 1, 1), (2, 2, 1), (3, 3, NULL), (4, 4, 4), (5, 4, 2)",
				"INSERT INTO notes VALUES (1, 'twice'), (1, 'twice'), (4, 'stays'), (3, 'alone')")
			before := loadtest.Dump(t, k.Store)
			r, err := k.run(
				t,
				"units:\n  close:\n    given: {one: {n: 1}}\n    steps:\n      - {delete: harbours, match: "+
					condition+", expect: "+
					"any}\n",
				k.Journaled(load.Options{}),
			)
			require.NoError(t, err, matched)
			require.NotEqual(t, before, loadtest.Dump(t, k.Store), matched)
			assert.Contains(t, k.Table(t, "crews", "id"), "3")
			w, err := withdraw.Run(t.Context(), k.Store, r.Load, withdraw.Options{})
			require.NoError(t, err, matched)
			assert.Zero(t, w.Left, "%s: %v", matched, w.LeftRows)
			assert.Equal(t, before, loadtest.Dump(t, k.Store), matched)
		})
	}
}

// What others have changed since is left alone, and told; --also changed takes it back.
func TestWithdrawingAUnitLeavesWhatOthersChanged(t *testing.T) {
	loadtest.OnEach(t, purse, func(t *testing.T, d *loadtest.DB) {
		k := newDesk(t, d)
		k.write(t, "moves.csv", "from,to,amount\nA1,A2,1.00\nA3,A4,2.00\n")
		k.fill(t, together("10"))
		r, err := k.run(t, together("10"), k.Journaled(load.Options{}))
		require.NoError(t, err)
		d.Script(t, "UPDATE accounts SET balance = 77 WHERE number = 'A2'")
		dry, err := withdraw.Run(t.Context(), k.Store, r.Load, withdraw.Options{DryRun: true, Changed: true})
		require.NoError(t, err)
		assert.Zero(t, dry.Left)
		w, err := withdraw.Run(t.Context(), k.Store, r.Load, withdraw.Options{})
		require.NoError(t, err)
		assert.Equal(t, int64(1), w.Left)
		assert.Equal(t, []withdraw.LeftRow{{Entity: "accounts", Key: "id 2", Why: "it was changed since"}}, w.LeftRows)
		assert.Empty(t, k.Table(t, "movements"))
		assert.Equal(t, []string{"1 100.00", "2 77.00", "3 100.00"}, k.Table(t, "accounts", "id", "balance")[:3])
	})
}
