package mysql

import (
	"context"
	"errors"
	"slices"

	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/store/setwise"
)

// Vet looks at the journal's tables as the server describes them. Users with rights on the
// whole database could change the planned tables as well, so only those count that have
// rights on these tables alone.
func (d *database) Vet(ctx context.Context, tables []*schema.Table) ([]string, error) {
	var writers []string
	for _, t := range tables {
		kinds, err := d.texts(
			ctx,
			2,
			"SELECT table_type, coalesce(engine, '') FROM information_schema.tables WHERE table_schema = "+
				"DATABASE() AND table_name = ?",
			t.Name,
		)
		if err != nil {
			return nil, err
		}
		if len(kinds) != 1 || kinds[0][0] != "BASE TABLE" || isExternal(kinds[0][1]) {
			return nil, setwise.Unvetted(t.Name, "is not an ordinary table", "inspect it, and drop it if nobody "+
				"needs it")
		}
		for _, q := range []struct{ what, sql string }{
			{"trigger", "SELECT trigger_name FROM information_schema.triggers WHERE event_object_schema = " +
				"DATABASE() AND event_object_table = ?"},
			{"computed column", "SELECT column_name FROM information_schema.columns WHERE table_schema = " +
				"DATABASE() AND table_name = ? AND (coalesce(generation_expression, '') <> '' OR extra LIKE " +
				"'%GENERATED%' OR extra LIKE '%on update%')"},
			{"reference", "SELECT constraint_name FROM information_schema.referential_constraints WHERE " +
				"constraint_schema = DATABASE() AND table_name = ?"},
		} {
			rows, err := d.texts(ctx, 1, q.sql, t.Name)
			if err != nil {
				return nil, err
			}
			if len(rows) > 0 {
				return nil, setwise.Unvetted(
					t.Name,
					"has a "+q.what+" "+rows[0][0]+", which this program did not create",
					"it would run with this user's rights: inspect it, and drop it",
				)
			}
		}
		rows, err := d.texts(
			ctx,
			1,
			"SELECT DISTINCT grantee FROM information_schema.table_privileges WHERE table_schema = DATABASE() AND "+
				"table_name = ? AND privilege_type IN ('INSERT', 'UPDATE', 'DELETE', 'TRIGGER')"+
				" AND grantee <> CONCAT(CHAR(39), REPLACE(CURRENT_USER(), '@', CONCAT(CHAR(39), '@', CHAR(39))), "+
				"CHAR(39))",
			t.Name,
		)
		var fault *store.Fault
		if err != nil && !(errors.As(err, &fault) && fault.Kind == store.Denied) {
			return nil, err
		}
		for _, r := range rows {
			if !slices.Contains(writers, r[0]) {
				writers = append(writers, r[0])
			}
		}
	}
	return writers, nil
}
