//go:build unix

package security_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What a file says in two ways, or does not say, is refused with its place; nothing else is made of it.
func TestFilesAreNotGuessed(t *testing.T) {
	const table = "CREATE TABLE stock (id INTEGER PRIMARY KEY, label VARCHAR(60) NOT NULL, price DECIMAL(9,3));"
	for name, c := range map[string]struct {
		file, text string
		flags      []string
		label      string // that is loaded; empty: the file is refused
		says       string
	}{
		"one bad byte":          {"f.csv", "id,label\n1,caf\xc3\xa9\n2,caf\xe9\n", nil, "", "f.csv:3"},
		"a bad byte first":      {"f.csv", "id,label\n1,caf\xe9\n2,caf\xc3\xa9\n3,\xe2\x82\xac\n", nil, "", "f.csv:2"},
		"another encoding":      {"f.csv", "id,label\n1,caf\xe9\n2,na\xefve\n", nil, "café", "windows-1252"},
		"as it is named":        {"f.csv", "id,label\n1,caf\xc3\xa9\n2,caf\xe9\n", []string{"--encoding", "windows-1252"}, "cafÃ©", ""},
		"two numbers":           {"f.csv", "id;label;price\n1;a;1.234\n", nil, "", "--decimal"},
		"a number that decides": {"f.csv", "id;label;price\n1;a;1.234\n2;b;1.5\n", nil, "a", ""},
		"a comma that decides":  {"f.csv", "id;label;price\n1;a;1.234\n2;b;0,5\n", nil, "a", "comma"},
		"as it is said":         {"f.csv", "id;label;price\n1;a;1.234\n", []string{"--decimal", "point"}, "a", ""},
		"commas between":        {"f.csv", "id,label,price\n1,a,1.234\n", nil, "a", ""},
		"half a character":      {"f.ndjson", "{\"id\": 1, \"label\": \"a\\ud800b\"}\n", nil, "", "f.ndjson:1"},
		"the other half":        {"f.json", "[{\"id\": 1, \"label\": \"a\\udc00\"}]", nil, "", `\ud800`},
		"half at the end":       {"f.json", "[{\"id\": 1, \"label\": \"a\\ud83d\"}]", nil, "", `\ud800`},
		"a whole character":     {"f.ndjson", "{\"id\": 1, \"label\": \"a\\ud83d\\ude00\"}\n", nil, "a😀", ""},
		"a backslash and a u":   {"f.json", `[{"id": 1, "label": "a\\ud800"}]`, nil, `a\ud800`, ""},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			b := onSQLite(t, table)
			b.write(c.file, c.text)
			r := b.on(append([]string{"load", "--file", c.file, "--table", "stock", "--mode", "insert"}, c.flags...)...)
			assert.Contains(t, r.err, c.says)
			if c.label == "" {
				assert.NotZero(t, r.code, r.all())
				assert.Zero(t, b.ask("SELECT count(*) FROM stock"))
				return
			}
			require.Zero(t, r.code, r.all())
			assert.Contains(t, b.dump(), "|"+c.label+"|")
		})
	}
}
