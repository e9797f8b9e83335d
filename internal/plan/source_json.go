package plan

import (
	"slices"
	"strconv"

	"evensprout/internal/grow"
	"evensprout/internal/value"
)

// maxListed bounds the parts of a list in JSON.
const maxListed = 100

// document compiles JSON: objects, lists and sources inside each other. Each source
// becomes an inner field, named by its place.
func (c *compiler) document(f *field) grow.Source {
	v := f.decl.source
	var root grow.Part
	var ok bool
	if f.decl.word == "list" {
		root, ok = c.listPart(f, f.decl.Name, v)
	} else {
		root, ok = c.jsonPart(f, f.decl.Name, v)
	}
	if !ok {
		return nil
	}
	src, err := grow.Document(root)
	return c.fault(v.place, src, err)
}

// jsonPart compiles one member of a JSON object; false after adding a problem.
func (c *compiler) jsonPart(f *field, name string, v *node) (grow.Part, bool) {
	if v.list {
		part, good := grow.Part{List: true}, true
		for i, n := range v.items {
			sub, ok := c.jsonPart(f, name+"."+strconv.Itoa(i), n)
			part.Parts, good = append(part.Parts, sub), good && ok
		}
		return part, good
	}

	if v.mapping {
		if n := v.get("list"); n != nil && len(v.pairs) == 1 {
			return c.listPart(f, name, n)
		}
		// {json: {count: 3}} is an object, even if its keys are called as sources.
		if n := v.get("json"); n != nil && n.mapping && len(v.pairs) == 1 {
			return c.objectPart(f, name, n)
		}
		if !slices.ContainsFunc(v.pairs, func(x pair) bool { return isSource(x.key.text) }) {
			return c.objectPart(f, name, v)
		}
	}

	of, ok := c.innerSource(f, name, v)
	return grow.Part{Field: of}, ok
}

// objectPart compiles a member that is an object itself.
func (c *compiler) objectPart(f *field, name string, v *node) (grow.Part, bool) {
	part, good := grow.Part{Keys: []string{}}, true
	for _, x := range v.pairs {
		sub, ok := c.jsonPart(f, name+"."+x.key.text, x.value)
		part.Keys, part.Parts, good = append(part.Keys, x.key.text), append(part.Parts, sub), good && ok
	}
	return part, good
}

// listPart compiles {of: SOURCE, count: 1..3}.
func (c *compiler) listPart(f *field, name string, v *node) (grow.Part, bool) {
	var of *node
	r, good := grow.Range{Lo: 1, Hi: 3}, true
	c.plan.each(v, "list", shape{
		"of":    func(_, n *node) { of = n },
		"count": func(_, n *node) { r, good = c.plan.countRange(n, "count", maxListed) },
	})
	if of == nil {
		c.add(v.place, "a list needs of: and its source").Advise("{list: {of: {kind: noun}, count: 1..3}}")
		return grow.Part{}, false
	}
	part := grow.Part{List: true}
	for i := range r.Hi {
		sub, ok := c.jsonPart(f, name+"."+strconv.FormatUint(i, 10), of)
		if !ok {
			return part, false
		}
		part.Parts = append(part.Parts, sub)
	}

	if r.Lo < r.Hi {
		count := c.newField(f.entity, &Field{Name: name + ".count", place: v.place, inner: true})
		src, err := grow.Between(value.Int(int64(r.Lo)), value.Int(int64(r.Hi)), 0)
		if err != nil {
			c.add(v.place, "%s", err)
			return part, false
		}
		count.grow.Source, count.state = src, compiled
		part.Count = count.grow
	}
	return part, good
}
