package load

import (
	"cmp"
	"context"
	"errors"
	"slices"

	"evensprout/internal/journal"

	"evensprout/internal/grow"
	"evensprout/internal/order"
	"evensprout/internal/plan"
	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/value"
)

// recomputeSums computes what adds up rows again, where rows below were rejected or drawn again
// in this chunk. Where the new values are refused, the whole family is rejected.
func (w *Writer) recomputeSums(ctx context.Context, c order.Chunk) error {
	if len(w.touched) == 0 {
		return nil
	}
	affected := map[*Target]map[grow.Row]bool{}
	for e, rows := range w.touched {
		for row := range rows {
			w.climb(e, row, affected)
		}
	}
	for _, run := range c {
		t := w.Session.Targets[run.Target]
		rows := affected[t]
		if len(rows) == 0 {
			continue
		}
		sorted := make([]grow.Row, 0, len(rows))
		for r := range rows {
			sorted = append(sorted, r)
		}
		slices.SortFunc(sorted, func(a, b grow.Row) int {
			if a.Side != b.Side {
				if a.Side {
					return -1
				}
				return 1
			}
			return cmp.Compare(a.N, b.N)
		})
		if err := w.isolateRows(ctx, t, sorted); err != nil {
			return err
		}
	}
	return nil
}

// climb collects the rows above that add up something.
func (w *Writer) climb(e *grow.Entity, row grow.Row, into map[*Target]map[grow.Row]bool) {
	for {
		up, ok := w.Grower().Parent(e, row)
		if !ok {
			return
		}
		e, row = e.Parent, up
		t := w.Session.ByGrow[e]
		if t == nil || !t.Sums || w.Session.Record.Rejected(e, row) || t.Write.Mode == plan.Keep {
			continue
		}
		if into[t] == nil {
			into[t] = map[grow.Row]bool{}
		}
		into[t][row] = true
	}
}

// isolateRows finds the guilty rows of a refused run and writes the others.
func (w *Writer) isolateRows(ctx context.Context, t *Target, rows []grow.Row) error {
	write := store.Write{Into: t.Writes.Into, Mode: store.Update}
	for _, name := range t.Table.PrimaryKey {
		if c := t.Table.Column(name); slices.Contains(write.Columns, c) {
			write.Match = append(write.Match, c)
		}
	}
	if len(write.Match) == 0 || len(write.Match) < len(t.Table.PrimaryKey) {
		write.Match = t.Writes.Match
	}
	if len(write.Match) == 0 {
		return &journal.Refusal{Kind: store.RowCount, Entity: t.Plan.Name, Table: t.Table.Name,
			Message: "child rows were left out, and their sum cannot be written again: the table has no key in " +
				"the plan"}
	}
	set := t.Writes.Set
	if t.Writes.Mode == store.Insert || t.Writes.Mode == store.Replace {
		set = write.Columns
	}
	for _, c := range set {
		if !slices.Contains(write.Match, c) && !slices.Contains(t.Table.PrimaryKey, c.Name) &&
			c.Identity == schema.NoIdentity {
			write.Set = append(write.Set, c)
		}
	}

	growing := func(yield func(*value.Batch) bool) {
		var b grow.Batch
		for _, r := range rows {
			w.Grower().Grow(t.Grow, r, 1, &b)
			w.translate(t, &b)
			if !yield(&b.Batch) {
				return
			}
		}
	}
	st, err := w.Tx.Stage(ctx, &write, growing)
	if err != nil {
		return err
	}

	// What is counted as inserted or updated is so already.
	_, err = store.Isolate(ctx, w.Tx, st, st.Rows(), func(v *store.Violation) error {
		root, row := t.Grow, rows[v.Row]
		for root.Parent != nil {
			up, _ := w.Grower().Parent(root, row)
			root, row = root.Parent, up
		}
		if w.Session.Policy(t, v.Kind) == plan.Stop {
			return w.Session.RefusalOf(t, rows[v.Row], v)
		}
		if err := w.reject(w.Session.ByGrow[root], row, v); err != nil {
			return err
		}
		return errAgain
	})
	return err
}

// second writes the references that were NULL at first, because they close a circle.
// Of rows that were there before, it touches only what the plan changes.
func (l *Session) second(ctx context.Context, w *Writer, added []journal.RowRun) error {
	for _, t := range l.List {
		if len(t.Late) == 0 || t.Out.Skipped {
			continue
		}
		key := []*schema.Column{t.Key}
		all := t.Writes.Mode == store.Insert || t.Writes.Mode == store.Replace
		ranges := slices.DeleteFunc(slices.Clone(added), func(x journal.RowRun) bool { return x.Entity != t.Plan.Name })
		slices.SortFunc(ranges, journal.RowRun.Compare)
		fresh := func(row grow.Row) bool {
			if t.isLoaded(row) {
				return false // an earlier load wrote it, and it may pick another row now
			}
			return all || within(ranges, row)
		}
		if t.Writes.Mode != store.Update {
			if err := l.secondOf(ctx, w, t, t.LateWrite(key, t.Late, t.Writes.Columns), fresh); err != nil {
				return err
			}
		}
		changed := slices.DeleteFunc(
			slices.Clone(t.Late),
			func(f int) bool { return !slices.Contains(t.Writes.Set, t.Columns[f]) },
		)
		if !all && len(changed) > 0 {
			if err := l.secondOf(ctx, w, t, t.LateWrite(key, changed, t.Writes.Set),
				func(row grow.Row) bool { return !fresh(row) }); err != nil {
				return err
			}
		}
	}
	return nil
}

// secondOf writes rows of an entity a second time, run by run: those that a function names.
func (l *Session) secondOf(
	ctx context.Context,
	w *Writer,
	t *Target,
	write *store.Write,
	of func(grow.Row) bool,
) error {
	for _, side := range []bool{true, false} {
		total := t.Grow.Rows
		if side {
			total = uint64(len(t.Grow.Side))
		}
		step := cmp.Or(l.Options.Chunk, StagedChunk)
		for from := uint64(0); from < total; from += step {
			run := order.Run{Target: t.Target, First: grow.Row{N: from, Side: side}, Rows: min(step, total-from)}
			if err := w.secondRun(ctx, t, write, run, of); err != nil {
				return err
			}
		}
	}
	return nil
}

// LateWrite is a write of references that close circles; match recognises the rows, and
// ours are the columns that hold what the plan says.
func (t *Target) LateWrite(match []*schema.Column, late []int, ours []*schema.Column) *store.Write {
	write := &store.Write{Into: store.Into{Table: t.Table}, Mode: store.Update, Match: match, Distinct: true}
	for _, f := range late {
		write.Set = append(write.Set, t.Columns[f])
	}
	for _, c := range ours {
		// Else the engine would put the time of day there.
		if c.Restamps && !slices.Contains(match, c) && !slices.Contains(write.Set, c) {
			write.Set = append(write.Set, c)
		}
	}
	for _, c := range slices.Concat(match, write.Set) {
		write.Columns, write.Fields = append(write.Columns, c), append(write.Fields, slices.Index(t.Columns, c))
	}
	return write
}

func (w *Writer) secondRun(
	ctx context.Context,
	t *Target,
	write *store.Write,
	run order.Run,
	of func(grow.Row) bool,
) error {
	p := &Pass{}
	rows := func(yield func(*value.Batch) bool) {
		for b := range w.regrow(run) {
			w.ownKeys(t, b)
			w.closeCircle(t, b)
			for i := range b.Len {
				if w.Session.Record.Rejected(t.Grow, b.At(i)) || !of(b.At(i)) {
					continue
				}
				p.segments = append(p.segments, segment{p.N, b.At(i), 1})
				p.N++
				if !yield(b.Batch.Slice(i, i+1)) {
					return
				}
			}
		}
	}
	st, err := w.Tx.Stage(ctx, write, rows)
	if err != nil {
		return err
	}
	if w.Growth != nil {
		return w.Growth
	}
	_, err = store.Isolate(
		ctx,
		w.Tx,
		st,
		st.Rows(),
		func(v *store.Violation) error { return w.Session.RefusalOf(t, p.Row(v.Row), v) },
	)
	return err
}

// ownKeys puts the real keys of rows in the place of planned ones: once, because a key that
// one row really has may be planned for another.
func (w *Writer) ownKeys(t *Target, b *grow.Batch) {
	at := slices.Index(t.Grow.Fields, t.Grow.Key)
	for i := range b.Len {
		row := b.Row(i)
		if real, ok := w.Session.RealKey(t.Grow, row[at]); ok {
			row[at] = real
		}
	}
}

// closeCircle puts real keys into late references, and NULL where the row referred to
// was rejected.
func (w *Writer) closeCircle(t *Target, b *grow.Batch) {
	for i := range b.Len {
		row := b.Row(i)
		for _, f := range t.Late {
			field := t.Grow.Fields[f]
			to := field.Target()
			if w.Session.Record.AnyRejected(to) {
				if other, ok := w.Grower().Refers(t.Grow, b.At(i), field); ok && w.Session.Record.Rejected(to, other) {
					row[f] = value.Value{}
					continue
				}
			}
			if real, ok := w.Session.RealKey(to, row[f]); ok && field.Stored() == to.Key {
				row[f] = real
			}
		}
	}
}

// clear empties the tables of entities that are replaced, children first. Rows outside
// the plan that refer to them stop it, unless the plan says cascade: then these are
// noted and removed as well.
func (l *Session) clear(ctx context.Context, w *Writer) error {
	// All are locked before the first is emptied: nobody can add rows to a table that is empty already which refer to
	// one that is emptied later, and would go with its rows.
	for _, t := range l.List {
		if t.Write.Mode != plan.Replace || t.Out.Skipped {
			continue
		}
		if err := w.Tx.LockRows(ctx, l.Plan.Database, t.Table); err != nil {
			return l.Refusal(t, nil, err)
		}
	}
	cleared := map[*schema.Table]bool{}
	for _, t := range slices.Backward(l.List) {
		if t.Write.Mode != plan.Replace || t.Out.Skipped {
			continue
		}
		cleared[t.Table] = true
		if err := (&detaching{l, w, t, cleared}).from(ctx, t.Table); err != nil {
			return err
		}
		kept := int64(-1)
		if l.Undoes() {
			var err error
			if kept, err = w.keepAll(ctx, t.Plan.Name, t.Table); err != nil {
				return err
			}
		}
		n, err := w.Tx.Clear(ctx, t.Table)
		if err != nil {
			return l.Refusal(t, nil, err)
		}
		if kept >= 0 && kept != n {
			return errRace
		}
		w.of(t).removed += n
	}
	return nil
}

// detaching takes away what refers to a table that will be empty.
type detaching struct {
	l       *Session
	w       *Writer
	t       *Target
	cleared map[*schema.Table]bool // tables that will be empty, too
}

// from looks for rows of other tables that refer to a table.
func (d *detaching) from(ctx context.Context, table *schema.Table) error {
	l, w, t := d.l, d.w, d.t
	if err := w.Tx.LockRows(ctx, l.Plan.Database, table); err != nil {
		return l.Refusal(t, nil, err)
	}
	for _, other := range l.Plan.Database.Referring() {
		for i := range other.References {
			r := &other.References[i]
			if r.To != table {
				continue
			}
			if other == table {
				if other.Column(r.Columns[0]).NotNull {
					continue // the engine deletes them together, or tells that it cannot
				}
				if err := w.Tx.Unlink(ctx, other, r); err != nil {
					return l.Refusal(t, nil, err)
				}
				continue
			}
			if d.cleared[other] {
				continue
			}
			if err := d.rows(ctx, other, r); err != nil {
				return err
			}
		}
	}
	return nil
}

// refuseUnseen refuses to delete rows to which rows may refer that this user cannot see. Where deleting takes nothing
// of those along, the database refuses.
func (d *detaching) refuseUnseen(other *schema.Table, r *schema.Reference) error {
	if !r.Takes() {
		return nil
	}
	return &journal.Refusal{
		Kind: store.ForeignKey, Entity: d.t.Plan.Name, Table: d.t.Table.Name, Constraint: r.Name, Columns: r.Columns,
		Refers: d.t.Table.Name,
		Message: "rows of " + other.Name + " may refer to rows that replace would delete, and would change with them: " +
			other.Hidden,
		Hint: "load as a user that sees all rows of " + other.Name + ", or use upsert",
	}
}

// rows removes rows of another table that refer to the table, and keeps what they held.
func (d *detaching) rows(ctx context.Context, other *schema.Table, r *schema.Reference) error {
	l, w, t := d.l, d.w, d.t
	if other.Hidden != "" {
		return d.refuseUnseen(other, r)
	}
	n := int64(0)
	lost := journal.Packer{Columns: other.Columns}
	err := w.Tx.Referring(ctx, other, r, func(row []value.Value) error {
		n++
		if !t.Write.Cascade || !l.Undoes() {
			return nil
		}
		return lost.Add(grow.Row{}, row)
	})
	if err != nil || n == 0 {
		return err
	}
	if !t.Write.Cascade || l.Plan.Database.IsOutside(other) {
		return &journal.Refusal{
			Kind: store.ForeignKey, Entity: t.Plan.Name, Table: t.Table.Name, Constraint: r.Name, Columns: r.Columns,
			Refers:  t.Table.Name,
			Message: "rows of " + other.Name + " refer to rows that replace would delete",
			Hint: "replace " + other.Name + " as well, or remove these rows with write: {mode: replace, cascade: " +
				"true}, or use upsert",
		}
	}

	// Rows that refer to these go first.
	if err := d.from(ctx, other); err != nil {
		return err
	}
	if l.Undoes() {
		if err = errors.Join(err, lost.Close()); err == nil {
			err = w.KeepPackets(ctx, t.Plan.Name, other.Name, journal.ContentRemoved, lost.Packets)
		}
		if err != nil {
			return err
		}
	}

	removed, err := w.Tx.Remove(ctx, other, r)
	if err == nil && removed > n {
		return errRace
	}
	if i := slices.IndexFunc(l.List, func(x *Target) bool { return x.Table == other }); i >= 0 {
		w.of(l.List[i]).removed += removed
	}
	return err
}

// noteChanges collects what an update would change.
func (w *Writer) noteChanges(ctx context.Context, t *Target, st store.Stage, p *Pass) error {
	return st.Changes(ctx, func(c store.Change) error {
		row := p.Row(c.Row)
		x := Changed{
			Entity: t.Plan.Name,
			Row:    t.Grow.Label(row),
			Match:  c.Match,
			Field:  t.FieldOf(c.Column.Name),
			From:   c.From,
			To:     c.To,
		}
		if !row.Side {
			_, x.Line = t.Line(row.N)
		}
		w.state.changes = append(w.state.changes, x)
		return nil
	})
}
