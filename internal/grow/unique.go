package grow

import (
	"encoding/binary"
	"errors"
	"fmt"
	"slices"
	"strings"

	"evensprout/internal/rng"
	"evensprout/internal/value"
)

// Group is a set of fields whose values together differ from row to row: their
// value spaces form one mixed-radix number, which a keyed permutation takes from
// the row number. It needs no memory and no second tries.
//
// The top eighth of the permuted space is a reserve: rows given by name, what is
// grown below them, and grown rows whose values they take draw from it, so that
// they never meet rows appended later. Where no row is given, grown rows may use
// it up.
type Group struct {
	entity  *Entity
	text    *Field // the unique text that the members build, or nil
	shown   *Field // the field that takes its value from the one member, an inner field; or nil
	spare   *Field // takes a number where the members' values do not suffice, or nil
	scope   *scope // the rows within which the values differ; nil if all
	members []member
	key     rng.Key
	size    uint64 // distinct values of all members together
	usable  uint64 // of these, for grown rows
	most    uint64 // rows of a scope, at most
	first   rng.Permutation
	side    []uint64       // by side row: its index
	rounds  []uint64       // by side row, within a scope: its round
	eras    []era          // of rows that earlier loads wrote, if what they drew from was another space
	taken   map[string]int // values of side rows, as one folded text: the side row
	slot    int            // place in Entity.Groups
	keyed   []uint64       // by row of a file with a key: the number that it has here; nil: its own
}

type member struct {
	field  *Field
	radix  uint64
	stride uint64
	digit  [2]rng.Divisor // by stride, by radix
	reps   []uint64       // numbers of the values that differ under Fold; nil if all do
}

// groupAt is a row's place in a group.
type groupAt struct {
	known bool
	index uint64 // below Group.size
	round uint64 // how often the space was used up before
}

// maxListed bounds the value spaces that are written out to compare texts.
const maxListed = 1 << 19

// Unique makes the values of some fields of an entity differ from row to row,
// taken together. No field may be in two groups. Beside a reference to a row above, or a
// number among siblings, the others differ within that row, or that number. One field
// that is not Countable can stand in a group: a text or a moment, which then takes a
// number.
func (e *Entity) Unique(fields ...*Field) error {
	g := &Group{entity: e, slot: len(e.Groups)}
	var rest []*Field
	if g.scope, rest = e.scopeOf(fields); len(rest) == 0 {
		return errors.New("nothing of the row itself is among them")
	}
	for _, f := range rest {
		if t, ok := f.Source.(*template); ok && f.group == nil {
			return e.uniqueTemplate(f, t, g.scope)
		}
	}
	for _, f := range rest {
		of, err := f.drawn()
		if err == nil {
			err = g.join(of)
		}
		switch {
		case err == nil:
			if of != f && len(rest) == 1 {
				g.shown = f
			}
		case len(fields) > 1 && g.spare == nil && f.takesNumber(g.scope):
			g.spare = f
		default:
			return err
		}
	}

	if g.spare != nil && g.spare.Source.Type() != value.Text {
		g.members = nil // moments suffice: what stands beside them keeps its weights
	}
	e.add(g)
	return nil
}

func (e *Entity) add(g *Group) {
	first := g.spare
	if len(g.members) > 0 {
		first = g.members[0].field
	}
	g.key = first.key().Sub("unique")
	for i := range g.members {
		g.members[i].field.group, g.members[i].field.member = g, i
	}
	if g.spare != nil {
		g.spare.numbered = g
	}
	e.Groups = append(e.Groups, g)
}

func (g *Group) join(f *Field) error {
	if f.group != nil {
		return fmt.Errorf("%s is already in another unique group; a field can be in one", f.Name)
	}
	if _, ok := f.Source.(Countable); !ok {
		return fmt.Errorf("the values of %s cannot be counted, so they cannot be made unique", f.Name)
	}
	if p, ok := f.Source.(*pick); ok &&
		(p.Distinct || p.to == f.Entity || p.Where != nil && !p.countable() || p.Skew != nil) {
		return fmt.Errorf("the values of %s depend on the row, so they cannot be counted", f.Name)
	}
	if p, ok := f.Source.(*pattern); ok && p.root.folded().ambiguous() {
		return fmt.Errorf(
			"the pattern of %s can make one text in two ways, or is too large to test: put a separator between "+
				"its parts",
			f.Name,
		)
	}
	g.members = append(g.members, member{field: f})
	return nil
}

// Inherent reports whether a field's values differ from row to row by themselves.
func (f *Field) Inherent() bool {
	if s, ok := f.Source.(differer); ok {
		return s.differs(f)
	}
	if t, ok := f.Source.(*template); ok && f.group == nil {
		return t.inherent(f.Entity)
	}
	g := f.group
	return g != nil && g.scope == nil && g.spare == nil && (g.text == f || len(g.members) == 1 && g.text == nil)
}

// hasFileKey reports whether fields hold the key of a file, which tells its rows.
func hasFileKey(fields []*Field) bool {
	key := fields[0].Entity.TableKey
	found := 0
	for _, f := range fields {
		if s, ok := f.Source.(*stored); ok && slices.Contains(key, s.column) {
			found++
		}
	}
	return len(key) > 0 && found == len(key)
}

// Grouped reports whether the fields are unique together, by a group or because
// one of them is by itself.
func Grouped(fields []*Field) bool {
	have := map[*Group]int{}
	for _, f := range fields {
		if f.Inherent() {
			return true
		}
		of, err := f.drawn()
		if err != nil {
			continue
		}
		for _, g := range []*Group{of.group, f.numbered} {
			if g != nil && (g.text == nil || g.text == f) {
				have[g]++
			}
		}
	}
	for g, n := range have {
		if n == g.width() && g.scope.named(fields) {
			return true
		}
	}
	return hasFileKey(fields) || differWithinParent(fields)
}

// differWithinParent reports whether fields name a row's parent and what tells its children apart: a
// restarted number or a distinct pick.
func differWithinParent(fields []*Field) bool {
	var up, within bool
	for _, f := range fields {
		_, isUp := f.Source.(*upward)
		up = up || isUp
		if s, ok := f.Source.(sibling); ok {
			within = within || s.differsWithin()
		}
	}
	return up && within
}

// UniqueText makes a field unique. The texts of a template are so through those
// fields of the template whose values can be counted; once their space is used up, a
// number is added. What is taken from a draw is unique through the draw.
func (e *Entity) UniqueText(f *Field) error {
	t, ok := f.Source.(*template)
	if !ok {
		return e.uniqueDraw(f)
	}
	return e.uniqueTemplate(f, t, nil)
}

func (e *Entity) uniqueTemplate(f *Field, t *template, within *scope) error {
	g := &Group{entity: e, text: f, scope: within, slot: len(e.Groups)}
	counted, inherent, err := e.countedParts(g, t)
	if err != nil {
		return err
	}
	if !inherent && len(g.members) == 0 {
		return fmt.Errorf(
			"none of the fields in the text has values that can be counted, so nothing keeps it unique: put a " +
				"unique field or a number in it",
		)
	}
	if err := t.separable(counted); err != nil {
		return err
	}
	if inherent {
		return nil // one part alone keeps the texts apart
	}
	for i := range counted {
		if counted[i] {
			t.number = i
		}
	}
	if !t.chooseGlue() {
		return fmt.Errorf("the text has no place for a number that could not be mistaken for part of it")
	}
	e.add(g)
	f.group, f.member = g, -1
	return nil
}

// countedParts are the parts of a template that keep its texts apart: fields that are
// unique by themselves (inherent), or whose values a group counts.
func (e *Entity) countedParts(g *Group, t *template) (counted []bool, inherent bool, err error) {
	counted = make([]bool, len(t.parts))
	for i := range t.parts {
		p := &t.parts[i]
		if p.path == nil || len(p.path.Hops) > 0 || p.path.Field.Entity != e {
			continue
		}
		of := p.path.Field
		if of.Inherent() {
			if filter := p.blurs(); filter != "" {
				return nil, false, fmt.Errorf("the filter %s may make different values of %s equal", filter, of.Name)
			}
			counted[i], inherent = true, true
			continue
		}
		if c, ok := of.Source.(Countable); !ok || c.Space() < 2 || of.group != nil || of.Nulls.Part > 0 {
			continue
		}
		counted[i] = g.join(of) == nil
	}
	return counted, inherent, nil
}

// chooseGlue takes what separates the number from the part before it; false if nothing
// does.
func (t *template) chooseGlue() bool {
	letters := t.letters(t.number)
	for _, glue := range []string{"", "-", ".", "_"} {
		if glue == "" && !letters.hasDigit() || glue != "" && !letters[glue[0]] {
			t.glue = glue
			if t.number+1 < len(t.parts) && t.parts[t.number+1].literal != "" &&
				isDigit(t.parts[t.number+1].literal[0]) {
				return false
			}
			return true
		}
	}
	return false
}

// inherent reports whether the texts differ from row to row because one part does that can
// be read back from them.
func (t *template) inherent(e *Entity) bool {
	counted := make([]bool, len(t.parts))
	found := false
	for i := range t.parts {
		p := &t.parts[i]
		if p.path != nil && len(p.path.Hops) == 0 && p.path.Field.Entity == e && p.path.Field.Inherent() &&
			p.blurs() == "" {
			counted[i], found = true, true
		}
	}
	return found && t.separable(counted) == nil
}

// blurs is the filter that may make different values of a part's field alike; empty if
// there is none.
func (p *part) blurs() string {
	name := ""
	for _, f := range p.filters {
		switch f.Name {
		case "lower", "upper", "title", "pad":
		default:
			name = f.Name
		}
	}

	f := p.path.Field
	if name == "" || name != "trim" && (f.Source.Type() == value.Integer || f.Source.Type() == value.UUID) {
		return ""
	}
	if src, ok := f.Source.(Countable); ok && src.Space() <= maxListed && !refersOut(src) {
		seen, clash := map[string]bool{}, false
		plain := part{path: p.path}
		var values []string
		plain.each(func(_ uint64, text string) { values = append(values, value.Fold(text)) })
		p.each(func(i uint64, text string) {
			// What is alike before the filter is one value.
			key := value.Fold(text)
			if !seen[values[i]] {
				clash = clash || seen["\x00"+key]
				seen[values[i]], seen["\x00"+key] = true, true
			}
		})
		if !clash {
			return ""
		}
	}
	return name
}

// uniqueDraw makes a field unique, or the draw that it takes. What given rows say in
// the field then counts as taken, too.
func (e *Entity) uniqueDraw(f *Field) error {
	of, err := f.drawn()
	if err != nil {
		return err
	}
	if !of.Inherent() {
		if err := e.Unique(of); err != nil {
			return err
		}
	}
	if g := of.group; g != nil && of != f && g.text == nil && g.shown == nil && len(g.members) == 1 {
		g.shown = f
	}
	return nil
}

// drawn is the field whose value a field takes, where different ones of it are different
// in the field, too; else the field itself.
func (f *Field) drawn() (*Field, error) {
	for {
		switch s := f.Source.(type) {
		case *copied:
			if len(s.path.Hops) == 0 {
				f = s.path.Field
				continue
			}
		case *partOf:
			if !s.single() {
				return nil, manyAlike(s.kind.kind.Name, s.part.Name)
			}
			f = s.of
			continue
		case *entryPart:
			if !s.single() {
				return nil, manyAlike(s.list.Name, s.list.Parts[s.at].Name)
			}
			f = s.of
			continue
		}
		return f, nil
	}
}

func manyAlike(kind, part string) error {
	return fmt.Errorf("many rows of %s have the same %s: make another part unique, or use a text with a unique part",
		kind, part)
}

// letterSet tells which bytes a text may hold.
type letterSet [256]bool

func (s *letterSet) hasDigit() bool {
	for c := '0'; c <= '9'; c++ {
		if s[c] {
			return true
		}
	}
	return false
}

func isDigit(c byte) bool { return c >= '0' && c <= '9' }

// letters returns the bytes that a part may hold once folded; all, if unknown.
func (t *template) letters(i int) *letterSet {
	var set letterSet
	p := &t.parts[i]
	addAll := func(s string) {
		for _, c := range []byte(value.Fold(s)) {
			set[c] = true
		}
	}
	src, ok := p.path.Field.Source.(Countable)
	switch {
	case ok && src.Space() <= maxListed && !refersOut(src):
		p.each(func(_ uint64, text string) { addAll(text) })
		return &set
	case p.path.Field.Source.Type() == value.Integer, p.path.Field.Source.Type() == value.Decimal:
		addAll("0123456789-.")
	case p.path.Field.Source.Type() == value.UUID:
		addAll("0123456789abcdef-")
	case p.path.Field.Source.Type() == value.Date,
		p.path.Field.Source.Type() == value.Timestamp,
		p.path.Field.Source.Type() == value.Time:
		addAll("0123456789-:.tz")
	default:
		if pat, ok := p.path.Field.Source.(*pattern); ok {
			pat.root.eachRune(func(r rune) { addAll(string(r)) })
			break
		}
		if k, ok := p.path.Field.Source.(*countedKind); ok {
			k.eachText(addAll)
			break
		}
		for c := range set {
			set[c] = true
		}
	}

	for _, f := range p.filters {
		if f.Name == "slug" {
			set['-'] = true
		}
		if f.Name == "pad" {
			set['0'] = true
		}
	}
	return &set
}

// refersOut reports whether a source's values are known only with other rows.
func refersOut(s Source) bool { _, ok := s.(reference); return ok }

func (n *node) eachRune(do func(rune)) {
	for _, r := range n.runes {
		do(r)
	}
	for _, s := range n.subs {
		s.eachRune(do)
	}
}

// each renders all values of a part's field.
func (p *part) each(do func(i uint64, text string)) {
	src := p.path.Field.Source.(Countable)
	g := &Grower{}
	c := cell{g: g, fr: &frame{}, f: p.path.Field}
	var b []byte
	for i := range src.Space() {
		var v value.Value
		src.at(c, i, &v)
		b = p.render(b[:0], &v)
		do(i, string(b))
	}
}

// separable reports whether the counted parts can be read back from the text: then
// different values give different texts. A part can be read from the left if it ends
// at a sign that it does not hold, or at the end of the text; likewise from the
// right. A single part that is left over is what remains.
func (t *template) separable(counted []bool) error {
	read := make([]bool, len(t.parts))
	scan := func(step, from, to int) {
		for i := from; i != to; i += step {
			if t.parts[i].path == nil {
				continue
			}
			if next := i + step; next != to {
				lit := t.parts[next].literal
				if lit == "" {
					return // no sign between the two
				}
				sign := lit[0]
				if step < 0 {
					sign = lit[len(lit)-1]
				}
				if t.letters(i)[value.Fold(string(sign) + "x")[0]] {
					return // the sign may be a part of it
				}
			}
			read[i] = true
		}
	}
	scan(1, 0, len(t.parts))
	scan(-1, len(t.parts)-1, -1)
	left := 0
	for i := range t.parts {
		if t.parts[i].path != nil && !read[i] {
			left++
		}
	}
	for i, c := range counted {
		if c && !read[i] && left > 1 {
			return fmt.Errorf(
				"different rows could have the same text, because its parts run together around {%s}: put a "+
					"separator between them that they do not contain",
				t.parts[i].path.Field.Name,
			)
		}
	}
	return nil
}

// settle computes spaces and the places of side rows, once numbers of rows are
// known.
func (g *Group) settle(gr *Grower) *FinishError {
	e := g.entity
	fault := func(format string, args ...any) *FinishError {
		f := g.text
		if f == nil {
			f = g.lead()
		}
		return &FinishError{Entity: e, Field: f, Message: fmt.Sprintf(format, args...)}
	}
	g.size = 1
	for i := range g.members {
		m := &g.members[i]
		if f := g.listDistinct(m); f != "" {
			return fault("%s", f)
		}
		if m.radix > MaxSpace/g.size {
			// More than can be counted: what is in front is enough.
			m.radix = MaxSpace / g.size
		}
		m.stride = g.size
		m.digit = [2]rng.Divisor{rng.NewDivisor(m.stride), rng.NewDivisor(m.radix)}
		g.size *= m.radix
	}

	if g.scope != nil || g.spare != nil {
		return g.settleScope(gr)
	}
	side := uint64(len(e.Side))
	reserve := reserveOf(g.size, side)
	if side > reserve {
		return fault(
			"there are %d given rows with what is generated below them, and of the %d different values of %s "+
				"only %d are kept for them",
			side,
			g.size,
			g.names(),
			reserve,
		)
	}

	g.usable = g.size - reserve
	if g.text == nil && side == 0 {
		g.usable = g.size // nothing given: rows may use up the reserve
	}
	if e.Rows > g.usable && (g.text == nil || g.usable == 0) {
		also := ""
		if side > 0 {
			also = fmt.Sprintf(", of which %d are reserved for given rows", reserve)
		}
		return fault("%d rows need different values of %s, and only %d exist%s", e.Rows, g.names(), g.size, also)
	}

	g.first = rng.NewPermutation(g.key, g.size)
	g.keyed = g.byKeys(gr)
	g.place(gr, reserve)
	return nil
}

// byKeys numbers the rows of a file by their keys, so that what is unique stays with a key when lines are moved or
// added: but for the few whose number an earlier line has. Memory: 8 bytes for each line; nil if the rows have no keys.
func (g *Group) byKeys(gr *Grower) []uint64 {
	e := g.entity
	if e.Table == nil || len(e.TableKey) == 0 || e.Rows > g.usable ||
		slices.ContainsFunc(
			g.members,
			func(m member) bool { return m.field.tied > 0 },
		) { // they are drawn again in layers
		return nil
	}
	numbers, used := make([]uint64, e.Rows), make(map[uint64]bool, e.Rows)
	for n := range e.Rows {
		id := gr.id(e, Row{N: n})
		w := rng.Philox([4]uint64{id[1], id[0], 0, 7}, g.key)
		at := rng.Below(w[0], g.usable)
		for used[at] {
			at = (at + 1) % g.usable
		}
		numbers[n], used[at] = at, true
	}
	return numbers
}

func (g *Group) names() string {
	var names []string
	for _, m := range g.members {
		names = append(names, m.field.Name)
	}
	if g.spare != nil {
		names = append(names, g.spare.Name)
	}
	return strings.Join(names, " and ")
}

// listDistinct finds a member's radix: the number of its values that differ as
// folded text, after the template's filters.
func (g *Group) listDistinct(m *member) string {
	src := m.field.Source.(Countable)
	m.radix = src.Space()
	m.reps = nil
	if refersOut(src) || value.IsNumber(src.Type()) && g.text == nil {
		return ""
	}
	p := part{path: &Path{Field: m.field}}
	if g.text != nil {
		for _, tp := range g.text.Source.(*template).parts {
			if tp.path != nil && tp.path.Field == m.field {
				p = tp
				break
			}
		}
	}

	if m.radix > maxListed {
		for _, f := range p.filters {
			if f.Name != "lower" && f.Name != "upper" && f.Name != "title" && f.Name != "pad" {
				return fmt.Sprintf("the filter %s may make different values of %s equal", f.Name, m.field.Name)
			}
		}
		return ""
	}

	switch s := src.(type) {
	case *pattern:
		if g.text == nil && s.unique.plain() {
			return "" // its unique form differs already
		}
	case *countedKind:
		if g.text == nil {
			if reps := s.built.distinct(&s.kind); uint64(len(reps)) < m.radix {
				m.reps, m.radix = reps, uint64(len(reps))
			}
			return ""
		}
	}

	seen := map[string]bool{}
	var reps []uint64
	p.each(func(i uint64, text string) {
		if key := value.Fold(text); !seen[key] {
			seen[key] = true
			reps = append(reps, i)
		}
	})
	if uint64(len(reps)) < m.radix {
		m.reps, m.radix = reps, uint64(len(reps))
	}
	return ""
}

// place gives every side row an index in the reserve, and notes what grown rows
// must not have.
func (g *Group) place(gr *Grower, reserve uint64) {
	e := g.entity
	g.side, g.taken = make([]uint64, len(e.Side)), map[string]int{}
	used := map[uint64]bool{}
	free := func(id rng.ID) uint64 {
		w := rng.Philox([4]uint64{id[1], id[0], 0, 6}, g.key)
		at := rng.Below(w[0], reserve)
		for used[at] {
			at = (at + 1) % reserve
		}
		used[at] = true
		if len(g.eras) > 0 {
			first := &g.eras[0]
			return g.drawnFrom(0, first.shuffle.At(first.size-1-at))
		}
		return g.first.At(g.size - 1 - at)
	}
	for i := range e.Side {
		var later bool
		if g.side[i], later = g.inEra(Row{N: uint64(i), Side: true}, 0); !later {
			g.side[i] = free(e.Side[i].ID)
		}
	}

	for i := range e.Side {
		g.taken[g.rowKey(gr, Row{N: uint64(i), Side: true})] = i
	}
}

// rowKey is a side row's values in the group as one folded text.
func (g *Group) rowKey(gr *Grower, r Row) string {
	fr := gr.spare(g.entity, r)
	defer fr.close()
	b := gr.take()
	defer gr.give(b)
	return string(g.appendKey(gr, fr, b))
}

func (g *Group) appendKey(gr *Grower, fr *frame, b []byte) []byte {
	if g.scope != nil {
		id, _ := g.scope.place(gr, fr, g.size)
		b = binary.BigEndian.AppendUint64(binary.BigEndian.AppendUint64(b, id[0]), id[1])
	}
	if g.text != nil {
		return append(b, value.Fold(gr.value(fr, g.text).S)...)
	}
	if g.shown != nil {
		return append(b, value.Fold(gr.value(fr, g.shown).String())...)
	}
	for i := range g.members {
		b = append(b, value.Fold(gr.value(fr, g.members[i].field).String())...)
		b = append(b, 0)
	}
	if g.spare != nil {
		b = append(b, value.Fold(gr.value(fr, g.spare).String())...)
	}
	return b
}

// groupAt returns the row's place in the group of the cell's field.
func (c cell) groupAt() groupAt { return c.f.group.at(c) }

// at returns the place of the cell's row in the group.
func (g *Group) at(c cell) groupAt {
	at := &c.fr.groups[g.slot]
	if at.known {
		return *at
	}
	at.known = true
	at.round = 0
	if a := c.g.record.Attempt(g.lead(), c.fr.row); a > 0 {
		if again, ok := g.retry(c, a); ok {
			*at = again
			return *at
		}
	}

	if c.fr.row.Side {
		at.index = g.side[c.fr.row.N]
		if g.rounds != nil {
			at.round = g.rounds[c.fr.row.N]
		}
		return *at
	}

	if g.most > 0 {
		g.scoped(c, at)
		if len(g.taken) > 0 {
			g.avoidTaken(c, at)
		}
		return *at
	}

	n := c.fr.row.N
	if g.keyed != nil {
		n = g.keyed[n]
	}
	if index, ok := g.inEra(c.fr.row, 0); ok {
		at.index = index
	} else if n < g.usable {
		at.index = g.first.At(g.layered(n, g.drawn(c)))
	} else {
		at.round = n / g.usable
		p := rng.NewPermutation(rng.Key{g.key[0], g.key[1] + at.round}, g.usable)
		at.index = g.first.At(p.At(n % g.usable))
	}

	if len(g.taken) > 0 {
		g.avoidTaken(c, at)
	}
	return *at
}

// drawn is how often a row was drawn again because it did not meet a condition on fields
// of the group.
func (g *Group) drawn(c cell) uint64 {
	for i := range g.members {
		if tied := g.members[i].field.tied; tied > 0 {
			return c.fr.tries[tied-1]
		}
	}
	return 0
}

// layered is where a row stands before the permutation at a later draw. The space below
// the reserve is cut into layers that have room for all rows: each draw of a row is in
// another layer, at its own place there, so that no two rows ever meet. Where rows take
// more than an eighth of the space, the layers depend on how many rows there are. After
// the last layer there is nothing left to draw.
func (g *Group) layered(n, draw uint64) uint64 {
	if draw == 0 || g.text != nil {
		return n
	}
	space := min(g.usable, g.size-g.size/8)
	layers := space / max(g.entity.Rows, 1)
	for _, many := range []uint64{64, 8} {
		if layers >= many {
			layers = many
			break
		}
	}
	if draw >= layers {
		return n
	}
	return n + draw*(space/layers)
}

// avoidTaken moves a grown row away from values that a side row holds, to the
// place in the reserve that this side row left free. If that is held as well, by
// another given row, then to the place which that one left free: as places
// differ, so do the ends of these chains.
func (g *Group) avoidTaken(c cell, at *groupAt) {
	b := c.g.take()
	for range g.taken {
		fr := c.g.spare(g.entity, c.fr.row)
		fr.groups[g.slot] = *at
		b = g.appendKey(c.g, fr, b[:0])
		fr.close()
		side, ok := g.taken[string(b)]
		if !ok {
			break
		}
		at.index, at.round = g.side[side], 0
		if g.rounds != nil {
			at.round = g.rounds[side]
		}
	}
	c.g.give(b)
}

// digit is the row's value number of the cell's field.
func (c cell) digit() uint64 {
	m := &c.f.group.members[c.f.member]
	i := c.groupAt().index
	if m.stride > 1 {
		i, _ = m.digit[0].DivMod(i)
	}
	_, i = m.digit[1].DivMod(i)
	if m.reps != nil {
		i = m.reps[i]
	}
	return i
}

// Distinct reports whether the numbered values of a source are as different as their
// numbers, so that a field of it can be unique.
func Distinct(s Source) bool {
	if p, ok := s.(*pattern); ok {
		return !p.root.folded().ambiguous()
	}
	_, ok := s.(Countable)
	return ok
}
