package plan

import (
	"slices"
	"strings"

	"evensprout/internal/diag"
	"evensprout/internal/grow"
	"evensprout/internal/schema"
)

// table binds an entity to its table, and its fields to the columns of it.
func (c *compiler) table(e *entity) {
	at := e.decl.tablePlace
	if at == (place{}) {
		at = e.decl.place
	}
	if e.decl.Schema != "" {
		c.entityTableIn(e, at)
		return
	}
	if e.decl.Table != "" {
		if e.table = c.db.Table(e.decl.Table); e.table == nil {
			c.noTable(at, "the database has no table %s", e.decl.Table).Nearest(e.decl.Table, c.db.TableNames())
		}
		return
	}
	for _, t := range c.db.Tables {
		if p := schema.Plain(t.Name); p == schema.Plain(e.decl.Name) || p == schema.Plain(e.decl.Name)+"s" {
			e.table = t
		}
	}
	if e.table == nil {
		c.noTable(at, "%s names no table, and the database has no table of that "+
			"name", e.decl.Name).Advise("table: NAME")
		return
	}
	e.decl.Table = e.table.Name
}

// noTable adds a problem also of a plan that was loaded: without a table nothing is left.
func (c *compiler) noTable(at place, message string, args ...any) *diag.Problem {
	p := c.add(at, message, args...)
	p.Database = true
	return p
}

// columnSince finds the column that a field has since it was loaded; nil if that is gone.
func (c *compiler) columnSince(e *entity, f *field) *schema.Column {
	if name := c.since.Renamed(e.decl.Name, f.decl.Name); name != "" {
		if col := e.table.ByConvention(name); col != nil {
			return col
		}
	}
	c.since.Lost = append(c.since.Lost, e.decl.Name+"."+f.decl.Name)
	return nil
}

// bind finds each field's column and the entity's key.
func (c *compiler) bind(e *entity) {
	if e.table != nil {
		taken := map[string]*field{}
		for _, f := range e.fields {
			// What is wrong with another plan is reported there.
			if f.decl.inner || e.base != nil && f.decl.Column == "" {
				continue
			}
			f.column = c.column(e, f)
			if f.column == nil && c.since != nil {
				f.column = c.columnSince(e, f)
			}
			if f.column == nil {
				continue
			}
			if other := taken[f.column.Name]; other != nil {
				c.add(f.decl.place, "%s and %s both map to the column %s", other.decl.Name, f.decl.Name,
					f.column.Name).
					Advise("name the column of a field with column: NAME")
			}
			taken[f.column.Name] = f
		}
	}

	if !e.occasion {
		c.key(e)
	}
}

// column finds a field's column: the one that it names, or by convention; for
// references also NAME_id.
func (c *compiler) column(e *entity, f *field) *schema.Column {
	t, d := e.table, f.decl
	if d.word == wordParent {
		return c.parentColumn(e, f)
	}
	if d.Column != "" {
		col := t.Column(d.Column)
		if col == nil {
			c.missing(d.columnPlace, "the table %s has no column %s", t.Name, d.Column).
				Nearest(d.Column, t.ColumnNames())
		}
		return col
	}
	col := t.ByConvention(d.Name)
	if col == nil && slices.Contains([]string{"pick", "find", "same", "from", "tree", wordGiven}, d.word) {
		col = t.ByConvention(d.Name + "_id")
	}
	if col == nil {
		c.missing(d.place, "the table %s has no column for the field %s", t.Name, d.Name).
			Nearest(d.Name, t.ColumnNames())
	}
	return col
}

// parentColumn returns the column in which a field refers to the parent; nil after adding a
// problem.
func (c *compiler) parentColumn(e *entity, f *field) *schema.Column {
	t, per := e.table, e.decl.Per
	if per.Via != "" {
		col := t.ByConvention(per.Via)
		if col == nil {
			c.missing(per.viaPlace, "the table %s has no column %s", t.Name, per.Via).Nearest(per.Via, t.ColumnNames())
		}
		return col
	}

	if e.parent.table == nil {
		return t.ByConvention(e.parent.decl.Bare() + "_id")
	}
	var found []*schema.Column
	for _, r := range t.References {
		if len(r.Columns) == 1 && strings.EqualFold(r.Table, e.parent.table.Name) {
			found = append(found, t.Column(r.Columns[0]))
		}
	}
	if len(found) == 0 {
		if col := t.ByConvention(e.parent.decl.Bare() + "_id"); col != nil {
			return col
		}
		c.missing(per.place, "the table %s has no reference to %s", t.Name, e.parent.table.Name).
			Advise("name the column: per: {%s: ..., via: COLUMN}", e.parent.decl.Bare())
		return nil
	}

	if len(found) > 1 {
		var names []string
		for _, col := range found {
			names = append(names, col.Name)
		}
		c.add(per.place, "the table %s refers to %s in several columns: %s", t.Name, e.parent.table.Name,
			strings.Join(names, ", ")).
			Advise("per: {%s: ..., via: %s}", e.parent.decl.Bare(), names[0])
	}
	return found[0]
}

// key finds the field that references to the entity store. Where the plan says
// nothing about a number or UUID key, it is planned all the same.
func (c *compiler) key(e *entity) {
	name := "id"
	var column *schema.Column
	if e.table != nil {
		if len(e.table.PrimaryKey) != 1 {
			return
		}
		column = e.table.Column(e.table.PrimaryKey[0])
		name = column.Name
	}

	for _, f := range e.fields {
		if f.decl.inner {
			continue
		}
		if e.table != nil && f.column == column || e.table == nil && schema.Plain(f.decl.Name) == name {
			e.grow.Key = f.grow
			return
		}
	}

	d := &Field{Name: name, word: "count", source: &node{null: true}, place: e.decl.place}
	if column != nil && column.Kind == schema.UUID {
		d.word, d.source = "uuid", &node{text: "v4"}
	} else if column != nil && column.Kind != schema.Integer && column.Kind != schema.Any {
		return // fit tells that it has no source
	}
	f := c.newField(e, d)
	f.grow.Hidden = true
	f.column = column
	e.grow.Key = f.grow
}

// stored finds the field of a picked entity whose value a reference keeps.
func (c *compiler) stored(f *field, to *entity) *grow.Field {
	if by, ok := f.decl.args["by"]; ok {
		var name string
		if !c.plan.text(by, "by", &name) {
			return nil
		}
		of := to.find(name)
		if of == nil {
			c.add(by.place, "%s has no field %s", to.decl.Name, name).Nearest(name, to.names())
			return nil
		}
		return of.grow
	}

	if f.column != nil && to.table != nil {
		if r := f.entity.table.Reference(f.column.Name); r != nil {
			if !strings.EqualFold(r.Table, to.table.Name) {
				c.missing(
					f.decl.place,
					"%s.%s picks from %s, but the column %s refers to the table %s",
					f.entity.decl.Name,
					f.decl.Name,
					to.decl.Name,
					f.column.Name,
					r.Table,
				)
				return nil
			}
			for _, of := range to.fields {
				if of.column != nil && strings.EqualFold(of.column.Name, r.Targets[0]) {
					return of.grow
				}
			}
		}
	}

	if to.grow.Key == nil {
		c.add(f.decl.place, "%s has no single-column key, so %s cannot refer to it", to.decl.Name, f.decl.Name).
			Advise("choose the field to store with by: FIELD")
		return nil
	}
	return to.grow.Key
}
