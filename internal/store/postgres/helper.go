package postgres

import (
	"context"
	"errors"
	"strings"

	"evensprout/internal/schema"
	"evensprout/internal/store"
)

// lacksSQL finds a table of more than 256 KiB, rows deleted in this transaction included, of which no index begins with
// one of some columns. Event triggers would run.
const lacksSQL = `
SELECT pg_relation_size(c.oid) > 262144 AND c.relkind = 'r'
  AND NOT EXISTS (SELECT 1 FROM pg_index i JOIN pg_attribute a ON a.attrelid = c.oid AND a.attnum = i.indkey[0]
    WHERE i.indrelid = c.oid AND i.indisvalid AND i.indpred IS NULL AND a.attname = ANY ($2::text[]))
  AND NOT EXISTS (SELECT 1 FROM pg_event_trigger WHERE evtenabled <> 'D')
FROM pg_class c WHERE c.oid = $1::regclass`

// Tables are all tables.
func (tx *transaction) Tables() *schema.Database { return tx.db.tables }

// LacksIndex reports whether a search by columns reads all of a table that is not small.
func (tx *transaction) LacksIndex(ctx context.Context, t *schema.Table, columns []string) (bool, error) {
	lacks := false
	err := tx.db.texts(
		ctx,
		1,
		lacksSQL,
		args(tx.db.Table(t), array(columns)),
		func(row []string) { lacks = row[0] == "t" },
	)
	return lacks, err
}

const helpMark = "evensprout_help"

// MakeIndex makes an index if nobody else uses the table and it is the user's own: dropping it again needs a lock that
// keeps others out.
func (tx *transaction) MakeIndex(ctx context.Context, name string, t *schema.Table, columns []string) (bool, error) {
	if err := tx.Savepoint(ctx, helpMark); err != nil {
		return false, err
	}
	var quoted []string
	for _, c := range columns {
		quoted = append(quoted, tx.db.Quote(c))
	}
	_, err := tx.db.Exec(ctx, "LOCK TABLE "+tx.db.Table(t)+" IN ACCESS EXCLUSIVE MODE NOWAIT")
	if err == nil {
		_, err = tx.db.Exec(ctx, "CREATE INDEX "+tx.db.Quote(name)+" ON "+tx.db.Table(t)+" ("+
			strings.Join(quoted, ", ")+")")
	}
	if err == nil {
		return true, tx.Release(ctx, helpMark)
	}
	var f *store.Fault
	var v *store.Violation
	if !errors.As(err, &v) && (!errors.As(err, &f) || f.Kind != store.Locked && f.Kind != store.Denied) {
		return false, err
	}
	return false, tx.RollbackTo(ctx, helpMark) // it goes without, if slower
}

// DropIndex drops an index. It is gone already if a savepoint before it was rolled back to.
func (tx *transaction) DropIndex(ctx context.Context, name string, t *schema.Table) error {
	schema := ""
	if t.Schema != "" {
		schema = tx.db.Quote(t.Schema) + "."
	}
	_, err := tx.db.Exec(ctx, "DROP INDEX IF EXISTS "+schema+tx.db.Quote(name))
	return err
}

// array is a list of texts as the text of an array.
func array(items []string) string {
	var quoted []string
	for _, x := range items {
		quoted = append(quoted, `"`+strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(x)+`"`)
	}
	return "{" + strings.Join(quoted, ",") + "}"
}
