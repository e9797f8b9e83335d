package load

import (
	"slices"
	"strings"

	"evensprout/internal/diag"
	"evensprout/internal/grow"
	"evensprout/internal/order"
	"evensprout/internal/plan"
	"evensprout/internal/schema"
	"evensprout/internal/store"
)

// Check holds a compiled plan against what an engine can do. The error is
// diag.Problems.
func Check(c *plan.Compiled, traits store.Traits, o Options) error {
	if o.Commit == "" {
		o.Commit = c.Plan.Commit
	}
	l := &Session{Plan: c, Options: o, Order: order.Of(c), Traits: traits}
	return l.prepare()
}

// prepare works out how each entity is written.
func (l *Session) prepare() error {
	l.Loose = nil
	l.Targets, l.ByGrow, l.List = map[*plan.Target]*Target{}, map[*grow.Entity]*Target{}, nil
	var problems diag.Problems
	for _, pt := range l.Order.Targets() {
		t := &Target{Target: pt, Unkeyed: pt.Plan.DatabaseKeys}
		l.Targets[pt], l.ByGrow[pt.Grow] = t, t
		l.List = append(l.List, t)
		if pt.Grow.Key != nil {
			t.Key = pt.Columns[slices.Index(pt.Grow.Fields, pt.Grow.Key)]
		}
		if t.Unkeyed && (t.Key == nil || !t.Key.Default) {
			p := l.Plan.Problem(pt.Plan, "keys: database: the table %s does not assign keys", pt.Table.Name)
			p.Hint = "remove keys: database, so that the plan assigns keys"
			problems = append(problems, p)
		}
		problems = append(problems, l.prepareWrite(t)...)
	}

	for _, t := range l.List {
		for i, f := range t.Grow.Fields {
			to := l.ByGrow[f.Target()]
			if f.AddsUp() != nil && !f.Inner {
				t.Sums = true
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
	for _, t := range l.List {
		if t.Write.Mode == plan.Replace && l.Options.Commit != plan.CommitLoad {
			problems = append(
				problems,
				l.Plan.Problem(
					t.Plan,
					"replace empties and fills %s in one transaction, so it needs commit: load",
					t.Table.Name,
				),
			)
		}
		for _, f := range t.Grow.Fields {
			if _, ok := f.File(); ok && l.Options.Commit != plan.CommitLoad {
				problems = append(
					problems,
					l.Plan.Problem(
						t.Plan,
						"%s.%s creates files, which appear at the commit, so it needs commit: load",
						t.Plan.Name,
						f.Name,
					),
				)
			}
		}
	}

	if len(problems) > 0 {
		return problems
	}
	return nil
}

// prepareWrite settles how an entity's rows are written, and tells what stands against it.
func (l *Session) prepareWrite(t *Target) diag.Problems {
	into := store.Into{Table: t.Table}
	for i, col := range t.Columns {
		if col == nil || col.Generated || t.Unkeyed && col == t.Key {
			continue
		}
		into.Columns, into.Fields = append(into.Columns, col), append(into.Fields, i)
	}

	r := t.Write
	t.Writes = store.Write{Into: into, Mode: store.Mode(r.Mode), Match: r.Match, Set: r.Set, Stamp: r.Stamp}
	for i, col := range into.Columns {
		// What an update does not touch need not fit.
		if r.Mode != plan.Update || slices.Contains(r.Match, col) || slices.Contains(r.Set, col) ||
			slices.Contains(r.Stamp, col) {
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
	t.Writes.Distinct = t.keeps(match)
	for _, col := range r.Match {
		if t.Unkeyed && col == t.Key {
			return diag.Problems{
				l.Plan.Problem(
					t.Plan,
					"the database assigns the keys of %s, so they cannot identify rows",
					t.Table.Name,
				),
			}
		}
	}
	return nil
}

// keeps reports whether the plan's own fields keep some columns unique together.
func (t *Target) keeps(columns []string) bool {
	var fields []*grow.Field
	for _, name := range columns {
		i := slices.IndexFunc(
			t.Columns,
			func(c *schema.Column) bool { return c != nil && strings.EqualFold(c.Name, name) },
		)
		if i < 0 {
			return false
		}
		fields = append(fields, t.Grow.Fields[i])
	}
	return len(fields) > 0 && grow.Grouped(fields)
}

// prepareLate decides how circles are closed: the engine looks at the reference only
// at the commit, or it is NULL first and written at the end.
func (l *Session) prepareLate() diag.Problems {
	var problems diag.Problems
	for _, late := range l.Order.Late {
		t := l.Targets[late.Target]
		field, col := t.Grow.Fields[late.Field], t.Columns[late.Field]
		if col == nil {
			continue
		}
		if l.Options.Commit != plan.CommitLoad {
			problems = append(
				problems,
				l.Plan.Problem(
					t.Plan,
					"%s.%s may refer to a row in a later chunk: that needs commit: load",
					t.Plan.Name,
					field.Name,
				),
			)
			continue
		}
		r := t.Table.Reference(col.Name)
		if r == nil {
			r = t.Table.WideReference(col.Name)
		}
		switch {
		case r == nil:
		case l.Traits.DefersAll || r.Deferrable:
			l.defers = true
		case !col.NotNull && t.Key != nil && !t.Unkeyed:
			t.Late = append(t.Late, late.Field)
		case l.Traits.Loosens && !slices.ContainsFunc(l.List,
			func(t *Target) bool { return t.Write.Mode == plan.Replace }):
			l.defers, l.Loose = true, append(l.Loose, store.Loose{Table: t.Table, Reference: r})
		default:
			p := l.Plan.Problem(
				t.Plan,
				"%s.%s closes a circle of references, and %s is NOT NULL and not deferrable",
				t.Plan.Name,
				field.Name,
				col.Name,
			)
			p.Hint = "allow NULL in the column, so that it can be filled in at the end, or make the reference " +
				"DEFERRABLE"
			problems = append(problems, p)
		}
	}
	return problems
}

// LoosenCircles puts off all references of circles of which one is put off already, if rows go by ON DELETE CASCADE
// there: others that go later may still refer to them.
func (l *Session) LoosenCircles() {
	if !l.defers || l.Traits.DefersAll || !l.Traits.Loosens {
		return
	}
	next := l.referredTables()
	var loose []store.Loose
	cascades := false
	for _, t := range l.List {
		for i := range t.Table.References {
			r := &t.Table.References[i]
			if !slices.Contains(next[t.Table], r.To) || !leads(next, r.To, t.Table, map[*schema.Table]bool{}) {
				continue
			}
			cascades = cascades || r.Cascade
			known := slices.ContainsFunc(l.Loose, func(x store.Loose) bool { return x.Reference == r })
			if !r.Deferrable && !known {
				loose = append(loose, store.Loose{Table: t.Table, Reference: r})
			}
		}
	}
	if cascades {
		l.Loose = append(l.Loose, loose...)
	}
}

// referredTables are the plan's tables that each of them refers to.
func (l *Session) referredTables() map[*schema.Table][]*schema.Table {
	next := map[*schema.Table][]*schema.Table{}
	for _, t := range l.List {
		next[t.Table] = nil
	}
	for of := range next {
		for _, r := range of.References {
			if _, ours := next[r.To]; ours {
				next[of] = append(next[of], r.To)
			}
		}
	}
	return next
}

// leads reports whether a way along references leads from a table to another.
func leads(next map[*schema.Table][]*schema.Table, from, to *schema.Table, seen map[*schema.Table]bool) bool {
	if from == to {
		return true
	}
	if seen[from] {
		return false
	}
	seen[from] = true
	return slices.ContainsFunc(next[from], func(t *schema.Table) bool { return leads(next, t, to, seen) })
}

// Policy is what to do about a violation of an entity's rows.
func (l *Session) Policy(t *Target, kind store.ViolationKind) plan.Policy {
	for _, p := range []plan.Policies{l.Options.Policies, t.Plan.OnViolation, l.Plan.Plan.OnViolation} {
		for _, name := range []string{string(kind), plan.AllKinds} {
			if policy, ok := p[name]; ok && (kind != store.RowCount || name != plan.AllKinds) {
				return policy
			}
		}
	}
	if kind == store.RowCount {
		return plan.Skip // an update's row that is not there is told, and stops nothing
	}
	if kind == store.Unique && l.Plan.Shift != nil {
		return plan.Redraw // what is unique among picks changes with the rows to pick from
	}
	return plan.Stop
}
