package journal

import (
	"context"
	"slices"
	"time"

	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/value"
)

// selector reads tables: a store, or a transaction.
type selector interface {
	Select(ctx context.Context, q store.Query, show func([]value.Value) error) error
}

// Record is a row of a table of the journal, with its cells by name. A cell that was not selected
// is NULL.
type Record struct {
	columns []*schema.Column
	row     []value.Value
}

// Read shows the rows that a query finds in a table of the journal: the named columns, or all of
// them. A record is valid until show returns.
func Read(ctx context.Context, s selector, q store.Query, names []string, show func(Record) error) error {
	q.Columns = q.Table.Columns
	if len(names) > 0 {
		q.Columns = nil
		for _, name := range names {
			q.Columns = append(q.Columns, q.Table.Column(name))
		}
	}
	return s.Select(ctx, q, func(row []value.Value) error { return show(Record{q.Columns, row}) })
}

func (r Record) cell(name string) value.Value {
	i := slices.IndexFunc(r.columns, func(c *schema.Column) bool { return c.Name == name })
	if i < 0 {
		return value.Value{}
	}
	return r.row[i]
}

// Int is an integer; 0 for NULL.
func (r Record) Int(name string) int64 { return r.cell(name).N }

// Text is a text; empty for NULL.
func (r Record) Text(name string) string { return r.cell(name).S }

// Bytes are the contents of a cell; none for NULL.
func (r Record) Bytes(name string) []byte { return []byte(r.cell(name).S) }

// Time is a moment; zero for NULL.
func (r Record) Time(name string) time.Time { return timeOf(r.cell(name)) }

// Cells are some cells with their columns, to find the row again.
func (r Record) Cells(names ...string) []store.Cell {
	var out []store.Cell
	for _, name := range names {
		for _, c := range r.columns {
			if c.Name == name {
				out = append(out, store.Cell{Column: c, Value: r.cell(name)})
			}
		}
	}
	return out
}

// packetKey are the columns that tell a packet of contents.
var packetKey = []string{"load", "family", "side", "first", "seq"}

// StoredPacket is what the journal says of a packet of contents, without its body.
type StoredPacket struct {
	Entity, Table string
	Rows          int64
	first, seq    int64
	key           []store.Cell
}

// Packets lists the packets of a load that hold one kind of contents. Their bodies are read one at a
// time, by Body.
func Packets(ctx context.Context, s selector, j *store.Journal, load int64, what string) ([]StoredPacket, error) {
	var out []StoredPacket
	q := store.Query{Table: j.Contents, Where: Cells(j.Contents, "load", load, "what", what)}
	err := Read(ctx, s, q, slices.Concat(packetKey, []string{"entity", "of", "rows"}), func(r Record) error {
		out = append(out, StoredPacket{
			Entity: r.Text("entity"), Table: r.Text("of"), Rows: r.Int("rows"),
			first: r.Int("first"), seq: r.Int("seq"), key: r.Cells(packetKey...),
		})
		return nil
	})
	return out, err
}

// Body reads a packet's body.
func (p *StoredPacket) Body(ctx context.Context, s selector, j *store.Journal) (body []byte, err error) {
	err = Read(ctx, s, store.Query{Table: j.Contents, Where: p.key}, []string{"body"}, func(r Record) error {
		body = r.Bytes("body")
		return nil
	})
	return body, err
}

// Delete removes a packet that is not needed any more.
func (p *StoredPacket) Delete(ctx context.Context, tx store.Tx, j *store.Journal) error {
	_, err := tx.Delete(ctx, j.Contents, p.key)
	return err
}
