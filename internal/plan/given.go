package plan

import (
	"slices"
	"strings"

	"evensprout/internal/diag"
	"evensprout/internal/grow"
	"evensprout/internal/value"
)

// nested takes rows that are written below their parent's to their own entity, and
// numbers all given rows of the family.
func (c *compiler) nested(e *entity, own []*Given) {
	e.given = own
	below := map[*entity][]*Given{}
	for i, g := range own {
		if _, ok := e.rows[g.Name]; ok {
			c.add(g.place, "the row %s.%s exists already", e.decl.Name, g.Name).
				Advise("rows of different parents also need different names")
			continue
		}
		e.rows[g.Name] = i
		for _, x := range g.Values.pairs {
			child := c.named(e.decl.Schema, x.key.text)
			if child == nil || child.parent != e {
				continue
			}
			if !x.value.mapping {
				c.add(
					x.value.place,
					"the rows of %s below %s must be a mapping of names, got %s",
					child.decl.Name,
					g.Name,
					x.value.what(),
				)
				continue
			}
			below[child] = append(below[child], c.plan.rows(child.decl.Bare(), g.Name, x.value)...)
		}
	}

	for _, child := range c.entities {
		if child.parent == e {
			c.nested(child, slices.Concat(below[child], child.decl.Given))
		}
	}
}

// isChild reports whether a key of a given row holds rows of a child.
func (c *compiler) isChild(e *entity, key string) bool {
	child := c.named(e.decl.Schema, key)
	return child != nil && child.parent == e
}

// given adds the rows written by hand.
func (c *compiler) given() {
	for _, e := range c.entities {
		for _, g := range e.given {
			values := map[*grow.Field]grow.Given{}
			for _, x := range g.Values.pairs {
				if c.isChild(e, x.key.text) {
					continue
				}
				f := e.find(x.key.text)
				if f.state != compiled {
					continue
				}
				if v, ok := c.givenValue(e, f, x.value); ok {
					values[f.grow] = v
				}
			}
			if g.Parent != "" {
				values[e.up.grow] = grow.GivenRow(grow.Row{N: uint64(e.parent.rows[g.Parent]), Side: true})
			}
			if e.up != nil {
				if _, ok := values[e.up.grow]; !ok {
					c.add(g.place, "the row %s does not name its %s", g.Name, e.parent.decl.Bare()).
						Advise("add %s: %s.NAME, or write the row below its parent", e.parent.decl.Bare(),
							e.parent.decl.Bare())
					continue
				}
			}
			e.grow.AddGiven(g.Name, values)
		}
	}
}

// givenValue compiles a value that a row written in the plan gives a field; false after adding
// a problem.
func (c *compiler) givenValue(e *entity, f *field, n *node) (grow.Given, bool) {
	if n.null {
		return grow.Given{}, true
	}
	if to := c.target(f); to != nil {
		if name, fields, ok := foundBy(n); ok {
			if f == e.up {
				c.add(n.place, "a row written in the plan must be below a named row of %s, and this one is found "+
					"by its values",
					to.decl.Name).
					Advise("%s: %s.NAME, or fields: {%s: {pick: %s}} instead of per", to.decl.Name, to.decl.Name,
						strings.ToLower(to.decl.Name), to.decl.Name)
				return grow.Given{}, false
			}
			return c.givenFound(to, n, name, fields)
		}
		row, ok := c.rowNamed(to, n)
		return grow.GivenRow(row), ok
	}
	v, ok := c.plan.literal(n)
	if !ok {
		return grow.Given{}, false
	}
	v, ok = c.fitted(n, f.grow, v)
	return grow.Given{Value: v}, ok
}

// foundBy reads {find: {Entity: {field: value, ...}}}, a reference by a natural key.
func foundBy(n *node) (entity string, fields *node, ok bool) {
	if !n.mapping || len(n.pairs) != 1 || n.pairs[0].key.text != "find" {
		return "", nil, false
	}
	of := n.pairs[0].value
	if !of.mapping || len(of.pairs) != 1 || !of.pairs[0].value.mapping || len(of.pairs[0].value.pairs) == 0 {
		return "", nil, false
	}
	return of.pairs[0].key.text, of.pairs[0].value, true
}

// givenFound is a reference to the row whose fields have the values that a given row says.
func (c *compiler) givenFound(to *entity, n *node, name string, fields *node) (grow.Given, bool) {
	if name != to.decl.Bare() {
		c.add(n.place, "this finds a row of %s, but the field refers to %s", name, to.decl.Name).
			Advise("find: {%s: {%s: ...}}", to.decl.Bare(), fields.pairs[0].key.text)
		return grow.Given{}, false
	}
	var by []*grow.Field
	var values []value.Value
	for _, x := range fields.pairs {
		f := to.find(x.key.text)
		if f == nil || f.decl.inner {
			c.add(x.key.place, "%s has no field %s", to.decl.Name, x.key.text).Nearest(x.key.text, to.names())
			return grow.Given{}, false
		}
		if !c.compile(f) {
			return grow.Given{}, false
		}
		v, ok := c.plan.literal(x.value)
		if ok {
			v, ok = c.fitted(x.value, f.grow, v)
		}
		if !ok {
			return grow.Given{}, false
		}
		by, values = append(by, f.grow), append(values, v)
	}
	return grow.GivenFound(by, values), true
}

// rowNamed reads Entity.name, or name alone.
func (c *compiler) rowNamed(to *entity, n *node) (grow.Row, bool) {
	text := strings.TrimPrefix(n.text, to.decl.Bare()+".")
	if n.scalar() {
		if i, ok := to.rows[text]; ok {
			return grow.Row{N: uint64(i), Side: to.base == nil}, true
		}
	}
	p := c.add(n.place, "%s is not a named row of %s", n.what(), to.decl.Name)
	if len(to.rows) == 0 {
		p.Advise("{find: {%s: {FIELD: VALUE}}} refers to the row that has this value", to.decl.Bare())
	} else if near := diag.Nearest(text, keysOf(to.rows)); near != "" {
		p.Advise("did you mean %s.%s?", to.decl.Bare(), near)
	} else {
		p.Advise("write a named row as %s.%s", to.decl.Bare(), keysOf(to.rows)[0])
	}
	return grow.Row{}, false
}
