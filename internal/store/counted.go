package store

import (
	"net"
	"sync/atomic"
)

// Counted counts the bytes that are sent through a connection.
type Counted struct {
	net.Conn
	Sent *atomic.Int64
}

func (c Counted) Write(b []byte) (int, error) {
	n, err := c.Conn.Write(b)
	c.Sent.Add(int64(n))
	return n, err
}
