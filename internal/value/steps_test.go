package value_test

import (
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/value"
)

func TestStepsAreThoseThatPeopleCount(t *testing.T) {
	starts := func(least, most value.Value, n int) (out []string) {
		for _, v := range value.Steps(least, most, n) {
			out = append(out, v.String())
		}
		return out
	}
	assert.Equal(t, []string{"0", "100", "200", "300", "400", "500"}, starts(value.Int(3), value.Int(500), 8))
	assert.Equal(t, []string{"-20", "-10", "0", "10"}, starts(value.Int(-13), value.Int(11), 5))
	low, _ := value.ParseDecimal("2.00")
	high, _ := value.ParseDecimal("9.5")
	assert.Equal(t, []string{"2.00", "4.00", "6.00", "8.00"}, starts(low, high, 6))
	from, _ := value.ParseTimestamp("2026-05-01T08:12:00Z")
	to, _ := value.ParseTimestamp("2026-05-02T07:00:00Z")
	assert.Equal(t, []string{"2026-05-01T06:00:00Z", "2026-05-01T12:00:00Z", "2026-05-01T18:00:00Z",
		"2026-05-02T00:00:00Z", "2026-05-02T06:00:00Z"}, starts(from, to, 6))
	assert.Nil(t, starts(value.Int(4), value.Int(4), 6))
	assert.Nil(t, starts(value.Value{}, value.Value{}, 6))
}

// Whatever the range: steps cover it, they are equally wide, there are not too many, and each value is in its own.
func TestStepsCoverTheirRange(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	for range 5000 {
		a, b := int64(r.Uint64())>>r.IntN(64), int64(r.Uint64())>>r.IntN(64)
		least, most := value.Int(min(a, b)), value.Int(max(a, b))
		starts := value.Steps(least, most, 32)
		if starts == nil {
			require.Equal(t, a, b)
			continue
		}
		require.LessOrEqual(t, len(starts), 32)
		require.LessOrEqual(t, starts[0].N, least.N)
		require.LessOrEqual(t, starts[len(starts)-1].N, most.N)
		for i, v := range starts {
			if i > 0 && v.N >= least.N {
				require.Equal(t, i, value.StepOf(starts, v))
				require.Equal(t, i-1, value.StepOf(starts, value.Int(v.N-1)))
			}
		}
		require.Equal(t, len(starts)-1, value.StepOf(starts, most))
		require.Zero(t, value.StepOf(starts, least))
	}
}
