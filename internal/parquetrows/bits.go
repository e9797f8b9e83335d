package parquetrows

import (
	"encoding/binary"
	"fmt"
)

// bitsAt reads the number of width bits (at most 64) that begins at a bit, the lowest bit
// first. What is beyond the end counts as zero.
func bitsAt(b []byte, bit uint64, width uint) uint64 {
	at, shift := bit/8, uint(bit%8)
	if at >= uint64(len(b)) {
		return 0
	}
	b = b[at:]
	var u uint64
	if len(b) >= 8 {
		u = binary.LittleEndian.Uint64(b)
	} else {
		for i, x := range b {
			u |= uint64(x) << (8 * i)
		}
	}
	u >>= shift
	if shift > 0 && shift+width > 64 && len(b) > 8 {
		u |= uint64(b[8]) << (64 - shift)
	}
	if width < 64 {
		u &= 1<<width - 1
	}
	return u
}

// runs decodes the hybrid of run lengths and packed bits (RLE).
type runs struct {
	b     []byte
	width uint // bits of a number, at most 32

	left   uint64 // numbers of the run that are to come
	packed []byte // of a run of packed bits, else nil
	bit    uint64 // of packed, that is next
	value  uint32 // of a run of one number
}

func (r *runs) next() (uint32, error) {
	for r.left == 0 {
		u, n := binary.Uvarint(r.b)
		if n <= 0 {
			return 0, errShort
		}
		r.b = r.b[n:]
		if r.left = u >> 1; u&1 == 1 {
			// Eight numbers to a group; the last group may be cut off where the values end.
			if r.left > uint64(len(r.b)) && r.width > 0 || r.left > 1<<32 {
				return 0, errShort
			}
			bytes := min(r.left*uint64(r.width), uint64(len(r.b)))
			r.packed, r.b, r.bit = r.b[:bytes:bytes], r.b[bytes:], 0
			if r.left *= 8; r.packed == nil {
				r.packed = []byte{}
			}
			continue
		}
		bytes := int(r.width+7) / 8
		if bytes > len(r.b) {
			return 0, errShort
		}
		r.value, r.packed, r.b = uint32(bitsAt(r.b[:bytes], 0, r.width)), nil, r.b[bytes:]
	}

	r.left--
	if r.packed == nil {
		return r.value, nil
	}
	if r.bit+uint64(r.width) > 8*uint64(len(r.packed)) {
		return 0, errShort
	}
	v := uint32(bitsAt(r.packed, r.bit, r.width))
	r.bit += uint64(r.width)
	return v, nil
}

// deltas decodes DELTA_BINARY_PACKED: numbers as differences, in blocks.
type deltas struct {
	b     []byte
	minis uint64 // parts of a block
	size  uint64 // numbers of a part
	left  uint64 // numbers that are to come
	last  int64

	first  bool
	least  int64  // difference of the block
	widths []byte // of the parts of the block that are to come
	packed []byte // the part
	bit    uint64
	width  uint
	inPart uint64 // numbers of the part that are to come
}

func newDeltas(b []byte) (d deltas, err error) {
	var u [3]uint64 // the size of a block, the parts of a block, the numbers
	for i := range u {
		n := 0
		if u[i], n = binary.Uvarint(b); n <= 0 {
			return d, errShort
		}
		b = b[n:]
	}
	first, n := binary.Varint(b)
	if n <= 0 {
		return d, errShort
	}
	const maxBlock = 1 << 20
	if u[0] > maxBlock || u[1] == 0 || u[0] == 0 || u[0]%u[1] != 0 || u[0]/u[1]%8 != 0 {
		return d, fmt.Errorf("blocks of %d numbers in %d parts", u[0], u[1])
	}
	return deltas{b: b[n:], minis: u[1], size: u[0] / u[1], left: u[2], last: first, first: true}, nil
}

func (d *deltas) next() (int64, error) {
	if d.left == 0 {
		return 0, errShort
	}
	d.left--
	if d.first {
		d.first = false
		return d.last, nil
	}
	if d.inPart == 0 {
		if err := d.part(); err != nil {
			return 0, err
		}
	}
	d.inPart--
	if d.bit+uint64(d.width) > 8*uint64(len(d.packed)) {
		return 0, errShort
	}

	// Sums wrap, as the format says.
	d.last += d.least + int64(bitsAt(d.packed, d.bit, d.width))
	d.bit += uint64(d.width)
	return d.last, nil
}

// part begins the next part, and a block where one ends.
func (d *deltas) part() error {
	if len(d.widths) == 0 {
		least, n := binary.Varint(d.b)
		if n <= 0 || uint64(len(d.b)-n) < d.minis {
			return errShort
		}
		d.b = d.b[n:]
		d.least, d.widths, d.b = least, d.b[:d.minis], d.b[d.minis:]
	}
	d.width, d.widths = uint(d.widths[0]), d.widths[1:]
	if d.width > 64 {
		return fmt.Errorf("differences of %d bits", d.width)
	}
	// The last part may be cut off where the values end.
	bytes := min(d.size/8*uint64(d.width), uint64(len(d.b)))
	d.packed, d.b, d.bit, d.inPart = d.b[:bytes], d.b[bytes:], 0, d.size
	return nil
}

// end reads the numbers that are left, and returns their sum with the bytes after them.
// A number below zero or a sum above limit is an error.
func (d *deltas) end(limit int64) (sum int64, rest []byte, err error) {
	for d.left > 0 {
		n, err := d.next()
		if err != nil {
			return 0, nil, err
		}
		// Lengths are numbers of 32 bits.
		if n = int64(int32(n)); n < 0 || n > limit-sum {
			return 0, nil, fmt.Errorf("lengths of more than %s", size(limit))
		}
		sum += n
	}
	return sum, d.b, nil
}
