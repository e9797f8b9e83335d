// Package rng makes random draws that are functions of a key and a place, without any state:
// words of a counter-based generator, permutations of any space, draws that are spread evenly
// over rows, and numbers of children that are dealt to parents.
//
// A draw for row 4,000,000,000 costs as much as one for row 0, and is the same on every
// machine. Nothing here is fit for secrets.
package rng
