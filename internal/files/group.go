package files

import (
	"encoding/binary"

	"github.com/zeebo/xxh3"

	"evensprout/internal/cell"
	"evensprout/internal/diag"
	"evensprout/internal/grow"
	"evensprout/internal/value"
)

// grouped deals the rows of a table into groups with the same values in some columns. A
// group is a row: those columns, and a list with an object for each of its rows, which
// holds the other columns. It implements plan.FileRows. Memory: 8 bytes for each row, and 24
// for each group while they are dealt.
type grouped struct {
	table  *Table
	by     []int // columns of the table
	others []int
	order  []uint32 // rows, group after group
	starts []uint32 // where each group begins in order; one more at the end
}

// group deals a table into groups, in the order of their first rows.
func group(t *Table, by []int) (*grouped, error) {
	g := &grouped{table: t, by: by}
	in := map[int]bool{}
	for _, i := range by {
		in[i] = true
	}
	for i := range t.columns {
		if !in[i] {
			g.others = append(g.others, i)
		}
	}
	numbers := map[xxh3.Uint128]uint32{}
	of := make([]uint32, t.rows) // the group of each row
	var sizes []uint32
	var r run
	var key []byte
	for n := uint64(0); n < t.rows; n += runRows {
		if err := t.read(n, &r); err != nil {
			return nil, err
		}
		for i := range r.lines {
			key = key[:0]
			for _, c := range by {
				x := r.cells[i*len(t.columns)+c]
				key = append(key, byte(min(x.Kind, 1))) // an empty text is not NULL
				key = append(binary.AppendUvarint(key, uint64(len(x.Text))), x.Text...)
			}
			digest := xxh3.Hash128(key)
			number, known := numbers[digest]
			if !known {
				number = uint32(len(sizes))
				numbers[digest], sizes = number, append(sizes, 0)
			}
			of[n+uint64(i)] = number
			sizes[number]++
		}
	}

	g.starts = make([]uint32, len(sizes)+1)
	for i, size := range sizes {
		g.starts[i+1] = g.starts[i] + size
	}
	next := append([]uint32(nil), g.starts...)
	g.order = make([]uint32, t.rows)
	for row, number := range of {
		g.order[next[number]] = uint32(row)
		next[number]++
	}
	return g, nil
}

// Len is the number of groups.
func (g *grouped) Len() uint64 { return uint64(len(g.starts) - 1) }

// Close removes the spool.
func (g *grouped) Close() error { return g.table.Close() }

// Names are the columns that groups are known by, and no name for the list.
func (g *grouped) Names() []string {
	var names []string
	for _, i := range g.by {
		names = append(names, g.table.columns[i].want.Column)
	}
	return append(names, "")
}

// Type is the type of a column; that of the list is JSON.
func (g *grouped) Type(i int) (value.Type, uint8) {
	if i == len(g.by) {
		return value.JSON, 0
	}
	return g.table.Type(g.by[i])
}

// Misfits are the first cells of a column that are not of a type.
func (g *grouped) Misfits(i int, t value.Type) diag.Problems {
	if i == len(g.by) {
		return nil
	}
	return g.table.Misfits(g.by[i], t)
}

// Place is where the first row of a group stands.
func (g *grouped) Place(n uint64) (string, int) { return g.ElementPlace(n, 0) }

// ElementPlace is where a row of a group stands, counted from 0.
func (g *grouped) ElementPlace(n uint64, i int) (string, int) {
	return g.table.Place(uint64(g.order[uint64(g.starts[n])+uint64(i)]))
}

// Reader reads groups in any order.
func (g *grouped) Reader() grow.TableReader { return &groupReader{of: g, rows: g.table.Reader()} }

// groupReader reads groups; each reader has a buffer of its own.
type groupReader struct {
	of   *grouped
	rows grow.TableReader
	list []byte
	out  []value.Value
}

func (r *groupReader) Close() error { return r.rows.Close() }

func (r *groupReader) Row(n uint64) ([]value.Value, error) {
	g := r.of
	r.out, r.list = r.out[:0], append(r.list[:0], '[')
	for i, at := range g.order[g.starts[n]:g.starts[n+1]] {
		row, err := r.rows.Row(uint64(at))
		if err != nil {
			return nil, err
		}
		if i == 0 {
			for _, c := range g.by {
				r.out = append(r.out, row[c])
			}
		} else {
			r.list = append(r.list, ',')
		}
		for j, c := range g.others {
			r.list = append(r.list, "{,"[min(j, 1)])
			r.list = append(cell.AppendJSONText(r.list, g.table.columns[c].want.Field), ':')
			r.list = AppendJSON(r.list, &row[c])
		}
		if len(g.others) == 0 {
			r.list = append(r.list, '{')
		}
		r.list = append(r.list, '}')
	}
	r.out = append(r.out, value.Value{Type: value.JSON, S: string(append(r.list, ']'))})
	return r.out, nil
}
