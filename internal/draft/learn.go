package draft

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
	Children map[string][2]uint64 // by the column of a reference: how many rows refer to one, mostly
}

// Habit is what the values of a column have in common.
type Habit struct {
	Nulls   int64      // rows with NULL
	Often   []Frequent // values that occur often enough, the most frequent first
	Rest    int64      // rows with other values
	Numbers []int64    // some of the numbers or moments, in order
	Type    value.Type // of Numbers
	Scale   uint8      // of Numbers
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
	held map[*schema.Table]*Contents,
	least int64,
) (map[*schema.Table]*Learned, error) {
	out := map[*schema.Table]*Learned{}
	for _, t := range db.Tables {
		if held[t] == nil {
			continue
		}
		l := &Learned{Columns: map[string]*Habit{}, Children: map[string][2]uint64{}}
		for _, c := range t.Columns {
			l.Columns[c.Name] = &Habit{counts: map[string]int64{}, values: map[string]value.Value{}}
		}
		referring := map[string]map[string]uint64{}
		for _, r := range t.References {
			if len(r.Columns) == 1 {
				referring[r.Columns[0]] = map[string]uint64{}
			}
		}
		err := s.Select(
			ctx,
			store.Query{Table: t, Columns: t.Columns, AsIs: true, Limit: learnedRows},
			func(row []value.Value) error {
				l.Rows++
				for i, c := range t.Columns {
					l.Columns[c.Name].note(c, row[i])
					if of := referring[c.Name]; of != nil && !row[i].IsNull() {
						of[row[i].String()]++
					}
				}
				return nil
			},
		)
		if err != nil {
			return nil, err
		}
		for _, h := range l.Columns {
			h.sum(least)
		}
		for column, parents := range referring {
			if int64(len(parents)) >= least {
				l.Children[column] = middle(parents)
			}
		}
		out[t] = l
	}
	return out, nil
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
					h.Numbers[i] *= pow10(int(v.Scale - h.Scale))
				}
				h.Scale = v.Scale
			}
			n := v.N
			if v.Type == value.Decimal {
				n *= pow10(int(h.Scale - v.Scale))
			}
			h.Numbers = append(h.Numbers, n)
		}
	}

	key := v.String()
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
	h.counts, h.values = nil, nil
	slices.Sort(h.Numbers)
	if int64(len(h.Numbers)) < 4*least {
		h.Numbers = nil // too few to hide a single one among
	}
}

// middle is how many of something there mostly are: from the twentieth to the last
// twentieth.
func middle(parents map[string]uint64) [2]uint64 {
	list := make([]uint64, 0, len(parents))
	for _, n := range parents {
		list = append(list, n)
	}
	slices.Sort(list)
	return [2]uint64{list[len(list)/20], list[len(list)-1-len(list)/20]}
}

// mayTake reports whether a field may have a source, as far as conditions tell.
func (t *Table) mayTake(f *Field, s Source) bool {
	d := t.domains[f.Column.Name]
	if d == nil {
		d = &domain{}
	}
	return s.Text != "" && len(d.opaque) == 0 && admits(f.Column, d, s) && len(values(s, 1)) > 0
}

// learn lets fields take their values as the rows that are there have them.
func (t *Table) learn() {
	l := t.d.Learned[t.Schema]
	if l == nil || l.Rows == 0 {
		return
	}
	for _, f := range t.Fields {
		h := l.Columns[f.Column.Name]
		if h == nil || f.unsaid || f.Source.Follows || f.Source.Text == "null" ||
			strings.HasPrefix(f.Source.Text, "{after") {
			continue
		}
		if f.Nulls {
			f.nulls = percent(h.Nulls, l.Rows)
			f.Nulls = h.Nulls > 0
		}
		if f.lead || f.ref != nil || t.inKey(f) || f.Source.Text == "" {
			continue
		}
		s := h.source(f.Column, l.Rows-h.Nulls)
		if t.mayTake(f, s) {
			f.Source = s
			f.Comment = fmt.Sprintf("as in the %d existing rows", l.Rows)
		}
	}

	if t.parent != nil && t.children == "" {
		if c, ok := l.Children[t.parent.Columns[0]]; ok && c[1] <= mostChildren && c[1] > 0 {
			t.children = fmt.Sprintf("%d..%d", c[0], c[1])
		}
	}
}

// percent is a share in hundredths, or in tenths of them where it is small.
func percent(part, whole int64) string {
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

// source makes values as a column has them.
func (h *Habit) source(c *schema.Column, rows int64) Source {
	switch {
	case rows == 0:
		return Source{}
	case c.Kind == schema.Boolean:
		yes := int64(0)
		for _, f := range h.Often {
			if f.Value.N != 0 {
				yes = f.Count
			}
		}
		return countable("{share: "+percent(yes, rows)+"}", 2)
	case len(h.Often) > 0 && h.Rest*20 <= rows && h.Type != value.Date && h.Type != value.Timestamp: // a set of codes
		var items []string
		for _, f := range h.Often {
			one := strings.TrimSuffix(strings.TrimPrefix(chosen(c, []value.Value{f.Value}).Text, "{choose: ["), "]}")
			if one == "" {
				return Source{}
			}
			items = append(items, fmt.Sprintf("%s: %d", one, f.Count))
		}
		return countable("{choose: {"+strings.Join(items, ", ")+"}}", uint64(len(items)))
	case len(h.Numbers) > 0:
		return h.span(c)
	}
	return Source{}
}

// span is the range that most numbers or moments lie in, its ends rounded so that they
// are nobody's.
func (h *Habit) span(c *schema.Column) Source {
	lo, hi := h.Numbers[len(h.Numbers)/100], h.Numbers[len(h.Numbers)-1-len(h.Numbers)/100]
	switch h.Type {
	case value.Date:
		return span(c, lo-lo%7, hi-hi%7+7)
	case value.Timestamp:
		lo, hi = lo/value.Day, hi/value.Day
		return span(c, lo-lo%7, hi-hi%7+7)
	}
	unit := int64(1)
	for hi-lo > 100*unit {
		unit *= 10
	}
	down, up := lo-((lo%unit)+unit)%unit, hi
	if up%unit != 0 {
		up = hi - ((hi%unit)+unit)%unit + unit
	}
	show := func(n int64) string { return value.Value{Type: value.Decimal, Scale: h.Scale, N: n}.String() }
	if down == up {
		return Source{}
	}
	return countable(fmt.Sprintf("{between: [%s, %s]}", show(down), show(up)), uint64(up-down)+1)
}
