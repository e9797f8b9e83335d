package sqlite

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"zombiezen.com/go/sqlite"

	"evensprout/internal/grow"
	"evensprout/internal/schema"
	"evensprout/internal/store"
)

// transaction writes in one transaction, row by row through one prepared statement
// for each table.
type transaction struct {
	*database
	schema  *schema.Database
	inserts map[*schema.Table]*sqlite.Stmt
	written map[string]bool // tables, to be looked at if references are late
	late    bool
	done    bool
}

func (d *database) Begin(ctx context.Context, lateReferences bool) (store.Tx, error) {
	db, err := d.Survey(ctx)
	if err != nil {
		return nil, err
	}
	if err := d.exec("BEGIN IMMEDIATE"); err != nil {
		return nil, fault(d.path, err)
	}
	tx := &transaction{database: d, schema: db, inserts: map[*schema.Table]*sqlite.Stmt{}, written: map[string]bool{}, late: lateReferences}
	if lateReferences {
		if err := d.exec("PRAGMA defer_foreign_keys = ON"); err != nil {
			tx.Rollback()
			return nil, fault(d.path, err)
		}
	}
	return tx, nil
}

func (tx *transaction) Rollback() error {
	if tx.done {
		return nil
	}
	tx.done = true
	for _, s := range tx.inserts {
		s.Finalize()
	}
	if tx.conn.AutocommitEnabled() {
		return nil // the engine has rolled back by itself, as it does on a full disk
	}
	tx.conn.SetInterrupt(nil) // what is interrupted must still be taken back
	return tx.exec("ROLLBACK")
}

func (tx *transaction) Commit(context.Context) error {
	if tx.late {
		if err := tx.checkReferences(); err != nil {
			return err
		}
	}
	if err := tx.exec("COMMIT"); err != nil {
		return fault(tx.path, err)
	}
	for _, s := range tx.inserts {
		s.Finalize()
	}
	tx.done = true
	return nil
}

func (tx *transaction) Find(_ context.Context, t *schema.Table, columns []*schema.Column, values []grow.Value) (int64, error) {
	var where []string
	for i, c := range columns {
		if !values[i].IsNull() {
			where = append(where, quote(c.Name)+" = ?")
		}
	}
	if len(where) == 0 {
		return 0, nil
	}
	stmt, err := tx.conn.Prepare("SELECT count(*) FROM " + quote(t.Name) + " WHERE " + strings.Join(where, " AND "))
	if err != nil {
		return 0, fault(tx.path, err)
	}
	defer stmt.Reset()
	at := 1
	for i, c := range columns {
		if !values[i].IsNull() {
			bind(stmt, at, &values[i], c)
			at++
		}
	}
	if _, err := stmt.Step(); err != nil {
		return 0, fault(tx.path, err)
	}
	return stmt.ColumnInt64(0), nil
}

func (tx *transaction) Insert(ctx context.Context, into store.Into, b *grow.Batch) error {
	stmt, err := tx.insert(into)
	if err != nil {
		return fault(tx.path, err)
	}
	for i := range b.Len {
		row := b.Row(i)
		for j, f := range into.Fields {
			c := into.Columns[j]
			if v := refuse(c, &row[f]); v != nil {
				v.Row, v.Table = i, into.Table.Name
				return v
			}
			bind(stmt, j+1, &row[f], c)
		}
		_, err := stmt.Step()
		stmt.Reset()
		if err != nil {
			if ctx.Err() != nil {
				return ctx.Err()
			}
			return fault(tx.path, tx.explain(into, b, i, err))
		}
	}
	return ctx.Err()
}

func (tx *transaction) insert(into store.Into) (*sqlite.Stmt, error) {
	if s := tx.inserts[into.Table]; s != nil {
		return s, nil
	}
	places := strings.TrimSuffix(strings.Repeat("?, ", len(into.Columns)), ", ")
	sql := fmt.Sprintf("INSERT INTO %s (%s) VALUES (%s)", quote(into.Table.Name), quoteAll(into.Columns), places)
	if len(into.Columns) == 0 {
		sql = "INSERT INTO " + quote(into.Table.Name) + " DEFAULT VALUES"
	}
	stmt, _, err := tx.conn.PrepareTransient(sql)
	if err != nil {
		return nil, err
	}
	tx.inserts[into.Table] = stmt
	tx.written[into.Table.Name] = true
	return stmt, nil
}

// bind hands a value over in the form in which the engine keeps it. Decimals go as
// text: a numeric column makes a number of them, exact up to 15 digits.
func bind(s *sqlite.Stmt, at int, v *grow.Value, c *schema.Column) {
	switch v.Type {
	case grow.Null:
		s.BindNull(at)
	case grow.Integer, grow.Boolean:
		s.BindInt64(at, v.N)
	case grow.Text, grow.JSON:
		if c != nil && c.Kind == schema.Bytes {
			s.BindBytes(at, []byte(v.S))
			return
		}
		s.BindText(at, v.S)
	case grow.Bytes:
		s.BindBytes(at, []byte(v.S))
	default:
		var buf [64]byte
		text := buf[:0]
		switch {
		case v.Type == grow.Timestamp:
			text = grow.AppendTimestamp(text, *v)
		case v.Type == grow.Date && c != nil && c.Kind == schema.Timestamp:
			text = append(v.AppendText(text), " 00:00:00"...)
		default:
			text = v.AppendText(text)
		}
		s.BindText(at, string(text))
	}
}

// resultDatatype is SQLITE_CONSTRAINT_DATATYPE, of STRICT tables.
const resultDatatype = sqlite.ResultCode(3091)

// maxExact is the number of digits that a numeric column keeps exactly.
const maxExact = 15

// refuse holds a value against a column's declared type, which the engine does not
// do by itself. Row and table are left to the caller.
func refuse(c *schema.Column, v *grow.Value) *store.Violation {
	refusal := func(kind store.ViolationKind, format string, args ...any) *store.Violation {
		return &store.Violation{
			Kind: kind, Columns: []string{c.Name}, Values: []grow.Value{*v}, Constraint: c.Declared, Message: fmt.Sprintf(format, args...),
		}
	}
	switch v.Type {
	case grow.Text:
		if c.Length > 0 && len(v.S) > c.Length && c.Kind == schema.Text {
			if n := utf8.RuneCountInString(v.S); n > c.Length {
				return refusal(store.TooLong, "%d characters are too long for %s", n, c.Declared)
			}
		}
	case grow.Integer:
		if c.Bits > 0 && (v.N >= 1<<(c.Bits-1) || v.N < -1<<(c.Bits-1)) {
			return refusal(store.OutOfRange, "%d is out of range for %s", v.N, c.Declared)
		}
	case grow.Decimal:
		if c.Kind != schema.Decimal && c.Kind != schema.Real {
			break
		}
		if v.N >= 1e15 || v.N <= -1e15 {
			return refusal(store.OutOfRange, "%s has more than %d digits, and the engine would round it", v, maxExact)
		}
		if c.Precision > 0 {
			exact, ok := v.Rescale(uint8(c.Scale))
			if !ok {
				return refusal(store.OutOfRange, "%s has more digits behind the point than %s", v, c.Declared)
			}
			most := int64(1)
			for range min(c.Precision, 18) {
				most *= 10
			}
			if exact.N >= most || exact.N <= -most {
				return refusal(store.OutOfRange, "%s is out of range for %s", v, c.Declared)
			}
		}
	}
	return nil
}

// explain makes a violation of an error of the engine.
func (tx *transaction) explain(into store.Into, b *grow.Batch, i int, err error) error {
	code := sqlite.ErrCode(err)
	if code.ToPrimary() != sqlite.ResultConstraint {
		return err
	}
	v := &store.Violation{Row: i, Table: into.Table.Name, Code: code.String(), Message: message(err)}
	_, detail, _ := strings.Cut(v.Message, " failed: ")
	switch code {
	case sqlite.ResultConstraintUnique, sqlite.ResultConstraintPrimaryKey, sqlite.ResultConstraintRowID:
		v.Kind = store.Unique
		v.Columns = columnsIn(detail, into.Table)
		v.Constraint = uniqueName(into.Table, v.Columns, detail)
		v.Values = valuesOf(into, b.Row(i), v.Columns)
		v.Other = tx.other(into.Table, v.Columns, v.Values)
	case sqlite.ResultConstraintNotNull:
		v.Kind, v.Constraint = store.NotNull, "NOT NULL"
		v.Columns = columnsIn(detail, into.Table)
		v.Values = valuesOf(into, b.Row(i), v.Columns)
	case sqlite.ResultConstraintCheck:
		v.Kind = store.Check
		broken := schema.Check{Expression: detail}
		for _, c := range into.Table.Checks {
			if c.Name != "" && c.Name == detail || c.Expression == detail {
				broken = c
			}
		}
		v.Constraint = strings.TrimSpace(broken.Name + " CHECK (" + strings.Join(strings.Fields(broken.Expression), " ") + ")")
		for _, c := range into.Columns {
			if containsWord(broken.Expression, c.Name) {
				v.Columns = append(v.Columns, c.Name)
			}
		}
		v.Values = valuesOf(into, b.Row(i), v.Columns)
	case sqlite.ResultConstraintForeignKey:
		v.Kind = store.ForeignKey
		tx.findReference(into, b.Row(i), v)
	case sqlite.ResultConstraintTrigger:
		v.Kind, v.Constraint = store.Raised, "trigger"
	case resultDatatype:
		v.Kind, v.Constraint = store.BadValue, "type"
		for _, c := range into.Columns {
			if strings.HasSuffix(v.Message, "."+c.Name) {
				v.Columns, v.Constraint = []string{c.Name}, c.Declared
			}
		}
		v.Values = valuesOf(into, b.Row(i), v.Columns)
	default:
		v.Kind = store.BadValue
	}
	return v
}

// message is the engine's own text without the wrapping around it.
func message(err error) string {
	text := err.Error()
	for _, mark := range []string{"UNIQUE constraint", "NOT NULL constraint", "CHECK constraint", "FOREIGN KEY constraint", "cannot store"} {
		if i := strings.Index(text, mark); i >= 0 {
			return text[i:]
		}
	}
	return strings.TrimPrefix(text, "sqlite: step: ")
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

func uniqueName(t *schema.Table, columns []string, detail string) string {
	if slices.Equal(columns, t.PrimaryKey) {
		return "PRIMARY KEY (" + strings.Join(columns, ", ") + ")"
	}
	for _, u := range t.Uniques {
		if slices.Equal(u.Columns, columns) {
			return u.Name
		}
	}
	if len(columns) == 0 {
		return detail // an index over an expression tells its own name
	}
	return describeKey(columns)
}

func valuesOf(into store.Into, row []grow.Value, columns []string) []grow.Value {
	values := make([]grow.Value, len(columns))
	for i, name := range columns {
		for j, c := range into.Columns {
			if c.Name == name {
				values[i] = row[into.Fields[j]]
			}
		}
	}
	return values
}

func containsWord(text, word string) bool {
	for i := range text {
		if wordAt(text, i, word) {
			return true
		}
	}
	return false
}

// other returns the primary key of the row that has these values; nil if it cannot
// be told.
func (tx *transaction) other(t *schema.Table, columns []string, values []grow.Value) []store.Pair {
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
	stmt, _, err := tx.conn.PrepareTransient("SELECT " + quoteAll(columns) + " FROM " + quote(t.Name) + " WHERE " + where + " LIMIT 1")
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
func (tx *transaction) findReference(into store.Into, row []grow.Value, v *store.Violation) {
	for _, r := range into.Table.References {
		values := valuesOf(into, row, r.Columns)
		if slices.ContainsFunc(values, grow.Value.IsNull) {
			continue
		}
		var where []string
		for _, c := range r.Targets {
			where = append(where, quote(c)+" = ?")
		}
		stmt, _, err := tx.conn.PrepareTransient("SELECT 1 FROM " + quote(r.Table) + " WHERE " + strings.Join(where, " AND "))
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
		err := tx.rows(`SELECT rowid, parent, fkid FROM pragma_foreign_key_check(?) LIMIT 1`, []string{t.Name}, func(s *sqlite.Stmt) error {
			v = &store.Violation{Kind: store.ForeignKey, Row: -1, Table: t.Name, Refers: s.ColumnText(1), Code: sqlite.ResultConstraintForeignKey.String(), Message: "FOREIGN KEY constraint failed"}
			rowid = s.ColumnInt64(0)
			for _, r := range t.References {
				if r.Table == v.Refers {
					v.Constraint, v.Columns = r.Name, r.Columns
				}
			}
			return nil
		})
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
