package draft

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/lexicon"
	"evensprout/internal/sources"
	"evensprout/internal/value"
)

// Every source of the vocabulary can be drawn, and numbers lie where it says.
func TestTheVocabularyHolds(t *testing.T) {
	for _, source := range lexicon.AllSources() {
		assert.NotEmpty(t, sources.Values(Source{Text: source}, 3), source)
	}
	for _, n := range lexicon.Numbers() {
		if n.Kind == "" {
			continue
		}
		for _, v := range sources.Values(Source{Text: "{kind: " + n.Kind + "}"}, 2000) {
			scale := int64(1)
			for range v.Scale {
				scale *= 10
			}
			assert.True(t, value.IsNumber(v.Type) && v.N >= n.Lo*scale && v.N <= n.Hi*scale, "%s of %s", v, n.Kind)
		}
	}
	for kind, most := range sources.LongestProse {
		for _, v := range sources.Values(Source{Text: "{kind: " + kind + "}"}, 20_000) {
			require.LessOrEqual(t, len([]rune(v.S)), most, kind)
		}
	}
}
