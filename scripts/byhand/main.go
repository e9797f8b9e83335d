// Command byhand does what bench-units.sh does with a unit in the way of a program that
// is written for just that: a transaction for each 500 lines of a CSV file, and three
// prepared statements for each line. With lists, it does the same for bench-lists.sh.
package main

import (
	"context"
	"database/sql"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"

	"github.com/jackc/pgx/v5"
	_ "modernc.org/sqlite"
)

const together = 500

var statements = []string{
	"INSERT INTO tickets (sailing_id, passenger_id, price) VALUES (%s, %s, %s)",
	"UPDATE sailings SET seats_left = seats_left - 1 WHERE id = %s",
	"UPDATE passengers SET points = points + %s WHERE id = %s",
}

// database is what both kinds of databases do here.
type database interface {
	begin() error
	// exec runs a prepared statement, which must touch one row.
	exec(statement int, args ...any) error
	commit() error
}

func main() {
	do, args := run, os.Args[1:]
	if len(args) == 3 && args[0] == "lists" {
		do, args = lists, args[1:]
	}
	if len(args) != 2 {
		fmt.Fprintln(os.Stderr, "usage: byhand [lists] URL FILE")
		os.Exit(2)
	}
	if err := do(args[0], args[1]); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func run(url, path string) error {
	f, err := os.Open(path)
	if err != nil {
		return err
	}
	defer f.Close()
	lines := csv.NewReader(f)
	lines.ReuseRecord = true
	if _, err := lines.Read(); err != nil {
		return err
	}
	db, err := open(url)
	if err != nil {
		return err
	}
	n := 0
	for {
		line, err := lines.Read()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return err
		}
		if n%together == 0 {
			if err := db.begin(); err != nil {
				return err
			}
		}
		sailing, err1 := strconv.ParseInt(line[0], 10, 64)
		passenger, err2 := strconv.ParseInt(line[1], 10, 64)
		points, err3 := strconv.ParseInt(line[3], 10, 64)
		if err := errors.Join(err1, err2, err3); err != nil {
			return err
		}
		if err := errors.Join(db.exec(0, sailing, passenger, line[2]), db.exec(1, sailing),
			db.exec(2, points, passenger)); err != nil {
			return err
		}
		if n++; n%together == 0 {
			if err := db.commit(); err != nil {
				return err
			}
		}
	}
	if n%together != 0 {
		return db.commit()
	}
	return nil
}

func open(url string) (database, error) {
	if path, ok := strings.CutPrefix(url, "sqlite:"); ok {
		db, err := sql.Open("sqlite", path+"?_pragma=foreign_keys(1)")
		if err != nil {
			return nil, err
		}
		db.SetMaxOpenConns(1)
		return &file{db: db}, nil
	}
	conn, err := pgx.Connect(context.Background(), url)
	if err != nil {
		return nil, err
	}
	for i, s := range statements {
		var params []any
		for n := range strings.Count(s, "%s") {
			params = append(params, fmt.Sprintf("$%d", n+1))
		}
		if _, err := conn.Prepare(context.Background(), fmt.Sprint("s", i), fmt.Sprintf(s, params...)); err != nil {
			return nil, err
		}
	}
	return &server{conn: conn}, nil
}

var errRows = errors.New("not one row")

type server struct {
	conn *pgx.Conn
	tx   pgx.Tx
}

func (s *server) begin() (err error) {
	s.tx, err = s.conn.Begin(context.Background())
	return err
}

func (s *server) exec(statement int, args ...any) error {
	tag, err := s.tx.Exec(context.Background(), fmt.Sprint("s", statement), args...)
	if err == nil && tag.RowsAffected() != 1 {
		err = errRows
	}
	return err
}

func (s *server) commit() error { return s.tx.Commit(context.Background()) }

type file struct {
	db       *sql.DB
	tx       *sql.Tx
	prepared []*sql.Stmt
}

func (f *file) begin() (err error) {
	if f.prepared == nil {
		for _, s := range statements {
			p, err := f.db.Prepare(strings.ReplaceAll(s, "%s", "?"))
			if err != nil {
				return err
			}
			f.prepared = append(f.prepared, p)
		}
	}
	f.tx, err = f.db.Begin()
	return err
}

func (f *file) exec(statement int, args ...any) error {
	r, err := f.tx.Stmt(f.prepared[statement]).Exec(args...)
	if err != nil {
		return err
	}
	if n, err := r.RowsAffected(); err != nil || n != 1 {
		return errors.Join(err, errRows)
	}
	return nil
}

func (f *file) commit() error { return f.tx.Commit() }
