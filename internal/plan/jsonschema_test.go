package plan

import (
	"bytes"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/demo"
)

// plain is a node as JSON readers see it.
func (n *node) plain() any {
	switch {
	case n.mapping:
		out := map[string]any{}
		for _, x := range n.pairs {
			out[x.key.text] = x.value.plain()
		}
		return out
	case n.list:
		out := []any{}
		for _, x := range n.items {
			out = append(out, x.plain())
		}
		return out
	case n.null || !n.quoted && n.text == "null":
		return nil
	case n.quoted:
		return n.text
	case n.text == "true" || n.text == "false":
		return n.text == "true"
	}
	if x, err := strconv.ParseInt(n.text, 10, 64); err == nil {
		return x
	}
	if x, err := strconv.ParseFloat(n.text, 64); err == nil {
		return x
	}
	return n.text
}

func compileSchema(t *testing.T) *jsonschema.Schema {
	text, err := JSONSchema()
	require.NoError(t, err)
	const file = "../../docs/plan.schema.json"
	if *update {
		require.NoError(t, os.WriteFile(file, append(text, '\n'), 0o644))
	}
	committed, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Equal(t, string(committed), string(text)+"\n", "docs/plan.schema.json is not the program's: make golden")
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(text))
	require.NoError(t, err)
	c := jsonschema.NewCompiler()
	require.NoError(t, c.AddResource("plan.schema.json", doc))
	schema, err := c.Compile("plan.schema.json")
	require.NoError(t, err)
	return schema
}

// Every plan in the repository has the form that the JSON Schema describes.
func TestEveryPlanMeetsTheSchema(t *testing.T) {
	schema := compileSchema(t)
	plans := map[string]string{"demo": demo.Plan}
	golden, err := os.ReadFile("testdata/edition1.yaml")
	require.NoError(t, err)
	plans["golden"] = string(golden)
	drafted, err := os.ReadFile("../draft/testdata/larkwater.yaml")
	require.NoError(t, err)
	plans["draft"] = string(drafted)
	pages, err := filepath.Glob("../../docs/*.md")
	require.NoError(t, err)
	for _, page := range pages {
		text, err := os.ReadFile(page)
		require.NoError(t, err)
		for i, m := range regexp.MustCompile("(?ms)^```yaml\n(name: .*?)^```$").FindAllStringSubmatch(string(text),
			-1) {
			plans[page+strconv.Itoa(i)] = m[1]
		}
	}
	assert.Greater(t, len(plans), 4)
	for name, text := range plans {
		c := &collector{}
		root := parse(c, []byte(text))
		require.NotNil(t, root, name)
		assert.NoError(t, schema.Validate(root.plain()), name)
	}
}

func TestTheSchemaRefusesMistakes(t *testing.T) {
	schema := compileSchema(t)
	for _, swap := range [][2]string{
		{"table: piers", "tabel: piers"}, {"{pick: Pier}", "{pik: Pier}"}, {"{share: 31%}", "{share: 31}"},
		{"rows: 9", "rows: many"},
		{"{before: clock, within: 400d, growth", "{before: clock, within: 400 days, growth"},
		{"{kind: locality}", "{kind: [locality]}"}, {"seed: larkwater-2026", ""},
		{"per: {Passenger: 0..3}", "per: 0..3"}, {"[[pier, weekday, leaves_at]]", "[pier, weekday]"},
		{"    rows: 9\n", "    rows_from: piers.csv\n"}, {"    rows: 9\n", "    rows_from: {file: piers.csv}\n"},
		{"- clear: holiday_timetable", "- clean: holiday_timetable"}, {"together: all", "together: some"},
		{"match: {id: " +
			"Sailing.id}\n        set:", "where: {id: Sailing.id}\n        set:"}, {"{no: refunds,", "{none: refunds,"},
	} {
		require.Contains(t, demo.Plan, swap[0])
		root := parse(&collector{}, []byte(strings.Replace(demo.Plan, swap[0], swap[1], 1)))
		require.NotNil(t, root)
		assert.Error(t, schema.Validate(root.plain()), swap[1])
	}
}
