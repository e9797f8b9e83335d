package postgres

import (
	"context"
	"net"
	"sync/atomic"

	"evensprout/internal/schema"
)

// CreateLike makes a table with the columns, keys and checks of another.
func (d *database) CreateLike(ctx context.Context, like *schema.Table, name string) error {
	_, err := d.Exec(ctx, "CREATE TABLE "+quote(name)+" (LIKE "+tableName(like)+" INCLUDING ALL)")
	return err
}

// Sent is how many bytes went to the server so far.
func (d *database) Sent() int64 { return d.sent.Load() }

// Bulk is what the engine's bulk path is called.
func (d *database) Bulk() string { return "COPY" }

// counted counts the bytes that are written to a connection.
type counted struct {
	net.Conn
	sent *atomic.Int64
}

func (c counted) Write(b []byte) (int, error) {
	n, err := c.Conn.Write(b)
	c.sent.Add(int64(n))
	return n, err
}
