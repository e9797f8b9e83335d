package parquetrows

import (
	"encoding/binary"
	"errors"
	"fmt"

	"github.com/parquet-go/parquet-go/format"
)

// plainDictionary is what older files say for RLE_DICTIONARY, and for PLAIN in a
// dictionary.
const plainDictionary format.Encoding = 2

// decoder reads the values of a page that are not NULL.
type decoder interface {
	next(v *Value) error
}

// decoder makes the decoder of a page's bytes. The page has at most n values.
func (c *chunk) decoder(b []byte, encoding format.Encoding, n uint64) (decoder, error) {
	kind, width := c.column.Kind, c.column.width()
	switch encoding {
	case format.Plain:
		switch {
		case kind == format.Boolean:
			return &bits{b: b}, nil
		case kind == format.ByteArray:
			return &texts{b: b}, nil
		}
		return &plain{b: b, width: width, kind: kind}, nil
	case plainDictionary, format.RLEDictionary:
		if !c.dictionary.read {
			return nil, errors.New("the page refers to a dictionary, and there is none before it")
		}
		if len(b) == 0 { // a page of nothing but NULL
			return &indexed{dictionary: &c.dictionary}, nil
		}
		if b[0] > 32 {
			return nil, fmt.Errorf("numbers of %d bits", b[0])
		}
		return &indexed{dictionary: &c.dictionary, indexes: runs{b: b[1:], width: uint(b[0])}}, nil
	case format.RLE:
		if kind != format.Boolean {
			break
		}
		b, _, err := prefixed(b)
		if err != nil {
			return nil, err
		}
		return &flags{runs{b: b, width: 1}}, nil
	case format.ByteStreamSplit:
		if kind == format.Boolean || kind == format.ByteArray || len(b)%width != 0 {
			break
		}
		return &split{b: b, width: width, n: len(b) / width, kind: kind, scratch: make([]byte, min(width, 16))}, nil
	case format.DeltaBinaryPacked:
		if kind != format.Int32 && kind != format.Int64 {
			break
		}
		d, err := counted(b, n)
		return &numbers{deltas: d, kind: kind}, err
	case format.DeltaLengthByteArray:
		if kind == format.ByteArray {
			return lengthenedBy(b, n)
		}
	case format.DeltaByteArray:
		if kind == format.ByteArray || kind == format.FixedLenByteArray {
			return c.incrementalBy(b, n)
		}
	}
	return nil, fmt.Errorf("values of the type %s in the encoding %s are not read", kind, encoding)
}

// lengthenedBy decodes texts whose lengths come first.
func lengthenedBy(b []byte, n uint64) (decoder, error) {
	lengths, err := counted(b, n)
	if err != nil {
		return nil, err
	}
	all := lengths
	_, rest, err := all.end(int64(len(b)))
	return &lengthened{lengths: lengths, b: rest}, err
}

// incrementalBy decodes texts each of which begins as the one before does.
func (c *chunk) incrementalBy(b []byte, n uint64) (decoder, error) {
	prefixes, err := counted(b, n)
	if err != nil {
		return nil, err
	}
	all := prefixes
	_, rest, err := all.end(1 << 62)
	if err != nil {
		return nil, err
	}
	suffixes, err := counted(rest, n)
	if err != nil {
		return nil, err
	}
	all = suffixes
	_, rest, err = all.end(int64(len(b)))
	c.scratch = c.scratch[:0]
	return &incremental{chunk: c, prefixes: prefixes, suffixes: suffixes, b: rest}, err
}

// counted begins to read at most n numbers.
func counted(b []byte, n uint64) (deltas, error) {
	if len(b) == 0 { // a page of nothing but NULL
		return deltas{}, nil
	}
	d, err := newDeltas(b)
	if err == nil && d.left > n {
		err = fmt.Errorf("%d values in a page of %d", d.left, n)
	}
	return d, err
}

// width is the size of a value in bytes, where all values have the same.
func (c *Column) width() int {
	switch c.Kind {
	case format.Int32, format.Float:
		return 4
	case format.Int64, format.Double:
		return 8
	}
	return c.Length
}

// fixed makes a value of the bytes of one.
func fixed(v *Value, b []byte, kind format.Type) {
	switch kind {
	case format.Int32:
		v.N = int64(int32(binary.LittleEndian.Uint32(b)))
	case format.Float:
		v.N = int64(binary.LittleEndian.Uint32(b))
	case format.Int64, format.Double:
		v.N = int64(binary.LittleEndian.Uint64(b))
	default:
		v.B = b
	}
}

// bits are booleans, eight to a byte.
type bits struct {
	b   []byte
	bit uint64
}

func (d *bits) next(v *Value) error {
	if d.bit >= 8*uint64(len(d.b)) {
		return errShort
	}
	v.N = int64(bitsAt(d.b, d.bit, 1))
	d.bit++
	return nil
}

// flags are booleans in runs.
type flags struct{ runs runs }

func (d *flags) next(v *Value) error {
	n, err := d.runs.next()
	v.N = int64(n)
	return err
}

// texts are bytes, each with its length before it.
type texts struct{ b []byte }

func (d *texts) next(v *Value) (err error) {
	v.B, d.b, err = prefixed(d.b)
	return err
}

// plain are values of the same size.
type plain struct {
	b     []byte
	width int
	kind  format.Type
}

func (d *plain) next(v *Value) error {
	if len(d.b) < d.width {
		return errShort
	}
	fixed(v, d.b[:d.width], d.kind)
	d.b = d.b[d.width:]
	return nil
}

// split are values of the same size: first the first byte of each, then the second.
type split struct {
	b        []byte
	width, n int
	at       int
	kind     format.Type
	scratch  []byte
}

func (d *split) next(v *Value) error {
	if d.at >= d.n {
		return errShort
	}
	if cap(d.scratch) < d.width {
		d.scratch = make([]byte, d.width)
	}
	d.scratch = d.scratch[:d.width]
	for i := range d.scratch {
		d.scratch[i] = d.b[i*d.n+d.at]
	}
	d.at++
	fixed(v, d.scratch, d.kind)
	return nil
}

// numbers are whole numbers as differences.
type numbers struct {
	deltas deltas
	kind   format.Type
}

func (d *numbers) next(v *Value) error {
	n, err := d.deltas.next()
	if d.kind == format.Int32 {
		n = int64(int32(n))
	}
	v.N = n
	return err
}

// lengthened are bytes whose lengths are before all of them.
type lengthened struct {
	lengths deltas
	b       []byte
}

func (d *lengthened) next(v *Value) error {
	n, err := d.lengths.next()
	if err != nil {
		return err
	}
	if n = int64(int32(n)); n < 0 || n > int64(len(d.b)) {
		return errShort
	}
	v.B, d.b = d.b[:n], d.b[n:]
	return nil
}

// incremental are bytes that begin as the ones before them.
type incremental struct {
	chunk              *chunk
	prefixes, suffixes deltas
	b                  []byte
}

func (d *incremental) next(v *Value) error {
	prefix, err := d.prefixes.next()
	if err != nil {
		return err
	}
	suffix, err := d.suffixes.next()
	if err != nil {
		return err
	}
	c := d.chunk
	prefix, suffix = int64(int32(prefix)), int64(int32(suffix))
	switch {
	case prefix < 0 || prefix > int64(len(c.scratch)):
		return fmt.Errorf("a value begins as %d bytes of one of %d bytes", prefix, len(c.scratch))
	case suffix < 0 || suffix > int64(len(d.b)):
		return errShort
	case prefix+suffix > c.r.limits.Value:
		return &LimitError{What: "a value", Limit: c.r.limits.Value}
	case c.column.Kind == format.FixedLenByteArray && prefix+suffix != int64(c.column.Length):
		return fmt.Errorf("a value of %d bytes, of the %d that its type has", prefix+suffix, c.column.Length)
	}

	if n := int(prefix + suffix); n > cap(c.scratch) {
		// Twice the size, so that values that grow do not leave a buffer each.
		grown, err := c.r.budget.room(
			c.scratch,
			max(n, min(2*cap(c.scratch), int(c.r.limits.Value))),
			"the values of a row",
		)
		if err != nil {
			return err
		}
		c.scratch = grown[:copy(grown, c.scratch)]
	}

	c.scratch = append(c.scratch[:prefix], d.b[:suffix]...)
	d.b = d.b[suffix:]
	v.B = c.scratch
	return nil
}

// dictionary is the values that pages refer to.
type dictionary struct {
	read    bool
	page    []byte
	offsets []uint32 // of byte arrays: where each begins, its length before it
	n       uint64
	width   int
	kind    format.Type
}

// readDictionary reads the dictionary page at a place of the file.
func (c *chunk) readDictionary(at int64, h *pageHeader) error {
	d, p := &c.dictionary, &h.Dictionary.V
	if d.read {
		return damaged("it has two dictionaries")
	}
	if p.Encoding != format.Plain && p.Encoding != plainDictionary {
		return fmt.Errorf("dictionaries in the encoding %s are not read", p.Encoding)
	}
	var err error
	if d.page, err = c.unpack(d.page, at, h, 0, true); err != nil {
		return err
	}
	d.kind, d.width, d.n = c.column.Kind, c.column.width(), uint64(max(p.NumValues, 0))
	switch {
	case d.kind == format.Boolean:
		return damaged("a dictionary of booleans")
	case d.kind == format.ByteArray:
		if d.n > uint64(len(d.page)/4) {
			return damaged("a dictionary of %d values has %d bytes", d.n, len(d.page))
		}
		if missing := int64(d.n) - int64(cap(d.offsets)); missing > 0 {
			if !c.r.budget.take(4 * missing) {
				return c.r.budget.exceeded("the dictionaries")
			}
			d.offsets = make([]uint32, 0, d.n)
		}
		d.offsets = d.offsets[:0]
		for rest := d.page; uint64(len(d.offsets)) < d.n; {
			d.offsets = append(d.offsets, uint32(len(d.page)-len(rest)))
			if _, rest, err = prefixed(rest); err != nil {
				return damaged("the dictionary: %w", err)
			}
		}
	case d.n > uint64(len(d.page)/max(d.width, 1)):
		return damaged("a dictionary of %d values has %d bytes", d.n, len(d.page))
	}

	d.read = true
	return nil
}

// indexed are numbers of values of a dictionary.
type indexed struct {
	dictionary *dictionary
	indexes    runs
}

func (d *indexed) next(v *Value) error {
	i, err := d.indexes.next()
	if err != nil {
		return err
	}
	dict := d.dictionary
	if uint64(i) >= dict.n {
		return fmt.Errorf("value %d of a dictionary of %d", i, dict.n)
	}
	if dict.kind == format.ByteArray {
		v.B, _, err = prefixed(dict.page[dict.offsets[i]:])
		return err
	}
	fixed(v, dict.page[int(i)*dict.width:(int(i)+1)*dict.width], dict.kind)
	return nil
}
