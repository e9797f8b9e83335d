package value

import (
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"math"
	"strconv"
	"strings"
)

// Type is a logical type. It belongs to the plan, not to an engine.
type Type uint8

// The logical types.
const (
	Null Type = iota
	Integer
	Decimal
	Text
	Bytes
	Boolean
	Date
	Time
	Timestamp
	UUID
	JSON
)

var typeNames = [...]string{
	"null",
	"integer",
	"decimal",
	"text",
	"bytes",
	"boolean",
	"date",
	"time",
	"timestamp",
	"uuid",
	"json",
}

// String is the type's name in messages and plans.
func (t Type) String() string { return typeNames[t] }

// Value is one cell. Which members count depends on the type:
//
//	Integer    N
//	Decimal    N is the unscaled value, Scale the digits after the point
//	Text       S; Bytes and JSON likewise
//	Boolean    N is 0 or 1
//	Date       N is days since 1970-01-01
//	Time       N is microseconds since midnight, Scale the digits of a second to show
//	Timestamp  N is microseconds since 1970-01-01T00:00:00Z, Scale as for Time
//	UUID       N and M are its first and last eight bytes
type Value struct {
	Type  Type
	Scale uint8
	N     int64
	M     uint64
	S     string
}

// MaxScale is the largest number of digits after the decimal point.
const MaxScale = 18

// Int makes a whole number.
func Int(n int64) Value { return Value{Type: Integer, N: n} }

// String makes a text.
func String(s string) Value { return Value{Type: Text, S: s} }

// Bool makes a boolean.
func Bool(b bool) Value {
	if b {
		return Value{Type: Boolean, N: 1}
	}
	return Value{Type: Boolean}
}

// IsNull reports whether the cell is empty.
func (v Value) IsNull() bool { return v.Type == Null }

// String shows the value as text: numbers in plain decimals, moments in ISO 8601.
func (v Value) String() string { return string(v.AppendText(nil)) }

// AppendText appends what String returns.
func (v Value) AppendText(b []byte) []byte {
	switch v.Type {
	case Null:
		return append(b, "NULL"...)
	case Integer:
		return strconv.AppendInt(b, v.N, 10)
	case Decimal:
		return AppendDecimal(b, v.N, v.Scale)
	case Boolean:
		return strconv.AppendBool(b, v.N != 0)
	case Date:
		return appendDate(b, v.N)
	case Time:
		return appendClock(b, v.N, v.Scale)
	case Timestamp:
		return append(appendTimestamp(b, v.N, v.Scale, 'T'), 'Z')
	case UUID:
		return appendUUID(b, uint64(v.N), v.M)
	case Bytes:
		return hex.AppendEncode(b, []byte(v.S))
	default:
		return append(b, v.S...)
	}
}

// AppendDecimal appends a number with so many digits after the point.
func AppendDecimal(b []byte, n int64, scale uint8) []byte {
	if scale == 0 {
		return strconv.AppendInt(b, n, 10)
	}
	u := uint64(n)
	if n < 0 {
		b = append(b, '-')
		u = -u
	}
	var digits [24]byte
	d := strconv.AppendUint(digits[:0], u, 10)
	s := int(scale)
	if len(d) <= s {
		b = append(b, '0', '.')
		for range s - len(d) {
			b = append(b, '0')
		}
		return append(b, d...)
	}
	b = append(b, d[:len(d)-s]...)
	b = append(b, '.')
	return append(b, d[len(d)-s:]...)
}

// appendUUID appends a UUID in its usual form (RFC 9562).
func appendUUID(b []byte, hi, lo uint64) []byte {
	const digits = "0123456789abcdef"
	for i := range 16 {
		if i == 4 || i == 6 || i == 8 || i == 10 {
			b = append(b, '-')
		}
		w, at := hi, i
		if i >= 8 {
			w, at = lo, i-8
		}
		x := byte(w >> (56 - 8*at))
		b = append(b, digits[x>>4], digits[x&15])
	}
	return b
}

// ParseDecimal reads a plain decimal number exactly; without a point it is an
// Integer. Exponents are refused: they hide the scale.
func ParseDecimal(s string) (Value, error) {
	if v, ok := plainDecimal(s); ok {
		return v, nil
	}
	whole, fraction, point := strings.Cut(s, ".")
	if point && (fraction == "" || whole == "" || whole == "-" || whole == "+") {
		return Value{}, fmt.Errorf("%q is not a plain decimal number", s)
	}
	if len(fraction) > MaxScale {
		return Value{}, fmt.Errorf("%q has more than %d decimal places", s, MaxScale)
	}
	if strings.ContainsAny(fraction, "+-_") {
		return Value{}, fmt.Errorf("%q is not a plain decimal number", s)
	}
	n, err := strconv.ParseInt(strings.ReplaceAll(whole, "_", "")+fraction, 10, 64)
	if err != nil {
		if e, ok := err.(*strconv.NumError); ok && e.Err == strconv.ErrRange {
			return Value{}, fmt.Errorf("%q has more digits than fit (18)", s)
		}
		return Value{}, fmt.Errorf("%q is not a plain decimal number", s)
	}
	if !point {
		return Int(n), nil
	}
	return Value{Type: Decimal, Scale: uint8(len(fraction)), N: n}, nil
}

// plainDecimal reads digits with a point between them, too few of them to overflow: nearly all numbers, and in a tenth
// of the time.
func plainDecimal(s string) (v Value, ok bool) {
	digits := strings.TrimPrefix(s, "-")
	if len(digits) == 0 || len(digits) > 18 {
		return v, false
	}
	point := -1
	for i := range len(digits) {
		switch c := digits[i]; {
		case isDigit(c):
			v.N = v.N*10 + int64(c-'0')
		case c == '.' && point < 0 && i > 0 && i < len(digits)-1:
			point = i
		default:
			return Value{}, false
		}
	}
	if len(digits) < len(s) {
		v.N = -v.N
	}
	v.Type = Integer
	if point >= 0 {
		v.Type, v.Scale = Decimal, uint8(len(digits)-1-point)
	}
	return v, v.Scale <= MaxScale
}

// ParseUUID reads the usual text form of a UUID (RFC 9562).
func ParseUUID(s string) (Value, error) {
	b, err := hex.DecodeString(strings.ReplaceAll(s, "-", ""))
	if err != nil || len(b) != 16 || len(s) != 36 {
		return Value{}, fmt.Errorf("%q is not a UUID", s)
	}
	v := Value{Type: UUID}
	for i := range 8 {
		v.N = v.N<<8 | int64(b[i])
		v.M = v.M<<8 | uint64(b[8+i])
	}
	if !strings.EqualFold(v.String(), s) { // hyphens elsewhere
		return Value{}, fmt.Errorf("%q is not a UUID", s)
	}
	return v, nil
}

// Rescale gives a number another number of digits after the point, if that
// loses nothing.
func (v Value) Rescale(scale uint8) (Value, bool) {
	n := v.N
	for s := v.Scale; s < scale; s++ {
		if n > math.MaxInt64/10 || n < math.MinInt64/10 {
			return v, false
		}
		n *= 10
	}
	for s := v.Scale; s > scale; s-- {
		if n%10 != 0 {
			return v, false
		}
		n /= 10
	}
	return Value{Type: Decimal, Scale: scale, N: n}, true
}

// Pow10 is 10 to a power of 0 to 18.
func Pow10(n int) int64 {
	p := int64(1)
	for range n {
		p *= 10
	}
	return p
}

// Equal compares two values; numbers by their size, whatever their scale.
func (v *Value) Equal(w *Value) bool {
	if IsNumber(v.Type) && IsNumber(w.Type) {
		a, okA := v.Rescale(max(v.Scale, w.Scale))
		b, okB := w.Rescale(max(v.Scale, w.Scale))
		return okA && okB && a.N == b.N
	}
	return v.Type == w.Type && v.N == w.N && v.M == w.M && v.S == w.S
}

var canonicalTag = [...]byte{
	Null: '0', Integer: 'n', Decimal: 'n', Text: 't', Bytes: 'y', Boolean: 'b',
	Date: 'd', Time: 'c', Timestamp: 'm', UUID: 'u', JSON: 'j',
}

// AppendCanonical appends the value's encoding in fingerprints: equal values of a type
// have the same, whatever digits they show.
func (v *Value) AppendCanonical(b []byte) []byte {
	b = append(b, canonicalTag[v.Type])
	switch v.Type {
	case Null:
		return b
	case Integer, Decimal:
		n, scale := v.N, v.Scale
		if v.Type == Integer {
			scale = 0
		}
		for scale > 0 && n%10 == 0 {
			n /= 10
			scale--
		}
		return binary.LittleEndian.AppendUint64(append(b, scale), uint64(n))
	case Text, Bytes, JSON:
		b = binary.LittleEndian.AppendUint64(b, uint64(len(v.S)))
		return append(b, v.S...)
	default:
		b = binary.LittleEndian.AppendUint64(b, uint64(v.N))
		return binary.LittleEndian.AppendUint64(b, v.M)
	}
}

// IsNumber reports whether values of a type are numbers.
func IsNumber(t Type) bool { return t == Integer || t == Decimal }
