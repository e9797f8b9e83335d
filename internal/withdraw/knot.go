package withdraw

import (
	"context"
	"slices"

	"evensprout/internal/load"

	"evensprout/internal/grow"
	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/value"
)

// A knot is tables that refer to each other by columns that are NOT NULL, of which one would
// become NULL when what it refers to goes (ON DELETE SET NULL). Whichever row goes first,
// the other one's column refuses it. So all rows of a knot go in one statement.

// knots are the knots of all entities of the load: those of each are in load order.
func (v *withdrawal) knots() map[*load.Target][]*load.Target {
	list := v.Session.List
	place := map[*schema.Table]int{}
	for i, t := range slices.Backward(list) {
		place[t.Table] = i
	}
	until := make([]int, len(list)) // by entity: the last one that is tied to it
	for i, t := range list {
		until[i] = i
		for k := range t.Table.References {
			r := &t.Table.References[k]
			// What is loaded later goes first, and would take the reference along.
			if j, ok := place[r.To]; ok && j > i && r.Blanks && slices.ContainsFunc(r.Columns, func(name string) bool {
				return t.Table.Column(name).NotNull
			}) {
				until[i] = max(until[i], j)
			}
		}
	}
	out := map[*load.Target][]*load.Target{}
	for from := 0; from < len(list); {
		to := until[from]
		for i := from; i <= to; i++ {
			to = max(to, until[i])
		}
		if knot := list[from : to+1]; len(knot) > 1 {
			for _, t := range knot {
				out[t] = knot
			}
		}
		from = to + 1
	}
	return out
}

// within are the columns by which tables of a knot refer to each other.
func within(knot []*load.Target) []*schema.Column {
	var out []*schema.Column
	for _, t := range knot {
		for k := range t.Table.References {
			r := &t.Table.References[k]
			if len(r.Columns) == 1 && slices.ContainsFunc(knot, func(x *load.Target) bool { return x.Table == r.To }) {
				out = append(out, t.Table.Column(r.Columns[0]))
			}
		}
	}
	return out
}

// leaveAll leaves the rows of a table of a knot that do not stay for another reason.
func (v *withdrawal) leaveAll(t *load.Target, rows *load.Pass) {
	stays := map[grow.Row]bool{}
	for _, row := range v.out.left[t] {
		stays[row] = true
	}
	for n := range rows.N {
		if row := rows.Row(n); !stays[row] {
			v.leave(t, row, "", "it can only be removed with rows that remain: the tables refer to each other")
		}
	}
}

// removeKnot takes the rows of a knot away; or none, if some of them must stay.
func (v *withdrawal) removeKnot(ctx context.Context, knot []*load.Target) error {
	except := slices.DeleteFunc(
		append(v.ignored(), within(knot)...),
		func(c *schema.Column) bool { return c == nil },
	)
	left := v.out.Left
	stages := make([]store.Stage, len(knot))
	staged := make([]*load.Pass, len(knot))
	for i, t := range knot {
		rows := &load.Pass{}
		st, err := v.stage(ctx, t, v.without(t, v.all(t, rows)))
		if err == nil {
			err = v.w.Growth
		}
		if err == nil {
			err = v.dropTouched(ctx, t, st, rows, true)
		}
		if err != nil {
			return err
		}
		stages[i], staged[i] = st, rows
	}

	var seen map[string]map[string]bool
	for i, t := range knot {
		found, err := stages[i].Referred(ctx, v.Session.Plan.Database, except)
		if err != nil {
			return err
		}
		for _, r := range found {
			if !v.o.Referring || r.Hidden != "" ||
				slices.ContainsFunc(knot, func(x *load.Target) bool { return x.Table.Name == r.Table }) {
				v.leave(t, staged[i].Row(r.Row), alsoFor(r), r.Why())
			}
		}
		if v.o.Referring && len(found) > 0 {
			if seen == nil {
				seen = map[string]map[string]bool{}
				for _, x := range knot {
					v.seeOwn(x, v.all(x, &load.Pass{}), seen)
				}
			}
			if err := v.removeReferrersOf(ctx, stages[i], seen); err != nil {
				return err
			}
		}
	}

	if v.out.Left > left {
		for i, t := range knot {
			v.leaveAll(t, staged[i])
		}
		return nil
	}

	slices.Reverse(stages) // where they do not go at once, those that refer to others go first
	removed, err := stages[0].RemoveWith(ctx, stages[1:]...)
	if err != nil {
		return v.Session.Refusal(knot[len(knot)-1], nil, err)
	}
	for i, n := range removed {
		v.of(knot[len(knot)-1-i]).Removed += n
	}
	for _, t := range knot {
		for run := range v.Runs(v.w, t, v.size()) {
			v.noteFiles(t, run)
		}
	}
	return nil
}

// all are the rows of an entity that the load added.
func (v *withdrawal) all(t *load.Target, into *load.Pass) store.Rows {
	return func(yield func(*value.Batch) bool) {
		for run := range v.Runs(v.w, t, load.StagedChunk) {
			for b := range v.Only(v.w, t, run, true, into) {
				if !yield(b) {
					return
				}
			}
		}
	}
}
