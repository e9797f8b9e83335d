package mysql

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"regexp"
	"slices"
	"strings"

	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/store/setwise"
	"evensprout/internal/value"
)

// own makes databases on the server of a URL.
type own struct {
	db     *database
	driver Driver
	given  *address
}

// Close closes the connection.
func (o *own) Close() error { return o.db.Close() }

// OpenScratch connects to the database of the server's own descriptions, which is always there.
func (d Driver) OpenScratch(ctx context.Context, u string) (store.Scratch, error) {
	a, err := parse(u)
	if err != nil {
		return nil, err
	}
	if _, err := a.named(store.OwnPrefix).URL(); err != nil {
		return nil, err
	}
	s, err := d.open(ctx, a.named("information_schema"))
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

// isOwn asks the server whether the current database has a name and carries the mark.
func (d *database) isOwn(ctx context.Context, name string) error {
	rows, err := d.texts(ctx, 2, "SELECT coalesce(DATABASE(), ''), "+d.mark("DATABASE()"))
	switch {
	case err != nil:
		return err
	case rows[0][0] != name:
		return store.NotScratch(name, "the connection leads to the database "+rows[0][0])
	case !strings.HasPrefix(rows[0][1], markWord):
		return store.NotScratch(name, "this program did not create it")
	}
	return nil
}

// mark is the mark of a database. MariaDB has comments of databases; elsewhere it is the
// comment of a table, which commands of the user's can see.
func (d *database) mark(name string) string {
	if d.maria {
		return "coalesce((SELECT m.schema_comment FROM information_schema.schemata m WHERE m.schema_name = " + name +
			"), '')"
	}
	return "coalesce((SELECT m.table_comment FROM information_schema.tables m WHERE m.table_schema = " + name +
		" AND " +
		"m.table_name = '" + markTable + "'), '')"
}

// Create makes a database with its mark.
func (o *own) Create(ctx context.Context, name string) error {
	sql := "CREATE DATABASE " + quote(name) + " CHARACTER SET utf8mb4"
	if o.db.maria {
		sql += " COMMENT '" + markWord + store.MarkMade + "'"
	}
	_, err := o.db.Exec(ctx, sql)
	var fault *store.Fault
	if errors.As(err, &fault) && fault.Kind == store.Denied {
		return &store.Fault{
			Kind:    store.Denied,
			Err:     fault.Err,
			Message: "this user may not create databases",
			Hint:    "GRANT ALL ON `evensprout\\_%`.* allows it; during --shared needs no such right",
		}
	}
	if err != nil || o.db.maria {
		return err
	}
	_, err = o.db.Exec(
		ctx,
		"CREATE TABLE "+quote(
			name,
		)+"."+quote(
			markTable,
		)+" (id INTEGER PRIMARY KEY) COMMENT = '"+markWord+store.MarkMade+"'",
	)
	return err
}

// texts are the rows of a query as texts.
func (d *database) texts(ctx context.Context, width int, sql string, args ...string) ([][]string, error) {
	columns := make([]*schema.Column, width)
	for i := range columns {
		columns[i] = &schema.Column{Kind: schema.Text}
	}
	var bound []setwise.Arg
	for _, a := range args {
		bound = append(bound, setwise.Arg{Value: value.String(a)})
	}
	var out [][]string
	err := d.Query(ctx, sql, bound, columns, func(row []value.Value) error {
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

// markWord begins that comment.
const markWord = "evensprout: "

// notCopied tells the tables of this program.
var notCopied = []string{
	markTable,
	"evensprout_loads",
	"evensprout_chunks",
	"evensprout_contents",
	"evensprout_occasions",
}

// external are engines whose tables keep their rows elsewhere: on another server, in
// other tables, or in files that they name.
var external = []string{
	"FEDERATED",
	"CONNECT",
	"SPIDER",
	"MRG_MYISAM",
	"MRG_MyISAM",
	"S3",
	"OQGRAPH",
	"SPHINX",
	"VP",
	"CASSANDRA",
	"NDB",
	"NDBCLUSTER",
}

func isExternal(engine string) bool {
	return slices.ContainsFunc(external, func(e string) bool { return strings.EqualFold(e, engine) })
}

func (o *own) CopyGiven(ctx context.Context, name string, external bool) error {
	from := o.given.config.DBName
	if err := o.reaches(ctx, from); err != nil {
		return err
	}
	return o.copy(ctx, from, name, external)
}

// Copy makes the tables as the server describes them, and fills them by its statement
// INSERT ... SELECT; then views, routines and triggers.
func (o *own) Copy(ctx context.Context, from, name string) error {
	if err := o.marked(ctx, from); err != nil {
		return err
	}
	return o.copy(ctx, from, name, true)
}

// reaches refuses a database whose triggers or routines name it: those of a copy would
// write into it.
func (o *own) reaches(ctx context.Context, from string) error {
	bodies, err := o.db.texts(
		ctx,
		2,
		"SELECT CONCAT('trigger ', trigger_name), action_statement FROM information_schema.triggers WHERE "+
			"trigger_schema = ? UNION ALL SELECT CONCAT(LOWER(routine_type), ' ', routine_name), "+
			"coalesce(routine_definition, '') FROM information_schema.routines WHERE routine_schema = ?",
		from,
		from,
	)
	if err != nil {
		return err
	}
	names := regexp.MustCompile(
		"(?i)(^|[^A-Za-z0-9_$`])(`" + regexp.QuoteMeta(
			strings.ReplaceAll(from, "`", "``"),
		) + "`|" + regexp.QuoteMeta(
			from,
		) + ")\\s*\\.",
	)
	for _, b := range bodies {
		if names.MatchString(b[1]) {
			return &store.Fault{
				Kind: store.Refused,
				Message: fmt.Sprintf(
					"the database %s was not copied: its %s contains the database's name, so the copy would "+
						"still use %s",
					from,
					b[0],
					from,
				),
				Hint: "remove the database's name there, or create a fresh database from the schema with " +
					"--schema schema.sql, or --prepare 'your migration command'",
			}
		}
	}
	return nil
}

// marked asks the server whether a database is one of these.
func (o *own) marked(ctx context.Context, name string) error {
	all, err := o.List(ctx)
	if err != nil {
		return err
	}
	if !slices.ContainsFunc(all, func(d store.ScratchDatabase) bool { return d.Name == name && d.Mark != "" }) {
		return store.NotScratch(name, "this program did not create it")
	}
	return nil
}

func (o *own) copy(ctx context.Context, from, name string, withExternal bool) (err error) {
	if err := o.Create(ctx, name); err != nil {
		return err
	}
	defer func() {
		_, back := o.db.Exec(
			context.WithoutCancel(ctx),
			"SET SESSION foreign_key_checks = 1, unique_checks = 1, sql_mode = @evensprout_sql_mode",
		)
		_, out := o.db.Exec(context.WithoutCancel(ctx), "USE information_schema")
		err = errors.Join(err, back, out)
	}()
	for _, sql := range []string{"SET @evensprout_sql_mode = @@SESSION.sql_mode", "USE " + quote(name), "SET SESSION " +
		"foreign_key_checks = 0, unique_checks = 0"} {
		if _, err := o.db.Exec(ctx, sql); err != nil {
			return err
		}
	}
	if here, err := o.db.texts(ctx, 1, "SELECT DATABASE()"); err != nil || here[0][0] != name {
		return errors.Join(err, store.NotScratch(name, "the connection leads elsewhere"))
	}
	c := copying{own: o, from: from, to: name, withExternal: withExternal}
	for _, part := range []func(context.Context) error{c.tables, c.routines, c.views, c.triggers} {
		if err := part(ctx); err != nil {
			return err
		}
	}
	return nil
}

// copying is a database that is copied into another.
type copying struct {
	own          *own
	from, to     string
	withExternal bool // with the tables whose rows are kept elsewhere
	left         int  // tables that are left out
}

func (c *copying) exec(ctx context.Context, statements ...string) error {
	for _, sql := range statements {
		if _, err := c.own.db.Exec(ctx, sql); err != nil {
			return err
		}
	}
	return nil
}

// shown is how something is made, as the server shows it in a row of a width.
func (c *copying) shown(ctx context.Context, kind, name string, width int) ([]string, error) {
	rows, err := c.own.db.texts(ctx, width, "SHOW CREATE "+kind+" "+quote(c.from)+"."+quote(name))
	if err != nil || len(rows) != 1 {
		return nil, errors.Join(err, fmt.Errorf("%s %s of %s cannot be copied", strings.ToLower(kind), name, c.from))
	}
	return rows[0], nil
}

// makeWithBody makes what has a body: it is read in the mode in which it was written.
func (c *copying) makeWithBody(ctx context.Context, kind, name string, width int) error {
	row, err := c.shown(ctx, kind, name, width)
	if err != nil {
		return err
	}
	return c.exec(
		ctx,
		"SET SESSION sql_mode = "+string(store.AppendQuoted(nil, row[1])),
		row[2],
		"SET SESSION sql_mode = @evensprout_sql_mode",
	)
}

// tables copies sequences, and tables with their rows.
func (c *copying) tables(ctx context.Context) error {
	tables, err := c.own.db.texts(
		ctx,
		3,
		"SELECT table_name, table_type, coalesce(engine, '') FROM information_schema.tables WHERE table_schema = ? "+
			"AND table_type NOT IN ('VIEW', 'SYSTEM VIEW') ORDER BY table_type = 'SEQUENCE' DESC, table_name",
		c.from,
	)
	if err != nil {
		return err
	}
	columns, err := c.own.db.texts(
		ctx,
		2,
		"SELECT table_name, column_name FROM information_schema.columns WHERE table_schema = ? AND "+
			"coalesce(generation_expression, '') = '' AND extra NOT LIKE '%GENERATED%' ORDER BY table_name, "+
			"ordinal_position",
		c.from,
	)
	if err != nil {
		return err
	}
	written := map[string][]string{}
	for _, x := range columns {
		written[x[0]] = append(written[x[0]], quote(x[1]))
	}
	for _, t := range tables {
		switch {
		case slices.Contains(notCopied, t[0]):
		case isExternal(t[2]) && !c.withExternal:
			c.left++
		case t[1] == "SEQUENCE":
			err = c.sequence(ctx, t[0])
		default:
			list := strings.Join(written[t[0]], ", ")
			if isExternal(t[2]) {
				list = "" // its rows are where they were
			}
			err = c.table(ctx, t[0], list)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

func (c *copying) sequence(ctx context.Context, name string) error {
	row, err := c.shown(ctx, "SEQUENCE", name, 2)
	if err != nil {
		return err
	}
	next, err := c.own.db.texts(
		ctx,
		1,
		"SELECT CAST(next_not_cached_value AS CHAR) FROM "+quote(c.from)+"."+quote(name),
	)
	if err != nil || len(next) != 1 {
		return errors.Join(err, fmt.Errorf("the sequence %s of %s cannot be copied", name, c.from))
	}
	return c.exec(ctx, row[1], "DO SETVAL("+quote(name)+", "+next[0][0]+", 0)")
}

// table copies a table, and the rows of a list of its columns if there are any.
func (c *copying) table(ctx context.Context, name, list string) error {
	row, err := c.shown(ctx, "TABLE", name, 2)
	if err != nil {
		return err
	}
	statements := []string{row[1]}
	if list != "" {
		statements = append(
			statements,
			"INSERT INTO "+quote(name)+" ("+list+") SELECT "+list+" FROM "+quote(c.from)+"."+quote(name),
		)
	}
	return c.exec(ctx, statements...)
}

func (c *copying) routines(ctx context.Context) error {
	routines, err := c.own.db.texts(
		ctx,
		2,
		"SELECT routine_type, routine_name FROM information_schema.routines WHERE routine_schema = ? AND "+
			"routine_type IN ('FUNCTION', 'PROCEDURE') ORDER BY routine_type, routine_name",
		c.from,
	)
	for _, r := range routines {
		if err == nil {
			err = c.makeWithBody(ctx, r[0], r[1], 6)
		}
	}
	return err
}

// views copies the views. One may rest on another: they are tried until no more can be
// made.
func (c *copying) views(ctx context.Context) error {
	views, err := c.own.db.texts(
		ctx,
		2,
		"SELECT table_name, view_definition FROM information_schema.views WHERE table_schema = ? ORDER BY table_name",
		c.from,
	)
	if err != nil {
		return err
	}
	var later []string
	for _, v := range views {
		later = append(
			later,
			"CREATE VIEW "+quote(v[0])+" AS "+strings.ReplaceAll(v[1], quote(c.from)+".", quote(c.to)+"."),
		)
	}

	for len(later) > 0 {
		var again []string
		var failed error
		for _, sql := range later {
			if err := c.exec(ctx, sql); err != nil {
				again, failed = append(again, sql), err
			}
		}
		if len(again) == len(later) {
			if c.left > 0 {
				return nil // they rest on tables that are left out
			}
			return failed
		}
		later = again
	}
	return nil
}

func (c *copying) triggers(ctx context.Context) error {
	triggers, err := c.own.db.texts(
		ctx,
		1,
		"SELECT trigger_name FROM information_schema.triggers WHERE trigger_schema = ? ORDER BY "+
			"event_object_table, action_timing, event_manipulation, action_order",
		c.from,
	)
	for _, t := range triggers {
		if err == nil {
			err = c.makeWithBody(ctx, "TRIGGER", t[0], 7)
		}
	}
	return err
}

func (o *own) Empty(ctx context.Context, name string, tables []*schema.Table) error {
	d, err := o.open(ctx, name)
	if err != nil {
		return err
	}
	defer d.Close()
	for _, t := range tables {
		if t.External != "" {
			return store.NotScratch(
				name,
				fmt.Sprintf("the rows of its table %s are stored elsewhere (%s)", t.Name, t.External),
			)
		}
	}
	if _, err := d.Exec(ctx, "SET SESSION foreign_key_checks = 0"); err != nil {
		return err
	}
	for _, t := range tables {
		if _, err := d.Exec(ctx, "TRUNCATE "+quote(name)+"."+quote(t.LocalName())); err != nil {
			return err
		}
	}
	return nil
}

// Run runs a script statement by statement, as the client cuts it: with the line DELIMITER
// as well, and with the server's own session settings.
func (o *own) Run(ctx context.Context, name, script string) error {
	d, err := o.open(ctx, name)
	if err != nil {
		return err
	}
	defer d.Close()
	if _, err := d.Exec(ctx, "SET SESSION sql_mode = @@GLOBAL.sql_mode, foreign_key_checks = 1"); err != nil {
		return err
	}
	for _, st := range statements(script) {
		if why := elsewhere(st.text, name); why != "" {
			return &store.ScriptError{Line: st.line, Message: why}
		}
		if _, err := d.conn.ExecContext(ctx, st.text); err != nil {
			return &store.ScriptError{Line: st.line, Message: err.Error()}
		}
	}
	return nil
}

func (o *own) Mark(ctx context.Context, name, word string) error {
	if err := o.marked(ctx, name); err != nil {
		return err
	}
	what := "TABLE " + quote(name) + "." + quote(markTable)
	if o.db.maria {
		what = "DATABASE " + quote(name)
	}
	_, err := o.db.Exec(ctx, "ALTER "+what+" COMMENT = "+string(store.AppendQuoted(nil, markWord+word)))
	return err
}

// MakeTransactional changes the storage engine of tables.
func (o *own) MakeTransactional(ctx context.Context, name string, tables []*schema.Table) error {
	if err := o.marked(ctx, name); err != nil {
		return err
	}
	for _, t := range tables {
		_, err := o.db.Exec(ctx, "ALTER TABLE "+quote(name)+"."+quote(t.LocalName())+" ENGINE = InnoDB")
		if err != nil {
			return err
		}
		t.Unsafe = false
	}
	return nil
}

func (o *own) List(ctx context.Context) ([]store.ScratchDatabase, error) {
	rows, err := o.db.texts(
		ctx,
		2,
		"SELECT s.schema_name, "+o.db.mark(
			"s.schema_name",
		)+" FROM information_schema.schemata s WHERE s.schema_name LIKE 'evensprout\\_%' ORDER BY 1",
	)
	var out []store.ScratchDatabase
	for _, r := range rows {
		mark, _ := strings.CutPrefix(r[1], markWord)
		if mark == r[1] {
			mark = ""
		}
		out = append(out, store.ScratchDatabase{Name: r[0], Mark: mark})
	}
	return out, err
}

func (o *own) Sessions(ctx context.Context, name string) (int64, error) {
	return setwise.Number(
		ctx,
		o.db,
		"SELECT count(*) FROM information_schema.processlist WHERE db = ? AND id <> CONNECTION_ID()",
		setwise.Arg{Value: value.String(name)},
	)
}

func (o *own) Drop(ctx context.Context, name string) error {
	there, err := o.db.texts(ctx, 1, "SELECT schema_name FROM information_schema.schemata WHERE schema_name = ?", name)
	if err != nil || len(there) == 0 {
		return err
	}
	if err := o.marked(ctx, name); err != nil {
		// One without anything in it is what a run left that was killed before it could mark it.
		n, failed := setwise.Number(
			ctx,
			o.db,
			"SELECT (SELECT count(*) FROM information_schema.tables WHERE table_schema = ?) + (SELECT count(*) "+
				"FROM information_schema.routines WHERE routine_schema = ?)",
			setwise.Arg{Value: value.String(name)},
			setwise.Arg{Value: value.String(name)},
		)
		if failed != nil || n > 0 {
			return errors.Join(err, failed)
		}
	}

	// Others' statements hold locks on tables, for which this one would wait.
	busy, err := o.db.texts(
		ctx,
		1,
		"SELECT CAST(id AS CHAR) FROM information_schema.processlist WHERE db = ? AND id <> CONNECTION_ID()",
		name,
	)
	if err != nil {
		return err
	}
	for _, b := range busy {
		o.db.Exec(ctx, "KILL "+b[0])
	}
	_, err = o.db.Exec(ctx, "DROP DATABASE IF EXISTS "+quote(name))
	return err
}

func (o *own) Hold(ctx context.Context, name string) (bool, error) {
	holder, err := o.db.Lock(ctx, name)
	return holder == "", err
}

func (o *own) Release(ctx context.Context, name string) error { return o.db.Unlock(ctx, name) }

// Variables are what the server's clients read, and URLs for JDBC and Go. Those that
// could lead elsewhere are taken away.
func (Driver) Variables(u string) []store.Variable {
	a, err := parse(u)
	if err != nil {
		return nil
	}
	c := a.config
	host, port := a.hostPort()
	if c.Net == "unix" {
		host = "localhost"
	}
	list := store.Address{URL: u, Host: host, Port: port, User: c.User, Password: c.Passwd, Name: c.DBName}.Variables()
	set := func(name, value string) {
		list = append(list, store.Variable{Name: name, Value: value, Gone: value == ""})
	}
	set("MYSQL_HOST", host)
	set("MYSQL_TCP_PORT", port)
	set("MYSQL_PORT", port)
	set("MYSQL_USER", c.User)
	set("MYSQL_PASSWORD", c.Passwd)
	set("MYSQL_PWD", c.Passwd)
	set("MYSQL_DATABASE", c.DBName)
	socket, jdbc := "", ""
	if c.Net == "unix" {
		socket = c.Addr
	} else {
		jdbc = fmt.Sprintf("jdbc:mariadb://%s/%s", c.Addr, url.PathEscape(c.DBName))
		if mode := map[string]string{"true": "verify-full", "skip-verify": "trust",
			"false": "disable"}[c.TLSConfig]; mode != "" {
			jdbc += "?sslMode=" + mode
		}
	}

	set("MYSQL_UNIX_PORT", socket)
	set("DB_SOCKET", socket)
	set("JDBC_URL", jdbc)
	if jdbc != "" {
		set("JDBC_DATABASE_USERNAME", c.User)
		set("JDBC_DATABASE_PASSWORD", c.Passwd)
	}
	dsn := c.Clone()
	dsn.InterpolateParams, dsn.Timeout = false, 0
	set("DATABASE_DSN", dsn.FormatDSN())
	return list
}
