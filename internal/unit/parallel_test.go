package unit_test

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"strings"
	"sync"
	"testing"

	"evensprout/internal/loadtest"
	"evensprout/internal/unit"

	"evensprout/internal/withdraw"

	"evensprout/internal/load"

	"evensprout/internal/journal"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/store"
	"evensprout/internal/value"
)

// Eight runs move amounts between the same accounts at the same time, and a reader looks
// on: the sum never changes, no occasion is lost, and none is done twice.
func TestParallelRuns(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes long")
	}
	const runs, each = 8, 40
	loadtest.OnEach(t, purse, func(t *testing.T, d *loadtest.DB) {
		k := newDesk(t, d)
		few := strings.Replace(purseEntities, "rows: 40", "rows: 6", 1)
		k.fill(t, few)
		accounts := k.plan(t, few).Targets[0].Table
		done := make(chan struct{})
		var reading sync.WaitGroup
		reading.Go(func() {
			s := d.Open(t)
			for {
				select {
				case <-done:
					return
				default:
				}
				sum, moved := int64(0), int64(0)
				err := s.Select(
					context.Background(),
					store.Query{Table: accounts, Columns: accounts.Columns},
					func(row []value.Value) error {
						v, _ := row[2].Rescale(2)
						sum, moved = sum+v.N, moved+row[3].N
						return nil
					},
				)
				if err == nil && !assert.Equal(t, int64(60000), sum, "half of a move is seen, after %d", moved) {
					return
				}
			}
		})
		var all sync.WaitGroup
		results := make([]*journal.UnitResult, runs)
		for i := range runs {
			r := rand.New(rand.NewPCG(uint64(i), 3))
			file := "from,to,amount\n"
			for range each {
				from := 1 + r.IntN(6)
				file += fmt.Sprintf("A%d,A%d,0.%02d\n", from, 1+(from+r.IntN(5))%6, 1+r.IntN(99))
			}
			name := fmt.Sprintf("moves-%d.csv", i/2) // two runs of each file
			if i%2 == 0 {
				k.write(t, name, file)
			}
			size := []string{"1", "10"}[i/2%2]
			text := few + strings.Replace(strings.Replace(moveUnit, "TOGETHER", size, 1), "moves.csv", name, 1)
			c := k.plan(t, text)
			c.Plan.Name = fmt.Sprintf("desk %d", i/2) // equal lines of different files are different occasions
			s := d.Open(t)
			all.Go(func() {
				var err error
				o := k.Journaled(
					load.Options{
						Pause: 1_000_000,
						Again: func(ctx context.Context) (store.Store, error) { return d.Driver.Open(ctx, d.URL) },
					},
				)
				results[i], err = unit.Run(t.Context(), c, c.Units[0], s, o)
				// its one lock is waited for, but not in turn
				for n := 0; d.Name == "sqlite" && lockedOut(err) && n < 20; n++ {
					var rest *journal.UnitResult
					if rest, err = unit.Run(t.Context(), c, c.Units[0], s, o); err == nil {
						results[i] = rest
					}
				}
				assert.NoError(t, err)
			})
		}
		all.Wait()
		close(done)
		reading.Wait()
		assert.Len(t, k.Table(t, "movements"), runs/2*each*2)
		assert.Equal(t, int64(runs/2*each), sumOf(t, k, "accounts", "moved"))
		if d.Name != "sqlite" {
			n := int64(0)
			for _, r := range results {
				n += r.Done
			}
			assert.Equal(t, int64(runs/2*each), n, "each occasion by one of the two runs of its file")
		}
	})
}

func lockedOut(err error) bool {
	var f *store.Fault
	return errors.As(err, &f) && f.Kind == store.Locked
}

// A transient fault begins the whole transaction again, and what is refused for another
// reason than a race is told at once.
func TestUpsertsThatRace(t *testing.T) {
	text := purseEntities + `units:
  use:
    rows: 60
    fields: {n: {choose: [A1, A2, A3]}}
    together: 4
    steps:
      - upsert: limits
        match: {number: n}
        set: {most: 10, uses: uses + 1}
        first: {uses: 1}
`
	loadtest.OnEach(t, purse, func(t *testing.T, d *loadtest.DB) {
		k := newDesk(t, d)
		k.fill(t, text)
		var all sync.WaitGroup
		for i := range 4 {
			c := k.plan(t, text)
			c.Plan.Name = fmt.Sprintf("desk %d", i)
			s := d.Open(t)
			all.Go(func() {
				o := k.Journaled(load.Options{Pause: 1_000_000})
				_, err := unit.Run(t.Context(), c, c.Units[0], s, o)
				for n := 0; d.Name == "sqlite" && lockedOut(err) && n < 20; n++ {
					_, err = unit.Run(t.Context(), c, c.Units[0], s, o)
				}
				assert.NoError(t, err)
			})
		}
		all.Wait()
		assert.Equal(t, int64(240), sumOf(t, k, "limits", "uses"))
	})
}

// cents is the sum of all balances.
func cents(t *testing.T, k *desk) int64 {
	n := int64(0)
	for _, cell := range k.Table(t, "accounts", "balance") {
		v, err := value.ParseDecimal(cell)
		require.NoError(t, err)
		v, ok := v.Rescale(2)
		require.True(t, ok)
		n += v.N
	}
	return n
}

// Under every isolation level the sum stays, also where the server ends transactions for it.
func TestIsolationLevels(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes long")
	}
	few := strings.Replace(purseEntities, "rows: 40", "rows: 3", 1)
	loadtest.OnEach(t, purse, func(t *testing.T, d *loadtest.DB) {
		for _, level := range []string{"read committed", "repeatable read", "serializable"} {
			d := &loadtest.DB{Engine: d.Engine, URL: d.Make(t, d.Words.Replace(purse))}
			d.Store = d.Open(t)
			k := newDesk(t, d)
			k.fill(t, few)
			text := few + strings.Replace(moveUnit, "together: TOGETHER", "isolation: "+level, 1)
			var all sync.WaitGroup
			for i := range 3 {
				name := fmt.Sprintf("moves-%d.csv", i)
				k.write(t, name, "from,to,amount\n"+strings.Repeat(fmt.Sprintf("A%d,A%d,0.10\n", 1+i, 1+(i+1)%3), 15))
				c := k.plan(t, strings.Replace(text, "moves.csv", name, 1))
				s := d.Open(t)
				all.Go(func() {
					o := k.Journaled(load.Options{Pause: 1_000_000})
					_, err := unit.Run(t.Context(), c, c.Units[0], s, o)
					for n := 0; d.Name == "sqlite" && lockedOut(err) && n < 20; n++ {
						_, err = unit.Run(t.Context(), c, c.Units[0], s, o)
					}
					assert.NoError(t, err, level)
				})
			}
			all.Wait()
			assert.Equal(t, int64(30000), cents(t, k), level)
			assert.Len(t, k.Table(t, "movements"), 90, level)
		}
	})
}

// A run that goes on is not withdrawn; one that broke off is.
func TestARunThatGoesOnIsNotWithdrawn(t *testing.T) {
	loadtest.OnEach(t, purse, func(t *testing.T, d *loadtest.DB) {
		k := newDesk(t, d)
		k.write(t, "moves.csv", "from,to,amount\nA1,A2,1.00\nA3,A4,5000.00\n")
		k.fill(t, together("1"))
		before := k.contents(t)
		_, err := k.run(t, together("1"), k.Journaled(load.Options{}))
		var partial *unit.Partial
		require.ErrorAs(t, err, &partial)
		require.NotZero(t, partial.Load, "an occasion was committed")

		other := d.Open(t)
		held, err := journal.LockRun(t.Context(), other, "desk", partial.Load)
		require.NoError(t, err, "nobody runs it any more")
		_, err = withdraw.Run(t.Context(), k.Store, partial.Load, withdraw.Options{})
		require.True(t, lockedOut(err), "%v", err)
		assert.ErrorContains(t, err, fmt.Sprintf("load %d of desk, a run of a unit, is being done by", partial.Load))
		held.Release(t.Context())
		_, err = withdraw.Run(t.Context(), k.Store, partial.Load, withdraw.Options{})
		require.NoError(t, err)
		assert.Equal(t, before, k.contents(t))
	})
}
