package postgres

import (
	"context"

	"evensprout/internal/schema"
)

// CreateLike makes a table with the columns, keys and checks of another.
func (d *database) CreateLike(ctx context.Context, like *schema.Table, name string) error {
	_, err := d.Exec(ctx, "CREATE TABLE "+quote(name)+" (LIKE "+tableName(like)+" INCLUDING ALL)")
	return err
}

// Sent is how many bytes went to the server so far.
func (d *database) Sent() int64 { return d.sent.Load() }

// Bulk is what the engine's bulk path is called.
func (d *database) Bulk() string { return "COPY" }
