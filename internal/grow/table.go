package grow

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"evensprout/internal/rng"
	"evensprout/internal/value"
)

// Table is rows that are not grown but stand somewhere, such as in a file. It must
// not change while rows are grown.
type Table interface {
	Len() uint64
	// Reader returns access for one goroutine.
	Reader() TableReader
}

// TableReader reads rows of a table in any order; neighbours come together.
type TableReader interface {
	// Row returns the cells of a row; they are valid until the next call.
	Row(n uint64) ([]value.Value, error)
	Close() error
}

// Identified is a Table that knows identities of its rows: those that they had when they
// were grown.
type Identified interface {
	Table
	// ID is the identity of a row; false if it has none of its own.
	ID(n uint64) (rng.ID, bool)
}

// stored is a cell of the entity's table.
type stored struct {
	column int
	typ    value.Type
	scale  uint8
}

// Stored makes the values of a column of the entity's Table, all of a type or NULL.
func Stored(column int, typ value.Type, scale uint8) Source { return &stored{column, typ, scale} }

func (s *stored) Type() value.Type { return s.typ }
func (s *stored) Scale() uint8     { return s.scale }
func (s *stored) grow(c cell, v *value.Value) {
	if c.fr.row.Side {
		return
	}
	if cells := c.g.tableRow(c.fr.e, c.fr.row.N); cells != nil {
		*v = cells[s.column]
		if s.typ == value.Decimal && !v.IsNull() {
			*v, _ = v.Rescale(s.scale)
		}
	}
}

// tableRow reads a row of an entity's table; nil after an error.
func (g *Grower) tableRow(e *Entity, n uint64) []value.Value {
	r := g.tables[e]
	if r == nil {
		r = e.Table.Reader()
		g.tables[e] = r
	}
	cells, err := r.Row(n)
	if err != nil {
		if g.err == nil {
			g.err = &RowError{e.Label(Row{N: n}), "", err}
		}
		return nil
	}
	return cells
}

// Close releases what the grower holds open. A grower of a set without tables need
// not be closed.
func (g *Grower) Close() error {
	var first error
	for _, r := range g.tables {
		if err := r.Close(); err != nil && first == nil {
			first = err
		}
	}
	clear(g.tables)
	return first
}

// ID returns a row's identity.
func (g *Grower) ID(e *Entity, r Row) rng.ID { return g.id(e, r) }

// id returns a row's identity. A row of a table is known by its key, or, if the
// table has none, by its place.
func (g *Grower) id(e *Entity, r Row) rng.ID {
	if e.Table == nil || r.Side {
		return e.ID(r)
	}
	if t, ok := e.Table.(Identified); ok {
		if id, ok := t.ID(r.N); ok {
			return id
		}
	}
	known := g.knownIDs(e)
	if known != nil && known[r.N] != (rng.ID{}) {
		return known[r.N]
	}
	b := g.take()
	if len(e.TableKey) == 0 {
		b = strconv.AppendUint(append(b, "place "...), r.N, 10)
	} else if cells := g.tableRow(e, r.N); cells != nil {
		for _, k := range e.TableKey {
			b = append(cells[k].AppendText(b), 0)
		}
	}
	id := rng.NamedID("table", e.Name, string(b)) // never zero
	g.give(b)
	if known != nil {
		known[r.N] = id
	}
	return id
}

// maxKnownIDs bounds the rows of a table whose identities are kept, at 16 bytes each: many rows refer to few.
const maxKnownIDs = 16_384

// knownIDs has room for the identities of a table's rows; nil if there are too many.
func (g *Grower) knownIDs(e *Entity) []rng.ID {
	known, ok := g.ids[e]
	if n := e.Table.Len(); !ok && n <= maxKnownIDs {
		known = make([]rng.ID, n)
		g.ids[e] = known
	}
	return known
}

// lookup is a reference to the row that has certain values in some fields.
type lookup struct {
	to   *Entity
	by   *Field   // what the cell holds
	find []*Field // whose values are looked for
	of   []*Field // the inner fields that hold these values
	rows map[string]Row
	many map[string]bool
	own  *Field // which of these holds what is kept; nil if none does
}

// Lookup makes references to the one row of an entity whose fields find have the values
// of the inner fields of. The rows are looked through once, and their values kept:
// memory grows with the rows of the entity, at most MaxLookup.
func Lookup(to *Entity, by *Field, find, of []*Field) Source {
	s := &lookup{to: to, by: by, find: find, of: of}
	if i := slices.Index(find, by); i >= 0 && of[i].Source.Type() == by.Source.Type() {
		s.own = of[i]
	}
	return s
}

// MaxLookup bounds the rows of an entity that is looked up by a field.
const MaxLookup = 5_000_000

func (s *lookup) Type() value.Type        { return s.by.Source.Type() }
func (s *lookup) Scale() uint8            { return s.by.Source.Scale() }
func (s *lookup) target() *Entity         { return s.to }
func (s *lookup) stored() *Field          { return s.by }
func (s *lookup) grow(cell, *value.Value) {}

func (s *lookup) search(g *Grower, f *Field) *FinishError {
	total := s.to.Total()
	if total > MaxLookup {
		return &FinishError{
			Entity: f.Entity,
			Field:  f,
			Message: fmt.Sprintf(
				"%s has %d rows; at most %d can be looked up by a field",
				s.to.Name,
				total,
				MaxLookup,
			),
		}
	}

	s.rows, s.many = make(map[string]Row, total), map[string]bool{}
	for i := range total {
		row := s.to.at(i)
		fr := g.open(s.to, row)
		key, ok := g.lookupKey(fr, s.find)
		fr.close()
		if !ok {
			continue
		}
		if _, ok := s.rows[key]; ok {
			s.many[key] = true
		}
		s.rows[key] = row
	}
	return nil
}

// lookupKey is the values of some fields of a row as one text; false if one is NULL.
func (g *Grower) lookupKey(fr *frame, fields []*Field) (string, bool) {
	var b []byte
	for i, f := range fields {
		v := g.value(fr, f)
		if v.IsNull() {
			return "", false
		}
		if i > 0 {
			b = append(b, 0)
		}
		b = v.AppendText(b)
	}
	return string(b), true
}

// row finds the row; what is not found, or found twice, is an error of growing.
func (s *lookup) row(c cell) (Row, bool) {
	key, ok := c.g.lookupKey(c.fr, s.of)
	if !ok {
		return Row{}, false
	}
	row, ok := s.rows[key]
	if (!ok || s.many[key]) && c.g.err == nil {
		found := "no"
		if ok {
			found = "more than one"
		}
		var names []string
		for _, f := range s.find {
			names = append(names, f.Name)
		}
		c.g.err = &RowError{
			c.fr.e.Label(c.fr.row),
			c.f.Name,
			fmt.Errorf("%s %s has the %s %s", found, s.to.Name, strings.Join(names, " and "),
				`"`+strings.ReplaceAll(key, "\x00", `" and "`)+`"`),
		}
	}
	return row, ok && !s.many[key]
}

// Try grows one cell and returns its error, if it has one, without its row.
func (g *Grower) Try(e *Entity, r Row, f *Field) error {
	before := g.err
	g.err = nil
	fr := g.open(e, r)
	g.value(fr, f)
	fr.close()
	err := g.err
	g.err = before
	if row, ok := err.(*RowError); ok {
		return row.Err
	}
	return err
}

// AppendIdentity appends what tells a row from all others, so that it is the same when
// rows are added elsewhere: of a table its key, or, without one, all of its cells, which
// several rows may share; of rows that are grown or written by hand what their values
// depend on. once reports whether no two rows have the same.
func (g *Grower) AppendIdentity(b []byte, e *Entity, r Row) (out []byte, once bool) {
	if e.Table == nil || r.Side {
		id := g.id(e, r)
		return fmt.Appendf(b, "grown %016x%016x", id[0], id[1]), true
	}
	cells := g.tableRow(e, r.N)
	b = append(b, "table"...)
	for i := range cells {
		if len(e.TableKey) == 0 || slices.Contains(e.TableKey, i) {
			b = cells[i].AppendCanonical(b)
		}
	}
	return b, len(e.TableKey) > 0
}

// finds reports whether given rows of an entity refer to rows by their values.
func (e *Entity) finds() bool {
	for i := range e.Side {
		for _, given := range e.Side[i].Given {
			if given.find != nil {
				return true
			}
		}
	}
	return false
}

// findGiven finds the rows to which given rows refer by values: each entity is looked
// through once for each choice of fields.
func (s *Set) findGiven(g *Grower) []*FinishError {
	var faults []*FinishError
	lookups := map[string]*lookup{}
	for _, e := range s.Entities {
		for i := range e.Side {
			for _, f := range e.Fields {
				given, ok := e.Side[i].Given[f]
				if !ok || given.find == nil {
					continue
				}
				fault := func(format string, args ...any) {
					faults = append(
						faults,
						&FinishError{Entity: e, Field: f, Row: e.Side[i].Name, Message: fmt.Sprintf(format, args...)},
					)
				}
				to := f.Target()
				var names, values []string
				for k, by := range given.find.by {
					names, values = append(names, by.Name), append(values, given.find.values[k].String())
				}
				key := to.Name + "\x00" + strings.Join(names, "\x00")
				if slices.ContainsFunc(to.Groups, func(group *Group) bool { return group.size == 0 }) {
					fault("rows of %s cannot be found by their values, because their own depend on other rows", to.Name)
					continue
				}
				l := lookups[key]
				if l == nil {
					l = &lookup{to: to, find: given.find.by}
					if err := l.search(g, f); err != nil {
						err.Row = e.Side[i].Name
						faults = append(faults, err)
						continue
					}
					lookups[key] = l
				}
				var b []byte
				for k := range given.find.values {
					if k > 0 {
						b = append(b, 0)
					}
					b = given.find.values[k].AppendText(b)
				}
				row, there := l.rows[string(b)]
				switch {
				case !there:
					fault("no %s has the %s %q", to.Name, strings.Join(names, " and "), strings.Join(values, " and "))
				case l.many[string(b)]:
					fault(
						"more than one %s has the %s %q",
						to.Name,
						strings.Join(names, " and "),
						strings.Join(values, " and "),
					)
				default:
					given.Ref = row
					e.Side[i].Given[f] = given
				}
			}
		}
	}
	return faults
}

func (s *stored) redrawn(*Field) []*Field { return nil }

func (s *lookup) redrawn(*Field) []*Field { return nil }

func (s *stored) differs(f *Field) bool {
	return len(f.Entity.TableKey) == 1 && f.Entity.TableKey[0] == s.column
}

// Cell is a value of a row.
func (g *Grower) Cell(e *Entity, r Row, f *Field) value.Value {
	g.refresh()
	fr := g.open(e, r)
	defer fr.close()
	return *g.value(fr, f)
}
