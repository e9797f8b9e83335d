package sources

import (
	"encoding/json"
	"evensprout/internal/plan"
	"evensprout/internal/schema"
	"regexp"
	"slices"
	"strings"
)

// Written are sources of texts in the forms in which programs keep other things.
func Written(c *schema.Column) []Source {
	var out []Source
	for _, form := range []string{
		"202[0-5]-0[1-9]-[0-2][1-8] [01][0-9]:[0-5][0-9]:[0-5][0-9]", "202[0-5]-0[1-9]-[0-2][1-8]",
		"202[0-5]-0[1-9]-[0-2][1-8]T[01][0-9]:[0-5][0-9]:[0-5][0-9]Z",
		"[01][0-9]:[0-5][0-9]", "[01][0-9]:[0-5][0-9]:[0-5][0-9]", "[1-9][0-9]{0,3}", "[1-9][0-9]{0,3}\\.[0-9]{2}",
		"[a-z]{3,8}@example\\.com", "https://example\\.com/[a-z]{3,8}",
		"\\{\\}", "\\[\\]", "[0-9a-f]{8}-[0-9a-f]{4}-4[0-9a-f]{3}-8[0-9a-f]{3}-[0-9a-f]{12}", "[0-9a-f]{32}",
		"[0-9a-f]{40}", "[0-9a-f]{64}", "[A-Z][0-9]{1,4}", "[A-Z]{2}",
	} {
		if s := Patterned(form); s.Text != "" && (c.Length == 0 || FitsLength(s, c.Length)) {
			out = append(out, s)
		}
	}
	return out
}

var quoted = regexp.MustCompile(`'([^']{1,40})'`)

// Objects are JSON objects with the keys that conditions name.
func Objects(conditions []string) []Source {
	var keys []string
	for _, k := range conditions {
		for _, m := range quoted.FindAllStringSubmatch(k, -1) {
			if key := strings.TrimPrefix(strings.TrimPrefix(m[1], "$"), "."); !slices.Contains(keys, key) {
				keys = append(keys, key)
			}
		}
	}
	if len(keys) == 0 {
		return nil
	}
	var out []Source
	for _, value := range []any{1, "x", true, []int{1}, map[string]any{}} {
		object := map[string]any{}
		for _, k := range keys {
			object[k] = value
		}
		if text, err := json.Marshal(object); err == nil {
			out = append(out, Source{Text: "{value: " + plan.Scalar(string(text)) + "}", Fixed: true})
		}
	}
	return out
}
