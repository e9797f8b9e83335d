package postgres

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"evensprout/internal/schema"

	"evensprout/internal/store/setwise"
	"evensprout/internal/value"
)

// Whoever may create objects in a schema of the search path can offer a function or
// operator whose arguments fit a query better than those of pg_catalog do, and so have it
// run with the rights of whoever asks. Therefore all queries over the catalogue run with an
// empty search path, where names without a schema are pg_catalog's alone. The user's path
// counts for statements over the user's tables, because triggers and conditions may need it;
// pg_catalog always comes first in it.

// setPath reads the user's search path, and lets pg_catalog come first.
func (d *database) setPath(ctx context.Context) error {
	// These names are qualified, and nothing here is an operator.
	result, err := d.conn.Exec(ctx, "SELECT pg_catalog.array_to_json(pg_catalog.current_schemas(false))").ReadAll()
	if err != nil {
		return d.fault(err)
	}
	var schemas []string
	if err := json.Unmarshal(result[0].Rows[0][0], &schemas); err != nil {
		return err
	}
	schemas = slices.DeleteFunc(schemas, func(s string) bool { return s == "pg_catalog" })
	if len(schemas) == 0 {
		schemas = []string{"public"} // a path that leads nowhere would hide every table
	}
	d.schemas = slices.Clone(schemas)
	for i := range schemas {
		schemas[i] = quote(schemas[i])
	}
	d.path = strings.Join(schemas, ", ")
	return d.usePath(ctx, d.path, false)
}

func (d *database) usePath(ctx context.Context, path string, local bool) error {
	r := d.conn.ExecParams(ctx, "SELECT pg_catalog.set_config('search_path', $1, $2)",
		[][]byte{[]byte(path), fmt.Appendf(nil, "%t", local)}, nil, nil, nil).
		Read()
	return d.err(ctx, r.Err)
}

// own does something with an empty search path. In a transaction that fails meanwhile, the
// way back from it brings the user's path back.
func (d *database) own(ctx context.Context, do func() error) error {
	if d.owned {
		return do()
	}
	path := d.path
	if path == "" { // the connection is somebody else's
		result, err := d.conn.Exec(ctx, "SELECT pg_catalog.current_setting('search_path')").ReadAll()
		if err != nil {
			return d.err(ctx, err)
		}
		path = string(result[0].Rows[0][0])
	}
	local := d.conn.TxStatus() == 'T'
	if err := d.usePath(ctx, "", local); err != nil {
		return err
	}
	d.owned = true
	defer func() { d.owned = false }()
	err := do()
	if d.conn.IsClosed() || d.conn.TxStatus() == 'E' {
		return err
	}
	return errors.Join(err, d.usePath(context.WithoutCancel(ctx), path, local))
}

// catalogue runs a query over the server's catalogue.
func (d *database) catalogue(
	ctx context.Context,
	sql string,
	args []setwise.Arg,
	columns []*schema.Column,
	show func([]value.Value) error,
) error {
	return d.own(ctx, func() error { return d.Query(ctx, sql, args, columns, show) })
}

// texts runs such a query for texts. They must not be kept; NULL is an empty text.
func (d *database) texts(
	ctx context.Context,
	width int,
	sql string,
	args []setwise.Arg,
	show func(row []string),
) error {
	text := &schema.Column{Kind: schema.Any}
	r := make([]string, width)
	return d.catalogue(ctx, sql, args, slices.Repeat([]*schema.Column{text}, width), func(row []value.Value) error {
		for i := range row {
			r[i] = row[i].S
		}
		show(r)
		return nil
	})
}
