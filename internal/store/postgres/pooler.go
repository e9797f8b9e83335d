package postgres

import (
	"context"
	"strconv"
	"time"

	"github.com/jackc/pgx/v5/pgconn"

	"evensprout/internal/store"
)

// refusePooler refuses a pooler that may run each transaction in another session of the server. What a load keeps
// in its session (settings, locks, temporary tables, prepared statements) would be lost, or would meet other users.
// A pooler that keeps a session for the whole connection will do. connect opens another connection.
func refusePooler(ctx context.Context, conn *pgconn.PgConn, where string,
	connect func(context.Context) (*pgconn.PgConn, error)) error {
	first, err := process(ctx, conn)
	if err != nil || first == "" || first == strconv.FormatUint(uint64(conn.PID()), 10) {
		return err // the server itself: it told its process when the connection began
	}
	other, err := connect(ctx)
	if err != nil {
		return ctx.Err() // it allows no second connection
	}
	defer other.Close(ctx)
	// While we are idle, such a pooler lends our session to whoever comes next, or lends us another one. A pooler in
	// session mode may have no second session: then the other connection waits, but ours still answers at once.
	const tries, patience = 3, 3 * time.Second
	brief, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	for range tries {
		second, waits := process(brief, other)
		own, cancel := context.WithTimeout(ctx, patience)
		again, err := process(own, conn)
		cancel()
		switch {
		case ctx.Err() != nil:
			return ctx.Err()
		case waits != nil && err == nil && again == first:
			return nil
		case waits == nil && err != nil:
			return err
		case second == first || again != first:
			return &store.Fault{
				Kind:    store.Refused,
				Message: "the pooler at " + where + " may run each transaction in another session of the server",
				Hint:    "connect to the server itself, or to a pool in session mode (PgBouncer: pool_mode = session)",
			}
		}
	}
	return nil
}

// process is the number of the server's process that answers.
func process(ctx context.Context, conn *pgconn.PgConn) (string, error) {
	return answer(ctx, conn, "SELECT pg_catalog.pg_backend_pid()")
}
