package main

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const triggerTables = `
CREATE TABLE ports (id {key}, label VARCHAR(60) NOT NULL, boats INTEGER NOT NULL DEFAULT 0);
CREATE TABLE boats (id {key}, port_id INTEGER NOT NULL REFERENCES ports (id), name VARCHAR(60) NOT NULL,
  slug VARCHAR(60), seats INTEGER NOT NULL);`

// Triggers that change rows which are written: one its own row, one another table's.
var rewriting = map[string][]string{
	"sqlite": {
		"CREATE TRIGGER boat_slug AFTER INSERT ON boats BEGIN UPDATE boats SET slug = lower(NEW.name), name = " +
			"upper(NEW.name) WHERE id = NEW.id; END",
		"CREATE TRIGGER boat_count AFTER INSERT ON boats BEGIN UPDATE ports SET boats = boats + 1 WHERE id = " +
			"NEW.port_id; END",
		"CREATE TRIGGER boat_gone AFTER DELETE ON boats BEGIN UPDATE ports SET boats = boats - 1 WHERE id = " +
			"OLD.port_id; END",
	},
	"mariadb": {
		"CREATE TRIGGER boat_slug BEFORE INSERT ON boats FOR EACH ROW SET NEW.slug = lower(NEW.name), NEW.name = " +
			"upper(NEW.name)",
		"CREATE TRIGGER boat_count AFTER INSERT ON boats FOR EACH ROW UPDATE ports SET boats = boats + 1 WHERE id " +
			"= NEW.port_id",
		"CREATE TRIGGER boat_gone AFTER DELETE ON boats FOR EACH ROW UPDATE ports SET boats = boats - 1 WHERE id = " +
			"OLD.port_id",
	},
	"postgres": {
		"CREATE FUNCTION slug() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN NEW.slug := lower(NEW.name); NEW.name " +
			":= upper(NEW.name); RETURN NEW; END $$",
		"CREATE TRIGGER boat_slug BEFORE INSERT ON boats FOR EACH ROW EXECUTE FUNCTION slug()",
		"CREATE FUNCTION counted() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN IF TG_OP = 'INSERT' THEN UPDATE " +
			"ports SET boats = boats + 1 WHERE id = NEW.port_id; ELSE UPDATE ports SET boats = boats - 1 WHERE id " +
			"= OLD.port_id; END IF; RETURN NULL; END $$",
		"CREATE TRIGGER boat_count AFTER INSERT OR DELETE ON boats FOR EACH ROW EXECUTE FUNCTION counted()",
	},
}

const triggerPlan = `name: triggers
seed: s
clock: 2026-05-01T08:00:00Z
entities:
  Port: {table: ports, rows: 30, fields: {label: {kind: locality}, boats: {value: 0}}}
  Boat: {table: boats, rows: ROWS, fields: {port: {pick: Port}, name: {kind: title}, slug: {value: none},
    seats: {between: 2..9}}}
`

// What triggers rewrite is read back with the load: it is no change, and it is undone.
func TestTriggersThatRewrite(t *testing.T) {
	for _, commit := range []string{"load", "chunk"} {
		t.Run(commit, func(t *testing.T) {
			onTables(t, triggerTables, strings.Replace(triggerPlan, "ROWS", "700", 1), func(t *testing.T, s *site) {
				s.exec(t, rewriting[s.name]...)
				before := s.rows(t)
				args := []string{"--commit", commit}
				if commit == "chunk" {
					args = append(args, "--chunk", "90", "--jobs", "2")
				}
				r := s.on(append([]string{"load"}, args...)...)
				require.Zero(t, r.code, r.errOut)
				name := s.column(t, "boats", "name")[0]
				assert.Equal(t, strings.ToUpper(name), name)
				assert.Equal(t, strings.ToLower(name), s.column(t, "boats", "slug")[0])
				r = s.on("compare")
				assert.Zero(t, r.code, r.out+r.errOut)

				// What the application changes afterwards is a change, and is put back as it was.
				loaded := s.rows(t)
				s.exec(
					t,
					"UPDATE boats SET slug = 'other', name = 'OTHER' WHERE id = 5",
					"UPDATE ports SET boats = 99 WHERE id = 3",
				)
				r = s.on("compare")
				assert.Equal(t, 7, r.code, r.out+r.errOut)
				r = s.on("load", "--restore")
				require.Zero(t, r.code, r.errOut)
				assert.Empty(t, difference(loaded, s.rows(t)))

				r = s.on("withdraw", "--commit", commit)
				require.Zero(t, r.code, r.out+r.errOut)
				assert.Empty(t, difference(before, s.rows(t)))
			})
		})
	}
}
