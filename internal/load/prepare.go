package load

import (
	"slices"
	"strings"

	"evensprout/internal/grow"
	"evensprout/internal/order"
	"evensprout/internal/plan"
	"evensprout/internal/schema"
	"evensprout/internal/store"
)

// Check holds a compiled plan against what an engine can do. The error is
// plan.Problems.
func Check(c *plan.Compiled, traits store.Traits, o Options) error {
	if o.Commit == "" {
		o.Commit = c.Plan.Commit
	}
	l := &loader{plan: c, o: o, order: order.Of(c), traits: traits}
	return l.prepare()
}

// prepare works out how each entity is written.
func (l *loader) prepare() error {
	l.loose = nil
	l.targets, l.byGrow, l.list = map[*plan.Target]*target{}, map[*grow.Entity]*target{}, nil
	var problems plan.Problems
	for _, pt := range l.order.Targets() {
		t := &target{Target: pt, unkeyed: pt.Plan.DatabaseKeys}
		l.targets[pt], l.byGrow[pt.Grow] = t, t
		l.list = append(l.list, t)
		if pt.Grow.Key != nil {
			t.key = pt.Columns[slices.Index(pt.Grow.Fields, pt.Grow.Key)]
		}
		if t.unkeyed && (t.key == nil || !t.key.Default) {
			p := l.plan.Problem(pt.Plan, "keys: database: the table %s gives no keys by itself", pt.Table.Name)
			p.Hint = "leave keys: database out, so that keys are planned"
			problems = append(problems, p)
		}
		problems = append(problems, l.prepareWrite(t)...)
	}
	for _, t := range l.list {
		for i, f := range t.Grow.Fields {
			to := l.byGrow[f.Target()]
			if f.AddsUp() != nil && !f.Inner {
				t.sums = true
			}
			if to == nil || f.Inner {
				continue
			}
			t.refs = append(t.refs, i)
			if f.Stored() == to.Grow.Key {
				to.referred = true
			}
		}
	}
	problems = append(problems, l.prepareLate()...)
	for _, t := range l.list {
		if t.Write.Mode == plan.Replace && l.o.Commit != plan.CommitLoad {
			problems = append(problems, l.plan.Problem(t.Plan, "replace empties %s and fills it in one transaction, so it needs commit: load", t.Table.Name))
		}
		for _, f := range t.Grow.Fields {
			if _, ok := f.File(); ok && l.o.Commit != plan.CommitLoad {
				problems = append(problems, l.plan.Problem(t.Plan, "%s.%s makes files, which appear when everything is committed, so it needs commit: load", t.Plan.Name, f.Name))
			}
		}
	}
	if len(problems) > 0 {
		return problems
	}
	return nil
}

func (l *loader) prepareWrite(t *target) plan.Problems {
	into := store.Into{Table: t.Table}
	for i, col := range t.Columns {
		if col == nil || col.Generated || t.unkeyed && col == t.key {
			continue
		}
		into.Columns, into.Fields = append(into.Columns, col), append(into.Fields, i)
	}
	r := t.Write
	t.write = store.Write{Into: into, Mode: store.Mode(r.Mode), Match: r.Match, Set: r.Set, Stamp: r.Stamp}
	for i, col := range into.Columns {
		// What an update does not touch need not fit.
		if r.Mode != plan.Update || slices.Contains(r.Match, col) || slices.Contains(r.Set, col) || slices.Contains(r.Stamp, col) {
			t.checked = append(t.checked, i)
		}
	}
	t.distinct = true
	for _, key := range t.Table.Keys() {
		t.distinct = t.distinct && !key.Partial && t.keeps(key.Columns)
	}
	var match []string
	for _, col := range r.Match {
		match = append(match, col.Name)
	}
	t.write.Distinct = t.keeps(match)
	for _, col := range r.Match {
		if t.unkeyed && col == t.key {
			return plan.Problems{l.plan.Problem(t.Plan, "the database gives the keys of %s, so rows cannot be recognised by them", t.Table.Name)}
		}
	}
	return nil
}

// keeps tells whether the plan's own fields keep some columns unique together.
func (t *target) keeps(columns []string) bool {
	var fields []*grow.Field
	for _, name := range columns {
		i := slices.IndexFunc(t.Columns, func(c *schema.Column) bool { return c != nil && strings.EqualFold(c.Name, name) })
		if i < 0 {
			return false
		}
		fields = append(fields, t.Grow.Fields[i])
	}
	return len(fields) > 0 && grow.Grouped(fields)
}

// prepareLate decides how circles are closed: the engine looks at the reference only
// at the commit, or it is NULL first and written at the end.
func (l *loader) prepareLate() plan.Problems {
	var problems plan.Problems
	for _, late := range l.order.Late {
		t := l.targets[late.Target]
		field, col := t.Grow.Fields[late.Field], t.Columns[late.Field]
		if col == nil {
			continue
		}
		if l.o.Commit != plan.CommitLoad {
			problems = append(problems, l.plan.Problem(t.Plan, "%s.%s may refer to a row that comes later, in another chunk: that needs commit: load", t.Plan.Name, field.Name))
			continue
		}
		r := t.Table.Reference(col.Name)
		if r == nil {
			r = t.Table.WideReference(col.Name)
		}
		switch {
		case r == nil:
		case l.traits.DefersAll || r.Deferrable:
			l.defers = true
		case !col.NotNull && t.key != nil && !t.unkeyed:
			t.late = append(t.late, late.Field)
		case l.traits.Loosens && !slices.ContainsFunc(l.list, func(t *target) bool { return t.Write.Mode == plan.Replace }):
			l.defers, l.loose = true, append(l.loose, store.Loose{Table: t.Table, Reference: r})
		default:
			p := l.plan.Problem(t.Plan, "%s.%s closes a circle of references, and %s is NOT NULL and is looked at at once", t.Plan.Name, field.Name, col.Name)
			p.Hint = "let the column be NULL, so that it is filled in at the end, or make the reference DEFERRABLE"
			problems = append(problems, p)
		}
	}
	return problems
}

// policy is what to do about a violation of an entity's rows.
func (l *loader) policy(t *target, kind store.ViolationKind) plan.Policy {
	for _, p := range []plan.Policies{l.o.Policies, t.Plan.OnViolation, l.plan.Plan.OnViolation} {
		for _, name := range []string{string(kind), plan.AllKinds} {
			if policy, ok := p[name]; ok && (kind != store.RowCount || name != plan.AllKinds) {
				return policy
			}
		}
	}
	if kind == store.RowCount {
		return plan.Skip // an update's row that is not there is told, and stops nothing
	}
	if kind == store.Unique && l.plan.Shift != nil {
		return plan.Redraw // what is unique among picks changes with the rows to pick from
	}
	return plan.Stop
}
