package goldentest

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// probe is a test that may fail.
type probe struct {
	testing.TB
	failed bool
}

func (p *probe) Errorf(string, ...any) { p.failed = true }
func (p *probe) FailNow()              { p.failed = true; panic(p) }
func (p *probe) Helper()               {}
func (p *probe) Name() string          { return "probe" }

// failed reports whether a comparison fails.
func failed(file, text string, update bool) bool {
	p := &probe{}
	func() {
		defer func() { _ = recover() }() // of FailNow
		Frozen(p, file, text, update)
	}()
	return p.failed
}

func TestFrozenLinesStay(t *testing.T) {
	file := filepath.Join(t.TempDir(), "rows.golden")
	assert.True(t, failed(file, "a\nc\n", false), "there is no file")
	assert.False(t, failed(file, "a\nc\n", true))
	assert.False(t, failed(file, "a\nc\n", false))
	assert.True(t, failed(file, "a\nb\nc\n", false), "a new line is not kept yet")
	assert.False(t, failed(file, "a\nb\nc\n", true))
	for _, changed := range []string{"a\nc\n", "a\nB\nc\n", ""} {
		assert.True(t, failed(file, changed, false))
		assert.True(t, failed(file, changed, true), "%q", changed)
	}
	kept, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Equal(t, "a\nb\nc\n", string(kept))
}
