package plan

import (
	"regexp"
	"strconv"
	"strings"
	"unicode"
)

// EntityName makes an entity's name of a table's: vessel_amenities to VesselAmenity.
func EntityName(table string) string {
	words := strings.FieldsFunc(table, func(r rune) bool { return !unicode.IsLetter(r) && !unicode.IsDigit(r) })
	if len(words) == 0 {
		return "Thing"
	}
	last := &words[len(words)-1]
	*last = singular(*last)
	var b strings.Builder
	for _, w := range words {
		r := []rune(w)
		b.WriteString(string(unicode.ToUpper(r[0])) + string(r[1:]))
	}
	if name := b.String(); unicode.IsLetter([]rune(name)[0]) {
		return name
	}
	return "T" + b.String()
}

// singular is an English word without the ending of a plural, as far as simple rules go.
func singular(w string) string {
	low := strings.ToLower(w)
	switch {
	case strings.HasSuffix(low, "ies") && len(w) > 4:
		return w[:len(w)-3] + "y"
	case strings.HasSuffix(low, "sses"),
		strings.HasSuffix(low, "xes"),
		strings.HasSuffix(low, "ches"),
		strings.HasSuffix(low, "shes"):
		return w[:len(w)-2]
	case strings.HasSuffix(low, "s") && !strings.HasSuffix(low, "ss") && !strings.HasSuffix(low, "us") && len(w) > 3:
		return w[:len(w)-1]
	}
	return w
}

// plainScalar matches text that YAML reads as text without quotes.
var plainScalar = regexp.MustCompile(`^[\pL_][\pL\pN_ ./-]*$`)

// Scalar writes text as a YAML scalar, in quotes where it could be read otherwise.
func Scalar(s string) string {
	switch strings.ToLower(s) {
	case "true", "false", "null", "yes", "no", "on", "off", "y", "n":
	default:
		if plainScalar.MatchString(s) && strings.TrimSpace(s) == s && !isSource(s) ||
			strings.HasPrefix(s, "sqlite:") && !strings.ContainsAny(s, " #\"'") {
			return s
		}
	}
	return strconv.Quote(s)
}
