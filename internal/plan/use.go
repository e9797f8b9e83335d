package plan

import (
	"bytes"
	"fmt"
	"maps"
	"math/big"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"evensprout/internal/diag"
)

// Use says how a plan is used: a variant of it, another size, a part of its entities.
type Use struct {
	Variant string            // one of its variants; empty: none
	Scale   string            // a factor of all numbers of rows, such as 10 or 5%; empty: 1
	Rows    map[string]uint64 // of entities
	Only    []string          // entities, with all that they need; nil: all
	Schemas []string          // the schemas that are filled; nil: the plan's
	Seed    string            // in place of the plan's; empty: the plan's
	Today   string            // the date of a variant's clock: today
}

// IsEmpty reports whether the plan is used as it is.
func (u Use) IsEmpty() bool {
	return u.Variant == "" && u.Scale == "" && u.Rows == nil && u.Only == nil && u.Schemas == nil && u.Seed == ""
}

// WithUse is the plan with use: in its last line. The journal keeps it as if it were written there.
func (p *Plan) WithUse(u Use) (*Plan, error) {
	if p.root.get("use") != nil {
		return nil, diag.Usagef("the plan has use: already; change it there, in place of the command line")
	}
	source := append(bytes.TrimRight(p.source, "\n"), ("\nuse: {" + u.text(p) + "}\n")...)
	with, err := Read(p.collector.file, source)
	if err != nil {
		return nil, err
	}
	last := bytes.Count(source, []byte{'\n'})
	for _, problem := range with.malformed {
		if problem.Line == last {
			hint := problem.Hint
			if hint != "" {
				hint = "; " + hint
			}
			return nil, diag.Usagef("%s%s", problem.Message, hint)
		}
	}
	if with.root.get("use") == nil {
		return nil, diag.Usagef("a plan in one line cannot be used in another size: write it in several lines")
	}
	return with, nil
}

// text is the use as a plan writes it.
func (u Use) text(p *Plan) string {
	var parts []string
	add := func(key, text string) {
		if text != "" {
			parts = append(parts, key+": "+text)
		}
	}
	quoted := func(s string) string {
		if s == "" {
			return ""
		}
		return strconv.Quote(s)
	}
	add("variant", quoted(u.Variant))
	add("scale", quoted(u.Scale))
	add("seed", quoted(u.Seed))
	var rows []string
	for _, name := range slices.Sorted(maps.Keys(u.Rows)) {
		rows = append(rows, fmt.Sprintf("%s: %d", strconv.Quote(name), u.Rows[name]))
	}
	if rows != nil {
		add("rows", "{"+strings.Join(rows, ", ")+"}")
	}
	list := func(key string, names []string) {
		if names != nil {
			var items []string
			for _, name := range names {
				items = append(items, strconv.Quote(name))
			}
			add(key, "["+strings.Join(items, ", ")+"]")
		}
	}
	list("only", u.Only)
	list("schemas", u.Schemas)
	if v := p.root.get("variants"); v != nil && u.Variant != "" && v.get(u.Variant) != nil {
		if c := v.get(u.Variant).get("clock"); c != nil && c.text == todayWord {
			add("today", u.Today)
		}
	}
	return strings.Join(parts, ", ")
}

// Used says how the plan is used, in one line: variant ci; empty if it is used as it is.
func (p *Plan) Used() string {
	use := p.root.get("use")
	if use == nil || !use.mapping {
		return ""
	}
	var parts []string
	for _, q := range use.pairs {
		text := q.value.text
		switch {
		case q.key.text == "today":
			continue
		case q.value.mapping:
			var rows []string
			for _, r := range q.value.pairs {
				rows = append(rows, r.key.text+" "+r.value.text)
			}
			text = strings.Join(rows, " ")
		case q.value.list:
			var items []string
			for _, x := range q.value.items {
				items = append(items, x.text)
			}
			text = strings.Join(items, " ")
		}
		parts = append(parts, q.key.text+" "+text)
	}
	return strings.Join(parts, ", ")
}

// todayWord is a clock that is the day on which the plan is used.
const todayWord = "today"

// use changes the nodes of a plan as its use says, before they are read.
func (p *Plan) use(root *node) {
	use, variants := root.get("use"), root.get("variants")
	if variants != nil {
		p.checkVariants(variants)
	}
	if use == nil {
		return
	}
	entities := root.get("entities")
	if entities == nil || !entities.mapping {
		return
	}
	x := &user{plan: p, root: root, entities: entities}
	var only *node
	p.each(use, "use", shape{
		"variant": func(_, v *node) { only = x.variant(v, variants, use.get("today")) },
		"scale":   func(_, v *node) { x.scale(v) },
		"seed":    func(_, v *node) { x.change("", root, "seed", v) },
		"rows":    func(_, v *node) { x.rows(v) },
		"only":    func(_, v *node) { only = v },
		"schemas": func(_, v *node) { x.change("", root, "schemas", v) },
		"today":   func(_, _ *node) {},
	})
	if only != nil {
		x.only(only)
	}
}

// user changes the nodes of a plan.
type user struct {
	plan           *Plan
	root, entities *node
}

// change gives a key of a mapping a value, and notes that for people.
func (x *user) change(of string, m *node, key string, v *node) {
	former := "nothing"
	if old := m.get(key); old != nil {
		former = old.text
		if old.mapping || old.list {
			former = old.what()
		}
	}
	now := v.text
	switch {
	case v.list:
		now = v.brief(key)
	case v.mapping:
		now = v.what()
	}
	name := key
	if of != "" {
		name = of + "." + key
	}
	if former != now || v.mapping || v.list {
		x.plan.Changes = append(x.plan.Changes, Change{name, former, now})
	}
	x.set(m, key, v)
}

// Change is what the use of a plan changes.
type Change struct {
	Key  string `json:"key"` // such as seed, Passenger.rows
	From string `json:"from"`
	To   string `json:"to"`
}

// set gives a key of a mapping a value.
func (x *user) set(m *node, key string, v *node) {
	if i, ok := m.index[key]; ok {
		m.pairs[i].value = v
		return
	}
	if m.index == nil {
		m.index = map[string]int{}
	}
	m.index[key] = len(m.pairs)
	m.pairs = append(m.pairs, pair{&node{place: v.place, text: key}, v})
}

// remove takes a key out of a mapping.
func (x *user) remove(m *node, key string) {
	i, ok := m.index[key]
	if !ok {
		return
	}
	m.pairs = slices.Delete(slices.Clone(m.pairs), i, i+1)
	m.index = map[string]int{}
	for j, q := range m.pairs {
		m.index[q.key.text] = j
	}
}

// checkVariants refuses variants that are none.
func (p *Plan) checkVariants(variants *node) {
	if !variants.mapping {
		p.add(variants.place, "variants must be a mapping (name: changes), got %s", variants.what()).
			Advise("write variants: {ci: {scale: 5%%}}")
		return
	}
	for _, v := range variants.pairs {
		if !v.value.mapping || len(v.value.pairs) == 0 {
			p.add(v.value.place, "the variant %s changes nothing", v.key.text).
				Advise("say what it changes: scale: 5%%")
			continue
		}
		p.each(v.value, "a variant", shape{
			"scale": func(_, _ *node) {}, "clock": func(_, _ *node) {}, "seed": func(_, _ *node) {},
			"only": func(_, _ *node) {}, "locale": func(_, _ *node) {}, "entities": func(_, _ *node) {},
		})
	}
}

// variant makes the changes of a variant; it returns what the variant says of only.
func (x *user) variant(name, variants, today *node) (only *node) {
	if variants == nil || !variants.mapping {
		x.plan.add(name.place, "the plan has no variants, so there is no %s", name.text).
			Advise("write variants: {%s: {scale: 5%%}} in the plan", name.text)
		return nil
	}
	v := variants.get(name.text)
	if v == nil {
		x.plan.add(name.place, "the plan has no variant %s", name.text).Nearest(name.text, keysOfNode(variants))
		return nil
	}
	if s := v.get("scale"); s != nil {
		x.scale(s)
	}
	for _, key := range []string{"seed", "locale"} {
		if s := v.get(key); s != nil {
			x.change("", x.root, key, s)
		}
	}
	if c := v.get("clock"); c != nil {
		if c.text == todayWord && today != nil {
			c = &node{place: c.place, text: today.text + "T00:00:00Z"}
		}
		x.change("", x.root, "clock", c)
	}
	x.variantEntities(v.get("entities"))
	return v.get("only")
}

// variantEntities puts keys of entities in place of the plan's.
func (x *user) variantEntities(entities *node) {
	if entities != nil && entities.mapping {
		for _, e := range entities.pairs {
			own := x.entities.get(e.key.text)
			if own == nil || !own.mapping || !e.value.mapping {
				x.plan.add(e.key.place, "the variant changes %s, which is no entity of the plan", e.key.text).
					Nearest(e.key.text, keysOfNode(x.entities))
				continue
			}
			x.merge(e.key.text, own, e.value)
		}
	}
}

// merge puts the keys of a mapping into another; mappings in both are merged.
func (x *user) merge(of string, into, from *node) {
	for _, q := range from.pairs {
		if own := into.get(q.key.text); own != nil && own.mapping && q.value.mapping && q.key.text == "fields" {
			x.merge(of, own, q.value)
			continue
		}
		x.change(of, into, q.key.text, q.value)
	}
}

// keysOfNode are the keys of a mapping.
func keysOfNode(m *node) []string {
	var out []string
	for _, q := range m.pairs {
		out = append(out, q.key.text)
	}
	return out
}

// maxScale bounds a factor of rows.
const maxScale = 1_000_000

// factor reads a factor such as 10, 0.5 or 5%.
func factor(text string) (*big.Rat, bool) {
	digits, percent := strings.CutSuffix(strings.TrimSpace(text), "%")
	if len(digits) > 20 || strings.ContainsAny(digits, "/eExX_") {
		return nil, false
	}
	f, ok := new(big.Rat).SetString(digits)
	if !ok || f.Sign() <= 0 || f.Cmp(big.NewRat(maxScale, 1)) > 0 {
		return nil, false
	}
	if percent {
		f.Quo(f, big.NewRat(100, 1))
	}
	return f, true
}

// scale multiplies the rows of all entities; none gets fewer than one.
func (x *user) scale(v *node) {
	f, ok := factor(v.text)
	if !ok {
		x.plan.add(v.place, "scale must be a factor above 0 and up to %d, such as 10, 0.5 or 5%%, got %s", maxScale,
			v.text)
		return
	}
	for _, e := range x.entities.pairs {
		rows := e.value.get("rows")
		if rows == nil {
			continue
		}
		n, err := strconv.ParseUint(rows.text, 10, 63)
		if err != nil || n == 0 {
			continue
		}
		scaled := new(big.Rat).Mul(f, new(big.Rat).SetUint64(n))
		scaled.Add(scaled, big.NewRat(1, 2))
		whole := new(big.Int).Quo(scaled.Num(), scaled.Denom())
		text := "1"
		if whole.Sign() > 0 {
			text = whole.String()
		}
		x.change(e.key.text, e.value, "rows", &node{place: rows.place, text: text})
	}
}

// rows gives entities numbers of rows.
func (x *user) rows(v *node) {
	if !v.mapping {
		x.plan.add(v.place, "rows must be a mapping (entity: number), got %s", v.what())
		return
	}
	for _, q := range v.pairs {
		e := x.entities.get(q.key.text)
		if e == nil || !e.mapping {
			x.plan.add(q.key.place, "the plan has no entity %s", q.key.text).
				Nearest(q.key.text, keysOfNode(x.entities))
			continue
		}
		if e.get("per") != nil {
			x.plan.add(q.key.place, "%s is planned per row of another entity, so it has no number of rows of its own",
				q.key.text).Advise("give the parent more rows")
			continue
		}
		x.change(q.key.text, e, "rows", q.value)
	}
}

// only leaves out the entities that some do not need, and units and invariants with them.
func (x *user) only(v *node) {
	items := v.items
	if !v.list {
		items = []*node{v}
	}
	wanted := map[string]bool{}
	var need func(name string)
	need = func(name string) {
		e := x.entities.get(name)
		if e == nil || wanted[name] {
			return
		}
		wanted[name] = true
		for _, other := range keysOfNode(x.entities) {
			if mentions(e, other) {
				need(other)
			}
		}
	}
	for _, n := range items {
		if x.entities.get(n.text) == nil {
			x.plan.add(n.place, "the plan has no entity %s", n.text).Nearest(n.text, keysOfNode(x.entities))
			return
		}
		need(n.text)
	}
	for _, name := range keysOfNode(x.entities) {
		if !wanted[name] {
			x.plan.Changes = append(x.plan.Changes, Change{name, "planned", "left out"})
			x.remove(x.entities, name)
			x.remove(x.root, "units")
			x.remove(x.root, "always")
		}
	}
}

// mentions reports whether a part of a plan names an entity.
func mentions(n *node, entity string) bool {
	if n == nil {
		return false
	}
	if n.text == entity {
		return true
	}
	for rest := n.text; ; {
		i := strings.Index(rest, entity+".")
		if i < 0 {
			break
		}
		if i == 0 || !isWordByte(rest[i-1]) {
			return true
		}
		rest = rest[i+1:]
	}
	return slices.ContainsFunc(n.items, func(o *node) bool { return mentions(o, entity) }) ||
		slices.ContainsFunc(
			n.pairs,
			func(q pair) bool { return mentions(q.key, entity) || mentions(q.value, entity) },
		)
}

// isWordByte reports whether a byte is a part of a name.
func isWordByte(c byte) bool {
	return c == '_' || c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= 0x80
}

// Variants are the names of the plan's variants.
func (p *Plan) Variants() []string {
	v := p.root.get("variants")
	if v == nil || !v.mapping {
		return nil
	}
	return keysOfNode(v)
}

// Reads are the files that a plan names, seen from the current folder.
func (p *Plan) Reads() []string {
	var out []string
	var walk func(n *node)
	walk = func(n *node) {
		for _, q := range n.pairs {
			if q.key.text == "file" && q.value.text != "" {
				path := q.value.text
				if !filepath.IsAbs(path) {
					path = filepath.Join(p.Folder(), path)
				}
				if !slices.Contains(out, path) {
					out = append(out, path)
				}
			}
			walk(q.value)
		}
		for _, x := range n.items {
			walk(x)
		}
	}
	walk(p.root)
	return out
}
