package export

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strings"

	"evensprout/internal/plan"
	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/value"
)

// maxDiffer bounds the rows that are held against each other, which stand in memory.
const maxDiffer = 1_000_000

// Changes counts the rows that differ between two plans.
type Changes struct {
	Added   int `json:"added"`
	Changed int `json:"changed"`
	Removed int `json:"removed"`
}

// Difference is how the difference of two plans is written.
type Difference struct {
	Options Options
	Out     Pair
}

// Write writes two scripts that lead from the rows of one plan to those of another, and back: rows that are new are
// inserted, those that changed are updated, those that are gone are deleted. Both plans are compiled for the same
// tables.
func (d Difference) Write(ctx context.Context, before, after *plan.Compiled, sql store.Script) (*Changes, error) {
	there, err := newDiffer(before, after, d.Options, sql)
	if err != nil {
		return nil, err
	}
	defer there.close()
	if err := there.lead(ctx, d.Out.Insert, "Changes"); err != nil {
		return nil, err
	}
	back, err := newDiffer(after, before, d.Options, sql)
	if err != nil {
		return nil, err
	}
	defer back.close()
	return &there.changes, back.lead(ctx, d.Out.Remove, "Reversed changes")
}

// differ is two plans whose rows are held against each other.
type differ struct {
	from, to *scripter
	rows     map[*plan.Target]*heldRows // of both
	changes  Changes
}

// heldRows are the rows of an entity.
type heldRows struct {
	order []string // their keys
	by    map[string][]value.Value
}

// newDiffer prepares the way from one plan to another.
func newDiffer(from, to *plan.Compiled, o Options, sql store.Script) (*differ, error) {
	d := &differ{rows: map[*plan.Target]*heldRows{}}
	var err error
	if d.to, err = newScripter(to, o, sql); err != nil {
		return nil, err
	}
	if d.from, err = newScripter(from, o, sql); err != nil {
		d.to.close()
		return nil, err
	}
	d.to.only, d.from.only = map[*plan.Target]map[string]bool{}, map[*plan.Target]map[string]bool{}
	return d, nil
}

func (d *differ) close() {
	d.to.close()
	d.from.close()
}

// lead writes the script that makes the rows of one plan those of the other.
func (d *differ) lead(ctx context.Context, out io.Writer, what string) error {
	left := maxDiffer
	for _, s := range []*scripter{d.from, d.to} {
		for _, t := range s.targets {
			var err error
			if d.rows[t], err = hold(ctx, s, t, &left); err != nil {
				return err
			}
		}
	}
	if err := d.choose(); err != nil {
		return err
	}
	return d.to.script(ctx, out, what, func(ctx context.Context) error {
		if err := d.to.insert(ctx); err != nil {
			return err
		}
		for _, t := range d.to.targets {
			if err := d.update(t); err != nil {
				return err
			}
		}
		d.from.sink = d.to.sink
		return d.from.remove(ctx)
	})
}

// hold takes the rows of an entity into memory.
func hold(ctx context.Context, s *scripter, t *plan.Target, left *int) (*heldRows, error) {
	h := &heldRows{by: map[string][]value.Value{}}
	err := s.walk(ctx, t, false, func(values []value.Value) error {
		if *left--; *left < 0 {
			return &store.Fault{
				Kind:    store.Refused,
				Message: fmt.Sprintf("the plans have more than %d rows to compare", maxDiffer),
				Hint:    "name the entities that a migration is about: --entity FareClass",
			}
		}
		k := keyText(t, values)
		h.order = append(h.order, k)
		h.by[k] = slices.Clone(values)
		return nil
	})
	return h, err
}

// other is the entity of the other plan that has the same table; nil if there is none.
func other(s *scripter, t *plan.Target) *plan.Target {
	for _, o := range s.targets {
		if o.Table.Name == t.Table.Name {
			return o
		}
	}
	return nil
}

// choose finds the rows that are new and those that are gone.
func (d *differ) choose() error {
	for _, t := range d.to.targets {
		fresh := map[string]bool{}
		d.to.only[t] = fresh
		o := other(d.from, t)
		if o != nil && !slices.Equal(namesOf(t, key(t)), namesOf(o, key(o))) {
			return fmt.Errorf(
				"rows of %s are identified by %s in one plan and by %s in the other, so they cannot be compared",
				t.Table.Name,
				strings.Join(namesOf(t, key(t)), ", "),
				strings.Join(namesOf(o, key(o)), ", "),
			)
		}
		for k := range d.rows[t].by {
			if o == nil || d.rows[o].by[k] == nil {
				fresh[k] = true
			}
		}
		d.changes.Added += len(fresh)
		if o != nil {
			if err := d.moved(t, o); err != nil {
				return err
			}
		}
	}
	for _, t := range d.from.targets {
		gone := map[string]bool{}
		d.from.only[t] = gone
		o := other(d.to, t)
		for k := range d.rows[t].by {
			if o == nil || d.rows[o].by[k] == nil {
				gone[k] = true
			}
		}
		d.changes.Removed += len(gone)
	}
	return nil
}

// namesOf are the columns of fields.
func namesOf(t *plan.Target, fields []int) []string {
	var names []string
	for _, i := range fields {
		names = append(names, t.Columns[i].Name)
	}
	return names
}

// moved refuses values of a unique key that go from one row to another: no order of the statements could write them.
func (d *differ) moved(t, o *plan.Target) error {
	for _, u := range t.Table.Keys() {
		mine, theirs := fieldsOf(t, u.Columns), fieldsOf(o, u.Columns)
		if mine == nil || theirs == nil || slices.Equal(mine, key(t)) {
			continue
		}
		owner := map[string]string{}
		for k, values := range d.rows[o].by {
			if text, ok := textOf(values, theirs); ok {
				owner[text] = k
			}
		}
		for k, values := range d.rows[t].by {
			text, ok := textOf(values, mine)
			if was, taken := owner[text]; ok && taken && was != k {
				var shown []string
				for _, i := range mine {
					shown = append(shown, values[i].String())
				}
				return &store.Fault{
					Kind: store.Refused,
					Message: fmt.Sprintf("a row of %s takes the %s %q of another row, which one migration cannot do",
						t.Table.Name, strings.Join(u.Columns, ", "), strings.Join(shown, ", ")),
					Hint: "make two migrations: one gives the other row another value or removes it, the next has " +
						"the row",
				}
			}
		}
	}
	return nil
}

// fieldsOf are the fields of columns; nil if one of them is none.
func fieldsOf(t *plan.Target, columns []string) []int {
	var fields []int
	for _, name := range columns {
		i := slices.IndexFunc(
			t.Columns,
			func(c *schema.Column) bool { return c != nil && strings.EqualFold(c.Name, name) },
		)
		if i < 0 {
			return nil
		}
		fields = append(fields, i)
	}
	return fields
}

// textOf is what fields hold, for comparisons; false where one is NULL, which equals nothing.
func textOf(values []value.Value, fields []int) (string, bool) {
	var b []byte
	for _, i := range fields {
		if values[i].IsNull() {
			return "", false
		}
		b = values[i].AppendCanonical(b)
	}
	return string(b), true
}

// update writes a statement for each row that changed.
func (d *differ) update(t *plan.Target) error {
	s, o := d.to, other(d.from, t)
	if o == nil {
		return nil
	}
	said := false
	for _, k := range d.rows[t].order {
		values, old := d.rows[t].by[k], d.rows[o].by[k]
		if old == nil {
			continue
		}
		b := s.buf[:0]
		for _, c := range s.columnsOf(t) {
			at := slices.IndexFunc(
				o.Columns,
				func(x *schema.Column) bool { return x == c.of || x != nil && x.Name == c.of.Name },
			)
			same := at >= 0 && string(old[at].AppendCanonical(nil)) == string(values[c.field].AppendCanonical(nil))
			if same || slices.Contains(key(t), c.field) {
				continue
			}
			if len(b) == 0 {
				b = append(b, "UPDATE "+s.sql.Table(t.Table)+" SET "...)
			} else {
				b = append(b, ", "...)
			}
			b = s.sql.AppendLiteral(append(b, s.sql.Quote(c.of.Name)+" = "...), &values[c.field], c.of)
		}
		if s.buf = b; len(b) == 0 {
			continue
		}
		if d.changes.Changed++; !said {
			s.sink.remark(fmt.Sprintf("\n-- %s: changed rows", comment(t.Plan.Name)))
			said = true
		}
		s.buf = s.appendWhere(append(s.buf, " WHERE "...), t, values)
		if err := s.sink.statement(t, s.buf); err != nil {
			return err
		}
		s.buf = s.buf[:0]
	}
	return nil
}
