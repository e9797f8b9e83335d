package grow

import (
	"context"
	"encoding/binary"
	"fmt"
	"math/bits"
	"strconv"
	"sync"

	"github.com/zeebo/xxh3"
)

// Fingerprint is a 128-bit digest of a set of rows, independent of their order:
// the sum modulo 2^128 of the XXH3-128 hash of each row's canonical encoding.
// Fingerprints of parts add up.
type Fingerprint struct{ Hi, Lo uint64 }

// Add adds the rows of another set.
func (p *Fingerprint) Add(q Fingerprint) {
	var carry uint64
	p.Lo, carry = bits.Add64(p.Lo, q.Lo, 0)
	p.Hi, _ = bits.Add64(p.Hi, q.Hi, carry)
}

// Sub takes the rows of another set away.
func (p *Fingerprint) Sub(q Fingerprint) {
	var borrow uint64
	p.Lo, borrow = bits.Sub64(p.Lo, q.Lo, 0)
	p.Hi, _ = bits.Sub64(p.Hi, q.Hi, borrow)
}

// String is the digest as 32 hexadecimal digits.
func (p Fingerprint) String() string { return fmt.Sprintf("%016x%016x", p.Hi, p.Lo) }

// MarshalText makes JSON show what String shows.
func (p Fingerprint) MarshalText() ([]byte, error) { return []byte(p.String()), nil }

// UnmarshalText reads what MarshalText writes.
func (p *Fingerprint) UnmarshalText(text []byte) error {
	if len(text) != 32 {
		return fmt.Errorf("%q is not a fingerprint", text)
	}
	var err error
	if p.Hi, err = strconv.ParseUint(string(text[:16]), 16, 64); err != nil {
		return err
	}
	p.Lo, err = strconv.ParseUint(string(text[16:]), 16, 64)
	return err
}

func hashName(name string) uint64 { return xxh3.HashString(name) }

// print hashes a grown row. The encoding is, for each field in the order of its
// name's hash: that hash, a tag, the value. Numbers are without trailing zeros,
// and a reference counts as the row that it points to, so that keys do not matter.
// A key that only serves references is left out for the same reason.
func (g *Grower) print(fr *frame) Fingerprint {
	b := g.take()
	for _, f := range fr.e.printed {
		b = binary.LittleEndian.AppendUint64(b, f.id)
		v := &fr.values[f.index]
		if f.ref != nil && !v.IsNull() {
			t := f.ref.target()
			id := g.id(t, fr.refs[f.index])
			b = append(b, 'r')
			for _, w := range [4]uint64{t.id[0], t.id[1], id[0], id[1]} {
				b = binary.LittleEndian.AppendUint64(b, w)
			}
			continue
		}
		b = v.AppendCanonical(b)
	}
	h := xxh3.Hash128(b)
	g.give(b)
	return Fingerprint{h.Hi, h.Lo}
}

// Fingerprints grows all rows of a set with several workers and returns each
// entity's fingerprint. The error is a *RowError, or the context's.
func (s *Set) Fingerprints(ctx context.Context, jobs int) ([]Fingerprint, error) {
	const step = 4096
	prints := make([]Fingerprint, len(s.Entities))
	type part struct {
		e     *Entity
		first Row
		n     int
	}
	parts := make(chan part)
	var wg sync.WaitGroup
	var mu sync.Mutex
	var failed error
	for range max(jobs, 1) {
		wg.Add(1)
		go func() {
			defer wg.Done()
			g := NewGrower(s)
			var b Batch
			for p := range parts {
				if ctx.Err() != nil {
					continue
				}
				for p.n > 0 && g.Err() == nil { // large rows come in several batches
					g.GrowSome(p.e, p.first, p.n, &b)
					mu.Lock()
					prints[p.e.index].Add(b.Print)
					mu.Unlock()
					p.first.N, p.n = p.first.N+uint64(b.Len), p.n-b.Len
				}
			}
			mu.Lock()
			defer mu.Unlock()
			if failed == nil {
				failed = g.Err()
			}
			if err := g.Close(); failed == nil {
				failed = err
			}
		}()
	}

	for _, e := range s.Entities {
		for _, run := range [2]struct {
			total uint64
			side  bool
		}{{uint64(len(e.Side)), true}, {e.Rows, false}} {
			for at := uint64(0); at < run.total && ctx.Err() == nil; at += step {
				parts <- part{e, Row{N: at, Side: run.side}, int(min(step, run.total-at))}
			}
		}
	}

	close(parts)
	wg.Wait()
	if failed == nil {
		failed = ctx.Err()
	}
	return prints, failed
}
