package order

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/grow"
	"evensprout/internal/plan"
)

func compiled(t *testing.T, entities string) *plan.Compiled {
	t.Helper()
	p, err := plan.Read("plan.yaml", []byte("name: t\nseed: s\nclock: 2026-05-01T08:00:00Z\nentities:\n"+entities))
	require.NoError(t, err)
	c, err := p.Compile(plan.Options{})
	require.NoError(t, err)
	return c
}

const ferries = `
  Ticket:
    per: {Booking: 1..4}
    fields: {class: {pick: FareClass}}
  Booking:
    per: {Passenger: 0..3}
    fields: {sailing: {pick: Sailing}}
  Passenger:
    rows: 90
    given: {ada: {}, bo: {}, cy: {}}
  Sailing:
    rows: 5
    fields: {vessel: {pick: Vessel}}
  Vessel: {rows: 3}
  FareClass: {rows: 2}
`

func names(o Order) []string {
	var out []string
	for _, t := range o.Targets() {
		out = append(out, t.Plan.Name)
	}
	return out
}

func TestParentsAndPickedEntitiesComeFirst(t *testing.T) {
	o := Of(compiled(t, ferries))
	assert.Equal(t, []string{"Vessel", "Sailing", "FareClass", "Passenger", "Booking", "Ticket"}, names(o))
	assert.Empty(t, o.Late)
}

func TestCirclesAreNoticed(t *testing.T) {
	for _, c := range []struct {
		name, entities string
		circular       bool
	}{
		{"two that pick each other", "  A: {rows: 2, fields: {b: {pick: B}}}\n  B: {rows: 2, fields: {a: {pick: " +
			"A}}}\n", true},
		{"a parent that picks a child", "  A: {rows: 2, fields: {best: {pick: B}}}\n  B: {per: {A: 2}}\n", true},
		{"a child that picks another parent", "  A: {rows: 2}\n  B: {per: {A: 2}, fields: {other: {pick: A}}}\n", true},
		{"one that picks itself", "  A: {rows: 2, fields: {boss: {pick: A}}}\n", false},
		{"a plain pick", "  A: {rows: 2, fields: {b: {pick: B}}}\n  B: {rows: 2}\n", false},
	} {
		assert.Equal(t, c.circular, len(Of(compiled(t, c.entities)).Late) > 0, c.name)
	}
}

// Whatever the size of chunks: every row comes exactly once and in order, no family
// is split, and a chunk is too large only if a single family is.
func TestChunksKeepFamiliesWhole(t *testing.T) {
	c := compiled(t, ferries)
	o := Of(c)
	g := grow.NewGrower(c.Set)
	for _, most := range []uint64{1, 2, 3, 7, 20, 100, 1000} {
		for _, f := range o.Families {
			next := map[*plan.Target]map[bool]uint64{}
			for _, tg := range f {
				next[tg] = map[bool]uint64{}
			}
			for chunk := range f.Chunks(g, most, Part{}, nil) {
				rows, roots := uint64(0), uint64(0)
				inside := map[*grow.Entity]Run{}
				for _, r := range chunk {
					assert.Equal(t, next[r.Target][r.First.Side], r.First.N)
					next[r.Target][r.First.Side] += r.Rows
					rows += r.Rows
					inside[r.Target.Grow] = r
					if r.Target.Grow.Parent == nil {
						roots = r.Rows
					}
				}
				assert.True(t, rows <= most || roots == 1, "%d rows of %d families in a chunk of %d", rows, roots, most)
				for e, r := range inside {
					if e.Parent == nil {
						continue
					}
					var b grow.Batch
					g.Grow(e, r.First, int(r.Rows), &b)
					for i := range b.Len {
						parent, ok := g.Refers(e, b.At(i), e.Up)
						require.True(t, ok)
						up := inside[e.Parent]
						assert.True(
							t,
							parent.Side == up.First.Side && parent.N >= up.First.N && parent.N < up.First.N+up.Rows,
							"the parent is in another chunk",
						)
					}
				}
			}
			for _, tg := range f {
				assert.Equal(t, tg.Grow.Rows, next[tg][false], tg.Plan.Name)
				assert.Equal(t, uint64(len(tg.Grow.Side)), next[tg][true], tg.Plan.Name)
			}
		}
	}
}

func TestSkippedEntitiesAreInNoChunk(t *testing.T) {
	c := compiled(t, ferries)
	o := Of(c)
	g := grow.NewGrower(c.Set)
	for _, f := range o.Families {
		for chunk := range f.Chunks(g, 10, Part{}, func(t *plan.Target) bool { return t.Plan.Name == "Booking" }) {
			for _, r := range chunk {
				assert.NotEqual(t, "Booking", r.Target.Plan.Name)
			}
		}
	}
}
