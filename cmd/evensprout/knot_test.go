package main

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The tables as each engine can have them; MariaDB allows no such reference.
var knotTables = map[string]string{
	"postgres": `
CREATE TABLE refs (id {key}, version INTEGER NOT NULL);
CREATE TABLE shelves (id {key}, ref_id INTEGER NOT NULL REFERENCES refs (id));
CREATE TABLE features (id {key}, ref_id INTEGER NOT NULL
  REFERENCES refs (id) ON DELETE SET NULL DEFERRABLE INITIALLY DEFERRED,
  shelf_id INTEGER NOT NULL REFERENCES shelves (id), name VARCHAR(20) NOT NULL);
CREATE TABLE notes (id {key}, feature_id INTEGER NOT NULL REFERENCES features (id));
ALTER TABLE refs ADD main_id INTEGER NOT NULL
  REFERENCES features (id) ON DELETE SET NULL DEFERRABLE INITIALLY DEFERRED;`,
	"sqlite": `
CREATE TABLE refs (id {key}, version INTEGER NOT NULL, main_id INTEGER NOT NULL
  REFERENCES features (id) ON DELETE SET NULL DEFERRABLE INITIALLY DEFERRED);
CREATE TABLE shelves (id {key}, ref_id INTEGER NOT NULL REFERENCES refs (id));
CREATE TABLE features (id {key}, ref_id INTEGER NOT NULL
  REFERENCES refs (id) ON DELETE SET NULL DEFERRABLE INITIALLY DEFERRED,
  shelf_id INTEGER NOT NULL REFERENCES shelves (id), name VARCHAR(20) NOT NULL);
CREATE TABLE notes (id {key}, feature_id INTEGER NOT NULL REFERENCES features (id));`,
}

const knotPlan = `name: knot
seed: s
clock: 2026-05-01T08:00:00Z
entities:
  Ref: {table: refs, rows: 40, fields: {version: {between: 1..9}, main: {pick: Feature}}}
  Shelf: {table: shelves, rows: 10, fields: {ref: {pick: Ref}}}
  Feature: {table: features, rows: 60, fields: {ref: {pick: Ref}, shelf: {pick: Shelf}, name: {kind: title}}}
`

// Tables that refer to each other by NOT NULL columns with ON DELETE SET NULL go together.
func TestKnotsAreWithdrawn(t *testing.T) {
	for _, e := range engines()[:2] {
		for _, commit := range []string{"load", "chunk"} {
			t.Run(e.name+" "+commit, func(t *testing.T) {
				s := &site{folder: newFolder(t), engine: e, script: knotTables[e.name]}
				s.write("evensprout.yaml", knotPlan)
				s.url = s.database(t)
				before := s.rows(t)
				r := s.on("load")
				require.Zero(t, r.code, r.errOut)
				loaded := s.rows(t)

				// A row that must stay keeps the others of its knot.
				s.exec(t, "INSERT INTO notes (id, feature_id) VALUES (1, 7)")
				r = s.on("withdraw", "--commit", commit)
				assert.NotZero(t, r.code, r.out)
				assert.Contains(t, r.out+r.errOut, "rows of notes refer to it")
				s.exec(t, "DELETE FROM notes")
				assert.Empty(t, difference(loaded, s.rows(t)))

				s.exec(t, "UPDATE features SET name = 'x' WHERE id = 3")
				r = s.on("withdraw", "--commit", commit)
				assert.NotZero(t, r.code, r.out)
				r = s.on("withdraw", "--commit", commit, "--also", "changed")
				require.Zero(t, r.code, r.errOut)
				assert.Empty(t, difference(before, s.rows(t)))

				require.Zero(t, s.on("load").code)
				s.exec(t, "INSERT INTO notes (id, feature_id) VALUES (1, 7)")
				r = s.on("withdraw", "--commit", commit, "--also", "referring")
				require.Zero(t, r.code, r.errOut)
				assert.Empty(t, difference(before, s.rows(t)))
			})
		}
	}
}
