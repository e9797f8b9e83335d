package plan

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/diag"
)

// Positions are the same in a file of another system, whose lines end otherwise.
func TestPositionsDoNotDependOnLineEnds(t *testing.T) {
	const text = "name: a\n\n# first\nentities:\n  A:   # the port\n    rows: x\n    # why\n    fields:\n" +
		"      # names\n      a: {kind: 4}\n\n  # next\n  B:\n    rows: y\n"
	at := func(ending string) (found []string) {
		p, err := Read("a.yaml", []byte(strings.ReplaceAll(text, "\n", ending)))
		require.NoError(t, err)
		_, err = p.Compile(Options{})
		var list diag.Problems
		require.ErrorAs(t, err, &list)
		for _, x := range list {
			found = append(found, x.String())
		}
		return found
	}
	assert.Equal(t, at("\n"), at("\r\n"))
	assert.Contains(t, strings.Join(at("\r\n"), "\n"), "a.yaml:14:11")
}
