package draft

import (
	"cmp"
	"slices"

	"evensprout/internal/lexicon"
	"evensprout/internal/schema"
)

// actors are notions of tables to which rows refer for what somebody does: the author of a comment is not that of the
// article.
var actors = []string{"user", "author", "employee", "member", "person", "player", "sender", "recipient", "agent",
	"manager", "owner", "teacher", "driver"}

// shareAncestors lets two ways to the same row agree: the customer of an invoice is that of its order, and its tenant,
// too.
func (d *drafter) shareAncestors() {
	tables := slices.Clone(d.tables)
	slices.SortStableFunc(tables, func(a, b *Table) int { return cmp.Compare(a.level(nil), b.level(nil)) })
	for _, t := range tables {
		for _, r := range t.refs {
			if !t.existing && t.mayFollow(r) {
				t.followAncestor(r)
			}
		}
	}
}

// mayFollow reports whether a reference picks freely a row that another one may lead to, too.
func (t *Table) mayFollow(r *reference) bool {
	f := r.lead
	if f == nil || !f.lead || r == t.parent || len(r.Columns) != 1 || r.to == t.Schema || r.known() == nil ||
		r.known().existing || !f.Column.NotNull || f.Source.Text == "distinct" || t.inKey(f) || r.only != nil {
		return false
	}
	if lexicon.Of(r.to.LocalName()).Says(actors...) || lexicon.Of(f.Column.Name).Says(actors...) {
		return false
	}
	return !slices.ContainsFunc(t.refs, func(o *reference) bool {
		return slices.ContainsFunc(o.where, func(w [2]string) bool { return w[1] == f.Name })
	})
}

// followAncestor lets a reference lead to the row to which the row of another reference leads.
func (t *Table) followAncestor(r *reference) {
	var best *reference
	path := ""
	for _, by := range t.refs {
		via := by.known()
		if by == r || via == nil || via == t || via.existing || via == r.known() || by.lead != nil && by.lead.Nulls ||
			by.lead == nil && by != t.parent || by.lead != nil && !by.lead.lead || !by.key() {
			continue
		}
		if best != nil && best.known().level(nil) >= via.level(nil) {
			continue
		}
		if name, next := via.wayTo(r); name != "" && !next.leadsTo(r.lead) {
			best, path, r.lead.follows = by, name, next
		}
	}
	if best == nil {
		return
	}
	first := best.known().Entity
	if best != t.parent {
		first = best.lead.Name
	}
	f := r.lead
	f.lead, f.Nulls, f.Unique = false, false, false
	f.Source = Source{Text: "{same: " + quoteField(first) + "." + quoteField(path) + "}", Follows: true}
}

// leadsTo reports whether a field has its value from another one, by way of those that it follows.
func (f *Field) leadsTo(other *Field) bool {
	for ; f != nil; f = f.follows {
		if f == other {
			return true
		}
	}
	return false
}

// wayTo is the field by which rows refer to what another table's reference refers to, under the same name or as the
// only one; empty if there is none, or if it may be NULL. The field is nil where the way leads to the parent.
func (t *Table) wayTo(r *reference) (string, *Field) {
	var same []*reference
	for _, o := range t.refs {
		if o.to == r.to && len(o.Columns) == 1 && slices.Equal(o.Targets, r.Targets) {
			same = append(same, o)
		}
	}
	i := slices.IndexFunc(same, func(o *reference) bool {
		return schema.Plain(o.Columns[0]) == schema.Plain(r.Columns[0])
	})
	others := slices.ContainsFunc(r.from.refs, func(o *reference) bool { return o != r && o.to == r.to })
	if i < 0 && (len(same) != 1 || others) {
		return "", nil
	}
	o := same[max(i, 0)]
	c := t.Schema.Column(o.Columns[0])
	switch {
	case c == nil || !c.NotNull:
		return "", nil
	case o == t.parent:
		return o.known().Entity, nil
	case o.lead != nil:
		return o.lead.Name, o.lead
	}
	return "", nil
}
