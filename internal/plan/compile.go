package plan

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"evensprout/internal/diag"
	"evensprout/internal/grow"
	"evensprout/internal/rng"
	"evensprout/internal/schema"
	"evensprout/internal/value"
)

// Compiled is a plan that can be grown, and where its rows go.
type Compiled struct {
	Plan    *Plan
	Set     *grow.Set
	Targets []*Target // in the order of Set.Entities

	Logins    []Login         // fields of hashed passwords
	Occasions []*Target       // of units: they have no table
	Units     []*CompiledUnit // in their order; empty without a database
	Always    []*schema.Rule  // what must hold over the data; empty without a database

	Warnings diag.Problems
	Database *schema.Database  // nil without a database
	Shift    map[string]uint64 // as the options say
	Inputs   []string          // files that rows are read from, seen from the current folder

	// Corrected is the rejects file whose rows stand in place of the plan's; or empty.
	Corrected string
	// Lost are the fields of a plan that was loaded whose columns are gone, as Port.label.
	Lost []string

	files   []FileRows
	closing []func() error
	bases   map[*Target]*base // entities of plans that this one builds on
}

// Problem is something about an entity that only the database shows.
func (p *Plan) Problem(e *Entity, format string, args ...any) *diag.Problem {
	return p.addDatabaseProblem(e.place, format, args...)
}

// Problem is the plan's.
func (c *Compiled) Problem(e *Entity, format string, args ...any) *diag.Problem {
	return c.Plan.Problem(e, format, args...)
}

// Line is where a row stands in the entity's file; 0 if it stands in none.
func (t *Target) Line(n uint64) (string, int) {
	if rows, ok := t.Grow.Table.(interface{ Place(uint64) (string, int) }); ok {
		return rows.Place(n)
	}
	return "", 0
}

// Target is an entity and the table that takes its rows.
type Target struct {
	Plan    *Entity
	Grow    *grow.Entity
	Table   *schema.Table    // nil if compiled without a database
	Columns []*schema.Column // of each field of Grow; nil without a database
	// Least and Most are how many rows there are for each row of the parent, if the entity has one.
	Least, Most uint64
	Write       Resolved
}

// Target finds an entity, by its own name or its table's; nil if there is none, or several schemas have one.
func (c *Compiled) Target(name string) *Target {
	for _, t := range c.Targets {
		if t.Plan.Name == name {
			return t
		}
	}
	var found *Target
	for _, t := range c.Targets {
		if schema.Plain(t.Plan.Bare()) == schema.Plain(name) ||
			t.Plan.Table != "" && strings.EqualFold(t.Plan.Table, name) {
			if found != nil && found.Plan.Schema != t.Plan.Schema {
				return nil
			}
			found = cmp.Or(found, t)
		}
	}
	return found
}

// Names returns the names of the entities.
func (c *Compiled) Names() []string {
	names := make([]string, len(c.Targets))
	for i, t := range c.Targets {
		names[i] = t.Plan.Name
	}
	return names
}

// Options say what a plan is compiled for.
type Options struct {
	Database *schema.Database // nil: the plan is held only against itself
	Clock    value.Value      // where not NULL, it stands for the plan's own
	// Shift is, by entity without a parent, how many grown rows stand in front of those
	// that are meant: there are as many more.
	Shift map[string]uint64
	// Rows opens a file of rows; nil: there are none. Its result is closed with the
	// Compiled.
	Rows func(FileSpec) (FileRows, diag.Problems)
	// WithoutUnits and WithoutAlways leave units and invariants out.
	WithoutUnits, WithoutAlways bool
	// Sample is how many rows of each entity are grown and held against the database; 0:
	// none are.
	Sample uint64
	// Existing reads the rows of a table; nil: they cannot be read.
	Existing func(*schema.Table) (grow.Table, error)
	// Since is how the tables have changed since the plan was loaded; nil: the plan is to be
	// loaded, and all must fit.
	Since *Migration
	// Editions are the editions of rows that a plan can name; nil: those of this program.
	Editions []grow.Edition
	// Plans reads a plan that this one builds on; nil: as ReadFile does.
	Plans func(path string) (*Plan, error)
	// Unloaded lets the rows of plans that this one builds on not be in their tables yet.
	Unloaded bool

	chain []string // plans that build on this one, from the root
}

// Migration is how tables have changed since a plan was loaded. What is not there any more
// is left out of the plan.
type Migration struct {
	// Renamed is the name that a field has now; empty if it has none.
	Renamed func(entity, field string) string
	Lost    []string // fields whose columns are gone, as Port.label
}

// Compile looks up every name and makes a plan ready to grow. The error is
// diag.Problems, all at once.
func (p *Plan) Compile(o Options) (*Compiled, error) {
	p.collector.found = slices.Clone(p.malformed)
	if !o.Clock.IsNull() {
		p.Clock = o.Clock
	}
	c := &compiler{
		plan: p, db: o.Database, byName: map[string]*entity{},
		out: &Compiled{
			Plan:     p,
			Database: o.Database,
			Shift:    o.Shift,
			Set:      &grow.Set{Seed: p.Seed, Edition: p.Edition, Clock: p.Clock},
		},
		kinds: map[string]grow.Kind{}, withoutUnits: o.WithoutUnits, openFile: o.Rows, openTable: o.Existing,
		since: o.Since, options: o,
	}
	for _, k := range c.edition().Kinds {
		c.kinds[k.Name] = k
	}
	c.ownKinds()
	c.declare()
	c.sources()
	c.unique()
	c.awkward()
	c.meets()
	c.labels()
	c.given()
	for _, e := range c.entities {
		if !e.occasion {
			e.write = c.written(e)
		}
	}
	if !o.WithoutUnits {
		c.units()
	}
	if !o.WithoutAlways {
		c.rules()
	}
	if c.growable() {
		c.finish()
	}
	if o.Database != nil {
		for _, e := range c.entities {
			if c.since == nil {
				c.fit(e)
			}
		}
		c.fitIgnoredEverywhere(o.Database)
		if o.Sample > 0 && c.growable() {
			c.sample(o.Sample)
		}
	}

	p.onceForAll()
	found := p.collector.found
	if c.unknown {
		found = slices.DeleteFunc(found, func(x *diag.Problem) bool { return !x.Database })
	}
	found.Sort()
	if errs := found.Errors(); len(errs) > 0 {
		c.out.Close() // the problems are worth more than an error of closing
		return nil, found
	}
	c.out.Warnings = found.Warnings()
	return c.out, nil
}

// Outline is the entities whose tables are there, with their columns and write modes as
// far as these can be told of a plan that may be wrong. Nothing can be grown from them.
func (p *Plan) Outline(db *schema.Database) []*Target {
	defer func(found diag.Problems) { p.collector.found = found }(p.collector.found)
	c := p.outlined(db)
	var list []*Target
	for _, e := range c.entities {
		if e.table == nil {
			continue
		}
		t := &Target{Plan: e.decl, Table: e.table, Write: c.written(e)}
		for _, f := range e.fields {
			t.Columns = append(t.Columns, f.column)
		}
		list = append(list, t)
	}
	return list
}

// Binding is the table of an entity, and the columns of its fields.
type Binding struct {
	Table   *schema.Table             // nil: the database has none
	Columns map[string]*schema.Column // by the name of the field; those of fields without a column are nil
}

// Bindings are those of all entities, as far as they can be told of a plan that may be wrong.
func (p *Plan) Bindings(db *schema.Database) map[string]Binding {
	defer func(found diag.Problems) { p.collector.found = found }(p.collector.found)
	out := map[string]Binding{}
	for _, e := range p.outlined(db).entities {
		b := Binding{Table: e.table, Columns: map[string]*schema.Column{}}
		for _, f := range e.fields {
			b.Columns[f.decl.Name] = f.column
		}
		out[e.decl.Name] = b
	}
	return out
}

// outlined is a compiler that has declared the entities of a plan, whatever is wrong with it.
func (p *Plan) outlined(db *schema.Database) *compiler {
	c := &compiler{
		plan: p, db: db, byName: map[string]*entity{}, kinds: map[string]grow.Kind{}, withoutUnits: true,
		out: &Compiled{Plan: p, Database: db, Set: &grow.Set{Seed: p.Seed, Edition: p.Edition, Clock: p.Clock}},
	}
	c.declare()
	return c
}

// edition finds the edition that the plan names.
func (c *compiler) edition() grow.Edition {
	known := c.options.Editions
	if known == nil {
		known = grow.Editions()
	}
	if found := grow.FindEdition(known, c.plan.Edition); found != nil {
		return *found
	}
	names := make([]string, len(known))
	for i, e := range known {
		names[i] = e.Name
	}
	c.plan.add(c.plan.editionAt, "this program does not support edition %s; it supports %s", c.plan.Edition,
		strings.Join(names, ", ")).Advise("use a newer version of the program")
	return known[len(known)-1] // so that its kinds are not problems, too
}

// compiler holds what is known while a plan is compiled.
type compiler struct {
	plan     *Plan
	db       *schema.Database
	out      *Compiled
	entities []*entity
	byName   map[string]*entity
	kinds    map[string]grow.Kind
	lists    map[string]*grow.List // kinds of the plan's own
	stack    []*field              // fields being compiled, to find circles

	shapes       grow.Shapes
	logins       []loginField
	withoutUnits bool
	unknown      bool // a plan that it builds on lacks its tables: what refers to that cannot be judged
	openFile     func(FileSpec) (FileRows, diag.Problems)

	openTable func(*schema.Table) (grow.Table, error)
	since     *Migration
	options   Options
	bySource  map[string]func(*field) grow.Source // by the word that names it
}

// entity is an entity of the plan while it is compiled.
type entity struct {
	decl   *Entity
	grow   *grow.Entity
	parent *entity
	table  *schema.Table
	fields []*field
	byName map[string]*field
	up     *field
	given  []*Given       // also those written below their parents
	rows   map[string]int // their places among Side rows; of a base, among its rows
	base   *base          // nil if it is an entity of this plan

	profile   *field                     // the name of a row's profile; nil if it has none
	overrides map[string][]*profileField // what profiles say of fields, by the field's name

	rowFile  FileRows // nil if its rows are grown
	write    Resolved
	occasion bool // its rows are occasions of a unit, and go into no table
}

// field is a field of the plan, or one that the plan leaves unsaid: a key, the
// reference to the parent.
type field struct {
	decl   *Field // made up if the plan leaves it unsaid
	grow   *grow.Field
	entity *entity
	column *schema.Column
	given  []*node // values of given rows, if only those say the field
	state  compileState

	fileColumn int      // of the entity's file, if the word is wordStored
	finds      *finding // for a reference by a natural key
}

// compileState says how far a field is compiled. One that is met while it compiles refers to itself.
type compileState int

const (
	waiting compileState = iota
	compiling
	compiled
	failed
)

// The words of sources that the plan leaves unsaid.
const (
	wordParent = "per"   // the reference to the parent
	wordGiven  = "given" // only given rows have values
)

// add adds a problem that stops the plan from being used.
func (c *compiler) add(at place, message string, args ...any) *diag.Problem {
	return c.plan.add(at, message, args...)
}

// missing adds a problem with the database rather than with the plan.
func (c *compiler) missing(at place, message string, args ...any) *diag.Problem {
	if c.since != nil {
		return &diag.Problem{} // it was there when the plan was loaded
	}
	p := c.add(at, message, args...)
	p.Database = true
	return p
}

// declare makes all entities and fields, so that sources can refer to them.
func (c *compiler) declare() {
	for _, d := range c.plan.Entities {
		e := &entity{decl: d, byName: map[string]*field{}, rows: map[string]int{}}
		e.grow = c.out.Set.NewEntity(d.Name)
		e.grow.Rows = d.Rows + c.out.Shift[d.Name]
		if d.Covering > 0 {
			e.grow.Covering = &grow.Covering{Strength: d.Covering}
		}
		c.entities = append(c.entities, e)
		c.byName[d.Name] = e
	}

	c.declareBases()
	if !c.withoutUnits {
		c.occasions()
	}
	for _, e := range c.entities {
		c.family(e)
	}
	for _, e := range c.entities {
		c.circle(e)
	}
	for _, e := range c.entities {
		if e.parent == nil {
			c.nested(e, e.decl.Given)
		}
		c.cast(e)
	}
	tables := map[string]string{}
	for _, e := range c.entities {
		if c.db != nil && !e.occasion {
			c.table(e)
			if e.table != nil {
				if other, ok := tables[e.table.Name]; ok {
					c.add(e.decl.place, "%s and %s both use the table %s", other, e.decl.Name, e.table.Name).
						Advise("use one entity for each table")
				}
				tables[e.table.Name] = e.decl.Name
			}
		}
		c.fieldsOf(e)
	}

	for _, e := range c.entities {
		c.bind(e)
	}
}

// names returns the names of all entities as a plan writes them, sorted.
func (c *compiler) names() []string {
	names := map[string]bool{}
	for name := range c.byName {
		names[bare(name)] = true
	}
	return keysOf(names)
}

// family links an entity to its parent.
func (c *compiler) family(e *entity) {
	per := e.decl.Per
	if per == nil {
		return
	}
	e.parent = c.named(e.decl.Schema, per.Parent)
	if e.parent == nil {
		c.add(per.place, "%s is per %s, which is not an entity", e.decl.Name, per.Parent).
			Nearest(per.Parent, c.names())
		return
	}
	if e.parent.base != nil {
		c.add(per.place, "%s is an entity of %s, and rows cannot be planned per row of another plan", per.Parent,
			e.parent.base.plan.File()).
			Advise("give %s its own rows, and let it pick %s", e.decl.Name, per.Parent)
		e.parent = nil
		return
	}
	if e.parent.decl.Existing {
		c.add(per.place, "the rows of %s are existing rows, and this version cannot plan rows per existing "+
			"row", per.Parent).
			Advise("give %s its own rows, and let it pick %s", e.decl.Name, per.Parent)
	}
	e.grow.Parent = e.parent.grow
}

// circle refuses entities that are their own ancestors, and families too large to
// number.
func (c *compiler) circle(e *entity) {
	const most = 1 << 50
	chain := []string{e.decl.Name}
	rows := uint64(1)
	if e.decl.Per != nil {
		rows = max(e.mostChildren(), 1)
	}
	for up := e.parent; up != nil; up = up.parent {
		chain = append(chain, up.decl.Name)
		if up == e {
			c.add(e.decl.Per.place, "circle: %s", strings.Join(chain, " is per ")).
				Advise("give one of them rows: instead of per:")
			e.grow.Parent, e.parent = nil, nil
			return
		}
		if len(chain) > len(c.entities) {
			return // a circle above this entity, told there
		}
		if up.decl.Per != nil {
			rows *= max(up.mostChildren(), 1)
		} else {
			rows *= max(up.decl.Rows, 1)
		}
		if rows > most {
			c.add(e.decl.Per.place, "%s may have more than 2^50 rows", e.decl.Name)
			return
		}
	}
}

// dealOf deals the rows of an entity to its parents.
func dealOf(e *entity) (*rng.Deal, error) {
	per, key := e.decl.Per, e.up.grow.DealKey()
	if groups := e.parent.dealByProfile(e); groups != nil {
		return e.parent.grow.Profiles.Deal(key, groups)
	}
	if per.Groups != nil {
		return rng.NewWeightedDeal(key, per.Groups)
	}
	return rng.NewDeal(key, per.Lo, per.Hi)
}

// fieldsOf makes an entity's fields: those of the plan, those that only given rows
// say, the reference to the parent, the key.
func (c *compiler) fieldsOf(e *entity) {
	if e.parent != nil {
		name := e.parent.decl.Bare()
		e.up = c.newField(e, &Field{Name: name, word: wordParent, place: e.decl.Per.place})
		e.grow.Up = e.up.grow
		deal, err := dealOf(e)
		if err != nil {
			c.add(e.decl.Per.place, "%s", err)
			return
		}
		e.grow.Deal, e.grow.Instead = deal, e.decl.Per.Instead
	}

	c.openRows(e)
	c.openExisting(e)
	for _, d := range slices.Concat(e.decl.Draws, e.decl.Fields) {
		if f := e.byName[d.Name]; f != nil {
			what := "a draw"
			switch {
			case f == e.up:
				what = "the reference to the parent"
			case e.decl.RowsFrom != nil:
				what = "a column of the file"
			}
			c.add(d.place, "%s is already the name of %s", d.Name, what)
			continue
		}
		c.newField(e, d)
	}
	c.profileFields(e)
	c.givenFields(e)
}

// givenFields makes the fields that only rows written in the plan have, and collects what these say.
func (c *compiler) givenFields(e *entity) {
	for _, g := range e.given {
		for _, x := range g.Values.pairs {
			if c.isChild(e, x.key.text) {
				continue
			}
			f := e.find(x.key.text)
			if f != nil && f == e.profile {
				c.givenProfile(e, x.value)
				continue
			}
			if f != nil && f.decl.inner {
				c.add(x.key.place, "%s is a shared value, and a row written in the plan can set only "+
					"fields", f.decl.Name).
					Advise("set the fields that use it")
			}
			if f == nil {
				f = c.newField(e, &Field{Name: x.key.text, word: wordGiven, place: x.key.place})
			}
			if f.decl.word == wordGiven {
				f.given = append(f.given, x.value)
			}
		}
	}
}

// newField adds a field to an entity.
func (c *compiler) newField(e *entity, d *Field) *field {
	f := &field{decl: d, entity: e}
	seedName := d.Name
	if d.Was != "" {
		seedName = d.Was
	}
	f.grow = c.out.Set.NewField(e.grow, d.Name, seedName)
	f.grow.Nulls, f.grow.Free, f.grow.Inner = d.Nulls, d.Free, d.inner
	e.fields = append(e.fields, f)
	e.byName[d.Name] = f
	return f
}

// find looks a field up by the words of its name.
func (e *entity) find(name string) *field {
	if f := e.byName[name]; f != nil {
		return f
	}
	for _, f := range e.fields {
		if schema.Plain(f.decl.Name) == schema.Plain(name) {
			return f
		}
	}
	return nil
}

// names returns the names of the entity's fields, in the order of the plan.
func (e *entity) names() []string {
	names := make([]string, len(e.fields))
	for i, f := range e.fields {
		names[i] = f.decl.Name
	}
	return names
}

// uniqueTogether keeps the values of several fields apart together.
func (c *compiler) uniqueTogether(e *entity, u Unique) {
	var fields []*grow.Field
	ok := true
	for _, name := range u.Fields {
		f := e.find(name)
		if f == nil {
			c.add(u.place, "%s has no field %s", e.decl.Name, name).Nearest(name, e.names())
		}
		if f != nil && slices.Contains(fields, f.grow) {
			c.add(u.place, "%s is named twice in a unique group", f.decl.Name)
			ok = false
		}
		ok = ok && f != nil && f.state == compiled
		if ok {
			fields = append(fields, f.grow)
		}
	}
	if !ok || grow.Grouped(fields) {
		return
	}
	if err := e.grow.Unique(fields...); err != nil {
		c.add(u.place, "%s cannot be unique together: %s", strings.Join(u.Fields, " and "), err)
	}
}

// uniqueAlone keeps the values of single fields apart.
func (c *compiler) uniqueAlone(e *entity) {
	// Fields on their own before texts that may be built of them.
	for _, texts := range []bool{false, true} {
		for _, f := range e.fields {
			if !f.decl.Unique || f.state != compiled || f.decl.word != "from" && f.grow.Inherent() ||
				(f.decl.word == "text") != texts {
				continue
			}
			if err := e.grow.UniqueText(f.grow); err != nil {
				p := c.add(f.decl.place, "%s cannot be unique: %s", f.decl.Name, err)
				if texts {
					p.Advise("add shared: {n: {count: 1}} beside fields, and -{n} at the end of the text")
				}
			}
		}
	}
}

// unique makes the unique groups.
func (c *compiler) unique() {
	for _, e := range c.entities {
		// Groups of several fields first: a text over their parts then leans on them.
		for _, u := range e.decl.Uniques {
			c.uniqueTogether(e, u)
		}
		c.uniqueAlone(e)
	}
}

// target is the entity that a field refers to, or nil.
func (c *compiler) target(f *field) *entity {
	to := f.grow.Target()
	if to == nil {
		return nil
	}
	return c.byName[to.Name]
}

// finish links the rows; what only shows then is told at its place in the plan.
func (c *compiler) finish() {
	for _, e := range c.entities {
		t := &Target{Plan: e.decl, Grow: e.grow, Table: e.table, Write: e.write}
		t.Least, t.Most = e.children()
		if e.base != nil {
			if c.out.bases == nil {
				c.out.bases = map[*Target]*base{}
			}
			c.out.bases[t] = e.base
		}
		for _, f := range e.fields {
			t.Columns = append(t.Columns, f.column)
		}
		if e.occasion {
			c.out.Occasions = append(c.out.Occasions, t)
			continue
		}
		c.out.Targets = append(c.out.Targets, t)
		c.loginsOf(e, t)
	}

	faults := c.out.Set.Finish()
	if len(faults) == 0 {
		c.checkFinds()
		c.warnOfPools()
	}
	for _, fault := range faults {
		e := c.byName[fault.Entity.Name]
		at := e.decl.place
		name := e.decl.Name
		if fault.Field != nil {
			i := slices.IndexFunc(e.fields, func(f *field) bool { return f.grow == fault.Field })
			at = e.fields[i].decl.place
			name += "." + e.fields[i].decl.Name
		}
		if i, ok := e.rows[fault.Row]; ok && fault.Row != "" && e.base == nil {
			at = e.given[i].place
		}
		c.add(at, "%s: %s", name, fault.Message)
	}
}

// warnOfPools warns of unique picks that rows which are added later may meet.
func (c *compiler) warnOfPools() {
	for _, e := range c.entities {
		for _, f := range e.fields {
			if why := f.grow.Unsteady(); why != "" {
				p := c.add(
					f.decl.place,
					"%s: %s: rows added after a load may pick values that are taken",
					f.describe(),
					why,
				)
				p.Warning = true
				p.Advise("after adding rows, reload all of them with evensprout load --anew")
			}
		}
	}
}

// growable reports whether the rows can be linked: nothing is wrong with the plan
// itself, whatever the database says.
func (c *compiler) growable() bool {
	for _, e := range c.entities {
		for _, f := range e.fields {
			if f.state != compiled {
				return false
			}
		}
	}
	return c.plan.collector.found.Errors().OnlyDatabase()
}

// describe names a field for people.
func (f *field) describe() string { return fmt.Sprintf("%s.%s", f.entity.decl.Name, f.decl.Name) }
