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

// sqlCondition reads a condition in SQL; nil after adding a problem.
func (c *compiler) sqlCondition(e *entity, n *node, text string) *predicate.Condition {
	parsed, err := predicate.Parse(text)
	if err != nil {
		at := n.place
		var fault *predicate.Error
		if errors.As(err, &fault) {
			at = n.within(fault.Offset)
		}
		c.add(at, "%s cannot be read as a condition in SQL: %s", e.decl.Name, err)
		return nil
	}
	condition, err := predicate.Compile(parsed)
	if err != nil {
		c.add(n.place, "%s", err).
			Advise("conditions know comparisons, IN, BETWEEN, LIKE, regular expressions, arithmetic, CASE and the " +
				"usual functions; docs/plan.md lists them")
		return nil
	}
	return condition
}

// meet compiles a condition that each row of an entity must meet.
func (c *compiler) meet(e *entity, m Meet) {
	condition := c.sqlCondition(e, m.node, m.Text)
	if condition == nil {
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
