package grow

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/value"
)

func TestDrawsAreCounted(t *testing.T) {
	s := &Set{Edition: "1", Seed: "s"}
	port := s.NewEntity("Port")
	port.Rows = 1000
	id := s.NewField(port, "id", "id")
	id.Source, _ = Count(nil, 1, false)
	port.Key = id
	kind := s.NewField(port, "kind", "kind")
	kind.Source, _ = Choose([]value.Value{value.String("dry"), value.String("wet")}, []uint64{3, 1})
	trip := s.NewEntity("Trip")
	trip.Rows = 500
	from := s.NewField(trip, "from", "from")
	wet := Condition{Path: Path{Field: kind}, Any: []value.Value{value.String("wet")}}
	from.Source = Pick(port, PickOptions{By: id, Where: []Condition{wet}})
	like := s.NewField(trip, "like", "like")
	like.Source, _ = Choose([]value.Value{value.String("dry"), value.String("wet")}, []uint64{1, 1})
	to := s.NewField(trip, "to", "to")
	to.Source = Pick(port, PickOptions{By: id, Where: []Condition{{Path: Path{Field: kind}, As: &Path{Field: like}}}})
	level := s.NewField(trip, "level", "level")
	level.Source, _ = Between(value.Int(1), value.Int(100), 1)
	trip.Meets = []*Meet{{Text: "level > 75", Fields: []*Field{level},
		Holds: func(v []value.Value) bool { return v[0].N > 75 }}}
	require.Empty(t, s.Finish())
	g := NewGrower(s)
	defer g.Close()

	found, ok := g.Searched(from, 1000)
	require.True(t, ok)
	assert.Equal(t, Search{Looked: 1000, Right: 250, Found: true}, found)
	tried, ok := g.Searched(to, 4000)
	require.True(t, ok)
	assert.False(t, tried.Found)
	assert.InDelta(t, 2000, tried.Right, 150, "half of the trips look for a quarter, half for the rest")
	_, ok = g.Searched(like, 1000)
	assert.False(t, ok)

	texts, draws := g.Redraws(trip, 500)
	assert.Equal(t, []string{"level > 75"}, texts)
	assert.Equal(t, uint64(500), draws[0].Right)
	assert.InDelta(t, 2000, draws[0].Looked, 250, "a quarter of the draws")
	texts, _ = g.Redraws(port, 100)
	assert.Empty(t, texts)
}
