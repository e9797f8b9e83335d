package plan

import (
	"evensprout/internal/grow"
	"evensprout/internal/schema"
	"evensprout/internal/value"
)

// typeOf is the logical type of what a column holds.
func typeOf(c *schema.Column) value.Type {
	if c.Kind == schema.Real {
		return value.Text // no number of digits
	}
	if t, ok := columnTypes[c.Kind]; ok {
		return t
	}
	if c.Kind == schema.Bytes {
		return value.Bytes
	}
	return value.Text
}

// openExisting reads the rows of an entity whose rows are those of its table. Its
// fields are the columns.
func (c *compiler) openExisting(e *entity) {
	if e.base != nil {
		c.openBase(e)
		return
	}
	if !e.decl.Existing {
		return
	}
	if c.db == nil || c.openTable == nil {
		c.add(e.decl.rowsPlace, "the rows of %s are in a database, and no database is named", e.decl.Name).
			Advise("name it with --db URL, the environment variable DATABASE_URL, or database: in the " +
				"plan").Database = true
		return
	}
	if e.table == nil {
		return // told
	}
	rows, err := c.openTable(e.table)
	if err != nil {
		c.missing(e.decl.rowsPlace, "the rows of %s cannot be read: %s", e.table.Name, err)
		return
	}
	e.grow.Table = rows
	for i, col := range e.table.Columns {
		f := c.newField(e, &Field{Name: col.Name, Column: col.Name, word: wordStored, place: e.decl.place})
		f.grow.Source, f.state, f.column = grow.Stored(i, typeOf(col), uint8(col.Scale)), compiled, col
		for _, k := range e.table.PrimaryKey {
			if k == col.Name {
				e.grow.TableKey = append(e.grow.TableKey, i)
			}
		}
	}
}
