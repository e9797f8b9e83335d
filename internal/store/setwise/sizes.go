package setwise

import (
	"context"

	"evensprout/internal/schema"
	"evensprout/internal/value"
)

// Sizes reads a query of tables and their bytes; name makes a table's name of its first
// two columns.
func Sizes(
	ctx context.Context,
	e Engine,
	sql string,
	name func(first, second string) string,
) (map[string]int64, error) {
	out := map[string]int64{}
	columns := []*schema.Column{{Kind: schema.Text}, {Kind: schema.Text}, {Kind: schema.Integer}}
	err := e.Query(ctx, sql, nil, columns, func(row []value.Value) error {
		out[name(row[0].S, row[1].S)] = row[2].N
		return nil
	})
	return out, err
}
