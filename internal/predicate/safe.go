package predicate

import "strings"

// Plain tells why a condition may mean something else to a database than it does here; empty
// if it does not. Engines differ in what a comment is, and one of them runs what stands in
// some; they differ in what a backslash in a text does, so that a text may end sooner.
func Plain(text string) string {
	switch {
	case strings.Contains(text, "--"), strings.Contains(text, "/*"), strings.Contains(text, "#"):
		return "a comment, or what some engine takes for one"
	case strings.Contains(text, `\`):
		return "a backslash"
	case strings.Contains(text, ";"):
		return "a semicolon"
	case strings.ContainsRune(text, 0):
		return "a NUL"
	}
	return ""
}

// Executes reports whether there is a comment that MySQL or MariaDB executes.
func Executes(text string) bool {
	return strings.Contains(text, "/*!") || strings.Contains(text, "/*M!")
}
