package load

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/files"
	"evensprout/internal/grow"
	"evensprout/internal/plan"
	"evensprout/internal/store"
)

// purse is accounts, and what moved between them.
const purse = `
CREATE TABLE accounts (id {key}, number VARCHAR(10) NOT NULL UNIQUE, balance DECIMAL(10,2) NOT NULL CHECK (balance >= 0), moved INTEGER NOT NULL DEFAULT 0);
CREATE TABLE movements (id {key}, account_id INTEGER NOT NULL REFERENCES accounts (id), amount DECIMAL(10,2) NOT NULL, note VARCHAR(20));
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
    rows_from: {file: moves.csv, columns: {from: {column: from, as: text}, to: {column: to, as: text}, amount: {column: amount, as: decimal}}}
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
	*db
	folder string
}

func newDesk(t *testing.T, d *db) *desk { return &desk{d, t.TempDir()} }

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

func (k *desk) tryPlan(t *testing.T, text string) (*plan.Compiled, error) {
	t.Helper()
	p, err := plan.Read(filepath.Join(k.folder, "plan.yaml"), []byte("name: desk\nseed: s\nclock: 2026-05-01T08:00:00Z\n"+text))
	require.NoError(t, err)
	tables, err := k.store.Survey(t.Context())
	require.NoError(t, err)
	return p.Compile(plan.Options{Database: tables, Rows: files.Rows})
}

// run runs the only unit of a plan.
func (k *desk) run(t *testing.T, text string, o Options) (*UnitResult, error) {
	t.Helper()
	c := k.plan(t, text)
	require.Len(t, c.Units, 1)
	return RunUnit(t.Context(), c, c.Units[0], k.store, o, false)
}

// fill loads the entities of a plan.
func (k *desk) fill(t *testing.T, text string) {
	t.Helper()
	_, err := Run(t.Context(), k.plan(t, text), k.store, k.journaled(Options{Later: true}))
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
	list := k.table(t, "movements", "account_id", "amount", "note")
	slices.Sort(list)
	return strings.Join(append(k.table(t, "accounts"), list...), "\n")
}

func skipAll() plan.Policies { return plan.Policies{plan.AllKinds: plan.Skip} }

// However many occasions stand in a transaction, and whether they are done one by one or
// many at once, the rows are the same, also where some are left out.
func TestOccasionsAreTheSameInAnyGrouping(t *testing.T) {
	for _, engine := range engines() {
		t.Run(engine.name, func(t *testing.T) {
			for seed := range uint64(2) {
				var first string
				for i, size := range []string{"1", "7", "200", "all"} {
					d := &db{engine: engine, url: engine.make(t, engine.words.Replace(purse))}
					d.store = d.open(t)
					k := newDesk(t, d)
					k.write(t, "moves.csv", moves(90, seed))
					k.fill(t, together(size))
					r, err := k.run(t, together(size), k.journaled(Options{Policies: skipAll()}))
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
	many := strings.Replace(purseEntities, "rows: 40", "rows: 2000", 1)
	var b strings.Builder
	b.WriteString("from,to,amount\n")
	for i := range 400 {
		fmt.Fprintf(&b, "A%d,A%d,1.25\n", 1+i, 1500-i)
	}
	b.WriteString("A1,A2,0.50\nA2,A3,0.25\nA3,A1,0.75\n") // these meet
	onEach(t, purse, func(t *testing.T, d *db) {
		var dumps []string
		for _, size := range []string{"200", "1"} {
			d := &db{engine: d.engine, url: d.make(t, d.words.Replace(purse))}
			d.store = d.open(t)
			k := newDesk(t, d)
			k.write(t, "moves.csv", b.String())
			text := many + strings.Replace(moveUnit, "TOGETHER", size, 1)
			k.fill(t, text)
			r, err := k.run(t, text, k.journaled(Options{}))
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
	lines := strings.Split(strings.TrimSpace(moves(60, 5)), "\n")
	for i := range lines[1:] {
		lines[i+1] = fmt.Sprintf("A%d,A%d,1.00", 1+i%20, 21+i%20)
	}
	lines[37] = "A1,A30,5000.00"
	file := strings.Join(lines, "\n") + "\n"
	for size, committed := range map[string]int64{"1": 36, "10": 30, "all": 0} {
		onEach(t, purse, func(t *testing.T, d *db) {
			k := newDesk(t, d)
			k.write(t, "moves.csv", file)
			k.fill(t, together(size))
			_, err := k.run(t, together(size), k.journaled(Options{}))
			var refusal *Refusal
			require.ErrorAs(t, err, &refusal)
			var partial *UnitPartial
			require.ErrorAs(t, err, &partial)
			assert.Equal(t, committed, partial.Occasions, size)
			assert.Equal(t, store.Check, refusal.Kind)
			assert.Equal(t, "3: update Account", refusal.Step)
			assert.Equal(t, "move row 36", refusal.Row)
			assert.True(t, strings.HasSuffix(refusal.Place, "moves.csv:38"), refusal.Place)
			assert.Len(t, k.table(t, "movements"), int(2*committed))
			assert.Equal(t, committed, sumOf(t, k, "accounts", "moved"))

			// With skip it alone is left out, and is told with its values.
			var left []Rejection
			r, err := k.run(t, together(size), k.journaled(Options{Policies: plan.Policies{"check": plan.Skip}, Rejected: func(x Rejection) error { left = append(left, x); return nil }}))
			require.NoError(t, err)
			assert.Equal(t, committed, r.Earlier)
			assert.Equal(t, int64(59)-committed, r.Done)
			assert.Equal(t, int64(1), r.Rejected)
			require.Len(t, left, 1)
			assert.Equal(t, []string{"from", "to", "amount"}, left[0].Fields)
			assert.Equal(t, "5000.00", left[0].Values[2].String())
			assert.Len(t, k.table(t, "movements"), 2*59)

			// And once the line is corrected, just that is done.
			k.write(t, "moves.csv", strings.Replace(file, "5000.00", "2.50", 1))
			r, err = k.run(t, together(size), k.journaled(Options{}))
			require.NoError(t, err)
			assert.Equal(t, int64(1), r.Done)
			assert.Equal(t, int64(59), r.Earlier)
		})
	}
}

func sumOf(t *testing.T, k *desk, table, column string) int64 {
	n := int64(0)
	for _, cell := range k.table(t, table, column) {
		v, err := grow.ParseDecimal(cell)
		require.NoError(t, err)
		n += v.N
	}
	return n
}

// The same file again does nothing; more lines are more occasions, wherever they stand;
// equal lines are each an occasion; another name of the file is no other file.
func TestEachOccasionOnce(t *testing.T) {
	onEach(t, purse, func(t *testing.T, d *db) {
		k := newDesk(t, d)
		for _, size := range []string{"1", "50"} {
			k.write(t, "moves.csv", "from,to,amount\nA1,A2,1.00\nA1,A2,1.00\nA3,A4,2.00\n")
			k.fill(t, together(size))
			run := func(insist bool) *UnitResult {
				c := k.plan(t, together(size))
				r, err := RunUnit(t.Context(), c, c.Units[0], k.store, k.journaled(Options{}), insist)
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
			assert.Len(t, k.table(t, "movements"), 20)
			for _, load := range []int64{insisted.Load, more.Load, first.Load} {
				_, err := Withdraw(t.Context(), k.store, load, WithdrawOptions{})
				require.NoError(t, err)
			}
			assert.Empty(t, k.table(t, "movements"))
		}
	})
}

// What a unit did is taken back to the last bit, last steps first, also where the same
// row was changed many times.
func TestWithdrawingAUnitRestoresTheDump(t *testing.T) {
	for _, size := range []string{"1", "100", "all"} {
		onEach(t, purse, func(t *testing.T, d *db) {
			k := newDesk(t, d)
			k.write(t, "moves.csv", moves(50, 9))
			k.fill(t, together(size))
			before := dump(t, k.store)
			r, err := k.run(t, together(size), k.journaled(Options{Policies: skipAll()}))
			require.NoError(t, err)
			require.NotEqual(t, before, dump(t, k.store))

			dry, err := Withdraw(t.Context(), k.store, r.Load, WithdrawOptions{DryRun: true})
			require.NoError(t, err)
			w, err := Withdraw(t.Context(), k.store, r.Load, WithdrawOptions{})
			require.NoError(t, err)
			assert.Equal(t, dry.Entities, w.Entities)
			assert.Zero(t, w.Left)
			assert.Equal(t, before, dump(t, k.store))

			_, err = Withdraw(t.Context(), k.store, r.Load, WithdrawOptions{})
			assert.ErrorContains(t, err, "withdrawn already")
			again, err := k.run(t, together(size), k.journaled(Options{Policies: skipAll()}))
			require.NoError(t, err)
			assert.Equal(t, r.Done, again.Done, "what was withdrawn can be done again")
		})
	}
}

// Rows that go with a deleted one come back with it, each once: also one that goes for
// two reasons, one that refers to itself, and one that is deleted beside what it refers to.
func TestWithdrawingADeleteGivesBackWhatWentWithIt(t *testing.T) {
	const tables = `
CREATE TABLE harbours (id INTEGER PRIMARY KEY, code VARCHAR(10) UNIQUE, main_id INTEGER, FOREIGN KEY (main_id) REFERENCES harbours (id) ON DELETE CASCADE);
CREATE TABLE piers (id INTEGER PRIMARY KEY, harbour_id INTEGER NOT NULL, FOREIGN KEY (harbour_id) REFERENCES harbours (id) ON DELETE CASCADE);
CREATE TABLE crews (id INTEGER PRIMARY KEY, harbour_code VARCHAR(10), FOREIGN KEY (harbour_code) REFERENCES harbours (code) ON DELETE CASCADE);
CREATE TABLE duties (id INTEGER PRIMARY KEY, pier_id INTEGER, crew_id INTEGER, FOREIGN KEY (pier_id) REFERENCES piers (id) ON DELETE CASCADE, FOREIGN KEY (crew_id) REFERENCES crews (id) ON DELETE CASCADE);
CREATE TABLE notes (duty_id INTEGER, note VARCHAR(20), FOREIGN KEY (duty_id) REFERENCES duties (id) ON DELETE CASCADE);`
	for condition, matched := range map[string]string{
		"{id: 1}":      "the row that refers to itself",
		"{main_id: 1}": "it, and the one below it, by one statement",
		"{id: 3}":      "a row whose code is NULL: the crew without a harbour stays",
	} {
		onEach(t, tables, func(t *testing.T, d *db) {
			k := newDesk(t, d)
			d.script(t,
				"INSERT INTO harbours VALUES (1, 'LW', 1), (2, 'OB', 1), (3, NULL, NULL), (4, 'FP', 4)",
				"INSERT INTO piers VALUES (1, 1), (2, 2), (3, 3), (4, 4)",
				"INSERT INTO crews VALUES (1, 'LW'), (2, 'OB'), (3, NULL), (4, 'FP')",
				"INSERT INTO duties VALUES (1, 1, 1), (2, 2, 1), (3, 3, NULL), (4, 4, 4), (5, 4, 2)",
				"INSERT INTO notes VALUES (1, 'twice'), (1, 'twice'), (4, 'stays'), (3, 'alone')")
			before := dump(t, k.store)
			r, err := k.run(t, "units:\n  close:\n    given: {one: {n: 1}}\n    steps:\n      - {delete: harbours, match: "+condition+", expect: any}\n", k.journaled(Options{}))
			require.NoError(t, err, matched)
			require.NotEqual(t, before, dump(t, k.store), matched)
			assert.Contains(t, k.table(t, "crews", "id"), "3")
			w, err := Withdraw(t.Context(), k.store, r.Load, WithdrawOptions{})
			require.NoError(t, err, matched)
			assert.Zero(t, w.Left, "%s: %v", matched, w.LeftRows)
			assert.Equal(t, before, dump(t, k.store), matched)
		})
	}
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
	text = strings.Replace(text, `"amount > most ? amount - most : amount"`, `{derive: "amount > most ? amount - most : amount"}`, 1)
	onEach(t, purse, func(t *testing.T, d *db) {
		k := newDesk(t, d)
		k.fill(t, text)
		d.script(t, "INSERT INTO movements (id, account_id, amount, note) VALUES (900, 3, 1.00, 'before')")
		before := dump(t, k.store)

		dry, err := k.run(t, text, k.journaled(Options{DryRun: true}))
		require.NoError(t, err)
		assert.Equal(t, before, dump(t, k.store), "a dry run leaves nothing")

		r, err := k.run(t, text, k.journaled(Options{}))
		require.NoError(t, err)
		assert.Equal(t, r.Steps, dry.Steps)
		assert.Equal(t, []string{"A1 30.00 2"}, k.table(t, "limits"), "A1 was there at the third occasion, A2 is gone")
		assert.Equal(t, []string{"1 10.50 A1!?", "2 20.25 A2!?", "1 30.00 A1!?"}, k.table(t, "movements", "account_id", "amount", "note"))
		var rows []int64
		for _, s := range r.Steps {
			rows = append(rows, s.Rows)
		}
		assert.Equal(t, []int64{1, 3, 3, 3, 3, 3, 3, 1}, rows)

		again, err := k.run(t, text, k.journaled(Options{}))
		require.NoError(t, err)
		assert.Zero(t, again.Done, "a unit that clears is one occasion")
		_, err = Withdraw(t.Context(), k.store, r.Load, WithdrawOptions{})
		require.NoError(t, err)
		assert.Equal(t, before, dump(t, k.store))
	})
}

// What others have changed since is left alone, and told; --also changed takes it back.
func TestWithdrawingAUnitLeavesWhatOthersChanged(t *testing.T) {
	onEach(t, purse, func(t *testing.T, d *db) {
		k := newDesk(t, d)
		k.write(t, "moves.csv", "from,to,amount\nA1,A2,1.00\nA3,A4,2.00\n")
		k.fill(t, together("10"))
		r, err := k.run(t, together("10"), k.journaled(Options{}))
		require.NoError(t, err)
		d.script(t, "UPDATE accounts SET balance = 77 WHERE number = 'A2'")
		dry, err := Withdraw(t.Context(), k.store, r.Load, WithdrawOptions{DryRun: true, Changed: true})
		require.NoError(t, err)
		assert.Zero(t, dry.Left)
		w, err := Withdraw(t.Context(), k.store, r.Load, WithdrawOptions{})
		require.NoError(t, err)
		assert.Equal(t, int64(1), w.Left)
		assert.Equal(t, []LeftRow{{Entity: "accounts", Key: "id 2", Why: "it was changed since"}}, w.LeftRows)
		assert.Empty(t, k.table(t, "movements"))
		assert.Equal(t, []string{"1 100.00", "2 77.00", "3 100.00"}, k.table(t, "accounts", "id", "balance")[:3])
	})
}

// Eight runs move amounts between the same accounts at the same time, and a reader looks
// on: the sum never changes, no occasion is lost, and none is done twice.
func TestParallelRuns(t *testing.T) {
	const runs, each = 8, 40
	onEach(t, purse, func(t *testing.T, d *db) {
		k := newDesk(t, d)
		few := strings.Replace(purseEntities, "rows: 40", "rows: 6", 1)
		k.fill(t, few)
		accounts := k.plan(t, few).Targets[0].Table
		done := make(chan struct{})
		var reading sync.WaitGroup
		reading.Go(func() {
			s := d.open(t)
			for {
				select {
				case <-done:
					return
				default:
				}
				sum, moved := int64(0), int64(0)
				err := s.Select(context.Background(), store.Query{Table: accounts, Columns: accounts.Columns}, func(row []grow.Value) error {
					v, _ := row[2].Rescale(2)
					sum, moved = sum+v.N, moved+row[3].N
					return nil
				})
				if err == nil && !assert.Equal(t, int64(60000), sum, "half of a move is seen, after %d", moved) {
					return
				}
			}
		})
		var all sync.WaitGroup
		results := make([]*UnitResult, runs)
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
			s := d.open(t)
			all.Go(func() {
				var err error
				o := k.journaled(Options{pause: 1_000_000, Again: func(ctx context.Context) (store.Store, error) { return d.driver.Open(ctx, d.url) }})
				results[i], err = RunUnit(t.Context(), c, c.Units[0], s, o, false)
				for n := 0; d.name == "sqlite" && lockedOut(err) && n < 20; n++ { // its one lock is waited for, but not in turn
					var rest *UnitResult
					if rest, err = RunUnit(t.Context(), c, c.Units[0], s, o, false); err == nil {
						results[i] = rest
					}
				}
				assert.NoError(t, err)
			})
		}
		all.Wait()
		close(done)
		reading.Wait()
		assert.Len(t, k.table(t, "movements"), runs/2*each*2)
		assert.Equal(t, int64(runs/2*each), sumOf(t, k, "accounts", "moved"))
		if d.name != "sqlite" {
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

// Each form of invariant holds, or is told with the rows that break it, and nothing stays.
func TestInvariants(t *testing.T) {
	onEach(t, purse, func(t *testing.T, d *db) {
		k := newDesk(t, d)
		text := purseEntities + `units:
  pay:
    together: all
    given:
      one: {n: A1, amount: 5.50}
    steps:
      - find: Account
        match: {number: n}
      - insert: movements
        set: {account_id: Account.id, amount: amount}
always:
  RULE
`
		run := func(rule string) error {
			_, err := k.run(t, strings.Replace(text, "RULE", rule, 1), Options{})
			return err
		}
		k.fill(t, purseEntities)
		for _, rule := range []string{
			"sums: sum of movements.amount per Account <= Account.balance", "counts: count of movements per Account via account_id <= 1", "smallest: min of movements.amount per Account >= 5.50",
			"positive: every Account has balance >= 0 && number != ''", "every movement: every movements has amount > 0", "none: {no: movements, where: amount IS NULL}", `some: {sql: "(SELECT count(*) FROM accounts) = 40"}`,
		} {
			assert.NoError(t, run(rule), rule)
			d.script(t, "DELETE FROM movements")
		}
		for rule, rows := range map[string][]string{
			"sums: sum of movements.amount per Account = 0":                {"id 1; sum of movements.amount is 5.50"},
			"counts: count of movements per Account < 1":                   {"id 1; count of movements is 1"},
			"largest: max of movements.amount per Account < 5.50":          {"id 1; max of movements.amount is 5.50"},
			`low: every Account has balance <= decimal("99.50") || id > 1`: {"id 1, balance 100.00, id 1"},
			"none: {no: Account, where: number = 'A7'}":                    {"id 7"},
			`many: {sql: "(SELECT count(*) FROM accounts) > 40"}`:          nil,
		} {
			err := run(rule)
			var broken *Broken
			require.ErrorAs(t, err, &broken, rule)
			require.Len(t, broken.Rules, 1)
			assert.Equal(t, rows, broken.Rules[0].Rows, rule)
			assert.Empty(t, k.table(t, "movements"), "nothing stays")
		}
		// Of a load, too, in one transaction and in chunks.
		more := strings.Replace(purseEntities, "rows: 40", "rows: 50", 1) + "always:\n  forty: {sql: \"(SELECT count(*) FROM accounts) <= 40\"}\n"
		for _, commit := range []plan.Commit{plan.CommitLoad, plan.CommitChunk} {
			_, err := Run(t.Context(), k.plan(t, more), k.store, k.journaled(Options{Commit: commit}))
			var broken *Broken
			require.ErrorAs(t, err, &broken)
			if commit == plan.CommitLoad {
				assert.Len(t, k.table(t, "accounts"), 40)
			}
		}
	})
}

// Occasions per row of an entity know that row; keys that the database gave are known.
func TestOccasionsPerRow(t *testing.T) {
	onEach(t, purse, func(t *testing.T, d *db) {
		k := newDesk(t, d)
		text := strings.Replace(purseEntities, "rows: 40", "rows: 40\n    keys: database", 1)
		text = strings.Replace(text, `"A{id}"`, `"B{balance}"`, 1)
		text = strings.Replace(text, `{number: {text: "B{balance}"}, balance: 100.00}`, `{number: {pattern: "B[0-9]{5}", unique: true}, balance: {between: [1.00, 50.00]}}`, 1) + `units:
  open:
    per: {Account: 1..2}
    fields: {amount: {same: Account.balance}}
    together: 500
    steps:
      - insert: movements
        set: {account_id: Account, amount: amount}
`
		d.script(t, "INSERT INTO accounts (id, number, balance) VALUES (500, 'X', 0)")
		k.fill(t, text)
		r, err := k.run(t, text, k.journaled(Options{}))
		require.NoError(t, err)
		assert.GreaterOrEqual(t, r.Done, int64(40))
		balances := map[string]string{}
		for _, row := range k.table(t, "accounts", "id", "balance") {
			id, balance, _ := strings.Cut(row, " ")
			balances[id] = balance
		}
		for _, row := range k.table(t, "movements", "account_id", "amount") {
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
	onEach(t, purse, func(t *testing.T, d *db) {
		k := newDesk(t, d)
		k.fill(t, text)
		unit, err := k.run(t, text, k.journaled(Options{}))
		require.NoError(t, err)
		after := dump(t, k.store)
		compare := func() *Difference {
			pasts, err := RecallAll(t.Context(), k.store, "desk", "", nil, files.Rows)
			require.NoError(t, err)
			defer CloseAll(pasts)
			diff, err := Compare(t.Context(), k.store, pasts, CompareOptions{})
			require.NoError(t, err)
			return diff
		}
		diff := compare()
		assert.True(t, diff.Same(), "%+v", diff.Entities)
		assert.Equal(t, int64(3), diff.Entities[0].ByUnits)
		r, err := Run(t.Context(), k.plan(t, text), k.store, k.journaled(Options{Later: true}))
		require.NoError(t, err, "the row that a unit deleted is not missed")
		assert.Zero(t, r.Rows)

		d.script(t, "UPDATE accounts SET balance = 5 WHERE number IN ('A1', 'A3')", "INSERT INTO accounts (id, number, balance) VALUES (700, 'stranger', 1)", "DELETE FROM accounts WHERE number = 'A4'")
		diff = compare()
		assert.Equal(t, []int64{1, 2, 1}, []int64{diff.Missing, diff.Changed, diff.Extra})
		d.script(t, "UPDATE accounts SET balance = 111, number = 'B1' WHERE number = 'A1'")
		cells := compare().Entities[0].ChangedRows[0].Cells
		assert.Equal(t, []CellDifference{{"number", "B1", "A1"}}, cells, "the balance is the unit's")
		d.script(t, "UPDATE accounts SET balance = 5, number = 'A1' WHERE number = 'B1'")
		pasts, err := RecallAll(t.Context(), k.store, "desk", "", nil, files.Rows)
		require.NoError(t, err)
		defer CloseAll(pasts)
		_, err = Restore(t.Context(), k.store, pasts, RestoreOptions{})
		require.NoError(t, err)
		assert.Equal(t, after, dump(t, k.store), "as loaded, and as the unit left it")

		_, err = Withdraw(t.Context(), k.store, pasts[0].Entry.Number, WithdrawOptions{})
		var rests *Continued
		require.ErrorAs(t, err, &rests)
		assert.Equal(t, Continued{pasts[0].Entry.Number, unit.Load, "shake"}, *rests)
	})
}

func FuzzUndoPackets(f *testing.F) {
	log := undoLog{}
	log.add(undoSection{Step: 1, Kind: undoChanged, Table: "t", Key: []string{"id"}, Columns: []string{"a"}, values: [][]grow.Value{{grow.Int(1), grow.String("x"), {}}}})
	packets, err := log.pack()
	require.NoError(f, err)
	f.Add(packets[0].body)
	f.Fuzz(func(t *testing.T, body []byte) {
		sections, err := unpackUndo(body)
		if err != nil {
			return
		}
		again, err := (&undoLog{sections}).pack()
		require.NoError(t, err)
		for _, p := range again {
			_, err := unpackUndo(p.body)
			require.NoError(t, err)
		}
	})
}

// script runs statements as another program would.
func (d *db) script(t *testing.T, statements ...string) {
	t.Helper()
	for _, s := range statements {
		d.exec(t, s)
	}
}

// A journal that was made before there were units gets what it lacks when one is run.
func TestOlderJournals(t *testing.T) {
	onEach(t, purse, func(t *testing.T, d *db) {
		k := newDesk(t, d)
		k.write(t, "moves.csv", "from,to,amount\nA1,A2,1.00\n")
		k.fill(t, together("1"))
		name := map[string]string{"postgres": "evensprout.occasions"}[d.name]
		if name == "" {
			name = "evensprout_occasions"
		}
		d.script(t, "DROP TABLE "+name)
		k.store = d.open(t)
		all, err := Entries(t.Context(), k.store, "")
		require.NoError(t, err)
		assert.Len(t, all, 1, "it is read as it is")
		r, err := k.run(t, together("1"), k.journaled(Options{}))
		require.NoError(t, err)
		assert.Equal(t, int64(1), r.Done)
		_, err = Withdraw(t.Context(), k.store, r.Load, WithdrawOptions{})
		require.NoError(t, err)
	})
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
	onEach(t, purse, func(t *testing.T, d *db) {
		k := newDesk(t, d)
		k.fill(t, text)
		var all sync.WaitGroup
		for i := range 4 {
			c := k.plan(t, text)
			c.Plan.Name = fmt.Sprintf("desk %d", i)
			s := d.open(t)
			all.Go(func() {
				o := k.journaled(Options{pause: 1_000_000})
				_, err := RunUnit(t.Context(), c, c.Units[0], s, o, false)
				for n := 0; d.name == "sqlite" && lockedOut(err) && n < 20; n++ {
					_, err = RunUnit(t.Context(), c, c.Units[0], s, o, false)
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
	for _, cell := range k.table(t, "accounts", "balance") {
		v, err := grow.ParseDecimal(cell)
		require.NoError(t, err)
		v, ok := v.Rescale(2)
		require.True(t, ok)
		n += v.N
	}
	return n
}

// Under every isolation level the sum stays, also where the server ends transactions for it.
func TestIsolationLevels(t *testing.T) {
	few := strings.Replace(purseEntities, "rows: 40", "rows: 3", 1)
	onEach(t, purse, func(t *testing.T, d *db) {
		for _, level := range []string{"read committed", "repeatable read", "serializable"} {
			d := &db{engine: d.engine, url: d.make(t, d.words.Replace(purse))}
			d.store = d.open(t)
			k := newDesk(t, d)
			k.fill(t, few)
			text := few + strings.Replace(moveUnit, "together: TOGETHER", "isolation: "+level, 1)
			var all sync.WaitGroup
			for i := range 3 {
				name := fmt.Sprintf("moves-%d.csv", i)
				k.write(t, name, "from,to,amount\n"+strings.Repeat(fmt.Sprintf("A%d,A%d,0.10\n", 1+i, 1+(i+1)%3), 15))
				c := k.plan(t, strings.Replace(text, "moves.csv", name, 1))
				s := d.open(t)
				all.Go(func() {
					o := k.journaled(Options{pause: 1_000_000})
					_, err := RunUnit(t.Context(), c, c.Units[0], s, o, false)
					for n := 0; d.name == "sqlite" && lockedOut(err) && n < 20; n++ {
						_, err = RunUnit(t.Context(), c, c.Units[0], s, o, false)
					}
					assert.NoError(t, err, level)
				})
			}
			all.Wait()
			assert.Equal(t, int64(30000), cents(t, k), level)
			assert.Len(t, k.table(t, "movements"), 90, level)
		}
	})
}

// A run that goes on is not withdrawn; one that broke off is.
func TestARunThatGoesOnIsNotWithdrawn(t *testing.T) {
	onEach(t, purse, func(t *testing.T, d *db) {
		k := newDesk(t, d)
		k.write(t, "moves.csv", "from,to,amount\nA1,A2,1.00\nA3,A4,5000.00\n")
		k.fill(t, together("1"))
		before := k.contents(t)
		_, err := k.run(t, together("1"), k.journaled(Options{}))
		var partial *UnitPartial
		require.ErrorAs(t, err, &partial)
		require.NotZero(t, partial.Load, "an occasion was committed")

		other := d.open(t)
		holder, err := other.Lock(t.Context(), lockName(runName("desk", partial.Load)))
		require.NoError(t, err)
		require.Empty(t, holder, "nobody runs it any more")
		_, err = Withdraw(t.Context(), k.store, partial.Load, WithdrawOptions{})
		require.True(t, lockedOut(err), "%v", err)
		assert.ErrorContains(t, err, fmt.Sprintf("desk, load %d is being loaded by", partial.Load))
		require.NoError(t, other.Unlock(t.Context(), lockName(runName("desk", partial.Load))))
		_, err = Withdraw(t.Context(), k.store, partial.Load, WithdrawOptions{})
		require.NoError(t, err)
		assert.Equal(t, before, k.contents(t))
	})
}

// Conditions in SQL that a database does not understand are told at their places before
// anything is written, all at once.
func TestConditionsAreTriedBeforehand(t *testing.T) {
	text := purseEntities + `units:
  pay:
    given:
      one: {n: A1, most: 5.00}
    steps:
      - require: {sql: "EXISTS (SELECT 1 FROM accounts WHERE number = {n} AND balanse > {most})"}
      - require: {sql: "EXISTS (SELECT 1 FROM accounts WHERE number = {n} AND balance > {most})"}
      - insert: limits
        set: {number: n, most: most, uses: 1}
always:
  fine: {no: Account, where: balance < 0}
  wrong: {no: Account, where: balanse < 0}
  wronger: {sql: "(SELECT count(*) FROM acounts) = 1"}
`
	onEach(t, purse, func(t *testing.T, d *db) {
		k := newDesk(t, d)
		err := TryConditions(t.Context(), k.store, k.plan(t, text))
		var problems plan.Problems
		require.ErrorAs(t, err, &problems)
		require.Len(t, problems, 3)
		for i, want := range []struct {
			line int
			word string
		}{{15, "balanse"}, {21, "balanse"}, {22, "acounts"}} {
			assert.Equal(t, want.line, problems[i].Line)
			assert.Contains(t, problems[i].Message, want.word)
			assert.True(t, problems[i].Database)
		}
		right := strings.NewReplacer("balanse", "balance", "acounts", "accounts").Replace(text)
		require.NoError(t, TryConditions(t.Context(), k.store, k.plan(t, right)))
		k.fill(t, purseEntities)
		r, err := k.run(t, strings.Replace(right, "= 1\"", "= 40\"", 1), Options{})
		require.NoError(t, err)
		assert.Equal(t, int64(1), r.Done)
	})
}
