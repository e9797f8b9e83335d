package grow

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/rng"
	"evensprout/internal/value"
)

// dock is a family of three with groups that are unique within a row above: towns have
// piers, and piers have boats.
type dock struct {
	fleet
	town, pier, boat *Entity
	berth            *Entity
	fields           map[string]*Field
}

func (d *dock) build(towns, piers, boats uint64, withGiven bool) *dock {
	d.set = &Set{Seed: "dock", Edition: "1", Clock: must(value.ParseTimestamp("2026-05-01T08:00:00Z"))}
	d.berth = d.set.NewEntity("Berth")
	d.berth.Rows = 40
	d.berth.Key = d.field(d.berth, "id", must(Count(nil, 1, false)))
	d.town = d.set.NewEntity("Town")
	d.town.Rows = towns
	d.town.Key = d.field(d.town, "id", must(Count(nil, 1, false)))
	d.town.Fields[0].Hidden = true
	d.pier = d.set.NewEntity("Pier")
	d.pier.Parent, d.pier.Deal = d.town, must(rng.NewDeal(rng.NewKey("1", "dock", "Pier"), 1, piers))
	d.pier.Up = d.field(d.pier, "Town", Upward(d.town))
	d.pier.Key = d.field(d.pier, "id", must(Count(nil, 1, false)))
	d.boat = d.set.NewEntity("Boat")
	d.boat.Parent, d.boat.Deal = d.pier, must(rng.NewDeal(rng.NewKey("1", "dock", "Boat"), 0, boats))
	d.boat.Up = d.field(d.boat, "Pier", Upward(d.pier))
	d.boat.Key = d.field(d.boat, "id", must(Count(nil, 1, false)))
	d.fields = map[string]*Field{}
	add := func(name string, s Source) *Field {
		d.fields[name] = d.field(d.boat, name, s)
		return d.fields[name]
	}
	add("town", Same(Path{Hops: []*Field{d.boat.Up}, Field: d.pier.Up}))
	add("letter", must(Pattern("[A-Z]")))
	add("berth", Pick(d.berth, PickOptions{By: d.berth.Key}))
	add("nr", must(Count(nil, 1, true)))
	add("word", must(Choose([]value.Value{value.String("oar"), value.String("sail")}, nil)))
	start := add(
		"start",
		must(
			Between(
				must(value.ParseTimestamp("2026-05-01T08:00:00Z")),
				must(value.ParseTimestamp("2026-05-01T09:00:00Z")),
				0,
			),
		),
	)
	add(
		"at",
		must(
			Moment(
				&End{Path: &Path{Field: start}},
				nil,
				MomentOptions{Within: value.Span{Micros: 40 * value.Second}},
			),
		),
	)
	add("note", kind("sentence"))
	add("sign", Same(Path{Field: d.fields["letter"]}))
	add(
		"colour",
		must(Choose([]value.Value{value.String("red"), value.String("blue"), value.String("green")}, nil)),
	)
	add("label", d.template(d.boat, "{colour} boat"))
	if withGiven {
		d.town.AddGiven("t1", nil)
		d.pier.AddGiven("p1", map[*Field]Given{d.pier.Up: GivenRow(Row{Side: true})})
		for i, text := range []string{"C", "A", "B"} {
			d.boat.AddGiven(fmt.Sprint("b", i), map[*Field]Given{
				d.boat.Up:          GivenRow(Row{Side: true}),
				d.fields["letter"]: {Value: value.String(text)},
				d.fields["berth"]:  GivenRow(Row{N: uint64(i)}),
				d.fields["label"]:  {Value: value.String("red boat")},
			})
			if i > 0 {
				delete(d.boat.Side[i].Given, d.fields["label"])
			}
		}
	}
	return d
}

// tuples grows all boats and returns, for each, the values of some fields as one text.
func (d *dock) tuples(t *testing.T, fields ...*Field) []string {
	t.Helper()
	g := NewGrower(d.set)
	defer g.Close()
	var out []string
	for _, rows := range []struct {
		first Row
		n     uint64
	}{{Row{Side: true}, uint64(len(d.boat.Side))}, {Row{}, d.boat.Rows}} {
		var b Batch
		g.Grow(d.boat, rows.first, int(rows.n), &b)
		for i := range b.Len {
			var parts []string
			for _, f := range fields {
				parts = append(parts, value.Fold(b.Row(i)[f.index].String()))
			}
			out = append(out, strings.Join(parts, "|"))
		}
	}
	require.NoError(t, g.Err())
	return out
}

func assertDistinct(t *testing.T, tuples []string) {
	t.Helper()
	seen := map[string]int{}
	for i, x := range tuples {
		if j, ok := seen[x]; ok {
			t.Fatalf("rows %d and %d are both %s", j, i, x)
		}
		seen[x] = i
	}
	require.NotEmpty(t, tuples)
}

// Groups that name a row above, or a number among siblings, differ within it.
func TestUniqueWithinAScope(t *testing.T) {
	groups := map[string][]string{
		"parent and counted":       {"Pier", "letter"},
		"parent and pick":          {"Pier", "berth"},
		"parent, word and moment":  {"Pier", "word", "at"},
		"parent and moment":        {"Pier", "at"},
		"parent and prose":         {"Pier", "note"},
		"parent and copy":          {"Pier", "sign"},
		"parent and template":      {"Pier", "label"},
		"parent, word and letter":  {"Pier", "word", "letter"},
		"grandparent and letters":  {"town", "word", "letter"},
		"grandparent and template": {"town", "label"},
		"pick and number":          {"berth", "nr"},
		"letter and prose":         {"letter", "note"},
	}
	for name, fields := range groups {
		for _, withGiven := range []bool{false, true} {
			t.Run(fmt.Sprintf("%s, given %v", name, withGiven), func(t *testing.T) {
				d := (&dock{}).build(12, 3, 5, withGiven)
				of := func(name string) *Field {
					if name == "Pier" {
						return d.boat.Up
					}
					return d.fields[name]
				}
				var group []*Field
				for _, f := range fields {
					group = append(group, of(f))
				}
				require.False(t, Grouped(group))
				require.NoError(t, d.boat.Unique(group...))
				assert.True(t, Grouped(group))
				for i := range group {
					if len(group) > 2 {
						break
					}
					assert.False(t, Grouped([]*Field{group[i]}), "%s alone is not unique", group[i].Name)
				}
				faults := d.set.Finish()
				require.Empty(t, faults)
				all := d.tuples(t, group...)
				assertDistinct(t, all)
				assert.Equal(t, all, d.tuples(t, group...), "every row is the same again")

				// More parents change nothing of the rows that are there.
				more := (&dock{}).build(18, 3, 5, withGiven)
				var moreGroup []*Field
				for _, f := range group {
					moreGroup = append(moreGroup, more.boat.Fields[f.index])
				}
				require.NoError(t, more.boat.Unique(moreGroup...))
				require.Empty(t, more.set.Finish())
				assert.Equal(t, all, more.tuples(t, moreGroup...)[:len(all)])

				// The same tuple, drawn again, is another one.
				lead := group[len(group)-1].Redrawn()
				if len(lead) == 0 {
					return
				}
				before := d.tuples(t, group...)
				d.set.Record = NewRecord()
				d.set.Record.Redraw(lead[0], Row{N: 3})
				after := d.tuples(t, group...)
				assert.NotEqual(t, before[len(d.boat.Side)+3], after[len(d.boat.Side)+3])
			})
		}
	}
}

// What cannot be unique within a scope says how many values there are.
func TestTooFewValuesWithinAScope(t *testing.T) {
	d := (&dock{}).build(12, 3, 5, false)
	require.NoError(t, d.boat.Unique(d.boat.Up, d.fields["word"]))
	faults := d.set.Finish()
	require.Len(t, faults, 1)
	assert.Equal(
		t,
		"one Pier may have 5 rows that need different values of word, and only 2 exist",
		faults[0].Message,
	)

	d = (&dock{}).build(100, 3, 5, false)
	require.NoError(t, d.boat.Unique(d.fields["berth"], d.fields["nr"]))
	faults = d.set.Finish()
	require.Len(t, faults, 1)
	assert.Contains(t, faults[0].Message, "one number of nr may have")
	assert.Contains(t, faults[0].Message, "and only 40 exist")

	d = (&dock{}).build(12, 3, 5, true)
	d.boat.Side[1].Given[d.fields["letter"]] = Given{Value: value.String("c")}
	require.NoError(t, d.boat.Unique(d.boat.Up, d.fields["letter"]))
	faults = d.set.Finish()
	require.Len(t, faults, 1)
	assert.Equal(t, "Boat.b0 and Boat.b1 have the same letter", faults[0].Message)
}
