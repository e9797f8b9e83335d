package postgres

import (
	"context"
	"fmt"
	"strconv"
	"strings"

	"github.com/jackc/pgx/v5/pgconn"

	"evensprout/internal/store"
)

// The versions that the tests run on: docs/engines.md.
const oldest, newest = 12, 18

// refuseVersion refuses a server that is too old, or another product that speaks the same protocol. notice says that a
// server is newer than those of the tests; mostly empty.
func refuseVersion(ctx context.Context, conn *pgconn.PgConn, where string) (notice string, err error) {
	version, err := answer(ctx, conn, "SELECT pg_catalog.version()")
	if err != nil {
		return "", err
	}
	number, ok := strings.CutPrefix(version, "PostgreSQL ")
	digits := number[:len(number)-len(strings.TrimLeft(number, "0123456789"))]
	major, wrong := strconv.Atoi(digits)
	if !ok || wrong != nil {
		return "", store.OtherServer(where, version)
	}
	if major < oldest {
		return "", store.OldServer(where, fmt.Sprintf("PostgreSQL %d", major), fmt.Sprintf("PostgreSQL %d", oldest))
	}
	if major > newest {
		notice = store.NewServer(fmt.Sprintf("PostgreSQL %d", major), fmt.Sprintf("versions %d to %d", oldest, newest))
	}
	return notice, nil
}

// answer is the one value that a query returns. A standby knows no other level of isolation, whatever the default is.
func answer(ctx context.Context, conn *pgconn.PgConn, query string) (string, error) {
	results, err := conn.Exec(ctx, "BEGIN ISOLATION LEVEL READ COMMITTED; "+query+"; ROLLBACK").ReadAll()
	if err != nil {
		return "", err
	}
	if len(results) != 3 || len(results[1].Rows) != 1 {
		return "", nil
	}
	return string(results[1].Rows[0][0]), nil
}
