package setwise

import (
	"context"

	"evensprout/internal/grow"
	"evensprout/internal/schema"
)

// Sizes reads a query of tables and their bytes; name makes a table's name of its first
// two columns.
func Sizes(ctx context.Context, e Engine, sql string, name func(schema, table string) string) (map[string]int64, error) {
	out := map[string]int64{}
	columns := []*schema.Column{{Kind: schema.Text}, {Kind: schema.Text}, {Kind: schema.Integer}}
	err := e.Query(ctx, sql, nil, columns, func(row []grow.Value) error {
		out[name(row[0].S, row[1].S)] = row[2].N
		return nil
	})
	return out, err
}

// Passes lets the database say which values of a column a condition lets pass, as a
// CHECK constraint would; in it the column may also be called VALUE. Values that it
// cannot be computed over do not pass. The names in the condition are the database's
// own: it comes from there. typed says of which type a parameter is.
func Passes(ctx context.Context, e Engine, typed func(param string) string, c *schema.Column, condition string, values []grow.Value) ([]bool, error) {
	value := typed(e.Param(1, c))
	inner := "SELECT " + value + " AS " + e.Quote(c.Name)
	if c.Name != "value" {
		inner += ", " + typed(e.Param(2, c)) + " AS " + e.Quote("value")
	}
	sql := "SELECT CASE WHEN (" + condition + ") THEN 1 WHEN NOT (" + condition + ") THEN 0 ELSE 1 END FROM (" + inner + ") AS t"
	out := make([]bool, len(values))
	for i, v := range values {
		args := []Arg{{Value: v, Column: c}, {Value: v, Column: c}}
		if c.Name == "value" {
			args = args[:1]
		}
		n, err := Number(ctx, e, sql, args...)
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		out[i] = err == nil && n == 1
	}
	return out, nil
}
