package sqlite

import (
	"context"
	"strings"

	"zombiezen.com/go/sqlite"

	"evensprout/internal/schema"
	"evensprout/internal/store/setwise"
)

// Vet looks at the journal's tables as the file describes them. Who may write to one table
// may write to all.
func (d *database) Vet(_ context.Context, tables []*schema.Table) ([]string, error) {
	for _, t := range tables {
		var refused error
		err := d.rows(
			"SELECT type, name, coalesce(sql, '') FROM sqlite_schema WHERE lower(tbl_name) = lower(?1)",
			[]string{t.Name},
			func(s *sqlite.Stmt) error {
				kind, name, sql := s.ColumnText(0), s.ColumnText(1), s.ColumnText(2)
				switch {
				case kind == "trigger":
					refused = setwise.Unvetted(
						t.Name,
						"has a trigger "+name+", which this program did not create",
						"inspect it, and drop it",
					)
				case kind == "table" && !strings.HasPrefix(strings.ToUpper(strings.TrimSpace(sql)), "CREATE TABLE"),
					kind == "view":
					refused = setwise.Unvetted(
						t.Name,
						"is not an ordinary table",
						"inspect it, and drop it if nobody needs it",
					)
				}
				return nil
			},
		)
		if err != nil {
			return nil, err
		}
		if refused != nil {
			return nil, refused
		}
	}
	return nil, nil
}
