package load

import (
	"context"
	"errors"
	"strings"

	"evensprout/internal/plan"
	"evensprout/internal/store"
)

// Foresee tells what a load would meet in the database: rows that are there already,
// rights that are missing, triggers, engines without transactions. Nothing is written.
func Foresee(ctx context.Context, s store.Store, c *plan.Compiled) (plan.Problems, error) {
	l, err := newLoader(c, s, Options{})
	if err != nil {
		return nil, err
	}
	var found plan.Problems
	warn := func(t *target, hint, format string, args ...any) {
		p := c.Problem(t.Plan, format, args...)
		p.Warning, p.Hint = true, hint
		found = append(found, p)
	}
	for _, t := range l.list {
		if t.Table.ReadOnly != "" {
			p := c.Problem(t.Plan, "rows cannot be written into %s: %s", t.Table.Name, t.Table.ReadOnly)
			p.Hint = "a user with the right to write, in the URL of the database"
			found = append(found, p)
		}
		if t.Table.Broken != "" {
			found = append(found, c.Problem(t.Plan, "rows cannot be written into %s: %s", t.Table.Name, t.Table.Broken))
		}
		if t.Table.Unsafe {
			warn(t, "rows in it stay when a load is rolled back", "the engine of the table %s has no transactions", t.Table.Name)
		}
		if n := len(t.Table.Triggers); n > 0 {
			warn(t, "they may refuse rows, or write others, which a withdrawal does not know of", "triggers run when rows are written into %s: %s", t.Table.Name, strings.Join(t.Table.Triggers, ", "))
		}
	}
	if len(found.Errors()) > 0 {
		return found, nil
	}
	earlier, err := l.earlier(ctx, s)
	if err != nil || earlier {
		return found, err
	}
	tx, err := s.Begin(ctx, store.TxOptions{})
	if err != nil {
		return found, err
	}
	defer tx.Rollback()
	var present *Present
	if err := l.before(ctx, s, tx); errors.As(err, &present) {
		for _, row := range present.Tables {
			if t := c.Target(row.Entity); t != nil {
				p := c.Problem(t.Plan, "what %s would load is there already: the table %s holds rows (%d): %s", row.Entity, row.Table, row.Rows, row.Found)
				p.Hint = "when: empty leaves such tables alone; write: keep or upsert adds what is missing; keys that start higher load other rows beside these"
				found = append(found, p)
			}
		}
	} else if err != nil {
		return found, err
	}
	return found, nil
}

// earlier tells whether the plan was loaded before: then a load knows its own rows.
func (l *loader) earlier(ctx context.Context, s store.Store) (bool, error) {
	j, err := s.Journal(ctx, false)
	if err != nil || j == nil {
		return false, err
	}
	entries, err := Entries(ctx, s, l.plan.Plan.Name)
	return len(entries) > 0, err
}
