package setwise

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/store/dialect"
)

// The columns that tell a chunk.
var chunkKey = []string{"load", "family", "side", "first"}

// Journal describes the tool's own tables. named makes a table of its short name.
func Journal(named func(string) *schema.Table) *store.Journal {
	integer := func(name string) *schema.Column {
		return &schema.Column{Name: name, Kind: schema.Integer, NotNull: true}
	}
	short := func(name string) *schema.Column {
		return &schema.Column{Name: name, Kind: schema.Text, Length: 255, NotNull: true}
	}
	long := func(name string) *schema.Column { return &schema.Column{Name: name, Kind: schema.Text} }
	moment := func(name string) *schema.Column {
		return &schema.Column{Name: name, Kind: schema.Timestamp, Digits: 6}
	}
	blob := func(name string) *schema.Column { return &schema.Column{Name: name, Kind: schema.Bytes} }

	loads := named("loads")
	number := integer("number")
	number.Identity = schema.Serial
	loads.Columns = []*schema.Column{
		number, short("plan"), short("extra"), integer("part"), short("token"), short("state"),
		moment("began"), moment("ended"), short("actor"), long("about"), blob("body"), long("summary"),
	}
	loads.PrimaryKey = []string{"number"}
	loads.Uniques = []schema.Unique{{Name: "plan_part", Columns: []string{"plan", "extra", "part"}}}

	chunks := named("chunks")
	chunks.Columns = []*schema.Column{
		integer("load"), integer("family"), integer("side"), integer("first"),
		short("state"), moment("ended"), long("result"), blob("record"),
	}
	chunks.PrimaryKey = chunkKey

	contents := named("contents")
	contents.Columns = []*schema.Column{
		integer("load"), integer("family"), integer("side"), integer("first"), integer("seq"),
		short("entity"), short("of"), short("what"), integer("rows"), blob("body"),
	}
	contents.PrimaryKey = append(slices.Clone(chunkKey), "seq")

	// An occasion's name is the digest of what tells it from all others.
	occasions := named("occasions")
	occasions.Columns = []*schema.Column{{Name: "name", Kind: schema.Bytes, Length: 16, NotNull: true}, integer("load")}
	occasions.PrimaryKey = []string{"name"}
	return &store.Journal{Loads: loads, Chunks: chunks, Contents: contents, Occasions: occasions}
}

// OpenJournal looks for the journal's tables, and makes them if asked to. prepare runs
// before the first is made.
func OpenJournal(
	ctx context.Context,
	e Engine,
	j *store.Journal,
	create bool,
	prepare ...string,
) (*store.Journal, error) {
	const tries = 20 // others may be making them at the same moment

	// the last one tells that all are there
	tables := []*schema.Table{j.Occasions, j.Contents, j.Chunks, j.Loads}
	for try := 1; ; try++ {
		found, missing, err := existing(ctx, e, tables)
		if err != nil {
			return nil, err
		}
		if len(found) > 0 {
			if j.Writers, err = e.Vet(ctx, found); err != nil {
				return nil, err
			}
		}
		if len(missing) == 0 {
			return j, nil
		}
		if slices.Contains(found, j.Loads) && !slices.Equal(missing, []*schema.Table{j.Occasions}) {
			if try == 1 {
				continue // others may have made them since the first one was looked for
			}
			return nil, incomplete(e, found, missing)
		}
		if !create {
			if slices.Equal(missing, []*schema.Table{j.Occasions}) {
				return &store.Journal{
					Loads:    j.Loads,
					Chunks:   j.Chunks,
					Contents: j.Contents,
					Writers:  j.Writers,
					Path:     j.Path,
				}, nil // made before there were units
			}
			return nil, nil
		}
		statements := prepare
		for _, t := range missing {
			statements = append(slices.Clip(statements), createTable(e, t))
		}
		var failed error
		for _, sql := range statements {
			if _, failed = e.Exec(ctx, sql); failed != nil {
				break
			}
		}
		if failed == nil {
			return j, nil
		}
		if try == tries || ctx.Err() != nil || isFault(failed) {
			return nil, failed
		}
		time.Sleep(time.Duration(try) * 5 * time.Millisecond)
	}
}

// existing divides tables into those that are there and those that are not.
func existing(ctx context.Context, e Engine, tables []*schema.Table) (found, missing []*schema.Table, err error) {
	for _, t := range tables {
		sql, args := e.Exists(t)
		n, err := Number(ctx, e, sql, args...)
		if err != nil {
			return nil, nil, err
		}
		if n > 0 {
			found = append(found, t)
		} else {
			missing = append(missing, t)
		}
	}
	return found, missing, nil
}

// incomplete refuses a journal that has lost a table: what loads did, or how to undo it, is not known any more.
func incomplete(e dialect.Names, found, missing []*schema.Table) error {
	var rest []string
	for _, t := range found {
		rest = append(rest, "DROP TABLE "+e.Table(t))
	}
	return Unvetted(missing[len(missing)-1].Name, "is gone, or hidden from this user",
		"restore it from a backup; or give the other tables of the journal up, too, and with them all that is known "+
			"of loads: "+strings.Join(rest, "; "))
}

// Unvetted refuses a journal that is not what this program makes.
func Unvetted(table, why, hint string) error {
	return &store.Fault{
		Kind:    store.Refused,
		Message: fmt.Sprintf("the journal is not used: its table %s %s", table, why),
		Hint:    hint,
	}
}

// isFault reports whether an error is one that does not pass by itself. A lock was waited
// for already.
func isFault(err error) bool {
	f, ok := err.(*store.Fault)
	return ok && f.Kind != store.Transient
}

func createTable(e dialect.Dialect, t *schema.Table) string {
	var list []string
	for _, c := range t.Columns {
		declared := e.Quote(c.Name) + " " + e.Declare(c)
		if c.NotNull && c.Identity == schema.NoIdentity {
			declared += " NOT NULL"
		}
		list = append(list, declared)
	}
	key := t.Column(t.PrimaryKey[0])
	if key.Identity == schema.NoIdentity {
		list = append(list, "PRIMARY KEY ("+strings.Join(Names(e, "", columnsOf(t, t.PrimaryKey)), ", ")+")")
	}
	for _, u := range t.Uniques {
		list = append(list, "UNIQUE ("+strings.Join(Names(e, "", columnsOf(t, u.Columns)), ", ")+")")
	}
	return "CREATE TABLE IF NOT EXISTS " + e.Table(t) + " (" + strings.Join(list, ", ") + ")"
}

// equal is the condition that columns have values, with its arguments behind others.
func equal(e dialect.Dialect, cells []store.Cell, args []Arg) (string, []Arg) {
	var list []string
	for _, c := range cells {
		if c.Value.IsNull() {
			list = append(list, e.Quote(c.Column.Name)+" IS NULL")
			continue
		}
		args = append(args, Arg{c.Value, c.Column})
		list = append(list, e.Equal(e.Quote(c.Column.Name), e.Param(len(args), c.Column), c.Column))
	}
	return strings.Join(list, " AND "), args
}

// Add adds rows.
func (tx *Tx) Add(ctx context.Context, t *schema.Table, rows ...[]store.Cell) error {
	for _, row := range rows {
		var names, params []string
		var args []Arg
		for i, c := range row {
			names = append(names, tx.Engine.Quote(c.Column.Name))
			params = append(params, tx.Engine.Param(i+1, c.Column))
			args = append(args, Arg{c.Value, c.Column})
		}
		sql := fmt.Sprintf(
			"INSERT INTO %s (%s) VALUES (%s)",
			tx.Engine.Table(t),
			strings.Join(names, ", "),
			strings.Join(params, ", "),
		)
		if _, err := tx.Engine.Exec(ctx, sql, args...); err != nil {
			return Named(err, t)
		}
	}
	return nil
}

// Set changes columns of the rows that have certain values.
func (tx *Tx) Set(ctx context.Context, t *schema.Table, set, where []store.Cell) (int64, error) {
	var list []string
	var args []Arg
	for i, c := range set {
		list = append(list, tx.Engine.Quote(c.Column.Name)+" = "+tx.Engine.Param(i+1, c.Column))
		args = append(args, Arg{c.Value, c.Column})
	}
	condition, args := equal(tx.Engine, where, args)
	n, err := tx.Engine.Exec(
		ctx,
		"UPDATE "+tx.Engine.Table(t)+" SET "+strings.Join(list, ", ")+" WHERE "+condition,
		args...)
	return n, Named(err, t)
}

// Delete deletes the rows that have certain values.
func (tx *Tx) Delete(ctx context.Context, t *schema.Table, where []store.Cell) (int64, error) {
	condition, args := equal(tx.Engine, where, nil)
	n, err := tx.Engine.Exec(ctx, "DELETE FROM "+tx.Engine.Table(t)+" WHERE "+condition, args...)
	return n, Named(err, t)
}
