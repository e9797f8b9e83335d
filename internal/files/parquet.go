package files

import (
	"encoding/base64"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math"
	"math/big"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/parquet-go/parquet-go"
	"github.com/parquet-go/parquet-go/format"

	"evensprout/internal/cell"
	"evensprout/internal/parquetrows"
	"evensprout/internal/value"
)

const (
	maxPages  = 96 << 20 // bytes of the footer, and of the pages that a row is read from
	maxValues = 1 << 30  // bytes of all values, beyond 1,000 times the size of the file
)

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
		return nil, errors.New("a Parquet file needs at least one column")
	}
	root := ordered{Group: parquet.Group{}}
	options := []parquet.WriterOption{parquet.CreatedBy("evensprout", "1", "")}
	for _, c := range columns {
		// The footer would hold the least and the greatest value of each page, whole.
		if c.Type == value.Text || c.Type == value.JSON || c.Type == value.Bytes {
			options = append(options, parquet.SkipPageBounds(c.Name))
		}
		root.Group[c.Name] = parquet.Compressed(parquet.Optional(parquetNode(c)), &parquet.Snappy)
		root.names = append(root.names, c.Name)
	}
	options = append(options, parquet.NewSchema("rows", root))
	return &parquetWriter{out: parquet.NewGenericWriter[any](w, options...), columns: columns}, nil
}

func parquetNode(c Column) parquet.Node {
	switch c.Type {
	case value.Integer:
		return parquet.Int(64)
	case value.Decimal:
		return parquet.Decimal(int(c.Scale), value.MaxScale, parquet.Int64Type)
	case value.Boolean:
		return parquet.Leaf(parquet.BooleanType)
	case value.Date:
		return parquet.Date()
	case value.Time:
		return parquet.TimeAdjusted(parquet.Microsecond, false)
	case value.Timestamp:
		return parquet.Timestamp(parquet.Microsecond)
	case value.UUID:
		return parquet.UUID()
	case value.JSON:
		return parquet.JSON()
	case value.Bytes:
		return parquet.Leaf(parquet.ByteArrayType)
	}
	return parquet.String()
}

func (w *parquetWriter) Write(row []value.Value) error {
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

func parquetValue(v *value.Value, c *Column) (parquet.Value, error) {
	switch c.Type {
	case value.Integer, value.Time, value.Timestamp:
		return parquet.Int64Value(v.N), nil
	case value.Decimal:
		d, ok := v.Rescale(c.Scale)
		if !ok {
			return parquet.Value{}, fmt.Errorf("%s has more digits than its column", v)
		}
		return parquet.Int64Value(d.N), nil
	case value.Boolean:
		return parquet.BooleanValue(v.N != 0), nil
	case value.Date:
		return parquet.Int32Value(int32(v.N)), nil
	case value.UUID:
		b := binary.BigEndian.AppendUint64(nil, uint64(v.N))
		return parquet.FixedLenByteArrayValue(binary.BigEndian.AppendUint64(b, v.M)), nil
	case value.Text, value.JSON, value.Bytes:
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
	cells  []func(*parquetrows.Value) (cell.Cell, error)
	rows   *parquetrows.Reader
	record Record
	line   int
}

// openParquet opens a Parquet file; a damaged one is an error, never a panic.
func openParquet(f *os.File, path string, _ Options) (r Reader, err error) {
	defer parquetPanic(path, &err)
	info, err := f.Stat()
	if err != nil {
		return nil, err
	}
	rows, err := parquetrows.Open(
		f,
		info.Size(),
		parquetrows.Limits{Memory: maxPages, Value: maxLine, Total: maxValues},
	)
	if err != nil {
		return nil, parquetError(path, 0, err)
	}
	out := &parquetReader{file: f, path: path, rows: rows}
	if len(rows.Columns()) > maxColumns {
		return nil, &Error{File: path, Message: fmt.Sprintf("more than %d columns", maxColumns)}
	}
	for i := range rows.Columns() {
		c := &rows.Columns()[i]
		read := parquetCell(c)
		if read == nil {
			return nil, &Error{
				File:    path,
				Message: fmt.Sprintf("the column %s has the type %s, which is not supported", c.Name, c.Kind),
			}
		}
		out.names, out.cells = append(out.names, c.Name), append(out.cells, read)
	}

	if len(out.names) == 0 {
		return nil, &Error{File: path, Message: "the file has no columns"}
	}
	if err := checkNames(path, out.names); err != nil {
		return nil, err
	}
	out.record = Record{Names: out.names, Cells: make([]cell.Cell, len(out.names))}
	return out, nil
}

// parquetError says where an error is, and what to do.
func parquetError(path string, line int, err error) error {
	out := &Error{File: path, Line: line, Message: err.Error()}
	var nested *parquetrows.NestedError
	var limit *parquetrows.LimitError
	var column *parquetrows.ColumnError
	if errors.As(err, &column) {
		out.Column = column.Column + 1
	}
	switch {
	case errors.As(err, &nested):
		out.Hint = "only plain columns can be read; write nested values as JSON"
	case errors.As(err, &limit) && limit.Limit == maxPages:
		out.Hint = "write the file with smaller pages, or leave out columns that the plan does not need"
	}
	return out
}

// parquetPanic makes an error of a panic of the library that decodes the footer, should a
// file find one.
func parquetPanic(path string, err *error) {
	if r := recover(); r != nil {
		*err = &Error{File: path, Message: fmt.Sprintf("the Parquet file is damaged: %v", r)}
	}
}

// parquetCell reads the values of a column; nil if it cannot. A logical type that does not
// go with the stored type says nothing.
func parquetCell(c *parquetrows.Column) func(*parquetrows.Value) (cell.Cell, error) {
	switch c.Kind {
	case format.Int32, format.Int64:
		if read := numberCell(c); read != nil {
			return read
		}
	case format.ByteArray, format.FixedLenByteArray:
		if read := bytesCell(c); read != nil {
			return read
		}
	}
	return storedCell(c.Kind)
}

// readAs reads values whose text cannot fail.
func readAs(k cell.Kind, text func(*parquetrows.Value) string) func(*parquetrows.Value) (cell.Cell, error) {
	return func(v *parquetrows.Value) (cell.Cell, error) { return cell.Cell{Kind: k, Text: text(v)}, nil }
}

// numberCell reads whole numbers of a logical type; nil if the column has none.
func numberCell(c *parquetrows.Column) func(*parquetrows.Value) (cell.Cell, error) {
	switch t := c.Logical.(type) {
	case *format.DecimalType:
		return readAs(cell.Number, func(v *parquetrows.Value) string {
			return decimalText(big.NewInt(v.N), int(t.Scale))
		})
	case *format.DateType:
		return readAs(cell.Text, func(v *parquetrows.Value) string {
			return value.Value{Type: value.Date, N: v.N}.String()
		})
	case *format.TimeType:
		return momentCell(value.Time, t.Unit)
	case *format.TimestampType:
		return momentCell(value.Timestamp, t.Unit)
	case *format.IntType:
		if t.IsSigned {
			return nil
		}
		return readAs(cell.Number, func(v *parquetrows.Value) string {
			if c.Kind == format.Int32 {
				return strconv.FormatUint(uint64(uint32(v.N)), 10)
			}
			return strconv.FormatUint(uint64(v.N), 10)
		})
	}
	return nil
}

// momentCell reads times of day and moments, which are counted in a unit.
func momentCell(typ value.Type, u format.TimeUnit) func(*parquetrows.Value) (cell.Cell, error) {
	unit := time.Microsecond
	if u.Value != nil {
		unit = u.Value.Duration()
	}
	return func(v *parquetrows.Value) (cell.Cell, error) {
		n := v.N
		if unit < time.Microsecond {
			n /= int64(time.Microsecond / unit)
		} else if more := int64(unit / time.Microsecond); n > math.MaxInt64/more || n < math.MinInt64/more {
			return cell.Cell{}, fmt.Errorf("the moment %d (%s) is out of range", n, &u)
		} else {
			n *= more
		}
		return cell.Cell{Kind: cell.Text, Text: value.Value{Type: typ, N: n, Scale: 6}.String()}, nil
	}
}

// bytesCell reads bytes of a logical type; nil if the column has none.
func bytesCell(c *parquetrows.Column) func(*parquetrows.Value) (cell.Cell, error) {
	text := func(v *parquetrows.Value) string { return string(v.B) }
	switch t := c.Logical.(type) {
	case *format.DecimalType:
		return readAs(cell.Number, func(v *parquetrows.Value) string { return decimalText(signed(v.B), int(t.Scale)) })
	case *format.UUIDType:
		return func(v *parquetrows.Value) (cell.Cell, error) {
			if len(v.B) != 16 {
				return cell.Cell{}, errors.New("a UUID has 16 bytes")
			}
			u := value.Value{Type: value.UUID, N: int64(binary.BigEndian.Uint64(v.B)),
				M: binary.BigEndian.Uint64(v.B[8:])}
			return cell.Cell{Kind: cell.Text, Text: u.String()}, nil
		}
	case *format.JsonType:
		return readAs(cell.JSON, text)
	case *format.StringType, *format.EnumType:
		return readAs(cell.Quoted, text)
	}
	return nil
}

// storedCell reads values as they are stored; nil if it cannot.
func storedCell(kind format.Type) func(*parquetrows.Value) (cell.Cell, error) {
	switch kind {
	case format.Boolean:
		return readAs(cell.Boolean, func(v *parquetrows.Value) string { return strconv.FormatBool(v.N != 0) })
	case format.Int32, format.Int64:
		return readAs(cell.Number, func(v *parquetrows.Value) string { return strconv.FormatInt(v.N, 10) })
	case format.Float:
		return readAs(cell.Number, func(v *parquetrows.Value) string {
			return strconv.FormatFloat(float64(math.Float32frombits(uint32(v.N))), 'f', -1, 32)
		})
	case format.Double:
		return readAs(cell.Number, func(v *parquetrows.Value) string {
			return strconv.FormatFloat(math.Float64frombits(uint64(v.N)), 'f', -1, 64)
		})
	case format.ByteArray, format.FixedLenByteArray:
		return readAs(cell.Quoted, func(v *parquetrows.Value) string { return base64.StdEncoding.EncodeToString(v.B) })
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

// decimalText writes n / 10^scale.
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

func (r *parquetReader) Close() error { return r.file.Close() }

// Next reads a row; its line is its number, from 1.
func (r *parquetReader) Next() (_ Record, err error) {
	defer parquetPanic(r.path, &err)
	row, err := r.rows.Next()
	if err == io.EOF {
		return Record{}, io.EOF
	}
	if err != nil {
		return Record{}, parquetError(r.path, r.line+1, err)
	}
	r.line++
	r.record.Line = r.line
	for i := range row {
		r.record.Cells[i] = cell.Cell{Column: i + 1}
		if row[i].Null {
			continue
		}
		cell, err := r.cells[i](&row[i])
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
