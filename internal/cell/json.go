package cell

import (
	"bytes"
	"encoding/json"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"
)

// OfJSON makes a cell of a value of JSON.
func OfJSON(raw json.RawMessage) (Cell, error) {
	switch c := raw[0]; {
	case c == 'n':
		return Cell{}, nil
	case c == 't' || c == 'f':
		return Cell{Kind: Boolean, Text: string(raw)}, nil
	case c == '"':
		var s string
		err := json.Unmarshal(raw, &s)
		return Cell{Kind: Quoted, Text: s}, err
	case c == '{' || c == '[':
		var b bytes.Buffer
		err := json.Compact(&b, raw)
		return Cell{Kind: JSON, Text: b.String()}, err
	}
	return Cell{Kind: Number, Text: PlainNumber(string(raw))}, nil
}

// PlainNumber writes a number with an exponent out, if it is a short one: 1e3 is 1000.
func PlainNumber(s string) string {
	mantissa, exponent, ok := strings.Cut(strings.ToLower(s), "e")
	if !ok {
		return s
	}
	e, err := strconv.Atoi(exponent)
	if err != nil || e > 18 || e < -18 {
		return s
	}
	sign := ""
	if strings.HasPrefix(mantissa, "-") {
		sign, mantissa = "-", mantissa[1:]
	}
	whole, fraction, _ := strings.Cut(mantissa, ".")
	digits, point := whole+fraction, len(whole)+e
	for point <= 0 {
		digits, point = "0"+digits, point+1
	}
	for point > len(digits) {
		digits += "0"
	}
	whole, fraction = strings.TrimLeft(digits[:point], "0"), strings.TrimRight(digits[point:], "0")
	if whole == "" {
		whole = "0"
	}
	if fraction != "" {
		whole += "." + fraction
	}
	return sign + whole
}

// AppendJSONText appends a text in quotes, escaping no more than RFC 8259 asks for.
func AppendJSONText(b []byte, s string) []byte {
	plain := !slices.ContainsFunc([]byte(s), func(c byte) bool { return c < ' ' || c == '"' || c == '\\' })
	if plain && utf8.ValidString(s) {
		b = append(b, '"')
		b = append(b, s...)
		return append(b, '"')
	}
	var text strings.Builder
	e := json.NewEncoder(&text)
	e.SetEscapeHTML(false)
	e.Encode(s) // a text never fails
	return append(b, strings.TrimSuffix(text.String(), "\n")...)
}
