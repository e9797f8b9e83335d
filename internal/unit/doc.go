// Package unit runs units of work: steps over several tables that belong together, for each of
// their occasions, in transactions that hold whole occasions.
package unit
