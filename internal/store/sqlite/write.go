package sqlite

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"zombiezen.com/go/sqlite"

	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/store/setwise"
	"evensprout/internal/value"
)

// transaction writes in one transaction, row by row through one prepared statement
// for each table.
type transaction struct {
	*setwise.Tx
	db      *database
	schema  *schema.Database
	inserts map[string]*sqlite.Stmt // by their text
	written map[string]bool         // tables, to be looked at if references are late
	late    bool
	done    bool
	began   time.Time
	until   time.Time // for readers that hold up the commit
}

func (d *database) Begin(ctx context.Context, o store.TxOptions) (store.Tx, error) {
	if err := d.letOthers(ctx); err != nil {
		return nil, err
	}
	if _, err := d.Exec(ctx, "BEGIN IMMEDIATE"); err != nil {
		return nil, err
	}
	db, err := d.known(ctx)
	if err != nil {
		d.exec("ROLLBACK")
		return nil, err
	}
	if err := d.growCache(); err != nil {
		d.exec("ROLLBACK")
		return nil, err
	}
	tx := &transaction{
		Tx:      setwise.NewTx(d),
		db:      d,
		schema:  db,
		inserts: map[string]*sqlite.Stmt{},
		written: map[string]bool{},
		late:    o.Late,
		began:   time.Now(),
		until:   o.Until,
	}
	tx.Tx.Late, tx.Tx.Helper = o.Late, tx
	if o.Late {
		if err := d.exec("PRAGMA defer_foreign_keys = ON"); err != nil {
			tx.Rollback()
			return nil, fault(d.path, err)
		}
	}
	return tx, nil
}

// The page cache follows the size of the database, up to a bound: rows go to all places of their indexes, and a page
// that has left the cache is written and read once more for each. With 32 MiB, 2,000,000 rows with two indexes take
// 0.85 of the time, with 64 MiB 0.78, with 256 MiB 0.73. The process takes twice as much.
const (
	smallestCache = 14 << 20
	largestCache  = 32 << 20
)

// growCache enlarges the page cache to the size of the database.
func (d *database) growCache() error {
	size := int64(1)
	for _, pragma := range []string{"PRAGMA main.page_count", "PRAGMA main.page_size"} {
		err := d.rows(pragma, nil, func(s *sqlite.Stmt) error {
			size *= s.ColumnInt64(0)
			return nil
		})
		if err != nil {
			return err
		}
	}
	if want := min(size, largestCache); want > max(d.cache, smallestCache) {
		d.cache = want
		return d.exec(fmt.Sprintf("PRAGMA main.cache_size = -%d", want>>10))
	}
	return nil
}

// known is the tables as they are now: they are read again only when they have changed.
func (d *database) known(ctx context.Context) (*schema.Database, error) {
	version, err := setwise.Number(ctx, d, "PRAGMA main.schema_version")
	if err != nil || d.tables != nil && version == d.version {
		return d.tables, err
	}
	return d.Survey(ctx)
}

func (tx *transaction) Rollback() error {
	if tx.done {
		return nil
	}
	tx.end()
	if tx.db.conn.AutocommitEnabled() {
		return nil // the engine has rolled back by itself, as it does on a full disk
	}
	tx.db.conn.SetInterrupt(nil) // what is interrupted must still be taken back
	return tx.db.exec("ROLLBACK")
}

func (tx *transaction) end() {
	tx.done = true
	for _, s := range tx.inserts {
		s.Finalize()
	}
}

// Settle looks for rows that point to nothing, in the tables written to.
func (tx *transaction) Settle(context.Context) error {
	if !tx.late {
		return nil
	}
	return tx.checkReferences()
}

func (tx *transaction) Commit(ctx context.Context) error {
	if err := tx.Settle(ctx); err != nil {
		return err
	}
	if err := tx.EndHelp(ctx); err != nil {
		return err
	}
	for {
		_, err := tx.db.Exec(ctx, "COMMIT")
		if err == nil {
			tx.db.held += time.Since(tx.began)
			tx.end()
			return nil
		}
		var f *store.Fault // of a reader; the transaction is as it was, and the engine has waited for a while
		if !errors.As(err, &f) || f.Kind != store.Locked || !time.Now().Before(tx.until) {
			return err
		}
	}
}

const (
	mostHeld = time.Second            // for which others are kept from writing, but for the last transaction
	turn     = 110 * time.Millisecond // longer than the engine waits before it tries again: 100 ms at most
)

// letOthers waits a moment if this connection has held the lock for a while. Who waits for it tries again now and then,
// and would never get it from a program that begins its next transaction at once.
func (d *database) letOthers(ctx context.Context) error {
	if d.held < mostHeld {
		return nil
	}
	d.held = 0
	select {
	case <-ctx.Done():
		return context.Cause(ctx)
	case <-time.After(turn):
		return nil
	}
}

func (tx *transaction) Stage(ctx context.Context, w *store.Write, rows store.Rows) (store.Stage, error) {
	tx.written[w.Table.Name] = true
	return tx.Tx.Stage(ctx, w, rows)
}

// Tables are all tables.
func (tx *transaction) Tables() *schema.Database { return tx.schema }

// LacksIndex reports whether no index of a table begins with some columns.
func (tx *transaction) LacksIndex(ctx context.Context, t *schema.Table, columns []string) (bool, error) {
	indexed, err := tx.indexed(ctx, t, columns)
	return !indexed, err
}

// MakeIndex makes an index: nobody else writes meanwhile.
func (tx *transaction) MakeIndex(ctx context.Context, name string, t *schema.Table, columns []string) (bool, error) {
	var quoted []string
	for _, c := range columns {
		quoted = append(quoted, quote(c))
	}
	_, err := tx.db.Exec(ctx, "CREATE INDEX "+quote(name)+" ON "+quote(t.Name)+" ("+strings.Join(quoted, ", ")+")")
	return err == nil, err
}

// DropIndex drops an index. It is gone already if a savepoint before it was rolled back to.
func (tx *transaction) DropIndex(ctx context.Context, name string, _ *schema.Table) error {
	_, err := tx.db.Exec(ctx, "DROP INDEX IF EXISTS "+quote(name))
	return err
}

// indexed reports whether an index of a table begins with some columns.
func (tx *transaction) indexed(ctx context.Context, t *schema.Table, columns []string) (bool, error) {
	begins := func(key []string) bool {
		return len(key) >= len(columns) && slices.EqualFunc(key[:len(columns)], columns, strings.EqualFold)
	}
	if begins(t.PrimaryKey) {
		return true, nil
	}
	keys := map[string][]string{}
	err := tx.db.rows(
		"SELECT l.name, i.name FROM pragma_index_list(?) AS l, pragma_index_info(l.name) AS i WHERE NOT l.partial "+
			"ORDER BY l.name, i.seqno",
		[]string{t.Name},
		func(s *sqlite.Stmt) error {
			keys[s.ColumnText(0)] = append(keys[s.ColumnText(0)], s.ColumnText(1))
			return nil
		},
	)
	for _, key := range keys {
		if begins(key) {
			return true, err
		}
	}
	return false, err
}

// Count is the number of rows of a table.
func (tx *transaction) Count(ctx context.Context, t *schema.Table) (int64, error) {
	return tx.Tx.Count(ctx, t)
}

// Insert adds rows one after the other; the statement costs little here.
func (tx *transaction) Insert(ctx context.Context, into store.Into, rows store.Rows) (int64, error) {
	n := int64(0)
	if err := tx.db.growCache(); err != nil {
		return 0, err
	}
	err := tx.each(ctx, into, rows, func() { n++ })
	return n, err
}

// InsertUnkeyed reads back the number that each row gets.
func (tx *transaction) InsertUnkeyed(
	ctx context.Context,
	into store.Into,
	_ *schema.Column,
	rows store.Rows,
) ([]value.Value, error) {
	var keys []value.Value
	err := tx.each(ctx, into, rows, func() { keys = append(keys, value.Int(tx.db.conn.LastInsertRowID())) })
	return keys, err
}

// each inserts rows and calls done after each.
func (tx *transaction) each(ctx context.Context, into store.Into, rows store.Rows, done func()) error {
	sql := "INSERT INTO " + quote(into.Table.Name) + " DEFAULT VALUES"
	if len(into.Columns) > 0 {
		sql = fmt.Sprintf(
			"INSERT INTO %s (%s) VALUES (%s)",
			quote(into.Table.Name),
			strings.Join(setwise.Names(tx.db, "", into.Columns), ", "),
			places(len(into.Columns)),
		)
	}

	stmt := tx.inserts[sql]
	if stmt == nil {
		var err error
		if stmt, _, err = tx.db.conn.PrepareTransient(sql); err != nil {
			return fault(tx.db.path, err)
		}
		tx.inserts[sql] = stmt
		tx.written[into.Table.Name] = true
	}

	began, n := time.Now(), int64(0)
	var first []value.Value
	defer func() {
		tx.db.tally.Add(store.Statement{Text: sql, Times: n, Rows: n, Elapsed: time.Since(began), Values: first})
	}()
	for b := range store.FirstRow(into, rows, &first) {
		for i := range b.Len {
			row := b.Row(i)
			for j, f := range into.Fields {
				bind(stmt, j+1, &row[f], into.Columns[j])
			}
			_, err := stmt.Step()
			stmt.Reset()
			if err != nil {
				if ctx.Err() != nil {
					return context.Cause(ctx)
				}
				return fault(tx.db.path, tx.explain(into, b.Row(i), n, err))
			}
			if len(into.Table.Triggers) > 0 && tx.db.conn.Changes() == 0 {
				v := store.LeftOut(1, 0)
				v.Row, v.Table = n, into.Table.Name
				return v
			}
			n++
			done()
		}
	}
	return ctx.Err()
}

func places(n int) string { return strings.TrimSuffix(strings.Repeat("?, ", n), ", ") }

// Fill puts rows into a temporary table, behind their numbers.
func (d *database) Fill(_ context.Context, table string, into store.Into, rows store.Rows) (int64, error) {
	f := &filler{db: d, table: table, into: into}
	defer f.close()
	began := time.Now()
	var first []value.Value
	for b := range store.FirstRow(into, rows, &first) {
		for i := range b.Len {
			f.pending = append(f.pending, value.Int(f.n+int64(f.waiting)))
			for _, at := range into.Fields {
				f.pending = append(f.pending, b.Row(i)[at])
				f.size += len(b.Row(i)[at].S)
			}
			if f.waiting++; f.waiting == fillRows || f.size > fillBytes {
				if err := f.flush(); err != nil {
					return f.n, err
				}
			}
		}
	}
	err := f.flush()
	d.tally.Note("INSERT INTO "+table+" VALUES ("+places(len(into.Columns)+1)+")", f.n, time.Since(began), first)
	return f.n, err
}

// fillRows is how many rows of a temporary table one statement takes: it begins and ends
// once for all of them.
const fillRows = 32

// fillBytes is how many bytes of texts may wait: rows may be large.
const fillBytes = 1 << 20

// filler puts rows into a temporary table, many by one statement.
type filler struct {
	db      *database
	table   string
	into    store.Into
	pending []value.Value // of rows that wait
	waiting int
	size    int // of texts, in bytes
	n       int64
	many    *sqlite.Stmt // of fillRows rows; nil until there are so many
}

func (f *filler) close() {
	if f.many != nil {
		f.many.Finalize()
	}
}

// flush writes the rows that wait.
func (f *filler) flush() error {
	if f.waiting == 0 {
		return nil
	}
	width := len(f.into.Columns) + 1
	stmt := f.many
	if f.waiting < fillRows || stmt == nil {
		row := "(" + places(width) + ")"
		sql := "INSERT INTO " + f.table + " VALUES " + row + strings.Repeat(", "+row, f.waiting-1)
		var err error
		if stmt, _, err = f.db.conn.PrepareTransient(sql); err != nil {
			return fault(f.db.path, err)
		}
		if f.waiting == fillRows {
			f.many = stmt
		} else {
			defer stmt.Finalize()
		}
	}

	for i := range f.pending {
		var c *schema.Column
		if at := i % width; at > 0 {
			c = f.into.Columns[at-1]
		}
		bind(stmt, i+1, &f.pending[i], c)
	}

	_, err := stmt.Step()
	stmt.Reset()
	if err != nil {
		return fault(f.db.path, err)
	}
	f.n += int64(f.waiting)
	if f.size > fillBytes {
		clear(f.pending)
		if err := stmt.ClearBindings(); err != nil {
			return fault(f.db.path, err)
		}
	}
	f.pending, f.waiting, f.size = f.pending[:0], 0, 0
	return nil
}

// bind hands a value over in the form in which the engine keeps it. Decimals go as
// text: a numeric column makes a number of them, exact up to 15 digits.
func bind(s *sqlite.Stmt, at int, v *value.Value, c *schema.Column) {
	switch v.Type {
	case value.Null:
		s.BindNull(at)
	case value.Integer, value.Boolean:
		s.BindInt64(at, v.N)
	case value.Text, value.JSON:
		if c != nil && c.Kind == schema.Bytes {
			s.BindBytes(at, []byte(v.S))
			return
		}
		s.BindText(at, v.S)
	case value.Bytes:
		s.BindBytes(at, []byte(v.S))
	default:
		if v.Type == value.Decimal && c != nil && c.Kind == schema.Any {
			// No column type makes a number of a text here.
			f, _ := strconv.ParseFloat(v.String(), 64) // a decimal always is one
			s.BindFloat(at, f)
			return
		}
		var buf [64]byte
		s.BindText(at, string(appendText(buf[:0], v, c)))
	}
}

// appendText writes numbers and moments as texts of the engine.
func appendText(b []byte, v *value.Value, c *schema.Column) []byte {
	switch {
	case v.Type == value.Timestamp:
		return value.AppendTimestamp(b, *v)
	case v.Type == value.Date && c != nil && c.Kind == schema.Timestamp:
		return append(v.AppendText(b), " 00:00:00"...)
	}
	return v.AppendText(b)
}

// resultDatatype is SQLITE_CONSTRAINT_DATATYPE, of STRICT tables.
const resultDatatype = sqlite.ResultCode(3091)

// brokenCheck finds the check of which an error tells the name or the text, and the columns
// that it mentions.
func brokenCheck(into store.Into, detail string) (name string, columns []string) {
	broken := schema.Check{Expression: detail}
	for _, c := range into.Table.Checks {
		if c.Name != "" && c.Name == detail || c.Expression == detail {
			broken = c
		}
	}
	for _, c := range into.Columns {
		if setwise.Mentions(broken.Expression, c.Name) {
			columns = append(columns, c.Name)
		}
	}
	return setwise.CheckName(broken), columns
}

// explain makes a violation of an error of the engine.
func (tx *transaction) explain(into store.Into, row []value.Value, n int64, err error) error {
	code := sqlite.ErrCode(err)
	if code.ToPrimary() != sqlite.ResultConstraint {
		return err
	}
	v := &store.Violation{Row: n, Table: into.Table.Name, Code: code.String(), Message: message(err)}
	_, detail, _ := strings.Cut(v.Message, " failed: ")
	switch code {
	case sqlite.ResultConstraintUnique, sqlite.ResultConstraintPrimaryKey, sqlite.ResultConstraintRowID:
		v.Kind = store.Unique
		v.Columns = columnsIn(detail, into.Table)
		v.Constraint = cmp.Or(into.Table.KeyName(v.Columns), detail) // an index over an expression tells its own name
		v.Values = valuesOf(into, row, v.Columns)
		v.Other = tx.other(into.Table, v.Columns, v.Values)
	case sqlite.ResultConstraintNotNull:
		v.Kind, v.Constraint = store.NotNull, "NOT NULL"
		v.Columns = columnsIn(detail, into.Table)
		v.Values = valuesOf(into, row, v.Columns)
	case sqlite.ResultConstraintCheck:
		v.Kind = store.Check
		v.Constraint, v.Columns = brokenCheck(into, detail)
		v.Values = valuesOf(into, row, v.Columns)
	case sqlite.ResultConstraintForeignKey:
		v.Kind = store.ForeignKey
		tx.findReference(into, row, v)
	case sqlite.ResultConstraintTrigger:
		v.Kind, v.Constraint = store.Raised, "trigger"
	case resultDatatype:
		v.Kind, v.Constraint = store.BadValue, "type"
		for _, c := range into.Columns {
			if strings.HasSuffix(v.Message, "."+c.Name) {
				v.Columns, v.Constraint = []string{c.Name}, c.Declared
			}
		}
		v.Values = valuesOf(into, row, v.Columns)
	default:
		v.Kind = store.BadValue
	}
	v.Message = store.Brief(v.Message)
	return v
}

// message is the engine's own text without the wrapping around it.
func message(err error) string {
	text := err.Error()
	for _, mark := range []string{"UNIQUE constraint", "NOT NULL constraint", "CHECK constraint", "FOREIGN KEY " +
		"constraint", "cannot store"} {
		if i := strings.Index(text, mark); i >= 0 {
			return text[i:]
		}
	}
	return strings.TrimPrefix(
		strings.TrimPrefix(text, "sqlite: step: "),
		"constraint failed: ",
	) // of a trigger's own words
}

// columnsIn reads "table.a, table.b".
func columnsIn(detail string, t *schema.Table) []string {
	var columns []string
	for _, part := range strings.Split(detail, ", ") {
		if name, ok := strings.CutPrefix(part, t.Name+"."); ok && t.Column(name) != nil {
			columns = append(columns, name)
		}
	}
	return columns
}

func valuesOf(into store.Into, row []value.Value, columns []string) []value.Value {
	values := make([]value.Value, len(columns))
	for i, name := range columns {
		for j, c := range into.Columns {
			if c.Name == name {
				values[i] = row[into.Fields[j]]
			}
		}
	}
	return values
}

// other returns the primary key of the row that has these values; nil if it cannot
// be told.
func (tx *transaction) other(t *schema.Table, columns []string, values []value.Value) []store.Pair {
	if len(columns) == 0 || len(t.PrimaryKey) == 0 {
		return nil
	}
	var where []string
	for _, c := range columns {
		where = append(where, quote(c)+" = ?")
	}
	return tx.key(t, strings.Join(where, " AND "), func(s *sqlite.Stmt) {
		for i := range values {
			bind(s, i+1, &values[i], t.Column(columns[i]))
		}
	})
}

// key reads the primary key of the first row under a condition.
func (tx *transaction) key(t *schema.Table, where string, args func(*sqlite.Stmt)) []store.Pair {
	var columns []*schema.Column
	for _, k := range t.PrimaryKey {
		columns = append(columns, t.Column(k))
	}
	stmt, _, err := tx.db.conn.PrepareTransient(
		"SELECT " + strings.Join(
			setwise.Names(tx.db, "", columns),
			", ",
		) + " FROM " + quote(
			t.Name,
		) + " WHERE " + where + " LIMIT 1",
	)
	if err != nil {
		return nil
	}
	defer stmt.Finalize()
	args(stmt)
	if found, err := stmt.Step(); err != nil || !found {
		return nil
	}
	var pairs []store.Pair
	for i, c := range columns {
		pairs = append(pairs, store.Pair{Column: c.Name, Value: read(stmt, i, c)})
	}
	return pairs
}

// findReference finds the foreign key of a row that points to nothing: the engine
// does not tell which.
func (tx *transaction) findReference(into store.Into, row []value.Value, v *store.Violation) {
	for _, r := range into.Table.References {
		values := valuesOf(into, row, r.Columns)
		if slices.ContainsFunc(values, value.Value.IsNull) {
			continue
		}
		var where []string
		for _, c := range r.Targets {
			where = append(where, quote(c)+" = ?")
		}
		stmt, _, err := tx.db.conn.PrepareTransient(
			"SELECT 1 FROM " + quote(r.Table) + " WHERE " + strings.Join(where, " AND "),
		)
		if err != nil {
			continue
		}
		for i := range values {
			bind(stmt, i+1, &values[i], into.Table.Column(r.Columns[i]))
		}
		found, err := stmt.Step()
		stmt.Finalize()
		if err == nil && !found {
			v.Columns, v.Values, v.Refers = r.Columns, values, r.Table
			v.Constraint = r.Name
			return
		}
	}
	v.Constraint = "FOREIGN KEY"
}

// checkReferences looks for rows that point to nothing, in the tables written to.
func (tx *transaction) checkReferences() error {
	for _, t := range tx.schema.Tables {
		if !tx.written[t.Name] {
			continue
		}
		var v *store.Violation
		var rowid int64
		err := tx.db.rows(
			`SELECT rowid, parent, fkid FROM pragma_foreign_key_check(?) LIMIT 1`,
			[]string{t.Name},
			func(s *sqlite.Stmt) error {
				v = &store.Violation{
					Kind:    store.ForeignKey,
					Row:     -1,
					Table:   t.Name,
					Refers:  s.ColumnText(1),
					Code:    sqlite.ResultConstraintForeignKey.String(),
					Message: "FOREIGN KEY constraint failed",
				}
				rowid = s.ColumnInt64(0)
				for _, r := range t.References {
					if r.Table == v.Refers {
						v.Constraint, v.Columns = r.Name, r.Columns
					}
				}
				return nil
			},
		)
		if err != nil {
			return err
		}
		if v != nil {
			v.Key = tx.key(t, "rowid = ?", func(s *sqlite.Stmt) { s.BindInt64(1, rowid) })
			return v
		}
	}
	return nil
}
