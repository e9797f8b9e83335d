package sqlite

import (
	"fmt"
	"strings"

	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/store/dialect"
	"evensprout/internal/store/setwise"
)

// sqlText is how SQLite writes SQL; it needs no connection.
type sqlText struct{}

func (sqlText) Quote(name string) string { return quote(name) }

func (sqlText) Table(t *schema.Table) string { return quote(t.Name) }

func (sqlText) Temporary(name string) string { return "temp." + quote(name) }

func (sqlText) Param(int, *schema.Column) string { return "?" }

// Equal, Operator and Qualified have nothing to guard against: there are no operators but
// the engine's own.
func (sqlText) Equal(a, b string, _ *schema.Column) string { return "(" + a + " = " + b + ")" }

func (sqlText) Operator(op string) string { return op }

// Among lets the engine read the references once: they need not have an index.
func (sqlText) Among(targets, references []string, _, other, conditions string) string {
	return "(" + strings.Join(
		targets,
		", ",
	) + ") IN (SELECT " + strings.Join(
		references,
		", ",
	) + " FROM " + other + " WHERE " + conditions + ")"
}

func (sqlText) Differs(a, b string, _ *schema.Column) string {
	return a + " COLLATE BINARY IS NOT " + b + " COLLATE BINARY"
}

func (d sqlText) CreateTemporary(name string, columns []*schema.Column) string {
	var list []string
	for _, c := range columns {
		base := c.Base
		if c == setwise.Ordinal {
			base = "INTEGER PRIMARY KEY"
		}
		list = append(list, quote(c.Name)+" "+base)
	}
	return "CREATE TABLE IF NOT EXISTS " + d.Temporary(name) + " (" + strings.Join(list, ", ") + ")"
}

func (d sqlText) Empty(name string) string { return "DELETE FROM " + d.Temporary(name) }

func (sqlText) Analyze(string) string { return "" }

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

// DeleteFrom looks the rows of the stage up by the table's key: the other way round the
// engine would read the whole stage for each row of the table.
func (sqlText) DeleteFrom(t *schema.Table, stage, on string) string {
	keys := []string{"rowid"}
	if len(t.PrimaryKey) > 0 {
		keys = nil
		for _, k := range t.PrimaryKey {
			keys = append(keys, quote(k))
		}
	}
	list := strings.Join(keys, ", ")
	return "DELETE FROM " + quote(
		t.Name,
	) + " WHERE (" + list + ") IN (SELECT t." + strings.Join(
		keys,
		", t.",
	) + " FROM " + stage + " AS s CROSS JOIN " + quote(
		t.Name,
	) + " AS t ON " + on + ")"
}

// Together is not possible: the engine changes references row by row.
func (sqlText) Together([]string) string { return "" }

// Nowhere is another value for each row, far from what keys are.
func (sqlText) Nowhere(c *schema.Column) string {
	if c.Kind == schema.Integer {
		return "-4611686018427387904 + t.rowid"
	}
	return "'evensprout: gone ' || t.rowid"
}

// NotIn lets the engine read the stage once: it has no index.
func (sqlText) NotIn(columns, staged []string, stage, _ string) string {
	return "(" + strings.Join(
		columns,
		", ",
	) + ") NOT IN (SELECT " + strings.Join(
		staged,
		", ",
	) + " FROM " + stage + " AS s)"
}

func (sqlText) Locking(bool) string { return "" } // nobody else writes meanwhile

func (sqlText) LockTable(*schema.Table) string { return "" }

func (sqlText) Typed(value string, c *schema.Column) string {
	if c.Kind == schema.Decimal {
		return "CAST(" + value + " AS NUMERIC)"
	}
	return value
}

func (sqlText) Join(a, b string) string { return "(" + a + " || " + b + ")" }

// Fitted takes away what binary fractions add to decimals: 7.25 - 2.1 is not 5.15 here.
func (sqlText) Fitted(expression string, c *schema.Column) string {
	if c.Kind == schema.Decimal && c.Scale > 0 {
		return fmt.Sprintf("round(%s, %d)", expression, c.Scale)
	}
	return expression
}

func (sqlText) Exact(expression string, _ *schema.Column) string { return expression }

// Upsert is empty: two statements cost little in this engine, and their counts are plain.
func (sqlText) Upsert(*store.Write, string, func(string, string) string) string { return "" }

func (sqlText) Declare(c *schema.Column) string {
	switch {
	case c.Identity != schema.NoIdentity:
		return "INTEGER PRIMARY KEY AUTOINCREMENT NOT NULL" // a number is never given twice
	case c.Kind == schema.Integer:
		return "INTEGER"
	case c.Kind == schema.Bytes:
		return "BLOB"
	case c.Kind == schema.Decimal || c.Kind == schema.Real || c.Kind == schema.Boolean:
		return "NUMERIC"
	}
	return "TEXT"
}

// Shows is false: the engine puts what it returns into a table first, which costs more
// than a look.
func (sqlText) Shows() bool { return false }

// Returning is empty: what is returned goes by way of a table, too.
func (sqlText) Returning(*schema.Column) string { return "" }

func (sqlText) Overriding() string { return "" }

func (sqlText) Head(expression string, c *schema.Column, n int64) string {
	switch c.Kind {
	case schema.Text, schema.JSON, schema.Bytes, schema.Any: // others may hold long texts, too, but then they are of no use
		return fmt.Sprintf("CASE WHEN typeof(%[1]s) IN ('text', 'blob') THEN substr(%[1]s, 1, %[2]d) ELSE %[1]s END", expression, n)
	}
	return ""
}

func (sqlText) Length(expression string, c *schema.Column) string {
	switch c.Kind {
	case schema.Text, schema.JSON:
		return "length(CAST(" + expression + " AS TEXT))"
	case schema.Bytes:
		return "octet_length(" + expression + ")"
	}
	return ""
}
