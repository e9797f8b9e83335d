// Package files reads rows from files: CSV, NDJSON, JSON, XLSX and Parquet, strictly, as a
// stream, with the place of every cell. It also writes them, but for XLSX.
package files

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"unicode/utf8"

	"evensprout/internal/cell"
	"evensprout/internal/safe"

	"golang.org/x/text/encoding/htmlindex"
	"golang.org/x/text/encoding/unicode"
	"golang.org/x/text/transform"
)

// Options say how a file is written, where that is not plain.
type Options struct {
	Separator rune   // of CSV; 0 means a comma, or a tab for .tsv
	Sheet     string // of XLSX, with a range behind it: Stock!B3:F200; empty means the first
	Inside    string // of JSON: the lists that hold the rows, such as Order.Line; empty: the document is a list
	Encoding  string // of text, as the Encoding Standard of the WHATWG names it; empty means UTF-8
	// Empties tells that quoted cells of CSV that are empty are texts, and no NULLs.
	Empties bool
}

// Record is one row. Its slices are used again by the next.
type Record struct {
	Line  int      // from 1
	Names []string // of the cells; the same slice as long as they do not change
	Cells []cell.Cell
}

// Reader reads records in order; the error after the last is io.EOF.
type Reader interface {
	Next() (Record, error)
	// Names are those of the first line, nil if records have their own.
	Names() []string
	Close() error
}

// Error is a fault in a file.
type Error struct {
	File         string
	Line, Column int // from 1; 0 if not known
	Message      string
	Hint         string
}

func (e *Error) Error() string {
	at := e.File
	if e.Line > 0 {
		at += fmt.Sprintf(":%d", e.Line)
		if e.Column > 0 {
			at += fmt.Sprintf(":%d", e.Column)
		}
	}
	return at + ": " + e.Message
}

// Limits on what files hold.
const (
	maxLine    = 16 << 20 // bytes of a record
	maxColumns = 2000
)

// Open opens a file by its ending: .csv, .tsv, .ndjson, .jsonl, .json, .xlsx, .parquet, or .txt for lines.
func Open(path string, o Options) (Reader, error) {
	open := map[string]func(*os.File, string, Options) (Reader, error){
		".csv": openCSV, ".tsv": openCSV, ".ndjson": openNDJSON, ".jsonl": openNDJSON, ".json": openJSON,
		".xlsx": openXLSX, ".parquet": openParquet, ".txt": openLines,
	}[strings.ToLower(filepath.Ext(path))]
	if open == nil {
		return nil, &Error{
			File:    path,
			Message: "rows cannot be read from this kind of file",
			Hint:    "known: .csv, .tsv, .ndjson, .jsonl, .json, .xlsx, .parquet, .txt",
		}
	}

	f, err := safe.Open(path)
	switch {
	case errors.Is(err, os.ErrNotExist):
		return nil, &Error{File: path, Message: "there is no such file"}
	case err != nil:
		return nil, &Error{File: path, Message: "the file cannot be read: " + err.Error()}
	}

	r, err := open(f, path, o)
	if err != nil {
		f.Close()
		return nil, err
	}
	return r, nil
}

// Names are what a file, or its first record, calls its columns.
func Names(path string, o Options) ([]string, error) {
	r, err := Open(path, o)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	if names := r.Names(); names != nil {
		return slices.Clone(names), nil
	}
	first, err := r.Next()
	if err == io.EOF {
		return nil, &Error{File: path, Message: "the file is empty"}
	}
	return slices.Clone(first.Names), err
}

// errLongRecord ends the reading of a record before it takes memory without bound.
var errLongRecord = fmt.Errorf("a record of more than %d MiB", maxLine>>20)

// bounded reads no more bytes for a record than it may have.
type bounded struct {
	from io.Reader
	left int64
}

func newBounded(from io.Reader) *bounded { return &bounded{from, maxLine} }

// next begins another record.
func (b *bounded) next() { b.left = maxLine }

func (b *bounded) Read(p []byte) (int, error) {
	if b.left <= 0 {
		return 0, errLongRecord
	}
	n, err := b.from.Read(p[:min(int64(len(p)), b.left)])
	b.left -= int64(n)
	return n, err
}

// decoded reads a text file as UTF-8, without a byte order mark.
func decoded(f io.Reader, path string, o Options) (*bufio.Reader, error) {
	if o.Encoding != "" {
		e, err := htmlindex.Get(o.Encoding)
		if err != nil {
			return nil, &Error{File: path, Message: fmt.Sprintf("%q is not the name of an encoding", o.Encoding),
				Hint: "such as utf-8, utf-16le, windows-1252, iso-8859-15, shift_jis"}
		}
		f = transform.NewReader(f, unicode.BOMOverride(e.NewDecoder()))
	}
	return withoutBOM(f)
}

// withoutBOM skips a byte order mark.
func withoutBOM(r io.Reader) (*bufio.Reader, error) {
	b := bufio.NewReaderSize(r, 64<<10)
	if mark, err := b.Peek(3); err == nil && string(mark) == "\ufeff" {
		if _, err := b.Discard(3); err != nil {
			return nil, err
		}
	}
	return b, nil
}

// checkText refuses what is no text.
func checkText(s string) string {
	switch {
	case strings.IndexByte(s, 0) >= 0:
		return "a NUL byte: this is not a text file"
	case !utf8.ValidString(s):
		return "not valid UTF-8: save the file as UTF-8, or name its encoding (encoding: windows-1252)"
	}
	return ""
}

// checkNames refuses headers that do not name every column once.
func checkNames(path string, names []string) error {
	seen := map[string]int{}
	for i, n := range names {
		if n == "" {
			return &Error{
				File:    path,
				Line:    1,
				Message: fmt.Sprintf("column %d has no name", i+1),
				Hint:    "the first line names every column",
			}
		}
		if at, ok := seen[n]; ok {
			return &Error{
				File:    path,
				Line:    1,
				Message: fmt.Sprintf("the columns %d and %d are both called %s", at+1, i+1, n),
			}
		}
		seen[n] = i
	}
	return nil
}
