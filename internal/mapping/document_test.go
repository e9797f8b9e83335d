package mapping

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/diag"
	"evensprout/internal/draft"
	"evensprout/internal/schema"
)

const harbour = `{"edition": 1, "entities": [
  {"name": "Pier", "table": "piers", "file": "models.py", "line": 7, "fields": [
    {"name": "id", "type": "integer", "key": true},
    {"name": "code", "type": "text", "length": 3, "line": 9}]},
  {"name": "Vessel", "fields": [
    {"name": "id", "type": "integer", "key": true},
    {"name": "homePier", "column": "home_pier_id", "type": "integer", "refers": "Pier"},
    {"name": "deck", "type": "integer", "constants": [1, 2]},
    {"name": "state", "type": "text", "nullable": true, "constants": ["new", "old"]}]}
]}
`

func TestDocumentsAreRead(t *testing.T) {
	list, err := parseDocument("e.json", []byte(harbour))
	require.NoError(t, err)
	require.Len(t, list, 2)
	assert.Equal(t, "models.py:7:1", list[0].Place.String())
	assert.Equal(t, "models.py:9:1", list[0].Fields[1].Place.String())
	assert.Equal(t, "e.json:7:5", list[1].Fields[1].Place.String())
	assert.Equal(t, schema.Text, list[0].Fields[1].Kind)
	assert.Equal(t, []Choice{{Number: 1}, {Number: 2}}, list[1].Fields[2].Choices)
	assert.True(t, list[1].Fields[3].Nullable)

	db := Database(list)
	require.Len(t, db.Tables, 2)
	assert.Equal(t, "vessels", db.Tables[1].Name)
	assert.Equal(t, []string{"id"}, db.Tables[1].PrimaryKey)
	require.Len(t, db.Tables[1].References, 1)
	assert.Same(t, db.Tables[0], db.Tables[1].References[0].To)
	_, told := Hold(list, db)
	assert.Empty(t, told, "entities agree with tables made of them")
}

// Each disagreement is reported, with the place that the document names.
func TestDocumentsAreHeldAgainstTables(t *testing.T) {
	list, err := parseDocument("e.json", []byte(harbour))
	require.NoError(t, err)
	db := Database(list)
	piers, vessels := db.Tables[0], db.Tables[1]
	piers.Columns[1].Length, piers.PrimaryKey = 2, nil
	vessels.References = nil
	vessels.Columns[2].Kind, vessels.Columns[3].Values = schema.Text, []string{"new"}
	vessels.Columns[3].NotNull = true
	matches, told := Hold(list, db)
	var lines []string
	for _, d := range told {
		lines = append(lines, d.String())
	}
	assert.Equal(t, []string{
		"e.json:3:5: Pier.id is a key, and the column piers.id is not in the primary key of its table",
		"models.py:9:1: Pier.code may have 3 characters, and the column piers.code holds 2",
		"e.json:7:5: Vessel.homePier refers to Pier, and the column vessels.home_pier_id has no foreign key to piers",
		"e.json:8:5: Vessel.deck is of type integer, and the column vessels.deck holds text",
		"e.json:9:5: Vessel.state may be null, and the column vessels.state is NOT NULL",
		`e.json:9:5: the constant "old" of Vessel.state is not among the values of the column vessels.state`,
	}, lines)

	piers.PrimaryKey = []string{"id"}
	var o draft.Options
	Name(&o, list, matches)
	require.Contains(t, o.Refers, vessels.Columns[1])
	assert.Equal(t, []string{"id"}, o.Refers[vessels.Columns[1]].Targets)
	d, err := draft.Make(t.Context(), db, o)
	require.NoError(t, err)
	assert.Contains(t, d.Write(o), "homePier: {pick: Pier, column: home_pier_id}")
}

// one is a document of one entity.
func one(entity string) string { return `{"edition": 1, "entities": [` + entity + `]}` }

// wrongDocuments are documents that are refused, and what is said of them.
var wrongDocuments = map[string]string{
	``:      "ends too early",
	`hello`: "1:1: this is not JSON",
	`[]`:    "must be an object",
	`{"entities": [{"name": "A", "fields": [{"name": "b"}]}]}`:               "edition 0",
	`{"edition": 2, "entities": [{"name": "A", "fields": [{"name": "b"}]}]}`: "edition 2",
	`{"edition": 1, "entities": []}`:                                         "no entities",
	one(`{"name": "A", "fields": []}`):                                       "no fields",
	one(`{"name": "", "fields": [{"name": "b"}]}`):                           "no name",
	one(`{"name": "A", "feilds": 1}`):                                        "did you mean fields?",
	one(`{"name": 3, "fields": [{"name": "b"}]}`):                            "name must be a text",
	one(`{"name": "A", "fields": [{"name": "b", "type": "t"}]}`):             "1:54: A.b has a type",
	one(`{"name": "A", "fields": [{"name": "b", "length": -1}]}`):            "got -1",
	one(`{"name": "A", "fields": [{"name": "b", "constants": [1.5]}]}`):      "got 1.5",
	one(`{"name": "A", "fields": [{"name": "b", "nullable": "yes"}]}`):       "true or false",
}

func TestWrongDocumentsAreRefused(t *testing.T) {
	schema := documentSchema(t)
	for text, want := range wrongDocuments {
		_, err := parseDocument("e.json", []byte(text))
		var problems diag.Problems
		require.True(t, errors.As(err, &problems), text)
		assert.Contains(t, problems.Error(), want, text)
		if doc, err := jsonschema.UnmarshalJSON(strings.NewReader(text)); err == nil {
			assert.Error(t, schema.Validate(doc), "the JSON Schema refuses it, too: %s", text)
		}
	}
	for text, want := range map[string]string{ // what no JSON Schema can say
		one(`{"name": "A", "fields": [{"name": "b", "refers": "B"}]}`):             "which is not described",
		one(`{"name": "A", "fields": [{"name": "b"}, {"name": "b"}]}`):             "described twice",
		one(`{"name": "A", "fields": [{"name": "b", "refers": "A.c"}]}`):           "has no field c",
		`{"edition": 1, "entities": [{"name": "A", "fields": [{"name": "b"}]}]} x`: "text after",
	} {
		_, err := parseDocument("e.json", []byte(text))
		assert.ErrorContains(t, err, want, text)
	}
}

// documentSchema is the published JSON Schema.
func documentSchema(t testing.TB) *jsonschema.Schema {
	t.Helper()
	s, err := jsonschema.NewCompiler().Compile("../../docs/entities.schema.json")
	require.NoError(t, err)
	doc, err := jsonschema.UnmarshalJSON(strings.NewReader(harbour))
	require.NoError(t, err)
	require.NoError(t, s.Validate(doc))
	return s
}

func TestDocumentsOfAnySizeAreBounded(t *testing.T) {
	path := filepath.Join(t.TempDir(), "e.json")
	require.NoError(t, os.WriteFile(path, make([]byte, maxDocument+1), 0o600))
	_, err := ReadDocument(path)
	assert.Error(t, err)
}

func FuzzDocument(f *testing.F) {
	f.Add(harbour)
	for text := range wrongDocuments {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		list, err := parseDocument("e.json", []byte(text))
		if err != nil {
			var problems diag.Problems
			require.True(t, errors.As(err, &problems))
			for _, p := range problems {
				assert.Positive(t, p.Line)
				assert.Positive(t, p.Column)
			}
			return
		}
		require.NotEmpty(t, list)
		db := Database(list)
		Hold(list, db)
		_, err = draft.Make(t.Context(), db, draft.Options{})
		require.NoError(t, err)
	})
}
