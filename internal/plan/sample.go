package plan

import (
	"fmt"
	"slices"
	"strings"

	"evensprout/internal/diag"
	"evensprout/internal/fit"
	"evensprout/internal/grow"
	"evensprout/internal/predicate"
	"evensprout/internal/schema"
	"evensprout/internal/value"
)

// sample grows some rows of each entity and holds them against the table, as far as its
// columns and conditions can be computed here: what is refused of them, would be
// refused by the database.
func (c *compiler) sample(rows uint64) {
	for _, e := range c.entities {
		if e.table == nil || e.decl.Existing || e.occasion || e.write.Mode == Update {
			continue
		}
		s := &sampler{c: c, entity: e, told: map[string]bool{}}
		s.conditions()
		if err := s.grow(rows); err != nil && !c.alreadyReported(err) {
			c.add(e.decl.place, "%s", err)
		}
	}
}

// alreadyReported reports whether a row that could not be grown has its problem already, from an entity that
// rests on it.
func (c *compiler) alreadyReported(err error) bool {
	return slices.ContainsFunc(c.plan.collector.found, func(p *diag.Problem) bool { return p.Message == err.Error() })
}

// grow holds the first rows of the entity, and the last ones, whose numbers are the
// greatest. The error is that of the first row that could not be grown.
func (s *sampler) grow(rows uint64) error {
	const last = 8
	g := grow.NewGrower(s.c.out.Set)
	defer g.Close()
	e := s.entity.grow
	var b grow.Batch
	for _, side := range []bool{true, false} {
		total := e.Rows
		if side {
			total = uint64(len(e.Side))
		}
		pieces := [][2]uint64{{0, min(total, rows)}}
		if total > rows {
			pieces = append(pieces, [2]uint64{total - last, last})
		}
		for _, piece := range pieces {
			for at, left := piece[0], int(piece[1]); left > 0; { // large rows come in several batches
				g.GrowSome(e, grow.Row{N: at, Side: side}, left, &b)
				if err := g.Err(); err != nil {
					return err
				}
				for i := range b.Len {
					s.row(b.At(i), b.Row(i))
				}
				at, left = at+uint64(b.Len), left-b.Len
			}
		}
	}
	return nil
}

// sampler holds rows of one entity against its table.
type sampler struct {
	c      *compiler
	entity *entity
	held   []heldCondition
	told   map[string]bool // what was told already: once is enough
}

// heldCondition is a condition of the table that sampled rows are tried on.
type heldCondition struct {
	*predicate.Condition
	name   string
	fields []*field
}

// conditions makes those conditions ready that our fields decide.
func (s *sampler) conditions() {
	add := func(name string, n *predicate.Node, err error) {
		if err != nil {
			return
		}
		k, err := predicate.Compile(n)
		if err != nil {
			return
		}
		h := heldCondition{Condition: k, name: name}
		for _, name := range k.Columns {
			f := s.byColumn(name)
			if f == nil || f.state != compiled || !holds(f.column.Kind, f.grow.Source.Type()) {
				return // the database fills it
			}
			h.fields = append(h.fields, f)
		}
		if len(h.fields) > 0 {
			s.held = append(s.held, h)
		}
	}
	t := s.entity.table
	for _, k := range t.Checks {
		n, err := predicate.Parse(k.Expression)
		add(strings.TrimSpace(k.Name+" CHECK ("+k.Expression+")"), n, err)
	}
	for _, col := range t.Columns {
		for _, k := range col.Checks {
			n, err := predicate.ParseDomain(k.Expression, col.Name)
			add(fmt.Sprintf("CHECK (%s) of the type of %s", k.Expression, col.Name), n, err)
		}
	}

	if t.Partition != "" {
		n, err := predicate.Parse(t.Partition)
		add("no partition accepts it: "+t.Partition, n, err)
	}
}

// byColumn returns the field of a column; nil if the plan has none.
func (s *sampler) byColumn(name string) *field {
	for _, f := range s.entity.fields {
		if f.column != nil && strings.EqualFold(f.column.Name, name) {
			return f
		}
	}
	return nil
}

// row tries the conditions on one row, and keeps the first row that each refuses.
func (s *sampler) row(r grow.Row, values []value.Value) {
	index := map[*grow.Field]int{}
	for i, f := range s.entity.grow.Fields {
		index[f] = i
	}
	for _, f := range s.entity.fields {
		if f.column != nil && f.state == compiled &&
			(f.grow.Source.Type() == value.Null || holds(f.column.Kind, f.grow.Source.Type())) {
			s.cell(r, f, &values[index[f.grow]])
		}
	}

	for _, h := range s.held {
		in := make([]value.Value, len(h.fields))
		var shown []string
		for i, f := range h.fields {
			in[i] = values[index[f.grow]]
			shown = append(shown, fmt.Sprintf("%s %s", f.decl.Name, short(in[i])))
		}
		if h.Holds(in) {
			continue
		}
		s.report(h.name, h.fields[0], "%s, with %s, does not satisfy %s", s.entity.grow.Label(r),
			strings.Join(shown, ", "), h.name).
			Advise("add meets: [\"%s\"] to %s, which generates values again until rows satisfy it",
				strings.ReplaceAll(h.Condition.String(), `"`, `\"`), s.entity.decl.Name)
	}
}

// short is a value as a message shows it, cut to a few characters.
func short(v value.Value) string {
	const most = 40
	s := v.String()
	if v.Type == value.Text {
		s = fmt.Sprintf("%q", s)
	}
	if r := []rune(s); len(r) > most {
		return string(r[:most]) + "…"
	}
	return s
}

// report adds a problem, unless it was told of another row.
func (s *sampler) report(key string, f *field, format string, args ...any) *diag.Problem {
	p := &diag.Problem{}
	if !s.told[key] {
		s.told[key] = true
		p = s.c.missing(f.decl.place, format, args...)
	}
	return p
}

// cell holds a value against its column.
func (s *sampler) cell(r grow.Row, f *field, v *value.Value) {
	c := f.column
	if c.Narrow && v.Type == value.Text && strings.IndexFunc(v.S, func(r rune) bool { return r > 126 }) >= 0 {
		p := s.report(
			f.decl.Name+"letters",
			f,
			"%s: %s is %s, and the character set of the column %s may not hold it",
			s.entity.grow.Label(r),
			f.decl.Name,
			short(*v),
			c.Name,
		)
		p.Warning = true
	}

	m := fit.Value(c, v)
	switch {
	case m == nil || m.Reason == fit.NotNull && f.grow == s.entity.grow.Key:
		return
	case m.Reason == fit.TooLong && c.Kind == schema.Text:
		if _, most := longest(f); most > c.Length {
			return // told of the source
		}
	case m.Reason == fit.BadValue && c.Values != nil && slices.Contains(grow.Texts(f.grow.Source), v.S):
		return // likewise
	}

	s.report(
		f.decl.Name+string(m.Reason),
		f,
		"%s: %s is %s: %s",
		s.entity.grow.Label(r),
		f.decl.Name,
		short(*v),
		m.Message,
	)
}
