package mysql

import (
	"encoding/hex"
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

// field reads a field of LOAD DATA as the server does: up to a tab or a line's end that no
// backslash stands in front of.
func field(t *testing.T, b []byte) (text string, null bool) {
	t.Helper()
	if string(b) == `\N` {
		return "", true
	}
	var out strings.Builder
	for i := 0; i < len(b); i++ {
		switch {
		case b[i] == '\\':
			i++
			require.Less(t, i, len(b), "a backslash takes what stands behind the field")
			if c, ok := map[byte]byte{'t': '\t', 'n': '\n', '0': 0}[b[i]]; ok {
				out.WriteByte(c)
			} else {
				out.WriteByte(b[i])
			}
		case b[i] == '\t' || b[i] == '\n':
			t.Fatalf("the field ends early: %q", b)
		default:
			out.WriteByte(b[i])
		}
	}
	return out.String(), false
}

// What is written is what was meant.
func FuzzEncode(f *testing.F) {
	for kind := range uint8(10) {
		for _, n := range []int64{0, 1, -1, math.MaxInt64, math.MinInt64, 5_000_000_000} {
			f.Add(kind, n, uint64(7), uint8(2), "a\\b\t'\"\r\n\x00日本\\")
		}
	}
	f.Fuzz(func(t *testing.T, kind uint8, n int64, m uint64, scale uint8, s string) {
		v, c := storetest.AnyValue(kind, n, m, scale, s)
		if value.InCalendar(&v) != nil {
			return // refused before it comes here
		}
		text, null := field(t, appendField(nil, &v, c))
		require.False(t, null)
		if c.Kind == schema.Bytes {
			raw, err := hex.DecodeString(text)
			require.NoError(t, err)
			text = string(raw)
		}
		back := setwise.ReadText(c, text)
		if c.Kind == schema.Bytes {
			back = value.Value{Type: value.Bytes, S: text}
		}
		assert.True(t, storetest.SameValue(v, back), "%#v came back as %#v", v, back)
	})
}

func BenchmarkEncode(b *testing.B) {
	values, columns := storetest.EncodedCells()
	var buf []byte
	for b.Loop() {
		buf = buf[:0]
		for i := range values {
			buf = appendText(buf, &values[i], columns[i])
		}
	}
	b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(b.N*len(values)), "ns/cell")
}
