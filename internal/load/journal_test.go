package load_test

import (
	"context"
	"fmt"
	"strings"
	"testing"

	"evensprout/internal/archive"
	"evensprout/internal/replay"
	"evensprout/internal/store/storetest"
	"evensprout/internal/withdraw"

	"evensprout/internal/load"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/demo"
	"evensprout/internal/files"
	"evensprout/internal/plan"
	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/value"
)

// journaled are options of a load that is written down.
func (d *db) journaled(o load.Options) load.Options {
	o.Journal = &load.Journal{Actor: "tester", Version: "test", Rows: files.Rows, Earlier: replay.EarlierRows{}}
	o.Again = func(ctx context.Context) (store.Store, error) { return d.driver.Open(ctx, d.url) }
	return o
}

// withdrawn takes a load back, and sees that nothing was left alone.
func (d *db) withdrawn(t *testing.T, number int64, o withdraw.Options) *withdraw.Withdrawal {
	t.Helper()
	v, err := d.withdraw(t, number, o)
	require.NoError(t, err)
	require.Zero(t, v.Left, "%+v", v.LeftRows)
	return v
}

func (d *db) withdraw(t *testing.T, number int64, o withdraw.Options) (*withdraw.Withdrawal, error) {
	t.Helper()
	o.By.Rows = files.Rows
	return withdraw.Run(t.Context(), d.open(t), number, o)
}

func (d *db) compared(t *testing.T, number int64) *replay.Difference {
	t.Helper()
	p, err := load.Recall(t.Context(), d.store, number, nil, archive.Operator{Rows: files.Rows})
	require.NoError(t, err)
	defer p.Close()
	diff, err := replay.Compare(t.Context(), d.store, []*load.Past{p}, replay.CompareOptions{})
	require.NoError(t, err)
	return diff
}

const ports = `
CREATE TABLE ports (id {key}, code VARCHAR(8) NOT NULL UNIQUE, label VARCHAR(40), ratio DOUBLE PRECISION, seen_at {moment}, raw {bytes});
CREATE TABLE berths (id {key}, port_id INTEGER NOT NULL REFERENCES ports (id), number INTEGER NOT NULL, price DECIMAL(8,2) NOT NULL, UNIQUE (port_id, number));
CREATE TABLE visits (port_id INTEGER NOT NULL REFERENCES ports (id), note VARCHAR(40));
INSERT INTO ports (id, code, label, ratio, seen_at) VALUES (9001, 'P0001', 'Old one', 0.1, '2026-01-02 03:04:05'), (9002, 'P0002', NULL, NULL, NULL), (9003, 'P0900', 'x', 2.5, NULL);
INSERT INTO berths (id, port_id, number, price) VALUES (9001, 9001, 1, 4.50), (9002, 9003, 7, 1.25);`

// Whatever the mode, withdrawing leaves the tables as they were before the load.
func TestWithdrawLeavesTheTablesAsTheyWere(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes long")
	}
	code := `{pattern: "P0[0-9]{3}", unique: true}`
	entity := func(write, rest string) string {
		return "  Port:\n    table: ports\n    write: " + write + "\n    rows: 700\n    fields: {id: {count: {from: 1001}}, code: " + code + ", label: {pattern: \"[a-z]{5}\", nulls: 10%}, ratio: {between: [0.5, 9.5], step: 0.25}, raw: {bytes: 0..9}}\n" + rest
	}
	berths := "  Berth:\n    table: berths\n    per: {Port: 0..2}\n    fields: {id: {count: {from: 5001}}, number: {between: [1, 90000]}, price: {between: [1.00, 9.00]}}\n" +
		"  Visit:\n    table: visits\n    rows: 40\n    fields: {port_id: {pick: Port}, note: {value: again}}\n"
	for _, c := range []struct{ name, plan string }{
		{"insert", strings.Replace(entity("insert", berths), "P0[0-9]{3}", "Q[0-9]{4}", 1)},
		{"insert with rows left out", "on_violation: {unique: skip, foreign_key: skip}\n\nentities:\n" + entity("insert", berths)},
		{"insert with rows drawn again", "on_violation: {unique: redraw}\n\nentities:\n" + entity("insert", berths)},
		{"keep", entity("{mode: keep, match: [code]}", berths)},
		{"upsert", entity("{mode: upsert, match: [code], set: [label, ratio, raw]}", berths)},
		{"update", entity("{mode: update, match: [code], set: [label, ratio]}", "")},
		{"replace", entity("{mode: replace, cascade: true}", berths)},
		{"keys of the database", strings.Replace(strings.Replace(strings.Replace(entity("insert", berths), "P0[0-9]{3}", "Q[0-9]{4}", 1), "id: {count: {from: 1001}}, ", "", 1), "    rows: 700\n", "    rows: 700\n    keys: database\n", 1)},
	} {
		t.Run(c.name, func(t *testing.T) {
			onEach(t, ports, func(t *testing.T, d *db) {
				text := c.plan
				if strings.Contains(text, "entities:") {
					text = strings.Replace(head, "entities:\n", "", 1) + text
				}
				before := dump(t, d.store)
				for _, o := range []load.Options{{}, {Chunk: 150, Commit: plan.CommitChunk, Jobs: 3}} {
					if strings.Contains(c.plan, "replace") {
						o.Commit = plan.CommitLoad
					}
					r, err := d.load(t, text, d.journaled(o))
					require.NoError(t, err)
					require.Positive(t, r.Load)
					require.NotEqual(t, before, dump(t, d.store))
					diff := d.compared(t, r.Load)
					assert.True(t, diff.Same(), "%+v", diff)

					v := d.withdrawn(t, r.Load, withdraw.Options{Commit: o.Commit})
					assert.Equal(t, before, dump(t, d.store))
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
	onEach(t, demo.Schema, func(t *testing.T, d *db) {
		before := dump(t, d.store)
		r, err := d.load(t, demo.Entities, d.journaled(load.Options{Jobs: 2, Chunk: 3000}))
		require.NoError(t, err)
		diff := d.compared(t, r.Load)
		assert.True(t, diff.Same(), "%+v", diff)
		for _, e := range diff.Entities {
			assert.True(t, e.Fingerprint, e.Entity)
		}
		d.withdrawn(t, r.Load, withdraw.Options{})
		assert.Equal(t, before, dump(t, d.store))
	})
}

// A second load of the same plan does nothing; more rows add only the rest.
func TestASecondLoadAddsOnlyTheRest(t *testing.T) {
	rows := func(n int) string {
		return fmt.Sprintf(
			"  Port:\n    table: ports\n    rows: %d\n    fields: {id: {count: {from: 1001}}, code: {pattern: \"Q[0-9]{4}\", unique: true}}\n"+
				"  Berth:\n    table: berths\n    per: {Port: 0..2}\n    fields: {id: {count: {from: 5001}}, number: {between: [1, 90000]}, price: {between: [1.00, 9.00]}}\n",
			n,
		)
	}
	onEach(t, ports, func(t *testing.T, d *db) {
		untouched := dump(t, d.store)
		first, err := d.load(t, rows(100), d.journaled(load.Options{}))
		require.NoError(t, err)
		before := dump(t, d.store)
		again, err := d.load(t, rows(100), d.journaled(load.Options{}))
		require.NoError(t, err)
		assert.Equal(t, first.Load, again.Earlier)
		assert.Zero(t, again.Rows)
		assert.Equal(t, before, dump(t, d.store))

		more, err := d.load(t, rows(150), d.journaled(load.Options{Commit: plan.CommitChunk, Chunk: 20}))
		require.NoError(t, err)
		assert.Equal(t, int64(50), more.Entities[0].Inserted)
		assert.Equal(t, uint64(100), more.Entities[0].Loaded)
		after := dump(t, d.store)

		_, err = d.withdraw(t, first.Load, withdraw.Options{})
		var continued *withdraw.Continued
		require.ErrorAs(t, err, &continued)
		assert.Equal(t, more.Load, continued.By)
		d.withdrawn(t, more.Load, withdraw.Options{Commit: plan.CommitChunk})
		assert.Equal(t, before, dump(t, d.store))
		d.withdrawn(t, first.Load, withdraw.Options{})
		assert.Equal(t, untouched, dump(t, d.store))

		_, err = d.load(t, rows(150), d.journaled(load.Options{}))
		require.NoError(t, err)
		assert.Equal(t, after, dump(t, d.store), "the same as in two parts")
	})
}

// What stands in the way of a second load is told.
func TestSecondLoadsThatAreRefused(t *testing.T) {
	const text = "  Port:\n    table: ports\n    rows: 50\n    fields: {id: {count: {from: 1001}}, code: {pattern: \"Q[0-9]{4}\", unique: true}, label: {value: a}}\n"
	onEach(t, ports, func(t *testing.T, d *db) {
		first, err := d.load(t, text, d.journaled(load.Options{}))
		require.NoError(t, err)

		_, err = d.load(t, strings.Replace(text, "{value: a}", "{value: b}", 1), d.journaled(load.Options{}))
		var altered *load.Altered
		require.ErrorAs(t, err, &altered)
		assert.Equal(
			t,
			[]plan.Difference{{Path: "entities.Port.fields.label.value", Was: "a", Is: "b"}},
			altered.Differences,
		)

		_, err = d.load(t, strings.Replace(text, "50", "40", 1), d.journaled(load.Options{}))
		require.ErrorAs(t, err, &altered)
		assert.Equal(t, []plan.Difference{{Path: "entities.Port.rows", Was: "50", Is: "40"}}, altered.Differences)

		d.exec(t, "DELETE FROM ports WHERE id IN (1004, 1007)")
		_, err = d.load(t, text, d.journaled(load.Options{}))
		var gone *load.Gone
		require.ErrorAs(t, err, &gone)
		assert.Equal(t, first.Load, gone.Entry.Number)
		require.Len(t, gone.Entities, 1)
		assert.Equal(t, int64(2), gone.Entities[0].Missing)
		assert.Equal(t, "Port row 3", gone.Entities[0].MissingRows[0].Row)
	})
}

// query reads a column of a view.
func (d *db) query(t *testing.T, view, column string) []string {
	t.Helper()
	var out []string
	q := store.Query{
		Table:   &schema.Table{Name: view, PrimaryKey: []string{"id"}, Columns: []*schema.Column{{Name: "id"}}},
		Columns: []*schema.Column{{Name: column, Kind: schema.Text}},
	}
	require.NoError(t, d.store.Select(t.Context(), q, func(row []value.Value) error {
		out = append(out, row[0].String())
		return nil
	}))
	return out
}

// exec runs a statement as another program would.
func (d *db) exec(t *testing.T, statement string) {
	t.Helper()
	storetest.Exec(t, d.driver, d.url, statement)
}
