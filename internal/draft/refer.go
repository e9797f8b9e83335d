package draft

import (
	"fmt"
	"slices"
	"strings"

	"evensprout/internal/grow"
	"evensprout/internal/predicate"
	"evensprout/internal/schema"
)

// reference is a foreign key, or a guess that a column is one.
type reference struct {
	*schema.Reference
	from    *Table
	to      *schema.Table // nil if the database does not have it
	guessed bool
	lead    *Field       // the field that picks the row; nil if the others tell it
	where   [][2]string  // fields of the row that is picked, and those of this row that they are equal to
	only    []grow.Value // what conditions leave of its key; nil: anything
}

// needed tells whether no row can be without the reference, and the database wants it
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

func (r *reference) known() *Table { return r.from.d.byTable[r.to] }

// key tells whether the reference is to the one column that tells the rows.
func (r *reference) key() bool {
	return len(r.Columns) == 1 && r.to != nil && len(r.to.PrimaryKey) == 1 && strings.EqualFold(r.to.PrimaryKey[0], r.Targets[0])
}

// references lists a table's foreign keys, those of more columns first: they decide
// about columns that they share with others.
func (t *Table) references() {
	for i := range t.Schema.References {
		r := &t.Schema.References[i]
		same := slices.ContainsFunc(t.refs, func(o *reference) bool {
			return o.to == r.To && slices.Equal(o.Columns, r.Columns) && slices.Equal(o.Targets, r.Targets)
		})
		if !same {
			t.refs = append(t.refs, &reference{Reference: r, from: t, to: r.To})
		}
	}
	slices.SortStableFunc(t.refs, func(a, b *reference) int { return len(b.Columns) - len(a.Columns) })
}

// families finds each table's parent: a reference that the rows cannot do without and
// go with, or the first half of a many-to-many table.
func (d *drafter) families() {
	for _, t := range d.tables {
		t.references()
		d.chunks = d.chunks || len(t.Schema.Triggers) > 0
	}
	if d.tangled() {
		return // tables that need each other are told later
	}
	for _, t := range d.tables {
		if len(t.refs) > 0 && len(t.refs[0].Columns) > 1 || t.Schema.Partition != "" {
			continue // its columns depend on each other
		}
		for _, r := range t.refs {
			if !t.child(r) || d.above(t, r.known()) {
				continue
			}
			if t.parent = r; d.tangled() {
				t.parent = nil
				continue
			}
			break
		}
	}
}

// child tells whether the rows of a table are planned per the row that a reference
// points to.
func (t *Table) child(r *reference) bool {
	if !r.key() || r.to == t.Schema || r.known() == nil || t.existing || r.known().existing || len(t.Schema.Exclusions) > 0 {
		return false
	}
	col := t.Schema.Column(r.Columns[0])
	if col == nil || !col.NotNull || t.Schema.IsKey(col.Name) || t.domains[col.Name] != nil || t.find(r.known().Entity) != nil {
		return false
	}
	if slices.ContainsFunc(t.refs, func(o *reference) bool { return o != r && slices.Contains(o.Columns, col.Name) }) {
		return false
	}
	// Keys with the parent in them must be kept by one more field, which is another's
	// reference or a number: several such keys would be too many.
	if t.d.targetedBy(t, func(o *reference) bool { return len(o.Columns) > 1 || strings.EqualFold(o.Targets[0], col.Name) }) {
		return false // others follow the reference, which has no name of its own
	}
	keys := 0
	for _, k := range t.Schema.Keys() {
		if !slices.Contains(k.Columns, col.Name) {
			if len(k.Columns) > 1 {
				return false
			}
			continue
		}
		keys++
		if k.Partial || t.sibling(k.Columns, r) == nil {
			return false
		}
	}
	joins := keys == 1 && len(t.Schema.PrimaryKey) > 1 && slices.Contains(t.Schema.PrimaryKey, col.Name)
	return keys <= 1 && (r.Cascade || joins)
}

// sibling is the field that keeps rows of one parent apart in a key of the parent and
// one other column.
func (t *Table) sibling(key []string, r *reference) *Field {
	if len(key) != 2 {
		return nil
	}
	other := key[0]
	if strings.EqualFold(other, r.Columns[0]) {
		other = key[1]
	}
	f := t.find(other)
	if f == nil || t.Schema.Reference(other) != nil && t.domains[other] != nil || !t.counts(f.Column) {
		return nil
	}
	if up := t.Schema.Reference(other); up != nil {
		for _, o := range t.refs {
			if o.Reference == up && o.known() != nil && o.to != t.Schema && o.to != r.to {
				return f
			}
		}
		return nil
	}
	if f.Column.Kind == schema.Integer && f.Column.Identity == schema.NoIdentity {
		return f
	}
	return nil
}

// head is the table at the head of a family.
func (t *Table) head() *Table {
	for t.parent != nil {
		t = t.parent.known()
	}
	return t
}

// tangled tells whether families need each other's rows first, or one its own.
func (d *drafter) tangled() bool {
	next := map[*Table][]*Table{}
	for _, t := range d.tables {
		for _, r := range t.refs {
			to := r.known()
			if to == nil || r == t.parent {
				continue
			}
			a, b := t.head(), to.head()
			if a == b && t != to {
				return true // another row of the family, maybe a later one
			}
			if a != b && (r.needed() || (d.chunks || !r.late()) && !d.closes(r)) {
				next[a] = append(next[a], b)
			}
		}
	}
	state := map[*Table]int{}
	var circle func(t *Table) bool
	circle = func(t *Table) bool {
		state[t] = 1
		for _, n := range next[t] {
			if state[n] == 1 || state[n] == 0 && circle(n) {
				return true
			}
		}
		state[t] = 2
		return false
	}
	for _, t := range d.tables {
		if h := t.head(); state[h] == 0 && circle(h) {
			return true
		}
	}
	return false
}

// counts tells whether a column takes the first numbers that children are given.
func (t *Table) counts(c *schema.Column) bool {
	d := t.domains[c.Name]
	if d == nil {
		return true
	}
	for n := range int64(mostChildren) {
		if !takes(c, d, grow.Int(n+1)) {
			return false
		}
	}
	return len(d.opaque) == 0
}

// above tells whether making up the parent of a table would close a circle, or make a
// family too deep.
func (d *drafter) above(t, up *Table) bool {
	const deepest = 3
	for depth := 0; up != nil; depth++ {
		if up == t || depth >= deepest {
			return true
		}
		if up.parent == nil {
			return false
		}
		up = up.parent.known()
	}
	return false
}

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
	giveUp := func(why string) {
		if nullable != nil {
			nullable.null(why)
			nullable.ref = r
			done[nullable.Column.Name] = true
		}
	}
	switch {
	case slices.ContainsFunc(r.Targets, func(c string) bool { return r.to != nil && r.to.Column(c) == nil }):
		giveUp("refers to a row by its place in " + r.Table)
		if nullable == nil {
			t.leave("it refers to rows of " + r.Table + " by their place, which no plan can tell")
		}
		return
	case len(open) == 0:
		return // the references that share its columns lead to the same rows
	case r.to == nil:
		giveUp("refers to " + r.Table + ", which is not there")
		if nullable == nil {
			t.leave("it refers to " + r.Table + ", which is not there")
		}
		return
	case r.known() == nil:
		giveUp("refers to " + r.Table + ", which is left out")
		if nullable == nil {
			t.leave("it refers to " + r.Table + ", which is left out")
		}
		return
	case r.to == t.Schema:
		t.referSelf(r, open, nullable, done)
		return
	}
	lead := t.leader(r, open)
	lead.ref, lead.lead, r.lead = r, true, lead
	done[lead.Column.Name] = true
	lead.Nulls = !lead.Column.NotNull && !t.nullsEqual(lead.Column) && !slices.Contains(t.Schema.Watched, lead.Column.Name)
	if k := t.domains[lead.Column.Name]; k != nil {
		switch {
		case k.Null && !lead.Column.NotNull:
			lead.null("a condition leaves nothing else")
			lead.ref = r
			done[lead.Column.Name] = true
			return
		case k.Only != nil:
			r.only = k.Values()
		}
		lead.Nulls = lead.Nulls && !k.NotNull
	}
	for i, name := range r.Columns {
		f := t.find(name)
		if f == lead {
			continue
		}
		if f.Column.NotNull && f.ref == nil {
			lead.Nulls = false // what follows it may not be NULL
		}
		if !done[f.Column.Name] {
			f.ref = r
			f.Source = Source{Text: fmt.Sprintf("{same: %s.%s}", lead.Name, r.known().fieldName(r.Targets[i])), Follows: true}
			done[f.Column.Name] = true
			continue
		}
		r.where = append(r.where, [2]string{r.known().fieldName(r.Targets[i]), f.Name})
	}
	if len(r.where) > 0 && lead.Column.NotNull {
		there := &predicate.Node{Op: predicate.Not, Args: []*predicate.Node{{Op: predicate.IsNull, Args: []*predicate.Node{{Op: predicate.Column, Name: lead.Column.Name}}}}}
		t.Meets = append(t.Meets, Condition{Text: there.String(), From: "a row that " + lead.Name + " can refer to"})
	}
}

// leader is the field by which a row is picked: one that no other reference wants.
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
	best := open[len(open)-1]
	for _, f := range open {
		if wanted(f) < wanted(best) {
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
		f.Comment = "itself: some row must refer to itself"
		done[f.Column.Name] = true
	}
}

func (t *Table) fieldName(column string) string {
	if f := t.find(column); f != nil {
		return f.Name
	}
	return column
}

// leaveWhatNeedsOthers takes out tables that need rows of tables that need theirs, or
// that are left out.
func (d *drafter) leaveWhatNeedsOthers() {
	for {
		before := len(d.tables)
		d.cutCircles()
		for _, t := range slices.Clone(d.tables) {
			for _, r := range t.refs {
				if r.needed() && r.lead != nil && r.known() == nil {
					t.leave("it refers to " + r.Table + ", which is left out")
				} else if r.needed() && d.needs(r.known(), t, map[*Table]bool{}) {
					t.leave(fmt.Sprintf("it and %s need rows of each other first, and neither reference may be NULL or put off", r.Table))
				}
				if d.byTable[t.Schema] == nil {
					break
				}
			}
		}
		if len(d.tables) == before {
			return
		}
		for _, t := range d.tables {
			for _, f := range t.Fields {
				if f.lead && f.ref.known() == nil {
					if f.Column.NotNull {
						t.leave("it refers to " + f.ref.Table + ", which is left out")
						break
					}
					f.ref.giveUp("refers to " + f.ref.Table + ", which is left out")
				}
			}
		}
	}
}

// giveUp makes a reference refer to nothing.
func (r *reference) giveUp(why string) {
	t := r.from
	for _, name := range r.Columns {
		f := t.find(name)
		switch {
		case f == nil || f.ref != r:
		case f == r.lead || !f.Column.NotNull:
			f.null(why)
			f.lead = false
		default: // a value of its own: as another is NULL, it refers to nothing
			f.Source, f.ref = Source{}, nil
		}
	}
	r.lead = nil
}

// cutCircles gives up references that close a circle and could be filled in only
// afterwards, where rows have no key of one column to find them by.
func (d *drafter) cutCircles() {
	for _, t := range d.tables {
		for _, r := range t.refs {
			if !d.chunks && r.late() || r.lead == nil || r.lead.Column.NotNull || r.to == t.Schema || r == t.parent {
				continue
			}
			if d.closes(r) {
				why := "closes a circle, and no single key tells the rows in which it could be filled in at the end"
				if d.chunks {
					why = fmt.Sprintf("closes a circle: {pick: %s} needs commit: load", r.known().Entity)
				}
				r.giveUp(why)
			}
		}
	}
}

// late tells whether a reference can be filled in at the end of a load, by the key of
// its row.
func (r *reference) late() bool {
	return r.guessed || len(r.from.Schema.PrimaryKey) == 1 && len(r.Columns) == 1
}

// closes tells whether a reference is part of a circle of tables.
func (d *drafter) closes(r *reference) bool {
	return !r.needed() && d.reaches(r.known(), r.from, map[*Table]bool{})
}

// reaches tells whether references lead from a table to another.
func (d *drafter) reaches(t, other *Table, seen map[*Table]bool) bool {
	if t == other {
		return true
	}
	if t == nil || seen[t] {
		return false
	}
	seen[t] = true
	return slices.ContainsFunc(t.refs, func(r *reference) bool { return r.known() != nil && d.reaches(r.known(), other, seen) })
}

// needs tells whether rows of a table need rows of another before.
func (d *drafter) needs(t, other *Table, seen map[*Table]bool) bool {
	if t == other {
		return true
	}
	if t == nil || seen[t] {
		return false
	}
	seen[t] = true
	for _, r := range t.refs {
		if r.needed() && r.known() != nil && d.needs(r.known(), other, seen) {
			return true
		}
	}
	return false
}
