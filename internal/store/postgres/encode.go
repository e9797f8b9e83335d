package postgres

import (
	"encoding/binary"
	"fmt"
	"math"
	"strconv"
	"strings"

	"evensprout/internal/schema"
	"evensprout/internal/value"
)

// Binary forms of values, as the server's receive functions read them. All numbers are
// big-endian; each cell is preceded by its length in bytes, -1 for NULL.

// hasBinary reports whether values of a column are sent in binary form; others go as text.
func hasBinary(c *schema.Column) bool {
	switch c.Type {
	case "int2",
		"int4",
		"int8",
		"numeric",
		"float4",
		"float8",
		"bool",
		"text",
		"citext",
		"varchar",
		"bpchar",
		"name",
		"bytea",
		"date",
		"time",
		"timestamp",
		"timestamptz",
		"uuid",
		"json",
		"jsonb":
		return true
	}
	return c.Values != nil // an enumeration: its label
}

func appendInt(b []byte, size int, n int64) []byte {
	b = binary.BigEndian.AppendUint32(b, uint32(size))
	switch size {
	case 2:
		return binary.BigEndian.AppendUint16(b, uint16(n))
	case 4:
		return binary.BigEndian.AppendUint32(b, uint32(n))
	}
	return binary.BigEndian.AppendUint64(b, uint64(n))
}

// beyond is the error of a value that a type cannot hold.
func beyond(c *schema.Column, text string) error {
	return fmt.Errorf("%s is beyond the type %s of the column %s", text, c.Declared, c.Name)
}

// appendFitting appends a number that its type can hold.
func appendFitting(b []byte, c *schema.Column, n int64) ([]byte, error) {
	switch {
	case c.Type == "int2" && n == int64(int16(n)):
		return appendInt(b, 2, n), nil
	case c.Type == "int4" && n == int64(int32(n)):
		return appendInt(b, 4, n), nil
	case c.Type == "int8":
		return appendInt(b, 8, n), nil
	}
	return b, beyond(c, fmt.Sprint(n))
}

// The server counts from the year 2000.
const (
	epochDays         = 10957
	epochMicroseconds = epochDays * value.Day
)

func appendBinary(b []byte, v *value.Value, c *schema.Column) ([]byte, error) {
	if v.IsNull() {
		return append(b, 0xff, 0xff, 0xff, 0xff), nil
	}
	switch c.Type {
	case "int2", "int4", "int8":
		if v.Type == value.Integer || v.Type == value.Boolean {
			return appendFitting(b, c, v.N)
		}
	case "numeric":
		if v.Type == value.Integer || v.Type == value.Decimal {
			return appendNumeric(b, v), nil
		}
	case "float4", "float8":
		if v.Type == value.Integer || v.Type == value.Decimal {
			return appendFloat(b, v, c)
		}
	case "bool":
		if v.Type == value.Boolean {
			return append(b, 0, 0, 0, 1, byte(v.N)), nil
		}
	case "date":
		if v.Type == value.Date {
			return appendInt(b, 4, v.N-epochDays), value.InCalendar(v)
		}
	case "time":
		if v.Type == value.Time {
			return appendTime(b, v, c)
		}
	case "timestamp", "timestamptz":
		switch v.Type {
		case value.Timestamp:
			return appendInt(b, 8, v.N-epochMicroseconds), value.InCalendar(v)
		case value.Date:
			return appendInt(b, 8, v.N*value.Day-epochMicroseconds), value.InCalendar(v)
		}
	case "uuid":
		if v.Type == value.UUID {
			b = append(b, 0, 0, 0, 16)
			return binary.BigEndian.AppendUint64(binary.BigEndian.AppendUint64(b, uint64(v.N)), v.M), nil
		}
	case "jsonb":
		b = binary.BigEndian.AppendUint32(b, uint32(len(v.S)+1))
		return append(append(b, 1), v.S...), nil // version 1
	case "bytea", "json":
		b = binary.BigEndian.AppendUint32(b, uint32(len(v.S)))
		return append(b, v.S...), nil
	default: // text of some sort
		return appendAsText(b, v, c)
	}
	return b, fmt.Errorf("a value of type %s does not go into %s", v.Type, c.Declared)
}

func appendTime(b []byte, v *value.Value, c *schema.Column) ([]byte, error) {
	if v.N < 0 || v.N > value.Day {
		return b, beyond(c, v.String())
	}
	return appendInt(b, 8, v.N), nil
}

func appendFloat(b []byte, v *value.Value, c *schema.Column) ([]byte, error) {
	f, err := strconv.ParseFloat(v.String(), 64)
	if c.Type == "float8" {
		return binary.BigEndian.AppendUint64(binary.BigEndian.AppendUint32(b, 8), math.Float64bits(f)), err
	}
	if err == nil && math.IsInf(float64(float32(f)), 0) {
		err = beyond(c, v.String())
	}
	return binary.BigEndian.AppendUint32(binary.BigEndian.AppendUint32(b, 4), math.Float32bits(float32(f))), err
}

func appendAsText(b []byte, v *value.Value, c *schema.Column) ([]byte, error) {
	if strings.IndexByte(v.S, 0) >= 0 {
		return b, fmt.Errorf("the text contains a NUL character, which %s cannot store", c.Declared)
	}
	if v.Type == value.Text || v.Type == value.JSON {
		b = binary.BigEndian.AppendUint32(b, uint32(len(v.S)))
		return append(b, v.S...), nil
	}
	at := len(b)
	b = v.AppendText(append(b, 0, 0, 0, 0))
	binary.BigEndian.PutUint32(b[at:], uint32(len(b)-at-4))
	return b, nil
}

// appendNumeric writes a decimal as digits of base 10,000: count, weight of the first,
// sign, digits to show behind the point, and the digits.
func appendNumeric(b []byte, v *value.Value) []byte {
	const base = 10_000
	scale := uint64(v.Scale)
	if v.Type == value.Integer {
		scale = 0
	}
	u, sign := uint64(v.N), uint16(0)
	if v.N < 0 {
		u, sign = -u, 0x4000
	}

	// The point must stand between two digits: pad the fraction to fours.
	pad := uint64(1)
	for range (4 - scale%4) % 4 {
		pad *= 10
	}
	groups := int((scale + 3) / 4)
	var digits [8]uint16
	n := 0

	// The lowest group takes the padding, so that the product cannot overflow.
	low := base / pad
	if pad > 1 {
		digits[n] = uint16(u % low * pad)
		u /= low
		n++
	}
	for ; u > 0; u /= base {
		digits[n] = uint16(u % base)
		n++
	}
	first := 0 // leave out zeros at the end
	for first < n && digits[first] == 0 {
		first++
	}
	count := n - first
	weight := n - groups - 1
	if count == 0 {
		weight = 0
		sign = 0
	}
	b = binary.BigEndian.AppendUint32(b, uint32(8+2*count))
	b = binary.BigEndian.AppendUint16(b, uint16(count))
	b = binary.BigEndian.AppendUint16(b, uint16(int16(weight)))
	b = binary.BigEndian.AppendUint16(b, sign)
	b = binary.BigEndian.AppendUint16(b, uint16(scale))
	for i := n - 1; i >= first; i-- {
		b = binary.BigEndian.AppendUint16(b, digits[i])
	}
	return b
}

// appendCopyText writes a cell of COPY's text format.
func appendCopyText(b []byte, v *value.Value, c *schema.Column) []byte {
	if v.IsNull() {
		return append(b, `\N`...)
	}
	from := len(b)
	b = appendText(b, v, c)
	for i := from; i < len(b); i++ {
		if b[i] == '\\' || b[i] == '\t' || b[i] == '\n' || b[i] == '\r' {
			return escape(b, from)
		}
	}
	return b
}

func escape(b []byte, from int) []byte {
	text := string(b[from:])
	b = b[:from]
	for i := range len(text) {
		switch text[i] {
		case '\\':
			b = append(b, `\\`...)
		case '\t':
			b = append(b, `\t`...)
		case '\n':
			b = append(b, `\n`...)
		case '\r':
			b = append(b, `\r`...)
		default:
			b = append(b, text[i])
		}
	}
	return b
}
