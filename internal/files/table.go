package files

import (
	"bufio"
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"

	"github.com/zeebo/xxh3"

	"evensprout/internal/cell"
	"evensprout/internal/diag"
	"evensprout/internal/grow"
	"evensprout/internal/plan"
	"evensprout/internal/value"
)

// Table is the mapped columns of a file, read once, held against each other, and
// spooled, so that any row can be read again. It implements plan.FileRows. Memory is
// a few bytes for every 64 rows, and, with a key, about 40 bytes for each row while
// the file is read.
type Table struct {
	path    string
	columns []column
	spool   spool
	index   []int64 // where each run of rows begins
	rows    uint64
	ids     *runIDs // nil if rows are known by key or place
	forms   cell.Forms
}

// column is a column of a file that the plan asks for, while its cells are read.
type column struct {
	want  *plan.FileColumn
	typ   value.Type
	scale uint8
	seen  bool
	given bool // the plan says the type
}

const (
	runRows     = 64
	maxProblems = 100
	memorySpool = 8 << 20 // bytes that are kept in memory rather than in a temporary file
)

// spool is where the cells of a file are kept in order.
type spool struct {
	memory []byte
	file   *os.File
	size   int64
	out    *bufio.Writer
}

// Write appends to memory, and to a temporary file once there is too much for it.
func (s *spool) Write(b []byte) (int, error) {
	s.size += int64(len(b))
	if s.file == nil {
		if len(s.memory)+len(b) <= memorySpool {
			s.memory = append(s.memory, b...)
			return len(b), nil
		}
		f, err := os.CreateTemp("", "evensprout-rows-*")
		if err != nil {
			return 0, err
		}
		s.file, s.out = f, bufio.NewWriterSize(f, 256<<10)
		if _, err := s.out.Write(s.memory); err != nil {
			return 0, err
		}
		s.memory = nil
	}
	return s.out.Write(b)
}

// ReadAt reads what was written, from memory or the file.
func (s *spool) ReadAt(b []byte, at int64) (int, error) {
	if s.file != nil {
		return s.file.ReadAt(b, at)
	}
	return bytes.NewReader(s.memory).ReadAt(b, at)
}

// Rows reads a file for a plan. The problems say all that is wrong with it; the rows
// are nil if something is.
func Rows(spec plan.FileSpec) (plan.FileRows, diag.Problems) {
	l := &loader{spec: spec, table: &Table{path: spec.Path, forms: cell.Forms{
		Decimal: spec.Decimal, Dates: spec.Dates,
	}}}
	if len(spec.Columns) == 0 && !l.allColumns() {
		return nil, l.problems
	}
	for _, c := range l.spec.Columns {
		l.table.columns = append(l.table.columns, column{want: c, typ: c.As, given: c.As != value.Null})
	}
	before, _ := os.Stat(spec.Path)
	l.run()
	if after, _ := os.Stat(spec.Path); !sameFile(before, after) {
		l.problems = nil // what was read is half of each
		l.add(0, 0, "the file changed while it was read", "load it again once it is complete")
	}
	if len(l.problems) == 0 && spec.Manifest != "" {
		l.identify()
	}
	var rows plan.FileRows = l.table
	if len(l.problems) == 0 && len(spec.GroupBy) > 0 {
		groups, err := group(l.table, spec.GroupBy)
		if err != nil {
			l.add(0, 0, "the rows cannot be read again: "+err.Error(), "")
		}
		rows = groups
	}
	if len(l.problems) > 0 {
		l.table.Close()
		return nil, l.problems
	}
	return rows, nil
}

// sameFile reports whether a file is as it was. What cannot be looked at is reported when it is opened.
func sameFile(before, after os.FileInfo) bool {
	if before == nil || after == nil {
		return before == after
	}
	return os.SameFile(before, after) && before.Size() == after.Size() && before.ModTime().Equal(after.ModTime())
}

// allColumns asks for every column that the file, or its first record, names; false after a fault.
func (l *loader) allColumns() bool {
	names, err := Names(l.spec.Path, Options{Sheet: l.spec.Sheet, Encoding: l.spec.Encoding, Inside: l.spec.Inside})
	if err != nil {
		l.fault(err)
		return false
	}
	for _, name := range names {
		l.spec.Columns = append(l.spec.Columns, &plan.FileColumn{Field: name, Column: name})
	}
	return true
}

// loader reads a file into a table.
type loader struct {
	spec     plan.FileSpec
	table    *Table
	problems diag.Problems
	last     map[xxh3.Uint128]int // the line of the last row with a key, if that one counts
	buf      []byte
}

// run reads the whole file, and collects all of its problems.
func (l *loader) run() {
	if l.spec.Duplicates == "last" {
		l.last = map[xxh3.Uint128]int{}
		ok := l.each(func(r Record, cells []cell.Cell) {
			l.last[l.key(cells)] = r.Line
		})
		if !ok {
			return
		}
	}

	seen := map[xxh3.Uint128]int{}
	ok := l.each(func(r Record, cells []cell.Cell) {
		if len(l.spec.Key) > 0 && !l.counts(r, cells, seen) {
			return
		}
		l.take(r, cells)
	})
	if !ok {
		return
	}
	t := l.table
	if t.spool.out != nil {
		if err := t.spool.out.Flush(); err != nil {
			l.add(0, 0, "the rows cannot be stored: "+err.Error(), "")
		}
	}
	for i := range t.columns {
		if c := &t.columns[i]; !c.seen && t.rows > 0 {
			l.add(0, 0, fmt.Sprintf("no row has the column %s", c.want.Column), "")
		}
	}
}

// add adds a problem with its line and column.
func (l *loader) add(line, column int, message, hint string) {
	if len(l.problems) < maxProblems {
		l.problems = append(
			l.problems,
			&diag.Problem{File: l.spec.Path, Line: line, Column: column, Message: message, Hint: hint},
		)
	}
}

// named tells which of the mapped columns a file does not have; false if any.
func (l *loader) named(names []string) bool {
	if i := strings.IndexAny(names[0], ";\t|"); len(names) == 1 && i >= 0 && l.spec.Separator == "" {
		l.add(
			1,
			1,
			fmt.Sprintf(
				"the separator does not seem to be a comma: the file has one column, called %q",
				cell.Clip(names[0]),
			),
			fmt.Sprintf("separator: %q in rows_from", names[0][i:i+1]),
		)
		return false
	}
	for _, c := range l.spec.Columns {
		if !slices.Contains(names, c.Column) {
			hint := "known: " + strings.Join(names, ", ")
			if near := diag.Nearest(c.Column, names); near != "" {
				hint = fmt.Sprintf("did you mean %q?", near)
			}
			l.add(1, 1, fmt.Sprintf("the file has no column %s, which the field %s needs", c.Column, c.Field), hint)
		}
	}
	return len(l.problems) == 0
}

// each reads all records and picks the mapped cells; false after a fault that ends it.
func (l *loader) each(do func(Record, []cell.Cell)) bool {
	o := Options{Sheet: l.spec.Sheet, Encoding: l.spec.Encoding, Inside: l.spec.Inside, Empties: l.spec.Manifest != ""}
	var err error
	if l.spec.Separator != "" {
		if o.Separator, err = ParseSeparator(l.spec.Separator); err != nil {
			l.add(0, 0, err.Error(), "")
			return false
		}
	}

	r, err := Open(l.spec.Path, o)
	if err != nil {
		l.fault(err)
		return false
	}
	defer r.Close()
	if names := r.Names(); names != nil && !l.named(names) {
		return false
	}
	var names []string
	places := make([]int, len(l.spec.Columns))
	cells := make([]cell.Cell, len(l.spec.Columns))
	for {
		record, err := r.Next()
		if err == io.EOF {
			return true
		}
		if err != nil {
			l.fault(err)
			return false
		}
		if len(names) != len(record.Names) || len(names) > 0 && &names[0] != &record.Names[0] {
			names = record.Names
			for i, c := range l.spec.Columns {
				places[i] = slices.Index(names, c.Column)
			}
		}
		l.pick(record, places, cells)
		do(record, cells)
	}
}

// pick puts a record's cells at the places of the columns that the plan asks for.
func (l *loader) pick(record Record, places []int, cells []cell.Cell) {
	for i, at := range places {
		cells[i] = cell.Cell{}
		if at >= 0 && at < len(record.Cells) {
			cells[i] = record.Cells[at]
			l.table.columns[i].seen = true
		}
	}
}

// fault adds an error of reading.
func (l *loader) fault(err error) {
	var e *Error
	if errors.As(err, &e) {
		l.add(e.Line, e.Column, e.Message, e.Hint)
		return
	}
	l.add(0, 0, err.Error(), "")
}

// key is a digest of the cells that tell a row.
func (l *loader) key(cells []cell.Cell) xxh3.Uint128 {
	l.buf = l.buf[:0]
	for _, k := range l.spec.Key {
		l.buf = append(append(l.buf, cells[k].Text...), 0)
	}
	return xxh3.Hash128(l.buf)
}

// counts reports whether a row is the one that counts of those with its key.
func (l *loader) counts(r Record, cells []cell.Cell, seen map[xxh3.Uint128]int) bool {
	key := l.key(cells)
	if l.last != nil {
		return l.last[key] == r.Line
	}
	first, again := seen[key]
	if !again {
		seen[key] = r.Line
		for _, k := range l.spec.Key {
			if cells[k].Kind == cell.Absent {
				l.add(r.Line, cells[k].Column, fmt.Sprintf("the key %s is empty", l.spec.Columns[k].Column), "")
			}
		}
		return true
	}

	if l.spec.Duplicates == "" {
		var values []string
		for _, k := range l.spec.Key {
			values = append(values, fmt.Sprintf("%q", cells[k].Text))
		}
		l.add(
			r.Line,
			cells[l.spec.Key[0]].Column,
			fmt.Sprintf("the key %s is also in line %d", strings.Join(values, ", "), first),
			"duplicates: first, or last, chooses which row counts",
		)
	}
	return false
}

// take spools a row and lets its cells say what type their columns have.
func (l *loader) take(r Record, cells []cell.Cell) {
	t := l.table
	if t.rows%runRows == 0 {
		t.index = append(t.index, t.spool.size)
	}
	b := binary.AppendUvarint(l.buf[:0], uint64(r.Line))
	for i, c := range cells {
		col := &t.columns[i]
		b = append(b, byte(c.Kind))
		if c.Kind == cell.Quoted && c.Text == "" && col.given &&
			!slices.Contains([]value.Type{value.Text, value.JSON, value.Bytes}, col.want.As) {
			c.Kind = cell.Absent
			b[len(b)-1] = byte(cell.Absent)
		}
		if c.Kind == cell.Absent {
			continue
		}
		b = binary.AppendUvarint(b, uint64(c.Column))
		b = binary.AppendUvarint(b, uint64(len(c.Text)))
		b = append(b, c.Text...)
		if col.given {
			v, err := t.parse(c, col.want.As)
			if err != nil {
				l.add(r.Line, c.Column, fmt.Sprintf("%s: %s", col.want.Column, err), "")
			}
			col.scale = max(col.scale, v.Scale)
			continue
		}
		typ, scale := cell.Looks(t.forms.Plain(c))
		col.typ, col.scale = cell.Join(col.typ, typ), max(col.scale, scale)
	}

	l.buf = b
	if _, err := t.spool.Write(b); err != nil {
		l.add(0, 0, "the rows cannot be stored: "+err.Error(), "free space for temporary files")
	}
	t.rows++
}

// parse reads a cell as a type.
func (t *Table) parse(c cell.Cell, typ value.Type) (value.Value, error) {
	if typ == value.Integer || typ == value.Decimal || typ == value.Date || typ == value.Timestamp {
		c = t.forms.Plain(c)
	}
	return cell.Parse(c, typ)
}

// Len is the number of rows.
func (t *Table) Len() uint64 { return t.rows }

// Names are the names of the columns.
func (t *Table) Names() []string {
	names := make([]string, len(t.columns))
	for i := range t.columns {
		names[i] = t.columns[i].want.Column
	}
	return names
}

// Type is the type of a column; Null if all its cells are empty.
func (t *Table) Type(i int) (value.Type, uint8) { return t.columns[i].typ, t.columns[i].scale }

// Close removes the spool.
func (t *Table) Close() error {
	if t.spool.file == nil {
		return nil
	}
	name := t.spool.file.Name()
	err := t.spool.file.Close()
	t.spool.file = nil
	return errors.Join(err, os.Remove(name))
}

// run is some consecutive rows as they are spooled.
type run struct {
	first uint64
	lines []int
	cells []cell.Cell // row after row
}

// read reads the run that a row is in.
func (t *Table) read(n uint64, into *run) error {
	i := n / runRows
	end := t.spool.size
	if i+1 < uint64(len(t.index)) {
		end = t.index[i+1]
	}
	b := make([]byte, end-t.index[i])
	if _, err := t.spool.ReadAt(b, t.index[i]); err != nil && err != io.EOF {
		return err
	}
	into.first, into.lines, into.cells = i*runRows, into.lines[:0], into.cells[:0]
	number := func() uint64 {
		x, size := binary.Uvarint(b)
		b = b[size:]
		return x
	}
	for len(b) > 0 {
		into.lines = append(into.lines, int(number()))
		for range t.columns {
			c := cell.Cell{Kind: cell.Kind(b[0])}
			b = b[1:]
			if c.Kind != cell.Absent {
				c.Column = int(number())
				size := number()
				c.Text = string(b[:size])
				b = b[size:]
			}
			into.cells = append(into.cells, c)
		}
	}
	return nil
}

// Place is where a row stands in the file.
func (t *Table) Place(n uint64) (string, int) {
	var r run
	if err := t.read(n, &r); err != nil {
		return t.path, 0
	}
	return t.path, r.lines[n-r.first]
}

// Misfits are the first cells of a column that are not of a type.
func (t *Table) Misfits(i int, typ value.Type) diag.Problems {
	const most = 20
	var found diag.Problems
	var r run
	for n := uint64(0); n < t.rows && len(found) < most; n += runRows {
		if err := t.read(n, &r); err != nil {
			return found
		}
		for j, line := range r.lines {
			c := r.cells[j*len(t.columns)+i]
			if c.Kind == cell.Absent {
				continue
			}
			if _, err := t.parse(c, typ); err != nil && len(found) < most {
				found = append(
					found,
					&diag.Problem{
						File:     t.path,
						Line:     line,
						Column:   c.Column,
						Message:  fmt.Sprintf("%s: %s", t.columns[i].want.Column, err),
						Database: true,
					},
				)
			}
		}
	}
	return found
}

// keptRuns is how many runs a reader keeps: rows that others refer to are read again and
// again, here and there.
const keptRuns = 128

// Reader reads rows in any order; it keeps some of the runs last read.
func (t *Table) Reader() grow.TableReader {
	return &tableReader{table: t, kept: map[uint64][]value.Value{}}
}

// tableReader reads rows of a table; each reader has a buffer of its own.
type tableReader struct {
	table *Table
	kept  map[uint64][]value.Value // of runs by their number, row after row
	order [keptRuns]uint64         // the runs kept, the oldest at next
	next  int
	run   run
}

func (r *tableReader) Close() error { return nil }

func (r *tableReader) Row(n uint64) ([]value.Value, error) {
	width := len(r.table.columns)
	values, ok := r.kept[n/runRows]
	if !ok {
		if err := r.table.read(n, &r.run); err != nil {
			return nil, err
		}
		if len(r.kept) == keptRuns {
			values = r.kept[r.order[r.next]][:0]
			delete(r.kept, r.order[r.next])
		}
		for i, c := range r.run.cells {
			v := value.Value{}
			if c.Kind != cell.Absent {
				var err error
				if v, err = r.table.parse(c, r.table.columns[i%width].typ); err != nil {
					return nil, fmt.Errorf("line %d: %w", r.run.lines[i/width], err)
				}
			}
			values = append(values, v)
		}
		r.kept[n/runRows] = values
		r.order[r.next] = n / runRows
		r.next = (r.next + 1) % keptRuns
	}

	at := int(n%runRows) * width
	return values[at : at+width], nil
}
