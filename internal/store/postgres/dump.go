package postgres

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"strings"

	"github.com/jackc/pgx/v5/pgconn"

	"evensprout/internal/store"
)

// Lines of a script that mean something to the client alone, or to the whole server.
var (
	copying    = regexp.MustCompile(`(?i)^COPY .* FROM stdin\b.*;\s*$`)
	connecting = regexp.MustCompile(`^\\(c|connect)\b`)
	including  = regexp.MustCompile(`^\\(i|ir|include|include_relative)\b`)
	databases  = regexp.MustCompile(`(?i)^\s*(CREATE|DROP|ALTER)\s+DATABASE\b`)
)

// piece is a part of a script: statements, or rows that are copied.
type piece struct {
	line int // before it, from 0
	sql  string
	copy string // the statement that copies the rows that follow; empty: there are none
	rows string
}

// pieces cuts a script, as the program for dumps writes it, at the rows that it copies. What would lead to another
// database, or to another file, is refused.
func pieces(script string) ([]piece, error) {
	var out []piece
	var now piece
	var sql, rows strings.Builder
	inRows := false
	for i, line := range strings.SplitAfter(script, "\n") {
		plain := strings.TrimRight(line, "\r\n")
		refuse := func(format string, args ...any) error {
			return &store.ScriptError{Line: i + 1, Message: fmt.Sprintf(format, args...)}
		}
		switch {
		case inRows && plain == `\.`:
			now.sql, now.rows, inRows = sql.String(), rows.String(), false
			out = append(out, now)
			now = piece{line: i + 1}
			sql.Reset()
			rows.Reset()
		case inRows:
			rows.WriteString(line)
		case copying.MatchString(plain):
			now.copy, inRows = strings.TrimSuffix(strings.TrimSpace(plain), ";"), true
		case connecting.MatchString(plain):
			return nil, refuse("%s leads to another database: dump without --create", strings.Fields(plain)[0])
		case including.MatchString(plain):
			return nil, refuse("%s reads another file: put it into the script", strings.Fields(plain)[0])
		case databases.MatchString(plain):
			return nil, refuse("%s DATABASE is not for the database made here: dump without --create",
				strings.ToUpper(strings.Fields(plain)[0]))
		default:
			sql.WriteString(line)
		}
	}
	if inRows {
		return nil, &store.ScriptError{Line: now.line + 1, Message: `the rows of a COPY end without \.`}
	}
	now.sql = sql.String()
	return append(out, now), nil
}

// runPieces runs a script piece by piece.
func runPieces(ctx context.Context, c *pgconn.PgConn, script string) error {
	list, err := pieces(script)
	if err != nil {
		return err
	}
	for _, p := range list {
		// The server refuses statements about whole databases among others in one text, however they are written.
		p.sql = "SELECT;" + p.sql
		if _, err := c.Exec(ctx, p.sql).ReadAll(); err != nil {
			return p.refused(err, p.line)
		}
		if p.copy == "" {
			continue
		}
		if _, err := c.CopyFrom(ctx, strings.NewReader(p.rows), p.copy); err != nil {
			return p.refused(err, p.line+strings.Count(p.sql, "\n"))
		}
	}
	return nil
}

// refused is an error of the server with the line of the script.
func (p piece) refused(err error, line int) error {
	var server *pgconn.PgError
	if !errors.As(err, &server) {
		return err
	}
	if n := lineOf(p.sql, int(server.Position)); n > 0 && server.Where == "" {
		line += n
	} else {
		line++
	}
	return &store.ScriptError{Line: line, Message: server.Message + " [" + server.Code + "]"}
}
