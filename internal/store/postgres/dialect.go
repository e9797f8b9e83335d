package postgres

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/store/dialect"
	"evensprout/internal/store/setwise"
)

// sqlText is how PostgreSQL writes SQL; it needs no connection.
type sqlText struct{}

func (sqlText) Quote(name string) string { return quote(name) }

func (sqlText) Table(t *schema.Table) string { return tableName(t) }

func (d sqlText) Temporary(name string) string { return "pg_temp." + d.Quote(name) }

func (sqlText) Param(n int, _ *schema.Column) string { return fmt.Sprintf("$%d", n) }

// Equal names the schema of the operator: else one that somebody made in a schema of the
// search path might fit better.
func (sqlText) Equal(a, b string, c *schema.Column) string {
	return "(" + a + " OPERATOR(" + quote(cmp.Or(c.Operators, "pg_catalog")) + ".=) " + b + ")"
}

func (sqlText) Operator(op string) string { return "OPERATOR(pg_catalog." + op + ")" }

func (sqlText) Among(_, _ []string, same, other, conditions string) string {
	return "EXISTS (SELECT 1 FROM " + other + " WHERE " + same + " AND " + conditions + ")"
}

// Differs does not say IS DISTINCT FROM, which takes no schema for its operator.
func (d sqlText) Differs(a, b string, c *schema.Column) string {
	x, y := a, b
	switch c.Type {
	case "json", "xml", "point", "box", "polygon", "path", "line", "lseg", "circle":
		x, y, c = a+"::pg_catalog.text", b+"::pg_catalog.text", &schema.Column{} // no equality, or none of bytes
	default:
		if c.Kind == schema.Text && c.Values == nil && c.Type != "name" {
			x, y = a+` COLLATE pg_catalog."C"`, b+` COLLATE pg_catalog."C"`
		}
	}
	return "(CASE WHEN " + a + " IS NULL OR " + b + " IS NULL THEN NOT (" + a + " IS NULL AND " + b + " IS NULL) " +
		"ELSE NOT " + d.Equal(
		x,
		y,
		c,
	) + " END)"
}

func (d sqlText) CreateTemporary(name string, columns []*schema.Column) string {
	var list []string
	for _, c := range columns {
		base := c.Base
		if c == setwise.Ordinal {
			base = "bigint"
		}
		list = append(list, d.Quote(c.Name)+" "+base)
	}
	return "CREATE TEMPORARY TABLE IF NOT EXISTS " + d.Quote(
		name,
	) + " (" + strings.Join(
		list,
		", ",
	) + ") ON COMMIT DROP"
}

func (d sqlText) Empty(name string) string { return "TRUNCATE " + d.Temporary(name) }

// Analyze looks at the numbers of rows alone: that is enough to know how many there are.
func (d sqlText) Analyze(name string) string {
	return "ANALYZE " + d.Temporary(name) + " (" + d.Quote(setwise.Ordinal.Name) + ")"
}

func (sqlText) UpdateFrom(table, stage string, set []dialect.Assignment, on, where string) string {
	var list []string
	for _, a := range set {
		list = append(list, a.Column+" = "+a.Expression)
	}
	if stage == "" {
		return "UPDATE " + table + " AS t SET " + strings.Join(list, ", ") + " WHERE " + where
	}
	return "UPDATE " + table + " AS t SET " + strings.Join(
		list,
		", ",
	) + " FROM " + stage + " AS s WHERE " + on + " AND " + where
}

func (d sqlText) DeleteFrom(t *schema.Table, stage, on string) string {
	return "DELETE FROM " + d.Table(t) + " AS t USING " + stage + " AS s WHERE " + on
}

func (sqlText) Together(deletions []string) string {
	var parts, counts []string
	for i, sql := range deletions {
		parts = append(parts, fmt.Sprintf("d%d AS (%s RETURNING 1)", i, sql))
		counts = append(counts, fmt.Sprintf("(SELECT count(*) FROM d%d)", i))
	}
	return "WITH " + strings.Join(parts, ", ") + " SELECT " + strings.Join(counts, ", ")
}

// Nowhere is not needed: all go together.
func (sqlText) Nowhere(*schema.Column) string { return "" }

func (sqlText) NotIn(_, _ []string, stage, on string) string {
	return "NOT EXISTS (SELECT 1 FROM " + stage + " AS s WHERE " + on + ")"
}

func (sqlText) Locking(shared bool) string {
	if shared {
		return " FOR SHARE OF t"
	}
	return " FOR UPDATE OF t"
}

func (d sqlText) LockTable(t *schema.Table) string {
	return "LOCK TABLE " + d.Table(t) + " IN EXCLUSIVE MODE"
}

func (d sqlText) Typed(value string, c *schema.Column) string {
	return "CAST(" + value + " AS " + d.Declare(c) + ")"
}

func (sqlText) Join(a, b string) string { return "(" + a + " || " + b + ")" }

func (sqlText) Fitted(expression string, _ *schema.Column) string { return expression }

func (sqlText) Exact(expression string, _ *schema.Column) string { return expression }

// Upsert takes just the match for a conflict; other keys still refuse. A row that it
// added has no deleting transaction yet, one that it changed has its own.
func (d *database) Upsert(w *store.Write, query string, differing func(target, staged string) string) string {
	if d.partitioned[w.Table.Name] {
		return "" // such tables do not tell system columns
	}
	var set []string
	for _, c := range setwise.Names(d, "", slices.Concat(w.Set, w.Stamp)) {
		set = append(set, c+" = excluded."+c)
	}
	insert := setwise.InsertFrom(d, w.Into, query)
	insert = strings.Replace(insert, "INSERT INTO "+d.Table(w.Table)+" ", "INSERT INTO "+d.Table(w.Table)+" AS t ", 1)
	return "WITH w AS (" + insert + " ON CONFLICT (" + strings.Join(
		setwise.Names(d, "", w.Match),
		", ",
	) + ") DO UPDATE SET " + strings.Join(
		set,
		", ",
	) +
		" WHERE " + differing(
		"t.",
		"excluded.",
	) + " RETURNING t.xmax OPERATOR(pg_catalog.=) 0::pg_catalog.int4 AS fresh) SELECT count(*) FILTER (WHERE " +
		"fresh), count(*) FILTER (WHERE NOT fresh) FROM w"
}

func (sqlText) Declare(c *schema.Column) string {
	switch {
	case c.Identity != schema.NoIdentity:
		return "bigint GENERATED BY DEFAULT AS IDENTITY PRIMARY KEY"
	case c.Kind == schema.Integer:
		return "int8"
	case c.Kind == schema.Timestamp:
		return "timestamp(6)"
	}
	if declared, ok := declared[c.Kind]; ok {
		return declared
	}
	return "text"
}

func (sqlText) Shows() bool { return true }

// Returning ends an INSERT that returns a column of the row.
func (d sqlText) Returning(c *schema.Column) string {
	return " RETURNING " + d.Quote(c.Name)
}

func (sqlText) Overriding() string { return "OVERRIDING SYSTEM VALUE" }

func (sqlText) Head(expression string, c *schema.Column, n int64) string {
	switch {
	case c.Kind == schema.Bytes:
		return fmt.Sprintf("substring(%s FROM 1 FOR %d)", expression, n)
	case c.Kind == schema.Text && c.Values == nil, c.Kind == schema.JSON, c.Kind == schema.Any:
		return fmt.Sprintf("left(CAST(%s AS text), %d)", expression, n)
	}
	return ""
}

func (sqlText) Length(expression string, c *schema.Column) string {
	switch c.Kind {
	case schema.Text, schema.JSON:
		return "char_length(CAST(" + expression + " AS text))"
	case schema.Bytes:
		return "octet_length(" + expression + ")"
	}
	return ""
}
