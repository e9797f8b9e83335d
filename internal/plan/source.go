package plan

import (
	"errors"
	"fmt"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"evensprout/internal/derive"
	"evensprout/internal/grow"
	"evensprout/internal/schema"
	"evensprout/internal/value"
)

// sources compiles the source of every field.
func (c *compiler) sources() {
	c.bySource = c.sourceCompilers()
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
			c.add(f.decl.place, "circle: %s depends on itself", names[0])
		} else {
			c.add(f.decl.place, "circle: %s", strings.Join(append(names, f.describe()), " depends on "))
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

// source compiles the source of a field; nil after adding a problem.
func (c *compiler) source(f *field) grow.Source {
	if list := f.entity.overrides[f.decl.Name]; list != nil && !f.decl.inner {
		return c.profiled(f, list)
	}
	if compile := c.bySource[f.decl.word]; compile != nil {
		return compile(f)
	}
	return nil // the reader has told that there is no source
}

// sourceCompilers compile the sources, by the words that name them (and see sources, which
// says what may stand beside each).
func (c *compiler) sourceCompilers() map[string]func(*field) grow.Source {
	return map[string]func(*field) grow.Source{
		wordGiven:  c.givenSource,
		wordParent: c.parentSource,
		"value":    c.literalSource,
		"find":     c.find,
		"count":    c.count,
		"between":  c.between,
		"before":   c.moment,
		"after":    c.moment,
		"case":     c.byCase,
		"lookup":   c.lookup,
		wordLogin:  c.login,
		"choose":   c.choose,
		"share":    func(f *field) grow.Source { return grow.True(c.plan.share(f.decl.source, "share")) },
		"pattern":  c.pattern,
		"kind":     c.kind,
		"text":     c.template,
		"same":     c.sameSource,
		"pick":     c.pick,
		"sum":      c.aggregate,
		"count_of": c.aggregate,
		"min_of":   c.aggregate,
		"max_of":   c.aggregate,
		"uuid":     c.uuid,
		"derive":   c.derive,
		"from":     c.from,
		"tree":     c.tree,
		"running":  c.running,
		"json":     c.document,
		"list":     c.document,
		"file":     c.file,
		"bytes":    c.bytesSource,
	}
}

// literalSource is {value: ...}.
func (c *compiler) literalSource(f *field) grow.Source {
	v := f.decl.source
	if v.scalar() && v.text == clockWord && !v.quoted && !f.decl.bare {
		return grow.Literal(c.plan.Clock)
	}
	literal, ok := c.plan.literal(v)
	if !ok {
		return nil
	}
	if literal.Type == value.Text && isSource(literal.S) && !v.quoted {
		c.add(v.place, "%s is the name of a source of values, but here it is text", literal.S).
			Advise("write the source as {%s: ...}, or the text in quotes as \"%s\"", literal.S, literal.S)
		return nil
	}
	return grow.Literal(f.asUUID(literal))
}

// asUUID reads a text as the UUID that its column holds.
func (f *field) asUUID(v value.Value) value.Value {
	if v.Type == value.Text && f.column != nil && f.column.Kind == schema.UUID {
		if u, err := value.ParseUUID(v.S); err == nil {
			return u
		}
	}
	return v
}

// parentSource is the key of the parent, of which the row is one of so many children.
func (c *compiler) parentSource(f *field) grow.Source {
	if key := c.parentKey(f); key == nil || !c.compile(key) {
		return nil
	}
	return grow.Upward(f.entity.parent.grow)
}

// sameSource is {same: path}.
func (c *compiler) sameSource(f *field) grow.Source {
	var name string
	if !c.plan.text(f.decl.source, "same", &name) {
		return nil
	}
	path, ok := c.resolve(f, f.decl.source.place, name)
	if !ok {
		return nil
	}
	return grow.Same(*path)
}

// bytesSource is {bytes: length}.
func (c *compiler) bytesSource(f *field) grow.Source {
	v := f.decl.source
	r, ok := c.plan.countRange(v, "the length of bytes", grow.MaxBytes)
	if !ok {
		return nil
	}
	src, err := grow.RandomBytes(r)
	return c.fault(v.place, src, err)
}

// fault adds what the core says about a source.
func (c *compiler) fault(at place, s grow.Source, err error) grow.Source {
	if err != nil {
		c.add(at, "%s", err)
		return nil
	}
	return s
}

// givenSource is the source of a field that only given rows say: of their type, and
// NULL in all other rows.
func (c *compiler) givenSource(f *field) grow.Source {
	f.grow.Nulls = grow.Share{Part: 1, Whole: 1}
	var values []value.Value
	var to *entity
	for _, n := range f.given {
		if n.null {
			continue
		}
		if name, _, ok := foundBy(n); ok {
			if e := c.named(f.entity.decl.Schema, name); e != nil {
				to = e
				continue
			}
		}
		if name, row, dotted := strings.Cut(n.text, "."); n.scalar() && dotted && !n.quoted {
			if e := c.named(f.entity.decl.Schema, name); e != nil {
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
		values = append(values, f.asUUID(v))
	}

	if to != nil {
		key := c.stored(f, to)
		if key == nil {
			return nil
		}
		return grow.Pick(to.grow, grow.PickOptions{By: key})
	}

	numbers := !slices.ContainsFunc(values, func(v value.Value) bool { return v.Type != value.Integer })
	if f.entity.grow.Key == f.grow && numbers {
		f.grow.Nulls = grow.Share{}
		src, err := grow.Count(nil, 1, false)
		return c.fault(f.decl.place, src, err)
	}
	src := grow.Literal(value.Value{})
	kind, scale := value.Null, uint8(0)
	if len(values) > 0 {
		var err error
		src, err = grow.Choose(values, nil)
		if src = c.fault(f.decl.place, src, err); src == nil {
			return nil
		}
		kind, scale = src.Type(), src.Scale()
	} else if f.column != nil {
		kind, scale = typeOf(f.column), uint8(f.column.Scale)
	}

	if v, ok := c.preset(f, kind, scale); ok {
		f.grow.Nulls = grow.Share{}
		return grow.Literal(v)
	}
	return src
}

// preset is what the database would fill in where a row says nothing of a field: the
// column's default, as a value of a type; false if it has none, or the database
// computes it anew for each row.
func (c *compiler) preset(f *field, kind value.Type, scale uint8) (value.Value, bool) {
	if f.column == nil {
		return value.Value{}, false
	}
	said, ok := f.column.Constant()
	if !ok {
		return value.Value{}, false
	}
	preset := c.plan.Clock
	if !said.Clock {
		if preset, ok = constantOf(said, kind); !ok {
			return value.Value{}, false
		}
	}
	if preset.Type == value.Timestamp && kind == value.Date {
		preset = value.Value{Type: value.Date, N: value.FloorDiv(preset.N, value.Day)}
	}
	if preset.Type == value.Decimal || preset.Type == value.Integer && kind == value.Decimal {
		preset, ok = preset.Rescale(max(scale, preset.Scale))
	}
	return preset, ok && preset.Type == kind
}

// constantOf reads a default value as one of a type: some databases write numbers and
// moments in quotes.
func constantOf(said schema.Constant, as value.Type) (value.Value, bool) {
	if as == value.Text {
		return value.String(said.Text), said.Quoted
	}
	if as == value.Boolean && (said.Text == "0" || said.Text == "1") {
		return value.Bool(said.Text == "1"), true
	}
	v, ok := (&Plan{collector: &collector{}}).literal(&node{text: said.Text})
	return v, ok
}

// count compiles numbers from a first one on.
func (c *compiler) count(f *field) grow.Source {
	v := f.decl.source
	var from *int64
	step, restart := int64(1), false
	whole := func(n *node, of string) int64 {
		x, err := strconv.ParseInt(n.text, 10, 64)
		if err != nil || !n.scalar() || n.quoted || x > 1<<60 || x < -1<<60 {
			c.add(n.place, "%s must be a whole number, got %s", of, n.what())
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
		c.add(v.place, "count must be a number to start from, got %s", v.what()).
			Advise("{count: 1}, or {count: {from: 1, step: 1, restart: true}}")
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

// between compiles a range.
func (c *compiler) between(f *field) grow.Source {
	v := f.decl.source
	var ends [2]*node
	switch lo, hi, two := strings.Cut(v.text, ".."); {
	case v.list && len(v.items) == 2:
		ends[0], ends[1] = v.items[0], v.items[1]
	case v.scalar() && two:
		ends[0] = &node{place: v.place, text: lo}
		ends[1] = &node{place: v.place, text: hi}
	default:
		c.add(v.place, "between must have two ends, got %s", v.what()).
			Advise("{between: [1, 10]}, or {between: [2026-01-01, 2026-03-31]}")
		return nil
	}

	lo, okLo := c.plan.literal(ends[0])
	hi, okHi := c.plan.literal(ends[1])
	if !okLo || !okHi {
		return nil
	}
	if lo.Type == value.Timestamp || lo.Type == value.Time {
		lo.Scale = c.digits(f)
		hi.Scale = lo.Scale
	} else if n, ok := f.decl.args["digits"]; ok {
		c.add(n.place, "digits are digits of a second, and %s has the type %s", ends[0].text, lo.Type)
	}

	step := int64(0)
	if n, ok := f.decl.args["step"]; ok {
		if step, ok = c.step(n, &lo, &hi); !ok {
			return nil
		}
	}
	src, err := grow.Between(lo, hi, step)
	if err != nil {
		return c.fault(v.place, src, err)
	}
	return c.distributed(f, src)
}

// distributed lets the values of a range follow a calendar or a shape.
func (c *compiler) distributed(f *field, src grow.Source) grow.Source {
	by, ok := c.calendar(f)
	if !ok {
		return nil
	}
	var err error
	if by != nil {
		src, err = grow.Schedule(src, by)
	}
	if n := f.decl.args["shape"]; n != nil && err == nil {
		s, ok := c.plan.shape(n, c.plan.numberParameter)
		if !ok {
			return nil
		}
		src, err = c.shapes.Shaped(src, s)
	}
	return c.fault(f.decl.source.place, src, err)
}

// step reads the distance between the values of a range, in the unit of its ends.
func (c *compiler) step(n *node, lo, hi *value.Value) (int64, bool) {
	if lo.Type == value.Integer || lo.Type == value.Decimal {
		s, ok := c.plan.literal(n)
		if !ok {
			return 0, false
		}
		if s.Type != value.Integer && s.Type != value.Decimal || s.N <= 0 {
			c.add(n.place, "step must be a number above 0, got %s", n.what())
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

	span, err := value.ParseSpan(n.text)
	if err != nil || span.Months != 0 {
		c.add(n.place, "step must be a span without months, such as 15m or 1d, got %s", n.what())
		return 0, false
	}
	if lo.Type == value.Date {
		if span.Micros%value.Day != 0 {
			c.add(n.place, "dates must move by whole days, got %s", n.what())
			return 0, false
		}
		return span.Micros / value.Day, true
	}
	return span.Micros, true
}

// moment compiles moments after or before others.
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
		}
		if _, looks, _ := value.ReadMoment(name); looks {
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
	o, ok := c.momentOptions(f)
	if !ok {
		return nil
	}
	src, err := grow.Moment(after, before, o)
	return c.fault(at, src, err)
}

// momentOptions reads what more is said of moments after or before others.
func (c *compiler) momentOptions(f *field) (o grow.MomentOptions, ok bool) {
	o = grow.MomentOptions{Digits: c.digits(f), Dates: f.column != nil && f.column.Kind == schema.Date}
	if n, ok := f.decl.args["within"]; ok {
		var err error
		if o.Least, o.Within, err = spans(n.text); err != nil {
			c.add(n.place, "%s", err)
			return o, false
		}
	}
	if n, ok := f.decl.args["step"]; ok {
		like := value.Value{Type: value.Timestamp}
		if o.Step, ok = c.step(n, &like, &like); !ok {
			return o, false
		}
	}
	if n := f.decl.args["shape"]; n != nil {
		s, ok := c.plan.shape(n, c.plan.spanParameter)
		if !ok {
			return o, false
		}
		o.Shape = &s
	}
	o.By, ok = c.calendar(f)
	return o, ok
}

// spans reads a longest span, or a shortest and a longest: 90m, 20m..90m.
func spans(text string) (least, most value.Span, err error) {
	lo, hi, two := strings.Cut(text, "..")
	if !two {
		most, err = value.ParseSpan(text)
		return least, most, err
	}
	if least, err = value.ParseSpan(lo); err != nil {
		return least, most, err
	}
	most, err = value.ParseSpan(hi)
	if err == nil && least.After(0, 1) > most.After(0, 1) {
		err = fmt.Errorf("the range is reversed: %s comes after %s", lo, hi)
	}
	return least, most, err
}

// choose compiles a pick from a list, with weights if the plan has them.
func (c *compiler) choose(f *field) grow.Source {
	v := f.decl.source
	var values []value.Value
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
		c.add(v.place, "choose must be a list of values, or a mapping of values to weights, got %s", v.what()).
			Advise("{choose: [red, green]}, or {choose: {red: 80, green: 20}}")
		return nil
	}

	if !ok {
		return nil
	}
	if n := f.decl.args["skew"]; n != nil {
		z, said := c.zipf(n)
		switch {
		case !said:
			c.add(n.place, "the skew of a choice must be zipf, got %s", n.what()).
				Advise("{choose: [red, green, blue], skew: zipf}, or write weights: {choose: {red: 80, green: 20}}")
		case weights != nil:
			c.add(n.place, "choose has weights already, so it cannot have a skew")
		}
		if z == nil || weights != nil {
			return nil
		}
		weights = z.Weights(len(values))
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

// expressionPlace is where in an expression an error lies.
func (n *node) expressionPlace(e *derive.Error, text string) place {
	switch {
	case e.Line == 1 && !strings.Contains(text, "\n"):
		return n.inside(e.Column - 1)
	case e.Line > 0:
		return place{n.line + e.Line, 1} // a block of lines begins below its sign
	}
	return n.place
}

// pattern compiles texts that match a regular expression.
func (c *compiler) pattern(f *field) grow.Source {
	v := f.decl.source
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

// kind compiles a kind of the catalog, such as person.
func (c *compiler) kind(f *field) grow.Source {
	v := f.decl.source
	var name string
	if !c.plan.text(v, "kind", &name) {
		return nil
	}
	if list := c.lists[name]; list != nil || c.declares(name) {
		return c.ownKind(f, name, list)
	}
	k, ok := c.kinds[name]
	if now := formerKinds[name]; now != "" {
		c.add(v.place, "the kind %s is now called %s", name, now).Advise("write {kind: %s}", now)
		return nil
	}
	if !ok {
		c.add(v.place, "there is no kind %s", name).Nearest(name, slices.Concat(keysOf(c.kinds), keysOf(c.lists)))
		return nil
	}
	if k.Parts != nil && !f.decl.inner {
		c.add(v.place, "%s has parts: declare it once and use its parts", name).
			Advise("add shared: {it: {kind: %s}} beside fields, and use {from: it.%s} in a "+
				"field", name, k.Parts[0].Name)
		return nil
	}
	o, ok := c.kindOptions(f, &k)
	if !ok {
		return nil
	}
	src, err := grow.NewKind(k, o)
	return c.fault(v.place, src, err)
}

// kindOptions reads what stands beside a kind: its parameters, a locale, a subject.
func (c *compiler) kindOptions(f *field, k *grow.Kind) (o grow.KindOptions, ok bool) {
	o = grow.KindOptions{Params: map[string]grow.Range{}, Locales: c.locales(f)}
	for arg, n := range f.decl.args {
		if arg == "locale" && k.Locales {
			continue
		}
		if arg == "about" && k.Subjects {
			if !c.plan.text(n, "about", &o.Subject) {
				return o, false
			}
			if !slices.Contains(grow.Subjects, o.Subject) {
				c.add(n.place, "there are no texts about %s", o.Subject).Nearest(o.Subject, grow.Subjects)
				return o, false
			}
			continue
		}
		if !slices.Contains(k.Params, arg) {
			known := slices.Clone(k.Params)
			if k.Locales {
				known = append(known, "locale")
			}
			if k.Subjects {
				known = append(known, "about")
			}
			p := c.add(n.place, "the kind %s has no parameter %s", k.Name, arg)
			if len(known) > 0 {
				p.Nearest(arg, known)
			}
			return o, false
		}
		if o.Params[arg], ok = c.plan.countRange(n, arg, 1<<30); !ok {
			return o, false
		}
	}
	return o, true
}

// template compiles a text with values of other fields in it.
func (c *compiler) template(f *field) grow.Source {
	v := f.decl.source
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
			p.Nearest(te.Name, c.reachable(f.entity))
		}
		return nil
	}
	return src
}

// errTold stands for a problem that is told already.
var errTold = errors.New("told already")

// derive compiles an expression; its faults are told at their place in it.
func (c *compiler) derive(f *field) grow.Source {
	v := f.decl.source
	var text string
	if !c.plan.text(v, "derive", &text) {
		return nil
	}
	tell := func(err error) grow.Source {
		var e *derive.Error
		if !errors.As(err, &e) {
			return c.fault(v.place, nil, err)
		}
		p := c.add(v.expressionPlace(e, text), "%s", e.Message).Advise("%s", e.Hint)
		if e.Name != "" {
			p.Nearest(e.Name, c.reachable(f.entity))
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
		x, _ := c.plan.number(n, "scale", 0, value.MaxScale)
		scale = int(x)
	}
	x, err := parsed.Compile(inputs, scale)
	if err != nil {
		return tell(err)
	}
	return grow.Computed(x.Type, x.Scale, paths, x.Eval)
}

// sizePattern matches the size of a picture in pixels: 640x480.
var sizePattern = regexp.MustCompile(`^([0-9]{1,4})x([0-9]{1,4})$`)

// file compiles {folder: images, as: png, size: 320x200} or {folder: notes, as: txt,
// bytes: 200..900}.
func (c *compiler) file(f *field) grow.Source {
	v := f.decl.source
	spec := grow.FileSpec{Width: 64, Height: 48, Bytes: grow.Range{Lo: 200, Hi: 900}}
	as, good := "", true
	c.plan.each(v, "file", shape{
		"folder": func(_, n *node) {
			if good = c.plan.text(n, "folder", &spec.Folder) && good; good && !filepath.IsLocal(spec.Folder) {
				c.add(n.place, "the folder %s is not inside the plan's folder", n.what()).
					Advise("use a name such as images; files must stay beside the plan")
				good = false
			} else if good && strings.HasPrefix(filepath.ToSlash(filepath.Clean(spec.Folder)), ".evensprout") {
				c.add(n.place, "the folder %s is reserved for this program", n.what()).Advise("use a name such as " +
					"images")
				good = false
			}
		},
		"as": func(_, n *node) {
			if as = n.text; as != "png" && as != "txt" {
				c.add(n.place, "a file must be a png picture or a txt document, got %s", n.what())
				good = false
			}
		},
		"size": func(_, n *node) {
			m := sizePattern.FindStringSubmatch(n.text)
			if m == nil {
				c.add(n.place, "the size of a picture must be in pixels, such as 320x200, got %s", n.what())
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
		c.add(v.place, "file needs a folder and a format").
			Advise("{file: {folder: images, as: png, size: 320x200}}")
		return nil
	}
	spec.Folder, spec.Image = filepath.ToSlash(filepath.Clean(spec.Folder)), as == "png"
	src, err := grow.File(spec)
	return c.fault(v.place, src, err)
}

// uuid compiles random UUIDs, or those that begin with a moment.
func (c *compiler) uuid(f *field) grow.Source {
	v := f.decl.source
	switch {
	case v.null || v.text == "v4":
		return grow.RandomUUID()
	case v.text == "v7":
		return grow.OrderedUUID(c.plan.Clock)
	}
	c.add(v.place, "uuid must be v4 or v7, got %s", v.what())
	return nil
}
