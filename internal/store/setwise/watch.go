package setwise

import (
	"regexp"
	"slices"
	"strings"

	"evensprout/internal/schema"
)

// What the text of a trigger says of it: that it may refuse rows, or calls what may, and
// where it adds some.
var (
	raising = regexp.MustCompile(`(?i)\b(raise|signal|resignal|assert|perform|call|execute)\b`)
	feeding = regexp.MustCompile(
		"(?i)\\b(?:insert|replace|merge)\\s+(?:or\\s+\\w+\\s+|ignore\\s+)?into\\s+([\\w.\"`]+)",
	)
)

// Watch notes the columns of a table that the text of a trigger mentions, and what else it
// says.
func Watch(t *schema.Table, script string) {
	for _, c := range t.Columns {
		if Mentions(script, c.Name) && !slices.Contains(t.Watched, c.Name) {
			t.Watched = append(t.Watched, c.Name)
		}
	}
	t.Raises = t.Raises || raising.MatchString(script)
	for _, m := range feeding.FindAllStringSubmatch(script, -1) {
		name := strings.NewReplacer(`"`, "", "`", "").Replace(m[1])
		name = name[strings.LastIndexByte(name, '.')+1:]
		if !slices.Contains(t.Feeds, name) {
			t.Feeds = append(t.Feeds, name)
		}
	}
}
