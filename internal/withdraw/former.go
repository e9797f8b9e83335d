package withdraw

import (
	"context"
	"fmt"
	"slices"

	"evensprout/internal/load"
	"evensprout/internal/replay"

	"evensprout/internal/journal"

	"evensprout/internal/grow"
	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/value"
)

// contents shows the packets that the journal keeps, in the order in which they were
// written.
func (v *withdrawal) contents(
	ctx context.Context,
	what string,
	want func(entity, table string) bool,
	show func(entity, table string, rows int64, body []byte) error,
) error {
	list, err := journal.Packets(ctx, v.w.Store, v.tables, v.Entry.Number, what)
	if err != nil {
		return err
	}
	for _, k := range list { // one packet in memory at a time
		if !want(k.Entity, k.Table) {
			continue
		}
		body, err := k.Body(ctx, v.w.Store, v.tables)
		left := v.out.Left
		if err == nil {
			err = show(k.Entity, k.Table, k.Rows, body)
		}
		if err == nil && v.out.Left == left { // else what is left needs it
			err = k.Delete(ctx, v.w.Tx, v.tables)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// restoreChanged gives rows that the load changed their former contents back.
func (v *withdrawal) restoreChanged(ctx context.Context, t *load.Target) error {
	if !v.Entry.About.Undo {
		return nil
	}
	want := func(entity, _ string) bool { return entity == t.Plan.Name }
	return v.contents(
		ctx,
		journal.ContentChanged,
		want,
		func(_, _ string, n int64, body []byte) error { return v.restorePacket(ctx, t, n, body) },
	)
}

// formerWrite is how former contents of the columns of a packet are written.
func formerWrite(t *load.Target, names []string) *store.Write {
	write := &store.Write{Into: store.Into{Table: t.Table}, Mode: store.Update, Match: t.Writes.Match, Distinct: true}
	for i, name := range names {
		c := t.Table.Column(name)
		if c == nil {
			continue
		}
		set := slices.Contains(t.Writes.Set, c) || slices.Contains(t.Writes.Stamp, c) || c.Restamps
		if !set && !slices.Contains(t.Writes.Match, c) {
			continue
		}
		write.Columns, write.Fields = append(write.Columns, c), append(write.Fields, i)
		if set {
			write.Set = append(write.Set, c)
		}
	}
	return write
}

// restorePacket restores the rows of one packet.
func (v *withdrawal) restorePacket(ctx context.Context, t *load.Target, n int64, body []byte) error {
	var rows []grow.Row
	former := map[grow.Row][]value.Value{}
	var names []string
	err := journal.Unpack(body, n, true, func(columns []string, planned grow.Row, values []value.Value) error {
		names = columns
		if !v.w.Session.Record.Rejected(t.Grow, planned) && v.Remains(t, planned) {
			rows = append(rows, planned)
			former[planned] = values
		}
		return nil
	})
	if err != nil || len(rows) == 0 {
		return err
	}
	staged := &load.Pass{}
	st, err := v.w.Tx.Stage(ctx, v.Compared(t, false), v.These(v.w, t, rows, staged))
	if err == nil {
		err = v.w.Growth
	}
	if err != nil {
		return err
	}
	gone, err := st.Unmatched(ctx, 0)
	if err != nil {
		return err
	}
	changed, err := st.Differing(ctx)
	if err != nil {
		return err
	}
	skip := map[grow.Row]bool{}
	v.of(t).Gone += int64(len(gone))
	for _, i := range gone {
		skip[staged.Row(i)] = true
	}
	for _, i := range changed {
		if !v.o.Changed {
			skip[staged.Row(i)] = true
			v.leave(t, staged.Row(i), alsoChanged, "it was changed since")
		}
	}

	rows = slices.DeleteFunc(rows, func(r grow.Row) bool { return skip[r] })
	if len(rows) == 0 {
		return nil
	}
	write := formerWrite(t, names)
	st, err = v.w.Tx.Stage(ctx, write, func(yield func(*value.Batch) bool) {
		for _, r := range rows {
			if !yield(&value.Batch{Len: 1, Width: len(names), Values: former[r]}) {
				return
			}
		}
	})
	if err != nil {
		return err
	}
	out, err := store.Isolate(ctx, v.w.Tx, st, int64(len(rows)), func(x *store.Violation) error {
		v.leave(t, rows[x.Row], "", "its previous contents are refused: "+x.Message)
		return nil
	})
	v.of(t).Restored += out.Updated
	return err
}

// returnRemoved puts rows back that the load deleted, parents first.
func (v *withdrawal) returnRemoved(ctx context.Context) error {
	var tables []string
	of := v.tables.Contents
	q := store.Query{Table: of, Where: journal.Cells(of, "load", v.Entry.Number, "what", journal.ContentRemoved)}
	err := journal.Read(ctx, v.w.Store, q, []string{"of"}, func(r journal.Record) error {
		if name := r.Text("of"); !slices.Contains(tables, name) {
			tables = append(tables, name)
		}
		return nil
	})
	if err != nil {
		return err
	}
	for _, name := range byReference(v.Session.Plan.Database, tables) {
		var again [][]byte // packets whose references to their own table are to be set
		var sizes []int64
		want := func(_, table string) bool { return table == name }
		err := v.contents(ctx, journal.ContentRemoved, want, func(entity, table string, n int64, body []byte) error {
			t := v.Session.TargetOf(entity)
			to := v.Session.Plan.Database.Table(table)
			if to == nil {
				return fmt.Errorf("the table %s is gone, and its rows cannot be put back", table)
			}
			if err := v.reach(table); err != nil {
				return err
			}
			if len(selfReferences(to)) > 0 {
				again, sizes = append(again, body), append(sizes, n)
			}
			return v.returnPacket(ctx, t, to, n, body)
		})
		for i := range again {
			if err == nil {
				err = v.linkPacket(ctx, v.Session.Plan.Database.Table(name), sizes[i], again[i])
			}
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// tellUnkept tells how many rows stay as the load left them, because it did not keep
// what they held before.
func (v *withdrawal) tellUnkept(ctx context.Context) error {
	if v.Entry.About.Undo {
		return nil
	}
	sums := journal.Sums(v.Entry, v.Chunks)
	for _, t := range v.Session.List {
		sum := sums[t.Plan.Name]
		for _, x := range []struct {
			n    int64
			what string
		}{{sum.Updated, "changed"}, {sum.Removed, "deleted"}} {
			if x.n > 0 {
				v.out.Left += x.n
				v.of(t).Left += x.n
				v.out.LeftRows = append(v.out.LeftRows, LeftRow{Entity: t.Plan.Name,
					Why: fmt.Sprintf(
						"%d rows of %s that the load %s remain: it did not keep their previous contents (--no-undo)",
						x.n,
						t.Table.Name,
						x.what,
					)})
			}
		}
	}
	return nil
}

// selfReferences are columns that refer to their own table and may be NULL.
func selfReferences(t *schema.Table) []*schema.Column {
	var out []*schema.Column
	for _, r := range t.References {
		if r.To == t && len(r.Columns) == 1 && !t.Column(r.Columns[0]).NotNull {
			out = append(out, t.Column(r.Columns[0]))
		}
	}
	return out
}

// byReference puts tables behind those that they refer to.
func byReference(db *schema.Database, names []string) []string {
	var out []string
	var place func(name string, depth int)
	place = func(name string, depth int) {
		t := db.Table(name)
		if slices.Contains(out, name) || t == nil || depth > len(names) {
			return
		}
		for _, r := range t.References {
			if r.To != nil && r.To != t && slices.Contains(names, r.To.Name) {
				place(r.To.Name, depth+1)
			}
		}
		if !slices.Contains(out, name) {
			out = append(out, name)
		}
	}
	for _, n := range names {
		place(n, 0)
	}
	return out
}

// packetRows reads a packet as rows of a table; blank columns are read as NULL.
func packetRows(t *schema.Table, n int64, body []byte, blank []*schema.Column) (store.Into, []*value.Batch, error) {
	into := store.Into{Table: t}
	var rows []*value.Batch
	err := journal.Unpack(body, n, false, func(names []string, _ grow.Row, values []value.Value) error {
		if into.Columns == nil {
			for i, name := range names {
				if c := t.Column(name); c != nil && !c.Generated {
					into.Columns, into.Fields = append(into.Columns, c), append(into.Fields, i)
				}
			}
		}
		for i, c := range into.Columns {
			if slices.Contains(blank, c) {
				values[into.Fields[i]] = value.Value{}
			}
		}
		rows = append(rows, &value.Batch{Len: 1, Width: len(names), Values: values})
		return nil
	})
	return into, rows, err
}

// returnPacket gives back the removed rows of one packet.
func (v *withdrawal) returnPacket(ctx context.Context, t *load.Target, to *schema.Table, n int64, body []byte) error {
	into, rows, err := packetRows(to, n, body, selfReferences(to))
	if err != nil {
		return err
	}
	st, err := v.w.Tx.Stage(ctx, &store.Write{Into: into, Mode: store.Insert, Distinct: true}, slices.Values(rows))
	if err != nil {
		return err
	}
	out, err := store.Isolate(ctx, v.w.Tx, st, int64(len(rows)), func(x *store.Violation) error {
		if v.Left != nil { // a withdrawal before this one may have put it back
			values := make([]value.Value, len(into.Columns))
			for i, f := range into.Fields {
				values[i] = rows[x.Row].Values[f]
			}
			if n, err := v.w.Tx.Find(ctx, to, into.Columns, values); err != nil || n > 0 {
				return err
			}
		}
		v.out.Left++
		v.unreturned++
		v.of(t).Left++
		key := ""
		for i, c := range into.Columns {
			if slices.Contains(to.PrimaryKey, c.Name) {
				key = load.Pairs([]*schema.Column{c}, []value.Value{rows[x.Row].Values[into.Fields[i]]})
			}
		}
		if len(v.out.LeftRows) < replay.MaxCompared {
			v.out.LeftRows = append(
				v.out.LeftRows,
				LeftRow{
					Entity: t.Plan.Name,
					Key:    key,
					Why:    "a deleted row of " + to.Name + " cannot be put back: " + x.Message,
				},
			)
		}
		return nil
	})
	v.of(t).Returned += out.Inserted
	return err
}

// linkPacket sets the references of rows to others of their table.
func (v *withdrawal) linkPacket(ctx context.Context, t *schema.Table, n int64, body []byte) error {
	into, rows, err := packetRows(t, n, body, nil)
	if err != nil {
		return err
	}
	write := &store.Write{Into: into, Mode: store.Update, Set: selfReferences(t), Distinct: true}
	for _, name := range t.PrimaryKey {
		write.Match = append(write.Match, t.Column(name))
	}
	if len(write.Match) == 0 {
		return nil
	}
	st, err := v.w.Tx.Stage(ctx, write, slices.Values(rows))
	if err != nil {
		return err
	}
	_, err = st.Apply(ctx, 0, int64(len(rows)))
	return err
}
