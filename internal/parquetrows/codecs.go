package parquetrows

import (
	"bytes"
	"errors"
	"fmt"
	"io"

	"github.com/andybalholm/brotli"
	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/snappy"
	"github.com/klauspost/compress/zstd"
	"github.com/parquet-go/parquet-go/format"
	"github.com/pierrec/lz4/v4"
)

var errLength = errors.New("it is longer or shorter than its header says")

// codecs unpack pages. They write as much as the header of a page promises;
// packed data that goes on is an error.
type codecs struct {
	gzip   *gzip.Reader
	zstd   *zstd.Decoder
	brotli *brotli.Reader
}

func (c *codecs) unpackGzip(out, packed []byte) (err error) {
	if c.gzip == nil {
		c.gzip, err = gzip.NewReader(bytes.NewReader(packed))
	} else {
		err = c.gzip.Reset(bytes.NewReader(packed))
	}
	if err == nil {
		err = fill(out, c.gzip)
	}
	return err
}

func (c *codecs) unpackZstd(out, packed []byte) (err error) {
	if c.zstd == nil {
		if c.zstd, err = zstd.NewReader(nil, zstd.WithDecoderConcurrency(1), zstd.WithDecodeAllCapLimit(true),
			zstd.WithDecoderLowmem(true)); err != nil {
			return err
		}
	}
	var b []byte
	if b, err = c.zstd.DecodeAll(packed, out[:0:len(out)]); err == nil && len(b) != len(out) {
		err = errLength
	}
	return err
}

// unpack fills out.
func (c *codecs) unpack(out, packed []byte, codec format.CompressionCodec) error {
	if len(out) == 0 && len(packed) == 0 { // a page of nothing but NULL
		return nil
	}
	var err error
	switch codec {
	case format.Snappy:
		err = unpackSnappy(out, packed)
	case format.Gzip:
		err = c.unpackGzip(out, packed)
	case format.Brotli:
		if c.brotli == nil {
			c.brotli = brotli.NewReader(nil)
		}
		if err = c.brotli.Reset(bytes.NewReader(packed)); err == nil {
			err = fill(out, c.brotli)
		}
	case format.Zstd:
		err = c.unpackZstd(out, packed)
	case format.Lz4Raw:
		var n int
		if n, err = lz4.UncompressBlock(packed, out); err == nil && n != len(out) {
			err = errLength
		}
	default:
		return fmt.Errorf("pages packed by %s are not read", codec)
	}
	if err != nil {
		return damaged("a page packed by %s: %w", codec, err)
	}
	return nil
}

// unpackSnappy fills out.
func unpackSnappy(out, packed []byte) error {
	n, err := snappy.DecodedLen(packed)
	if err != nil {
		return err
	}
	if n != len(out) {
		return errLength
	}
	_, err = snappy.Decode(out, packed)
	return err
}

// fill reads exactly as much as out holds.
func fill(out []byte, in io.Reader) error {
	if _, err := io.ReadFull(in, out); err != nil {
		if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
			return errLength
		}
		return err
	}
	switch n, err := in.Read(make([]byte, 1)); {
	case n > 0:
		return errLength
	case err != nil && !errors.Is(err, io.EOF):
		return err
	}
	return nil
}
