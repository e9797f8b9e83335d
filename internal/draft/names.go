package draft

import (
	"fmt"
	"strings"
	"unicode"

	"evensprout/internal/plan"
	"evensprout/internal/schema"
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

// words cuts a name into its words: given_name, givenName, GivenName, "given name".
func words(name string) []string {
	var out []string
	var word []rune
	end := func() {
		if len(word) > 0 {
			out = append(out, string(word))
			word = nil
		}
	}
	runes := []rune(name)
	for i, r := range runes {
		if !unicode.IsLetter(r) && !unicode.IsDigit(r) {
			end()
			continue
		}
		if unicode.IsUpper(r) && i > 0 &&
			(unicode.IsLower(runes[i-1]) || unicode.IsDigit(runes[i-1]) || i+1 < len(runes) &&
				unicode.IsUpper(runes[i-1]) && unicode.IsLower(runes[i+1])) {
			end()
		}
		word = append(word, r)
	}
	end()
	return out
}

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
	list := words(column)
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

// name gives tables the names of entities, and columns those of fields.
func (d *drafter) name() {
	used := map[string]bool{}
	for _, t := range d.tables {
		name := t.d.Entities[t.Schema]
		if name == "" {
			name = plan.EntityName(t.Schema.LocalName())
		}
		if used[name] && t.Schema.Schema != "" {
			name = plan.EntityName(t.Schema.Schema + "_" + t.Schema.LocalName())
		}
		for i, first := 2, name; used[name]; i++ {
			name = fmt.Sprintf("%s%d", first, i)
		}
		used[name] = true
		t.Entity = name
		t.nameFields()
	}
}

// named reports whether a field's name leads to its column by itself.
func (f *Field) named() bool {
	return f.Name == f.Column.Name || f.table.Schema.ByConvention(f.Name) == f.Column
}

// nameFields names the fields after their columns, in the style that was asked for.
func (t *Table) nameFields() {
	taken := map[string]bool{}
	for _, f := range t.Fields {
		if f.Name = t.d.Fields[f.Column]; f.Name == "" || t.d.Names != AsColumns {
			f.Name = t.d.Names.Of(f.Column.Name)
		}
		// A name must lead back to its column, or be said by the code.
		if c := t.Schema.ByConvention(f.Name); c != f.Column && (c != nil || t.d.Fields[f.Column] == "") ||
			taken[schema.Plain(f.Name)] ||
			strings.Contains(f.Name, ".") {
			f.Name = f.Column.Name
		}
		if !plan.IsFieldName(f.Name) {
			f.Name = "column"
			for _, r := range words(f.Column.Name) {
				f.Name += "_" + strings.ToLower(r)
			}
		}
		taken[schema.Plain(f.Name)] = true
	}
}
