package setwise

import (
	"context"
	"strings"

	"evensprout/internal/grow"
	"evensprout/internal/schema"
)

// Passes lets the database say which rows of values of some columns a condition lets
// pass, as a CHECK constraint would; in it a single column may also be called VALUE. Rows
// that it cannot be computed over do not pass. The names in the condition are the
// database's own: it comes from there. typed says of which type a parameter is.
func Passes(ctx context.Context, e Engine, typed func(param string, c *schema.Column) string, columns []*schema.Column, condition string, rows [][]grow.Value) ([]bool, error) {
	var selected []string
	take := func(c *schema.Column, name string) {
		selected = append(selected, typed(e.Param(len(selected)+1, c), c)+" AS "+e.Quote(name))
	}
	for _, c := range columns {
		take(c, c.Name)
	}
	twice := len(columns) == 1 && columns[0].Name != "value"
	if twice {
		take(columns[0], "value")
	}
	sql := "SELECT CASE WHEN (" + condition + ") THEN 1 WHEN NOT (" + condition + ") THEN 0 ELSE 1 END FROM (SELECT " + strings.Join(selected, ", ") + ") AS t"
	out := make([]bool, len(rows))
	for i, row := range rows {
		var args []Arg
		for j, c := range columns {
			args = append(args, Arg{Value: row[j], Column: c})
		}
		if twice {
			args = append(args, args[0])
		}
		n, err := Number(ctx, e, sql, args...)
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		out[i] = err == nil && n == 1
	}
	return out, nil
}
