// Package plan reads the plan file, holds it against itself and a database, and
// compiles it to what the core grows.
package plan

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode"

	"evensprout/internal/diag"
	"evensprout/internal/grow"
	"evensprout/internal/rng"
	"evensprout/internal/safe"
	"evensprout/internal/value"
)

// Plan is a plan file as read. Its names are not looked up yet, and what is wrong
// with its form is told by Compile together with the rest.
type Plan struct {
	Name     string
	Edition  string
	Seed     string
	Clock    value.Value // a Timestamp
	Database string      // URL, empty if the plan names none
	Commit   Commit
	Once     bool // a database that it filled is never filled again
	Entities []*Entity
	Units    []*Unit
	Always   []*Invariant

	OnViolation Policies // what is not named stops

	collector *collector
	malformed diag.Problems // what is wrong with its form
	source    []byte
	root      *node
}

// Entity is one entry of entities.
type Entity struct {
	Name      string
	Table     string
	Rows      uint64
	Per       *Per // nil if it is no child
	WhenEmpty bool // fill only an empty table
	Fields    []*Field
	Draws     []*Field // drawn once, used by several fields, not stored
	Uniques   []Unique
	Meets     []Meet // conditions that every row meets
	Given     []*Given
	RowsFrom  *RowsFrom // nil if its rows are grown
	Existing  bool      // its rows are those of the table: they are read, not written
	Write     *Write    // nil: insert

	DatabaseKeys bool     // the database gives the keys
	OnViolation  Policies // before the plan's own

	place
	tablePlace, rowsPlace place
}

// Per says how many rows there are for each row of a parent.
type Per struct {
	Parent  string
	Lo, Hi  uint64
	Via     string // the reference to the parent; empty if it is plain
	Instead bool   // given rows stand instead of grown ones, not beside them
	place
	viaPlace place
}

// Field is one entry of fields.
type Field struct {
	Name   string
	Column string // empty if it is plain
	Was    string // its name before, empty if the same
	Unique bool
	Nulls  grow.Share
	Free   bool

	inner  bool   // not stored
	cond   *node  // the condition of if, or nil
	word   string // which source
	source *node  // its value; for a literal the literal
	bare   bool   // the field is the literal itself, without a word
	args   map[string]*node
	place
	columnPlace, nullsPlace place
}

// Unique is a group of fields whose values together differ.
type Unique struct {
	Fields []string
	place
}

// Meet is a condition in SQL over the fields of an entity.
type Meet struct {
	Text string
	node *node
}

// Given is a row written by hand.
type Given struct {
	Name   string
	Values *node
	Parent string // the given row below which it is written; empty if it names its parent itself
	place
}

// Limits on what a plan may say.
const (
	maxNameLength = 200
	maxRows       = 1 << 40
	maxEntities   = 10_000
)

// ErrMissing tells that there is no plan file.
var ErrMissing = errors.New("there is no such plan")

// ReadFile reads a plan file. The error is Problems if it is no plan at all, and
// wraps ErrMissing if it is not there.
func ReadFile(path string) (*Plan, error) {
	f, err := safe.Open(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("%s: %w", path, ErrMissing)
	}
	if err != nil {
		return nil, err
	}
	defer f.Close()
	data, err := io.ReadAll(io.LimitReader(f, MaxFileBytes+1))
	if err != nil {
		return nil, err
	}
	return Read(path, data)
}

// Folder is the folder that the plan's relative files are seen from.
func (p *Plan) Folder() string { return filepath.Dir(p.collector.file) }

// Source is the plan file's bytes.
func (p *Plan) Source() []byte { return p.source }

// File is the name of the plan file in messages.
func (p *Plan) File() string { return p.collector.file }

// Read reads a plan. file is its name in messages. The error is Problems, if this is
// no plan at all; what else is wrong is told by Compile.
func Read(file string, data []byte) (*Plan, error) {
	c := &collector{file: file}
	root := parse(c, data)
	if root != nil || len(c.found) > 0 {
		c.lines = strings.Split(strings.TrimPrefix(string(data), "\ufeff"), "\n")
		for _, p := range c.found {
			if p.Line > 0 && p.Line <= len(c.lines) {
				p.Excerpt = strings.ToValidUTF8(strings.TrimRight(c.lines[p.Line-1], "\r"), "?")
			}
		}
	}
	if root == nil {
		return nil, c.found
	}
	p := &Plan{collector: c, Edition: "1", Commit: CommitLoad, source: data, root: root}
	if !root.mapping {
		p.add(root.place, "a plan is a mapping (key: value), and here is %s", root.what()).
			Advise("it begins with name: NAME; evensprout demo makes one to look at")
		return nil, c.found
	}
	p.read(root)
	p.malformed = c.found
	return p, nil
}

// shape describes what a mapping may hold.
type shape map[string]func(key, value *node)

// each reads the entries of a mapping; unknown keys are problems.
func (p *Plan) each(n *node, of string, s shape) {
	if !n.mapping {
		p.add(n.place, "%s is a mapping (key: value), and here is %s", of, n.what())
		return
	}
	for _, x := range n.pairs {
		read, ok := s[x.key.text]
		if !ok {
			p.add(x.key.place, "%q is not a key of %s", x.key.text, of).Nearest(x.key.text, keysOf(s))
			continue
		}
		read(x.key, x.value)
	}
}

func keysOf[V any](m map[string]V) []string {
	keys := make([]string, 0, len(m))
	for k := range m {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	return keys
}

func (p *Plan) add(at place, message string, args ...any) *diag.Problem {
	return p.collector.add(at, message, args...)
}

// needed tells which keys a plan lacks.
func (p *Plan) needed(root *node) {
	if p.Name == "" && root.get("name") == nil {
		p.add(place{1, 1}, "the plan has no name").Advise("name: says who this plan is, such as name: larkwater")
	}
	if p.Seed == "" && root.get("seed") == nil {
		p.add(place{1, 1}, "the plan has no seed").
			Advise("seed: is any text; another seed grows other rows, such as seed: larkwater-2026")
	}
	if root.get("clock") == nil {
		p.add(place{1, 1}, "the plan has no clock").
			Advise("clock: says what now means, because the wall clock is never read, such as clock: " +
				"2026-05-01T08:00:00Z")
	}
}

// entitiesOf reads the entities; false if they are none.
func (p *Plan) entitiesOf(entities *node, whenEmpty bool) bool {
	if !entities.mapping {
		p.add(entities.place, "entities is a mapping of names, and here is %s", entities.what())
		return false
	}
	if len(entities.pairs) > maxEntities {
		p.add(entities.place, "more than %d entities", maxEntities)
		return false
	}
	for _, x := range entities.pairs {
		e := &Entity{Name: x.key.text, WhenEmpty: whenEmpty, place: x.key.place}
		if !isName(e.Name) {
			p.add(x.key.place, "%q is no name for an entity", e.Name).
				Advise("a name begins with a letter and goes on with letters, digits and _")
		}
		p.entity(e, x.value)
		p.Entities = append(p.Entities, e)
	}
	return true
}

func (p *Plan) read(root *node) {
	var entities, units, always *node
	whenEmpty := false
	p.each(root, "a plan", shape{
		"name": func(_, v *node) { p.text(v, "name", &p.Name) },
		"edition": func(_, v *node) {
			if p.text(v, "edition", &p.Edition) && p.Edition != "1" {
				p.add(v.place, "edition %s is not known to this program: it knows 1", p.Edition).
					Advise("a newer program grows the rows of newer editions")
			}
		},
		"seed": func(_, v *node) { p.text(v, "seed", &p.Seed) },
		"clock": func(_, v *node) {
			var text string
			if p.text(v, "clock", &text) {
				p.Clock = p.moment(v)
			}
		},
		"database": func(_, v *node) { p.text(v, "database", &p.Database) },
		"when":     func(_, v *node) { whenEmpty = p.when(v) },
		"once":     func(_, v *node) { p.Once = p.yes(v, "once") },
		"commit": func(_, v *node) {
			var word string
			if p.text(v, "commit", &word) {
				if !slices.Contains(commits, word) {
					p.add(v.place, "%q is no way to commit", word).Nearest(word, commits)
					return
				}
				p.Commit = Commit(word)
			}
		},
		"on_violation": func(_, v *node) { p.OnViolation = p.violationPolicies(v) },
		"entities":     func(_, v *node) { entities = v },
		"units":        func(_, v *node) { units = v },
		"always":       func(_, v *node) { always = v },
	})
	p.needed(root)
	if entities == nil && units != nil {
		entities = &node{mapping: true} // units may work on tables that are filled otherwise
	} else if entities == nil || entities.null || entities.mapping && len(entities.pairs) == 0 {
		at := place{1, 1}
		if entities != nil {
			at = entities.place
		}
		p.add(at, "the plan has no entities").Advise("entities: holds an entry for each kind of row; evensprout " +
			"survey drafts them from a database")
		return
	}
	if !p.entitiesOf(entities, whenEmpty) {
		return
	}
	if units != nil {
		p.units(units)
	}
	if always != nil {
		p.always(always)
	}
}

// IsFieldName tells whether a field can be called so.
func IsFieldName(s string) bool {
	return s != "" && len(s) <= maxNameLength && s != clockWord && !strings.ContainsAny(s, ".{}|")
}

// isName tells whether a text is a name: letters, digits and _, no digit first.
func isName(s string) bool {
	n := 0
	for _, r := range s {
		if !unicode.IsLetter(r) && r != '_' && (n == 0 || !unicode.IsNumber(r)) {
			return false
		}
		n++
	}
	return n > 0 && n <= maxNameLength
}

func (p *Plan) entity(e *Entity, n *node) {
	s := p.rowsShape(e)
	s["table"] = func(_, v *node) { p.text(v, "table", &e.Table); e.tablePlace = v.place }
	s["write"] = func(_, v *node) { e.Write = p.write(v) }
	s["on_violation"] = func(_, v *node) { e.OnViolation = p.violationPolicies(v) }
	s["keys"] = func(_, v *node) {
		var word string
		if p.text(v, "keys", &word) && word != "database" && word != "planned" {
			p.add(v.place, "keys are planned, or the database gives them, and here is %s", v.what()).
				Nearest(word, []string{"planned", "database"})
		}
		e.DatabaseKeys = word == "database"
	}
	s["when"] = func(_, v *node) { e.WhenEmpty = p.when(v) }
	p.each(n, "an entity", s)
	if e.Existing {
		for _, x := range n.pairs {
			if k := x.key.text; k != "rows" && k != "table" {
				p.add(x.key.place, "the rows of %s are those of its table, so it says nothing else: no %s", e.Name, k).
					Advise("its fields are the columns of the table")
			}
		}
		return
	}
	p.oneSource(e)
	if n.mapping && e.RowsFrom == nil && e.Per == nil && e.rowsPlace == (place{}) && n.get("given") == nil {
		p.add(e.place, "%s says neither rows nor per nor given, so it would have no rows", e.Name).
			Advise("rows: 100, or per: {Parent: 1..3}, or given: with rows written by hand")
	}
}

// rowsShape is what entities and units alike say of their rows or occasions.
func (p *Plan) rowsShape(e *Entity) shape {
	return shape{
		"rows": func(_, v *node) {
			if e.rowsPlace = v.place; v.scalar() && v.text == "existing" {
				e.Existing = true
				return
			}
			e.Rows, _ = p.number(v, "rows", 0, maxRows)
		},
		"per":       func(_, v *node) { e.Per = p.per(v) },
		"rows_from": func(_, v *node) { p.rowsFrom(e, v) },
		"via": func(k, v *node) {
			p.add(k.place, "via belongs to per").Advise("per: {Passenger: 0..3, via: passenger_id}")
		},
		"fields": func(_, v *node) { p.fields(e, v) },
		"draws":  func(_, v *node) { p.draws(e, v) },
		"unique": func(_, v *node) { p.uniques(e, v) },
		"meets":  func(_, v *node) { p.meets(e, v) },
		"given":  func(_, v *node) { p.given(e, v) },
	}
}

// oneSource tells of rows that come from several places.
func (p *Plan) oneSource(e *Entity) {
	if e.Per != nil && e.rowsPlace != (place{}) {
		p.add(e.rowsPlace, "%s has both rows and per", e.Name).
			Advise("per says how many rows each parent has; rows is for entities without a parent")
	}
	if e.RowsFrom != nil && (e.Per != nil || e.rowsPlace != (place{})) {
		p.add(e.RowsFrom.place, "%s has its rows from a file, so it says neither rows nor per", e.Name)
	}
}

func (p *Plan) fields(e *Entity, v *node) {
	if v.null {
		return
	}
	if !v.mapping {
		p.add(v.place, "fields is a mapping of field names, and here is %s", v.what())
		return
	}
	for _, x := range v.pairs {
		f := &Field{Name: x.key.text, place: x.key.place}
		if !IsFieldName(f.Name) {
			p.add(f.place, "%q is no name for a field", f.Name).
				Advise("give the field a plain name, and say column: %q", f.Name)
		}
		p.field(f, x.value)
		e.Fields = append(e.Fields, f)
	}
}

func (p *Plan) draws(e *Entity, v *node) {
	if !v.mapping {
		p.add(v.place, "draws is a mapping of names, and here is %s", v.what()).Advise("draws: {who: {kind: person}}")
		return
	}
	for _, x := range v.pairs {
		d := &Field{Name: x.key.text, place: x.key.place, inner: true}
		if !isName(d.Name) || d.Name == clockWord {
			p.add(d.place, "%q is no name for a draw", d.Name).
				Advise("a name begins with a letter and goes on with letters, digits and _")
		}
		p.field(d, x.value)
		if d.Column != "" {
			p.add(d.columnPlace, "a draw is not stored, so it has no column").
				Advise("a field takes it: {from: %s}", d.Name)
		}
		e.Draws = append(e.Draws, d)
	}
}

func (p *Plan) per(v *node) *Per {
	per := &Per{place: v.place}
	if !v.mapping {
		p.add(v.place, "per names the parent and how many rows each has, and here is %s", v.what()).
			Advise("per: {Passenger: 0..3}")
		return nil
	}
	for _, x := range v.pairs {
		switch {
		case x.key.text == "via":
			p.text(x.value, "via", &per.Via)
			per.viaPlace = x.value.place
		case x.key.text == "given":
			if per.Instead = x.value.text == "instead"; !per.Instead && x.value.text != "beside" {
				p.add(x.value.place, "given rows stand beside grown ones, or instead, and here is %s", x.value.what()).
					Advise("per: {Passenger: 0..3, given: instead}")
			}
		case per.Parent != "":
			p.add(x.key.place, "per names one parent, and here is a second").
				Advise("a second reference is a field: {pick: %s}", x.key.text)
		default:
			per.Parent, per.place = x.key.text, x.key.place
			r, _ := p.countRange(x.value, "the number of rows for each "+per.Parent, rng.MaxChildren)
			per.Lo, per.Hi = r.Lo, r.Hi
		}
	}
	if per.Parent == "" {
		p.add(v.place, "per names no parent").Advise("per: {Passenger: 0..3}")
		return nil
	}
	return per
}

func (p *Plan) uniques(e *Entity, v *node) {
	if !v.list {
		p.add(v.place, "unique of an entity is a list of groups of fields, and here is %s", v.what()).
			Advise("unique: [[sailing, seat]]; one field alone says unique: true itself")
		return
	}
	for _, g := range v.items {
		if !g.list || len(g.items) < 2 {
			p.add(g.place, "a unique group is a list of two or more fields, and here is %s", g.what()).
				Advise("unique: [[sailing, seat]]; one field alone says unique: true itself")
			continue
		}
		u := Unique{place: g.place}
		for _, f := range g.items {
			var name string
			if p.text(f, "a field's name", &name) {
				u.Fields = append(u.Fields, name)
			}
		}
		e.Uniques = append(e.Uniques, u)
	}
}

func (p *Plan) given(e *Entity, v *node) {
	switch {
	case v.null:
		return
	case v.list:
		v = p.table(e, v)
	case !v.mapping:
		p.add(v.place, "given is a mapping of row names, or a table, and here is %s", v.what()).
			Advise("given: {ada: {given_name: Ada}}, or given: [[code, label], [DECK, Open deck]]")
		return
	}
	e.Given = append(e.Given, p.rows(e.Name, "", v)...)
}

// rows reads rows by name.
func (p *Plan) rows(entity, parent string, v *node) []*Given {
	var rows []*Given
	for _, x := range v.pairs {
		if strings.Contains(x.key.text, ".") || x.key.text == "" {
			p.add(x.key.place, "%q is no name for a row", x.key.text).
				Advise("a name without a dot: others refer to it as %s.name", entity)
			continue
		}
		if !x.value.mapping && !x.value.null {
			p.add(x.value.place, "a given row is a mapping of fields, and here is %s", x.value.what())
			continue
		}
		rows = append(rows, &Given{Name: x.key.text, Values: x.value, Parent: parent, place: x.key.place})
	}
	return rows
}

// table turns the compact form of given rows, [[code, label], [DECK, Open deck]], into
// the long one: the first cell of a row is its name, too.
func (p *Plan) table(e *Entity, v *node) *node {
	out := &node{place: v.place, mapping: true, index: map[string]int{}}
	if len(v.items) < 2 {
		p.add(v.place, "a table of given rows has a line of field names and then a line for each row")
		return out
	}
	head := v.items[0]
	for _, line := range v.items {
		if !line.list || len(line.items) != len(head.items) || len(line.items) == 0 {
			p.add(
				line.place,
				"each line of the table has %d cells, as the first, and here is %s",
				len(head.items),
				line.what(),
			)
			return out
		}
	}
	for _, f := range head.items {
		if !f.scalar() {
			p.add(f.place, "the first line of the table names fields, and here is %s", f.what())
			return out
		}
	}
	for _, line := range v.items[1:] {
		name := line.items[0]
		if !name.scalar() {
			p.add(name.place, "the first cell names the row, and here is %s", name.what())
			continue
		}
		if i, ok := out.index[name.text]; ok {
			p.add(name.place, "the row %s stands here a second time", name.text).
				Advise("it is in line %d already", out.pairs[i].key.line)
			continue
		}
		row := &node{place: line.place, mapping: true, index: map[string]int{}}
		for i, cell := range line.items {
			row.index[head.items[i].text] = i
			row.pairs = append(row.pairs, pair{head.items[i], cell})
		}
		out.index[name.text] = len(out.pairs)
		out.pairs = append(out.pairs, pair{name, row})
	}
	return out
}

// when reads the guard of an entity.
func (p *Plan) when(v *node) bool {
	if !v.scalar() || v.text != "empty" {
		p.add(v.place, "when knows one word, empty: fill only an empty table")
		return false
	}
	return true
}

// text reads a scalar that is not empty.
func (p *Plan) text(v *node, of string, into *string) bool {
	if !v.scalar() || v.text == "" {
		p.add(v.place, "%s is a text, and here is %s", of, v.what())
		return false
	}
	*into = v.text
	return true
}

// number reads a whole number from lo to hi.
func (p *Plan) number(v *node, of string, lo, hi uint64) (uint64, bool) {
	if v.scalar() && !v.quoted {
		n, err := strconv.ParseInt(strings.ReplaceAll(v.text, "_", ""), 10, 64)
		if err == nil && n >= 0 && uint64(n) >= lo && uint64(n) <= hi {
			return uint64(n), true
		}
		if err == nil {
			p.add(v.place, "%s is %s, and must lie between %d and %d", of, v.text, lo, hi)
			return 0, false
		}
	}
	p.add(v.place, "%s is a whole number, and here is %s", of, v.what())
	return 0, false
}

// countRange reads n or lo..hi.
func (p *Plan) countRange(v *node, of string, most uint64) (grow.Range, bool) {
	if v.scalar() {
		if lo, hi, two := strings.Cut(v.text, ".."); two {
			a, errA := strconv.ParseUint(lo, 10, 64)
			b, errB := strconv.ParseUint(hi, 10, 64)
			switch {
			case errA != nil || errB != nil:
				p.add(v.place, "%s is a number or a range such as 0..3, and here is %s", of, v.what())
			case a > b:
				p.add(v.place, "%s: the ends are swapped, the smaller number comes first: %d..%d", of, b, a)
			case b > most:
				p.add(v.place, "%s: at most %d", of, most)
			default:
				return grow.Range{Lo: a, Hi: b}, true
			}
			return grow.Range{}, false
		}
	}
	n, ok := p.number(v, of, 0, most)
	return grow.Range{Lo: n, Hi: n}, ok
}

func (p *Plan) moment(v *node) value.Value {
	m, err := value.ParseTimestamp(v.text)
	if err != nil {
		p.add(v.place, "%s", err).Advise("such as 2026-05-01T08:00:00Z")
	}
	return m
}

// share reads a percentage: 12%, 12.5%, at most 100%.
func (p *Plan) share(v *node, of string) grow.Share {
	if v.scalar() {
		if digits, ok := strings.CutSuffix(strings.TrimSpace(v.text), "%"); ok {
			d, err := value.ParseDecimal(digits)
			if err == nil && d.N >= 0 && d.Scale <= 9 {
				whole := uint64(100)
				for range d.Scale {
					whole *= 10
				}
				if uint64(d.N) <= whole {
					return grow.Share{Part: uint64(d.N), Whole: whole}
				}
			}
		}
	}
	p.add(v.place, "%s lies between 0%% and 100%%, and here is %s", of, v.what()).Advise("such as 12%%")
	return grow.Share{}
}

// yes reads true or false.
func (p *Plan) yes(v *node, of string) bool {
	if v.scalar() && !v.quoted && (v.text == "true" || v.text == "false") {
		return v.text == "true"
	}
	p.add(v.place, "%s is true or false, and here is %s", of, v.what())
	return false
}

var (
	numberPattern = regexp.MustCompile(`^[-+]?[0-9][0-9_]*(\.[0-9]+)?$`)
	oddNumber     = regexp.MustCompile(
		`^[-+]?(0[0-9_]+(\.[0-9]*)?|0[xob][0-9a-fA-F]+|[0-9.]+[eE][-+]?[0-9]+|\.[0-9]+|[0-9]+\.)$`,
	)
)

// literal reads a value written by hand. What is in quotes is text; the rest goes
// by its looks: null, true and false, numbers, dates, moments, times of day, text.
func (p *Plan) literal(v *node) (value.Value, bool) {
	var out value.Value
	var err error
	switch {
	case v.mapping || v.list:
		p.add(v.place, "a value is expected, and here is %s", v.what())
		return out, false
	case v.null:
	case v.quoted:
		out = value.String(v.text)
	case v.text == "true" || v.text == "false":
		out = value.Bool(v.text == "true")
	case oddNumber.MatchString(v.text):
		p.add(v.place, "%s can be read in several ways", v.text).
			Advise("write a plain decimal number, or put quotes around it if it is text: %q", v.text)
		return out, false
	case numberPattern.MatchString(v.text):
		out, err = value.ParseDecimal(v.text)
	default:
		var looks bool
		if out, looks, err = value.ReadMoment(v.text); !looks {
			out = value.String(v.text)
		}
	}
	if err != nil {
		p.add(v.place, "%s", err).Advise("put quotes around it if it is text")
		return out, false
	}
	return out, true
}
