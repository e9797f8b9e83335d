package schema

import (
	"regexp"
	"strings"
)

// Constant is the value of a default that is the same for every row.
type Constant struct {
	Text   string
	Quoted bool // it was written as a text
	Clock  bool // it is the time at which a row is written
}

var (
	presetInner  = regexp.MustCompile(`^(?s)\(([^()]+(?:\([0-9]*\))?)\)$`)
	presetNumber = regexp.MustCompile(`^[-+]?[0-9]+(\.[0-9]+)?$`)
	presetCast   = regexp.MustCompile(`^(?s)(.+)::[a-zA-Z_ ]+(\([0-9, ]+\))?(\[\])?$`)
	presetQuoted = regexp.MustCompile(`^(?s)(?:[NnEe]|_[a-z0-9]+ *)?'((?:[^']|'')*)'$`)
	presetClock  = regexp.MustCompile(
		`(?i)^(current_timestamp|now|localtimestamp|current_date|curdate|statement_timestamp|transaction_timestamp)( ` +
			`*\([0-9]*\))?$`,
	)
)

// Constant reads the column's default value; false if it has none, or the database
// computes it anew for each row.
func (c *Column) Constant() (Constant, bool) {
	text := strings.TrimSpace(c.Preset)
	for {
		inner := strings.TrimSpace(text)
		if m := presetInner.FindStringSubmatch(inner); m != nil {
			inner = strings.TrimSpace(m[1])
		}
		if m := presetCast.FindStringSubmatch(inner); m != nil && !strings.HasSuffix(inner, "'") {
			inner = m[1]
		}
		if inner == text {
			break
		}
		text = inner
	}

	switch word := strings.ToLower(text); {
	case text == "" || c.Identity != "":
		return Constant{}, false
	case presetClock.MatchString(text):
		return Constant{Clock: true}, true
	case presetNumber.MatchString(text) || word == "true" || word == "false":
		return Constant{Text: strings.TrimPrefix(word, "+")}, true
	}

	if m := presetQuoted.FindStringSubmatch(text); m != nil && !strings.ContainsRune(m[1], '\\') {
		return Constant{Text: strings.ReplaceAll(m[1], "''", "'"), Quoted: true}, true
	}
	return Constant{}, false
}
