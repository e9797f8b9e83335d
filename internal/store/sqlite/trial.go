package sqlite

import (
	"context"
	"strings"

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
	for _, u := range like.Uniques {
		if !u.Partial && len(u.Expressions) == 0 && len(u.Beginnings) == 0 {
			parts = append(parts, "UNIQUE ("+list(u.Columns)+")")
		}
	}
	_, err := d.Exec(ctx, "CREATE TABLE "+quote(name)+" ("+strings.Join(parts, ", ")+")")
	return err
}

// Sent is nothing: there is no server.
func (d *database) Sent() int64 { return 0 }

// Bulk is what the engine's bulk path is called.
func (d *database) Bulk() string { return "a prepared statement, run for each row" }
