package withdraw_test

import (
	"context"
	"errors"
	"testing"

	"evensprout/internal/load"
	"evensprout/internal/loadtest"
	"evensprout/internal/plan"
	"evensprout/internal/store"
	"evensprout/internal/withdraw"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const spanTables = `
CREATE TABLE piers (id {key}, name VARCHAR(40), next INTEGER REFERENCES piers (id));
CREATE TABLE ropes (id {key}, pier_id INTEGER REFERENCES piers (id) ON DELETE CASCADE);
CREATE TABLE nets (id {key}, pier_id INTEGER REFERENCES piers (id) ON DELETE SET NULL);`

const spanPlan = "  Pier:\n    table: piers\n    rows: 4\n    fields:\n      id: {count: {from: 10, step: 10}}\n" +
	"      name: {value: a}\n" +
	"  Rope:\n    table: ropes\n    per: {Pier: 1}\n    fields: {id: {count: 1}}\n"

// stageless is a store in which no rows can be staged.
type stageless struct{ store.Store }

type stagelessTx struct{ store.Tx }

var errStaged = errors.New("rows are staged")

func (s stageless) Begin(ctx context.Context, o store.TxOptions) (store.Tx, error) {
	tx, err := s.Store.Begin(ctx, o)
	return stagelessTx{tx}, err
}

func (stagelessTx) Stage(context.Context, *store.Write, store.Rows) (store.Stage, error) {
	return nil, errStaged
}

// Rows that nobody has touched go without being staged.
func TestUntouchedRowsAreNotStaged(t *testing.T) {
	loadtest.OnEach(t, spanTables, func(t *testing.T, d *loadtest.DB) {
		before := loadtest.Dump(t, d.Store)
		r, err := d.Load(t, spanPlan, d.Journaled(load.Options{}))
		require.NoError(t, err)
		v, err := withdraw.Run(t.Context(), stageless{d.Store}, r.Load, withdraw.Options{})
		require.NoError(t, err)
		assert.Equal(t, int64(8), v.Rows())
		assert.Equal(t, before, loadtest.Dump(t, d.Store))

		r, err = d.Load(t, spanPlan, d.Journaled(load.Options{}))
		require.NoError(t, err)
		d.Exec(t, "UPDATE piers SET name = 'c' WHERE id = 20")
		_, err = withdraw.Run(t.Context(), stageless{d.Store}, r.Load, withdraw.Options{})
		assert.ErrorIs(t, err, errStaged)
	})
}

// Rows that others added between those of the load stay, and so do rows of the load that others refer to.
func TestSpansSpareWhatOthersDid(t *testing.T) {
	for name, c := range map[string]struct {
		statement string
		left      []string // of the piers
		also      []string // ropes and nets
	}{
		"a row between them": {"INSERT INTO piers (id, name) VALUES (15, 'x')", []string{"15 x NULL"}, nil},
		"a row that is gone": {"DELETE FROM ropes WHERE pier_id = 20", nil, nil},
		"a reference that deletes": {
			"INSERT INTO ropes (id, pier_id) VALUES (99, 30)", []string{"30 a NULL"}, []string{"99 30"},
		},
		"a reference that blanks": {
			"INSERT INTO nets (id, pier_id) VALUES (98, 30)", []string{"30 a NULL"}, []string{"98 30"},
		},
		"a reference from the table itself": {
			"INSERT INTO piers (id, name, next) VALUES (99, 'x', 30)", []string{"30 a NULL", "99 x 30"}, nil,
		},
	} {
		t.Run(name, func(t *testing.T) {
			loadtest.OnEach(t, spanTables, func(t *testing.T, d *loadtest.DB) {
				r, err := d.Load(t, spanPlan, d.Journaled(load.Options{}))
				require.NoError(t, err)
				d.Exec(t, c.statement)
				_, err = d.Withdraw(t, r.Load, withdraw.Options{})
				require.NoError(t, err)
				assert.Equal(t, c.left, d.Table(t, "piers", "id", "name", "next"))
				also := append(d.Table(t, "ropes", "id", "pier_id"), d.Table(t, "nets", "id", "pier_id")...)
				assert.Equal(t, c.also, also)
			})
		})
	}
}

// What a table without transactions has lost is lost: none of its rows goes before it is known to be the load's.
func TestTablesWithoutTransactionsAreStaged(t *testing.T) {
	const text = "  Pier:\n    table: piers\n    rows: 4\n    fields: {id: {count: {from: 10, step: 10}}}\n"
	loadtest.OnEach(t, "CREATE TABLE piers (id INTEGER PRIMARY KEY)", func(t *testing.T, d *loadtest.DB) {
		if d.Name != "mariadb" {
			return // the other engines have no such tables
		}
		d.Exec(t, "ALTER TABLE piers ENGINE = MyISAM")
		r, err := d.Load(t, text, d.Journaled(load.Options{Commit: plan.CommitChunk}))
		require.NoError(t, err)
		d.Exec(t, "INSERT INTO piers VALUES (15)")
		_, err = d.Withdraw(t, r.Load, withdraw.Options{Commit: plan.CommitChunk})
		require.NoError(t, err)
		assert.Equal(t, []string{"15"}, d.Table(t, "piers", "id"))
	})
}
