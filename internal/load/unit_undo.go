package load

import (
	"bufio"
	"bytes"
	"cmp"
	"compress/flate"
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"io"
	"slices"

	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/value"
)

// contentUnit are the rows that transactions of a unit have added, changed and removed,
// and familyUnit stands for a family in their keys.
const (
	contentUnit       = "unit"
	familyUnit  int64 = -3
)

// undoKind is what was done to rows.
type undoKind string

const (
	undoAdded   undoKind = "added"
	undoChanged undoKind = "changed"
	undoRemoved undoKind = "removed"
)

// undoSection is rows of one table to which a step did the same. The columns are those
// of the key, then, of added rows, the others that were written, of changed ones what
// was kept, twice (before, after), and of removed rows all columns of the table.
type undoSection struct {
	Step    int      `json:"step"`
	Kind    undoKind `json:"kind"`
	Table   string   `json:"table"`
	Key     []string `json:"key,omitempty"`
	Columns []string `json:"columns,omitempty"`
	values  [][]value.Value
}

// alike tells whether another section is about the same columns in the same way.
func (s *undoSection) alike(o undoSection) bool {
	return s.Step == o.Step && s.Kind == o.Kind && s.Table == o.Table && slices.Equal(s.Key, o.Key) && slices.Equal(s.Columns, o.Columns)
}

// undoLog is what a transaction did, in order.
type undoLog struct{ sections []undoSection }

// add adds rows; those of the same step and table go into one section.
func (u *undoLog) add(s undoSection) {
	if len(s.values) > 0 {
		u.sections = append(u.sections, s)
	}
}

// added notes rows that a step added; without a key they cannot be found again.
func (u *undoLog) added(s *unitStep, values [][]value.Value, keys []value.Value) {
	var columns []*schema.Column
	var places []int
	for _, k := range s.rowKey {
		if k == s.key {
			continue
		}
		i := slices.Index(s.into.Columns, k)
		if i < 0 {
			return
		}
		columns, places = append(columns, k), append(places, s.into.Fields[i])
	}
	if len(s.rowKey) == 0 {
		return
	}
	section := undoSection{Step: s.index, Kind: undoAdded, Table: s.Table.Name, Key: namesOf(s.rowKey)}
	for i, c := range s.into.Columns {
		if !slices.Contains(columns, c) {
			section.Columns, places = append(section.Columns, c.Name), append(places, s.into.Fields[i])
		}
	}
	for i, row := range values {
		var out []value.Value
		if s.key != nil {
			out = append(out, keys[i])
		}
		for _, at := range places {
			out = append(out, row[at])
		}
		section.values = append(section.values, out)
	}
	u.add(section)
}

func (u *undoLog) changed(s *unitStep, before, after [][]value.Value) {
	k := len(s.rowKey)
	section := undoSection{Step: s.index, Kind: undoChanged, Table: s.Table.Name, Key: namesOf(s.rowKey), Columns: namesOf(s.kept)}
	for i := range before {
		section.values = append(section.values, slices.Concat(before[i], after[i][k:]))
	}
	u.add(section)
}

func (u *undoLog) removed(step int, t *schema.Table, rows [][]value.Value) {
	u.add(undoSection{Step: step, Kind: undoRemoved, Table: t.Name, Columns: t.ColumnNames(), values: rows})
}

// pack makes packets of the log. Each can be read on its own.
func (u *undoLog) pack() ([]packet, error) {
	var packets []packet
	var buf bytes.Buffer
	var w *flate.Writer
	rows, raw := int64(0), 0
	var heads []undoSection
	var b []byte
	end := func() error {
		if rows == 0 {
			return nil
		}
		err := w.Close()
		packets = append(packets, packet{rows, bytes.Clone(buf.Bytes())})
		rows = 0
		return err
	}
	const part = 2000 // rows of a section that are packed together
	for _, s := range u.sections {
		for values := range slices.Chunk(s.values, part) {
			if rows == 0 {
				heads, raw = nil, 0
				buf.Reset()
				if w == nil {
					w, _ = flate.NewWriter(&buf, flate.BestSpeed) // the level is valid
				}
				w.Reset(&buf)
			}
			// A head that stood before is known by its number, from 1.
			at := slices.IndexFunc(heads, s.alike)
			if b = binary.AppendUvarint(b[:0], uint64(at+1)); at < 0 {
				head, err := json.Marshal(s)
				if err != nil {
					return nil, err
				}
				heads = append(heads, s)
				b = append(binary.AppendUvarint(b, uint64(len(head))), head...)
			}
			b = binary.AppendUvarint(b, uint64(len(values)))
			for _, row := range values {
				for i := range row {
					b = appendPacked(b, &row[i])
				}
			}
			if _, err := w.Write(b); err != nil {
				return nil, err
			}
			raw += len(b)
			if rows += int64(len(values)); buf.Len() >= packedBytes || raw >= rawBytes {
				if err := end(); err != nil {
					return nil, err
				}
			}
		}
	}
	return packets, end()
}

// unpackUndo reads the sections of a packet.
func unpackUndo(body []byte) ([]undoSection, error) {
	r := bufio.NewReader(io.LimitReader(flate.NewReader(bytes.NewReader(body)), maxPacked))
	var out, heads []undoSection
	total := uint64(0) // values: each takes more memory than bytes of the packet
	for {
		if _, err := r.Peek(1); errors.Is(err, io.EOF) {
			return out, nil
		}
		at, err := binary.ReadUvarint(r)
		if err == nil && at == 0 {
			var head string
			var s undoSection
			if head, err = readText(r); err == nil {
				err = json.Unmarshal([]byte(head), &s)
			}
			heads = append(heads, s)
			at = uint64(len(heads))
		}
		if err != nil || at > uint64(len(heads)) {
			return nil, errors.Join(errPacket, err)
		}
		s := heads[at-1]
		rows, err := binary.ReadUvarint(r)
		if err != nil {
			return nil, errors.Join(errPacket, err)
		}
		width := len(s.Key) + len(s.Columns)
		if s.Kind == undoChanged {
			width += len(s.Columns)
		}
		if width == 0 {
			return nil, errPacket // rows of nothing would have no end
		}
		if total += rows * uint64(width); rows > maxPacked || total > maxPackedValues {
			return nil, errPacket
		}
		for range rows {
			row := make([]value.Value, width)
			for i := range row {
				if row[i], err = readPacked(r); err != nil {
					return nil, errors.Join(errPacket, err)
				}
			}
			s.values = append(s.values, row)
		}
		out = append(out, s)
	}
}

// undoPackets shows the sections of a run of a unit, last ones first, or in the order in
// which they were done.
func undoPackets(ctx context.Context, s store.Store, j *store.Journal, load int64, backward bool, show func(undoSection) error) error {
	of := j.Contents
	var list [][]store.Cell
	key := of.Columns[:5] // load, family, side, first, seq
	err := s.Select(ctx, store.Query{Table: of, Columns: key, Where: cells(of, "load", load, "what", contentUnit)}, func(row []value.Value) error {
		var where []store.Cell
		for i, c := range key {
			where = append(where, store.Cell{Column: c, Value: row[i]})
		}
		list = append(list, where)
		return nil
	})
	if err != nil {
		return err
	}
	slices.SortFunc(list, func(a, b []store.Cell) int {
		return cmp.Or(cmp.Compare(a[3].Value.N, b[3].Value.N), cmp.Compare(a[4].Value.N, b[4].Value.N))
	})
	if backward {
		slices.Reverse(list)
	}
	for _, where := range list { // one packet in memory at a time
		var body []byte
		err := s.Select(ctx, store.Query{Table: of, Columns: []*schema.Column{of.Column("body")}, Where: where}, func(row []value.Value) error {
			body = []byte(row[0].S)
			return nil
		})
		if err != nil {
			return err
		}
		sections, err := unpackUndo(body)
		if err != nil {
			return err
		}
		if backward {
			slices.Reverse(sections)
		}
		for _, x := range sections {
			if err := show(x); err != nil {
				return err
			}
		}
	}
	return nil
}
