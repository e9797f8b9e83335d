package mysql

import (
	"context"
	"database/sql"
	"errors"

	"evensprout/internal/schema"
)

// SurveyConn asks the connection itself.
func (Driver) SurveyConn(ctx context.Context, conn *sql.Conn, _ string) (*schema.Database, bool, error) {
	var comment string
	if conn.QueryRowContext(ctx, "SELECT @@version_comment").Scan(&comment) != nil {
		return nil, false, nil
	}
	d := &database{conn: conn}
	err := d.learnVersion(ctx, "the other end of this connection")
	if err == nil {
		err = d.ask(ctx)
	}
	if err != nil {
		return nil, true, err
	}
	db, err := d.Survey(ctx)
	return db, true, err
}

// Quoting turns backslashes off, and puts them back.
func (script) Quoting(exec func(string) error, do func() error) error {
	for _, sql := range []string{
		"SET @evensprout_sql_mode = @@SESSION.sql_mode",
		"SET SESSION sql_mode = CONCAT(@@SESSION.sql_mode, ',NO_BACKSLASH_ESCAPES,NO_AUTO_VALUE_ON_ZERO')",
	} {
		if err := exec(sql); err != nil {
			return err
		}
	}
	return errors.Join(do(), exec("SET SESSION sql_mode = @evensprout_sql_mode"))
}
