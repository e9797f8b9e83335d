package journal

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

// UndoKind is what was done to rows.
type UndoKind string

const (
	UndoAdded   UndoKind = "added"
	UndoChanged UndoKind = "changed"
	UndoRemoved UndoKind = "removed"
)

// UndoSection is rows of one table to which a step did the same. The columns are those
// of the key, then, of added rows, the others that were written, of changed ones what
// was kept, twice (before, after), and of removed rows all columns of the table.
type UndoSection struct {
	Step    int             `json:"step"`
	Kind    UndoKind        `json:"kind"`
	Table   string          `json:"table"`
	Key     []string        `json:"key,omitempty"`
	Columns []string        `json:"columns,omitempty"`
	Values  [][]value.Value `json:"-"`
}

// Alike reports whether another section is about the same columns in the same way.
func (s *UndoSection) Alike(o UndoSection) bool {
	return s.Step == o.Step && s.Kind == o.Kind && s.Table == o.Table && slices.Equal(s.Key, o.Key) &&
		slices.Equal(s.Columns, o.Columns)
}

// Undo is what a transaction did, in order.
type Undo struct{ Sections []UndoSection }

// Add adds rows; those of the same step and table go into one section.
func (u *Undo) Add(s UndoSection) {
	if len(s.Values) > 0 {
		u.Sections = append(u.Sections, s)
	}
}

// Removed notes rows that a step deleted.
func (u *Undo) Removed(step int, t *schema.Table, rows [][]value.Value) {
	u.Add(UndoSection{Step: step, Kind: UndoRemoved, Table: t.Name, Columns: t.ColumnNames(), Values: rows})
}

// Pack makes packets of the log. Each can be read on its own.
func (u *Undo) Pack() ([]Packet, error) {
	var packets []Packet
	var buf bytes.Buffer
	var w *flate.Writer
	rows, raw := int64(0), 0
	var heads []UndoSection
	var b []byte
	end := func() error {
		if rows == 0 {
			return nil
		}
		err := w.Close()
		packets = append(packets, Packet{rows, bytes.Clone(buf.Bytes())})
		rows = 0
		return err
	}
	const part = 2000 // rows of a section that are packed together
	for _, s := range u.Sections {
		for values := range slices.Chunk(s.Values, part) {
			if rows == 0 {
				heads, raw = nil, 0
				buf.Reset()
				if w == nil {
					w, _ = flate.NewWriter(&buf, flate.BestSpeed) // the level is valid
				}
				w.Reset(&buf)
			}
			// A head that stood before is known by its number, from 1.
			at := slices.IndexFunc(heads, s.Alike)
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

// UnpackUndo reads the sections of a packet.
func UnpackUndo(body []byte) ([]UndoSection, error) {
	r := bufio.NewReader(io.LimitReader(flate.NewReader(bytes.NewReader(body)), maxPacked))
	var out, heads []UndoSection
	total := uint64(0) // values: each takes more memory than bytes of the packet
	for {
		if _, err := r.Peek(1); errors.Is(err, io.EOF) {
			return out, nil
		}
		at, err := binary.ReadUvarint(r)
		if err == nil && at == 0 {
			var head string
			var s UndoSection
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
		if s.Kind == UndoChanged {
			width += len(s.Columns)
		}
		if width == 0 {
			return nil, errPacket // rows of nothing would have no end
		}
		if total += rows * uint64(width); rows > maxPacked || total > maxPackedValues {
			return nil, errPacket
		}
		if s.Values, err = readRows(r, rows, width); err != nil {
			return nil, err
		}
		out = append(out, s)
	}
}

// readRows reads rows of a number of values each.
func readRows(r *bufio.Reader, rows uint64, width int) (out [][]value.Value, err error) {
	for range rows {
		row := make([]value.Value, width)
		for i := range row {
			if row[i], err = readPacked(r); err != nil {
				return nil, errors.Join(errPacket, err)
			}
		}
		out = append(out, row)
	}
	return out, nil
}

// UndoRun is a run of a unit, to be read from the journal.
type UndoRun struct {
	Journal  *store.Journal
	Load     int64
	Backward bool // the last sections first; else in the order in which they were done
}

// Sections shows what the run did.
func (r UndoRun) Sections(ctx context.Context, s store.Store, show func(UndoSection) error) error {
	list, err := Packets(ctx, s, r.Journal, r.Load, ContentUnit)
	if err != nil {
		return err
	}
	slices.SortFunc(list, func(a, b StoredPacket) int {
		return cmp.Or(cmp.Compare(a.first, b.first), cmp.Compare(a.seq, b.seq))
	})
	if r.Backward {
		slices.Reverse(list)
	}
	for _, p := range list { // one packet in memory at a time
		body, err := p.Body(ctx, s, r.Journal)
		if err != nil {
			return err
		}
		sections, err := UnpackUndo(body)
		if err != nil {
			return err
		}
		if r.Backward {
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
