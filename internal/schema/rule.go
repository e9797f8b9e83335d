package schema

import "evensprout/internal/value"

// Rule is a condition that must hold over the rows of a database. It comes in just one of
// four forms: Every, Aggregate, Where or SQL.
type Rule struct {
	Name  string
	Table *Table // whose rows are looked at; nil with SQL

	Every     *Expr // must hold for every row; its inputs are Values
	Values    []value.Value
	Aggregate *Aggregate // must hold for every row
	Where     string     // a condition in SQL that no row may meet
	SQL       string     // a condition in SQL on its own
}

// Aggregate compares what is computed over rows that refer to a row with that row.
type Aggregate struct {
	Function string // sum, min, max, count
	Of       *Table
	Column   *Column // nil with count
	By       *Reference
	Op       Op
	To       *Column // of the row; nil: Value
	Value    value.Value
}

// Name is what is computed, for people.
func (a *Aggregate) Name() string {
	if a.Column == nil {
		return "count of " + a.Of.Name
	}
	return a.Function + " of " + a.Of.Name + "." + a.Column.Name
}
