// Package addition makes the plan that adds a row, and what the row needs: rows that it refers to are found in the
// database, or else grown.
package addition

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"

	"evensprout/internal/diag"
	"evensprout/internal/grow"
	"evensprout/internal/lookup"
	"evensprout/internal/plan"
	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/value"
)

// Request says which rows are added.
type Request struct {
	Entity   string
	Values   []Value
	Rows     uint64
	Profile  string  // of the entity; empty: any
	Below    []Below // rows that belong to each row
	Number   uint64  // how many additions there were before
	Attempt  int     // the values of earlier attempts were taken
	Greatest func(context.Context, *schema.Table, *schema.Column) (int64, error)
}

// Value is a field and its text, or a reference and the label of its row. Without a field it is the reference to the
// entity of the label.
type Value struct{ Field, Text string }

// Below is how many rows of a child entity belong to each row.
type Below struct {
	Entity string
	Rows   uint64
}

// Plan is a plan that adds rows.
type Plan struct {
	Text   string
	Entity string
	Found  []string // entities whose rows are in the database already
	Given  string   // what the request says of the row, as a row that is written in a plan
	Unsaid []string // fields that it names and a plan cannot say: references to rows that are in no plan
}

// NameOf is the name of the plan of an addition.
func NameOf(base string, number uint64) string { return fmt.Sprintf("%s-add-%d", base, number+1) }

// builder makes a plan from a larger one.
type builder struct {
	ctx      context.Context
	store    store.Store
	compiled *plan.Compiled
	grower   *grow.Grower
	request  Request
	root     *yaml.Node
	entities *yaml.Node
	kept     map[*plan.Target]bool
	found    map[*plan.Target][]lookup.Row
	said     *yaml.Node // what the request says, in the plan's terms
	out      *Plan
}

// Build makes the plan that adds rows. c is the plan that the rows are of.
func Build(ctx context.Context, c *plan.Compiled, s store.Store, r Request) (*Plan, error) {
	b := &builder{ctx: ctx, store: s, compiled: c, grower: grow.NewGrower(c.Set), request: r,
		kept: map[*plan.Target]bool{}, found: map[*plan.Target][]lookup.Row{}, out: &Plan{},
		said: &yaml.Node{Kind: yaml.MappingNode, Style: yaml.FlowStyle}}
	defer b.grower.Close()
	t := c.Target(r.Entity)
	if t == nil {
		return nil, unknown("there is no entity", r.Entity, b.names())
	}
	var doc yaml.Node
	if err := yaml.Unmarshal(c.Plan.Source(), &doc); err != nil {
		return nil, err
	}
	b.root = doc.Content[0]
	b.entities = get(b.root, "entities")
	b.out.Entity = t.Plan.Name
	if err := b.target(t); err != nil {
		return nil, err
	}
	b.head()
	b.strip()
	var text strings.Builder
	emit(&text, b.root, 0)
	b.out.Text = strings.TrimPrefix(text.String(), "\n") + "\n"
	var given strings.Builder
	emitFlow(&given, b.said)
	b.out.Given = given.String()
	return b.out, nil
}

// names are the entities of the plan.
func (b *builder) names() []string {
	var out []string
	for _, t := range b.compiled.Targets {
		out = append(out, t.Plan.Name)
	}
	return out
}

// head gives the plan a name and a seed of its own, and leaves out what is not about rows.
func (b *builder) head() {
	name := NameOf(b.compiled.Plan.Name, b.request.Number)
	seed := fmt.Sprintf("%s-add-%d", scalarOf(b.root, "seed"), b.request.Number+1)
	if b.request.Attempt > 0 {
		seed += fmt.Sprintf("-%d", b.request.Attempt)
	}
	set(b.root, "name", text(name))
	set(b.root, "seed", text(seed))
	for _, key := range []string{"builds_on", "units", "always", "commit", "once", "awkward", "variants", "use",
		"on_violation",
		"database"} {
		remove(b.root, key)
	}
}

// strip leaves out the entities that the rows do not need.
func (b *builder) strip() {
	var content []*yaml.Node
	for i := 0; i+1 < len(b.entities.Content); i += 2 {
		name := b.entities.Content[i].Value
		if slices.ContainsFunc(b.compiled.Targets, func(t *plan.Target) bool {
			return t.Plan.Name == name && (b.kept[t] || b.found[t] != nil)
		}) {
			content = append(content, b.entities.Content[i], b.entities.Content[i+1])
		}
	}
	b.entities.Content = content
}

// target plans the rows that are added, those below them and those above.
func (b *builder) target(t *plan.Target) error {
	node := b.grown(t, b.request.Rows)
	fields := child(node, "fields")
	for _, v := range b.request.Values {
		if err := b.assign(t, fields, v); err != nil {
			return err
		}
	}
	if err := b.complete(t, fields); err != nil {
		return err
	}
	if err := b.profile(t, node); err != nil {
		return err
	}
	for _, x := range b.request.Below {
		if err := b.below(t, x); err != nil {
			return err
		}
	}
	return b.needs(t, fields)
}

// grown plans rows of an entity as the plan has them.
func (b *builder) grown(t *plan.Target, rows uint64) *yaml.Node {
	b.kept[t] = true
	node := get(b.entities, t.Plan.Name)
	for _, key := range []string{"given", "rows_from", "when", "write", "on_violation"} {
		remove(node, key)
	}
	if t.Plan.Per == nil {
		set(node, "rows", number(rows))
	} else {
		via := ""
		if per := get(node, "per"); per != nil {
			via = scalarOf(per, "via")
		}
		per := mapping(t.Plan.Per.Parent, number(rows))
		if via != "" {
			set(per, "via", text(via))
		}
		set(node, "per", per)
	}
	b.keys(t, node)
	return node
}

// keys lets the database number rows or, if it does not, goes on after the greatest key.
func (b *builder) keys(t *plan.Target, node *yaml.Node) {
	if len(t.Table.PrimaryKey) != 1 {
		return
	}
	c := t.Table.Column(t.Table.PrimaryKey[0])
	if c.Kind != schema.Integer || t.Table.Reference(c.Name) != nil {
		return
	}
	if c.Identity != schema.NoIdentity {
		set(node, "keys", text("database"))
		if fields := get(node, "fields"); fields != nil {
			for i, f := range t.Grow.Fields {
				if t.Columns[i] == c {
					remove(fields, f.Name)
				}
			}
		}
		return
	}
	if top, err := b.request.Greatest(b.ctx, t.Table, c); err == nil {
		set(child(node, "fields"), c.Name, mapping("count", number(uint64(max(top, 0)+1))))
	}
}

// under names the field by which rows refer to the entity of a label such as Passenger.ada.
func (b *builder) under(t *plan.Target, label string) (string, error) {
	entity, _, _ := strings.Cut(label, ".")
	var names []string
	for i, f := range t.Grow.Fields {
		if to := b.targetOf(f.Target()); to != nil && t.Columns[i] != nil && to.Plan.Name == entity {
			names = append(names, f.Name)
		}
	}
	switch len(names) {
	case 1:
		return names[0], nil
	case 0:
		return "", diag.Usagef("%s does not refer to %s", t.Plan.Name, entity)
	}
	return "", diag.Usagef(
		"%s refers to %s by several fields: say which: %s=%s",
		t.Plan.Name,
		entity,
		names[0],
		label,
	)
}

// assign gives a field a value, or a reference its row.
func (b *builder) assign(t *plan.Target, fields *yaml.Node, v Value) error {
	if v.Field == "" {
		var err error
		if v.Field, err = b.under(t, v.Text); err != nil {
			return err
		}
	}
	i, c := b.column(t, v.Field)
	if c == nil {
		var known []string
		for _, c := range t.Table.Columns {
			known = append(known, c.Name)
		}
		for i, f := range t.Grow.Fields {
			if !f.Inner && t.Columns[i] != nil {
				known = append(known, f.Name)
			}
		}
		return unknown(t.Plan.Name+" has no field", v.Field, known)
	}
	name := c.Name
	if i >= 0 {
		name = t.Grow.Fields[i].Name
	}
	if v.Text == "" && !c.NotNull {
		set(fields, name, located(mapping("value", plain("null")), name, c))
		set(b.said, name, plain("null"))
		return nil
	}
	if to := b.refersTo(t, i, c); to != nil {
		r, err := b.find(to, v.Text)
		if err != nil {
			return err
		}
		row := strings.TrimPrefix(v.Text, to.Plan.Name+".")
		if _, ok := b.compiled.RowNamed(to, row); ok {
			set(b.said, name, plain(to.Plan.Name+"."+row))
		} else {
			b.out.Unsaid = append(b.out.Unsaid, name)
		}
		return b.refer(t, fields, name, to, *r)
	}
	x, err := lookup.Check(t.Table, c, v.Text)
	if err != nil {
		return diag.Usagef("%s=%s: %w", v.Field, v.Text, err)
	}
	set(fields, name, located(mapping("value", literal(c, x)), name, c))
	set(b.said, name, literal(c, x))
	return nil
}

// complete refuses rows of an entity whose rows are written by hand, if the request leaves out what they need.
func (b *builder) complete(t *plan.Target, fields *yaml.Node) error {
	var missing []string
	for _, c := range t.Table.Columns {
		if !c.NotNull || c.Default || c.Generated || c.Identity != schema.NoIdentity {
			continue
		}
		i, _ := b.column(t, c.Name)
		name := c.Name
		if i >= 0 {
			name = t.Grow.Fields[i].Name
		}
		isKey := slices.Contains(t.Table.PrimaryKey, c.Name) && (c.Kind == schema.Integer || c.Kind == schema.UUID)
		refers := i >= 0 && t.Grow.Fields[i].Target() != nil
		if !isKey && !refers && get(fields, name) == nil {
			missing = append(missing, c.Name)
		}
	}
	if missing == nil {
		return nil
	}
	return diag.Usagef("the plan does not say how %s gets %s: set them, as in %s=VALUE", t.Plan.Name,
		strings.Join(missing, ", "), missing[0])
}

// located adds to a source the column that its field's name does not lead to.
func located(source *yaml.Node, name string, c *schema.Column) *yaml.Node {
	if schema.Plain(name) != schema.Plain(c.Name) {
		set(source, "column", text(c.Name))
	}
	return source
}

// column is a field of an entity by its name or its column's: its place, -1 if the plan does not mention it, and the
// column; nil if there is none.
func (b *builder) column(t *plan.Target, name string) (int, *schema.Column) {
	for _, such := range []func(f *grow.Field, c *schema.Column) bool{
		func(f *grow.Field, c *schema.Column) bool { return f.Name == name || strings.EqualFold(c.Name, name) },
		func(f *grow.Field, _ *schema.Column) bool { return schema.Plain(f.Name) == schema.Plain(name) },
		func(_ *grow.Field, c *schema.Column) bool {
			return t.Table.Reference(c.Name) != nil && isShort(name, c.Name)
		},
	} {
		for i, f := range t.Grow.Fields {
			if c := t.Columns[i]; c != nil && !f.Inner && such(f, c) {
				return i, c
			}
		}
	}
	if c := t.Table.Column(name); c != nil {
		return -1, c
	}
	return -1, t.Table.ByConvention(name)
}

// isShort reports whether a name is that of a reference without its last word: member of member_id.
func isShort(name, column string) bool {
	rest, ok := strings.CutPrefix(schema.Plain(column), schema.Plain(name))
	return ok && slices.Contains([]string{"id", "code", "key", "no", "uuid"}, rest)
}

// refersTo is the entity that a column refers to; nil if it is no reference, or to none of the plan.
func (b *builder) refersTo(t *plan.Target, i int, c *schema.Column) *plan.Target {
	if i >= 0 {
		if e := t.Grow.Fields[i].Target(); e != nil {
			return b.targetOf(e)
		}
	}
	if r := t.Table.Reference(c.Name); r != nil {
		for _, o := range b.compiled.Targets {
			if o.Table == r.To {
				return o
			}
		}
	}
	return nil
}

// targetOf is the target that is grown by an entity.
func (b *builder) targetOf(e *grow.Entity) *plan.Target {
	for _, t := range b.compiled.Targets {
		if t.Grow == e {
			return t
		}
	}
	return nil
}

// refer lets a field refer to a row that was found.
func (b *builder) refer(t *plan.Target, fields *yaml.Node, name string, to *plan.Target, r lookup.Row) error {
	if len(to.Table.PrimaryKey) == 0 {
		return diag.Usagef("%s=%s: the table %s has no primary key, so its rows cannot be named", name, r.Label,
			to.Table.Name)
	}
	b.keep(to, r)
	if t.Grow.Parent == to.Grow && b.isParent(t, name) {
		return b.countOn(t, fields, name, r)
	}
	key := to.Table.PrimaryKey
	if len(key) != 1 {
		return diag.Usagef("%s=%s: rows of %s have a key of several columns", name, r.Label, to.Plan.Name)
	}
	pick := mapping("pick", text(to.Plan.Name))
	if _, c := b.column(t, name); c != nil {
		if old := get(fields, name); old != nil && old.Kind == yaml.MappingNode && get(old, "by") != nil {
			set(pick, "by", get(old, "by"))
		}
		located(pick, name, c)
	}
	set(pick, "where", mapping(b.fieldOf(to, key[0]), &yaml.Node{Kind: yaml.SequenceNode, Style: yaml.FlowStyle,
		Content: []*yaml.Node{literal(to.Table.Column(key[0]), r.Values[key[0]])}}))
	set(fields, name, pick)
	return nil
}

// countOn lets what is counted for each parent go on after the rows that a parent has.
func (b *builder) countOn(t *plan.Target, fields *yaml.Node, parent string, r lookup.Row) error {
	_, up := b.column(t, parent)
	for i, f := range t.Grow.Fields {
		source := get(get(fields, f.Name), "count")
		if source == nil || get(source, "restart") == nil || t.Columns[i] == nil || up == nil {
			continue
		}
		last := int64(0)
		q := store.Query{Table: t.Table, Columns: []*schema.Column{t.Columns[i]}, AsIs: true,
			Where: []store.Cell{{Column: up, Value: r.Values[t.Table.Reference(up.Name).Targets[0]]}}}
		err := b.store.Select(b.ctx, q, func(v []value.Value) error {
			last = max(last, v[0].N)
			return nil
		})
		if err != nil {
			return err
		}
		if last > 0 {
			set(source, "from", number(uint64(last+1)))
		}
	}
	return nil
}

// isParent reports whether a field is the reference by which the rows of an entity are planned per parent.
func (b *builder) isParent(t *plan.Target, name string) bool {
	_, c := b.column(t, name)
	for i, f := range t.Grow.Fields {
		if t.Columns[i] == c && f.Target() == t.Grow.Parent {
			return true
		}
	}
	return false
}

// fieldOf is the name of the field of a column in the plan, or that of the column.
func (b *builder) fieldOf(t *plan.Target, column string) string {
	for i, f := range t.Grow.Fields {
		if c := t.Columns[i]; c != nil && !f.Inner && strings.EqualFold(c.Name, column) {
			return f.Name
		}
	}
	return column
}

// profile keeps one profile of an entity.
func (b *builder) profile(t *plan.Target, node *yaml.Node) error {
	profiles := get(node, "profiles")
	if b.request.Profile == "" {
		return nil
	}
	var known []string
	for _, p := range t.Plan.Profiles {
		known = append(known, p.Name)
	}
	if profiles == nil || !slices.Contains(known, b.request.Profile) {
		return unknown(t.Plan.Name+" has no profile", b.request.Profile, known)
	}
	chosen := get(profiles, b.request.Profile)
	set(chosen, "share", text("100%"))
	set(node, "profiles", mapping(b.request.Profile, chosen))
	return nil
}

// below plans rows of a child entity.
func (b *builder) below(t *plan.Target, x Below) error {
	c := b.compiled.Target(x.Entity)
	if c == nil || c.Grow.Parent != t.Grow {
		var known []string
		for _, o := range b.compiled.Targets {
			if o.Grow.Parent == t.Grow {
				known = append(known, o.Plan.Name)
			}
		}
		return unknown(t.Plan.Name+" has no child", x.Entity, known)
	}
	node := b.grown(c, x.Rows)
	return b.needs(c, child(node, "fields"))
}

// needs sees to what rows of an entity refer to: rows that are there, or rows that are grown. A reference that may be
// NULL is.
func (b *builder) needs(t *plan.Target, fields *yaml.Node) error {
	for i, f := range t.Grow.Fields {
		c := t.Columns[i]
		if sums := f.AddsUp(); sums != nil && !b.kept[b.targetOf(sums[len(sums)-1])] {
			set(fields, f.Name, mapping("value", number(0)))
			continue
		}
		to := b.targetOf(f.Target())
		if to == nil || c == nil || to == t || b.isNamed(t, i, c) {
			continue
		}
		isParent := to.Grow == t.Grow.Parent && b.isParent(t, f.Name)
		if !c.NotNull && !isParent {
			set(fields, f.Name, located(mapping("value", plain("null")), f.Name, c))
			continue
		}
		if b.kept[to] || b.found[to] != nil && isParent {
			continue
		}
		if err := b.provide(t, fields, f.Name, to); err != nil {
			return err
		}
	}
	return nil
}

// provide sees to a row that a field refers to: one that is there, or one that is grown.
func (b *builder) provide(t *plan.Target, fields *yaml.Node, name string, to *plan.Target) error {
	r, err := b.planned(to)
	switch {
	case err != nil:
		return err
	case r != nil:
		return b.refer(t, fields, name, to, *r)
	case b.written(to):
		return nil
	}
	node := b.grown(to, 1)
	return b.needs(to, child(node, "fields"))
}

// written plans the rows that the plan writes by hand, all of them, if an entity has no others; rows that are there are
// kept.
func (b *builder) written(t *plan.Target) bool {
	if len(t.Plan.Given) == 0 || t.Grow.Rows > 0 || t.Grow.Parent != nil {
		return false
	}
	keys := naturalKeys(t)
	if len(keys) == 0 {
		return false
	}
	b.kept[t] = true
	node := get(b.entities, t.Plan.Name)
	remove(node, "when")
	write := mapping("mode", text("keep"))
	set(write, "match", &yaml.Node{Kind: yaml.SequenceNode, Style: yaml.FlowStyle,
		Content: []*yaml.Node{text(b.fieldOf(t, keys[len(keys)-1].Name))}})
	set(node, "write", write)
	return true
}

// isNamed reports whether the request says what a field of the entity refers to.
func (b *builder) isNamed(t *plan.Target, i int, c *schema.Column) bool {
	return t.Plan.Name == b.out.Entity && slices.ContainsFunc(b.request.Values, func(v Value) bool {
		name := v.Field
		if name == "" {
			name, _ = b.under(t, v.Text)
		}
		at, of := b.column(t, name)
		return of == c && (at == i || at < 0)
	})
}

// keep plans a row that is in the database: it is not written again.
func (b *builder) keep(t *plan.Target, r lookup.Row) {
	if slices.ContainsFunc(b.found[t], func(o lookup.Row) bool { return o.Key() == r.Key() }) {
		return
	}
	if b.found[t] == nil {
		node := get(b.entities, t.Plan.Name)
		if node == nil { // of a plan that this one builds on
			node = &yaml.Node{Kind: yaml.MappingNode}
			set(b.entities, t.Plan.Name, node)
		}
		node.Content, node.Style = nil, 0
		set(node, "table", text(t.Table.Name))
		var key []*yaml.Node
		for _, k := range t.Table.PrimaryKey {
			key = append(key, text(b.fieldOf(t, k)))
		}
		write := mapping("mode", text("keep"))
		set(write, "match", &yaml.Node{Kind: yaml.SequenceNode, Style: yaml.FlowStyle, Content: key})
		set(node, "write", write)
		set(node, "given", &yaml.Node{Kind: yaml.MappingNode})
		b.out.Found = append(b.out.Found, t.Plan.Name)
	}
	b.found[t] = append(b.found[t], r)
	given := &yaml.Node{Kind: yaml.MappingNode, Style: yaml.FlowStyle}
	fields := child(get(b.entities, t.Plan.Name), "fields")
	for _, c := range t.Table.Columns {
		v, ok := r.Values[c.Name]
		if !ok || c.Generated {
			continue
		}
		name := b.fieldOf(t, c.Name)
		if schema.Plain(name) != schema.Plain(c.Name) {
			set(fields, name, located(mapping("value", literal(c, v)), name, c)) // which says the type
		}
		set(given, name, literal(c, v))
	}
	set(get(get(b.entities, t.Plan.Name), "given"), fmt.Sprintf("found%d", len(b.found[t])), given)
}

// unknown is the error of a name that means nothing.
func unknown(what, name string, known []string) error {
	hint := ""
	if near := diag.Nearest(name, known); near != "" {
		hint = "; did you mean " + near + "?"
	} else if len(known) > 0 {
		slices.Sort(known)
		hint = "; there are " + strings.Join(slices.Compact(known), ", ")
	}
	return diag.Usagef("%s %s%s", what, name, hint)
}
