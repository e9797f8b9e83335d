package plan

import (
	"errors"
	"regexp"
	"slices"
	"strings"

	"evensprout/internal/derive"
	"evensprout/internal/diag"
	"evensprout/internal/predicate"
	"evensprout/internal/schema"
	"evensprout/internal/value"
)

// Invariant is one entry of always: a condition that must hold over the data.
type Invariant struct {
	Name   string
	Schema string // whose tables it is about; empty: those that names mean
	value  *node
	place
}

// Text is the condition as the plan writes it, in one line.
func (i *Invariant) Text() string {
	if i.value == nil {
		return ""
	}
	return i.value.flow()
}

const (
	maxInvariants = 1000
	invariantHint = "such as: sum of Ticket.price per Booking = Booking.total; count of Ticket per Booking >= 1; " +
		"every Sailing has seats_left >= 0;\nor {no: Booking, where: SQL CONDITION}, or {sql: CONDITION}"
)

// always reads the rules that must hold after a load.
func (p *Plan) always(v *node) {
	if !v.mapping {
		p.add(v.place, "always must be a mapping of names to conditions, got %s", v.what()).Advise(invariantHint)
		return
	}
	if len(v.pairs) > maxInvariants {
		p.add(v.place, "more than %d invariants", maxInvariants)
		return
	}
	for _, x := range v.pairs {
		p.Always = append(p.Always, &Invariant{x.key.text, "", x.value, x.key.place})
	}
}

var (
	aggregatePattern = regexp.MustCompile(
		`^(sum|min|max|count) of (\w+)(?:\.(\w+))? per (\w+)(?: via (\w+))? (=|<>|<=|>=|<|>) ` +
			`(?:([A-Za-z_]\w*)\.(\w+)|([-+]?[0-9][0-9_]*(?:\.[0-9]+)?))$`,
	)
	everyPattern = regexp.MustCompile(`^every (\w+) has (.+)$`)
)

// rules compiles the invariants.
func (c *compiler) rules() {
	for _, inv := range c.plan.Always {
		n := inv.value
		switch {
		case n.mapping:
			c.ruleSQL(inv)
		case !n.scalar():
			c.add(n.place, "an invariant must be a condition, got %s", n.what()).Advise(invariantHint)
		default:
			text := strings.Join(strings.Fields(n.text), " ")
			if m := aggregatePattern.FindStringSubmatch(text); m != nil {
				c.ruleAggregate(inv, m)
			} else if m := everyPattern.FindStringSubmatch(text); m != nil {
				c.ruleEvery(inv, m[1], m[2])
			} else {
				c.add(n.place, "this condition cannot be read").Advise(invariantHint)
			}
		}
	}
}

// ruleSQL compiles a rule that is a query in SQL.
func (c *compiler) ruleSQL(inv *Invariant) {
	r := &schema.Rule{Name: inv.Name}
	n := inv.value
	table := ""
	before := len(c.plan.collector.found)
	c.plan.each(n, "an invariant", shape{
		"no":    func(_, v *node) { c.plan.text(v, "no", &table) },
		"where": func(_, v *node) { c.plan.text(v, "where", &r.Where) },
		"sql":   func(_, v *node) { c.plan.text(v, "sql", &r.SQL) },
	})
	if len(c.plan.collector.found) > before {
		return
	}
	if predicate.Executes(r.SQL + " " + r.Where) {
		c.add(n.place, "the condition contains a comment that MySQL and MariaDB execute").Advise("remove /*! ... */")
	}
	if (r.SQL != "") == (table != "") || (table != "") != (r.Where != "") {
		c.add(n.place, "an invariant in SQL is {no: ENTITY, where: CONDITION} or {sql: CONDITION}").
			Advise(invariantHint)
		return
	}
	if table != "" {
		if r.Table = c.tableOf(inv, n.get("no"), table); r.Table == nil {
			return
		}
	}
	if c.db != nil {
		c.out.Always = append(c.out.Always, r)
	}
}

// tableOf is the table of an entity, or of its own name; nil if there is none, or no
// database.
func (c *compiler) tableOf(inv *Invariant, n *node, name string) *schema.Table {
	if e := c.named(inv.Schema, name); e != nil && !e.occasion {
		return e.table
	}
	if c.db == nil {
		return nil
	}
	t := c.tableIn(inv.Schema, name)
	if t == nil {
		c.missing(n.place, "%s is neither an entity of the plan nor a table of the database", name).
			Nearest(name, append(c.entityNames(), c.db.TableNames()...))
	}
	return t
}

// columnOf finds a column of a table by a field's name or its own.
func (c *compiler) columnOf(n *node, t *schema.Table, name string) *schema.Column {
	u := &unitCompiler{c: c}
	s := &Step{Table: t}
	col := u.columnNamed(s, name)
	if col == nil {
		c.missing(n.place, "the table %s has no column %s", t.Name, name).Nearest(name, u.namesOf(s))
	}
	return col
}

// aggregates reports whether every database computes a function over a kind of column alike.
func aggregates(function string, k schema.Kind) bool {
	switch k {
	case schema.Integer, schema.Decimal:
		return true
	case schema.Text, schema.Bytes, schema.JSON:
		return false
	}
	return function != "sum"
}

// aggregateBy is the reference from the rows that are computed over to those that they are
// computed for; nil, and told, if there is not exactly one.
func (c *compiler) aggregateBy(inv *Invariant, m []string, child, parent *schema.Table) (by *schema.Reference) {
	n := inv.value
	var found []string
	for i := range child.References {
		r := &child.References[i]
		if r.To == parent && (m[5] == "" || len(r.Columns) == 1 && schema.Plain(r.Columns[0]) == schema.Plain(m[5])) {
			by = r
			found = append(found, strings.Join(r.Columns, ", "))
		}
	}
	switch {
	case len(found) == 0:
		c.missing(n.place, "%s has no reference to %s", child.Name, parent.Name).
			Advise("after per, name what the rows refer to; name the column with via COLUMN")
		return nil
	case len(found) > 1:
		c.missing(n.place, "%s refers to %s in several columns: %s", child.Name, parent.Name,
			strings.Join(found, "; ")).
			Advise("... per %s via %s %s ...", m[4], found[0], m[6])
		return nil
	}
	return by
}

// ruleAggregate compiles a rule about a count or a sum; m are the parts of its text.
func (c *compiler) ruleAggregate(inv *Invariant, m []string) {
	n := inv.value
	a := &schema.Aggregate{Function: m[1], Op: schema.Op(m[6])}
	if (a.Function == "count") != (m[3] == "") {
		c.add(n.place, "sum, min and max need a field, and count needs rows: sum of Ticket.price, count of Ticket").
			Advise(invariantHint)
		return
	}
	child, parent := c.tableOf(inv, n, m[2]), c.tableOf(inv, n, m[4])
	if child == nil || parent == nil {
		return
	}
	a.Of = child
	if m[3] != "" {
		if a.Column = c.columnOf(n, child, m[3]); a.Column == nil {
			return
		}
		if !aggregates(a.Function, a.Column.Kind) {
			c.missing(
				n.place,
				"the column %s is %s, and databases do not compute its %s alike",
				a.Column.Name,
				a.Column.Declared,
				a.Function,
			)
			return
		}
	}

	if a.By = c.aggregateBy(inv, m, child, parent); a.By == nil {
		return
	}
	switch {
	case m[9] != "":
		v, err := value.ParseDecimal(m[9])
		if err != nil {
			c.add(n.place, "%s", err)
			return
		}
		a.Value = v
	case m[7] != m[4]:
		c.add(
			n.place,
			"a value per %s must be compared with a field of %s or a number, got %s.%s",
			m[4],
			m[4],
			m[7],
			m[8],
		)
		return
	default:
		if a.To = c.columnOf(n, parent, m[8]); a.To == nil {
			return
		}
	}
	c.out.Always = append(c.out.Always, &schema.Rule{Name: inv.Name, Table: parent, Aggregate: a})
}

// ruleEvery compiles a rule that each row of a table must meet.
func (c *compiler) ruleEvery(inv *Invariant, table, condition string) {
	n := inv.value
	t := c.tableOf(inv, n, table)
	if t == nil {
		return
	}
	fail := func(err error) {
		var e *derive.Error
		message, hint := err.Error(), ""
		if errors.As(err, &e) {
			message, hint = e.Message, e.Hint
		}
		c.add(n.place, "%s", message).Advise("%s", hint)
	}
	parsed, err := derive.Parse(condition)
	if err != nil {
		fail(err)
		return
	}
	columns := map[string]*schema.Column{}
	var inputs []derive.Input
	scale := 0
	for _, name := range parsed.Names() {
		col := c.columnOf(n, t, name)
		if col == nil {
			return
		}
		typ, ok := columnTypes[col.Kind]
		if col.Kind == schema.Text {
			typ, ok = value.Text, true
		}
		if !ok || slices.Contains([]schema.Kind{schema.Real, schema.JSON, schema.UUID, schema.Time}, col.Kind) {
			c.missing(n.place, "the column %s is %s, and databases do not compute with that type alike", col.Name,
				col.Declared).
				Advise("{no: %s, where: SQL CONDITION}", table)
			return
		}
		scale = max(scale, col.Scale)
		columns[name] = col
		inputs = append(inputs, derive.Input{Name: name, Type: typ, Scale: uint8(max(col.Scale, 0))})
	}

	e, known, err := parsed.Split(inputs, columns, scale)
	if err != nil {
		fail(err)
		return
	}
	if x, _ := parsed.Compile(inputs, scale); x == nil || x.Type != value.Boolean {
		c.add(n.place, "a condition must be true or false, and this is not")
		return
	}
	r := &schema.Rule{Name: inv.Name, Table: t, Every: e}
	for _, k := range known {
		v, err := k.Eval(nil)
		if err != nil {
			fail(err)
			return
		}
		r.Values = append(r.Values, v)
	}
	c.out.Always = append(c.out.Always, r)
}

// RuleProblem is something about an invariant that only the database tells.
func (c *Compiled) RuleProblem(r *schema.Rule, format string, args ...any) *diag.Problem {
	var at place
	for _, inv := range c.Plan.Always {
		if inv.Name == r.Name {
			at = inv.place
		}
	}
	return c.Plan.addDatabaseProblem(at, format, args...)
}

// StepProblem is something about a step that only the database tells.
func (c *Compiled) StepProblem(s *Step, format string, args ...any) *diag.Problem {
	return c.Plan.addDatabaseProblem(s.place, format, args...)
}

// addDatabaseProblem adds a problem about the database: it does not fit the plan.
func (p *Plan) addDatabaseProblem(at place, format string, args ...any) *diag.Problem {
	problem := p.add(at, format, args...)
	problem.Database = true
	return problem
}
