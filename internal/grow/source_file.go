package grow

import (
	"encoding/binary"
	"fmt"
	"hash/adler32"
	"hash/crc32"
	"strconv"
	"sync"

	"evensprout/internal/value"
	"evensprout/internal/words"
)

// generated is the name of a placeholder file that belongs to the row.
type generated struct {
	spec FileSpec
}

// FileSpec says what placeholder files are like.
type FileSpec struct {
	Folder        string // where they go, seen from the plan
	Image         bool   // a PNG picture, else a text document
	Width, Height int    // of a picture, in pixels
	Bytes         Range  // of a document
}

// Limits on placeholder files.
const (
	MaxImageSide = 2000
	MaxFileBytes = 4 << 20
)

// File makes the names of placeholder files, one for each row. The file itself is made
// by Grower.File.
func File(spec FileSpec) (Source, error) {
	switch {
	case spec.Image && (spec.Width < 1 || spec.Height < 1 || spec.Width > MaxImageSide || spec.Height > MaxImageSide):
		return nil, fmt.Errorf("a picture must be 1 to %d pixels wide and high", MaxImageSide)
	case !spec.Image && (spec.Bytes.Lo > spec.Bytes.Hi || spec.Bytes.Hi < 1 || spec.Bytes.Hi > MaxFileBytes):
		return nil, fmt.Errorf("a document must have 1 to %d bytes, the smaller number first", MaxFileBytes)
	}
	return &generated{spec}, nil
}

func (s *generated) Type() value.Type { return value.Text }
func (s *generated) Scale() uint8     { return 0 }
func (s *generated) grow(c cell, v *value.Value) {
	b := append(c.g.take(), value.Slug(c.fr.e.Name)...)
	b = append(append(append(b, '-'), value.Slug(c.f.Name)...), '-')
	if c.fr.row.Side || c.fr.e.Table != nil {
		b = appendHex(appendHex(b, c.fr.id[0]), c.fr.id[1])
	} else {
		b = strconv.AppendUint(b, c.fr.row.N, 10)
	}
	if s.spec.Image {
		b = append(b, ".png"...)
	} else {
		b = append(b, ".txt"...)
	}
	c.setText(v, b)
	c.g.give(b)
}

func appendHex(b []byte, n uint64) []byte {
	for i := 60; i >= 0; i -= 4 {
		b = append(b, "0123456789abcdef"[n>>i&15])
	}
	return b
}

// File returns what kind of files a field names, if it names any.
func (f *Field) File() (FileSpec, bool) {
	if s, ok := f.Source.(*generated); ok {
		return s.spec, true
	}
	return FileSpec{}, false
}

// generalText is the grammar of documents.
var generalText = sync.OnceValue(func() *grammar { return newGrammar(words.Find(words.Default), Subjects[0]) })

// File returns the contents of the placeholder file that a field of a row names.
func (g *Grower) File(e *Entity, r Row, f *Field) []byte {
	fr := g.open(e, r)
	defer fr.close()
	draws := cell{g, fr, f}.stream()
	s := f.Source.(*generated)
	if s.spec.Image {
		return picture(&draws, s.spec.Width, s.spec.Height)
	}
	size := int(s.spec.Bytes.draw(&draws))
	var b []byte
	text := generalText()
	for len(b) < size {
		b = append(text.paragraph(&draws, b, Range{2, 5}), "\n\n"...)
	}
	b = b[:size]
	b[size-1] = '\n'
	return b
}

// bandColours are red, green and blue of what pictures are made of.
var bandColours = [...][3]byte{
	{
		0x1f,
		0x4e,
		0x79,
	}, {0x2e, 0x8b, 0x9a}, {0x7f, 0xb8, 0x9b}, {0xf2, 0xe8, 0xc9}, {0xe0, 0xa4, 0x58}, {0xc2, 0x5b, 0x3f},
	{0x7d, 0x3c, 0x5c}, {0x3f, 0x3a, 0x4d},
}

// picture makes a PNG (ISO/IEC 15948) of three to five bands of colour, stored
// uncompressed, so that no compressor's version changes its bytes.
func picture(draws *stream, width, height int) []byte {
	bands := 3 + int(draws.below(3))
	colours := make([]byte, bands)
	last := uint64(len(bandColours))
	for i := range colours {
		n := draws.below(uint64(len(bandColours)))
		if n == last {
			n = (n + 1) % uint64(len(bandColours))
		}
		colours[i], last = byte(n), n
	}

	raw := make([]byte, 0, (width+1)*height)
	for y := range height {
		raw = append(raw, 0) // no filter
		for range width {
			raw = append(raw, colours[y*bands/height])
		}
	}

	out := []byte("\x89PNG\r\n\x1a\n")
	header := binary.BigEndian.AppendUint32(nil, uint32(width))
	header = binary.BigEndian.AppendUint32(header, uint32(height))
	out = appendChunk(out, "IHDR", append(header, 8, 3, 0, 0, 0)) // 8 bits of a palette
	var palette []byte
	for _, c := range bandColours {
		palette = append(palette, c[:]...)
	}
	out = appendChunk(out, "PLTE", palette)
	out = appendChunk(out, "IDAT", appendStored(nil, raw))
	return appendChunk(out, "IEND", nil)
}

func appendChunk(b []byte, name string, data []byte) []byte {
	b = binary.BigEndian.AppendUint32(b, uint32(len(data)))
	from := len(b)
	b = append(append(b, name...), data...)
	return binary.BigEndian.AppendUint32(b, crc32.ChecksumIEEE(b[from:]))
}

// appendStored wraps data as a zlib stream (RFC 1950) of stored blocks (RFC 1951).
func appendStored(b, data []byte) []byte {
	const most = 65535
	sum := adler32.Checksum(data)
	b = append(b, 0x78, 0x01)
	for first := true; first || len(data) > 0; first = false {
		n := min(len(data), most)
		final := byte(0)
		if n == len(data) {
			final = 1
		}
		b = append(b, final)
		b = binary.LittleEndian.AppendUint16(b, uint16(n))
		b = binary.LittleEndian.AppendUint16(b, ^uint16(n))
		b, data = append(b, data[:n]...), data[n:]
	}
	return binary.BigEndian.AppendUint32(b, sum)
}

func (s *generated) redrawn(*Field) []*Field { return nil }

func (s *generated) differs(*Field) bool { return true }
