package sqlite

import (
	"context"
	"database/sql"

	"zombiezen.com/go/sqlite"

	"evensprout/internal/schema"
)

// SurveyConn makes the tables again, without rows, in a database of its own, and surveys that:
// the connection may be to one in memory, which nobody else can open.
func (Driver) SurveyConn(ctx context.Context, conn *sql.Conn, _ string) (*schema.Database, bool, error) {
	var version string
	if conn.QueryRowContext(ctx, "SELECT sqlite_version()").Scan(&version) != nil {
		return nil, false, nil
	}
	rows, err := conn.QueryContext(
		ctx,
		"SELECT sql FROM sqlite_schema WHERE sql IS NOT NULL AND name NOT LIKE 'sqlite\\_%' ESCAPE '\\' AND name "+
			"NOT LIKE 'evensprout\\_%' ESCAPE '\\' ORDER BY rowid",
	)
	if err != nil {
		return nil, true, err
	}
	defer rows.Close()
	script := ""
	for rows.Next() {
		var text string
		if err := rows.Scan(&text); err != nil {
			return nil, true, err
		}
		script += text + ";\n"
	}
	if err := rows.Err(); err != nil {
		return nil, true, err
	}
	own, err := sqlite.OpenConn(":memory:", sqlite.OpenReadWrite|sqlite.OpenCreate)
	if err != nil {
		return nil, true, err
	}
	d := &database{conn: own, path: ":memory:"}
	defer d.Close()
	if err := run(own, script); err != nil {
		return nil, true, err
	}
	db, err := d.Survey(ctx)
	return db, true, err
}

// Quoting needs nothing.
func (script) Quoting(_ func(string) error, do func() error) error { return do() }
