package value

// MaxBytes is how long a value may be.
const MaxBytes = 16 << 20

// Batch is a run of rows, row after row. Values holds Len times Width of them.
type Batch struct {
	Len    int
	Width  int // values of a row
	Values []Value
}

// Row returns the values of the i-th row, counted from 0. They are shared with the batch.
func (b *Batch) Row(i int) []Value { return b.Values[i*b.Width : (i+1)*b.Width] }

// Slice returns the rows from lo to hi-1, sharing their values.
func (b *Batch) Slice(lo, hi int) *Batch {
	return &Batch{Len: hi - lo, Width: b.Width, Values: b.Values[lo*b.Width : hi*b.Width]}
}
