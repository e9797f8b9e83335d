package unit_test

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/journal"
	"evensprout/internal/load"
	"evensprout/internal/loadtest"
	"evensprout/internal/store"
	"evensprout/internal/withdraw"
)

// breaking is a connection that breaks when some transaction begins.
type breaking struct {
	store.Store
	begun, at int
}

func (b *breaking) Begin(ctx context.Context, o store.TxOptions) (store.Tx, error) {
	if b.begun++; b.begun == b.at {
		return nil, &store.Fault{Kind: store.Lost, Message: "gone"}
	}
	return b.Store.Begin(ctx, o)
}

// A server takes over that lacks the entry of a run, or its last occasions: the run does not go on as if they were
// there. The same command then does what is missing, and withdrawing takes everything back.
func TestAServerThatLacksTheRunIsNoticed(t *testing.T) {
	for lacks, want := range map[string]string{
		"loads":     "of the unit move is gone: the server that answers now never had this",
		"occasions": "occasions of the unit move are gone: the server that answers now never had this",
	} {
		loadtest.OnEach(t, purse, func(t *testing.T, d *loadtest.DB) {
			if d.Name == "sqlite" {
				t.Skip("it has no connections that break")
			}
			k := newDesk(t, d)
			k.fill(t, purseEntities)
			k.write(t, "moves.csv", moves(15, 1))
			before := k.contents(t)
			text := together("5")
			o := k.Journaled(load.Options{Pause: 1})
			at := map[string]int{"loads": 2, "occasions": 4}[lacks] // the entry, and then transactions of 5 occasions
			first := &breaking{Store: d.Store, at: at}
			o.Again = func(ctx context.Context) (store.Store, error) {
				s, err := d.Driver.Open(ctx, d.URL)
				require.NoError(t, err)
				j, err := s.Journal(ctx, false)
				require.NoError(t, err)
				lost, of := journal.Cells(j.Loads, "extra", "unit:move"), j.Loads
				if lacks == "occasions" {
					run, err := journal.Unlocked(s).Select(ctx, j, lost, false)
					require.NoError(t, err)
					lost, of = journal.Cells(j.Occasions, "load", run[0].Number), j.Occasions
				}
				tx, err := s.Begin(ctx, store.TxOptions{})
				require.NoError(t, err)
				_, err = tx.Delete(ctx, of, lost)
				require.NoError(t, err)
				require.NoError(t, tx.Commit(ctx))
				return s, nil
			}
			desk := *k
			of := *d
			of.Store = first
			desk.DB = &of
			_, err := desk.run(t, text, o)
			assert.ErrorContains(t, err, want)
			if lacks == "occasions" {
				return // what they did is still in these tables
			}
			assert.Equal(t, before, k.contents(t))
			r, err := k.run(t, text, k.Journaled(load.Options{}))
			require.NoError(t, err)
			assert.Equal(t, int64(15), r.Done)
			d.Withdrawn(t, r.Load, withdraw.Options{})
			assert.Equal(t, before, k.contents(t))
		})
	}
}
