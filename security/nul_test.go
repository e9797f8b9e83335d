//go:build unix

package security_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// One row ends a script's line at a NUL character, and another one holds what the client would run then.
const nulPlan = `name: nul
seed: s
clock: 2026-05-01T08:00:00Z
entities:
  Port:
    table: ports
    given:
      a: {label: "a\0b"}
      b: {label: "'); DROP TABLE visits; --"}
`

// No file and no script is written that its readers cut off or read otherwise.
func TestNULIsNotExported(t *testing.T) {
	on(t, "", func(t *testing.T, b *box) {
		b.write("evensprout.yaml", nulPlan)
		dialect := map[string]string{"sqlite": "sqlite", "postgres": "postgres", "mariadb": "mysql"}[b.name]
		for _, args := range [][]string{
			{"export", "--format", "sql", "--dialect", dialect, "--out", "rows.sql"},
			{"export", "--format", "sql", "--dialect", dialect, "--migration", "m", "--out", "."},
			{"export", "--format", "csv", "--out", "csv"}, {"export", "--format", "ndjson", "--out", "ndjson"},
			{"export", "--format", "json", "--out", "json"}, {"export", "--format", "parquet", "--out", "parquet"},
			{"export", "--format", "csv", "--guard-formulas", "--out", "guarded"},
			{"export", "--format", "json", "--nest", "--out", "nested.json"},
		} {
			before := b.files()
			r := b.on(args...)
			assert.NotZero(t, r.code, "%v: %s", args, r.all())
			assert.Equal(t, len(before), len(b.files()), "%v leaves nothing", args)
			if !strings.Contains(r.err, "--migration") {
				assert.Contains(t, r.err, "NUL character", args)
			}
		}
	})
}

// Cells that a spreadsheet may take for formulas are guarded, whatever their first character is.
func TestEveryFormulaIsGuarded(t *testing.T) {
	b := onSQLite(t, "")
	starts := []string{"=", "+", "-", "@", `\t`, `\r`, `\n`, "＝", "＋", "－", "＠"}
	text := strings.Replace(plan, "rows: 4\n    fields:\n      label: {kind: locality}", "given:\n", 1)
	for i, s := range starts {
		text = strings.Replace(text, "given:\n", "given:\n      r"+string(rune('a'+i))+`: {label: "`+s+`1+1"}`+"\n", 1)
	}
	b.write("evensprout.yaml", text)
	r := b.on("export", "--format", "csv", "--guard-formulas", "--out", "rows")
	require.Zero(t, r.code, r.all())
	assert.Equal(t, len(starts), strings.Count(b.read("rows/Port.csv"), "'"), b.read("rows/Port.csv"))
}

// A picture escapes characters that change the direction of text.
func TestPicturesShowDirections(t *testing.T) {
	b := onSQLite(t, "")
	b.exec("CREATE TABLE \"a\u202eb\" (id INTEGER PRIMARY KEY, \"c\u2066d\" TEXT)")
	for _, out := range []string{"tables.svg", "tables.mmd"} {
		r := b.on("diagram", "--out", out)
		require.Zero(t, r.code, r.all())
		assert.NotContains(t, b.read(out), "\u202e", out)
		assert.NotContains(t, b.read(out), "\u2066", out)
	}
}
