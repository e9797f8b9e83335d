package plan

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// A field's locale counts before its entity's, and that before the plan's.
func TestLocales(t *testing.T) {
	rows := grown(t, `  Person:
    rows: 400
    locale: {en-GB: 50, ja: 50}
    shared:
      who:  {kind: person}
      away: {kind: place, locale: de}
    fields:
      name:  {from: who.name}
      tel:   {from: who.tel}
      email: {from: who.email, unique: true}
      place: {from: away.country-name}
      note:  {kind: sentence, locale: en-US, about: health}
`, "Person")
	britons := 0
	for _, r := range rows {
		if strings.HasPrefix(r["tel"], "+44 ") {
			britons++
		}
		assert.Equal(t, "Deutschland", r["place"])
		assert.Regexp(t, `\.$`, r["note"])
	}
	assert.InDelta(t, 200, britons, 30)
	assert.Len(t, count(rows, "email"), 400)
}
