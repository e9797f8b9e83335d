package prove

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strings"

	"evensprout/internal/grow"
	"evensprout/internal/plan"
	"evensprout/internal/schema"
	"evensprout/internal/value"
)

// Limits on what is compared.
const (
	comparedRows = 5000 // of a table
	listedValues = 24   // in a list of values that the database accepts
	fewRows      = 3    // rows that show a limit
)

// feature is a column of a table's rows, or of the rows that a reference leads to.
type feature struct {
	column *schema.Column
	via    *schema.Column // the reference; nil: the column is the table's own
	named  bool           // the refusal or a trigger mentions it
	// what it holds in the rows that the database accepts and in those that it refuses
	accepted, refused []value.Value
}

// compared are the rows of a table in a trial, as far as they show what the database accepts.
type compared struct {
	features []*feature
	accepted int
	refused  int
	last     bool // all that are refused come after all that are accepted
}

// compare grows the rows of a table again and tells those that were refused from the others. Rows that were refused for
// other reasons do not count.
func (x *trial) compare(r *refused, features []*feature) compared {
	g := grow.NewGrower(x.compiled.Set)
	defer g.Close()
	out := compared{features: features, last: true}
	t, reason := r.Target, reasonOf(r.refusal)
	var batch, above grow.Batch
	for n := range min(t.Grow.Total(), comparedRows) {
		row := grow.Row{N: n}
		why := x.refused[t.Plan.Name][row]
		if why != nil && reasonOf(why) != reason {
			continue
		}
		if why != nil {
			out.refused++
		} else {
			out.accepted++
			out.last = out.last && out.refused == 0
		}
		g.Grow(t.Grow, row, 1, &batch)
		for _, f := range out.features {
			v := value.Value{}
			if f.via == nil {
				v = batch.Row(0)[slices.Index(t.Columns, f.column)]
			} else if field := t.Grow.Fields[slices.Index(t.Columns, f.via)]; field.Target() != nil {
				if to, ok := g.Refers(t.Grow, row, field); ok {
					g.Grow(field.Target(), to, 1, &above)
					v = above.Row(0)[slices.Index(x.columnsOf(field.Target()), f.column)]
				}
			}
			if why != nil {
				f.refused = append(f.refused, v)
			} else {
				f.accepted = append(f.accepted, v)
			}
		}
		if g.Err() != nil {
			return compared{}
		}
	}
	return out
}

// columnsOf are the columns of an entity's fields.
func (x *trial) columnsOf(e *grow.Entity) []*schema.Column {
	for _, t := range x.compiled.Targets {
		if t.Grow == e {
			return t.Columns
		}
	}
	return nil
}

// own are the columns of a table, without keys and references.
func own(t *plan.Target, named func(*schema.Column) bool) []*feature {
	var out []*feature
	for i := range t.Columns {
		if isPlain(t, i) {
			out = append(out, &feature{column: t.Columns[i], named: named(t.Columns[i])})
		}
	}
	return out
}

// isPlain reports whether a field is one of a column that is neither a key nor a reference.
func isPlain(t *plan.Target, i int) bool {
	c := t.Columns[i]
	return c != nil && !t.Grow.Fields[i].Inner && !t.Table.IsKey(c.Name) && t.Table.Reference(c.Name) == nil
}

// parents are the columns of the tables that a table refers to.
func (x *trial) parents(t *plan.Target, named func(*schema.Column) bool) []*feature {
	var out []*feature
	for i, f := range t.Grow.Fields {
		if f.Target() == nil || t.Columns[i] == nil || t.Grow == f.Target() {
			continue
		}
		for _, to := range x.compiled.Targets {
			if to.Grow != f.Target() || to.Table == nil {
				continue
			}
			for j, c := range to.Columns {
				if isPlain(to, j) {
					out = append(out, &feature{column: c, via: t.Columns[i], named: named(c)})
				}
			}
		}
	}
	return out
}

// narrowed is what tells accepted rows from refused ones.
type narrowed struct {
	*feature
	values   []value.Value // a list of them, or
	from, to *value.Value  // the ends of a range; nil: there is none
	distinct int
}

// separate finds the feature that tells accepted rows from refused ones best; nil if there is none. Unless it is
// strict, values that hardly repeat will do if the refusal or a trigger mentions their column.
func separate(list []*feature, strict bool) *narrowed {
	var best *narrowed
	for _, f := range list {
		n := f.limit()
		if n == nil {
			n = f.list(strict || !f.named)
		}
		if n == nil {
			continue
		}
		if best == nil || n.rank() > best.rank() || n.rank() == best.rank() && n.distinct < best.distinct {
			best = n
		}
	}
	return best
}

// rank is how much a feature tells.
func (n *narrowed) rank() int {
	rank := 0
	if n.named {
		rank += 2
	}
	if n.via == nil {
		rank++
	}
	return rank
}

// list are the values of accepted rows, if no refused row has one of them; nil if that shows nothing. If it is
// strict, values must repeat.
func (f *feature) list(strict bool) *narrowed {
	bad := distinct(f.refused)
	good := distinct(f.accepted)
	for key := range good {
		if _, both := bad[key]; both {
			return nil
		}
	}
	rows := len(f.accepted) + len(f.refused)
	if len(good) == 0 || len(bad) == 0 || strict && (len(good)+len(bad))*2 > rows {
		return nil
	}
	var values []value.Value
	for _, v := range good {
		if !v.IsNull() {
			values = append(values, v)
		}
	}
	if len(values) == 0 || f.via != nil && len(values) > listedValues {
		return nil
	}
	slices.SortFunc(values, func(a, b value.Value) int {
		return cmp.Or(cmp.Compare(size(a), size(b)), strings.Compare(a.String(), b.String()))
	})
	n := &narrowed{feature: f, distinct: len(good) + len(bad)}
	for i := range min(len(values), listedValues) {
		n.values = append(n.values, values[i*len(values)/min(len(values), listedValues)])
	}
	return n
}

// limit is the end of the range that accepted values lie in, if all refused ones lie beyond it.
func (f *feature) limit() *narrowed {
	if f.via != nil || len(distinct(f.accepted)) < fewRows || len(distinct(f.refused)) < fewRows {
		return nil
	}
	least, most, ok := ends(f.accepted)
	low, high, other := ends(f.refused)
	switch {
	case !ok || !other || least.Type != low.Type:
		return nil
	case size(most) < size(low):
		return &narrowed{feature: f, to: &most, distinct: fewRows}
	case size(least) > size(high):
		return &narrowed{feature: f, from: &least, distinct: fewRows}
	}
	return nil
}

// ends are the least and the greatest of numbers or moments of one kind.
func ends(list []value.Value) (least, most value.Value, ok bool) {
	for i, v := range list {
		switch v.Type {
		case value.Integer, value.Decimal, value.Date, value.Timestamp:
		default:
			return least, most, false
		}
		if i == 0 {
			least, most = v, v
		}
		if v.Type != least.Type {
			return least, most, false
		}
		if size(v) < size(least) {
			least = v
		}
		if size(v) > size(most) {
			most = v
		}
	}
	return least, most, len(list) > 0
}

// size is a number or moment by which values of one column are compared. What float64 rounds away does not matter here.
func size(v value.Value) float64 { return float64(v.N) / math.Pow10(int(v.Scale)) }

// distinct are the different values of a list.
func distinct(list []value.Value) map[string]value.Value {
	out := map[string]value.Value{}
	for _, v := range list {
		key := v.String()
		if v.IsNull() {
			key = "\x00"
		}
		out[key] = v
	}
	return out
}

// condition is what a feature of a row must meet, as SQL.
func (n *narrowed) condition() string {
	name := quote(n.column.Name)
	switch {
	case n.from != nil && n.to != nil:
		return name + " BETWEEN " + literal(*n.from) + " AND " + literal(*n.to)
	case n.to != nil:
		return name + " <= " + literal(*n.to)
	case n.from != nil:
		return name + " >= " + literal(*n.from)
	}
	return name + " IN (" + literals(n.values) + ")"
}

// quote is a name in SQL.
func quote(name string) string { return `"` + strings.ReplaceAll(name, `"`, `""`) + `"` }

// literals are values in SQL.
func literals(list []value.Value) string {
	var out []string
	for _, v := range list {
		out = append(out, literal(v))
	}
	return strings.Join(out, ", ")
}

// literal is a value in SQL.
func literal(v value.Value) string {
	switch v.Type {
	case value.Integer, value.Decimal:
		return v.String()
	case value.Boolean:
		return fmt.Sprint(v.N != 0)
	}
	return "'" + strings.ReplaceAll(v.String(), "'", "''") + "'"
}
