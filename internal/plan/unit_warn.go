package plan

import (
	"slices"
	"strings"

	"evensprout/internal/schema"
)

// unitWarnings tells what may go wrong with units although each of them is right.
func (c *compiler) unitWarnings() {
	if c.db == nil {
		return
	}
	for _, u := range c.out.Units {
		c.warnOfSums(u)
	}
	c.warnOfTotals()
	c.warnOfLocks()
	for _, u := range c.out.Units {
		for _, s := range u.Steps {
			if s.Table == nil || len(s.Table.Columns) == 0 || s.Word == StepFind || len(s.Table.PrimaryKey) > 0 {
				continue
			}
			p := c.add(
				s.place,
				"%s: the table %s has no primary key, so what this step does cannot be withdrawn",
				s.Label(),
				s.Table.Name,
			)
			p.Warning, p.Database = true, true
		}
	}
}

// writes reports whether a step changes a column, or adds or removes rows with it.
func (s *Step) writes(col *schema.Column) bool {
	switch s.Word {
	case StepInsert, StepUpsert, StepDelete, StepClear:
		return true
	case StepUpdate:
		return slices.ContainsFunc(s.Set, func(a Assignment) bool { return a.Column == col })
	}
	return false
}

// sets reports whether a step says what a column of a table holds.
func (s *Step) sets(table *schema.Table, col *schema.Column) bool {
	return s.Table == table && (s.Word == StepInsert || s.Word == StepUpdate || s.Word == StepUpsert) &&
		slices.ContainsFunc(s.Set, func(a Assignment) bool { return a.Column == col })
}

// warnOfSums tells of steps that change what another table keeps the sum of.
func (c *compiler) warnOfSums(u *CompiledUnit) {
	for _, e := range c.entities {
		for _, f := range e.fields {
			if f.column == nil || f.decl.source == nil ||
				!slices.Contains([]string{"sum", "count_of", "min_of", "max_of"}, f.decl.word) {
				continue
			}
			name, column, _ := strings.Cut(f.decl.source.text, ".")
			child := c.named(e.decl.Schema, name)
			if child == nil || child.table == nil {
				continue
			}
			var of *schema.Column
			if g := child.find(column); g != nil {
				of = g.column
			}
			for _, s := range u.Steps {
				if s.Table != child.table || !s.writes(of) ||
					slices.ContainsFunc(u.Steps, func(x *Step) bool { return x.sets(e.table, f.column) }) {
					continue
				}
				p := c.add(
					s.place,
					"%s: %s is computed from %s, and no step of %s keeps them in agreement",
					s.Label(),
					f.describe(),
					f.decl.source.text,
					u.Plan.Name,
				)
				p.Warning, p.Database = true, true
				p.Advise(
					"add a step such as {update: %s, match: {...}, set: {%s: %s + ...}}, or an invariant under always:",
					e.decl.Name,
					f.decl.Name,
					f.decl.Name,
				)
				break
			}
		}
	}
}

// warnOfTotals tells of columns that seem to be totals of rows below, and that nothing
// keeps right.
func (c *compiler) warnOfTotals() {
	if len(c.out.Units) == 0 {
		return
	}
	for _, e := range c.entities {
		if e.occasion || e.table == nil ||
			!slices.ContainsFunc(c.entities, func(x *entity) bool { return x.parent == e && !x.occasion }) {
			continue
		}
		for _, f := range e.fields {
			if f.column == nil || f.column.Kind != schema.Decimal && f.column.Kind != schema.Integer ||
				!isTotal(f.decl.Name) ||
				slices.Contains([]string{"sum", "count_of", "min_of", "max_of", "running"}, f.decl.word) {
				continue
			}
			kept := slices.ContainsFunc(c.out.Units, func(u *CompiledUnit) bool {
				return slices.ContainsFunc(
					u.Steps,
					func(s *Step) bool { return s.Word != StepInsert && s.sets(e.table, f.column) },
				)
			})
			if !kept {
				p := c.add(
					f.decl.place,
					"%s seems to be a total of child rows, and neither an aggregate (sum, count_of) nor a unit "+
						"keeps it correct",
					f.describe(),
				)
				p.Warning = true
			}
		}
	}
}

// isTotal reports whether a column's name says that it holds a sum over other rows.
func isTotal(name string) bool {
	name = schema.Plain(name)
	return strings.HasSuffix(name, "total") || strings.HasSuffix(name, "balance") || strings.HasSuffix(name, "count")
}

// Locked are the tables whose rows a unit locks, in the order in which it does so.
func (u *CompiledUnit) Locked() []*schema.Table {
	var tables []*schema.Table
	for _, s := range u.Steps {
		if s.Table != nil && len(s.Table.Columns) > 0 && s.Word != StepInsert && !slices.Contains(tables, s.Table) &&
			(s.Word != StepFind || u.Changes(s.Table)) {
			tables = append(tables, s.Table)
		}
	}
	return tables
}

// Changes reports whether some step of the unit writes into a table.
func (u *CompiledUnit) Changes(t *schema.Table) bool {
	return slices.ContainsFunc(u.Steps, func(s *Step) bool { return s.Table == t && s.Word != StepFind })
}

// warnOfLocks tells of units that lock rows of the same tables in different orders.
func (c *compiler) warnOfLocks() {
	for i, b := range c.out.Units {
		for _, a := range c.out.Units[:i] {
			first, second := a.Locked(), b.Locked()
			for x, t := range first {
				y := slices.IndexFunc(first[x+1:], func(o *schema.Table) bool {
					return slices.Contains(second, t) && slices.Contains(second, o) &&
						slices.Index(second, o) < slices.Index(second, t)
				})
				if y < 0 {
					continue
				}
				p := c.add(
					b.Plan.place,
					"%s locks rows of %s before rows of %s, and %s does it the other way round: if both run at "+
						"the same time, they may deadlock",
					b.Plan.Name,
					first[x+1+y].Name,
					t.Name,
					a.Plan.Name,
				)
				p.Warning, p.Database = true, true
				p.Advise(
					"let both write the tables in the same order; a transaction that the server ends as a " +
						"deadlock is retried",
				)
				break
			}
		}
	}
}
