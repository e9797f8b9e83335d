package withdraw

import (
	"context"
	"fmt"
	"slices"

	"evensprout/internal/load"

	"evensprout/internal/journal"

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
		t := v.Session.Named(x.Entity)
		if i >= load.MaxTold || len(t.Table.PrimaryKey) == 0 {
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
		rows[t.Table.Name][load.KeyOfValues(key)] = x
	}

	if len(rows) == 0 {
		return nil
	}
	all, err := v.Session.Read.On(v.w.Store).Entries(ctx, "")
	if err != nil {
		return err
	}
	for _, e := range slices.Backward(all) {
		if e.Number <= v.Entry.Number || e.State == journal.StateWithdrawn || !e.About.Undo {
			continue
		}
		note := func(table string, key []value.Value) {
			if x := rows[table][load.KeyOfValues(key)]; x != nil {
				x.Why = fmt.Sprintf("load %d changed it: withdraw %d first", e.Number, e.Number)
				delete(rows[table], load.KeyOfValues(key)) // the last one is to go first
			}
		}
		if err := v.eachChanged(ctx, e, note); err != nil {
			return err
		}
	}
	return nil
}

// primaryKey is that of a row as it was written; nil if the plan does not know it.
func (v *withdrawal) primaryKey(t *load.Target, row grow.Row) ([]value.Value, error) {
	into := t.Into()
	var key []value.Value
	for b := range v.These(v.w, t, []grow.Row{row}, &load.Pass{}) {
		for _, name := range t.Table.PrimaryKey {
			i := slices.IndexFunc(into.Columns, func(c *schema.Column) bool { return c.Name == name })
			if i < 0 {
				return nil, nil
			}
			key = append(key, b.Row(0)[into.Fields[i]])
		}
	}
	return key, v.w.Growth
}

// eachChanged shows the primary keys of the rows that a load, or a run of a unit, changed.
func (v *withdrawal) eachChanged(
	ctx context.Context,
	e *journal.Entry,
	show func(table string, key []value.Value),
) error {
	s, j, db := v.w.Store, v.tables, v.Session.Plan.Database
	if e.About.Unit != "" {
		return journal.UndoRun{Journal: j, Load: e.Number}.Sections(ctx, s, func(x journal.UndoSection) error {
			if x.Kind == journal.UndoChanged {
				for _, row := range x.Values {
					show(x.Table, row[:len(x.Key)])
				}
			}
			return nil
		})
	}
	of := j.Contents
	q := store.Query{Table: of, Where: journal.Cells(of, "load", e.Number, "what", journal.ContentChanged)}
	return journal.Read(ctx, s, q, []string{"of", "rows", "body"}, func(r journal.Record) error {
		t := db.Table(r.Text("of"))
		if t == nil {
			return nil
		}
		table := t.Name
		return journal.Unpack(
			r.Bytes("body"),
			r.Int("rows"),
			true,
			func(names []string, _ grow.Row, values []value.Value) error {
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
			},
		)
	})
}
