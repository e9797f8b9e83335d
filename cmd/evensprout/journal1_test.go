package main

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A database that an earlier program filled: loads in chunks, more rows, runs of a unit, rows
// that were changed, and others that a trigger rewrote. Whatever is rebuilt inside, its
// journal is understood as it was: this file is never written anew.
func TestAStoredJournalIsUnderstood(t *testing.T) {
	text := func(name string) string {
		b, err := os.ReadFile(filepath.Join("testdata", "journal1", name))
		require.NoError(t, err)
		return string(b)
	}
	f := newFolder(t)
	f.write("evensprout.yaml", text("plan.yaml"))
	f.makeDB("stored.db", text("database.sql"))
	f.makeDB("before.db", text("schema.sql"))
	s := &site{folder: f, engine: engines()[0]}
	s.url = "sqlite:" + f.file("before.db")
	before := s.rows(t)
	s.url = "sqlite:" + f.file("stored.db")

	r := s.on("history", "--json")
	require.Zero(t, r.code, r.errOut)
	var loads []map[string]any
	listed(t, r, &loads)
	require.Len(t, loads, 4)
	for i, load := range loads {
		assert.Equal(t, "done", load["state"])
		assert.Equal(t, float64(i+1), load["number"])
	}
	for _, n := range []string{"1", "2", "3", "4"} {
		r = s.on("history", n)
		assert.Zero(t, r.code, r.errOut)
	}
	r = s.on("history", "3", "--plan")
	// The stored plan has the words of the version that wrote it.
	assert.Equal(t, strings.ReplaceAll(text("plan.yaml"), "{kind: title}", "{kind: text.title}"), r.out)

	loaded := s.rows(t)
	r = s.on("compare")
	assert.Zero(t, r.code, r.out+r.errOut)
	r = s.on("load")
	assert.Zero(t, r.code, r.errOut)
	assert.Contains(t, r.out, "done: 0 rows into")
	assert.Equal(t, loaded, s.rows(t))
	s.exec(
		t,
		"UPDATE boats SET name = 'CHANGED' WHERE id = 4",
		"DELETE FROM notes WHERE boat_id = 6",
		"DELETE FROM boats WHERE id = 6",
	)
	r = s.on("load", "--restore")
	require.Zero(t, r.code, r.errOut)
	assert.Equal(t, strings.Split(loaded, "== notes")[0], strings.Split(s.rows(t), "== notes")[0])

	for _, n := range []string{"4", "3", "2", "1"} {
		r = s.on("withdraw", n)
		require.Zero(t, r.code, r.out+r.errOut)
	}
	assert.Empty(t, difference(before, s.rows(t)))
}
