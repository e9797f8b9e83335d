package trial_test

import (
	"context"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/plan"
	"evensprout/internal/store"
	"evensprout/internal/store/sqlite"
	"evensprout/internal/trial"
)

const boats = `name: boats
seed: s
clock: 2026-05-01T08:00:00Z
entities:
  Boat:
    table: boats
    rows: 40
    fields: {name: {pattern: "[A-Z]{6}"}, seats: {between: [2, 12]}}
`

// opened is a file with a table, and the plan of its rows.
func opened(t *testing.T) (trial.Database, *plan.Compiled, func(context.Context) (store.Store, error)) {
	path := filepath.Join(t.TempDir(), "boats.db")
	require.NoError(t, sqlite.Create(
		path,
		"CREATE TABLE boats (id INTEGER PRIMARY KEY, name TEXT NOT NULL, seats INTEGER NOT NULL)",
	))
	again := func(ctx context.Context) (store.Store, error) { return sqlite.Driver{}.Open(ctx, "sqlite:"+path) }
	s, err := again(t.Context())
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, s.Close()) })
	db, err := s.Survey(t.Context())
	require.NoError(t, err)
	p, err := plan.Read("boats.yaml", []byte(boats))
	require.NoError(t, err)
	c, err := p.Compile(plan.Options{Database: db})
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, c.Close()) })
	return s.(trial.Database), c, again
}

// Every way writes all rows, the best of each job is the measure of the others, and the
// database is as before.
func TestEveryWayIsMeasured(t *testing.T) {
	db, c, again := opened(t)
	told := 0
	r, err := trial.Run(t.Context(), db, c.Targets[0], c.Set, trial.Options{
		Counts: []int{5, 40}, Repeat: 2, Limit: time.Minute, Again: again,
		Progress: func(done, all int, what string) {
			assert.LessOrEqual(t, done, all)
			assert.NotEmpty(t, what)
			told++
		},
	})
	require.NoError(t, err)
	assert.Positive(t, told)
	assert.Equal(t, "Boat", r.Entity)
	best := map[trial.Job]int{}
	for _, m := range r.Measures {
		assert.Equal(t, m.Rows, m.Written, m.Way)
		assert.LessOrEqual(t, m.Least, m.Rate, m.Way)
		assert.LessOrEqual(t, m.Rate, m.Most, m.Way)
		if m.Slower == 1 {
			best[m.Job]++
		}
	}
	assert.GreaterOrEqual(t, best[trial.Add], 2, "one for each number of rows")
	assert.GreaterOrEqual(t, best[trial.Change], 2)
	require.Len(t, r.Chosen, 2)
	tables, err := db.Survey(t.Context())
	require.NoError(t, err)
	assert.Len(t, tables.Tables, 1, "the tables of the trial are gone")
	n, err := db.Count(t.Context(), tables.Tables[0])
	require.NoError(t, err)
	assert.Zero(t, n)
}

// Where load rebuilds indexes, so does the trial, and measures both ways.
func TestATrialRebuildsIndexesAsLoadDoes(t *testing.T) {
	db, c, again := opened(t)
	for _, sql := range []string{
		"CREATE UNIQUE INDEX \"by ON name\" ON boats (name)",
		"CREATE INDEX by_seats ON boats (seats)",
	} {
		_, err := db.Exec(t.Context(), sql)
		require.NoError(t, err)
	}
	o := trial.Options{Counts: []int{5, 40}, Repeat: 1, Limit: time.Minute, Again: again, RebuildFrom: 20}
	r, err := trial.Run(t.Context(), db, c.Targets[0], c.Set, o)
	require.NoError(t, err)
	statements := map[string]map[int]int64{}
	for _, m := range r.Measures {
		if m.Job == trial.Add && m.Rows == m.Written {
			if statements[m.Way] == nil {
				statements[m.Way] = map[int]int64{}
			}
			statements[m.Way][m.Rows] = m.Statements
		}
	}
	place, rebuilt := statements[db.Bulk()+", indexes in place"], statements[db.Bulk()+", indexes rebuilt"]
	require.NotNil(t, place)
	require.NotNil(t, rebuilt)
	assert.Equal(t, place[5], rebuilt[5])
	assert.Greater(t, rebuilt[40], place[40]+3, "two indexes are dropped and made again")
	assert.Contains(t, r.Chosen[0].Way, "indexes rebuilt")
	assert.Contains(t, r.Chosen[0].Why, "behind 20 rows or more")
	tables, err := db.Survey(t.Context())
	require.NoError(t, err)
	assert.Len(t, tables.Tables, 1)

	o.RebuildFrom = 41
	r, err = trial.Run(t.Context(), db, c.Targets[0], c.Set, o)
	require.NoError(t, err)
	assert.Equal(t, db.Bulk(), r.Chosen[0].Way)
}

// A trial that is interrupted leaves no table.
func TestAnInterruptedTrialLeavesNothing(t *testing.T) {
	db, c, again := opened(t)
	ctx, cancel := context.WithCancel(t.Context())
	_, err := trial.Run(ctx, db, c.Targets[0], c.Set, trial.Options{
		Counts: []int{40}, Repeat: 3, Limit: time.Minute, Again: again,
		Progress: func(done, _ int, _ string) {
			if done == 2 {
				cancel()
			}
		},
	})
	require.ErrorIs(t, err, context.Canceled)
	tables, err := db.Survey(t.Context())
	require.NoError(t, err)
	assert.Len(t, tables.Tables, 1)
}
