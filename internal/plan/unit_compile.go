package plan

import (
	"slices"
	"strings"

	"evensprout/internal/cell"
	"evensprout/internal/derive"
	"evensprout/internal/grow"
	"evensprout/internal/predicate"
	"evensprout/internal/schema"
	"evensprout/internal/value"
)

// CompiledUnit is a unit whose names are looked up: what each step does to which table,
// with which values.
type CompiledUnit struct {
	Plan  *Unit
	Grow  *grow.Entity // its occasions
	Slots []Slot       // the values of an occasion, in the order in which they are known
	Steps []*Step
}

// Slot is a value of each occasion. It comes from just one of: a field of the occasion,
// a row that a step found or added, an expression over earlier slots, the plan.
type Slot struct {
	Name  string // for people
	Type  value.Type
	Scale uint8

	Field  int            // place among the fields of the occasion; -1 if it is none
	Step   int            // which step's row; -1 if it is of none
	Column *schema.Column // of that row
	Expr   *derive.Expression
	From   []int // the slots that Expr reads
	Value  value.Value

	Part *Part // of a value of JSON, which is in the slot From[0]; nil if it is none
}

// Part says which part of a value of JSON a slot holds: a member of an object, the element
// that a loop is at, or the number of that element.
type Part struct {
	Member string // empty: of the loop
	Loop   *Step  // nil: the member
	Number bool
	Empty  bool // it is NULL throughout
}

// Step is a step of a compiled unit.
type Step struct {
	*StepSaid
	In  *Step // the loop around it; nil if there is none
	End int   // of a loop: the place behind its last step

	Over int // of a loop: the slot of its list

	items  *cell.Shape   // of a loop: what its elements are like
	Table  *schema.Table // nil of require
	Entity *Target       // nil if the plan has no entity for the table
	Match  []Operand
	Set    []Assignment
	First  []Operand // what an upsert writes into a new row; nil: as in Set

	Condition *derive.Expression // of require; nil if it is in SQL
	SQL       []string           // pieces of a condition; a value stands between every two
	From      []int              // the slots that the condition reads

	Key  *schema.Column   // the key that the database gives to a row that is added; nil if it does not
	Read []*schema.Column // of the row, what later steps use
}

// Names are the columns of the step's table that it reads or writes.
func (s *Step) Names() []*schema.Column {
	var out []*schema.Column
	for _, m := range slices.Concat(s.Match, s.First) {
		out = append(out, m.Column)
	}
	for _, x := range s.Set {
		out = append(out, x.Column)
		x.Expr.Visit(func(e *schema.Expr) {
			if e.Column != nil {
				out = append(out, e.Column)
			}
		})
	}
	return append(out, s.Read...)
}

// Operand is a column and the slot that holds its value.
type Operand struct {
	Column *schema.Column
	Slot   int
	place  place
}

// Assignment is a column and what it is set to: the expression's inputs are slots.
type Assignment struct {
	Column *schema.Column
	Expr   *schema.Expr
	place  place
}

// The words for values in the expressions of steps.
const (
	occasionWord = "occasion" // its fields
	rowWord      = "row"      // the row that is changed, as it is
)

// occasions makes an entity for the occasions of each unit.
func (c *compiler) occasions() {
	for _, u := range c.plan.Units {
		if c.byName[u.Name] != nil {
			continue // told
		}
		e := &entity{decl: u.Occasions, byName: map[string]*field{}, rows: map[string]int{}, occasion: true}
		e.grow = c.out.Set.NewEntity(u.Name)
		e.grow.Rows = u.Occasions.Rows
		c.entities = append(c.entities, e)
		c.byName[u.Name] = e
	}
}

// units compiles the units.
func (c *compiler) units() {
	for _, u := range c.plan.Units {
		e := c.byName[u.Name]
		if e == nil || !e.occasion {
			continue
		}
		for i, name := range u.After {
			of := c.named(e.decl.Schema, name)
			if of == nil || of == e {
				c.add(u.after[i].place, "%s comes after %s, which is not an entity or unit", u.Name, name).
					Nearest(name, c.names())
				continue
			}
		}
		if c.db == nil {
			continue // what the steps mean, only the tables tell
		}
		x := &unitCompiler{c: c, said: u, of: e, out: &CompiledUnit{Plan: u, Grow: e.grow}}
		x.compileSteps(u.Steps, nil)
		c.out.Units = append(c.out.Units, x.out)
	}
	c.orderUnits()
	c.unitWarnings()
}

// orderUnits brings the units into the order in which they are done: as written, but for
// those that go after others.
func (c *compiler) orderUnits() {
	var order []*CompiledUnit
	state := map[string]int{} // 1: on the way, 2: done
	var place func(u *CompiledUnit)
	place = func(u *CompiledUnit) {
		switch state[u.Plan.Name] {
		case 1:
			c.add(u.Plan.place, "circle: %s comes after itself", u.Plan.Name)
			fallthrough
		case 2:
			return
		}
		state[u.Plan.Name] = 1
		for _, name := range u.Plan.After {
			if i := slices.IndexFunc(c.out.Units, func(x *CompiledUnit) bool { return x.Plan.Name == name }); i >= 0 {
				place(c.out.Units[i])
			}
		}
		state[u.Plan.Name] = 2
		order = append(order, u)
	}
	for _, u := range c.out.Units {
		place(u)
	}
	c.out.Units = order
}

// unitCompiler compiles the steps of one unit.
type unitCompiler struct {
	c    *compiler
	said *Unit
	of   *entity
	out  *CompiledUnit

	shapes map[int]*cell.Shape // of fields with JSON, by their places; nil if they cannot be read
}

// compileSteps compiles steps, those in a loop behind it, in their order: a step may use rows
// of earlier ones.
func (u *unitCompiler) compileSteps(steps []*StepSaid, in *Step) {
	for _, said := range steps {
		s := &Step{StepSaid: said, In: in}
		if said.Word == StepFor {
			u.loop(s)
			continue
		}
		if said.Word == StepRequire {
			u.condition(s)
			u.out.Steps = append(u.out.Steps, s)
			continue
		}
		if !u.target(s) {
			s.Table = &schema.Table{} // the others are looked at all the same
			u.out.Steps = append(u.out.Steps, s)
			continue
		}
		u.nameRow(s)
		s.Match = u.operands(s, s.match, "match")
		s.Set = u.assignments(s)
		s.First = u.operands(s, s.first, "first")
		u.fitStep(s)
		u.out.Steps = append(u.out.Steps, s)
	}
}

// target finds the table of a step: that of an entity, or one by its own name.
func (u *unitCompiler) target(s *Step) bool {
	if s.Target == "" {
		return false // told
	}
	if e := u.c.named(u.of.decl.Schema, s.Target); e != nil && !e.occasion {
		s.Table = e.table
		return e.table != nil // else told
	}
	if s.Table = u.c.tableIn(u.of.decl.Schema, s.Target); s.Table == nil {
		u.c.missing(s.targetPlace, "%s is neither an entity of the plan nor a table of the database", s.Target).
			Nearest(s.Target, append(u.c.entityNames(), u.c.db.TableNames()...))
		return false
	}
	return true
}

// entityNames returns the names of all entities, in the order of the plan.
func (c *compiler) entityNames() []string {
	var names []string
	for _, e := range c.entities {
		if !e.occasion {
			names = append(names, e.decl.Name)
		}
	}
	return names
}

// columnNamed finds the column that a step means by a name: a field of the entity, or a
// column of the table.
func (u *unitCompiler) columnNamed(s *Step, name string) *schema.Column {
	for _, e := range u.c.entities {
		if e.table == s.Table && !e.occasion {
			if f := e.find(name); f != nil && f.column != nil {
				return f.column
			}
		}
	}
	return s.Table.ByConvention(name)
}

// namesOf are the names by which columns of a step's table may be called.
func (u *unitCompiler) namesOf(s *Step) []string {
	names := s.Table.ColumnNames()
	for _, e := range u.c.entities {
		if e.table == s.Table && !e.occasion {
			names = append(names, e.names()...)
		}
	}
	return names
}

// noColumn adds the problem of a name that is no column of a step's table.
func (u *unitCompiler) noColumn(at place, s *Step, name string) {
	u.c.missing(at, "%s: the table %s has no column %s", s.Label(), s.Table.Name, name).Nearest(name, u.namesOf(s))
}

// condition compiles require: an expression, or {sql: CONDITION} with values in braces.
func (u *unitCompiler) condition(s *Step) {
	n := s.condition
	if n.mapping {
		sql := n.get("sql")
		if sql == nil || len(n.pairs) != 1 || !sql.scalar() {
			u.c.add(n.place, "require must be an expression, or {sql: CONDITION}, got %s", n.what())
			return
		}
		u.conditionSQL(s, sql)
		return
	}

	if !n.scalar() {
		u.c.add(n.place, "require must be an expression, or {sql: CONDITION}, got %s", n.what()).
			Advise("require: sailing.seats_left >= seats")
		return
	}
	parsed, err := derive.Parse(n.text)
	if err != nil {
		u.wrong(n, n.text, s, err)
		return
	}
	var inputs []derive.Input
	for _, name := range parsed.Names() {
		slot, _, err := u.named(s, name, false, false)
		if err != nil {
			u.wrong(n, n.text, s, parsed.Missing(name, err.Error()))
			return
		}
		s.From = append(s.From, slot)
		inputs = append(inputs, derive.Input{Name: name, Type: u.out.Slots[slot].Type, Scale: u.out.Slots[slot].Scale})
	}

	if slices.ContainsFunc(s.From, func(i int) bool { return u.out.Slots[i].Type == value.Null }) {
		return // told
	}
	x, err := parsed.Compile(inputs, -1)
	if err != nil {
		u.wrong(n, n.text, s, err)
		return
	}
	if x.Type != value.Boolean {
		u.c.add(n.place, "a condition must be true or false, and this has the type %s", x.Type)
		return
	}
	s.Condition = x
}

// conditionSQL compiles a condition that is a query in SQL, with values of the occasion as
// parameters.
func (u *unitCompiler) conditionSQL(s *Step, n *node) {
	rest := n.text
	if predicate.Executes(rest) {
		u.c.add(n.place, "the condition contains a comment that MySQL and MariaDB execute").Advise("remove /*! ... */")
		return
	}
	var piece strings.Builder
	for rest != "" {
		i := strings.IndexAny(rest, "{}")
		if i < 0 {
			piece.WriteString(rest)
			break
		}
		piece.WriteString(rest[:i])
		end := strings.IndexByte(rest, '}')
		if rest[i] == '}' || end < i {
			u.c.add(
				n.place,
				"a value in a condition must be in braces, such as {sailing.id}; one is missing",
			)
			return
		}
		name := strings.TrimSpace(rest[i+1 : end])
		slot, _, err := u.named(s, name, false, false)
		if err != nil {
			u.c.add(n.inside(len(n.text)-len(rest)+i), "%s", err).Nearest(name, u.visible(s))
			return
		}
		s.SQL, s.From = append(s.SQL, piece.String()), append(s.From, slot)
		piece.Reset()
		rest = rest[end+1:]
	}
	s.SQL = append(s.SQL, piece.String())
}

// fitStep holds a step against its table.
func (u *unitCompiler) fitStep(s *Step) {
	for _, a := range s.Set {
		switch {
		case a.Column.Generated:
			u.c.missing(a.place, "%s: the database computes the column %s", s.Label(), a.Column.Name)
		case a.Column.Identity == schema.Always && s.Word != StepInsert:
			u.c.missing(
				a.place,
				"%s: the database always numbers the column %s, so it cannot be set",
				s.Label(),
				a.Column.Name,
			)
		case a.Column.NotNull && a.Expr.Op == schema.OpInput && u.isNull(a.Expr.Input):
			u.c.missing(a.place, "%s: the column %s is NOT NULL", s.Label(), a.Column.Name)
		case s.Word == StepUpsert && a.Expr.Op != schema.OpInput &&
			!slices.ContainsFunc(s.First, func(o Operand) bool { return o.Column == a.Column }):
			u.c.add(a.place, "%s: %s is computed from the existing row, and a new row has no values yet", s.Label(),
				a.Column.Name).
				Advise("give the value of a new row with first: {%s: VALUE}", a.Column.Name)
		}
	}

	if s.Word == StepInsert || s.Word == StepUpsert {
		u.fitNewRow(s)
	}
	if s.Word == StepUpsert {
		u.fitUpsert(s)
	}
}

// fitNewRow tells which columns a new row needs that the step does not name.
func (u *unitCompiler) fitNewRow(s *Step) {
	said := map[*schema.Column]bool{} // also where what is said is wrong, and told
	for _, n := range []*node{s.match, s.set, s.first} {
		if n != nil {
			for _, x := range n.pairs {
				said[u.columnNamed(s, x.key.text)] = true
			}
		}
	}
	for _, col := range s.Table.Columns {
		if col.NotNull && !col.Default && !col.Generated && !said[col] {
			u.c.missing(s.place, "%s: the column %s.%s (%s) is NOT NULL without a default, and the step does not "+
				"set it", s.Label(), s.Table.Name, col.Name, col.Declared).
				Advise("add it to set")
		}
	}
}

// fitUpsert holds the columns that tell rows apart against the table's unique indexes.
func (u *unitCompiler) fitUpsert(s *Step) {
	var names []string
	for _, m := range s.Match {
		names = append(names, m.Column.Name)
	}
	if _, why := s.Table.Backing(names); why != "" && s.match != nil && len(names) == len(s.match.pairs) {
		u.c.missing(s.match.place, "%s: %s does not identify one row of %s: %s", s.Label(),
			strings.Join(names, ", "), s.Table.Name, why).
			Advise("match needs a unique index over NOT NULL columns, because otherwise a row may exist twice")
	}
	for _, a := range s.Set {
		if slices.ContainsFunc(s.Match, func(o Operand) bool { return o.Column == a.Column }) {
			u.c.add(a.place, "%s: %s is in match, so it cannot be set", s.Label(), a.Column.Name).
				Advise("remove it from set")
		}
	}
}

// isNull reports whether a slot holds the literal NULL.
func (u *unitCompiler) isNull(slot int) bool {
	s := u.out.Slots[slot]
	return s.Field < 0 && s.Step < 0 && s.Expr == nil && s.Type == value.Null
}
