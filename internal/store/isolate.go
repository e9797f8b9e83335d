package store

import (
	"context"
	"errors"
	"fmt"
)

// Isolate writes the rows from lo to hi-1 of a stage. Where the engine refuses them,
// it halves them until the guilty rows stand alone: that is for what no set-based
// statement can find, such as what a trigger raises. Each guilty row goes to refuse,
// whose error ends it; the others are written.
func Isolate(ctx context.Context, tx Tx, s Stage, lo, hi int64, refuse func(*Violation) error) (Outcome, error) {
	return isolate(ctx, tx, s, lo, hi, 0, refuse)
}

func isolate(ctx context.Context, tx Tx, s Stage, lo, hi int64, depth int, refuse func(*Violation) error) (Outcome, error) {
	if lo >= hi {
		return Outcome{}, nil
	}
	mark := fmt.Sprintf("evensprout_half_%d", depth)
	if err := tx.Savepoint(ctx, mark); err != nil {
		return Outcome{}, err
	}
	o, err := s.Apply(ctx, lo, hi)
	if err == nil {
		return o, tx.Release(ctx, mark)
	}
	var v *Violation
	if !errors.As(err, &v) {
		return Outcome{}, err
	}
	if err := tx.RollbackTo(ctx, mark); err != nil {
		return Outcome{}, err
	}
	if err := tx.Release(ctx, mark); err != nil {
		return Outcome{}, err
	}
	if hi-lo == 1 {
		v.Row = lo
		return Outcome{}, refuse(v)
	}
	mid := lo + (hi-lo)/2
	o, err = isolate(ctx, tx, s, lo, mid, depth+1, refuse)
	if err != nil {
		return o, err
	}
	rest, err := isolate(ctx, tx, s, mid, hi, depth+1, refuse)
	o.Add(rest)
	return o, err
}
