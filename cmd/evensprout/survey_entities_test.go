package main

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/demo"
)

// The examples of all languages print the same document, and survey reads it. A language that is not installed is left
// out; Python stands for all where the others are missing.
func TestEntitiesOfOtherLanguages(t *testing.T) {
	s, err := jsonschema.NewCompiler().Compile("../../docs/entities.schema.json")
	require.NoError(t, err)
	var first any
	printed := 0
	for _, example := range [][]string{
		{"python3", "entities.py"}, {"node", "entities.mjs"}, {"java", "Entities.java"}, {"ruby", "entities.rb"},
		{"php", "entities.php"},
	} {
		t.Run(example[0], func(t *testing.T) {
			if _, err := exec.LookPath(example[0]); err != nil {
				t.Skip(example[0] + " is not installed")
			}
			c := exec.Command(example[0], example[1])
			c.Dir = must(filepath.Abs("../../docs/examples/entities"))
			out, err := c.Output()
			require.NoError(t, err)
			doc, err := jsonschema.UnmarshalJSON(strings.NewReader(string(out)))
			require.NoError(t, err)
			require.NoError(t, s.Validate(doc))
			if first == nil {
				require.NoError(t, json.Unmarshal(out, &first))
			}
			assert.JSONEq(t, string(must(json.Marshal(first))), string(out))
			printed++

			f := newFolder(t)
			f.makeDB("larkwater.db", demo.Schema)
			f.write("entities.json", string(out))
			r := f.run("survey", "--db", "sqlite:larkwater.db", "--entities", "entities.json", "--out", "a.yaml")
			require.Zero(t, r.code, r.errOut)
			assert.Contains(t, r.errOut, "the column piers.postal_code has no field in Pier")
			assert.Contains(t, f.read("a.yaml"), "homePier:    {pick: Pier, column: home_pier_id}")
			assert.Zero(t, f.run("load", "a.yaml").code)

			r = f.run("survey", "--entities", "entities.json", "--out", "b.yaml")
			require.Zero(t, r.code, r.errOut)
			assert.Contains(t, f.read("b.yaml"), "name: entities\n")
			assert.Zero(t, f.run("preview", "b.yaml").code)
		})
	}
	require.Positive(t, printed)
}

func TestEntitiesAreRefused(t *testing.T) {
	f := newFolder(t)
	f.write("bad.json", `{"edition": 1, "entities": [{"name": "Pier", "feilds": []}]}`)
	require.NoError(t, os.WriteFile(f.file("latin.json"), []byte("{\"edition\": \"\xe9\"}"), 0o600))
	for args, want := range map[string]string{
		"--entities none.json":            "there is no file none.json",
		"--entities bad.json":             "bad.json:1:46: there is no member \"feilds\" here\n",
		"--entities latin.json":           "not UTF-8",
		"--entities bad.json --structs .": "use only one of --structs and --entities",
	} {
		r := f.run(append([]string{"survey", "--out", "a.yaml"}, strings.Fields(args)...)...)
		assert.NotZero(t, r.code, args)
		assert.Contains(t, r.errOut, want, args)
		assert.NoFileExists(t, f.file("a.yaml"))
	}
}
