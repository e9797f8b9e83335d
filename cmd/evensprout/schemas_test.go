package main

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// tenantTables are the same tables in three schemas, and one that all share.
func tenantTables() string {
	script := "CREATE TABLE countries (code CHAR(2) PRIMARY KEY);\n"
	for _, s := range []string{"t_acme", "t_borealis", "t_cedar"} {
		script += strings.ReplaceAll(`CREATE SCHEMA {s};
CREATE TABLE {s}.customers (id {key}, name TEXT NOT NULL, email TEXT NOT NULL UNIQUE, spent INTEGER NOT NULL DEFAULT 0);
CREATE TABLE {s}.orders (id {key}, customer_id INTEGER NOT NULL REFERENCES {s}.customers, nr TEXT NOT NULL UNIQUE,
  country CHAR(2) NOT NULL REFERENCES countries, total INTEGER NOT NULL);
CREATE TABLE {s}.lines (id {key}, order_id INTEGER NOT NULL REFERENCES {s}.orders, qty INTEGER NOT NULL);
`, "{s}", s)
	}
	return script
}

const tenantPlan = `name: tenants
seed: s
clock: 2026-05-01T08:00:00Z
entities:
  Country: {table: public.countries, given: {de: {code: DE}, fr: {code: FR}}}
  Customer:
    table: customers
    rows: 40
    given: {ada: {name: Ada, email: ada@example.com}}
    fields: {name: {kind: name}, email: {kind: email, unique: true}}
  Order:
    table: orders
    per: {Customer: 0..4}
    given: {first: {Customer: Customer.ada, nr: O-1, country: Country.fr}}
    fields:
      nr: {pattern: "O-[0-9]{6}", unique: true}
      country: {pick: Country}
      total: {sum: Line.qty}
  Line:
    per: {Order: 1..3}
    fields: {qty: {between: 1..9}}
units:
  pay:
    rows: 3
    fields: {who: {pick: Customer}, amount: {between: 1..20}}
    steps:
      - update: Customer
        match: {id: who}
        set: {spent: row.spent + amount}
always:
  totals: sum of Line.qty per Order = Order.total
  never negative: {no: Customer, where: spent < 0}
`

// onPostgres runs a test on PostgreSQL, with tables of its own.
func onPostgres(t *testing.T, script, plan string, test func(t *testing.T, s *site)) {
	for _, e := range engines() {
		if e.name == "postgres" {
			f := newFolder(t)
			f.write("evensprout.yaml", plan)
			s := &site{folder: f, engine: e, script: script}
			s.url = s.database(t)
			test(t, s)
		}
	}
}

// A plan fills each schema that a pattern matches, in one load and with other rows in each; what it loads is compared
// and withdrawn as a whole.
func TestAPlanFillsSchemas(t *testing.T) {
	onPostgres(t, tenantTables(), tenantPlan, func(t *testing.T, s *site) {
		before := s.rows(t)
		r := s.on("check", "--schemas", "t_*")
		require.Zero(t, r.code, r.errOut)
		assert.Contains(t, r.out, "schemas: nothing -> [\"t_acme\", \"t_borealis\", \"t_cedar\"]")
		r = s.on("load", "--schemas", "t_*")
		require.Zero(t, r.code, r.errOut)
		assert.Contains(t, r.out, "This is load 1")
		assert.Equal(t, "0", s.answer(t, `SELECT count(*) FROM t_acme.customers a JOIN t_cedar.customers c
			USING (email) WHERE a.email <> 'ada@example.com'`), "other rows in each")
		assert.Equal(t, "3", s.answer(t, `SELECT count(*) FROM (SELECT * FROM t_acme.orders UNION ALL
			SELECT * FROM t_borealis.orders UNION ALL SELECT * FROM t_cedar.orders) o
			WHERE nr = 'O-1' AND country = 'FR'`))
		for _, name := range []string{"t_acme", "t_borealis", "t_cedar"} {
			assert.NotEqual(t, "0", s.answer(t, "SELECT sum(spent) AS n FROM "+name+".customers"), "units work in each")
		}
		assert.Contains(t, s.on("history", "1").out, "schemas t_acme t_borealis t_cedar")
		assert.Contains(t, s.on("load", "--schemas", "t_*").out, "Nothing to do")
		r = s.on("compare")
		require.Zero(t, r.code, r.out+r.errOut)
		s.exec(t, "UPDATE t_borealis.lines SET qty = qty + 1 WHERE id = 1")
		r = s.on("compare")
		assert.Equal(t, 7, r.code, r.out+r.errOut)
		assert.Contains(t, r.out, "totals@t_borealis", "the invariants of each schema are checked")
		assert.NotContains(t, r.out, "totals@t_acme")
		s.exec(t, "UPDATE t_borealis.lines SET qty = qty - 1 WHERE id = 1")
		for range 4 { // a load of each schema's unit, and that of the rows
			r = s.on("withdraw")
			require.Zero(t, r.code, r.errOut)
		}
		assert.Empty(t, difference(before, s.rows(t)))

		// The rows of a schema do not depend on which others are filled.
		one := s.on("load", "--schemas", "t_cedar", "--json")
		require.Zero(t, one.code, one.errOut)
		two := s.on("preview", "--schemas", "t_acme,t_cedar", "--entity", "Line@t_cedar")
		require.Zero(t, two.code, two.errOut)
		_, print, found := strings.Cut(strings.SplitN(two.out, "\n", 2)[0], "fingerprint ")
		require.True(t, found, two.out)
		assert.Contains(t, one.out, print)
	})
}

// What is wrong with schemas is refused before anything is written, and what is wrong in all of them is one problem.
func TestSchemasThatAreWrong(t *testing.T) {
	onPostgres(t, tenantTables(), tenantPlan, func(t *testing.T, s *site) {
		for _, c := range []struct{ schemas, wanted string }{
			{"x_*", "no schema with tables matches x_*; the database has: public, t_acme, t_borealis, t_cedar"},
			{"t_[", "the pattern t_[ cannot be read"},
			{"t_acme,t_acme", "the schema t_acme is listed twice"},
			{"t_acme,t_none", "the schema t_none has no table customers"},
			{"a@b", "the name of a schema must not contain @"},
		} {
			r := s.on("load", "--schemas", c.schemas)
			assert.NotZero(t, r.code)
			assert.Contains(t, r.errOut, c.wanted)
		}
		s.write("evensprout.yaml", strings.Replace(tenantPlan, "{kind: name}", "{kind: nam}", 1))
		r := s.on("check", "--schemas", "t_*")
		assert.Contains(t, r.errOut, "1 problem")
		assert.Equal(t, "0", s.answer(t, "SELECT count(*) FROM countries"))
	})
}
