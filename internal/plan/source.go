package plan

import (
	"encoding/json"
	"errors"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"evensprout/internal/derive"
	"evensprout/internal/grow"
)

// sources compiles the source of every field.
func (c *compiler) sources() {
	for _, e := range c.entities {
		for _, f := range e.fields {
			c.compile(f)
		}
	}
}

// compile makes a field's source, and first those that it depends on. It returns
// false if that failed; the reason is told where it lies.
func (c *compiler) compile(f *field) bool {
	switch f.state {
	case compiled:
		return true
	case failed:
		return false
	case compiling:
		var names []string
		for i, g := range c.stack {
			if g == f {
				for _, h := range c.stack[i:] {
					names = append(names, h.describe())
				}
			}
		}
		if len(names) == 1 {
			c.add(f.decl.place, "a circle: %s depends on itself", names[0])
		} else {
			c.add(f.decl.place, "a circle: %s", strings.Join(append(names, f.describe()), " depends on "))
		}
		return false
	}
	f.state = compiling
	c.stack = append(c.stack, f)
	src := c.source(f)
	good := src != nil
	if f.decl.cond != nil {
		conditions, ok := c.conditions(f, f.entity, f.decl.cond)
		f.grow.If, good = conditions, good && ok
	}
	c.stack = c.stack[:len(c.stack)-1]
	if !good {
		f.state = failed
		return false
	}
	f.grow.Source = src
	f.state = compiled
	return true
}

// conditions reads the conditions of if and where: {field: value}, where a value may
// be a list of values, {not: value} or {same: field}. The fields on the left are those
// of e, those on the right the field's own. A name alone is a field that is true.
func (c *compiler) conditions(f *field, e *entity, v *node) ([]grow.Condition, bool) {
	if v.scalar() {
		path, ok := c.resolveIn(e, v.place, v.text)
		if ok && path.Field.Source.Type() != grow.Boolean {
			c.add(v.place, "%s is of type %s, so it is not true or false by itself", v.text, path.Field.Source.Type()).hint("if: {%s: VALUE}", v.text)
			return nil, false
		}
		if !ok {
			return nil, false
		}
		return []grow.Condition{{Path: *path, Any: []grow.Value{grow.Bool(true)}}}, true
	}
	if !v.mapping || len(v.pairs) == 0 {
		c.add(v.place, "a condition is a mapping of fields to values, and here is %s", v.what()).hint("{status: active}, {status: [active, dormant]}, {closed_on: {not: null}}")
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
		c.add(v.place, "a condition's value is a value, a list of values, {not: ...} or {same: FIELD}, and here is %s", v.what())
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
func (c *compiler) fitted(n *node, of *grow.Field, v grow.Value) (grow.Value, bool) {
	want, scale := of.Source.Type(), of.Source.Scale()
	switch {
	case v.IsNull() || want == grow.Null:
	case want == grow.Decimal && (v.Type == grow.Integer || v.Type == grow.Decimal):
		r, fits := v.Rescale(max(scale, v.Scale))
		if !fits {
			c.add(n.place, "%s has too many digits", n.text)
			return v, false
		}
		return r, true
	case want == grow.UUID && v.Type == grow.Text:
		u, err := grow.ParseUUID(v.S)
		if err != nil {
			c.add(n.place, "%s.%s: %s", of.Entity.Name, of.Name, err)
			return v, false
		}
		return u, true
	case want == grow.JSON && v.Type == grow.Text:
		if !json.Valid([]byte(v.S)) {
			c.add(n.place, "%s.%s: this is not JSON", of.Entity.Name, of.Name)
			return v, false
		}
		v.Type = grow.JSON
	case want != v.Type:
		c.add(n.place, "%s.%s is of type %s, and %s is of type %s", of.Entity.Name, of.Name, want, n.what(), v.Type)
		return v, false
	}
	return v, true
}

func (c *compiler) source(f *field) grow.Source {
	v := f.decl.source
	switch f.decl.word {
	case "value":
		value, ok := c.plan.literal(v)
		if !ok {
			return nil
		}
		if value.Type == grow.Text && isSource(value.S) && !v.quoted {
			c.add(v.place, "%s is the word for a source of values, and stands here as a text", value.S).
				hint("{%s: ...} is the source; \"%s\" in quotes is the text", value.S, value.S)
			return nil
		}
		return grow.Literal(value)
	case wordGiven:
		return c.givenSource(f)
	case "find":
		return c.find(f)
	case wordParent:
		if key := c.parentKey(f); key == nil || !c.compile(key) {
			return nil
		}
		return grow.Upward(f.entity.parent.grow)
	case "count":
		return c.count(f, v)
	case "between":
		return c.between(f, v)
	case "before", "after":
		return c.moment(f)
	case "choose":
		return c.choose(f, v)
	case "share":
		return grow.True(c.plan.share(v, "share"))
	case "pattern":
		return c.pattern(v)
	case "kind":
		return c.kind(f, v)
	case "text":
		return c.template(f, v)
	case "same":
		var name string
		if !c.plan.text(v, "same", &name) {
			return nil
		}
		path, ok := c.resolve(f, v.place, name)
		if !ok {
			return nil
		}
		return grow.Same(*path)
	case "pick":
		return c.pick(f, v)
	case "sum", "count_of", "min_of", "max_of":
		return c.aggregate(f, v)
	case "uuid":
		return c.uuid(v)
	case "derive":
		return c.derive(f, v)
	case "from":
		return c.from(f, v)
	case "tree":
		return c.tree(f, v)
	case "running":
		return c.running(f, v)
	case "json", "list":
		return c.document(f, v)
	case "file":
		return c.file(v)
	case "bytes":
		r, ok := c.plan.countRange(v, "the length of bytes", grow.MaxBytes)
		if !ok {
			return nil
		}
		src, err := grow.RandomBytes(r)
		return c.fault(v.place, src, err)
	}
	return nil // the reader has told that there is no source
}

// fault adds what the core says about a source.
func (c *compiler) fault(at place, s grow.Source, err error) grow.Source {
	if err != nil {
		c.add(at, "%s", err)
		return nil
	}
	return s
}

func (c *compiler) parentKey(f *field) *field {
	parent := f.entity.parent
	for _, k := range parent.fields {
		if k.grow == parent.grow.Key && parent.grow.Key != nil {
			return k
		}
	}
	c.add(f.decl.place, "%s has no key of one column, so nothing can be planned per %s", parent.decl.Name, parent.decl.Name)
	return nil
}

// givenSource is the source of a field that only given rows say: of their type, and
// NULL in all other rows.
func (c *compiler) givenSource(f *field) grow.Source {
	f.grow.Nulls = grow.Share{Part: 1, Whole: 1}
	var values []grow.Value
	var to *entity
	for _, n := range f.given {
		if n.null {
			continue
		}
		if name, row, dotted := strings.Cut(n.text, "."); n.scalar() && dotted && !n.quoted {
			if e := c.byName[name]; e != nil {
				if _, ok := e.rows[row]; ok || to != nil {
					to = e
					continue
				}
			}
		}
		v, ok := c.plan.literal(n)
		if !ok {
			return nil
		}
		values = append(values, v)
	}
	if to != nil {
		key := c.stored(f, to)
		if key == nil {
			return nil
		}
		return grow.Pick(to.grow, grow.PickOptions{By: key})
	}
	numbers := !slices.ContainsFunc(values, func(v grow.Value) bool { return v.Type != grow.Integer })
	if f.entity.grow.Key == f.grow && numbers {
		f.grow.Nulls = grow.Share{}
		src, err := grow.Count(nil, 1, false)
		return c.fault(f.decl.place, src, err)
	}
	if len(values) == 0 {
		return grow.Literal(grow.Value{})
	}
	src, err := grow.Choose(values, nil)
	return c.fault(f.decl.place, src, err)
}

func (c *compiler) count(f *field, v *node) grow.Source {
	var from *int64
	step, restart := int64(1), false
	whole := func(n *node, of string) int64 {
		x, err := strconv.ParseInt(n.text, 10, 64)
		if err != nil || !n.scalar() || n.quoted || x > 1<<60 || x < -1<<60 {
			c.add(n.place, "%s is a whole number, and here is %s", of, n.what())
		}
		return x
	}
	switch {
	case v.mapping:
		c.plan.each(v, "count", shape{
			"from":    func(_, n *node) { x := whole(n, "from"); from = &x },
			"step":    func(_, n *node) { step = whole(n, "step") },
			"restart": func(_, n *node) { restart = c.plan.yes(n, "restart") },
		})
	case v.scalar():
		x := whole(v, "count")
		from = &x
	case !v.null:
		c.add(v.place, "count is a number to start from, and here is %s", v.what()).hint("{count: 1}, or {count: {from: 1, step: 1, restart: true}}")
		return nil
	}
	if restart && f.entity.parent == nil {
		c.add(v.place, "restart numbers the rows of each parent anew, and %s has no parent", f.entity.decl.Name)
		return nil
	}
	if from == nil && restart {
		one := int64(1)
		from = &one
	}
	src, err := grow.Count(from, step, restart)
	return c.fault(v.place, src, err)
}

// digits reads how many digits a second has behind the point.
func (c *compiler) digits(f *field) uint8 {
	if n, ok := f.decl.args["digits"]; ok {
		d, _ := c.plan.number(n, "digits", 0, 6)
		return uint8(d)
	}
	return 0
}

func (c *compiler) between(f *field, v *node) grow.Source {
	var ends [2]*node
	switch lo, hi, two := strings.Cut(v.text, ".."); {
	case v.list && len(v.items) == 2:
		ends[0], ends[1] = v.items[0], v.items[1]
	case v.scalar() && two:
		ends[0] = &node{place: v.place, text: lo}
		ends[1] = &node{place: v.place, text: hi}
	default:
		c.add(v.place, "between has two ends, and here is %s", v.what()).hint("{between: [1, 10]}, or {between: [2026-01-01, 2026-03-31]}")
		return nil
	}
	lo, okLo := c.plan.literal(ends[0])
	hi, okHi := c.plan.literal(ends[1])
	if !okLo || !okHi {
		return nil
	}
	if lo.Type == grow.Timestamp || lo.Type == grow.Time {
		lo.Scale = c.digits(f)
		hi.Scale = lo.Scale
	} else if n, ok := f.decl.args["digits"]; ok {
		c.add(n.place, "digits are those of a second, and %s is of type %s", ends[0].text, lo.Type)
	}
	step := int64(0)
	if n, ok := f.decl.args["step"]; ok {
		if step, ok = c.step(n, &lo, &hi); !ok {
			return nil
		}
	}
	src, err := grow.Between(lo, hi, step)
	return c.fault(v.place, src, err)
}

// step reads the distance between the values of a range, in the unit of its ends.
func (c *compiler) step(n *node, lo, hi *grow.Value) (int64, bool) {
	if lo.Type == grow.Integer || lo.Type == grow.Decimal {
		s, ok := c.plan.literal(n)
		if !ok {
			return 0, false
		}
		if s.Type != grow.Integer && s.Type != grow.Decimal || s.N <= 0 {
			c.add(n.place, "step is a number above 0, and here is %s", n.what())
			return 0, false
		}
		scale := max(lo.Scale, hi.Scale, s.Scale)
		s, _ = s.Rescale(scale)
		if scale > 0 {
			if r, fits := lo.Rescale(scale); fits {
				*lo = r
			}
		}
		return s.N, true
	}
	span, err := grow.ParseSpan(n.text)
	if err != nil || span.Months != 0 {
		c.add(n.place, "step is a span without months, such as 15m or 1d, and here is %s", n.what())
		return 0, false
	}
	if lo.Type == grow.Date {
		if span.Micros%grow.Day != 0 {
			c.add(n.place, "dates move by whole days, and here is %s", n.what())
			return 0, false
		}
		return span.Micros / grow.Day, true
	}
	return span.Micros, true
}

func (c *compiler) moment(f *field) grow.Source {
	end := func(word string) (*grow.End, place, bool) {
		n := f.decl.args[word]
		if f.decl.word == word {
			n = f.decl.source
		}
		if n == nil {
			return nil, place{}, true
		}
		var name string
		switch {
		case !c.plan.text(n, word, &name):
			return nil, n.place, false
		case name == clockWord:
			return &grow.End{Fixed: c.plan.Clock}, n.place, true
		case datePattern.MatchString(name) || momentPattern.MatchString(name):
			v, ok := c.plan.literal(n)
			return &grow.End{Fixed: v}, n.place, ok
		}
		path, ok := c.resolve(f, n.place, name)
		return &grow.End{Path: path}, n.place, ok
	}
	after, at, okA := end("after")
	before, atB, okB := end("before")
	if !okA || !okB {
		return nil
	}
	if after == nil {
		at = atB
	}
	var within grow.Span
	if n, ok := f.decl.args["within"]; ok {
		var err error
		if within, err = grow.ParseSpan(n.text); err != nil {
			c.add(n.place, "%s", err)
			return nil
		}
	}
	src, err := grow.Moment(after, before, within, c.digits(f))
	return c.fault(at, src, err)
}

func (c *compiler) choose(f *field, v *node) grow.Source {
	var values []grow.Value
	var weights []uint64
	ok := true
	add := func(n *node) {
		value, fine := c.plan.literal(n)
		ok = ok && fine
		values = append(values, value)
	}
	switch {
	case v.list:
		for _, n := range v.items {
			add(n)
		}
	case v.mapping:
		for _, x := range v.pairs {
			add(x.key)
			w := *x.value
			w.text = strings.TrimSuffix(w.text, "%")
			n, fine := c.plan.number(&w, "the weight of "+x.key.text, 0, grow.MaxWeight)
			ok = ok && fine
			weights = append(weights, n)
		}
	default:
		c.add(v.place, "choose is a list of values, or a mapping of values to weights, and here is %s", v.what()).
			hint("{choose: [red, green]}, or {choose: {red: 80, green: 20}}")
		return nil
	}
	if !ok {
		return nil
	}
	src, err := grow.Choose(values, weights)
	return c.fault(v.place, src, err)
}

// within returns the place of a byte of a text in one line.
func (n *node) within(offset int) place {
	return n.inside(utf8.RuneCountInString(n.text[:min(offset, len(n.text))]))
}

// inside returns the place of a character of a text in one line.
func (n *node) inside(runes int) place {
	if n.quoted {
		runes++
	}
	return place{n.line, n.column + runes}
}

func (c *compiler) pattern(v *node) grow.Source {
	var text string
	if !c.plan.text(v, "pattern", &text) {
		return nil
	}
	src, err := grow.Pattern(text)
	var pe *grow.PatternError
	if errors.As(err, &pe) {
		return c.fault(v.within(pe.Offset), nil, err)
	}
	return src
}

func (c *compiler) kind(f *field, v *node) grow.Source {
	var name string
	if !c.plan.text(v, "kind", &name) {
		return nil
	}
	k, ok := c.kinds[name]
	if !ok {
		c.add(v.place, "the catalogue has no kind %s", name).nearest(name, keysOf(c.kinds))
		return nil
	}
	if k.Parts != nil && !f.decl.inner {
		c.add(v.place, "%s has parts, so it is drawn once and its parts are used", name).
			hint("draws: {it: {kind: %s}} beside fields, and {from: it.%s} in a field", name, k.Parts[0].Name)
		return nil
	}
	params := map[string]grow.Range{}
	for arg, n := range f.decl.args {
		if !contains(k.Params, arg) {
			p := c.add(n.place, "the kind %s has no parameter %s", name, arg)
			if len(k.Params) > 0 {
				p.nearest(arg, k.Params)
			}
			return nil
		}
		if params[arg], ok = c.plan.countRange(n, arg, 1<<30); !ok {
			return nil
		}
	}
	src, err := grow.NewKind(k, params)
	return c.fault(v.place, src, err)
}

func (c *compiler) template(f *field, v *node) grow.Source {
	var text string
	if !c.plan.text(v, "text", &text) {
		return nil
	}
	told := false
	src, err := grow.Template(text, func(name string) (*grow.Path, error) {
		path, err := c.lookUp(f.entity, name)
		if err == nil && path == nil {
			told = true
			return nil, errTold
		}
		return path, err
	})
	if told {
		return nil
	}
	var te *grow.TemplateError
	if errors.As(err, &te) {
		p := c.add(v.within(te.Offset), "%s", te.Message)
		if te.Name != "" {
			p.nearest(te.Name, c.reachable(f.entity))
		}
		return nil
	}
	return src
}

// errTold stands for a problem that is told already.
var errTold = errors.New("told already")

func (c *compiler) pick(f *field, v *node) grow.Source {
	var name string
	if !c.plan.text(v, "pick", &name) {
		return nil
	}
	to := c.byName[name]
	if to == nil {
		c.add(v.place, "%s picks from %s, and there is no such entity", f.describe(), name).nearest(name, c.names())
		return nil
	}
	distinct := false
	if n, ok := f.decl.args["distinct"]; ok {
		distinct = c.plan.yes(n, "distinct")
		switch {
		case distinct && f.entity.parent == nil:
			c.add(n.place, "distinct keeps apart the rows of one parent, and %s has none", f.entity.decl.Name).hint("unique: true keeps apart all rows")
			return nil
		case distinct && to == f.entity:
			c.add(n.place, "an entity that picks itself cannot pick distinct rows")
			return nil
		}
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
	if n, ok := f.decl.args["skew"]; ok {
		if o.Skew = c.skew(n); o.Skew == nil {
			return nil
		}
	}
	if n, ok := f.decl.args["where"]; ok {
		if o.Where, ok = c.conditions(f, to, n); !ok {
			return nil
		}
	}
	if len(f.decl.args) > 0 && (distinct && (o.Where != nil || o.Skew != nil) || o.Where != nil && o.Skew != nil) {
		c.add(f.decl.place, "%s: of distinct, where and skew only one goes with a pick", f.decl.Name)
		return nil
	}
	return grow.Pick(to.grow, o)
}

// skew reads {top: 20%, get: 80%}.
func (c *compiler) skew(n *node) *grow.Skew {
	s := &grow.Skew{}
	seen := 0
	c.plan.each(n, "skew", shape{
		"top": func(_, v *node) { s.Top = c.plan.share(v, "top"); seen++ },
		"get": func(_, v *node) { s.Get = c.plan.share(v, "get"); seen++ },
	})
	switch {
	case seen < 2:
		c.add(n.place, "skew says what share of the rows gets what share of the picks").hint("skew: {top: 20%%, get: 80%%}")
		return nil
	case s.Top.Whole == 0 || s.Get.Whole == 0:
		return nil // told by share
	}
	return s
}

// from takes a draw, or a part of one: who.given-name.
func (c *compiler) from(f *field, v *node) grow.Source {
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
		p := c.add(v.place, "%s has no draw %s", f.entity.decl.Name, first)
		if len(draws) == 0 {
			p.hint("draws: {%s: {kind: person}} beside fields", first)
		} else {
			p.nearest(first, draws)
		}
		return nil
	}
	path, ok := c.resolve(f, v.place, name)
	if !ok {
		return nil
	}
	return grow.Same(*path)
}

// derive compiles an expression; its faults are told at their place in it.
func (c *compiler) derive(f *field, v *node) grow.Source {
	var text string
	if !c.plan.text(v, "derive", &text) {
		return nil
	}
	tell := func(err error) grow.Source {
		var e *derive.Error
		if !errors.As(err, &e) {
			return c.fault(v.place, nil, err)
		}
		at := v.place
		switch {
		case e.Line == 1 && !strings.Contains(text, "\n"):
			at = v.inside(e.Column - 1)
		case e.Line > 0:
			at = place{v.line + e.Line, 1} // a block of lines begins below its sign
		}
		p := c.add(at, "%s", e.Message).hint("%s", e.Hint)
		if e.Name != "" {
			p.nearest(e.Name, c.reachable(f.entity))
		}
		return nil
	}
	parsed, err := derive.Parse(text)
	if err != nil {
		return tell(err)
	}
	var inputs []derive.Input
	var paths []grow.Path
	for _, name := range parsed.Names() {
		path, err := c.lookUp(f.entity, name)
		if err != nil {
			return tell(parsed.Missing(name, err.Error()))
		}
		if path == nil {
			return nil
		}
		src := path.Field.Source
		inputs = append(inputs, derive.Input{Name: name, Type: src.Type(), Scale: src.Scale()})
		paths = append(paths, *path)
	}
	scale := -1
	if n, ok := f.decl.args["scale"]; ok {
		x, _ := c.plan.number(n, "scale", 0, grow.MaxScale)
		scale = int(x)
	}
	x, err := parsed.Compile(inputs, scale)
	if err != nil {
		return tell(err)
	}
	return grow.Computed(x.Type, x.Scale, paths, x.Eval)
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

func (c *compiler) tree(f *field, v *node) grow.Source {
	depth, fan, rootSelf := uint64(0), grow.Range{Lo: 2, Hi: 3}, false
	good := true
	c.plan.each(v, "tree", shape{
		"depth": func(_, n *node) { depth, good = c.plan.number(n, "depth", 1, 64) },
		"fan":   func(_, n *node) { fan, good = c.plan.countRange(n, "fan", 1_000_000) },
		"root": func(_, n *node) {
			if rootSelf = n.text == "self"; !rootSelf && !n.null {
				c.add(n.place, "root is null, or self: the root refers to itself, and here is %s", n.what())
			}
		},
	})
	if !good || !v.mapping {
		return nil
	}
	if depth == 0 {
		c.add(v.place, "tree says how many levels there are").hint("{tree: {depth: 4, fan: 2..5}}")
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
	src, err := grow.Tree(f.entity.grow, key, f.grow.DealKey(), depth, fan, rootSelf)
	return c.fault(v.place, src, err)
}

func (c *compiler) running(f *field, v *node) grow.Source {
	var name string
	if !c.plan.text(v, "running", &name) {
		return nil
	}
	if f.entity.parent == nil {
		c.add(v.place, "running adds up the rows of one parent, and %s has none", f.entity.decl.Name).hint("per: makes it the child of another entity")
		return nil
	}
	path, ok := c.resolve(f, v.place, name)
	if !ok {
		return nil
	}
	if len(path.Hops) > 0 {
		c.add(v.place, "running adds up a field of %s itself", f.entity.decl.Name)
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

var sizePattern = regexp.MustCompile(`^([0-9]{1,4})x([0-9]{1,4})$`)

// file compiles {folder: images, as: png, size: 320x200} or {folder: notes, as: txt,
// bytes: 200..900}.
func (c *compiler) file(v *node) grow.Source {
	spec := grow.FileSpec{Width: 64, Height: 48, Bytes: grow.Range{Lo: 200, Hi: 900}}
	as, good := "", true
	c.plan.each(v, "file", shape{
		"folder": func(_, n *node) {
			if good = c.plan.text(n, "folder", &spec.Folder) && good; good && !filepath.IsLocal(spec.Folder) {
				c.add(n.place, "the folder %s does not lie inside the plan's own", n.what()).hint("a name such as images: files stay beside the plan")
				good = false
			}
		},
		"as": func(_, n *node) {
			if as = n.text; as != "png" && as != "txt" {
				c.add(n.place, "a file is a png picture or a txt document, and here is %s", n.what())
				good = false
			}
		},
		"size": func(_, n *node) {
			m := sizePattern.FindStringSubmatch(n.text)
			if m == nil {
				c.add(n.place, "the size of a picture is in pixels, such as 320x200, and here is %s", n.what())
				good = false
				return
			}
			spec.Width, _ = strconv.Atoi(m[1])
			spec.Height, _ = strconv.Atoi(m[2])
		},
		"bytes": func(_, n *node) {
			var ok bool
			spec.Bytes, ok = c.plan.countRange(n, "bytes", grow.MaxFileBytes)
			good = good && ok
		},
	})
	if !good || !v.mapping {
		return nil
	}
	if spec.Folder == "" || as == "" {
		c.add(v.place, "file says a folder and what the files are").hint("{file: {folder: images, as: png, size: 320x200}}")
		return nil
	}
	spec.Folder, spec.Image = filepath.ToSlash(filepath.Clean(spec.Folder)), as == "png"
	src, err := grow.File(spec)
	return c.fault(v.place, src, err)
}

// maxListed bounds the parts of a list in JSON.
const maxListed = 100

// document compiles JSON: objects, lists and sources inside each other. Each source
// becomes an inner field, named by its place.
func (c *compiler) document(f *field, v *node) grow.Source {
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
	d := &Field{Name: name, place: v.place, inner: true}
	c.plan.field(d, v)
	if d.word == "" {
		return grow.Part{}, false
	}
	sub := c.newField(f.entity, d)
	return grow.Part{Field: sub.grow}, c.compile(sub)
}

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
		c.add(v.place, "a list says what it is a list of").hint("{list: {of: {kind: noun}, count: 1..3}}")
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
		src, err := grow.Between(grow.Int(int64(r.Lo)), grow.Int(int64(r.Hi)), 0)
		if err != nil {
			c.add(v.place, "%s", err)
			return part, false
		}
		count.grow.Source, count.state = src, compiled
		part.Count = count.grow
	}
	return part, good
}

func (c *compiler) uuid(v *node) grow.Source {
	switch {
	case v.null || v.text == "v4":
		return grow.RandomUUID()
	case v.text == "v7":
		return grow.OrderedUUID(c.plan.Clock)
	}
	c.add(v.place, "uuid knows the versions v4 and v7, and here is %s", v.what())
	return nil
}

// aggregate compiles sum: Child.field, count_of: Child and the like.
func (c *compiler) aggregate(f *field, v *node) grow.Source {
	op := map[string]grow.Aggregation{"sum": grow.Sum, "count_of": grow.CountOf, "min_of": grow.MinOf, "max_of": grow.MaxOf}[f.decl.word]
	var text string
	if !c.plan.text(v, f.decl.word, &text) {
		return nil
	}
	name, fieldName, dotted := strings.Cut(text, ".")
	if dotted == (op == grow.CountOf) {
		c.add(v.place, "%s: %s", f.decl.word, text).hint("{sum: Child.field}, but {count_of: Child}")
		return nil
	}
	child := c.byName[name]
	if child == nil {
		c.add(v.place, "there is no entity %s", name).nearest(name, c.names())
		return nil
	}
	var down []*grow.Entity
	e := child
	for ; e != nil && e != f.entity; e = e.parent {
		down = append([]*grow.Entity{e.grow}, down...)
	}
	if e == nil || len(down) == 0 {
		c.add(v.place, "%s is not below %s, so it cannot be added up there", name, f.entity.decl.Name).
			hint("%s must be per %s, or per an entity that is", name, f.entity.decl.Name)
		return nil
	}
	if op == grow.CountOf {
		src, err := grow.Aggregate(op, down, nil)
		return c.fault(v.place, src, err)
	}
	of := child.find(fieldName)
	if of == nil {
		c.add(v.place, "%s has no field %s", name, fieldName).nearest(fieldName, child.names())
		return nil
	}
	if !c.compile(of) {
		return nil
	}
	src, err := grow.Aggregate(op, down, of.grow)
	return c.fault(v.place, src, err)
}

// resolve looks up a path such as joined_at, sailing.departs_at or
// Passenger.joined_at, and tells if there is none.
func (c *compiler) resolve(f *field, at place, name string) (*grow.Path, bool) {
	return c.resolveIn(f.entity, at, name)
}

func (c *compiler) resolveIn(e *entity, at place, name string) (*grow.Path, bool) {
	path, err := c.lookUp(e, name)
	if err != nil {
		c.add(at, "%s", err).nearest(name, c.reachable(e))
	}
	return path, path != nil
}

// lookUp is resolve without telling; path and error are both nil if the field is
// there, but wrong itself, which is told at its own place.
func (c *compiler) lookUp(e *entity, name string) (*grow.Path, error) {
	path := &grow.Path{}
	words := strings.Split(name, ".")
	for i, word := range words {
		last := i == len(words)-1
		of := e.find(word)
		if of == nil && !last {
			// An ancestor by its name, over as many references as it takes.
			for up := e; up.parent != nil; up = up.parent {
				path.Hops = append(path.Hops, up.up.grow)
				if !c.compile(up.up) {
					return nil, nil
				}
				if up.parent.decl.Name == word {
					e = up.parent
					break
				}
			}
			if e.decl.Name == word && len(path.Hops) > 0 {
				continue
			}
		}
		if of == nil {
			return nil, errNoField(e, word)
		}
		if !c.compile(of) {
			return nil, nil
		}
		if last {
			path.Field = of.grow
			return path, nil
		}
		if of.decl.inner && i == len(words)-2 {
			part, err := c.part(of, words[i+1])
			if err != nil {
				return nil, err
			}
			path.Field = part.grow
			return path, nil
		}
		to := c.target(of)
		if to == nil {
			return nil, errors.New(of.describe() + " refers to no other entity, so nothing can be reached through it")
		}
		path.Hops = append(path.Hops, of.grow)
		e = to
	}
	return nil, errNoField(e, name)
}

func errNoField(e *entity, word string) error {
	return errors.New(e.decl.Name + " has no field " + word)
}

// reachable lists the names that may stand for fields within an entity.
func (c *compiler) reachable(e *entity) []string {
	names := append(e.names(), clockWord)
	for up := e.parent; up != nil; up = up.parent {
		for _, n := range up.names() {
			names = append(names, up.decl.Name+"."+n)
		}
	}
	return names
}
