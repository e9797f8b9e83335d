//go:build race

package main

// raced reports whether data races are looked for: then in the built program, too.
const raced = true
