package plan

import (
	"flag"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/goldentest"
)

var update = flag.Bool("update", false, "write the golden files anew; frozen ones only get new lines")

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
	for word, beside := range sources {
		for _, arg := range beside {
			assert.True(t, used[arg], "no row with %s beside %s", arg, word)
		}
		assert.Contains(t, compilers, word, "a source that nothing compiles")
		assert.True(t, used[word] || word == "value", "no row of the source %s", word) // a literal is none
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
	goldentest.Frozen(t, "testdata/edition1.golden", out.String(), *update)
}
