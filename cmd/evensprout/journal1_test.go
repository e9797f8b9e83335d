package main

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// stored is a database that an earlier program filled: loads in chunks, more rows, runs of a unit, rows
// that were changed, and others that a trigger rewrote. Such a folder is never written anew. before are
// the rows without the loads.
func stored(t *testing.T, e engine, folder string) (s *site, text func(name string) string, before string) {
	text = func(name string) string {
		b, err := os.ReadFile(filepath.Join("testdata", folder, name))
		require.NoError(t, err)
		return string(b)
	}
	f := newFolder(t)
	f.write("evensprout.yaml", text("plan.yaml"))
	s = &site{folder: f, engine: e, script: text("schema.sql")}
	s.url = s.database(t)
	before = s.rows(t)
	s.script = text("database.sql")
	s.url = s.database(t)
	return s, text, before
}

// A journal of a version whose rows this one does not generate is shown, and nothing of its loads is
// touched. What the hint says works.
func TestAJournalOfOtherRows(t *testing.T) {
	s, _, _ := stored(t, engines()[0], "journal1")
	rows := s.rows(t)
	for _, n := range []string{"1", "2", "3", "4"} {
		r := s.on("history", n)
		assert.Zero(t, r.code, r.errOut)
	}
	for _, args := range [][]string{{"compare"}, {"load", "--restore"}, {"withdraw", "3"}, {"load", "--anew"}} {
		r := s.on(args...)
		assert.Equal(t, 2, r.code, "%v: %s", args, r.errOut)
		assert.Contains(t, r.errOut, "which generates other rows than this version", args)
		assert.Contains(t, r.errOut, "history --forget", args)
		assert.Equal(t, rows, s.rows(t), args)
	}
	s.exec(t, "DELETE FROM notes", "DELETE FROM boats", "DELETE FROM ports")
	for _, n := range []string{"4", "3", "2", "1"} {
		r := s.on("history", "--forget", n)
		require.Zero(t, r.code, r.errOut)
	}
	r := s.on("load")
	require.Zero(t, r.code, r.errOut)
	assert.Zero(t, s.on("compare").code)
}

// Whatever is rebuilt inside, a journal is understood as it was.
func TestAStoredJournalIsUnderstood(t *testing.T) {
	for i, folder := range []string{"journal2", "journal2-postgres", "journal2-mariadb"} {
		t.Run(folder, func(t *testing.T) { understood(t, engines()[i], folder) })
	}
}

func understood(t *testing.T, e engine, folder string) {
	s, text, before := stored(t, e, folder)

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
	assert.Equal(t, text("plan.yaml"), r.out)

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
