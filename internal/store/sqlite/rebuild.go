package sqlite

import (
	"context"
	"errors"

	"zombiezen.com/go/sqlite"

	"evensprout/internal/schema"
	"evensprout/internal/store"
)

// DropIndexes drops the indexes of tables that have statements of their own, inside the
// transaction. restore makes them again; a refusal then is a *store.Violation.
func (tx *transaction) DropIndexes(
	ctx context.Context,
	tables []*schema.Table,
) (restore func(context.Context) error, err error) {
	type dropped struct {
		table     *schema.Table
		name, sql string
	}
	var list []dropped
	for _, t := range tables {
		err := tx.db.rows(
			"SELECT name, sql FROM sqlite_schema WHERE type = 'index' AND tbl_name = ? AND sql IS NOT NULL",
			[]string{t.Name},
			func(s *sqlite.Stmt) error {
				list = append(list, dropped{t, s.ColumnText(0), s.ColumnText(1)})
				return nil
			},
		)
		if err != nil {
			return nil, err
		}
	}
	for _, d := range list {
		if _, err := tx.db.Exec(ctx, "DROP INDEX "+quote(d.name)); err != nil {
			return nil, err
		}
	}
	return func(ctx context.Context) error {
		for _, d := range list {
			_, err := tx.db.Exec(ctx, d.sql)
			var v *store.Violation
			if errors.As(err, &v) {
				v.Table = d.table.Name
				for _, u := range d.table.Uniques {
					if u.Name == d.name {
						v.Columns, v.Constraint = u.Columns, u.Name
					}
				}
				return tx.Blame(ctx, v, tx.schema)
			}
			if err != nil {
				return err
			}
		}
		return nil
	}, nil
}
