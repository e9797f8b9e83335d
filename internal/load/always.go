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

func (b *Broken) Error() string {
	var names []string
	for _, r := range b.Rules {
		names = append(names, r.Name)
	}
	return "what must always hold does not: " + strings.Join(names, "; ")
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
			return fmt.Errorf("the invariant %q cannot be looked at: %w", r.Name, err)
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

// CheckAlways looks at a plan's invariants in a transaction of its own; the error is
// *Broken if one does not hold.
func CheckAlways(ctx context.Context, s store.Store, c *plan.Compiled) error {
	if len(c.Always) == 0 {
		return nil
	}
	tx, err := s.Begin(ctx, store.TxOptions{})
	if err != nil {
		return err
	}
	defer tx.Rollback()
	err = holdsAlways(ctx, tx, c.Always)
	if b := (*Broken)(nil); errors.As(err, &b) {
		b.Committed = true
	}
	return err
}

// HasConditions tells whether a plan has conditions in SQL.
func HasConditions(c *plan.Compiled) bool {
	return slices.ContainsFunc(c.Units, func(u *plan.CompiledUnit) bool {
		return slices.ContainsFunc(u.Steps, func(s *plan.Step) bool { return s.SQL != nil })
	}) || slices.ContainsFunc(c.Always, func(r *schema.Rule) bool { return r.SQL != "" || r.Where != "" })
}

// TryConditions lets the database read all conditions in SQL of a plan, without values,
// so that a mistyped one is found before the first write. The error is diag.Problems.
func TryConditions(ctx context.Context, s store.Store, c *plan.Compiled) error {
	var problems diag.Problems
	var tx store.Tx
	try := func(do func() error, tell func(error) *diag.Problem) error {
		if tx == nil {
			var err error
			var fault *store.Fault
			if tx, err = s.Begin(ctx, store.TxOptions{}); errors.As(err, &fault) && fault.Kind == store.ReadOnly {
				return nil // they are looked at when something is written
			}
			if err != nil {
				return err
			}
		}
		const name = "evensprout_condition"
		if err := tx.Savepoint(ctx, name); err != nil {
			return err
		}
		if err := do(); err != nil {
			var fault *store.Fault
			if ctx.Err() != nil || errors.As(err, &fault) && fault.Kind != store.Denied {
				return err
			}
			problems = append(problems, tell(err))
		}
		return errors.Join(tx.RollbackTo(ctx, name), tx.Release(ctx, name))
	}
	defer func() {
		if tx != nil {
			tx.Rollback()
		}
	}()
	for _, u := range c.Units {
		for _, step := range u.Steps {
			if step.SQL == nil {
				continue
			}
			var values []store.Cell
			for _, slot := range step.From {
				values = append(values, store.Cell{Column: store.ColumnFor(u.Slots[slot].Type, u.Slots[slot].Scale)})
			}
			err := try(func() error {
				_, err := tx.Holds(ctx, step.SQL, values)
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
		err := try(func() error {
			return tx.Broken(ctx, r, 1, func([]*schema.Column, []value.Value, value.Value) error { return nil })
		}, func(err error) *diag.Problem {
			return c.RuleProblem(r, "the database does not understand the condition: %s", err)
		})
		if err != nil {
			return err
		}
	}
	if len(problems) > 0 {
		return problems
	}
	return nil
}
