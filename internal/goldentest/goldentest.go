// Package goldentest keeps what a frozen edition generates.
package goldentest

import (
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Frozen compares text with the golden file. With update it writes lines that are new, such as those of a new kind, but
// fails all the same if a line that is there would change or disappear.
func Frozen(t testing.TB, file, text string, update bool) {
	t.Helper()
	kept, err := os.ReadFile(file)
	if update && (err == nil || os.IsNotExist(err)) {
		for _, line := range strings.SplitAfter(string(kept), "\n") {
			require.Contains(t, text, line, "rows of a frozen edition never change: this belongs in a new edition")
		}
		require.NoError(t, os.WriteFile(file, []byte(text), 0o644))
		return
	}
	require.NoError(t, err)
	want, got := strings.Split(string(kept), "\n"), strings.Split(text, "\n")
	for i := range min(len(want), len(got)) {
		assert.Equal(t, want[i], got[i], "%s:%d", file, i+1)
	}
	assert.Len(t, got, len(want), file)
}
