package words

import (
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestLocalesAreComplete(t *testing.T) {
	require.GreaterOrEqual(t, len(Locales()), 12)
	assert.Nil(t, Find("xx"))
	assert.Nil(t, Find(general))
	for _, name := range Locales() {
		l := Find(name)
		for _, key := range []string{"country", "code", "code3", "dial", "currency", "language", "zone"} {
			assert.NotEmpty(t, l.About[key], "%s: %s", name, key)
		}
		for _, key := range []string{"name", "street-address", "postal-code", "address", "tel", "org"} {
			assert.NotEmpty(t, l.Forms[key], "%s: %s", name, key)
		}
		for list, least := range map[string]int{"given": 40, "family": 30, "town": 10, "street": 12, "trade": 12,
			"legal": 3, "sentence": 4} {
			of := l.List(list)
			require.NotNil(t, of, "%s: %s", name, list)
			assert.GreaterOrEqual(t, len(of.Entries), least, "%s: %s", name, list)
		}
		assert.Positive(t, l.Women)
		for _, e := range l.List("town").Entries {
			assert.Len(t, e.Fields, 6, "%s: %s", name, e.Text)
		}
		for _, list := range []string{"given", "family"} {
			seen := map[string]bool{}
			for _, e := range l.List(list).Entries {
				assert.NotEmpty(t, e.Latin, "%s: %s", name, e.Text)
				assert.False(t, seen[e.Latin], "%s: %s twice", name, e.Text)
				seen[e.Latin] = true
			}
		}
	}
}

func TestListsAreText(t *testing.T) {
	for _, name := range append(Locales(), general) {
		for list, of := range read[name]().lists {
			if of.Weights != nil {
				assert.Len(t, of.Weights, len(of.Entries), "%s: %s", name, list)
			}
			for _, e := range of.Entries {
				assert.True(t, utf8.ValidString(e.Text), "%s: %s", name, list)
				assert.Equal(t, strings.TrimSpace(e.Text), e.Text, "%s: %s", name, list)
				assert.NotEmpty(t, e.Text, "%s: %s", name, list)
			}
		}
	}
}

func BenchmarkTenLocales(b *testing.B) {
	for b.Loop() {
		for _, name := range Locales()[:10] {
			parse(name, nil)
		}
	}
}
