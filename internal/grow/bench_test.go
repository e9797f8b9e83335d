package grow

import (
	"testing"

	"github.com/stretchr/testify/require"

	"evensprout/internal/value"
)

// BenchmarkCells grows one field of a table; each line tells nanoseconds a cell
// and bytes and allocations a row.
func BenchmarkCells(b *testing.B) {
	clock := must(value.ParseTimestamp("2026-05-01T08:00:00Z"))
	const width = 8 // fields of the same source, so that a row's own cost is shared
	plain := func(s Source) func(*fleet, *Entity) {
		return func(x *fleet, e *Entity) {
			for i := range width {
				x.field(e, "cell"+string(rune('a'+i)), s)
			}
		}
	}
	for _, c := range []struct {
		name string
		add  func(*fleet, *Entity)
	}{
		{"literal", plain(Literal(value.String("x")))},
		{"count", plain(must(Count(nil, 1, false)))},
		{"between", plain(must(Between(value.Int(1), value.Int(1000), 0)))},
		{"decimal", plain(must(Between(must(value.ParseDecimal("1.00")), must(value.ParseDecimal("99.95")), 5)))},
		{"choose", plain(must(Choose([]value.Value{value.String("active"), value.String("dormant"),
			value.String("barred")}, []uint64{80, 15, 5})))},
		{"share", plain(True(Share{31, 100}))},
		{"moment", plain(must(Moment(nil, &End{Fixed: clock}, MomentOptions{Within: must(value.ParseSpan("400d"))})))},
		{"uuid", plain(RandomUUID())},
		{"kind", plain(kind("given-name"))},
		{"kind-composed", plain(kind("name"))},
		{"pattern", plain(must(Pattern("[A-HJ-NP-Z]{2}[0-9]{6}")))},
		{"pattern-unique", func(x *fleet, e *Entity) {
			plain(must(Pattern("[A-HJ-NP-Z]{2}[0-9]{6}")))(x, e)
			for _, f := range e.Fields {
				require.NoError(b, e.Unique(f))
			}
		}},
		{"text", func(x *fleet, e *Entity) { // three parts, two filters
			x.field(e, "a", Literal(value.String("Open Deck")))
			x.field(e, "b", Literal(value.String("Larkspur")))
			t := x.template(e, "{a|lower}.{b|upper}")
			for i := range width {
				x.field(e, "cell"+string(rune('a'+i)), t)
			}
		}},
		{"sentence", plain(kind("sentence"))},
		{"html", plain(kind("html"))},
	} {
		b.Run(c.name, func(b *testing.B) {
			x := &fleet{set: &Set{Seed: "bench", Edition: "1"}}
			e := x.set.NewEntity("Thing")
			e.Rows = 100_000_000
			c.add(x, e)
			require.Empty(b, x.set.Finish())
			growAll(b, x.set, e, width)
		})
	}
}

// BenchmarkRows grows whole rows, keys, references, texts and sums included.
func BenchmarkRows(b *testing.B) {
	x := (&fleet{rows: 10_000_000}).build(b)
	for _, e := range x.set.Entities[1:] {
		b.Run(e.Name, func(b *testing.B) { growAll(b, x.set, e, len(e.Fields)) })
	}
}

func growAll(b *testing.B, s *Set, e *Entity, width int) {
	const step = 1000
	g := NewGrower(s)
	var batch Batch
	g.Grow(e, Row{}, step, &batch)
	b.ReportAllocs()
	b.ResetTimer()
	at := uint64(0)
	for n := 0; n < b.N; n += step {
		g.Grow(e, Row{N: at % (e.Rows - step)}, min(step, b.N-n), &batch)
		at += step
	}
	b.ReportMetric(float64(b.N)*float64(width)/b.Elapsed().Seconds()/1e6, "Mcells/s")
	b.ReportMetric(b.Elapsed().Seconds()*1e9/float64(b.N)/float64(width), "ns/cell")
}
