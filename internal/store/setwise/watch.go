package setwise

import (
	"slices"

	"evensprout/internal/schema"
)

// Watch notes the columns of a table that the text of a trigger mentions.
func Watch(t *schema.Table, script string) {
	for _, c := range t.Columns {
		if Mentions(script, c.Name) && !slices.Contains(t.Watched, c.Name) {
			t.Watched = append(t.Watched, c.Name)
		}
	}
}
