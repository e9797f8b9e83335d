package postgres

import (
	"context"
	"errors"
	"strings"

	"evensprout/internal/schema"
	"evensprout/internal/store"
)

// droppableSQL lists what can be dropped and made again without a trace: foreign keys,
// unique constraints to which no other table refers, and plain indexes. Whatever has a
// property that would be lost (a comment, a role in clustering or replication, a
// partition above it) is left alone.
const droppableSQL = `
SELECT 'constraint', c.conname, pg_get_constraintdef(c.oid)
FROM pg_constraint c LEFT JOIN pg_index i ON i.indexrelid = c.conindid AND c.contype = 'u'
WHERE c.conrelid = $1::regclass AND c.coninhcount = 0 AND c.conparentid = 0
  AND (c.contype = 'f' AND c.convalidated OR c.contype = 'u' AND NOT i.indisreplident AND NOT i.indisclustered
    AND NOT EXISTS (SELECT 1 FROM pg_constraint f WHERE f.contype = 'f' AND f.conindid = c.conindid))
  AND NOT EXISTS (SELECT 1 FROM pg_description d WHERE d.objoid IN (c.oid, i.indexrelid))
UNION ALL
SELECT 'index', i.indexrelid::regclass::text, pg_get_indexdef(i.indexrelid)
FROM pg_index i
WHERE i.indrelid = $1::regclass AND i.indisvalid AND NOT i.indisprimary AND NOT i.indisreplident
  AND NOT i.indisclustered
  AND NOT EXISTS (SELECT 1 FROM pg_constraint c WHERE c.conindid = i.indexrelid)
  AND NOT EXISTS (SELECT 1 FROM pg_inherits h WHERE h.inhrelid = i.indexrelid)
  AND NOT EXISTS (SELECT 1 FROM pg_description d WHERE d.objoid = i.indexrelid)
ORDER BY 1 DESC, 2`

// DropIndexes drops what slows down a load of an empty table, inside the transaction.
// restore makes it again; a refusal then is a *store.Violation.
func (tx *transaction) DropIndexes(
	ctx context.Context,
	tables []*schema.Table,
) (restore func(context.Context) error, err error) {
	type dropped struct {
		table *schema.Table
		again string
	}
	var list []dropped
	for _, t := range tables {
		var drops []string
		err := tx.db.texts(ctx, 3, droppableSQL, args(tx.db.Table(t)), func(row []string) {
			name, definition := strings.Clone(row[1]), strings.Clone(row[2])
			if row[0] == "index" {
				drops = append(drops, "DROP INDEX "+name)
				list = append(list, dropped{t, definition})
				return
			}
			drops = append(drops, "ALTER TABLE "+tx.db.Table(t)+" DROP CONSTRAINT "+tx.db.Quote(name))
			again := dropped{
				t,
				"ALTER TABLE " + tx.db.Table(t) + " ADD CONSTRAINT " + tx.db.Quote(name) + " " + definition,
			}
			list = append(list, again)
		})
		if err != nil {
			return nil, err
		}
		for _, sql := range drops {
			if _, err := tx.db.Exec(ctx, sql); err != nil {
				return nil, err
			}
		}
	}
	return func(ctx context.Context) error {
		// Keys of all tables before the references to them.
		for _, references := range []bool{false, true} {
			for _, d := range list {
				if strings.Contains(d.again, " FOREIGN KEY ") == references {
					if err := tx.restore(ctx, d.table, d.again); err != nil {
						return err
					}
				}
			}
		}
		return nil
	}, nil
}

func (tx *transaction) restore(ctx context.Context, t *schema.Table, sql string) error {
	const mark = "evensprout_rebuild"
	if err := tx.Savepoint(ctx, mark); err != nil {
		return err
	}
	_, err := tx.db.Exec(ctx, sql)
	if err == nil {
		return tx.Release(ctx, mark)
	}
	var v *store.Violation
	if !errors.As(err, &v) {
		return err
	}
	if back := tx.RollbackTo(ctx, mark); back != nil {
		return errors.Join(err, back)
	}
	v.Table = t.Name
	if c, ok := tx.db.constraints[t.Name+"\x00"+v.Constraint]; ok {
		v.Columns, v.Constraint, v.Refers = c.columns, c.name, c.refers
	}
	return tx.Blame(ctx, v, tx.db.tables)
}
