package postgres

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestDumpsAreCutIntoPieces(t *testing.T) {
	list, err := pieces("CREATE TABLE a (b text);\nCOPY public.a (b) FROM stdin;\nx\\ty\n\\N\n\\.\n\nSELECT 1;\n")
	require.NoError(t, err)
	require.Len(t, list, 2)
	assert.Equal(t, piece{0, "CREATE TABLE a (b text);\n", "COPY public.a (b) FROM stdin", "x\\ty\n\\N\n"}, list[0])
	assert.Equal(t, piece{line: 5, sql: "\nSELECT 1;\n"}, list[1])
	for text, want := range map[string]string{
		"SELECT 1;\n\\connect other\n": `the script:2: \connect leads to another database`,
		"\\c other":                    `\c leads to another database`,
		"\\i more.sql":                 `\i reads another file`,
		"DROP DATABASE harbour;":       "DROP DATABASE is not for",
		"COPY a FROM stdin;\n1\n":      `end without \.`,
	} {
		_, err := pieces(text)
		assert.ErrorContains(t, err, want, text)
	}
}

func FuzzPieces(f *testing.F) {
	f.Add("COPY a FROM stdin;\n1\n\\.\nSELECT 1;")
	f.Fuzz(func(t *testing.T, text string) {
		list, err := pieces(text)
		if err != nil {
			return
		}
		var b strings.Builder
		for _, p := range list {
			b.WriteString(p.sql + p.rows)
		}
		assert.LessOrEqual(t, b.Len(), len(text))
	})
}
