package grow

import (
	"errors"
	"fmt"

	"evensprout/internal/value"
)

// What rows may hold, in bytes of text and in years. A plan comes from its user, but what it
// says may grow beyond all bounds: two texts that are each twice the other.
const (
	MaxRow   = 24 << 20 // of all values of a row
	MaxBatch = 48 << 20 // of rows that must be grown together

	// SomeBytes is how much rows that are on their way to a database hold at a time.
	SomeBytes = 4 << 20
)

var (
	errTooLong  = fmt.Errorf("the value is longer than %d MiB", value.MaxBytes>>20)
	errLongRow  = fmt.Errorf("the row holds more than %d MiB", MaxRow>>20)
	errOverflow = errors.New("the number does not fit into 64 bits")
	errBatch    = fmt.Errorf(
		"the rows of one chunk hold more than %d MiB; make it smaller with --chunk",
		MaxBatch>>20,
	)
)

// checked returns the error of a value that is no value.
func checked(v *value.Value) error {
	if len(v.S) > value.MaxBytes {
		return errTooLong
	}
	if v.Type == value.Date || v.Type == value.Timestamp {
		return value.InCalendar(v)
	}
	return nil
}

// fail notes that a cell cannot be grown. The first error of a grower counts.
func (c cell) fail(err error) {
	if c.g.err == nil {
		c.g.err = &RowError{c.fr.e.Label(c.fr.row), c.f.Name, err}
	}
}

// plus adds two numbers; false if that is beyond 64 bits.
func plus(a, b int64) (int64, bool) {
	sum := a + b
	return sum, b == 0 || (sum > a) == (b > 0)
}

// times multiplies two numbers; false if that is beyond 64 bits.
func times(a, b int64) (int64, bool) {
	if a == 0 || b == 0 {
		return 0, true
	}
	p := a * b
	return p, p/b == a && !(a == -1 && b == p) && !(b == -1 && a == p)
}
