package derive

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"math"
	"math/bits"
	"reflect"
	"strings"
	"time"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/decls"
	"cel.dev/cel-go/common/env"
	"cel.dev/cel-go/common/operators"
	"cel.dev/cel-go/common/stdlib"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/common/types/traits"

	"evensprout/internal/value"
)

var (
	decimalType = cel.OpaqueType("decimal")
	dateType    = cel.OpaqueType("date")
)

// decimal is an exact decimal number in an expression.
type decimal struct {
	n     int64
	scale uint8
}

func (d decimal) value() value.Value {
	return value.Value{Type: value.Decimal, N: d.n, Scale: d.scale}
}

func (d decimal) ConvertToNative(t reflect.Type) (any, error) { return d.value().String(), nil }
func (d decimal) ConvertToType(t ref.Type) ref.Val {
	if t == types.StringType {
		return types.String(d.value().String())
	}
	return types.NewErr("a decimal is no %s", t.TypeName())
}
func (d decimal) Equal(other ref.Val) ref.Val {
	o, ok := other.(decimal)
	return types.Bool(ok && d.compare(o) == 0)
}
func (d decimal) Type() ref.Type { return decimalType }
func (d decimal) Value() any     { return d.value().String() }

// compare is exact, whatever the scales.
func (d decimal) compare(o decimal) int {
	if a, b, ok := align(d, o); ok {
		return cmp.Compare(a, b)
	}
	// One of them has too many digits to align: then the whole parts differ.
	return cmp.Compare(d.n/pow10(d.scale), o.n/pow10(o.scale))
}

func pow10(n uint8) int64 {
	p := int64(1)
	for range n {
		p *= 10
	}
	return p
}

func align(a, b decimal) (int64, int64, bool) {
	scale := max(a.scale, b.scale)
	x, okX := a.value().Rescale(scale)
	y, okY := b.value().Rescale(scale)
	return x.N, y.N, okX && okY
}

var errDigits = types.NewErr("a decimal has more digits than fit (18)")

func (d decimal) plus(o decimal, sign int64) ref.Val {
	a, b, ok := align(d, o)
	if !ok || b == math.MinInt64 {
		return errDigits
	}
	b *= sign
	sum := a + b
	if (sum > a) != (b > 0) && b != 0 {
		return errDigits
	}
	return decimal{sum, max(d.scale, o.scale)}
}

func (d decimal) times(o decimal) ref.Val {
	if d.scale+o.scale > value.MaxScale || d.n == math.MinInt64 || o.n == math.MinInt64 {
		return errDigits
	}
	hi, lo := bits.Mul64(uint64(abs(d.n)), uint64(abs(o.n)))
	if hi != 0 || lo > math.MaxInt64 {
		return errDigits
	}
	n := int64(lo)
	if (d.n < 0) != (o.n < 0) {
		n = -n
	}
	return decimal{n, d.scale + o.scale}
}

func abs(n int64) int64 {
	if n < 0 {
		return -n
	}
	return n
}

// over divides to a number of digits after the point, rounding half to even.
func (d decimal) over(o decimal, scale int64) ref.Val {
	switch {
	case o.n == 0:
		return types.NewErr("division by zero")
	case scale < 0 || scale > value.MaxScale:
		return types.NewErr("div supports 0 to %d decimal places", value.MaxScale)
	case d.n == math.MinInt64 || o.n == math.MinInt64:
		return errDigits
	}

	// d.n * 10^(scale + o.scale - d.scale) / o.n
	shift := scale + int64(o.scale) - int64(d.scale)
	num, den := uint64(abs(d.n)), uint64(abs(o.n))
	q, ok := divide(num, den, shift)
	if !ok {
		return errDigits
	}
	n := int64(q)
	if (d.n < 0) != (o.n < 0) {
		n = -n
	}
	return decimal{n, uint8(scale)}
}

// divide returns num * 10^shift / den, rounded half to even; not ok if a step has no room in 64
// bits or the quotient none in an int64.
func divide(num, den uint64, shift int64) (q uint64, ok bool) {
	if shift > 18 || shift < -18 {
		return 0, false
	}
	hi := uint64(0)
	if shift >= 0 {
		hi, num = bits.Mul64(num, uint64(pow10(uint8(shift))))
	} else {
		over, low := bits.Mul64(den, uint64(pow10(uint8(-shift))))
		if over != 0 {
			return 0, false
		}
		den = low
	}
	if hi >= den {
		return 0, false
	}
	q, r := bits.Div64(hi, num, den)
	if r > den-r || r == den-r && q%2 == 1 {
		q++
	}
	return q, q <= math.MaxInt64
}

// date is a day, since 1970-01-01.
type date int64

func (d date) ConvertToNative(reflect.Type) (any, error) { return d.Value(), nil }
func (d date) ConvertToType(t ref.Type) ref.Val {
	if t == types.StringType {
		return types.String(d.Value().(string))
	}
	return types.NewErr("a date is no %s", t.TypeName())
}
func (d date) Equal(other ref.Val) ref.Val { o, ok := other.(date); return types.Bool(ok && d == o) }
func (d date) Type() ref.Type              { return dateType }
func (d date) Value() any                  { return value.Value{Type: value.Date, N: int64(d)}.String() }
func (d date) time() time.Time             { return time.Unix(int64(d)*86_400, 0).UTC() }

func dateOf(t time.Time) date {
	us := t.UnixMicro()
	days := us / value.Day
	if us%value.Day < 0 {
		days--
	}
	return date(days)
}

// number reads an operand as a decimal: a decimal, or an int.
func number(v ref.Val) decimal {
	if n, ok := v.(types.Int); ok {
		return decimal{n: int64(n)}
	}
	return v.(decimal)
}

// ours are the operators that get more meanings than standard CEL gives them: it has
// one function for all overloads of each, so that function is made anew.
var ours = []string{
	operators.Add, operators.Subtract, operators.Multiply, operators.Negate,
	operators.Less, operators.LessEquals, operators.Greater, operators.GreaterEquals,
}

// standard is standard CEL without our operators.
func standard() cel.EnvOption {
	var without []*env.Function
	for _, op := range ours {
		without = append(without, &env.Function{Name: op})
	}
	return cel.StdLib(cel.StdLibSubset(&env.LibrarySubset{ExcludeFunctions: without}))
}

// arithmetic is our operators: on decimals and dates by this package, on all else as
// standard CEL has it.
func arithmetic() []cel.EnvOption {
	known := map[string]*decls.FunctionDecl{}
	for _, f := range stdlib.Functions() {
		known[f.Name()] = f
	}
	pairs := map[string][2]*cel.Type{
		"decimal_decimal": {
			decimalType,
			decimalType,
		}, "decimal_int": {decimalType, cel.IntType}, "int_decimal": {cel.IntType, decimalType},
	}
	var options []cel.EnvOption
	for _, op := range ours {
		var overloads []cel.FunctionOpt
		for _, o := range known[op].OverloadDecls() {
			overloads = append(overloads, cel.Overload(o.ID(), o.ArgTypes(), o.ResultType()))
		}
		compares := op != operators.Add && op != operators.Subtract && op != operators.Multiply
		switch {
		case op == operators.Negate:
			overloads = append(
				overloads,
				cel.Overload("negate_decimal", []*cel.Type{decimalType}, decimalType),
				cel.SingletonUnaryBinding(negate),
			)
		default:
			for id, p := range pairs {
				out := decimalType
				if compares {
					out = cel.BoolType
				}
				overloads = append(overloads, cel.Overload(op+id, p[:], out))
			}
			if compares {
				overloads = append(overloads, cel.Overload(op+"date", []*cel.Type{dateType, dateType}, cel.BoolType))
			}
			overloads = append(
				overloads,
				cel.SingletonBinaryBinding(func(a, b ref.Val) ref.Val { return operate(op, a, b) }),
			)
		}
		options = append(options, cel.Function(op, overloads...))
	}
	return options
}

func negate(v ref.Val) ref.Val {
	if d, ok := v.(decimal); ok {
		return decimal{}.plus(d, -1)
	}
	if n, ok := v.(traits.Negater); ok {
		return n.Negate()
	}
	return types.MaybeNoSuchOverloadErr(v)
}

func operate(op string, a, b ref.Val) ref.Val {
	_, left := a.(decimal)
	_, right := b.(decimal)
	var order int
	switch {
	case left || right:
		x, y := number(a), number(b)
		switch op {
		case operators.Add:
			return x.plus(y, 1)
		case operators.Subtract:
			return x.plus(y, -1)
		case operators.Multiply:
			return x.times(y)
		}
		order = x.compare(y)
	case isDate(a):
		order = cmp.Compare(a.(date), b.(date))
	default:
		return operateBuiltIn(op, a, b)
	}
	return types.Bool(follows(op, order))
}

// operateBuiltIn computes an operator of values whose types CEL knows.
func operateBuiltIn(op string, a, b ref.Val) ref.Val {
	switch op {
	case operators.Add:
		if size(a)+size(b) > value.MaxBytes {
			return errTooLong
		}
		if x, ok := a.(traits.Adder); ok {
			return x.Add(b)
		}
	case operators.Subtract:
		if x, ok := a.(traits.Subtractor); ok {
			return x.Subtract(b)
		}
	case operators.Multiply:
		if x, ok := a.(traits.Multiplier); ok {
			return x.Multiply(b)
		}
	default:
		if x, ok := a.(traits.Comparer); ok {
			c := x.Compare(b)
			n, ok := c.(types.Int)
			if !ok {
				return c
			}
			return types.Bool(follows(op, int(n)))
		}
	}
	return types.MaybeNoSuchOverloadErr(a)
}

var errTooLong = types.NewErr("a text or list is longer than %d MiB", value.MaxBytes>>20)

// size is about how many bytes a text or list takes.
func size(v ref.Val) int {
	switch v := v.(type) {
	case types.String:
		return len(v)
	case types.Bytes:
		return len(v)
	case traits.Sizer:
		const item = 16
		n, _ := v.Size().(types.Int)
		return int(min(n, value.MaxBytes)) * item
	}
	return 0
}

func isDate(v ref.Val) bool { _, ok := v.(date); return ok }

// follows reports whether a comparison holds for an order below, at or above 0.
func follows(op string, order int) bool {
	switch op {
	case operators.Less:
		return order < 0
	case operators.LessEquals:
		return order <= 0
	case operators.Greater:
		return order > 0
	}
	return order >= 0
}

// library is what expressions know beside standard CEL.
func library() []cel.EnvOption {
	l := &declarations{options: arithmetic()}
	l.filters()
	l.texts()
	l.decimals()
	l.dates()
	return l.options
}

// declarations collects declarations of functions.
type declarations struct{ options []cel.EnvOption }

// unary declares a function of one argument, by its name and the id of the overload.
func (l *declarations) unary(name, id string, a, out *cel.Type, f func(ref.Val) ref.Val) {
	l.options = append(
		l.options,
		cel.Function(name, cel.Overload(id, []*cel.Type{a}, out, cel.UnaryBinding(f))),
	)
}

// binary declares a function of two arguments.
func (l *declarations) binary(name, id string, args [2]*cel.Type, out *cel.Type, f func(a, b ref.Val) ref.Val) {
	l.options = append(
		l.options,
		cel.Function(name, cel.Overload(id, args[:], out, cel.BinaryBinding(f))),
	)
}

// filters declares the filters of templates.
func (l *declarations) filters() {
	s := cel.StringType
	for _, name := range []string{"lower", "upper", "title", "slug", "ascii"} {
		filter, err := value.NewFilter(name)
		if err != nil {
			panic(err) // these filters are always there
		}
		l.options = append(l.options, cel.Function(
			name,
			cel.Overload(name+"_string", []*cel.Type{s}, s, cel.UnaryBinding(func(v ref.Val) ref.Val {
				return types.String(filter.Apply([]byte(v.(types.String)), 0))
			})),
		),
		)
	}
}

// texts declares what is computed of texts.
func (l *declarations) texts() {
	s, i := cel.StringType, cel.IntType
	l.unary("digits", "digits_string", s, s, func(v ref.Val) ref.Val {
		return types.String(strings.Map(func(r rune) rune {
			if r >= '0' && r <= '9' {
				return r
			}
			return -1
		}, string(v.(types.String))))
	})
	l.unary("hash", "hash_string", s, s, func(v ref.Val) ref.Val {
		sum := sha256.Sum256([]byte(v.(types.String)))
		return types.String(hex.EncodeToString(sum[:]))
	})
	cut := func(name string, of func(r []rune, n int) []rune) {
		l.binary(name, name+"_string_int", [2]*cel.Type{s, i}, s, func(a, b ref.Val) ref.Val {
			r, n := []rune(string(a.(types.String))), int64(b.(types.Int))
			if n < 0 {
				return types.NewErr("%s of %d characters", name, n)
			}
			return types.String(string(of(r, int(min(n, int64(len(r)))))))
		})
	}
	cut("left", func(r []rune, n int) []rune { return r[:n] })
	cut("right", func(r []rune, n int) []rune { return r[len(r)-n:] })
	l.binary("pad", "pad_string_int", [2]*cel.Type{s, i}, s, func(a, b ref.Val) ref.Val {
		text, n := string(a.(types.String)), int64(b.(types.Int))
		if n > 1000 {
			return types.NewErr("pad to %d characters: at most 1000", n)
		}
		return types.String(strings.Repeat("0", int(max(0, n-int64(len([]rune(text)))))) + text)
	})
	l.options = append(l.options, cel.Function(
		"replace",
		cel.Overload("replace_string", []*cel.Type{s, s, s}, s, cel.FunctionBinding(func(v ...ref.Val) ref.Val {
			old := string(v[1].(types.String))
			if old == "" {
				return types.NewErr("replace needs a text to replace")
			}
			text, by := string(v[0].(types.String)), string(v[2].(types.String))
			if n := strings.Count(text, old); n > 0 && len(by) > (value.MaxBytes-len(text))/n {
				return errTooLong
			}
			return types.String(strings.ReplaceAll(text, old, by))
		})),
	))
}

// decimals declares what is computed of decimals.
func (l *declarations) decimals() {
	s, i := cel.StringType, cel.IntType
	pairs := [][2]*cel.Type{{decimalType, decimalType}, {decimalType, i}, {i, decimalType}}
	names := []string{"decimal_decimal", "decimal_int", "int_decimal"}
	for k, p := range pairs {
		l.options = append(l.options, cel.Function(
			"div",
			cel.Overload(
				"div_"+names[k],
				[]*cel.Type{p[0], p[1], i},
				decimalType,
				cel.FunctionBinding(func(v ...ref.Val) ref.Val {
					return number(v[0]).over(number(v[1]), int64(v[2].(types.Int)))
				}),
			),
		),
		)
	}

	l.options = append(l.options, cel.Function(
		"div",
		cel.Overload(
			"div_int_int",
			[]*cel.Type{i, i, i},
			decimalType,
			cel.FunctionBinding(func(v ...ref.Val) ref.Val {
				return number(v[0]).over(number(v[1]), int64(v[2].(types.Int)))
			}),
		),
	),
	)
	l.binary("round", "round_decimal_int", [2]*cel.Type{decimalType, i},
		decimalType,
		func(a, b ref.Val) ref.Val { return a.(decimal).over(decimal{n: 1}, int64(b.(types.Int))) },
	)
	l.unary("decimal", "decimal_int", i, decimalType, func(v ref.Val) ref.Val { return number(v) })
	l.unary("decimal", "decimal_string", s, decimalType, func(v ref.Val) ref.Val {
		d, err := value.ParseDecimal(string(v.(types.String)))
		if err != nil {
			return types.WrapErr(err)
		}
		if d.Type == value.Integer {
			return decimal{n: d.N}
		}
		return decimal{d.N, d.Scale}
	})
	l.unary(
		"string",
		"string_decimal",
		decimalType,
		s,
		func(v ref.Val) ref.Val { return types.String(v.(decimal).value().String()) },
	)
	l.unary("int", "int_decimal", decimalType, i, func(v ref.Val) ref.Val {
		d := v.(decimal)
		return types.Int(d.n / pow10(d.scale))
	})
}

// dates declares what is computed of dates and moments.
func (l *declarations) dates() {
	s, i := cel.StringType, cel.IntType
	l.unary("date", "date_string", s, dateType, func(v ref.Val) ref.Val {
		d, err := value.ParseDate(string(v.(types.String)))
		if err != nil {
			return types.WrapErr(err)
		}
		return date(d.N)
	})
	l.unary(
		"date",
		"date_timestamp",
		cel.TimestampType,
		dateType,
		func(v ref.Val) ref.Val { return dateOf(v.(types.Timestamp).Time) },
	)
	l.unary(
		"string",
		"string_date",
		dateType,
		s,
		func(v ref.Val) ref.Val { return types.String(v.(date).Value().(string)) },
	)
	l.unary(
		"timestamp",
		"timestamp_date",
		dateType,
		cel.TimestampType,
		func(v ref.Val) ref.Val { return types.Timestamp{Time: v.(date).time()} },
	)
	for name, part := range map[string]func(time.Time) int64{
		"year":    func(t time.Time) int64 { return int64(t.Year()) },
		"month":   func(t time.Time) int64 { return int64(t.Month()) },
		"day":     func(t time.Time) int64 { return int64(t.Day()) },
		"weekday": func(t time.Time) int64 { return (int64(t.Weekday())+6)%7 + 1 }, // ISO 8601: Monday is 1
	} {
		l.unary(name, name+"_date", dateType, i, func(v ref.Val) ref.Val { return types.Int(part(v.(date).time())) })
		l.unary(
			name,
			name+"_timestamp",
			cel.TimestampType,
			i,
			func(v ref.Val) ref.Val { return types.Int(part(v.(types.Timestamp).UTC())) },
		)
	}

	const most = 4_000_000 // days: more than lie between the years 1 and 9999
	tooFar := types.NewErr("the date is not in the years 1 to 9999")
	l.binary("addDays", "add_days_date", [2]*cel.Type{dateType, i}, dateType, func(a, b ref.Val) ref.Val {
		n := int64(b.(types.Int))
		if n > most || n < -most {
			return tooFar
		}
		v := value.Value{Type: value.Date, N: int64(a.(date)) + n}
		if value.InCalendar(&v) != nil {
			return tooFar
		}
		return date(v.N)
	})
	l.binary(
		"addDays",
		"add_days_timestamp",
		[2]*cel.Type{cel.TimestampType, i},
		cel.TimestampType,
		func(a, b ref.Val) ref.Val {
			n := int64(b.(types.Int))
			if n > most || n < -most {
				return tooFar
			}
			t := a.(types.Timestamp).UTC().AddDate(0, 0, int(n)) // a duration has no more than 292 years
			v := value.Value{Type: value.Timestamp, N: t.UnixMicro()}
			if value.InCalendar(&v) != nil {
				return tooFar
			}
			return types.Timestamp{Time: t}
		},
	)
	l.binary("daysBetween", "days_between_date", [2]*cel.Type{dateType, dateType},
		i,
		func(a, b ref.Val) ref.Val { return types.Int(int64(b.(date)) - int64(a.(date))) },
	)
	l.binary("daysBetween", "days_between_timestamp", [2]*cel.Type{cel.TimestampType, cel.TimestampType},
		i,
		func(a, b ref.Val) ref.Val {
			return types.Int((b.(types.Timestamp).UnixMicro() - a.(types.Timestamp).UnixMicro()) / value.Day)
		},
	)
}
