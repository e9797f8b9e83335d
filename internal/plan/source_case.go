package plan

import (
	"strconv"

	"evensprout/internal/grow"
	"evensprout/internal/value"
)

// byCase compiles values by condition: {case: {"status = 'paid'": {after: issued_at, within: 20d}}, else: null}.
func (c *compiler) byCase(f *field) grow.Source {
	v := f.decl.source
	if !v.mapping || len(v.pairs) == 0 {
		c.add(v.place, "case must be a mapping of conditions to values, got %s", v.what()).
			Advise(`{case: {"status = 'paid'": {after: issued_at, within: 20d}}, else: null}`)
		return nil
	}
	var branches []grow.Branch
	good := true
	for i, x := range v.pairs {
		when, holds, ok := c.truth(f, x.key)
		of, fine := c.innerSource(f, f.decl.Name+".case."+strconv.Itoa(i), x.value)
		good = good && ok && fine
		branches = append(branches, grow.Branch{When: when, Holds: holds, Value: of})
	}
	return c.branched(f, branches, good)
}

// lookup compiles values by the value of another field: {lookup: {tier: {gold: 0.2, silver: 0.1}}, else: 0}.
func (c *compiler) lookup(f *field) grow.Source {
	v := f.decl.source
	if !v.mapping || len(v.pairs) != 1 || !v.pairs[0].value.mapping {
		c.add(v.place, "lookup must name a field and map its values, got %s", v.what()).
			Advise("{lookup: {tier: {gold: 0.2, silver: 0.1}}, else: 0}")
		return nil
	}
	name, table := v.pairs[0].key, v.pairs[0].value
	path, ok := c.resolve(f, name.place, name.text)
	if !ok {
		return nil
	}
	key := c.newField(f.entity, &Field{Name: f.decl.Name + ".lookup", place: name.place, inner: true})
	key.grow.Source, key.state = grow.Same(*path), compiled
	var branches []grow.Branch
	good := true
	for i, x := range table.pairs {
		want, ok := c.plan.literal(x.key)
		of, fine := c.innerSource(f, f.decl.Name+".lookup."+strconv.Itoa(i), x.value)
		good = good && ok && fine
		branches = append(branches, grow.Branch{When: []*grow.Field{key.grow}, Value: of,
			Holds: func(values []value.Value) bool { return values[0].Equal(&want) }})
	}
	return c.branched(f, branches, good)
}

// branched makes the source of branches, and of what is said for all other rows.
func (c *compiler) branched(f *field, branches []grow.Branch, good bool) grow.Source {
	var rest *grow.Field
	if n := f.decl.args["else"]; n != nil && !n.null {
		of, ok := c.innerSource(f, f.decl.Name+".else", n)
		rest, good = of, good && ok
	}
	if !good {
		return nil
	}
	return c.caseOf(f, branches, rest)
}

// caseOf makes the source of branches: of references, if some of them are.
func (c *compiler) caseOf(f *field, branches []grow.Branch, rest *grow.Field) grow.Source {
	at := f.decl.place
	if f.decl.source != nil {
		at = f.decl.source.place
	}
	for _, of := range append([]grow.Branch{{Value: rest}}, branches...) {
		if of.Value == nil || of.Value.Target() == nil {
			continue
		}
		src, err := grow.CaseOfRows(branches, rest)
		if err != nil {
			// A load may give the rows of an entity other keys than the planned ones, and finds references by
			// their fields: a field cannot refer now to one entity, now to another.
			c.add(at, "%s", err).
				Advise("add a field for each entity, such as {pick: %s, if: {about: photo}}", of.Value.Target().Name)
			return nil
		}
		return src
	}
	src, err := grow.Case(branches, rest)
	return c.fault(at, src, err)
}

// innerSource compiles a source inside that of a field, as an inner field of that name.
func (c *compiler) innerSource(f *field, name string, v *node) (*grow.Field, bool) {
	d := &Field{Name: name, place: v.place, inner: true}
	c.plan.field(d, v)
	if d.word == "" {
		return nil, false
	}
	sub := c.newField(f.entity, d)
	return sub.grow, c.compile(sub)
}

// truth compiles a condition in SQL over the fields of the row. NULL does not meet it.
func (c *compiler) truth(f *field, n *node) (when []*grow.Field, holds func([]value.Value) bool, ok bool) {
	condition := c.sqlCondition(f.entity, n, n.text)
	if condition == nil {
		return nil, nil, false
	}
	for _, name := range condition.Columns {
		of := f.entity.find(name)
		if of == nil {
			c.add(n.place, "%s has no field %s", f.entity.decl.Name, name).Nearest(name, f.entity.names())
			return nil, nil, false
		}
		if !c.compile(of) {
			return nil, nil, false
		}
		when = append(when, of.grow)
	}
	return when, func(values []value.Value) bool {
		t, err := condition.Truth(values)
		return err == nil && t == 1
	}, true
}
