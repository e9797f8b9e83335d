package load

import (
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"evensprout/internal/journal"
	"evensprout/internal/schema"
	"evensprout/internal/value"
)

// What columns that a plan does not write hold after a load is known where their defaults are constants. The journal
// keeps these, so that a withdrawal sees whether an application has changed them since: the status of an order, say.

// noPreset stands in the journal for a column without a default: it is NULL.
const noPreset = "NULL"

// presets are the defaults of the columns of an entity's table that the load does not write, as the database writes
// them, by column. Tables whose rows triggers or rules may change have none.
func (t *Target) presets() map[string]string {
	if len(t.Table.Triggers) > 0 || t.Table.Ruled {
		return nil
	}
	out := map[string]string{}
	written := t.Into().Columns
	for _, c := range t.Table.Columns {
		text := c.Preset
		if !c.Default {
			text = noPreset
		}
		if slices.Contains(written, c) || c.Generated || c.Restamps || c.Identity != schema.NoIdentity {
			continue
		}
		if _, ok := presetValue(c, text); ok {
			out[c.Name] = text
		}
	}
	return out
}

// Unplanned are the columns that the load did not write and whose values after it are known, with these values.
func (p *PastLoad) Unplanned(t *Target) (columns []*schema.Column, values []value.Value) {
	i := slices.IndexFunc(p.Entry.About.Entities, func(x journal.AboutEntity) bool { return x.Entity == t.Plan.Name })
	if i < 0 || len(t.Table.Triggers) > 0 || t.Table.Ruled {
		return nil, nil
	}
	written := t.Into().Columns
	for _, c := range t.Table.Columns {
		text, ok := p.Entry.About.Entities[i].Presets[c.Name]
		if !ok || slices.Contains(written, c) || p.Ignores(t, c) {
			continue
		}
		if v, ok := presetValue(c, text); ok {
			columns, values = append(columns, c), append(values, v)
		}
	}
	return columns, values
}

// constant is a literal in SQL: a text in quotes or a number, with a type behind it or none.
var constant = regexp.MustCompile(`^(?:'((?:[^'\\]|'')*)'|\(?(-?[0-9]+(?:\.[0-9]+)?)\)?)(?:::[\w ".\[\](),]+)?$`)

// presetValue is the value of a default that is a constant.
func presetValue(c *schema.Column, text string) (value.Value, bool) {
	text = strings.TrimSpace(text)
	if word, _, _ := strings.Cut(text, "::"); strings.EqualFold(word, "NULL") {
		return value.Value{}, !c.NotNull
	}
	if c.Kind == schema.Boolean {
		switch strings.ToLower(strings.Trim(text, "'")) {
		case "true", "1", "b'1'", "t":
			return value.Value{Type: value.Boolean, N: 1}, true
		case "false", "0", "b'0'", "f":
			return value.Value{Type: value.Boolean}, true
		}
		return value.Value{}, false
	}
	m := constant.FindStringSubmatch(text)
	if m == nil {
		return value.Value{}, false
	}
	literal := m[2]
	if literal == "" {
		literal = strings.ReplaceAll(m[1], "''", "'")
	}
	switch c.Kind {
	case schema.Text:
		return value.String(literal), m[2] == "" && (c.Length == 0 || utf8.RuneCountInString(literal) <= c.Length)
	case schema.Integer:
		n, err := strconv.ParseInt(literal, 10, 64)
		return value.Int(n), err == nil
	case schema.Decimal:
		v, err := value.ParseDecimal(literal)
		return v, err == nil
	case schema.Date:
		v, err := value.ParseDate(literal)
		return v, err == nil
	}
	return value.Value{}, false
}
