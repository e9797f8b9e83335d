package schema

import (
	"regexp"
	"slices"
	"strings"
)

// labelPart is a column in a label's template.
var labelPart = regexp.MustCompile(`\{([^{}]+)\}`)

// People's names, as columns call them.
var (
	givenNames  = []string{"givenname", "firstname", "forename", "vorname", "prenom", "nombre", "fname"}
	familyNames = []string{"familyname", "lastname", "surname", "nachname", "nom", "apellido", "apellidos", "lname"}
)

// LabelTemplate says how people call a row of the table: {given_name} {family_name}. It is the one that was set, or the
// names of a person, or the column that tells most; empty if the table has none.
func (t *Table) LabelTemplate() string {
	if t.Labelled != "" {
		return t.Labelled
	}
	label := t.Label()
	find := func(names []string) string {
		for _, c := range t.Columns {
			if slices.Contains(names, Plain(c.Name)) {
				return c.Name
			}
		}
		return ""
	}
	given, family := find(givenNames), find(familyNames)
	if given != "" && family != "" && (label == family || label == given) {
		return "{" + given + "} {" + family + "}"
	}
	if label == "" {
		return ""
	}
	return "{" + label + "}"
}

// LabelColumns are the columns of the label.
func (t *Table) LabelColumns() []*Column {
	var out []*Column
	for _, m := range labelPart.FindAllStringSubmatch(t.LabelTemplate(), -1) {
		if c := t.Column(m[1]); c != nil {
			out = append(out, c)
		}
	}
	return out
}

// LabelOf is the label of a row; value gives the text of a column.
func (t *Table) LabelOf(value func(c *Column) string) string {
	text := labelPart.ReplaceAllStringFunc(t.LabelTemplate(), func(part string) string {
		c := t.Column(strings.Trim(part, "{}"))
		if c == nil {
			return part
		}
		return value(c)
	})
	return strings.TrimSpace(text)
}

// ReadLabel takes a label apart into the texts of the label's columns; nil if it is none.
func (t *Table) ReadLabel(label string) []string {
	var pattern strings.Builder
	rest := t.LabelTemplate()
	pattern.WriteString("^")
	last := 0
	for _, at := range labelPart.FindAllStringIndex(rest, -1) {
		pattern.WriteString(regexp.QuoteMeta(rest[last:at[0]]) + "(.+?)")
		last = at[1]
	}
	pattern.WriteString(regexp.QuoteMeta(rest[last:]) + "$")
	m := regexp.MustCompile(pattern.String()).FindStringSubmatch(label)
	if m == nil {
		return nil
	}
	return m[1:]
}
