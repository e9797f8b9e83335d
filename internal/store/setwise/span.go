package setwise

import (
	"context"
	"errors"
	"strings"

	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/value"
)

// within is the condition that a column lies in a span, with the arguments from the n-th on. The numbers have a type of
// their own: a column that refers to the key may be of a smaller one.
func (tx *Tx) within(prefix string, c *schema.Column, s store.Span, n int) (string, []Arg) {
	e, name := tx.Engine, prefix+tx.Engine.Quote(c.Name)
	first, last := e.Typed(e.Param(n, Ordinal), Ordinal), e.Typed(e.Param(n+1, Ordinal), Ordinal)
	return name + " " + e.Operator(">=") + " " + first + " AND " + name + " " + e.Operator("<=") + " " + last,
		[]Arg{{value.Int(s.First), Ordinal}, {value.Int(s.Last), Ordinal}}
}

// Between counts the rows whose key lies in a span.
func (tx *Tx) Between(ctx context.Context, s store.Span) (int64, error) {
	condition, args := tx.within("", s.Key, s, 1)
	return Number(ctx, tx.Engine, "SELECT count(*) FROM "+tx.Engine.Table(s.Table)+" WHERE "+condition, args...)
}

// RefersInto reports whether rows from elsewhere refer to a span.
func (tx *Tx) RefersInto(ctx context.Context, db *schema.Database, s store.Span) (bool, error) {
	if err := tx.helped(ctx, s.Table, s.Last-s.First+1); err != nil {
		return false, err
	}
	referrers := tx.referrersOf(db, s.Table)
	if len(referrers) > 0 {
		if err := tx.lockSpan(ctx, s); err != nil {
			return false, err
		}
	}
	for _, by := range referrers {
		if by.table.Hidden != "" {
			if by.reference.Takes() {
				return true, nil
			}
			continue
		}
		// as far as this simple way of looking can tell
		if len(by.reference.Columns) != 1 || by.reference.Targets[0] != s.Key.Name {
			return true, nil
		}
		column := by.table.Column(by.reference.Columns[0])
		if column.Custom() {
			return true, nil
		}
		condition, args := tx.within("o.", column, s, 1)
		if by.table.Name == s.Table.Name {
			own, more := tx.within("o.", s.Key, s, 3)
			condition, args = condition+" AND NOT ("+own+")", append(args, more...)
		}
		n, err := Number(ctx, tx.Engine, "SELECT count(*) FROM (SELECT 1 AS found FROM "+tx.Engine.Table(by.table)+
			" AS o WHERE "+condition+" LIMIT 1"+tx.Engine.Fresh()+") AS f", args...)
		var fault *store.Fault
		if errors.As(err, &fault) && fault.Kind == store.Denied {
			return true, nil // rows that this user does not see
		}
		if n > 0 || err != nil {
			return true, err
		}
	}
	return false, nil
}

// RemoveSpan deletes the rows of a span and shows each of them.
func (tx *Tx) RemoveSpan(
	ctx context.Context,
	s store.Span,
	columns []*schema.Column,
	show func([]value.Value) error,
) error {
	e := tx.Engine
	names := strings.Join(Names(e, "", columns), ", ")
	condition, args := tx.within("", s.Key, s, 1)
	from := " FROM " + e.Table(s.Table) + " WHERE " + condition
	if e.Returning(s.Key) != "" {
		return Named(e.Query(ctx, "DELETE"+from+" RETURNING "+names, args, columns, show), s.Table)
	}

	shown := int64(0)
	err := e.Query(ctx, "SELECT "+names+from+e.Locking(false), args, columns, func(row []value.Value) error {
		shown++
		return show(row)
	})
	if err != nil {
		return err
	}
	n, err := e.Exec(ctx, "DELETE"+from, args...)
	if err == nil && n != shown {
		err = &store.Fault{Kind: store.Refused, Message: "other rows were deleted than those that were read"}
	}
	return Named(err, s.Table)
}
