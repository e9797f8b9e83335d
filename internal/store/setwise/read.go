package setwise

import (
	"encoding/hex"
	"regexp"
	"strings"

	"evensprout/internal/schema"
	"evensprout/internal/value"
)

// ReadRow makes values of the texts that a server writes for the cells of a row; nil is NULL. Texts of a short row
// share one allocation.
func ReadRow[Text ~[]byte](columns []*schema.Column, cells []Text, row []value.Value) {
	const short = 4096 // bytes: a value that somebody keeps keeps the row's texts with it
	size := 0
	for _, cell := range cells {
		size += len(cell)
	}
	var texts strings.Builder
	if size <= short {
		texts.Grow(size)
	}
	for i, cell := range cells {
		switch {
		case cell == nil:
			row[i] = value.Value{}
		case size <= short:
			from := texts.Len()
			texts.Write(cell)
			row[i] = ReadText(columns[i], texts.String()[from:])
		default:
			row[i] = ReadText(columns[i], string(cell))
		}
	}
}

// ReadText makes a value of the text that a server writes for a cell: what its
// column's kind says, as far as the text can be read that way, else the text itself.
func ReadText(c *schema.Column, text string) value.Value {
	var v value.Value
	err := error(nil)
	switch c.Kind {
	case schema.Integer:
		v, err = value.ParseDecimal(text)
	case schema.Decimal, schema.Real:
		v, err = readDecimal(c, text)
	case schema.Boolean:
		v, err = readBool(text)
	case schema.Date:
		v, err = value.ParseDate(text)
	case schema.Time:
		v, err = value.ParseTime(withoutZeros(text))
	case schema.Timestamp:
		v, err = value.ParseTimestamp(withoutZeros(strings.TrimSuffix(text, "+00")))
	case schema.UUID:
		v, err = value.ParseUUID(text)
	case schema.JSON:
		v = value.Value{Type: value.JSON, S: text}
	case schema.Bytes:
		if digits, ok := strings.CutPrefix(text, `\x`); ok {
			if b, e := hex.DecodeString(digits); e == nil {
				text = string(b)
			}
		}
		v = value.Value{Type: value.Bytes, S: text}
	default:
		return value.String(text)
	}
	if err != nil {
		return value.String(text)
	}
	return v
}

// readDecimal reads a number, with as many digits as its column has, if that loses none.
func readDecimal(c *schema.Column, text string) (value.Value, error) {
	v, err := value.ParseDecimal(text)
	if err == nil && c.Kind == schema.Decimal {
		if r, ok := v.Rescale(max(v.Scale, uint8(max(c.Scale, 0)))); ok {
			return r, nil
		}
	}
	return v, err
}

// readBool reads the words of servers for true and false, or a number.
func readBool(text string) (value.Value, error) {
	switch text {
	case "t", "1", "true":
		return value.Bool(true), nil
	case "f", "0", "false":
		return value.Bool(false), nil
	}
	return value.ParseDecimal(text)
}

// withoutZeros cuts zeros behind the digits of a second: servers show as many as the
// column has.
func withoutZeros(text string) string {
	if !strings.Contains(text, ".") {
		return text
	}
	return strings.TrimSuffix(strings.TrimRight(text, "0"), ".")
}

// AnyOf is a pattern of texts that are one of some.
func AnyOf(texts []string) string {
	quoted := make([]string, len(texts))
	for i, t := range texts {
		quoted[i] = regexp.QuoteMeta(t)
	}
	return "(" + strings.Join(quoted, "|") + ")"
}
