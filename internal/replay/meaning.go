package replay

import (
	"bytes"
	"encoding/json"
	"slices"
	"strconv"
	"strings"

	"evensprout/internal/load"
	"evensprout/internal/schema"
	"evensprout/internal/value"
)

// Meaning is why columns are compared by meaning.
type Meaning struct {
	Why     string   `json:"why"`
	Columns []string `json:"columns"`
}

// Canon is how values of a column are written so that equal ones have the same bytes.
type Canon struct {
	column *schema.Column
	padded bool // filled up with blanks
}

// Canons are those of columns.
func Canons(columns []*schema.Column) []Canon {
	out := make([]Canon, len(columns))
	for i, c := range columns {
		out[i] = Canon{c, padded(c)}
	}
	return out
}

// Append appends what a value means, without what databases rewrite: trailing zeros, the order of keys in JSON, the
// blanks behind a CHAR.
func (m *Canon) Append(b []byte, v *value.Value) []byte {
	x, c := *v, m.column
	switch {
	case x.IsNull():
	case c.Kind == schema.Boolean && x.Type == value.Integer:
		x.Type = value.Boolean
	case c.Kind == schema.Integer && x.Type == value.Boolean:
		x.Type = value.Integer
	case c.Kind == schema.Timestamp && x.Type == value.Date:
		x.Type, x.N = value.Timestamp, x.N*value.Day
	case c.Kind == schema.JSON:
		x = value.String(sortedJSON(x.S))
	case c.Kind == schema.Bytes:
		x.Type = value.Bytes
	case c.Kind == schema.Real:
		if f, err := strconv.ParseFloat(x.String(), 64); err == nil {
			x = value.String(strconv.FormatFloat(f, 'g', -1, 64))
		}
	case c.Kind == schema.Text || c.Kind == schema.Any:
		x = m.asText(x)
	}
	return x.AppendCanonical(b)
}

// asText is a value as the text that the column holds.
func (m *Canon) asText(v value.Value) value.Value {
	if v.Type != value.Text {
		v = value.String(v.String())
	}
	if m.padded {
		v.S = strings.TrimRight(v.S, " ")
	}
	return v
}

// padded reports whether a column is filled up with blanks.
func padded(c *schema.Column) bool {
	d, _, _ := strings.Cut(c.Declared, "(")
	return strings.EqualFold(d, "char") || strings.EqualFold(d, "character")
}

// sortedJSON is a JSON text with its keys in order and without blanks.
func sortedJSON(text string) string {
	d := json.NewDecoder(strings.NewReader(text))
	d.UseNumber()
	var v any
	if d.Decode(&v) != nil {
		return text
	}
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	if e.Encode(v) != nil {
		return text
	}
	return strings.TrimSpace(b.String())
}

// noteMeanings notes the columns that are compared by meaning.
func (d *Difference) noteMeanings(t *load.Target) {
	for _, c := range t.Writes.Columns {
		why := ""
		switch {
		case c.Kind == schema.JSON:
			why = "JSON keys in any order"
		case c.Kind == schema.Decimal:
			why = "numbers without trailing zeros"
		case c.Kind == schema.Real:
			why = "floating-point numbers"
		case c.Kind == schema.Timestamp:
			why = "moments in UTC"
		case c.Kind == schema.Text && padded(c):
			why = "text without trailing blanks"
		default:
			continue
		}
		i := slices.IndexFunc(d.Meaning, func(m Meaning) bool { return m.Why == why })
		if i < 0 {
			i = len(d.Meaning)
			d.Meaning = append(d.Meaning, Meaning{Why: why})
		}
		if name := t.Table.Name + "." + c.Name; !slices.Contains(d.Meaning[i].Columns, name) {
			d.Meaning[i].Columns = append(d.Meaning[i].Columns, name)
		}
	}
}
