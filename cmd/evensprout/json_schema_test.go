package main

import (
	"os"
	"slices"
	"strings"
	"sync"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const outputSchema = "../../docs/json.schema.json"

// outputSchemas compiles docs/json.schema.json once. For tests it is strict: a member that it does
// not describe is an error.
var outputSchemas = sync.OnceValues(func() (*jsonschema.Compiler, error) {
	text, err := os.ReadFile(outputSchema)
	if err != nil {
		return nil, err
	}
	doc, err := jsonschema.UnmarshalJSON(strings.NewReader(string(text)))
	if err != nil {
		return nil, err
	}
	makeStrict(doc)
	c := jsonschema.NewCompiler()
	c.AssertFormat()
	return c, c.AddResource("json.schema.json", doc)
})

var compiling sync.Mutex // a compiler serves one test at a time

// schemaOf returns the schema of one command.
func schemaOf(t testing.TB, command string) *jsonschema.Schema {
	t.Helper()
	c, err := outputSchemas()
	require.NoError(t, err)
	compiling.Lock()
	defer compiling.Unlock()
	s, err := c.Compile("json.schema.json#/$defs/" + command)
	require.NoError(t, err, "docs/json.schema.json has no schema of %s", command)
	return s
}

// makeStrict forbids members that are not described.
func makeStrict(x any) {
	switch x := x.(type) {
	case map[string]any:
		if _, ok := x["properties"].(map[string]any); ok {
			x["additionalProperties"] = false
		}
		for _, v := range x {
			makeStrict(v)
		}
	case []any:
		for _, v := range x {
			makeStrict(v)
		}
	}
}

// checkJSON holds the output of every run with --json against docs/json.schema.json.
func checkJSON(t testing.TB, args []string, out string) {
	t.Helper()
	if i := slices.Index(args, "--"); i >= 0 {
		args = args[:i]
	}
	if !slices.Contains(args, "--json") || out == "" || len(args) == 0 {
		return
	}
	if slices.Contains([]string{"plan-schema", "completion", "help"}, args[0]) ||
		slices.Contains(args, "--help") || slices.Contains(args, "--plan") {
		return // no results: a schema, a script, a text, a plan
	}
	doc, err := jsonschema.UnmarshalJSON(strings.NewReader(out))
	require.NoError(t, err, "%v: %s", args, out)
	object, ok := doc.(map[string]any)
	require.True(t, ok, "%v: the output is one object: %s", args, out)
	command := args[0]
	if _, failed := object["error"]; failed {
		command = "failure"
		message, _ := object["error"].(map[string]any)["message"].(string)
		assert.NotContains(t, message, "\n", args)
	}
	assert.NoError(t, schemaOf(t, command).Validate(doc), "%v: %s", args, out)
}
