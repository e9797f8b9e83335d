//go:build unix

package security_test

import (
	"encoding/binary"
	"fmt"
	"io"
	"net"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// frame is a message of the protocol of PostgreSQL.
func frame(kind byte, body string) []byte {
	b := binary.BigEndian.AppendUint32([]byte{kind}, uint32(len(body)+4))
	return append(b, body...)
}

// flooding is a server that lets everybody in and then sends one kind of message for ever.
func flooding(t *testing.T, ready bool, next func(n int) []byte) int {
	l, err := net.Listen("tcp4", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer conn.Close()
				var size [4]byte
				for { // until it is no request for encryption
					if _, err := io.ReadFull(conn, size[:]); err != nil {
						return
					}
					body := make([]byte, binary.BigEndian.Uint32(size[:])-4)
					if _, err := io.ReadFull(conn, body); err != nil {
						return
					}
					if len(body) != 4 {
						break
					}
					conn.Write([]byte("N"))
				}
				conn.Write(frame('R', "\x00\x00\x00\x00"))
				if ready {
					conn.Write(frame('Z', "I"))
				}
				for n := 0; ; n++ {
					if _, err := conn.Write(next(n)); err != nil {
						return
					}
				}
			}()
		}
	}()
	return l.Addr().(*net.TCPAddr).Port
}

// A server that only sends what answers nothing is given up, soon and in little memory.
func TestFloodsOfServers(t *testing.T) {
	long := strings.Repeat("x", 60_000)
	for name, f := range map[string]struct {
		ready bool
		next  func(n int) []byte
	}{
		"parameters":        {false, func(n int) []byte { return frame('S', fmt.Sprintf("p%d\x00v\x00", n)) }},
		"long parameters":   {false, func(n int) []byte { return frame('S', fmt.Sprintf("p%d\x00%s\x00", n, long)) }},
		"notices":           {true, func(int) []byte { return frame('N', "SNOTICE\x00C00000\x00Mhello\x00\x00") }},
		"long notices":      {true, func(int) []byte { return frame('N', "SNOTICE\x00C00000\x00M"+long+"\x00\x00") }},
		"notifications":     {true, func(int) []byte { return frame('A', "\x00\x00\x00\x01c\x00p\x00") }},
		"parameters, later": {true, func(n int) []byte { return frame('S', fmt.Sprintf("p%d\x00v\x00", n)) }},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			b := onSQLite(t, "")
			r := b.run("load", "--db", fmt.Sprintf("postgres://me@127.0.0.1:%d/x?sslmode=disable", flooding(t, f.ready, f.next)))
			assert.NotZero(t, r.code, r.all())
			assert.Less(t, r.peak, int64(150<<20), r.all())
			assert.Less(t, r.took.Seconds(), 20.0)
			assert.Contains(t, r.err, "answer nothing")
		})
	}
}

// What a database says is shown, but not all of it if it is long.
func TestLongWordsOfServers(t *testing.T) {
	scripts := map[string]string{
		"postgres": "CREATE FUNCTION shout() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN RAISE EXCEPTION '%', repeat('x', 5000000); END $$;" +
			"CREATE TRIGGER shout BEFORE INSERT ON ports FOR EACH ROW EXECUTE FUNCTION shout()",
		"sqlite": "CREATE TRIGGER shout BEFORE INSERT ON ports BEGIN SELECT RAISE(ABORT, '" + strings.Repeat("x", 500_000) + "'); END",
	}
	on(t, "", func(t *testing.T, b *box) {
		switch script := scripts[b.name]; {
		case script == "":
			return // its messages have at most 512 characters
		case b.name == "postgres":
			psql(t, b.url, script)
		default:
			b.exec(script)
		}
		for _, args := range [][]string{{"load"}, {"load", "--json"}, {"load", "--on-violation", "raised=skip", "--rejects", "r.ndjson"}} {
			r := b.on(args...)
			assert.NotZero(t, r.code)
			assert.Less(t, len(r.all()), 50_000, args)
			assert.Contains(t, r.all(), "xxx", args)
		}
	})
}
