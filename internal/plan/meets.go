package plan

import (
	"errors"

	"evensprout/internal/grow"
	"evensprout/internal/predicate"
)

// meets reads the conditions of an entity: one, or a list.
func (p *Plan) meets(e *Entity, v *node) {
	items := v.items
	if !v.list {
		items = []*node{v}
	}
	for _, n := range items {
		m := Meet{node: n}
		if p.text(n, "a condition of meets", &m.Text) {
			e.Meets = append(e.Meets, m)
		}
	}
}

// meets compiles the conditions of all entities.
func (c *compiler) meets() {
	for _, e := range c.entities {
		for _, m := range e.decl.Meets {
			c.meet(e, m)
		}
	}
}

// meet compiles a condition that each row of an entity must meet.
func (c *compiler) meet(e *entity, m Meet) {
	parsed, err := predicate.Parse(m.Text)
	if err != nil {
		at := m.node.place
		var fault *predicate.Error
		if errors.As(err, &fault) {
			at = m.node.within(fault.Offset)
		}
		c.add(at, "%s cannot be read as a condition in SQL: %s", e.decl.Name, err)
		return
	}

	condition, err := predicate.Compile(parsed)
	if err != nil {
		c.add(m.node.place, "%s", err).
			Advise("meets knows comparisons, IN, BETWEEN, LIKE, regular expressions, arithmetic, CASE and the " +
				"usual functions; docs/plan.md lists them")
		return
	}

	out := &grow.Meet{Text: m.Text, Holds: condition.Holds}
	good := len(condition.Columns) > 0
	if !good {
		c.add(m.node.place, "the condition uses no field of %s", e.decl.Name)
	}
	for _, name := range condition.Columns {
		f := e.find(name)
		if f == nil {
			for _, g := range e.fields {
				if g.column != nil && g.column.Name == name {
					f = g
				}
			}
		}
		if f == nil {
			c.add(m.node.place, "%s has no field %s", e.decl.Name, name).Nearest(name, e.names())
			good = false
			continue
		}
		good = good && f.state == compiled
		out.Fields = append(out.Fields, f.grow)
	}

	if good {
		e.grow.Meets = append(e.grow.Meets, out)
	}
}
