package value

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestFilters(t *testing.T) {
	for _, c := range [][3]string{
		{"lower", "Émile A", "émile a"}, {"upper", "émile", "ÉMILE"}, {"title", "open deck's end", "Open Deck's End"},
		{"ascii", "Zoë Jovanić " +
			"ß", "Zoe Jovanic ss"},
		{"slug", "Émile & Sons, Ltd", "emile-sons-ltd"}, {"trim:3", "Zoë X", "Zoë"}, {"pad:5", "42", "00042"},
		{"lower", "PLAIN", "plain"},
	} {
		f, err := NewFilter(c[0])
		require.NoError(t, err)
		assert.Equal(t, "before "+c[2], string(f.Apply([]byte("before "+c[1]), 7)), c[0])
	}
	for _, bad := range []string{"", "lowre", "trim", "trim:0", "trim:x", "lower:3", "pad:99999"} {
		_, err := NewFilter(bad)
		assert.Error(t, err, bad)
	}
}
