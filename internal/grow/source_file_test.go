package grow

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"image/png"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestPlaceholderFiles(t *testing.T) {
	x := &fleet{set: &Set{Seed: "files", Edition: "1"}}
	e := x.set.NewEntity("Passenger")
	e.Rows = 20
	photo := x.field(e, "photo", must(File(FileSpec{Image: true, Width: 320, Height: 240})))
	note := x.field(e, "note", must(File(FileSpec{Bytes: Range{100, 400}})))
	require.Empty(t, x.set.Finish())
	g := NewGrower(x.set)
	pictures := map[string]bool{}
	for n := range uint64(20) {
		b := g.File(e, Row{N: n}, photo)
		pictures[string(b)] = true
		p, err := png.Decode(bytes.NewReader(b))
		require.NoError(t, err)
		assert.Equal(t, [2]int{320, 240}, [2]int{p.Bounds().Dx(), p.Bounds().Dy()})
		text := g.File(e, Row{N: n}, note)
		assert.True(t, len(text) >= 100 && len(text) <= 400 && text[len(text)-1] == '\n')
	}
	assert.Greater(t, len(pictures), 15)
	assert.Equal(t, "passenger-photo-0.png | passenger-note-0.txt", dump(x.set, e, 7)[0])
	sum := sha256.Sum256(g.File(e, Row{N: 7}, photo))
	assert.Equal(t, "9a957ae13556fe2a", hex.EncodeToString(sum[:8]), "the bytes of a picture belong to the edition")
}
