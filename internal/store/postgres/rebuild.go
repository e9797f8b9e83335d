package postgres

import (
	"context"
	"errors"
	"maps"
	"slices"
	"strings"

	"evensprout/internal/schema"
	"evensprout/internal/store"
)

// droppableSQL lists what can be dropped and made again without a trace: foreign keys to tables that nobody else can
// use meanwhile, unique constraints to which no other table refers, and plain indexes. Whatever has a property that
// would be lost (a comment, storage options of a constraint, a tablespace, a target for statistics, a role in
// clustering or replication, a partition above or below it, a trigger that somebody disabled) is left alone.
const droppableSQL = `
SELECT 'constraint', c.conname, pg_get_constraintdef(c.oid), coalesce(c.confrelid::regclass::text, '')
FROM pg_constraint c
  LEFT JOIN pg_index i ON i.indexrelid = c.conindid AND c.contype = 'u'
  LEFT JOIN pg_class k ON k.oid = i.indexrelid
WHERE c.conrelid = $1::regclass AND c.coninhcount = 0 AND c.conparentid = 0
  AND (c.contype = 'f' AND c.convalidated AND c.confrelid = ANY ($2::regclass[])
      AND NOT EXISTS (SELECT 1 FROM pg_trigger t WHERE t.tgconstraint = c.oid AND t.tgenabled <> 'O')
    OR c.contype = 'u' AND i.indisvalid AND NOT i.indisreplident AND NOT i.indisclustered
      AND k.reloptions IS NULL AND k.reltablespace = 0
      AND NOT EXISTS (SELECT 1 FROM pg_constraint f WHERE f.contype = 'f' AND f.conindid = c.conindid))
  AND NOT EXISTS (SELECT 1 FROM pg_description d WHERE d.objoid IN (c.oid, i.indexrelid))
UNION ALL
SELECT 'index', i.indexrelid::regclass::text, pg_get_indexdef(i.indexrelid), ''
FROM pg_index i JOIN pg_class k ON k.oid = i.indexrelid
WHERE i.indrelid = $1::regclass AND i.indisvalid AND NOT i.indisprimary AND NOT i.indisreplident
  AND NOT i.indisclustered AND k.relkind = 'i' AND k.reltablespace = 0
  AND NOT starts_with(k.relname, 'evensprout_removing_')
  AND NOT EXISTS (SELECT 1 FROM pg_constraint c WHERE c.conindid = i.indexrelid)
  AND NOT EXISTS (SELECT 1 FROM pg_inherits h WHERE h.inhrelid = i.indexrelid)
  AND NOT EXISTS (SELECT 1 FROM pg_description d WHERE d.objoid = i.indexrelid)
  AND NOT EXISTS (SELECT 1 FROM pg_attribute a WHERE a.attrelid = i.indexrelid AND a.attstattarget >= 0)
ORDER BY 1 DESC, 2`

// standingSQL says why the indexes of a table stay in place; it is empty if they need not.
const standingSQL = `
SELECT CASE
  WHEN (SELECT relkind FROM pg_class WHERE oid = $1::regclass) <> 'r' THEN 'it is a partitioned table'
  WHEN EXISTS (SELECT 1 FROM pg_event_trigger WHERE evtenabled <> 'D') THEN
    'the database has event triggers, which would run'
  WHEN current_setting('default_tablespace') <> '' THEN 'default_tablespace is set'
  WHEN EXISTS (SELECT 1 FROM pg_trigger t LEFT JOIN pg_constraint c ON c.oid = t.tgconstraint
      WHERE t.tgrelid = $1::regclass AND t.tgdeferrable AND NOT (c.contype = 'u'
        OR c.contype = 'f' AND c.confrelid = ANY ($2::regclass[]))) THEN
    'it has checks that are deferred to the commit'
  ELSE '' END`

// dropMark is a savepoint: what is dropped only in part is there again.
const dropMark = "evensprout_drop"

// DropIndexes drops what slows down a load of empty tables, inside the transaction. Restore makes it again; if rows do
// not go together with it, that is a *store.Violation, and the transaction is lost. If anything is in the way, nothing
// is dropped, and a *store.Fault says why.
func (tx *transaction) DropIndexes(ctx context.Context, r store.Rebuild) (store.Dropped, error) {
	if err := tx.Savepoint(ctx, dropMark); err != nil {
		return store.Dropped{}, err
	}
	list, err := tx.drop(ctx, r)
	if err != nil {
		if back := tx.RollbackTo(ctx, dropMark); back != nil {
			return store.Dropped{}, errors.Join(err, back)
		}
		return store.Dropped{}, whyKept(err)
	}
	if err := tx.Release(ctx, dropMark); err != nil {
		return store.Dropped{}, err
	}
	out := store.Dropped{Count: len(list)}
	for _, d := range list {
		if !slices.Contains(out.Tables, d.table) {
			out.Tables = append(out.Tables, d.table)
		}
	}
	out.Restore = func(ctx context.Context) error {
		// Keys of all tables before the references to them.
		for _, references := range []bool{false, true} {
			for _, d := range list {
				if d.references == references {
					if _, err := tx.db.Exec(ctx, d.again); err != nil {
						return err
					}
				}
			}
		}
		return nil
	}
	return out, nil
}

// whyKept is the reason for which indexes stay in place.
func whyKept(err error) error {
	var f *store.Fault
	var v *store.Violation
	switch {
	case errors.As(err, &f) && f.Kind == store.Locked:
		return &store.Fault{Kind: store.Locked, Message: "another session uses the tables", Hint: f.Hint, Err: f.Err}
	case errors.As(err, &f) && f.Kind == store.Denied:
		return &store.Fault{Kind: store.Denied, Message: "this user does not own the tables", Err: f.Err,
			Hint: "load as their owner, or without --indexes rebuild"}
	case errors.As(err, &v):
		return &store.Fault{Kind: store.Refused, Message: "an index cannot be dropped", Err: err,
			Hint: "load without --indexes rebuild"}
	}
	return err
}

// droppedIndex is an index or a constraint that is made again.
type droppedIndex struct {
	table      *schema.Table
	drop       string
	again      string
	references bool // it is a foreign key
}

// drop locks tables and drops their indexes.
func (tx *transaction) drop(ctx context.Context, r store.Rebuild) ([]droppedIndex, error) {
	d := &dropping{tx: tx, r: r, filled: tx.regclasses(r.Filled), referred: map[string]bool{}}
	for _, t := range r.Tables {
		if err := d.find(ctx, t); err != nil {
			return nil, err
		}
	}
	for _, name := range slices.Sorted(maps.Keys(d.referred)) {
		if err := d.lock(ctx, name); err != nil {
			return nil, err
		}
	}
	for _, x := range d.list {
		if _, err := tx.db.Exec(ctx, x.drop); err != nil {
			return nil, err
		}
	}
	return d.list, nil
}

// dropping finds what can be dropped.
type dropping struct {
	tx       *transaction
	r        store.Rebuild
	filled   string // the tables of r.Filled, as an array
	list     []droppedIndex
	referred map[string]bool // tables that dropped foreign keys refer to
}

// lock keeps others out of a table until the end.
func (d *dropping) lock(ctx context.Context, table string) error {
	sql := "LOCK TABLE " + table + " IN ACCESS EXCLUSIVE MODE"
	if !d.r.Wait {
		sql += " NOWAIT"
	}
	_, err := d.tx.db.Exec(ctx, sql)
	return err
}

// find locks a table and lists what can be dropped of it.
func (d *dropping) find(ctx context.Context, t *schema.Table) error {
	db := d.tx.db
	name, why := db.Table(t), ""
	err := db.texts(ctx, 1, standingSQL, args(name, d.filled), func(row []string) { why = strings.Clone(row[0]) })
	switch {
	case err != nil:
		return err
	case why != "" && d.r.Wait:
		return &store.Fault{
			Kind:    store.Refused,
			Message: "the indexes of " + t.Name + " stay in place: " + why,
			Hint:    "load without --indexes rebuild",
		}
	case why != "":
		return nil
	}
	if err := d.lock(ctx, name); err != nil {
		return err
	}
	return db.texts(ctx, 4, droppableSQL, args(name, d.filled), func(row []string) {
		what, definition := strings.Clone(row[1]), strings.Clone(row[2])
		if row[0] == "index" {
			d.list = append(d.list, droppedIndex{t, "DROP INDEX " + what, definition, false})
			return
		}
		if row[3] != "" && row[3] != "-" {
			d.referred[strings.Clone(row[3])] = true
		}
		d.list = append(d.list, droppedIndex{
			t, "ALTER TABLE " + name + " DROP CONSTRAINT " + db.Quote(what),
			"ALTER TABLE " + name + " ADD CONSTRAINT " + db.Quote(what) + " " + definition,
			strings.HasPrefix(definition, "FOREIGN KEY "),
		})
	})
}

// regclasses are tables as the text of an array.
func (tx *transaction) regclasses(tables []*schema.Table) string {
	names := make([]string, len(tables))
	for i, t := range tables {
		names[i] = tx.db.Table(t)
	}
	return array(names)
}
