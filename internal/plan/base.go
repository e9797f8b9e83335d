package plan

import (
	"errors"
	"fmt"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"evensprout/internal/diag"
	"evensprout/internal/grow"
	"evensprout/internal/safe"
	"evensprout/internal/schema"
	"evensprout/internal/value"
)

// BuiltOn is a plan whose rows are there before those of the plan that builds on it.
type BuiltOn struct {
	Path string // as the plan says it
	place
}

// Limits on plans that build on others.
const (
	maxBases    = 16        // one on another
	maxBaseRows = 1_000_000 // of an entity: they are kept in memory
)

// buildsOn reads builds_on: a plan, or a list of plans.
func (p *Plan) buildsOn(v *node) {
	items := v.items
	if !v.list {
		items = []*node{v}
	}
	for _, x := range items {
		b := &BuiltOn{place: x.place}
		if p.text(x, "builds_on", &b.Path) {
			p.BuildsOn = append(p.BuildsOn, b)
		}
	}
}

// PathOf is where a plan is that this one builds on, seen from the current folder.
func (p *Plan) PathOf(b *BuiltOn) string { return p.pathOf(b.Path) }

// Bases are the plans that this one builds on, and those that these build on, as far as they can be read.
func (p *Plan) Bases() []*Plan {
	var out []*Plan
	seen := map[string]bool{}
	var add func(p *Plan)
	add = func(p *Plan) {
		for _, b := range p.BuildsOn {
			path := filepath.Clean(p.pathOf(b.Path))
			if seen[path] {
				continue
			}
			seen[path] = true
			if of, err := ReadFile(path); err == nil {
				out = append(out, of)
				add(of)
			}
		}
	}
	add(p)
	return out
}

// base is the rows of an entity of a plan that this one builds on.
type base struct {
	plan   *Plan
	target *Target
	rows   [][]value.Value // as that plan generates them: a value for each field
	names  map[string]int  // rows that it writes by hand, by name
	place
}

// openBases compiles the plans that this one builds on, and declares their entities: their rows can be referred to, and
// are not written.
func (c *compiler) openBases(o Options) []*entity {
	var out []*entity
	for _, b := range c.plan.BuildsOn {
		path := c.pathOf(b.Path)
		at := func(message string, args ...any) *diag.Problem { return c.add(b.place, message, args...) }
		absolute := path
		if a, err := filepath.Abs(path); err == nil {
			absolute = a
		}
		chain := o.chain
		if len(chain) == 0 {
			if own, err := filepath.Abs(c.plan.File()); err == nil {
				chain = []string{own}
			}
		}
		switch {
		case slices.Contains(chain, absolute):
			at("circle: %s builds on itself", b.Path)
			continue
		case len(chain) > maxBases:
			at("more than %d plans build on one another", maxBases)
			continue
		}
		inner := o
		inner.chain = append(slices.Clone(chain), absolute)
		compiled := c.compileBase(b, path, inner)
		if compiled == nil {
			continue
		}
		c.out.OnClose(compiled.Close)
		c.out.Inputs = append(c.out.Inputs, path)
		c.out.Inputs = append(c.out.Inputs, compiled.Inputs...)
		for _, t := range compiled.Targets {
			if t.Plan.Existing && compiled.bases[t] == nil {
				continue // this plan can say so itself
			}
			e, err := c.baseEntity(b, compiled, t)
			if err != nil {
				at("%s: %s", b.Path, err)
				continue
			}
			out = append(out, e)
		}
	}
	return out
}

// declareBases declares the entities of the plans that this one builds on.
func (c *compiler) declareBases() {
	for _, e := range c.openBases(c.options) {
		if other := c.byName[e.decl.Name]; other != nil {
			if other.base != nil && sameFile(other.base.plan, e.base.plan) {
				continue // two plans build on it
			}
			c.add(other.decl.place, "%s is also an entity of %s", e.decl.Name, e.base.plan.File()).
				Advise("take it out of one of the plans: this one can refer to the rows of the other")
			continue
		}
		c.entities = append(c.entities, e)
		c.byName[e.decl.Name] = e
	}
}

// sameFile reports whether two plans are one.
func sameFile(a, b *Plan) bool {
	x, err1 := filepath.Abs(a.File())
	y, err2 := filepath.Abs(b.File())
	return err1 == nil && err2 == nil && x == y
}

// compileBase compiles a plan that this one builds on; nil after reporting what is wrong with it.
func (c *compiler) compileBase(b *BuiltOn, path string, o Options) *Compiled {
	read := o.Plans
	if read == nil {
		read = ReadBase
	}
	p, err := read(path)
	if err != nil {
		c.baseProblem(b, err)
		return nil
	}
	inner := Options{
		Database: o.Database, Rows: o.Rows, Existing: o.Existing, Plans: o.Plans, Since: o.Since, WithoutUnits: true,
		WithoutAlways: true, Unloaded: o.Unloaded, chain: o.chain,
	}
	compiled, err := p.Compile(inner)
	var problems diag.Problems
	if errors.As(err, &problems) && problems.OnlyDatabase() { // what refers to its rows may be right
		c.baseProblem(b, err)
		inner.Unloaded = true
		if compiled, err = p.Compile(inner); err != nil {
			c.unknown = true
			return nil // reported
		}
	}
	if err != nil {
		c.baseProblem(b, err)
		return nil
	}
	return compiled
}

// planLines are what stands in every plan that another one can build on.
var planLines = []*regexp.Regexp{regexp.MustCompile(`(?m)^["']?name["']?\s*:`), regexp.MustCompile(`(?m)^["']?entities["']?\s*:`)}

// errNoPlan tells that a file is something else. Nothing of it is shown: a plan may name any file.
var errNoPlan = errors.New("it is not a plan, which has lines that begin with name and with entities")

// ReadBase reads a plan that another one names. The error shows nothing of a file that is no plan.
func ReadBase(path string) (*Plan, error) {
	p, err := ReadFile(path)
	var problems diag.Problems
	if err != nil && !errors.As(err, &problems) {
		return nil, err
	}
	data, failed := safe.ReadFile(path, MaxFileBytes)
	if failed != nil {
		return nil, failed
	}
	for _, line := range planLines {
		if !line.Match(data) {
			return nil, errNoPlan
		}
	}
	return p, err
}

// baseProblem reports what is wrong with a plan that this one builds on.
func (c *compiler) baseProblem(b *BuiltOn, err error) {
	var problems diag.Problems
	switch {
	case errors.As(err, &problems):
		c.plan.collector.found = append(c.plan.collector.found, problems...)
	case errors.Is(err, ErrMissing):
		c.add(b.place, "there is no plan %s", b.Path).Advise("a relative path starts at the folder of this plan")
	default:
		c.add(b.place, "the plan %s cannot be read: %s", b.Path, err)
	}
}

// baseEntity declares an entity of a plan that this one builds on.
func (c *compiler) baseEntity(b *BuiltOn, of *Compiled, t *Target) (*entity, error) {
	x := &base{plan: of.Plan, target: t, names: map[string]int{}, place: b.place}
	if deeper := of.bases[t]; deeper != nil {
		x = &base{deeper.plan, deeper.target, deeper.rows, deeper.names, b.place}
	} else if err := x.grow(of); err != nil {
		return nil, err
	}
	d := &Entity{Name: t.Plan.Name, Table: t.Plan.Table, Existing: true, place: b.place, rowsPlace: b.place}
	e := &entity{decl: d, byName: map[string]*field{}, rows: x.names, base: x}
	e.grow = c.out.Set.NewEntity(d.Name)
	e.grow.Named = map[uint64]string{}
	for name, i := range x.names {
		e.grow.Named[uint64(i)] = name
	}
	return e, nil
}

// grow generates the rows: those written by hand first, which have names.
func (x *base) grow(of *Compiled) error {
	t := x.target
	if n := t.Grow.Total(); n > maxBaseRows {
		return fmt.Errorf("%s has %d rows; at most %d can be referred to by other plans", t.Plan.Name, n, maxBaseRows)
	}
	g := grow.NewGrower(of.Set)
	defer g.Close()
	side := uint64(len(t.Grow.Side))
	var batch grow.Batch
	for n := range t.Grow.Total() {
		row := grow.Row{N: n, Side: true}
		if n >= side {
			row = grow.Row{N: n - side}
		} else if name := t.Grow.Side[n].Name; name != "" {
			x.names[name] = int(n)
		}
		g.Grow(t.Grow, row, 1, &batch)
		if err := g.Err(); err != nil {
			return err
		}
		x.rows = append(x.rows, slices.Clone(batch.Row(0)))
	}
	return nil
}

// baseTable is rows in memory. It is its own reader.
type baseTable [][]value.Value

func (t baseTable) Len() uint64                         { return uint64(len(t)) }
func (t baseTable) Reader() grow.TableReader            { return t }
func (t baseTable) Row(n uint64) ([]value.Value, error) { return t[n], nil }
func (t baseTable) Close() error                        { return nil }

// openBase makes the fields of an entity of another plan: those of that plan and, of a database, the other columns.
// Columns of keys, and those that the plan does not generate, hold what the table holds. Of other columns the plan
// counts, whatever was done to the table since: rows that depend on them stay the same.
func (c *compiler) openBase(e *entity) {
	x := e.base
	if c.db == nil || e.table == nil || c.openTable == nil || x.target.Table == nil || c.options.Unloaded {
		c.asPlanned(e)
		return
	}
	there, err := c.openTable(e.table)
	if err != nil {
		c.missing(x.place, "the rows of %s cannot be read: %s", e.table.Name, err)
		c.asPlanned(e)
		return
	}
	rows, problem := x.inTable(e.table, there)
	if problem != "" {
		c.missing(x.place, "%s", problem).Hint = fmt.Sprintf("evensprout load %s loads them; if they were "+
			"loaded before and are gone, add --restore", x.plan.File())
		c.asPlanned(e) // so that what refers to them is right
		return
	}
	for i := range rows {
		rows[i] = slices.Clone(rows[i])
	}
	e.grow.Table = baseTable(rows)
	c.baseFields(e, rows)
}

// baseFields makes the fields of an entity of another plan that is in a database, and puts planned values into its
// rows.
func (c *compiler) baseFields(e *entity, rows [][]value.Value) {
	x := e.base
	taken := map[*schema.Column]bool{}
	add := func(name string, i int, source grow.Source) {
		col := e.table.Columns[i]
		f := c.newField(e, &Field{Name: name, Column: col.Name, word: wordStored, place: x.place})
		f.grow.Source, f.state, f.column = source, compiled, col
		taken[col] = true
	}
	asStored := func(i int) grow.Source {
		return grow.Stored(i, typeOf(e.table.Columns[i]), uint8(e.table.Columns[i].Scale))
	}
	for i, f := range x.target.Grow.Fields {
		at := slices.Index(e.table.Columns, x.target.Columns[i])
		switch {
		case at < 0 || f.Inner:
		case inKey(e.table, e.table.Columns[at].Name):
			add(f.Name, at, asStored(at))
		default:
			for n, row := range rows {
				row[at] = x.rows[n][i]
			}
			add(f.Name, at, grow.Stored(at, f.Source.Type(), f.Source.Scale()))
		}
	}
	for i, col := range e.table.Columns {
		if !taken[col] && e.byName[col.Name] == nil {
			add(col.Name, i, asStored(i))
		}
		if slices.Contains(e.table.PrimaryKey, col.Name) {
			e.grow.TableKey = append(e.grow.TableKey, i)
		}
	}
}

// inKey reports whether a column is part of a key of its table.
func inKey(t *schema.Table, column string) bool {
	return slices.ContainsFunc(t.Keys(), func(k schema.Unique) bool {
		return slices.ContainsFunc(k.Columns, func(c string) bool { return strings.EqualFold(c, column) })
	})
}

// asPlanned makes the fields of an entity of another plan, and rows as that plan generates them.
func (c *compiler) asPlanned(e *entity) {
	x := e.base
	e.grow.Table = baseTable(x.rows)
	for i, f := range x.target.Grow.Fields {
		if f.Inner {
			continue
		}
		d := &Field{Name: f.Name, word: wordStored, place: x.place}
		if e.table != nil && x.target.Columns[i] != nil {
			d.Column = x.target.Columns[i].Name
		}
		own := c.newField(e, d)
		own.grow.Source, own.state = grow.Stored(i, f.Source.Type(), f.Source.Scale()), compiled
	}
}

// inTable finds the rows in the table, by a unique key that the plan generates: one beside the primary key, if there is
// one, because a load can give rows other primary keys than the planned ones.
func (x *base) inTable(t *schema.Table, there grow.Table) (rows [][]value.Value, problem string) {
	fields, columns := x.keyIn(t)
	if fields == nil {
		return nil, fmt.Sprintf(
			"rows of %s in %s have no unique key that the plan generates, so they cannot be found in "+
				"the table %s",
			x.target.Plan.Name,
			x.plan.File(),
			t.Name,
		)
	}
	at := map[string][]value.Value{}
	r := there.Reader()
	defer r.Close()
	for n := range there.Len() {
		row, err := r.Row(n)
		if err != nil {
			return nil, err.Error()
		}
		at[keyOf(row, columns)] = row
	}
	missing := 0
	first := ""
	for i, planned := range x.rows {
		row := at[keyOf(planned, fields)]
		if row == nil {
			if missing++; first == "" {
				var shown []string
				for j, f := range fields {
					shown = append(shown, fmt.Sprintf("%s %s", t.Columns[columns[j]].Name, planned[f]))
				}
				first = fmt.Sprintf("%s (%s)", x.label(i), strings.Join(shown, ", "))
			}
			continue
		}
		rows = append(rows, row)
	}
	if missing > 0 {
		return nil, fmt.Sprintf(
			"%d of %d rows of %s are not in the table %s, such as %s",
			missing,
			len(x.rows),
			x.plan.File(),
			t.Name,
			first,
		)
	}
	return rows, ""
}

// Missing reports whether rows of the plan's entities are not in their tables. Rows that cannot be looked for count as
// missing.
func (c *Compiled) Missing(open func(*schema.Table) (grow.Table, error)) (bool, error) {
	for _, t := range c.Targets {
		if t.Plan.Existing || t.Table == nil {
			continue
		}
		x := &base{plan: c.Plan, target: t, names: map[string]int{}}
		if err := x.grow(c); err != nil {
			return false, err
		}
		there, err := open(t.Table)
		if err != nil {
			return false, err
		}
		if _, problem := x.inTable(t.Table, there); problem != "" {
			return true, nil
		}
	}
	return false, nil
}

// Elsewhere reports whether an entity is of a plan that this one builds on.
func (c *Compiled) Elsewhere(t *Target) bool { return c.bases[t] != nil }

// RowNamed is the row of an entity that the plan, or one that it builds on, calls by a name; false if there is none.
func (c *Compiled) RowNamed(t *Target, name string) (grow.Row, bool) {
	if x := c.bases[t]; x != nil {
		i, ok := x.names[name]
		return grow.Row{N: uint64(i)}, ok
	}
	for i := range t.Grow.Side {
		if t.Grow.Side[i].Name == name {
			return grow.Row{N: uint64(i), Side: true}, true
		}
	}
	return grow.Row{}, false
}

// label is what people call a row.
func (x *base) label(i int) string {
	side := uint64(len(x.target.Grow.Side))
	if n := uint64(i); n < side {
		return x.target.Grow.Label(grow.Row{N: n, Side: true})
	}
	return x.target.Grow.Label(grow.Row{N: uint64(i) - side})
}

// keyIn finds a unique key of the table that the plan generates: the fields, and the places of the columns; nil if
// there
// is none.
func (x *base) keyIn(t *schema.Table) (fields, columns []int) {
	for _, k := range t.Keys() {
		var f, c []int
		primary := slices.Equal(k.Columns, t.PrimaryKey)
		for _, name := range k.Columns {
			col := t.Column(name)
			i := slices.Index(x.target.Columns, col)
			if i < 0 || !col.NotNull && !primary || k.Partial || primary && x.target.Plan.DatabaseKeys {
				f = nil
				break
			}
			f, c = append(f, i), append(c, slices.Index(t.Columns, col))
		}
		if f != nil && (fields == nil || !primary) {
			fields, columns = f, c
		}
	}
	return fields, columns
}

// keyOf is what some values of a row are, for comparisons.
func keyOf(row []value.Value, places []int) string {
	var b []byte
	for _, i := range places {
		v := row[i]
		if v.Type == value.Text {
			v = value.String(strings.TrimRight(v.S, " ")) // of a CHAR
		}
		b = v.AppendCanonical(b)
	}
	return string(b)
}
