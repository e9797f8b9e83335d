package export

import (
	"evensprout/internal/schema"
	"evensprout/internal/store"
)

// localScript is a script that leaves schemas out of the names of tables: whoever runs it says which schema is meant.
type localScript struct{ store.Script }

// Table is a table's quoted name.
func (l *localScript) Table(t *schema.Table) string { return l.Quote(t.LocalName()) }

// Advance moves the sequence of a column.
func (l *localScript) Advance(t *schema.Table, c *schema.Column, last int64) string {
	local := *t
	local.Name, local.Local, local.Schema = t.LocalName(), "", ""
	return l.Script.Advance(&local, c, last)
}
