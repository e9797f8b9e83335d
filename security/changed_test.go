//go:build unix

package security_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A row whose unplanned columns an application has changed is not ours to delete.
func TestChangedRowsStay(t *testing.T) {
	on(t, "CREATE TABLE orders (id INTEGER PRIMARY KEY, code VARCHAR(20) NOT NULL, state VARCHAR(20) NOT NULL DEFAULT 'new', "+
		"paid INTEGER NOT NULL DEFAULT 0, total DECIMAL(8,2) DEFAULT -1.50, note VARCHAR(40), due DATE DEFAULT '2026-01-31');",
		func(t *testing.T, b *box) {
			b.write("evensprout.yaml", "name: orders\nseed: s\nclock: 2026-05-01T08:00:00Z\nentities:\n  Order:\n    table: orders\n"+
				"    rows: 8\n    fields: {id: {count: {from: 1}}, code: {pattern: \"[A-Z]{6}\"}}\n")
			require.Zero(t, b.on("load").code)
			compared := b.on("compare")
			require.Zero(t, compared.code, compared.all())
			b.exec("UPDATE orders SET state = 'paid' WHERE id = 2", "UPDATE orders SET paid = 1 WHERE id = 3",
				"UPDATE orders SET note = 'call back' WHERE id = 4", "UPDATE orders SET total = 9.00 WHERE id = 5",
				"UPDATE orders SET due = '2026-02-28' WHERE id = 6", "UPDATE orders SET total = NULL WHERE id = 7")
			for _, args := range [][]string{{"withdraw"}, {"withdraw", "--commit", "chunk"}} {
				r := b.on(args...)
				assert.Equal(t, 6, r.code, r.all())
				assert.Equal(t, int64(6), b.ask("SELECT count(*) FROM orders"), "%v: %s", args, r.all())
				assert.Equal(t, int64(0), b.ask("SELECT count(*) FROM orders WHERE id IN (1, 8)"))
			}
			r := b.on("withdraw", "--also", "changed")
			assert.Zero(t, r.code, r.all())
			assert.Zero(t, b.ask("SELECT count(*) FROM orders"))
			require.Zero(t, b.on("load").code)
			require.Zero(t, b.on("withdraw").code, "unchanged rows go")
			assert.Zero(t, b.ask("SELECT count(*) FROM orders"))
		})
}

// Columns that an application keeps do not count, where the plan or the command line says so.
func TestIgnoredColumnsDoNotCount(t *testing.T) {
	const text = "name: users\nseed: s\nclock: 2026-05-01T08:00:00Z\nentities:\n  User:\n    table: users\n    rows: 8\n" +
		"    fields: {id: {count: {from: 1}}, code: {pattern: \"[A-Z]{6}\"}, mood: {choose: [calm, keen]}}\n"
	on(t, "CREATE TABLE users (id INTEGER PRIMARY KEY, code VARCHAR(20) NOT NULL, mood VARCHAR(9), visits INTEGER NOT NULL DEFAULT 0);",
		func(t *testing.T, b *box) {
			change := func() {
				b.exec("UPDATE users SET visits = visits + 1 WHERE id > 2", "UPDATE users SET mood = 'grim' WHERE id = 5")
			}
			for name, ignore := range map[string]struct {
				plan  string
				flags []string
			}{
				"plan":   {"ignore: [visits, mood]\n" + text, nil},
				"entity": {text + "    ignore: [visits, mood]\n", nil},
				"flag":   {text, []string{"--ignore", "visits,mood"}},
			} {
				b.write("evensprout.yaml", text)
				require.Zero(t, b.on("load").code, name)
				change()
				require.NotZero(t, b.on("compare").code, name)
				b.write("evensprout.yaml", ignore.plan)
				for _, args := range [][]string{{"compare"}, {"load", "--restore"}, {"load"}, {"withdraw"}} {
					if ignore.flags != nil && args[0] == "load" {
						continue // only the plan says so for load
					}
					args = append(args, ignore.flags...)
					r := b.on(args...)
					assert.Zero(t, r.code, "%s %v: %s", name, args, r.all())
					if args[0] != "withdraw" {
						assert.Equal(t, int64(1), b.ask("SELECT count(*) FROM users WHERE mood = 'grim'"), "%s %v", name, args)
					}
				}
				assert.Zero(t, b.ask("SELECT count(*) FROM users"), name)
			}
			require.Zero(t, b.on("load").code)
			for _, command := range []string{"compare", "withdraw"} {
				r := b.on(command, "--ignore", "code,vists")
				assert.Equal(t, 2, r.code, r.all())
				assert.Contains(t, r.err, "did you mean visits?")
			}
			assert.Equal(t, int64(8), b.ask("SELECT count(*) FROM users"), "nothing is withdrawn")
			for _, wrong := range []string{text + "    ignore: [vists]\n", "ignore: [mood, vists]\n" + text} {
				b.write("evensprout.yaml", wrong)
				r := b.on("check")
				assert.NotZero(t, r.code)
				assert.Contains(t, r.err, "visits", "the nearest column is named")
			}
		})
}
