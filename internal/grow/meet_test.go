package grow

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/value"
)

// meeting is a set with an entity of four numbers, of which conditions tie some.
func meeting(t *testing.T, rows uint64, meets func(a, b, c, d *Field) []*Meet) (*Set, *Entity) {
	t.Helper()
	s := &Set{Seed: "meet", Edition: "1"}
	e := s.NewEntity("Pair")
	e.Rows = rows
	var f [4]*Field
	for i, name := range []string{"a", "b", "c", "d"} {
		f[i] = s.NewField(e, name, name)
		src, err := Between(value.Int(1), value.Int(100), 0)
		require.NoError(t, err)
		f[i].Source = src
	}
	f[1].Nulls = Share{10, 100}
	e.Meets = meets(f[0], f[1], f[2], f[3])
	require.Empty(t, s.Finish())
	return s, e
}

func rowsOfPair(s *Set, e *Entity) ([][]value.Value, error) {
	var b Batch
	g := NewGrower(s)
	g.Grow(e, Row{}, int(e.Rows), &b)
	out := make([][]value.Value, b.Len)
	for i := range out {
		out[i] = b.Row(i)
	}
	return out, g.Err()
}

func less2(fields ...*Field) *Meet {
	return &Meet{
		Text:   "a < b",
		Fields: fields,
		Holds:  func(v []value.Value) bool { return v[0].IsNull() || v[1].IsNull() || v[0].N < v[1].N },
	}
}

// Rows are drawn until they meet the conditions; what the conditions do not name stays as
// it was, rows that meet them at once too, and any row can be grown alone.
func TestRowsAreDrawnUntilTheyMeet(t *testing.T) {
	s, e := meeting(t, 500, func(a, b, c, d *Field) []*Meet { return []*Meet{less2(a, b), less2(b, c)} })
	rows, err := rowsOfPair(s, e)
	require.NoError(t, err)
	plain, plainEntity := meeting(t, 500, func(a, b, c, d *Field) []*Meet { return nil })
	before, err := rowsOfPair(plain, plainEntity)
	require.NoError(t, err)
	kept := 0
	alone := NewGrower(s)
	for i, r := range rows {
		assert.True(t, r[1].IsNull() || r[0].N < r[1].N && r[1].N < r[2].N, "%v", r)
		assert.Equal(t, before[i][3], r[3], "d is in no condition")
		if w := before[i]; w[1].IsNull() || w[0].N < w[1].N && w[1].N < w[2].N {
			assert.Equal(t, w, r, "it met them at once")
			kept++
		}
		var one Batch
		alone.Grow(e, Row{N: uint64(len(rows) - 1 - i)}, 1, &one)
		assert.Equal(t, rows[len(rows)-1-i], one.Row(0))
	}
	assert.Greater(t, kept, 50)
	assert.Less(t, kept, 450)
}

// Conditions that share no field do not disturb each other.
func TestConditionsAreTiedByTheirFields(t *testing.T) {
	_, e := meeting(t, 1, func(a, b, c, d *Field) []*Meet { return []*Meet{less2(a, b), less2(c, d)} })
	require.Len(t, e.ties, 2)
	_, e = meeting(t, 1, func(a, b, c, d *Field) []*Meet { return []*Meet{less2(a, b), less2(c, d), less2(b, c)} })
	require.Len(t, e.ties, 1)
	assert.Len(t, e.ties[0].fields, 4)
	assert.Len(t, e.ties[0].meets, 3)
}

// What nothing can meet is told by its text, and growing ends.
func TestAConditionThatNothingMeets(t *testing.T) {
	s, e := meeting(t, 3, func(a, b, c, d *Field) []*Meet {
		return []*Meet{
			{Text: "a > 1000", Fields: []*Field{a}, Holds: func(v []value.Value) bool { return v[0].N > 1000 }},
		}
	})
	_, err := rowsOfPair(s, e)
	assert.EqualError(t, err, "Pair row 0, field a: none of 1000 tries meets the condition a > 1000")
}

// Fields that others are made of are drawn again with them; those of a unique group stay.
func TestWhatAConditionDependsOn(t *testing.T) {
	s := &Set{Seed: "meet", Edition: "1"}
	e := s.NewEntity("Stay")
	e.Rows = 300
	field := func(name string, src Source, err error) *Field {
		require.NoError(t, err)
		f := s.NewField(e, name, name)
		f.Source = src
		return f
	}
	src, err := Between(value.Value{Type: value.Date, N: 20000}, value.Value{Type: value.Date, N: 20400}, 0)
	from := field("from", src, err)
	src, err = Moment(&End{Path: &Path{Field: from}}, nil, MomentOptions{Within: value.Span{Micros: 30 * value.Day}})
	to := field("to", src, err)
	src, err = Between(value.Int(1), value.Int(1000), 0)
	number := field("number", src, err)
	require.NoError(t, e.Unique(number))
	e.Meets = []*Meet{
		{Text: "to", Fields: []*Field{to, number}, Holds: func(v []value.Value) bool { return v[0].N%7 == v[1].N%7 }},
	}
	require.Empty(t, s.Finish())
	rows, err := rowsOfPair(s, e)
	require.NoError(t, err)
	seen := map[int64]bool{}
	for _, r := range rows {
		assert.Greater(t, r[1].N, r[0].N)
		assert.Equal(t, r[1].N%7, r[2].N%7)
		assert.False(t, seen[r[2].N])
		seen[r[2].N] = true
	}
}
