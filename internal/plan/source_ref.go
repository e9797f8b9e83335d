package plan

import (
	"strings"

	"evensprout/internal/grow"
	"evensprout/internal/value"
)

// parentKey returns the field that is the key of the parent; nil after adding a problem.
func (c *compiler) parentKey(f *field) *field {
	parent := f.entity.parent
	for _, k := range parent.fields {
		if k.grow == parent.grow.Key && parent.grow.Key != nil {
			return k
		}
	}
	c.add(
		f.decl.place,
		"%s has no single-column key, so nothing can be planned per %s",
		parent.decl.Name,
		parent.decl.Name,
	)
	return nil
}

// distinct reports whether a pick keeps the rows of a parent apart; not ok, and told, if it
// cannot.
func (c *compiler) distinct(f *field, to *entity) (distinct, ok bool) {
	if n, said := f.decl.args["distinct"]; said {
		distinct = c.plan.yes(n, "distinct")
		switch {
		case distinct && f.entity.parent == nil:
			c.add(n.place, "distinct is for the rows of one parent, and %s has no parent", f.entity.decl.Name).
				Advise("for all rows, use unique: true")
			return false, false
		case distinct && to == f.entity:
			c.add(n.place, "an entity cannot pick distinct rows of itself")
			return false, false
		}
	}
	return distinct, true
}

// pickOptions reads which rows are picked, and how often; false if they are wrong.
func (c *compiler) pickOptions(f *field, to *entity, o *grow.PickOptions) bool {
	if n, ok := f.decl.args["skew"]; ok {
		if o.Skew = c.skew(n); o.Skew == nil {
			return false
		}
	}
	if n, ok := f.decl.args["where"]; ok {
		if o.Where, ok = c.conditions(f, to, n); !ok {
			return false
		}
	}
	if n, ok := f.decl.args["one"]; ok {
		if o.One = c.plan.yes(n, "one"); o.One && o.Where == nil {
			c.add(n.place, "one: true needs conditions in where").
				Advise("{pick: %s, where: {FIELD: VALUE}, one: true}", to.decl.Name)
			return false
		}
	}
	if len(f.decl.args) > 0 && (o.Distinct && (o.Where != nil || o.Skew != nil) || o.Where != nil && o.Skew != nil) {
		c.add(f.decl.place, "%s: use only one of distinct, where and skew", f.decl.Name)
		return false
	}
	return true
}

// pick compiles a reference to a row of another entity.
func (c *compiler) pick(f *field) grow.Source {
	v := f.decl.source
	var name string
	if !c.plan.text(v, "pick", &name) {
		return nil
	}
	to := c.named(f.entity.decl.Schema, name)
	if to == nil {
		c.add(v.place, "%s picks from %s, which is not an entity", f.describe(), name).Nearest(name, c.names())
		return nil
	}
	distinct, ok := c.distinct(f, to)
	if !ok {
		return nil
	}
	stored := c.stored(f, to)
	if stored == nil {
		return nil
	}
	for _, of := range to.fields {
		if of.grow == stored && !c.compile(of) {
			return nil
		}
	}
	o := grow.PickOptions{By: stored, Distinct: distinct}
	if !c.pickOptions(f, to, &o) {
		return nil
	}
	return grow.Pick(to.grow, o)
}

// zipf reads zipf, or {zipf: 1.2}; nil if it is neither, or wrong.
func (c *compiler) zipf(n *node) (z *grow.Zipf, said bool) {
	exponent := value.Int(1)
	switch {
	case n.scalar() && n.text == "zipf":
	case n.mapping && len(n.pairs) == 1 && n.pairs[0].key.text == "zipf":
		var ok bool
		if exponent, ok = c.plan.literal(n.pairs[0].value); !ok {
			return nil, true
		}
	default:
		return nil, false
	}
	law, err := grow.NewZipf(exponent)
	if err != nil {
		c.add(n.place, "%s", err)
		return nil, true
	}
	return &law, true
}

// skew reads {top: 20%, get: 80%}, zipf, or {zipf: 1.2}.
func (c *compiler) skew(n *node) *grow.Skew {
	if z, said := c.zipf(n); z != nil {
		return &grow.Skew{Zipf: z}
	} else if said {
		return nil
	}
	s := &grow.Skew{}
	seen := 0
	c.plan.each(n, "skew", shape{
		"top": func(_, v *node) { s.Top = c.plan.share(v, "top"); seen++ },
		"get": func(_, v *node) { s.Get = c.plan.share(v, "get"); seen++ },
	})
	switch {
	case seen < 2:
		c.add(n.place, "skew needs a share of the rows and their share of the picks").
			Advise("skew: {top: 20%%, get: 80%%}, or skew: zipf")
		return nil
	case s.Top.Whole == 0 || s.Get.Whole == 0:
		return nil // told by share
	}
	return s
}

// from takes a draw, or a part of one: who.given-name.
func (c *compiler) from(f *field) grow.Source {
	v := f.decl.source
	var name string
	if !c.plan.text(v, "from", &name) {
		return nil
	}
	first, _, _ := strings.Cut(name, ".")
	of := f.entity.byName[first]
	if of == nil || !of.decl.inner {
		var draws []string
		for _, d := range f.entity.decl.Draws {
			draws = append(draws, d.Name)
		}
		p := c.add(v.place, "%s has no shared value %s", f.entity.decl.Name, first)
		if of := f.entity.find(first); of != nil && of != f {
			p.Advise("for another field's value, use {same: %s}", name)
		} else if len(draws) == 0 {
			p.Advise("add shared: {%s: {kind: person}} beside fields", first)
		} else {
			p.Nearest(first, draws)
		}
		return nil
	}

	path, ok := c.resolve(f, v.place, name)
	if !ok {
		return nil
	}
	return grow.Same(*path)
}

// part is the inner field for a part of a draw.
func (c *compiler) part(of *field, name string) (*field, error) {
	full := of.decl.Name + "." + name
	if f := of.entity.byName[full]; f != nil {
		return f, nil
	}
	src, err := grow.PartOf(of.grow, name)
	if err != nil {
		return nil, err
	}
	f := c.newField(of.entity, &Field{Name: full, place: of.decl.place, inner: true})
	f.grow.Source, f.state = src, compiled
	return f, nil
}

// tree compiles a reference to an earlier row of the same entity.
func (c *compiler) tree(f *field) grow.Source {
	v := f.decl.source
	depth, fan, rootSelf := uint64(0), grow.Range{Lo: 2, Hi: 3}, false
	good := true
	c.plan.each(v, "tree", shape{
		"depth": func(_, n *node) { depth, good = c.plan.number(n, "depth", 1, 64) },
		"fan":   func(_, n *node) { fan, good = c.plan.countRange(n, "fan", 1_000_000) },
		"root": func(_, n *node) {
			if rootSelf = n.text == "self"; !rootSelf && !n.null {
				c.add(n.place, "root must be null or self (the root refers to itself), got %s", n.what())
			}
		},
	})
	if !good || !v.mapping {
		return nil
	}
	if depth == 0 {
		c.add(v.place, "tree needs a depth").Advise("{tree: {depth: 4, fan: 2..5}}")
		return nil
	}
	key := c.stored(f, f.entity)
	if key == nil {
		return nil
	}
	for _, of := range f.entity.fields {
		if of.grow == key && !c.compile(of) {
			return nil
		}
	}
	src, err := grow.Tree(
		f.entity.grow,
		key,
		f.grow.DealKey(),
		grow.TreeShape{Depth: depth, Fan: fan, RootSelf: rootSelf},
	)
	return c.fault(v.place, src, err)
}

// running compiles a number that starts anew for each parent.
func (c *compiler) running(f *field) grow.Source {
	v := f.decl.source
	var name string
	if !c.plan.text(v, "running", &name) {
		return nil
	}
	if f.entity.parent == nil {
		c.add(v.place, "running adds up the rows of one parent, and %s has no parent", f.entity.decl.Name).
			Advise("make it the child of another entity with per:")
		return nil
	}
	path, ok := c.resolve(f, v.place, name)
	if !ok {
		return nil
	}
	if len(path.Hops) > 0 {
		c.add(v.place, "running needs a field of %s itself", f.entity.decl.Name)
		return nil
	}
	var start *grow.Path
	if n, given := f.decl.args["start"]; given {
		if start, ok = c.resolve(f, n.place, n.text); !ok {
			return nil
		}
	}
	src, err := grow.Running(path.Field, start)
	return c.fault(v.place, src, err)
}

// aggregate compiles sum: Child.field, count_of: Child and the like.
func (c *compiler) aggregate(f *field) grow.Source {
	v := f.decl.source
	op := map[string]grow.Aggregation{"sum": grow.Sum, "count_of": grow.CountOf, "min_of": grow.MinOf,
		"max_of": grow.MaxOf}[f.decl.word]
	var text string
	if !c.plan.text(v, f.decl.word, &text) {
		return nil
	}
	name, fieldName, dotted := strings.Cut(text, ".")
	if dotted == (op == grow.CountOf) {
		c.add(v.place, "%s: %s", f.decl.word, text).Advise("{sum: Child.field}, but {count_of: Child}")
		return nil
	}
	child := c.named(f.entity.decl.Schema, name)
	if child == nil {
		c.add(v.place, "there is no entity %s", name).Nearest(name, c.names())
		return nil
	}
	var down []*grow.Entity
	e := child
	for ; e != nil && e != f.entity; e = e.parent {
		down = append([]*grow.Entity{e.grow}, down...)
	}
	if e == nil || len(down) == 0 {
		c.add(v.place, "%s is not below %s, so it cannot be added up there", name, f.entity.decl.Name).
			Advise("%s must be per %s, or per an entity that is", name, f.entity.decl.Name)
		return nil
	}
	if op == grow.CountOf {
		src, err := grow.Aggregate(op, down, nil)
		return c.fault(v.place, src, err)
	}
	of := child.find(fieldName)
	if of == nil {
		c.add(v.place, "%s has no field %s", name, fieldName).Nearest(fieldName, child.names())
		return nil
	}
	if !c.compile(of) {
		return nil
	}
	src, err := grow.Aggregate(op, down, of.grow)
	return c.fault(v.place, src, err)
}
