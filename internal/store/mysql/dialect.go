package mysql

import (
	"fmt"
	"strings"

	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/store/dialect"
	"evensprout/internal/store/setwise"
)

// sqlText is how MariaDB and MySQL writes SQL; it needs no connection.
type sqlText struct {
	maria bool // and not MySQL
}

func (sqlText) Quote(name string) string { return quote(name) }

func (sqlText) Table(t *schema.Table) string { return tableName(t) }

func (d sqlText) Temporary(name string) string { return d.Quote(name) }

func (sqlText) Param(_ int, c *schema.Column) string {
	if c != nil && isGeometry(c) {
		return "ST_GeomFromText(?)"
	}
	return "?"
}

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

func (sqlText) Differs(a, b string, c *schema.Column) string {
	switch c.Kind {
	case schema.JSON:
		return "NOT (CAST(" + a + " AS CHAR) <=> CAST(" + b + " AS CHAR))"
	case schema.Text:
		return "NOT (CAST(" + a + " AS BINARY) <=> CAST(" + b + " AS BINARY))"
	}
	return "NOT (" + a + " <=> " + b + ")"
}

// CreateTemporary has no indexes made afterwards: that would commit.
func (d sqlText) CreateTemporary(name string, columns []*schema.Column) string {
	var list []string
	for _, c := range columns {
		base := c.Base + " NULL"
		if c == setwise.Ordinal {
			base = "BIGINT NOT NULL PRIMARY KEY"
		}
		list = append(list, d.Quote(c.Name)+" "+base)
	}
	return "CREATE TEMPORARY TABLE IF NOT EXISTS " + d.Quote(
		name,
	) + " (" + strings.Join(
		list,
		", ",
	) + ") ENGINE = InnoDB"
}

func (d sqlText) Empty(name string) string { return "DELETE FROM " + d.Temporary(name) }

func (sqlText) Analyze(string) string { return "" } // it would commit

func (sqlText) UpdateFrom(table, stage string, set []dialect.Assignment, on, where string) string {
	var list []string
	for _, a := range set {
		list = append(list, "t."+a.Column+" = "+a.Expression)
	}
	if stage == "" {
		return "UPDATE " + table + " AS t SET " + strings.Join(list, ", ") + " WHERE " + where
	}
	return "UPDATE " + table + " AS t JOIN " + stage + " AS s ON " + on + " SET " + strings.Join(
		list,
		", ",
	) + " WHERE " + where
}

func (d sqlText) DeleteFrom(t *schema.Table, stage, on string) string {
	return "DELETE t FROM " + d.Table(t) + " AS t JOIN " + stage + " AS s ON " + on
}

// Together is not needed: a reference that becomes NULL is never NOT NULL.
func (sqlText) Together([]string) string { return "" }

// Nowhere is not needed either.
func (sqlText) Nowhere(*schema.Column) string { return "" }

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

func (sqlText) Locking(shared bool) string {
	if shared {
		return " LOCK IN SHARE MODE"
	}
	return " FOR UPDATE"
}

// LockTable is empty: it would commit.
func (sqlText) LockTable(*schema.Table) string { return "" }

// Typed makes decimals of what would be text: arithmetic with text is not exact.
func (sqlText) Typed(value string, c *schema.Column) string {
	switch c.Kind {
	case schema.Decimal:
		return "CAST(" + value + " AS DECIMAL(65, 18))"
	case schema.Date:
		return "CAST(" + value + " AS DATE)"
	case schema.Timestamp:
		return "CAST(" + value + " AS DATETIME(6))"
	}
	return value
}

func (sqlText) Join(a, b string) string { return "CONCAT(" + a + ", " + b + ")" }

func (sqlText) Fitted(expression string, _ *schema.Column) string { return expression }

// Exact reads numbers of single precision as double: else the engine shows six digits.
// Bits and geometries it would show in a form of its own.
func (sqlText) Exact(expression string, c *schema.Column) string {
	switch {
	case c.Kind == schema.Real:
		return "CAST(" + expression + " AS DOUBLE)"
	case c.Type == "bit":
		return "(" + expression + " + 0)"
	case isGeometry(c):
		return "ST_AsText(" + expression + ")"
	}
	return expression
}

// Upsert is empty: the engine's own statement takes a collision with any key for a match.
func (sqlText) Upsert(*store.Write, string, func(string, string) string) string { return "" }

func (sqlText) Declare(c *schema.Column) string {
	switch {
	case c.Identity != schema.NoIdentity:
		return "BIGINT NOT NULL AUTO_INCREMENT PRIMARY KEY"
	case c.Kind == schema.Integer:
		return "BIGINT"
	case c.Kind == schema.Timestamp:
		return "DATETIME(6)"
	case c.Kind == schema.Bytes && c.Length > 0:
		return fmt.Sprintf("VARBINARY(%d)", c.Length)
	case c.Length > 0:
		return fmt.Sprintf("VARCHAR(%d) CHARACTER SET utf8mb4 COLLATE utf8mb4_bin", c.Length)
	}
	if declared, ok := declared[c.Kind]; ok {
		return declared
	}
	return "LONGTEXT CHARACTER SET utf8mb4 COLLATE utf8mb4_bin"
}

func (sqlText) Shows() bool { return false }

// Returning ends an INSERT that returns a column of the row.
func (d sqlText) Returning(c *schema.Column) string {
	if !d.maria {
		return ""
	}
	return " RETURNING " + d.Quote(c.Name)
}

func (sqlText) Overriding() string { return "" }

func (sqlText) Head(expression string, c *schema.Column, n int64) string {
	switch {
	case c.Kind == schema.Text && c.Values == nil, c.Kind == schema.JSON, c.Kind == schema.Bytes:
		return fmt.Sprintf("left(%s, %d)", expression, n)
	}
	return ""
}

func (sqlText) Length(expression string, c *schema.Column) string {
	switch c.Kind {
	case schema.Text, schema.JSON:
		return "char_length(" + expression + ")"
	case schema.Bytes:
		return "octet_length(" + expression + ")"
	}
	return ""
}
