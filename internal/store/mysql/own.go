package mysql

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strings"

	"evensprout/internal/grow"
	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/store/setwise"
)

// own makes databases on the server of a URL.
type own struct {
	*database
	given, source string // the URL, and its database
}

// Own connects to the database of the server's own descriptions, which is always there.
func (d Driver) Own(ctx context.Context, u string) (store.Own, error) {
	c, err := parse(u)
	if err != nil {
		return nil, err
	}
	s, err := d.Open(ctx, store.WithDatabase(u, "information_schema"))
	if err != nil {
		return nil, err
	}
	return &own{s.(*database), u, c.DBName}, nil
}

func (o *own) URL(name string) string { return store.WithDatabase(o.given, name) }

func (o *own) Create(ctx context.Context, name string) error {
	_, err := o.Exec(ctx, "CREATE DATABASE "+quote(name)+" CHARACTER SET utf8mb4")
	var fault *store.Fault
	if errors.As(err, &fault) && fault.Kind == store.Denied {
		return &store.Fault{Kind: store.Denied, Err: fault.Err, Message: "this user may not make databases", Hint: "GRANT ALL ON `evensprout\\_%`.* lets it; during --shared needs none"}
	}
	return err
}

// texts are the rows of a query as texts.
func (o *own) texts(ctx context.Context, width int, sql string, args ...string) ([][]string, error) {
	columns := make([]*schema.Column, width)
	for i := range columns {
		columns[i] = &schema.Column{Kind: schema.Text}
	}
	var bound []setwise.Arg
	for _, a := range args {
		bound = append(bound, setwise.Arg{Value: grow.String(a)})
	}
	var out [][]string
	err := o.Query(ctx, sql, bound, columns, func(row []grow.Value) error {
		line := make([]string, len(row))
		for i, v := range row {
			line[i] = strings.Clone(v.S)
		}
		out = append(out, line)
		return nil
	})
	return out, err
}

// markTable is a table whose comment is the word about a database. It is not copied.
const markTable = "evensprout_mark"

// notCopied tells the tables of this program.
var notCopied = []string{markTable, "evensprout_loads", "evensprout_chunks", "evensprout_contents", "evensprout_occasions"}

func (o *own) CopyGiven(ctx context.Context, name string) error { return o.copy(ctx, o.source, name) }

// Copy makes the tables as the server describes them, and fills them by its statement
// INSERT ... SELECT; then views, routines and triggers.
func (o *own) Copy(ctx context.Context, from, name string) error { return o.copy(ctx, from, name) }

func (o *own) copy(ctx context.Context, from, name string) (err error) {
	if err := o.Create(ctx, name); err != nil {
		return err
	}
	defer func() {
		_, back := o.Exec(context.WithoutCancel(ctx), "SET SESSION foreign_key_checks = 1, unique_checks = 1, sql_mode = @evensprout_sql_mode")
		_, out := o.Exec(context.WithoutCancel(ctx), "USE information_schema")
		err = errors.Join(err, back, out)
	}()
	for _, sql := range []string{"SET @evensprout_sql_mode = @@SESSION.sql_mode", "USE " + quote(name), "SET SESSION foreign_key_checks = 0, unique_checks = 0"} {
		if _, err := o.Exec(ctx, sql); err != nil {
			return err
		}
	}
	tables, err := o.texts(ctx, 2, "SELECT table_name, table_type FROM information_schema.tables WHERE table_schema = ? AND table_type NOT IN ('VIEW', 'SYSTEM VIEW') ORDER BY table_type = 'SEQUENCE' DESC, table_name", from)
	if err != nil {
		return err
	}
	shown := func(kind, name string, width int) ([]string, error) {
		rows, err := o.texts(ctx, width, "SHOW CREATE "+kind+" "+quote(from)+"."+quote(name))
		if err != nil || len(rows) != 1 {
			return nil, errors.Join(err, fmt.Errorf("%s %s of %s cannot be copied", strings.ToLower(kind), name, from))
		}
		return rows[0], nil
	}
	made := func(kind, name string) (string, error) {
		row, err := shown(kind, name, 2)
		if err != nil {
			return "", err
		}
		return row[1], nil
	}
	// What has a body is read in the mode in which it was written.
	withBody := func(kind, name string, width int) ([]string, error) {
		row, err := shown(kind, name, width)
		if err != nil {
			return nil, err
		}
		return []string{"SET SESSION sql_mode = " + string(store.AppendQuoted(nil, row[1])), row[2], "SET SESSION sql_mode = @evensprout_sql_mode"}, nil
	}
	columns, err := o.texts(ctx, 2, "SELECT table_name, column_name FROM information_schema.columns WHERE table_schema = ? AND coalesce(generation_expression, '') = '' AND extra NOT LIKE '%GENERATED%' ORDER BY table_name, ordinal_position", from)
	if err != nil {
		return err
	}
	written := map[string][]string{}
	for _, c := range columns {
		written[c[0]] = append(written[c[0]], quote(c[1]))
	}
	var run []string
	for _, t := range tables {
		if slices.Contains(notCopied, t[0]) {
			continue
		}
		if t[1] == "SEQUENCE" {
			text, err := made("SEQUENCE", t[0])
			if err != nil {
				return err
			}
			next, err := o.texts(ctx, 1, "SELECT CAST(next_not_cached_value AS CHAR) FROM "+quote(from)+"."+quote(t[0]))
			if err != nil || len(next) != 1 {
				return errors.Join(err, fmt.Errorf("the sequence %s of %s cannot be copied", t[0], from))
			}
			run = append(run, text, "DO SETVAL("+quote(t[0])+", "+next[0][0]+", 0)")
			continue
		}
		text, err := made("TABLE", t[0])
		if err != nil {
			return err
		}
		run = append(run, text)
		if list := strings.Join(written[t[0]], ", "); list != "" {
			run = append(run, "INSERT INTO "+quote(t[0])+" ("+list+") SELECT "+list+" FROM "+quote(from)+"."+quote(t[0]))
		}
	}
	routines, err := o.texts(ctx, 2, "SELECT routine_type, routine_name FROM information_schema.routines WHERE routine_schema = ? AND routine_type IN ('FUNCTION', 'PROCEDURE') ORDER BY routine_type, routine_name", from)
	if err != nil {
		return err
	}
	for _, r := range routines {
		list, err := withBody(r[0], r[1], 6)
		if err != nil {
			return err
		}
		run = append(run, list...)
	}
	views, err := o.texts(ctx, 2, "SELECT table_name, view_definition FROM information_schema.views WHERE table_schema = ? ORDER BY table_name", from)
	if err != nil {
		return err
	}
	// A view may rest on another: they are tried until no more can be made.
	var later []string
	for _, v := range views {
		later = append(later, "CREATE VIEW "+quote(v[0])+" AS "+strings.ReplaceAll(v[1], quote(from)+".", quote(name)+"."))
	}
	triggers, err := o.texts(ctx, 1, "SELECT trigger_name FROM information_schema.triggers WHERE trigger_schema = ? ORDER BY event_object_table, action_timing, event_manipulation, action_order", from)
	if err != nil {
		return err
	}
	for _, sql := range run {
		if _, err := o.Exec(ctx, sql); err != nil {
			return err
		}
	}
	for len(later) > 0 {
		var left []string
		var failed error
		for _, sql := range later {
			if _, err := o.Exec(ctx, sql); err != nil {
				left, failed = append(left, sql), err
			}
		}
		if len(left) == len(later) {
			return failed
		}
		later = left
	}
	for _, t := range triggers {
		list, err := withBody("TRIGGER", t[0], 7)
		if err != nil {
			return err
		}
		for _, sql := range list {
			if _, err := o.Exec(ctx, sql); err != nil {
				return err
			}
		}
	}
	return nil
}

func (o *own) Empty(ctx context.Context, name string, tables []*schema.Table) (err error) {
	defer func() {
		_, back := o.Exec(context.WithoutCancel(ctx), "SET SESSION foreign_key_checks = 1")
		err = errors.Join(err, back)
	}()
	if _, err := o.Exec(ctx, "SET SESSION foreign_key_checks = 0"); err != nil {
		return err
	}
	for _, t := range tables {
		if _, err := o.Exec(ctx, "TRUNCATE "+quote(name)+"."+quote(t.LocalName())); err != nil {
			return err
		}
	}
	return nil
}

// Run runs a script statement by statement, as the client cuts it: with the line DELIMITER
// as well, and with the server's own session settings.
func (o *own) Run(ctx context.Context, name, script string) error {
	s, err := Driver{}.Open(ctx, o.URL(name))
	if err != nil {
		return err
	}
	d := s.(*database)
	defer d.Close()
	if _, err := d.Exec(ctx, "SET SESSION sql_mode = @@GLOBAL.sql_mode, foreign_key_checks = 1"); err != nil {
		return err
	}
	for _, st := range statements(script) {
		if _, err := d.conn.ExecContext(ctx, st.text); err != nil {
			return &store.ScriptError{Line: st.line, Message: err.Error()}
		}
	}
	return nil
}

func (o *own) Mark(ctx context.Context, name, word string) error {
	_, err := o.Exec(ctx, "CREATE TABLE "+quote(name)+"."+quote(markTable)+" (id INTEGER PRIMARY KEY) COMMENT = "+string(store.AppendQuoted(nil, word)))
	return err
}

func (o *own) List(ctx context.Context) ([]store.OwnDatabase, error) {
	rows, err := o.texts(ctx, 2, "SELECT s.schema_name, coalesce(t.table_comment, '') FROM information_schema.schemata s LEFT JOIN information_schema.tables t ON t.table_schema = s.schema_name AND t.table_name = '"+markTable+"' WHERE s.schema_name LIKE 'evensprout\\_%' ORDER BY 1")
	var out []store.OwnDatabase
	for _, r := range rows {
		out = append(out, store.OwnDatabase{Name: r[0], Mark: r[1]})
	}
	return out, err
}

func (o *own) Drop(ctx context.Context, name string) error {
	// Others' statements hold locks on tables, for which this one would wait.
	busy, err := o.texts(ctx, 1, "SELECT CAST(id AS CHAR) FROM information_schema.processlist WHERE db = ?", name)
	if err != nil {
		return err
	}
	for _, b := range busy {
		o.Exec(ctx, "KILL "+b[0])
	}
	_, err = o.Exec(ctx, "DROP DATABASE IF EXISTS "+quote(name))
	return err
}

func (o *own) Hold(ctx context.Context, name string) (bool, error) {
	holder, err := o.Lock(ctx, name)
	return holder == "", err
}

func (o *own) Release(ctx context.Context, name string) error { return o.Unlock(ctx, name) }

// Variables are what the server's clients read, and URLs for JDBC and Go.
func (Driver) Variables(u string) []store.Variable {
	c, err := parse(u)
	if err != nil {
		return nil
	}
	host, port := "localhost", ""
	if c.Net == "tcp" {
		i := strings.LastIndexByte(c.Addr, ':')
		host, port = strings.Trim(c.Addr[:i], "[]"), c.Addr[i+1:]
	}
	list := store.Plain(u, host, port, c.User, c.Passwd, c.DBName)
	add := func(name, value string) {
		if value != "" {
			list = append(list, store.Variable{Name: name, Value: value})
		}
	}
	add("MYSQL_HOST", host)
	add("MYSQL_TCP_PORT", port)
	add("MYSQL_PORT", port)
	add("MYSQL_USER", c.User)
	add("MYSQL_PASSWORD", c.Passwd)
	add("MYSQL_PWD", c.Passwd)
	add("MYSQL_DATABASE", c.DBName)
	if c.Net == "unix" {
		add("MYSQL_UNIX_PORT", c.Addr)
		add("DB_SOCKET", c.Addr)
	} else {
		add("JDBC_DATABASE_URL", fmt.Sprintf("jdbc:mariadb://%s/%s", c.Addr, url.PathEscape(c.DBName)))
		add("JDBC_DATABASE_USERNAME", c.User)
		add("JDBC_DATABASE_PASSWORD", c.Passwd)
	}
	dsn := c.Clone()
	dsn.InterpolateParams, dsn.Timeout = false, 0
	add("DATABASE_DSN", dsn.FormatDSN())
	return list
}
