package load

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"evensprout/internal/grow"
	"evensprout/internal/plan"
	"evensprout/internal/schema"
	"evensprout/internal/store"
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
func holdsAlways(ctx context.Context, tx store.Tx, rules []*plan.Rule) error {
	broken := &Broken{}
	for _, r := range rules {
		b := BrokenRule{Name: r.Name}
		failed := false
		if r.Table != nil {
			b.Table = r.Table.Name
		}
		err := tx.Broken(ctx, r, maxBroken+1, func(columns []*schema.Column, row []grow.Value, computed grow.Value) error {
			failed = true
			if len(b.Rows) == maxBroken {
				b.More = true
				return nil
			}
			if columns != nil {
				text := pairs(columns, row)
				if r.Aggregate != nil {
					text += fmt.Sprintf("; %s is %s", r.Aggregate.Name(), computed)
				}
				b.Rows = append(b.Rows, text)
			}
			return nil
		})
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

// always looks at the plan's invariants.
func (l *loader) always(ctx context.Context, tx store.Tx) error {
	if l.o.Later {
		return nil
	}
	return holdsAlways(ctx, tx, l.plan.Always)
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
