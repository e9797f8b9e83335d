package journal

import (
	"bufio"
	"bytes"
	"compress/flate"
	"encoding/binary"
	"encoding/json"
	"errors"
	"io"

	"evensprout/internal/grow"
	"evensprout/internal/schema"
	"evensprout/internal/value"
)

// What previous contents are of.
const (
	ContentChanged = "changed" // rows that were changed
	ContentRemoved = "removed" // rows that were deleted
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

// Packet is rows of one table, compressed.
type Packet struct {
	Rows int64
	Body []byte
}

// Packer packs rows of one table into packets. Each begins with the names of the
// columns, so that it can be read on its own. Close it before its packets are used.
type Packer struct {
	Columns []*schema.Column
	Numbers bool // each row begins with the row of the plan
	Packets []Packet

	buf  bytes.Buffer
	w    *flate.Writer
	rows int64
	raw  int // bytes before they are compressed
	line []byte
}

// Add packs a row; planned counts only with numbers.
func (p *Packer) Add(planned grow.Row, values []value.Value) error {
	if p.rows == 0 {
		p.raw = 0
		p.buf.Reset()
		if p.w == nil {
			p.w, _ = flate.NewWriter(&p.buf, flate.BestSpeed) // the level is valid
		}
		p.w.Reset(&p.buf)
		var names []string
		for _, c := range p.Columns {
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
	if p.Numbers {
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
		return p.Close()
	}
	return nil
}

// Close ends the last packet.
func (p *Packer) Close() error {
	if p.rows == 0 {
		return nil
	}
	if err := p.w.Close(); err != nil {
		return err
	}
	p.Packets = append(p.Packets, Packet{p.rows, bytes.Clone(p.buf.Bytes())})
	p.rows = 0
	return nil
}

// appendPacked appends a value: its type, and what the type needs.
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

// readPacked reads what appendPacked wrote.
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

// readText reads a length and so many bytes, a piece at a time: the length may be anything.
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

// errPacket is the error of a packet that is damaged.
var errPacket = errors.New("previous contents of rows in the journal cannot be read")

// Unpack shows the rows of a packet. numbers reports whether they begin with rows of the
// plan.
func Unpack(
	body []byte,
	rows int64,
	numbers bool,
	show func(columns []string, planned grow.Row, values []value.Value) error,
) error {
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

// ContentRewritten is what rows hold that a trigger rewrote.
const ContentRewritten = "rewritten"

// ContentUnit are the rows that transactions of a unit have added, changed and removed,
// and familyUnit stands for a family in their keys.
const (
	ContentUnit       = "unit"
	FamilyUnit  int64 = -3
)
