package store

import (
	"context"

	"evensprout/internal/schema"
)

// CountReached counts the rows of a table. Why is not nil if they are stored elsewhere, and cannot be read now.
func CountReached(ctx context.Context, s Store, t *schema.Table) (n int64, why, err error) {
	n, err = s.Count(ctx, t)
	if err != nil && t.External != "" && ctx.Err() == nil {
		return 0, err, nil
	}
	return n, nil, err
}
