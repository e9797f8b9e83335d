// Package setwise writes rows by statements over sets of them: it is what all SQL
// engines do in the same way, so that modes and violations mean the same everywhere.
// Rows are laid aside in a temporary table, held against keys, references and checks
// there, and written from there.
package setwise

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/store/dialect"
	"evensprout/internal/value"
)

// Arg is a value to be bound; its column, if known, says in which form.
type Arg struct {
	Value  value.Value
	Column *schema.Column
}

// Values are those of args.
func Values(args []Arg) []value.Value {
	if len(args) == 0 {
		return nil
	}
	out := make([]value.Value, len(args))
	for i, a := range args {
		out[i] = a.Value
	}
	return out
}

// Engine is what an engine's own folder provides.
type Engine interface {
	dialect.Dialect

	// Exec runs a statement and returns how many rows it touched. Errors are a
	// *store.Violation or *store.Fault where their cause is known.
	Exec(ctx context.Context, sql string, args ...Arg) (int64, error)
	// Query runs a query whose results are read by the kinds of columns. Each row is
	// shown in turn and must not be kept.
	Query(ctx context.Context, sql string, args []Arg, columns []*schema.Column, show func([]value.Value) error) error
	// Fill puts rows into a temporary table: their numbers into the first column.
	Fill(ctx context.Context, table string, into store.Into, rows store.Rows) (int64, error)
	// ReadOnly does something in which nothing can be written, as far as the engine can see
	// to that: in a transaction that is rolled back or, inside one, up to a savepoint.
	ReadOnly(ctx context.Context, do func() error) error
	// Qualified does something in which names without a schema are the engine's own.
	Qualified(ctx context.Context, do func() error) error
	// Exists is a query of how many tables there are of a name.
	Exists(t *schema.Table) (string, []Arg)
	// Vet looks at tables of the journal before they are used: an error tells that one is not
	// what this program makes, such as that it has a trigger. It returns who else may write to
	// them, as far as the engine tells.
	Vet(ctx context.Context, tables []*schema.Table) (writers []string, err error)
	LastKey(ctx context.Context) (value.Value, error)
	// Fresh ends a query, or one inside another, that must see what others have committed since the transaction began;
	// empty where each statement does, or where the engine refuses to delete what it does not see.
	Fresh() string
}

// Ordinal is the column of stages that numbers their rows.
var Ordinal = &schema.Column{Name: "evensprout row", Kind: schema.Integer, NotNull: true}

// countColumn is the column of a count.
var countColumn = &schema.Column{Name: "n", Kind: schema.Integer}

// Tx is the part of a transaction that is the same for all engines.
type Tx struct {
	Engine Engine
	Late   bool   // deferrable references are held against the tables at the commit
	Helper Helper // nil: indexes cannot be made inside a transaction
	marks  int
	helps  []help
	texts  map[stepText]*written // of steps of single occasions

	referrers   map[string][]referrer // by the name of the table that is referred to
	referringOf *schema.Database

	lockedRows map[string]int64 // of tables that LockRows locked, by name: how many rows these are, or unknown
}

// NewTx makes the common part of a transaction.
func NewTx(e Engine) *Tx { return &Tx{Engine: e} }

// Names quotes the names of columns, with a prefix such as "s.".
func Names(e dialect.Names, prefix string, columns []*schema.Column) []string {
	names := make([]string, len(columns))
	for i, c := range columns {
		names[i] = prefix + e.Quote(c.Name)
	}
	return names
}

func columnsOf(t *schema.Table, names []string) []*schema.Column {
	columns := make([]*schema.Column, len(names))
	for i, n := range names {
		columns[i] = t.Column(n)
	}
	return columns
}

// Number is what a query for one number finds.
func Number(ctx context.Context, e Engine, sql string, args ...Arg) (int64, error) {
	var n int64
	err := e.Query(ctx, sql, args, []*schema.Column{countColumn}, func(row []value.Value) error {
		n = row[0].N
		return nil
	})
	return n, err
}

// Count is the number of rows of a table.
func Count(ctx context.Context, e Engine, t *schema.Table) (int64, error) {
	return Number(ctx, e, "SELECT count(*) FROM "+e.Table(t))
}

// Select reads rows of a table.
func Select(ctx context.Context, e Engine, q store.Query, show func([]value.Value) error) error {
	names := Names(e, "", q.Columns)
	if q.Exact {
		names = exactly(e, "", q.Columns)
	}
	columns := q.Columns
	if q.Head > 0 {
		columns = heads(e, names, columns, q.Head)
	}
	if q.Most > 0 {
		leaveOutLong(names, q.Columns, q.Most)
	}

	sql := "SELECT " + strings.Join(names, ", ") + " FROM " + e.Table(q.Table)
	var args []Arg
	if len(q.Where) > 0 {
		var condition string
		condition, args = equal(e, q.Where, nil)
		sql += " WHERE " + condition
	}
	switch {
	case q.Also != "" && len(q.Where) > 0:
		sql += " AND (" + q.Also + ")"
	case q.Also != "":
		sql += " WHERE (" + q.Also + ")"
	}
	if len(q.Table.PrimaryKey) > 0 && !q.AsIs {
		sql += " ORDER BY " + strings.Join(Names(e, "", columnsOf(q.Table, q.Table.PrimaryKey)), ", ")
	}
	if q.Limit > 0 {
		sql += fmt.Sprintf(" LIMIT %d OFFSET %d", q.Limit, q.Skip)
	}
	if q.Fresh {
		sql += e.Fresh()
	}
	read := func() error { return e.Query(ctx, sql, args, columns, show) }
	if q.Also != "" { // it may call functions
		return e.ReadOnly(ctx, read)
	}
	return read()
}

// leaveOutLong selects NULL in place of cells of more than most bytes.
func leaveOutLong(names []string, columns []*schema.Column, most int64) {
	for i, c := range columns {
		if c.Kind == schema.Text || c.Kind == schema.Bytes {
			names[i] = fmt.Sprintf("CASE WHEN octet_length(%s) <= %d THEN %s END", names[i], most, names[i])
		}
	}
}

// heads selects the beginnings of long cells in place of the named columns, and returns the columns to read them as.
func heads(e Engine, names []string, columns []*schema.Column, most int64) []*schema.Column {
	read := slices.Clone(columns)
	for i, c := range columns {
		head := e.Head(names[i], c, most)
		if head == "" {
			continue
		}
		names[i] = head
		if c.Kind == schema.JSON || c.Kind == schema.Any { // what is cut off is no such value any more
			read[i] = &schema.Column{Name: c.Name, Kind: schema.Text}
		}
	}
	return read
}

// Count is the number of rows of a table.
func (tx *Tx) Count(ctx context.Context, t *schema.Table) (int64, error) {
	return Count(ctx, tx.Engine, t)
}

// Find counts the rows that have these values; NULLs are left out.
func (tx *Tx) Find(
	ctx context.Context,
	t *schema.Table,
	columns []*schema.Column,
	values []value.Value,
) (int64, error) {
	var where []string
	var args []Arg
	for i, c := range columns {
		if !values[i].IsNull() && hasEquality(c) {
			where = append(where, tx.Engine.Equal(tx.Engine.Quote(c.Name), tx.Engine.Param(len(args)+1, c), c))
			args = append(args, Arg{values[i], c})
		}
	}
	if len(where) == 0 {
		return 0, nil
	}
	return Number(
		ctx,
		tx.Engine,
		"SELECT count(*) FROM "+tx.Engine.Table(t)+" WHERE "+strings.Join(where, " AND "),
		args...)
}

// hasEquality reports whether a column's type has an equality that can be relied on.
func hasEquality(c *schema.Column) bool {
	return c.Kind != schema.JSON && c.Kind != schema.Real && c.Kind != schema.Any
}

// Greatest is the greatest number in a column, 0 if it has none above.
func (tx *Tx) Greatest(ctx context.Context, t *schema.Table, c *schema.Column) (int64, error) {
	return Number(ctx, tx.Engine, "SELECT coalesce(max("+tx.Engine.Quote(c.Name)+"), 0) FROM "+tx.Engine.Table(t))
}

// referring is the condition that a row has a reference.
func (tx *Tx) referring(t *schema.Table, r *schema.Reference) string {
	return " WHERE " + notNull(Names(tx.Engine, "", columnsOf(t, r.Columns)))
}

// Referring shows the rows of a table that refer to any row of another.
func (tx *Tx) Referring(
	ctx context.Context,
	t *schema.Table,
	r *schema.Reference,
	show func([]value.Value) error,
) error {
	return tx.Engine.Query(
		ctx,
		"SELECT "+strings.Join(Names(tx.Engine, "", t.Columns), ", ")+" FROM "+tx.Engine.Table(t)+tx.referring(t, r)+
			tx.Engine.Fresh(),
		nil,
		t.Columns,
		show,
	)
}

// Unlink sets references to NULL.
func (tx *Tx) Unlink(ctx context.Context, t *schema.Table, r *schema.Reference) error {
	var set []string
	for _, c := range Names(tx.Engine, "", columnsOf(t, r.Columns)) {
		set = append(set, c+" = NULL")
	}
	_, err := tx.Engine.Exec(ctx, "UPDATE "+tx.Engine.Table(t)+" SET "+strings.Join(set, ", ")+tx.referring(t, r))
	return err
}

// Remove deletes the rows that have a reference.
func (tx *Tx) Remove(ctx context.Context, t *schema.Table, r *schema.Reference) (int64, error) {
	return tx.Engine.Exec(ctx, "DELETE FROM "+tx.Engine.Table(t)+tx.referring(t, r))
}

// Savepoint marks a place to go back to.
func (tx *Tx) Savepoint(ctx context.Context, name string) error {
	_, err := tx.Engine.Exec(ctx, "SAVEPOINT "+tx.Engine.Quote(name))
	return err
}

// RollbackTo goes back to a mark, which stays.
func (tx *Tx) RollbackTo(ctx context.Context, name string) error {
	tx.unlocked()
	_, err := tx.Engine.Exec(ctx, "ROLLBACK TO SAVEPOINT "+tx.Engine.Quote(name))
	return err
}

// Release forgets a mark.
func (tx *Tx) Release(ctx context.Context, name string) error {
	_, err := tx.Engine.Exec(ctx, "RELEASE SAVEPOINT "+tx.Engine.Quote(name))
	return err
}

// try runs something so that its failure leaves no trace.
func (tx *Tx) try(ctx context.Context, do func() error) error {
	tx.marks++
	mark := fmt.Sprintf("evensprout_try_%d", tx.marks)
	defer func() { tx.marks-- }()
	if err := tx.Savepoint(ctx, mark); err != nil {
		return err
	}
	if err := do(); err != nil {
		if back := tx.RollbackTo(ctx, mark); back != nil {
			return errors.Join(err, back)
		}
		return err
	}
	return tx.Release(ctx, mark)
}

// InsertFrom is an INSERT of a query's rows.
func InsertFrom(e dialect.Dialect, into store.Into, query string) string {
	sql := "INSERT INTO " + e.Table(into.Table) + " (" + strings.Join(Names(e, "", into.Columns), ", ") + ") "
	if slices.ContainsFunc(into.Columns, func(c *schema.Column) bool { return c.Identity == schema.Always }) {
		if o := e.Overriding(); o != "" {
			sql += o + " "
		}
	}
	return sql + query
}

// WithKeys puts a key in front of the other columns of a batch.
func WithKeys(into store.Into, key *schema.Column, b *value.Batch, keys []value.Value) (*value.Batch, store.Into) {
	out := &value.Batch{Len: b.Len, Width: 1 + len(into.Columns)}
	full := store.Into{Table: into.Table, Columns: append([]*schema.Column{key}, into.Columns...)}
	for i := range full.Columns {
		full.Fields = append(full.Fields, i)
	}
	for i := range b.Len {
		out.Values = append(out.Values, keys[i])
		for _, f := range into.Fields {
			out.Values = append(out.Values, b.Row(i)[f])
		}
	}
	return out, full
}

// Blame finds a row for which a constraint that was put off does not hold.
func (tx *Tx) Blame(ctx context.Context, v *store.Violation, db *schema.Database) error {
	t := db.Table(v.Table)
	if t == nil || len(t.PrimaryKey) == 0 || len(v.Columns) == 0 {
		return v
	}
	columns, primary := columnsOf(t, v.Columns), columnsOf(t, t.PrimaryKey)
	var condition string
	switch v.Kind {
	case store.ForeignKey:
		for i := range t.References {
			if r := &t.References[i]; r.To != nil && slices.Equal(r.Columns, v.Columns) {
				var same []string
				for j, name := range r.Columns {
					same = append(
						same,
						tx.Engine.Equal("p."+tx.Engine.Quote(r.Targets[j]), "t."+tx.Engine.Quote(name), t.Column(name)),
					)
				}
				condition = notNull(
					Names(tx.Engine, "t.", columns),
				) + " AND NOT EXISTS (SELECT 1 FROM " + tx.Engine.Table(
					r.To,
				) + " AS p WHERE " + strings.Join(
					same,
					" AND ",
				) + ")"
			}
		}
	case store.Unique:
		var same, other []string
		for _, c := range columns {
			same = append(same, tx.Engine.Equal("o."+tx.Engine.Quote(c.Name), "t."+tx.Engine.Quote(c.Name), c))
		}
		for _, c := range primary {
			other = append(other, "NOT "+tx.Engine.Equal("o."+tx.Engine.Quote(c.Name), "t."+tx.Engine.Quote(c.Name), c))
		}
		condition = "EXISTS (SELECT 1 FROM " + tx.Engine.Table(
			t,
		) + " AS o WHERE " + strings.Join(
			same,
			" AND ",
		) + " AND (" + strings.Join(
			other,
			" OR ",
		) + "))"
	}

	if condition == "" {
		return v
	}
	sql := "SELECT " + strings.Join(
		append(Names(tx.Engine, "t.", primary), Names(tx.Engine, "t.", columns)...),
		", ",
	) + " FROM " + tx.Engine.Table(
		t,
	) + " AS t WHERE " + condition +
		" ORDER BY " + strings.Join(
		Names(tx.Engine, "t.", primary),
		" DESC, ",
	) + " DESC LIMIT 1"
	err := tx.Engine.Query(ctx, sql, nil, slices.Concat(primary, columns), func(row []value.Value) error {
		for i, c := range primary {
			v.Key = append(v.Key, store.Pair{Column: c.Name, Value: row[i]})
		}
		v.Values = slices.Clone(row[len(primary):])
		return nil
	})
	if err != nil {
		return errors.Join(v, err)
	}
	return v
}

// Named says in a violation which table refused, where the engine does not.
func Named(err error, t *schema.Table) error {
	var v *store.Violation
	if errors.As(err, &v) && v.Table == "" {
		v.Table = t.Name
		if v.Kind == store.Check && len(v.Columns) == 0 {
			nameCheck(v, t)
		}
	}
	return err
}

// nameCheck says what a check of a table is about, where the engine says its name alone.
func nameCheck(v *store.Violation, t *schema.Table) {
	for _, c := range t.Checks {
		if v.Constraint == "" || c.Name != v.Constraint && CheckName(c) != v.Constraint {
			continue
		}
		v.Constraint = CheckName(c)
		for _, col := range t.Columns {
			if Mentions(c.Expression, col.Name) {
				v.Columns = append(v.Columns, col.Name)
			}
		}
	}
}
