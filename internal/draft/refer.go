package draft

import (
	"fmt"
	"slices"
	"strings"

	"evensprout/internal/predicate"
	"evensprout/internal/schema"
	"evensprout/internal/value"
)

// reference is a foreign key, or a guess that a column is one.
type reference struct {
	*schema.Reference
	from    *Table
	to      *schema.Table // nil if the database does not have it
	guessed bool
	lead    *Field      // the field that picks the row; nil if the others tell it
	where   [][2]string // fields of the row that is picked, and those of this row that they are equal to
	skew    string      // how unevenly rows are picked, if that was learned
	only    []only      // what columns of the picked row must hold, as conditions on columns of the reference say
}

// needed reports whether no row can be without the reference, and the database wants it
// at once.
func (r *reference) needed() bool {
	if r.to == nil || r.to == r.from.Schema || r.Deferrable || r.guessed {
		return false
	}
	for _, name := range r.Columns {
		if c := r.from.Schema.Column(name); c == nil || !c.NotNull {
			return false
		}
	}
	return true
}

// known returns the table that is referred to; nil if it is left out.
func (r *reference) known() *Table { return r.from.d.byTable[r.to] }

// key reports whether the reference is to the one column that tells the rows.
func (r *reference) key() bool {
	return len(r.Columns) == 1 && r.to != nil && len(r.to.PrimaryKey) == 1 &&
		strings.EqualFold(r.to.PrimaryKey[0], r.Targets[0])
}

// references lists a table's foreign keys, those of more columns first: they decide
// about columns that they share with others.
func (t *Table) references() {
	for i := range t.Schema.References {
		r := &t.Schema.References[i]
		if slices.ContainsFunc(r.Columns, t.without) {
			continue
		}
		same := slices.ContainsFunc(t.refs, func(o *reference) bool {
			return o.to == r.To && slices.Equal(o.Columns, r.Columns) && slices.Equal(o.Targets, r.Targets)
		})
		if !same {
			t.refs = append(t.refs, &reference{Reference: r, from: t, to: r.To})
		}
	}
	slices.SortStableFunc(t.refs, func(a, b *reference) int { return len(b.Columns) - len(a.Columns) })
}

// without reports whether the draft leaves a column out.
func (t *Table) without(column string) bool { return t.d.Found.Avoid[t.Schema.Column(column)] != "" }

// refer decides for each foreign key which field picks the row, and which fields
// follow it.
func (t *Table) refer() {
	done := map[string]bool{}
	if t.parent != nil {
		done[t.parent.Columns[0]] = true
		t.find(t.parent.Columns[0]).ref = t.parent
	}
	for _, r := range t.refs {
		if r == t.parent {
			continue
		}
		t.referBy(r, done)
	}
}

// referBy gives the columns of a reference their sources.
func (t *Table) referBy(r *reference, done map[string]bool) {
	var open []*Field
	nullable := (*Field)(nil)
	for _, name := range r.Columns {
		f := t.find(name)
		if f == nil {
			return // a computed column: whatever it holds
		}
		if !done[f.Column.Name] {
			open = append(open, f)
			if !f.Column.NotNull {
				nullable = f
			}
		}
	}

	giveUp := func(comment, reason string) {
		if nullable == nil {
			t.leave(reason)
			return
		}
		nullable.null(comment)
		nullable.ref = r
		done[nullable.Column.Name] = true
	}
	switch {
	case slices.ContainsFunc(r.Targets, func(c string) bool { return r.to != nil && r.to.Column(c) == nil }):
		giveUp("refers to a row by its position in "+r.Table,
			"it refers to rows of "+r.Table+" by their position, which a plan cannot know")
		return
	case len(open) == 0:
		return // the references that share its columns lead to the same rows
	case r.to == nil:
		giveUp("refers to "+r.Table+", which does not exist", "it refers to "+r.Table+", which does not exist")
		return
	case r.known() == nil:
		giveUp("refers to "+r.Table+", which is left out", "it refers to "+r.Table+", which is left out")
		return
	case r.to == t.Schema:
		t.referSelf(r, open, nullable, done)
		return
	}
	t.referThere(r, t.leader(r, open), done)
}

// referThere gives a reference to another table its sources: the leading field picks a
// row, and the others follow it or say which rows it may pick.
func (t *Table) referThere(r *reference, lead *Field, done map[string]bool) {
	lead.ref, lead.lead, r.lead = r, true, lead
	done[lead.Column.Name] = true
	lead.Nulls = !lead.Column.NotNull && !t.nullsEqual(lead.Column) &&
		!slices.Contains(t.Schema.Watched, lead.Column.Name)
	if k := t.domains[lead.Column.Name]; k != nil {
		switch {
		case k.Null && !lead.Column.NotNull:
			lead.null("a condition allows nothing else")
			lead.ref = r
			done[lead.Column.Name] = true
			return
		case k.Only != nil:
			r.only = append(r.only, only{lead, r.targetOf(lead), k.Values()})
		}
		lead.Nulls = lead.Nulls && !k.NotNull
	}
	t.pickAccepted(r)

	t.followLead(r, done)
	if len(r.where) > 0 && lead.Column.NotNull {
		there := &predicate.Node{
			Op: predicate.Not,
			Args: []*predicate.Node{
				{Op: predicate.IsNull, Args: []*predicate.Node{{Op: predicate.Column, Name: lead.Column.Name}}},
			},
		}
		t.Meets = append(t.Meets, there.String())
	}
}

// followLead gives the other columns of a reference their sources: one that is free follows the row
// that the leading field picks; one that has a source says which rows may be picked.
func (t *Table) followLead(r *reference, done map[string]bool) {
	lead := r.lead
	for i, name := range r.Columns {
		f := t.find(name)
		if f == lead {
			continue
		}
		if f.Column.NotNull && f.ref == nil {
			lead.Nulls = false // what follows it may not be NULL
		}
		if !done[f.Column.Name] {
			if k := t.domains[f.Column.Name]; k != nil && k.Only != nil {
				r.only = append(r.only, only{f, r.Targets[i], k.Values()})
			}
			f.ref = r
			f.Source = Source{
				Text:    fmt.Sprintf("{same: %s.%s}", lead.Name, r.known().fieldName(r.Targets[i])),
				Follows: true,
			}
			done[f.Column.Name] = true
			continue
		}
		r.where = append(r.where, [2]string{r.known().fieldName(r.Targets[i]), f.Name})
	}
}

// only is values of a column of picked rows, and the field that has the same.
type only struct {
	field  *Field
	target string
	values []value.Value
}

// targetOf is the column that a field of the reference refers to.
func (r *reference) targetOf(f *Field) string {
	return r.Targets[slices.IndexFunc(r.Columns, func(c string) bool { return strings.EqualFold(c, f.Column.Name) })]
}

// leader is the field by which a row is picked: one that no other reference wants, and
// rather a key that refers to a key.
func (t *Table) leader(r *reference, open []*Field) *Field {
	wanted := func(f *Field) int {
		n := 0
		for _, o := range t.refs {
			if slices.Contains(o.Columns, f.Column.Name) {
				n++
			}
		}
		return n
	}
	keys := func(f *Field) bool { return t.Schema.IsKey(f.Column.Name) && r.to.IsKey(r.targetOf(f)) }
	best := open[len(open)-1]
	for _, f := range open {
		if wanted(f) < wanted(best) || wanted(f) == wanted(best) && keys(f) && !keys(best) {
			best = f
		}
	}
	return best
}

// referSelf is a reference to rows of the same table: to an earlier one, to none, or,
// where there must be one, to the row itself.
func (t *Table) referSelf(r *reference, open []*Field, nullable *Field, done map[string]bool) {
	switch {
	case len(r.Columns) == 1 && nullable != nil && t.parent == nil:
		f := open[0]
		f.ref, f.lead, r.lead, f.Nulls = r, true, f, true
		done[f.Column.Name] = true
		return
	case nullable != nil:
		nullable.null("refers to another row of " + t.Schema.LocalName())
		nullable.ref = r
		done[nullable.Column.Name] = true
		return
	}
	for i, name := range r.Columns {
		f := t.find(name)
		if done[f.Column.Name] || strings.EqualFold(name, r.Targets[i]) {
			continue
		}
		f.ref = r
		f.Source = Source{Text: fmt.Sprintf("{same: %s}", t.fieldName(r.Targets[i])), Follows: true, Own: r.Targets[i]}
		f.Comment = "some row must refer to itself"
		done[f.Column.Name] = true
	}
}

// fieldName is the name of a column's field.
func (t *Table) fieldName(column string) string {
	if f := t.find(column); f != nil {
		return f.Name
	}
	return column
}
