package draft

import (
	"maps"
	"slices"
	"strings"

	"evensprout/internal/predicate"
	"evensprout/internal/schema"
	"evensprout/internal/value"
)

// domain is what conditions leave to a column, and the conditions themselves.
type domain struct {
	predicate.Domain
	conditions []*predicate.Condition // over the column alone, those that can be computed
	opaque     []string               // those that only the database can compute
	from       []string               // the constraints, for people
	marked     []value.Value          // that conditions over several columns single out
	why        string                 // where the values come from, if from no condition
}

// read makes the fields, and brings the conditions of the table to domains.
func (t *Table) read() {
	for _, c := range t.Schema.Columns {
		if c.Generated {
			continue
		}
		t.Fields = append(t.Fields, &Field{Name: c.Name, Column: c, table: t})
	}

	all := t.conditions()
	narrowed, rest := predicate.Narrow(all)
	for _, name := range slices.Sorted(maps.Keys(narrowed)) {
		c := t.Schema.Column(name)
		if c == nil {
			continue
		}
		d := t.domain(c)
		d.Domain = *narrowed[name]
		for _, n := range d.From {
			d.mustMeet(n)
		}
	}

	for c, values := range t.d.Choices {
		listed := narrowed[strings.ToLower(c.Name)]
		if t.Schema.Column(c.Name) == c && c.Values == nil && (listed == nil || listed.Only == nil) {
			d := t.domain(c)
			d.Only, d.from, d.why = values, nil, "the constants of its type"
		}
	}
	t.note(all, rest)
}

// note keeps the texts of all conditions beside the domains of their columns, and marks the
// fields of those that no domain holds.
func (t *Table) note(all, rest []*predicate.Node) {
	for _, n := range all {
		if columns := n.Columns(); len(columns) == 1 {
			d := t.domain(t.Schema.Column(columns[0]))
			d.from = append(d.from, n.String())
			d.mustMeet(n)
		}
	}
	for _, n := range rest {
		columns := n.Columns()
		if len(columns) == 1 {
			d := t.domain(t.Schema.Column(columns[0]))
			if !slices.Contains(d.from, n.String()) && d.mustMeet(n) {
				d.from = append(d.from, n.String())
			}
			continue
		}
		t.rest = append(t.rest, n.String())
		t.mark(n)
	}
}

// mustMeet adds a condition to a domain; false if it cannot be computed here.
func (d *domain) mustMeet(n *predicate.Node) bool {
	k, err := predicate.Compile(n)
	if err == nil {
		d.conditions = append(d.conditions, k)
	}
	return err == nil
}

// conditions are those of the table that can be computed here; the others are noted.
func (t *Table) conditions() []*predicate.Node {
	var all []*predicate.Node
	take := func(text, column string) {
		if n := t.condition(text, column); n != nil {
			all = append(all, n)
		}
	}
	for _, c := range t.Schema.Checks {
		take(c.Expression, "")
	}
	for _, c := range t.Schema.Columns {
		for _, k := range c.Checks {
			take(k.Expression, c.Name)
		}
	}
	t.accepted(take)
	if t.Schema.Partition != "" {
		take(t.Schema.Partition, "")
	}
	return all
}

// condition reads a condition of the table, or of a column's domain; nil, and noted, if it
// cannot be computed here.
func (t *Table) condition(text, column string) *predicate.Node {
	n, err := predicate.Parse(text)
	if column != "" {
		n, err = predicate.ParseDomain(text, column)
	}
	if err != nil {
		t.opaque(text, column)
		return nil
	}
	n = n.Replace(t.computed)
	for _, name := range n.Columns() {
		c := t.Schema.Column(name)
		if c == nil {
			t.opaque(text, column)
			return nil
		}
		if c.Generated {
			t.Notes = append(t.Notes, "no field can satisfy the condition on the computed column "+c.Name+": "+text)
			return nil
		}
	}

	if _, err := predicate.Compile(n); err != nil {
		t.opaque(n.String(), column)
		return nil
	}
	return n
}

// mark notes the whole numbers that a condition singles out of a column, such as a depth
// of 0: they must be among its values.
func (t *Table) mark(n *predicate.Node) {
	n.Visit(func(x *predicate.Node) {
		if x.Op != predicate.Equal && x.Op != predicate.Differs {
			return
		}
		for i, a := range x.Args {
			other := x.Args[1-i]
			if c := t.Schema.Column(a.Name); a.Op == predicate.Column && c != nil && c.Kind == schema.Integer &&
				other.Op == predicate.Literal &&
				other.Value.Type == value.Integer {
				d := t.domain(c)
				d.marked = append(d.marked, other.Value)
			}
		}
	})
}

// computed is the expression of a generated column; nil of others, and where it cannot be
// read.
func (t *Table) computed(column string) *predicate.Node {
	c := t.Schema.Column(column)
	if c == nil || !c.Generated || c.Computed == "" {
		return nil
	}
	n, err := predicate.Parse(c.Computed)
	if err != nil {
		return nil
	}
	return n
}

// domain returns the domain of a column, and makes it if there is none.
func (t *Table) domain(c *schema.Column) *domain {
	d := t.domains[c.Name]
	if d == nil {
		d = &domain{}
		t.domains[c.Name] = d
	}
	return d
}

// opaque notes a condition that only the database can compute.
func (t *Table) opaque(text, column string) {
	var columns []string
	if n, err := predicate.Parse(text); err == nil {
		columns = n.Columns()
	}
	if column == "" && len(columns) == 1 {
		if of := t.Schema.Column(columns[0]); of != nil {
			column = of.Name
		}
	}
	if column != "" {
		d := t.domain(t.Schema.Column(column))
		d.opaque = append(d.opaque, text)
		return
	}
	t.together = append(t.together, text)
}

// narrow keeps values that others refer to in what the narrowest of these columns holds.
func (d *drafter) narrow() {
	for changed := true; changed; {
		changed = false
		for from, to := range d.referring() {
			changed = to.table.narrowTo(to.column, from.table.lengthOf(from.column)) || changed
		}
	}
}

// lengthOf is how long the values of a column may be, by its type and by what refers to
// it; 0: any.
func (t *Table) lengthOf(c *schema.Column) int {
	most := c.Length
	if d := t.domains[c.Name]; d != nil && d.Longest > 0 && (most == 0 || d.Longest < most) {
		most = d.Longest
	}
	return most
}

// narrowTo bounds the length of a column's values, and reports whether that is news.
func (t *Table) narrowTo(c *schema.Column, most int) bool {
	if own := t.lengthOf(c); c.Kind != schema.Text && c.Kind != schema.Bytes || most == 0 || own > 0 && own <= most {
		return false
	}
	t.domain(c).Longest = most
	return true
}
