package plan

import (
	"regexp"
	"strings"

	"evensprout/internal/schema"
)

// labelPart is a field in a label.
var labelPart = regexp.MustCompile(`\{([^{}]*)\}`)

// readLabel reads how people call a row of an entity.
func (p *Plan) readLabel(e *Entity, v *node) {
	if p.text(v, "label", &e.Label) && !labelPart.MatchString(e.Label) {
		p.add(v.place, "label names no field, got %s", e.Label).
			Advise("write fields in braces: label: \"{code} {name}\"")
		e.Label = ""
	}
	e.labelPlace = v.place
}

// labels says how people call the rows of tables, and refuses fields that are not there.
func (c *compiler) labels() {
	for _, e := range c.entities {
		if e.decl.Label == "" || e.table == nil {
			continue
		}
		e.table.Labelled = labelPart.ReplaceAllStringFunc(e.decl.Label, func(part string) string {
			name := strings.Trim(part, "{}")
			column := e.columnOf(name)
			if column == nil {
				c.missing(e.decl.labelPlace, "the label names %s, which is no field of %s and no column of %s", name,
					e.decl.Name, e.table.Name).Nearest(name, e.table.ColumnNames())
				return part
			}
			return "{" + column.Name + "}"
		})
	}
}

// columnOf is the column of a field, or of a name; nil if there is none.
func (e *entity) columnOf(name string) *schema.Column {
	for _, f := range e.fields {
		if f.decl.Name == name && f.column != nil {
			return f.column
		}
	}
	return e.table.ByConvention(name)
}

// LabelRows lets the tables of a database call their rows as the plan says.
func (p *Plan) LabelRows(db *schema.Database) {
	found := p.collector.found
	p.outlined(db).labels()
	p.collector.found = found
}
