package plan

import (
	"strings"

	"evensprout/internal/diag"
	"evensprout/internal/schema"
)

// Layout is where the parts of a plan stand in its file. Lines count from 1, columns from 0.
type Layout struct {
	Entities []EntityLayout
	InLine   bool // they are written in braces, or there are none, so that no line can be put between
	Column   int  // of the names of entities
	End      int  // the last line of the entities
}

// EntityLayout is where an entity stands.
type EntityLayout struct {
	Name      string
	Line, End int  // of its name, and its last line
	Column    int  // of its keys
	InLine    bool // it is written in braces, or has no keys
	Fields    []FieldLayout
	FieldsEnd int  // the last line of its fields; 0 if it has none
	FieldsAt  int  // the column of their names
	FieldsIn  bool // they are written in braces

	Table *schema.Table // nil if the database has none for it
}

// FieldLayout is where a field stands, and what it is in the database.
type FieldLayout struct {
	Name   string
	Line   int
	Column *schema.Column // nil if the table has none
}

// Layout finds the parts of a plan in its file, and what they are in a database. Columns that the plan need not mention
// are no fields.
func (p *Plan) Layout(db *schema.Database) (Layout, map[*schema.Column]bool) {
	lines := strings.Split(string(p.source), "\n")
	var out Layout
	covered := map[*schema.Column]bool{}
	entities := p.root.get("entities")
	if entities == nil || !entities.mapping {
		out.InLine = true
		return out, covered
	}
	out.InLine = entities.braces
	end := len(lines)
	for i, x := range p.root.pairs {
		if x.value == entities {
			end = bound(p.root.pairs, i, end)
		}
	}
	out.End = lastText(lines, end)
	bindings := p.bindings(db)
	for i, x := range entities.pairs {
		e := EntityLayout{Name: x.key.text, Line: x.key.line, End: lastText(lines, bound(entities.pairs, i, end))}
		out.Column = x.key.column - 1
		if len(x.value.pairs) == 0 || x.value.braces {
			e.InLine = true
		} else {
			e.Column = x.value.pairs[0].key.column - 1
		}
		b := bindings[e.Name]
		if b != nil {
			e.Table = b.table
		}
		e.fields(x.value.pairs, lines, b)
		out.Entities = append(out.Entities, e)
		if b != nil {
			for c := range b.covered {
				covered[c] = true
			}
		}
	}
	return out, covered
}

// fields finds the fields among the keys of an entity.
func (e *EntityLayout) fields(keys []pair, lines []string, b *binding) {
	for i, x := range keys {
		if x.key.text != "fields" {
			continue
		}
		e.FieldsEnd, e.FieldsIn = lastText(lines, bound(keys, i, e.End)), x.value.braces || !x.value.mapping
		if line, _, _ := strings.Cut(lines[x.key.line-1], "#"); x.value.null && strings.TrimSpace(line) == "fields:" {
			e.FieldsIn, e.FieldsAt = false, e.Column+2
		}
		for _, f := range x.value.pairs {
			e.FieldsAt = f.key.column - 1
			at := FieldLayout{Name: f.key.text, Line: f.key.line}
			if b != nil {
				at.Column = b.columns[f.key.text]
			}
			e.Fields = append(e.Fields, at)
		}
	}
}

// bound is the last line that can belong to one of the keys of a mapping that ends at a line.
func bound(keys []pair, i, end int) int {
	if i+1 < len(keys) {
		return keys[i+1].key.line - 1
	}
	return end
}

// lastText is the last line up to one that is neither empty nor a comment alone.
func lastText(lines []string, line int) int {
	for line > 1 {
		text := strings.TrimSpace(lines[line-1])
		if text != "" && !strings.HasPrefix(text, "#") {
			break
		}
		line--
	}
	return line
}

// binding is what an entity is in a database.
type binding struct {
	table   *schema.Table
	columns map[string]*schema.Column // by field
	covered map[*schema.Column]bool   // by fields, and by what the plan leaves unsaid
}

// bindings are what the entities of a plan, which may be wrong, are in a database.
func (p *Plan) bindings(db *schema.Database) map[string]*binding {
	defer func(found diag.Problems) { p.collector.found = found }(p.collector.found)
	c := p.outlined(db)
	out := map[string]*binding{}
	for _, e := range c.entities {
		b := &binding{table: e.table, columns: map[string]*schema.Column{}, covered: map[*schema.Column]bool{}}
		out[e.decl.Name] = b
		for _, f := range e.fields {
			if f.column != nil {
				b.columns[f.decl.Name] = f.column
				b.covered[f.column] = true
			}
		}
		for _, r := range wideOf(e) {
			b.covered[r] = true
		}
	}
	return out
}

// wideOf are the columns of references of several columns that a field of the plan fills together.
func wideOf(e *entity) []*schema.Column {
	var out []*schema.Column
	if e.table == nil {
		return nil
	}
	for _, r := range e.table.References {
		for _, f := range e.fields {
			if f.column == nil || !contains(r.Columns, f.column.Name) || len(r.Columns) < 2 {
				continue
			}
			for _, name := range r.Columns {
				if col := e.table.Column(name); col != nil {
					out = append(out, col)
				}
			}
		}
	}
	return out
}

func contains(list []string, name string) bool {
	for _, x := range list {
		if strings.EqualFold(x, name) {
			return true
		}
	}
	return false
}
