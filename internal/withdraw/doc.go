// Package withdraw takes loads and runs of units back: rows that they added go, rows that they
// changed get their previous contents, and rows that they deleted come back. What others have
// changed since, or refer to now, is left alone and listed.
package withdraw
