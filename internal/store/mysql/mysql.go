// Package mysql is the store for MariaDB 10.5 and newer, and MySQL 8.
package mysql

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"errors"
	"fmt"
	"hash/fnv"
	"net"
	"regexp"
	"strings"
	"sync/atomic"
	"time"

	"github.com/go-sql-driver/mysql"

	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/store/setwise"
	"evensprout/internal/value"
)

// Driver opens MariaDB and MySQL databases: mysql://user@host/database.
type Driver struct {
	// Dial makes connections in place of the network, for tests; nil: the network.
	Dial func(ctx context.Context, network, address string) (net.Conn, error)
	// Watch is called for each statement as it ends, by several connections at a time; it may be nil.
	Watch func(store.Statement)
}

// Schemes are the first parts of the URLs.
func (Driver) Schemes() []string { return []string{"mysql", "mariadb"} }

// Beside returns the URL: it names no file.
func (Driver) Beside(url, _ string) string { return url }

// Describe reads a URL.
func (Driver) Describe(u string) store.Place {
	a, err := parse(u)
	if err != nil {
		return store.Place{Hosts: []string{store.UnknownHost}, Shown: "mysql:...", Err: err}
	}
	return a.place()
}

const (
	connectWait = 10 * time.Second
	lockWait    = 10 // seconds, for other programs' locks
)

// silent swallows what the driver would print.
type silent struct{}

func (silent) Print(...any) {}

// session is what every connection sets for itself, whatever the server's defaults.
var session = []string{
	"SET NAMES utf8mb4",
	"SET SESSION sql_mode = " +
		"'STRICT_ALL_TABLES,NO_AUTO_VALUE_ON_ZERO,ERROR_FOR_DIVISION_BY_ZERO,NO_ENGINE_SUBSTITUTION'",
	"SET SESSION time_zone = '+00:00', autocommit = 1, completion_type = 'NO_CHAIN', foreign_key_checks = 1, " +
		"unique_checks = 1, sql_safe_updates = 0, sql_auto_is_null = 0, sql_notes = 1, " +
		"sql_select_limit = DEFAULT, big_tables = 0, net_read_timeout = 600, net_write_timeout = 600, wait_timeout " +
		"= 31536000, " +
		fmt.Sprintf(
			"innodb_lock_wait_timeout = %d, lock_wait_timeout = %d",
			lockWait,
			lockWait,
		),
	"SET SESSION TRANSACTION READ WRITE",
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
	config := a.secured()
	sent := &atomic.Int64{}
	dial := d.Dial
	if dial == nil {
		dial = (&net.Dialer{Timeout: connectWait}).DialContext
	}
	config.DialFunc = func(ctx context.Context, network, address string) (net.Conn, error) {
		c, err := dial(ctx, network, address)
		if err != nil {
			return nil, err
		}
		return store.Counted{Conn: c, Sent: sent}, nil
	}
	config.MaxAllowedPacket = 0 // the server is asked: what is longer is refused here, and does not cost the connection
	connector, err := mysql.NewConnector(config)
	if err != nil {
		return nil, badURL("the driver does not accept the URL")
	}
	pool := sql.OpenDB(connector)
	pool.SetMaxOpenConns(1)
	conn, err := pool.Conn(ctx)
	if err != nil {
		pool.Close()
		return nil, connectFault(ctx, a.place(), err)
	}
	db := &database{pool: pool, conn: conn, sent: sent, tally: store.Tally{Watch: d.Watch}}
	if err := db.learnVersion(ctx, a.place().At()); err != nil {
		db.Close()
		return nil, err
	}
	if err := db.learnGuard(ctx); err != nil {
		db.Close()
		return nil, err
	}
	for _, s := range session {
		if _, err := conn.ExecContext(ctx, s); err != nil {
			db.Close()
			return nil, db.err(ctx, err)
		}
	}
	if err := db.ask(ctx); err != nil {
		db.Close()
		return nil, err
	}
	return db, nil
}

// learnGuard asks whether transactions are read-only unless they say otherwise: that is respected.
func (d *database) learnGuard(ctx context.Context) error {
	rows, err := d.conn.QueryContext(ctx, "SHOW VARIABLES WHERE variable_name IN ('tx_read_only', 'transaction_read_only') AND value = 'ON'")
	if err != nil {
		return d.err(ctx, err)
	}
	defer rows.Close()
	if rows.Next() {
		var name, value string
		if err := rows.Scan(&name, &value); err != nil {
			return d.err(ctx, err)
		}
		d.guard = store.Guarded(name, "for all sessions of the server", "if rows are to be written: SET GLOBAL "+name+" = OFF")
	}
	return d.err(ctx, rows.Err())
}

// waitForCluster lets statements of this session see what was committed before on any node
// of a Galera cluster: what is decided by what is there must not be decided by old rows.
func (d *database) waitForCluster(ctx context.Context) error {
	var name, value string
	err := d.conn.QueryRowContext(ctx, "SHOW VARIABLES LIKE 'wsrep_sync_wait'").Scan(&name, &value)
	if errors.Is(err, sql.ErrNoRows) {
		return nil
	}
	if err == nil {
		const all = 7 // reads, changes and deletions, insertions
		_, err = d.conn.ExecContext(ctx, fmt.Sprintf("SET SESSION wsrep_sync_wait = %d", all))
	}
	if err != nil {
		return d.err(ctx, err)
	}
	return nil
}

// learnVersion asks the server which one it is, and refuses one that is too old.
func (d *database) learnVersion(ctx context.Context, where string) (err error) {
	var version string
	if err := d.conn.QueryRowContext(ctx, "SELECT version()").Scan(&version); err != nil {
		return d.err(ctx, err)
	}
	d.maria, d.notice, err = checkVersion(version, where)
	return err
}

// ask learns what the server allows.
func (d *database) ask(ctx context.Context) error {
	var local, packet int64
	var format, logged sql.NullString
	err := d.conn.QueryRowContext(ctx, "SELECT @@local_infile, @@max_allowed_packet, @@binlog_format, @@log_bin").
		Scan(&local, &packet, &format, &logged)
	if err != nil {
		return d.err(ctx, err)
	}
	d.packet = packet
	d.isolation = "READ COMMITTED"
	if logged.String == "1" && format.String == "STATEMENT" {
		d.isolation = "REPEATABLE READ" // statements cannot be logged under the other
	}
	own := "SET SESSION information_schema_stats_expiry = 0, max_execution_time = 0"
	if d.maria {
		own = "SET SESSION check_constraint_checks = 1, max_statement_time = 0"
	}
	if _, err := d.conn.ExecContext(ctx, own); err != nil {
		return d.err(ctx, err)
	}
	if err := d.waitForCluster(ctx); err != nil {
		return err
	}
	var name, splitting string
	err = d.conn.QueryRowContext(ctx, "SHOW VARIABLES LIKE 'wsrep_load_data_splitting'").Scan(&name, &splitting)
	if err != nil && !errors.Is(err, sql.ErrNoRows) {
		return d.err(ctx, err)
	}
	slow := ""
	switch {
	case local == 0:
		slow = "the server does not allow LOAD DATA LOCAL (local_infile is off), so rows go by INSERT " +
			"statements of many rows, which is slower"
	case splitting == "ON":
		slow = "the cluster splits LOAD DATA into transactions of its own (wsrep_load_data_splitting), so rows " +
			"go by INSERT statements of many rows"
	}
	if d.local = slow == ""; !d.local {
		d.notice = strings.TrimPrefix(d.notice+"; "+slow, "; ")
	}
	return nil
}

func connectFault(ctx context.Context, p store.Place, err error) error {
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	where := p.At()
	if errors.Is(err, mysql.ErrNoTLS) {
		return &store.Fault{
			Kind:    store.Refused,
			Message: "the server at " + where + " accepts no encrypted connection, so the password was not sent",
			Hint:    "enable encryption on the server, or allow a plain connection in the URL with ?tls=false",
		}
	}

	var e *mysql.MySQLError
	if errors.As(err, &e) {
		switch e.Number {
		case 1049:
			return &store.Fault{
				Kind:    store.Missing,
				Message: fmt.Sprintf("the server at %s has no such database", where),
				Hint:    "create the database and run your migrations first",
			}
		case 1044, 1045, 1698:
			return &store.Fault{
				Kind:    store.Denied,
				Message: "the server at " + where + " rejects this user: " + e.Message,
				Hint:    "check the user and password in the URL",
			}
		}
		return &store.Fault{
			Kind:    store.Unreachable,
			Message: "the server at " + where + " refuses the connection: " + e.Message,
		}
	}
	if f := store.CertificateFault(where, err); f != nil {
		return f
	}
	return &store.Fault{
		Kind:    store.Unreachable,
		Message: fmt.Sprintf("no MySQL or MariaDB server answers at %s: %s", where, cause(err)),
		Hint:    "check host and port in the URL, and that the server is running",
	}
}

// cause is the last part of an error of the network: what is before it names addresses again.
func cause(err error) string {
	text := err.Error()
	if i := strings.LastIndex(text, ": "); i >= 0 {
		return text[i+2:]
	}
	return text
}

// database is one connection.
type database struct {
	sqlText
	pool      *sql.DB
	conn      *sql.Conn
	sent      *atomic.Int64 // bytes that went to the server
	tally     store.Tally
	within    bool            // a transaction for writing is open
	unsafe    []*schema.Table // those whose engine has no transactions
	lasting   bool            // it has written to a table whose engine has no transactions
	unmarked  bool            // a savepoint of it could not be made
	probes    setwise.Probes
	packet    int64        // bytes that one statement may have
	isolation string       // of transactions
	guard     *store.Fault // why nothing is written; nil if writing is allowed
	fresh     bool         // only a locking read shows what others have committed since the transaction began
	local     bool         // LOAD DATA LOCAL can be used
	notice    string       // what is unusual about the server, and why LOAD DATA LOCAL is not used
	tables    *schema.Database
	journal   *store.Journal // nil until it is found
}

func (d *database) Traits() store.Traits {
	t := store.Traits{Engine: "MySQL", Writers: 64, Loosens: true, Notice: d.notice}
	if d.maria {
		t.Engine = "MariaDB"
	}
	return t
}

func (d *database) Sizes(ctx context.Context) (map[string]int64, error) {
	return setwise.Sizes(
		ctx,
		d,
		"SELECT '', table_name, data_length + index_length FROM information_schema.tables WHERE table_schema = "+
			"DATABASE() AND table_type IN ('BASE TABLE', 'SYSTEM VERSIONED')",
		func(_, table string) string { return table },
	)
}

func (d *database) Passes(
	ctx context.Context,
	columns []*schema.Column,
	condition string,
	rows [][]value.Value,
) ([]bool, error) {
	reading := func(ctx context.Context, do func() error) error {
		limit, none := fmt.Sprintf(
			"SET SESSION max_execution_time = %d",
			setwise.ProbeTime.Milliseconds(),
		), "SET SESSION max_execution_time = 0"
		if d.maria {
			limit, none = fmt.Sprintf(
				"SET SESSION max_statement_time = %d",
				int(setwise.ProbeTime.Seconds()),
			), "SET SESSION max_statement_time = 0"
		}
		if _, err := d.Exec(ctx, limit); err != nil {
			return err
		}
		err := d.ReadOnly(ctx, do)
		_, back := d.Exec(context.WithoutCancel(ctx), none)
		return errors.Join(err, back)
	}
	return d.probes.Passes(ctx, setwise.Asker{Engine: d, Reading: reading, Typed: d.Typed}, columns, condition, rows)
}

// ReadOnly does something in a transaction that cannot write and is rolled back. Inside a
// transaction it is a savepoint that is gone back to: there the engine has no other way.
func (d *database) ReadOnly(ctx context.Context, do func() error) error {
	begin, end := []string{"START TRANSACTION READ ONLY"}, []string{"ROLLBACK"}
	if d.within {
		const mark = "evensprout_reading"
		begin, end = []string{
			"SAVEPOINT " + mark,
		}, []string{
			"ROLLBACK TO SAVEPOINT " + mark,
			"RELEASE SAVEPOINT " + mark,
		}
	}

	for _, sql := range begin {
		if _, err := d.Exec(ctx, sql); err != nil {
			return err
		}
	}
	err := do()
	for _, sql := range end {
		_, back := d.Exec(context.WithoutCancel(ctx), sql)
		var fault *store.Fault
		if errors.As(back, &fault) && fault.Kind == store.Refused {
			break // a table here is of an engine without savepoints: nothing can be taken back
		}
		if back != nil {
			return errors.Join(err, back)
		}
	}
	return err
}

// Fresh is a locking read, which alone sees more than the snapshot of a transaction.
func (d *database) Fresh() string {
	if d.within && d.fresh {
		return " LOCK IN SHARE MODE"
	}
	return ""
}

func (d *database) Statements() []store.Statement { return d.tally.Statements() }

func (d *database) Close() error { return errors.Join(d.conn.Close(), d.pool.Close()) }

// err says what an error means; others pass.
func (d *database) err(ctx context.Context, err error) error {
	var known *store.Fault
	var violation *store.Violation
	if err == nil || errors.As(err, &known) || errors.As(err, &violation) {
		return err
	}
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	if errors.Is(err, driver.ErrBadConn) || errors.Is(err, mysql.ErrInvalidConn) || errors.Is(err, sql.ErrConnDone) {
		return &store.Fault{
			Kind:    store.Lost,
			Message: "the connection to the server broke",
			Err:     err,
			Hint:    "everything that was not committed is rolled back by the server",
		}
	}

	var e *mysql.MySQLError
	errors.As(err, &e)
	if errors.Is(err, mysql.ErrPktTooLarge) ||
		e != nil &&
			(e.Number == 1153 || e.Number == unknownError && strings.Contains(e.Message, "'max_allowed_packet'")) {
		return &store.Fault{
			Kind: store.Refused,
			Message: fmt.Sprintf(
				"a statement has more than the %d bytes that the server takes (max_allowed_packet)",
				d.packet,
			),
			Err: err,
			Hint: "raise max_allowed_packet; for the journal's copy of input files and rows, --no-journal is the " +
				"other way",
		}
	}
	if e == nil {
		return err
	}
	words := *e
	e = &words
	e.Message = store.Brief(e.Message)
	f := &store.Fault{Err: fmt.Errorf("%s [%d]", e.Message, e.Number)}
	switch e.Number {
	case 1213, 1180, 1020:
		f.Kind, f.Message = store.Transient, "the server ended the transaction because of another one"
	case 1205:
		f.Kind, f.Message, f.Hint = store.Locked, fmt.Sprintf(
			"another program holds a lock (waited %d s)",
			lockWait,
		), "end the other program's transaction, and try again"
	case 1044, 1045, 1142, 1143, 1227, 1370:
		f.Kind, f.Message, f.Hint = store.Denied, "the server does not allow this user to do that", "the user needs "+
			"SELECT, INSERT, UPDATE and DELETE on the tables, and CREATE TEMPORARY TABLES on the database"
	case 1021, 1114, 3, 28, 1041:
		f.Kind, f.Message, f.Hint = store.Full, "the server has no space left", "free space on its disk, or load "+
			"fewer rows"
	case 1290, 1792, 1836, 1207:
		f.Kind, f.Message, f.Hint = store.ReadOnly, "the database is read-only", "is it a replica?"
	case 1317, 1028:
		f.Kind, f.Message = store.Interrupted, "interrupted"
	case unknownCommand:
		f.Kind, f.Message = store.Lost, "the server takes no statements now"
		if strings.HasPrefix(e.Message, "WSREP") {
			f.Message = "this node of the cluster takes no statements now: it is joining the others, or has lost them"
			f.Hint = "name another node; or wait until this one has joined, as load and withdraw do with --wait 1m"
		}
	case 1053, 1927, 1928:
		f.Kind, f.Message = store.Lost, "the server ended the connection"
	default:
		if v := violationOf(e.Number, e.Message); v != nil {
			return v
		}
		return fmt.Errorf("%s [%d]", e.Message, e.Number)
	}
	return f
}

// brokenCheck is the name of a constraint in what MariaDB and MySQL say of it.
var brokenCheck = regexp.MustCompile("^CONSTRAINT `([^`]+)` failed for |^Check constraint '([^']+)' is violated")

// violationOf makes a violation of a server's error or warning by its number; nil for
// others.
func violationOf(number uint16, message string) *store.Violation {
	v := &store.Violation{Row: -1, Code: fmt.Sprint(number), Message: message}
	switch number {
	case 1062, 1586, 1022, 1169:
		v.Kind = store.Unique
	case 1216, 1217, 1451, 1452, 1557, 1761, 1762:
		v.Kind = store.ForeignKey
	case 1048, 1263, 1364, 1566:
		v.Kind, v.Constraint = store.NotNull, "NOT NULL"
	case 3819, 4025:
		v.Kind = store.Check
		if m := brokenCheck.FindStringSubmatch(message); m != nil {
			v.Constraint = m[1] + m[2]
		}
	case 1406, 1162:
		v.Kind = store.TooLong
	case 1264, 1690, 1441:
		v.Kind = store.OutOfRange
	case 1265, 1292, 1366, 1367, 1411, 1416, 1906, 3140, 3141, 3156, 4038, 1300:
		v.Kind = store.BadValue
	case 1644, 1643:
		v.Kind, v.Constraint = store.Raised, "trigger"
	default:
		return nil
	}
	return v
}

// What servers say where a table's engine has no savepoints.
const (
	noSavepoints    = 1178
	noSuchSavepoint = 1305
	unknownCommand  = 1047 // also of a node of a cluster that is not ready
	unknownError    = 1105 // also for a value that is sent in pieces and gets too long: only the text names the setting
)

// writesTo reports whether a statement of this program changes rows of a table.
func writesTo(text, table string) bool {
	for _, head := range []string{"INSERT INTO ", "UPDATE ", "DELETE FROM ", "DELETE t FROM "} {
		if rest, ok := strings.CutPrefix(text, head); ok {
			return rest == table || strings.HasPrefix(rest, table+" ")
		}
	}
	return false
}

// Exec runs a statement.
func (d *database) Exec(ctx context.Context, text string, args ...setwise.Arg) (int64, error) {
	began := time.Now()
	for _, t := range d.unsafe {
		d.lasting = d.lasting || d.within && writesTo(text, d.Table(t))
	}
	r, err := d.conn.ExecContext(ctx, text, bind(args)...)
	n := int64(0)
	if err == nil {
		n, err = r.RowsAffected()
	}
	d.tally.Note(text, n, time.Since(began), setwise.Values(args))
	return n, d.err(ctx, d.marked(text, err))
}

// marked takes statements about savepoints as done that a table's engine without
// savepoints prevents: they matter only if something must be taken back, which is
// refused then. Some engines say so by an error, others keep the rows and say nothing.
func (d *database) marked(text string, err error) error {
	if !strings.Contains(text, "SAVEPOINT ") {
		return err
	}
	back := strings.HasPrefix(text, "ROLLBACK TO ")
	var e *mysql.MySQLError
	switch {
	case err == nil && back:
		if !d.lasting {
			return nil
		}
	case !errors.As(err, &e) || e.Number != noSavepoints && e.Number != noSuchSavepoint:
		return err
	}
	if !back {
		d.unmarked = true
	}
	if back && e != nil && e.Number == noSuchSavepoint && !d.lasting && !d.unmarked {
		// All tables have transactions, so the server has ended this one, as it does for a deadlock.
		return &store.Fault{
			Kind:    store.Transient,
			Message: "the server ended the transaction, and its savepoints with it",
			Err:     err,
		}
	}
	if back {
		return &store.Fault{
			Kind: store.Refused,
			Message: "rows were refused, and a table in this transaction has a storage engine without " +
				"savepoints, so the refused rows cannot be found",
			Err:  err,
			Hint: "ALTER TABLE ... ENGINE=InnoDB, or leave such a table out; rows in it stay",
		}
	}
	return nil
}

// Query runs a query.
func (d *database) Query(
	ctx context.Context,
	text string,
	args []setwise.Arg,
	columns []*schema.Column,
	show func([]value.Value) error,
) error {
	began := time.Now()
	rows, err := d.conn.QueryContext(ctx, text, bind(args)...)
	if err != nil {
		d.tally.Note(text, 0, time.Since(began), setwise.Values(args))
		return d.err(ctx, err)
	}
	defer rows.Close()
	cells := make([]sql.RawBytes, len(columns))
	into := make([]any, len(columns))
	for i := range cells {
		into[i] = &cells[i]
	}
	row := make([]value.Value, len(columns))
	n := int64(0)
	for rows.Next() {
		if err := rows.Scan(into...); err != nil {
			return d.err(ctx, err)
		}
		setwise.ReadRow(columns, cells, row)
		n++
		if err := show(row); err != nil {
			return err
		}
	}
	d.tally.Note(text, n, time.Since(began), setwise.Values(args))
	return d.err(ctx, rows.Err())
}

func bind(args []setwise.Arg) []any {
	out := make([]any, len(args))
	for i, a := range args {
		out[i] = bound(&a.Value, a.Column)
	}
	return out
}

// bound is a value as the driver takes it.
func bound(v *value.Value, c *schema.Column) any {
	switch v.Type {
	case value.Null:
		return nil
	case value.Integer, value.Boolean:
		return v.N
	case value.Bytes:
		return []byte(v.S)
	case value.Text, value.JSON:
		return v.S
	}
	return string(appendText(nil, v, c))
}

// appendText writes a value as the server reads it.
func appendText(b []byte, v *value.Value, c *schema.Column) []byte {
	switch v.Type {
	case value.Boolean:
		return append(b, '0'+byte(v.N))
	case value.Timestamp:
		return value.AppendTimestamp(b, *v)
	}
	return v.AppendText(b)
}

// quote makes an identifier of any name.
func quote(name string) string { return "`" + strings.ReplaceAll(name, "`", "``") + "`" }

func tableName(t *schema.Table) string {
	if t.Schema != "" {
		return quote(t.Schema) + "." + quote(t.LocalName())
	}
	return quote(t.LocalName())
}

func (d *database) Qualified(_ context.Context, do func() error) error { return do() }

func (d *database) Count(ctx context.Context, t *schema.Table) (int64, error) {
	return setwise.Count(ctx, d, t)
}

func (d *database) Spread(ctx context.Context, t *schema.Table, c *schema.Column) (*store.Spread, error) {
	return setwise.Spread(ctx, d, t, c)
}

func (d *database) Select(ctx context.Context, q store.Query, show func([]value.Value) error) error {
	return setwise.Select(ctx, d, q, show)
}

// Journal finds the tool's own tables.
func (d *database) Journal(ctx context.Context, create bool) (*store.Journal, error) {
	if create && d.guard != nil {
		return nil, d.guard
	}
	if d.journal != nil && (!create || d.journal.Occasions != nil) {
		return d.journal, nil // it does not go away
	}
	var err error
	d.journal, err = setwise.OpenJournal(ctx, d, setwise.Journal(func(name string) *schema.Table {
		return &schema.Table{Name: "evensprout_" + name}
	}), create)
	return d.journal, err
}

func (d *database) Exists(t *schema.Table) (string, []setwise.Arg) {
	return "SELECT count(*) FROM information_schema.tables WHERE table_schema = DATABASE() AND table_name = ?",
		[]setwise.Arg{
			{Value: value.String(t.Name)},
		}
}

// declared are the widest types of kinds of columns.
var declared = map[schema.Kind]string{
	schema.Bytes: "LONGBLOB", schema.Decimal: "DECIMAL(65, 18)", schema.Real: "DOUBLE", schema.Boolean: "TINYINT(1)",
	schema.Date: "DATE", schema.Time: "TIME(6)", schema.UUID: "CHAR(36)",
}

// Names of locks are of the whole server, and short.
const lockExpression = "CONCAT(?, ' ', LEFT(MD5(DATABASE()), 16))"

func lockName(name string) value.Value {
	h := fnv.New64a()
	fmt.Fprintf(h, "%s", name)
	return value.String(fmt.Sprintf("evensprout %016x", h.Sum64()))
}

func (d *database) Unlock(ctx context.Context, name string) error {
	_, err := d.Exec(ctx, "DO RELEASE_LOCK("+lockExpression+")", setwise.Arg{Value: lockName(name)})
	return err
}

// Lock takes a lock of the session. In a cluster other nodes do not know of it.
func (d *database) Lock(ctx context.Context, name string) (string, error) {
	text := &schema.Column{Kind: schema.Text}
	holder := ""
	key := []setwise.Arg{{Value: lockName(name)}}
	err := d.Query(
		ctx,
		"SELECT CASE WHEN GET_LOCK("+lockExpression+", 0) = 1 THEN '' ELSE 'another connection' END",
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
	err = d.Query(
		ctx,
		"SELECT CONCAT('connection ', id, ' of ', user, ' from ', host) FROM information_schema.processlist WHERE "+
			"id = IS_USED_LOCK("+lockExpression+")",
		key,
		[]*schema.Column{text},
		func(row []value.Value) error {
			holder = row[0].S
			return nil
		},
	)
	return holder, err
}

// Reserve moves a table's counter forward. Where the user may not alter the table, the
// counter moves by itself when the rows are written.
func (d *database) Reserve(ctx context.Context, t *schema.Table, _ *schema.Column, last int64) error {
	if d.guard != nil {
		return d.guard
	}
	next := int64(0)
	err := d.Query(
		ctx,
		"SELECT coalesce(auto_increment, 0) FROM information_schema.tables WHERE table_schema = DATABASE() AND "+
			"table_name = ?",
		[]setwise.Arg{
			{Value: value.String(t.LocalName())},
		},
		[]*schema.Column{setwise.Ordinal},
		func(row []value.Value) error {
			next = row[0].N
			return nil
		},
	)
	if err != nil || next > last {
		return err
	}
	_, err = d.Exec(ctx, fmt.Sprintf("ALTER TABLE %s AUTO_INCREMENT = %d", d.Table(t), last+1))
	var fault *store.Fault
	if errors.As(err, &fault) && fault.Kind == store.Denied {
		return nil
	}
	return err
}

// LastKey is the key that the last INSERT was given.
func (d *database) LastKey(ctx context.Context) (value.Value, error) {
	n, err := setwise.Number(ctx, d, "SELECT LAST_INSERT_ID()")
	return value.Int(n), err
}
