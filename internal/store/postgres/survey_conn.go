package postgres

import (
	"context"
	"database/sql"
	"os"
	"strings"

	"github.com/jackc/pgx/v5"

	"evensprout/internal/schema"
	"evensprout/internal/store"
)

// SurveyConn asks the connection itself, if it is pgx's; else another one, by the URL.
func (d Driver) SurveyConn(ctx context.Context, conn *sql.Conn, url string) (*schema.Database, bool, error) {
	var version string
	if conn.QueryRowContext(ctx, "SELECT version()").Scan(&version) != nil || !strings.Contains(version, "PostgreSQL") {
		return nil, false, nil
	}
	var db *schema.Database
	own := false
	err := conn.Raw(func(driver any) (err error) {
		if c, ok := driver.(interface{ Conn() *pgx.Conn }); ok {
			own = true
			db, err = (&database{conn: c.Conn().PgConn()}).Survey(ctx)
		}
		return err
	})
	if own || err != nil {
		return db, true, err
	}
	if url == "" {
		url = os.Getenv("DATABASE_URL")
	}
	if url == "" {
		return nil, true, &store.Fault{
			Kind:    store.BadURL,
			Message: "this driver cannot be used to read the tables",
			Hint:    "pass fixture.URL, set DATABASE_URL, or use the driver pgx",
		}
	}

	s, err := d.Open(ctx, url)
	if err != nil {
		return nil, true, err
	}
	defer s.Close()
	db, err = s.Survey(ctx)
	return db, true, err
}

// Quoting sees that backslashes are what they are, for the rest of the transaction.
func (script) Quoting(exec func(string) error, do func() error) error {
	if err := exec("SET LOCAL standard_conforming_strings = on"); err != nil {
		return err
	}
	return do()
}
