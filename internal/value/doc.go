// Package value has the logical types of cells, which belong to plans and not to an engine:
// decimals without floating point, dates and moments of the Gregorian calendar from year 1 to
// 9999, spans, UUIDs, and the folding of texts by which two of them are held to be equal.
package value
