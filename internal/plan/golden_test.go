package plan

import (
	"flag"
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var update = flag.Bool("update", false, "write the golden files anew")

// The rows of an edition never change: this fails first, for every source of the
// plan language.
func TestGoldenPlan(t *testing.T) {
	p, err := ReadFile("testdata/edition1.yaml")
	require.NoError(t, err)
	c, err := p.Compile(Options{})
	require.NoError(t, err)
	used := map[string]bool{}
	for _, e := range p.Entities {
		for _, f := range append(e.Fields, e.Draws...) {
			used[f.word] = true
			for word := range f.args {
				used[word] = true
			}
		}
	}
	compilers := (&compiler{}).sourceCompilers()
	for word := range sources {
		assert.Contains(t, compilers, word, "a source that nothing compiles")
		if word != "value" && word != "list" { // a literal, and JSON
			assert.True(t, used[word], "no row of the source %s", word)
		}
	}
	var out strings.Builder
	prints := prints(t, c)
	for i, target := range c.Targets {
		fmt.Fprintf(&out, "== %s %s\n", target.Plan.Name, prints[i])
		for n, r := range rowsOf(t, c, target.Plan.Name) {
			if n == 9 {
				break
			}
			cells := []string{r[""]}
			for _, f := range target.Grow.Fields {
				if !f.Inner {
					cells = append(cells, r[f.Name])
				}
			}
			out.WriteString(strings.Join(cells, " | ") + "\n")
		}
	}
	const file = "testdata/edition1.golden"
	if *update {
		require.NoError(t, os.WriteFile(file, []byte(out.String()), 0o644))
	}
	want, err := os.ReadFile(file)
	require.NoError(t, err)
	lines, got := strings.Split(string(want), "\n"), strings.Split(out.String(), "\n")
	require.Len(t, got, len(lines))
	for i := range lines {
		assert.Equal(t, lines[i], got[i])
	}
}
