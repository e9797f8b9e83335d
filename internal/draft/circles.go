package draft

import (
	"fmt"
	"slices"
)

// leaveWhatNeedsOthers takes out tables that need rows of tables that need theirs, or
// that are left out.
func (d *drafter) leaveWhatNeedsOthers() {
	for {
		before := len(d.tables)
		d.dropGuesses()
		d.cutCircles()
		for _, t := range slices.Clone(d.tables) {
			for _, r := range t.refs {
				if r.needed() && (r.lead != nil || r == t.parent) && r.known() == nil {
					t.leave("it refers to " + r.Table + ", which is left out")
				} else if (!d.Loosens || d.chunks) && r.needed() && leads(r.known(), t, true, map[*Table]bool{}) {
					t.leave(fmt.Sprintf("it and %s each need rows of the other first, and neither reference can "+
						"be NULL or deferred", r.Table))
				}
				if d.byTable[t.Schema] == nil {
					break
				}
			}
		}
		d.leaveReferring()
		if len(d.tables) == before {
			return
		}
	}
}

// leaveReferring takes out tables that must refer to one that is left out. References that may be
// NULL are given up.
func (d *drafter) leaveReferring() {
	for _, t := range d.tables {
		for _, f := range t.Fields {
			if f.lead && f.ref.known() == nil && !f.ref.guessed {
				if f.Column.NotNull {
					t.leave("it refers to " + f.ref.Table + ", which is left out")
					break
				}
				f.ref.giveUp("refers to " + f.ref.Table + ", which is left out")
			}
		}
	}
}

// dropGuesses forgets references that no constraint declares to tables that are left
// out: their columns hold values of their own.
func (d *drafter) dropGuesses() {
	for _, t := range d.tables {
		t.refs = slices.DeleteFunc(t.refs, func(r *reference) bool {
			if !r.guessed || r.known() != nil {
				return false
			}
			if f := r.lead; f != nil {
				f.Source, f.ref, f.lead, f.Nulls, f.Comment = Source{}, nil, false, false, ""
			}
			return true
		})
	}
}

// giveUp makes a reference refer to nothing.
func (r *reference) giveUp(why string) {
	t := r.from
	for _, name := range r.Columns {
		f := t.find(name)
		switch {
		case f == nil || f.ref != r:
		case f == r.lead || !f.Column.NotNull:
			f.null(why)
			f.lead = false
		default: // a value of its own: as another is NULL, it refers to nothing
			f.Source, f.ref = Source{}, nil
		}
	}
	r.lead = nil
}

// cutCircles gives up references that close a circle and could be filled in only
// afterwards, where rows have no key of one column to find them by.
func (d *drafter) cutCircles() {
	for _, t := range d.tables {
		for _, r := range t.refs {
			if !d.chunks && r.late() || r.lead == nil || r.lead.Column.NotNull || r.to == t.Schema || r == t.parent {
				continue
			}
			if d.closes(r) {
				why := "closes a circle of references, and no key of one column identifies the rows to fill in " +
					"at the end"
				if d.chunks {
					why = fmt.Sprintf("closes a circle of references: {pick: %s} needs commit: load", r.known().Entity)
				}
				r.giveUp(why)
			}
		}
	}
}

// late reports whether a reference can be filled in at the end of a load, by the key of
// its row.
func (r *reference) late() bool {
	return r.guessed || len(r.from.Schema.PrimaryKey) == 1 && len(r.Columns) == 1
}

// closes reports whether a reference is part of a circle of tables.
func (d *drafter) closes(r *reference) bool {
	return !r.needed() && leads(r.known(), r.from, false, map[*Table]bool{})
}

// leads reports whether references, or only those that are needed, lead from a table to
// another.
func leads(t, other *Table, needed bool, seen map[*Table]bool) bool {
	if t == other {
		return true
	}
	if t == nil || seen[t] {
		return false
	}
	seen[t] = true
	return slices.ContainsFunc(t.refs, func(r *reference) bool {
		return r.known() != nil && (r.needed() || !needed) && leads(r.known(), other, needed, seen)
	})
}
