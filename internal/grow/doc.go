// Package grow is the core: it makes values and rows as pure functions.
//
// A cell is a function of (edition, seed, entity, field, row identity, attempt)
// and of nothing else: no wall clock, no environment, no map order, no
// floating point. Any row can be grown alone, in any order, on any machine.
//
// The way from a plan to rows: build a Set of Entities with Fields and Sources,
// call Set.Finish once, then let one Grower per goroutine fill Batches.
package grow
