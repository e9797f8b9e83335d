package sqlite

import (
	"context"
	"slices"
	"strings"

	"zombiezen.com/go/sqlite"

	"evensprout/internal/schema"
	"evensprout/internal/store"
)

// dropped is an index that is made again.
type dropped struct {
	name, sql string
}

// DropIndexes drops the indexes of tables that have statements of their own, inside the transaction. Restore makes them
// again; if rows do not go together with one, that is a *store.Violation. Tables of whose indexes the engine keeps
// statistics are left alone: it would forget them. So are unique indexes that references need: without one, no row of
// either table can be written.
func (tx *transaction) DropIndexes(_ context.Context, r store.Rebuild) (store.Dropped, error) {
	out := store.Dropped{}
	var list []dropped
	known, err := tx.analysed()
	if err != nil {
		return out, err
	}
	for _, t := range r.Tables {
		before, needed := len(list), tx.referred(t)
		err := tx.db.rows(
			"SELECT name, sql, sql LIKE 'CREATE UNIQUE%' FROM sqlite_schema WHERE type = 'index' "+
				"AND tbl_name = ? COLLATE NOCASE AND sql IS NOT NULL "+
				"AND name NOT LIKE 'evensprout\\_removing\\_%' ESCAPE '\\'",
			[]string{t.Name},
			func(s *sqlite.Stmt) error {
				unique := s.ColumnInt64(2) != 0
				if !known[strings.ToLower(t.Name)] && !(unique && needed) {
					list = append(list, dropped{s.ColumnText(0), s.ColumnText(1)})
				}
				return nil
			},
		)
		if err != nil {
			return out, err
		}
		if len(list) > before {
			out.Tables = append(out.Tables, t)
		}
	}
	for _, d := range list {
		if _, err := tx.db.Exec(context.Background(), "DROP INDEX "+quote(d.name)); err != nil {
			return out, err
		}
	}
	out.Count = len(list)
	out.Restore = func(ctx context.Context) error {
		for _, d := range list {
			if _, err := tx.db.Exec(ctx, d.sql); err != nil {
				return err
			}
		}
		return nil
	}
	return out, nil
}

// referred reports whether rows refer to a table by other columns than its primary key.
func (tx *transaction) referred(t *schema.Table) bool {
	for _, other := range tx.schema.Tables {
		for _, r := range other.References {
			if strings.EqualFold(r.Table, t.Name) && !slices.EqualFunc(r.Targets, t.PrimaryKey, strings.EqualFold) {
				return true
			}
		}
	}
	return false
}

// analysed are the tables of whose indexes the engine keeps statistics.
func (tx *transaction) analysed() (map[string]bool, error) {
	known, there := map[string]bool{}, false
	note := func(s *sqlite.Stmt) error { there = true; return nil }
	if err := tx.db.rows("SELECT 1 FROM sqlite_schema WHERE name = 'sqlite_stat1'", nil, note); err != nil || !there {
		return known, err
	}
	err := tx.db.rows("SELECT DISTINCT lower(tbl) FROM sqlite_stat1 WHERE idx IS NOT NULL", nil,
		func(s *sqlite.Stmt) error {
			known[s.ColumnText(0)] = true
			return nil
		})
	return known, err
}
