package files

import (
	"encoding/base64"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math/big"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/parquet-go/parquet-go"
	"github.com/parquet-go/parquet-go/format"

	"evensprout/internal/grow"
)

// maxFooter bounds what a file says about itself, in bytes.
const maxFooter = 64 << 20

// parquetRows is how many rows go into a row group: a bound on memory.
const parquetRows = 50_000

// parquetWriter writes Apache Parquet: one optional leaf for each column, with the
// logical type that belongs to it.
type parquetWriter struct {
	out     *parquet.GenericWriter[any]
	columns []Column
	row     parquet.Row
	group   int
}

// ordered is a group of columns in their order: the library's own sorts them by name.
type ordered struct {
	parquet.Group
	names []string
}

func (g ordered) Fields() []parquet.Field {
	byName := map[string]parquet.Field{}
	for _, f := range g.Group.Fields() {
		byName[f.Name()] = f
	}
	fields := make([]parquet.Field, len(g.names))
	for i, n := range g.names {
		fields[i] = byName[n]
	}
	return fields
}

func newParquetWriter(w io.Writer, columns []Column) (Writer, error) {
	if len(columns) == 0 {
		return nil, errors.New("a Parquet file has columns, and here are none")
	}
	root := ordered{Group: parquet.Group{}}
	for _, c := range columns {
		root.Group[c.Name] = parquet.Compressed(parquet.Optional(parquetNode(c)), &parquet.Snappy)
		root.names = append(root.names, c.Name)
	}
	schema := parquet.NewSchema("rows", root)
	return &parquetWriter{out: parquet.NewGenericWriter[any](w, schema, parquet.CreatedBy("evensprout", "1", "")), columns: columns}, nil
}

func parquetNode(c Column) parquet.Node {
	switch c.Type {
	case grow.Integer:
		return parquet.Int(64)
	case grow.Decimal:
		return parquet.Decimal(int(c.Scale), grow.MaxScale, parquet.Int64Type)
	case grow.Boolean:
		return parquet.Leaf(parquet.BooleanType)
	case grow.Date:
		return parquet.Date()
	case grow.Time:
		return parquet.TimeAdjusted(parquet.Microsecond, false)
	case grow.Timestamp:
		return parquet.Timestamp(parquet.Microsecond)
	case grow.UUID:
		return parquet.UUID()
	case grow.JSON:
		return parquet.JSON()
	case grow.Bytes:
		return parquet.Leaf(parquet.ByteArrayType)
	}
	return parquet.String()
}

func (w *parquetWriter) Write(row []grow.Value) error {
	w.row = w.row[:0]
	for i := range row {
		v := &row[i]
		if v.IsNull() {
			w.row = append(w.row, parquet.NullValue().Level(0, 0, i))
			continue
		}
		p, err := parquetValue(v, &w.columns[i])
		if err != nil {
			return err
		}
		w.row = append(w.row, p.Level(0, 1, i))
	}
	if _, err := w.out.WriteRows([]parquet.Row{w.row}); err != nil {
		return err
	}
	if w.group++; w.group == parquetRows {
		w.group = 0
		return w.out.Flush()
	}
	return nil
}

func parquetValue(v *grow.Value, c *Column) (parquet.Value, error) {
	switch c.Type {
	case grow.Integer, grow.Time, grow.Timestamp:
		return parquet.Int64Value(v.N), nil
	case grow.Decimal:
		d, ok := v.Rescale(c.Scale)
		if !ok {
			return parquet.Value{}, fmt.Errorf("%s has more digits than its column", v)
		}
		return parquet.Int64Value(d.N), nil
	case grow.Boolean:
		return parquet.BooleanValue(v.N != 0), nil
	case grow.Date:
		return parquet.Int32Value(int32(v.N)), nil
	case grow.UUID:
		b := binary.BigEndian.AppendUint64(nil, uint64(v.N))
		return parquet.FixedLenByteArrayValue(binary.BigEndian.AppendUint64(b, v.M)), nil
	case grow.Text, grow.JSON, grow.Bytes:
		return parquet.ByteArrayValue([]byte(v.S)), nil
	}
	return parquet.ByteArrayValue([]byte(v.String())), nil
}

func (w *parquetWriter) Close() error { return w.out.Close() }

// parquetReader reads Apache Parquet with plain columns.
type parquetReader struct {
	file   *os.File
	path   string
	names  []string
	cells  []func(parquet.Value) (Cell, error)
	groups []parquet.RowGroup
	rows   parquet.Rows
	row    [1]parquet.Row
	record Record
	line   int
}

func openParquet(f *os.File, path string, _ Options) (r Reader, err error) {
	defer parquetPanic(path, &err)
	bad := func(message, hint string) (Reader, error) {
		return nil, &Error{File: path, Message: message, Hint: hint}
	}
	info, err := f.Stat()
	if err != nil {
		return nil, err
	}
	// The library makes room for as long a footer as the file says it has.
	var end [8]byte
	if _, err := f.ReadAt(end[:], info.Size()-int64(len(end))); err != nil || string(end[4:]) != "PAR1" {
		return bad("this is no Parquet file", "")
	}
	if size := int64(binary.LittleEndian.Uint32(end[:])); size > min(maxFooter, info.Size()-int64(len(end))) {
		return bad("the Parquet file is damaged: its footer is longer than the file, or than this program reads", "")
	}
	p, err := parquet.OpenFile(f, info.Size(), parquet.SkipBloomFilters(true))
	if err != nil {
		return bad("this is no Parquet file: "+err.Error(), "")
	}
	out := &parquetReader{file: f, path: path, groups: p.RowGroups()}
	fields := p.Schema().Fields()
	if len(fields) > maxColumns {
		return bad(fmt.Sprintf("more than %d columns", maxColumns), "")
	}
	for _, field := range fields {
		if !field.Leaf() || field.Repeated() {
			return bad(fmt.Sprintf("the column %s holds lists or groups", field.Name()), "rows are read from plain columns; write nested values as JSON")
		}
		read := parquetCell(field)
		if read == nil {
			return bad(fmt.Sprintf("the column %s is of the type %s, which is not read", field.Name(), field.Type()), "")
		}
		out.names, out.cells = append(out.names, field.Name()), append(out.cells, read)
	}
	if len(fields) == 0 {
		return bad("the file has no columns", "")
	}
	if err := checkNames(path, out.names); err != nil {
		return nil, err
	}
	out.record = Record{Names: out.names, Cells: make([]Cell, len(out.names))}
	return out, nil
}

// parquetPanic makes an error of a panic of the library, which trusts what a file says
// about itself.
func parquetPanic(path string, err *error) {
	if r := recover(); r != nil {
		*err = &Error{File: path, Message: fmt.Sprintf("the Parquet file is damaged: %v", r)}
	}
}

// parquetCell reads the values of a column; nil if it cannot.
func parquetCell(n parquet.Node) func(parquet.Value) (Cell, error) {
	var logical format.LogicalTypeValue
	if t := n.Type().LogicalType(); t != nil {
		logical = t.Value
	}
	kind := n.Type().Kind()
	text := func(k Kind, of func(parquet.Value) string) func(parquet.Value) (Cell, error) {
		return func(v parquet.Value) (Cell, error) { return Cell{Kind: k, Text: of(v)}, nil }
	}
	whole := func(v parquet.Value) int64 {
		if kind == parquet.Int32 {
			return int64(v.Int32())
		}
		return v.Int64()
	}
	moment := func(typ grow.Type, micros func(int64) int64) func(parquet.Value) (Cell, error) {
		return text(Text, func(v parquet.Value) string {
			return grow.Value{Type: typ, N: micros(whole(v)), Scale: 6}.String()
		})
	}
	// micros makes microseconds of a unit.
	micros := func(u format.TimeUnit) func(int64) int64 {
		d := int64(time.Microsecond)
		if u.Value != nil {
			d = int64(u.Value.Duration())
		}
		return func(n int64) int64 {
			if d < int64(time.Microsecond) {
				return n / (int64(time.Microsecond) / d)
			}
			return n * (d / int64(time.Microsecond))
		}
	}
	switch t := logical.(type) {
	case *format.DecimalType:
		scale := int(t.Scale)
		return func(v parquet.Value) (Cell, error) {
			n := new(big.Int)
			if kind == parquet.Int32 || kind == parquet.Int64 {
				n.SetInt64(whole(v))
			} else {
				n = signed(v.ByteArray())
			}
			return Cell{Kind: Number, Text: decimalText(n, scale)}, nil
		}
	case *format.DateType:
		return text(Text, func(v parquet.Value) string { return grow.Value{Type: grow.Date, N: whole(v)}.String() })
	case *format.TimeType:
		return moment(grow.Time, micros(t.Unit))
	case *format.TimestampType:
		return moment(grow.Timestamp, micros(t.Unit))
	case *format.UUIDType:
		return func(v parquet.Value) (Cell, error) {
			b := v.ByteArray()
			if len(b) != 16 {
				return Cell{}, errors.New("a UUID has 16 bytes")
			}
			u := grow.Value{Type: grow.UUID, N: int64(binary.BigEndian.Uint64(b)), M: binary.BigEndian.Uint64(b[8:])}
			return Cell{Kind: Text, Text: u.String()}, nil
		}
	case *format.JsonType:
		return text(JSON, func(v parquet.Value) string { return string(v.ByteArray()) })
	case *format.StringType, *format.EnumType:
		return text(Quoted, func(v parquet.Value) string { return string(v.ByteArray()) })
	case *format.IntType:
		if !t.IsSigned {
			return text(Number, func(v parquet.Value) string {
				if kind == parquet.Int32 {
					return strconv.FormatUint(uint64(v.Uint32()), 10)
				}
				return strconv.FormatUint(v.Uint64(), 10)
			})
		}
	}
	switch kind {
	case parquet.Boolean:
		return text(Boolean, func(v parquet.Value) string { return strconv.FormatBool(v.Boolean()) })
	case parquet.Int32, parquet.Int64:
		return text(Number, func(v parquet.Value) string { return strconv.FormatInt(whole(v), 10) })
	case parquet.Float:
		return text(Number, func(v parquet.Value) string { return strconv.FormatFloat(float64(v.Float()), 'f', -1, 32) })
	case parquet.Double:
		return text(Number, func(v parquet.Value) string { return strconv.FormatFloat(v.Double(), 'f', -1, 64) })
	case parquet.ByteArray, parquet.FixedLenByteArray:
		return text(Quoted, func(v parquet.Value) string { return base64.StdEncoding.EncodeToString(v.ByteArray()) })
	}
	return nil
}

// signed reads a number in two's complement, the highest byte first.
func signed(b []byte) *big.Int {
	n := new(big.Int).SetBytes(b)
	if len(b) > 0 && b[0]&0x80 != 0 {
		n.Sub(n, new(big.Int).Lsh(big.NewInt(1), uint(len(b))*8))
	}
	return n
}

func decimalText(n *big.Int, scale int) string {
	text, sign := n.String(), ""
	if strings.HasPrefix(text, "-") {
		sign, text = "-", text[1:]
	}
	if scale <= 0 || scale > 100 {
		return sign + text
	}
	for len(text) <= scale {
		text = "0" + text
	}
	return sign + text[:len(text)-scale] + "." + text[len(text)-scale:]
}

func (r *parquetReader) Names() []string { return r.names }

func (r *parquetReader) Close() error {
	var err error
	if r.rows != nil {
		err = r.rows.Close()
	}
	return errors.Join(err, r.file.Close())
}

// Next reads a row; its line is its number, from 1.
func (r *parquetReader) Next() (_ Record, err error) {
	defer parquetPanic(r.path, &err)
	for {
		if r.rows == nil {
			if len(r.groups) == 0 {
				return Record{}, io.EOF
			}
			r.rows, r.groups = r.groups[0].Rows(), r.groups[1:]
		}
		n, err := r.rows.ReadRows(r.row[:])
		if n == 1 {
			break
		}
		if err != nil && err != io.EOF {
			return Record{}, &Error{File: r.path, Line: r.line + 1, Message: "the Parquet file is damaged: " + err.Error()}
		}
		err = r.rows.Close()
		if r.rows = nil; err != nil {
			return Record{}, err
		}
	}
	r.line++
	r.record.Line = r.line
	for i := range r.record.Cells {
		r.record.Cells[i] = Cell{Column: i + 1}
	}
	for _, v := range r.row[0] {
		i := v.Column()
		if v.IsNull() || i < 0 || i >= len(r.cells) {
			continue
		}
		cell, err := r.cells[i](v)
		if bad := checkText(cell.Text); bad != "" && err == nil {
			err = errors.New(bad)
		}
		if err == nil && len(cell.Text) > maxLine {
			err = fmt.Errorf("a cell of more than %d bytes", maxLine)
		}
		if err != nil {
			return Record{}, &Error{File: r.path, Line: r.line, Column: i + 1, Message: err.Error()}
		}
		cell.Column = i + 1
		r.record.Cells[i] = cell
	}
	return r.record, nil
}
