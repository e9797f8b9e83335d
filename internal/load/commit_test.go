package load_test

import (
	"context"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"evensprout/internal/loadtest"
	"evensprout/internal/withdraw"

	"evensprout/internal/load"

	"evensprout/internal/journal"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/demo"
	"evensprout/internal/diag"
	"evensprout/internal/plan"
	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/store/setwise"
	"evensprout/internal/store/storetest"
	"evensprout/internal/value"
)

// However rows are committed and by however many connections, they are the same.
func TestCommitsMakeNoDifference(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes long")
	}
	var first string
	loadtest.OnEach(t, demo.Schema, func(t *testing.T, d *loadtest.DB) {
		c := d.Compile(t, demo.Entities)
		r, err := load.Run(
			t.Context(),
			c,
			d.Store,
			load.Options{
				Jobs:   3,
				Chunk:  700,
				Commit: plan.CommitChunk,
				Again:  func(ctx context.Context) (store.Store, error) { return d.Driver.Open(ctx, d.URL) },
			},
		)
		require.NoError(t, err)
		assert.Equal(t, int64(31934), r.Rows)
		assert.Greater(t, r.Transactions, 45)
		assert.Equal(t, r.Chunks, r.Transactions)
		got := loadtest.Dump(t, d.Store)
		if first == "" {
			first = got
		}
		assert.True(t, first == got, "another dump")
	})
}

func TestEachFamilyIsCommittedAlone(t *testing.T) {
	loadtest.OnEach(t, families, func(t *testing.T, d *loadtest.DB) {
		r, err := d.Load(
			t,
			"  Guest: {table: guests, rows: 30, fields: {email: {kind: email, unique: true}}}\n  Stay: {table: "+
				"stays, per: {Guest: 2}, fields: {room: {count: 1}, price: 2.50, mail: {same: Guest.email}}}\n",
			load.Options{Commit: plan.CommitFamily},
		)
		require.NoError(t, err)
		assert.Equal(t, 30, r.Transactions)
		assert.Equal(t, int64(90), r.Rows)
	})
}

// With commit: chunk, what was committed before a refusal stays, and that is said.
func TestChunksBeforeARefusalStay(t *testing.T) {
	loadtest.OnEach(t, harbour, func(t *testing.T, d *loadtest.DB) {
		_, err := d.Load(
			t,
			"  Boat: {table: boats, rows: 100, fields: {crew: {count: 1}, seats: {between: [100, 199]}, label: "+
				"{text: \"{crew}\"}, price: {derive: \"n < 50 ? decimal('1.00') : decimal('100000.00')\"}, n: "+
				"{count: 0, column: pier_id}}}\n  Pier: {table: piers, rows: 100, fields: {id: {count: 0}, code: "+
				"{pattern: \"[A-Z]{3}\", unique: true}}}\n",
			load.Options{Chunk: 10, Commit: plan.CommitChunk},
		)
		require.Error(t, err)
	})
	loadtest.OnEach(t, harbour, func(t *testing.T, d *loadtest.DB) {
		_, err := d.Load(
			t,
			"  Boat: {table: boats, rows: 100, fields: {crew: {count: 1}, price: {derive: \"crew < 50 ? "+
				"decimal('1.00') : decimal('100000.00')\"}}}\n",
			load.Options{Chunk: 10, Commit: plan.CommitChunk},
		)
		var partial *load.Partial
		require.ErrorAs(t, err, &partial)
		assert.Equal(t, 4, partial.Chunks)
		assert.Equal(t, int64(40), partial.Rows)
		var r *journal.Refusal
		require.ErrorAs(t, err, &r)
		assert.Equal(t, store.OutOfRange, r.Kind)
		assert.Len(t, d.Table(t, "boats"), 40)
	})
}

// small is the sample with few passengers.
var small = strings.Replace(demo.Entities, "rows: 5000", "rows: 100", 1)

const smallRows = 1277

func TestADryRunChangesNothing(t *testing.T) {
	loadtest.OnEach(t, demo.Schema, func(t *testing.T, d *loadtest.DB) {
		before := loadtest.Dump(t, d.Store)
		for _, commit := range []plan.Commit{plan.CommitLoad, plan.CommitChunk} {
			r, err := d.Load(t, small, load.Options{DryRun: true, Commit: commit})
			require.NoError(t, err)
			assert.Equal(t, int64(smallRows), r.Rows)
			assert.Equal(t, before, loadtest.Dump(t, d.Store))
		}
	})
}

// A circle is closed by writing the reference that may be NULL at the end.
func TestCirclesOnEveryEngine(t *testing.T) {
	const script = `
CREATE TABLE captains (id {key}, ship_id INTEGER);
CREATE TABLE ships (id {key}, captain_id INTEGER NOT NULL REFERENCES captains (id), flag_id INTEGER NOT NULL);`
	later := map[string]string{
		"postgres": "ALTER TABLE captains ADD CONSTRAINT captain_ship FOREIGN KEY (ship_id) REFERENCES ships (id);",
		"mariadb":  "ALTER TABLE captains ADD CONSTRAINT captain_ship FOREIGN KEY (ship_id) REFERENCES ships (id);",
	}
	entities := "  Captain: {table: captains, rows: 9, fields: {ship: {pick: Ship}}}\n  Ship: {table: ships, rows: " +
		"5, fields: {captain: {pick: Captain}, flag_id: 1}}\n"
	onEachWith(t, script, later, func(t *testing.T, d *loadtest.DB) {
		if d.Name == "sqlite" {
			t.Skip("its circles are in TestCirclesLoad: a reference cannot be added later")
		}
		e := d.Loaded(t, entities, load.Options{Chunk: 2})
		assert.Equal(t, int64(9), e["Captain"].Inserted)
		for _, line := range d.Table(t, "captains", "ship_id") {
			assert.Regexp(t, `^[1-5]$`, line)
		}
		_, err := d.Load(t, entities, load.Options{Commit: plan.CommitChunk})
		assert.ErrorContains(t, err, "that needs commit: load")
	})
	for engine := range later {
		later[engine] += "ALTER TABLE captains ALTER COLUMN ship_id SET NOT NULL;"
	}
	later["mariadb"] = strings.Replace(
		later["mariadb"],
		"ALTER COLUMN ship_id SET NOT NULL",
		"MODIFY ship_id INTEGER NOT NULL",
		1,
	)
	onEachWith(t, script, later, func(t *testing.T, d *loadtest.DB) {
		if d.Name == "sqlite" {
			t.Skip("it can put off every reference")
		}
		// Neither may be NULL or put off: one is, while the load runs.
		before := loadtest.Dump(t, d.Store)
		warned := d.Foreseen(t, entities)
		require.Len(t, warned.Warnings(), 1)
		assert.Regexp(t, "^(ship|captain)_id closes a circle of references", warned[0].Message)
		r, err := d.Load(t, entities, d.Journaled(load.Options{Chunk: 2}))
		require.NoError(t, err)
		assert.Len(t, d.Table(t, "captains", "ship_id"), 9)
		assert.True(t, d.Compared(t, r.Load).Same())
		for _, sql := range []string{"INSERT INTO captains (id, ship_id) VALUES (700, 999)", "INSERT INTO ships " +
			"(id, captain_id, flag_id) VALUES (700, 999, 1)"} {
			_, err := d.Store.(setwise.Engine).Exec(t.Context(), sql)
			var v *store.Violation
			require.ErrorAs(t, err, &v, "references are looked at as before")
			assert.Equal(t, store.ForeignKey, v.Kind)
		}
		d.Withdrawn(t, r.Load, withdraw.Options{})
		assert.Equal(t, before, loadtest.Dump(t, d.Store))

		_, err = d.Load(t, strings.ReplaceAll(entities, "rows:", "write: replace, rows:"), load.Options{})
		var p diag.Problems
		require.ErrorAs(t, err, &p)
		assert.Regexp(
			t,
			`(Captain.ship|Ship.captain) closes a circle of references, and (ship|captain)_id is NOT NULL`,
			p.Error(),
		)
	})
}

// replace keeps its promise to a reader who began earlier: the old rows, until the new
// ones are committed.
func TestReplaceUnderAReader(t *testing.T) {
	loadtest.OnEach(t, loadtest.Fares, func(t *testing.T, d *loadtest.DB) {
		if d.Name == "sqlite" {
			t.Skip("its reader and writer exclude each other, unless the file's owner chose otherwise")
		}
		reader := d.Open(t)
		table := func() *schema.Table {
			db, err := reader.Survey(t.Context())
			require.NoError(t, err)
			return db.Table("fares")
		}()
		seen := map[int64]bool{}
		_, err := load.Run(
			t.Context(),
			d.Compile(
				t,
				"  Fare: {table: fares, write: replace, rows: 500, fields: {code: {pattern: \"[A-Z]{6}\", unique: "+
					"true}, label: {text: \"{code}\"}, price: 1.00}}\n",
			),
			d.Store,
			load.Options{Chunk: 50, Progress: func(load.Progress) {
				n, err := reader.Count(t.Context(), table)
				require.NoError(t, err)
				seen[n] = true
			}},
		)
		require.NoError(t, err)
		assert.Equal(t, map[int64]bool{2: true}, seen)
		n, err := reader.Count(t.Context(), table)
		require.NoError(t, err)
		assert.Equal(t, int64(500), n)
	})
}

func TestReplaceAndRowsOutsideThePlan(t *testing.T) {
	loadtest.OnEach(
		t,
		vessels+"INSERT INTO vessels (id, code, name) VALUES (1, 'HERON', 'Heron'); INSERT INTO trips (id, "+
			"vessel_id, day) VALUES (5, 1, 1);",
		func(t *testing.T, d *loadtest.DB) {
			const entities = "  Vessel: {table: vessels, write: WRITE, given: {a: {id: 9, code: TERN, name: Tern}}}\n"
			r := d.Refused(t, strings.Replace(entities, "WRITE", "replace", 1), load.Options{})
			assert.Equal(t, store.ForeignKey, r.Kind)
			assert.Contains(t, r.Message, "rows of trips refer to rows that replace would delete")
			assert.Contains(t, r.Hint, "cascade: true")
			e := d.Loaded(t, strings.Replace(entities, "WRITE", "{mode: replace, cascade: true}", 1), load.Options{})
			assert.Equal(t, int64(1), e["Vessel"].Removed)
			assert.Equal(t, []string{"9 TERN Tern"}, d.Table(t, "vessels"))
			assert.Empty(t, d.Table(t, "trips"))
			// Both replaced: no question.
			both := "  Vessel: {table: vessels, write: replace, given: {a: {code: WREN, name: Wren}}}\n  Trip: " +
				"{table: trips, write: replace, per: {Vessel: 2}, fields: {day: 1}}\n"
			e = d.Loaded(t, both, load.Options{})
			assert.Equal(t, [2]int64{1, 2}, [2]int64{e["Vessel"].Inserted, e["Trip"].Inserted})
			e = d.Loaded(t, both, load.Options{})
			assert.Equal(t, [2]int64{1, 2}, [2]int64{e["Vessel"].Removed, e["Trip"].Removed})
		},
	)
}

func TestReplaceOfATableThatRefersToItself(t *testing.T) {
	loadtest.OnEach(
		t,
		"CREATE TABLE crew (id INTEGER PRIMARY KEY, boss_id INTEGER REFERENCES crew (id), name VARCHAR(9));",
		func(t *testing.T, d *loadtest.DB) {
			const entities = "  Crew: {table: crew, write: replace, rows: 50, fields: {boss: {pick: Crew}, name: a}}\n"
			d.Loaded(t, entities, load.Options{Chunk: 7})
			e := d.Loaded(t, entities, load.Options{Chunk: 7})
			assert.Equal(t, [3]int64{50, 50, 50}, [3]int64{e["Crew"].Removed, e["Crew"].Inserted, e["Crew"].After})
		},
	)
}

// Names with quotes, spaces, reserved words and other letters, in every statement.
func TestOddNamesEverywhere(t *testing.T) {
	loadtest.OnEach(
		t,
		`CREATE TABLE "select ""it""" ("order" INTEGER PRIMARY KEY, "größe in m" INTEGER NOT NULL UNIQUE,
  "from's" VARCHAR(20), "日付" INTEGER, CONSTRAINT "a b" CHECK ("日付" < 1000));
CREATE TABLE "child of ""it""" ("id" INTEGER PRIMARY KEY, "up to" INTEGER NOT NULL
  REFERENCES "select ""it""" ("order"));`,
		func(t *testing.T, d *loadtest.DB) {
			text := func(write, value string) string {
				return "  Odd:\n    table: 'select \"it\"'\n    write: " + write + "\n    rows: 20\n    fields:\n  " +
					"    order: {count: 1}\n      size: {count: 1, column: größe in m}\n      text: {value: " +
					value + ", column: " +
					"\"from's\"}\n      date: {count: 1, column: 日付}\n" +
					"  Child: {table: 'child of \"it\"', write: {mode: keep, match: [id]}, rows: 20, fields: {id: " +
					"{count: 1}, up: {pick: Odd, column: up to}}}\n"
			}
			e := d.Loaded(t, text("insert", "a"), load.Options{})
			assert.Equal(t, int64(20), e["Child"].Inserted)
			e = d.Loaded(
				t,
				text("{mode: upsert, match: [size]}", "b"),
				load.Options{Changed: func(load.Changed) error { return nil }},
			)
			assert.Equal(t, int64(20), e["Odd"].Updated)
			assert.Equal(t, int64(20), e["Child"].Kept)
			e = d.Loaded(t, text("{mode: update, match: [size]}", "c"), load.Options{})
			assert.Equal(t, int64(20), e["Odd"].Updated)
			r, err := d.Load(t, text("insert", "d"), load.Options{Policies: plan.Policies{"all": plan.Skip}})
			require.NoError(t, err)
			assert.Equal(t, int64(40), r.Rejected)
		},
	)
}

// Text with every sign that some format treats in its own way comes back as it went.
func TestOddValues(t *testing.T) {
	loadtest.OnEach(
		t,
		"CREATE TABLE notes (id INTEGER PRIMARY KEY, text VARCHAR(60) NOT NULL, raw {bytes}, seen_at {moment}, "+
			"amount DECIMAL(18,6));",
		func(t *testing.T, d *loadtest.DB) {
			const entities = "  Note:\n    table: notes\n    write: {mode: upsert, match: [id]}\n    fields: {raw: " +
				"{bytes: 0..90}}\n    given:\n" +
				"      a: {id: 1, text: \"tab\\tnewline\\nreturn\\r\", seen_at: 2026-05-01T08:00:00.123456Z, " +
				"amount: 0.000001}\n" +
				"      b: {id: 2, text: \"back\\\\slash \\\\N 'quotes' \\\"double\\\" `back`\", seen_at: " +
				"1970-01-01T00:00:00Z, amount: -123456789012.345678}\n" +
				"      c: {id: 3, text: \"Ω 日本 🚢 é\", seen_at: null, amount: 0.5}\n" +
				"      d: {id: 4, text: \"\", seen_at: 1999-12-31T23:59:59.9Z, amount: null}\n"
			if d.Name == "sqlite" {
				t.Skip("decimals of 18 digits are refused there, see TestDecimalsAreNeverRounded")
			}
			e := d.Loaded(t, entities, load.Options{})
			assert.Equal(t, int64(4), e["Note"].Inserted)
			assert.Equal(t, []string{
				"1 tab\tnewline\nreturn\r 2026-05-01T08:00:00.123456Z 0.000001", "2 back\\slash \\N 'quotes' " +
					"\"double\" `back` 1970-01-01T00:00:00Z -123456789012.345678",
				"3 Ω 日本 🚢 é NULL 0.500000", "4  1999-12-31T23:59:59.9Z NULL",
			}, d.Table(t, "notes", "id", "text", "seen_at", "amount"))
			e = d.Loaded(t, entities, load.Options{})
			assert.Equal(t, int64(4), e["Note"].Unchanged)
			e = d.Loaded(t, strings.Replace(entities, "{mode: upsert, match: [id]}", "replace", 1), load.Options{})
			assert.Equal(t, int64(4), e["Note"].Inserted, "the bulk path")
			e = d.Loaded(t, entities, load.Options{})
			assert.Equal(t, int64(4), e["Note"].Unchanged, "both paths write the same")
		},
	)
}

func TestRebuiltIndexes(t *testing.T) {
	const script = vessels + "CREATE INDEX trip_days ON trips (day); CREATE UNIQUE INDEX trip_notes ON trips (note);"
	const entities = "  Vessel: {table: vessels, rows: 50, fields: {code: {pattern: \"[A-Z]{6}\", unique: true}, " +
		"name: {kind: noun}}}\n  Trip: {table: trips, per: {Vessel: 2}, fields: {day: 1, note: NOTE}}\n"
	loadtest.OnEach(t, script, func(t *testing.T, d *loadtest.DB) {
		before, err := d.Store.Survey(t.Context())
		require.NoError(t, err)
		_, err = d.Load(
			t,
			strings.Replace(entities, "NOTE", "{pattern: \"[A-Z]{9}\", unique: true}", 1),
			load.Options{Indexes: load.IndexesRebuild},
		)
		if d.Name == "mariadb" {
			var fault *store.Fault
			require.ErrorAs(t, err, &fault)
			assert.Equal(t, store.Refused, fault.Kind)
			return
		}
		require.NoError(t, err)
		after, err := d.Store.Survey(t.Context())
		require.NoError(t, err)
		assert.ElementsMatch(t, before.Table("trips").Uniques, after.Table("trips").Uniques)
		assert.Len(t, after.Table("trips").References, 1)
	})
	loadtest.OnEach(
		t,
		script+"INSERT INTO vessels (id, code, name) VALUES (900, 'x', 'y');",
		func(t *testing.T, d *loadtest.DB) {
			if d.Name == "mariadb" {
				t.Skip("it does not rebuild")
			}
			_, err := d.Load(
				t,
				strings.Replace(entities, "NOTE", "{pattern: \"[A-Z]{9}\", unique: true}", 1),
				load.Options{Indexes: load.IndexesRebuild},
			)
			assert.ErrorContains(
				t,
				err,
				"vessels has 1 rows; indexes are rebuilt only for tables that are empty at the start",
			)
		},
	)
	loadtest.OnEach(t, script, func(t *testing.T, d *loadtest.DB) {
		if d.Name == "mariadb" {
			t.Skip("it does not rebuild")
		}
		_, err := d.Load(
			t,
			strings.Replace(entities, "NOTE", "{choose: [a, b]}", 1),
			load.Options{Indexes: load.IndexesRebuild},
		)
		var r *journal.Refusal
		require.ErrorAs(t, err, &r, "a violation that shows only when the index is made again")
		assert.Equal(t, store.Unique, r.Kind)
		assert.Equal(t, []string{"note"}, r.Columns)
		assert.Regexp(t, `^Trip row \d+$`, r.Row)
		after, err := d.Store.Survey(t.Context())
		require.NoError(t, err)
		assert.Len(t, after.Table("trips").Uniques, 1, "it is there again")
	})
}

// faulty lets things happen to a real store at chosen moments.
type faulty struct {
	store.Store
	beforeInsert func() error
	onCommit     func(store.Tx) error
}

type faultyTx struct {
	store.Tx
	f *faulty
}

func (f *faulty) Begin(ctx context.Context, o store.TxOptions) (store.Tx, error) {
	tx, err := f.Store.Begin(ctx, o)
	return &faultyTx{tx, f}, err
}

func (tx *faultyTx) Insert(ctx context.Context, into store.Into, rows store.Rows) (int64, error) {
	if tx.f.beforeInsert != nil {
		if err := tx.f.beforeInsert(); err != nil {
			for range rows {
			}
			return 0, err
		}
	}
	return tx.Tx.Insert(ctx, into, rows)
}

func (tx *faultyTx) Commit(ctx context.Context) error {
	if tx.f.onCommit != nil {
		return tx.f.onCommit(tx.Tx)
	}
	return tx.Tx.Commit(ctx)
}

// waits reports whether some transaction of the server waits for another one's lock.
func waits(t *testing.T, d *loadtest.DB, s store.Store) bool {
	granted := &schema.Column{Name: "granted", Kind: schema.Boolean}
	n := 0
	if d.Name == "mariadb" {
		name := &schema.Column{Name: "variable_name", Kind: schema.Text}
		said := &schema.Column{Name: "variable_value", Kind: schema.Text}
		require.NoError(
			t,
			s.Select(
				t.Context(),
				store.Query{
					Table:   &schema.Table{Schema: "information_schema", Name: "global_status"},
					Columns: []*schema.Column{said},
					Where: []store.Cell{{Column: name,
						Value: value.String("INNODB_ROW_LOCK_CURRENT_WAITS")}},
				},
				func(row []value.Value) error {
					if row[0].S != "0" {
						n++
					}
					return nil
				},
			),
		)
		return n > 0
	}
	require.NoError(
		t,
		s.Select(
			t.Context(),
			store.Query{
				Table:   &schema.Table{Schema: "pg_catalog", Name: "pg_locks"},
				Columns: []*schema.Column{granted},
				Where:   []store.Cell{{Column: granted, Value: value.Bool(false)}},
			},
			func([]value.Value) error {
				n++
				return nil
			},
		),
	)
	return n > 0
}

// Another program has inserted the same key, and not committed yet, when we look: we
// wait for it, and then its row is one that was there before.
func TestARaceForAKey(t *testing.T) {
	for _, c := range []struct {
		mode     string
		policies plan.Policies
		want     string
		journal  bool // then what was there is looked at before, and the race is noticed
	}{{"keep", nil, "Theirs", false}, {"upsert", nil, "Heron", false},
		{"keep", plan.Policies{"check": plan.Skip}, "Theirs", false},
		{"upsert", plan.Policies{"check": plan.Skip}, "Heron", false}, {"keep", nil, "Theirs", true},
		{"upsert", nil, "Heron", true}} {
		loadtest.OnEach(t, vessels, func(t *testing.T, d *loadtest.DB) {
			if d.Name == "sqlite" {
				t.Skip("nobody else can write while we do")
			}
			other, watcher := d.Open(t), d.Open(t)
			tables, err := other.Survey(t.Context())
			require.NoError(t, err)
			tx, err := other.Begin(t.Context(), store.TxOptions{})
			require.NoError(t, err)
			table := tables.Table("vessels")
			_, err = tx.Insert(
				t.Context(),
				store.Into{Table: table, Columns: table.Columns, Fields: []int{0, 1, 2}},
				func(yield func(*value.Batch) bool) {
					yield(
						&value.Batch{
							Len:    1,
							Width:  3,
							Values: []value.Value{value.Int(500), value.String("HERON"), value.String("Theirs")},
						},
					)
				},
			)
			require.NoError(t, err)
			plan := d.Compile(
				t,
				"  Vessel:\n    table: vessels\n    write: {mode: "+c.mode+", match: [code]}\n    given: {h: "+
					"{code: HERON, name: Heron}, t: {code: TERN, name: Tern}}\n",
			)
			done := make(chan error)
			var r *journal.Result
			go func() {
				var err error
				o := load.Options{Policies: c.policies}
				if c.journal {
					o = d.Journaled(o)
				}
				r, err = load.Run(t.Context(), plan, d.Store, o)
				done <- err
			}()
			require.Eventually(t, func() bool { return waits(t, d, watcher) }, 8*time.Second, 5*time.Millisecond)
			require.NoError(t, tx.Commit(t.Context()))
			require.NoError(t, <-done)
			assert.Equal(t, int64(1), r.Entities[0].Inserted)
			assert.ElementsMatch(t, []string{"HERON " + c.want, "TERN Tern"}, d.Table(t, "vessels", "code", "name"))
			if c.journal {
				d.Withdrawn(t, r.Load, withdraw.Options{})
				assert.Equal(
					t,
					[]string{"HERON Theirs"},
					d.Table(t, "vessels", "code", "name"),
					"what the others wrote is back",
				)
			}
		})
	}
}

// Two loads that take locks in opposite orders: the server ends one of them, and that
// one goes through at the second try.
func TestADeadlock(t *testing.T) {
	loadtest.OnEach(
		t,
		vessels+"INSERT INTO vessels (id, code, name) VALUES (1, 'A', 'a'), (2, 'B', 'b');",
		func(t *testing.T, d *loadtest.DB) {
			if d.Name == "sqlite" {
				t.Skip("its writers take turns")
			}
			update := func(name string, rows ...string) string {
				return "  Vessel:\n    table: vessels\n    write: {mode: update, match: [code], set: [name]}\n    " +
					"given: {x: {code: " + rows[0] + ", name: " + name + "}, y: {code: " + rows[1] + ", name: " +
					name + "}}\n"
			}
			// Both have changed their first row before either changes its second.
			var first sync.WaitGroup
			first.Add(2)
			run := func(s store.Store, c *plan.Compiled) (*journal.Result, error) {
				met := false
				return load.Run(context.Background(), c, s, load.Options{Chunk: 1, Progress: func(p load.Progress) {
					if p.Done == 2 && !met {
						met = true
						first.Done()
						first.Wait()
					}
				}})
			}
			one, two := d.Compile(t, update("one", "A", "B")), d.Compile(t, update("two", "B", "A"))
			var results [2]*journal.Result
			var errs [2]error
			var all sync.WaitGroup
			all.Add(2)
			go func() { defer all.Done(); results[0], errs[0] = run(d.Store, one) }()
			other := d.Open(t)
			go func() { defer all.Done(); results[1], errs[1] = run(other, two) }()
			all.Wait()
			require.NoError(t, errs[0])
			require.NoError(t, errs[1])
			assert.Equal(t, 1, results[0].Repeated+results[1].Repeated)
			names := d.Table(t, "vessels", "name")
			assert.Equal(t, names[0], names[1], "one load after the other, never half of each")
		},
	)
}

// A transaction that the server ends because of another one is begun again.
func TestTransientFaultsAreRepeated(t *testing.T) {
	loadtest.OnEach(t, demo.Schema, func(t *testing.T, d *loadtest.DB) {
		n := 0
		f := &faulty{Store: d.Store, beforeInsert: func() error {
			if n++; n == 5 || n == 12 {
				return &store.Fault{Kind: store.Transient, Message: "deadlock"}
			}
			return nil
		}}
		r, err := load.Run(t.Context(), d.Compile(t, small), f, load.Options{Pause: 1})
		require.NoError(t, err)
		assert.Equal(t, 2, r.Repeated)
		assert.Equal(t, int64(smallRows), r.Rows)
		for _, e := range r.Entities {
			assert.Equal(t, e.After, e.Inserted)
		}
	})
	loadtest.OnEach(t, demo.Schema, func(t *testing.T, d *loadtest.DB) {
		before := loadtest.Dump(t, d.Store)
		f := &faulty{
			Store:        d.Store,
			beforeInsert: func() error { return &store.Fault{Kind: store.Transient, Message: "deadlock"} },
		}
		_, err := load.Run(t.Context(), d.Compile(t, small), f, load.Options{Pause: 1})
		assert.ErrorContains(t, err, "deadlock (tried 6 times)")
		assert.Equal(t, before, loadtest.Dump(t, d.Store))
	})
}

// A commit without an answer is never repeated.
func TestACommitWithoutAnAnswer(t *testing.T) {
	loadtest.OnEach(t, demo.Schema, func(t *testing.T, d *loadtest.DB) {
		for _, happened := range []bool{false, true} {
			commits := 0
			f := &faulty{Store: d.Store, onCommit: func(tx store.Tx) error {
				commits++
				if happened {
					require.NoError(t, tx.Commit(t.Context()))
				}
				return &store.Fault{Kind: store.Unanswered, Message: "no answer"}
			}}
			_, err := load.Run(t.Context(), d.Compile(t, small), f, load.Options{Pause: 1})
			var fault *store.Fault
			require.ErrorAs(t, err, &fault)
			assert.Equal(t, store.Unanswered, fault.Kind)
			assert.Equal(t, 1, commits)
		}
	})
}

func TestStatementsAreCounted(t *testing.T) {
	loadtest.OnEach(t, loadtest.Fares, func(t *testing.T, d *loadtest.DB) {
		r, err := d.Load(
			t,
			fare("{mode: upsert, match: [code]}", "{id: 7, code: DECK, label: Sun deck, price: 5.00}"),
			load.Options{},
		)
		require.NoError(t, err)
		sent, seen := int64(0), map[string]bool{}
		for _, s := range r.Statements {
			sent += s.Times
			assert.False(t, seen[s.Text], "each text once")
			seen[s.Text] = true
		}
		assert.Equal(t, sent, r.Sent)
		assert.True(t, seen["COMMIT"])
		assert.Less(t, len(r.Statements), 60)
	})
}

// A server that is killed in the middle: nothing stays, and it is said. Once it is
// there again, the same load goes through.
func TestAKilledServer(t *testing.T) {
	for name, start := range map[string]func() (*storetest.Server, error){"postgres": storetest.StartPostgres,
		"mariadb": storetest.StartMariaDB} {
		t.Run(name, func(t *testing.T) {
			storetest.Postgres(t) // skips where servers cannot be installed
			storetest.MariaDB(t)
			server, err := start()
			require.NoError(t, err)
			defer server.Remove()
			var e loadtest.Engine
			for _, x := range loadtest.Engines() {
				if x.Name == name {
					e = x
				}
			}
			d := &loadtest.DB{Engine: e, URL: server.Database(t, e.Words.Replace(demo.Schema))}
			d.Store = d.Open(t)
			killed := false
			_, err = d.Load(
				t,
				demo.Entities,
				load.Options{
					Pause: 1,
					Again: func(ctx context.Context) (store.Store, error) { return d.Driver.Open(ctx, d.URL) },
					Progress: func(p load.Progress) {
						if p.Done > 9000 && !killed {
							killed = true
							server.Kill()
						}
					},
				},
			)
			var fault *store.Fault
			require.ErrorAs(t, err, &fault)
			assert.Contains(t, []store.FaultKind{store.Lost, store.Unreachable}, fault.Kind)
			require.NoError(t, server.Start())
			d.Store = d.Open(t)
			r, err := d.Load(t, demo.Entities, load.Options{})
			require.NoError(t, err)
			assert.Equal(t, int64(31934), r.Rows)
		})
	}
}

// A connection that the server ends is opened again, and the transaction is begun anew.
func TestABrokenConnectionIsOpenedAgain(t *testing.T) {
	loadtest.OnEach(t, demo.Schema, func(t *testing.T, d *loadtest.DB) {
		if d.Name == "sqlite" {
			t.Skip("it has no connections that break")
		}
		n := 0
		f := &faulty{Store: d.Store, beforeInsert: func() error {
			if n++; n == 6 {
				return &store.Fault{Kind: store.Lost, Message: "gone"}
			}
			return nil
		}}
		r, err := load.Run(
			t.Context(),
			d.Compile(t, small),
			f,
			load.Options{
				Pause: 1,
				Again: func(ctx context.Context) (store.Store, error) { return d.Driver.Open(ctx, d.URL) },
			},
		)
		require.NoError(t, err)
		assert.Equal(t, 1, r.Repeated)
		assert.Equal(t, int64(smallRows), r.Rows)
	})
}

// breaking is a connection that breaks when it is first used, as one to a server that is about to go.
type breaking struct{ store.Store }

func (breaking) Select(context.Context, store.Query, func([]value.Value) error) error {
	return &store.Fault{Kind: store.Lost, Message: "gone"}
}

// A connection that joins a load, and breaks before it has written anything, does not end the load.
func TestConnectionsThatJoinMayBreak(t *testing.T) {
	loadtest.OnEach(t, demo.Schema, func(t *testing.T, d *loadtest.DB) {
		if d.Name == "sqlite" {
			t.Skip("it has no connections that break")
		}
		var opened atomic.Int64
		o := d.Journaled(load.Options{Pause: 1, Jobs: 2, Chunk: 50, Commit: plan.CommitChunk})
		o.Again = func(ctx context.Context) (store.Store, error) {
			s, err := d.Driver.Open(ctx, d.URL)
			if err == nil && opened.Add(1) <= 3 {
				return breaking{s}, nil
			}
			return s, err
		}
		o.Progress = func(load.Progress) { // the first connection leaves time to the second
			for until := time.Now().Add(300 * time.Millisecond); opened.Load() <= 3 && time.Now().Before(until); {
				time.Sleep(time.Millisecond)
			}
		}
		r, err := load.Run(t.Context(), d.Compile(t, small), d.Store, o)
		require.NoError(t, err)
		assert.Equal(t, int64(smallRows), r.Rows)
		assert.Greater(t, opened.Load(), int64(3))
	})
}
