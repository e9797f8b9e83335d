package grow

import (
	"encoding/binary"
	"strings"
	"sync"

	"evensprout/internal/rng"
	"evensprout/internal/value"
)

// login is the hash of a password.
type login struct {
	hash   func(salt [16]byte) (string, error)
	each   bool // a salt of its own for each row
	length int
	once   *sync.Once
	shared *sharedHash
}

// sharedHash is the hash that all rows have in common. It is computed when a row first needs it: hashing is
// slow on purpose.
type sharedHash struct {
	text string
	err  error
}

// Login makes the hash of a password, which has at most so many characters. All rows have one salt and one
// hash or, with each, a salt of their own. The salt belongs to the plan's seed.
func Login(hash func(salt [16]byte) (string, error), longest int, each bool) Source {
	return &login{hash: hash, length: longest, each: each, once: &sync.Once{}, shared: &sharedHash{}}
}

func (s *login) Type() value.Type { return value.Text }
func (s *login) Scale() uint8     { return 0 }

// saltOf is a salt that belongs to a field and a counter.
func saltOf(f *Field, counter [4]uint64) (salt [16]byte) {
	w := rng.Philox(counter, f.key().Sub("salt"))
	binary.LittleEndian.PutUint64(salt[:8], w[0])
	binary.LittleEndian.PutUint64(salt[8:], w[1])
	return salt
}

func (s *login) grow(c cell, v *value.Value) {
	var text string
	var err error
	if s.each {
		text, err = s.hash(saltOf(c.f, [4]uint64{c.fr.id[1], c.fr.id[0], 0, 1}))
	} else {
		s.once.Do(func() { s.shared.text, s.shared.err = s.hash(saltOf(c.f, [4]uint64{})) })
		text, err = s.shared.text, s.shared.err
	}
	if err != nil {
		c.fail(err)
		return
	}
	*v = value.String(text)
}

func (s *login) redrawn(*Field) []*Field { return nil }

func (s *login) differs(*Field) bool { return s.each }

func (s *login) longest() string { return strings.Repeat("x", s.length) }
