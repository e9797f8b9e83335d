package postgres

import (
	"encoding/binary"
	"math"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/schema"
	"evensprout/internal/store/setwise"
	"evensprout/internal/store/storetest"
	"evensprout/internal/value"
)

// decoded reads a binary cell as the server does.
func decoded(t *testing.T, b []byte, c *schema.Column) value.Value {
	t.Helper()
	require.GreaterOrEqual(t, len(b), 4)
	n := int32(binary.BigEndian.Uint32(b))
	if b = b[4:]; n < 0 {
		return value.Value{}
	}
	require.Len(t, b, int(n))
	switch c.Type {
	case "int2":
		return value.Int(int64(int16(binary.BigEndian.Uint16(b))))
	case "int4":
		return value.Int(int64(int32(binary.BigEndian.Uint32(b))))
	case "int8":
		return value.Int(int64(binary.BigEndian.Uint64(b)))
	case "numeric":
		return numeric(t, b)
	case "bool":
		return value.Bool(b[0] != 0)
	case "date":
		return value.Value{Type: value.Date, N: int64(int32(binary.BigEndian.Uint32(b))) + epochDays}
	case "time":
		return value.Value{Type: value.Time, N: int64(binary.BigEndian.Uint64(b))}
	case "timestamp":
		return value.Value{Type: value.Timestamp, N: int64(binary.BigEndian.Uint64(b)) + epochMicroseconds}
	case "uuid":
		return value.Value{Type: value.UUID, N: int64(binary.BigEndian.Uint64(b)), M: binary.BigEndian.Uint64(b[8:])}
	case "bytea":
		return value.Value{Type: value.Bytes, S: string(b)}
	case "json":
		return value.Value{Type: value.JSON, S: string(b)}
	case "jsonb":
		require.EqualValues(t, 1, b[0])
		return value.Value{Type: value.JSON, S: string(b[1:])}
	}
	return value.String(string(b))
}

// numeric reads digits of base 10,000.
func numeric(t *testing.T, b []byte) value.Value {
	t.Helper()
	word := func(i int) int { return int(int16(binary.BigEndian.Uint16(b[2*i:]))) }
	count, weight, sign, scale := word(0), word(1), uint16(word(2)), word(3)
	digit := func(place int) string { // of a power of the base
		d := 0
		if i := weight - place; i >= 0 && i < count {
			d = word(4 + i)
		}
		return strings.Repeat("0", 4-len(itoa(d))) + itoa(d)
	}
	whole, fraction := "0", ""
	for place := max(weight, 0); place >= 0; place-- {
		whole += digit(place)
	}
	for place := -1; len(fraction) < scale; place-- {
		fraction += digit(place)
	}
	text := strings.TrimLeft(whole, "0")
	if text == "" {
		text = "0"
	}
	if scale > 0 {
		text += "." + fraction[:scale]
	}
	if sign == 0x4000 {
		text = "-" + text
	}
	v, err := value.ParseDecimal(text)
	require.NoError(t, err, text)
	return v
}

func itoa(n int) string { return value.Int(int64(n)).String() }

// What is written is what was meant, or it is refused.
func FuzzEncode(f *testing.F) {
	for kind := range uint8(12) {
		for _, n := range []int64{0, 1, -1, 12345, math.MaxInt16, math.MaxInt32, math.MinInt32 - 1, math.MaxInt64,
			math.MinInt64, 5_000_000_000} {
			f.Add(kind, n, uint64(7), uint8(2), "a\\b\t'\"\r\n日本")
		}
	}
	f.Fuzz(func(t *testing.T, kind uint8, n int64, m uint64, scale uint8, s string) {
		v, c := storetest.AnyValue(kind, n, m, scale, s)
		for _, typ := range map[schema.Kind][]string{
			schema.Integer: {"int2", "int4", "int8", "numeric"}, schema.Decimal: {"numeric"}, schema.Text: {"text"},
			schema.Bytes: {"bytea"}, schema.Boolean: {"bool"},
			schema.Date: {"date"}, schema.Time: {"time"}, schema.Timestamp: {"timestamp"}, schema.UUID: {"uuid"},
			schema.JSON: {"json", "jsonb"},
		}[c.Kind] {
			c.Type, c.Declared = typ, typ
			b, err := appendBinary(nil, &v, c)
			if err != nil {
				limits := map[string]int64{"int2": math.MaxInt16, "int4": math.MaxInt32}
				beyond := limits[typ] > 0 && (v.N > limits[typ] || v.N < -limits[typ]-1)
				assert.True(
					t,
					beyond || value.InCalendar(&v) != nil || strings.ContainsRune(v.S, 0),
					"%s does not go into %s: %s",
					v,
					typ,
					err,
				)
				continue
			}
			back := decoded(t, b, c)
			if typ == "numeric" && v.Type == value.Integer && back.Type == value.Integer {
				assert.Equal(t, v.N, back.N)
				continue
			}
			assert.True(t, storetest.SameValue(v, back), "%s: %#v came back as %#v", typ, v, back)
		}
		if value.InCalendar(&v) == nil && !strings.ContainsRune(v.S, 0) {
			back := setwise.ReadText(c, string(appendText(nil, &v, c)))
			assert.True(t, storetest.SameValue(v, back), "as text: %#v came back as %#v", v, back)
		}
	})
}

func BenchmarkEncode(b *testing.B) {
	values, columns := storetest.EncodedCells()
	var buf []byte
	var err error
	for b.Loop() {
		buf = buf[:0]
		for i := range values {
			if buf, err = appendBinary(buf, &values[i], columns[i]); err != nil {
				b.Fatal(err)
			}
		}
	}
	b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(b.N*len(values)), "ns/cell")
}
