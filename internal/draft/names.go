package draft

import (
	"fmt"
	"strings"

	"evensprout/internal/lexicon"
	"evensprout/internal/plan"
	"evensprout/internal/schema"
)

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
		if f.Name = t.d.Fields[f.Column]; f.Name == "" || t.d.Names != lexicon.AsColumns {
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
			for _, r := range lexicon.Words(f.Column.Name) {
				f.Name += "_" + strings.ToLower(r)
			}
		}
		taken[schema.Plain(f.Name)] = true
	}
}
