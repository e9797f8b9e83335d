package cli

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"evensprout/internal/load"
)

// A narrow terminal shows all of what a wide one shows, on more lines.
func TestProgressFits(t *testing.T) {
	p := load.Progress{Done: 673_028, Total: 1_915_062, LeftOut: 12}
	parts := howFar(p, "rows", 10*time.Second)
	assert.Equal(t, []string{
		"  673,028 of 1,915,062 rows, 67,302 per second, 18s left, 12 rows left out",
	}, packed(parts, 80))
	assert.Equal(t, []string{
		"  673,028 of 1,915,062 rows, 67,302 per second, 18s left,",
		"  12 rows left out",
	}, packed(parts, 60))
	assert.Equal(t, []string{"  a,", "  b"}, packed([]string{"a", "b"}, 1))
	p.LeftOut = 0
	assert.Len(t, howFar(p, "rows", 0), 3)
}
