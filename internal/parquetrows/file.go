// Package parquetrows reads rows from Apache Parquet files that are not trusted, within a
// limit of memory. It reads plain columns: no lists, no groups.
//
// A Parquet file says about itself how much room its parts need, and a few bytes of it can
// stand for gigabytes. So nothing here makes room on the word of the file: lengths are
// compared with what is there, pages are unpacked into a budget, and values are decoded one
// at a time instead of a page at a time.
//
// The format: https://github.com/apache/parquet-format. The structures of the footer and
// of page headers are decoded by a library, after this package has measured them.
package parquetrows

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"

	"github.com/parquet-go/parquet-go/format"
)

// ErrNot says that a file is not a Parquet file.
var ErrNot = errors.New("this is not a Parquet file")

// Limits bound what a file may ask for, in bytes.
type Limits struct {
	Memory int64 // for the footer, the open page of every column, and dictionaries together
	Value  int64 // for one value
	Total  int64 // for all pages and values of the file, beyond 1,000 times its size
}

// LimitError says what of a file is beyond a limit.
type LimitError struct {
	What  string // "the footer"
	Limit int64  // bytes
}

func (e *LimitError) Error() string {
	return fmt.Sprintf("more than %s for %s", size(e.Limit), e.What)
}

func size(n int64) string {
	if n >= 1<<20 {
		return fmt.Sprintf("%d MiB", n>>20)
	}
	return fmt.Sprintf("%d bytes", n)
}

// NestedError names a column that holds lists or groups.
type NestedError struct{ Column string }

func (e *NestedError) Error() string {
	return fmt.Sprintf("the column %s holds lists or groups", e.Column)
}

// ColumnError says in which column of a row an error is.
type ColumnError struct {
	Column int // from 0
	Name   string
	Err    error
}

func (e *ColumnError) Error() string { return fmt.Sprintf("the column %s: %v", e.Name, e.Err) }

func (e *ColumnError) Unwrap() error { return e.Err }

// Column is a column of a file.
type Column struct {
	Name     string
	Kind     format.Type
	Logical  format.LogicalTypeValue // nil if the column has none; older annotations are translated
	Length   int                     // of FixedLenByteArray, in bytes
	Optional bool
}

// Value is one value: N holds booleans, whole numbers and the bits of floating-point
// numbers; B holds bytes, and is valid until the next row is read.
type Value struct {
	Null bool
	N    int64
	B    []byte
}

// Reader reads the rows of a file in order.
type Reader struct {
	in      io.ReaderAt
	size    int64
	limits  Limits
	budget  budget
	columns []Column
	groups  []format.RowGroup
	chunks  []chunk // one for each column
	left    int64   // rows of the row group
	total   int64   // bytes that pages and values may still come to
	row     []Value
	header  []byte // of a page, as it is read
	packed  []byte // a page as it is stored
	codecs  codecs
}

// rowCost is what a value counts for against Limits.Total, beyond its bytes.
const rowCost = 8

// Open reads the footer of a file of size bytes.
func Open(in io.ReaderAt, size int64, limits Limits) (*Reader, error) {
	r := &Reader{in: in, size: size, limits: limits, budget: budget{left: limits.Memory, limit: limits.Memory}}
	meta, err := r.footer()
	if err != nil {
		return nil, err
	}
	if r.columns, err = columns(meta.Schema); err != nil {
		return nil, err
	}
	for i := range meta.RowGroups {
		if err := r.checkGroup(i, &meta.RowGroups[i]); err != nil {
			return nil, err
		}
	}
	r.groups = meta.RowGroups
	r.chunks, r.row = make([]chunk, len(r.columns)), make([]Value, len(r.columns))
	r.total = limits.Total + 1000*size
	return r, nil
}

// Columns are the columns in their order.
func (r *Reader) Columns() []Column { return r.columns }

// Next reads a row: a value for each column, valid until the next call. At the end it
// returns io.EOF.
func (r *Reader) Next() ([]Value, error) {
	for r.left == 0 {
		if len(r.groups) == 0 {
			return nil, io.EOF
		}
		g := &r.groups[0]
		for i := range r.chunks {
			r.chunks[i].open(r, &r.columns[i], &g.Columns[i].MetaData)
		}
		r.left, r.groups = g.NumRows, r.groups[1:]
	}
	r.left--
	for i := range r.chunks {
		if err := r.chunks[i].next(&r.row[i]); err != nil {
			return nil, &ColumnError{Column: i, Name: r.columns[i].Name, Err: err}
		}
		if err := r.count(int64(len(r.row[i].B)) + rowCost); err != nil {
			return nil, err
		}
	}
	return r.row, nil
}

// count counts bytes that were unpacked.
func (r *Reader) count(n int64) error {
	if r.total -= n; r.total < 0 {
		return &LimitError{What: "the pages and values of the file, unpacked", Limit: r.limits.Total + 1000*r.size}
	}
	return nil
}

// footer reads what the file says about itself.
func (r *Reader) footer() (*format.FileMetaData, error) {
	const ends = 12 // PAR1, the footer's length, PAR1
	var head [4]byte
	var end [8]byte
	if r.size < ends {
		return nil, ErrNot
	}
	if _, err := r.in.ReadAt(head[:], 0); err != nil {
		return nil, err
	}
	if _, err := r.in.ReadAt(end[:], r.size-int64(len(end))); err != nil {
		return nil, err
	}
	switch {
	case string(end[4:]) == "PARE":
		return nil, errors.New("the file is encrypted; encrypted files are not read")
	case string(end[4:]) != "PAR1" || string(head[:]) != "PAR1":
		return nil, ErrNot
	}

	n := int64(binary.LittleEndian.Uint32(end[:]))
	if n > r.size-ends {
		return nil, damaged("the footer is longer than the file")
	}

	// The bytes are there twice while they are decoded.
	if !r.budget.take(2 * n) {
		return nil, r.budget.exceeded("the footer")
	}
	b := make([]byte, n)
	if _, err := r.in.ReadAt(b, r.size-int64(len(end))-n); err != nil {
		return nil, err
	}
	s := scan{b: b}
	if err := s.structure(0); err != nil {
		return nil, damaged("the footer: %w", err)
	}
	if !r.budget.take(s.cost) {
		return nil, r.budget.exceeded("the footer")
	}
	meta := new(format.FileMetaData)
	if err := decode(b[:s.at], meta); err != nil {
		return nil, damaged("the footer: %w", err)
	}
	return meta, nil
}

// checkGroup compares what the footer says about a row group with the file.
func (r *Reader) checkGroup(i int, g *format.RowGroup) error {
	bad := func(format string, args ...any) error {
		return damaged("row group %d: "+format, append([]any{i + 1}, args...)...)
	}
	if len(g.Columns) != len(r.columns) {
		return bad("it has %d columns, and the file %d", len(g.Columns), len(r.columns))
	}
	if g.NumRows < 0 {
		return bad("it has %d rows", g.NumRows)
	}
	for j := range g.Columns {
		c, m := &g.Columns[j], &g.Columns[j].MetaData
		name := r.columns[j].Name
		switch {
		case c.FilePath != "":
			return bad("the column %s is in another file; other files are not opened", name)
		case c.CryptoMetadata.Value != nil || len(c.EncryptedColumnMetadata) > 0:
			return fmt.Errorf("the column %s is encrypted; encrypted columns are not read", name)
		case m.Type != r.columns[j].Kind:
			return bad("the column %s is of the type %s, and in the schema of %s", name, m.Type, r.columns[j].Kind)
		}
		if at := begin(m); at < 4 || m.TotalCompressedSize < 0 || at > r.size || m.TotalCompressedSize > r.size-at {
			return bad("the column %s is outside the file", name)
		}
	}
	return nil
}

// begin is where the pages of a column begin.
func begin(m *format.ColumnMetaData) int64 {
	if m.DictionaryPageOffset > 0 {
		return m.DictionaryPageOffset
	}
	return m.DataPageOffset
}

func damaged(format string, args ...any) error {
	return fmt.Errorf("the Parquet file is damaged: "+format, args...)
}

// budget is memory that may still be taken, in bytes.
type budget struct{ left, limit int64 }

func (b *budget) take(n int64) bool {
	if n > b.left {
		return false
	}
	b.left -= n
	return true
}

func (b *budget) exceeded(what string) error { return &LimitError{What: what, Limit: b.limit} }

// room makes a buffer n bytes long. What is taken from the budget stays taken, because the
// buffer is used again for the next page.
func (b *budget) room(buffer []byte, n int, what string) ([]byte, error) {
	if n <= cap(buffer) {
		return buffer[:n], nil
	}
	if !b.take(int64(n - cap(buffer))) {
		return nil, b.exceeded(what)
	}
	return make([]byte, n), nil
}
