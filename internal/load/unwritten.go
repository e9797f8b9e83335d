package load

import (
	"errors"
	"fmt"

	"evensprout/internal/diag"
	"evensprout/internal/store"
)

// Unwritten is a failure of the database while it wrote rows of one entity, other than that it refused a row: a trigger
// that fails, for instance.
type Unwritten struct {
	Entity, Table string
	Err           error
}

func (e *Unwritten) Error() string {
	return fmt.Sprintf("rows of %s could not be written to %s: %s", e.Entity, e.Table, e.Err)
}

func (e *Unwritten) Unwrap() error { return e.Err }

// unwritten names the entity whose rows were written when the database failed. Errors that say by themselves what they
// are about stay as they are.
func unwritten(t *Target, err error) error {
	var denied *store.Fault
	if errors.As(err, &denied) && denied.Kind == store.Denied {
		return &Unwritten{t.Plan.Name, t.Table.Name, err}
	}
	var own interface{ Report() diag.Report }
	if errors.As(err, &own) || errors.Is(err, errAgain) {
		return err
	}
	return &Unwritten{t.Plan.Name, t.Table.Name, err}
}
