package store

import (
	"context"

	"evensprout/internal/schema"
	"evensprout/internal/value"
)

// Step is a look or a write of a unit. Its values are those of Occasions, known by
// their place. It must not change once it is used.
type Step struct {
	Table *schema.Table
	Match []Matched        // which rows; none: all
	Set   []Assigned       // what Change writes
	Read  []*schema.Column // what Look and Change show
	Lock  Lock             // of the rows that Look shows
}

// Matched says that a column holds a value.
type Matched struct {
	Column *schema.Column
	Input  int
}

// Assigned says what a column is set to.
type Assigned struct {
	Column *schema.Column
	Expr   *schema.Expr
}

// Lock is what others may do to rows that were looked at, until the transaction ends.
type Lock int

// The locks. Engines with one writer need none.
const (
	NoLock   Lock = iota
	ForShare      // they may not be changed
	ForWrite      // nor locked by others
)

// Occasions are values of one or many occasions of a unit, ready for steps: all of
// them are done by one statement. No two of them may match the same row of a step that
// writes.
type Occasions interface {
	// Look shows columns of the rows that match, with the number of the occasion, in
	// the order of the occasions.
	Look(ctx context.Context, s *Step, show func(n int64, row []value.Value) error) error
	// Change sets columns of the rows that match. n is how many there were, as far as the
	// engine's traits say that it counts them. If it can, it shows what Read of the step
	// names of them, as they are then, in any order; shown reports whether it could.
	Change(ctx context.Context, s *Step, show func(row []value.Value) error) (n int64, shown bool, err error)
	// Add adds a row of what Set of the step says, of one occasion. It returns the key that
	// the database gives it, if one is asked for.
	Add(ctx context.Context, s *Step, key *schema.Column) (value.Value, error)
	// Remove deletes the rows that match.
	Remove(ctx context.Context, s *Step) error
}

// Isolation is what a transaction sees of others.
type Isolation string

// The isolation levels of SQL; the empty one is the engine's usual one here.
const (
	ReadCommitted  Isolation = "read committed"
	RepeatableRead Isolation = "repeatable read"
	Serializable   Isolation = "serializable"
)

// ColumnFor is a column for values of a type, as wide as the engine has one.
func ColumnFor(t value.Type, scale uint8) *schema.Column {
	kinds := map[value.Type]schema.Kind{
		value.Integer:   schema.Integer,
		value.Decimal:   schema.Decimal,
		value.Boolean:   schema.Boolean,
		value.Date:      schema.Date,
		value.Time:      schema.Time,
		value.Timestamp: schema.Timestamp,
		value.UUID:      schema.UUID,
		value.JSON:      schema.JSON,
		value.Bytes:     schema.Bytes,
	}
	kind, ok := kinds[t]
	if !ok {
		kind = schema.Text
	}
	return &schema.Column{Kind: kind, Scale: int(scale), Digits: 6}
}
