package load_test

import (
	"fmt"
	"strings"
	"testing"

	"evensprout/internal/loadtest"
	"evensprout/internal/withdraw"

	"evensprout/internal/load"

	"evensprout/internal/journal"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const codeTables = "CREATE TABLE codes (id {key}, code VARCHAR(8) NOT NULL UNIQUE);"

func takenCodes(from, to int) string {
	var rows []string
	for i := from; i < to; i++ {
		rows = append(rows, fmt.Sprintf("(%d, 'P%03d')", 10_000+i, i))
	}
	return "INSERT INTO codes (id, code) VALUES " + strings.Join(rows, ", ")
}

func codesPlan(rows int) string {
	return fmt.Sprintf(
		"on_violation: {unique: redraw}\n\nentities:\n  Code:\n    table: codes\n    rows: %d\n    fields: {code: "+
			"{pattern: \"P[0-9]{3}\", unique: true}}\n",
		rows,
	)
}

// Where much of a small space is taken, what is free is found.
func TestRedrawFindsWhatIsFree(t *testing.T) {
	loadtest.OnEach(t, codeTables, func(t *testing.T, d *loadtest.DB) {
		d.Exec(t, takenCodes(0, 500))
		for _, rows := range []int{150, 500} {
			before := loadtest.Dump(t, d.Store)
			r, err := d.Load(t, headless(codesPlan(rows)), d.Journaled(load.Options{}))
			require.NoError(t, err, rows)
			assert.Len(t, d.Table(t, "codes", "code"), 500+rows)
			assert.Zero(t, d.Compared(t, r.Load).Missing)
			d.Withdrawn(t, r.Load, withdraw.Options{})
			assert.Equal(t, before, loadtest.Dump(t, d.Store))
		}
		// Where too little is free, it is said how much.
		_, err := d.Load(t, headless(codesPlan(501)), d.Journaled(load.Options{}))
		var refusal *journal.Refusal
		require.ErrorAs(t, err, &refusal)
		assert.Equal(t, "Code", refusal.Entity)
		assert.Contains(t, refusal.Hint, "1,000 different values")
		assert.Contains(t, refusal.Hint, "500 are free")
	})
}

func headless(rest string) string { return "name: t\nseed: s\nclock: 2026-05-01T08:00:00Z\n" + rest }
