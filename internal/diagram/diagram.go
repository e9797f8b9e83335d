// Package diagram shows entities and tables with what they refer to: as a picture, as Mermaid text, as a tree.
package diagram

import "strings"

// Diagram is boxes and what leads from one to another.
type Diagram struct {
	Title string   `json:"title"`
	Boxes []Box    `json:"entities"`
	Edges []Edge   `json:"references"`
	Notes []string `json:"notes,omitempty"` // what it leaves out, for people

	OfTables bool `json:"-"` // it shows tables, without a plan
}

// Mark says on which side something is, where a plan and a database are shown together.
type Mark string

// The marks.
const (
	Both         Mark = "" // or only one side is shown
	PlanOnly     Mark = "plan"
	DatabaseOnly Mark = "database"
)

// Box is an entity, or a table.
type Box struct {
	Name   string  `json:"name"`
	Table  string  `json:"table,omitempty"`  // as the plan names it; empty if it does not
	Rows   string  `json:"rows,omitempty"`   // how many there are, in words; empty: not known
	Order  int     `json:"order,omitempty"`  // its place in the load order, from 1; 0: it is not loaded
	Family int     `json:"family,omitempty"` // of which it is a member, from 1; 0: it is alone
	Parent int     `json:"parent"`           // the box per whose rows its rows are planned; -1: none
	Fields []Field `json:"fields"`
	Hidden int     `json:"hidden,omitempty"` // fields that are not shown
	Mark   Mark    `json:"only_in,omitempty"`
	Link   string  `json:"-"` // where a click on it leads in a picture on a page; empty: nowhere
}

// Field is a field, or a column.
type Field struct {
	Name      string `json:"name"`
	Type      string `json:"type"` // of its column; without a database, where its values come from
	Key       bool   `json:"key,omitempty"`
	Reference bool   `json:"reference,omitempty"`
	Mark      Mark   `json:"only_in,omitempty"`
}

// Edge leads from a field to the box that it refers to.
type Edge struct {
	From     int    `json:"from"` // a box, by its place in the list
	To       int    `json:"to"`
	Field    string `json:"field,omitempty"`
	Family   bool   `json:"family,omitempty"`   // the rows of From are planned per row of To
	Closing  bool   `json:"closing,omitempty"`  // it closes a circle, so that it is written at the end
	Optional bool   `json:"optional,omitempty"` // it may be NULL
	Mark     Mark   `json:"only_in,omitempty"`
}

// Only keeps some boxes and what leads from one of them to another.
func (d *Diagram) Only(keep func(box int) bool) *Diagram {
	out := &Diagram{Title: d.Title, Notes: d.Notes, OfTables: d.OfTables}
	at := make([]int, len(d.Boxes))
	for i, b := range d.Boxes {
		at[i] = -1
		if keep(i) {
			at[i] = len(out.Boxes)
			out.Boxes = append(out.Boxes, b)
		}
	}
	for i := range out.Boxes {
		if p := out.Boxes[i].Parent; p >= 0 {
			out.Boxes[i].Parent = at[p]
		}
	}
	for _, e := range d.Edges {
		if at[e.From] >= 0 && at[e.To] >= 0 {
			e.From, e.To = at[e.From], at[e.To]
			out.Edges = append(out.Edges, e)
		}
	}
	return out
}

// Around is the boxes that can be reached from one by so many edges, in either direction.
func (d *Diagram) Around(box, steps int) *Diagram {
	near := map[int]bool{box: true}
	for range steps {
		next := map[int]bool{}
		for _, e := range d.Edges {
			if near[e.From] || near[e.To] {
				next[e.From], next[e.To] = true, true
			}
		}
		for i := range next {
			near[i] = true
		}
	}
	return d.Only(func(i int) bool { return near[i] })
}

// KeysOnly hides fields that are neither keys nor references, and do not differ.
func (d *Diagram) KeysOnly() *Diagram {
	out := *d
	out.Boxes = make([]Box, len(d.Boxes))
	for i, b := range d.Boxes {
		all := b.Fields
		b.Fields = nil
		for _, f := range all {
			if f.Key || f.Reference || f.Mark != Both {
				b.Fields = append(b.Fields, f)
			}
		}
		b.Hidden += len(all) - len(b.Fields)
		out.Boxes[i] = b
	}
	return &out
}

// field is the place of a field in a box; -1 if it is not shown.
func (b *Box) field(name string) int {
	for i, f := range b.Fields {
		if f.Name == name {
			return i
		}
	}
	return -1
}

// Find is the place of a box by its name, or by that of its table, whatever the letter case; -1 if there is none.
func (d *Diagram) Find(name string) int {
	for _, same := range []func(*Box) bool{
		func(b *Box) bool { return b.Name == name },
		func(b *Box) bool { return strings.EqualFold(b.Name, name) || strings.EqualFold(b.Table, name) },
	} {
		for i := range d.Boxes {
			if same(&d.Boxes[i]) {
				return i
			}
		}
	}
	return -1
}

// Names are those of the boxes.
func (d *Diagram) Names() []string {
	out := make([]string, len(d.Boxes))
	for i, b := range d.Boxes {
		out[i] = b.Name
	}
	return out
}
