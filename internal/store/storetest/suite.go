// Package storetest holds the behaviours that every store must have, whatever its
// engine. A behaviour is written once and run for each.
package storetest

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/value"
)

// Engine is what the suite needs of an engine.
type Engine struct {
	Driver store.Driver
	// Make makes a new database with the tables of the script and returns its URL.
	Make func(t *testing.T, script string) string
	// Triggers is a script with a trigger on boats that refuses the label 'forbidden'.
	Triggers string
	// Deferrable is a script that lets the reference of boats be looked at late; empty
	// where the engine does so anyway.
	Deferrable string
	// NoLate tells that the engine puts nothing off.
	NoLate bool
	// Clerk makes a user who may read all piers and write some of their columns, but
	// nothing else, and returns the database's URL for that user.
	Clerk func(t *testing.T, url string) string
	// Plain makes a user without special rights; nil where there are no superusers.
	Plain func(t *testing.T, url string) string
	// Lacks are the words of a refusal of all that the clerk may not do, and Zone is the
	// time zone of the engine's server.
	Lacks, Zone string
}

// script makes the tables in SQL that all engines know.
const script = `
CREATE TABLE piers (
  id INTEGER PRIMARY KEY,
  code VARCHAR(5) NOT NULL UNIQUE,
  name VARCHAR(20)
);
CREATE TABLE boats (
  id INTEGER PRIMARY KEY,
  pier_id INTEGER REFERENCES piers (id) ON DELETE CASCADE,
  label VARCHAR(10) NOT NULL,
  seats SMALLINT,
  price DECIMAL(6,2),
  launched DATE,
  seen_at TIMESTAMP,
  CONSTRAINT enough_seats CHECK (seats > 3)
);
CREATE TABLE berths (
  pier_id INTEGER NOT NULL REFERENCES piers (id),
  number INTEGER NOT NULL,
  boat_id INTEGER,
  PRIMARY KEY (pier_id, number)
);
CREATE TABLE "odd ""name" (
  "select" INTEGER PRIMARY KEY,
  "größe in m" VARCHAR(10)
);`

// Run runs all behaviours.
func Run(t *testing.T, e Engine) {
	for name, test := range map[string]func(*testing.T, *fixture){
		"survey describes tables":                     surveyed,
		"the database counts values":                  spread,
		"what is committed stays":                     committed,
		"what is rolled back leaves no trace":         rolledBack,
		"values come back as they went":               values,
		"odd names are quoted":                        oddNames,
		"a double key is a unique violation":          doubleKey,
		"a double code names the other row":           doubleCode,
		"a double composite key":                      doubleComposite,
		"a reference to nothing":                      orphan,
		"late references are looked at in commit":     lateOrphan,
		"late references may close a circle":          lateCircle,
		"loose references are looked at late":         loose,
		"NULL where none may be":                      null,
		"a check":                                     check,
		"a text too long":                             tooLong,
		"a number out of range":                       outOfRange,
		"a decimal out of range":                      decimalOutOfRange,
		"a trigger":                                   trigger,
		"conditions are computed as we do":            passes,
		"find looks for values":                       find,
		"select pages through rows":                   pages,
		"a cancelled context ends a write":            cancelled,
		"a stage is checked against the table":        heldAgainst,
		"who refers to staged rows":                   referring,
		"rows alike, without a key":                   alike,
		"rows go by the span of their keys":           spans,
		"rows of small tables are changed":            smallTables,
		"the journal's tables are made once":          journal,
		"a lock keeps another session out":            locks,
		"rights are reported before anything is done": rights,
		"the server's clock is not our session's":     clock,
		"databases of our own":                        owned,
		"literals are read as they were meant":        written,
		"steps of one and of many mean the same":      steps,
		"steps add rows, and conditions are held":     stepsThatAdd,
	} {
		t.Run(name, func(t *testing.T) {
			url := e.Make(t, script+e.Triggers+e.Deferrable)
			s, err := e.Driver.Open(t.Context(), url)
			require.NoError(t, err)
			db, err := s.Survey(t.Context())
			require.NoError(t, err)
			f := &fixture{e, url, s, db}
			test(t, f)
			require.NoError(t, f.store.Close())
		})
	}
}

type fixture struct {
	engine Engine
	url    string
	store  store.Store
	db     *schema.Database
}

// cells are one row: values by column.
type cells map[string]value.Value

// insert adds rows that all have the same columns.
func (f *fixture) insert(t *testing.T, tx store.Tx, table string, rows ...cells) error {
	t.Helper()
	into := store.Into{Table: f.db.Table(table)}
	for _, c := range into.Table.Columns {
		if _, ok := rows[0][c.Name]; ok {
			into.Fields = append(into.Fields, len(into.Columns))
			into.Columns = append(into.Columns, c)
		}
	}

	b := &value.Batch{Len: len(rows), Width: len(into.Columns)}
	for _, r := range rows {
		for _, c := range into.Columns {
			b.Values = append(b.Values, r[c.Name])
		}
	}
	for i := range b.Len { // as a load does before rows are sent
		for j, c := range into.Columns {
			if v := store.Misfit(c, &b.Row(i)[j]); v != nil {
				v.Row, v.Table = int64(i), table
				return v
			}
		}
	}
	require.NoError(t, tx.Savepoint(t.Context(), "suite"))
	_, err := tx.Insert(t.Context(), into, one(b))
	var v *store.Violation
	if !errors.As(err, &v) || v.Row >= 0 {
		return err
	}

	// The bulk path does not tell the row: it is found on a stage.
	require.NoError(t, tx.RollbackTo(t.Context(), "suite"))
	stage, err := tx.Stage(t.Context(), &store.Write{Into: into, Mode: store.Insert}, one(b))
	if err != nil {
		return err
	}
	guilty, err := stage.Guilty(t.Context())
	if err != nil {
		return err
	}
	if len(guilty) > 0 {
		assert.Equal(t, v.Kind, guilty[0].Kind, "the statement finds what the engine said: %s", v.Message)
		guilty[0].Code, guilty[0].Message = v.Code, v.Message
		return guilty[0]
	}
	_, err = store.Isolate(t.Context(), tx, stage, stage.Rows(), func(v *store.Violation) error { return v })
	return err
}

func one(b *value.Batch) store.Rows {
	return func(yield func(*value.Batch) bool) { yield(b) }
}

func (f *fixture) begin(t *testing.T, late bool) store.Tx {
	t.Helper()
	tx, err := f.store.Begin(t.Context(), store.TxOptions{Late: late})
	require.NoError(t, err)
	return tx
}

// refused inserts rows after a first pier and returns the violation of one.
func (f *fixture) refused(t *testing.T, table string, rows ...cells) *store.Violation {
	t.Helper()
	tx := f.begin(t, false)
	require.NoError(t, f.insert(t, tx, "piers", pier(1, "WEST")))
	err := f.insert(t, tx, table, rows...)
	var v *store.Violation
	require.ErrorAs(t, err, &v)
	require.NoError(t, tx.Rollback())
	assert.Equal(t, table, v.Table)
	assert.Zero(t, f.count(t, "piers"), "everything is rolled back")
	return v
}

func (f *fixture) count(t *testing.T, table string) int64 {
	t.Helper()
	n, err := f.store.Count(t.Context(), f.db.Table(table))
	require.NoError(t, err)
	return n
}

func (f *fixture) all(t *testing.T, q store.Query) [][]string {
	t.Helper()
	var out [][]string
	require.NoError(t, f.store.Select(t.Context(), q, func(row []value.Value) error {
		var line []string
		for _, v := range row {
			line = append(line, v.String())
		}
		out = append(out, line)
		return nil
	}))
	return out
}

func pier(id int64, code string) cells {
	return cells{"id": value.Int(id), "code": value.String(code), "name": {}}
}

func boat(id int64, with cells) cells {
	c := cells{
		"id":       value.Int(id),
		"pier_id":  value.Int(1),
		"label":    value.String("Heron"),
		"seats":    value.Int(40),
		"price":    {},
		"launched": {},
		"seen_at":  {},
	}
	for k, v := range with {
		c[k] = v
	}
	return c
}

func surveyed(t *testing.T, f *fixture) {
	boats := f.db.Table("boats")
	require.NotNil(t, boats)
	assert.Equal(t, []string{"id"}, boats.PrimaryKey)
	kinds := map[string]schema.Kind{}
	for _, c := range boats.Columns {
		kinds[c.Name] = c.Kind
	}
	assert.Equal(t, map[string]schema.Kind{
		"id": schema.Integer, "pier_id": schema.Integer, "label": schema.Text, "seats": schema.Integer,
		"price":    schema.Decimal,
		"launched": schema.Date, "seen_at": schema.Timestamp,
	}, kinds)
	assert.Equal(t, 10, boats.Column("label").Length)
	assert.True(t, boats.Column("label").NotNull)
	assert.Equal(t, [2]int{6, 2}, [2]int{boats.Column("price").Precision, boats.Column("price").Scale})
	assert.Equal(t, 16, boats.Column("seats").Bits)
	require.Len(t, boats.References, 1)
	r := boats.References[0]
	assert.Equal(t, []string{"pier_id"}, r.Columns)
	assert.Equal(t, "piers", r.Table)
	assert.Equal(t, []string{"id"}, r.Targets)
	assert.True(t, r.Cascade)
	require.Len(t, boats.Checks, 1)
	assert.Equal(t, "enough_seats", boats.Checks[0].Name)
	assert.Regexp(t, `seats\W* > 3`, boats.Checks[0].Expression)
	piers := f.db.Table("piers")
	require.Len(t, piers.Uniques, 1)
	assert.Equal(t, []string{"code"}, piers.Uniques[0].Columns)
	assert.Equal(t, []string{"pier_id", "number"}, f.db.Table("berths").PrimaryKey)
}

func committed(t *testing.T, f *fixture) {
	tx := f.begin(t, false)
	require.NoError(t, f.insert(t, tx, "piers", pier(1, "WEST"), pier(2, "EAST")))
	n, err := tx.Count(t.Context(), f.db.Table("piers"))
	require.NoError(t, err)
	assert.Equal(t, int64(2), n)
	require.NoError(t, tx.Commit(t.Context()))
	require.NoError(t, tx.Rollback(), "after a commit it does nothing")
	assert.Equal(t, int64(2), f.count(t, "piers"))
}

func rolledBack(t *testing.T, f *fixture) {
	tx := f.begin(t, false)
	require.NoError(t, f.insert(t, tx, "piers", pier(1, "WEST")))
	require.NoError(t, tx.Rollback())
	assert.Zero(t, f.count(t, "piers"))
	tx = f.begin(t, false)
	require.NoError(t, f.insert(t, tx, "piers", pier(1, "WEST")), "the same rows can be written afterwards")
	require.NoError(t, tx.Commit(t.Context()))
}

func values(t *testing.T, f *fixture) {
	tx := f.begin(t, false)
	date, _ := value.ParseDate("2024-02-29")
	moment, _ := value.ParseTimestamp("2026-05-01T08:00:01Z")
	price, _ := value.ParseDecimal("1234.50")
	require.NoError(
		t,
		f.insert(t, tx, "piers", cells{"id": value.Int(1), "code": value.String("Ä'\"\\"), "name": value.String("")}),
	)
	require.NoError(
		t,
		f.insert(
			t,
			tx,
			"boats",
			boat(7, cells{"price": price, "launched": date, "seen_at": moment}),
			boat(8, cells{"pier_id": {}}),
		),
	)
	require.NoError(t, tx.Commit(t.Context()))
	boats, piers := f.db.Table("boats"), f.db.Table("piers")
	assert.Equal(t, [][]string{
		{"7", "1", "Heron", "40", "1234.50", "2024-02-29", "2026-05-01T08:00:01Z"},
		{"8", "NULL", "Heron", "40", "NULL", "NULL", "NULL"},
	}, f.all(t, store.Query{Table: boats, Columns: boats.Columns}))
	assert.Equal(t, [][]string{{"1", "Ä'\"\\", ""}}, f.all(t, store.Query{Table: piers, Columns: piers.Columns}))
}

func oddNames(t *testing.T, f *fixture) {
	table := f.db.Table(`odd "name`)
	require.NotNil(t, table)
	tx := f.begin(t, false)
	require.NoError(t, f.insert(t, tx, table.Name, cells{"select": value.Int(1), "größe in m": value.String("x")}))
	err := f.insert(t, tx, table.Name, cells{"select": value.Int(1), "größe in m": value.String("y")})
	var v *store.Violation
	require.ErrorAs(t, err, &v)
	assert.Equal(t, []string{"select"}, v.Columns)
	require.NoError(t, tx.Rollback())
}

func doubleKey(t *testing.T, f *fixture) {
	v := f.refused(t, "piers", pier(2, "EAST"), pier(1, "NORTH"))
	assert.Equal(t, store.Unique, v.Kind)
	assert.Equal(t, int64(1), v.Row)
	assert.Equal(t, []string{"id"}, v.Columns)
	assert.NotEmpty(t, v.Code)
	assert.NotEmpty(t, v.Message)
}

func doubleCode(t *testing.T, f *fixture) {
	v := f.refused(t, "piers", pier(2, "EAST"), pier(3, "WEST"))
	assert.Equal(t, store.Unique, v.Kind)
	assert.Equal(t, int64(1), v.Row)
	assert.Equal(t, []string{"code"}, v.Columns)
	assert.Equal(t, []value.Value{value.String("WEST")}, v.Values)
	assert.Equal(t, []store.Pair{{Column: "id", Value: value.Int(1)}}, v.Other)
	assert.NotEmpty(t, v.Constraint)
}

func doubleComposite(t *testing.T, f *fixture) {
	berth := func(n int64) cells { return cells{"pier_id": value.Int(1), "number": value.Int(n)} }
	v := f.refused(t, "berths", berth(1), berth(2), berth(1))
	assert.Equal(t, store.Unique, v.Kind)
	assert.Equal(t, int64(2), v.Row)
	assert.Equal(t, []string{"pier_id", "number"}, v.Columns)
	assert.Equal(t, []value.Value{value.Int(1), value.Int(1)}, v.Values)
}

func orphan(t *testing.T, f *fixture) {
	v := f.refused(t, "boats", boat(1, nil), boat(2, cells{"pier_id": value.Int(99)}))
	assert.Equal(t, store.ForeignKey, v.Kind)
	assert.Equal(t, int64(1), v.Row)
	assert.Equal(t, []string{"pier_id"}, v.Columns)
	assert.Equal(t, []value.Value{value.Int(99)}, v.Values)
	assert.Equal(t, "piers", v.Refers)
}

func lateOrphan(t *testing.T, f *fixture) {
	if f.engine.NoLate {
		t.Skip("the engine looks at references at once")
	}
	tx := f.begin(t, true)
	require.NoError(t, f.insert(t, tx, "boats", boat(5, cells{"pier_id": value.Int(99)})))
	var v *store.Violation
	require.ErrorAs(t, tx.Settle(t.Context()), &v)
	require.NoError(t, tx.Rollback())
	assert.Equal(t, store.ForeignKey, v.Kind)
	assert.Equal(t, "boats", v.Table)
	assert.Equal(t, []store.Pair{{Column: "id", Value: value.Int(5)}}, v.Key)
	assert.Zero(t, f.count(t, "boats"))
}

func lateCircle(t *testing.T, f *fixture) {
	if f.engine.NoLate {
		t.Skip("the engine looks at references at once")
	}
	tx := f.begin(t, true)
	require.NoError(t, f.insert(t, tx, "boats", boat(5, nil)))
	require.NoError(t, f.insert(t, tx, "piers", pier(1, "WEST")))
	require.NoError(t, tx.Commit(t.Context()))
	assert.Equal(t, int64(1), f.count(t, "boats"))
}

// A reference that is not deferrable may be held against the tables by Settle; after the
// transaction it is as before.
func loose(t *testing.T, f *fixture) {
	if !f.store.Traits().Loosens {
		t.Skip("the engine puts every reference off anyway")
	}
	berths := f.db.Table("berths")
	berth := cells{"pier_id": value.Int(1), "number": value.Int(7)}
	begin := func() store.Tx {
		tx, err := f.store.Begin(
			t.Context(),
			store.TxOptions{Late: true, Loose: []store.Loose{{Table: berths, Reference: &berths.References[0]}}},
		)
		require.NoError(t, err)
		return tx
	}
	var v *store.Violation
	tx := begin()
	require.NoError(t, f.insert(t, tx, "berths", berth))
	require.ErrorAs(t, tx.Settle(t.Context()), &v)
	assert.Equal(t, store.ForeignKey, v.Kind)
	assert.Equal(t, []string{"pier_id"}, v.Columns)
	require.NoError(t, tx.Rollback())

	tx = begin()
	require.NoError(t, f.insert(t, tx, "berths", berth))
	require.NoError(t, f.insert(t, tx, "piers", pier(1, "WEST")))
	require.NoError(t, tx.Settle(t.Context()))
	require.NoError(t, f.insert(t, tx, "berths", cells{"pier_id": value.Int(2), "number": value.Int(8)}), "late again")
	require.NoError(t, f.insert(t, tx, "piers", pier(2, "EAST")))
	require.NoError(t, tx.Settle(t.Context()))
	require.NoError(t, tx.Commit(t.Context()))
	assert.Equal(t, int64(2), f.count(t, "berths"))

	tx = f.begin(t, false)
	defer tx.Rollback()
	require.ErrorAs(
		t,
		f.insert(t, tx, "berths", cells{"pier_id": value.Int(9), "number": value.Int(7)}),
		&v,
		"at once, as before",
	)
	assert.Equal(t, store.ForeignKey, v.Kind)
}

func null(t *testing.T, f *fixture) {
	v := f.refused(t, "boats", boat(1, nil), boat(2, cells{"label": {}}))
	assert.Equal(t, store.NotNull, v.Kind)
	assert.Equal(t, int64(1), v.Row)
	assert.Equal(t, []string{"label"}, v.Columns)
}

func check(t *testing.T, f *fixture) {
	v := f.refused(t, "boats", boat(1, cells{"seats": value.Int(3)}))
	assert.Equal(t, store.Check, v.Kind)
	assert.Equal(t, int64(0), v.Row)
	assert.Contains(t, v.Constraint, "enough_seats")
	assert.Equal(t, []string{"seats"}, v.Columns)
	assert.Equal(t, []value.Value{value.Int(3)}, v.Values)
}

func tooLong(t *testing.T, f *fixture) {
	v := f.refused(
		t,
		"boats",
		boat(1, cells{"label": value.String("ÄÖÜÄÖÜÄÖÜÄ")}),
		boat(2, cells{"label": value.String("12345678901")}),
	)
	assert.Equal(t, store.TooLong, v.Kind)
	assert.Equal(t, int64(1), v.Row, "ten letters fit, however many bytes they are")
	assert.Equal(t, []string{"label"}, v.Columns)
}

func outOfRange(t *testing.T, f *fixture) {
	v := f.refused(t, "boats", boat(1, cells{"seats": value.Int(32767)}), boat(2, cells{"seats": value.Int(32768)}))
	assert.Equal(t, store.OutOfRange, v.Kind)
	assert.Equal(t, int64(1), v.Row)
	assert.Equal(t, []string{"seats"}, v.Columns)
}

func decimalOutOfRange(t *testing.T, f *fixture) {
	for _, text := range []string{"10000.00", "0.001", "-10000"} {
		n, _ := value.ParseDecimal(text)
		if n.Type == value.Integer {
			n.Type = value.Decimal
		}
		v := f.refused(t, "boats", boat(1, cells{"price": n}))
		assert.Equal(t, store.OutOfRange, v.Kind, text)
		assert.Equal(t, []string{"price"}, v.Columns)
	}
}

func trigger(t *testing.T, f *fixture) {
	if f.engine.Triggers == "" {
		t.Skip("no script for a trigger")
	}
	v := f.refused(t, "boats", boat(1, nil), boat(2, cells{"label": value.String("forbidden")}))
	assert.Equal(t, store.Raised, v.Kind)
	assert.Equal(t, int64(1), v.Row)
	assert.Contains(t, v.Message, "not on this lake")
}

func find(t *testing.T, f *fixture) {
	tx := f.begin(t, false)
	require.NoError(t, f.insert(t, tx, "piers", pier(1, "WEST"), pier(2, "EAST")))
	piers := f.db.Table("piers")
	columns := []*schema.Column{piers.Column("code"), piers.Column("name")}
	n, err := tx.Find(t.Context(), piers, columns, []value.Value{value.String("EAST"), {}})
	require.NoError(t, err)
	assert.Equal(t, int64(1), n)
	n, err = tx.Find(t.Context(), piers, columns, []value.Value{value.String("NORTH"), {}})
	require.NoError(t, err)
	assert.Zero(t, n)
	require.NoError(t, tx.Rollback())
}

func pages(t *testing.T, f *fixture) {
	tx := f.begin(t, false)
	require.NoError(t, f.insert(t, tx, "piers", pier(3, "C"), pier(1, "A"), pier(2, "B")))
	require.NoError(t, tx.Commit(t.Context()))
	piers := f.db.Table("piers")
	code := []*schema.Column{piers.Column("code")}
	assert.Equal(t, [][]string{{"A"}, {"B"}, {"C"}}, f.all(t, store.Query{Table: piers, Columns: code}))
	assert.Equal(t, [][]string{{"B"}}, f.all(t, store.Query{Table: piers, Columns: code, Skip: 1, Limit: 1}))
	assert.Equal(
		t,
		[][]string{{"C"}},
		f.all(
			t,
			store.Query{
				Table:   piers,
				Columns: code,
				Where:   []store.Cell{{Column: piers.Column("id"), Value: value.Int(3)}},
			},
		),
	)
}

func cancelled(t *testing.T, f *fixture) {
	tx := f.begin(t, false)
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	into := store.Into{Table: f.db.Table("piers")}
	_, err := tx.Insert(ctx, into, one(&value.Batch{}))
	assert.ErrorIs(t, err, context.Canceled)
	require.NoError(t, tx.Rollback())
	assert.Zero(t, f.count(t, "piers"))
}

func spread(t *testing.T, f *fixture) {
	tx := f.begin(t, false)
	require.NoError(t, f.insert(t, tx, "piers", pier(1, "A"), pier(2, "B")))
	var boats []cells
	for i := range int64(100) {
		price, _ := value.ParseDecimal(fmt.Sprintf("%d.25", i))
		launched, err := value.ParseDate(fmt.Sprintf("20%02d-03-01", i/10))
		require.NoError(t, err)
		with := cells{"label": value.String("Boat"), "price": price, "launched": launched, "seats": value.Int(4)}
		if i%4 == 0 {
			with["label"], with["pier_id"] = value.String("Mölders"), value.Value{}
		}
		boats = append(boats, boat(i, with))
	}
	require.NoError(t, f.insert(t, tx, "boats", boats...))
	require.NoError(t, tx.Commit(t.Context()))
	of := func(table, column string) *store.Spread {
		s, err := f.store.Spread(t.Context(), f.db.Table(table), f.db.Table(table).Column(column))
		require.NoError(t, err, column)
		return s
	}
	label := of("boats", "label")
	assert.Equal(t, []int64{100, 0, 2, 4, 7},
		[]int64{label.Rows, label.Nulls, label.Distinct, label.Shortest, label.Longest})
	assert.Equal(t, []store.Frequency{{Value: value.String("Boat"), Rows: 75},
		{Value: value.String("Mölders"), Rows: 25}}, label.Common)
	assert.Equal(t, []int64{75, 0, 0, 25}, label.Lengths)

	price := of("boats", "price")
	assert.Equal(t, "0.25 99.25", price.Least.String()+" "+price.Most.String())
	assert.Equal(t, int64(100), price.Distinct)
	assert.Equal(t, "0.00", price.Starts[0].String())
	assert.Equal(t, slices.Repeat([]int64{5}, 20), price.Counts)
	assert.Nil(t, price.Common, "each occurs once")

	launched := of("boats", "launched")
	assert.Equal(t, "2000-03-01 2009-03-01", launched.Least.String()+" "+launched.Most.String())
	assert.Len(t, launched.Common, store.SpreadValues)
	assert.Equal(t, int64(25), of("boats", "pier_id").Nulls)
	assert.Nil(t, of("boats", "seats").Counts, "all have one value")
	empty := of("berths", "number")
	assert.Zero(t, empty.Rows)
	assert.True(t, empty.Least.IsNull())
	odd := of(`odd "name`, "größe in m")
	assert.Zero(t, odd.Rows)
}
