package storetest

import (
	"strings"

	"evensprout/internal/grow"
	"evensprout/internal/schema"
)

// AnyValue makes a value of any logical type of what a fuzzer gives, with a column of its
// kind. The numbers behind dates and moments are as given: many are beyond the calendar.
func AnyValue(kind uint8, n int64, m uint64, scale uint8, s string) (grow.Value, *schema.Column) {
	scale %= grow.MaxScale + 1
	c := &schema.Column{Name: "c", Digits: 6}
	var v grow.Value
	switch kind % 10 {
	case 0:
		v, c.Kind = grow.Int(n), schema.Integer
	case 1:
		v, c.Kind, c.Scale = grow.Value{Type: grow.Decimal, N: n, Scale: scale}, schema.Decimal, int(scale)
	case 2:
		v, c.Kind = grow.String(strings.ToValidUTF8(s, "?")), schema.Text
	case 3:
		v, c.Kind = grow.Value{Type: grow.Bytes, S: s}, schema.Bytes
	case 4:
		v, c.Kind = grow.Bool(n&1 == 1), schema.Boolean
	case 5:
		v, c.Kind = grow.Value{Type: grow.Date, N: n}, schema.Date
	case 6:
		v, c.Kind = grow.Value{Type: grow.Time, N: int64(uint64(n) % uint64(grow.Day)), Scale: 6}, schema.Time
	case 7:
		v, c.Kind = grow.Value{Type: grow.Timestamp, N: n, Scale: 6}, schema.Timestamp
	case 8:
		v, c.Kind = grow.Value{Type: grow.UUID, N: n, M: m}, schema.UUID
	case 9:
		v, c.Kind = grow.Value{Type: grow.JSON, S: `{"a":"` + strings.Map(func(r rune) rune {
			if r < ' ' || r == '"' || r == '\\' || r == 0xfffd {
				return -1
			}
			return r
		}, s) + `"}`}, schema.JSON
	}
	return v, c
}

// SameValue tells whether a value came back as it was: digits of a second that are zeros,
// and the scale of a decimal, are not kept.
func SameValue(a, b grow.Value) bool {
	switch {
	case a.Type == grow.Decimal || b.Type == grow.Decimal:
		x, ok := a.Rescale(max(a.Scale, b.Scale))
		y, fine := b.Rescale(max(a.Scale, b.Scale))
		return ok && fine && x.N == y.N
	case a.Type == grow.Time, a.Type == grow.Timestamp:
		return a.Type == b.Type && a.N == b.N
	}
	return a == b
}
