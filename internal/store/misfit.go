package store

import (
	"evensprout/internal/fit"
	"evensprout/internal/schema"
	"evensprout/internal/value"
)

// Misfit holds a value against what its column's declaration says. It is nil if the value
// fits; Row and Table are left to the caller.
func Misfit(c *schema.Column, v *value.Value) *Violation {
	m := fit.Value(c, v)
	if m == nil {
		return nil
	}
	return &Violation{
		Kind:       ViolationKind(m.Reason),
		Row:        -1,
		Columns:    []string{c.Name},
		Values:     []value.Value{*v},
		Constraint: m.Constraint,
		Message:    m.Message,
	}
}
