package plan_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/diag"
	"evensprout/internal/files"
	"evensprout/internal/plan"
)

// compileBeside compiles a plan that stands in a folder with these files.
func compileBeside(t *testing.T, entities string, beside map[string]string) (*plan.Compiled, diag.Problems) {
	t.Helper()
	folder := t.TempDir()
	for name, text := range beside {
		require.NoError(t, os.WriteFile(filepath.Join(folder, name), []byte(text), 0o600))
	}
	p, err := plan.Read(
		filepath.Join(folder, "plan.yaml"),
		[]byte("name: test\nseed: s\nclock: 2026-05-01T08:00:00Z\nentities:\n"+entities),
	)
	require.NoError(t, err)
	c, err := p.Compile(plan.Options{Rows: files.Rows})
	if err != nil {
		return nil, err.(diag.Problems)
	}
	t.Cleanup(func() { assert.NoError(t, c.Close()) })
	return c, c.Warnings
}

const (
	sailings = "  Sailing:\n    given: [[seats, code], [40, S-1], [60, S-2], [80, S-2]]\n"
	prices   = "Code,Sailing,Amount\nDECK,S-1,4.50\nCABIN,S-1,19\n"
)

// Whatever is wrong with rows_from is told once, at its place in the plan.
func TestProblemsOfRowsFromFiles(t *testing.T) {
	price := func(rowsFrom string) string { return sailings + "  Price:\n    rows_from: " + rowsFrom + "\n" }
	for _, c := range []struct{ rowsFrom, place, message, hint string }{
		{"{columns: {code: Code}}", "8:16", "names no file", "rows_from: {file: prices.csv"},
		{"{file: '', columns: {code: Code}}", "8:23", "file must be a text,", ""},
		{"", "8:5", "mapping, got nothing", "rows_from: {file: prices.csv, columns:"},
		{"prices.csv", "8:16", `"prices.csv"`, "rows_from: {file: prices.csv, columns:"},
		{"[prices.csv]", "8:16", "mapping, got a list", "rows_from: {file: prices.csv, columns:"},
		{"{file: prices.csv}", "8:16", "has no columns", "columns: {code: Code}"},
		{"{file: prices.csv, columns: {}}", "8:16", "has no columns", "columns: {code: Code}"},
		{"{file: prices.csv, columns: Code}", "8:44", "columns must be a mapping of fields to columns", "find: " +
			"Sailing.code"},
		{"{file: prices.csv, duplicates: last, columns: {code: Code}}", "8:16", "duplicates needs a key",
			"key: [code]"},
		{"{file: prices.csv, duplicates: most, key: code, columns: {code: Code}}", "8:47", "first or last", ""},
		{"{file: prices.csv, key: cod, columns: {code: Code}}", "8:16", "the key cod is not a column", `did you mean ` +
			`"code"?`},
		{"{file: prices.csv, columns: {code: Cod}}", "1:1", "the file has no column Cod", `did you mean "Code"?`},
		{"{file: prices.csv, colums: {code: Code}}", "8:35", "colums", `did you mean "columns"?`},
		{"{file: prices.csv, columns: {amount: {column: Amount, as: decimel}}}", "8:74", "is not a type of a column",
			`did you ` +
				`mean "decimal"?`},
		{"{file: prices.csv, columns: {sailing: {column: Sailing, find: code}}}", "8:78", "an entity and its field",
			"find: " +
				"Sailing.code"},
		{"{file: prices.csv, columns: {sailing: {column: Sailing, find: Saling.code}}}", "8:45", "which is not " +
			"an entity", `did you mean "Sailing"?`},
		{"{file: prices.csv, columns: {sailing: {column: Sailing, find: Sailing.cod}}}", "8:45", "Sailing has no " +
			"field cod", `did you mean "code"?`},
		{"{file: price.csv, columns: {code: Code}}", "8:23", "price.csv", ""},
	} {
		t.Run(c.rowsFrom, func(t *testing.T) {
			compiled, problems := compileBeside(t, price(c.rowsFrom), map[string]string{"prices.csv": prices})
			require.Nil(t, compiled)
			require.Len(t, problems, 1, problems.Error())
			p := problems[0]
			assert.Contains(t, p.Message, c.message)
			assert.Contains(t, p.Hint, c.hint)
			assert.Equal(t, c.place, fmt.Sprintf("%d:%d", p.Line, p.Column), p.String())
		})
	}
}

// Rows that find nothing, or more than one row, are told at their lines of the file;
// a file full of them does not flood the screen.
func TestRowsThatFindNothing(t *testing.T) {
	const entities = sailings + "  Price:\n    rows_from: {file: prices.csv, columns: {code: Code, sailing: " +
		"{column: Sailing, find: Sailing.code}}}\n"
	c, problems := compileBeside(
		t,
		entities,
		map[string]string{"prices.csv": prices + "BIKE,S-9,2\nDOG,S-2,1\nCAR,,30\n"},
	)
	require.Nil(t, c)
	require.Len(t, problems, 2, problems.Error())
	for i, want := range []string{`no Sailing has the code "S-9"`, `more than one Sailing has the code "S-2"`} {
		assert.Contains(t, problems[i].Message, want)
		assert.Equal(t, "prices.csv", filepath.Base(problems[i].File))
		assert.Equal(t, 4+i, problems[i].Line)
		assert.Contains(t, problems[i].Hint, "exactly one Sailing by its code")
	}

	_, problems = compileBeside(
		t,
		entities,
		map[string]string{"prices.csv": prices + strings.Repeat("BIKE,S-9,2\n", 300)},
	)
	require.Len(t, problems, 21)
	assert.Contains(t, problems.Error(), "and more rows of Price that find no")
}

// Fields of a wrong rows_from may be named elsewhere: that is not a second mistake.
func TestAWrongFileIsOneProblem(t *testing.T) {
	for _, rowsFrom := range []string{
		"{file: none.csv, columns: {code: Code}}",
		"{file: prices.csv, key: cod, columns: {code: Code}}",
	} {
		_, problems := compileBeside(
			t,
			"  Price:\n    rows_from: "+rowsFrom+"\n    fields:\n      label: {text: \"{code|lower}\"}\n",
			map[string]string{"prices.csv": prices},
		)
		assert.Len(t, problems, 1, problems.Error())
	}
}
