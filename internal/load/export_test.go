package load

import (
	"context"

	"evensprout/internal/grow"
	"evensprout/internal/plan"
	"evensprout/internal/store"
	"evensprout/internal/value"
)

// What tests outside the package see of it.

// EachRow shows the rows of a plan's first entity.
func EachRow(ctx context.Context, c *plan.Compiled, s store.Store, show func(values []value.Value)) error {
	l, err := NewSession(c, s, Options{})
	if err != nil {
		return err
	}
	w := &Writer{Session: l}
	l.Reset()
	defer w.Close()
	return l.eachRow(ctx, l.List[0], func(_ grow.Row, values []value.Value) error {
		show(values)
		return nil
	})
}
