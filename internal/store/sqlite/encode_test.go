package sqlite

import (
	"math"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"zombiezen.com/go/sqlite"

	"evensprout/internal/store/storetest"
	"evensprout/internal/value"
)

// What is bound is what is read.
func FuzzEncode(f *testing.F) {
	for kind := range uint8(10) {
		for _, n := range []int64{0, 1, -1, math.MaxInt64, math.MinInt64, 5_000_000_000} {
			f.Add(kind, n, uint64(7), uint8(2), "a\\b\t'\"\r\n日本")
		}
	}
	conn, err := sqlite.OpenConn(":memory:", sqlite.OpenReadWrite|sqlite.OpenCreate)
	require.NoError(f, err)
	f.Cleanup(func() { conn.Close() })
	f.Fuzz(func(t *testing.T, kind uint8, n int64, m uint64, scale uint8, s string) {
		v, c := storetest.AnyValue(kind, n, m, scale, s)
		if value.InCalendar(&v) != nil || strings.ContainsRune(v.S, 0) {
			return // refused before it comes here
		}
		stmt, err := conn.Prepare("SELECT ?")
		require.NoError(t, err)
		defer stmt.Reset()
		bind(stmt, 1, &v, c)
		_, err = stmt.Step()
		require.NoError(t, err)
		back := read(stmt, 0, c)
		assert.True(t, storetest.SameValue(v, back), "%#v came back as %#v", v, back)
	})
}

func BenchmarkEncode(b *testing.B) {
	values, columns := storetest.EncodedCells()
	conn, err := sqlite.OpenConn(":memory:", sqlite.OpenReadWrite|sqlite.OpenCreate)
	require.NoError(b, err)
	defer conn.Close()
	stmt, err := conn.Prepare("SELECT ?" + strings.Repeat(", ?", len(values)-1))
	require.NoError(b, err)
	b.ReportAllocs()
	for b.Loop() {
		for i := range values {
			bind(stmt, i+1, &values[i], columns[i])
		}
	}
	b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(b.N*len(values)), "ns/cell")
}
