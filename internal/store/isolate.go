package store

import (
	"context"
	"errors"
	"fmt"
)

// Isolate writes the first rows of a stage. Where the engine refuses them,
// it halves them until the guilty rows stand alone: that is for what no set-based
// statement can find, such as what a trigger raises. Each guilty row goes to refuse,
// whose error ends it; the others are written.
func Isolate(ctx context.Context, tx Tx, s Stage, rows int64, refuse func(*Violation) error) (Outcome, error) {
	return isolate(ctx, tx, half{s, 0, rows}, 0, refuse)
}

// half is the rows of a stage from lo to hi-1.
type half struct {
	stage  Stage
	lo, hi int64
}

func isolate(ctx context.Context, tx Tx, of half, depth int, refuse func(*Violation) error) (Outcome, error) {
	s, lo, hi := of.stage, of.lo, of.hi
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
	o, err = isolate(ctx, tx, half{s, lo, mid}, depth+1, refuse)
	if err != nil {
		return o, err
	}
	rest, err := isolate(ctx, tx, half{s, mid, hi}, depth+1, refuse)
	o.Add(rest)
	return o, err
}
