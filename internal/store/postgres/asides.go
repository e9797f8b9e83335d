package postgres

import (
	"encoding/binary"
	"fmt"
	"io"

	"evensprout/internal/store"
)

// What a server may send beside the answers to statements: parameters, notices, notifications. The driver keeps
// parameters, and goes on reading after the others, so a hostile server could fill the memory or keep the program
// reading for ever. Statements of ours ask for no notices (client_min_messages).
const (
	mostAsides     = 10_000
	mostAsideBytes = 4 << 20
)

// asides passes a server's messages on, and ends the connection when too many of them answer nothing.
type asides struct {
	from   io.Reader
	ended  func(*store.Fault) // takes why the connection was ended
	header []byte             // of the message that begins
	left   uint32             // bytes of the message that are still to come
	count  int
	bytes  int64
}

func (a *asides) Read(p []byte) (int, error) {
	n, err := a.from.Read(p)
	for rest := p[:n]; len(rest) > 0; {
		if a.left > 0 {
			skip := min(uint64(a.left), uint64(len(rest)))
			a.left -= uint32(skip)
			rest = rest[skip:]
			continue
		}
		const size = 5 // the type, and the length with itself
		take := min(size-len(a.header), len(rest))
		a.header, rest = append(a.header, rest[:take]...), rest[take:]
		if len(a.header) < size {
			break
		}
		length := binary.BigEndian.Uint32(a.header[1:])
		if length >= size-1 {
			a.left = length - (size - 1)
		}
		kind := a.header[0]
		a.header = a.header[:0]
		if kind != 'S' && kind != 'N' && kind != 'A' && kind != 'K' {
			continue
		}
		a.count++
		a.bytes += int64(a.left)
		if a.count > mostAsides || a.bytes > mostAsideBytes {
			f := &store.Fault{Kind: store.Foreign,
				Message: fmt.Sprintf("the server sent %d messages (%d bytes) that answer nothing, so the connection was ended", a.count, a.bytes),
				Hint:    "is it a PostgreSQL server?"}
			a.ended(f)
			return 0, f
		}
	}
	return n, err
}
