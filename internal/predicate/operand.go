package predicate

import (
	"fmt"
	"math/big"
	"strconv"
	"strings"

	"evensprout/internal/value"
)

// kind is what a value is while it is computed.
type kind int

const (
	null kind = iota
	boolean
	numeric
	text
	moments // dates, times of day and moments, in microseconds
	span    // an interval of time, in microseconds
)

// operand is a value as it is computed with. It is exact: numbers are fractions. Of a boolean, num is 0 or 1.
type operand struct {
	kind kind
	num  *big.Rat // of numbers and booleans
	s    string   // of texts
	us   int64    // of moments and spans
	day  bool     // of moments: a date
}

var (
	zero, one = new(big.Rat), big.NewRat(1, 1)
	unknown   = operand{}
)

// truth is a truth as an operand.
func truth(b bool) operand {
	if b {
		return operand{kind: boolean, num: one}
	}
	return operand{kind: boolean, num: zero}
}

func whole(n int64) operand    { return operand{kind: numeric, num: new(big.Rat).SetInt64(n)} }
func rat(r *big.Rat) operand   { return operand{kind: numeric, num: r} }
func textual(s string) operand { return operand{kind: text, s: s} }

// of is a value as an operand.
func of(v value.Value) operand {
	switch v.Type {
	case value.Null:
		return unknown
	case value.Integer:
		return whole(v.N)
	case value.Decimal:
		r := new(big.Rat).SetInt64(v.N)
		if v.Scale > 0 {
			r.Quo(r, new(big.Rat).SetInt(new(big.Int).Exp(big.NewInt(10), big.NewInt(int64(v.Scale)), nil)))
		}
		return rat(r)
	case value.Boolean:
		return truth(v.N != 0)
	case value.Date:
		return operand{kind: moments, us: v.N * value.Day, day: true}
	case value.Time, value.Timestamp:
		return operand{kind: moments, us: v.N}
	case value.Bytes:
		return textual(v.S)
	}
	return textual(v.String())
}

// truthOf reads a value as a condition: 1 true, 0 false, -1 unknown.
func truthOf(v operand) (int, error) {
	switch v.kind {
	case null:
		return -1, nil
	case boolean, numeric:
		return v.num.Cmp(zero) * v.num.Cmp(zero), nil
	}
	return 0, fmt.Errorf("%s is neither true nor false", v.kind)
}

func (k kind) String() string {
	return [...]string{"NULL", "a boolean", "a number", "a text", "a moment", "a span of time"}[k]
}

// alike brings two values to one kind, as databases do with what is written in quotes.
func alike(a, b operand) (operand, operand, error) {
	switch {
	case a.kind == b.kind, a.kind == null, b.kind == null:
		return a, b, nil
	case a.kind == boolean && b.kind == numeric, a.kind == numeric && b.kind == boolean:
		return rat(a.num), rat(b.num), nil
	case a.kind == text:
		c, err := a.as(b.kind)
		return c, b, err
	case b.kind == text:
		c, err := b.as(a.kind)
		return a, c, err
	}
	return a, b, fmt.Errorf("%s does not compare with %s", a.kind, b.kind)
}

// parsed reads a text as another kind.
func (v operand) parsed(k kind) (operand, bool) {
	switch k {
	case numeric:
		n, ok := number(v.s)
		return of(n), ok
	case moments:
		m, ok := moment(v.s)
		return of(m), ok
	case boolean:
		switch strings.ToLower(v.s) {
		case "t", "true", "y", "yes", "on", "1":
			return truth(true), true
		case "f", "false", "n", "no", "off", "0":
			return truth(false), true
		}
	case span:
		if s, err := value.ParseSpan(v.s); err == nil && s.Months == 0 {
			return operand{kind: span, us: s.Micros}, true
		}
		us, ok := interval(v.s)
		return operand{kind: span, us: us}, ok
	}
	return unknown, false
}

// as reads a value as another kind.
func (v operand) as(k kind) (operand, error) {
	switch {
	case v.kind == k || v.kind == null:
		return v, nil
	case k == numeric && v.kind == boolean:
		return rat(v.num), nil
	case k == boolean && v.kind == numeric:
		return truth(v.num.Sign() != 0), nil
	case v.kind == text:
		if x, ok := v.parsed(k); ok {
			return x, nil
		}
	case k == text:
		return textual(v.shown()), nil
	}
	return unknown, fmt.Errorf("%s is not %s", v.shown(), k)
}

// shown is a value as text.
func (v operand) shown() string {
	switch v.kind {
	case null:
		return "NULL"
	case boolean:
		return fmt.Sprint(v.num.Sign() != 0)
	case numeric:
		if v.num.IsInt() {
			return v.num.Num().String()
		}
		for digits := 1; digits <= value.MaxScale; digits++ {
			s := v.num.FloatString(digits)
			if r, ok := new(big.Rat).SetString(s); ok && r.Cmp(v.num) == 0 {
				return s
			}
		}
		return v.num.FloatString(value.MaxScale)
	case moments:
		if v.day {
			return value.Value{Type: value.Date, N: v.us / value.Day}.String()
		}
		return value.Value{Type: value.Timestamp, N: v.us}.String()
	}
	return v.s
}

// compare orders two values of one kind: -1, 0, 1.
func compare(a, b operand) int {
	switch a.kind {
	case text:
		return strings.Compare(a.s, b.s)
	case moments, span:
		switch {
		case a.us < b.us:
			return -1
		case a.us > b.us:
			return 1
		}
		return 0
	}
	return a.num.Cmp(b.num)
}

// intervalUnits are the microseconds of the units in which servers write intervals. Months
// have no length of their own.
var intervalUnits = map[string]int64{
	"microsecond": 1, "us": 1, "millisecond": 1_000, "ms": 1_000, "second": 1_000_000, "sec": 1_000_000, "s": 1_000_000,
	"minute": 60_000_000, "min": 60_000_000, "hour": 3_600_000_000, "h": 3_600_000_000, "day": value.Day,
	"d": value.Day, "week": 7 * value.Day, "w": 7 * value.Day,
}

// interval reads how servers write intervals without months: 3 days 04:05:06.5, or a
// number of seconds.
func interval(s string) (int64, bool) {
	const mostWords, mostNumber = 8, 1_000_000 // so that the sum fits
	total := int64(0)
	words := strings.Fields(strings.ToLower(s))
	if len(words) > mostWords {
		return 0, false
	}
	for i := 0; i < len(words); i++ {
		word, sign := strings.TrimPrefix(words[i], "+"), int64(1)
		if rest, minus := strings.CutPrefix(word, "-"); minus {
			word, sign = rest, -1
		}
		if strings.Contains(word, ":") {
			t, err := value.ParseTime(word)
			if err != nil {
				return 0, false
			}
			total += sign * t.N
			continue
		}
		n, err := strconv.ParseInt(word, 10, 32)
		if err != nil || n > mostNumber {
			return 0, false
		}
		unit := intervalUnits["second"]
		if i+1 < len(words) {
			i++
			name := words[i]
			if len(name) > 2 {
				name = strings.TrimSuffix(name, "s")
			}
			if unit = intervalUnits[name]; unit == 0 {
				return 0, false
			}
		}
		total += sign * n * unit
	}
	return total, len(words) > 0
}
