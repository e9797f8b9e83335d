package load

import (
	"encoding/binary"
	"strings"

	"evensprout/internal/grow"
	"evensprout/internal/value"

	"github.com/zeebo/xxh3"
)

// Remembered is what the rows of a load hold, as 64 bits of XXH3 each, so that the rows of an edited plan can be held
// against it without generating the earlier ones again. It belongs to one writing of one load, and one goroutine.
type Remembered struct {
	token    string // of the journal's entry; empty: nothing is remembered
	entities map[string]*rememberedRows
}

// maxRemembered bounds the rows that are remembered, at 8 bytes each.
const maxRemembered = 4_000_000

// rememberedRows are those of an entity.
type rememberedRows struct {
	columns      string // that were written
	given, grown []uint64
}

// of are the rows written by hand, or the others.
func (r *rememberedRows) of(given bool) *[]uint64 {
	if given {
		return &r.given
	}
	return &r.grown
}

// columnsOf names the columns that are written of an entity.
func columnsOf(t *Target) string {
	var names []string
	for _, c := range t.Writes.Columns {
		names = append(names, c.Name)
	}
	return strings.Join(names, "\x00")
}

// rows are those of an entity, as a load with a token wrote them; nil if they are not remembered.
func (r *Remembered) rows(token string, was, now *Target) *rememberedRows {
	if r == nil || r.token == "" || r.token != token {
		return nil
	}
	x := r.entities[now.Plan.Name]
	if x == nil || x.columns != columnsOf(now) || x.columns != columnsOf(was) {
		return nil
	}
	if len(x.given) != len(was.Grow.Side) || uint64(len(x.grown)) != was.Grow.Rows {
		return nil
	}
	return x
}

// appendValue adds what a value is to bytes that are hashed.
func appendValue(b []byte, v *value.Value) []byte {
	b = append(b, byte(v.Type), v.Scale)
	b = binary.LittleEndian.AppendUint64(b, uint64(v.N))
	b = binary.LittleEndian.AppendUint64(b, v.M)
	b = binary.LittleEndian.AppendUint64(b, uint64(len(v.S)))
	return append(b, v.S...)
}

// hashOf is the hash of what is written of a row.
func (t *Target) hashOf(row []value.Value, room *[]byte) uint64 {
	b := (*room)[:0]
	for _, f := range t.Writes.Fields {
		b = appendValue(b, &row[f])
	}
	*room = b
	return xxh3.Hash(b)
}

// differing shows stretches of a batch whose rows are not as remembered: from is the row of the first of the batch.
func differing(now, was []uint64, from grow.Row, show func(lo, hi int) bool) {
	for lo := 0; lo < len(now); {
		at := from.N + uint64(lo)
		if at >= uint64(len(was)) {
			return
		}
		if now[lo] == was[at] {
			lo++
			continue
		}
		hi := lo + 1
		for hi < len(now) && from.N+uint64(hi) < uint64(len(was)) && now[hi] != was[from.N+uint64(hi)] {
			hi++
		}
		if !show(lo, hi) {
			return
		}
		lo = hi
	}
}
