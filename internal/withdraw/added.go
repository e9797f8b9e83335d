package withdraw

import (
	"bytes"
	"context"
	"errors"
	"io/fs"
	"os"
	"path"
	"slices"

	"evensprout/internal/load"
	"evensprout/internal/replay"

	"github.com/zeebo/xxh3"

	"evensprout/internal/grow"
	"evensprout/internal/order"
	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/value"
)

// stage lays rows that the load added aside, with all that is known of them: what it wrote, and the defaults that other
// columns took.
func (v *withdrawal) stage(ctx context.Context, t *load.Target, rows store.Rows) (store.Stage, error) {
	write := v.Compared(t, true)
	columns, values := v.Unplanned(t)
	if len(columns) == 0 {
		return v.w.Tx.Stage(ctx, write, rows)
	}
	width := len(t.Grow.Fields)
	for i, c := range columns {
		write.Columns, write.Fields, write.Set = append(write.Columns, c), append(write.Fields, width+i), append(write.Set, c)
	}
	return v.w.Tx.Stage(ctx, write, func(yield func(*value.Batch) bool) {
		for b := range rows {
			wide := &value.Batch{Len: b.Len, Width: width + len(values)}
			for i := range b.Len {
				wide.Values = append(append(wide.Values, b.Row(i)[:width]...), values...)
			}
			if !yield(wide) {
				return
			}
		}
	})
}

// dropTouched finds, of staged rows, those that are gone and those that others have changed,
// and drops them.
func (v *withdrawal) dropTouched(
	ctx context.Context,
	t *load.Target,
	st store.Stage,
	rows *load.Pass,
	tell bool,
) error {
	if err := st.Lock(ctx); err != nil {
		return err
	}
	gone, err := st.Unmatched(ctx, 0)
	if err != nil {
		return err
	}
	if tell {
		v.of(t).Gone += int64(len(gone))
	}
	drop := gone
	if !v.o.Changed {
		changed, err := v.differing(ctx, t, st, rows)
		if err != nil {
			return err
		}
		for _, n := range changed {
			if tell {
				v.leave(t, rows.Row(n), alsoChanged, "it was changed since")
			}
		}
		drop = append(drop, changed...)
	}
	return st.Drop(ctx, drop)
}

// differing are the staged rows that others have changed. Where there are triggers, that was
// looked at before the first row went: they may change rows when others go.
func (v *withdrawal) differing(ctx context.Context, t *load.Target, st store.Stage, rows *load.Pass) ([]int64, error) {
	if v.touched == nil {
		return st.Differing(ctx)
	}
	var changed []int64
	if len(v.touched[t]) > 0 {
		for n := range rows.N {
			if v.touched[t][rows.Row(n)] {
				changed = append(changed, n)
			}
		}
	}
	return changed, nil
}

// lookFirst finds the rows that others have changed before anything is taken back, if any
// of the tables has triggers.
func (v *withdrawal) lookFirst(ctx context.Context) error {
	v.touched = nil
	if !slices.ContainsFunc(v.Session.List, func(t *load.Target) bool { return len(t.Table.Triggers) > 0 }) {
		return nil
	}
	touched := map[*load.Target]map[grow.Row]bool{}
	for _, t := range v.Session.List {
		if t.Writes.Mode == store.Update {
			continue
		}
		for run := range v.Runs(v.w, t, load.StagedChunk) {
			rows := &load.Pass{}
			st, err := v.stage(ctx, t, v.Only(v.w, t, run, true, rows))
			if err == nil {
				err = v.w.Growth
			}
			if err != nil {
				return err
			}
			if rows.N == 0 {
				continue
			}
			if err := st.Lock(ctx); err != nil {
				return err
			}
			changed, err := st.Differing(ctx)
			if err != nil {
				return err
			}
			for _, n := range changed {
				if touched[t] == nil {
					touched[t] = map[grow.Row]bool{}
				}
				touched[t][rows.Row(n)] = true
			}
		}
	}

	v.touched = touched
	return nil
}

// dropReferred takes rows that others refer to out of the stage. Those of them to which
// only rows of the same table refer, which may go before them, are returned; the others
// stay.
func (v *withdrawal) dropReferred(
	ctx context.Context,
	t *load.Target,
	st store.Stage,
	rows *load.Pass,
) (own []grow.Row, err error) {
	found, err := st.Referred(ctx, v.Session.Plan.Database, v.ignored())
	if err != nil {
		return nil, err
	}
	var drop []int64
	by := map[int64]store.Referral{} // the one that says most
	for _, r := range found {
		was, ok := by[r.Row]
		if !ok {
			drop = append(drop, r.Row)
		}
		if !ok || r.Hidden != "" || was.Hidden == "" && r.Table != t.Table.Name {
			by[r.Row] = r
		}
	}
	for _, n := range drop {
		r := by[n]
		if r.Table == t.Table.Name && r.Hidden == "" {
			own = append(own, rows.Row(n))
			continue
		}
		v.leave(t, rows.Row(n), alsoFor(r), r.Why())
	}
	return own, st.Drop(ctx, drop)
}

// alsoFor is the word by which a row goes, too, that is referred to; empty where nobody can tell what would go with it.
func alsoFor(r store.Referral) string {
	if r.Hidden != "" {
		return ""
	}
	return alsoReferring
}

// remove takes away rows that the load added.
func (v *withdrawal) remove(ctx context.Context, t *load.Target, run order.Run) error {
	if done, err := v.removeSpan(ctx, t, run); done || err != nil {
		return err
	}
	rows := &load.Pass{}
	st, err := v.stage(ctx, t, v.without(t, v.Only(v.w, t, run, true, rows)))
	if err == nil {
		err = v.w.Growth
	}
	if err != nil || rows.N == 0 {
		return err
	}
	if err := v.dropTouched(ctx, t, st, rows, true); err != nil {
		return err
	}
	if len(t.Writes.Match) == 0 && v.Compared(t, true).Alike {
		if err := v.ambiguous(ctx, t, st, rows); err != nil {
			return err
		}
	}
	if v.o.Referring {
		if err := v.removeReferrers(ctx, t, st, run); err != nil {
			return err
		}
		rows = &load.Pass{}
		if st, err = v.stage(ctx, t, v.without(t, v.Only(v.w, t, run, true, rows))); err != nil {
			return err
		}
		if err := v.dropTouched(ctx, t, st, rows, false); err != nil {
			return err
		}
	}

	for {
		own, err := v.dropReferred(ctx, t, st, rows)
		if err != nil {
			return err
		}
		n, err := st.Remove(ctx)
		if err != nil {
			return v.Session.Refusal(t, nil, err)
		}
		v.of(t).Removed += n
		if len(own) == 0 {
			break
		}
		if n == 0 {
			for _, row := range own {
				v.leave(t, row, alsoReferring, "rows of "+t.Table.Name+" refer to it")
			}
			break
		}
		rows = &load.Pass{}
		if st, err = v.stage(ctx, t, v.without(t, v.These(v.w, t, own, rows))); err != nil {
			return err
		}
	}

	v.noteFiles(t, run)
	return nil
}

// removeReferrers deletes the rows of other tables that refer to staged ones.
func (v *withdrawal) removeReferrers(ctx context.Context, t *load.Target, st store.Stage, run order.Run) error {
	seen := map[string]map[string]bool{}
	v.seeOwn(t, v.Only(v.w, t, run, true, &load.Pass{}), seen)
	return v.removeReferrersOf(ctx, st, seen)
}

// seeOwn notes the keys of rows that go anyway: they are no others that refer to them.
func (v *withdrawal) seeOwn(t *load.Target, rows store.Rows, seen map[string]map[string]bool) {
	match, _ := t.Identity()
	if !slices.Equal(schema.NamesOf(match), t.Table.PrimaryKey) {
		return
	}
	own := map[string]bool{}
	for b := range rows {
		for i := range b.Len {
			var key []value.Value
			for _, c := range match {
				key = append(key, b.Row(i)[slices.Index(t.Columns, c)])
			}
			own[load.Pairs(match, key)] = true
		}
	}
	seen[t.Table.Name] = own
}

// removeReferrersOf removes the rows that refer to those of a stage, and theirs before them.
func (v *withdrawal) removeReferrersOf(ctx context.Context, st store.Stage, seen map[string]map[string]bool) error {
	if v.out.Others == nil {
		v.out.Others = map[string]int64{}
	}
	if err := (&referrers{v.w.Tx, v.Session.Plan.Database, seen, v.out.Others, v.o.refuseLasting}).remove(ctx, st); err != nil {
		return v.Session.Refusal(nil, nil, err)
	}
	return nil
}

// referrers are rows that refer to rows that go.
type referrers struct {
	tx      store.Tx
	db      *schema.Database
	seen    map[string]map[string]bool   // keys by table: they are left to others
	removed map[string]int64             // counts by table
	refuse  func(...*schema.Table) error // reports rows that no transaction takes back
}

// remove deletes the rows of all tables that refer to staged ones, and those that refer to
// these.
func (r *referrers) remove(ctx context.Context, st store.Stage) error {
	seen := r.seen
	found := map[*schema.Table][][]value.Value{}
	err := st.Referrers(ctx, r.db, func(t *schema.Table, key []value.Value) error {
		text := load.Pairs(t.KeyColumns(), key)
		if seen[t.Name] == nil {
			seen[t.Name] = map[string]bool{}
		}
		if !seen[t.Name][text] {
			seen[t.Name][text] = true
			found[t] = append(found[t], slices.Clone(key))
		}
		return nil
	})
	if err != nil {
		return err
	}
	for _, t := range r.db.Tables { // in an order that does not change
		keys := found[t]
		if len(keys) == 0 {
			continue
		}
		if err := r.refuse(t); err != nil {
			return err
		}
		stage := func() (store.Stage, error) { return replay.StageKeys(ctx, r.tx, t, keys) }
		st, err := stage()
		if err != nil {
			return err
		}
		if err := r.remove(ctx, st); err != nil {
			return err
		}
		if st, err = stage(); err != nil { // others have used its place since
			return err
		}
		n, err := st.Remove(ctx)
		if err != nil {
			return err
		}
		r.removed[t.Name] += n
	}
	return nil
}

// ambiguous leaves rows alone that cannot be told from others: a table without a key
// has more of the same than the load added.
func (v *withdrawal) ambiguous(ctx context.Context, t *load.Target, st store.Stage, rows *load.Pass) error {
	into := t.Into()
	canons := replay.Canons(into.Columns)
	hash := func(n int64) xxh3.Uint128 {
		var buf []byte
		for b := range v.Written(v.w, t, order.Run{Target: t.Target, First: rows.Row(n), Rows: 1}, nil) {
			for j, f := range into.Fields {
				buf = canons[j].Append(buf, &b.Row(0)[f])
			}
		}
		return xxh3.Hash128(buf)
	}
	ours := map[xxh3.Uint128]int64{}
	for n := range rows.N {
		ours[hash(n)]++
	}
	var more []int64
	err := st.Copies(ctx, func(n, copies int64) error {
		if copies > ours[hash(n)] {
			more = append(more, n)
		}
		return nil
	})
	if err != nil {
		return err
	}
	for _, n := range more {
		v.leave(t, rows.Row(n), "", "the table has no key, and has more rows that are the same")
	}
	return st.Drop(ctx, more)
}

// without makes the references NULL that close circles: they were unlinked before.
func (v *withdrawal) without(t *load.Target, rows store.Rows) store.Rows {
	if len(t.Late) == 0 {
		return rows
	}
	return func(yield func(*value.Batch) bool) {
		for b := range rows {
			for i := range b.Len {
				for _, f := range t.Late {
					b.Row(i)[f] = value.Value{}
				}
			}
			if !yield(b) {
				return
			}
		}
	}
}

// ignored are references that are held against the tables at the commit: rows that
// refer to each other by them go in the same transaction.
func (v *withdrawal) ignored() []*schema.Column {
	var out []*schema.Column
	for _, late := range v.Session.Order.Late {
		t := v.Session.Targets[late.Target]
		if !slices.Contains(t.Late, late.Field) {
			out = append(out, t.Columns[late.Field])
		}
	}
	return out
}

// unlinking is a write of the references that close circles, to rows that the load added.
func unlinking(t *load.Target) *store.Write {
	match, alike := t.Identity()
	write := t.LateWrite(match, t.Late, t.Writes.Columns)
	write.Alike = alike
	return write
}

// unlink makes references NULL that close circles, in rows that will go.
func (v *withdrawal) unlink(ctx context.Context, t *load.Target, run order.Run) error {
	rows := &load.Pass{}
	st, err := v.stage(ctx, t, v.Only(v.w, t, run, true, rows))
	if err == nil {
		err = v.w.Growth
	}
	if err != nil || rows.N == 0 {
		return err
	}
	if err := st.Lock(ctx); err != nil {
		return err
	}
	gone, err := st.Unmatched(ctx, 0)
	if err != nil {
		return err
	}
	changed, err := v.differing(ctx, t, st, rows)
	if err != nil {
		return err
	}
	stays := map[int64]bool{}
	for _, n := range gone {
		stays[n] = true
	}
	for _, n := range changed {
		stays[n] = !v.o.Changed
	}
	var going []grow.Row
	for n := range rows.N {
		if !stays[n] {
			going = append(going, rows.Row(n))
		}
	}
	rows = &load.Pass{}
	if st, err = v.w.Tx.Stage(ctx, unlinking(t), v.without(t, v.These(v.w, t, going, rows))); err != nil {
		return err
	}
	_, err = st.Apply(ctx, 0, rows.N)
	return err
}

// relink gives references back to rows that were left alone after all.
func (v *withdrawal) relink(ctx context.Context, t *load.Target) error {
	rows := &load.Pass{}
	st, err := v.w.Tx.Stage(ctx, unlinking(t), v.These(v.w, t, v.out.left[t], rows))
	if err != nil {
		return err
	}
	var kept []int64 // rows whose references were never taken away
	err = st.Changes(ctx, func(c store.Change) error {
		if !c.From.IsNull() && slices.ContainsFunc(t.Late, func(f int) bool { return t.Columns[f] == c.Column }) {
			kept = append(kept, c.Row)
		}
		return nil
	})
	if err == nil {
		err = st.Drop(ctx, kept)
	}
	if err != nil {
		return err
	}
	_, err = store.Isolate(
		ctx,
		v.w.Tx,
		st,
		rows.N,
		func(*store.Violation) error { return nil },
	) // what it referred to is gone
	return err
}

// placed is a placeholder file, and the row that names it.
type placed struct {
	place string
	field *grow.Field
	row   grow.Row
}

// noteFiles collects the placeholder files of rows that are gone.
func (v *withdrawal) noteFiles(t *load.Target, run order.Run) {
	for j, f := range t.Grow.Fields {
		spec, ok := f.File()
		if !ok {
			continue
		}
		for b := range v.Written(v.w, t, run, nil) {
			for i := range b.Len {
				if x := b.Row(i)[j]; !x.IsNull() && !slices.Contains(v.out.left[t], b.At(i)) {
					v.files = append(v.files, placed{path.Join(spec.Folder, x.S), f, b.At(i)})
				}
			}
		}
	}
}

// removeFiles removes placeholder files, once the rows are gone for good, as far as they
// still hold what was written.
func (v *withdrawal) removeFiles() error {
	if len(v.files) == 0 {
		return nil
	}
	folder := v.Folder()
	if folder == "" {
		v.out.FilesLeft = len(v.files)
		return nil
	}
	root, err := os.OpenRoot(folder)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	defer root.Close()
	for _, f := range v.files {
		there, err := load.Regular(root, f.place)
		if err == nil && !there || err != nil && !errors.Is(err, fs.ErrNotExist) {
			continue // gone, or something else by now
		}
		now, err := root.ReadFile(f.place)
		if err == nil && !bytes.Equal(now, v.w.Grower().File(f.field.Entity, f.row, f.field)) {
			continue // somebody else's by now
		}
		if err == nil {
			err = root.Remove(f.place)
		}
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return &load.FileError{Path: f.place, Err: err}
		}
		if err == nil {
			v.out.Files++
		}
	}
	return nil
}
