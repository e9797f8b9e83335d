package main

import (
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A load with more chunks than the journal can list is refused before anything is written, with a size that will do.
func TestManyChunks(t *testing.T) {
	f := newFolder(t)
	f.makeDB("quay.db", "CREATE TABLE stamps (id INTEGER PRIMARY KEY)")
	f.write("evensprout.yaml", "name: quay\nseed: s\nclock: 2026-05-01T08:00:00Z\nentities:\n"+
		"  Stamp: {table: stamps, rows: 100200}\n")
	r := f.run("load", "--db", "sqlite:quay.db", "--chunk", "1")
	assert.Equal(t, 2, r.code, r.out)
	assert.Contains(t, r.errOut, "the load would have 100,201 chunks, and the journal lists at most 100,000 of a load")
	assert.Equal(t, []string{"0"}, f.query("quay.db", "SELECT count(*) FROM stamps"))
	hint := regexp.MustCompile(`--chunk \d+`).FindString(r.errOut)
	require.NotEmpty(t, hint)
	for _, command := range [][]string{{"load"}, {"compare"}} {
		args := append(command, "--db", "sqlite:quay.db")
		if command[0] == "load" {
			args = append(args, strings.Fields(hint)...)
		}
		r = f.run(args...)
		require.Zero(t, r.code, r.errOut)
	}
	assert.Equal(t, []string{"100200"}, f.query("quay.db", "SELECT count(*) FROM stamps"))
}
