package load

import (
	"context"
	"fmt"
	"slices"

	"evensprout/internal/grow"
	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/value"
)

// nameChangers says of the rows that were left because they were changed which later load
// changed them, of the first ones.
func (v *withdrawal) nameChangers(ctx context.Context) error {
	rows := map[string]map[string]*LeftRow{} // by table and primary key
	for i, row := range v.changed {
		x := &v.out.LeftRows[i]
		t := v.l.named(x.Entity)
		if i >= maxTold || len(t.Table.PrimaryKey) == 0 {
			continue
		}
		key, err := v.primaryKey(t, row)
		if err != nil {
			return err
		}
		if key == nil {
			continue
		}
		if rows[t.Table.Name] == nil {
			rows[t.Table.Name] = map[string]*LeftRow{}
		}
		rows[t.Table.Name][keyOfValues(key)] = x
	}
	if len(rows) == 0 {
		return nil
	}
	all, err := Entries(ctx, v.w.store, "")
	if err != nil {
		return err
	}
	for _, e := range slices.Backward(all) {
		if e.Number <= v.Entry.Number || e.State == StateWithdrawn || !e.About.Undo {
			continue
		}
		note := func(table string, key []value.Value) {
			if x := rows[table][keyOfValues(key)]; x != nil {
				x.Why = fmt.Sprintf("it was changed by load %d: withdraw %d first", e.Number, e.Number)
				delete(rows[table], keyOfValues(key)) // the last one is to go first
			}
		}
		if err := eachChanged(ctx, v.w.store, v.tables, v.l.plan.Database, e, note); err != nil {
			return err
		}
	}
	return nil
}

// primaryKey is that of a row as it was written; nil if the plan does not know it.
func (v *withdrawal) primaryKey(t *target, row grow.Row) ([]value.Value, error) {
	into := t.into()
	var key []value.Value
	for b := range v.these(v.w, t, []grow.Row{row}, &pass{}) {
		for _, name := range t.Table.PrimaryKey {
			i := slices.IndexFunc(into.Columns, func(c *schema.Column) bool { return c.Name == name })
			if i < 0 {
				return nil, nil
			}
			key = append(key, b.Row(0)[into.Fields[i]])
		}
	}
	return key, v.w.growth
}

// eachChanged shows the primary keys of the rows that a load, or a run of a unit, changed.
func eachChanged(ctx context.Context, s store.Store, j *store.Journal, db *schema.Database, e *Entry, show func(table string, key []value.Value)) error {
	if e.About.Unit != "" {
		return undoPackets(ctx, s, j, e.Number, false, func(x undoSection) error {
			if x.Kind == undoChanged {
				for _, row := range x.values {
					show(x.Table, row[:len(x.Key)])
				}
			}
			return nil
		})
	}
	of := j.Contents
	columns := []*schema.Column{of.Column("of"), of.Column("rows"), of.Column("body")}
	return s.Select(ctx, store.Query{Table: of, Columns: columns, Where: cells(of, "load", e.Number, "what", contentChanged)}, func(r []value.Value) error {
		t := db.Table(r[0].S)
		if t == nil {
			return nil
		}
		table := t.Name
		return unpack([]byte(r[2].S), r[1].N, true, func(names []string, _ grow.Row, values []value.Value) error {
			var key []value.Value
			for _, name := range t.PrimaryKey {
				i := slices.Index(names, name)
				if i < 0 {
					return nil
				}
				key = append(key, values[i])
			}
			show(table, key)
			return nil
		})
	})
}
