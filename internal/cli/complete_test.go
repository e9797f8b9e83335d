package cli

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"evensprout/internal/demo"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Shells ask the program for words by the hidden command __complete.
func TestValuesAreCompleted(t *testing.T) {
	path := filepath.Join(t.TempDir(), "plan.yaml")
	require.NoError(t, os.WriteFile(path, []byte(demo.Plan), 0o644))
	for line, want := range map[string][]string{
		"load --commit ":                   {"load", "chunk", "family"},
		"withdraw --commit ":               {"load", "chunk"},
		"load --on-violation unique=":      {"unique=skip", "unique=redraw"},
		"export --format ":                 {"csv", "parquet", "sql"},
		"export --dialect ":                {"sqlite", "postgres", "mysql"},
		"export --names ":                  {"fields", "columns"},
		"survey --names ":                  {"camel", "kebab"},
		"load --also ":                     {"changed", "referring"},
		"catalog em":                       {"email"},
		"preview " + path + " --entity ":   {"Passenger", "Booking"},
		"load " + path + " --unit ":        {"sell", "cancel"},
		"look " + path + " ":               {"Passenger"},
		"check ":                           {"yaml", "yml"},
		"load --color ":                    {"auto", "always", "never"},
		"load --co":                        {"--commit", "--corrected", "--color"},
		"wi":                               {"withdraw"},
		"preview none.yaml --entity ":      {},
		"withdraw --db sqlite:none.db ":    {},
		"history --db sqlite:none.db 1":    {},
		"compare --db sqlite:n.db --load ": {},
	} {
		var out, errOut bytes.Buffer
		args := append([]string{"__complete"}, strings.Split(line, " ")...)
		require.Zero(t, Main(args, strings.NewReader(""), &out, &errOut), errOut.String())
		var words []string
		for _, l := range strings.Split(out.String(), "\n") {
			word, _, _ := strings.Cut(l, "\t")
			words = append(words, word)
		}
		for _, w := range want {
			assert.Contains(t, words, w, line)
		}
		if len(want) == 0 {
			assert.LessOrEqual(t, len(words), 3, "%s: %q", line, words)
		}
	}
}

func TestManPages(t *testing.T) {
	pages := map[string]string{}
	when := time.Date(2026, 5, 1, 8, 0, 0, 0, time.UTC)
	require.NoError(t, ManPages(when, func(file string, page []byte) error {
		pages[file] = string(page)
		return nil
	}))
	assert.Contains(t, pages, "evensprout.1")
	load := pages["evensprout-load.1"]
	assert.Contains(t, load, ".TH \"EVENSPROUT-LOAD\" 1 \"2026-05-01\" \"Even Sprout "+number+"\"\n")
	assert.Contains(t, load, `.B \-\-on\-violation KIND=POLICY`)
	assert.Contains(t, load, `.BR evensprout\-withdraw (1)`)
	for file, page := range pages {
		for _, l := range strings.Split(page, "\n") {
			request, _, _ := strings.Cut(l, " ")
			if strings.HasPrefix(l, ".") {
				assert.Contains(t, []string{".TH", ".SH", ".B", ".BR", ".PP", ".TP", ".nf", ".fi"}, request, file)
			}
		}
	}
	assert.Equal(t, "\\&.x \\e \\-", roff(`.x \ -`))
}
