package load

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"evensprout/internal/diag"
	"evensprout/internal/plan"
	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/value"
)

// Broken tells which invariants do not hold over the data.
type Broken struct {
	Rules []BrokenRule `json:"rules"`
	// Committed tells that what broke them is there to stay.
	Committed bool `json:"committed"`
}

// BrokenRule is an invariant that does not hold, and rows that tell so.
type BrokenRule struct {
	Name  string   `json:"name"`
	Table string   `json:"table,omitempty"`
	Rows  []string `json:"rows,omitempty"` // the first of them
	More  bool     `json:"more,omitempty"` // there are others
}

// Error lists the rules that do not hold.
func (b *Broken) Error() string {
	var names []string
	for _, r := range b.Rules {
		names = append(names, r.Name)
	}
	return "this invariant is broken: " + strings.Join(names, "; ")
}

// maxBroken bounds the rows that tell that an invariant does not hold.
const maxBroken = 5

// holdsAlways looks at the invariants of a plan; the error is *Broken if one does not
// hold.
func holdsAlways(ctx context.Context, tx store.Tx, rules []*schema.Rule) error {
	broken := &Broken{}
	for _, r := range rules {
		b := BrokenRule{Name: r.Name}
		failed := false
		if r.Table != nil {
			b.Table = r.Table.Name
		}
		err := tx.Broken(
			ctx,
			r,
			maxBroken+1,
			func(columns []*schema.Column, row []value.Value, computed value.Value) error {
				failed = true
				if len(b.Rows) == maxBroken {
					b.More = true
					return nil
				}
				if columns != nil {
					text := Pairs(columns, row)
					if r.Aggregate != nil {
						text += fmt.Sprintf("; %s is %s", r.Aggregate.Name(), computed)
					}
					b.Rows = append(b.Rows, text)
				}
				return nil
			},
		)
		if err != nil {
			return fmt.Errorf("the invariant %q cannot be checked: %w", r.Name, err)
		}
		if failed {
			broken.Rules = append(broken.Rules, b)
		}
	}

	if len(broken.Rules) > 0 {
		return broken
	}
	return nil
}

// Always looks at the plan's invariants.
func (l *Session) Always(ctx context.Context, tx store.Tx) error {
	if l.Options.Later {
		return nil
	}
	return holdsAlways(ctx, tx, l.Plan.Always)
}

// CheckAlways looks at invariants of a plan in a transaction of its own; the error is
// *Broken if one does not hold.
func CheckAlways(ctx context.Context, s store.Store, rules []*schema.Rule) error {
	if len(rules) == 0 {
		return nil
	}
	tx, err := s.Begin(ctx, store.TxOptions{Reads: true})
	if err != nil {
		return err
	}
	defer tx.Rollback()
	err = holdsAlways(ctx, tx, rules)
	if b := (*Broken)(nil); errors.As(err, &b) {
		b.Committed = true
	}
	return err
}

// HasConditions reports whether a plan has conditions in SQL.
func HasConditions(c *plan.Compiled) bool {
	return slices.ContainsFunc(c.Units, func(u *plan.CompiledUnit) bool {
		return slices.ContainsFunc(u.Steps, func(s *plan.Step) bool { return s.SQL != nil })
	}) || slices.ContainsFunc(c.Always, func(r *schema.Rule) bool { return r.SQL != "" || r.Where != "" })
}

// conditionTrial lets a database read conditions, in a transaction that is rolled back.
type conditionTrial struct {
	store    store.Store
	tx       store.Tx // begun with the first condition
	problems diag.Problems
}

// end rolls the transaction back, if one was begun.
func (t *conditionTrial) end() {
	if t.tx != nil {
		t.tx.Rollback()
	}
}

// try does what makes the database read a condition, and notes what it says of it. A database
// that can only be read reads none: they are looked at when something is written.
func (t *conditionTrial) try(ctx context.Context, do func() error, tell func(error) *diag.Problem) (err error) {
	var fault *store.Fault
	if t.tx == nil {
		if t.tx, err = t.store.Begin(ctx, store.TxOptions{Reads: true}); err != nil {
			t.tx = nil
			if errors.As(err, &fault) && fault.Kind == store.ReadOnly {
				return nil
			}
			return err
		}
	}
	const name = "evensprout_condition"
	if err := t.tx.Savepoint(ctx, name); err != nil {
		return err
	}
	if err := do(); err != nil {
		if ctx.Err() != nil || errors.As(err, &fault) && fault.Kind != store.Denied {
			return err
		}
		t.problems = append(t.problems, tell(err))
	}
	return errors.Join(t.tx.RollbackTo(ctx, name), t.tx.Release(ctx, name))
}

// TryConditions lets the database read all conditions in SQL of a plan, without values,
// so that a mistyped one is found before the first write. The error is diag.Problems.
func TryConditions(ctx context.Context, s store.Store, c *plan.Compiled) error {
	t := &conditionTrial{store: s}
	defer t.end()
	for _, u := range c.Units {
		for _, step := range u.Steps {
			if step.SQL == nil {
				continue
			}
			var values []store.Cell
			for _, slot := range step.From {
				values = append(values, store.Cell{Column: store.ColumnFor(u.Slots[slot].Type, u.Slots[slot].Scale)})
			}
			err := t.try(ctx, func() error {
				_, err := t.tx.Holds(ctx, step.SQL, values)
				return err
			}, func(err error) *diag.Problem {
				return c.StepProblem(step, "require: the database does not understand the condition: %s", err)
			})
			if err != nil {
				return err
			}
		}
	}

	for _, r := range c.Always {
		if r.SQL == "" && r.Where == "" {
			continue
		}
		err := t.try(ctx, func() error {
			return t.tx.Broken(ctx, r, 1, func([]*schema.Column, []value.Value, value.Value) error { return nil })
		}, func(err error) *diag.Problem {
			return c.RuleProblem(r, "the database does not understand the condition: %s", err)
		})
		if err != nil {
			return err
		}
	}

	if len(t.problems) > 0 {
		return t.problems
	}
	return nil
}
