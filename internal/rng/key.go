package rng

import (
	"crypto/sha256"
	"encoding/binary"
)

// Key selects one stream of draws: it is derived from everything that names a
// draw except the row.
type Key [2]uint64

// NewKey derives a key from its parts. Parts are length-prefixed, so that
// ("ab", "c") and ("a", "bc") differ.
func NewKey(parts ...string) Key {
	h := sha256.New()
	var n [8]byte
	for _, p := range parts {
		binary.LittleEndian.PutUint64(n[:], uint64(len(p)))
		h.Write(n[:])
		h.Write([]byte(p))
	}
	return keyOf(h.Sum(nil))
}

// Sub derives the key of another purpose of the same field.
func (k Key) Sub(purpose string) Key {
	var b [16]byte
	binary.LittleEndian.PutUint64(b[:8], k[0])
	binary.LittleEndian.PutUint64(b[8:], k[1])
	return NewKey(string(b[:]), purpose)
}

// keyOf makes a key of the first 16 bytes of a digest.
func keyOf(sum []byte) Key {
	return Key{binary.LittleEndian.Uint64(sum), binary.LittleEndian.Uint64(sum[8:])}
}

// ID is the identity of a row: what its values depend on. Grown rows have
// {0, row number}; given rows and what is grown below them a digest of their
// names, with the top bit of the first word set.
type ID [2]uint64

// NamedID is the identity of a row that is known by name.
func NamedID(parts ...string) ID {
	k := NewKey(parts...)
	return ID{k[0] | 1<<63, k[1]}
}

// Child is the identity of the ordinal-th grown child of a named row.
func (id ID) Child(entity string, ordinal uint64) ID {
	var b [24]byte
	binary.LittleEndian.PutUint64(b[:8], id[0])
	binary.LittleEndian.PutUint64(b[8:16], id[1])
	binary.LittleEndian.PutUint64(b[16:], ordinal)
	return NamedID(string(b[:]), entity)
}
