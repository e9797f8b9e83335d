// Package dialect says how engines write SQL: names, expressions, statements. It needs no
// connection.
package dialect

import (
	"evensprout/internal/schema"
	"evensprout/internal/store"
)

// Dialect is an engine's SQL.
type Dialect interface {
	Names
	Expressions
	Temporaries
	Changes
	Inserts
}

// Assignment is a quoted column and what it is set to.
type Assignment struct{ Column, Expression string }

// Names writes names.
type Names interface {
	Quote(name string) string
	// Table is a table's quoted name, with its schema.
	Table(t *schema.Table) string
}

// Expressions writes what stands between values and columns.
type Expressions interface {
	// Param is the n-th parameter, from 1, for a value of a column.
	Param(n int, c *schema.Column) string
	// Typed says of which type a value is, where nothing around it does.
	Typed(value string, c *schema.Column) string
	// Join puts one text behind another.
	Join(a, b string) string
	// Fitted brings what was computed to the digits of a column, where the engine does not.
	Fitted(expression string, c *schema.Column) string
	// Exact reads a column so that its text says all of its value.
	Exact(expression string, c *schema.Column) string
	// Length is the number of characters of a text, or of bytes of a binary value; empty for other columns.
	Length(expression string, c *schema.Column) string
	// Head is the beginning of a text, in characters, or of other values that can be long, in bytes; empty for columns
	// whose values are short.
	Head(expression string, c *schema.Column, n int64) string
	// Operator is an operator between values of built-in types.
	Operator(op string) string
	// Equal compares two expressions of a column's type by the type's own equality, and no
	// other that somebody may have made.
	Equal(a, b string, c *schema.Column) string
	// Differs compares two expressions of a column's type byte by byte; NULLs are equal.
	Differs(a, b string, c *schema.Column) string
	// Among is the condition that targets, columns of t, are the references of a row of
	// another table, o, for which conditions hold; same says when they are.
	Among(targets, references []string, same, other, conditions string) string
	// NotIn is the condition that columns of t are those of no row of a stage s; on says
	// when they are.
	NotIn(columns, staged []string, stage, on string) string
	// Nowhere is a value of a column of t that refers to no row, where Together is not
	// possible; empty if it is not needed.
	Nowhere(c *schema.Column) string
}

// Temporaries writes temporary tables.
type Temporaries interface {
	// Temporary is a temporary table's quoted name.
	Temporary(name string) string
	// Declare is the type by which a table of the journal declares a column, and a
	// temporary table one that has no Base.
	Declare(c *schema.Column) string
	// CreateTemporary makes a temporary table; the first column is Ordinal.
	CreateTemporary(name string, columns []*schema.Column) string
	// Empty deletes all rows of a temporary table, without ending the transaction.
	Empty(name string) string
	// Analyze lets the engine count a temporary table; empty if it need not.
	Analyze(name string) string
}

// Changes writes statements that change rows of tables from a temporary one.
type Changes interface {
	// UpdateFrom updates table AS t from stage AS s; an empty stage means that no other
	// table is read, and where is all of the condition.
	UpdateFrom(table, stage string, set []Assignment, on, where string) string
	// DeleteFrom deletes from a table, called t, the rows that a stage s matches.
	DeleteFrom(t *schema.Table, stage, on string) string
	// Together makes one statement of several deletions, which shows how many rows each
	// deleted; empty if the engine cannot.
	Together(deletions []string) string
	// Upsert adds the rows of a query, and updates those that match instead, if they
	// differ; it returns the numbers of rows added and updated. Empty if the engine has
	// no statement that tells a collision with another key from a match.
	Upsert(w *store.Write, query string, differing func(target, staged string) string) string
	// Locking ends a query of rows of t that nobody else may change meanwhile, nor, unless
	// they are shared, lock.
	Locking(shared bool) string
	// LockTable locks all of a table against those who write to it or add rows that refer to it; empty if that would
	// end the transaction, or nobody else writes meanwhile.
	LockTable(t *schema.Table) string
}

// Inserts writes what stands around the values of an INSERT.
type Inserts interface {
	// Overriding is what an INSERT says behind its columns to give a key to a column
	// that always numbers itself.
	Overriding() string
	// Returning ends an INSERT that returns a column of the row; empty if LastKey is the
	// way to ask for the key that it was given.
	Returning(c *schema.Column) string
	// Shows reports whether an UPDATE can return columns of the rows that it has changed.
	Shows() bool
}
