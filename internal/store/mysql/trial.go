package mysql

import (
	"context"

	"evensprout/internal/schema"
)

// CreateLike makes a table with the columns and keys of another.
func (d *database) CreateLike(ctx context.Context, like *schema.Table, name string) error {
	_, err := d.Exec(ctx, "CREATE TABLE "+quote(name)+" LIKE "+tableName(like))
	return err
}

// Sent is how many bytes went to the server so far.
func (d *database) Sent() int64 { return d.sent.Load() }

// Bulk is what the engine's bulk path is called.
func (d *database) Bulk() string {
	if !d.local {
		return "INSERT of many rows"
	}
	return "LOAD DATA LOCAL"
}
