package draft

import (
	"fmt"
	"math"
	"slices"
	"strings"

	"evensprout/internal/lexicon"
	"evensprout/internal/predicate"
	"evensprout/internal/schema"
	"evensprout/internal/sources"
)

// key is columns that must differ from row to row, taken together.
type key struct {
	fields  []*Field
	where   string // which rows it binds, if not all
	derived bool   // it is over a computed column
}

// count decides how many rows each table gets, and which fields keep its keys.
func (d *drafter) count(tables []*Table) {
	for _, t := range tables {
		t.Rows = t.wish()
	}
	const passes = 20 // rows only get fewer, and mostly settle at once
	for range passes {
		changed := false
		for _, t := range tables {
			if t.existing {
				continue
			}
			before := t.Rows
			t.keep()
			if t.Rows == 0 && t.contents().Rows > 0 {
				t.takeAsItIs()
			}
			changed = changed || t.Rows != before
		}
		if !changed {
			return
		}
	}
}

// takeAsItIs plans no rows for a table that has all that its keys let it have.
func (t *Table) takeAsItIs() {
	t.existing, t.Rows = true, t.contents().Rows
	for _, o := range t.d.tables {
		if o.parent != nil && o.parent.known() == t {
			o.endFamily()
		}
	}
}

const (
	smallTable     = 12 // rows of a small table that only others refer to
	manyCodes      = 40 // existing rows that such a table has at most
	fewColumns     = 5  // such a table has at most so many columns
	childrenOfEach = 2  // on average
	mostChildren   = 3
)

// wish is how many rows a table would get if it had no keys.
func (t *Table) wish() uint64 {
	d := t.d
	if t.existing {
		return t.contents().Rows
	}
	if t.parent != nil {
		_, most := t.bounds()
		return most
	}
	if !d.given && t.isLookup() {
		return min(smallTable, d.Options.Rows)
	}
	return d.Options.Rows * uint64(1+t.level(nil))
}

// isLookup reports whether a table is a small one that others refer to, and that refers to none.
func (t *Table) isLookup() bool {
	others := slices.ContainsFunc(t.Schema.References, func(r schema.Reference) bool { return r.To != t.Schema })
	if l := t.d.Learned[t.Schema]; l != nil && l.Rows > manyCodes {
		return false
	}
	if !others && lexicon.IsReference(t.Schema.LocalName()) {
		return true
	}
	return !others && len(t.Schema.Columns) <= fewColumns &&
		slices.ContainsFunc(t.d.tables, func(o *Table) bool {
			return o != t && slices.ContainsFunc(o.refs, func(r *reference) bool { return r.to == t.Schema })
		})
}

// highest bounds the level of a table.
const highest = 2

// level is how many tables are above a table that its rows cannot do without, at most: it has more rows then.
func (t *Table) level(below []*Table) int {
	most := 0
	for _, r := range t.refs {
		to := r.known()
		if to == nil || to == t || !r.needed() || to.isLookup() || slices.Contains(below, to) {
			continue
		}
		most = max(most, 1+to.level(append(below, t)))
	}
	return min(most, highest)
}

// uniqueKeys lists the keys of a table.
func (t *Table) uniqueKeys() []key {
	var out []key
	add := func(columns, expressions []string, k key) {
		for _, e := range expressions {
			n, err := predicate.Parse(e)
			if err != nil {
				continue
			}
			for _, c := range n.Columns() {
				if !slices.Contains(columns, c) {
					columns = append(slices.Clone(columns), c)
				}
			}
		}
		for _, c := range columns {
			names := []string{c}
			if n := t.computed(c); n != nil {
				names = n.Columns() // what is computed of different values, mostly differs
			}
			for _, name := range names {
				if f := t.find(name); f == nil {
					k.derived = true
				} else if !slices.Contains(k.fields, f) {
					k.fields = append(k.fields, f)
				}
			}
		}
		if (len(k.fields) > 0 || len(expressions) > 0 && !k.derived) &&
			!slices.ContainsFunc(
				out,
				func(o key) bool { return o.where == k.where && slices.Equal(o.fields, k.fields) },
			) {
			out = append(out, k)
		}
	}
	if len(t.Schema.PrimaryKey) > 0 {
		add(t.Schema.PrimaryKey, nil, key{})
	}
	for _, u := range t.Schema.Uniques {
		add(u.Columns, u.Expressions, key{where: u.Where})
	}
	for _, x := range t.Schema.Exclusions {
		var columns []string
		k := key{where: x.Where}
		for i, c := range x.Columns {
			if c != "" {
				columns = append(columns, c)
			}
			if f := t.find(c); f != nil && x.Operators[i] == "&&" {
				f.apart = true
			}
		}
		add(columns, nil, k)
	}
	return out
}

// keep chooses the fields that keep the keys, so that as many rows as wished for can
// be there, and bounds the rows by what they allow.
func (t *Table) keep() {
	want := t.wish()
	for _, f := range t.Fields {
		f.Unique = false
	}
	t.Unique = nil
	var keys []key
	for _, k := range t.uniqueKeys() {
		if t.parent != nil && slices.ContainsFunc(k.fields, func(f *Field) bool { return f.ref == t.parent }) {
			continue // kept among the children of each
		}
		keys = append(keys, k)
	}

	s := &search{table: t, want: want}
	t.avoided = nil
	for _, k := range keys {
		options := t.keepers(k, want)
		if k.where != "" && t.avoids(k, options, want) {
			t.avoided = append(t.avoided, k.where)
			continue
		}
		s.options = append(s.options, options)
	}

	s.run(0, nil)
	rows := t.capped(min(want, s.best))
	if t.parent != nil && rows < want {
		// Too few different values for all children: the rows stand for themselves.
		t.endFamily()
		t.keep()
		return
	}

	if t.Rows = rows; t.parent != nil {
		t.Rows = childrenOfEach * t.parent.known().Rows
	}
	for _, set := range s.chosen {
		if len(set) == 1 {
			set[0].Unique = true
			continue
		}
		if len(set) > 1 {
			t.Unique = append(t.Unique, set)
		}
	}
}

// avoids reports whether a partial key is better kept by having no row that it binds: it
// has too few values, and the condition is one that rows can be drawn away from.
func (t *Table) avoids(k key, options [][]*Field, want uint64) bool {
	for _, set := range options {
		if t.roomOf(set) >= want {
			return false
		}
	}
	n, err := predicate.Parse(k.where)
	if err != nil {
		return false
	}
	if _, err := predicate.Compile(n); err != nil {
		return false
	}
	for _, name := range n.Columns() {
		f := t.find(name)
		if f == nil || f.ref != nil && !f.lead || f.unsaid || f.Source.Fixed || f.Source.Space == 1 ||
			t.domains[f.Column.Name] != nil && t.domains[f.Column.Name].Only != nil &&
				len(t.domains[f.Column.Name].Only) < 2 {
			return false
		}
	}
	return len(n.Columns()) > 0
}

// endFamily makes a child a table of its own, whose rows pick their parent.
func (t *Table) endFamily() {
	f := t.find(t.parent.Columns[0])
	f.ref, f.lead, t.parent.lead = t.parent, true, f
	t.parent = nil
}

// bounds are the fewest and the most rows that a table may get: how many children there
// are, is dealt.
func (t *Table) bounds() (least, most uint64) {
	if t.parent == nil {
		return t.Rows, t.Rows
	}
	least, most = t.parent.known().bounds()
	if t.joins() {
		return childrenOfEach * least, childrenOfEach * most
	}
	if t.most > 0 {
		return t.least * least, t.most * most
	}
	return least, mostChildren * most
}

// joins reports whether each parent has the same number of children, which pick others.
func (t *Table) joins() bool {
	for _, k := range t.Schema.Keys() {
		if slices.Contains(k.Columns, t.parent.Columns[0]) {
			f := t.sibling(k.Columns, t.parent)
			return f != nil && f.lead
		}
	}
	return false
}

const endless = math.MaxUint64

// keepers are the sets of fields that could keep a key, the most natural first. Each
// keeps it alone.
func (t *Table) keepers(k key, want uint64) [][]*Field {
	var singles, usable []*Field
	for _, f := range k.fields {
		if t.room(f, k) > 0 {
			singles = append(singles, f)
			if !f.apart { // which differ, and overlap all the same
				usable = append(usable, f)
			}
		}
	}

	slices.SortStableFunc(singles, func(a, b *Field) int { return t.rank(a, k, want) - t.rank(b, k, want) })
	var out [][]*Field
	whole := len(usable) > 1 && !slices.ContainsFunc(usable, func(f *Field) bool { return t.room(f, k) == endless })
	placed := false
	for _, f := range singles {
		if whole && !placed &&
			(t.rank(f, k, want) > 1 && t.naturalRoom(usable, k) >= 2*want || f.lead || t.room(f, k) < want) {
			out, placed = append(out, usable), true
		}
		out = append(out, []*Field{f})
	}

	if whole && !placed {
		out = append(out, usable)
	}
	return out
}

// rank orders fields by how natural it is that they differ.
func (t *Table) rank(f *Field, k key, want uint64) int {
	switch room := t.room(f, k); {
	case room == endless:
		return 0
	case f.lead:
		return 6
	case room < want:
		return 5
	case f.Source.Space >= t.ample():
		return 1 // as it is
	case f.Column.Kind == schema.Text:
		return 2
	case f.Column.Kind == schema.Integer:
		return 3
	}
	return 4
}

// naturalRoom is how many rows fields keep apart together with the sources that they
// have, none made wider.
func (t *Table) naturalRoom(set []*Field, k key) uint64 {
	rows := uint64(1)
	for _, f := range set {
		n := f.Source.Space
		if f.lead {
			n = t.room(f, k)
		}
		if n == endless || n > math.MaxUint64/max(rows, 1) {
			return endless
		}
		rows *= n
	}
	return rows
}

// room is how many rows a field can keep apart in a key; 0 if it cannot.
func (t *Table) room(f *Field, k key) uint64 {
	switch {
	case t.plannedKey(f):
		return endless
	case f.lead:
		return t.roomOfPick(f, k)
	case f.Source.Own != "":
		own := t.find(f.Source.Own)
		if own == nil || own == f {
			return 0
		}
		return t.room(own, k)
	case f.Source.Follows, f.Source.Text == "null", t.parent != nil && f.ref == t.parent:
		return 0
	}

	if f.apart {
		return apartRoom
	}
	w := t.wide(f)
	if w.Fixed {
		return 0
	}
	if w.Alone {
		return max(w.Space, 1)
	}
	return w.Space
}

// roomOfPick is the room of a field that picks a row of another table.
func (t *Table) roomOfPick(f *Field, k key) uint64 {
	r := f.ref
	if r.to == t.Schema || len(r.where) > 0 || r.known() == nil {
		return 0
	}
	// A row that is picked once shows in the key, if the key tells the row.
	whole := !slices.ContainsFunc(r.Columns, func(c string) bool {
		return !slices.ContainsFunc(k.fields, func(x *Field) bool { return x.Column.Name == c })
	})
	target := r.Targets[slices.Index(r.Columns, f.Column.Name)]
	if !whole && !r.to.IsKey(target) {
		return 0
	}
	least, _ := r.known().bounds()
	return r.share(least)
}

// share is how many of some rows can be picked, where only those with some values can:
// about their share of the values, if these are spread evenly; 0 if that is not known.
func (r *reference) share(rows uint64) uint64 {
	for _, o := range r.only {
		f := r.known().find(o.target)
		if f == nil || !strings.HasPrefix(f.Source.Text, "{choose: [") || f.Source.Space == 0 {
			return 0
		}
		rows = rows * uint64(len(o.values)) / f.Source.Space
		rows -= (rows + 9) / 10
	}
	return rows
}

const apartRoom = 1000 // days, about

// setApart gives ranges that must not overlap values of one point each, which differ.
func (t *Table) setApart(f *Field) {
	point := "{between: [1, 999999], unique: true}"
	switch form := f.Column.Form; {
	case strings.Contains(form, ":"):
		point = "{between: [2025-01-01T00:00:00Z, 2026-04-30T23:59:59Z], unique: true}"
	case strings.Contains(form, "2026"):
		point = "{between: [2024-01-01, 2028-12-31], unique: true}"
	}
	name := strings.Join(lexicon.Words(strings.ToLower(f.Column.Name)), "_") + "_point"
	f.Draws = []Draw{{name, point}}
	f.Source, f.Unique = Source{Text: fmt.Sprintf("{text: \"[{%s},{%s}]\"}", name, name)}, false
}

// search tries the keepers of all keys, so that no field is in two sets.
type search struct {
	table   *Table
	want    uint64
	options [][][]*Field
	best    uint64
	chosen  [][]*Field
	found   bool
	tries   int
}

const mostTries = 20_000

// run tries all choices of fields that keep the keys from the i-th on apart, and keeps the one with
// room for the most rows.
func (s *search) run(i int, chosen [][]*Field) {
	if s.tries++; s.tries > mostTries || s.found && s.best >= s.want {
		return
	}
	if i == len(s.options) {
		rows := uint64(endless)
		for _, set := range chosen {
			rows = min(rows, s.table.roomOf(set))
		}
		if !s.found || rows > s.best {
			s.best, s.chosen, s.found = rows, slices.Clone(chosen), true
		}
		return
	}

	options := s.options[i]

	// What keeps another key may keep this one.
	for _, set := range chosen {
		if slices.ContainsFunc(options, func(o []*Field) bool { return subset(set, o) }) {
			s.run(i+1, chosen)
			return
		}
	}

	for _, set := range options {
		if slices.ContainsFunc(chosen, func(o []*Field) bool { return meet(o, set) }) {
			continue
		}
		s.run(i+1, append(chosen, set))
	}

	if len(options) == 0 || !s.found {
		// Nothing keeps the key: one row only.
		s.run(i+1, append(chosen, nil))
	}
}

// subset reports whether all of a are in b.
func subset(a, b []*Field) bool {
	return len(a) > 0 && !slices.ContainsFunc(a, func(f *Field) bool { return !slices.Contains(b, f) })
}

// meet reports whether a and b have a field in common.
func meet(a, b []*Field) bool {
	return slices.ContainsFunc(a, func(f *Field) bool { return slices.Contains(b, f) })
}

// roomOf is how many rows a set of fields keeps apart.
func (t *Table) roomOf(set []*Field) uint64 {
	if len(set) == 0 {
		return 1
	}
	rows := uint64(1)
	all := key{fields: t.Fields}
	if f := set[0]; len(set) == 1 && !f.lead && !f.apart && f.Source.Own == "" && !t.plannedKey(f) {
		// Values that are there already are taken.
		if w := t.wide(f); !w.Alone && t.contents().Values[f.Column.Name] != nil {
			return min(t.room(f, all), t.fresh(f, w).Space)
		}
	}
	for _, f := range set {
		n := t.room(f, all)
		if n == endless || n > math.MaxUint64/max(rows, 1) {
			return endless
		}
		rows *= n
	}
	if t.tied(set) {
		rows = (rows + 7) / 8 // so often are they drawn again, each time elsewhere: see grow.Group
	}
	return t.free(set, rows)
}

// tied reports whether a condition over several columns is on fields of a set.
func (t *Table) tied(set []*Field) bool {
	return len(set) > 1 && slices.ContainsFunc(t.rest, func(text string) bool {
		n, err := predicate.Parse(text)
		return err == nil &&
			slices.ContainsFunc(n.Columns(), func(c string) bool { return slices.Contains(set, t.find(c)) })
	})
}

// free is how many of the values of a set of fields are left, where rows that are there
// have some of them. Those of our rows that meet them are drawn again, from an eighth of
// all values (see grow.Group), in which half may be taken: that bounds the rows.
func (t *Table) free(set []*Field, all uint64) uint64 {
	taken := t.contents().Rows
	isNew := func(f *Field) bool { return f.lead && f.ref.known() != nil && !f.ref.known().existing }
	if taken == 0 || slices.ContainsFunc(set, isNew) {
		return all // what new rows are referred to by is new
	}
	if taken >= all {
		return 0
	}
	const enough = 1 << 31 // whole numbers stay small
	if all > enough {
		return all
	}
	return min(all-taken, all*(all-taken)/(16*taken))
}

// settleField gives a field that keeps a key the source with the most values, unless the
// key has room enough as it is.
func (t *Table) settleField(f *Field, inGroup, roomy bool) {
	if f.Source.Plain != "" && inGroup {
		f.Source = Source{
			Text:  f.Source.Plain,
			Space: sources.SpaceOf(f.Source.Plain),
		} // parts of a draw cannot be counted together
	}
	if roomy {
		return
	}
	f.Source = t.wide(f)
	if f.Unique {
		f.Source = t.fresh(f, f.Source)
	}
	if strings.HasPrefix(f.Source.Text, "{count") || strings.HasPrefix(f.Source.Text, "{uuid") {
		f.Unique = false
	}
}

// settle gives fields that keep a key the sources with the most values.
func (t *Table) settle() {
	for _, where := range t.avoided {
		if n, err := predicate.Parse(where); err == nil {
			not := &predicate.Node{Op: predicate.Not, Args: []*predicate.Node{n}}
			t.Meets = append(t.Meets, not.String())
		}
	}

	inGroup, roomy := map[*Field]bool{}, map[*Field]bool{}
	for _, set := range t.Unique {
		enough := t.naturalRoom(set, key{fields: t.Fields}) >= 2*t.Rows
		for _, f := range set {
			inGroup[f], roomy[f] = true, enough
		}
	}

	for _, f := range t.Fields {
		if f.apart && f.Unique {
			t.setApart(f)
			continue
		}
		if (f.Unique || inGroup[f]) && !f.lead && !t.plannedKey(f) && f.Source.Own == "" {
			t.settleField(f, inGroup[f], roomy[f])
		}
	}

	if t.parent != nil {
		t.settleChildren()
	}
}

// settleChildren keeps the keys that the children of a parent have within it.
func (t *Table) settleChildren() {
	for _, k := range t.Schema.Keys() {
		if !slices.Contains(k.Columns, t.parent.Columns[0]) {
			continue
		}
		f := t.sibling(k.Columns, t.parent)
		if f == nil {
			continue
		}
		if f.lead {
			least, _ := f.ref.known().bounds()
			t.children = fmt.Sprint(min(childrenOfEach, least))
		}
		switch {
		case f.Unique: // in all rows, so among children, too
		case f.lead:
			f.Source.Text = "distinct"
		default:
			f.Source, f.Nulls = Source{Text: "{count: {from: 1, restart: true}}", Alone: true}, false
		}
	}
}
