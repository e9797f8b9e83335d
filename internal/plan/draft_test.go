package plan

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/schema"
)

func TestSourcesOfADraft(t *testing.T) {
	table := &schema.Table{Name: "things", Checks: []schema.Check{
		{Expression: "status IN ('on', 'off', 'yes')"}, {Expression: "level BETWEEN 3 AND 7"}, {Expression: "score >= 0 AND score < 50"},
		{Expression: "weight > 200"}, {Expression: "grade in (1,2,3)"},
	}}
	for _, c := range []struct {
		column schema.Column
		want   string
	}{
		{schema.Column{Name: "status", Kind: schema.Text}, `{choose: ["on", "off", "yes"]}`},
		{schema.Column{Name: "grade", Kind: schema.Integer}, "{choose: [1, 2, 3]}"},
		{schema.Column{Name: "level", Kind: schema.Integer}, "{between: [3, 7]}"},
		{schema.Column{Name: "score", Kind: schema.Integer}, "{between: [1, 49]}"},
		{schema.Column{Name: "weight", Kind: schema.Integer}, "{between: [201, 300]}"},
		{schema.Column{Name: "n", Kind: schema.Integer}, "{between: [1, 100]}"},
		{schema.Column{Name: "price", Kind: schema.Decimal, Precision: 4, Scale: 2}, "{between: [1.00, 99.00]}"},
		{schema.Column{Name: "price", Kind: schema.Decimal}, "{between: [1.00, 100.00]}"},
		{schema.Column{Name: "whole", Kind: schema.Decimal, Precision: 6}, "{between: [1, 100]}"},
		{schema.Column{Name: "Email", Kind: schema.Text, Length: 80}, "{kind: email}"},
		{schema.Column{Name: "work_email", Kind: schema.Text}, "{kind: email}"},
		{schema.Column{Name: "firstName", Kind: schema.Text}, "{kind: given-name}"},
		{schema.Column{Name: "email", Kind: schema.Text, Length: 10}, "{kind: noun}"},
		{schema.Column{Name: "x", Kind: schema.Text, Length: 12}, "{kind: noun}"},
		{schema.Column{Name: "x", Kind: schema.Text, Length: 2}, `{pattern: "[A-Z]{2}"}`},
		{schema.Column{Name: "description", Kind: schema.Text}, "{kind: text.paragraph}"},
		{schema.Column{Name: "description", Kind: schema.Text, Length: 200}, "{kind: text.title}"},
		{schema.Column{Name: "device_uuid", Kind: schema.Text}, "{uuid: v4}"},
		{schema.Column{Name: "key", Kind: schema.UUID}, "{uuid: v4}"},
		{schema.Column{Name: "birth_date", Kind: schema.Date}, "{between: [1950-01-01, 2008-12-31]}"},
		{schema.Column{Name: "at", Kind: schema.Time}, "{between: [06:00, 21:45], step: 15m}"},
		{schema.Column{Name: "seen", Kind: schema.Timestamp}, "{before: clock, within: 400d}"},
		{schema.Column{Name: "open", Kind: schema.Boolean}, "{share: 50%}"},
		{schema.Column{Name: "meta", Kind: schema.JSON}, `{value: "{}"}`},
	} {
		assert.Equal(t, c.want, draftSource(table, &c.column), c.column.Name)
	}
}

// A draft of unique columns, of whatever type and width, grows different values that fit.
func TestUniqueColumnsOfADraft(t *testing.T) {
	table := &schema.Table{Name: "things", PrimaryKey: []string{"id"}, Columns: []*schema.Column{{Name: "id", Declared: "INTEGER", Kind: schema.Integer, NotNull: true, Default: true}},
		Checks: []schema.Check{{Expression: "mode IN ('on', 'off')"}}}
	for want, c := range map[string]schema.Column{
		"{kind: email, unique: true}":                 {Name: "email", Kind: schema.Text, Length: 80},
		`{pattern: "[A-Z]{3}", unique: true}`:         {Name: "short", Kind: schema.Text, Length: 3},
		`{pattern: "[A-Z]{4}[0-9]{4}", unique: true}`: {Name: "first_name", Kind: schema.Text, Length: 40},
		"{uuid: v4}":                                         {Name: "token_uuid", Kind: schema.Text},
		"{count: 1}":                                         {Name: "number", Kind: schema.Integer},
		"{between: [1, 999], unique: true}":                  {Name: "mass", Kind: schema.Decimal, Precision: 5, Scale: 2},
		"{between: [1, 999999999], unique: true}":            {Name: "reach", Kind: schema.Real},
		"{before: clock, within: 400d, unique: true}":        {Name: "seen", Kind: schema.Timestamp},
		`{choose: ["on", "off"], unique: true}`:              {Name: "mode", Kind: schema.Text},
		"{between: [06:00, 21:45], step: 15m, unique: true}": {Name: "opens", Kind: schema.Time},
	} {
		assert.Equal(t, want, uniqueSource(&c, draftSource(table, &c)), c.Name)
		c.NotNull = true
		table.Columns = append(table.Columns, &c)
		table.Uniques = append(table.Uniques, schema.Unique{Name: "u_" + c.Name, Columns: []string{c.Name}})
	}
	db := &schema.Database{Tables: []*schema.Table{table}}
	p, err := Read("things.yaml", []byte(Draft(db, "things", "")))
	require.NoError(t, err)
	c, err := p.Compile(Options{Database: db})
	require.NoError(t, err)
	rows := rowsOf(t, c, "Thing")
	require.NotEmpty(t, rows)
	for _, col := range table.Columns[1:] {
		assert.Len(t, count(rows, col.Name), len(rows), col.Name)
	}
}

// lake is tables of every relation.
func lake() *schema.Database {
	id := func() *schema.Column {
		return &schema.Column{Name: "id", Declared: "INTEGER", Kind: schema.Integer, NotNull: true, Default: true}
	}
	ref := func(name string, notNull bool) *schema.Column {
		return &schema.Column{Name: name, Declared: "INTEGER", Kind: schema.Integer, NotNull: notNull}
	}
	text := func(name string) *schema.Column {
		return &schema.Column{Name: name, Declared: "TEXT", Kind: schema.Text, NotNull: true}
	}
	to := func(table string, cascade bool, columns ...string) schema.Reference {
		return schema.Reference{Columns: columns, Table: table, Targets: []string{"id"}, Cascade: cascade}
	}
	return &schema.Database{Tables: []*schema.Table{
		{Name: "piers", PrimaryKey: []string{"id"}, Columns: []*schema.Column{id(), text("name")}},
		{Name: "boats", PrimaryKey: []string{"id"}, Columns: []*schema.Column{id(), ref("pier_id", true), ref("twin_id", false)},
			References: []schema.Reference{to("piers", true, "pier_id"), to("boats", false, "twin_id")}},
		{Name: "tags", PrimaryKey: []string{"id"}, Columns: []*schema.Column{id(), text("label")}, Uniques: []schema.Unique{{Name: "u", Columns: []string{"label"}}}},
		{Name: "boat_tags", PrimaryKey: []string{"boat_id", "tag_id"}, Columns: []*schema.Column{ref("boat_id", true), ref("tag_id", true)},
			References: []schema.Reference{to("boats", false, "boat_id"), to("tags", false, "tag_id")}},
		{Name: "berths", PrimaryKey: []string{"id"}, Columns: []*schema.Column{id(), ref("boat_id", true), ref("number", true)},
			References: []schema.Reference{to("boats", true, "boat_id")}, Uniques: []schema.Unique{{Name: "b", Columns: []string{"boat_id", "number"}}}},
		{Name: "trips", PrimaryKey: []string{"id"}, Columns: []*schema.Column{id(), ref("from_id", true), ref("to_id", true), ref("day", true)},
			References: []schema.Reference{to("piers", false, "from_id"), to("piers", false, "to_id")}, Uniques: []schema.Unique{{Name: "t", Columns: []string{"from_id", "to_id", "day"}}}},
		{Name: "licences", PrimaryKey: []string{"id"}, Columns: []*schema.Column{id(), ref("boat_id", true)},
			References: []schema.Reference{to("boats", false, "boat_id")}, Uniques: []schema.Unique{{Name: "l", Columns: []string{"boat_id"}}}},
	}}
}

func TestRelationsOfADraft(t *testing.T) {
	text := Draft(lake(), "lake", "sqlite:lake.db")
	for _, want := range []string{
		"  Boat:\n    table: boats\n    per: {Pier: 1..3}\n",
		"twin_id: {pick: Boat, nulls: 10%}",
		"  BoatTag:\n    table: boat_tags\n    per: {Boat: 2}\n    fields:\n      tag_id: {pick: Tag, distinct: true}",
		"  Berth:\n    table: berths\n    per: {Boat: 1..3}\n    fields:\n      number: {count: {from: 1, restart: true}}",
		"    unique: [[from_id, to_id, day]]\n",
		"boat_id: {pick: Boat, unique: true}",
		"label: {kind: text.title, unique: true}",
		"database: sqlite:lake.db",
	} {
		assert.Contains(t, text, want)
	}
	p, err := Read("lake.yaml", []byte(text))
	require.NoError(t, err)
	c, err := p.Compile(Options{Database: lake()})
	require.NoError(t, err, text)
	assert.Empty(t, c.Warnings)
	for _, r := range rowsOf(t, c, "BoatTag") {
		assert.True(t, strings.HasPrefix(r["tag_id"], "Tag row"))
	}
}

func TestQuoting(t *testing.T) {
	for in, want := range map[string]string{
		"plain": "plain", "two words": "two words", "yes": `"yes"`, "null": `"null"`, "12": `"12"`, "a: b": `"a: b"`, "uuid": `"uuid"`, "": `""`, "x#y": `"x#y"`,
		"größe": "größe", "sqlite:a.db": "sqlite:a.db", "sqlite:a b.db": `"sqlite:a b.db"`,
	} {
		assert.Equal(t, want, quote(in))
	}
}
