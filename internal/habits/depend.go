package habits

import (
	"slices"
	"strings"

	"evensprout/internal/schema"
	"evensprout/internal/value"
)

// Dependence says that a column is NULL, or not, as the value of another column says.
type Dependence struct {
	Column string        // the other one
	Values []value.Value // of that column, with which this one is not NULL
}

const (
	mostStates = 12 // values of a column on which others may depend
	sure       = 98 // percent of the rows with a value that agree
)

// states counts, for each value of a column of codes, how many rows have NULL in the other columns.
type states struct {
	column int
	many   bool // it has too many values for one of codes
	of     map[string]*state
}

// state is the rows with one value.
type state struct {
	value value.Value
	rows  int64
	nulls []int64 // by column
}

// stateColumns are the columns of a table on which others may depend: no keys, no references, short texts and truths.
func stateColumns(t *schema.Table) []*states {
	var out []*states
	for i, c := range t.Columns {
		short := c.Kind == schema.Boolean || c.Kind == schema.Text && c.Length <= learnedLength ||
			c.Kind == schema.Integer && c.Bits > 0 && c.Bits <= 16
		if short && !t.IsKey(c.Name) && t.Reference(c.Name) == nil {
			out = append(out, &states{column: i, of: map[string]*state{}})
		}
	}
	return out
}

// note takes a row in.
func (s *states) note(row []value.Value) {
	v := row[s.column]
	if s.many || v.IsNull() {
		return
	}
	key := v.String()
	of := s.of[key]
	if of == nil {
		if s.many = len(s.of) == mostStates || len(key) > learnedLength; s.many {
			s.of = nil
			return
		}
		of = &state{value: v, nulls: make([]int64, len(row))}
		s.of[key] = of
	}
	of.rows++
	for i, x := range row {
		if x.IsNull() {
			of.nulls[i]++
		}
	}
}

// explains tells with which values a column is not NULL; false if the values do not decide that. Each value must occur
// often enough.
func (s *states) explains(column int, least int64) ([]value.Value, bool) {
	if s.many || len(s.of) < 2 || column == s.column {
		return nil, false
	}
	var with []value.Value
	without := 0
	for _, of := range s.of {
		switch filled := (of.rows - of.nulls[column]) * 100; {
		case of.rows < least:
			return nil, false
		case filled >= sure*of.rows:
			with = append(with, of.value)
		case filled <= (100-sure)*of.rows:
			without++
		default:
			return nil, false
		}
	}
	slices.SortFunc(with, func(a, b value.Value) int { return strings.Compare(a.String(), b.String()) })
	return with, len(with) > 0 && without > 0
}

// depend finds for a column the one that decides whether it is NULL: the one with the fewest values.
func depend(t *schema.Table, list []*states, column int, least int64) *Dependence {
	var best *Dependence
	fewest := mostStates + 1
	for _, s := range list {
		if with, ok := s.explains(column, least); ok && len(s.of) < fewest {
			best, fewest = &Dependence{t.Columns[s.column].Name, with}, len(s.of)
		}
	}
	return best
}
