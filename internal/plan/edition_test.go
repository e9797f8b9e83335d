package plan

import (
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/diag"
	"evensprout/internal/grow"
)

// A second edition stands beside the first: a plan says which one it means, and the rows of the first do not change.
func TestASecondEdition(t *testing.T) {
	first := grow.Latest()
	second := grow.Edition{Name: "2", Kinds: slices.Clone(first.Kinds)}
	for i := range second.Kinds {
		switch second.Kinds[i].Name {
		case "locality":
			second.Kinds[i].Name = "harbour" // a kind that only this edition has
		case "noun":
			second.Kinds[i].Name = "locality" // another meaning of the same word
		}
	}
	both := Options{Editions: []grow.Edition{first, second}}

	golden, err := os.ReadFile("testdata/edition1.yaml")
	require.NoError(t, err)
	rows := func(edition string, o Options) []grow.Fingerprint {
		text := strings.Replace(string(golden), "edition: 1\n", "edition: "+edition+"\n", 1)
		p, err := Read("testdata/edition1.yaml", []byte(text))
		require.NoError(t, err)
		c, err := p.Compile(o)
		require.NoError(t, err)
		return prints(t, c)
	}
	one := rows("1", Options{})
	assert.Equal(t, one, rows("1", both))
	two := rows("2", both)
	require.Len(t, two, len(one))
	for i := range one {
		assert.NotEqual(t, one[i], two[i], "draws differ, too")
	}

	problems := func(edition, kind string, o Options) string {
		p, err := Read("plan.yaml", []byte("name: a\nedition: "+edition+"\nseed: a\nclock: 2026-05-01T08:00:00Z\n"+
			"entities:\n  A: {rows: 1, fields: {x: {kind: "+kind+"}}}\n"))
		require.NoError(t, err)
		c, err := p.Compile(o)
		if err == nil {
			require.NoError(t, c.Close())
			return ""
		}
		var all diag.Problems
		require.ErrorAs(t, err, &all)
		return all.Error()
	}
	assert.Empty(t, problems("2", "harbour", both))
	assert.Contains(t, problems("1", "harbour", both), "there is no kind harbour")
	assert.Contains(t, problems("2", "noun", both), "there is no kind noun")
	assert.Contains(t, problems("3", "noun", both), "plan.yaml:2:10: this program does not support edition 3; it "+
		"supports 1, 2")
	assert.Contains(t, problems("2", "locality", Options{}), "this program does not support edition 2; it supports 1")
}
