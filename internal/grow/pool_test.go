package grow

import (
	"fmt"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/value"
)

// stock is an entity that picks rows of another at most once, with a letter or without.
func stock(visits, goods uint64, sides int, where, letter, two bool) (set *Set, tickets *Entity) {
	x := &fleet{set: &Set{Seed: "stock", Edition: "1", Clock: must(value.ParseTimestamp("2026-05-01T08:00:00Z"))}}
	visit := x.set.NewEntity("Visit")
	visit.Rows = visits
	visit.Key = x.field(visit, "id", RandomUUID())
	state := x.field(visit, "state", must(Choose([]value.Value{value.String("open"), value.String("shut")}, nil)))
	other := x.set.NewEntity("Other")
	other.Rows = visits / 3
	other.Key = x.field(other, "id", RandomUUID())
	ticket := x.set.NewEntity("Ticket")
	ticket.Rows = goods
	ticket.Key = x.field(ticket, "id", RandomUUID())
	o := PickOptions{By: visit.Key}
	if where {
		o.Where = []Condition{{Path: Path{Field: state}, Any: []value.Value{value.String("open")}}}
	}
	fields := []*Field{x.field(ticket, "visit", Pick(visit, o))}
	if letter {
		fields = append(fields, x.field(ticket, "letter", must(Pattern("[A-C]"))))
	}
	if two {
		fields = append(fields, x.field(ticket, "other", Pick(other, PickOptions{By: other.Key})))
	}
	for i := range sides {
		visit.AddGiven(fmt.Sprint("v", i), map[*Field]Given{state: {Value: value.String("open")}})
		ticket.AddGiven(fmt.Sprint("t", i), nil)
	}
	if err := ticket.Unique(fields...); err != nil {
		panic(err)
	}
	return x.set, ticket
}

func tuplesOf(t *testing.T, set *Set, e *Entity, from, fromSide uint64) (out []string) {
	t.Helper()
	g := NewGrower(set)
	defer g.Close()
	for _, run := range []struct {
		first Row
		n     int
	}{{Row{N: fromSide, Side: true}, len(e.Side) - int(fromSide)}, {Row{N: from}, int(e.Rows - from)}} {
		var b Batch
		g.Grow(e, run.first, run.n, &b)
		for i := range b.Len {
			out = append(out, fmt.Sprint(b.Row(i)[1:]))
		}
	}
	require.NoError(t, g.Err())
	return out
}

// However a pool and those that draw from it grow from load to load, no two rows ever
// draw the same; and each load can be grown again.
func TestPoolsThatGrow(t *testing.T) {
	r := rand.New(rand.NewPCG(17, 4))
	for try := range 300 {
		where, letter, two := r.IntN(2) == 0, r.IntN(2) == 0, r.IntN(2) == 0
		visits, tickets, sides := uint64(20+r.IntN(100)), uint64(2+r.IntN(5)), r.IntN(3)
		var earlier []Sizes
		var before Size
		seen := map[string]string{}
		for load := range 4 {
			set, ticket := stock(visits, tickets, sides, where, letter, two)
			require.Empty(t, set.Finish())
			name := fmt.Sprintf(
				"try %d, load %d: %d visits, %d tickets, %d by hand, %v %v %v",
				try,
				load,
				visits,
				tickets,
				sides,
				where,
				letter,
				two,
			)
			require.Empty(t, set.Continue(earlier), name)
			all := tuplesOf(t, set, ticket, before.Rows, before.Side)
			assert.Equal(t, all, tuplesOf(t, set, ticket, before.Rows, before.Side), name)
			for _, x := range all {
				if other, ok := seen[x]; ok {
					t.Fatalf("%s: %s has %s", name, other, x)
				}
				seen[x] = name
			}
			// What the rows before have picked is what they picked then.
			for _, x := range tuplesOf(t, set, ticket, 0, 0) {
				require.Contains(t, seen, x, name)
			}
			now := Sizes{}
			for _, e := range set.Entities {
				now[e.Name] = Size{e.Rows, uint64(len(e.Side))}
			}
			earlier, before = append(earlier, now), now["Ticket"]
			visits, tickets, sides = visits+uint64(r.IntN(60)), tickets+uint64(r.IntN(5)), sides+r.IntN(2)
		}
	}
}

// Where rows that are there leave too little, that is said.
func TestPoolsThatAreUsedUp(t *testing.T) {
	set, _ := stock(10, 10, 0, false, false, false)
	require.Empty(t, set.Finish())
	earlier := []Sizes{{"Visit": {Rows: 10}, "Ticket": {Rows: 10}}}
	set, _ = stock(12, 12, 0, false, false, false)
	require.Empty(t, set.Finish())
	assert.Empty(t, set.Continue(earlier), "two are new, and two are wanted")
	set, _ = stock(12, 12, 0, false, false, false)
	require.Empty(t, set.Finish())
	earlier[0]["Ticket"] = Size{Rows: 9}
	assert.Empty(t, set.Continue(earlier))
	faults := func() []*FinishError {
		set, _ := stock(12, 12, 0, true, false, false)
		set.Finish()
		return set.Continue([]Sizes{{"Visit": {Rows: 10}, "Ticket": {Rows: 3}}})
	}()
	require.Len(t, faults, 1)
	assert.Regexp(
		t,
		`^9 more rows need different values of visit, and existing rows leave only [0-8]$`,
		faults[0].Message,
	)
}
