// Package habits learns from rows that are there: shares and ranges, and values only if they occur often enough.
package habits

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/value"
)

// Learned is what rows that are there tell about a table: shares and ranges only. A value
// stands in it only if it occurs often enough.
type Learned struct {
	Rows     int64 // looked at
	Columns  map[string]*Habit
	Children map[string]Children // by the column of a reference
}

// Habit is what the values of a column have in common.
type Habit struct {
	Nulls   int64      // rows with NULL
	Often   []Frequent // values that occur often enough, the most frequent first
	Rest    int64      // rows with other values
	Numbers []int64    // some of the numbers or moments, in order
	Type    value.Type // of Numbers
	Scale   uint8      // of Numbers
	Pattern string     // of texts that nearly all have one format: a regular expression; or empty
	Length  int        // of texts, in characters: the 95th percentile; 0 if there are too few
	// When tells which rows have a value, if another column says so; nil if none does.
	When    *Dependence
	formats formats
	counts  map[string]int64
	values  map[string]value.Value
	many    bool // too many different values to count
}

// Frequent is a value and how often it occurs.
type Frequent struct {
	Value value.Value
	Count int64
}

// Limits on what is looked at.
const (
	learnedRows   = 100_000 // of a table
	learnedValues = 40      // different values of a column that are a set of codes
	learnedLength = 40      // characters of such a value
)

// LeastOften is how often a value must occur to be learned, unless the user says so.
const LeastOften = 5

// Learn looks at rows of the tables. least is how often a value must occur to be told.
func Learn(
	ctx context.Context,
	s store.Store,
	db *schema.Database,
	looked func(*schema.Table) bool, // the tables that are looked at
	least int64,
) (map[*schema.Table]*Learned, error) {
	out := map[*schema.Table]*Learned{}
	for _, t := range db.Tables {
		if !looked(t) {
			continue
		}
		l := newLearner(t)
		err := s.Select(ctx, store.Query{Table: t, Columns: t.Columns, AsIs: true, Limit: learnedRows}, l.note)
		if err != nil {
			return nil, err
		}
		if out[t], err = l.sum(ctx, s, least); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// learner looks at the rows of one table.
type learner struct {
	table     *schema.Table
	learned   *Learned
	states    []*states
	referring map[string]referring // by column
}

// referring counts the rows that refer to each row of a table.
type referring struct {
	to      *schema.Table
	parents map[string]uint64
}

// newLearner makes a learner that has seen no row.
func newLearner(t *schema.Table) *learner {
	l := &learner{t, &Learned{Columns: map[string]*Habit{}, Children: map[string]Children{}}, stateColumns(t),
		map[string]referring{}}
	for _, c := range t.Columns {
		l.learned.Columns[c.Name] = &Habit{counts: map[string]int64{}, values: map[string]value.Value{}}
	}
	for _, r := range t.References {
		if len(r.Columns) == 1 && r.To != nil {
			l.referring[r.Columns[0]] = referring{r.To, map[string]uint64{}}
		}
	}
	return l
}

// note takes a row in.
func (l *learner) note(row []value.Value) error {
	l.learned.Rows++
	for _, x := range l.states {
		x.note(row)
	}
	for i, c := range l.table.Columns {
		l.learned.Columns[c.Name].note(c, row[i])
		if of := l.referring[c.Name].parents; of != nil && !row[i].IsNull() {
			of[row[i].String()]++
		}
	}
	return nil
}

// sum keeps what rows have in common, and forgets the rest.
func (l *learner) sum(ctx context.Context, s store.Store, least int64) (*Learned, error) {
	for i, c := range l.table.Columns {
		h := l.learned.Columns[c.Name]
		h.sum(least)
		if h.Nulls >= least && h.Nulls < l.learned.Rows {
			h.When = depend(l.table, l.states, i, least)
		}
	}
	for column, of := range l.referring {
		all := int64(len(of.parents)) // if there are more rows, it is not known to whom they refer
		if l.learned.Rows < learnedRows {
			var err error
			if all, err = s.Count(ctx, of.to); err != nil {
				return nil, err
			}
		}
		l.learned.Children[column] = childrenOf(of.parents, min(all, learnedRows), least)
	}
	return l.learned, nil
}

// note takes a value in.
func (h *Habit) note(c *schema.Column, v value.Value) {
	if v.IsNull() {
		h.Nulls++
		return
	}
	switch v.Type {
	case value.Integer, value.Decimal, value.Date, value.Timestamp:
		if h.Type == value.Null {
			h.Type = v.Type
		}
		if v.Type == h.Type {
			if v.Scale > h.Scale { // more digits than seen before
				for i := range h.Numbers {
					h.Numbers[i] *= value.Pow10(int(v.Scale - h.Scale))
				}
				h.Scale = v.Scale
			}
			n := v.N
			if v.Type == value.Decimal {
				n *= value.Pow10(int(h.Scale - v.Scale))
			}
			h.Numbers = append(h.Numbers, n)
		}
	}

	key := v.String()
	if v.Type == value.Text {
		h.formats.note(v.S)
	}
	if h.many || utf8.RuneCountInString(key) > learnedLength {
		h.Rest++
		return
	}
	if _, ok := h.counts[key]; !ok && len(h.counts) >= 4*learnedValues {
		h.many = true
		h.Rest++
		return
	}
	h.counts[key]++
	h.values[key] = v
}

// sum keeps what occurs often enough, and forgets the rest.
func (h *Habit) sum(least int64) {
	for key, n := range h.counts {
		if n >= least && !h.many {
			h.Often = append(h.Often, Frequent{h.values[key], n})
		} else {
			h.Rest += n
		}
	}
	slices.SortFunc(h.Often, func(a, b Frequent) int {
		return cmp.Or(cmp.Compare(b.Count, a.Count), strings.Compare(a.Value.String(), b.Value.String()))
	})
	if len(h.Often) > learnedValues {
		h.Often = nil
	}
	h.Pattern = h.formats.pattern(least)
	if lines := h.formats.lines; int64(len(lines)) >= 4*least {
		slices.Sort(lines)
		h.Length = lines[len(lines)-1-len(lines)/20]
	}
	h.counts, h.values, h.formats = nil, nil, formats{}
	slices.Sort(h.Numbers)
	if int64(len(h.Numbers)) < 4*least {
		h.Numbers = nil // too few to hide a single one among
	}
}

// Percent is a share in hundredths, or in tenths of them where it is small.
func Percent(part, whole int64) string {
	if whole == 0 {
		return "0%"
	}
	tenths := (part*1000 + whole/2) / whole
	if tenths == 0 && part > 0 {
		tenths = 1
	}
	if tenths%10 == 0 {
		return fmt.Sprintf("%d%%", tenths/10)
	}
	return fmt.Sprintf("%d.%d%%", tenths/10, tenths%10)
}
