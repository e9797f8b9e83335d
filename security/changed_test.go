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
