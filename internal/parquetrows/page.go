package parquetrows

import (
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"io"

	"github.com/parquet-go/parquet-go/encoding/thrift"
	"github.com/parquet-go/parquet-go/format"
)

// pageHeader is what this package needs of the header of a page. Statistics, which can be
// as large as values, are skipped.
type pageHeader struct {
	Type                 format.PageType                          `thrift:"1,required"`
	UncompressedPageSize int32                                    `thrift:"2,required"`
	CompressedPageSize   int32                                    `thrift:"3,required"`
	CRC                  int32                                    `thrift:"4,optional"`
	Data                 thrift.Null[dataPageHeader]              `thrift:"5,optional"`
	Dictionary           thrift.Null[format.DictionaryPageHeader] `thrift:"7,optional"`
	DataV2               thrift.Null[dataPageHeaderV2]            `thrift:"8,optional"`
}

type dataPageHeader struct {
	NumValues               int32           `thrift:"1,required"`
	Encoding                format.Encoding `thrift:"2,required"`
	DefinitionLevelEncoding format.Encoding `thrift:"3,required"`
}

type dataPageHeaderV2 struct {
	NumValues                  int32             `thrift:"1,required"`
	Encoding                   format.Encoding   `thrift:"4,required"`
	DefinitionLevelsByteLength int32             `thrift:"5,required"`
	RepetitionLevelsByteLength int32             `thrift:"6,required"`
	IsCompressed               thrift.Null[bool] `thrift:"7,optional"`
}

// chunk reads the values of a column of a row group.
type chunk struct {
	r      *Reader
	column *Column
	meta   *format.ColumnMetaData
	at     int64 // of the next page in the file
	end    int64

	dictionary dictionary
	page       []byte // the data page, unpacked
	values     decoder
	levels     runs
	left       int64 // values of the page that are to come

	scratch []byte // of a decoder
}

// open begins a row group. Buffers stay.
func (c *chunk) open(r *Reader, column *Column, meta *format.ColumnMetaData) {
	at := begin(meta)
	c.r, c.column, c.meta, c.at, c.end = r, column, meta, at, at+meta.TotalCompressedSize
	c.left, c.values, c.dictionary.read = 0, nil, false
}

func (c *chunk) next(v *Value) error {
	for c.left == 0 {
		if err := c.nextPage(); err != nil {
			return err
		}
	}
	c.left--
	*v = Value{}
	if c.column.Optional {
		level, err := c.levels.next()
		if err != nil {
			return damaged("the definition levels: %w", err)
		}
		if level == 0 {
			v.Null = true
			return nil
		}
	}
	if err := c.values.next(v); err != nil {
		return valueError(err)
	}
	return nil
}

func valueError(err error) error {
	var limit *LimitError
	if errors.As(err, &limit) {
		return err
	}
	return damaged("the values: %w", err)
}

// dataPage begins a page whose levels are packed with its values.
func (c *chunk) dataPage(at int64, h *pageHeader) error {
	p := &h.Data.V
	var err error
	if c.page, err = c.unpack(c.page, at, h, 0, true); err != nil {
		return err
	}
	b := c.page
	c.levels = runs{}
	if c.column.Optional {
		if p.DefinitionLevelEncoding != format.RLE {
			return fmt.Errorf("definition levels in the encoding %s are not read", p.DefinitionLevelEncoding)
		}
		levels, rest, err := prefixed(b)
		if err != nil {
			return damaged("the definition levels: %w", err)
		}
		c.levels, b = runs{b: levels, width: 1}, rest
	}
	return c.begin(b, p.Encoding, int64(p.NumValues))
}

// dataPageV2 begins a page whose levels stand before its values, unpacked.
func (c *chunk) dataPageV2(at, packed int64, h *pageHeader) error {
	p := &h.DataV2.V
	repetition, definition := int64(p.RepetitionLevelsByteLength), int64(p.DefinitionLevelsByteLength)
	if repetition < 0 || definition < 0 || repetition+definition > min(packed, int64(h.UncompressedPageSize)) {
		return damaged("a page has levels of %d and %d bytes", repetition, definition)
	}
	var err error
	compressed := !p.IsCompressed.Valid || p.IsCompressed.V
	if c.page, err = c.unpack(c.page, at, h, int(repetition+definition), compressed); err != nil {
		return err
	}
	c.levels = runs{b: c.page[repetition : repetition+definition], width: 1}
	return c.begin(c.page[repetition+definition:], p.Encoding, int64(p.NumValues))
}

// nextPage reads up to the next page with values.
func (c *chunk) nextPage() error {
	var h pageHeader
	if err := c.pageHeader(&h); err != nil {
		return err
	}
	packed := int64(h.CompressedPageSize)
	if packed < 0 || h.UncompressedPageSize < 0 || packed > c.end-c.at {
		return damaged("a page of %d bytes is longer than its column", packed)
	}
	at := c.at
	c.at += packed
	switch {
	case h.Type == format.DictionaryPage && h.Dictionary.Valid:
		return c.readDictionary(at, &h)
	case h.Type == format.DataPage && h.Data.Valid:
		return c.dataPage(at, &h)
	case h.Type == format.DataPageV2 && h.DataV2.Valid:
		return c.dataPageV2(at, packed, &h)
	case h.Type == format.IndexPage:
		return nil
	}
	return damaged("a page of the type %s", h.Type)
}

// begin begins to read the values of a page.
func (c *chunk) begin(b []byte, encoding format.Encoding, n int64) error {
	if n < 0 {
		return damaged("a page of %d values", n)
	}
	if n*rowCost > c.r.total {
		return &LimitError{What: "the values of a page", Limit: c.r.total}
	}
	var err error
	if c.values, err = c.decoder(b, encoding, uint64(n)); err != nil {
		return valueError(err)
	}
	c.left = n
	return nil
}

// pageHeader reads the header of the next page, and moves behind it.
func (c *chunk) pageHeader(h *pageHeader) error {
	left := c.end - c.at
	if left <= 0 {
		return damaged("it has fewer values than rows")
	}
	for room := int64(256); ; room *= 4 {
		n := min(room, left)
		b, err := c.r.budget.room(c.r.header, int(n), "the header of a page")
		if err != nil {
			return err
		}
		c.r.header = b
		if err := readFull(c.r.in, b, c.at); err != nil {
			return err
		}
		s := scan{b: b}
		switch err := s.structure(0); {
		case errors.Is(err, errShort) && n < left:
			continue
		case err != nil:
			return damaged("the header of a page: %w", err)
		}
		if err := decode(b[:s.at], h); err != nil {
			return damaged("the header of a page: %w", err)
		}
		c.at += int64(s.at)
		return nil
	}
}

// unpack reads a page into a buffer. The first bytes, levels, are never packed.
func (c *chunk) unpack(buffer []byte, at int64, h *pageHeader, levels int, compressed bool) ([]byte, error) {
	const what = "the unpacked pages of a row"
	b, err := c.r.budget.room(buffer, int(h.UncompressedPageSize), what)
	if err != nil {
		return nil, err
	}
	if err := c.r.count(int64(h.UncompressedPageSize)); err != nil {
		return nil, err
	}
	if !compressed || c.meta.Codec == format.Uncompressed {
		if h.CompressedPageSize != h.UncompressedPageSize {
			return nil, damaged("a page of %d bytes has %d", h.UncompressedPageSize, h.CompressedPageSize)
		}
		if err := readFull(c.r.in, b, at); err != nil {
			return nil, err
		}
		return b, checksum(b, h)
	}

	packed, err := c.r.budget.room(c.r.packed, int(h.CompressedPageSize), what)
	if err != nil {
		return nil, err
	}
	c.r.packed = packed
	if err := readFull(c.r.in, packed, at); err != nil {
		return nil, err
	}
	if err := checksum(packed, h); err != nil {
		return nil, err
	}
	copy(b, packed[:levels])
	if err := c.r.codecs.unpack(b[levels:], packed[levels:], c.meta.Codec); err != nil {
		return nil, err
	}
	return b, nil
}

func checksum(b []byte, h *pageHeader) error {
	if h.CRC != 0 && crc32.ChecksumIEEE(b) != uint32(h.CRC) {
		return damaged("the checksum of a page does not match")
	}
	return nil
}

func readFull(in io.ReaderAt, b []byte, at int64) error {
	n, err := in.ReadAt(b, at)
	if n == len(b) {
		return nil
	}
	return err
}

// prefixed cuts off bytes whose length is before them.
func prefixed(b []byte) (head, rest []byte, err error) {
	if len(b) < 4 {
		return nil, nil, errShort
	}
	n := uint64(binary.LittleEndian.Uint32(b))
	if b = b[4:]; n > uint64(len(b)) {
		return nil, nil, errShort
	}
	return b[:n], b[n:], nil
}
