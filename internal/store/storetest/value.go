package storetest

import (
	"strings"

	"evensprout/internal/schema"
	"evensprout/internal/value"
)

// AnyValue makes a value of any logical type of what a fuzzer gives, with a column of its
// kind. The numbers behind dates and moments are as given: many are beyond the calendar.
func AnyValue(kind uint8, n int64, m uint64, scale uint8, s string) (value.Value, *schema.Column) {
	scale %= value.MaxScale + 1
	c := &schema.Column{Name: "c", Digits: 6}
	var v value.Value
	switch kind % 10 {
	case 0:
		v, c.Kind = value.Int(n), schema.Integer
	case 1:
		v, c.Kind, c.Scale = value.Value{Type: value.Decimal, N: n, Scale: scale}, schema.Decimal, int(scale)
	case 2:
		v, c.Kind = value.String(strings.ToValidUTF8(s, "?")), schema.Text
	case 3:
		v, c.Kind = value.Value{Type: value.Bytes, S: s}, schema.Bytes
	case 4:
		v, c.Kind = value.Bool(n&1 == 1), schema.Boolean
	case 5:
		v, c.Kind = value.Value{Type: value.Date, N: n}, schema.Date
	case 6:
		v, c.Kind = value.Value{Type: value.Time, N: int64(uint64(n) % uint64(value.Day)), Scale: 6}, schema.Time
	case 7:
		v, c.Kind = value.Value{Type: value.Timestamp, N: n, Scale: 6}, schema.Timestamp
	case 8:
		v, c.Kind = value.Value{Type: value.UUID, N: n, M: m}, schema.UUID
	case 9:
		v, c.Kind = value.Value{Type: value.JSON, S: `{"a":"` + strings.Map(func(r rune) rune {
			if r < ' ' || r == '"' || r == '\\' || r == 0xfffd {
				return -1
			}
			return r
		}, s) + `"}`}, schema.JSON
	}
	return v, c
}

// SameValue reports whether a value came back as it was: digits of a second that are zeros,
// and the scale of a decimal, are not kept.
func SameValue(a, b value.Value) bool {
	switch {
	case a.Type == value.Decimal || b.Type == value.Decimal:
		x, ok := a.Rescale(max(a.Scale, b.Scale))
		y, fine := b.Rescale(max(a.Scale, b.Scale))
		return ok && fine && x.N == y.N
	case a.Type == value.Time, a.Type == value.Timestamp:
		return a.Type == b.Type && a.N == b.N
	}
	return a == b
}

// EncodedCells are values as loads write them, with their columns.
func EncodedCells() ([]value.Value, []*schema.Column) {
	price, _ := value.ParseDecimal("129.50")
	day, _ := value.ParseDate("2026-05-01")
	moment, _ := value.ParseTimestamp("2026-05-01T08:15:00Z")
	return []value.Value{value.Int(123_456), value.String("Heron Quay"), price, day, moment, value.Bool(true), {}},
		[]*schema.Column{
			{Kind: schema.Integer, Type: "int4", Bits: 32},
			{Kind: schema.Text, Type: "varchar"},
			{Kind: schema.Decimal, Type: "numeric", Precision: 8, Scale: 2},
			{Kind: schema.Date, Type: "date"},
			{Kind: schema.Timestamp, Type: "timestamp", Digits: 6},
			{Kind: schema.Boolean, Type: "bool"},
			{Kind: schema.Text, Type: "varchar"},
		}
}
