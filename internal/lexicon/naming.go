package lexicon

import (
	"strings"
	"unicode"
)

// Naming is how fields are called.
type Naming string

// The ways to call fields. AsColumns keeps the names of columns.
const (
	AsColumns Naming = ""
	Pascal    Naming = "pascal"
	Camel     Naming = "camel"
	Snake     Naming = "snake"
	Kebab     Naming = "kebab"
)

// Namings are the words that name them.
var Namings = []string{string(Pascal), string(Camel), string(Snake), string(Kebab)}

// capital is a word with its first letter in upper case.
func capital(s string) string {
	r := []rune(strings.ToLower(s))
	r[0] = unicode.ToUpper(r[0])
	return string(r)
}

// Of is a column's name in a way of calling fields.
func (n Naming) Of(column string) string {
	if n == AsColumns {
		return column
	}
	list := Words(column)
	if len(list) == 0 {
		return column
	}
	for i, w := range list {
		switch {
		case n == Pascal || n == Camel && i > 0:
			list[i] = capital(w)
		default:
			list[i] = strings.ToLower(w)
		}
	}
	sep := map[Naming]string{Snake: "_", Kebab: "-"}[n]
	return strings.Join(list, sep)
}
