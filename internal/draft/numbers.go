package draft

import (
	"fmt"
	"math"
	"slices"
	"strings"

	"evensprout/internal/predicate"
	"evensprout/internal/schema"
	"evensprout/internal/sources"
	"evensprout/internal/value"
)

// scaleOf is how many digits after the point the numbers of a column have.
func scaleOf(c *schema.Column) int {
	switch {
	case c.Kind == schema.Integer:
		return 0
	case c.Kind == schema.Decimal && c.Precision > 0:
		return min(max(c.Scale, 0), 6)
	}
	return 2
}

// usual is the range of a column that nothing is known of, in units of its last digit.
func usual(c *schema.Column, scale int) (lo, hi int64) {
	unit := value.Pow10(scale)
	digits := c.Precision - c.Scale
	switch {
	case c.Precision == 0 || digits >= 3:
		return unit, 100 * unit
	case digits > 0:
		return unit, (value.Pow10(digits) - 1) * unit
	case scale == 0:
		return 0, 0
	}
	return 1, unit - 1
}

// inUnits is a limit in units of the last digit, rounded into the range: up if it is the
// lower limit; false if there is none or it is no number.
func inUnits(l *predicate.Limit, scale uint8, up bool) (int64, bool) {
	if l == nil {
		return 0, false
	}
	v, ok := l.Value.Rescale(scale)
	if l.Value.Type == value.Text {
		if n, err := value.ParseDecimal(l.Value.S); err == nil {
			v, ok = n.Rescale(scale)
		}
	}
	if l.Value.Type == value.Decimal && !ok { // digits that the column does not have
		v = l.Value
		for v.Scale > scale {
			v.Scale, v.N = v.Scale-1, v.N/10
		}
		if up && v.N >= 0 {
			return v.N + 1, true
		}
		return v.N, true
	}
	n := v.N
	switch {
	case l.Open && up:
		n++
	case l.Open:
		n--
	}
	return n, ok
}

// digitsMost is the largest number that a decimal column has digits for, in units of the
// last of them.
func digitsMost(c *schema.Column) int64 {
	if c.Kind == schema.Decimal && c.Precision > 0 && c.Precision < 18 {
		return value.Pow10(c.Precision) - 1
	}
	return math.MaxInt64
}

// numbers are ranges of numbers within a column's type and conditions, after those that are meant in the first place.
func numbers(table string, c *schema.Column, d *domain, meant ...Source) []Source {
	scale := scaleOf(c)
	unit := value.Pow10(scale)
	least, most := typeRange(c)
	low, isLow := inUnits(d.Min, uint8(scale), true)
	high, isHigh := inUnits(d.Max, uint8(scale), false)
	lo, hi := usual(c, scale)
	switch {
	case isLow && isHigh:
		lo, hi = low, high
		if lo == 0 && hi > 1 && d.Min != nil && !d.Min.Open {
			lo = min(unit, hi)
		}
	case isLow:
		if lo = max(low, lo); low > hi || low == lo {
			hi = max(hi, lo+99*unit)
		}
		hi = min(hi, digitsMost(c))
	case isHigh:
		hi = min(hi, high)
		if lo > hi {
			lo = hi - 99*unit
		}
	}

	if c.Kind == schema.Integer {
		lo, hi = max(lo, least), min(hi, most)
	}
	show := func(lo, hi int64) Source {
		if hi < lo || hi-lo < 0 {
			return Source{}
		}
		a := value.Value{Type: value.Decimal, Scale: uint8(scale), N: lo}.String()
		b := value.Value{Type: value.Decimal, Scale: uint8(scale), N: hi}.String()
		return sources.Countable(fmt.Sprintf("{between: [%s, %s]}", a, b), uint64(hi)-uint64(lo)+1)
	}
	list := append(append(meant, namedFirst(table, c, d, unit)...), show(lo, hi))
	if isLow && low < lo {
		list = append(list, show(low, hi))
	}
	for _, n := range []int64{0, 1, -1} {
		if n >= least || c.Kind != schema.Integer {
			list = append(list, sources.Chosen(c, []value.Value{value.Int(n)}))
		}
	}
	return slices.DeleteFunc(list, func(s Source) bool { return s.Text == "" })
}

// namedFirst are the sources that a column's name and default suggest, unless its conditions know better.
func namedFirst(table string, c *schema.Column, d *domain, unit int64) []Source {
	in := limitsOf(c, d)
	named, wide := namedNumbers(table, c, unit, in)
	kind := named != nil && strings.HasPrefix(named[0].Text, "{kind")
	if d.Min != nil && d.Max != nil && (!kind || in.high-in.low > 2*wide) {
		return nil
	}
	if named == nil && d.Min == nil && d.Max == nil {
		return nearPreset(c)
	}
	return named
}

// typeRange is the least and the greatest whole number of a column's type.
func typeRange(c *schema.Column) (int64, int64) {
	const far = 1 << 62 // so that differences fit
	lo, hi := c.Range()
	return max(lo, -far), min(hi, far-1)
}

// listed are whole numbers that conditions let pass, one by one: of a unique column none
// can be drawn again.
func (t *Table) listed(c *schema.Column, d *domain) Source {
	const most, far = 500, 20_000
	lo, hi := typeRange(c)
	var list []value.Value
	for n := max(lo, 0); n <= min(hi, far) && uint64(len(list)) < min(most, t.wish()); n++ {
		if takes(c, d, value.Int(n)) {
			list = append(list, value.Int(n))
		}
	}
	if list == nil {
		return Source{Fixed: true}
	}
	return sources.Chosen(c, list)
}
