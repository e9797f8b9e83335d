package load_test

import (
	"fmt"
	"strings"
	"testing"

	"evensprout/internal/loadtest"
	"evensprout/internal/withdraw"

	"evensprout/internal/load"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/demo"
	"evensprout/internal/plan"
)

// Whatever the mode, withdrawing leaves the tables as they were before the load.
func TestWithdrawLeavesTheTablesAsTheyWere(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes long")
	}
	code := `{pattern: "P0[0-9]{3}", unique: true}`
	entity := func(write, rest string) string {
		return "  Port:\n    table: ports\n    write: " + write + "\n    rows: 700\n    fields: {id: {count: " +
			"{from: 1001}}, code: " + code + ", label: {pattern: \"[a-z]{5}\", nulls: 10%}, ratio: {between: [0.5, " +
			"9.5], step: 0.25}, raw: {bytes: 0..9}}\n" + rest
	}
	berths := "  Berth:\n    table: berths\n    per: {Port: 0..2}\n    fields: {id: {count: {from: 5001}}, number: " +
		"{between: [1, 90000]}, price: {between: [1.00, 9.00]}}\n" +
		"  Visit:\n    table: visits\n    rows: 40\n    fields: {port_id: {pick: Port}, note: {value: again}}\n"
	for _, c := range []struct{ name, plan string }{
		{"insert", strings.Replace(entity("insert", berths), "P0[0-9]{3}", "Q[0-9]{4}", 1)},
		{"insert with rows left out", "on_violation: {unique: skip, foreign_key: skip}\n\nentities:\n" +
			entity("insert", berths)},
		{"insert with rows redrawn", "on_violation: {unique: redraw}\n\nentities:\n" + entity("insert", berths)},
		{"keep", entity("{mode: keep, match: [code]}", berths)},
		{"upsert", entity("{mode: upsert, match: [code], set: [label, ratio, raw]}", berths)},
		{"update", entity("{mode: update, match: [code], set: [label, ratio]}", "")},
		{"replace", entity("{mode: replace, cascade: true}", berths)},
		{"keys of the database", strings.Replace(strings.Replace(strings.Replace(entity("insert", berths),
			"P0[0-9]{3}", "Q[0-9]{4}", 1), "id: {count: "+
			"{from: 1001}}, ", "", 1), "    rows: 700\n", "    rows: 700\n    keys: database\n", 1)},
	} {
		t.Run(c.name, func(t *testing.T) {
			loadtest.OnEach(t, loadtest.Ports, func(t *testing.T, d *loadtest.DB) {
				text := c.plan
				if strings.Contains(text, "entities:") {
					text = strings.Replace(loadtest.Head, "entities:\n", "", 1) + text
				}
				before := loadtest.Dump(t, d.Store)
				for _, o := range []load.Options{{}, {Chunk: 150, Commit: plan.CommitChunk, Jobs: 3}} {
					if strings.Contains(c.plan, "replace") {
						o.Commit = plan.CommitLoad
					}
					r, err := d.Load(t, text, d.Journaled(o))
					require.NoError(t, err)
					require.Positive(t, r.Load)
					require.NotEqual(t, before, loadtest.Dump(t, d.Store))
					diff := d.Compared(t, r.Load)
					assert.True(t, diff.Same(), "%+v", diff)

					v := d.Withdrawn(t, r.Load, withdraw.Options{Commit: o.Commit})
					assert.Equal(t, before, loadtest.Dump(t, d.Store))
					total := int64(0)
					for _, e := range v.Entities {
						total += e.Removed + e.Restored
						assert.Zero(t, e.Gone)
					}
					assert.Equal(t, r.Rows, total)
				}
			})
		})
	}
}

// The sample is loaded, compared, found the same by its fingerprint, and withdrawn.
func TestTheSampleIsWithdrawn(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes long")
	}
	loadtest.OnEach(t, demo.Schema, func(t *testing.T, d *loadtest.DB) {
		before := loadtest.Dump(t, d.Store)
		r, err := d.Load(t, demo.Entities, d.Journaled(load.Options{Jobs: 2, Chunk: 3000}))
		require.NoError(t, err)
		diff := d.Compared(t, r.Load)
		assert.True(t, diff.Same(), "%+v", diff)
		for _, e := range diff.Entities {
			assert.True(t, e.Fingerprint, e.Entity)
		}
		d.Withdrawn(t, r.Load, withdraw.Options{})
		assert.Equal(t, before, loadtest.Dump(t, d.Store))
	})
}

// A second load of the same plan does nothing; more rows add only the rest.
func TestASecondLoadAddsOnlyTheRest(t *testing.T) {
	rows := func(n int) string {
		return fmt.Sprintf(
			"  Port:\n    table: ports\n    rows: %d\n    fields: {id: {count: {from: 1001}}, code: {pattern: "+
				"\"Q[0-9]{4}\", unique: true}}\n"+
				"  Berth:\n    table: berths\n    per: {Port: 0..2}\n    fields: {id: {count: {from: 5001}}, "+
				"number: {between: [1, 90000]}, price: {between: [1.00, 9.00]}}\n",
			n,
		)
	}
	loadtest.OnEach(t, loadtest.Ports, func(t *testing.T, d *loadtest.DB) {
		untouched := loadtest.Dump(t, d.Store)
		first, err := d.Load(t, rows(100), d.Journaled(load.Options{}))
		require.NoError(t, err)
		before := loadtest.Dump(t, d.Store)
		again, err := d.Load(t, rows(100), d.Journaled(load.Options{}))
		require.NoError(t, err)
		assert.Equal(t, first.Load, again.Earlier)
		assert.Zero(t, again.Rows)
		assert.Equal(t, before, loadtest.Dump(t, d.Store))

		more, err := d.Load(t, rows(150), d.Journaled(load.Options{Commit: plan.CommitChunk, Chunk: 20}))
		require.NoError(t, err)
		assert.Equal(t, int64(50), more.Entities[0].Inserted)
		assert.Equal(t, uint64(100), more.Entities[0].Loaded)
		after := loadtest.Dump(t, d.Store)

		_, err = d.Withdraw(t, first.Load, withdraw.Options{})
		var continued *withdraw.Continued
		require.ErrorAs(t, err, &continued)
		assert.Equal(t, more.Load, continued.By)
		d.Withdrawn(t, more.Load, withdraw.Options{Commit: plan.CommitChunk})
		assert.Equal(t, before, loadtest.Dump(t, d.Store))
		d.Withdrawn(t, first.Load, withdraw.Options{})
		assert.Equal(t, untouched, loadtest.Dump(t, d.Store))

		_, err = d.Load(t, rows(150), d.Journaled(load.Options{}))
		require.NoError(t, err)
		assert.Equal(t, after, loadtest.Dump(t, d.Store), "the same as in two parts")
	})
}

// What stands in the way of a second load is told.
func TestSecondLoadsThatAreRefused(t *testing.T) {
	const text = "  Port:\n    table: ports\n    rows: 50\n    fields: {id: {count: {from: 1001}}, code: {pattern: " +
		"\"Q[0-9]{4}\", unique: true}, label: {value: a}}\n"
	loadtest.OnEach(t, loadtest.Ports, func(t *testing.T, d *loadtest.DB) {
		first, err := d.Load(t, text, d.Journaled(load.Options{}))
		require.NoError(t, err)

		_, err = d.Load(t, strings.Replace(text, "{value: a}", "{value: b}", 1), d.Journaled(load.Options{}))
		var altered *load.Altered
		require.ErrorAs(t, err, &altered)
		assert.Equal(
			t,
			[]plan.Difference{{Path: "entities.Port.fields.label.value", Was: "a", Is: "b"}},
			altered.Differences,
		)

		_, err = d.Load(t, strings.Replace(text, "50", "40", 1), d.Journaled(load.Options{}))
		require.ErrorAs(t, err, &altered)
		assert.Equal(t, []plan.Difference{{Path: "entities.Port.rows", Was: "50", Is: "40"}}, altered.Differences)

		d.Exec(t, "DELETE FROM ports WHERE id IN (1004, 1007)")
		_, err = d.Load(t, text, d.Journaled(load.Options{}))
		var gone *load.Gone
		require.ErrorAs(t, err, &gone)
		assert.Equal(t, first.Load, gone.Entry.Number)
		require.Len(t, gone.Entities, 1)
		assert.Equal(t, int64(2), gone.Entities[0].Missing)
		assert.Equal(t, "Port row 3", gone.Entities[0].MissingRows[0].Row)
	})
}
