// Package sqlite is the store for SQLite files, through the direct statement
// interface of an embedded engine.
package sqlite

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"zombiezen.com/go/sqlite"

	"evensprout/internal/safe"
	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/store/setwise"
	"evensprout/internal/value"
)

// Driver opens SQLite files: sqlite:path.db, or sqlite:path.db?mode=ro.
type Driver struct {
	// Watch is called for each statement as it ends, by several connections at a time; it may be nil.
	Watch func(store.Statement)
}

// Schemes are the first parts of SQLite URLs.
func (Driver) Schemes() []string { return []string{"sqlite"} }

// Beside puts a relative file into a folder.
func (Driver) Beside(url, folder string) string {
	path, query, asked := strings.Cut(strings.TrimPrefix(url, "sqlite:"), "?")
	if path == "" || filepath.IsAbs(path) || strings.HasPrefix(path, "//") || path[0] == ':' {
		return url
	}
	url = "sqlite:" + filepath.Join(folder, path)
	if asked {
		url += "?" + query
	}
	return url
}

// Describe reads a URL.
func (Driver) Describe(url string) store.Place {
	if _, _, err := parseURL(url); err != nil {
		return store.Place{Shown: "sqlite:...", Hosts: []string{store.UnknownHost}, Err: err}
	}
	path, _, _ := strings.Cut(strings.TrimPrefix(strings.TrimPrefix(url, "sqlite:"), "//"), "?")
	base := filepath.Base(path)
	return store.Place{
		Name:  strings.TrimSuffix(base, filepath.Ext(base)),
		File:  path,
		Shown: url,
	} // there is nothing secret in one that is understood
}

// lockWait is how long we wait for another program's transaction.
const lockWait = 3 * time.Second

// Open opens an existing file. A file's journal mode is never changed.
func (d Driver) Open(ctx context.Context, url string) (store.Store, error) {
	path, flags, err := parseURL(url)
	if err != nil {
		return nil, err
	}
	info, err := os.Stat(path)
	switch {
	case errors.Is(err, os.ErrNotExist):
		return nil, &store.Fault{Kind: store.Missing, Message: fmt.Sprintf("there is no database file %s", path),
			Hint: "create the database and its tables: run your migrations first"}
	case err != nil:
		return nil, &store.Fault{Kind: store.Missing, Message: "the database file cannot be opened", Err: err}
	case info.IsDir():
		return nil, &store.Fault{Kind: store.Foreign, Message: fmt.Sprintf("%s is a folder, not a database file", path)}
	case !info.Mode().IsRegular():
		return nil, &store.Fault{Kind: store.Foreign, Message: fmt.Sprintf("%s is not a regular file", path)}
	}

	whole, err := filepath.Abs(path) // so that no name is read as a file: URI
	if err != nil {
		return nil, err
	}
	conn, err := sqlite.OpenConn(whole, flags)
	if err != nil {
		return nil, fault(path, err)
	}
	conn.SetBusyTimeout(lockWait)
	conn.SetInterrupt(ctx.Done())
	s := &database{conn: conn, path: path, reads: flags == sqlite.OpenReadOnly,
		tally: store.Tally{Watch: d.Watch}}

	// Foreign keys must be on before a transaction begins. The cache is this
	// connection's own.
	for _, pragma := range []string{
		"PRAGMA foreign_keys = ON", fmt.Sprintf("PRAGMA cache_size = -%d", smallestCache>>10),
		"SELECT count(*) FROM sqlite_schema",
	} {
		if err := s.exec(pragma); err != nil {
			conn.Close()
			return nil, fault(path, err)
		}
	}
	return s, nil
}

// Create makes a new database file by a script of statements. An existing file is
// an error.
func Create(path, script string) error {
	f, err := safe.Create(path, 0o600)
	if err != nil {
		return err
	}
	if err := f.Close(); err != nil {
		return err
	}
	conn, err := sqlite.OpenConn(path, sqlite.OpenReadWrite)
	if err != nil {
		return fault(path, err)
	}
	defer conn.Close()
	return run(conn, script)
}

func parseURL(url string) (string, sqlite.OpenFlags, error) {
	path := strings.TrimPrefix(strings.TrimPrefix(url, "sqlite:"), "//")
	path, query, asked := strings.Cut(path, "?")
	bad := func(message string) error {
		return &store.Fault{
			Kind:    store.BadURL,
			Message: message,
			Hint:    "such as sqlite:path.db, or sqlite:path.db?mode=ro to only read",
		}
	}
	if path == "" {
		return "", 0, bad("the database URL names no file")
	}
	if rest, ok := strings.CutPrefix(url, "sqlite://"); ok && !strings.HasPrefix(rest, "/") &&
		strings.Contains(rest, "@") {
		return "", 0, bad("a SQLite URL must name a file, without user or host") // not shown: it may hold a password
	}
	if path == ":memory:" {
		return "", 0, bad("a database in memory would be lost when this program ends")
	}
	switch {
	case !asked || query == "mode=rw":
		return path, sqlite.OpenReadWrite, nil
	case query == "mode=ro":
		return path, sqlite.OpenReadOnly, nil
	}
	return "", 0, bad("the database URL has an unknown parameter")
}

// fault says what an error means for the database as a whole; other errors pass.
func fault(path string, err error) error {
	var known *store.Fault
	var violation *store.Violation
	if err == nil || errors.As(err, &known) || errors.As(err, &violation) {
		return err
	}
	text := err.Error() // ends in the engine's own words, after ours and the statement
	f := &store.Fault{Err: errors.New(strings.TrimSpace(text[strings.LastIndex(text, ":")+1:]))}
	code := sqlite.ErrCode(err)
	if code == sqlite.ResultReadOnlyDBMoved {
		f.Kind, f.Message = store.Foreign, fmt.Sprintf("%s was replaced, moved or removed while it was open", path)
		f.Hint = "nothing was written to the new file; see that no other program replaces it, and run the command again"
		return f
	}
	switch code.ToPrimary() {
	case sqlite.ResultBusy, sqlite.ResultLocked:
		f.Kind, f.Message = store.Locked, fmt.Sprintf("%s is locked by another program (waited %s)", path, lockWait)
		f.Hint = "end the other program's transaction, or close the program, and try again; " +
			"load and withdraw wait with --wait 5m"
	case sqlite.ResultReadOnly, sqlite.ResultPerm, sqlite.ResultAuth:
		f.Kind, f.Message = store.ReadOnly, fmt.Sprintf("%s is read-only", path)
		f.Hint = "this user must be able to write to the file and its folder"
	case sqlite.ResultCantOpen:
		f.Kind, f.Message = store.ReadOnly, fmt.Sprintf("%s cannot be opened", path)
		f.Hint = "this user must be able to read, and for writing also to write, the file and its folder"
	case sqlite.ResultFull:
		f.Kind, f.Message = store.Full, fmt.Sprintf("there is no space left for %s", path)
		f.Hint = "free space on the disk, or load fewer rows"
	case sqlite.ResultNotADB:
		f.Kind, f.Message = store.Foreign, fmt.Sprintf("%s is not a SQLite database", path)
	case sqlite.ResultInterrupt:
		f.Kind, f.Message = store.Interrupted, "interrupted"
	default:
		return err
	}
	return f
}

// database is an open file.
type database struct {
	sqlText
	conn   *sqlite.Conn
	path   string
	reads  bool // the URL says that it is only read
	tally  store.Tally
	probes setwise.Probes
	locks  map[string]*os.File // by name

	journal *store.Journal   // nil until it is found
	tables  *schema.Database // as of a version of the schema
	version int64

	cache int64         // bytes of the page cache, once it was enlarged
	held  time.Duration // for which transactions have kept others from writing, since these had a turn

	statements statements
}

func (d *database) Close() error {
	for name := range d.locks {
		d.Unlock(context.Background(), name)
	}
	return d.conn.Close()
}

func (d *database) exec(sql string) error {
	stmt, done, err := d.prepare(sql)
	if err != nil {
		return err
	}
	defer done()
	for {
		if more, err := stmt.Step(); err != nil || !more {
			return err
		}
	}
}

// rows runs a query and shows each row.
func (d *database) rows(sql string, args []string, show func(*sqlite.Stmt) error) error {
	stmt, done, err := d.prepare(sql)
	if err != nil {
		return fault(d.path, err)
	}
	defer done()
	for i, a := range args {
		stmt.BindText(i+1, a)
	}
	for {
		more, err := stmt.Step()
		if err != nil || !more {
			return fault(d.path, err)
		}
		if err := show(stmt); err != nil {
			return err
		}
	}
}

// quote makes an identifier of any name.
func quote(name string) string { return `"` + strings.ReplaceAll(name, `"`, `""`) + `"` }

func (d *database) Count(ctx context.Context, t *schema.Table) (int64, error) {
	return setwise.Count(ctx, d, t)
}

func (d *database) Spread(ctx context.Context, t *schema.Table, c *schema.Column) (*store.Spread, error) {
	return setwise.Spread(ctx, d, t, c)
}

func (d *database) Select(ctx context.Context, q store.Query, show func([]value.Value) error) error {
	return setwise.Select(ctx, d, q, show)
}

// Exec runs a statement.
func (d *database) Exec(ctx context.Context, sql string, args ...setwise.Arg) (int64, error) {
	err := d.Query(ctx, sql, args, nil, func([]value.Value) error { return nil })
	return d.changes(sql), err
}

// changes is how many rows the statement that just ran has touched: the engine goes on
// telling those of the last one that touched any.
func (d *database) changes(sql string) int64 {
	switch word, _, _ := strings.Cut(sql, " "); word {
	case "INSERT", "UPDATE", "DELETE":
		return int64(d.conn.Changes())
	}
	return 0
}

// Query runs a query.
func (d *database) Query(
	ctx context.Context,
	sql string,
	args []setwise.Arg,
	columns []*schema.Column,
	show func([]value.Value) error,
) error {
	began, n := time.Now(), int64(0)
	defer func() { d.tally.Note(sql, n, time.Since(began), setwise.Values(args)) }()
	stmt, done, err := d.prepare(sql)
	if err != nil {
		return d.explained(ctx, err)
	}
	defer done()
	for i, a := range args {
		bind(stmt, i+1, &a.Value, a.Column)
	}
	row := make([]value.Value, len(columns))
	for {
		more, err := stmt.Step()
		if err != nil {
			return d.explained(ctx, err)
		}
		if !more {
			if columns == nil {
				n = d.changes(sql)
			}
			return nil
		}
		n++
		for i, c := range columns {
			row[i] = read(stmt, i, c)
		}
		if err := show(row); err != nil {
			return err
		}
	}
}

// explained makes a violation or fault of an error, as far as it can be told without
// the row.
func (d *database) explained(ctx context.Context, err error) error {
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	kinds := map[sqlite.ResultCode]store.ViolationKind{
		sqlite.ResultConstraintUnique: store.Unique, sqlite.ResultConstraintPrimaryKey: store.Unique,
		sqlite.ResultConstraintRowID:   store.Unique,
		sqlite.ResultConstraintNotNull: store.NotNull, sqlite.ResultConstraintCheck: store.Check,
		sqlite.ResultConstraintForeignKey: store.ForeignKey,
		sqlite.ResultConstraintTrigger:    store.Raised, resultDatatype: store.BadValue,
	}
	if kind, ok := kinds[sqlite.ErrCode(err)]; ok {
		v := &store.Violation{Kind: kind, Row: -1, Code: sqlite.ErrCode(err).String(), Message: store.Brief(message(err))}
		if _, detail, ok := strings.Cut(v.Message, " failed: "); ok && kind == store.Check {
			v.Constraint = "CHECK (" + detail + ")"
		}
		return v
	}

	if sqlite.ErrCode(err).ToPrimary() == sqlite.ResultError {
		_, words, found := strings.Cut(err.Error(), "SQL logic error: ") // the statement stands in front
		if found {
			return fmt.Errorf("%s [SQLITE_ERROR]", words)
		}
	}
	return fault(d.path, err)
}

func (d *database) Traits() store.Traits {
	t := store.Traits{CountsMatches: true, Rebuilds: true, Engine: "SQLite", Writers: 1, DefersAll: true}
	if where := network(d.path); where != "" {
		t.Notice = "the file is on a network file system (" + where + "): if locks do not work there, another " +
			"program that writes at the same time can damage the database"
	}
	return t
}

// Sizes asks the pages of the file; builds of the engine without that table tell nothing.
func (d *database) Sizes(ctx context.Context) (map[string]int64, error) {
	sizes, err := setwise.Sizes(
		ctx,
		d,
		`SELECT '', s.tbl_name, sum(p.pgsize) FROM (SELECT name, sum(pgsize) AS pgsize FROM dbstat GROUP BY name) `+
			`AS p JOIN sqlite_schema AS s ON s.name = p.name GROUP BY s.tbl_name`,
		func(_, table string) string { return table },
	)
	if err != nil && ctx.Err() == nil {
		return map[string]int64{}, nil
	}
	return sizes, err
}

func (d *database) Passes(
	ctx context.Context,
	columns []*schema.Column,
	condition string,
	rows [][]value.Value,
) ([]bool, error) {
	return d.probes.Passes(ctx, setwise.Asker{Engine: d, Reading: d.ReadOnly, Typed: d.Typed}, columns, condition, rows)
}

// ReadOnly lets the engine refuse every change.
func (d *database) ReadOnly(_ context.Context, do func() error) error {
	if err := d.exec("PRAGMA query_only = ON"); err != nil {
		return fault(d.path, err)
	}
	return errors.Join(do(), fault(d.path, d.exec("PRAGMA query_only = OFF")))
}

func (d *database) Statements() []store.Statement { return d.tally.Statements() }

// Reserve does nothing: the engine counts on from the highest number, and nobody else
// writes at the same time.
func (d *database) Reserve(context.Context, *schema.Table, *schema.Column, int64) error { return nil }

// Journal finds the tool's own tables.
func (d *database) Journal(ctx context.Context, create bool) (*store.Journal, error) {
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
	return "SELECT count(*) FROM sqlite_schema WHERE type IN ('table', 'view') AND lower(name) = lower(?)",
		[]setwise.Arg{
			{Value: value.String(t.Name)},
		}
}

func (d *database) Qualified(_ context.Context, do func() error) error { return do() }

// readInteger makes a value of a whole number.
func readInteger(n int64, c *schema.Column) value.Value {
	switch {
	case c.Kind == schema.Boolean && (n == 0 || n == 1):
		return value.Bool(n == 1)
	case c.Kind == schema.Decimal:
		if v, ok := value.Int(n).Rescale(uint8(c.Scale)); ok {
			return v
		}
	}
	return value.Int(n)
}

// read makes a value of a cell: what its column's kind says, as far as the cell
// can be read that way, else what it is.
func read(s *sqlite.Stmt, i int, c *schema.Column) value.Value {
	switch s.ColumnType(i) {
	case sqlite.TypeNull:
		return value.Value{}
	case sqlite.TypeInteger:
		return readInteger(s.ColumnInt64(i), c)
	case sqlite.TypeBlob:
		b := make([]byte, s.ColumnLen(i))
		s.ColumnBytes(i, b)
		return value.Value{Type: value.Bytes, S: string(b)}
	}

	text := ""
	if s.ColumnType(i) == sqlite.TypeFloat {
		// The shortest text that reads as the same number, whatever digits the engine shows.
		text = strconv.FormatFloat(s.ColumnFloat(i), 'f', -1, 64)
	} else {
		text = s.ColumnText(i)
	}

	if c.Kind == schema.Any && s.ColumnType(i) == sqlite.TypeFloat {
		if v, err := value.ParseDecimal(text); err == nil {
			return v // a number, not a text: such columns hold what they are given
		}
	}
	if c.Kind == schema.Decimal || c.Kind == schema.Real {
		if v, err := value.ParseDecimal(text); err == nil {
			if r, ok := v.Rescale(max(v.Scale, uint8(c.Scale))); ok {
				return r
			}
			return v
		}
	}

	if c.Kind == schema.Date || c.Kind == schema.Time || c.Kind == schema.Timestamp || c.Kind == schema.UUID ||
		c.Kind == schema.JSON {
		return setwise.ReadText(c, text)
	}
	return value.String(text)
}

func (d *database) LastKey(context.Context) (value.Value, error) {
	return value.Int(d.conn.LastInsertRowID()), nil
}

// Fresh is empty: nobody else writes meanwhile.
func (*database) Fresh() string { return "" }
