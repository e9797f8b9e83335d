package predicate

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A function of a schema is not taken for the built-in one of its name.
func TestFunctionsOfASchema(t *testing.T) {
	for text, want := range map[string]string{
		"public.fine(n)": "public.fine(n)", `"Odd Schema".f(n) > 1`: `"Odd Schema".f(n) > 1`, "pg_catalog.length(n) " +
			"> 1": "length(n) > 1", "length(n) > 1": "length(n) > 1", "evil.length(t.n) = 3": "evil.length(n) = 3",
	} {
		n, err := Parse(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, n.String(), text)
		again, err := Parse(n.String())
		require.NoError(t, err, n.String())
		assert.Equal(t, n.String(), again.String())
		_, err = Compile(n)
		assert.Equal(t, want != "length(n) > 1", err != nil, "%s: %v", text, err)
	}
}

func TestWhatEnginesReadDifferently(t *testing.T) {
	for text, fine := range map[string]bool{
		"a > 1": true, "a = 'it''s'": true, "a /* b */ > 1": false, "a /*! b */": false, "a --b\n > 1": false,
		"a # b": false, `a = '\'`: false, "a; b": false, "a = '\x00'": false, "a - -1 > 0": true,
	} {
		assert.Equal(t, fine, Plain(text) == "", text)
	}
	assert.True(t, Executes("a /*!50000 b */") && Executes("a /*M! b */") && !Executes("a /* b */"))
}
