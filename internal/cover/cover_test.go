package cover

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// missing counts the combinations that no row has, of those that some allowed row can have.
func missing(levels []int, strength int, rows [][]int, allowed func([]int) bool) int {
	s := newSearch(levels, strength, nil)
	for _, row := range rows {
		for i := range s.sets {
			s.seen[s.tuple(&s.sets[i], row)]++
		}
	}
	can := make([]bool, s.tuples)
	var all func(row []int)
	all = func(row []int) {
		if len(row) == len(levels) {
			if allowed == nil || allowed(row) {
				for i := range s.sets {
					can[s.tuple(&s.sets[i], row)] = true
				}
			}
			return
		}
		for c := range levels[len(row)] {
			all(append(row, c))
		}
	}
	if allowed != nil {
		all(nil)
	}
	n := 0
	for at, seen := range s.seen {
		if seen == 0 && (allowed == nil || can[at]) {
			n++
		}
	}
	return n
}

func same(n, levels int) []int {
	out := make([]int, n)
	for i := range out {
		out[i] = levels
	}
	return out
}

// The best known sizes are those of the literature on covering arrays.
func TestEveryCombinationIsCovered(t *testing.T) {
	for name, c := range map[string]struct {
		levels   []int
		strength int
		best     int
	}{
		"ten of four":        {same(10, 4), 2, 24},
		"four of three":      {same(4, 3), 2, 9},
		"thirteen of three":  {same(13, 3), 2, 15},
		"twenty yes or no":   {same(20, 2), 2, 8},
		"mixed":              {[]int{5, 4, 3, 3, 2, 2, 2}, 2, 20},
		"one":                {[]int{7}, 2, 7},
		"two":                {[]int{3, 5}, 2, 15},
		"triples of yes, no": {same(10, 2), 3, 12},
		"triples of three":   {same(6, 3), 3, 33},
	} {
		rows, err := Rows(c.levels, c.strength, nil)
		require.NoError(t, err, name)
		assert.Zero(t, missing(c.levels, min(c.strength, len(c.levels)), rows, nil), name)
		assert.LessOrEqual(t, float64(len(rows)), 1.5*float64(c.best), "%s: %d rows", name, len(rows))
		t.Logf("%s: %d rows, best known %d", name, len(rows), c.best)
		again, err := Rows(c.levels, c.strength, nil)
		require.NoError(t, err)
		assert.Equal(t, rows, again, "the same rows each time")
	}
}

// Ten fields of four choices take at most 1.25 times the best known number of rows.
func TestTenFieldsOfFour(t *testing.T) {
	rows, err := Rows(same(10, 4), 2, nil)
	require.NoError(t, err)
	assert.LessOrEqual(t, len(rows), 30)
}

func TestConditionsAreRespected(t *testing.T) {
	levels := []int{3, 3, 3, 2, 2}
	allowed := func(row []int) bool { return row[0] != row[1] && (row[3] == 0 || row[2] == 1) }
	for _, strength := range []int{2, 3} {
		rows, err := Rows(levels, strength, allowed)
		require.NoError(t, err)
		for _, row := range rows {
			assert.True(t, allowed(row), row)
		}
		assert.Zero(t, missing(levels, strength, rows, allowed), "strength %d", strength)
	}
	_, err := Rows(levels, 2, func([]int) bool { return false })
	require.ErrorContains(t, err, "no row meets the conditions")
}

func TestLimits(t *testing.T) {
	_, err := Rows(nil, 2, nil)
	require.Error(t, err)
	_, err = Rows(same(3, 2), 4, nil)
	require.ErrorContains(t, err, "strength")
	_, err = Rows(same(100, 100), 2, nil)
	require.ErrorContains(t, err, "too many")
}

func BenchmarkTenFieldsOfFour(b *testing.B) {
	for b.Loop() {
		if _, err := Rows(same(10, 4), 2, nil); err != nil {
			b.Fatal(err)
		}
	}
}
