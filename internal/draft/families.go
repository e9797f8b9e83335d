package draft

import (
	"slices"
	"strings"

	"evensprout/internal/schema"
	"evensprout/internal/value"
)

// families finds each table's parent: a reference that the rows cannot do without and
// go with, or the first half of a many-to-many table.
func (d *drafter) families() {
	for _, t := range d.tables {
		t.references()
		d.chunks = d.chunks || t.Schema.Raises
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

// keysWith counts the keys with the column of a reference in them; false if one of them, or
// another of several columns, would not be kept by the rows of a parent.
func (t *Table) keysWith(col *schema.Column, r *reference) (n int, kept bool) {
	for _, k := range t.Schema.Keys() {
		if !slices.Contains(k.Columns, col.Name) {
			if len(k.Columns) > 1 {
				return 0, false
			}
			continue
		}
		n++
		if k.Partial || t.sibling(k.Columns, r) == nil {
			return 0, false
		}
	}
	return n, true
}

// child reports whether the rows of a table are planned per the row that a reference
// points to.
func (t *Table) child(r *reference) bool {
	if !r.key() || r.to == t.Schema || r.known() == nil || t.existing || r.known().existing ||
		len(t.Schema.Exclusions) > 0 {
		return false
	}
	col := t.Schema.Column(r.Columns[0])
	if !t.isFreeReference(col, r) || t.find(r.known().Entity) != nil {
		return false
	}

	// Keys with the parent in them must be kept by one more field, which is another's
	// reference or a number: several such keys would be too many.
	if t.d.targetedBy(
		t,
		func(o *reference) bool { return len(o.Columns) > 1 || strings.EqualFold(o.Targets[0], col.Name) },
	) {
		return false // others follow the reference, which has no name of its own
	}
	keys, kept := t.keysWith(col, r)
	if !kept {
		return false
	}
	joins := keys == 1 && len(t.Schema.PrimaryKey) > 1 && slices.Contains(t.Schema.PrimaryKey, col.Name)
	return keys <= 1 && (r.Cascade || joins)
}

// isFreeReference reports whether a column must refer to something, and no key, condition or other
// reference has a say in what.
func (t *Table) isFreeReference(c *schema.Column, r *reference) bool {
	return c != nil && c.NotNull && !t.Schema.IsKey(c.Name) && t.domains[c.Name] == nil &&
		len(t.d.Found.Picked[c]) == 0 &&
		!slices.ContainsFunc(t.refs, func(o *reference) bool { return o != r && slices.Contains(o.Columns, c.Name) })
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

// tangled reports whether families need each other's rows first, or one its own.
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
	return hasCircle(next)
}

// hasCircle reports whether a way along the arrows of a graph leads back to where it began.
func hasCircle(next map[*Table][]*Table) bool {
	const underway, done = 1, 2
	state := map[*Table]int{}
	var circle func(t *Table) bool
	circle = func(t *Table) bool {
		state[t] = underway
		for _, n := range next[t] {
			if state[n] == underway || state[n] == 0 && circle(n) {
				return true
			}
		}
		state[t] = done
		return false
	}
	for t := range next {
		if state[t] == 0 && circle(t) {
			return true
		}
	}
	return false
}

// counts reports whether a column takes the first numbers that children are given.
func (t *Table) counts(c *schema.Column) bool {
	d := t.domains[c.Name]
	if d == nil {
		return true
	}
	for n := range int64(mostChildren) {
		if !takes(c, d, value.Int(n+1)) {
			return false
		}
	}
	return len(d.opaque) == 0
}

// above reports whether making up the parent of a table would close a circle, or make a
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
