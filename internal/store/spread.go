package store

import (
	"evensprout/internal/schema"
	"evensprout/internal/value"
)

// Spread is how the values of a column are distributed over the rows of a table. The database computes it.
type Spread struct {
	Rows, Nulls int64
	// Distinct counts different values, by the equality of the column's type; -1 if the type has none to rely on.
	Distinct int64
	// Least and Most are those of numbers and moments; NULL of others.
	Least, Most value.Value
	// Starts are where equal steps begin (see value.Steps), and Counts the rows in each; nil if all have one value.
	Starts []value.Value
	Counts []int64
	// Shortest and Longest are characters of texts, and bytes of binary values.
	Shortest, Longest int64
	// LengthStarts are where equal steps of lengths begin, and Lengths the rows in each.
	LengthStarts []int64
	Lengths      []int64
	// Common are the most frequent values, the most frequent first; nil where each value occurs once.
	Common []Frequency
}

// Frequency is a value and in how many rows it is.
type Frequency struct {
	Value value.Value
	Rows  int64
}

// The limits of a spread.
const (
	SpreadSteps  = 32  // of histograms
	SpreadValues = 8   // of Common
	SpreadLong   = 200 // longer values are not shown one by one
)

// HasSteps reports whether a column's values are numbers or moments, which can be counted by equal steps.
func HasSteps(c *schema.Column) bool {
	switch c.Kind {
	case schema.Integer, schema.Decimal, schema.Real, schema.Date, schema.Time, schema.Timestamp:
		return true
	}
	return false
}
