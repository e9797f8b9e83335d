//go:build unix

package security_test

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"math"
	"strings"
	"testing"

	"github.com/parquet-go/parquet-go"
	"github.com/parquet-go/parquet-go/encoding"
	"github.com/parquet-go/parquet-go/encoding/thrift"
	"github.com/parquet-go/parquet-go/format"
	"github.com/stretchr/testify/require"
)

// parquetFiles are files that are refused, and that would take much on the way.
func parquetFiles(t *testing.T, random func(int) string) map[string]func() []byte {
	// columns makes a file of text columns, each of one page of so many bytes at most.
	columns := func(n, rows, page int, enc encoding.Encoding, cell func(row, column int) []byte) []byte {
		var b bytes.Buffer
		group, options := parquet.Group{}, []parquet.WriterOption{parquet.PageBufferSize(page)}
		for i := range n {
			name := fmt.Sprintf("other%04d", i)
			if i == 0 {
				name = "label" // sorts first
			}
			options = append(options, parquet.SkipPageBounds(name))
			group[name] = parquet.Compressed(parquet.Encoded(parquet.String(), enc), &parquet.Zstd)
		}
		w := parquet.NewGenericWriter[any](&b, append(options, parquet.NewSchema("rows", group))...)
		for i := range rows {
			var row parquet.Row
			for j := range n {
				row = append(row, parquet.ByteArrayValue(cell(i, j)).Level(0, 0, j))
			}
			_, err := w.WriteRows([]parquet.Row{row})
			require.NoError(t, err)
		}
		require.NoError(t, w.Close())
		return b.Bytes()
	}
	large := func(n int) func(row, column int) []byte {
		return func(row, _ int) []byte { return []byte(fmt.Sprintf("%08d", row) + strings.Repeat("x", n)) }
	}
	// forged makes a file of one page by hand.
	forged := func(codec format.CompressionCodec, unpacked int32, values int32, enc format.Encoding, b []byte) []byte {
		marshal := func(v any) []byte {
			b, err := thrift.Marshal(new(thrift.CompactProtocol), v)
			require.NoError(t, err)
			return b
		}
		file := append([]byte("PAR1"), marshal(&format.PageHeader{
			Type: format.DataPage, UncompressedPageSize: unpacked, CompressedPageSize: int32(len(b)),
			DataPageHeader: thrift.New(
				format.DataPageHeader{
					NumValues:               values,
					Encoding:                enc,
					DefinitionLevelEncoding: format.RLE,
					RepetitionLevelEncoding: format.RLE,
				},
			),
		})...)
		file = append(file, b...)
		footer := marshal(&format.FileMetaData{
			Schema: []format.SchemaElement{{Name: "rows", NumChildren: thrift.New(int32(1))}, {
				Name: "label", Type: thrift.New(format.ByteArray), RepetitionType: thrift.New(format.Required),
				LogicalType: format.LogicalType{Value: new(format.StringType)},
			}},
			NumRows: int64(values),
			RowGroups: []format.RowGroup{
				{NumRows: int64(values), Columns: []format.ColumnChunk{{MetaData: format.ColumnMetaData{
					Type: format.ByteArray, Codec: codec, NumValues: int64(values),
					TotalCompressedSize: int64(len(file)) - 4, DataPageOffset: 4,
					Encoding: []format.Encoding{enc}, PathInSchema: []string{"label"},
				}}}},
			},
		})
		return append(binary.LittleEndian.AppendUint32(append(file, footer...), uint32(len(footer))), "PAR1"...)
	}
	footer := func(b []byte) []byte {
		file := append([]byte("PAR1"), b...)
		return append(binary.LittleEndian.AppendUint32(file, uint32(len(b))), "PAR1"...)
	}
	uvarints := func(u ...uint64) (b []byte) {
		for _, u := range u {
			b = binary.AppendUvarint(b, u)
		}
		return b
	}
	zeros, err := parquet.Zstd.Encode(nil, make([]byte, 300<<20))
	require.NoError(t, err)
	return map[string]func() []byte{
		"one page":      func() []byte { return columns(1, 150, 200<<20, &parquet.Plain, large(1<<20)) },
		"one value":     func() []byte { return forged(format.Zstd, 300<<20, 1, format.Plain, zeros) },
		"a dictionary":  func() []byte { return columns(1, 150, 200<<20, &parquet.RLEDictionary, large(1<<20)) },
		"shared starts": func() []byte { return columns(1, 150, 200<<20, &parquet.DeltaByteArray, large(1<<20)) },
		"many columns":  func() []byte { return columns(300, 1, 1<<20, &parquet.Plain, large(1<<19)) },
		"an error behind pages that are just allowed": func() []byte {
			noise := []byte(random(1 << 18))
			return columns(80, 4, 2<<20, &parquet.Plain, func(row, column int) []byte {
				if row == 3 && column == 79 {
					return []byte("\xFF\xFE")
				}
				return noise
			})
		},
		"a page of more than it says": func() []byte { return forged(format.Zstd, 16, 1, format.Plain, zeros) },
		"damaged LZ4": func() []byte {
			return forged(format.Lz4Raw, 1000, 1, format.Plain,
				[]byte{0x1F, 'a', 0, 0, 9})
		},
		"Snappy of 4 GB": func() []byte {
			return forged(format.Snappy, 16, 1, format.Plain,
				uvarints(math.MaxUint32))
		},
		"many values in few bytes": func() []byte {
			return forged(
				format.Uncompressed,
				10,
				math.MaxInt32,
				format.DeltaLengthByteArray,
				append(uvarints(128, 1, math.MaxInt32), 0, 0),
			)
		},
		"a list of 2^31": func() []byte { return footer(append([]byte{0x29, 0xFC}, uvarints(math.MaxInt32)...)) },
		"many row groups": func() []byte {
			return footer(append(append([]byte{0x49, 0xFC}, uvarints(12<<20)...), make([]byte, 12<<20)...))
		},
		"deep structures": func() []byte { return footer(bytes.Repeat([]byte{0x1C}, 60<<20)) },
		"a footer of text": func() []byte {
			return footer(append(append([]byte{0x68}, uvarints(90<<20)...), make([]byte, 90<<20)...))
		},
	}
}
