package mysql

import (
	"fmt"
	"regexp"
	"strings"
)

// Statements that lead to another database, or name tables of one.
var (
	conditional = regexp.MustCompile(`/\*M?![0-9]*|\*/`)
	comment     = regexp.MustCompile(`(?s)^\s*(?:--[^\n]*\n|#[^\n]*\n)|/\*[^!M].*?\*/`)
	switching   = regexp.MustCompile(`(?i)^(USE|(?:CREATE|DROP|ALTER)(?:\s+OR\s+REPLACE)?\s+(?:DATABASE|SCHEMA))\b`)
	writing     = regexp.MustCompile(
		"(?i)^(?:(?:CREATE|DROP|ALTER|TRUNCATE|RENAME|LOCK)\\b(?:\\s+(?:OR\\s+REPLACE|TEMPORARY|" +
			"UNIQUE|FULLTEXT|SPATIAL|ALGORITHM\\s*=\\s*\\w+|" +
			"DEFINER\\s*=\\s*\\S+|SQL\\s+SECURITY\\s+\\w+|TABLE|TABLES|VIEW|" +
			"TRIGGER|PROCEDURE|FUNCTION|EVENT|SEQUENCE|IF|NOT|EXISTS))*|(?:INSERT|REPLACE)(?:\\s+(?:IGNORE|INTO|" +
			"LOW_PRIORITY|" +
			"DELAYED|HIGH_PRIORITY))*|DELETE(?:\\s+(?:FROM|IGNORE|QUICK|LOW_PRIORITY))*|UPDATE(?:\\s+(?:IGNORE|" +
			"LOW_PRIORITY))*)\\s+(.*)",
	)
	lists     = regexp.MustCompile(`(?i)^(DROP|RENAME|TRUNCATE|LOCK)\b`)
	qualified = regexp.MustCompile("^\\s*(`(?:[^`]|``)+`|[\\w$]+)\\s*\\.\\s*(?:`|\\w)")
)

// elsewhere says why a statement of a script is not run in the database of a name, which was made for it: it leads to
// another one; empty if it does not. A dump of whole databases does so, and begins with dropping their tables.
func elsewhere(text, name string) string {
	for comment.MatchString(text) {
		text = comment.ReplaceAllString(text, " ")
	}
	text = conditional.ReplaceAllString(text, " ")
	text = strings.TrimSpace(text)
	if m := switching.FindString(text); m != "" {
		return fmt.Sprintf("%s leads to another database than the one made here: dump without --databases",
			strings.ToUpper(strings.Join(strings.Fields(m), " ")))
	}
	m := writing.FindStringSubmatch(strings.Join(strings.Fields(text), " "))
	if m == nil {
		return ""
	}
	names := []string{m[1]}
	if lists.MatchString(text) {
		names = strings.Split(m[1], ",")
	}
	for _, part := range names {
		q := qualified.FindStringSubmatch(part)
		if q == nil {
			continue
		}
		if of := strings.ReplaceAll(strings.Trim(q[1], "`"), "``", "`"); !strings.EqualFold(of, name) {
			return fmt.Sprintf("it names a table of another database, %s: remove the name of the database", of)
		}
	}
	return ""
}
