package unit_test

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"evensprout/internal/archive"
	"evensprout/internal/loadtest"
	"evensprout/internal/replay"
	"evensprout/internal/unit"

	"evensprout/internal/withdraw"

	"evensprout/internal/load"

	"evensprout/internal/journal"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/files"
	"evensprout/internal/plan"
	"evensprout/internal/store"
	"evensprout/internal/value"
)

// purse is accounts, and what moved between them.
const purse = `
CREATE TABLE accounts (id {key}, number VARCHAR(10) NOT NULL UNIQUE, balance DECIMAL(10,2) NOT NULL
  CHECK (balance >= 0), moved INTEGER NOT NULL DEFAULT 0);
CREATE TABLE movements (id {key}, account_id INTEGER NOT NULL REFERENCES accounts (id),
  amount DECIMAL(10,2) NOT NULL, note VARCHAR(20));
CREATE TABLE limits (number VARCHAR(10) PRIMARY KEY, most DECIMAL(10,2) NOT NULL, uses INTEGER NOT NULL);`

const purseEntities = `
entities:
  Account:
    table: accounts
    rows: 40
    fields: {number: {text: "A{id}"}, balance: 100.00}
`

// moveUnit moves amounts of a file between accounts.
const moveUnit = `units:
  move:
    rows_from: {file: moves.csv, columns: {from: {column: from, as: text}, to: {column: to, as: text},
      amount: {column: amount, as: decimal}}}
    together: TOGETHER
    steps:
      - find: Account
        as: payer
        match: {number: from}
      - find: Account
        as: payee
        match: {number: to}
      - update: Account
        match: {id: payer.id}
        set: {balance: balance - amount, moved: moved + 1}
      - update: Account
        match: {id: payee.id}
        set: {balance: balance + amount}
      - insert: movements
        set: {account_id: payer.id, amount: -amount, note: "paid"}
      - insert: movements
        set: {account_id: payee.id, amount: amount, note: "got"}
`

// desk is a database with a plan in a folder, where files of occasions lie.
type desk struct {
	*loadtest.DB
	folder string
}

func newDesk(t *testing.T, d *loadtest.DB) *desk { return &desk{d, t.TempDir()} }

func (k *desk) write(t *testing.T, name, text string) {
	require.NoError(t, os.WriteFile(filepath.Join(k.folder, name), []byte(text), 0o644))
}

// plan compiles a plan with units.
func (k *desk) plan(t *testing.T, text string) *plan.Compiled {
	t.Helper()
	c, err := k.tryPlan(t, text)
	require.NoError(t, err)
	t.Cleanup(func() { c.Close() })
	return c
}

// tryPlan reads and compiles a plan, which may be wrong.
func (k *desk) tryPlan(t *testing.T, text string) (*plan.Compiled, error) {
	t.Helper()
	p, err := plan.Read(
		filepath.Join(k.folder, "plan.yaml"),
		[]byte("name: desk\nseed: s\nclock: 2026-05-01T08:00:00Z\n"+text),
	)
	if err != nil {
		return nil, err
	}
	tables, err := k.Store.Survey(t.Context())
	require.NoError(t, err)
	return p.Compile(plan.Options{Database: tables, Rows: files.Rows})
}

// run runs the only unit of a plan.
func (k *desk) run(t *testing.T, text string, o load.Options) (*journal.UnitResult, error) {
	t.Helper()
	c := k.plan(t, text)
	require.Len(t, c.Units, 1)
	return unit.Run(t.Context(), c, c.Units[0], k.Store, o)
}

// fill loads the entities of a plan.
func (k *desk) fill(t *testing.T, text string) {
	t.Helper()
	_, err := load.Run(t.Context(), k.plan(t, text), k.Store, k.Journaled(load.Options{Later: true}))
	require.NoError(t, err)
}

// moves is a file of so many moves, drawn from a seed.
func moves(n int, seed uint64) string {
	r := rand.New(rand.NewPCG(seed, 1))
	var b strings.Builder
	b.WriteString("from,to,amount\n")
	for range n {
		from := 1 + r.IntN(40)
		to := 1 + (from+r.IntN(39))%40
		fmt.Fprintf(&b, "A%d,A%d,%d.%02d\n", from, to, r.IntN(60), 1+r.IntN(99))
	}
	return b.String()
}

func together(n string) string {
	return purseEntities + strings.Replace(moveUnit, "TOGETHER", n, 1)
}

// contents are the accounts and movements, whatever numbers the database gave these.
func (k *desk) contents(t *testing.T) string {
	list := k.Table(t, "movements", "account_id", "amount", "note")
	slices.Sort(list)
	return strings.Join(append(k.Table(t, "accounts"), list...), "\n")
}

func skipAll() plan.Policies { return plan.Policies{plan.AllKinds: plan.Skip} }

// However many occasions stand in a transaction, and whether they are done one by one or
// many at once, the rows are the same, also where some are left out.
func TestOccasionsAreTheSameInAnyGrouping(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes long")
	}
	for _, engine := range loadtest.Engines() {
		t.Run(engine.Name, func(t *testing.T) {
			for seed := range uint64(2) {
				var first string
				for i, size := range []string{"1", "7", "200", "all"} {
					d := &loadtest.DB{Engine: engine, URL: engine.Make(t, engine.Words.Replace(purse))}
					d.Store = d.Open(t)
					k := newDesk(t, d)
					k.write(t, "moves.csv", moves(90, seed))
					k.fill(t, together(size))
					r, err := k.run(t, together(size), k.Journaled(load.Options{Policies: skipAll()}))
					require.NoError(t, err)
					assert.Equal(t, int64(90), r.Done+r.Rejected, size)
					got := k.contents(t)
					if i == 0 {
						first = got
						assert.Positive(t, r.Rejected, "some account runs empty")
					}
					assert.Equal(t, first, got, "together: %s, seed %d", size, seed)
				}
			}
		})
	}
}

// Many accounts, so that moves seldom meet: then whole layers are done by one statement.
func TestOccasionsThatDoNotMeetAreDoneAtOnce(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes long")
	}
	many := strings.Replace(purseEntities, "rows: 40", "rows: 2000", 1)
	var b strings.Builder
	b.WriteString("from,to,amount\n")
	for i := range 400 {
		fmt.Fprintf(&b, "A%d,A%d,1.25\n", 1+i, 1500-i)
	}
	b.WriteString("A1,A2,0.50\nA2,A3,0.25\nA3,A1,0.75\n") // these meet
	loadtest.OnEach(t, purse, func(t *testing.T, d *loadtest.DB) {
		var dumps []string
		for _, size := range []string{"200", "1"} {
			d := &loadtest.DB{Engine: d.Engine, URL: d.Make(t, d.Words.Replace(purse))}
			d.Store = d.Open(t)
			k := newDesk(t, d)
			k.write(t, "moves.csv", b.String())
			text := many + strings.Replace(moveUnit, "TOGETHER", size, 1)
			k.fill(t, text)
			r, err := k.run(t, text, k.Journaled(load.Options{}))
			require.NoError(t, err)
			if size == "200" {
				assert.Equal(t, int64(400), r.AtOnce, "the last three are too few")
				assert.Equal(t, 3, r.Transactions)
			}
			assert.Equal(t, int64(403), r.Steps[4].Rows)
			dumps = append(dumps, k.contents(t))
		}
		assert.Equal(t, dumps[1], dumps[0])
	})
}

// The third step of the 37th occasion is refused: what stays is what was committed
// before, and no part of the occasion.
func TestTheThirdStepOfThe37thOccasion(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes long")
	}
	lines := strings.Split(strings.TrimSpace(moves(60, 5)), "\n")
	for i := range lines[1:] {
		lines[i+1] = fmt.Sprintf("A%d,A%d,1.00", 1+i%20, 21+i%20)
	}
	lines[37] = "A1,A30,5000.00"
	file := strings.Join(lines, "\n") + "\n"
	for size, committed := range map[string]int64{"1": 36, "10": 30, "all": 0} {
		loadtest.OnEach(t, purse, func(t *testing.T, d *loadtest.DB) {
			k := newDesk(t, d)
			k.write(t, "moves.csv", file)
			k.fill(t, together(size))
			_, err := k.run(t, together(size), k.Journaled(load.Options{}))
			var refusal *journal.Refusal
			require.ErrorAs(t, err, &refusal)
			var partial *unit.Partial
			require.ErrorAs(t, err, &partial)
			assert.Equal(t, committed, partial.Occasions, size)
			assert.Equal(t, store.Check, refusal.Kind)
			assert.Equal(t, "3: update Account", refusal.Step)
			assert.Equal(t, "move row 36", refusal.Row)
			assert.True(t, strings.HasSuffix(refusal.Place, "moves.csv:38"), refusal.Place)
			assert.Len(t, k.Table(t, "movements"), int(2*committed))
			assert.Equal(t, committed, sumOf(t, k, "accounts", "moved"))

			// With skip it alone is left out, and is told with its values.
			var left []load.Rejection
			r, err := k.run(
				t,
				together(size),
				k.Journaled(
					load.Options{
						Policies: plan.Policies{"check": plan.Skip},
						Rejected: func(x load.Rejection) error { left = append(left, x); return nil },
					},
				),
			)
			require.NoError(t, err)
			assert.Equal(t, committed, r.Earlier)
			assert.Equal(t, int64(59)-committed, r.Done)
			assert.Equal(t, int64(1), r.Rejected)
			require.Len(t, left, 1)
			assert.Equal(t, []string{"from", "to", "amount"}, left[0].Fields)
			assert.Equal(t, "5000.00", left[0].Values[2].String())
			assert.Len(t, k.Table(t, "movements"), 2*59)

			// And once the line is corrected, just that is done.
			k.write(t, "moves.csv", strings.Replace(file, "5000.00", "2.50", 1))
			r, err = k.run(t, together(size), k.Journaled(load.Options{}))
			require.NoError(t, err)
			assert.Equal(t, int64(1), r.Done)
			assert.Equal(t, int64(59), r.Earlier)
		})
	}
}

func sumOf(t *testing.T, k *desk, table, column string) int64 {
	n := int64(0)
	for _, cell := range k.Table(t, table, column) {
		v, err := value.ParseDecimal(cell)
		require.NoError(t, err)
		n += v.N
	}
	return n
}

// The same file again does nothing; more lines are more occasions, wherever they stand;
// equal lines are each an occasion; another name of the file is no other file.
func TestEachOccasionOnce(t *testing.T) {
	loadtest.OnEach(t, purse, func(t *testing.T, d *loadtest.DB) {
		k := newDesk(t, d)
		for _, size := range []string{"1", "50"} {
			k.write(t, "moves.csv", "from,to,amount\nA1,A2,1.00\nA1,A2,1.00\nA3,A4,2.00\n")
			k.fill(t, together(size))
			run := func(insist bool) *journal.UnitResult {
				c := k.plan(t, together(size))
				r, err := unit.Run(t.Context(), c, c.Units[0], k.Store, k.Journaled(load.Options{Insist: insist}))
				require.NoError(t, err)
				return r
			}
			first := run(false)
			assert.Equal(t, int64(3), first.Done)
			again := run(false)
			assert.Zero(t, again.Done)
			assert.Equal(t, int64(3), again.Earlier)
			assert.Zero(t, again.Load, "no entry for a run that did nothing")
			k.write(t, "moves.csv", "from,to,amount\nA9,A8,1.00\nA3,A4,2.00\nA1,A2,1.00\nA1,A2,1.00\nA1,A2,1.00\n")
			more := run(false)
			assert.Equal(t, int64(2), more.Done, "a new line, and the third of equal ones")
			insisted := run(true)
			assert.Equal(t, int64(5), insisted.Done)
			assert.Equal(t, int64(0), run(false).Done)
			assert.Len(t, k.Table(t, "movements"), 20)
			for _, number := range []int64{insisted.Load, more.Load, first.Load} {
				_, err := withdraw.Run(t.Context(), k.Store, number, withdraw.Options{})
				require.NoError(t, err)
			}
			assert.Empty(t, k.Table(t, "movements"))
		}
	})
}

// everyStep does all that a step can do.
const everyStep = purseEntities + `units:
  everything:
    together: all
    given:
      one: {n: A1, most: 10.50}
      two: {n: A2, most: 20.25}
      three: {n: A1, most: 30.00}
    steps:
      - clear: movements
      - find: Account
        match: {number: n}
      - require: Account.balance > most
      - require: {sql: "(SELECT count(*) FROM accounts WHERE number = {n} AND balance >= {most}) = 1"}
      - upsert: limits
        match: {number: n}
        set: {most: most, uses: uses + 1}
        first: {uses: 1}
      - insert: movements
        as: entry
        set: {account_id: Account.id, amount: most * 2, note: {derive: 'n + "!"'}}
      - update: movements
        match: {id: entry.id}
        set: {note: 'note + "?"', amount: "amount > most ? amount - most : amount"}
      - delete: limits
        match: {number: "A2"}
        expect: 0..1
`

func TestEveryStep(t *testing.T) {
	text := strings.Replace(everyStep, `'note + "?"'`, `{derive: 'note + "?"'}`, 1)
	text = strings.Replace(
		text,
		`"amount > most ? amount - most : amount"`,
		`{derive: "amount > most ? amount - most : amount"}`,
		1,
	)
	loadtest.OnEach(t, purse, func(t *testing.T, d *loadtest.DB) {
		k := newDesk(t, d)
		k.fill(t, text)
		d.Script(t, "INSERT INTO movements (id, account_id, amount, note) VALUES (900, 3, 1.00, 'before')")
		before := loadtest.Dump(t, k.Store)

		dry, err := k.run(t, text, k.Journaled(load.Options{DryRun: true}))
		require.NoError(t, err)
		assert.Equal(t, before, loadtest.Dump(t, k.Store), "a dry run leaves nothing")

		r, err := k.run(t, text, k.Journaled(load.Options{}))
		require.NoError(t, err)
		assert.Equal(t, r.Steps, dry.Steps)
		assert.Equal(t, []string{"A1 30.00 2"}, k.Table(t, "limits"), "A1 was there at the third occasion, A2 is gone")
		assert.Equal(
			t,
			[]string{"1 10.50 A1!?", "2 20.25 A2!?", "1 30.00 A1!?"},
			k.Table(t, "movements", "account_id", "amount", "note"),
		)
		var rows []int64
		for _, s := range r.Steps {
			rows = append(rows, s.Rows)
		}
		assert.Equal(t, []int64{1, 3, 3, 3, 3, 3, 3, 1}, rows)

		again, err := k.run(t, text, k.Journaled(load.Options{}))
		require.NoError(t, err)
		assert.Zero(t, again.Done, "a unit that clears is one occasion")
		_, err = withdraw.Run(t.Context(), k.Store, r.Load, withdraw.Options{})
		require.NoError(t, err)
		assert.Equal(t, before, loadtest.Dump(t, k.Store))
	})
}

// Occasions per row of an entity know that row; keys that the database gave are known.
func TestOccasionsPerRow(t *testing.T) {
	loadtest.OnEach(t, purse, func(t *testing.T, d *loadtest.DB) {
		k := newDesk(t, d)
		text := strings.Replace(purseEntities, "rows: 40", "rows: 40\n    keys: database", 1)
		text = strings.Replace(text, `"A{id}"`, `"B{balance}"`, 1)
		text = strings.Replace(
			text,
			`{number: {text: "B{balance}"}, balance: 100.00}`,
			`{number: {pattern: "B[0-9]{5}", unique: true}, balance: {between: [1.00, 50.00]}}`,
			1,
		) + `units:
  open:
    per: {Account: 1..2}
    fields: {amount: {same: Account.balance}}
    together: 500
    steps:
      - insert: movements
        set: {account_id: Account, amount: amount}
`
		d.Script(t, "INSERT INTO accounts (id, number, balance) VALUES (500, 'X', 0)")
		k.fill(t, text)
		r, err := k.run(t, text, k.Journaled(load.Options{}))
		require.NoError(t, err)
		assert.GreaterOrEqual(t, r.Done, int64(40))
		balances := map[string]string{}
		for _, row := range k.Table(t, "accounts", "id", "balance") {
			id, balance, _ := strings.Cut(row, " ")
			balances[id] = balance
		}
		for _, row := range k.Table(t, "movements", "account_id", "amount") {
			id, amount, _ := strings.Cut(row, " ")
			assert.Equal(t, balances[id], amount)
		}
	})
}

// Rows that a unit has changed, added or removed are no differences, and are not put back.
func TestCompareAndRestoreKnowOfUnits(t *testing.T) {
	text := strings.Replace(purseEntities, "rows: 40", "rows: 30", 1) + `units:
  shake:
    given:
      one: {n: A1, gone: A2}
    steps:
      - update: Account
        match: {number: n}
        set: {balance: balance + 11}
      - delete: Account
        match: {number: gone}
      - insert: Account
        set: {number: "new", balance: 3}
`
	loadtest.OnEach(t, purse, func(t *testing.T, d *loadtest.DB) {
		k := newDesk(t, d)
		k.fill(t, text)
		unit, err := k.run(t, text, k.Journaled(load.Options{}))
		require.NoError(t, err)
		after := loadtest.Dump(t, k.Store)
		compare := func() *replay.Difference {
			pasts, err := load.RecallAll(
				t.Context(),
				journal.Unlocked(k.Store),
				load.Loads{Plan: "desk"},
				nil,
				archive.Operator{Rows: files.Rows},
			)
			require.NoError(t, err)
			defer load.CloseAll(pasts)
			diff, err := replay.Compare(t.Context(), k.Store, pasts, replay.CompareOptions{})
			require.NoError(t, err)
			return diff
		}
		diff := compare()
		assert.True(t, diff.Same(), "%+v", diff.Entities)
		assert.Equal(t, int64(3), diff.Entities[0].ByUnits)
		r, err := load.Run(t.Context(), k.plan(t, text), k.Store, k.Journaled(load.Options{Later: true}))
		require.NoError(t, err, "the row that a unit deleted is not missed")
		assert.Zero(t, r.Rows)

		d.Script(
			t,
			"UPDATE accounts SET balance = 5 WHERE number IN ('A1', 'A3')",
			"INSERT INTO accounts (id, number, balance) VALUES (700, 'stranger', 1)",
			"DELETE FROM accounts WHERE number = 'A4'",
		)
		diff = compare()
		assert.Equal(t, []int64{1, 2, 1}, []int64{diff.Missing, diff.Changed, diff.Extra})
		d.Script(t, "UPDATE accounts SET balance = 111, number = 'B1' WHERE number = 'A1'")
		cells := compare().Entities[0].ChangedRows[0].Cells
		assert.Equal(t, []load.CellDifference{{Field: "number", Is: "B1", Plan: "A1"}}, cells, "the balance is the "+
			"unit's")
		d.Script(t, "UPDATE accounts SET balance = 5, number = 'A1' WHERE number = 'B1'")
		pasts, err := load.RecallAll(
			t.Context(),
			journal.Unlocked(k.Store),
			load.Loads{Plan: "desk"},
			nil,
			archive.Operator{Rows: files.Rows},
		)
		require.NoError(t, err)
		defer load.CloseAll(pasts)
		_, err = replay.Restore(t.Context(), k.Store, replay.RestoreOptions{Of: load.Loads{Plan: "desk"}, By: archive.Operator{Rows: files.Rows}})
		require.NoError(t, err)
		assert.Equal(t, after, loadtest.Dump(t, k.Store), "as loaded, and as the unit left it")

		_, err = withdraw.Run(t.Context(), k.Store, pasts[0].Entry.Number, withdraw.Options{})
		var rests *withdraw.Continued
		require.ErrorAs(t, err, &rests)
		assert.Equal(t, withdraw.Continued{Number: pasts[0].Entry.Number, By: unit.Load, Unit: "shake"}, *rests)
	})
}

// A journal that was made before there were units gets what it lacks when one is run.
func TestOlderJournals(t *testing.T) {
	loadtest.OnEach(t, purse, func(t *testing.T, d *loadtest.DB) {
		k := newDesk(t, d)
		k.write(t, "moves.csv", "from,to,amount\nA1,A2,1.00\n")
		k.fill(t, together("1"))
		name := map[string]string{"postgres": "evensprout.occasions"}[d.Name]
		if name == "" {
			name = "evensprout_occasions"
		}
		d.Script(t, "DROP TABLE "+name)
		k.Store = d.Open(t)
		all, err := journal.Unlocked(k.Store).Entries(t.Context(), "")
		require.NoError(t, err)
		assert.Len(t, all, 1, "it is read as it is")
		r, err := k.run(t, together("1"), k.Journaled(load.Options{}))
		require.NoError(t, err)
		assert.Equal(t, int64(1), r.Done)
		_, err = withdraw.Run(t.Context(), k.Store, r.Load, withdraw.Options{})
		require.NoError(t, err)
	})
}
