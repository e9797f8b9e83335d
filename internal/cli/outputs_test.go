package cli

import (
	"path/filepath"
	"testing"

	"evensprout/internal/journal"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/load"
	"evensprout/internal/plan"
)

// Rows may be committed when a file breaks: the load goes on, and the end tells.
func TestFilesThatBreakAreReportedAtTheEnd(t *testing.T) {
	folder := t.TempDir()
	c := &plan.Compiled{Plan: &plan.Plan{Name: "fares"}}
	out, err := openOutputs(
		c,
		load.Options{},
		&writeFlags{changes: filepath.Join(folder, "changes.csv"), rejects: filepath.Join(folder, "rejects.ndjson")},
	)
	require.NoError(t, err)
	require.NoError(t, out.rejected.Close())
	require.NoError(t, out.changed.Close())
	require.NoError(t, out.reject(load.Rejection{Refusal: &journal.Refusal{Entity: "Fare"}}))
	require.NoError(t, out.change(load.Changed{Entity: "Fare"}))
	err = out.close(true)
	assert.ErrorContains(t, err, "rejects.ndjson is incomplete")
	assert.ErrorContains(t, err, "changes.csv is incomplete")
	assert.ErrorContains(t, err, "the load itself is")
}

func TestFilesIntoWhichNothingComes(t *testing.T) {
	for _, done := range []bool{true, false} {
		folder := t.TempDir()
		c := &plan.Compiled{Plan: &plan.Plan{Name: "fares"}}
		out, err := openOutputs(
			c,
			load.Options{},
			&writeFlags{
				changes: filepath.Join(folder, "changes.csv"),
				rejects: filepath.Join(folder, "rejects.ndjson"),
			},
		)
		require.NoError(t, err)
		require.NoError(t, out.close(done))
		assert.NoFileExists(t, filepath.Join(folder, "rejects.ndjson"))
		if done {
			assert.FileExists(t, filepath.Join(folder, "changes.csv"), "that nothing changed is an answer")
		} else {
			assert.NoFileExists(t, filepath.Join(folder, "changes.csv"))
		}
	}
}
