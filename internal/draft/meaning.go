package draft

import (
	"fmt"

	"evensprout/internal/lexicon"
	"evensprout/internal/schema"
	"evensprout/internal/sources"
	"evensprout/internal/value"
)

// limits are what a column's type and conditions leave to its numbers, in units of the last digit.
type limits struct{ low, high int64 }

// limitsOf are the limits of a column.
func limitsOf(c *schema.Column, d *domain) limits {
	in := limits{-digitsMost(c), digitsMost(c)}
	if c.Kind == schema.Integer {
		in.low, in.high = typeRange(c)
	}
	scale := uint8(scaleOf(c))
	if low, ok := inUnits(d.Min, scale, true); ok {
		in.low = max(in.low, low)
	}
	if high, ok := inUnits(d.Max, scale, false); ok {
		in.high = min(in.high, high)
	}
	return in
}

// namedNumbers are sources that the name of a number suggests within limits, and how wide their range is.
func namedNumbers(table string, c *schema.Column, unit int64, in limits) (list []Source, wide int64) {
	n := lexicon.NumberOf(table, c.Name)
	if n == nil {
		return nil, 0
	}
	least := n.Lo * unit
	if n.Above {
		least++
	}
	lo, hi := max(n.Lo*unit, in.low), min(n.Hi*unit, in.high)
	if lo >= hi {
		return nil, 0
	}
	wide = hi - lo
	if n.Kind != "" && least >= in.low && n.Hi*unit <= in.high && fitsScale(n.Kind, c) {
		text := "{kind: " + n.Kind + "}"
		return []Source{sources.Countable(text, sources.SpaceOf(text))}, wide
	}
	if n.Above {
		lo = min(max(lo, unit), hi)
	}
	show := func(x int64) string {
		return value.Value{Type: value.Decimal, Scale: uint8(scaleOf(c)), N: x}.String()
	}
	shape := ""
	if n.Shape != "" && lo > 0 && hi > lo {
		shape = ", shape: " + n.Shape
	}
	text := fmt.Sprintf("{between: [%s, %s]%s}", show(lo), show(hi), shape)
	return []Source{sources.Countable(text, uint64(wide)+1)}, wide
}

// decimalKinds are the kinds of decimals, with their digits after the point.
var decimalKinds = map[string]int{"price": 2, "tax-rate": 2, "discount-percent": 2, "weight-kg": 2, "temperature-c": 1,
	"latitude": 5, "longitude": 5, "salary": 2}

// fitsScale reports whether a column holds the values of a kind of numbers.
func fitsScale(kind string, c *schema.Column) bool {
	digits, decimal := decimalKinds[kind]
	switch {
	case c.Kind == schema.Integer:
		return !decimal
	case c.Kind == schema.Decimal && c.Precision > 0:
		return decimal && c.Scale >= digits
	}
	return decimal
}
