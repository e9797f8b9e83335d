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

	"evensprout/internal/cover"
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
	Locales  grow.Locales // of names, addresses and texts; nil: the default
	Awkward  *Awkward     // nil: none
	Once     bool         // a database that it filled is never filled again
	Kinds    []*OwnKind
	BuildsOn []*BuiltOn // plans whose rows are there before
	Schemas  []string   // it fills each of them; nil: as tables are named
	Entities []*Entity
	Units    []*Unit
	Always   []*Invariant

	OnViolation Policies  // what is not named stops
	Ignore      []Ignored // columns of all tables that do not count when rows are compared
	Changes     []Change  // what use: changes

	collector *collector
	malformed diag.Problems // what is wrong with its form
	source    []byte
	root      *node
	editionAt place
}

// Entity is one entry of entities.
type Entity struct {
	Name      string
	Schema    string // one of the plan's schemas, whose rows these are; empty if the plan has none
	Table     string
	Rows      uint64
	Covering  int  // the fewest rows in which the choices of so many fields meet; 0: as many as Rows
	Per       *Per // nil if it is no child
	WhenEmpty bool // fill only an empty table
	Fields    []*Field
	Draws     []*Field // drawn once, used by several fields, not stored
	Uniques   []Unique
	Meets     []Meet // conditions that every row meets
	Profiles  []*Profile
	Given     []*Given
	RowsFrom  *RowsFrom // nil if its rows are grown
	Existing  bool      // its rows are those of the table: they are read, not written
	Write     *Write    // nil: insert

	Locales      grow.Locales // nil: the plan's
	Awkward      *Awkward     // nil: the plan's
	DatabaseKeys bool         // the database gives the keys
	Label        string       // how people call a row, such as {code} {name}; empty: as its columns suggest
	OnViolation  Policies     // before the plan's own
	Ignore       []Ignored    // beside the plan's own

	place
	tablePlace, rowsPlace, labelPlace place
}

// Per says how many rows there are for each row of a parent.
type Per struct {
	Parent  string
	Lo, Hi  uint64
	Groups  []rng.DealGroup // by weight; nil: all numbers from Lo to Hi are as frequent
	Via     string          // the reference to the parent; empty if it is plain
	Instead bool            // given rows stand instead of grown ones, not beside them
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

	Awkward *Awkward // nil: the entity's, or the plan's

	node   *node  // all of it
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
var ErrMissing = errors.New("there is no such file")

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

// Outside is the plan file without its entities and comments: what else units depend on.
func (p *Plan) Outside() string {
	var out strings.Builder
	entities := false
	for line := range strings.Lines(string(p.ForJournal())) {
		if c := line[0]; c != ' ' && c != '#' && c != '\t' && c != '\n' && c != '\r' {
			entities = strings.HasPrefix(line, "entities:")
		}
		if !entities && line[0] != '#' {
			out.WriteString(line)
		}
	}
	return out.String()
}

// File is the name of the plan file in messages.
func (p *Plan) File() string { return p.collector.file }

// Read reads a plan. file is its name in messages. The error is Problems, if this is
// no plan at all; what else is wrong is told by Compile.
func Read(file string, data []byte) (*Plan, error) { return read(file, data, nil) }

// read is Read, with a change to the nodes before they are read; nil for none.
func read(file string, data []byte, change func(*node)) (*Plan, error) {
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
		p.add(root.place, "a plan must be a mapping (key: value), got %s", root.what()).
			Advise("it begins with name: NAME; evensprout demo creates an example")
		return nil, c.found
	}
	if change != nil {
		change(root)
	}
	p.use(root)
	p.read(root)
	p.malformed = c.found
	return p, nil
}

// shape describes what a mapping may hold.
type shape map[string]func(key, value *node)

// each reads the entries of a mapping; unknown keys are problems.
func (p *Plan) each(n *node, of string, s shape) {
	if !n.mapping {
		p.add(n.place, "%s must be a mapping (key: value), got %s", of, n.what())
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

// keysOf returns the keys of a map, sorted.
func keysOf[V any](m map[string]V) []string {
	keys := make([]string, 0, len(m))
	for k := range m {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	return keys
}

// add adds a problem that stops the plan from being used.
func (p *Plan) add(at place, message string, args ...any) *diag.Problem {
	return p.collector.add(at, message, args...)
}

// needed tells which keys a plan lacks.
func (p *Plan) needed(root *node) {
	if p.Name == "" && root.get("name") == nil {
		p.add(place{1, 1}, "the plan has no name").Advise("add a name, such as name: larkwater")
	}
	if p.Seed == "" && root.get("seed") == nil {
		p.add(place{1, 1}, "the plan has no seed").
			Advise("add a seed, any text, such as seed: larkwater-2026; another seed generates other rows")
	}
	if root.get("clock") == nil {
		p.add(place{1, 1}, "the plan has no clock").
			Advise("add the plan's current time, such as clock: 2026-05-01T08:00:00Z; the real time is never used")
	}
}

// entitiesOf reads the entities; false if they are none.
func (p *Plan) entitiesOf(entities *node, whenEmpty bool) bool {
	if !entities.mapping {
		p.add(entities.place, "entities must be a mapping of names, got %s", entities.what())
		return false
	}
	if len(entities.pairs) > maxEntities {
		p.add(entities.place, "more than %d entities", maxEntities)
		return false
	}
	for _, x := range entities.pairs {
		e := &Entity{Name: x.key.text, WhenEmpty: whenEmpty, place: x.key.place}
		if !isName(e.Name) {
			p.add(x.key.place, "%q is not a valid name for an entity", e.Name).
				Advise("use a letter, then letters, digits and _")
		}
		p.entity(e, x.value)
		p.Entities = append(p.Entities, e)
	}
	return true
}

// read reads a whole plan.
func (p *Plan) read(root *node) {
	var entities, units, always, schemas *node
	whenEmpty := false
	p.each(root, "a plan", shape{
		"name": func(_, v *node) { p.text(v, "name", &p.Name) },
		"edition": func(_, v *node) {
			p.editionAt = v.place
			p.text(v, "edition", &p.Edition) // Compile finds out whether it is known
		},
		"seed": func(_, v *node) { p.text(v, "seed", &p.Seed) },
		"clock": func(_, v *node) {
			var text string
			if p.text(v, "clock", &text) {
				p.Clock = p.moment(v)
			}
		},
		"database":     func(_, v *node) { p.text(v, "database", &p.Database) },
		"locale":       func(_, v *node) { p.Locales = p.locales(v) },
		"awkward":      func(_, v *node) { p.Awkward = p.awkward(v) },
		"when":         func(_, v *node) { whenEmpty = p.when(v) },
		"once":         func(_, v *node) { p.Once = p.yes(v, "once") },
		"commit":       func(_, v *node) { p.commit(v) },
		"on_violation": func(_, v *node) { p.OnViolation = p.violationPolicies(v) },
		"kinds":        func(_, v *node) { p.ownKinds(v) },
		"builds_on":    func(_, v *node) { p.buildsOn(v) },
		"schemas":      func(_, v *node) { schemas = v },
		"ignore":       func(_, v *node) { p.Ignore = p.ignored(v) },
		"entities":     func(_, v *node) { entities = v },
		"units":        func(_, v *node) { units = v },
		"always":       func(_, v *node) { always = v },
		"variants":     func(_, _ *node) {}, // see use
		"use":          func(_, _ *node) {},
	})
	p.needed(root)
	if entities == nil && units != nil {
		entities = &node{mapping: true} // units may work on tables that are filled otherwise
	} else if entities == nil || entities.null || entities.mapping && len(entities.pairs) == 0 {
		p.noEntities(entities)
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
	if schemas != nil {
		if p.schemas(schemas); p.Schemas != nil {
			p.repeat(schemas.place)
		}
	}
}

// commit reads how a load commits.
func (p *Plan) commit(v *node) {
	var word string
	if !p.text(v, "commit", &word) {
		return
	}
	if !slices.Contains(commits, word) {
		p.add(v.place, "%q is not a way to commit", word).Nearest(word, commits)
		return
	}
	p.Commit = Commit(word)
}

// noEntities adds the problem of a plan without entities.
func (p *Plan) noEntities(n *node) {
	at := place{1, 1}
	if n != nil {
		at = n.place
	}
	p.add(at, "the plan has no entities").
		Advise("add entities:, with an entry for each kind of row, or draft them from a database with evensprout " +
			"survey")
}

// IsFieldName reports whether a field can be called so.
func IsFieldName(s string) bool {
	return s != "" && len(s) <= maxNameLength && s != clockWord && !strings.ContainsAny(s, ".{}|")
}

// isName reports whether a text is a name: letters, digits and _, no digit first.
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

// Ignored is a column that applications or the database keep: whether it still holds what was loaded does not count.
type Ignored struct {
	Name string // of a column, or of the field that is written to it
	place
}

// ignored reads a column, or a list of columns.
func (p *Plan) ignored(v *node) []Ignored {
	items := []*node{v}
	if v.list {
		items = v.items
	}
	var out []Ignored
	for _, x := range items {
		i := Ignored{place: x.place}
		if p.text(x, "ignore", &i.Name) {
			out = append(out, i)
		}
	}
	return out
}

// Ignores reports whether a column of an entity's table does not count; field is what is written to it, empty if nothing
// is.
func (p *Plan) Ignores(entity, column, field string) bool {
	named := func(i Ignored) bool { return i.Name == column || i.Name == field && field != "" }
	if slices.ContainsFunc(p.Ignore, named) {
		return true
	}
	for _, e := range p.Entities {
		if e.Name == entity {
			return slices.ContainsFunc(e.Ignore, named)
		}
	}
	return false
}

// entity reads an entity.
func (p *Plan) entity(e *Entity, n *node) {
	s := p.rowsShape(e)
	s["table"] = func(_, v *node) { p.text(v, "table", &e.Table); e.tablePlace = v.place }
	s["write"] = func(_, v *node) { e.Write = p.write(v) }
	s["on_violation"] = func(_, v *node) { e.OnViolation = p.violationPolicies(v) }
	s["keys"] = func(_, v *node) {
		var word string
		if p.text(v, "keys", &word) && word != "database" && word != "planned" {
			p.add(v.place, "keys must be planned or database, got %s", v.what()).
				Nearest(word, []string{"planned", "database"})
		}
		e.DatabaseKeys = word == "database"
	}
	s["ignore"] = func(_, v *node) { e.Ignore = p.ignored(v) }
	s["label"] = func(_, v *node) { p.readLabel(e, v) }
	s["when"] = func(_, v *node) { e.WhenEmpty = p.when(v) }
	s["awkward"] = func(_, v *node) { e.Awkward = p.awkward(v) }
	s["locale"] = func(_, v *node) { e.Locales = p.locales(v) }
	p.each(n, "an entity", s)
	if e.Existing {
		for _, x := range n.pairs {
			if k := x.key.text; k != "rows" && k != "table" {
				p.add(x.key.place, "the rows of %s are existing rows, so it cannot have %s", e.Name, k).
					Advise("its fields are the columns of the table")
			}
		}
		return
	}

	p.oneSource(e)
	if n.mapping && e.RowsFrom == nil && e.Per == nil && e.rowsPlace == (place{}) && n.get("given") == nil {
		p.add(e.place, "%s has neither rows nor per nor given, so it has no rows", e.Name).
			Advise("add rows: 100, or per: {Parent: 1..3}, or given: with rows written in the plan")
	}
}

// pairs is the usual number of fields whose choices meet.
const pairs = 2

// rowsShape is what entities and units alike say of their rows or occasions.
func (p *Plan) rowsShape(e *Entity) shape {
	return shape{
		"rows": func(_, v *node) {
			e.rowsPlace = v.place
			switch {
			case v.scalar() && v.text == "existing":
				e.Existing = true
				return
			case v.scalar() && v.text == "covering":
				e.Covering = pairs
				return
			case v.mapping:
				p.each(v, "rows", shape{"covering": func(_, n *node) {
					strength, _ := p.number(n, "covering", pairs, cover.MaxStrength)
					e.Covering = int(strength)
				}})
				return
			}
			e.Rows, _ = p.number(v, "rows", 0, maxRows)
		},
		"per":       func(_, v *node) { e.Per = p.per(v) },
		"rows_from": func(_, v *node) { p.rowsFrom(e, v) },
		"via": func(k, v *node) {
			p.add(k.place, "via needs per").Advise("per: {Passenger: 0..3, via: passenger_id}")
		},
		"fields": func(_, v *node) { p.fields(e, v) },
		"shared": func(_, v *node) { p.shared(e, v) },
		formerShared: func(k, _ *node) {
			p.add(k.place, "%q is now called shared", formerShared).Advise("rename the key to shared:")
		},
		"unique": func(_, v *node) { p.uniques(e, v) },
		"meets":  func(_, v *node) { p.meets(e, v) },

		"profiles": func(_, v *node) { p.profiles(e, v) },
		"given":    func(_, v *node) { p.given(e, v) },
	}
}

// oneSource tells of rows that come from several places.
func (p *Plan) oneSource(e *Entity) {
	if e.Per != nil && e.rowsPlace != (place{}) {
		p.add(e.rowsPlace, "%s has both rows and per", e.Name).
			Advise("keep per for rows of each parent, or rows for an entity without a parent")
	}
	if e.RowsFrom != nil && (e.Per != nil || e.rowsPlace != (place{})) {
		p.add(e.RowsFrom.place, "the rows of %s come from a file, so it cannot have rows or per", e.Name)
	}
}

// fields reads the fields of an entity, in their order: growing follows it.
func (p *Plan) fields(e *Entity, v *node) {
	if v.null {
		return
	}
	if !v.mapping {
		p.add(v.place, "fields must be a mapping of field names, got %s", v.what())
		return
	}
	for _, x := range v.pairs {
		f := &Field{Name: x.key.text, place: x.key.place}
		if !IsFieldName(f.Name) {
			p.add(f.place, "%q is not a valid name for a field", f.Name).
				Advise("give the field a plain name, and add column: %q", f.Name)
		}
		p.field(f, x.value)
		e.Fields = append(e.Fields, f)
	}
}

// shared reads the values that fields share and no column stores.
func (p *Plan) shared(e *Entity, v *node) {
	if !v.mapping {
		p.add(v.place, "shared must be a mapping of names, got %s", v.what()).Advise("such as shared: {who: " +
			"{kind: person}}")
		return
	}
	for _, x := range v.pairs {
		d := &Field{Name: x.key.text, place: x.key.place, inner: true}
		if !isName(d.Name) || d.Name == clockWord {
			p.add(d.place, "%q is not a valid name for a shared value", d.Name).
				Advise("use a letter, then letters, digits and _")
		}
		p.field(d, x.value)
		if d.Column != "" {
			p.add(d.columnPlace, "a shared value is not stored, so it has no column").
				Advise("use it in a field with {from: %s}", d.Name)
		}
		e.Draws = append(e.Draws, d)
	}
}

// per reads how many rows there are for each row of a parent; nil after adding a problem.
func (p *Plan) per(v *node) *Per {
	per := &Per{place: v.place}
	if !v.mapping {
		p.add(v.place, "per must name the parent and how many rows each has, got %s", v.what()).
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
				p.add(x.value.place, "given must be beside or instead, got %s", x.value.what()).
					Advise("per: {Passenger: 0..3, given: instead}")
			}
		case per.Parent != "":
			p.add(x.key.place, "per must name one parent, got a second").
				Advise("make the second reference a field: {pick: %s}", x.key.text)
		default:
			per.Parent, per.place = x.key.text, x.key.place
			p.perParent(per, x.value)
		}
	}

	if per.Parent == "" {
		p.add(v.place, "per must name a parent").Advise("per: {Passenger: 0..3}")
		return nil
	}
	return per
}

// perParent reads how many rows there are for a parent: a range, or ranges with weights, as in
// {0: 50, 1: 30, 2..4: 20}.
func (p *Plan) perParent(per *Per, v *node) {
	of := "the number of rows for each " + per.Parent
	if !v.mapping {
		r, _ := p.countRange(v, of, rng.MaxChildren)
		per.Lo, per.Hi = r.Lo, r.Hi
		return
	}
	if v.get("between") != nil {
		p.perShape(per, v, of)
		return
	}
	for i, x := range v.pairs {
		r, ok := p.countRange(x.key, of, rng.MaxChildren)
		w := *x.value
		w.text = strings.TrimSuffix(w.text, "%")
		weight, fine := p.number(&w, "the weight of "+x.key.text, 0, rng.MaxDealWeight)
		if !ok || !fine {
			return
		}
		per.Groups = append(per.Groups, rng.DealGroup{Lo: r.Lo, Hi: r.Hi, Weight: weight})
		if per.Hi = max(per.Hi, r.Hi); i == 0 || r.Lo < per.Lo {
			per.Lo = r.Lo
		}
	}
}

// perShape reads {between: 0..40, shape: exponential}.
func (p *Plan) perShape(per *Per, v *node, of string) {
	var by grow.Shape
	good := true
	p.each(v, of, shape{
		"between": func(_, n *node) {
			r, ok := p.countRange(n, of, rng.MaxChildren)
			per.Lo, per.Hi, good = r.Lo, r.Hi, good && ok
		},
		"shape": func(_, n *node) {
			var ok bool
			by, ok = p.shape(n, p.numberParameter)
			good = good && ok
		},
	})
	if good && by.Name == "" {
		p.add(v.place, "%s has no shape", of).
			Advise("{between: 0..40, shape: exponential}, or just a range such as 0..3")
		return
	}
	if !good {
		return
	}
	var err error
	if per.Groups, err = grow.ShapedDeal(per.Lo, per.Hi, by); err != nil {
		p.add(v.place, "%s: %s", of, err)
	}
}

// uniques reads the lists of fields that are unique together.
func (p *Plan) uniques(e *Entity, v *node) {
	if !v.list {
		p.add(v.place, "unique of an entity must be a list of groups of fields, got %s", v.what()).
			Advise("such as unique: [[sailing, seat]]; for one field, add unique: true to it")
		return
	}
	for _, g := range v.items {
		if !g.list || len(g.items) < 2 {
			p.add(g.place, "a unique group must be a list of two or more fields, got %s", g.what()).
				Advise("such as unique: [[sailing, seat]]; for one field, add unique: true to it")
			continue
		}
		u := Unique{place: g.place}
		for _, f := range g.items {
			var name string
			if p.text(f, "a field's name", &name) {
				u.Fields = append(u.Fields, name)
			}
		}
		if len(u.Fields) == len(g.items) { // else what is left of the group means something else
			e.Uniques = append(e.Uniques, u)
		}
	}
}

// given reads the rows that are written in the plan.
func (p *Plan) given(e *Entity, v *node) {
	switch {
	case v.null:
		return
	case v.list:
		v = p.table(e, v)
	case !v.mapping:
		p.add(v.place, "given must be a mapping of row names, or a table, got %s", v.what()).
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
			p.add(x.key.place, "%q is not a valid name for a row", x.key.text).
				Advise("use a name without a dot; other rows refer to it as %s.name", entity)
			continue
		}
		if !x.value.mapping && !x.value.null {
			p.add(x.value.place, "a given row must be a mapping of fields, got %s", x.value.what())
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
		p.add(v.place, "a table of rows must have a line of field names, then a line for each row")
		return out
	}
	head := v.items[0]
	for _, line := range v.items {
		if !line.list || len(line.items) != len(head.items) || len(line.items) == 0 {
			p.add(
				line.place,
				"each line of the table must have %d cells like the first, got %s",
				len(head.items),
				line.what(),
			)
			return out
		}
	}

	for _, f := range head.items {
		if !f.scalar() {
			p.add(f.place, "the first line of the table must name fields, got %s", f.what())
			return out
		}
	}

	for _, line := range v.items[1:] {
		name := line.items[0]
		if !name.scalar() {
			p.add(name.place, "the first cell must name the row, got %s", name.what())
			continue
		}
		if i, ok := out.index[name.text]; ok {
			p.add(name.place, "the row %s is repeated here", name.text).
				Advise("it is already in line %d", out.pairs[i].key.line)
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
		p.add(v.place, "when must be empty: fill only an empty table")
		return false
	}
	return true
}

// text reads a scalar that is not empty.
func (p *Plan) text(v *node, of string, into *string) bool {
	if !v.scalar() || v.text == "" {
		p.add(v.place, "%s must be a text, got %s", of, v.what())
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
			p.add(v.place, "%s must be between %d and %d, got %s", of, lo, hi, v.text)
			return 0, false
		}
	}
	p.add(v.place, "%s must be a whole number, got %s", of, v.what())
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
				p.add(v.place, "%s must be a number or a range such as 0..3, got %s", of, v.what())
			case a > b:
				p.add(v.place, "%s: the range is reversed, write the smaller number first: %d..%d", of, b, a)
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

// moment reads a date or a moment; NULL after adding a problem.
func (p *Plan) moment(v *node) value.Value {
	m, err := value.ParseTimestamp(v.text)
	if err != nil {
		p.add(v.place, "%s", err).Advise("such as 2026-05-01T08:00:00Z")
	}
	return m
}

// percentage reads a percentage: 12%, 12.5%, at most 100%.
func percentage(text string) (grow.Share, bool) {
	digits, ok := strings.CutSuffix(strings.TrimSpace(text), "%")
	d, err := value.ParseDecimal(digits)
	if !ok || err != nil || d.N < 0 || d.Scale > 9 {
		return grow.Share{}, false
	}
	whole := uint64(100)
	for range d.Scale {
		whole *= 10
	}
	return grow.Share{Part: uint64(d.N), Whole: whole}, uint64(d.N) <= whole
}

// share reads a percentage; its whole is 0 after adding a problem.
func (p *Plan) share(v *node, of string) grow.Share {
	if s, ok := percentage(v.text); v.scalar() && ok {
		return s
	}
	p.add(v.place, "%s must be between 0%% and 100%%, got %s", of, v.what()).Advise("such as 12%%")
	return grow.Share{}
}

// yes reads true or false.
func (p *Plan) yes(v *node, of string) bool {
	if v.scalar() && !v.quoted && (v.text == "true" || v.text == "false") {
		return v.text == "true"
	}
	p.add(v.place, "%s must be true or false, got %s", of, v.what())
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
		p.add(v.place, "a value is expected, got %s", v.what())
		return out, false
	case v.null:
	case v.quoted:
		out = value.String(v.text)
	case v.text == "true" || v.text == "false":
		out = value.Bool(v.text == "true")
	case oddNumber.MatchString(v.text):
		p.add(v.place, "%s can be read in several ways", v.text).
			Advise("write a plain decimal number, or put text in quotes: %q", v.text)
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
		p.add(v.place, "%s", err).Advise("put text in quotes")
		return out, false
	}
	return out, true
}
