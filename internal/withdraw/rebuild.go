package withdraw

import (
	"context"
	"errors"
	"slices"

	"evensprout/internal/load"
	"evensprout/internal/schema"
	"evensprout/internal/store"
)

// dropIndexes drops secondary indexes of tables that a withdrawal empties, where the engine takes rows out of each of
// them one by one. It returns what makes them again, over what is left; nil if none was dropped. It is all in the
// transaction of the withdrawal.
func (v *withdrawal) dropIndexes(ctx context.Context) (func(context.Context) error, error) {
	tx, ok := v.w.Tx.(load.Rebuilder)
	if !ok || v.Session.Traits.Writers > 1 || v.touched != nil {
		return nil, nil // others leave indexes alone when rows go; triggers may need them
	}
	var tables []*schema.Table
	for _, t := range v.Session.List {
		emptied, err := v.empties(ctx, t)
		if err != nil {
			return nil, err
		}
		if emptied {
			tables = append(tables, t.Table)
		}
	}
	if len(tables) == 0 {
		return nil, nil
	}
	dropped, err := tx.DropIndexes(ctx, store.Rebuild{Tables: tables, Filled: tables})
	var fault *store.Fault
	if errors.As(err, &fault) && fault.Kind == store.Refused {
		return nil, nil
	}
	if err != nil || dropped.Count == 0 {
		return nil, err
	}
	return dropped.Restore, nil
}

// empties reports whether a table is large, has the rows of the load alone, and these are found by its primary key.
func (v *withdrawal) empties(ctx context.Context, t *load.Target) (bool, error) {
	rows := t.Grow.Total()
	key, alike := t.Identity()
	if rows < load.RebuildFrom || t.Writes.Mode != store.Insert || t.LeftOut || alike || len(t.Late) > 0 ||
		!slices.EqualFunc(key, t.Table.PrimaryKey, func(c *schema.Column, name string) bool { return c.Name == name }) {
		return false, nil
	}
	n, err := v.w.Tx.Count(ctx, t.Table)
	return uint64(n) == rows, err
}
