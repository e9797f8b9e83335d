package draft

import (
	"fmt"
	"slices"

	"evensprout/internal/predicate"
	"evensprout/internal/schema"
	"evensprout/internal/value"
)

func pow10(n int) int64 {
	p := int64(1)
	for range n {
		p *= 10
	}
	return p
}

// numbers are ranges of numbers within a column's type and conditions.
func numbers(c *schema.Column, d *domain) []Source {
	scale := 0
	if c.Kind != schema.Integer {
		if scale = 2; c.Kind == schema.Decimal && c.Precision > 0 {
			scale = max(c.Scale, 0)
		}
	}
	scale = min(scale, 6)
	whole := func(l *predicate.Limit, up bool) (int64, bool) {
		if l == nil {
			return 0, false
		}
		v, ok := l.Value.Rescale(uint8(scale))
		if l.Value.Type == value.Text {
			if n, err := value.ParseDecimal(l.Value.S); err == nil {
				v, ok = n.Rescale(uint8(scale))
			}
		}
		if l.Value.Type == value.Decimal && !ok { // digits that the column does not have
			v = l.Value
			for v.Scale > uint8(scale) {
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
	unit := pow10(scale)
	least, most := typeRange(c)
	top := int64(100)
	if digits := c.Precision - c.Scale; c.Precision > 0 && digits < 3 {
		top = pow10(max(digits, 0)) - 1
		if digits <= 0 {
			top = 0
		}
	}
	lo, hi := unit, top*unit
	if top == 0 {
		lo, hi = 1, unit-1
		if scale == 0 {
			lo, hi = 0, 0
		}
	}
	low, isLow := whole(d.Min, true)
	high, isHigh := whole(d.Max, false)
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
		if c.Kind == schema.Decimal && c.Precision > 0 && c.Precision < 18 {
			hi = min(hi, pow10(c.Precision)-1)
		}
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
		return countable(fmt.Sprintf("{between: [%s, %s]}", a, b), uint64(hi)-uint64(lo)+1)
	}
	var list []Source
	if a, b, ok := rangeOf(c.Name); ok && !isLow && !isHigh && b <= most &&
		(c.Kind == schema.Integer || c.Precision == 0 || b < pow10(max(c.Precision-c.Scale, 0))) {
		if c.Kind == schema.Integer {
			a = max(a, least)
		}
		list = append(list, show(a*unit, b*unit))
	}
	list = append(list, show(lo, hi))
	if isLow && low < lo {
		list = append(list, show(low, hi))
	}
	for _, n := range []int64{0, 1, -1} {
		if n*unit >= least || c.Kind != schema.Integer {
			list = append(list, chosen(c, []value.Value{value.Int(n)}))
		}
	}
	return slices.DeleteFunc(list, func(s Source) bool { return s.Text == "" })
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
	return chosen(c, list)
}
