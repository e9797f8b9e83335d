package grow

import (
	"cmp"
	"fmt"
	"slices"

	"evensprout/internal/rng"
	"evensprout/internal/value"
)

// Set is everything that is grown together: the entities of one plan.
type Set struct {
	Seed     string
	Edition  string
	Clock    value.Value // a Timestamp: what "now" means
	Entities []*Entity
	Record   *Record // what growers made from now on take into account; may be nil
}

// Entity is a kind of row. Its rows are Side rows (given by name, and what is
// grown below those) and grown rows with the numbers 0 to Rows-1.
type Entity struct {
	Name     string
	Fields   []*Field
	Rows     uint64    // grown rows; of an entity with a Parent, Finish computes it
	Key      *Field    // the field that references to this entity store; nil if it has none
	Parent   *Entity   // nil for the root of a family
	Deal     *rng.Deal // how many children each parent has
	Instead  bool      // a parent's given rows stand instead of grown ones
	Up       *Field    // the reference to the parent
	Groups   []*Group
	Table    Table             // where the numbered rows stand; nil if they are grown
	TableKey []int             // columns of the table that tell a row
	Named    map[uint64]string // rows of the table that have a name; may be nil
	Side     []SideRow
	Meets    []*Meet   // conditions that every row meets
	Covering *Covering // the fewest rows in which choices meet; nil: as many as Rows says
	Profiles *Profiles // nil: all rows are of one sort

	children   []*Entity
	hasAwkward bool // some field mixes in awkward values
	index      int
	id         rng.ID
	ties       []*tie
	printed    []*Field // what counts in fingerprints, in their order
}

// SideRow is a row outside the numbered sequence.
type SideRow struct {
	Name    string // empty if it is grown below a given row
	ID      rng.ID
	Parent  int    // index of the parent in the parent entity's Side
	Ordinal uint64 // position among its siblings
	Given   map[*Field]Given
}

// Given is a value written by hand. A reference that is not NULL names its row in
// Ref.
type Given struct {
	Value value.Value
	Ref   Row
	find  *found // how Ref is found, by Set.Finish
}

// found is the values of some fields that tell a row.
type found struct {
	by     []*Field
	values []value.Value
}

// GivenFound is a reference to the one row whose fields have some values.
func GivenFound(by []*Field, values []value.Value) Given {
	return Given{Value: value.Int(0), find: &found{by, values}}
}

// GivenRow is a reference written by hand.
func GivenRow(r Row) Given { return Given{Value: value.Int(0), Ref: r} }

// Row names a row of an entity: a grown row by its number, a side row by its
// index.
type Row struct {
	N    uint64
	Side bool
}

// Field is one cell of each row.
type Field struct {
	Name   string
	Source Source
	Nulls  Share       // share of empty cells
	Free   bool        // independent draws in place of an even spread
	Hidden bool        // a key that the plan does not mention: not part of fingerprints
	Inner  bool        // only used by other fields: neither stored nor part of fingerprints
	If     []Condition // all must hold, else the cell is NULL

	Entity   *Entity
	ref      reference // Source, if it is one; set by Finish
	index    int
	keys     [draws]rng.Key
	group    *Group // the unique group it belongs to
	member   int    // its place in the group
	numbered *Group // the unique group in which its value takes a number
	tied     int    // its place in Entity.ties, from 1; 0 if it is in none
	id       uint64 // its name in fingerprints

	factor        int   // of a covering, from 1; 0: none
	awkward       Share // of values that others stand for
	awkwardValues []Awkward
}

// Share is an exact part of a whole.
type Share struct{ Part, Whole uint64 }

func (s Share) hit(u uint64) bool { return s.Part > 0 && rng.Below(u, s.Whole) < s.Part }

// NewEntity adds an entity.
func (s *Set) NewEntity(name string) *Entity {
	e := &Entity{Name: name, index: len(s.Entities), id: rng.NamedID(name)}
	s.Entities = append(s.Entities, e)
	return e
}

// NewField adds a field. seedName is the name that its values depend on: the
// field's own, or the old one after a renaming.
func (s *Set) NewField(e *Entity, name, seedName string) *Field {
	f := &Field{Name: name, Entity: e, index: len(e.Fields)}
	key := rng.NewKey(s.Edition, s.Seed, e.Name, seedName)
	f.keys = [draws]rng.Key{drawValue: key, drawNull: key.Sub("nulls"), drawAwkward: key.Sub("awkward")}
	f.id = hashName(name)
	e.Fields = append(e.Fields, f)
	return f
}

// key is the key of the field's values.
func (f *Field) key() rng.Key { return f.keys[drawValue] }

// DealKey is the key by which the children of a reference to the parent are
// dealt.
func (f *Field) DealKey() rng.Key { return f.key().Sub("deal") }

// AddGiven adds a row written by hand. parent is the index of its parent among
// the parent entity's Side rows, where there is a parent.
func (e *Entity) AddGiven(name string, given map[*Field]Given) {
	e.Side = append(e.Side, SideRow{Name: name, ID: rng.NamedID(e.Name, name), Given: given})
}

// Children are the entities planned per this one.
func (e *Entity) Children() []*Entity { return e.children }

// Root is the entity at the head of the family.
func (e *Entity) Root() *Entity {
	for e.Parent != nil {
		e = e.Parent
	}
	return e
}

// Total is the number of all rows.
func (e *Entity) Total() uint64 { return uint64(len(e.Side)) + e.Rows }

// at returns the row at a position: side rows come first.
func (e *Entity) at(position uint64) Row {
	if s := uint64(len(e.Side)); position >= s {
		return Row{N: position - s}
	}
	return Row{N: position, Side: true}
}

// ID returns a row's identity.
func (e *Entity) ID(r Row) rng.ID {
	if r.Side {
		return e.Side[r.N].ID
	}
	return rng.ID{0, r.N}
}

// Label names a row for people: Passenger.ada, Passenger row 4321, Booking 2 of
// Passenger.ada.
func (e *Entity) Label(r Row) string {
	if !r.Side {
		if name := e.Named[r.N]; name != "" {
			return e.Name + "." + name
		}
		return fmt.Sprintf("%s row %d", e.Name, r.N)
	}
	if s := e.Side[r.N]; s.Name != "" {
		return e.Name + "." + s.Name
	} else if e.Parent != nil {
		return fmt.Sprintf("%s %d of %s", e.Name, s.Ordinal+1, e.Parent.Label(Row{N: uint64(s.Parent), Side: true}))
	}
	return fmt.Sprintf("%s side row %d", e.Name, r.N)
}

// maxSide bounds the rows that are held in memory because they hang on names.
const maxSide = 1_000_000

// FinishError is a fault that shows only once all entities are known.
type FinishError struct {
	Entity  *Entity
	Field   *Field // nil if it is not about one field
	Row     string // name of a given row, or empty
	Message string
}

func (e *FinishError) Error() string { return e.Message }

// Finish links the entities: side rows below given ones, numbers of rows,
// unique groups. All faults are returned.
func (s *Set) Finish() []*FinishError {
	s.link()
	if faults := s.settleRows(); len(faults) > 0 {
		return faults
	}
	var faults []*FinishError
	for _, e := range s.Entities {
		for _, f := range e.Fields {
			if src, ok := f.Source.(settler); ok {
				if fault := src.settle(f); fault != nil {
					faults = append(faults, fault)
				}
			}
		}
	}

	if len(faults) > 0 {
		return faults
	}
	g := NewGrower(s)
	defer g.Close()
	if faults = s.settleGroups(g); len(faults) > 0 {
		return faults
	}
	for _, e := range s.Entities {
		for _, f := range e.Fields {
			if src, ok := f.Source.(searcher); ok {
				if fault := src.search(g, f); fault != nil {
					faults = append(faults, fault)
				}
			}
		}
	}
	return faults
}

// link links entities and fields.
func (s *Set) link() {
	for _, e := range s.Entities {
		if e.Parent != nil {
			e.Parent.children = append(e.Parent.children, e)
		}
		for _, f := range e.Fields {
			f.ref, _ = f.Source.(reference)
			if !f.Hidden && !f.Inner {
				e.printed = append(e.printed, f)
			}
		}
		e.tieFields()
		slices.SortFunc(e.printed, func(a, b *Field) int { return cmp.Compare(a.id, b.id) })
	}
}

// settleRows finds how many rows there are.
func (s *Set) settleRows() []*FinishError {
	var faults []*FinishError
	for _, e := range s.Entities {
		if e.Table != nil {
			e.Rows = e.Table.Len()
		}
		if e.Covering != nil {
			if fault := e.Covering.settle(s, e); fault != nil {
				return append(faults, fault)
			}
		}
	}

	for _, e := range s.Entities {
		if e.Parent == nil {
			faults = append(faults, e.settle()...)
		}
	}
	return faults
}

// settleGroups lays out the unique groups: those that pick rows under a condition once the
// rows that they pick from can be grown.
func (s *Set) settleGroups(g *Grower) []*FinishError {
	var faults []*FinishError
	searching := func(group *Group) bool {
		return group.entity.finds() ||
			slices.ContainsFunc(
				group.members,
				func(m member) bool { p, ok := m.field.Source.(*pick); return ok && p.Where != nil },
			)
	}
	const waiting, begun, done = 0, 1, 2
	state := map[*Entity]int{}
	var settle func(e *Entity)
	settle = func(e *Entity) {
		state[e] = begun
		for _, group := range e.Groups {
			if !searching(group) {
				continue
			}
			for _, m := range group.members {
				p, ok := m.field.Source.(*pick)
				if !ok || p.Where == nil {
					continue
				}
				var fault *FinishError
				switch state[p.to] {
				case begun:
					fault = &FinishError{
						Entity:  e,
						Field:   m.field,
						Message: "which rows of " + p.to.Name + " meet the condition depends on these rows",
					}
				case waiting:
					settle(p.to)
				}
				if fault == nil {
					fault = p.search(g, m.field)
				}
				if fault != nil {
					faults = append(faults, fault)
				}
			}
			if len(faults) == 0 {
				if fault := group.settle(g); fault != nil {
					faults = append(faults, fault)
				}
			}
		}
		state[e] = done
	}
	for _, e := range s.Entities {
		for _, group := range e.Groups {
			if searching(group) {
				continue
			}
			if fault := group.settle(g); fault != nil {
				faults = append(faults, fault)
			}
		}
	}

	if len(faults) == 0 {
		faults = s.findGiven(g)
	}
	for _, e := range s.Entities {
		if state[e] == waiting && len(faults) == 0 {
			settle(e)
		}
	}
	return faults
}

// childrenOf is how many rows of the entity are below a side row of its parent.
func (e *Entity) childrenOf(parent *SideRow) uint64 {
	if e.Deal.ByProfile() {
		return e.Deal.OfProfile(parent.ID, e.Parent.Profiles.side(parent))
	}
	return e.Deal.Of(parent.ID)
}

// searcher is a source that looks through rows of another entity once all rows can
// be grown.
type searcher interface {
	search(g *Grower, f *Field) *FinishError
}

// settler is a source that depends on numbers of rows.
type settler interface{ settle(f *Field) *FinishError }

// settle lays out the rows of a family, parents first.
func (e *Entity) settle() []*FinishError {
	if e.Parent != nil {
		e.Rows = rng.NewDealt(e.Deal).First(e.Parent.Rows)
		given := e.Side
		e.Side = nil
		byParent := map[int][]SideRow{}
		for _, s := range given {
			p := int(s.Given[e.Up].Ref.N)
			byParent[p] = append(byParent[p], s)
		}
		for p, parent := range e.Parent.Side {
			for i, s := range byParent[p] {
				s.Parent, s.Ordinal = p, uint64(i)
				e.Side = append(e.Side, s)
			}
			n := e.childrenOf(&parent)
			if e.Instead && len(byParent[p]) > 0 {
				n = 0
			}
			if uint64(len(e.Side))+n > maxSide {
				return []*FinishError{{Entity: e, Message: fmt.Sprintf("more than %d rows below given ones", maxSide)}}
			}
			for o := range n {
				e.Side = append(e.Side, SideRow{
					ID: parent.ID.Child(e.Name, o), Parent: p, Ordinal: uint64(len(byParent[p])) + o,
				})
			}
		}
	}

	var faults []*FinishError
	for _, c := range e.children {
		faults = append(faults, c.settle()...)
	}
	return faults
}
