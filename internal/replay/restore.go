package replay

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"evensprout/internal/archive"
	"evensprout/internal/journal"
	"evensprout/internal/load"

	"evensprout/internal/grow"
	"evensprout/internal/order"
	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/value"
)

// RestoreOptions say how to restore.
type RestoreOptions struct {
	Of       load.Loads
	Database *schema.Database // the tables; nil: they are read
	By       archive.Operator
	DryRun   bool
	// DeleteExtra deletes rows that are not the plan's also from tables that held some
	// before its first load.
	DeleteExtra bool
	// OnlyMissing puts missing rows back, and leaves all others as they are.
	OnlyMissing bool
	Again       func(context.Context) (store.Store, error)
	Wait        time.Duration // for another run of the plan
	Patience    load.Patience
}

// Restoration is what was done to bring tables back to what loads wrote.
type Restoration struct {
	Loads    []int64          `json:"loads"`
	DryRun   bool             `json:"dry_run"`
	Entities []RestoredEntity `json:"entities"` // in load order
	Inserted int64            `json:"inserted"`
	Updated  int64            `json:"updated"`
	Deleted  int64            `json:"deleted"`
	Elapsed  time.Duration    `json:"elapsed_ns"`
	Lost     []string         `json:"lost,omitempty"` // fields whose columns are gone since, as Port.label
}

// RestoredEntity is what was done to the rows of one entity.
type RestoredEntity struct {
	Entity   string `json:"entity"`
	Table    string `json:"table"`
	Rows     int64  `json:"rows"` // as planned
	Inserted int64  `json:"inserted"`
	Updated  int64  `json:"updated"`
	Deleted  int64  `json:"deleted"`
	Kept     int64  `json:"kept"` // rows that are not the plan's, and were left
}

// Restore brings the tables back to what the loads of a plan wrote, by the smallest set
// of changes, in one transaction: changed rows are changed back, missing ones added,
// and others deleted from tables that the first load found empty. It is nil if the plan has no loads.
func Restore(ctx context.Context, s store.Store, o RestoreOptions) (r *Restoration, err error) {
	err = journal.WhileLocked(ctx, o.Wait, o.Patience.Waits, func() error {
		h, err := journal.Lock(ctx, s, o.Of.Plan)
		if err != nil {
			return err
		}
		defer h.Release(ctx)
		pasts, err := load.RecallAll(ctx, h.Reader(s), o.Of, o.Database, o.By)
		if err != nil || len(pasts) == 0 {
			return err
		}
		r, err = restoreLocked(ctx, s, pasts, o)
		return errors.Join(err, load.CloseAll(pasts))
	})
	return r, err
}

// lockRuns takes the locks of runs of units that are not done, so that none of them changes rows meanwhile.
func lockRuns(ctx context.Context, r journal.Reader, plan string) (unlock func(), err error) {
	var held []*journal.Held
	unlock = func() {
		for _, h := range held {
			h.Release(ctx)
		}
	}
	entries, err := r.Entries(ctx, plan)
	if err != nil {
		return unlock, err
	}
	for _, e := range entries {
		if e.About.Unit == "" || e.State != journal.StateOpen {
			continue
		}
		h, err := journal.LockRun(ctx, r.Store, plan, e.Number)
		if err != nil {
			unlock()
			return unlock, err
		}
		held = append(held, h)
	}
	return unlock, nil
}

// restoreLocked is Restore for who holds the plan's lock.
func restoreLocked(ctx context.Context, s store.Store, pasts []*load.PastLoad, o RestoreOptions) (*Restoration, error) {
	started := time.Now()
	var tables []*schema.Table
	for _, p := range pasts {
		for _, t := range p.Session.List {
			if !t.Plan.Existing {
				tables = append(tables, t.Table)
			}
		}
	}
	if err := load.RefuseLasting(tables, o.DryRun, ""); err != nil {
		return nil, err
	}
	unlock, err := lockRuns(ctx, pasts[0].Session.Read.On(s), pasts[0].Entry.Plan)
	if err != nil {
		return nil, err
	}
	defer unlock()
	var r *Restoration
	l := pasts[0].Session
	l.Options.Again, l.Options.Patience = o.Again, o.Patience
	w := &load.Writer{Session: l, Store: s} // knows the connection, should it break
	defer w.Close()
	err = l.Repeat(ctx, w, func() error {
		c, err := newComparison(ctx, w.Store, pasts)
		if err != nil {
			return err
		}
		defer c.close()
		r, err = c.restore(ctx, o)
		return err
	})
	if err != nil {
		if ctx.Err() != nil {
			err = context.Cause(ctx)
		}
		return nil, err
	}
	r.Elapsed, r.Lost = time.Since(started), lostBy(pasts)
	return r, nil
}

// add adds what was done to the rows of a part of an entity.
func (r *Restoration) add(e *RestoredEntity) {
	r.Inserted += e.Inserted
	r.Updated += e.Updated
	r.Deleted += e.Deleted
	if i := slices.IndexFunc(r.Entities, func(x RestoredEntity) bool { return x.Entity == e.Entity }); i >= 0 {
		x := &r.Entities[i]
		x.Rows, x.Inserted, x.Updated, x.Deleted, x.Kept = x.Rows+e.Rows, x.Inserted+e.Inserted,
			x.Updated+e.Updated, x.Deleted+e.Deleted, x.Kept+e.Kept
		return
	}
	r.Entities = append(r.Entities, *e)
}

// fingerprints finds the tables that are as they were by their fingerprints. In tables of a
// middle size to stage all rows costs no more, and must be done anyway where something
// differs; smaller ones are read in no time.
func (c *comparison) fingerprints(ctx context.Context) error {
	for _, t := range c.tables {
		if n := c.counts[t.Name]; n >= 1000 && n <= 20_000 {
			c.plan(t)
			continue
		}
		same, err := c.sameByFingerprint(ctx, t)
		if err != nil {
			return err
		}
		c.same[t.Name] = same
	}
	return nil
}

// restore brings the tables back, in one transaction.
func (c *comparison) restore(ctx context.Context, o RestoreOptions) (*Restoration, error) {
	r := &Restoration{DryRun: o.DryRun}
	for _, p := range c.pasts {
		r.Loads = append(r.Loads, p.Entry.Number)
	}
	if err := c.begin(ctx, (*load.Writer).Begin); err != nil {
		return nil, err
	}
	if !o.DryRun {
		if err := c.fence(ctx); err != nil {
			return nil, err
		}
	}
	restored := map[*part]*RestoredEntity{}
	if err := c.fingerprints(ctx); err != nil {
		return nil, err
	}
	for _, p := range c.parts {
		restored[p] = &RestoredEntity{Entity: p.t.Plan.Name, Table: p.t.Table.Name, Rows: p.e.Planned}
	}
	looked := map[string]*found{}
	for _, t := range c.tables {
		if looked[t.Name] = (&found{}); c.same[t.Name] {
			continue
		}
		f, err := c.look(ctx, t, o)
		if err != nil {
			return nil, err
		}
		looked[t.Name] = f
		restored[c.byName[t.Name][0]].Kept = f.kept
	}

	// Extra rows may hold keys that missing ones need, and missing ones may be needed by
	// rows that refer to extra ones: what can go goes first, and the rest at the end.
	for _, last := range []bool{false, true} {
		for _, t := range slices.Backward(c.tables) {
			n, left, err := c.deleteRows(ctx, t, looked[t.Name].extras, last)
			if err != nil {
				return nil, err
			}
			looked[t.Name].extras = left
			restored[c.byName[t.Name][0]].Deleted += n
		}
		if last {
			break
		}
		for _, p := range c.parts {
			for added, rows := range looked[p.t.Table.Name].wrong[p] {
				err := p.putBack(ctx, rows, added, restored[p])
				if err == nil {
					err = c.putUnitEffects(ctx, p, rows)
				}
				if err != nil {
					return nil, err
				}
			}
		}
	}

	for _, p := range c.parts {
		r.add(restored[p])
	}
	tx := c.tx()
	if err := tx.Settle(ctx); err != nil {
		return nil, c.parts[0].Session.Refusal(nil, nil, err)
	}
	if o.DryRun {
		return r, nil
	}
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	return r, tx.Commit(context.WithoutCancel(ctx))
}

// fence sees, inside the transaction, that the loads are still as they were recalled.
func (c *comparison) fence(ctx context.Context) error {
	j, err := c.store.Journal(ctx, false)
	if err != nil || j == nil || c.tx() == nil {
		return err
	}
	var entries []*journal.Entry
	for _, p := range c.pasts {
		entries = append(entries, p.Entry)
	}
	return journal.Fence(ctx, c.tx(), j, entries...)
}

// found is what a table holds otherwise than loaded.
type found struct {
	wrong  map[*part]map[bool][]grow.Row // rows that are missing or changed, by whether the load added them
	extras [][]value.Value               // what tells the rows that are to be deleted
	kept   int64                         // rows that are not the plan's and stay
}

// look finds what a table holds otherwise.
func (c *comparison) look(ctx context.Context, t *schema.Table, o RestoreOptions) (*found, error) {
	f := &found{wrong: map[*part]map[bool][]grow.Row{}}
	shared, err := c.shared(ctx, t)
	if err != nil {
		return nil, err
	}
	fates, err := c.unitEffectsOf(ctx)
	if err != nil {
		return nil, err
	}
	stranger := func(row []value.Value) error {
		if x := fates.of(t.Name, row); x != nil && x.added {
			return nil // a unit's, not a stranger's
		}
		if shared && !o.DeleteExtra {
			f.kept++
			return nil
		}
		f.extras = append(f.extras, slices.Clone(row))
		return nil
	}
	var last store.Stage
	stages, missing, planned := 0, int64(0), int64(0)
	for _, p := range c.byName[t.Name] {
		f.wrong[p] = map[bool][]grow.Row{}
		planned += p.e.Planned
		for run := range p.Runs(p.w, p.t, load.StagedChunk) {
			for _, added := range p.Kinds(p.t) {
				stages++
				n, wrong, st, err := p.wrong(ctx, run, added, fates, o.OnlyMissing)
				if err != nil {
					return nil, err
				}
				missing, last = missing+n, st
				f.wrong[p][added] = append(f.wrong[p][added], wrong...)
			}
		}
	}

	switch {
	case o.OnlyMissing:
		return f, nil
	case c.counts[t.Name] <= planned-missing:
		return f, nil // it has no others
	case stages == 1 && last != nil:
		return f, last.Strangers(ctx, t.KeyColumns(), stranger) // the stage has all rows
	}
	return f, c.eachStranger(ctx, t, t.KeyColumns(), stranger)
}

// deleteRows deletes rows that nothing refers to, as often as that sets others free. It
// returns those that are left; at last that is an error.
func (c *comparison) deleteRows(
	ctx context.Context,
	t *schema.Table,
	rows [][]value.Value,
	last bool,
) (int64, [][]value.Value, error) {
	deleted := int64(0)
	p := c.byName[t.Name][0]
	for len(rows) > 0 {
		st, err := StageKeys(ctx, p.w.Tx, t, rows)
		if err != nil {
			return deleted, rows, err
		}
		found, err := st.Referred(ctx, p.Session.Plan.Database, nil)
		if err != nil {
			return deleted, rows, err
		}
		var drop []int64
		var left [][]value.Value
		for _, f := range found {
			if len(drop) == 0 || drop[len(drop)-1] != f.Row {
				drop, left = append(drop, f.Row), append(left, rows[f.Row])
			}
		}
		if last && len(left) == len(rows) {
			return deleted, rows, &journal.Refusal{
				Kind:   store.ForeignKey,
				Entity: p.t.Plan.Name,
				Table:  t.Name,
				Refers: t.Name,
				Message: fmt.Sprintf(
					"%d rows of %s are not in the plan, and rows of %s refer to them",
					len(rows),
					t.Name,
					found[0].Table,
				),
				Hint: "delete the rows of " + found[0].Table + " first, or change what they refer to",
			}
		}
		if err := st.Drop(ctx, drop); err != nil {
			return deleted, rows, err
		}
		n, err := st.Remove(ctx)
		if err != nil {
			return deleted, rows, p.Session.Refusal(p.t, nil, err)
		}
		deleted += n
		if rows = left; n == 0 {
			break
		}
	}
	return deleted, rows, nil
}

// StageKeys stages rows by what tells them: their primary keys, or, without one, all
// that they have.
func StageKeys(ctx context.Context, tx store.Tx, t *schema.Table, rows [][]value.Value) (store.Stage, error) {
	columns := t.KeyColumns()
	write := &store.Write{
		Into:     store.Into{Table: t, Columns: columns},
		Mode:     store.Update,
		Match:    columns,
		Alike:    len(t.PrimaryKey) == 0,
		Distinct: true,
	}
	for i := range columns {
		write.Fields = append(write.Fields, i)
	}
	return tx.Stage(ctx, write, func(yield func(*value.Batch) bool) {
		for _, row := range rows {
			if !yield(&value.Batch{Len: 1, Width: len(columns), Values: row}) {
				return
			}
		}
	})
}

// putBack changes rows of an entity back, and adds those that are missing.
func (p *part) putBack(ctx context.Context, wrong []grow.Row, added bool, e *RestoredEntity) error {
	if len(wrong) == 0 || p.t.Writes.Mode == store.Keep && !added { // that was there before, and stays what it is
		return nil
	}
	rows := &load.Pass{}
	write := p.Compared(p.t, added)
	write.Set = slices.DeleteFunc(write.Set, func(c *schema.Column) bool { return c.Identity == schema.Always })
	switch {
	case added && write.Alike:
		write.Mode = store.Keep
	case added:
		write.Mode = store.Upsert
	default:
		write.Stamp = p.t.Writes.Stamp
	}

	st, err := p.w.Tx.Stage(ctx, write, p.These(p.w, p.t, wrong, rows))
	if err == nil {
		err = p.w.Growth
	}
	if err != nil {
		return err
	}
	out, err := store.Isolate(ctx, p.w.Tx, st, rows.N, func(v *store.Violation) error {
		return p.Session.RefusalOf(p.t, rows.Row(v.Row), v)
	})
	e.Inserted += out.Inserted
	e.Updated += out.Updated
	return err
}

// wrong finds the rows of a run that are missing or changed, and counts the missing
// ones. The stage holds the run's rows.
func (p *part) wrong(
	ctx context.Context,
	run order.Run,
	added bool,
	f unitEffects,
	onlyMissing bool,
) (int64, []grow.Row, store.Stage, error) {
	rows := &load.Pass{}
	st, err := p.w.Tx.Stage(ctx, p.Compared(p.t, added), p.Only(p.w, p.t, run, added, rows))
	if err == nil {
		err = p.w.Growth
	}
	if err != nil || rows.N == 0 {
		return 0, nil, nil, err
	}
	missing, err := st.Unmatched(ctx, 0)
	if err != nil {
		return 0, nil, nil, err
	}
	changed, err := st.Differing(ctx)
	if err != nil {
		return 0, nil, nil, err
	}
	gone := int64(len(missing))
	wrong, _, err := p.withoutUnitEffects(ctx, f, st, rows, wrongRows{missing, changed})
	if err != nil {
		return 0, nil, nil, err
	}
	missing, changed = wrong.missing, wrong.changed
	if onlyMissing {
		changed = nil
	}
	var out []grow.Row
	for _, n := range slices.Sorted(slices.Values(append(missing, changed...))) {
		out = append(out, rows.Row(n))
	}
	return gone, out, st, nil
}

// EarlierRows looks after the rows of earlier loads, for package load.
type EarlierRows struct{}

// Missing counts, by entity, the rows of loads that are no longer there.
func (EarlierRows) Missing(
	ctx context.Context,
	s store.Store,
	loads []*load.PastLoad,
) ([]load.EntityDifference, error) {
	d, err := Compare(ctx, s, loads, CompareOptions{OnlyMissing: true})
	if err != nil {
		return nil, err
	}
	return d.Entities, nil
}

// PutBack adds rows of loads that are no longer there, and says how many. The caller holds
// the plan's lock.
func (EarlierRows) PutBack(ctx context.Context, s store.Store, loads []*load.PastLoad, o load.Options) (int64, error) {
	r, err := restoreLocked(
		ctx,
		s,
		loads,
		RestoreOptions{DryRun: o.DryRun, OnlyMissing: true, Again: o.Again, Patience: o.Patience},
	)
	if err != nil {
		return 0, err
	}
	return r.Inserted, nil
}
