package draft

import (
	"slices"
	"strings"

	"evensprout/internal/schema"
	"evensprout/internal/value"
)

// Found is what trials of a draft have shown; see package prove. The zero value is that nothing was tried.
type Found struct {
	Avoid    map[*schema.Column]string   // columns that are left out, and why
	Without  map[*schema.Table]string    // tables that are left out, and why
	Accepted map[*schema.Column]Accepted // what the database accepts in a column
	Picked   map[*schema.Column][]Picked // the rows that a reference may refer to
	Most     map[*schema.Table]uint64    // the rows that a table takes
}

// Accepted are values, or a range of values, that the database accepts.
type Accepted struct {
	Condition string // such as seats in (2, 4)
	Why       string
}

// Picked are values of a column of the rows that a reference may refer to.
type Picked struct {
	Target string
	Values []value.Value
}

// accepted are the conditions that trials have shown.
func (t *Table) accepted(take func(text, column string)) {
	for _, c := range t.Schema.Columns {
		if a, ok := t.d.Found.Accepted[c]; ok {
			take(a.Condition, "")
			t.domain(c).why = a.Why
		}
	}
}

// pickAccepted keeps a reference to the rows that the database accepts.
func (t *Table) pickAccepted(r *reference) {
	for _, p := range t.d.Found.Picked[r.lead.Column] {
		if f := r.known().find(p.Target); f != nil {
			r.only = append(r.only, only{f, p.Target, p.Values})
		}
	}
}

// capped is how many rows a table gets of those that are wished for.
func (t *Table) capped(rows uint64) uint64 {
	if most, ok := t.d.Found.Most[t.Schema]; ok {
		return min(rows, most)
	}
	return rows
}

// optional reports whether rows can be without a value in a column.
func optional(c *schema.Column) bool { return !c.NotNull || c.Default }

// Optional are the columns of a table that rows can be without, and that no key needs.
func Optional(t *schema.Table) []*schema.Column {
	var out []*schema.Column
	for _, c := range t.Columns {
		if !c.Generated && optional(c) && !slices.ContainsFunc(t.PrimaryKey, func(k string) bool {
			return strings.EqualFold(k, c.Name)
		}) {
			out = append(out, c)
		}
	}
	return out
}
