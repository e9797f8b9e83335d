package files

import (
	"encoding/csv"
	"errors"
	"evensprout/internal/cell"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"unicode/utf8"
)

// csvReader reads RFC 4180, with a header line.
type csvReader struct {
	file   *os.File
	path   string
	bytes  *bounded
	csv    *csv.Reader
	names  []string
	record Record

	empties bool
	bom     int64 // bytes of a byte order mark
}

var errManyColumns = fmt.Errorf("more than %d columns", maxColumns)

// columnGuard counts the separators outside quotes on their way: the reader behind it keeps
// a place for each before it counts them.
type columnGuard struct {
	from   io.Reader
	comma  byte // the first of the separator
	quoted bool
	n      int
}

func (g *columnGuard) Read(p []byte) (int, error) {
	n, err := g.from.Read(p)
	for _, c := range p[:n] {
		switch {
		case c == '"':
			g.quoted = !g.quoted
		case g.quoted:
		case c == '\n':
			g.n = 0
		case c == g.comma:
			if g.n++; g.n > maxColumns {
				return n, errManyColumns
			}
		}
	}
	return n, err
}

func openCSV(f *os.File, path string, o Options) (Reader, error) {
	b, err := decoded(f, path, o)
	if err != nil {
		return nil, err
	}
	comma := ','
	if o.Separator != 0 {
		comma = o.Separator
	} else if strings.EqualFold(filepath.Ext(path), ".tsv") {
		comma = '\t'
	}
	whole := newBounded(&columnGuard{from: b, comma: string(comma)[0]})
	r := &csvReader{file: f, path: path, bytes: whole, csv: csv.NewReader(whole), empties: o.Empties}
	var mark [3]byte
	if n, _ := f.ReadAt(mark[:], 0); o.Empties && string(mark[:n]) == "\ufeff" {
		r.bom = int64(n)
	}
	r.csv.ReuseRecord = true
	r.csv.Comma = comma
	first, err := r.csv.Read()
	if err == io.EOF {
		return nil, &Error{File: path, Message: "the file is empty", Hint: "the first line names the columns"}
	}
	if err != nil {
		return nil, r.fault(err)
	}
	if len(first) > maxColumns {
		return nil, &Error{File: path, Line: 1, Message: fmt.Sprintf("more than %d columns", maxColumns)}
	}
	for _, n := range first {
		if bad := checkText(n); bad != "" {
			return nil, &Error{File: path, Line: 1, Message: bad}
		}
		r.names = append(r.names, strings.TrimSpace(n))
	}
	if err := checkNames(path, r.names); err != nil {
		return nil, err
	}
	r.record = Record{Names: r.names, Cells: make([]cell.Cell, len(r.names))}
	return r, nil
}

func (r *csvReader) Names() []string { return r.names }
func (r *csvReader) Close() error    { return r.file.Close() }

func (r *csvReader) Next() (Record, error) {
	r.bytes.next()
	fields, err := r.csv.Read()
	if err != nil {
		return Record{}, r.fault(err)
	}
	r.record.Line, _ = r.csv.FieldPos(0)
	for i, text := range fields {
		line, column := r.csv.FieldPos(i)
		if bad := checkText(text); bad != "" {
			return Record{}, &Error{r.path, line, column, bad, ""}
		}
		r.record.Cells[i] = cell.Cell{Kind: cell.Text, Text: text, Column: column}
		if text == "" {
			r.record.Cells[i].Kind = cell.Absent
			if r.empties && r.quoted(i, len(fields)) {
				r.record.Cells[i].Kind = cell.Quoted
			}
		}
	}
	return r.record, nil
}

// quoted reports whether an empty cell of the last record is one in quotes.
func (r *csvReader) quoted(i, n int) bool {
	if i+1 < n {
		_, column := r.csv.FieldPos(i)
		_, next := r.csv.FieldPos(i + 1)
		return next-column > 1
	}
	// What stands in front of the line's end tells.
	var b [4]byte
	end := r.csv.InputOffset() + r.bom
	from := max(0, end-int64(len(b)))
	got, _ := r.file.ReadAt(b[:end-from], from)
	return strings.HasSuffix(strings.TrimRight(string(b[:got]), "\r\n"), `""`)
}

// fault says what an error of the CSV reader means, and where.
func (r *csvReader) fault(err error) error {
	var p *csv.ParseError
	if errors.Is(err, errManyColumns) {
		return &Error{File: r.path, Line: r.record.Line + 1, Message: err.Error()}
	}
	if errors.Is(err, errLongRecord) {
		return &Error{
			File:    r.path,
			Line:    r.record.Line + 1,
			Message: err.Error(),
			Hint:    "is a quote not closed, or is this another kind of file?",
		}
	}

	if !errors.As(err, &p) {
		return err // io.EOF too
	}
	e := &Error{File: r.path, Line: p.Line, Column: p.Column}
	switch {
	case errors.Is(err, csv.ErrFieldCount):
		e.Column = 0
		e.Message = fmt.Sprintf("this line does not have %d cells like the first line", len(r.names))
		e.Hint = fmt.Sprintf("the separator is %q; put a cell that contains it in quotes", r.csv.Comma)
	case errors.Is(err, csv.ErrBareQuote):
		e.Message, e.Hint = "a quote inside a cell that is not in quotes", `put the cell in quotes, and double the `+
			`quotes in it: "say ""hello"""`
	case errors.Is(err, csv.ErrQuote):
		e.Message, e.Hint = "a quoted cell is not closed, or continues after its closing quote", `double the `+
			`quotes inside a quoted cell`
	default:
		e.Message = p.Err.Error()
	}
	return e
}

// ParseSeparator reads a separator of CSV: one character, or tab.
func ParseSeparator(s string) (rune, error) {
	if s == "tab" || s == `\t` {
		return '\t', nil
	}
	r, size := utf8.DecodeRuneInString(s)
	if size != len(s) || size == 0 || strings.ContainsRune("\"\r\n\ufffd", r) {
		return 0, fmt.Errorf("a separator must be one character, such as ; or tab, got %q", s)
	}
	return r, nil
}
