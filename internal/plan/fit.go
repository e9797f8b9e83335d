package plan

import (
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"evensprout/internal/grow"
	"evensprout/internal/schema"
	"evensprout/internal/value"
)

// fit holds an entity against its table.
func (c *compiler) fit(e *entity) {
	if e.table == nil || e.decl.Existing {
		return
	}
	byColumn := map[*schema.Column]*field{}
	for _, f := range e.fields {
		if f.column == nil {
			continue
		}
		byColumn[f.column] = f
		if f.state == compiled {
			c.fitField(f)
		}
	}
	if e.write.Mode != Update { // an update adds no row
		c.fitNeeded(e, byColumn)
	}
	c.fitKeys(e)
	c.fitIgnored(e)
}

// fitNeeded adds a problem for each column that needs a value and has no field.
func (c *compiler) fitNeeded(e *entity, byColumn map[*schema.Column]*field) {
	lost := e.decl.Per != nil && (e.up == nil || e.up.column == nil) // told at per
	for _, col := range e.table.Columns {
		if lost && e.table.Reference(col.Name) != nil {
			continue
		}
		if byColumn[col] == nil && col.NotNull && !col.Default && !col.Generated {
			c.missing(e.decl.place, "the column %s.%s (%s) is NOT NULL without a default, and the plan has no "+
				"field for it", e.table.Name, col.Name, col.Declared).
				Advise("add it to the fields of %s: %s", e.decl.Name, suggestion(c, e, col))
		}
	}
}

// suggestion is a source that would do for a column.
func suggestion(c *compiler, e *entity, col *schema.Column) string {
	if r := e.table.Reference(col.Name); r != nil {
		for _, to := range c.entities {
			if to.table != nil && strings.EqualFold(to.table.Name, r.Table) {
				return col.Name + ": {pick: " + to.decl.Name + "}"
			}
		}
	}
	if col.Kind == schema.Integer && schema.Plain(col.Name) == "id" {
		return col.Name + ": {count: 1}"
	}
	return col.Name + ": " + typical(col)
}

// typical is a source that suits the kind of a column.
func typical(col *schema.Column) string {
	if len(col.Values) > 0 {
		list := make([]string, len(col.Values))
		for i, v := range col.Values {
			list[i] = Scalar(v)
		}
		return "{choose: [" + strings.Join(list, ", ") + "]}"
	}

	switch col.Kind {
	case schema.Integer:
		return "{between: [1, 100]}"
	case schema.Decimal, schema.Real:
		return "{between: [1.00, 100.00]}"
	case schema.Boolean:
		return "{share: 50%}"
	case schema.Date:
		return "{between: [2025-01-01, 2026-04-30]}"
	case schema.Time:
		return "{between: [06:00, 21:45], step: 15m}"
	case schema.Timestamp:
		return "{before: clock, within: 400d}"
	case schema.UUID:
		return "{uuid: v4}"
	case schema.JSON:
		return "{value: \"{}\"}"
	case schema.Bytes:
		return "{bytes: 16}"
	}

	if col.Length > 0 && col.Length < 20 {
		return fmt.Sprintf("{pattern: \"[A-Z]{%d}\"}", min(col.Length, 8))
	}
	return "{kind: title}"
}

// fitField compares a field's source with what its column can hold.
func (c *compiler) fitField(f *field) {
	col, src, at, d := f.column, f.grow.Source, f.decl.place, f.decl
	if col.Generated {
		c.missing(at, "the database computes the column %s, so nothing can be written to it", col.Name).
			Advise("remove the field %s from the plan", f.decl.Name)
		return
	}
	if t := src.Type(); t != value.Null && !holds(col.Kind, t) {
		if want, ok := columnTypes[col.Kind]; ok && d.word == wordStored {
			c.plan.collector.found = append(c.plan.collector.found, f.entity.rowFile.Misfits(f.fileColumn, want)...)
		}
		p := c.missing(
			at,
			"%s generates values of type %s, and the column %s.%s is %s",
			f.decl.Name,
			t,
			f.entity.table.Name,
			col.Name,
			col.Declared,
		)
		if d.bare && d.source.text == clockWord {
			p.Advise("clock alone is text; write the plan's clock as {value: clock}")
		}
		return
	}

	if col.NotNull {
		c.fitNotNull(f)
	} else if d.word == wordGiven && col.Default && f.grow.Nulls.Part > 0 && f.grow.Target() == nil {
		c.warnOfDefaults(f)
	}
	c.fitTexts(f)
	if f.grow.Target() == nil && f.grow.Source.Type() != value.Null {
		c.fitReference(f)
	}
}

// warnOfDefaults tells of given rows that do not name a column with a default.
func (c *compiler) warnOfDefaults(f *field) {
	d := f.decl
	for _, g := range f.entity.given {
		if f.valueOf(g) == nil {
			p := c.add(g.place, "the row %s has no %s, so it is NULL there, not the column's default: the "+
				"database computes that default for each row", g.Name, d.Name)
			p.Warning, p.Database = true, true
			p.Advise("write %s: null if NULL is meant", d.Name)
		}
	}
}

// fitTexts tells of texts that are too long for the column, or none of its values.
func (c *compiler) fitTexts(f *field) {
	col, at := f.column, f.decl.place
	if col.Kind == schema.Text && col.Length > 0 {
		if text, n := longest(f); n > col.Length {
			c.missing(at, "%s can be %d characters long, and the column %s is %s", f.decl.Name, n, col.Name,
				col.Declared).
				Advise("%s", c.tooLongHint(f, text, col.Length))
		}
	}
	if col.Values != nil {
		for _, text := range grow.Texts(f.grow.Source) {
			if !slices.Contains(col.Values, text) {
				c.missing(at, "%s can be %q, and the column %s takes only the values of %s", f.decl.Name, text,
					col.Name, col.Declared).
					Nearest(text, col.Values)
			}
		}
	}
}

// tooLongHint is what to do about a text that is too long for its column.
func (c *compiler) tooLongHint(f *field, text string, length int) string {
	if a := c.awkwardOf(f); a != nil && text == f.grow.LongestAwkward() {
		return fmt.Sprintf("limit its awkward texts: awkward: {share: %s, longest: %d}", a.text, length)
	}
	return fmt.Sprintf("such as %q", text)
}

// fitReference warns of a column that refers to a table, and whose values are not picked
// there.
func (c *compiler) fitReference(f *field) {
	col := f.column
	r := f.entity.table.Reference(col.Name)
	if r == nil {
		r = f.entity.table.WideReference(col.Name)
	}
	if r == nil || f.entity.leavesOpen(r) || slices.Contains([]string{"value", wordGiven, "same"}, f.decl.word) {
		return
	}
	if r.To == f.entity.table && slices.Equal(r.Columns, r.Targets) {
		return // each row refers to itself
	}
	p := c.add(
		f.decl.place,
		"the column %s refers to the table %s, which may not contain these values",
		col.Name,
		r.Table,
	)
	p.Warning, p.Database = true, true
	p.Advise("use existing rows with {pick: ENTITY}")
}

// leavesOpen reports whether the plan lets a reference of several columns refer to nothing,
// as one of them is always NULL.
func (e *entity) leavesOpen(r *schema.Reference) bool {
	return slices.ContainsFunc(e.fields, func(f *field) bool {
		return f.column != nil && f.state == compiled && f.grow.Source.Type() == value.Null &&
			slices.Contains(r.Columns, f.column.Name)
	})
}

// fitNotNull tells of NULLs that a column refuses.
func (c *compiler) fitNotNull(f *field) {
	d, col := f.decl, f.column
	literal := d.word == "value" && f.grow.Source.Type() == value.Null
	switch {
	case d.Nulls.Part > 0:
		c.missing(d.nullsPlace, "%s is NULL in a share of the rows, and the column %s is NOT NULL", d.Name, col.Name)
	case d.cond != nil:
		c.missing(
			d.cond.place,
			"%s is NULL where the condition does not hold, and the column %s is NOT NULL",
			d.Name,
			col.Name,
		)
	case literal:
		c.missing(d.place, "%s is NULL, and the column %s is NOT NULL", d.Name, col.Name)
	case d.word == wordGiven && f.grow.Nulls.Part > 0:
		rest := f.entity.grow.Rows > 0 || f.entity.parent != nil
		for _, g := range f.entity.given {
			if n := f.valueOf(g); n == nil || n.null {
				c.missing(
					g.place,
					"the row %s has no %s, and the column %s is NOT NULL",
					g.Name,
					d.Name,
					col.Name,
				)
			}
		}
		if rest {
			c.missing(f.entity.decl.place, "the column %s is NOT NULL, and only rows written in the plan have a "+
				"value for it",
				col.Name).
				Advise("add it to the fields of %s: %s", f.entity.decl.Name, suggestion(c, f.entity, col))
		}
	case d.word == "pick" && f.grow.Target() == f.entity.grow:
		c.missing(
			d.place,
			"%s picks an earlier row of the same entity, so the first row has none, but the column %s is NOT NULL",
			d.Name,
			col.Name,
		)
	}
}

// valueOf is what a given row says about a field, or nil.
func (f *field) valueOf(g *Given) *node {
	for _, x := range g.Values.pairs {
		if f.entity.find(x.key.text) == f {
			return x.value
		}
	}
	return nil
}

// longest is the longest text that is known to come, and its characters; 0 if that
// cannot be told beforehand.
func longest(f *field) (string, int) {
	best, n := "", 0
	note := func(s string) {
		if k := utf8.RuneCountInString(s); k > n {
			best, n = s, k
		}
	}
	for _, g := range f.entity.given {
		if v := f.valueOf(g); v != nil && v.scalar() && f.grow.Target() == nil {
			note(v.text)
		}
	}
	if s, k := grow.LongestText(f.grow.Source); k > n {
		best, n = s, k
	}
	note(f.grow.LongestAwkward())
	return best, n
}

// columnTypes are the types that kinds of columns are made for.
var columnTypes = map[schema.Kind]value.Type{
	schema.Integer: value.Integer, schema.Decimal: value.Decimal, schema.Real: value.Decimal,
	schema.Boolean: value.Boolean, schema.Date: value.Date,
	schema.Time: value.Time, schema.Timestamp: value.Timestamp, schema.UUID: value.UUID, schema.JSON: value.JSON,
}

// holds reports whether a kind of column keeps a logical type exactly.
func holds(k schema.Kind, t value.Type) bool {
	if k == schema.Text {
		return t != value.Bytes
	}
	kept, known := keeps[k]
	return !known || slices.Contains(kept, t)
}

// keeps are the logical types that kinds of columns keep exactly.
var keeps = map[schema.Kind][]value.Type{
	schema.Integer:   {value.Integer, value.Boolean},
	schema.Decimal:   {value.Integer, value.Decimal},
	schema.Real:      {value.Integer, value.Decimal},
	schema.Boolean:   {value.Boolean},
	schema.Date:      {value.Date},
	schema.Time:      {value.Time},
	schema.Timestamp: {value.Timestamp, value.Date},
	schema.UUID:      {value.UUID},
	schema.JSON:      {value.JSON, value.Text},
	schema.Bytes:     {value.Bytes, value.Text}, // a text as UTF-8
}

// fitIgnored reports names of columns that do not count and are none.
func (c *compiler) fitIgnored(e *entity) {
	for _, i := range e.decl.Ignore {
		if e.table.Column(i.Name) == nil && e.find(i.Name) == nil {
			c.missing(i.place, "%s has no column %s", e.table.Name, i.Name).Nearest(i.Name, e.table.ColumnNames())
		}
	}
}

// fitIgnoredEverywhere reports names beside the entities that are a column of no table.
func (c *compiler) fitIgnoredEverywhere(db *schema.Database) {
	names := c.plan.Ignorable(db)
	for _, i := range c.plan.Ignore {
		if !slices.Contains(names, i.Name) {
			c.missing(i.place, "no table has a column %s", i.Name).Nearest(i.Name, names)
		}
	}
}

// Ignorable are the names that can be ignored when rows are compared: columns of all tables, also of those that the
// plan does not mention, and fields of the plan.
func (p *Plan) Ignorable(db *schema.Database) []string {
	var names []string
	for _, t := range db.Tables {
		names = append(names, t.ColumnNames()...)
	}
	for _, e := range p.Entities {
		for _, f := range e.Fields {
			names = append(names, f.Name)
		}
	}
	return names
}

// fitKeys warns of unique constraints that the plan does not keep by itself.
func (c *compiler) fitKeys(e *entity) {
	if r := e.decl.RowsFrom; r != nil && r.Manifest != "" {
		return // the rows were unique when they were grown
	}
	for _, key := range e.table.Keys() {
		if key.Partial || len(key.Columns) == 0 {
			continue
		}
		var fields []*grow.Field
		var names []string
		whole, nothing, inFile := true, false, true
		for _, name := range key.Columns {
			i := slices.IndexFunc(
				e.fields,
				func(f *field) bool { return f.column != nil && strings.EqualFold(f.column.Name, name) },
			)
			if i < 0 {
				whole = false
				continue
			}
			f := e.fields[i]
			if f.state != compiled {
				whole = false
				continue
			}
			fields = append(fields, f.grow)
			names = append(names, f.decl.Name)
			nothing = nothing || f.decl.word == wordGiven
			inFile = inFile && (f.decl.word == wordStored || f.finds != nil)
		}
		rows := e.grow.Rows
		if e.parent != nil {
			rows = 2 // more than one, as far as we know
		}
		if !whole || rows < 2 || grow.Grouped(fields) || nothing {
			continue
		}
		p := c.add(
			e.decl.place,
			"%s.%s must be unique (%s), and the plan does not ensure that: rows may collide",
			e.table.Name,
			strings.Join(names, ", "),
			key.Name,
		)
		p.Warning, p.Database = true, true
		switch {
		case inFile:
			p.Advise("find rows of the file that have the same with key: [%s] in rows_from", strings.Join(names, ", "))
		case len(names) == 1:
			p.Advise("add unique: true to %s", names[0])
		default:
			p.Advise("add to %s: unique: [[%s]]", e.decl.Name, strings.Join(names, ", "))
		}
	}
}
