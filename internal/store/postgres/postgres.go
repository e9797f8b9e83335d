// Package postgres is the store for PostgreSQL 12 and newer.
package postgres

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"strings"
	"sync/atomic"
	"time"

	"github.com/jackc/pgx/v5/pgconn"

	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/store/setwise"
	"evensprout/internal/value"
)

// Driver opens PostgreSQL databases: postgres://user@host/database.
type Driver struct {
	// Dial makes connections in place of the network, for tests. It gets the host as the
	// URL has it; nil: the network.
	Dial func(ctx context.Context, network, address string) (net.Conn, error)
	// Watch is called for each statement as it ends, by several connections at a time; it may be nil.
	Watch func(store.Statement)
}

// Schemes are the first parts of PostgreSQL URLs.
func (Driver) Schemes() []string { return []string{"postgres", "postgresql"} }

// Beside returns the URL: it names no file.
func (Driver) Beside(url, _ string) string { return url }

// Describe reads a URL.
func (Driver) Describe(u string) store.Place {
	a, err := parse(u)
	if err != nil {
		return store.Place{Hosts: []string{store.UnknownHost}, Shown: "postgres:...", Err: err}
	}
	return a.place()
}

const (
	connectWait = 10 * time.Second
	// endWait is how long the end of an interrupted session is waited for.
	endWait  = 3 * time.Second
	lockWait = "10s" // for other programs' locks
)

// session is what every connection sets for itself, whatever the server's defaults.
var session = []string{
	"SET client_encoding = 'UTF8'", "SET TimeZone = 'UTC'", "SET DateStyle = 'ISO, YMD'", "SET IntervalStyle = " +
		"'postgres'",
	"SET bytea_output = 'hex'", "SET standard_conforming_strings = on", "SET extra_float_digits = 1", "SET " +
		"lock_timeout = '" + lockWait + "'",
	"SET statement_timeout = 0", "SET idle_in_transaction_session_timeout = 0", "SET session_replication_role = " +
		"'origin'",
	"SET synchronize_seqscans = off", "SET client_min_messages = error",
	"SET default_transaction_isolation = 'read committed'", "SET xmloption = 'content'",
	// Our statements look rows of a stage up by their keys: with the usual costs the
	// planner reads the whole table for a few thousand of them.
	"SET random_page_cost = 1.1", "SET work_mem = '64MB'", "SET temp_buffers = '32MB'",
	// The planner believes that a table has one row if it was analyzed while it was empty, or if its rows are wider
	// than a page. Then it keeps that row, and reads all that it kept once for each staged one: 100,000 rows took
	// minutes.
	"SET enable_material = off",
}

// Open connects.
func (d Driver) Open(ctx context.Context, u string) (store.Store, error) {
	a, err := parse(u)
	if err != nil {
		return nil, err
	}
	return d.open(ctx, a)
}

func (d Driver) open(ctx context.Context, a *address) (*database, error) {
	sent := &atomic.Int64{}
	connect := func(ctx context.Context) (*pgconn.PgConn, error) {
		return a.connect(ctx, func(c *pgconn.Config) {
			dial := c.DialFunc
			if d.Dial != nil {
				dial = d.Dial
				c.LookupFunc = func(_ context.Context, host string) ([]string, error) { return []string{host}, nil }
			}
			c.DialFunc = func(ctx context.Context, network, address string) (net.Conn, error) {
				c, err := dial(ctx, network, address)
				if err != nil {
					return nil, err
				}
				return store.Counted{Conn: c, Sent: sent}, nil
			}
		})
	}
	conn, err := connect(ctx)
	if err != nil {
		return nil, err
	}
	db := &database{conn: conn, sent: sent, at: a, tally: store.Tally{Watch: d.Watch}}
	if db.notice, err = refuseVersion(ctx, conn, a.place().At()); err == nil {
		err = refusePooler(ctx, conn, a.place().At(), connect)
	}
	if err != nil {
		db.Close()
		return nil, db.fault(err)
	}
	for _, sql := range session {
		if sql == "SET session_replication_role = 'origin'" {
			// Only a superuser may set it, and only one may have changed it.
			db.conn.Exec(ctx, "DO $$ BEGIN PERFORM pg_catalog.set_config('session_replication_role', 'origin', "+
				"false); EXCEPTION WHEN insufficient_privilege THEN NULL; END $$").
				ReadAll()
			continue
		}
		if _, err := conn.Exec(ctx, sql).ReadAll(); err != nil {
			db.Close()
			return nil, db.fault(err)
		}
	}

	if err := db.learnGuard(ctx); err != nil {
		db.Close()
		return nil, db.fault(err)
	}
	// Servers before version 14 and 17 do not know them, and would log an error. A lock of ours ends with the session.
	for _, newer := range []string{"idle_session_timeout", "transaction_timeout"} {
		db.conn.Exec(ctx, "SELECT CASE WHEN pg_catalog.current_setting('"+newer+"', true) IS NOT NULL "+
			"THEN pg_catalog.set_config('"+newer+"', '0', false) END").ReadAll()
	}
	if in, err := conn.Exec(ctx, "SELECT pg_catalog.pg_is_in_recovery()").ReadAll(); err == nil && len(in) == 1 {
		db.standby = len(in[0].Rows) == 1 && string(in[0].Rows[0][0]) == "t"
	}
	if err := db.setPath(ctx); err != nil {
		db.Close()
		return nil, err
	}
	return db, nil
}

// learnGuard asks whether transactions are read-only unless they say otherwise, and who says so: that is respected.
func (d *database) learnGuard(ctx context.Context) error {
	const sql = `SELECT s.source, pg_catalog.current_database(), current_user FROM pg_catalog.pg_settings s
		WHERE s.name OPERATOR(pg_catalog.=) 'default_transaction_read_only' AND s.setting OPERATOR(pg_catalog.=) 'on'`
	results, err := d.conn.Exec(ctx, sql).ReadAll()
	if err != nil || len(results) == 0 || len(results[0].Rows) == 0 {
		return err
	}
	row := results[0].Rows[0]
	name, user := d.Quote(string(row[1])), d.Quote(string(row[2]))
	by, hint := "in the server's configuration", "ask whoever runs the server for a database to write to"
	switch string(row[0]) {
	case "client", "session":
		by, hint = "by the URL or PGOPTIONS", "remove it there if rows are to be written"
	case "database":
		by, hint = "for this database", "if rows are to be written: ALTER DATABASE "+name+" RESET default_transaction_read_only"
	case "user":
		by, hint = "for this user", "if this user is to write: ALTER ROLE "+user+" RESET default_transaction_read_only"
	case "database user":
		by, hint = "for this user in this database", "if this user is to write: ALTER ROLE "+user+" IN DATABASE "+name+" RESET default_transaction_read_only"
	}
	d.guard = store.Guarded("default_transaction_read_only", by, hint)
	return nil
}

// outOfMemory is also what a server says that has no room for another lock.
const outOfMemory = "53200"

func noMemory(e *pgconn.PgError) *store.Fault {
	return &store.Fault{
		Kind:    store.Full,
		Message: "the server has no memory left for this",
		Err:     errors.New(e.Message + " [" + e.Code + "]"),
		Hint: "other transactions may hold too many locks: end them; or the plan has thousands of tables: raise " +
			"max_locks_per_transaction (512 is enough to load 10,000 tables with two indexes each)",
	}
}

func connectFault(ctx context.Context, p store.Place, err error) error {
	var server *pgconn.PgError
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	where := p.At()
	if errors.As(err, &server) {
		switch {
		case server.Code == "3D000":
			return &store.Fault{
				Kind:    store.Missing,
				Message: "the server at " + where + " has no such database",
				Hint:    "create the database and run your migrations first",
			}
		case server.Code == "42501":
			return &store.Fault{
				Kind:    store.Denied,
				Message: server.Message,
				Hint:    "GRANT CONNECT ON DATABASE ... TO the user of the URL lets it in",
			}
		case strings.HasPrefix(server.Code, "28"):
			return &store.Fault{
				Kind:    store.Denied,
				Message: "the server at " + where + " rejects this user: " + server.Message,
				Hint:    "check the user and password in the URL, and the server's rules for connections",
			}
		case server.Code == outOfMemory:
			return noMemory(server)
		case server.Code == "53300":
			return &store.Fault{
				Kind:    store.Unreachable, // others may end their connections
				Message: server.Message,
				Hint:    "close other connections, or try again",
			}
		}
		return &store.Fault{
			Kind:    store.Unreachable,
			Message: "the server at " + where + " refuses the connection: " + server.Message,
		}
	}

	if elsewhere := p.Elsewhere(); len(elsewhere) > 0 &&
		strings.Contains(err.Error(), "server refused TLS connection") {
		return &store.Fault{
			Kind:    store.Refused,
			Message: "the server at " + where + " accepts no encrypted connection, so the password was not sent",
			Hint:    "enable encryption on the server, or allow a plain connection in the URL with ?sslmode=disable",
		}
	}
	if f := store.CertificateFault(where, err); f != nil {
		return f
	}
	text := err.Error() // ends in the cause, after ours and the addresses tried
	if i := strings.LastIndex(text, ": "); i >= 0 {
		text = text[i+2:]
	}
	return &store.Fault{
		Kind:    store.Unreachable,
		Message: fmt.Sprintf("no PostgreSQL server answers at %s: %s", where, text),
		Hint:    "check host and port in the URL, and that the server is running",
	}
}

// database is one connection.
type database struct {
	sqlText
	conn        *pgconn.PgConn
	sent        *atomic.Int64 // bytes that went to the server
	at          *address
	path        string       // the user's search path
	schemas     []string     // of it
	owned       bool         // the search path is empty for the moment
	guard       *store.Fault // why nothing is written; nil if writing is allowed
	standby     bool         // the server was one when the connection began
	notice      string       // that the server is newer than those of the tests; mostly empty
	tally       store.Tally
	constraints map[string]constraint // by table and name, from the last survey
	powers      *string               // why nothing is asked with this user's rights; empty if it may be
	// what conditions call that belongs to others, by the condition; from the last survey
	calls       map[string]string
	probes      setwise.Probes
	tables      *schema.Database
	partitioned map[string]bool // tables, by name
	journal     *store.Journal  // nil until it is found
	names       int
	prepared    map[string]string // names, by statement; empty of one that ran once
}

type constraint struct {
	kind    store.ViolationKind
	columns []string
	name    string // for people
	refers  string
}

func (d *database) Traits() store.Traits {
	return store.Traits{CountsMatches: true, Loosens: true, Rebuilds: true, Engine: "PostgreSQL", Writers: 64,
		Notice: d.notice}
}

func (d *database) Sizes(ctx context.Context) (map[string]int64, error) {
	visible, err := d.visible(ctx)
	if err != nil {
		return nil, err
	}
	var sizes map[string]int64
	err = d.own(ctx, func() error {
		sizes, err = setwise.Sizes(ctx, d, `SELECT c.oid, n.nspname || chr(31) || c.relname,
		CASE WHEN c.relkind = 'p' THEN (SELECT coalesce(sum(pg_total_relation_size(p.relid)), 0)::bigint
		  FROM pg_partition_tree(c.oid) p) ELSE pg_total_relation_size(c.oid) END
		FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE c.relkind IN ('r', 'p')`,
			func(oid, table string) string {
				schema, name, _ := strings.Cut(table, "\x1f")
				if visible[oid] {
					return name
				}
				return schema + "." + name
			})
		return err
	})
	return sizes, err
}

func (d *database) Statements() []store.Statement { return d.tally.Statements() }

func (d *database) Close() error {
	ctx, cancel := context.WithTimeout(context.Background(), connectWait)
	defer cancel()
	err := d.conn.Close(ctx)
	// The driver ends a session in the background if its statement was interrupted. A
	// program that exits before that leaves the session, and its locks, to the server.
	select {
	case <-d.conn.CleanupDone():
	case <-time.After(endWait):
	}
	return err
}

// fault says what an error means; others pass.
func (d *database) fault(err error) error {
	var known *store.Fault
	var violation *store.Violation
	if err == nil || errors.As(err, &known) || errors.As(err, &violation) {
		return err
	}
	var e *pgconn.PgError
	if !errors.As(err, &e) {
		return d.broken(err)
	}
	words := *e
	e = &words
	e.Message, e.Detail = store.Brief(e.Message), store.Brief(e.Detail)
	if e.Code == "42501" && e.Routine == "ExecWithCheckOptions" { // the code is also that of other rights
		return rowSecurity(e)
	}
	f := &store.Fault{Err: errors.New(e.Message + " [" + e.Code + "]")}
	switch {
	case e.Code == serializationFailure || e.Code == deadlock:
		f.Kind, f.Message = store.Transient, "the server ended the transaction because of another one"
	case e.Code == "55P03":
		f.Kind, f.Message, f.Hint = store.Locked, "another program holds a lock (waited "+lockWait+")", "end the "+
			"other program's transaction, and try again"
	case e.Code == "57014":
		f.Kind, f.Message = store.Interrupted, "interrupted"
	case strings.HasPrefix(e.Code, "57P") || strings.HasPrefix(e.Code, "08"):
		f.Kind, f.Message = store.Lost, "the server ended the connection"
	case e.Code == outOfMemory:
		return noMemory(e)
	case strings.HasPrefix(e.Code, "53"):
		f.Kind, f.Message, f.Hint = store.Full, "the server has no space left", "free space on its disk, or load "+
			"fewer rows"
	case d.standby && (e.Code == readOnly || e.Code == notSupported):
		f.Kind, f.Message = store.ReadOnly, "the server is a standby, which takes no writes"
		f.Hint = "name its primary in the URL, or both: postgres://user@host1,host2/database"
		if len(servers(d.at.config)) > 1 {
			f.Kind = store.Lost // it may be about to take over, or another one that has: to be seen by a new connection
		}
	case e.Code == readOnly && d.guard != nil:
		*f = *d.guard
	case e.Code == readOnly:
		f.Kind, f.Message = store.ReadOnly, "the database is read-only"
		f.Hint = "name a database that takes writes"
	case e.Code == "42501":
		f.Kind, f.Message, f.Hint = store.Denied, "the server does not allow this user to do that", "the user needs "+
			"SELECT, INSERT, UPDATE and DELETE on the tables, SELECT and UPDATE on their sequences, and TEMPORARY "+
			"on the database"
	default:
		return d.violation(e)
	}
	return f
}

// Codes of what a server cannot do because it only reads.
const readOnly, notSupported = "25006", "0A000"

// Codes of errors after which a transaction can be run again.
const serializationFailure, deadlock = "40001", "40P01"

// broken says that an error that is not the server's ended the connection; others pass.
func (d *database) broken(err error) error {
	if f := d.at.flooded.Load(); f != nil && d.conn.IsClosed() {
		return f
	}
	if !d.conn.IsClosed() && !pgconn.SafeToRetry(err) {
		return err
	}
	return &store.Fault{
		Kind:    store.Lost,
		Message: "the connection to the server broke",
		Err:     err,
		Hint:    "everything that was not committed is rolled back by the server",
	}
}

// rowSecurity is the violation of a policy for rows.
func rowSecurity(e *pgconn.PgError) error {
	return &store.Violation{
		Kind:       store.Raised,
		Row:        -1,
		Constraint: "row-level security",
		Code:       e.Code,
		Message:    e.Message,
	}
}

// violation makes a violation of a server's error by its code; other errors pass.
func (d *database) violation(e *pgconn.PgError) error {
	v := &store.Violation{Row: -1, Constraint: e.ConstraintName, Code: e.Code, Message: e.Message}
	switch e.Code {
	case "23505":
		v.Kind = store.Unique
	case "23503", "23001":
		v.Kind = store.ForeignKey
	case "23502":
		v.Kind, v.Constraint, v.Columns = store.NotNull, "NOT NULL", []string{e.ColumnName}
	case "23514":
		v.Kind = store.Check
	case "23P01":
		v.Kind = store.Exclusion
	case "22001":
		v.Kind = store.TooLong
	case "22003":
		v.Kind = store.OutOfRange
	case "P0001", "P0000", "09000", "38000", "39000":
		v.Kind = store.Raised
		v.Constraint = "trigger"
	case "428C9", "42804":
		v.Kind = store.BadValue
	case "21000": // a row would be changed twice by one statement
		v.Kind, v.Constraint = store.Unique, "match"
	default:
		if !strings.HasPrefix(e.Code, "22") {
			return fmt.Errorf("%s [%s]", e.Message, e.Code)
		}
		v.Kind = store.BadValue
	}

	if e.Detail != "" {
		v.Message += ". " + e.Detail
	}
	for _, t := range d.tablesKnown() {
		if t.LocalName() == e.TableName && (t.Schema == e.SchemaName || e.SchemaName == "") {
			v.Table = t.Name
			break
		}
	}

	if c, ok := d.constraints[v.Table+"\x00"+e.ConstraintName]; ok && e.ConstraintName != "" {
		v.Columns, v.Constraint, v.Refers = c.columns, c.name, c.refers
	}
	return v
}

func (d *database) tablesKnown() []*schema.Table {
	if d.tables == nil {
		return nil
	}
	return d.tables.Tables
}

// maxPrepared bounds the statements that a server keeps ready for a session.
const maxPrepared = 200

// run runs a statement. One that comes back is prepared, so that the server reads and
// plans it once; not those over temporary tables, which go away.
func (d *database) run(ctx context.Context, sql string, args []setwise.Arg) (*pgconn.ResultReader, error) {
	name, seen := d.prepared[sql]
	switch {
	case len(args) == 0 || strings.Contains(sql, "pg_temp."):
	case name != "":
		return d.conn.ExecPrepared(ctx, name, params(args), nil, nil), nil
	case seen && d.conn.TxStatus() != 'E':
		d.names++
		name = fmt.Sprintf("evensprout_%d", d.names)
		if _, err := d.conn.Prepare(ctx, name, sql, nil); err != nil {
			return nil, err
		}
		d.prepared[sql] = name
		return d.conn.ExecPrepared(ctx, name, params(args), nil, nil), nil
	case len(d.prepared) < maxPrepared:
		if d.prepared == nil {
			d.prepared = map[string]string{}
		}
		d.prepared[sql] = "" // the next time
	}
	return d.conn.ExecParams(ctx, sql, params(args), nil, nil, nil), nil
}

// Exec runs a statement.
func (d *database) Exec(ctx context.Context, sql string, args ...setwise.Arg) (int64, error) {
	began := time.Now()
	reader, err := d.run(ctx, sql, args)
	if err != nil {
		return 0, d.err(ctx, err)
	}
	r := reader.Read()
	n := r.CommandTag.RowsAffected()
	d.tally.Note(sql, n, time.Since(began), setwise.Values(args))
	return n, d.err(ctx, r.Err)
}

func (d *database) err(ctx context.Context, err error) error {
	if err != nil && ctx.Err() != nil {
		return context.Cause(ctx)
	}
	return d.fault(err)
}

// Query runs a query.
func (d *database) Query(
	ctx context.Context,
	sql string,
	args []setwise.Arg,
	columns []*schema.Column,
	show func([]value.Value) error,
) error {
	began := time.Now()
	r, err := d.run(ctx, sql, args)
	if err != nil {
		return d.err(ctx, err)
	}
	row := make([]value.Value, len(columns))
	n := int64(0)
	var failed error
	for r.NextRow() {
		if failed != nil {
			continue // the rest must be read before the connection can be used again
		}
		setwise.ReadRow(columns, r.Values(), row)
		n++
		failed = show(row)
	}
	_, err = r.Close()
	d.tally.Note(sql, n, time.Since(began), setwise.Values(args))
	if err = d.err(ctx, err); err != nil {
		return err
	}
	return failed
}

func params(args []setwise.Arg) [][]byte {
	out := make([][]byte, len(args))
	for i, a := range args {
		if !a.Value.IsNull() {
			out[i] = appendText([]byte{}, &a.Value, a.Column) // nil would be NULL
		}
	}
	return out
}

// appendText writes a value as the server reads it.
func appendText(b []byte, v *value.Value, c *schema.Column) []byte {
	if v.Type == value.Bytes || c != nil && c.Kind == schema.Bytes {
		return hex.AppendEncode(append(b, `\x`...), []byte(v.S))
	}
	return v.AppendText(b)
}

// quote makes an identifier of any name.
func quote(name string) string { return `"` + strings.ReplaceAll(name, `"`, `""`) + `"` }

func tableName(t *schema.Table) string {
	if t.Schema == "" {
		return quote(t.LocalName())
	}
	return quote(t.Schema) + "." + quote(t.LocalName())
}

func (d *database) Qualified(ctx context.Context, do func() error) error { return d.own(ctx, do) }

func (d *database) Count(ctx context.Context, t *schema.Table) (int64, error) {
	return setwise.Count(ctx, d, t)
}

func (d *database) Spread(ctx context.Context, t *schema.Table, c *schema.Column) (*store.Spread, error) {
	return setwise.Spread(ctx, d, t, c)
}

func (d *database) Select(ctx context.Context, q store.Query, show func([]value.Value) error) error {
	return setwise.Select(ctx, d, q, show)
}

// Journal finds the tool's own tables, in a schema of their own.
func (d *database) Journal(ctx context.Context, create bool) (*store.Journal, error) {
	if create && d.guard != nil {
		return nil, d.guard
	}
	if d.journal != nil && (!create || d.journal.Occasions != nil) {
		return d.journal, nil // it does not go away
	}
	err := d.own(ctx, func() (err error) {
		d.journal, err = setwise.OpenJournal(ctx, d, setwise.Journal(func(name string) *schema.Table {
			return &schema.Table{Schema: "evensprout", Name: "evensprout." + name, Local: name}
		}), create, "CREATE SCHEMA IF NOT EXISTS evensprout")
		return err
	})
	if d.journal != nil {
		d.journal.Path = d.schemas
	}
	return d.journal, err
}

func (d *database) Exists(t *schema.Table) (string, []setwise.Arg) {
	return "SELECT count(*) FROM pg_catalog.pg_class c JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace " +
			"WHERE n.nspname = $1 AND c.relname = $2",
		[]setwise.Arg{
			{Value: value.String(t.Schema)},
			{Value: value.String(t.LocalName())},
		}
}

// declared are the widest types of kinds of columns.
var declared = map[schema.Kind]string{
	schema.Bytes: "bytea", schema.Decimal: "numeric", schema.Real: "float8", schema.Boolean: "bool",
	schema.Date: "date", schema.Time: "time(6)", schema.UUID: "uuid", schema.JSON: "jsonb",
}

// Fresh is empty. Under READ COMMITTED each statement sees what is committed, and under the other levels the engine
// refuses to delete a row, or to make its reference NULL, if the transaction does not see it.
func (*database) Fresh() string { return "" }

// Lock takes an advisory lock of the session.
func (d *database) Lock(ctx context.Context, name string) (string, error) {
	text, key := &schema.Column{Kind: schema.Text}, []setwise.Arg{{Value: value.String(name)}}
	holder := ""
	err := d.catalogue(
		ctx,
		"SELECT CASE WHEN pg_try_advisory_lock(hashtextextended($1, 42)) THEN '' ELSE 'another session' END",
		key,
		[]*schema.Column{text},
		func(row []value.Value) error {
			holder = row[0].S
			return nil
		},
	)
	if err != nil || holder == "" {
		return holder, err
	}
	err = d.catalogue(
		ctx,
		`SELECT 'process ' || a.pid || ' of ' || coalesce(a.usename,
  '?') || coalesce(' from ' || host(a.client_addr), '') || ', connected since ' || to_char(a.backend_start,
  'YYYY-MM-DD HH24:MI:SS')
		FROM pg_locks l JOIN pg_stat_activity a ON a.pid = l.pid
		WHERE l.locktype = 'advisory' AND l.granted AND l.objsubid = 1 AND l.database = (SELECT oid FROM pg_database
		  WHERE datname = current_database())
		AND (l.classid::bigint << 32 | l.objid::bigint) = hashtextextended($1, 42)`,
		key,
		[]*schema.Column{text},
		func(row []value.Value) error {
			holder = row[0].S
			return nil
		},
	)
	return holder, err
}

func (d *database) Unlock(ctx context.Context, name string) error {
	return d.texts(ctx, 1, "SELECT pg_advisory_unlock(hashtextextended($1, 42))::text", args(name), func([]string) {})
}

// Reserve moves a sequence forward.
func (d *database) Reserve(ctx context.Context, t *schema.Table, c *schema.Column, last int64) error {
	var sequence string
	sql := `SELECT coalesce(pg_get_serial_sequence($1, $2), (
		SELECT s.oid::regclass::text FROM pg_attrdef f
		JOIN pg_attribute a ON a.attrelid = f.adrelid AND a.attnum = f.adnum AND a.attname = $2
		JOIN pg_depend p ON p.classid = 'pg_attrdef'::regclass AND p.objid = f.oid
		  AND p.refclassid = 'pg_class'::regclass
		JOIN pg_class s ON s.oid = p.refobjid AND s.relkind = 'S'
		WHERE f.adrelid = $1::regclass LIMIT 1))`
	err := d.texts(ctx, 1, sql, args(d.Table(t), c.Name), func(r []string) { sequence = strings.Clone(r[0]) })
	if err != nil || sequence == "" {
		return err
	}
	return d.texts(
		ctx,
		1,
		"SELECT setval('"+strings.ReplaceAll(
			sequence,
			"'",
			"''",
		)+"', $1::bigint)::text FROM "+sequence+" WHERE last_value < $1::bigint",
		[]setwise.Arg{{Value: value.Int(last)}},
		func([]string) {},
	)
}

// LastKey is the key that the last INSERT was given.
func (d *database) LastKey(ctx context.Context) (value.Value, error) {
	n, err := setwise.Number(ctx, d, "SELECT pg_catalog.lastval()")
	return value.Int(n), err
}
