package load

import (
	"bufio"
	"bytes"
	"compress/flate"
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"

	"evensprout/internal/grow"
	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/value"
)

// What previous contents are of.
const (
	contentChanged = "changed" // rows that were changed
	contentRemoved = "removed" // rows that were deleted
)

// packedBytes is when a packet of previous contents is closed: no server takes
// statements of any length.
const packedBytes = 128 << 10

// rawBytes is when it is closed in any case, however well it is compressed.
const rawBytes = 2 << 20

// A packet unpacks to no more, in bytes and in rows at a time; a text in it is no longer.
const (
	maxPacked       = 64 << 20
	maxPacketRows   = 4 << 20
	maxPackedValues = 4 << 20 // of a packet that is read whole
	maxHead         = 1 << 20
)

// packet is rows of one table, compressed.
type packet struct {
	rows int64
	body []byte
}

// packer packs rows of one table into packets. Each begins with the names of the
// columns, so that it can be read on its own. Close it before its packets are used.
type packer struct {
	columns []*schema.Column
	numbers bool // each row begins with the row of the plan
	packets []packet

	buf  bytes.Buffer
	w    *flate.Writer
	rows int64
	raw  int // bytes before they are compressed
	line []byte
}

// add packs a row; planned counts only with numbers.
func (p *packer) add(planned grow.Row, values []value.Value) error {
	if p.rows == 0 {
		p.raw = 0
		p.buf.Reset()
		if p.w == nil {
			p.w, _ = flate.NewWriter(&p.buf, flate.BestSpeed) // the level is valid
		}
		p.w.Reset(&p.buf)
		var names []string
		for _, c := range p.columns {
			names = append(names, c.Name)
		}
		head, err := json.Marshal(names)
		if err != nil {
			return err
		}
		if _, err := p.w.Write(append(binary.AppendUvarint(nil, uint64(len(head))), head...)); err != nil {
			return err
		}
	}
	b := p.line[:0]
	if p.numbers {
		side := byte(0)
		if planned.Side {
			side = 1
		}
		b = binary.AppendUvarint(append(b, side), planned.N)
	}
	for i := range values {
		b = appendPacked(b, &values[i])
	}
	p.line = b
	if _, err := p.w.Write(b); err != nil {
		return err
	}
	p.raw += len(b)
	if p.rows++; p.buf.Len() >= packedBytes || p.raw >= rawBytes {
		return p.close()
	}
	return nil
}

// close ends the last packet.
func (p *packer) close() error {
	if p.rows == 0 {
		return nil
	}
	if err := p.w.Close(); err != nil {
		return err
	}
	p.packets = append(p.packets, packet{p.rows, bytes.Clone(p.buf.Bytes())})
	p.rows = 0
	return nil
}

func appendPacked(b []byte, v *value.Value) []byte {
	b = append(b, byte(v.Type))
	switch v.Type {
	case value.Null:
		return b
	case value.Text, value.Bytes, value.JSON:
		return append(binary.AppendUvarint(b, uint64(len(v.S))), v.S...)
	case value.UUID:
		return binary.LittleEndian.AppendUint64(binary.LittleEndian.AppendUint64(b, uint64(v.N)), v.M)
	}
	return binary.AppendVarint(append(b, v.Scale), v.N)
}

func readPacked(r *bufio.Reader) (v value.Value, err error) {
	t, err := r.ReadByte()
	if err != nil || value.Type(t) > value.JSON {
		return v, errors.Join(err, errPacket)
	}
	v.Type = value.Type(t)
	switch v.Type {
	case value.Null:
		return v, nil
	case value.Text, value.Bytes, value.JSON:
		v.S, err = readText(r)
		return v, err
	case value.UUID:
		var b [16]byte
		_, err = io.ReadFull(r, b[:])
		v.N, v.M = int64(binary.LittleEndian.Uint64(b[:8])), binary.LittleEndian.Uint64(b[8:])
		return v, err
	}
	if v.Scale, err = r.ReadByte(); err == nil {
		v.N, err = binary.ReadVarint(r)
	}
	if v.Scale > value.MaxScale {
		return v, errPacket
	}
	return v, err
}

func readText(r *bufio.Reader) (string, error) {
	n, err := binary.ReadUvarint(r)
	if err != nil || n > maxPacked {
		return "", errors.Join(err, errPacket)
	}
	var b bytes.Buffer // grows with what is there, not with what is said
	if _, err := io.CopyN(&b, r, int64(n)); err != nil {
		return "", err
	}
	return b.String(), nil
}

var errPacket = errors.New("the journal's previous contents of rows cannot be read")

// unpack shows the rows of a packet. numbers tells whether they begin with rows of the
// plan.
func unpack(body []byte, rows int64, numbers bool, show func(columns []string, planned grow.Row, values []value.Value) error) error {
	r := bufio.NewReader(io.LimitReader(flate.NewReader(bytes.NewReader(body)), maxPacked))
	if rows > maxPacketRows {
		return errPacket
	}
	head, err := readText(r)
	if err == nil && len(head) > maxHead {
		err = errPacket
	}
	if err != nil {
		return errors.Join(errPacket, err)
	}
	var columns []string
	if err := json.Unmarshal([]byte(head), &columns); err != nil {
		return errors.Join(errPacket, err)
	}
	for range rows {
		var planned grow.Row
		if numbers {
			side, err := r.ReadByte()
			if err != nil {
				return errors.Join(errPacket, err)
			}
			planned.Side = side == 1
			if planned.N, err = binary.ReadUvarint(r); err != nil {
				return errors.Join(errPacket, err)
			}
		}
		values := make([]value.Value, len(columns))
		for i := range values {
			if values[i], err = readPacked(r); err != nil {
				return errors.Join(errPacket, err)
			}
		}
		if err := show(columns, planned, values); err != nil {
			return err
		}
	}
	return nil
}

// undoes tells whether previous contents are kept.
func (l *loader) undoes() bool { return l.journal != nil && l.journal.undo && !l.o.DryRun }

// prior is what staged rows find in the table, looked at before they are written.
type prior struct {
	fresh   []int64 // rows that are not there
	guessed bool    // fresh was not looked for: it seems that all are there, or none
	changed int64   // rows that are, with other values
	rows    []int64 // these
	packer  packer
}

// errRace tells that somebody else changed rows between the look and the write.
var errRace = &store.Fault{Kind: store.Transient, Message: "another program changed rows while they were being written"}

// errMixed tells that some rows were there and others not, although that did not seem so.
var errMixed = errors.New("some rows were there and some were not")

// look finds what a stage will change, so that it can be undone. It is nil if nothing
// is to be kept. With guess it looks at few rows only, if these are all there or all
// not: what is written then tells whether that is so of the others.
func (w *writer) look(ctx context.Context, t *target, st store.Stage, p *pass, guess bool) (*prior, error) {
	if t.write.Mode == store.Insert || t.write.Mode == store.Replace || len(t.late) == 0 && (w.journal == nil || w.o.DryRun) {
		return nil, nil
	}
	x := &prior{packer: packer{columns: t.Table.Columns, numbers: true}}
	var err error
	if t.write.Mode != store.Update {
		const few = 200
		sample := int64(0)
		if guess && p.n > few {
			sample = few
		}
		if x.fresh, err = st.Unmatched(ctx, sample); err != nil {
			return nil, err
		}
		if x.guessed = sample > 0 && (len(x.fresh) == 0 || int64(len(x.fresh)) == sample); sample > 0 && !x.guessed {
			x.fresh, err = st.Unmatched(ctx, 0)
		}
		if err != nil {
			return nil, err
		}
	}
	if !w.undoes() || t.write.Mode == store.Keep {
		x.changed = -1
		return x, nil
	}
	err = st.Prior(ctx, func(n int64, values []value.Value) error {
		x.changed++
		x.rows = append(x.rows, n)
		return x.packer.add(p.row(n), values)
	})
	return x, errors.Join(err, x.packer.close())
}

// keep writes down what was looked at, if it is what was written. After errMixed the rows
// are to be taken back, looked at all, and written again.
func (w *writer) keep(ctx context.Context, t *target, p *pass, x *prior, out store.Outcome) error {
	if x == nil {
		return nil
	}
	gone := func(n int64) bool { return w.record.Rejected(t.Grow, p.row(n)) }
	var added []grow.Row
	if x.guessed {
		x.fresh = nil
		switch out.Inserted {
		case 0:
		case p.n:
			for n := range p.n {
				x.fresh = append(x.fresh, n)
			}
		default:
			return errMixed
		}
	}
	for _, n := range x.fresh {
		if !gone(n) {
			added = append(added, p.row(n))
		}
	}
	changed := x.changed
	for _, n := range x.rows {
		if gone(n) {
			changed--
		}
	}
	if int64(len(added)) != out.Inserted || changed >= 0 && changed != out.Updated {
		return errRace
	}
	w.log.insert(t.Plan.Name, added)
	if x.changed < 0 {
		return nil
	}
	return w.keepPackets(ctx, t.Plan.Name, t.Table.Name, contentChanged, x.packer.packets)
}

func (w *writer) keepPackets(ctx context.Context, entity, table, what string, packets []packet) error {
	of := w.journal.tables.Contents
	for _, p := range packets {
		w.seq++
		row := append(w.at.cells(of), cells(of, "seq", w.seq, "entity", entity, "of", table, "what", what, "rows", p.rows, "body", p.body)...)
		if err := w.tx.Add(ctx, of, row); err != nil {
			return err
		}
	}
	return nil
}

// pageRows is how many rows are read at a time where they are kept before they go.
const pageRows = 50_000

// keepAll keeps all rows of a table, and says how many.
func (w *writer) keepAll(ctx context.Context, entity string, t *schema.Table) (int64, error) {
	total := int64(0)
	for at := int64(0); ; at += pageRows {
		p := packer{columns: t.Columns}
		n := int64(0)
		err := w.store.Select(ctx, store.Query{Table: t, Columns: t.Columns, Exact: true, Skip: at, Limit: pageRows}, func(row []value.Value) error {
			n++
			return p.add(grow.Row{}, row)
		})
		if err = errors.Join(err, p.close()); err != nil {
			return total, err
		}
		if err := w.keepPackets(ctx, entity, t.Name, contentRemoved, p.packets); err != nil {
			return total, err
		}
		total += n
		if n < pageRows {
			return total, nil
		}
	}
}

// cells makes cells of a table's columns, given by name and value.
func cells(t *schema.Table, pairs ...any) []store.Cell {
	var out []store.Cell
	for i := 0; i < len(pairs); i += 2 {
		c := t.Column(pairs[i].(string))
		var v value.Value
		switch x := pairs[i+1].(type) {
		case nil:
		case int64:
			v = value.Int(x)
		case int:
			v = value.Int(int64(x))
		case string:
			v = value.String(x)
		case []byte:
			v = value.Value{Type: value.Bytes, S: string(x)}
		case value.Value:
			v = x
		default:
			panic(fmt.Sprintf("a cell of %T", x)) // a mistake of this package
		}
		out = append(out, store.Cell{Column: c, Value: v})
	}
	return out
}
