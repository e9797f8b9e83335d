package postgres

import (
	"cmp"
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"evensprout/internal/schema"
	"evensprout/internal/store"
)

// own makes databases on the server of a URL.
type own struct {
	db     *database
	driver Driver
	given  *address
}

// Close closes the connection.
func (o *own) Close() error { return o.db.Close() }

// OpenScratch connects to the server's database for administration, so that the given one need
// not be there, and may be copied. Where the user may not, it connects to the given one.
func (d Driver) OpenScratch(ctx context.Context, u string) (store.Scratch, error) {
	a, err := parse(u)
	if err != nil {
		return nil, err
	}
	if _, err := a.named(store.OwnPrefix).URL(); err != nil {
		return nil, err
	}
	s, err := d.open(ctx, a.named("postgres"))
	if err != nil && a.config.Database != "postgres" {
		var fault *store.Fault
		if !errors.As(err, &fault) || fault.Kind == store.Unreachable {
			return nil, err
		}
		s, err = d.open(ctx, a)
	}
	if err != nil {
		return nil, err
	}
	return &own{s, d, a}, nil
}

func (o *own) URL(name string) (string, error) { return o.given.named(name).URL() }

// Open connects by the driver's own configuration, and asks the server where it is.
func (o *own) Open(ctx context.Context, name string) (store.Store, error) { return o.open(ctx, name) }

func (o *own) open(ctx context.Context, name string) (*database, error) {
	d, err := o.driver.open(ctx, o.given.named(name))
	if err != nil {
		return nil, err
	}
	if err := d.isOwn(ctx, name); err != nil {
		return nil, errors.Join(err, d.Close())
	}
	return d, nil
}

// isOwn asks the server whether the current database has a name, is this user's and
// carries the mark.
func (d *database) isOwn(ctx context.Context, name string) error {
	current, mark := "", ""
	err := d.texts(
		ctx,
		2,
		"SELECT d.datname::text, "+markSQL+" FROM pg_catalog.pg_database d WHERE d.datname = "+
			"pg_catalog.current_database()",
		nil,
		func(r []string) {
			current, mark = strings.Clone(r[0]), strings.Clone(r[1])
		},
	)
	switch {
	case err != nil:
		return err
	case current != name:
		return store.NotScratch(name, "the connection leads to the database "+current)
	case mark == "":
		return store.NotScratch(name, "this program did not create it for this user")
	}
	return nil
}

// markWord begins the comment of every database that this program makes.
const markWord = "evensprout: "

// markSQL is the mark of the database d: empty without one, and of another user's database.
const markSQL = "CASE WHEN d.datdba = (SELECT r.oid FROM pg_catalog.pg_roles r WHERE r.rolname = current_user) " +
	"THEN coalesce(substring(pg_catalog.shobj_description(d.oid, 'pg_database') from '^" + markWord + "(.*)$'), " +
	"'') ELSE '' END"

func (o *own) Create(ctx context.Context, name string) error {
	err := o.make(ctx, name, " TEMPLATE template0 ENCODING 'UTF8'")
	if err != nil && strings.Contains(err.Error(), "22023") { // the cluster's locale has another encoding
		err = o.make(ctx, name, "")
	}
	return err
}

// make makes a database under a name for the time being, marks it, and gives it its name:
// so one of that name is marked at every moment, whenever this program is killed.
func (o *own) make(ctx context.Context, name, how string) (err error) {
	var random [8]byte
	rand.Read(random[:])
	raw := store.OwnNewPrefix + hex.EncodeToString(random[:])
	if _, err := o.Hold(ctx, raw); err != nil { // so that nobody sweeps it away
		return err
	}
	defer func() { err = errors.Join(err, o.Release(context.WithoutCancel(ctx), raw)) }()
	_, err = o.db.Exec(ctx, "CREATE DATABASE "+quote(raw)+how)
	var fault *store.Fault
	if errors.As(err, &fault) && fault.Kind == store.Denied {
		return &store.Fault{
			Kind:    store.Denied,
			Err:     fault.Err,
			Message: "this user may not create databases",
			Hint:    "ALTER ROLE ... CREATEDB allows it; during --shared needs no such right",
		}
	}
	if err != nil {
		return err
	}
	if err = o.comment(ctx, raw, store.MarkMade); err == nil {
		_, err = o.db.Exec(ctx, "ALTER DATABASE "+quote(raw)+" RENAME TO "+quote(name))
	}
	if err != nil {
		_, gone := o.db.Exec(context.WithoutCancel(ctx), "DROP DATABASE "+quote(raw)) // the random name is this call's
		return errors.Join(err, gone)
	}
	return nil
}

// Copy copies one that is marked itself: nobody else's.
func (o *own) Copy(ctx context.Context, from, name string) error {
	if err := o.marked(ctx, from); err != nil {
		return err
	}
	return o.make(ctx, name, " TEMPLATE "+quote(from))
}

// marked asks the server whether a database is one of these.
func (o *own) marked(ctx context.Context, name string) error {
	all, err := o.List(ctx)
	if err != nil {
		return err
	}
	for _, d := range all {
		if d.Name == name && d.Mark != "" {
			return nil
		}
	}
	return store.NotScratch(name, "this program did not create it for this user")
}

// outsideSQL lists foreign tables, and the tables of which they are partitions or children.
const outsideSQL = `WITH RECURSIVE f (oid, root) AS (
  SELECT c.oid, c.oid FROM pg_catalog.pg_class c WHERE c.relkind = 'f'
  UNION SELECT f.oid, i.inhparent FROM f JOIN pg_catalog.pg_inherits i ON i.inhrelid = f.root)
SELECT DISTINCT n.nspname::text, c.relname::text, CASE WHEN c.oid = f.oid THEN '' ELSE pg_catalog.format('%I.%I',
  m.nspname, e.relname) END
FROM f JOIN pg_catalog.pg_class c ON c.oid = f.root JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace
JOIN pg_catalog.pg_class e ON e.oid = f.oid JOIN pg_catalog.pg_namespace m ON m.oid = e.relnamespace ORDER BY 1, 2, 3`

// CopyGiven copies the database as it is, and takes foreign tables out of the copy: through
// them its rows would be another server's.
func (o *own) CopyGiven(ctx context.Context, name string, external bool) error {
	from := o.given.config.Database
	err := o.make(ctx, name, " TEMPLATE "+quote(from))
	if err != nil && strings.Contains(err.Error(), "55006") {
		hint := "end their connections, or create a fresh database from the schema with  --schema schema.sql, or " +
			"--prepare 'your migration command'"
		if o.db.at.config.Database == from {
			hint = "this program itself must be, because the user may not connect to the database postgres: GRANT " +
				"CONNECT ON DATABASE postgres TO it; or use --schema or --prepare"
		}
		return &store.Fault{
			Kind:    store.Locked,
			Err:     err,
			Message: fmt.Sprintf("the database %s cannot be copied while other programs are connected to it", from),
			Hint:    hint,
		}
	}
	if err != nil {
		return err
	}
	return o.in(ctx, name, func(c *database) error {
		if _, err := c.Exec(ctx, "DROP SCHEMA IF EXISTS evensprout CASCADE"); err != nil || external {
			return err
		}
		var drop []string
		err := c.texts(ctx, 3, outsideSQL, nil, func(r []string) {
			if r[2] == "" {
				drop = append(drop, quote(r[0])+"."+quote(r[1]))
			}
		})
		if err != nil || len(drop) == 0 {
			return err
		}
		_, err = c.Exec(ctx, "DROP FOREIGN TABLE "+strings.Join(drop, ", ")+" CASCADE")
		return err
	})
}

// in does something in one of the databases.
func (o *own) in(ctx context.Context, name string, do func(*database) error) error {
	d, err := o.open(ctx, name)
	if err != nil {
		return err
	}
	return errors.Join(do(d), d.Close())
}

// Empty refuses tables that reach foreign ones: to empty them would empty those.
func (o *own) Empty(ctx context.Context, name string, tables []*schema.Table) error {
	return o.in(ctx, name, func(c *database) error {
		var names []string
		for _, t := range tables {
			names = append(names, tableName(t))
		}
		var reach error
		err := c.texts(ctx, 3, outsideSQL, nil, func(r []string) {
			for _, t := range tables {
				if reach == nil && t.Schema == r[0] && t.LocalName() == r[1] {
					reach = store.NotScratch(
						name,
						fmt.Sprintf(
							"the rows of its table %s are stored elsewhere (%s)",
							t.Name,
							cmp.Or(r[2], "a foreign table"),
						),
					)
				}
			}
		})
		if err := errors.Join(err, reach); err != nil {
			return err
		}
		_, err = c.Exec(ctx, "TRUNCATE "+strings.Join(names, ", ")+" RESTART IDENTITY")
		return err
	})
}

// Run runs a script as one that the program for dumps writes, too.
func (o *own) Run(ctx context.Context, name, script string) error {
	d := o.given.named(name)
	c, err := d.connect(ctx, nil)
	if err != nil {
		return err
	}
	defer c.Close(context.WithoutCancel(ctx))
	if err := (&database{conn: c}).isOwn(ctx, name); err != nil {
		return err
	}
	script = store.WithoutClientLines(
		strings.TrimPrefix(script, "\ufeff"),
		`\restrict`,
		`\unrestrict`,
		`\set`,
		`\echo`,
		`\encoding`,
	)
	return runPieces(ctx, c, script)
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

func (o *own) Mark(ctx context.Context, name, word string) error {
	if err := o.marked(ctx, name); err != nil {
		return err
	}
	return o.comment(ctx, name, word)
}

func (o *own) comment(ctx context.Context, name, word string) error {
	_, err := o.db.Exec(ctx, "COMMENT ON DATABASE "+quote(name)+" IS "+string(store.AppendQuoted(nil, markWord+word)))
	return err
}

func (o *own) List(ctx context.Context) ([]store.ScratchDatabase, error) {
	var out []store.ScratchDatabase
	err := o.db.texts(
		ctx,
		2,
		"SELECT d.datname::text, "+markSQL+" FROM pg_catalog.pg_database d WHERE "+
			"pg_catalog.starts_with(d.datname::text, '"+store.OwnPrefix+"') ORDER BY 1",
		nil,
		func(r []string) {
			out = append(out, store.ScratchDatabase{Name: strings.Clone(r[0]), Mark: strings.Clone(r[1])})
		},
	)
	return out, err
}

func (o *own) Sessions(ctx context.Context, name string) (n int64, err error) {
	err = o.db.texts(
		ctx,
		1,
		"SELECT count(*)::text FROM pg_catalog.pg_stat_activity WHERE datname = $1 AND pid <> "+
			"pg_catalog.pg_backend_pid() AND backend_type = 'client backend'",
		args(name),
		func(r []string) {
			n, err = strconv.ParseInt(r[0], 10, 64)
		},
	)
	return n, err
}

func (o *own) Drop(ctx context.Context, name string) error {
	there := false
	err := o.db.texts(
		ctx,
		1,
		"SELECT datname::text FROM pg_catalog.pg_database WHERE datname = $1",
		args(name),
		func([]string) { there = true },
	)
	if err != nil || !there {
		return err
	}
	if err := o.marked(ctx, name); err != nil {
		return err
	}
	if _, err := o.db.Exec(ctx, "DROP DATABASE IF EXISTS "+quote(name)+" WITH (FORCE)"); err == nil {
		return nil
	}

	// Servers before version 13, and users that may not end the sessions of others.
	o.db.Exec(
		ctx,
		"SELECT pg_catalog.pg_terminate_backend(pid) FROM pg_catalog.pg_stat_activity WHERE datname = $1",
		args(name)...)
	_, err = o.db.Exec(ctx, "DROP DATABASE IF EXISTS "+quote(name))
	return err
}

func (o *own) Hold(ctx context.Context, name string) (bool, error) {
	holder, err := o.db.Lock(ctx, name)
	return holder == "", err
}

func (o *own) Release(ctx context.Context, name string) error { return o.db.Unlock(ctx, name) }

// Variables are what libpq, and what is built on it, reads, and a URL for JDBC. Those that
// could lead elsewhere are taken away.
func (Driver) Variables(u string) []store.Variable {
	a, err := parse(u)
	if err != nil {
		return nil
	}
	c := a.config
	var hosts, ports []string
	mode := ""
	for _, s := range servers(c) {
		hosts, ports = append(hosts, s.host), append(ports, fmt.Sprint(s.port))
		if !s.socket() {
			mode = s.sslmode()
		}
	}

	host, port := strings.Join(hosts, ","), strings.Join(ports, ",")
	list := store.Address{
		URL:      u,
		Host:     host,
		Port:     port,
		User:     c.User,
		Password: c.Password,
		Name:     c.Database,
	}.Variables()
	for _, name := range []string{"PGHOSTADDR", "PGSERVICE", "PGSERVICEFILE", "PGPASSFILE", "PGOPTIONS", "PGSSLMODE",
		"PGPASSWORD", "PGTARGETSESSIONATTRS", "PGSSLNEGOTIATION", "PGCHANNELBINDING", "PGREQUIREAUTH"} {
		list = append(list, store.Variable{Name: name, Gone: true})
	}
	set := func(name, value string) {
		if value != "" {
			list = append(
				slices.DeleteFunc(list, func(v store.Variable) bool { return v.Name == name }),
				store.Variable{Name: name, Value: value},
			)
		}
	}
	set("PGHOST", host)
	set("PGPORT", port)
	set("PGUSER", c.User)
	set("PGDATABASE", c.Database)
	set("PGPASSWORD", c.Password)
	set("PGSSLMODE", mode)
	set("PGOPTIONS", c.RuntimeParams["options"])
	for parameter, name := range map[string]string{"sslrootcert": "PGSSLROOTCERT", "sslcert": "PGSSLCERT",
		"sslkey": "PGSSLKEY", "sslnegotiation": "PGSSLNEGOTIATION", "target_session_attrs": "PGTARGETSESSIONATTRS",
		"channel_binding": "PGCHANNELBINDING", "require_auth": "PGREQUIREAUTH"} {
		set(name, a.asked[parameter])
	}
	if !isSocket(c.Host) {
		query := url.Values{}
		if mode != "" {
			query.Set("sslmode", mode)
		}
		if file := a.asked["sslrootcert"]; file != "" {
			query.Set("sslrootcert", file)
		}
		var at []string
		for i, h := range hosts {
			at = append(at, net.JoinHostPort(h, ports[i]))
		}
		set(
			"JDBC_URL",
			fmt.Sprintf(
				"jdbc:postgresql://%s/%s?%s",
				strings.Join(at, ","),
				url.PathEscape(c.Database),
				query.Encode(),
			),
		)
		set("JDBC_DATABASE_USERNAME", c.User)
		set("JDBC_DATABASE_PASSWORD", c.Password)
	}
	return list
}
