package storetest

import (
	"bytes"
	"fmt"
	"io"
	"net"
	"testing"

	"github.com/stretchr/testify/require"
)

// Rewriting is a way to a server on this machine that changes what the server says: each from becomes to, which is as
// long. It returns its port.
func Rewriting(t testing.TB, port int, from, to string) int {
	t.Helper()
	require.Len(t, to, len(from))
	l, err := net.Listen("tcp4", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			client, err := l.Accept()
			if err != nil {
				return
			}
			server, err := net.Dial("tcp4", fmt.Sprintf("127.0.0.1:%d", port))
			if err != nil {
				client.Close()
				continue
			}
			go func() {
				io.Copy(server, client)
				server.Close()
			}()
			go func() {
				defer client.Close()
				part := make([]byte, 1<<16)
				for {
					n, err := server.Read(part)
					client.Write(bytes.ReplaceAll(part[:n], []byte(from), []byte(to)))
					if err != nil {
						return
					}
				}
			}()
		}
	}()
	return l.Addr().(*net.TCPAddr).Port
}
