package derive

import (
	"cmp"
	"fmt"
	"regexp"
	"slices"
	"strings"
)

// The parser and the checker of CEL speak of overloads and tokens. These are their messages
// in the words of the plan.

var (
	noOverload = regexp.MustCompile(`^found no matching overload for '([^']+)' applied to '(.*)'$`)
	otherType  = regexp.MustCompile(`^expected type '([^']+)' but found '([^']+)'$`)
	undeclared = regexp.MustCompile(`^undeclared reference to '([^']+)'`)
	unexpected = regexp.MustCompile(
		`^(?:mismatched|extraneous) input '([^']*)'|^no viable alternative at input '([^']*)'|^missing '[^']*' at ` +
			`'([^']*)'`,
	)
	noToken = regexp.MustCompile(`^token recognition error at: '(.*)'$`)
)

// functions are what an expression can call.
const functions = "lower, upper, title, slug, ascii, digits, left, right, pad, replace, hash, size, contains, " +
	"startsWith, endsWith, matches, round, div, decimal, int, string, date, year, month, day, weekday, addDays, " +
	"daysBetween"

var typeWords = map[string]string{
	"int": "a whole number", "uint": "a whole number", "double": "a double", "string": "a text", "bool": "true or " +
		"false", "timestamp": "a moment",
	"date": "a date", "decimal": "a decimal", "bytes": "bytes", "null": "null", "null_type": "null",
	"dyn": "anything", "duration": "a span",
}

// reworded is a message in the words of the plan, and what to do.
func reworded(message string) (text, hint string) {
	if m := noOverload.FindStringSubmatch(message); m != nil {
		return mismatch(m[1], argumentsOf(m[2]))
	}
	if m := otherType.FindStringSubmatch(message); m != nil {
		hint = "string(x) makes a text, int(x) a whole number, decimal(x) a decimal"
		if m[1] == "bool" {
			hint = "compare it with something, such as x > 0"
		}
		return fmt.Sprintf("%s is needed here, got %s", worded(m[1]), worded(m[2])), hint
	}

	if m := undeclared.FindStringSubmatch(message); m != nil {
		return "there is no function " + m[1], "the functions are " + functions
	}
	if m := unexpected.FindStringSubmatch(message); m != nil {
		at := m[1] + m[2] + m[3]
		if at == "<EOF>" || at == "" {
			return "the expression ends too early", "something is missing after the last operator, or a " +
				"parenthesis is not closed"
		}
		return fmt.Sprintf(
			"%q is not expected here",
			at,
		), "put text in quotes; the operators are + - * / % == != < <= > >= && || ! ?: in"
	}

	if m := noToken.FindStringSubmatch(message); m != nil {
		return fmt.Sprintf("%q is not a part of an expression", m[1]), "put text in quotes, and close them"
	}
	return message, ""
}

// argumentsOf reads a list of types, as (int, list(string)); before a method it is
// string.(int).
func argumentsOf(list string) []string {
	var out []string
	if before, rest, method := strings.Cut(list, ".("); method {
		out, list = append(out, before), "("+rest
	}
	depth, from := 0, 1
	for i := 0; i < len(list); i++ {
		switch list[i] {
		case '(':
			depth++
		case ')':
			depth--
		}
		if (list[i] == ',' && depth == 1 || depth == 0) && i > from {
			out = append(out, strings.TrimSpace(list[from:i]))
			from = i + 1
		}
	}
	return out
}

func worded(typ string) string {
	if w, ok := typeWords[typ]; ok {
		return w
	}
	if strings.HasPrefix(typ, "list(") {
		return "a list"
	}
	return typ
}

// convertHint says how operands of an operator are brought to types that go together.
func convertHint(operator string, types []string) string {
	has := func(name string) bool { return slices.Contains(types, name) }
	compares, adds := strings.ContainsAny(operator, "<>=!"), strings.ContainsAny(operator, "+-")
	switch {
	case compares && has("string") && has("date"):
		return `date("2026-05-01") makes a date of a text`
	case compares && has("string") && has("timestamp"):
		return `timestamp("2026-05-01T08:00:00Z") makes a moment of a text`
	case adds && has("date") && has("int"):
		return "addDays(d, n) moves a date, and daysBetween(a, b) counts days"
	case adds && has("timestamp"):
		return `duration("90m") is a span that can be added to a moment`
	}
	return "string(x) makes a text, int(x) a whole number, decimal(x) a decimal"
}

// mismatch says which types do not go together.
func mismatch(function string, types []string) (text, hint string) {
	var words []string
	for _, t := range types {
		words = append(words, worded(t))
	}
	switch {
	case function == "_?_:_" && len(types) == 3 && types[0] != "bool":
		return "the part before ? must be true or false, got " + words[0], "compare it with something, such " +
			"as x > 0 ? ... : ..."
	case function == "_?_:_" && len(types) == 3:
		return fmt.Sprintf(
			"the two results of ? : must have the same type, got %s and %s",
			words[1],
			words[2],
		), "string(x) makes a text of a number, a date or a moment"
	case function == "!_" || function == "_&&_" || function == "_||_":
		return strings.Trim(
			function,
			"_",
		) + " needs true or false, got " + strings.Join(
			words,
			" and ",
		), "compare it with something, such as x > 0"
	case len(types) == 2 && strings.HasPrefix(function, "_") && strings.HasSuffix(function, "_"):
		operator := cmp.Or(strings.Trim(function, "_"), function)
		hint = convertHint(operator, types)
		if strings.ContainsAny(operator, "<>=!") {
			return fmt.Sprintf("%s and %s cannot be compared", words[0], words[1]), hint
		}
		return fmt.Sprintf("%s cannot be applied to %s and %s", operator, words[0], words[1]), hint
	case function == "-_":
		return "- cannot be applied to " + strings.Join(words, ""), "int(x) makes a whole number, decimal(x) a decimal"
	}
	return fmt.Sprintf(
		"%s does not accept %s",
		function,
		strings.Join(words, " and "),
	), "string(x) makes a text, int(x) a whole number, decimal(x) a decimal, date(x) a date"
}
