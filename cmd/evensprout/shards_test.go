package main

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/store/storetest"
)

// Tables whose rows, or some of them, are on another PostgreSQL server: they are drafted, checked with a warning,
// loaded, compared and withdrawn. One that takes no rows is refused by its name.
func TestShards(t *testing.T) {
	server := storetest.Postgres(t)
	shard := server.Database(t, `CREATE TABLE gulls (id INTEGER PRIMARY KEY, name VARCHAR(60) NOT NULL);
CREATE TABLE terns (id INTEGER PRIMARY KEY, name VARCHAR(60) NOT NULL, area INTEGER NOT NULL);
CREATE VIEW fixed AS SELECT 1 AS id, 'a'::text AS name;`)
	name := shard[strings.LastIndexByte(shard, '/')+1:]
	f := newFolder(t)
	s := &site{folder: f, engine: engines()[1]}
	s.url = server.Database(t, fmt.Sprintf(`CREATE EXTENSION postgres_fdw;
CREATE SERVER other FOREIGN DATA WRAPPER postgres_fdw OPTIONS (host '127.0.0.1', port '%d', dbname '%s');
CREATE USER MAPPING FOR tester SERVER other OPTIONS (user 'tester');
CREATE FOREIGN TABLE gulls (id INTEGER NOT NULL, name VARCHAR(60) NOT NULL) SERVER other;
CREATE TABLE terns (id INTEGER NOT NULL, name VARCHAR(60) NOT NULL, area INTEGER NOT NULL) PARTITION BY RANGE (area);
CREATE TABLE terns0 PARTITION OF terns FOR VALUES FROM (0) TO (5);
CREATE FOREIGN TABLE terns1 PARTITION OF terns FOR VALUES FROM (5) TO (10) SERVER other OPTIONS (table_name 'terns');
`, server.Port, name))

	r := s.on("survey", "--out", "evensprout.yaml", "--rows", "40")
	require.Zero(t, r.code, r.errOut)
	draft := f.read("evensprout.yaml")
	assert.Equal(t, 2, strings.Count(draft, "{count: 1}"), "the shards have keys that are not seen here: %s", draft)
	f.write("evensprout.yaml", strings.NewReplacer("[1, 4]", "[0, 9]").Replace(draft))
	assert.Contains(t, s.on("look").out, "gulls")

	r = s.on("check")
	require.Zero(t, r.code, r.errOut)
	assert.Contains(t, r.errOut, "the rows of the table gulls are stored elsewhere: it is a foreign table")
	assert.Contains(t, r.errOut, "the rows of the table terns are stored elsewhere: its part public.terns1 is a "+
		"foreign table")
	assert.Contains(t, r.errOut, "if one of the two commits fails, the journal and these rows differ")

	before := s.rows(t)
	for _, args := range [][]string{{"load"}, {"load", "--commit", "chunk", "--chunk", "15"}} {
		r = s.on(args...)
		require.Zero(t, r.code, r.errOut)
		there := &site{folder: f, engine: engines()[1], url: shard}
		assert.Len(t, there.column(t, "gulls", "id"), 40)
		assert.NotEmpty(t, there.column(t, "terns", "id"))
		assert.Less(t, len(there.column(t, "terns", "id")), 40)
		assert.Zero(t, s.on("compare").code)
		r = s.on("withdraw")
		require.Zero(t, r.code, r.out+r.errOut)
		assert.Empty(t, difference(before, s.rows(t)))
		assert.Empty(t, there.column(t, "gulls", "id"))
	}

	// What the other server does not take is refused for that table, and nothing is written.
	s.exec(t, "CREATE FOREIGN TABLE fixed (id INTEGER NOT NULL, name VARCHAR(60) NOT NULL) SERVER other OPTIONS "+
		"(updatable 'false')")
	f.write("fixed.yaml", "name: fixed\nseed: s\nclock: 2026-05-01T08:00:00Z\nentities:\n  Fixed:\n    table: fixed\n"+
		"    rows: 2\n    fields: {id: {count: 5}, name: {kind: title}}\n")
	r = s.on("check", "fixed.yaml")
	assert.Equal(t, 4, r.code, r.errOut)
	assert.Contains(t, r.errOut, "rows cannot be written to fixed: its server takes none")

	// The other server does not answer: what is here can be seen all the same.
	s.exec(t, "DROP FOREIGN TABLE fixed", "CREATE TABLE here (id INTEGER PRIMARY KEY)",
		"ALTER SERVER other OPTIONS (SET port '1')")
	r = s.on("look")
	assert.Zero(t, r.code, r.errOut)
	assert.Regexp(t, `gulls +not reached`, r.out)
	assert.Regexp(t, `here +0 `, r.out)
	assert.Zero(t, s.on("look", "--json").code)
	r = s.on("survey")
	assert.Zero(t, r.code, r.errOut)
	assert.Contains(t, r.out, "table: here")
	assert.Contains(t, r.out+r.errOut, "its rows cannot be read: ")
}
