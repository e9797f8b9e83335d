package parquetrows

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"io"
	"math"
	"math/rand/v2"
	"runtime"
	"strings"
	"testing"
	"unsafe"

	"github.com/parquet-go/parquet-go"
	"github.com/parquet-go/parquet-go/compress"
	"github.com/parquet-go/parquet-go/encoding"
	"github.com/parquet-go/parquet-go/encoding/thrift"
	"github.com/parquet-go/parquet-go/format"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var generous = Limits{Memory: 64 << 20, Value: 16 << 20, Total: 1 << 30}

// written is a file of one column as the library writes it.
func written(t testing.TB, node parquet.Node, values []parquet.Value, options ...parquet.WriterOption) []byte {
	var b bytes.Buffer
	schema := parquet.NewSchema("rows", parquet.Group{"c": node})
	w := parquet.NewGenericWriter[any](&b, append([]parquet.WriterOption{schema}, options...)...)
	for _, v := range values {
		level := 0
		if node.Optional() && !v.IsNull() {
			level = 1
		}
		_, err := w.WriteRows([]parquet.Row{{v.Level(0, level, 0)}})
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	return b.Bytes()
}

// read reads the values of the first column, copied.
func read(b []byte, limits Limits) ([]Value, error) {
	r, err := Open(bytes.NewReader(b), int64(len(b)), limits)
	if err != nil {
		return nil, err
	}
	var out []Value
	for {
		row, err := r.Next()
		if err == io.EOF {
			return out, nil
		}
		if err != nil {
			return out, err
		}
		v := row[0]
		v.B = bytes.Clone(v.B)
		out = append(out, v)
	}
}

func wanted(v parquet.Value) Value {
	switch v.Kind() {
	case parquet.Boolean:
		if v.Boolean() {
			return Value{N: 1}
		}
		return Value{}
	case parquet.Int32:
		return Value{N: int64(v.Int32())}
	case parquet.Int64:
		return Value{N: v.Int64()}
	case parquet.Float:
		return Value{N: int64(math.Float32bits(v.Float()))}
	case parquet.Double:
		return Value{N: int64(math.Float64bits(v.Double()))}
	case parquet.ByteArray, parquet.FixedLenByteArray:
		return Value{B: bytes.Clone(v.ByteArray())}
	}
	return Value{Null: true}
}

// Every type in every encoding, packed by every codec, in both versions of pages.
func TestWhatTheLibraryWrites(t *testing.T) {
	rng := rand.New(rand.NewPCG(1, 2))
	small := func(n int) int64 { return rng.Int64N(int64(n)) }
	types := []struct {
		name      string
		node      parquet.Node
		value     func() parquet.Value
		encodings []encoding.Encoding
	}{
		{
			"boolean",
			parquet.Leaf(parquet.BooleanType),
			func() parquet.Value { return parquet.BooleanValue(small(3) == 0) },
			[]encoding.Encoding{&parquet.Plain, &parquet.RLE},
		},
		{
			"int32",
			parquet.Leaf(parquet.Int32Type),
			func() parquet.Value { return parquet.Int32Value(int32(rng.Uint32()) >> small(31)) },
			[]encoding.Encoding{
				&parquet.Plain,
				&parquet.RLEDictionary,
				&parquet.DeltaBinaryPacked,
				&parquet.ByteStreamSplit,
			},
		},
		{
			"int64",
			parquet.Leaf(parquet.Int64Type),
			func() parquet.Value { return parquet.Int64Value(int64(rng.Uint64()) >> small(63)) },
			[]encoding.Encoding{
				&parquet.Plain,
				&parquet.RLEDictionary,
				&parquet.DeltaBinaryPacked,
				&parquet.ByteStreamSplit,
			},
		},
		{"float", parquet.Leaf(parquet.FloatType), func() parquet.Value { return parquet.FloatValue(rng.Float32()) },
			[]encoding.Encoding{&parquet.Plain, &parquet.RLEDictionary, &parquet.ByteStreamSplit}},
		{
			"double",
			parquet.Leaf(parquet.DoubleType),
			func() parquet.Value { return parquet.DoubleValue(rng.NormFloat64()) },
			[]encoding.Encoding{&parquet.Plain, &parquet.RLEDictionary, &parquet.ByteStreamSplit},
		},
		{"bytes", parquet.Leaf(parquet.ByteArrayType), func() parquet.Value {
			return parquet.ByteArrayValue(
				[]byte(fmt.Sprintf("pier %d %s", small(20), strings.Repeat("x", int(small(9))))),
			)
		}, []encoding.Encoding{&parquet.Plain, &parquet.RLEDictionary, &parquet.DeltaLengthByteArray,
			&parquet.DeltaByteArray}},
		{"fixed", parquet.Leaf(parquet.FixedLenByteArrayType(5)), func() parquet.Value {
			return parquet.FixedLenByteArrayValue([]byte(fmt.Sprintf("%05d", small(100_000))))
		}, []encoding.Encoding{&parquet.Plain, &parquet.RLEDictionary, &parquet.DeltaByteArray,
			&parquet.ByteStreamSplit}},
	}
	codecs := []compress.Codec{
		&parquet.Uncompressed,
		&parquet.Snappy,
		&parquet.Gzip,
		&parquet.Brotli,
		&parquet.Zstd,
		&parquet.Lz4Raw,
	}
	for _, typ := range types {
		for _, enc := range typ.encodings {
			for _, codec := range codecs {
				for _, version := range []int{1, 2} {
					for _, nulls := range []int{0, 50, 100} { // of a hundred
						name := fmt.Sprintf("%s, %s, %s, version %d, %d%% NULL", typ.name, enc, codec, version, nulls)
						values := make([]parquet.Value, 700)
						for i := range values {
							if int(small(100)) >= nulls {
								values[i] = typ.value()
							}
						}
						node := parquet.Compressed(parquet.Encoded(typ.node, enc), codec)
						if nulls > 0 {
							node = parquet.Optional(node)
						}
						b := written(t, node, values, parquet.DataPageVersion(version), parquet.PageBufferSize(700))
						got, err := read(b, generous)
						require.NoError(t, err, name)
						require.Len(t, got, len(values), name)
						for i, v := range values {
							want := wanted(v)
							if len(want.B) == 0 {
								want.B, got[i].B = nil, nil
							}
							require.Equal(t, want, got[i], "%s: row %d", name, i)
						}
					}
				}
			}
		}
	}
}

func TestRowGroupsAndColumns(t *testing.T) {
	type row struct {
		ID   int64   `parquet:"id,delta"`
		Name *string `parquet:"name,optional,dict,zstd"`
		Open bool    `parquet:"open"`
	}
	var b bytes.Buffer
	w := parquet.NewGenericWriter[row](&b, parquet.PageBufferSize(512))
	for i := range 5000 {
		r := row{ID: int64(i), Open: i%3 == 0}
		if i%4 != 0 {
			name := fmt.Sprintf("pier %d", i%50)
			r.Name = &name
		}
		_, err := w.Write([]row{r})
		require.NoError(t, err)
		if i%1200 == 1199 {
			require.NoError(t, w.Flush())
		}
	}
	require.NoError(t, w.Close())
	r, err := Open(bytes.NewReader(b.Bytes()), int64(b.Len()), generous)
	require.NoError(t, err)
	require.Equal(
		t,
		[]string{"id", "name", "open"},
		[]string{r.Columns()[0].Name, r.Columns()[1].Name, r.Columns()[2].Name},
	)
	for i := range 5000 {
		row, err := r.Next()
		require.NoError(t, err)
		require.Equal(t, int64(i), row[0].N)
		require.Equal(t, i%4 == 0, row[1].Null)
		if !row[1].Null {
			require.Equal(t, fmt.Sprintf("pier %d", i%50), string(row[1].B))
		}
		require.Equal(t, i%3 == 0, row[2].N == 1)
	}
	_, err = r.Next()
	assert.Equal(t, io.EOF, err)
}

// Writers put the largest and the smallest value of a page into its header.
func TestLargeValues(t *testing.T) {
	node := parquet.Compressed(parquet.Leaf(parquet.ByteArrayType), &parquet.Zstd)
	values := []parquet.Value{
		parquet.ByteArrayValue(make([]byte, 3<<20)),
		parquet.ByteArrayValue(bytes.Repeat([]byte("x"), 5<<20)),
	}
	got, err := read(written(t, node, values), generous)
	require.NoError(t, err)
	require.Len(t, got, 2)
	assert.Equal(t, 3<<20, len(got[0].B))
	assert.Equal(t, bytes.Repeat([]byte("x"), 5<<20), got[1].B)
}

func TestNestedColumnsAreNamed(t *testing.T) {
	type row struct {
		ID   int64    `parquet:"id"`
		Tags []string `parquet:"tags,list"`
	}
	var b bytes.Buffer
	w := parquet.NewGenericWriter[row](&b)
	_, err := w.Write([]row{{1, []string{"a"}}})
	require.NoError(t, err)
	require.NoError(t, w.Close())
	_, err = Open(bytes.NewReader(b.Bytes()), int64(b.Len()), generous)
	var nested *NestedError
	require.ErrorAs(t, err, &nested)
	assert.Equal(t, "tags", nested.Column)
}

// forged is a file of one column with pages that somebody made by hand.
type forged struct {
	column format.SchemaElement
	codec  format.CompressionCodec
	rows   int64
	pages  []page
	change func(*format.FileMetaData)
}

type page struct {
	header format.PageHeader
	bytes  []byte
}

func (f *forged) bytes(t testing.TB) []byte {
	marshal := func(v any) []byte {
		b, err := thrift.Marshal(new(thrift.CompactProtocol), v)
		require.NoError(t, err)
		return b
	}
	b := []byte("PAR1")
	for _, p := range f.pages {
		if p.header.CompressedPageSize == 0 {
			p.header.CompressedPageSize = int32(len(p.bytes))
		}
		if p.header.UncompressedPageSize == 0 {
			p.header.UncompressedPageSize = int32(len(p.bytes))
		}
		b = append(append(b, marshal(&p.header)...), p.bytes...)
	}
	column := f.column
	column.Name = "c"
	if !column.Type.Valid {
		column.Type = thrift.New(format.ByteArray)
	}
	column.RepetitionType = thrift.New(format.Required)
	meta := format.FileMetaData{
		Schema: []format.SchemaElement{{Name: "rows", NumChildren: thrift.New(int32(1))}, column}, NumRows: f.rows,
		RowGroups: []format.RowGroup{{NumRows: f.rows, Columns: []format.ColumnChunk{{MetaData: format.ColumnMetaData{
			Type: column.Type.V, Codec: f.codec, NumValues: f.rows, TotalCompressedSize: int64(len(b)) - 4,
			DataPageOffset: 4,
			Encoding:       []format.Encoding{format.Plain}, PathInSchema: []string{"c"},
		}}}}},
	}
	if f.change != nil {
		f.change(&meta)
	}
	footer := marshal(&meta)
	return append(binary.LittleEndian.AppendUint32(append(b, footer...), uint32(len(footer))), "PAR1"...)
}

func data(encoding format.Encoding, n int32, b []byte) page {
	return page{header: format.PageHeader{Type: format.DataPage, DataPageHeader: thrift.New(format.DataPageHeader{
		NumValues: n, Encoding: encoding, DefinitionLevelEncoding: format.RLE, RepetitionLevelEncoding: format.RLE,
	})}, bytes: b}
}

func dictionaryOf(n int32, b []byte) page {
	return page{
		header: format.PageHeader{
			Type:                 format.DictionaryPage,
			DictionaryPageHeader: thrift.New(format.DictionaryPageHeader{NumValues: n}),
		},
		bytes: b,
	}
}

func text(s string) []byte {
	return append(binary.LittleEndian.AppendUint32(nil, uint32(len(s))), s...)
}

func uvarints(u ...uint64) (b []byte) {
	for _, u := range u {
		b = binary.AppendUvarint(b, u)
	}
	return b
}

// Files whose few bytes stand for much: each is refused, and takes little.
func TestFewBytesThatStandForMuch(t *testing.T) {
	limits := Limits{Memory: 8 << 20, Value: 1 << 20, Total: 16 << 20}
	zeros := func(codec compress.Codec, n int) []byte {
		b, err := codec.Encode(nil, make([]byte, n))
		require.NoError(t, err)
		return b
	}
	lying := func(p page, unpacked int32) page {
		p.header.UncompressedPageSize = unpacked
		return p
	}
	long := func(p page) page {
		p.header.CompressedPageSize = math.MaxInt32
		return p
	}
	// Numbers that all are n: one block whose differences have no bits.
	same := func(count, n uint64) []byte {
		b := append(uvarints(1<<20, 1, count), binary.AppendVarint(nil, int64(n))...)
		for range count/(1<<20) + 1 {
			b = append(b, 0, 0)
		}
		return b
	}
	bomb := bytes.Repeat([]byte{0}, 1<<20)
	binary.LittleEndian.PutUint32(bomb, 1<<20-4)
	cases := map[string]struct {
		file forged
		want string
	}{
		"a page that is large": {
			forged{
				rows:  1,
				codec: format.Zstd,
				pages: []page{lying(data(format.Plain, 1, zeros(&parquet.Zstd, 64<<20)), 64<<20)},
			},
			"more than 8 MiB for the unpacked pages of a row",
		},
		"zstd that goes on": {
			forged{
				rows:  1,
				codec: format.Zstd,
				pages: []page{lying(data(format.Plain, 1, zeros(&parquet.Zstd, 64<<20)), 10)},
			},
			"packed by ZSTD",
		},
		"gzip that goes on": {
			forged{
				rows:  1,
				codec: format.Gzip,
				pages: []page{lying(data(format.Plain, 1, zeros(&parquet.Gzip, 64<<20)), 10)},
			},
			"packed by GZIP: it is longer",
		},
		"brotli that goes on": {
			forged{
				rows:  1,
				codec: format.Brotli,
				pages: []page{lying(data(format.Plain, 1, zeros(&parquet.Brotli, 64<<20)), 10)},
			},
			"packed by BROTLI: it is longer",
		},
		"LZ4 that goes on": {
			forged{
				rows:  1,
				codec: format.Lz4Raw,
				pages: []page{lying(data(format.Plain, 1, zeros(&parquet.Lz4Raw, 64<<20)), 10)},
			},
			"packed by LZ4_RAW",
		},
		"LZ4 that is damaged": {
			forged{
				rows:  1,
				codec: format.Lz4Raw,
				pages: []page{lying(data(format.Plain, 1, []byte{0x1F, 'a', 0, 0, 9}), 1000)},
			},
			"packed by LZ4_RAW",
		},
		"Snappy that says 4 GB": {
			forged{
				rows:  1,
				codec: format.Snappy,
				pages: []page{lying(data(format.Plain, 1, uvarints(math.MaxUint32)), 10)},
			},
			"packed by SNAPPY",
		},
		"gzip that ends early": {
			forged{
				rows:  1,
				codec: format.Gzip,
				pages: []page{lying(data(format.Plain, 1, zeros(&parquet.Gzip, 10)), 1<<20)},
			},
			"packed by GZIP: it is longer or shorter",
		},
		"a page longer than the file": {
			forged{rows: 1, pages: []page{long(data(format.Plain, 1, text("a")))}},
			"longer than its column",
		},
		"a dictionary that is large": {
			forged{
				rows:  1,
				codec: format.Zstd,
				pages: []page{lying(dictionaryOf(1, zeros(&parquet.Zstd, 64<<20)), 64<<20)},
			},
			"more than 8 MiB for the unpacked pages of a row",
		},
		"a dictionary of many values": {
			forged{rows: 1, pages: []page{dictionaryOf(math.MaxInt32, text("a"))}},
			"a dictionary of 2147483647 values has 5 bytes",
		},
		"a large value that is repeated": {
			forged{
				rows: 1 << 30,
				pages: []page{
					dictionaryOf(1, bomb),
					data(format.RLEDictionary, 1<<20, append([]byte{1}, uvarints(1<<21, 0)...)),
				},
			},
			"for the pages and values of the file, unpacked",
		},
		"a page of many values": {
			forged{
				rows: math.MaxInt64,
				pages: []page{
					dictionaryOf(1, text("a")),
					data(format.RLEDictionary, math.MaxInt32, append([]byte{1}, uvarints(math.MaxInt32, 0)...)),
				},
			},
			"for the values of a page",
		},
		"differences of many values": {
			forged{rows: 1, pages: []page{data(format.DeltaLengthByteArray, 1, same(1<<40, 0))}},
			"1099511627776 values in a page of 1",
		},
		"lengths that wrap": {
			forged{rows: 1000, pages: []page{data(format.DeltaLengthByteArray, 1000, same(1000, math.MaxInt32))}},
			"lengths of more than",
		},
		"lengths below zero": {
			forged{rows: 2, pages: []page{data(format.DeltaLengthByteArray, 2, uvarints(8, 1, 2, 1, 0, 0))}},
			"lengths of more than",
		},
		"values that depend on the ones before": {
			forged{rows: 300_000, pages: []page{data(format.DeltaByteArray, 300_000, growing(300_000))}},
			"for the pages and values of the file, unpacked",
		},
		"many columns in one of few bytes": {
			forged{rows: 1, change: func(m *format.FileMetaData) { m.RowGroups = make([]format.RowGroup, 20_000) }},
			"more than 8 MiB for the footer",
		},
		"a column that is in another file": {
			forged{
				rows:   1,
				pages:  []page{data(format.Plain, 1, text("a"))},
				change: func(m *format.FileMetaData) { m.RowGroups[0].Columns[0].FilePath = "/etc/passwd" },
			},
			"other files are not opened",
		},
		"a column that is outside the file": {
			forged{
				rows: 1,
				change: func(m *format.FileMetaData) {
					m.RowGroups[0].Columns[0].MetaData.DataPageOffset = math.MaxInt64 - 3
				},
			},
			"outside the file",
		},
		"a column of another type": {
			forged{
				rows:   1,
				change: func(m *format.FileMetaData) { m.RowGroups[0].Columns[0].MetaData.Type = format.Int64 },
			},
			"in the schema of BYTE_ARRAY",
		},
		"values that are not there": {
			forged{rows: 5, pages: []page{data(format.Plain, 1, text("a"))}},
			"fewer values than rows",
		},
		"a dictionary that is not there": {
			forged{rows: 1, pages: []page{data(format.RLEDictionary, 1, append([]byte{1}, uvarints(2, 0)...))}},
			"there is none before it",
		},
		"a value that no dictionary has": {
			forged{
				rows: 1,
				pages: []page{
					dictionaryOf(1, text("a")),
					data(format.RLEDictionary, 1, append([]byte{8}, uvarints(2, 7)...)),
				},
			},
			"value 7 of a dictionary of 1",
		},
		"values of gigabytes each": {
			forged{
				rows: 1,
				column: format.SchemaElement{
					Type:       thrift.New(format.FixedLenByteArray),
					TypeLength: thrift.New(int32(math.MaxInt32)),
				},
				pages: []page{data(format.ByteStreamSplit, 1, nil)},
			},
			"it ends too early",
		},
	}
	for name, c := range cases {
		t.Run(name, func(t *testing.T) {
			b := c.file.bytes(t)
			assert.Less(t, len(b), 5<<20)
			_, err := read(b, limits)
			assert.ErrorContains(t, err, c.want)
		})
	}
}

// growing are n values, each one byte longer than the one before, whose beginning it shares.
func growing(n int) []byte {
	prefixes := uvarints(1<<20, 1, uint64(n))
	prefixes = append(prefixes, 0, 2, 0) // first 0, then one more each time
	suffixes := append(uvarints(1<<20, 1, uint64(n)), 2, 0, 0)
	return append(append(prefixes, suffixes...), bytes.Repeat([]byte{'x'}, n)...)
}

// The library's decoder makes room for a list on the word of its length: these never reach
// it.
func TestFootersThatLie(t *testing.T) {
	footer := func(b ...byte) []byte {
		file := append([]byte("PAR1"), b...)
		return append(binary.LittleEndian.AppendUint32(file, uint32(len(b))), "PAR1"...)
	}
	deep := bytes.Repeat([]byte{0x1C}, 100_000)
	for name, c := range map[string]struct {
		file []byte
		want string
	}{
		"nothing":              {nil, "not a Parquet file"},
		"text":                 {[]byte("code,name\nNJ,North Jetty\n"), "not a Parquet file"},
		"no footer":            {footer(), "the footer: it ends too early"},
		"encrypted":            {append(footer()[:8], "PARE"...), "encrypted"},
		"longer than the file": {append([]byte("PAR1"), "\xFF\xFF\xFF\xFFPAR1"...), "longer than the file"},
		"a list of 2^31": {footer(append([]byte{0x29, 0xFC}, uvarints(math.MaxInt32)...)...), "the footer: " +
			"it ends too early"},
		"a text of 2^31": {footer(append([]byte{0x68}, uvarints(math.MaxInt32)...)...), "the footer: " +
			"it ends too early"},
		"structures in each other": {footer(deep...), "structures are nested"},
		"lists in each other":      {footer(bytes.Repeat([]byte{0x19}, 100_000)...), "which no Parquet file has"},
		"a set":                    {footer(0x1A, 0x18, 0), "which no Parquet file has"},
		"a map":                    {footer(0x1B, 0x01, 0x88, 0), "which no Parquet file has"},
		"a number of more than 64 b": {footer(append([]byte{0x15}, bytes.Repeat([]byte{0xFF}, 11)...)...),
			"more than " +
				"64 bits"},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := read(c.file, generous)
			assert.ErrorContains(t, err, c.want)
		})
	}
}

// What an element of a list is counted for is no less than what it takes.
func TestElementsAreCountedInFull(t *testing.T) {
	assert.LessOrEqual(t, int(unsafe.Sizeof(format.ColumnChunk{})), outerElement)
	assert.LessOrEqual(t, int(unsafe.Sizeof(format.SchemaElement{})), outerElement)
	assert.LessOrEqual(t, int(unsafe.Sizeof(format.RowGroup{})), outerElement)
	assert.LessOrEqual(t, int(unsafe.Sizeof(format.KeyValue{})), innerElement)
	assert.LessOrEqual(t, int(unsafe.Sizeof(format.PageEncodingStats{})), innerElement)
}

// Whatever a file says, reading it neither panics nor takes more than its limits allow.
func FuzzRead(f *testing.F) {
	for _, enc := range []encoding.Encoding{&parquet.Plain, &parquet.RLEDictionary, &parquet.DeltaLengthByteArray,
		&parquet.DeltaByteArray} {
		for _, codec := range []compress.Codec{&parquet.Uncompressed, &parquet.Zstd, &parquet.Lz4Raw} {
			node := parquet.Optional(
				parquet.Compressed(parquet.Encoded(parquet.Leaf(parquet.ByteArrayType), enc), codec),
			)
			f.Add(
				written(
					f,
					node,
					[]parquet.Value{
						parquet.ByteArrayValue([]byte("North Jetty")),
						{},
						parquet.ByteArrayValue([]byte("North Quay")),
					},
				),
			)
		}
	}
	f.Add(
		written(
			f,
			parquet.Encoded(parquet.Leaf(parquet.Int64Type), &parquet.DeltaBinaryPacked),
			[]parquet.Value{parquet.Int64Value(1), parquet.Int64Value(-5)},
		),
	)
	bomb := forged{rows: 3000, pages: []page{data(format.DeltaByteArray, 3000, growing(3000))}}
	f.Add(bomb.bytes(f))
	f.Fuzz(func(t *testing.T, b []byte) {
		limits := Limits{Memory: 4 << 20, Value: 1 << 20, Total: 4 << 20}
		var before, after runtime.MemStats
		runtime.ReadMemStats(&before)
		r, err := Open(bytes.NewReader(b), int64(len(b)), limits)
		for n := 0; err == nil && n < 10_000; n++ {
			_, err = r.Next()
		}
		runtime.ReadMemStats(&after)
		// Pages leave small decoders behind, beside what is budgeted.
		if made := after.TotalAlloc - before.TotalAlloc; made > 64<<20 {
			t.Fatalf("%d bytes were made", made)
		}
	})
}
