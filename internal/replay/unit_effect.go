package replay

import (
	"context"
	"slices"

	"evensprout/internal/journal"
	"evensprout/internal/load"

	"evensprout/internal/grow"
	"evensprout/internal/order"
	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/value"
)

// unitEffect is what units have made of a row: that is no difference from what was loaded.
type unitEffect struct {
	added, removed bool
	values         map[string]value.Value // of columns that were changed, as they were left
}

// left reports whether a cell that differs from what was loaded is as a unit left it.
func (x *unitEffect) left(c store.Change) bool {
	if x == nil || x.removed {
		return false
	}
	v, ok := x.values[c.Column.Name]
	return ok && load.KeyOfValues([]value.Value{v}) == load.KeyOfValues([]value.Value{c.From})
}

// unitEffects are those of rows of a database, by table and primary key.
type unitEffects map[string]map[string]*unitEffect

// of is what units did to a row; nil if nothing.
func (f unitEffects) of(table string, key []value.Value) *unitEffect {
	if len(f[table]) == 0 || len(key) == 0 {
		return nil
	}
	return f[table][load.KeyOfValues(key)]
}

// readUnitEffects reads what runs of units that are not withdrawn have done to rows of some
// tables. Memory grows with the rows that they have touched.
func readUnitEffects(
	ctx context.Context,
	r journal.Reader,
	db *schema.Database,
	want func(table string) bool,
) (unitEffects, error) {
	j, err := r.Store.Journal(ctx, false)
	if err != nil || j == nil {
		return nil, err
	}
	entries, err := r.Entries(ctx, "")
	if err != nil {
		return nil, err
	}
	out := unitEffects{}
	for _, e := range entries {
		if e.About.Unit == "" || e.State == journal.StateWithdrawn {
			continue
		}
		err := journal.UndoRun{Journal: j, Load: e.Number}.Sections(ctx, r.Store, func(x journal.UndoSection) error {
			if t := db.Table(x.Table); t != nil && want(x.Table) {
				out.note(t, x)
			}
			return nil
		})
		if err != nil {
			return nil, err
		}
	}
	return out, nil
}

// note takes in what a step of a unit did.
func (f unitEffects) note(t *schema.Table, s journal.UndoSection) {
	if f[t.Name] == nil {
		f[t.Name] = map[string]*unitEffect{}
	}
	for _, row := range s.Values {
		key := row[:len(s.Key)]
		if s.Kind == journal.UndoRemoved {
			key = nil
			for _, name := range t.PrimaryKey {
				if i := slices.Index(s.Columns, name); i >= 0 {
					key = append(key, row[i])
				}
			}
		}
		if len(key) == 0 {
			continue
		}
		k := load.KeyOfValues(key)
		x := f[t.Name][k]
		if x == nil {
			x = &unitEffect{values: map[string]value.Value{}}
			f[t.Name][k] = x
		}
		switch s.Kind {
		case journal.UndoAdded:
			x.added, x.removed = true, false
			for i, name := range s.Columns {
				x.values[name] = row[len(s.Key)+i]
			}
		case journal.UndoRemoved:
			x.added, x.removed = false, true
		case journal.UndoChanged:
			for i, name := range s.Columns {
				x.values[name] = row[len(s.Key)+len(s.Columns)+i]
			}
		}
	}
}

// unitEffectsOf are those of rows of the tables that are compared; they are read once.
func (c *comparison) unitEffectsOf(ctx context.Context) (unitEffects, error) {
	if c.fates != nil || len(c.pasts) == 0 {
		return c.fates, nil
	}
	var err error
	c.fates, err = readUnitEffects(
		ctx,
		c.pasts[0].Session.Read.On(c.store),
		c.pasts[0].Plan.Database,
		func(table string) bool { return c.byName[table] != nil },
	)
	if c.fates == nil {
		c.fates = unitEffects{}
	}
	return c.fates, err
}

// primaryKey is that of a row as it was written; nil if the plan does not know it.
func (p *part) primaryKey(row grow.Row) []value.Value {
	into := p.t.Into()
	for b := range p.Written(p.w, p.t, order.Run{Target: p.t.Target, First: row, Rows: 1}, nil) {
		var key []value.Value
		for _, name := range p.t.Table.PrimaryKey {
			i := slices.IndexFunc(into.Columns, func(c *schema.Column) bool { return c.Name == name })
			if i < 0 {
				return nil
			}
			key = append(key, b.Row(0)[into.Fields[i]])
		}
		return key
	}
	return nil
}

// wrongRows are rows of a stage, by their numbers, that are not in the table as they were written.
type wrongRows struct{ missing, changed []int64 }

// withoutUnitEffects leaves out, of the rows of a stage that are missing or changed, those that
// units have removed or changed, if they are as these left them.
func (p *part) withoutUnitEffects(
	ctx context.Context,
	f unitEffects,
	st store.Stage,
	rows *load.Pass,
	wrong wrongRows,
) (left wrongRows, byUnits int64, err error) {
	missing, changed := wrong.missing, wrong.changed
	var m, c []int64
	if len(f[p.t.Table.Name]) == 0 {
		return wrong, 0, nil
	}
	fateOf := func(n int64) *unitEffect { return f.of(p.t.Table.Name, p.primaryKey(rows.Row(n))) }
	for _, n := range missing {
		if x := fateOf(n); x == nil || !x.removed {
			m = append(m, n)
		}
	}
	if len(changed) == 0 {
		return wrongRows{missing: m}, int64(len(missing) - len(m)), nil
	}
	other := map[int64]bool{} // rows with a cell that no unit has left so
	last, x := int64(-1), (*unitEffect)(nil)
	err = st.Changes(ctx, func(change store.Change) error {
		if change.Row != last {
			last, x = change.Row, fateOf(change.Row)
		}
		if !x.left(change) {
			other[change.Row] = true
		}
		return nil
	})
	for _, n := range changed {
		if other[n] {
			c = append(c, n)
		}
	}
	return wrongRows{m, c}, int64(len(missing) - len(m) + len(changed) - len(c)), err
}

// putUnitEffects gives rows that were put back what units have made of them.
func (c *comparison) putUnitEffects(ctx context.Context, p *part, rows []grow.Row) error {
	f, err := c.unitEffectsOf(ctx)
	if err != nil || len(f[p.t.Table.Name]) == 0 {
		return err
	}
	for _, row := range rows {
		key := p.primaryKey(row)
		x := f.of(p.t.Table.Name, key)
		if x == nil || len(x.values) == 0 || x.removed {
			continue
		}
		var set, where []store.Cell
		for _, column := range p.t.Table.Columns {
			if v, ok := x.values[column.Name]; ok {
				set = append(set, store.Cell{Column: column, Value: v})
			}
		}
		for i, name := range p.t.Table.PrimaryKey {
			where = append(where, store.Cell{Column: p.t.Table.Column(name), Value: key[i]})
		}
		if _, err := p.w.Tx.Set(ctx, p.t.Table, set, where); err != nil {
			return err
		}
	}
	return nil
}
