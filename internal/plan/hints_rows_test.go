package plan_test

import (
	"fmt"
	"strings"

	"evensprout/internal/plan"
	"evensprout/internal/schema"
)

// ownKinds is a plan with a kind of its own.
// manyValues are more values than a plan may list.
var manyValues = "{choose: [" + strings.Repeat("a,", 1_600_000) + "]}"

// manyFields are more keys than the mappings of a plan may have.
var manyFields = func() (s strings.Builder) {
	for i := range 21_001 {
		fmt.Fprintf(&s, "      f%d: {count: 1}\n", i)
	}
	return s
}()

const ownKinds = "name: larkwater\nseed: larkwater-2026\nclock: 2026-05-01T08:00:00Z\nkinds:\n  vessel: {file: " +
	"vessels.txt}\nentities:\n  A: {rows: 2, fields: {n: {kind: vessel}}}\n"

// piersInSchemas has piers in two schemas.
func piersInSchemas() *schema.Database {
	own, shared := plan.QuayTables(), plan.QuayTables()
	var tables []*schema.Table
	for _, t := range own.Tables {
		if t.Name == "piers" {
			t.Schema, t.Local, t.Name = "acme", "piers", "acme.piers"
			tables = append(tables, t)
		}
	}
	for _, t := range shared.Tables {
		if t.Name == "piers" {
			t.Schema, t.Local, t.Name = "public", "quays_of_all", "quays_of_all"
			tables = append(tables, t)
		}
	}
	return &schema.Database{Tables: tables}
}

// hintCasesOfRows are those of logins, own kinds, skews, awkward values and profiles.
var hintCasesOfRows = []hintCase{
	{
		hint:   "write schemas: [acme, borealis]",
		text:   plain + "schemas: acme\n",
		change: []string{"schemas: acme", "schemas: [acme, borealis]"},
	},
	{
		hint:   "this database has no schemas: use one database for each, or a column that says whose a row is",
		db:     berths,
		text:   pier + berth + "schemas: [acme]\n",
		change: []string{"schemas: [acme]\n", ""},
	},
	{
		hint:   "did you mean piers?",
		db:     piersInSchemas,
		text:   strings.Replace(pier, "table: piers", "table: peers", 1) + "schemas: [acme]\n",
		change: []string{"peers", "piers"},
	},
	{
		hint:   "create the schema and its tables first, or take borealis out of schemas",
		db:     piersInSchemas,
		text:   pier + "schemas: [acme, borealis]\n",
		change: []string{", borealis", ""},
	},
	{
		hint:   "for a table that all schemas share, write its own: table: public.quays_of_all",
		db:     piersInSchemas,
		text:   strings.Replace(pier, "table: piers", "table: quays_of_all", 1) + "schemas: [acme]\n",
		change: []string{"table: quays_of_all", "table: public.quays_of_all"},
	},
	{
		hint:   `write fields in braces: label: "{code} {name}"`,
		text:   plain + "    label: n\n",
		change: []string{"label: n", "label: \"{n}\""},
	},
	{
		hint:   "write variants: {ci: {scale: 5%}}",
		text:   plain + "variants: [ci]\n",
		change: []string{"[ci]", "{ci: {scale: 5%}}"},
	},
	{
		hint:   "say what it changes: scale: 5%",
		text:   plain + "variants: {ci: {}}\n",
		change: []string{"{}", "{scale: 5%}"},
	},
	{
		hint:   "write variants: {ci: {scale: 5%}} in the plan",
		text:   plain + "use: {variant: ci}\n",
		change: []string{"use:", "variants: {ci: {scale: 5%}}\nuse:"},
	},
	{
		hint:   "give the parent more rows",
		text:   plain + "  Other:\n    per: {A: 2}\n    fields: {n: {between: [1, 9]}}\nuse: {rows: {Other: 9}}\n",
		change: []string{"Other: 9", "A: 9"},
	},
	{
		hint:   "{login: letmein, as: bcrypt}",
		text:   plan.CellOf("{login: letmein}"),
		change: []string{"{login: letmein}", "{login: letmein, as: bcrypt}"},
	},
	{
		hint: "add a field for each entity, such as {pick: ",
		text: "  Ship: {rows: 3, fields: {code: {kind: sku}}}\n" +
			plan.CellOf(`{case: {"1 = 1": {pick: Ship}}, else: none}`),
		change: []string{`{case: {"1 = 1": {pick: Ship}}, else: none}`, `{pick: Ship}`},
	},
	{
		hint:   "{choose: [red, green, blue], skew: zipf}",
		text:   plan.CellOf("{choose: [a, b], skew: {top: 20%, get: 80%}}"),
		change: []string{"{top: 20%, get: 80%}", "zipf"},
	},
	{
		hint:   "or just a range such as 0..3",
		text:   plain + "  B: {per: {A: {between: 0..9}}, fields: {m: 1}}\n",
		change: []string{"{between: 0..9}", "{between: 0..9, shape: exponential}"},
	},
	{
		hint:   "kinds: {vessel_name: {file: vessels.txt}}",
		text:   "name: a\nseed: a\nclock: 2026-05-01T08:00:00Z\nkinds: vessels.txt\nentities:\n  A: {rows: 1}\n",
		files:  []string{"vessels.txt", "Kestrel\n"},
		change: []string{"kinds: vessels.txt", "kinds: {vessel_name: {file: vessels.txt}}"},
		whole:  true,
	},
	{
		hint:   "kinds: {vessel_name: {file: vessels.txt}}",
		text:   strings.Replace(ownKinds, "{file: vessels.txt}", "{weight: n}", 1),
		files:  []string{"vessels.txt", "Kestrel\nHeron\n"},
		change: []string{"{weight: n}", "{file: vessels.txt}"},
		whole:  true,
	},
	{
		hint:   "keep long lists of values in a file of their own: kinds: {NAME: {file: FILE}}",
		text:   strings.Replace(ownKinds, "{kind: vessel}", manyValues, 1),
		files:  []string{"vessels.txt", "Kestrel\nHeron\n"},
		change: []string{manyValues, "{kind: vessel}"},
		whole:  true,
	},
	{
		hint:   "close each [ with ] and each { with }",
		text:   plan.CellOf("{choose: [" + strings.Repeat("'[', ", 10_001) + "a]}"),
		change: []string{strings.Repeat("'[', ", 10_001), "'[', "},
	},
	{
		hint:   "divide the plan into several, each with its entities and fields",
		text:   plan.CellOf("{count: 1}") + manyFields.String(),
		change: []string{manyFields.String(), ""},
	},
	{
		hint:   "write null where a value is NULL, or remove the key",
		text:   plan.CellOf("{count: 1, nulls: {" + strings.Repeat("a,", 1001) + "}}"),
		change: []string{", nulls: {" + strings.Repeat("a,", 1001) + "}", ""},
	},
	{
		hint:   "write key: value, or put text that begins with this character in quotes",
		text:   plan.CellOf("{? count : 1}"),
		change: []string{"? count : 1", "count: 1"},
	},
	{
		hint:   "awkward: {share: 2%, longest: 40}",
		text:   plan.CellOf("{kind: sentence, awkward: {longest: 40}}"),
		change: []string{"{longest: 40}", "{share: 2%, longest: 40}"},
	},
	{
		hint:   "remove awkward: from this field, or give unique to another",
		text:   plan.CellOf("{kind: sku, unique: true, awkward: 2%}"),
		change: []string{", awkward: 2%", ""},
	},
	{
		hint:   "remove awkward: from this field",
		text:   plan.CellOf("{choose: [a, b], awkward: 2%}"),
		change: []string{", awkward: 2%", ""},
	},
	{
		hint:   "limit its awkward texts: awkward: {share: 5%, longest: 30}",
		db:     plan.FerryTables,
		text:   "  Pier: {table: piers, rows: 3, fields: {pier_name: {kind: sentence, awkward: 5%}}}\n",
		change: []string{"{kind: sentence, awkward: 5%}", "{kind: locality, awkward: {share: 5%, longest: 30}}"},
	},
	{
		hint:   "profiles: {regular: {share: 70}, lapsed:",
		text:   plain + "    profiles: regular\n",
		change: []string{"profiles: regular", "profiles: {regular: {share: 70}, lapsed: {share: 30}}"},
	},
	{
		hint:   "profiles: {regular: {share: 70}, lapsed:",
		text:   plain + "    profiles: {regular: {fields: {n: 5}}}\n",
		change: []string{"{regular: {", "{regular: {share: 70, "},
	},
	{
		hint:   "write it at n in the entity's fields",
		text:   plain + "    profiles: {regular: {share: 1, fields: {n: {between: 1..3, awkward: 2%}}}}\n",
		change: []string{", awkward: 2%", "", "{between: 1..9}", "{between: 1..9, nulls: 2%}"},
	},
	{
		hint:   "per: {Booking: 0..1}",
		text:   plain + "    profiles: {regular: {share: 1, per: 3}}\n  Booking: {per: {A: 2}, fields: {m: 1}}\n",
		change: []string{"per: 3", "per: {Booking: 0..1}"},
	},
	{
		hint: "let a field of its own differ",
		text: "  A: {rows: 3, shared: {who: {kind: person}}, fields: {n: {from: who.name}}, profiles: {p: {share: 1, " +
			"fields: {who: 5}}}}\n",
		change: []string{"{who: 5}", "{n: x}"},
	},
	{
		hint:   "remove it from the profile: its values differ from row to row anyway",
		text:   "  A: {rows: 3, fields: {n: {kind: sku, unique: true}}, profiles: {p: {share: 1, fields: {n: x}}}}\n",
		change: []string{"fields: {n: x}", "fields: {m: x}"},
	},
}
