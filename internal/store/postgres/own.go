package postgres

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"strings"

	"github.com/jackc/pgx/v5/pgconn"

	"evensprout/internal/grow"
	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/store/setwise"
)

// own makes databases on the server of a URL.
type own struct {
	*database
	driver Driver
	given  string // the URL
}

// Own connects to the server's database for administration, so that the given one need
// not be there, and may be copied.
func (d Driver) Own(ctx context.Context, u string) (store.Own, error) {
	place := d.Describe(u)
	if _, err := pgconn.ParseConfig(u); err != nil {
		_, err := d.Open(ctx, u)
		return nil, err
	}
	s, err := d.Open(ctx, store.WithDatabase(u, "postgres"))
	if err != nil && place.Name != "postgres" {
		var fault *store.Fault
		if !errors.As(err, &fault) || fault.Kind == store.Unreachable {
			return nil, err
		}
		if s, err = d.Open(ctx, u); err != nil {
			return nil, err
		}
	}
	if err != nil {
		return nil, err
	}
	return &own{s.(*database), d, u}, nil
}

func (o *own) URL(name string) string { return store.WithDatabase(o.given, name) }

func (o *own) Create(ctx context.Context, name string) error {
	err := o.make(ctx, "CREATE DATABASE "+quote(name)+" TEMPLATE template0 ENCODING 'UTF8'")
	if err != nil && strings.Contains(err.Error(), "22023") { // the cluster's locale has another encoding
		err = o.make(ctx, "CREATE DATABASE "+quote(name))
	}
	return err
}

func (o *own) make(ctx context.Context, sql string) error {
	_, err := o.Exec(ctx, sql)
	var fault *store.Fault
	if errors.As(err, &fault) && fault.Kind == store.Denied {
		return &store.Fault{Kind: store.Denied, Err: fault.Err, Message: "this user may not make databases", Hint: "ALTER ROLE ... CREATEDB lets it; during --shared needs none"}
	}
	return err
}

func (o *own) Copy(ctx context.Context, from, name string) error {
	return o.make(ctx, "CREATE DATABASE "+quote(name)+" TEMPLATE "+quote(from))
}

func (o *own) CopyGiven(ctx context.Context, name string) error {
	from := o.driver.Describe(o.given).Name
	err := o.Copy(ctx, from, name)
	if err != nil && strings.Contains(err.Error(), "55006") {
		return &store.Fault{Kind: store.Locked, Err: err, Message: fmt.Sprintf("the database %s cannot be copied while other programs are connected to it", from),
			Hint: "end their connections; or make a fresh database from the schema: --schema schema.sql, or --prepare 'your migration command'"}
	}
	if err != nil {
		return err
	}
	return o.in(ctx, name, func(c *database) error {
		_, err := c.Exec(ctx, "DROP SCHEMA IF EXISTS evensprout CASCADE")
		return err
	})
}

// in does something in one of the databases.
func (o *own) in(ctx context.Context, name string, do func(*database) error) error {
	s, err := o.driver.Open(ctx, o.URL(name))
	if err != nil {
		return err
	}
	return errors.Join(do(s.(*database)), s.Close())
}

func (o *own) Empty(ctx context.Context, name string, tables []*schema.Table) error {
	return o.in(ctx, name, func(c *database) error {
		var names []string
		for _, t := range tables {
			names = append(names, tableName(t))
		}
		_, err := c.Exec(ctx, "TRUNCATE "+strings.Join(names, ", ")+" RESTART IDENTITY")
		return err
	})
}

// Run runs a script as one that the program for dumps writes, too.
func (o *own) Run(ctx context.Context, name, script string) error {
	config, err := pgconn.ParseConfig(o.URL(name))
	if err != nil {
		return err
	}
	c, err := pgconn.ConnectConfig(ctx, config)
	if err != nil {
		return connectFault(ctx, o.place, err)
	}
	defer c.Close(context.WithoutCancel(ctx))
	script = store.WithoutClientLines(strings.TrimPrefix(script, "\ufeff"), `\restrict`, `\unrestrict`, `\set`, `\echo`, `\encoding`)
	_, err = c.Exec(ctx, script).ReadAll()
	var server *pgconn.PgError
	if errors.As(err, &server) {
		return &store.ScriptError{Line: lineOf(script, int(server.Position)), Message: server.Message + " [" + server.Code + "]"}
	}
	return err
}

// lineOf is the line of a character, from 1; 0 if that is not known.
func lineOf(script string, position int) int {
	if position == 0 {
		return 0
	}
	line := 1
	for i, r := range []rune(script) {
		if i >= position-1 {
			break
		}
		if r == '\n' {
			line++
		}
	}
	return line
}

const markWord = "evensprout: "

func (o *own) Mark(ctx context.Context, name, word string) error {
	_, err := o.Exec(ctx, "COMMENT ON DATABASE "+quote(name)+" IS "+string(store.AppendQuoted(nil, markWord+word)))
	return err
}

func (o *own) List(ctx context.Context) ([]store.OwnDatabase, error) {
	text := &schema.Column{Kind: schema.Text}
	var out []store.OwnDatabase
	err := o.Query(ctx, "SELECT d.datname, coalesce(shobj_description(d.oid, 'pg_database'), '') FROM pg_database d WHERE d.datname LIKE 'evensprout\\_%' ORDER BY 1", nil, []*schema.Column{text, text}, func(row []grow.Value) error {
		out = append(out, store.OwnDatabase{Name: strings.Clone(row[0].S), Mark: strings.Clone(strings.TrimPrefix(row[1].S, markWord))})
		return nil
	})
	return out, err
}

func (o *own) Drop(ctx context.Context, name string) error {
	if _, err := o.Exec(ctx, "DROP DATABASE IF EXISTS "+quote(name)+" WITH (FORCE)"); err == nil {
		return nil
	}
	// Servers before version 13, and users that may not end the sessions of others.
	o.Exec(ctx, "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE datname = $1", setwise.Arg{Value: grow.String(name)})
	_, err := o.Exec(ctx, "DROP DATABASE IF EXISTS "+quote(name))
	return err
}

func (o *own) Hold(ctx context.Context, name string) (bool, error) {
	holder, err := o.Lock(ctx, name)
	return holder == "", err
}

func (o *own) Release(ctx context.Context, name string) error { return o.Unlock(ctx, name) }

// Variables are what libpq, and what is built on it, reads, and a URL for JDBC.
func (Driver) Variables(u string) []store.Variable {
	c, err := pgconn.ParseConfig(u)
	if err != nil {
		return nil
	}
	port := fmt.Sprint(c.Port)
	list := store.Plain(u, c.Host, port, c.User, c.Password, c.Database)
	list = append(list, store.Variable{Name: "PGHOST", Value: c.Host}, store.Variable{Name: "PGPORT", Value: port}, store.Variable{Name: "PGUSER", Value: c.User}, store.Variable{Name: "PGDATABASE", Value: c.Database})
	if c.Password != "" {
		list = append(list, store.Variable{Name: "PGPASSWORD", Value: c.Password})
	}
	if parsed, err := url.Parse(u); err == nil {
		if mode := parsed.Query().Get("sslmode"); mode != "" {
			list = append(list, store.Variable{Name: "PGSSLMODE", Value: mode})
		}
	}
	if !strings.HasPrefix(c.Host, "/") {
		list = append(list, store.Variable{Name: "JDBC_DATABASE_URL", Value: fmt.Sprintf("jdbc:postgresql://%s/%s", (&url.URL{Host: c.Host + ":" + port}).Host, url.PathEscape(c.Database))},
			store.Variable{Name: "JDBC_DATABASE_USERNAME", Value: c.User}, store.Variable{Name: "JDBC_DATABASE_PASSWORD", Value: c.Password})
	}
	return list
}
