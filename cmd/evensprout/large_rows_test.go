package main

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Rows that are together larger than what may be held at a time are loaded, compared and withdrawn.
func TestLargeRows(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes seconds")
	}
	tables := map[string]string{"sqlite": "BLOB", "postgres": "BYTEA", "mariadb": "LONGBLOB"}
	const plan = `name: large
seed: s
clock: 2026-05-01T08:00:00Z
entities:
  Doc: {table: docs, rows: 52, fields: {body: {bytes: 1000000}, title: {kind: title}}}
`
	for _, e := range engines() {
		t.Run(e.name, func(t *testing.T) {
			f := newFolder(t)
			f.write("evensprout.yaml", plan)
			s := &site{folder: f, engine: e, script: strings.ReplaceAll("CREATE TABLE docs (id {key}, "+
				"title VARCHAR(200) NOT NULL, body BYTES NOT NULL);", "BYTES", tables[e.name])}
			s.url = s.database(t)
			for _, command := range []string{"load", "compare", "withdraw"} {
				r := s.on(command)
				require.Zero(t, r.code, command+r.errOut)
			}
			assert.Empty(t, s.column(t, "docs", "id"))
		})
	}
}
