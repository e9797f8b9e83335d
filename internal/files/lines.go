package files

import (
	"bufio"
	"evensprout/internal/cell"
	"io"
	"os"
	"strings"
)

// lineReader reads a text file as records of one cell, its line. Lines without text are left out.
type lineReader struct {
	file   *os.File
	path   string
	lines  *bufio.Reader
	line   int
	record Record
}

// lineColumn is the name of the only column of a text file.
const lineColumn = "value"

func openLines(f *os.File, path string, o Options) (Reader, error) {
	b, err := decoded(f, path, o)
	if err != nil {
		return nil, err
	}
	r := &lineReader{file: f, path: path, lines: b}
	r.record = Record{Names: []string{lineColumn}, Cells: make([]cell.Cell, 1)}
	return r, nil
}

func (r *lineReader) Names() []string { return r.record.Names }
func (r *lineReader) Close() error    { return r.file.Close() }

func (r *lineReader) Next() (Record, error) {
	for {
		b, err := readLine(r.lines)
		if err == io.EOF {
			return Record{}, err
		}
		r.line++
		if err != nil {
			return Record{}, &Error{File: r.path, Line: r.line, Message: err.Error()}
		}
		text := strings.TrimSpace(string(b))
		if bad := checkText(text); bad != "" {
			return Record{}, &Error{File: r.path, Line: r.line, Message: bad}
		}
		if text != "" {
			r.record.Line = r.line
			r.record.Cells[0] = cell.Cell{Kind: cell.Text, Text: text, Column: 1}
			return r.record, nil
		}
	}
}
