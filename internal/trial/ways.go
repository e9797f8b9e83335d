package trial

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/store/setwise"
	"evensprout/internal/value"
)

// way is a way to write rows.
type way struct {
	name string
	job  Job
	own  bool // it is what load does
	run  func(ctx context.Context, x *runner, count int) error
}

// maxValues bounds the values of a statement: the least of what engines allow.
const maxValues = 30_000

// addingWays are ways to add rows to an empty table.
func (x *runner) addingWays() []way {
	ways := []way{
		{
			"one row per statement, each committed",
			Add,
			false,
			func(ctx context.Context, x *runner, count int) error { return x.inserts(ctx, count, 1) },
		},
		{"one row per statement, one transaction", Add, false, func(ctx context.Context, x *runner, count int) error {
			return x.inTransaction(ctx, func(store.Tx) error { return x.inserts(ctx, count, 1) })
		}},
	}
	for _, size := range []int{10, 100, 1000} {
		ways = append(
			ways,
			way{
				fmt.Sprintf("%s rows per statement", map[int]string{10: "10", 100: "100", 1000: "1,000"}[size]),
				Add,
				false,
				func(ctx context.Context, x *runner, count int) error {
					return x.inTransaction(ctx, func(store.Tx) error { return x.inserts(ctx, count, size) })
				},
			},
		)
	}
	if !x.rebuilds {
		return append(ways, way{x.db.Bulk(), Add, true, addRows})
	}
	return append(
		ways,
		way{x.db.Bulk() + ", indexes in place", Add, false, addRows},
		way{x.db.Bulk() + rebuilt, Add, true, addAsLoad},
	)
}

// rebuilt ends the name of the way that makes indexes anew behind many rows.
const rebuilt = ", indexes rebuilt"

// addRows adds rows by the engine's bulk path.
func addRows(ctx context.Context, x *runner, count int) error {
	return x.inTransaction(ctx, func(tx store.Tx) error {
		n, err := tx.Insert(ctx, x.into, x.batches(count))
		x.written = int(n)
		return err
	})
}

// addAsLoad does the same and, for many rows, makes the indexes anew behind them.
func addAsLoad(ctx context.Context, x *runner, count int) error {
	if count < x.o.RebuildFrom {
		return addRows(ctx, x, count)
	}
	return x.inTransaction(ctx, func(tx store.Tx) error {
		dropped, err := x.dropIndexes(ctx, tx)
		if err != nil {
			return err
		}
		n, err := tx.Insert(ctx, x.into, x.batches(count))
		x.written = int(n)
		if err != nil {
			return err
		}
		return dropped.Restore(ctx)
	})
}

// rebuilder is a transaction that can drop indexes and make them again inside itself.
type rebuilder interface {
	DropIndexes(ctx context.Context, r store.Rebuild) (store.Dropped, error)
}

func (x *runner) dropIndexes(ctx context.Context, tx store.Tx) (store.Dropped, error) {
	r, ok := tx.(rebuilder)
	if !ok || !x.db.Traits().Rebuilds {
		return store.Dropped{}, nil
	}
	tables := []*schema.Table{x.table}
	return r.DropIndexes(ctx, store.Rebuild{Tables: tables, Filled: tables})
}

// hasIndexesToRebuild tries whether load would rebuild indexes of the table.
func (x *runner) hasIndexesToRebuild(ctx context.Context) (bool, error) {
	if x.o.RebuildFrom == 0 || slices.Max(x.o.Counts) < x.o.RebuildFrom {
		return false, nil
	}
	tx, err := x.db.Begin(ctx, store.TxOptions{})
	if err != nil {
		return false, err
	}
	defer tx.Rollback()
	dropped, err := x.dropIndexes(ctx, tx)
	return dropped.Count > 0, err
}

// changingWays are ways to change rows that are there.
func changingWays(Database) []way {
	ways := []way{
		{"a loop that finds a row, then writes " +
			"it", Change, false, func(ctx context.Context, x *runner, count int) error {
			return x.inTransaction(ctx, func(store.Tx) error { return x.findThenWrite(ctx, count) })
		}},
	}
	for _, size := range []int{100, 500} {
		ways = append(
			ways,
			way{
				fmt.Sprintf("UPDATE with CASE, %d rows per statement", size),
				Change,
				false,
				func(ctx context.Context, x *runner, count int) error {
					return x.inTransaction(ctx, func(store.Tx) error { return x.cases(ctx, count, size) })
				},
			},
		)
	}
	return append(ways, way{"a staged upsert", Change, true, func(ctx context.Context, x *runner, count int) error {
		return x.inTransaction(ctx, func(tx store.Tx) error { return x.upsert(ctx, tx, count) })
	}})
}

// inTransaction does something in a transaction and commits it.
func (x *runner) inTransaction(ctx context.Context, do func(store.Tx) error) error {
	tx, err := x.db.Begin(ctx, store.TxOptions{})
	if err != nil {
		return err
	}
	defer tx.Rollback()
	if err := do(tx); err != nil {
		return err
	}
	return tx.Commit(ctx)
}

// batches are the first rows.
func (x *runner) batches(count int) store.Rows {
	return func(yield func(*value.Batch) bool) {
		const step = 1000
		for from := 0; from < count; from += step {
			b := x.rows.Slice(from, min(from+step, count))
			x.note("", b.Values...)
			if !yield(&b.Batch) {
				return
			}
		}
	}
}

// note counts the bytes of a statement and its values, for engines without a server.
func (x *runner) note(sql string, values ...value.Value) {
	x.bytes += int64(len(sql))
	if x.db.Sent() > 0 {
		return
	}
	var buf [64]byte
	for i := range values {
		if v := &values[i]; v.Type == value.Text || v.Type == value.Bytes || v.Type == value.JSON {
			x.bytes += int64(len(v.S))
		} else {
			x.bytes += int64(len(v.AppendText(buf[:0])))
		}
	}
}

// exec runs a statement with values of columns.
func (x *runner) exec(ctx context.Context, sql string, args []setwise.Arg) error {
	x.bytes += int64(len(sql))
	for _, a := range args {
		x.note("", a.Value)
	}
	_, err := x.db.Exec(ctx, sql, args...)
	return err
}

// inserts adds rows, several with each statement.
func (x *runner) inserts(ctx context.Context, count, size int) error {
	size = min(size, maxValues/len(x.into.Columns))
	head := "INSERT INTO " + x.db.Table(
		x.table,
	) + " (" + strings.Join(
		setwise.Names(x.db, "", x.into.Columns),
		", ",
	) + ")"
	if slices.ContainsFunc(x.into.Columns, func(c *schema.Column) bool { return c.Identity == schema.Always }) {
		head += " " + x.db.Overriding()
	}
	head += " VALUES "
	texts := map[int]string{} // by the number of rows
	for from := 0; from < count && !x.late(); from += size {
		n := min(size, count-from)
		if texts[n] == "" {
			var b strings.Builder
			b.WriteString(head)
			for r := range n {
				if r > 0 {
					b.WriteString(", ")
				}
				for i, c := range x.into.Columns {
					b.WriteString(
						map[bool]string{true: "(", false: ", "}[i == 0] + x.db.Param(r*len(x.into.Columns)+i+1, c),
					)
				}
				b.WriteByte(')')
			}
			texts[n] = b.String()
		}
		args := make([]setwise.Arg, 0, n*len(x.into.Columns))
		for r := range n {
			for i, c := range x.into.Columns {
				args = append(args, setwise.Arg{Value: *x.value(from+r, i), Column: c})
			}
		}
		if err := x.exec(ctx, texts[n], args); err != nil {
			return err
		}
		x.written += n
	}
	return nil
}

// findThenWrite asks for each row whether it is there, and changes it.
func (x *runner) findThenWrite(ctx context.Context, count int) error {
	key, changed := x.into.Columns[x.key], x.into.Columns[x.change]
	find := "SELECT " + x.db.Quote(
		key.Name,
	) + " FROM " + x.db.Table(
		x.table,
	) + " WHERE " + x.db.Quote(
		key.Name,
	) + " = " + x.db.Param(
		1,
		key,
	)
	write := "UPDATE " + x.db.Table(
		x.table,
	) + " SET " + x.db.Quote(
		changed.Name,
	) + " = " + x.db.Param(
		1,
		changed,
	) + " WHERE " + x.db.Quote(
		key.Name,
	) + " = " + x.db.Param(
		2,
		key,
	)
	for r := 0; r < count && !x.late(); r++ {
		id := setwise.Arg{Value: *x.value(r, x.key), Column: key}
		found := false
		x.note(find, id.Value)
		err := x.db.Query(ctx, find, []setwise.Arg{id}, []*schema.Column{key}, func([]value.Value) error {
			found = true
			return nil
		})
		if err == nil && !found {
			err = fmt.Errorf("the row %s does not exist", id.Value)
		}
		if err == nil {
			err = x.exec(ctx, write, []setwise.Arg{{Value: *x.value(r, x.change), Column: changed}, id})
		}
		if err != nil {
			return err
		}
		x.written++
	}
	return nil
}

// cases changes several rows with each statement: CASE says which value belongs to which.
func (x *runner) cases(ctx context.Context, count, size int) error {
	key, changed := x.into.Columns[x.key], x.into.Columns[x.change]
	texts := map[int]string{}
	for from := 0; from < count && !x.late(); from += size {
		n := min(size, count-from)
		if texts[n] == "" {
			var b strings.Builder
			b.WriteString(
				"UPDATE " + x.db.Table(
					x.table,
				) + " SET " + x.db.Quote(
					changed.Name,
				) + " = CASE " + x.db.Quote(
					key.Name,
				),
			)
			for r := range n {
				b.WriteString(
					" WHEN " + x.db.Param(2*r+1, key) + " THEN " + x.db.Typed(x.db.Param(2*r+2, changed), changed),
				)
			}
			b.WriteString(" END WHERE " + x.db.Quote(key.Name) + " IN (")
			for r := range n {
				if r > 0 {
					b.WriteString(", ")
				}
				b.WriteString(x.db.Param(2*n+r+1, key))
			}
			b.WriteByte(')')
			texts[n] = b.String()
		}
		var args, keys []setwise.Arg
		for r := range n {
			id := setwise.Arg{Value: *x.value(from+r, x.key), Column: key}
			args = append(args, id, setwise.Arg{Value: *x.value(from+r, x.change), Column: changed})
			keys = append(keys, id)
		}
		if err := x.exec(ctx, texts[n], append(args, keys...)); err != nil {
			return err
		}
		x.written += n
	}
	return nil
}

// upsert lays the rows aside and lets the database change those that differ.
func (x *runner) upsert(ctx context.Context, tx store.Tx, count int) error {
	w := &store.Write{
		Into:     x.into,
		Mode:     store.Upsert,
		Match:    []*schema.Column{x.into.Columns[x.key]},
		Set:      []*schema.Column{x.into.Columns[x.change]},
		Distinct: true,
	}
	stage, err := tx.Stage(ctx, w, x.batches(count))
	if err != nil {
		return err
	}
	if _, err := stage.Apply(ctx, 0, stage.Rows()); err != nil {
		return err
	}
	x.written = count
	return nil
}
