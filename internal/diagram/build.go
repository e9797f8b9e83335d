package diagram

import (
	"slices"

	"evensprout/internal/diag"
	"evensprout/internal/grow"
	"evensprout/internal/order"
	"evensprout/internal/plan"
	"evensprout/internal/schema"
)

// OfPlan shows the entities of a plan.
func OfPlan(c *plan.Compiled) *Diagram {
	b := builder{d: &Diagram{Title: c.Plan.Name}, plan: c, box: map[*grow.Entity]int{}}
	if n := len(c.Plan.Units); n > 0 {
		b.d.Notes = append(b.d.Notes, "Left out: "+diag.Count(int64(n), "unit", "units")+".")
	}
	b.entities()
	b.references()
	return b.d
}

// OfDatabase shows the tables of a database. rows are their numbers of rows, in words, by the name of the table.
func OfDatabase(db *schema.Database, name string, rows map[string]string) *Diagram {
	d := &Diagram{Title: name, OfTables: true}
	at := map[*schema.Table]int{}
	for _, t := range db.Tables {
		at[t] = len(d.Boxes)
		d.Boxes = append(d.Boxes, boxOf(t, rows[t.Name]))
	}
	for _, t := range db.Tables {
		d.Edges = append(d.Edges, edgesOf(t, at)...)
	}
	d.circles()
	return d
}

// boxOf is a table.
func boxOf(t *schema.Table, rows string) Box {
	b := Box{Name: t.Name, Rows: rows, Parent: -1}
	for _, c := range t.Columns {
		b.Fields = append(b.Fields, Field{Name: c.Name, Type: c.Declared, Key: slices.Contains(t.PrimaryKey, c.Name),
			Reference: t.Reference(c.Name) != nil})
	}
	return b
}

// edgesOf are the references of a table to tables that have boxes.
func edgesOf(t *schema.Table, at map[*schema.Table]int) []Edge {
	var out []Edge
	for i := range t.References {
		r := &t.References[i]
		to, ok := at[r.To]
		if !ok || len(r.Columns) == 0 {
			continue
		}
		column := t.Column(r.Columns[len(r.Columns)-1]) // of several columns, the last one tells the rows apart
		out = append(out, Edge{From: at[t], To: to, Field: column.Name, Optional: !column.NotNull})
	}
	return out
}

// circles marks the edges that close a circle: those without which the others have an order.
func (d *Diagram) circles() {
	forward := map[Edge]bool{}
	for _, e := range d.forward() {
		forward[e] = true
	}
	for i, e := range d.Edges {
		if e.From != e.To && !forward[e] {
			d.Edges[i].Closing = true
		}
	}
}

// builder makes a diagram of a plan.
type builder struct {
	d    *Diagram
	plan *plan.Compiled
	box  map[*grow.Entity]int
}

// entities adds a box for each entity, in the order of the plan.
func (b *builder) entities() {
	o := order.Of(b.plan)
	place, family := map[*plan.Target]int{}, map[*plan.Target]int{}
	families := 0
	for _, f := range o.Families {
		if len(f) > 1 {
			families++
		}
		for _, t := range f {
			place[t] = len(place) + 1
			if len(f) > 1 {
				family[t] = families
			}
		}
	}
	for _, t := range b.plan.Targets {
		b.box[t.Grow] = len(b.d.Boxes)
		rows := diag.Number(t.Grow.Total())
		switch {
		case b.plan.Elsewhere(t):
			rows = "of another plan"
		case t.Plan.Existing:
			rows = "existing"
		}
		b.d.Boxes = append(b.d.Boxes, Box{
			Name: t.Plan.Name, Table: t.Plan.Table, Rows: rows, Order: place[t], Family: family[t], Parent: -1,
			Fields: fieldsOf(t),
		})
	}
	for _, t := range b.plan.Targets {
		if p := t.Grow.Parent; p != nil {
			b.d.Boxes[b.box[t.Grow]].Parent = b.box[p]
		}
	}
}

// fieldsOf are the stored fields of an entity.
func fieldsOf(t *plan.Target) []Field {
	says := map[string]string{}
	for _, f := range t.Plan.Fields {
		says[f.Name] = f.Says()
	}
	var out []Field
	for i, f := range t.Grow.Fields {
		if f.Inner {
			continue
		}
		x := Field{Name: f.Name, Type: says[f.Name], Key: f == t.Grow.Key, Reference: f.Target() != nil}
		if f.Hidden {
			x.Type = "key"
		}
		if f.RefersUp() && x.Type == "" {
			x.Type = "per " + f.Target().Name
		}
		if t.Table != nil && i < len(t.Columns) && t.Columns[i] != nil {
			x.Type = t.Columns[i].Declared
			x.Key = x.Key || slices.Contains(t.Table.PrimaryKey, t.Columns[i].Name)
		}
		out = append(out, x)
	}
	return keysFirst(out)
}

// keysFirst moves keys to the front.
func keysFirst(fields []Field) []Field {
	slices.SortStableFunc(fields, func(a, b Field) int {
		switch {
		case a.Key == b.Key:
			return 0
		case a.Key:
			return -1
		}
		return 1
	})
	return fields
}

// references adds an edge for each field that refers to rows of an entity.
func (b *builder) references() {
	late := map[*grow.Field]bool{}
	o := order.Of(b.plan)
	for _, l := range o.Late {
		late[l.Target.Grow.Fields[l.Field]] = true
	}
	for _, t := range b.plan.Targets {
		up := false
		for i, f := range t.Grow.Fields {
			to := f.Target()
			if to == nil {
				continue
			}
			at, ok := b.box[to]
			if !ok || f.Inner {
				continue
			}
			e := Edge{From: b.box[t.Grow], To: at, Field: f.Name, Closing: late[f], Family: f.RefersUp(),
				Optional: f.Nulls.Part > 0 || len(f.If) > 0}
			if i < len(t.Columns) && t.Columns[i] != nil {
				e.Optional = !t.Columns[i].NotNull
			}
			up = up || e.Family
			b.d.Edges = append(b.d.Edges, e)
		}
		if p := t.Grow.Parent; p != nil && !up { // the reference to the parent is not a field of its own
			b.d.Edges = append(b.d.Edges, Edge{From: b.box[t.Grow], To: b.box[p], Family: true})
		}
	}
}

// Beside shows a plan beside the database that it is for: what only one of them has is marked.
func Beside(c *plan.Compiled, bindings map[string]plan.Binding, db *schema.Database) *Diagram {
	d := OfPlan(c)
	at := map[*schema.Table]int{}
	for i := range d.Boxes {
		b := &d.Boxes[i]
		bound := bindings[b.Name]
		if bound.Table == nil {
			b.Mark = PlanOnly
			continue
		}
		if _, taken := at[bound.Table]; !taken {
			at[bound.Table] = i
		}
		if t := c.Target(b.Name); t == nil || !c.Elsewhere(t) { // what other plans fill is theirs to say
			b.compare(bound)
		}
	}
	for _, t := range db.Tables {
		if _, planned := at[t]; !planned {
			at[t] = len(d.Boxes)
			b := boxOf(t, "not planned")
			b.Mark = DatabaseOnly
			d.Boxes = append(d.Boxes, b)
		}
	}
	known := map[[2]int]bool{}
	for _, e := range d.Edges {
		known[[2]int{e.From, e.To}] = true
	}
	for _, t := range db.Tables {
		for _, e := range edgesOf(t, at) {
			if !known[[2]int{e.From, e.To}] {
				e.Mark = DatabaseOnly
				d.Edges = append(d.Edges, e)
			}
		}
	}
	return d
}

// compare marks the fields that have no column, and adds the columns that have no field.
func (b *Box) compare(bound plan.Binding) {
	columns := map[string]bool{}
	var fields []Field
	for _, f := range b.Fields {
		c, planned := bound.Columns[f.Name]
		switch {
		case c != nil:
			columns[c.Name] = true
			f.Type = c.Declared
			f.Key = f.Key || slices.Contains(bound.Table.PrimaryKey, c.Name)
		case planned:
			f.Mark = PlanOnly
		default: // the key that a plan without a database needs
			continue
		}
		fields = append(fields, f)
	}
	for _, c := range bound.Table.Columns {
		if columns[c.Name] {
			continue
		}
		f := Field{Name: c.Name, Type: c.Declared, Reference: bound.Table.Reference(c.Name) != nil,
			Key: slices.Contains(bound.Table.PrimaryKey, c.Name), Mark: DatabaseOnly}
		if f.Key && len(bound.Table.PrimaryKey) == 1 {
			f.Mark = Both // a load gives keys that the plan does not mention
		}
		fields = append(fields, f)
	}
	b.Fields = keysFirst(fields)
}
