package plan

import (
	"slices"
	"strings"

	"evensprout/internal/diag"
	"evensprout/internal/schema"
)

// maxSchemas bounds the schemas that a plan fills.
const maxSchemas = 1000

// schemaMark stands between the name of an entity and the schema that its rows are in. A name in a plan never has it.
const schemaMark = "@"

// Bare is the name as the plan writes it: without the schema, if the plan fills several.
func (e *Entity) Bare() string { return bare(e.Name) }

func bare(name string) string {
	name, _, _ = strings.Cut(name, schemaMark)
	return name
}

// schemas reads the schemas that a plan fills.
func (p *Plan) schemas(v *node) {
	if !v.list || len(v.items) == 0 {
		p.add(v.place, "schemas must be a list of names, got %s", v.what()).Advise("write schemas: [acme, borealis]")
		return
	}
	if len(v.items) > maxSchemas {
		p.add(v.place, "more than %d schemas", maxSchemas)
		return
	}
	for _, x := range v.items {
		var name string
		switch {
		case !p.text(x, "the name of a schema", &name):
		case strings.Contains(name, schemaMark):
			p.add(x.place, "the name of a schema must not contain %s, got %s", schemaMark, name)
		case slices.Contains(p.Schemas, name):
			p.add(x.place, "the schema %s is listed twice", name)
		default:
			p.Schemas = append(p.Schemas, name)
		}
	}
}

// repeat gives a plan its entities, units and invariants once for each of its schemas. An entity whose table names a
// schema itself is shared by all.
func (p *Plan) repeat(at place) {
	if len(p.Schemas)*len(p.Entities) > maxEntities {
		p.add(at, "%d schemas of %d entities are more than %d", len(p.Schemas), len(p.Entities), maxEntities)
		return
	}
	var entities []*Entity
	var units []*Unit
	var always []*Invariant
	for _, e := range p.Entities {
		if strings.Contains(e.Table, ".") {
			entities = append(entities, e)
		}
	}
	shared := len(entities)
	for _, inv := range p.Always {
		if inv.value.get("sql") != nil {
			always = append(always, inv)
		}
	}
	for _, s := range p.Schemas {
		for _, e := range p.Entities {
			if !slices.Contains(entities[:shared], e) {
				entities = append(entities, e.in(s))
			}
		}
		for _, u := range p.Units {
			units = append(units, u.in(s, p))
		}
		for _, inv := range p.Always {
			if inv.value.get("sql") == nil {
				always = append(always, &Invariant{inv.Name + schemaMark + s, s, inv.value, inv.place})
			}
		}
	}
	p.Entities, p.Units, p.Always = entities, units, always
}

// in is an entity whose rows are in a schema.
func (e *Entity) in(name string) *Entity {
	own := *e
	own.Name, own.Schema = e.Name+schemaMark+name, name
	own.Fields, own.Draws = cloned(e.Fields), cloned(e.Draws)
	return &own
}

// in is a unit that works in a schema.
func (u *Unit) in(name string, p *Plan) *Unit {
	own := *u
	own.Name = u.Name + schemaMark + name
	own.Occasions = u.Occasions.in(name)
	own.After = slices.Clone(u.After)
	for i, after := range own.After {
		if slices.ContainsFunc(p.Units, func(x *Unit) bool { return x.Name == after }) {
			own.After[i] = after + schemaMark + name
		}
	}
	return &own
}

// cloned copies fields: compiling one notes what it finds in it.
func cloned(fields []*Field) []*Field {
	out := make([]*Field, len(fields))
	for i, f := range fields {
		own := *f
		out[i] = &own
	}
	return out
}

// named is the entity that a name means in a schema: that of the same schema, else one that all share; nil if there is
// none.
func (c *compiler) named(in, name string) *entity {
	if in != "" {
		if e := c.byName[name+schemaMark+in]; e != nil {
			return e
		}
	}
	return c.byName[name]
}

// tableIn is the table that a name means in a schema: that of the same schema, else any; nil if there is none.
func (c *compiler) tableIn(in, name string) *schema.Table {
	if in != "" && !strings.Contains(name, ".") {
		for _, t := range c.db.Tables {
			if t.Schema == in && strings.EqualFold(t.LocalName(), name) {
				return t
			}
		}
	}
	return c.db.Table(name)
}

// entityTableIn finds the table of an entity in its schema.
func (c *compiler) entityTableIn(e *entity, at place) {
	in, name := e.decl.Schema, e.decl.Bare()
	var there []string
	for _, t := range c.db.Tables {
		if t.Schema != in {
			continue
		}
		local := t.LocalName()
		there = append(there, local)
		p := schema.Plain(local)
		if e.decl.Table != "" && strings.EqualFold(local, e.decl.Table) ||
			e.decl.Table == "" && (p == schema.Plain(name) || p == schema.Plain(name)+"s") {
			e.table, e.decl.Table = t, t.Name
			return
		}
	}
	wanted := e.decl.Table
	if wanted == "" {
		wanted = name
	}
	p := c.noTable(at, "the schema %s has no table %s", in, wanted)
	switch near := diag.Nearest(wanted, there); {
	case c.db.Schemas() == nil:
		p.Advise("this database has no schemas: use one database for each, or a column that says whose a row is")
	case near != "":
		p.Advise("did you mean %s?", near)
	case there == nil:
		p.Advise("create the schema and its tables first, or take %s out of schemas", in)
	default:
		p.Advise("for a table that all schemas share, write its own: table: public.%s", wanted)
	}
}

// onceForAll reports what is wrong in the same way in several schemas once.
func (p *Plan) onceForAll() {
	if len(p.Schemas) < 2 {
		return
	}
	seen := map[diag.Problem]bool{}
	var found diag.Problems
	for _, x := range p.collector.found {
		key := diag.Problem{File: x.File, Line: x.Line, Column: x.Column, Message: p.anySchema(x.Message)}
		if !seen[key] {
			found = append(found, x)
		}
		seen[key] = true
	}
	p.collector.found = found
}

// anySchema takes the names of the plan's schemas out of a text.
func (p *Plan) anySchema(text string) string {
	for _, s := range p.Schemas {
		text = strings.ReplaceAll(text, schemaMark+s, "")
		text = strings.ReplaceAll(text, " "+s+".", " ")
	}
	return text
}
