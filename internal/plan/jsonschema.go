package plan

import (
	"encoding/json"
	"strconv"

	"evensprout/internal/cell"
	"evensprout/internal/cover"
	"evensprout/internal/grow"
	"evensprout/internal/passhash"
	"evensprout/internal/value"
	"evensprout/internal/words"
)

// JSONSchema is the form of plan files as a JSON Schema (draft 2020-12), for editors.
// It knows the words and where they stand; names are only looked up by Compile.
func JSONSchema() ([]byte, error) {
	type m = map[string]any
	ref := func(name string) m { return m{"$ref": "#/$defs/" + name} }
	text := m{"type": "string", "minLength": 1}
	list := func(items any) m { return m{"type": "array", "items": items} }
	says := func(what string, of m) m {
		out := m{"description": what}
		for k, v := range of {
			out[k] = v
		}
		return out
	}
	mapOf := func(values any) m { return m{"type": "object", "additionalProperties": values} }
	object := func(properties m, required ...string) m {
		out := m{"type": "object", "properties": properties, "additionalProperties": false}
		if len(required) > 0 {
			out["required"] = required
		}
		return out
	}
	whatever := m{}

	var names []string
	for _, k := range grow.Kinds() {
		names = append(names, k.Name)
	}
	var editions []any // their names, as texts and as numbers
	for _, e := range grow.Editions() {
		if n, err := strconv.Atoi(e.Name); err == nil {
			editions = append(editions, n)
		}
		editions = append(editions, e.Name)
	}
	either := m{"anyOf": []any{ref("literal"), ref("source")}}
	sourceWords := m{
		"value": says("the literal, beside modifiers", ref("literal")),
		"count": says(
			"numbers in order: from a number on, or from, step and restart",
			m{
				"anyOf": []any{
					m{"type": "integer"},
					m{"type": "null"},
					object(
						m{
							"from":    m{"type": "integer"},
							"step":    m{"type": "integer"},
							"restart": m{"type": "boolean"},
						},
					),
				},
			},
		),
		"between": says(
			"a value from one end to the other, both included",
			m{
				"anyOf": []any{
					m{"type": "string", "pattern": `^.+\.\..+$`},
					m{"type": "array", "items": ref("literal"), "minItems": 2, "maxItems": 2},
				},
			},
		),
		"before": says("a moment before the clock, a field or a moment", text),
		"after":  says("a moment after the clock, a field or a moment", text),
		"choose": says(
			"one of several values, evenly or by weight",
			m{"anyOf": []any{list(ref("literal")), mapOf(m{"type": []string{"integer", "string"}})}},
		),
		"case": says("values by condition in SQL", mapOf(either)),
		"lookup": says("values by the value of another field", m{
			"type": "object", "maxProperties": 1, "additionalProperties": mapOf(either),
		}),
		"login":   says("the hash of a password, with which the application lets its user in", text),
		"share":   says("true in that share of rows", ref("percent")),
		"pattern": says("text that a regular expression describes", text),
		"kind": says(
			"a kind of value, as catalog lists them, or one of the plan's own",
			m{"anyOf": []any{m{"enum": names}, text}},
		),
		"text": says("text with fields in braces, and filters", text),
		"derive": says(
			"an expression in CEL over other fields",
			m{"type": []string{"string", "number", "boolean"}},
		),
		"same": says("the value of another field", text),
		"from": says("a draw, or a part of one", text),
		"pick": says("a reference to some row of an entity", text),
		"tree": says(
			"a reference to the same entity that makes trees",
			object(
				m{
					"depth": m{"type": "integer", "minimum": 1},
					"fan":   ref("range"),
					"root":  m{"enum": []any{"self", nil}},
				},
				"depth",
			),
		),
		"sum":      says("the sum of a field of the rows below", text),
		"count_of": says("how many rows there are below", text),
		"min_of":   says("the least of a field of the rows below", text),
		"max_of":   says("the largest of a field of the rows below", text),
		"running":  says("the total of a field up to this row, within its parent", text),
		"uuid":     says("a UUID", m{"enum": []any{"v4", "v7", nil}}),
		"json":     says("a JSON object or list with sources in it", whatever),
		"list":     says("a JSON list", object(m{"of": whatever, "count": ref("range")}, "of")),
		"bytes":    says("random bytes of a length", ref("range")),
		"file": says(
			"the name of a placeholder file that the load makes",
			object(
				m{
					"folder": text,
					"as":     m{"enum": []string{"png", "txt"}},
					"size":   m{"type": "string", "pattern": "^[0-9]{1,4}x[0-9]{1,4}$"},
					"bytes":  ref("range"),
				},
				"folder",
				"as",
			),
		),
	}
	properties := m{
		"step":   says("distance between the values of a range", m{"type": []string{"number", "string"}}),
		"digits": says("digits of a second", m{"type": "integer", "minimum": 0, "maximum": 6}),
		"within": says(
			"a span such as 90d, 4h, 13mo",
			m{"type": "string", "pattern": `^([0-9]+(us|ms|s|m|h|d|w|mo|y))+(\.\.([0-9]+(us|ms|s|m|h|d|w|mo|y))+)?$`},
		),
		"scale": says(
			"decimal places of a derived decimal",
			m{"type": "integer", "minimum": 0, "maximum": value.MaxScale},
		),
		"by":       says("the field of the picked row that is kept, instead of its key", text),
		"distinct": says("different rows for the children of one parent", m{"type": "boolean"}),
		"where":    says("conditions on the picked row", ref("condition")),
		"one":      says("exactly one row must meet the conditions", m{"type": "boolean"}),
		"skew": says("a share of the rows gets a share of the picks; or zipf: each rank is rarer than the one before",
			m{"anyOf": []any{
				m{"const": "zipf"},
				object(m{"zipf": says("the exponent", m{"type": "number"})}, "zipf"),
				object(m{"top": ref("percent"), "get": ref("percent")}, "top", "get"),
			}}),
		"start":  says("the total before the first row", text),
		"nulls":  says("share of rows that are NULL", ref("percent")),
		"as":     says("of login: how the password is hashed", m{"enum": passhash.Names()}),
		"cost":   says("of login: how slow the hash is", m{"type": "integer", "minimum": 1}),
		"salt":   says("of login: each row has a salt of its own", m{"enum": []string{"shared", "each"}}),
		"else":   says("of case and lookup: the value of all other rows", either),
		"unique": says("no two rows have the same value", m{"type": "boolean"}),
		"shape": says("how numbers are distributed, such as normal, or {lognormal: {median: 40, p95: 200}}", m{
			"anyOf": []any{m{"enum": grow.ShapeNames()}, m{"type": "object", "maxProperties": 1}},
		}),
		"hours":    says("hours of the day of moments, such as 9-17", text),
		"weekdays": says("days of the week, such as mon-fri, or weights by day", whatever),
		"rush": says(
			"hours at which moments crowd",
			m{"anyOf": []any{m{"type": "integer"}, list(m{"type": "integer"})}},
		),
		"season": says("weights of months, such as {dec: 3}", mapOf(m{"type": "number"})),
		"growth": says("by how much moments become more frequent, such as 3% a month", text),
		"column": says("the column that the field is for", text),
		"was":    says("the field's name before", text),
		"spread": says("free: independent draws", m{"enum": []string{"even", "free"}}),
		"if":     says("conditions, without which the field is NULL", ref("condition")),
	}
	properties["locale"], properties["awkward"] = ref("locale"), ref("awkward")
	properties["about"] = says("what a text is about", m{"enum": grow.Subjects})
	for _, k := range grow.Kinds() {
		for _, p := range k.Params {
			properties[p] = says("a parameter of the kind", ref("range"))
		}
	}
	var one []any
	for _, word := range keysOf(sources) {
		properties[word] = sourceWords[word]
		one = append(one, m{"required": []string{word}})
	}
	fieldNames := m{"anyOf": []any{text, list(text)}}
	write := object(m{
		"mode":    says("insert new rows; keep, upsert or update existing rows; replace all", m{"enum": modes}),
		"match":   says("fields that identify existing rows: a unique key", fieldNames),
		"set":     says("fields that upsert and update change; else all others", fieldNames),
		"stamp":   says("fields changed only together with another", fieldNames),
		"cascade": says("replace also removes rows elsewhere that refer to removed ones", m{"type": "boolean"}),
	}, "mode")
	byKind := m{}
	for _, kind := range violationKinds {
		byKind[kind] = m{"enum": policies}
	}
	rows := func(more m) m {
		common := m{
			"per": says(
				"so many for each row of a parent",
				m{
					"type":                 "object",
					"properties":           m{"via": text, "given": m{"enum": []string{"beside", "instead"}}},
					"additionalProperties": ref("children"),
				},
			),
			"profiles": says("groups of rows, by share", mapOf(object(m{
				"share":  says("of the rows, by weight", m{"type": []string{"integer", "string"}}),
				"fields": says("what is otherwise than in the other rows", mapOf(ref("field"))),
				"per":    says("how many rows there are below, by their entity", mapOf(ref("children"))),
			}, "share"))),
			"shared": says("generated once, used by several fields, not stored", mapOf(ref("source"))),
			"fields": says(
				"how each field gets its value",
				m{"anyOf": []any{m{"type": "null"}, mapOf(ref("field"))}},
			),
			"unique": says(
				"groups of fields whose values together differ",
				list(m{"type": "array", "items": text, "minItems": 2}),
			),
			"meets": says(
				"conditions in SQL over the fields, which every row meets: rows are drawn until they do",
				m{"anyOf": []any{text, list(text)}},
			),
			"given": says("rows written by hand", ref("given")),

			"rows_from":    ref("rows_from"),
			"on_violation": ref("on_violation"),
		}
		for k, v := range common {
			more[k] = v
		}
		return more
	}
	operands := m{"type": "object", "minProperties": 1, "additionalProperties": ref("operand")}
	var steps []any
	for _, word := range stepWords {
		properties := m{
			"as":       says("what later steps call its row", text),
			"match":    says("which rows: columns and values", operands),
			"set":      says("columns and what they are set to", operands),
			"first":    says("what a new row holds instead of that", operands),
			"because":  says("the message if it does not hold", text),
			"expect":   says("how many rows it must touch", m{"anyOf": []any{ref("range"), m{"const": "any"}}}),
			"steps":    says("what is done with each element", m{"type": "array", "minItems": 1, "items": ref("step")}),
			"numbered": says("what its steps call the element's number, from 1", text),
		}
		step := m{word: says("the entity or table", text)}
		if word == string(StepRequire) {
			step[word] = says(
				"a condition over the occasion and rows of earlier steps, or one in SQL",
				m{"anyOf": []any{text, object(m{"sql": text}, "sql")}},
			)
		}
		if word == string(StepFor) {
			step[word] = says(
				"an element and its list, a field of the occasion or a part of one: person in people",
				m{"type": "string", "pattern": `^\S+\s+in\s+\S+$`},
			)
		}
		for _, k := range stepKeys[StepWord(word)] {
			step[k] = properties[k]
		}
		steps = append(steps, object(step, word))
	}

	source := object(properties)
	source["anyOf"] = one
	schema := object(m{
		"name":     says("the plan's name", text),
		"edition":  says("of the rows: newer programs still generate the same ones", m{"enum": editions}),
		"seed":     says("any text; another seed generates other rows", m{"type": []string{"string", "number"}}),
		"clock":    says("the plan's current time", text),
		"database": says("URL; a relative path starts at the plan", text),
		"when":     ref("when"),
		"locale":   ref("locale"),
		"awkward":  ref("awkward"),
		"ignore": says("columns of all tables that applications keep: whether they were changed does not count",
			m{"anyOf": []any{text, list(text)}}),
		"schemas": says(
			"fill each of these schemas, with other rows in each",
			list(text),
		),
		"builds_on": says(
			"plans whose rows are there before, and can be referred to",
			m{"anyOf": []any{text, list(text)}},
		),
		"kinds": says("kinds of values of the plan's own, from lists beside it", mapOf(object(m{
			"file": says(
				"CSV, TSV, NDJSON, JSON, XLSX or Parquet, whose columns are parts; or .txt, a value a line",
				text,
			),
			"weight": says("the column of the weights", text),
		}, "file"))),
		"once":   says("true: a database that this plan filled is never filled again", m{"type": "boolean"}),
		"commit": says("what is committed together", m{"enum": commits}),

		"on_violation": ref("on_violation"),
		"entities":     m{"type": "object", "minProperties": 1, "additionalProperties": ref("entity")},
		"units": says(
			"dependent writes that succeed or fail together, once for each occasion",
			mapOf(ref("unit")),
		),
		"variants": says("named ways to use the plan", mapOf(object(m{
			"scale": says("a factor of all numbers of rows, such as 10 or 5%",
				m{"type": []string{"number", "string"}}),
			"clock":    says("another current time; today: the day on which the plan is used", text),
			"seed":     says("another seed", m{"type": []string{"string", "number"}}),
			"only":     says("these entities, with all that they need", m{"anyOf": []any{text, list(text)}}),
			"locale":   ref("locale"),
			"entities": says("keys of entities in place of the plan's", mapOf(m{"type": "object"})),
		}))),
		"use": says("how the plan is used; --variant, --scale, --rows, --only and --seed say the same", object(m{
			"variant": text, "scale": m{"type": []string{"number", "string"}},
			"seed": m{"type": []string{"string", "number"}}, "rows": mapOf(m{"type": "integer", "minimum": 0}),
			"only": m{"anyOf": []any{text, list(text)}}, "schemas": list(text), "today": text,
		})),
		"always": says("conditions that must hold over the data after every load", mapOf(ref("invariant"))),
	}, "name", "seed", "clock")
	schema["anyOf"] = []any{m{"required": []string{"entities"}}, m{"required": []string{"units"}}}
	schema["$schema"] = "https://json-schema.org/draft/2020-12/schema"
	schema["title"] = "Even Sprout plan, edition 1"
	schema["$defs"] = m{
		"locale": says("language and country of names, addresses and texts; or several, by weight", m{
			"anyOf": []any{
				m{"enum": words.Locales()},
				m{"type": "object", "propertyNames": m{"enum": words.Locales()}, "additionalProperties": m{
					"type": []string{"integer", "string"}}},
			},
		}),
		"literal": m{"type": []string{"string", "number", "boolean", "null"}},
		"percent": m{"type": "string", "pattern": `^[0-9]+(\.[0-9]+)?%$`},
		"range": m{
			"anyOf": []any{
				m{"type": "integer", "minimum": 0},
				m{"type": "string", "pattern": `^[0-9]+\.\.[0-9]+$`},
			},
		},
		"on_violation": says(
			"what to do about refused rows, by kind of violation; what is not named stops",
			object(byKind),
		),
		"when": says("leave tables alone that have rows", m{"const": "empty"}),
		"condition": m{"anyOf": []any{text, mapOf(m{"anyOf": []any{
			ref(
				"literal",
			), list(ref("literal")), m{"type": "object", "minProperties": 1, "maxProperties": 1,
				"properties": m{"not": whatever, "same": text}, "additionalProperties": false},
		}})}},
		"field": m{"anyOf": []any{ref("literal"), source}},
		"given": m{
			"anyOf": []any{
				m{"type": "null"},
				mapOf(
					m{
						"anyOf": []any{
							m{"type": "null"},
							mapOf(m{"anyOf": []any{ref("literal"), m{"type": "object"}}}),
						},
					},
				),
				list(list(ref("literal"))),
			},
		},
		"source": source,
		"rows_from": says("rows of a file", object(m{
			"file": says(
				"CSV, TSV, NDJSON, JSON, XLSX or Parquet; a relative path starts at the plan; of a unit also -, "+
					"standard input",
				text,
			), "separator": says("of CSV: one character, or tab", text),
			"sheet": says(
				"of XLSX, with a range behind it: Stock!B3:F; else the first",
				text,
			),
			"encoding": says("of text; else UTF-8", text),
			"inside":   says("of JSON: the lists that hold the rows, from the outer one, such as Order.Line", text),
			"decimal":  says("how numbers are written, with groups of three digits", m{"enum": cell.Decimals}),
			"dates":    says("how dates are written: day, month, year", m{"enum": cell.DateForms}),
			"key":      says("fields that tell a row", m{"anyOf": []any{text, list(text)}}),
			"group_by": says(
				"fields in which rows agree that are one occasion, with a list of them",
				m{"anyOf": []any{text, list(text)}},
			),
			"list":       says("what the list of the rows of a group is called: lines unless said otherwise", text),
			"duplicates": says("which of several rows with one key counts", m{"enum": []string{"first", "last"}}),
			"manifest":   says("of the export that wrote the file: it knows the identities of the rows", text),
			"columns": says("fields to columns of the file; same: all that the table has", m{"anyOf": []any{
				m{"const": "same"}, mapOf(m{"anyOf": []any{text, object(m{
					"column": text, "into": says("the column of the table; else found by the field's name", text),
					"hidden": says("a key that "+
						"is no part of the fingerprint", m{"type": "boolean"}),
					"as": says("the type of its cells", m{"enum": keysOf(rowTypes)}), "find": says("Entity.field "+
						"whose value the cell holds, or an entity and several of its fields with their columns",
						m{"anyOf": []any{m{"type": "string", "pattern": `^[^.]+\.[^.]+$`},
							m{"type": "object", "minProperties": 1, "maxProperties": 1,
								"additionalProperties": mapOf(text)}}}),
				})}})}}),
		}, "file", "columns")),
		"operand": says(
			"in quotes a text; else a number, a date, true, false or null, or an expression over the occasion, "+
				"rows of earlier steps and the row itself",
			m{
				"anyOf": []any{
					ref("literal"),
					object(m{"derive": text}, "derive"),
					object(m{"value": ref("literal")}, "value"),
				},
			},
		),
		"invariant": m{
			"anyOf": []any{
				text,
				object(m{"no": text, "where": text}, "no", "where"),
				object(m{"sql": text}, "sql"),
			},
		},
		"step": m{"anyOf": steps},
		"unit": object(rows(m{
			"rows": says(
				"how many occasions to generate",
				m{"type": "integer", "minimum": 0, "maximum": uint64(maxRows)},
			),
			"after": says("entities and units that go before it", fieldNames),
			"together": says(
				"how many occasions are in one transaction: 1 unless said otherwise",
				m{"anyOf": []any{m{"type": "integer", "minimum": 1, "maximum": maxTogether}, m{"const": "all"}}},
			),
			"isolation": says("of its transactions", m{"enum": isolations}),
			"steps": says(
				"what is done, in order",
				m{"type": "array", "minItems": 1, "items": ref("step")},
			),
		}), "steps"),
		"entity": object(rows(m{
			"table": says("the table that takes the rows", text),
			"rows": says(
				"how many to generate; existing: use the rows of the table; covering: the fewest in which every "+
					"pair of choices meets",
				m{
					"anyOf": []any{
						m{"type": "integer", "minimum": 0, "maximum": uint64(maxRows)},
						m{"enum": []string{"existing", "covering"}},
						object(
							m{
								"covering": says(
									"how many fields' choices meet",
									m{"enum": []int{pairs, cover.MaxStrength}},
								),
							},
							"covering",
						),
					},
				},
			),
			"write": says(
				"how rows are written: insert unless said otherwise",
				m{"anyOf": []any{m{"enum": modes}, write}},
			),
			"ignore": says("columns that applications or the database keep: whether they were changed does not count",
				m{"anyOf": []any{text, list(text)}}),
			"label": says("how people call a row, with fields in braces: {given_name} {family_name}", text),
			"keys":  says("planned, or given by the database", m{"enum": []string{"planned", "database"}}),

			"when":    ref("when"),
			"locale":  ref("locale"),
			"awkward": ref("awkward"),
		})),
		"awkward": says("a share of awkward values, which break weak applications", m{"anyOf": []any{ref("percent"),
			object(m{
				"share":   ref("percent"),
				"longest": says("characters of a text", m{"type": "integer", "minimum": 1, "maximum": maxAwkwardText}),
			}, "share")}}),
		"children": m{"anyOf": []any{
			ref("range"),
			says(
				"numbers and ranges, by weight",
				m{"type": "object", "additionalProperties": m{"type": []string{"integer",
					"string"}}, "propertyNames": m{"pattern": `^[0-9]`}},
			),
			says("a range with a shape", object(m{"between": ref("range"), "shape": whatever}, "between", "shape")),
		}},
	}
	return json.MarshalIndent(schema, "", "  ")
}
