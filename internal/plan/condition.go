package plan

import (
	"encoding/json"

	"evensprout/internal/grow"
	"evensprout/internal/value"
)

// conditions reads the conditions of if and where: {field: value}, where a value may
// be a list of values, {not: value} or {same: field}. The fields on the left are those
// of e, those on the right the field's own. A name alone is a field that is true.
func (c *compiler) conditions(f *field, e *entity, v *node) ([]grow.Condition, bool) {
	if v.scalar() {
		path, ok := c.resolveIn(e, v.place, v.text)
		if ok && path.Field.Source.Type() != value.Boolean {
			c.add(v.place, "%s has the type %s, so it is not true or false by "+
				"itself", v.text, path.Field.Source.Type()).
				Advise("if: {%s: VALUE}", v.text)
			return nil, false
		}
		if !ok {
			return nil, false
		}
		return []grow.Condition{{Path: *path, Any: []value.Value{value.Bool(true)}}}, true
	}

	if !v.mapping || len(v.pairs) == 0 {
		c.add(v.place, "a condition must be a mapping of fields to values, got %s", v.what()).
			Advise("{status: active}, {status: [active, dormant]}, {closed_on: {not: null}}")
		return nil, false
	}
	var list []grow.Condition
	good := true
	for _, x := range v.pairs {
		path, ok := c.resolveIn(e, x.key.place, x.key.text)
		if !ok {
			good = false
			continue
		}
		k := grow.Condition{Path: *path}
		if c.condition(f, &k, x.value) {
			list = append(list, k)
		} else {
			good = false
		}
	}
	return list, good
}

// condition compiles what a referenced row must hold; false after adding a problem.
func (c *compiler) condition(f *field, k *grow.Condition, v *node) bool {
	if v.mapping {
		if len(v.pairs) == 1 && v.pairs[0].key.text == "not" && !k.Not {
			k.Not = true
			return c.condition(f, k, v.pairs[0].value)
		}
		if len(v.pairs) == 1 && v.pairs[0].key.text == "same" && v.pairs[0].value.scalar() {
			other := v.pairs[0].value
			path, ok := c.resolve(f, other.place, other.text)
			k.As = path
			return ok
		}
		c.add(
			v.place,
			"a condition's value must be a value, a list of values, {not: ...} or {same: FIELD}, got %s",
			v.what(),
		)
		return false
	}

	items := v.items
	if !v.list {
		items = []*node{v}
	}
	of := k.Path.Field
	for _, n := range items {
		if to := of.Target(); to != nil && !n.null {
			row, ok := c.rowNamed(c.byName[to.Name], n)
			if !ok {
				return false
			}
			k.Refs = append(k.Refs, row)
			continue
		}
		value, ok := c.plan.literal(n)
		if !ok {
			return false
		}
		if value, ok = c.fitted(n, of, value); !ok {
			return false
		}
		k.Any = append(k.Any, value)
	}
	return true
}

// fitted brings a value written by hand to the type of a field.
func (c *compiler) fitted(n *node, of *grow.Field, v value.Value) (value.Value, bool) {
	want, scale := of.Source.Type(), of.Source.Scale()
	switch {
	case v.IsNull() || want == value.Null:
	case want == value.Decimal && (v.Type == value.Integer || v.Type == value.Decimal):
		r, fits := v.Rescale(max(scale, v.Scale))
		if !fits {
			c.add(n.place, "%s has too many digits", n.text)
			return v, false
		}
		return r, true
	case want == value.UUID && v.Type == value.Text:
		u, err := value.ParseUUID(v.S)
		if err != nil {
			c.add(n.place, "%s.%s: %s", of.Entity.Name, of.Name, err)
			return v, false
		}
		return u, true
	case want == value.JSON && v.Type == value.Text:
		if !json.Valid([]byte(v.S)) {
			c.add(n.place, "%s.%s: this is not JSON", of.Entity.Name, of.Name)
			return v, false
		}
		v.Type = value.JSON
	case want != v.Type:
		c.add(n.place, "%s.%s is of type %s, and %s is of type %s", of.Entity.Name, of.Name, want, n.what(), v.Type)
		return v, false
	}
	return v, true
}
