package files

import (
	"bufio"
	"encoding/base64"
	"fmt"
	"io"
	"strings"
	"unicode/utf8"

	"evensprout/internal/cell"
	"evensprout/internal/value"
)

// Column is a column of a file that is written. All its values are of the type, or NULL.
type Column struct {
	Name  string
	Type  value.Type
	Scale uint8 // of decimals, digits after the point
}

// Writer writes rows, one value for each column. Close ends the file's form; what is
// written into stays open.
type Writer interface {
	Write(row []value.Value) error
	Close() error
}

// writers make writers by the name of a format.
var writers = map[string]func(io.Writer, []Column) (Writer, error){
	"csv": newCSVWriter, Guarded: newGuardedWriter, "ndjson": newNDJSONWriter, "json": newJSONWriter,
	"parquet": newParquetWriter,
}

// Formats are the names of the formats that can be written.
func Formats() []string { return []string{"csv", "ndjson", "json", "parquet"} }

// Guarded is CSV for spreadsheets: they take texts that begin with =, +, -, @, also of full width, or with a tab or the
// end of a line, for formulas, and run them. Such texts get an apostrophe in front, so that
// the file does not hold the rows exactly.
const Guarded = "csv, guarded"

// newGuardedWriter makes a writer of CSV whose cells no spreadsheet takes for formulas.
func newGuardedWriter(w io.Writer, columns []Column) (Writer, error) {
	c := &csvWriter{out: bufio.NewWriterSize(w, writeBuffer), guarded: true}
	return c, c.header(columns)
}

// NewWriter begins a file. An unknown format is an error.
func NewWriter(format string, w io.Writer, columns []Column) (Writer, error) {
	open := writers[format]
	if open == nil {
		return nil, fmt.Errorf(
			"%q is not an output format; use one of %s",
			format,
			strings.Join(Formats(), ", "),
		)
	}
	inner, err := open(w, columns)
	if err != nil {
		return nil, err
	}
	return &readable{inner, columns, 0}, nil
}

// readable writes rows that can be read back. No reader takes a text with a NUL character for a text.
type readable struct {
	Writer
	columns []Column
	rows    int64
}

func (w *readable) Write(row []value.Value) error {
	for i := range row {
		if err := RefuseNUL(&row[i], w.columns[i].Name); err != nil {
			return fmt.Errorf("row %d: %w", w.rows, err)
		}
	}
	w.rows++
	return w.Writer.Write(row)
}

// RefuseNUL reports a text that holds a NUL character: files and scripts with one are cut off there by their readers.
func RefuseNUL(v *value.Value, name string) error {
	if (v.Type == value.Text || v.Type == value.JSON) && strings.IndexByte(v.S, 0) >= 0 {
		return fmt.Errorf("%s holds a NUL character, which no file can hold: load these rows, or write the field as bytes", name)
	}
	return nil
}

const writeBuffer = 128 << 10

// AppendText appends a value as it stands in a cell of a file. Bytes go as base64 (RFC
// 4648), moments as ISO 8601. NULL is nothing.
func AppendText(b []byte, v *value.Value) []byte {
	switch v.Type {
	case value.Null:
		return b
	case value.Bytes:
		return base64.StdEncoding.AppendEncode(b, []byte(v.S))
	}
	return v.AppendText(b)
}

// csvWriter writes RFC 4180 with a header line. NULL is an empty cell, an empty text a
// quoted one.
type csvWriter struct {
	out     *bufio.Writer
	buf     []byte
	cells   []byte
	guarded bool
}

// newCSVWriter makes a writer of CSV (RFC 4180).
func newCSVWriter(w io.Writer, columns []Column) (Writer, error) {
	c := &csvWriter{out: bufio.NewWriterSize(w, writeBuffer)}
	return c, c.header(columns)
}

// header writes the names of the columns.
func (w *csvWriter) header(columns []Column) error {
	header := make([]value.Value, len(columns))
	for i, column := range columns {
		header[i] = value.String(column.Name)
	}
	return w.Write(header)
}

func (w *csvWriter) Write(row []value.Value) error {
	w.buf = w.buf[:0]
	for i := range row {
		if i > 0 {
			w.buf = append(w.buf, ',')
		}
		v := &row[i]
		if v.IsNull() {
			continue
		}
		w.cells = w.cells[:0]
		if w.guarded && (v.Type == value.Text || v.Type == value.JSON) && v.S != "" &&
			startsFormula(v.S) {
			w.cells = append(w.cells, '\'')
		}
		w.cells = AppendText(w.cells, v)
		w.buf = appendCSV(w.buf, w.cells)
	}

	if len(row) == 1 && row[0].IsNull() {
		// A line without any cell would be no line for readers: this one is NULL, too, for
		// all but text.
		w.buf = append(w.buf, `""`...)
	}
	_, err := w.out.Write(append(w.buf, '\r', '\n'))
	return err
}

// startsFormula reports whether a spreadsheet may take a text for a formula: by its first character, which may be of
// full width.
func startsFormula(text string) bool {
	first, _ := utf8.DecodeRuneInString(text)
	return strings.ContainsRune("=+-@\t\r\n＝＋－＠", first)
}

// appendCSV appends a cell, in quotes if it needs them.
func appendCSV(b, cell []byte) []byte {
	plain := len(cell) > 0 && cell[0] != ' ' && !(len(cell) == 2 && cell[0] == '\\')
	for _, c := range cell {
		if c == '"' || c == ',' || c == '\n' || c == '\r' {
			plain = false
			break
		}
	}
	if plain {
		return append(b, cell...)
	}
	b = append(b, '"')
	for _, c := range cell {
		if c == '"' {
			b = append(b, '"')
		}
		b = append(b, c)
	}
	return append(b, '"')
}

func (w *csvWriter) Close() error { return w.out.Flush() }

// jsonWriter writes objects: one a line, or a list of them.
type jsonWriter struct {
	out  *bufio.Writer
	keys [][]byte // with what stands in front of them and the colon
	list bool
	rows int
	buf  []byte
}

// newNDJSONWriter makes a writer of one JSON object a line.
func newNDJSONWriter(w io.Writer, columns []Column) (Writer, error) {
	j := &jsonWriter{out: bufio.NewWriterSize(w, writeBuffer)}
	for i, c := range columns {
		before := byte(',')
		if i == 0 {
			before = '{'
		}
		j.keys = append(j.keys, append(cell.AppendJSONText([]byte{before}, c.Name), ':'))
	}
	return j, nil
}

// newJSONWriter makes a writer of one JSON array.
func newJSONWriter(w io.Writer, columns []Column) (Writer, error) {
	x, err := newNDJSONWriter(w, columns)
	x.(*jsonWriter).list = true
	return x, err
}

func (w *jsonWriter) Write(row []value.Value) error {
	b := w.buf[:0]
	switch {
	case w.list && w.rows == 0:
		b = append(b, "[\n"...)
	case w.list:
		b = append(b, ",\n"...)
	}
	for i := range row {
		b = AppendJSON(append(b, w.keys[i]...), &row[i])
	}
	if len(row) == 0 {
		b = append(b, '{')
	}
	b = append(b, '}')
	if !w.list {
		b = append(b, '\n')
	}
	w.rows++
	w.buf = b
	_, err := w.out.Write(b)
	return err
}

func (w *jsonWriter) Close() error {
	if w.list {
		end := "\n]\n"
		if w.rows == 0 {
			end = "[]\n"
		}
		if _, err := w.out.WriteString(end); err != nil {
			return err
		}
	}
	return w.out.Flush()
}

// AppendJSON appends a value as JSON: numbers with all their digits, booleans, null, JSON
// as it is, bytes in base64, the rest as text.
func AppendJSON(b []byte, v *value.Value) []byte {
	switch v.Type {
	case value.Null:
		return append(b, "null"...)
	case value.Integer, value.Decimal, value.Boolean, value.JSON:
		return v.AppendText(b)
	case value.Text:
		return cell.AppendJSONText(b, v.S)
	}
	b = append(b, '"')
	b = AppendText(b, v) // letters, digits and signs that need no escape
	return append(b, '"')
}
