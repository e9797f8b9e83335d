package storetest

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/stretchr/testify/require"
)

// Pooler starts PgBouncer before a PostgreSQL server, with its defaults but for the mode (session, transaction,
// statement) and more settings. It returns the URL of a database by way of it. The test is skipped where there is none.
func Pooler(t testing.TB, server *Server, database, mode string, settings ...string) string {
	t.Helper()
	if program("pgbouncer") == "" {
		if err := install("pgbouncer"); err != nil {
			t.Skipf("no pgbouncer: %v", err)
		}
	}
	s, err := newServer("postgres")
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(s.folder) })
	text := fmt.Sprintf("[databases]\n* = host=127.0.0.1 port=%d user=tester\n[pgbouncer]\nlisten_addr = 127.0.0.1\n"+
		"listen_port = %d\nunix_socket_dir =\nauth_type = any\npool_mode = %s\n%s\n", server.Port, s.Port, mode,
		strings.Join(settings, "\n"))
	file := filepath.Join(s.folder, "pgbouncer.ini")
	require.NoError(t, os.WriteFile(file, []byte(text), 0o644))
	c := exec.Command(program("pgbouncer"), "-q", file)
	log := &strings.Builder{}
	c.Stdout, c.Stderr, c.Dir = log, log, s.folder
	c.SysProcAttr = &syscall.SysProcAttr{Credential: s.user, Pdeathsig: syscall.SIGKILL}
	require.NoError(t, c.Start())
	t.Cleanup(func() {
		c.Process.Kill()
		c.Wait()
	})
	url := fmt.Sprintf("postgres://tester@127.0.0.1:%d/%s?sslmode=disable", s.Port, database)
	for deadline := time.Now().Add(20 * time.Second); ; time.Sleep(20 * time.Millisecond) {
		conn, err := pgconn.Connect(context.Background(), url)
		if err == nil {
			conn.Close(context.Background())
			return url
		}
		require.True(t, time.Now().Before(deadline), "%v", err)
	}
}
