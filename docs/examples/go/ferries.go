// Package ferries is a small program with a database, whose tests take their rows from a
// plan.
package ferries

import (
	"context"
	"database/sql"
	"fmt"
)

// Queries is what this package needs of a database, or of a transaction.
type Queries interface {
	ExecContext(ctx context.Context, query string, args ...any) (sql.Result, error)
	QueryRowContext(ctx context.Context, query string, args ...any) *sql.Row
}

// SeatsTaken counts the tickets of a sailing.
func SeatsTaken(ctx context.Context, q Queries, sailing int64) (n int, err error) {
	err = q.QueryRowContext(ctx, fmt.Sprintf(`SELECT count(*)
		FROM tickets t JOIN bookings b ON b.id = t.booking_id
		WHERE b.sailing_id = %d`, sailing)).Scan(&n)
	return n, err
}

// Cancel cancels a booking, and gives its seats back.
func Cancel(ctx context.Context, q Queries, booking int64) error {
	for _, change := range []string{
		`UPDATE sailings
			SET seats_left = seats_left + (SELECT count(*) FROM tickets WHERE booking_id = %d)
			WHERE id = (SELECT sailing_id FROM bookings WHERE id = %[1]d)`,
		`UPDATE bookings SET status = 'cancelled' WHERE id = %d AND status = 'open'`,
	} {
		if _, err := q.ExecContext(ctx, fmt.Sprintf(change, booking)); err != nil {
			return err
		}
	}
	return nil
}
