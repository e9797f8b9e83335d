package plan_test

import (
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/diag"
	"evensprout/internal/files"
	"evensprout/internal/plan"
	"evensprout/internal/schema"
)

// hintCase is a plan, a hint that it provokes, and what the hint says to do.
type hintCase struct {
	hint   string // a part of it
	db     func() *schema.Database
	text   string   // the entities, or a whole plan
	change []string // old, new, ...
	whole  bool     // text is all of the file
	files  []string // path, contents, ... beside it
}

// berths refer to piers twice.
func berths() *schema.Database {
	db := plan.QuayTables()
	number := func(name string) *schema.Column {
		return &schema.Column{Name: name, Declared: "INTEGER", Kind: schema.Integer, NotNull: true}
	}
	id := number("id")
	id.Default = true
	db.Tables = append(db.Tables, &schema.Table{
		Name: "berths", PrimaryKey: []string{"id"},
		Uniques: []schema.Unique{{Name: "by_place", Columns: []string{"place", "side"}},
			{Name: "by_number", Columns: []string{"number"}}},
		Columns: []*schema.Column{
			id,
			number("from_id"),
			number("to_id"),
			number("place"),
			number("side"),
			number("number"),
			{
				Name:     "depth",
				Declared: "DOUBLE",
				Kind:     schema.Real,
			},
			{Name: "built", Declared: "DATE", Kind: schema.Date, Default: true, Preset: "random_date()"},
		},
		References: []schema.Reference{
			{Columns: []string{"from_id"}, Table: "piers", Targets: []string{"id"}},
			{Columns: []string{"to_id"}, Table: "piers", Targets: []string{"id"}},
		},
	})
	db.Link()
	return db
}

const (
	pier = "  Pier: {table: piers, rows: 3, fields: {code: {pattern: \"[A-Z]{2}\", unique: true}, free: 9, toll: " +
		"1.50, total: 0.00}}\n"
	berth = "  Berth:\n    table: berths\n    rows: 4\n    fields: {from_id: {pick: Pier}, to_id: {pick: Pier}, " +
		"place: {count: 1}, side: 1, number: {count: 1}}\n"
	plain = "  A:\n    rows: 3\n    fields:\n      n: {between: 1..9}\n"
)

func step(s string) string { return plan.UnitText("      - " + s + "\n") }

// builtOn is a plan that builds on that of baseFile.
const builtOn = "name: a\nseed: a\nclock: 2026-05-01T08:00:00Z\nbuilds_on: base.yaml\nentities:\n" +
	"  A: {rows: 3, fields: {base: {pick: Base}}}\n"

var baseFile = []string{
	"base.yaml",
	"name: b\nseed: b\nclock: 2026-05-01T08:00:00Z\nentities:\n  Base: {rows: 3, fields: {code: {pattern: " +
		"\"[A-Z]{3}\"}}}\n",
}

// loopText is a plan with a unit that goes through a list, and writes something of its elements.
func loopText(loop, value string) string {
	return plan.QuayEntities + "units:\n  dock:\n    rows_from: {file: a.ndjson, columns: {c: c, marks: marks}}\n " +
		"   steps:\n" +
		"      - for: " + loop + "\n        steps:\n          - {insert: marks, set: {n: " + value + "}}\n"
}

// loopFile is the occasions of loopText.
var loopFile = []string{"a.ndjson", `{"c": "AB", "marks": [{"n": 1, "parts": [1, 2]}]}` + "\n"}

var hintCases = slices.Concat(hintCasesOfPlans, hintCasesOfRows)

var hintCasesOfPlans = []hintCase{
	{
		hint:   "rename the key to shared:",
		text:   "  A:\n    rows: 1\n    draws: {n: {count: 1}}\n    fields: {x: {from: n}}\n",
		change: []string{"draws:", "shared:"},
	},
	{
		hint:   "write {kind: title}",
		text:   "  A:\n    rows: 1\n    fields: {x: {kind: text.title}}\n",
		change: []string{"text.title", "title"},
	},
	{
		hint:   "table: NAME",
		db:     plan.FerryTables,
		text:   "  Quay:\n    rows: 1\n    fields: {pier_name: {kind: locality}}\n",
		change: []string{"    rows", "    table: piers\n    rows"},
	},
	{
		hint: "name the column of a field with column: NAME",
		db:   plan.FerryTables,
		text: "  A:\n    table: piers\n    rows: 1\n    fields: {pier_name: {kind: locality}, pierName: {count: " +
			"1}}\n",
		change: []string{"{count: 1}", "{count: 1, column: pier_no}"},
	},
	{
		hint:   "name the column:",
		db:     plan.QuayTables,
		text:   pier + "  Mark: {table: marks, per: {Pier: 2}}\n",
		change: []string{"{Pier: 2}", "{Pier: 2, via: n}"},
	},
	{
		hint: "per: {Pier: ..., via: from_id}",
		db:   berths,
		text: pier + strings.Replace(
			strings.Replace(berth, "rows: 4", "per: {Pier: 2}", 1),
			"from_id: {pick: Pier}, ",
			"",
			1,
		),
		change: []string{"{Pier: 2}", "{Pier: 2, via: from_id}"},
	},
	{
		hint: "choose the field to store with by: FIELD",
		db:   plan.QuayTables,
		text: pier + "  Mark: {table: marks, rows: 3, fields: {n: {count: 1}}}\n  Visit: {table: visits, rows: " +
			"3, fields: {pier: {pick: Pier}, paid: 1.00, note: {pick: Mark}}}\n",
		change: []string{"{pick: Mark}", "{pick: Mark, by: n}"},
	},
	{
		hint: "use one entity for each table",
		db:   plan.FerryTables,
		text: "  A: {table: piers, rows: 1, fields: {pier_name: x}}\n  B: {table: piers, rows: 1, fields: " +
			"{pier_name: y}}\n",
		change: []string{"  B: {table: piers, rows: 1, fields: {pier_name: y}}\n", ""},
	},
	{
		hint:   "give one of them rows: instead of per:",
		text:   "  A:\n    per: {B: 1}\n  B:\n    per: {A: 1}\n",
		change: []string{"per: {B: 1}", "rows: 2"},
	},
	{
		hint: "set the fields that use it",
		text: "  A:\n    shared: {who: {kind: person}}\n    fields: {name: {from: who.name}}\n    given: {a: " +
			"{who: Ada}}\n",
		change: []string{"{who: Ada}", "{name: Ada}"},
	},
	{
		hint: "evensprout load --anew",
		text: plain + "  B: {rows: 90, fields: {a: {pick: A}, m: {same: a.n}}}\n  C: {rows: 2, fields: {b: " +
			"{pick: B, where: {m: {not: 3}}, unique: true}}}\n",
		change: []string{"where: {m: {not: 3}}, ", ""},
	},
	{hint: "if: {n: VALUE}", text: plain + "      m: {value: 1, if: n}\n", change: []string{"if: n}", "if: {n: 3}}"}},
	{
		hint:   "{status: active}, {status: [active, dormant]}",
		text:   plain + "      m: {value: 1, if: [n]}\n",
		change: []string{"if: [n]}", "if: {n: [1, 2]}}"},
	},
	{
		hint:   "pick one of several",
		text:   plan.CellOf("[1, 2]"),
		change: []string{"cell: [1, 2]", "cell: {choose: [1, 2]}"},
	},
	{hint: `did you mean "pattern"?`, text: plan.CellOf("{patern: x}"), change: []string{"patern", "pattern"}},
	{
		hint:   "one of: after, before",
		text:   plan.CellOf("{unique: true}"),
		change: []string{"{unique", "{count: 1, unique"},
	},
	{hint: "keep one of them", text: plan.CellOf("{count: 1, share: 5%}"), change: []string{", share: 5%", ""}},
	{
		hint:   "put an expression with a comma or a colon in quotes",
		text:   plan.CellOf("{derive: left(other, 2)}"),
		change: []string{"left(other, 2)", `"left(other, 2)"`},
	},
	{
		hint:   "add it to the fields of Pier: pier_name: {",
		db:     plan.FerryTables,
		text:   "  Pier:\n    table: piers\n    rows: 1\n    fields: {}\n",
		change: []string{"{}", "{pier_name: {kind: title}}"},
	},
	{
		hint:   "the field length from the plan",
		db:     plan.FerryTables,
		text:   "  A: {table: piers, rows: 1, fields: {pier_name: x, length: 3}}\n",
		change: []string{", length: 3", ""},
	},
	{
		hint:   "the plan's clock as {value: clock}",
		db:     berths,
		text:   pier + strings.Replace(berth, "side: 1", "side: 1, built: clock", 1),
		change: []string{"built: clock", "built: {value: 2026-05-01}"},
	},
	{
		hint: "built: null if NULL is meant",
		db:   berths,
		text: pier + strings.Replace(
			strings.Replace(
				berth,
				"    rows: 4\n",
				"",
				1,
			)+"    given:\n      a: {built: 2026-01-01}\n      b: {place: 99}\n",
			"place: {count: 1}, ",
			"place: 3, ",
			1,
		),
		change: []string{"place: 99", "place: 99, built: null"},
	},
	{
		hint: `such as "seventeen letters"`,
		db:   plan.FerryTables,
		text: "  Pier: {table: piers, rows: 1, fields: {pier_name: x}}\n  Boat: {table: boats, rows: 1, fields: " +
			"{label: seventeen letters, home_pier: {pick: Pier}}}\n",
		change: []string{"seventeen letters", "eight"},
	},
	{
		hint: "use existing rows with {pick: ENTITY}",
		db:   plan.FerryTables,
		text: "  Pier: {table: piers, rows: 1, fields: {pier_name: x}}\n  Boat: {table: boats, rows: 1, fields: " +
			"{home_pier: {between: 1..9}}}\n",
		change: []string{"{between: 1..9}", "{pick: Pier}"},
	},
	{
		hint:   "add it to the fields of Pier: pier_name",
		db:     plan.FerryTables,
		text:   "  Pier:\n    table: piers\n    rows: 2\n    fields: {}\n    given: {a: {pier_name: x}}\n",
		change: []string{"fields: {}", "fields: {pier_name: {kind: title}}"},
	},
	{
		hint: "find rows of the file that have the same",
		db:   plan.QuayTables,
		text: "  Pier:\n    table: piers\n    rows_from: {file: p.csv, columns: {code: code}}\n    fields: " +
			"{free: 1, toll: 1.00, total: 1.00}\n",
		files:  []string{"p.csv", "code\nA\nB\n"},
		change: []string{"file: p.csv,", "file: p.csv, key: [code],"},
	},
	{
		hint:   "add unique: true to pier_name",
		db:     plan.FerryTables,
		text:   "  Pier: {table: piers, rows: 5, fields: {pier_name: {kind: locality}}}\n",
		change: []string{"kind: locality", "kind: locality, unique: true"},
	},
	{
		hint: "add to Berth: unique: [[place, side]]",
		db:   berths,
		text: pier + strings.Replace(
			berth,
			"place: {count: 1}, side: 1",
			"place: {between: 1..9}, side: {between: 1..9}",
			1,
		),
		change: []string{
			"    rows: 4\n    fields: {from",
			"    rows: 4\n    unique: [[place, side]]\n    fields: {from",
		},
	},
	{
		hint: "rows of different parents also need different names",
		text: "  A:\n    given:\n      a: {n: 1, B: {x: {m: 1}}}\n      b: {n: 2, B: {x: {m: 2}}}\n  B: {per: " +
			"{A: 0}}\n",
		change: []string{"x: {m: 2}", "y: {m: 2}"},
	},
	{
		hint:   "A: A.NAME, or write the row below its parent",
		text:   "  A: {given: {a: {n: 1}}}\n  B:\n    per: {A: 0}\n    given: {x: {m: 1}}\n",
		change: []string{"x: {m: 1}", "x: {m: 1, A: A.a}"},
	},
	{
		hint:   "or fields: {a: {pick: A}} instead of per",
		text:   "  A: {given: {a: {n: 1}}}\n  B:\n    per: {A: 0}\n    given: {x: {m: 1, A: {find: {A: {n: 1}}}}}\n",
		change: []string{"{find: {A: {n: 1}}}", "A.a"},
	},
	{
		hint: "find: {A: {n: ...}}",
		text: "  A: {given: {a: {n: 1}}}\n  B: {given: {b: {n: 1}}}\n  C:\n    rows: 1\n    fields: {a: {pick: " +
			"A}}\n    given: {x: {a: {find: {B: {n: 1}}}}}\n",
		change: []string{"find: {B:", "find: {A:"},
	},
	{
		hint:   "refers to the row that has this value",
		text:   plain + "  C:\n    rows: 1\n    fields: {a: {pick: A}}\n    given: {x: {a: A.x}}\n",
		change: []string{"A.x", "{find: {A: {id: 1}}}", "n: {between: 1..9}", "id: {count: 1}"},
	},
	{
		hint: "did you mean A.one?",
		text: "  A: {given: {one: {n: 1}}}\n  C:\n    rows: 1\n    fields: {a: {pick: A}}\n    given: {x: {a: " +
			"A.oen}}\n",
		change: []string{"A.oen", "A.one"},
	},
	{
		hint: "a named row as A.one",
		text: "  A: {given: {one: {n: 1}}}\n  C:\n    rows: 1\n    fields: {a: {pick: A}}\n    given: {x: {a: " +
			"A.quite_another}}\n",
		change: []string{"A.quite_another", "A.one"},
	},
	{
		hint:   "such as: sum of Ticket.price per Booking",
		db:     plan.QuayTables,
		text:   plan.QuayEntities + "always: [x]\n",
		change: []string{"always: [x]", "always: {fair: sum of Visit.paid per Pier = Pier.total}"},
	},
	{
		hint: "or {sql: CONDITION}",
		db:   plan.QuayTables,
		text: plan.QuayEntities + "always: {a: [x], b: no condition at all, c: {no: Pier}, d: sum of Visit per " +
			"Pier = Pier.total}\n",
		change: []string{
			"{a: [x], b: no condition at all, c: {no: Pier}, d: sum of Visit per Pier = Pier.total}",
			"{a: every Pier has free >= 0, c: {no: Pier, where: free < 0}, d: count of Visit per Pier >= 1}",
		},
	},
	{
		hint:   "remove /*! ... */",
		db:     plan.QuayTables,
		text:   plan.QuayEntities + "always: {a: {sql: \"1 = 1 /*! AND 1 */\"}}\n",
		change: []string{" /*! AND 1 */", ""},
	},
	{
		hint: "after per, name what the rows refer to; name the column with via COLUMN",
		db:   plan.QuayTables,
		text: plan.QuayEntities + "  Mark: {table: marks, rows: 3, fields: {n: {count: 1}}}\nalways: {a: count " +
			"of Mark per Pier >= 0}\n",
		change: []string{"count of Mark", "count of Visit"},
	},
	{
		hint:   "... per Pier via from_id >= ...",
		db:     berths,
		text:   pier + berth + "always: {a: count of Berth per Pier >= 0}\n",
		change: []string{"per Pier >=", "per Pier via from_id >="},
	},
	{
		hint:   "{no: Berth, where: SQL CONDITION}",
		db:     berths,
		text:   pier + berth + "always: {a: every Berth has depth > 0}\n",
		change: []string{"every Berth has depth > 0", "{no: Berth, where: depth <= 0}"},
	},
	{
		hint:   "conditions know comparisons, IN, BETWEEN",
		text:   plain + "    meets: [\"frob(n) > 1\"]\n",
		change: []string{"frob(n) > 1", "n >= 1"},
	},
	{
		hint:   "it begins with name: NAME; evensprout demo creates an",
		whole:  true,
		text:   "- a\n",
		change: []string{"- a\n", plan.Head + plain},
	},
	{
		hint:   "use a newer version of the program",
		whole:  true,
		text:   "edition: 9\n" + plan.Head + plain,
		change: []string{"edition: 9", "edition: 1"},
	},
	{
		hint:   "add a name, such as name: larkwater",
		whole:  true,
		text:   strings.Replace(plan.Head, "name: test\n", "", 1) + plain,
		change: []string{"seed:", "name: larkwater\nseed:"},
	},
	{
		hint:   "seed, any text,",
		whole:  true,
		text:   strings.Replace(plan.Head, "seed: s\n", "", 1) + plain,
		change: []string{"clock:", "seed: larkwater-2026\nclock:"},
	},
	{
		hint:  "add the plan's current time",
		whole: true,
		text: strings.Replace(
			plan.Head,
			"clock: 2026-05-01T08:00:00Z\n",
			"",
			1,
		) + plain + "      at: {before: clock, within: 3d}\n",
		change: []string{"entities:", "clock: 2026-05-01T08:00:00Z\nentities:"},
	},
	{
		hint:   "entities:, with an entry for each kind of row,",
		whole:  true,
		text:   strings.Replace(plan.Head, "entities:\n", "", 1),
		change: []string{"Z\n", "Z\nentities:\n" + plain},
	},
	{
		hint:   "use a letter, then letters, digits and _",
		text:   "  A-B: {rows: 1}\n",
		change: []string{"A-B", "AB"},
	},
	{
		hint:   "its fields are the columns of the table",
		text:   "  A: {rows: existing, fields: {n: 1}}\n",
		change: []string{"existing", "3"},
	},
	{
		hint:   "or given: with rows written in",
		text:   "  A: {table: things}\n",
		change: []string{"table: things", "rows: 100"},
	},
	{
		hint:   "per: {Passenger: 0..3, via: passenger_id}",
		text:   plain + "  B:\n    per: {A: 2}\n    via: a_id\n",
		change: []string{"per: {A: 2}\n    via: a_id", "per: {A: 2, via: a_id}"},
	},
	{
		hint:   "rows for an entity without a parent",
		text:   plain + "  B: {per: {A: 2}, rows: 3}\n",
		change: []string{", rows: 3", ""},
	},
	{
		hint:   `give the field a plain name, and add column: "first.name"`,
		text:   plain + "      first.name: {kind: given-name}\n",
		change: []string{"first.name: {kind: given-name}", "first_name: {kind: given-name, column: \"first.name\"}"},
	},
	{
		hint:   "such as shared: {who: {kind: person}}",
		text:   plain + "    shared: [who]\n",
		change: []string{"[who]", "{who: {kind: person}}"},
	},
	{
		hint:   "use a letter,",
		text:   plain + "    shared: {a-b: {kind: person}}\n",
		change: []string{"a-b", "ab"},
	},
	{
		hint:   "a field with {from: who}",
		text:   plain + "    shared: {who: {between: 1..3, column: n}}\n",
		change: []string{", column: n}", "}", "n: {between: 1..9}", "n: {from: who}"},
	},
	{hint: "per: {Passenger: 0..3}", text: plain + "  B: {per: A}\n", change: []string{"per: A", "per: {A: 0..3}"}},
	{
		hint:   "per: {Passenger: 0..3, given: instead}",
		text:   plain + "  B: {per: {A: 2, given: besides}}\n",
		change: []string{"besides", "instead"},
	},
	{
		hint:   "second reference a field: {pick: C}",
		text:   plain + "  C: {rows: 2}\n  B: {per: {A: 2, C: 1}}\n",
		change: []string{", C: 1}", "}, fields: {c: {pick: C}}"},
	},
	{
		hint:   "per: {Passenger: 0..3}",
		text:   plain + "  B: {per: {via: a_id}}\n",
		change: []string{"{via: a_id}", "{A: 0..3, via: a_id}"},
	},
	{
		hint:   "one field, add unique: true to",
		text:   plain + "    unique: n\n",
		change: []string{"    unique: n\n", "", "1..9", "1..9, unique: true"},
	},
	{
		hint:   "one field, add unique: true to",
		text:   plain + "    unique: [[n]]\n",
		change: []string{"    unique: [[n]]\n", "", "1..9", "1..9, unique: true"},
	},
	{
		hint:   "given: {ada: {given_name: Ada}}",
		text:   plain + "    given: ada\n",
		change: []string{"given: ada", "given: {ada: {n: 3}}"},
	},
	{
		hint:   "a name without a dot; other rows refer to it as A.name",
		text:   plain + "    given: {a.b: {n: 3}}\n",
		change: []string{"a.b", "ab"},
	},
	{
		hint:   "it is already in line 11",
		text:   plain + "    given:\n      - [name, n]\n      - [x, 1]\n      - [x, 2]\n",
		change: []string{"[x, 2]", "[y, 2]"},
	},
	{
		hint:   "such as 2026-05-01T08:00:00Z",
		whole:  true,
		text:   strings.Replace(plan.Head, "2026-05-01T08:00:00Z", "yesterday", 1) + plain,
		change: []string{"yesterday", "2026-05-01T08:00:00Z"},
	},
	{hint: "such as 12%", text: plan.CellOf("{share: 131%}"), change: []string{"131%", "12%"}},
	{
		hint:   "write a plain decimal number, or put text",
		text:   plan.CellOf("0123"),
		change: []string{"0123", `"0123"`},
	},
	{
		hint:   "put text in quotes",
		text:   plan.CellOf("2026-02-30"),
		change: []string{"2026-02-30", `"2026-02-30"`},
	},
	{
		hint:   "rows_from: {file: prices.csv, columns: {code: Code}}",
		text:   "  A: {rows_from: a.csv}\n",
		files:  []string{"a.csv", "Code\nx\n"},
		change: []string{"a.csv", "{file: a.csv, columns: {code: Code}}"},
	},
	{
		hint:   "rows_from: {file: prices.csv, columns: {code: Code}}",
		text:   "  A: {rows_from: {columns: {code: Code}}}\n",
		files:  []string{"a.csv", "Code\nx\n"},
		change: []string{"{columns", "{file: a.csv, columns"},
	},
	{
		hint:   "reads the field code from the column Code",
		text:   "  A: {rows_from: {file: a.csv}}\n",
		files:  []string{"a.csv", "Code\nx\n"},
		change: []string{"a.csv", "a.csv, columns: {code: Code}"},
	},
	{
		hint:   "key: [code]",
		text:   "  A: {rows_from: {file: a.csv, columns: {code: Code}, duplicates: last}}\n",
		files:  []string{"a.csv", "Code\nx\n"},
		change: []string{"duplicates: last", "duplicates: last, key: [code]"},
	},
	{
		hint:   "columns: {code: Code, sailing: {column: Sailing, find: Sailing.code}}",
		text:   "  A: {rows_from: {file: a.csv, columns: [Code]}}\n",
		files:  []string{"a.csv", "Code\nx\n"},
		change: []string{"[Code]", "{code: Code}"},
	},
	{
		hint:   "or columns: same",
		text:   "  A: {rows_from: {file: a.csv, columns: [Code]}}\n",
		files:  []string{"a.csv", "Code\nx\n"},
		change: []string{"[Code]", "same"},
	},
	{
		hint:   "name them: columns: {code: Code}",
		text:   "  A: {rows_from: {file: a.csv, columns: same}}\n",
		files:  []string{"a.csv", "a.b\nx\n"},
		change: []string{"same", "{code: a.b}"},
	},
	{
		hint:   "find: Sailing.code",
		text:   plain + "  B: {rows_from: {file: a.csv, columns: {a: {column: Code, find: A}}}}\n",
		files:  []string{"a.csv", "Code\n2\n"},
		change: []string{"find: A", "find: A.n", "{between: 1..9}", "{count: 1}"},
	},
	{
		hint:   "fields of the entity, and the columns that hold their values",
		text:   plain + "  B: {rows_from: {file: a.csv, columns: {a: {find: {A: Code}}}}}\n",
		files:  []string{"a.csv", "Code\n2\n"},
		change: []string{"{A: Code}", "{A: {n: Code}}", "{between: 1..9}", "{count: 1}"},
	},
	{
		hint:   "each row must name exactly one A by its n;",
		text:   plain + "  B: {rows_from: {file: a.csv, columns: {a: {column: Code, find: A.n}}}}\n",
		files:  []string{"a.csv", "Code\n12\n"},
		change: []string{"{between: 1..9}", "{count: 10}"},
	},
	{hint: `meets: ["n > 5"]`, db: func() *schema.Database {
		db := plan.QuayTables()
		db.Tables[2].Checks = []schema.Check{{Name: "big", Expression: "n > 5"}}
		return db
	}, text: "  Mark:\n    table: marks\n    rows: 30\n    fields: {n: {between: 1..9}}\n",
		change: []string{"    rows: 30", "    meets: " +
			"[\"n > 5\"]\n    rows: 30"}},
	{
		hint:   `{uuid: ...}, or the text in quotes as`,
		text:   plan.CellOf("uuid"),
		change: []string{"cell: uuid", "cell: {uuid: v4}"},
	},
	{
		hint:   "{count: 1}, or {count: {from: 1, step: 1, restart: true}}",
		text:   plan.CellOf("{count: [1]}"),
		change: []string{"[1]", "1"},
	},
	{
		hint:   "{between: [1, 10]}, or {between: [2026-01-01, 2026-03-31]}",
		text:   plan.CellOf("{between: 5}"),
		change: []string{"between: 5", "between: [1, 10]"},
	},
	{
		hint:   "hours: 9-17, or hours: 22-6",
		text:   plan.CellOf("{before: clock, within: 90d, hours: 25}"),
		change: []string{"hours: 25", "hours: 9-17"},
	},
	{
		hint:   "rush: [8, 17]",
		text:   plan.CellOf("{before: clock, within: 90d, rush: {a: 1}}"),
		change: []string{"rush: {a: 1}", "rush: [8, 17]"},
	},
	{
		hint:   "season: {dec: 3, jul: 0.5}",
		text:   plan.CellOf("{before: clock, within: 90d, season: 3}"),
		change: []string{"season: 3", "season: {dec: 3}"},
	},
	{
		hint:   "growth: 3% a month",
		text:   plan.CellOf("{before: clock, within: 90d, growth: 3}"),
		change: []string{"growth: 3", "growth: 3% a month"},
	},
	{
		hint:   "shape: normal, or shape: {lognormal: {median: 40, p95: 200}}",
		text:   plan.CellOf("{between: [1, 90], shape: round}"),
		change: []string{"shape: round", "shape: normal"},
	},
	{
		hint:   "{case: {\"status = 'paid'\": {after: issued_at, within: 20d}}, else: null}",
		text:   plan.CellOf(`{case: 3}`),
		change: []string{`{case: 3}`, `{case: {"1 = 1": a}, else: b}`},
	},
	{
		hint:   "{lookup: {tier: {gold: 0.2, silver: 0.1}}, else: 0}",
		text:   plan.CellOf(`{lookup: 3}`),
		change: []string{`{lookup: 3}`, `{kind: noun}`},
	},
	{
		hint:   "locale: de, or locale: {en-GB: 60, de: 40}",
		text:   plan.CellOf("{kind: name, locale: [de]}"),
		change: []string{"locale: [de]", "locale: de"},
	},
	{
		hint:   "{choose: [red, green]}, or {choose: {red: 80, green: 20}}",
		text:   plan.CellOf("{choose: red}"),
		change: []string{"choose: red", "choose: [red, green]"},
	},
	{
		hint: "shared: {it: {kind: person}} beside fields",
		text: plan.CellOf("{kind: person}"),
		change: []string{
			"cell: {kind: person}",
			"cell: {from: it.name}",
			"    rows: 20\n",
			"    rows: 20\n    shared: {it: {kind: person}}\n",
		},
	},
	{
		hint:   "use a name such as images; files must stay beside the plan",
		text:   plan.CellOf("{file: {folder: ../x, as: png, size: 9x9}}"),
		change: []string{"../x", "images"},
	},
	{
		hint:   "use a name such as images",
		text:   plan.CellOf("{file: {folder: .evensprout, as: png, size: 9x9}}"),
		change: []string{".evensprout", "images"},
	},
	{
		hint:   "{file: {folder: images, as: png, size: 320x200}}",
		text:   plan.CellOf("{file: {as: png}}"),
		change: []string{"file: {as: png}", "file: {folder: images, as: png, size: 320x200}"},
	},
	{
		hint:   "{list: {of: {kind: noun}, count: 1..3}}",
		text:   plan.CellOf("{json: {a: {list: {count: 2}}}}"),
		change: []string{"{count: 2}", "{of: {kind: noun}, count: 1..3}"},
	},
	{
		hint:   "for all rows, use unique: true",
		text:   plain + "  B: {rows: 2, fields: {a: {pick: A, distinct: true}}}\n",
		change: []string{"distinct: true", "unique: true"},
	},
	{
		hint:   "{pick: A, where: {FIELD: VALUE}, one: true}",
		text:   "  A: {given: {x: {n: 1}, y: {n: 2}}}\n  B: {rows: 2, fields: {a: {pick: A, one: true}}}\n",
		change: []string{"one: true", "where: {n: 2}, one: true"},
	},
	{
		hint:   "skew: {top: 20%, get: 80%}",
		text:   plain + "  B: {rows: 2, fields: {a: {pick: A, skew: 20%}}}\n",
		change: []string{"skew: 20%", "skew: {top: 20%, get: 80%}"},
	},
	{
		hint:   "shared: {who: {kind: person}} beside fields",
		text:   plan.CellOf("{from: who.email}"),
		change: []string{"    rows: 20\n", "    rows: 20\n    shared: {who: {kind: person}}\n"},
	},
	{
		hint:   "for another field's",
		text:   plain + "  B: {rows: 9, fields: {a: {pick: A}, m: {from: a.n}}}\n",
		change: []string{"from:", "same:"},
	},
	{
		hint: "add shared: {n: {count: 1}} beside fields, and -{n} at the end of the text",
		text: plain + "      name: {kind: title, unique: true}\n      slug: {text: \"{name|trim:3}\", unique: " +
			"true}\n",
		change: []string{
			"trim:3}",
			"trim:3}-{n}",
			"    rows: 3\n    fields:\n      n: {between: 1..9}\n",
			"    rows: 3\n    shared: {n: {count: 1}}\n    fields:\n",
		},
	},
	{
		hint:   "{tree: {depth: 4, fan: 2..5}}",
		text:   "  A: {rows: 9, fields: {up: {tree: {fan: 2}}}}\n",
		change: []string{"{fan: 2}", "{depth: 4, fan: 2..5}"},
	},
	{
		hint:   "make it the child of another entity with per:",
		text:   plain + "      all: {running: n}\n  P: {rows: 2}\n",
		change: []string{"  A:\n    rows: 3\n", "  A:\n    per: {P: 2}\n"},
	},
	{
		hint:   "{sum: Child.field}, but {count_of: Child}",
		text:   plain + "      all: {sum: B}\n  B: {per: {A: 2}, fields: {m: 1}}\n",
		change: []string{"sum: B", "sum: B.m"},
	},
	{
		hint:   "B must be per A, or per an entity that is",
		text:   plain + "      all: {sum: B.m}\n  B: {rows: 2, fields: {m: 1}}\n",
		change: []string{"rows: 2", "per: {A: 2}"},
	},
	{
		hint:   "steps: with a list, such as {update: Sailing,",
		db:     plan.QuayTables,
		text:   plan.QuayEntities + "units:\n  dock: {rows: 2}\n",
		change: []string{"{rows: 2}", "{rows: 2, steps: [{update: Pier, match: {id: 1}, set: {free: free - 1}}]}"},
	},
	{
		hint: "rows: 200, per: {Booking: 1}, or rows_from",
		db:   plan.QuayTables,
		text: plan.QuayEntities + "units:\n  dock: {rows: existing, steps: [{update: Pier, match: {id: 1}, set: " +
			"{free: free - 1}}]}\n",
		change: []string{"existing", "200"},
	},
	{
		hint:   "- such as {update: Sailing",
		db:     plan.QuayTables,
		text:   plan.QuayEntities + "units:\n  dock: {rows: 2, steps: none}\n",
		change: []string{"steps: none", "steps: [{update: Pier, match: {id: 1}, set: {free: free - 1}}]"},
	},
	{
		hint:   "add together: all to the unit",
		db:     plan.QuayTables,
		text:   step("{clear: marks}") + "      - {insert: marks, set: {n: n}}\n",
		change: []string{"    steps:", "    together: all\n    steps:"},
	},
	{
		hint:   "such as {update: Sailing",
		db:     plan.QuayTables,
		text:   step("find"),
		change: []string{"- find", "- {update: Pier, match: {code: code}, set: {free: free - 1}}"},
	},
	{
		hint:   "write each after its own -",
		db:     plan.QuayTables,
		text:   step("{find: Pier, update: Pier, match: {code: code}, set: {free: 1}}"),
		change: []string{"find: Pier, ", ""},
	},
	{
		hint:   "use letters, digits and _, but not occasion, row or clock",
		db:     plan.QuayTables,
		text:   step("{find: Pier, as: row, match: {code: code}}"),
		change: []string{"as: row", "as: found"},
	},
	{
		hint:   "such as {update: Sailing",
		db:     plan.QuayTables,
		text:   step("{update: Pier, match: code, set: {free: 1}}"),
		change: []string{"match: code", "match: {code: code}"},
	},
	{
		hint:   "such as {update: Sailing",
		db:     plan.QuayTables,
		text:   step("{update: Pier, set: {free: 1}}"),
		change: []string{"update: Pier", "update: Pier, match: {code: code}"},
	},
	{
		hint:   "use a letter,",
		db:     plan.QuayTables,
		text:   strings.Replace(step("{find: Pier, match: {code: code}}"), "dock:", "do-ck:", 1),
		change: []string{"do-ck", "dock"},
	},
	{
		hint:   "require: sailing.seats_left >= seats",
		db:     plan.QuayTables,
		text:   step("{require: [n]}"),
		change: []string{"[n]", "n >= 1"},
	},
	{
		hint:   "remove /*! ... */",
		db:     plan.QuayTables,
		text:   step("{require: {sql: \"1 = 1 /*! OR 1 */\"}}"),
		change: []string{" /*! OR 1 */", ""},
	},
	{
		hint:   "with first: {free: VALUE}",
		db:     plan.QuayTables,
		text:   step("{upsert: Pier, match: {code: code}, set: {free: free + 1, toll: rate, total: 0}}"),
		change: []string{"total: 0}}", "total: 0}, first: {free: 1}}"},
	},
	{
		hint:   "add it to set",
		db:     plan.QuayTables,
		text:   step("{insert: Visit, set: {paid: rate}}"),
		change: []string{"{paid: rate}", "{paid: rate, pier_id: n}"},
	},
	{
		hint: "match needs a unique index over NOT NULL columns, because otherwise a row may exist twice",
		db:   plan.QuayTables,
		text: step("{upsert: Pier, match: {free: n}, set: {toll: rate, code: code, total: 0}}"),
		change: []string{
			"match: {free: n}, set: {toll: rate, code: code",
			"match: {code: code}, set: {toll: rate, free: n",
		},
	},
	{
		hint:   "remove it from set",
		db:     plan.QuayTables,
		text:   step("{upsert: Pier, match: {code: code}, set: {free: 1, toll: rate, total: 0, code: code}}"),
		change: []string{", code: code}}", "}}"},
	},
	{
		hint: "set toll in a step of its own",
		db:   plan.QuayTables,
		text: step("{update: Pier, match: {code: code}, set: {toll: total + 1, total: 0}}"),
		change: []string{
			"toll: total + 1, total: 0}}",
			"toll: total + 1}}\n      - {update: Pier, match: {code: code}, set: {total: 0}}",
		},
	},
	{
		hint: "set the type of a column of the file with as: in the columns of rows_from",
		db:   plan.QuayTables,
		text: plan.QuayEntities + "units:\n  dock:\n    rows_from: {file: a.csv, columns: {c: c, m: m}}\n    " +
			"steps:\n      - {update: Pier, match: {code: c}, set: {free: m}}\n",
		files:  []string{"a.csv", "c,m\nAB,007\n"},
		change: []string{"m: m", "m: {column: m, as: integer}"},
	},
	{
		hint:   "for: person in people",
		db:     plan.QuayTables,
		text:   loopText("mark of marks", "mark.n"),
		files:  loopFile,
		change: []string{"mark of marks", "mark in marks"},
	},
	{
		hint:  "such as {for: person in people,",
		db:    plan.QuayTables,
		text:  strings.Replace(loopText("mark in marks", "mark.n"), "steps:\n          - ", "expect: 1\n      - ", 1),
		files: loopFile,
		change: []string{
			"expect: 1\n      - {insert: marks, set: {n: mark.n}}",
			"steps: [{insert: marks, set: {n: mark.n}}]",
		},
	},
	{
		hint:   "give the element another name",
		db:     plan.QuayTables,
		text:   loopText("c in marks", "c.n"),
		files:  loopFile,
		change: []string{"c in", "mark in", "c.n", "mark.n"},
	},
	{
		hint: "give the element another name",
		db:   plan.QuayTables,
		text: strings.Replace(
			loopText("mark in marks", "mark.n"),
			"        steps:",
			"        numbered: mark\n        steps:",
			1,
		),
		files:  loopFile,
		change: []string{"numbered: mark", "numbered: place"},
	},
	{
		hint:  "go through a list with for: NAME in mark.parts, or name a part of an object: mark.parts.KEY",
		db:    plan.QuayTables,
		text:  loopText("mark in marks", "mark.parts"),
		files: loopFile,
		change: []string{
			"{insert: marks, set: {n: mark.parts}}",
			"{for: part in mark.parts, steps: [{insert: marks, set: {n: part}}]}",
		},
	},
	{
		hint: "such as list: lines",
		db:   plan.QuayTables,
		text: plan.QuayEntities + "units:\n  dock:\n    rows_from: {file: a.csv, group_by: c, list: a.b, columns: " +
			"{c: c, n: n}}\n" +
			"    steps: [{insert: marks, set: {n: 1}}]\n",
		files:  []string{"a.csv", "c,n\nAB,1\n"},
		change: []string{"list: a.b", "list: marks"},
	},
	{
		hint: "group_by: [order]",
		db:   plan.QuayTables,
		text: plan.QuayEntities + "units:\n  dock:\n    rows_from: {file: a.csv, list: marks, columns: {c: c, n: " +
			"n}}\n" +
			"    steps: [{insert: marks, set: {n: 1}}]\n",
		files:  []string{"a.csv", "c,n\nAB,1\n"},
		change: []string{"list: marks", "list: marks, group_by: [c]"},
	},
	{
		hint: "look the row up in the loop: - find: Pier, match: {code: ...}",
		db:   plan.QuayTables,
		text: plan.QuayEntities + "units:\n  dock:\n    rows_from: {file: a.csv, group_by: n, list: piers, " +
			"columns: {n: n, pier: " +
			"{column: c, find: Pier.code}}}\n    steps: [{for: p in piers, steps: [{insert: marks, set: {n: n}}]}]\n",
		files: []string{"a.csv", "c,n\nAB,1\n"},
		change: []string{
			"{column: c, find: Pier.code}",
			"c",
			"steps: [{insert",
			"steps: [{find: Pier, match: {code: p.pier}}, {insert",
		},
	},
	{
		hint: "look the row up with find, and compute with what it holds",
		db:   berths,
		text: pier + berth + "units:\n  dock:\n    rows: 2\n    steps:\n      - {update: Berth, match: {number: " +
			"1}, set: {place: depth}}\n",
		change: []string{"place: depth", "place: place + 1"},
	},
	{
		hint:   `text in quotes: "shut";`,
		db:     plan.QuayTables,
		text:   step("{update: Pier, match: {code: code}, set: {state: shut}}"),
		change: []string{"state: shut", `state: "shut"`},
	},
	{
		hint: "add a step such as {update: Pier, match: {...}, set: {total: total + ...}}",
		db:   plan.QuayTables,
		text: step("{insert: Visit, set: {pier_id: n, paid: rate}}"),
		change: []string{
			"paid: rate}}\n",
			"paid: rate}}\n      - {update: Pier, match: {id: n}, set: {total: total + rate}}\n",
		},
	},
	{
		hint: "let both write the tables in the same order",
		db:   plan.QuayTables,
		text: pier + "  Visit: {table: visits, rows: 3, fields: {pier: {pick: Pier}, paid: 1.00}}\nunits:\n  a: " +
			"{rows: 2, together: all, steps: [{update: Pier, match: {id: 1}, set: {free: 1}}, {update: Visit, " +
			"match: {id: 1}, set: {paid: 1}}]}\n  b: {rows: 2, together: all, steps: [{update: Visit, match: {id: " +
			"1}, set: {paid: 1}}, {update: Pier, match: {id: 1}, set: {free: 1}}]}\n",
		change: []string{
			"[{update: Visit, match: {id: 1}, set: {paid: 1}}, {update: Pier, match: {id: 1}, set: {free: 1}}]",
			"[{update: Pier, match: {id: 1}, set: {free: 1}}, {update: Visit, match: {id: 1}, set: {paid: 1}}]",
		},
	},
	{
		hint:   "write: {mode: upsert, match: [code], set: [label, price]}",
		text:   plain + "    write: {match: [n]}\n",
		change: []string{"{match", "{mode: upsert, match"},
	},
	{
		hint:   "other kinds stop",
		text:   plain + "    on_violation: redraw\n",
		change: []string{"redraw", "{unique: redraw}"},
	},
	{
		hint:   "without one, some databases fail and others add the rows a second time",
		db:     plan.QuayTables,
		text:   strings.Replace(pier, "rows: 3", "rows: 3, write: {mode: upsert, match: [free]}", 1),
		change: []string{"match: [free]", "match: [code]"},
	},
	{
		hint:   "remove it from set",
		db:     plan.QuayTables,
		text:   strings.Replace(pier, "rows: 3", "rows: 3, write: {mode: upsert, match: [code], set: [code, toll]}", 1),
		change: []string{"set: [code, toll]", "set: [toll]"},
	},
	{
		hint: "write: {mode: upsert, match: [code], set: [label, price]}",
		db:   plan.QuayTables,
		text: "  Pier: {table: piers, rows: 3, write: {mode: update, match: [code]}, fields: {code: {pattern: " +
			"\"[A-Z]{2}\", unique: true}}}\n",
		change: []string{"unique: true}}", "unique: true}, toll: 2.00}"},
	},
	{
		hint:   "match: [place, side]",
		db:     berths,
		text:   pier + strings.Replace(berth, "    rows: 4\n", "    rows: 4\n    write: {mode: upsert}\n", 1),
		change: []string{"{mode: upsert}", "{mode: upsert, match: [place, side]}"},
	},
	{hint: "match: [word], with a field for each", db: func() *schema.Database {
		db := plan.QuayTables()
		marks := db.Tables[2]
		marks.Columns = append(
			marks.Columns,
			&schema.Column{Name: "word", Declared: "TEXT", Kind: schema.Text, NotNull: true},
		)
		marks.PrimaryKey = []string{"word"}
		return db
	}, text: "  Mark: {table: marks, rows: 3, write: {mode: update}, fields: {n: 1}}\n", change: []string{"{mode: " +
		"update}", "{mode: update, match: [word]}", "{n: 1}", "{n: 1, word: {pattern: \"[A-Z]\", unique: true}}"}},
	{hint: "save it as UTF-8 text", whole: true, text: plan.Head + plain + "# \xff\n", change: []string{"\xff", "ÿ"}},
	{
		hint:   "name it with --db sqlite:",
		whole:  true,
		text:   "SQLite format 3\x00 and pages",
		change: []string{"SQLite format 3\x00 and pages", plan.Head + plain},
	},
	{
		hint:   "evensprout survey --db URL --out FILE, or create an",
		whole:  true,
		text:   "# nothing\n",
		change: []string{"# nothing\n", plan.Head + plain},
	},
	{
		hint:   "two spaces for each level, a space after every colon",
		whole:  true,
		text:   plan.Head + plain + "   bad: 1\n",
		change: []string{"   bad: 1\n", ""},
	},
	{
		hint:   "write the value out, or put text that begins with one of these characters in quotes",
		whole:  true,
		text:   plan.Head + "  A: &x\n    rows: 1\n",
		change: []string{"&x", ""},
	},
	{
		hint:   "put text that begins with one of these characters in quotes",
		whole:  true,
		text:   plan.Head + plan.CellOf("!x")[0:],
		change: []string{"!x", `"!x"`},
	},
	{
		hint:   "it is already in line 6: keep one of them",
		text:   "  A:\n    rows: 1\n    rows: 2\n",
		change: []string{"    rows: 2\n", ""},
	},
	{
		hint:   `did you mean "Pier"?`,
		text:   pier + "  B: {rows: 2, fields: {p: {pick: Peer}}}\n",
		change: []string{"Peer", "Pier"},
	},
	{
		hint:   "a relative path starts at the folder of this plan",
		text:   strings.Replace(builtOn, "base.yaml", "bsae.yaml", 1),
		files:  baseFile,
		whole:  true,
		change: []string{"bsae.yaml", "base.yaml"},
	},
	{
		hint:   "take it out of one of the plans: this one can refer to the rows of the other",
		text:   builtOn + "  Base: {rows: 2}\n",
		files:  baseFile,
		whole:  true,
		change: []string{"  Base: {rows: 2}\n", ""},
	},
	{
		hint:   "give A its own rows, and let it pick Base",
		text:   strings.Replace(builtOn, "rows: 3", "per: {Base: 2}", 1),
		files:  baseFile,
		whole:  true,
		change: []string{"per: {Base: 2}", "rows: 3"},
	},
	{
		hint:   "known: id, n",
		text:   plain + "    unique: [[n, something_else]]\n",
		change: []string{"something_else", "m", "n: {between: 1..9}", "n: {between: 1..9}\n      m: {between: 1..9}"},
	},
}

func (c *hintCase) compile(t *testing.T, text string) diag.Problems {
	t.Helper()
	folder := t.TempDir()
	for i := 0; i < len(c.files); i += 2 {
		require.NoError(t, os.WriteFile(filepath.Join(folder, c.files[i]), []byte(c.files[i+1]), 0o600))
	}
	if !c.whole {
		text = plan.Head + text
	}
	p, err := plan.Read(filepath.Join(folder, "plan.yaml"), []byte(text))
	if err == nil {
		o := plan.Options{Rows: files.Rows, Sample: 30}
		if c.db != nil {
			o.Database = c.db()
		}
		var compiled *plan.Compiled
		if compiled, err = p.Compile(o); err == nil {
			defer compiled.Close()
			return compiled.Warnings
		}
	}
	return err.(diag.Problems)
}

// What a hint says is done, and neither the hint is there any more nor another problem.
func TestHintsOfPlansAreFollowed(t *testing.T) {
	for _, c := range hintCases {
		t.Run(c.hint, func(t *testing.T) {
			hints := func(p diag.Problems) string {
				var all []string
				for _, x := range p {
					all = append(all, x.Hint)
				}
				return strings.Join(all, "\n")
			}
			before := c.compile(t, c.text)
			require.Contains(t, hints(before), c.hint, "%v", before)
			text := c.text
			for i := 0; i < len(c.change); i += 2 {
				require.Contains(t, text, c.change[i])
				text = strings.Replace(text, c.change[i], c.change[i+1], 1)
			}
			after := c.compile(t, text)
			assert.Empty(t, after.Errors(), text)
			assert.NotContains(t, hints(after), c.hint, "%v", after)
		})
	}
}

var verb = regexp.MustCompile(`%[+#]?[a-z]`)

// added is the text of a literal, or of several that are added; empty if it is more than that.
func added(x ast.Expr) string {
	switch x := x.(type) {
	case *ast.BasicLit:
		text, _ := strconv.Unquote(x.Value)
		return text
	case *ast.BinaryExpr:
		left, right := added(x.X), added(x.Y)
		if left != "" && right != "" {
			return left + right
		}
	}
	return ""
}

// Every hint of this package has a case.
func TestEveryHintOfPlansHasACase(t *testing.T) {
	known := map[string]bool{}
	for _, c := range hintCases {
		for _, p := range c.compile(t, c.text) {
			known[p.Hint] = true
		}
	}
	fset := token.NewFileSet()
	sources, err := filepath.Glob("*.go")
	require.NoError(t, err)
	constants, covered, missing := map[string]string{}, 0, []string{}
	var calls []*ast.CallExpr
	for _, file := range sources {
		if strings.HasSuffix(file, "_test.go") {
			continue
		}
		parsed, err := parser.ParseFile(fset, file, nil, 0)
		require.NoError(t, err)
		ast.Inspect(parsed, func(n ast.Node) bool {
			switch n := n.(type) {
			case *ast.ValueSpec:
				for i, name := range n.Names {
					if i < len(n.Values) {
						constants[name.Name] = added(n.Values[i])
					}
				}
			case *ast.CallExpr:
				if s, ok := n.Fun.(*ast.SelectorExpr); ok && s.Sel.Name == "Advise" {
					calls = append(calls, n)
				}
			}
			return true
		})
	}
	for _, call := range calls {
		text := ""
		switch x := call.Args[0].(type) {
		case *ast.Ident:
			text = constants[x.Name]
		default:
			text = added(x)
		}
		if text == "" || text == "%s" { // somebody else's hint is passed on
			continue
		}
		var pattern strings.Builder
		pattern.WriteString("(?s)^")
		at := 0
		for _, m := range verb.FindAllStringIndex(text, -1) {
			pattern.WriteString(regexp.QuoteMeta(strings.ReplaceAll(text[at:m[0]], "%%", "%")) + ".*")
			at = m[1]
		}
		pattern.WriteString(regexp.QuoteMeta(strings.ReplaceAll(text[at:], "%%", "%")) + "$")
		re := regexp.MustCompile(pattern.String())
		if slices.ContainsFunc(slices.Collect(maps.Keys(known)), re.MatchString) {
			covered++
		} else {
			missing = append(missing, fmt.Sprintf("%s: %s", fset.Position(call.Pos()), text))
		}
	}
	assert.Empty(t, missing)
	t.Logf("%d hints in %d places, %d of them covered", len(calls), len(calls), covered)
}
