//go:build unix

package security_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What a column cannot hold as it is, check reports and load refuses: nothing is rounded, and no text becomes a number.
func TestValuesAreKeptOrRefused(t *testing.T) {
	const whole, fraction = "{count: {from: 16777217}}", "{value: 12.345}"
	cases := map[string][]struct {
		column, source string
		kept           bool
	}{
		"sqlite": {
			{"PHONE", `{value: "00501"}`, false}, {"STRING", `{value: "1e5"}`, false}, {"STRING", `{value: "+44"}`, false},
			{"STRING", `{value: "A501"}`, true}, {"TEXT", `{value: "00501"}`, true}, {"VARCHAR(9)", `{value: "00501"}`, true},
			{"POSTAL CODE", `{pattern: "0[0-9]{4}"}`, false}, {"JSON", `{value: "1.0"}`, false}, {"", `{value: "00501"}`, true},
			{"REAL", "{value: 1234567890123456}", false}, {"REAL", "{value: 12.345}", true},
		},
		"postgres": {
			{"real", whole, false}, {"real", "{count: {from: 16777214}}", true}, {"real", "{value: 12.345}", true},
			{"double precision", "{count: {from: 9007199254740993}}", false}, {"double precision", whole, true},
			{"money", fraction, false}, {"money", "{value: 12.34}", true}, {"numeric(9,2)", fraction, false},
			{"real", "{value: 123456.789}", false},
		},
		"mariadb": {
			{"FLOAT", whole, false}, {"FLOAT(7,2)", fraction, false}, {"FLOAT", "{value: 12.5}", true},
			{"DOUBLE", "{count: {from: 9007199254740993}}", false}, {"DOUBLE(9,2)", fraction, false},
			{"YEAR", "{value: 5}", false}, {"YEAR", "{value: 0}", false}, {"YEAR", `{value: "99"}`, false},
			{"YEAR", "{value: 2026}", true}, {"DECIMAL(9,2)", fraction, false},
		},
	}
	for _, e := range engines {
		for i, c := range cases[e.name] {
			t.Run(fmt.Sprintf("%s/%s %s", e.name, c.column, c.source), func(t *testing.T) {
				t.Parallel()
				b := boxFor(t, e, fmt.Sprintf("CREATE TABLE odd%d (id INTEGER PRIMARY KEY, x %s);", i, c.column))
				b.write("odd.yaml", fmt.Sprintf("name: odd\nseed: s\nclock: 2026-05-01T08:00:00Z\nentities:\n  Odd:\n"+
					"    table: odd%d\n    rows: 3\n    fields: {id: {count: {from: 1}}, x: %s}\n", i, c.source))
				check, load := b.on("check", "odd.yaml"), b.on("load", "odd.yaml")
				if c.kept {
					require.Zero(t, check.code, check.all())
					require.Zero(t, load.code, load.all())
					compared := b.on("compare", "odd.yaml")
					assert.Zero(t, compared.code, compared.all())
					return
				}
				assert.NotZero(t, check.code, check.all())
				assert.NotZero(t, load.code, load.all())
				assert.Zero(t, b.ask(fmt.Sprintf("SELECT count(*) FROM odd%d", i)))
			})
		}
	}
}
