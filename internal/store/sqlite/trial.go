package sqlite

import (
	"context"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"

	"zombiezen.com/go/sqlite"

	"evensprout/internal/schema"
)

// CreateLike makes a table with the columns and keys of another.
func (d *database) CreateLike(ctx context.Context, like *schema.Table, name string) error {
	var parts []string
	for _, c := range like.Columns {
		text := quote(c.Name) + " " + c.Declared
		if c.NotNull {
			text += " NOT NULL"
		}
		if !c.Generated {
			parts = append(parts, text)
		}
	}

	list := func(names []string) string {
		var out []string
		for _, n := range names {
			out = append(out, quote(n))
		}
		return strings.Join(out, ", ")
	}
	if len(like.PrimaryKey) > 0 {
		parts = append(parts, "PRIMARY KEY ("+list(like.PrimaryKey)+")")
	}
	statements, err := d.indexStatements(like, name)
	if err != nil {
		return err
	}
	for _, u := range like.Uniques {
		if _, own := statements[u.Name]; !own && !u.Partial && len(u.Expressions) == 0 && len(u.Beginnings) == 0 {
			parts = append(parts, "UNIQUE ("+list(u.Columns)+")")
		}
	}
	if _, err := d.Exec(ctx, "CREATE TABLE "+quote(name)+" ("+strings.Join(parts, ", ")+")"); err != nil {
		return err
	}
	for _, index := range slices.Sorted(maps.Keys(statements)) {
		if _, err := d.Exec(ctx, statements[index]); err != nil {
			return err
		}
	}
	return nil
}

// Sent is nothing: there is no server.
func (d *database) Sent() int64 { return 0 }

// Bulk is what the engine's bulk path is called.
func (d *database) Bulk() string { return "a prepared statement, run for each row" }

// indexStart is how the statement of an index begins: up to its columns.
var indexStart = regexp.MustCompile(`(?is)^CREATE( UNIQUE)? INDEX (?:"(?:[^"]|"")*"|[^\s"]+)\s+ON\s+` +
	`(?:"(?:[^"]|"")*"|[^\s("]+)\s*\(`)

// indexStatements are statements that make the indexes of a table for another of the same columns, by the names of the
// originals. Those that the table's own statement makes are not among them.
func (d *database) indexStatements(like *schema.Table, name string) (map[string]string, error) {
	out := map[string]string{}
	err := d.rows(
		"SELECT name, sql FROM sqlite_schema WHERE type = 'index' AND tbl_name = ? COLLATE NOCASE AND sql IS NOT NULL",
		[]string{like.Name},
		func(s *sqlite.Stmt) error {
			sql := s.ColumnText(1)
			if m := indexStart.FindStringSubmatchIndex(sql); m != nil {
				unique := ""
				if m[2] >= 0 {
					unique = " UNIQUE"
				}
				out[s.ColumnText(0)] = fmt.Sprintf("CREATE%s INDEX %s ON %s (%s", unique,
					quote(fmt.Sprintf("%s_%d", name, len(out)+1)), quote(name), sql[m[1]:])
			}
			return nil
		},
	)
	return out, err
}
