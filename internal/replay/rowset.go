package replay

import (
	"evensprout/internal/grow"
	"evensprout/internal/schema"
	"evensprout/internal/value"
)

// RowSet is a set of rows, known by their number and the sum of their fingerprints. Two sets are the same if each row
// of one is in the other, in whatever order, as far as rows mean the same in their columns.
type RowSet struct {
	rows   int64
	print  grow.Fingerprint
	canons []Canon
	buf    []byte
}

// NewRowSet is the set of no rows of some columns.
func NewRowSet(columns []*schema.Column) *RowSet { return &RowSet{canons: Canons(columns)} }

// Add adds a row; fields say where in it the columns stand. Without fields, it has the columns alone, in their order.
func (s *RowSet) Add(row []value.Value, fields []int) {
	s.buf = s.buf[:0]
	for i := range s.canons {
		at := i
		if fields != nil {
			at = fields[i]
		}
		s.buf = s.canons[i].Append(s.buf, &row[at])
	}
	s.rows++
	s.print.Add(hashed(s.buf))
}

// Same reports whether both are the same.
func (s *RowSet) Same(other *RowSet) bool { return s.rows == other.rows && s.print == other.print }
