package plan

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/schema"
)

// quay is tables that units write into.
func quay() *schema.Database {
	integer := func(name string) *schema.Column {
		return &schema.Column{Name: name, Declared: "INTEGER", Kind: schema.Integer, NotNull: true}
	}
	id := func() *schema.Column {
		c := integer("id")
		c.Default = true
		return c
	}
	price := func(name string) *schema.Column {
		return &schema.Column{
			Name:      name,
			Declared:  "DECIMAL(8,2)",
			Kind:      schema.Decimal,
			Precision: 8,
			Scale:     2,
			NotNull:   true,
		}
	}
	db := &schema.Database{Tables: []*schema.Table{
		{
			Name:       "piers",
			PrimaryKey: []string{"id"},
			Uniques:    []schema.Unique{{Name: "one_code", Columns: []string{"code"}}},
			Columns: []*schema.Column{
				id(), {Name: "code", Declared: "VARCHAR(4)", Kind: schema.Text, Length: 4, NotNull: true},
				integer("free"), price("toll"), price("total"),
				{
					Name:     "day",
					Declared: "DATE",
					Kind:     schema.Date,
				}, {Name: "state", Declared: "ENUM", Kind: schema.Text, Values: []string{"open", "shut"}},
				{Name: "area", Declared: "INTEGER", Kind: schema.Integer, Generated: true},
			},
		},
		{
			Name:       "visits",
			PrimaryKey: []string{"id"},
			Columns: []*schema.Column{
				id(),
				integer("pier_id"),
				price("paid"),
				{Name: "note", Declared: "VARCHAR(20)", Kind: schema.Text, Length: 20},
			},
			References: []schema.Reference{{Columns: []string{"pier_id"}, Table: "piers", Targets: []string{"id"}}},
		},
		{Name: "marks", Columns: []*schema.Column{integer("n")}},
	}}
	db.Link()
	return db
}

const quayEntities = `  Pier:
    table: piers
    rows: 3
    fields: {code: {pattern: "[A-Z]{2}", unique: true}, free: 9, toll: 1.50, total: {sum: Visit.paid}}
  Visit:
    table: visits
    per: {Pier: 2}
    fields: {paid: 2.00}
`

// unitText is a plan with one unit, whose occasions have the fields code, n, rate and day. The
// steps begin in line 23.
func unitText(steps string) string {
	return quayEntities + `units:
  dock:
    rows: 2
    fields:
      code: {pattern: "[A-Z]{4}"}
      n: {between: 1..9}
      rate: {between: [0.50, 1.50], step: 0.25}
      day: {between: [2026-01-01, 2026-02-01]}
    steps:
` + steps
}

func TestProblemsOfUnits(t *testing.T) {
	for _, c := range []struct{ name, steps, message, hint string }{
		{"no word", "      - {match: {code: code}}\n", "this step has no action", ""},
		{"two words", "      - {find: Pier, update: Pier, match: {code: code}}\n", "a step must do one thing,",
			"after its own"},
		{"a word misspelt", "      - {updat: Pier, match: {code: code}, set: {free: 1}}\n", "this step has no " +
			"action", `did you mean "update"?`},
		{"a key that cannot be combined with it", "      - {find: Pier, match: {code: code}, set: {free: 1}}\n",
			`"set" cannot be combined with find`, ""},
		{"no match", "      - {update: Pier, set: {free: 1}}\n", "update has no match", ""},
		{"no set", "      - {insert: Visit}\n", "insert has no set", ""},
		{"an unknown table", "      - {find: Peer, match: {code: code}}\n", "neither an entity of the plan nor a " +
			"table", `did you mean "Pier"?`},
		{"an unknown column", "      - {update: Pier, match: {cod: code}, set: {free: 1}}\n", "the table piers has " +
			"no column cod", `did you mean "code"?`},
		{"an unknown column to set", "      - {update: Pier, match: {code: code}, set: {fre: 1}}\n", "the table " +
			"piers has no column fre", `did you mean "free"?`},
		{"an unknown name", "      - {update: Pier, match: {code: cod}, set: {free: 1}}\n", "the occasions of dock " +
			"have no field cod", `did you mean "code"?`},
		{"a text without quotes", "      - {update: Pier, match: {code: code}, set: {state: shut}}\n", "have no " +
			"field shut", "text in quotes:"},
		{"a text that is none of the values", "      - {update: Pier, match: {code: code}, set: {state: " +
			"\"shot\"}}\n", `"shot" is not one of the values`, `did you mean "shut"?`},
		{"a text that is too long", "      - {update: Pier, match: {code: \"ABCDE\"}, set: {free: 1}}\n",
			`"ABCDE" has ` +
				`5 characters`, ""},
		{"another type", "      - {update: Pier, match: {code: code}, set: {free: rate}}\n", "rate is of type " +
			"decimal, and the column piers.free is INTEGER", ""},
		{"another type of an expression", "      - {update: Pier, match: {code: code}, set: {free: {derive: " +
			"'occasion.code + \"x\"'}}}\n", "is of type text, and the column piers.free is INTEGER", ""},
		{"types that do not mix", "      - {update: Pier, match: {code: code}, set: {free: free + day}}\n",
			"day is both a field of the occasion and a column", ""},
		{"a date for a number", "      - {update: Pier, match: {code: code}, set: {free: 2026-01-01}}\n",
			"of type date", ""},
		{"null where none may be", "      - {update: Pier, match: {code: code}, set: {free: null}}\n", "the column " +
			"free is NOT NULL", ""},
		{"null in match", "      - {update: Pier, match: {code: null}, set: {free: 1}}\n", "nothing equals null", ""},
		{"a division", "      - {update: Pier, match: {code: code}, set: {free: free / n}}\n", "compute a division " +
			"in different ways", "find"},
		{"a product of decimals", "      - {update: Pier, match: {code: code}, set: {toll: toll * rate}}\n",
			"a product " +
				"of decimals", "round(found.price"},
		{"a column set twice", "      - {update: Pier, match: {code: code}, set: {free: 1, Free: 2}}\n", "the column " +
			"free is set twice", ""},
		{"one column made of another", "      - {update: Pier, match: {code: code}, set: {toll: total + 1, total: " +
			"0}}\n", "toll is computed from total, which the same step sets:", "a step of its own"},
		{"a computed column", "      - {update: Pier, match: {code: code}, set: {area: 1}}\n", "update Pier: the " +
			"database", ""},
		{"a missing column", "      - {insert: Visit, set: {paid: rate}}\n", "visits.pier_id (INTEGER) is NOT NULL " +
			"without a default", "add it to set"},
		{"a row that no step has", "      - {update: Pier, match: {id: pier.id}, set: {free: 1}}\n", "no earlier " +
			"step finds or adds a row named pier", "Pier: no earlier"},
		{"a row that only a later step has", "      - {update: Pier, match: {id: Pier.id}, set: {free: 1}}\n      " +
			"- {find: Pier, match: {code: code}}\n", "no earlier step finds or adds a row named Pier", ""},
		{"two rows of one name", "      - {find: Pier, match: {code: code}}\n      - {find: Pier, match: {code: " +
			"\"ABCD\"}}\n      - {update: Pier, match: {id: Pier.id}, set: {free: 1}}\n", "two earlier steps have " +
			"a row of Pier", ""},
		{"two rows called alike", "      - {find: Pier, as: p, match: {code: code}}\n      - {find: Visit, as: p, " +
			"match: {id: n}}\n", "two steps of dock name their row p", ""},
		{"a name that is kept", "      - {find: Pier, as: occasion, match: {code: code}}\n", "name for a row",
			"not occasion, row or clock"},
		{"what an inserted row does not say", "      - {insert: Visit, set: {pier_id: n, paid: rate}}\n      - " +
			"{update: Visit, match: {note: Visit.note}, set: {paid: 1}}\n", "does not set its note:", ""},
		{"a field and a column", "      - {update: Pier, match: {code: code}, set: {code: {derive: 'code + " +
			"\"x\"'}}}\n", "code is both a field of the occasion and a column of piers:", "occasion.code or row.code"},
		{"upsert without a key", "      - {upsert: Pier, match: {free: n}, set: {toll: rate, code: code, total: " +
			"0}}\n", "free does not identify one row of piers: the", "a unique index"},
		{"upsert of what is not there yet", "      - {upsert: Pier, match: {code: code}, set: {free: free + 1, " +
			"toll: rate, total: 0}}\n", "a new row has no", "first: {free: VALUE}"},
		{"upsert that sets its match", "      - {upsert: Pier, match: {code: code}, set: {free: 1, toll: rate, " +
			"total: 0, code: code}}\n", "code is in match, so it cannot be set", ""},
		{"a condition that is none", "      - {require: n + 1}\n", "a condition must be true or false, and this " +
			"has the type integer", ""},
		{"a brace too few", "      - require: {sql: \"{n > 1\"}\n", "one is missing", ""},
		{"an unknown name in SQL", "      - require: {sql: \"{m} > 1\"}\n", "have no field m", ""},
		{"clear behind others", "      - {find: Pier, match: {code: code}}\n      - {clear: marks}\n", "clear " +
			"must come before all other steps", ""},
		{"clear alone in its transaction", "      - {clear: marks}\n", "must be in the same transaction", "together: " +
			"all"},
		{"expect of a find", "      - {find: Pier, match: {code: code}, expect: 3}\n", "find needs expect: 1, or", ""},
		{"redraw", "      - {find: Pier, match: {code: code}}\n    on_violation: {unique: redraw}\n", "cannot be " +
			"redrawn", ""},
		{"an isolation level that is none", "      - {find: Pier, match: {code: code}}\n    isolation: " +
			"serialisable\n", "an isolation level", `did you mean "serializable"?`},
		{"together with nobody", "      - {find: Pier, match: {code: code}}\n    together: 0\n", "together", ""},
		{"after nobody", "      - {find: Pier, match: {code: code}}\n    after: Peer\n", "which is not an entity " +
			"or unit", `did you mean "Pier"?`},
		{"after itself", "      - {find: Pier, match: {code: code}}\n    after: dock\n", "which is not an entity " +
			"or unit", ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			_, problems := compileText(unitText(c.steps), quay())
			errs := problems.Errors()
			require.NotEmpty(t, errs)
			assert.Positive(t, errs[0].Line)
			assert.Contains(t, problems.Error(), c.message)
			assert.Contains(t, problems.Error(), c.hint)
		})
	}
	for text, message := range map[string]string{
		"units:\n  Pier: {steps: [{find: Pier, match: {id: 1}}]}\n": "Pier is already the name of an entity",
		"units: []\n": "units must be a mapping", "units:\n  u: {rows: 1}\n": "the unit u has no steps",
		"units:\n  u: {rows: 1, steps: []}\n": "steps must be a list,", "units:\n  a: {after: b, steps: [{find: " +
			"Pier, " +
			"match: {id: 1}}]}\n  b: {after: a, steps: [{find: Pier, match: {id: 1}}]}\n": "circle: a comes " +
			"after itself",
		"units:\n  u: {rows: existing, steps: [{find: Pier, match: {id: 1}}]}\n": "the occasions of a unit must " +
			"be a number",
	} {
		_, problems := compileText(quayEntities+text, quay())
		assert.Contains(t, problems.Error(), message)
	}
}

// What may go wrong although each step is right.
func TestWarningsOfUnits(t *testing.T) {
	for _, c := range []struct{ steps, warning string }{
		{"      - {find: Pier, match: {code: code}}\n      - {insert: Visit, set: {pier_id: Pier.id, paid: rate}}\n",
			"insert Visit: Pier.total is computed from Visit.paid, and no step of dock keeps them in"},
		{"      - {find: Pier, match: {code: code}}\n      - {insert: Visit, set: {pier_id: Pier.id, paid: " +
			"rate}}\n      - {update: Pier, match: {id: Pier.id}, set: {total: total + rate}}\n", ""},
		{"      - {update: Visit, match: {id: n}, set: {note: \"x\"}}\n", ""},
		{"      - {update: Visit, match: {id: n}, set: {paid: paid + rate}}\n", "update Visit: Pier.total is " +
			"computed from Visit.paid"},
		{"      - {insert: marks, set: {n: n}}\n", "the table marks has no primary key, so what this step does " +
			"cannot be withdrawn"},
		{"      - {update: Pier, match: {code: code}, set: {free: free - 1}}\n      - {update: Visit, match: {id: " +
			"n}, set: {note: \"x\"}}\n  other:\n    steps:\n      - {update: Visit, match: {id: 1}, set: {note: " +
			"\"x\"}}\n      - {update: Pier, match: {id: 1}, set: {free: 1}}\n",
			"other locks rows of visits before rows of piers, and dock does it the other way round:"},
	} {
		compiled, problems := compileText(unitText(c.steps), quay())
		require.NotNil(t, compiled, problems)
		text := compiled.Warnings.Error()
		if c.warning == "" {
			assert.NotContains(t, text, "dock")
			continue
		}
		assert.Contains(t, text, c.warning)
	}
	plain := strings.Replace(
		unitText("      - {find: Pier, match: {code: code}}\n"),
		"total: {sum: Visit.paid}",
		"total: 0.00",
		1,
	)
	compiled, problems := compileText(plain, quay())
	require.NotNil(t, compiled, problems)
	assert.Contains(
		t,
		compiled.Warnings.Error(),
		"Pier.total seems to be a total of child rows, and neither an aggregate (sum, count_of) nor a unit keeps it",
	)
}

func TestUnitsAreCompiled(t *testing.T) {
	c, problems := compileText(unitText(`      - {find: Pier, as: here, match: {code: code}}
      - require: here.free > n && rate >= decimal("0.50")
      - {insert: Visit, set: {pier_id: here.id, paid: rate * 2, note: "from {code}"}}
      - {update: visits, match: {id: Visit.id}, set: {paid: paid + rate - 1}, expect: 0..1}
      - {delete: Visit, match: {note: "old"}, expect: any}
  first:
    steps:
      - {find: Pier, match: {id: 1}}
`)+"", quay())
	require.NotNil(t, c, problems)
	require.Len(t, c.Units, 2)
	assert.Equal(t, "dock", c.Units[0].Plan.Name)
	assert.Equal(t, uint64(1), c.Units[1].Grow.Total(), "a unit that says nothing of its occasions has one")
	u := c.Units[0]
	assert.Equal(t, uint64(2), u.Grow.Total())
	assert.Len(t, c.Targets, 2, "occasions go into no table")
	assert.Equal(
		t,
		[]string{"find Pier", "require", "insert Visit", "update visits", "delete Visit"},
		[]string{u.Steps[0].Label(), u.Steps[1].Label(), u.Steps[2].Label(), u.Steps[3].Label(), u.Steps[4].Label()},
	)
	assert.Equal(t, "id", u.Steps[2].Key.Name, "a later step uses it")
	assert.Equal(t, [2]uint64{0, 1}, [2]uint64{u.Steps[3].Lo, u.Steps[3].Hi})
	assert.Equal(t, uint64(AnyNumber), u.Steps[4].Hi)
	assert.Equal(t, schema.OpSubtract, u.Steps[3].Set[0].Expr.Op)
	note := u.Slots[u.Steps[2].Set[2].Expr.Input]
	assert.Equal(t, "from {code}", note.Value.S, "in quotes is text")

	order, problems := compileText(
		unitText(
			"      - {find: Pier, match: {code: code}}\n    after: [Visit, first]\n  first:\n    steps:\n      - "+
				"{find: Pier, match: {id: 1}}\n",
		),
		quay(),
	)
	require.NotNil(t, order, problems)
	assert.Equal(t, "first", order.Units[0].Plan.Name)

	alone, err := Read(
		"plan.yaml",
		[]byte(
			"name: u\nseed: s\nclock: 2026-05-01T08:00:00Z\nunits:\n  u:\n    steps:\n      - {find: piers, match: "+
				"{id: 1}}\n",
		),
	)
	require.NoError(t, err)
	_, err = alone.Compile(Options{Database: quay()})
	assert.NoError(t, err, "a plan may have units alone")
}

func TestProblemsOfInvariants(t *testing.T) {
	for rule, message := range map[string]string{
		"sum of Visit.paid per Pier = Pier.totl": "the table piers has no column totl", "sum of Visit per Pier = " +
			"Pier.total": "sum, min and max need a field,", "count of Visit.paid per Pier > 1": "count needs rows:",
		"sum of Visit.note per Pier = Pier.total": "and databases do not compute its sum alike", "sum of " +
			"Visit.paid per marks = 3": "visits has no reference to marks", "sum of Visit.paid per Pier = " +
			"Visit.paid": "compared with a field of Pier",
		"sum of Vist.paid per Pier = 3": "neither an entity of the plan nor a table",
		"every Pier has free":           "a condition must be true or false", "every Pier has fre > 1": "the table " +
			"piers has no column fre", "every Pier has " +
			"free / 2 > 1": "compute a division in different ways",
		"whatever": "this condition cannot be read", "{no: Pier}": "an invariant in SQL is", "{sql: x, " +
			"where: y}": "an invariant in SQL is", "[1]": "an invariant must be a condition,",
		"{no: Peer, where: x}": "neither an " +
			"entity",
		"every Pier has free >": "Syntax",
	} {
		_, problems := compileText(quayEntities+"always:\n  rule: "+rule+"\n", quay())
		if message == "Syntax" {
			assert.NotEmpty(t, problems.Errors(), rule)
			continue
		}
		assert.Contains(t, problems.Error(), message, rule)
	}
	c, problems := compileText(quayEntities+`always:
  a: sum of Visit.paid per Pier = Pier.total
  b: count of Visit per Pier via pier_id >= 1
  c: every Pier has free >= 0 && code != "NONE"
  d: {no: Visit, where: paid < 0}
  e: {sql: 1 = 1}
`, quay())
	require.NotNil(t, c, problems)
	assert.Len(t, c.Always, 5)
	assert.Equal(t, "sum of visits.paid", c.Always[0].Aggregate.Name())
}

// Units are read and compiled, or told to be wrong, and never more than that.
func FuzzUnits(f *testing.F) {
	f.Add(
		"      - {find: Pier, as: p, match: {code: code}}\n      - {update: Pier, match: {id: p.id}, set: {free: "+
			"free - n, toll: {derive: 'rate * 2'}}, expect: 0..1}\n",
		"every Pier has free > 0",
	)
	f.Add(
		"      - {upsert: Pier, match: {code: \"ABCD\"}, set: {free: free + 1, toll: 1.5, total: 0}, first: {free: "+
			"1}}\n      - require: {sql: \"{n} > 1\"}\n",
		"sum of Visit.paid per Pier = Pier.total",
	)
	f.Add("      - {clear: marks}\n      - {insert: marks, set: {n: n}}\n    together: all\n", "{no: Visit, where: x}")
	f.Fuzz(func(t *testing.T, steps, rule string) {
		c, problems := compileText(unitText(steps)+"always:\n  r: "+rule+"\n", quay())
		if c == nil {
			require.NotEmpty(t, problems.Errors())
			return
		}
		for _, u := range c.Units {
			for _, s := range u.Steps {
				for _, m := range s.Match {
					require.Less(t, m.Slot, len(u.Slots))
				}
				for _, a := range s.Set {
					a.Expr.Visit(func(e *schema.Expr) {
						require.True(t, e.Op != schema.OpInput || e.Input < len(u.Slots))
					})
				}
			}
		}
	})
}
