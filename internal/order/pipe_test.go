package order

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/grow"
)

// The rows of a pipe are those of the entity, in order, also where they are too large to be grown ahead.
func TestRowsOfAPipe(t *testing.T) {
	for _, c := range []struct{ name, note string }{
		{"small rows", "{pattern: \"[a-z]{5}\"}"},
		{"large rows", "{text: \"" + string(slices.Repeat([]byte("{code}"), 200)) + "\"}"},
	} {
		t.Run(c.name, func(t *testing.T) {
			x := compiled(t, "  Note: {rows: 3500, fields: {code: {pattern: \"[a-z]{64}\"}, note: "+c.note+"}}\n")
			target := x.Targets[0]
			var want, got grow.Fingerprint
			g := grow.NewGrower(x.Set)
			for b, err := range (Run{Target: target, Rows: target.Grow.Rows}).Grown(g, &grow.Batch{}) {
				require.NoError(t, err)
				want.Add(b.Print)
			}
			p := NewPipe(t.Context(), x.Set, 2, Of(x).Families[0].Chunks(g, 2500, Part{}, nil))
			defer p.End()
			next, batches := uint64(0), 0
			for chunk := range p.Chunks() {
				for _, run := range chunk {
					for b := range p.Rows(t.Context(), run, func(err error) { assert.NoError(t, err) }) {
						require.Equal(t, grow.Row{N: next}, b.First)
						require.NotZero(t, b.Len)
						next += uint64(b.Len)
						batches++
						got.Add(b.Print)
					}
				}
			}
			assert.Equal(t, target.Grow.Rows, next)
			assert.Equal(t, want, got)
			_, large := p.large.Load(target.Grow)
			assert.Equal(t, c.name == "large rows", large)
			assert.Equal(t, large, batches > 4, batches)
		})
	}
}
