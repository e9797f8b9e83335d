package draft

import (
	"fmt"
	"strconv"
	"strings"

	"evensprout/internal/lexicon"
	"evensprout/internal/schema"
	"evensprout/internal/sources"
)

// weigh gives choices that a condition lists the weights that their words and the default of the column suggest: most
// rows have the default, and few are deleted or have failed.
func (t *Table) weigh(f *Field) {
	list, ok := strings.CutPrefix(f.Source.Text, "{choose: [")
	list, closed := strings.CutSuffix(list, "]}")
	if !ok || !closed || f.Unique || t.inKey(f) || strings.ContainsAny(list, `"'\`) {
		return
	}
	items := strings.Split(list, ", ")
	preset := strings.Trim(strings.SplitN(f.Column.Preset, "::", 2)[0], "'() ")
	var weighed []string
	differ := false
	for _, item := range items {
		w := weightOf(f.Column, item, preset, items)
		differ = differ || w != usualWeight
		weighed = append(weighed, fmt.Sprintf("%s: %d", item, w))
	}
	if differ && len(items) > 1 {
		f.Source.Text = "{choose: {" + strings.Join(weighed, ", ") + "}}"
	}
}

const usualWeight = 10

// nearPreset are whole numbers that are mostly the default of a column.
func nearPreset(c *schema.Column) []Source {
	n, err := strconv.ParseInt(strings.Trim(c.Preset, "'() "), 10, 32)
	_, most := typeRange(c)
	if err != nil || !c.Default || c.Kind != schema.Integer || c.Identity != schema.NoIdentity || n < 0 || n+2 > most {
		return nil
	}
	return []Source{sources.Countable(fmt.Sprintf("{choose: {%d: 70, %d: 20, %d: 10}}", n, n+1, n+2), 3)}
}

// weightOf is how often a choice is made.
func weightOf(c *schema.Column, item, preset string, items []string) int {
	if len(items) == 2 && (items[0] == "0" && items[1] == "1" || items[0] == "1" && items[1] == "0") {
		yes := strings.TrimSuffix(lexicon.TrueShare(c.Name, preset), "%")
		percent := 0
		if _, err := fmt.Sscan(yes, &percent); err != nil || percent == 50 {
			return usualWeight
		}
		if item == "1" {
			return percent
		}
		return 100 - percent
	}
	m := lexicon.Of(item)
	switch {
	case c.Default && strings.EqualFold(item, preset):
		return 4 * usualWeight
	case c.Kind == schema.Text && m.Says("deleted", "archived", "blocked", "cancelled", "returned", "error"):
		return 2
	}
	return usualWeight
}

// documents are JSON documents for a column.
func documents(c *schema.Column) []Source {
	var out []Source
	for _, text := range lexicon.Documents(c.Name) {
		out = append(out, Source{Text: text})
	}
	return out
}
