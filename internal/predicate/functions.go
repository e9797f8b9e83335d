package predicate

import (
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"math/big"
	"path"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"evensprout/internal/value"
)

// function computes a function of SQL over operands that are not NULL, unless its arity says
// otherwise.
type function func([]operand) (operand, error)

// arity is a function, and how many arguments it takes; most below 0 means any number.
type arity struct {
	least, most int
	nulls       bool // it looks at NULLs itself; of others, one NULL makes the result NULL
	run         function
}

// onText makes a function of one text.
func onText(f func(string) operand) function {
	return func(a []operand) (operand, error) {
		v, err := a[0].as(text)
		if err != nil {
			return unknown, err
		}
		return f(v.s), nil
	}
}

// onNumber makes a function of one number.
func onNumber(f func(*big.Rat) *big.Rat) function {
	return func(a []operand) (operand, error) {
		v, err := a[0].as(numeric)
		if err != nil {
			return unknown, err
		}
		return rat(f(v.num)), nil
	}
}

// trimmed makes a function that cuts characters off a text; blanks if no set is given.
func trimmed(cut func(s, set string) string) function {
	return func(a []operand) (operand, error) {
		v, err := a[0].as(text)
		set := " "
		if len(a) > 1 {
			set = a[1].shown()
		}
		return textual(cut(v.s, set)), err
	}
}

// end cuts so many characters of an end of a text; below 0, all but so many.
func end(cut func(r []rune, n int) []rune) function {
	return func(a []operand) (operand, error) {
		n, err := integers(a, 1)
		if err != nil {
			return unknown, err
		}
		r := []rune(a[0].shown())
		if n[0] < 0 {
			n[0] = max(len(r)+n[0], 0)
		}
		return textual(string(cut(r, min(n[0], len(r))))), nil
	}
}

// integers reads the operands from one on as integers.
func integers(a []operand, from int) ([]int, error) {
	out := make([]int, len(a)-from)
	for i, v := range a[from:] {
		n, err := v.as(numeric)
		if err != nil {
			return nil, err
		}
		if !n.num.IsInt() || !n.num.Num().IsInt64() {
			return nil, fmt.Errorf("%s is not a whole number", n.shown())
		}
		out[i] = int(n.num.Num().Int64())
	}
	return out, nil
}

// functions are those that all our engines compute alike, under any of their names.
var functions = library()

// library is the functions of SQL that can be computed here, by name.
func library() map[string]arity {
	all := map[string]arity{}
	set := func(names string, a arity) {
		for _, n := range strings.Fields(names) {
			all[n] = a
		}
	}
	characters := onText(func(s string) operand { return whole(int64(utf8.RuneCountInString(s))) })
	set("length char_length character_length", arity{1, 1, false, characters})
	set("octet_length", arity{1, 1, false, onText(func(s string) operand { return whole(int64(len(s))) })})
	set("lower lcase", arity{1, 1, false, onText(func(s string) operand { return textual(strings.ToLower(s)) })})
	set("upper ucase", arity{1, 1, false, onText(func(s string) operand { return textual(strings.ToUpper(s)) })})
	set("trim btrim", arity{1, 2, false, trimmed(strings.Trim)})
	set("ltrim", arity{1, 2, false, trimmed(strings.TrimLeft)})
	set("rtrim", arity{1, 2, false, trimmed(strings.TrimRight)})
	set("abs", arity{1, 1, false, onNumber(func(r *big.Rat) *big.Rat { return new(big.Rat).Abs(r) })})
	set("floor", arity{1, 1, false, onNumber(floor)})
	set(
		"ceil ceiling",
		arity{1, 1, false, onNumber(func(r *big.Rat) *big.Rat { return new(big.Rat).Neg(floor(new(big.Rat).Neg(r))) })},
	)
	set(
		"sign",
		arity{1, 1, false, onNumber(func(r *big.Rat) *big.Rat { return new(big.Rat).SetInt64(int64(r.Sign())) })},
	)
	set("round", arity{1, 2, false, func(a []operand) (operand, error) { return digits(a, rounded) }})
	set("trunc truncate", arity{1, 2, false, func(a []operand) (operand, error) {
		return digits(a, func(r *big.Rat, n int) *big.Rat {
			ten := new(big.Rat).SetInt(new(big.Int).Exp(big.NewInt(10), big.NewInt(int64(n)), nil))
			x := truncated(new(big.Rat).Mul(r, ten))
			return x.Quo(x, ten)
		})
	}})
	set("mod", arity{2, 2, false, func(a []operand) (operand, error) {
		x, errX := a[0].as(numeric)
		y, errY := a[1].as(numeric)
		if err := errors.Join(errX, errY); err != nil {
			return unknown, err
		}
		return modulo(x.num, y.num)
	}})
	set("nullif", arity{2, 2, true, func(a []operand) (operand, error) {
		x, y, err := alike(a[0], a[1])
		if err == nil && x.kind != null && y.kind != null && compare(x, y) == 0 {
			return unknown, nil
		}
		return a[0], err
	}})
	set("if iif", arity{3, 3, true, func(a []operand) (operand, error) {
		t, err := truthOf(a[0])
		if t == 1 {
			return a[1], err
		}
		return a[2], err
	}})
	set("isnull", arity{1, 1, true, func(a []operand) (operand, error) { return truth(a[0].kind == null), nil }})
	set(
		"coalesce ifnull nvl",
		arity{1, -1, true, func(a []operand) (operand, error) { return a[0], nil }},
	) // eval does it
	set("num_nulls", arity{1, -1, true, func(a []operand) (operand, error) { return whole(int64(nulls(a))), nil }})
	set(
		"num_nonnulls",
		arity{1, -1, true, func(a []operand) (operand, error) { return whole(int64(len(a) - nulls(a))), nil }},
	)
	set("greatest max", arity{1, -1, true, extreme(1)})
	set("least min", arity{1, -1, true, extreme(-1)})
	set("concat", arity{1, -1, true, func(a []operand) (operand, error) {
		var b strings.Builder
		for _, v := range a {
			if v.kind != null {
				b.WriteString(v.shown())
			}
		}
		return textual(b.String()), nil
	}})
	set("substr substring mid", arity{2, 3, false, substring})
	set("left", arity{2, 2, false, end(func(r []rune, n int) []rune { return r[:n] })})
	set("right", arity{2, 2, false, end(func(r []rune, n int) []rune { return r[len(r)-n:] })})
	place := func(of, part int) function {
		return func(a []operand) (operand, error) {
			s, p := a[of].shown(), a[part].shown()
			i := strings.Index(s, p)
			if i >= 0 {
				i = utf8.RuneCountInString(s[:i])
			}
			return whole(int64(i + 1)), nil
		}
	}
	set("strpos instr", arity{2, 2, false, place(0, 1)})
	set("position locate", arity{2, 2, false, place(1, 0)})
	set("starts_with", arity{2, 2, false, func(a []operand) (operand, error) {
		return truth(strings.HasPrefix(a[0].shown(), a[1].shown())), nil
	}})
	set("replace", arity{3, 3, false, func(a []operand) (operand, error) {
		return textual(strings.ReplaceAll(a[0].shown(), a[1].shown(), a[2].shown())), nil
	}})
	set("reverse", arity{1, 1, false, onText(func(s string) operand {
		r := []rune(s)
		slices.Reverse(r)
		return textual(string(r))
	})})
	set(
		"hex",
		arity{
			1,
			1,
			false,
			onText(func(s string) operand { return textual(strings.ToUpper(hex.EncodeToString([]byte(s)))) }),
		},
	)
	set("ascii", arity{1, 1, false, onText(func(s string) operand {
		r, _ := utf8.DecodeRuneInString(s)
		if s == "" {
			r = 0
		}
		return whole(int64(r))
	})})
	set("glob", arity{2, 2, false, func(a []operand) (operand, error) {
		// No / has a meaning of its own here, so it is taken away on both sides.
		strip := func(s string) string { return strings.ReplaceAll(s, "/", "\x01") }
		ok, err := path.Match(strip(a[0].shown()), strip(a[1].shown()))
		return truth(ok), err
	}})
	set("json_valid", arity{1, 1, false, onText(func(s string) operand { return truth(json.Valid([]byte(s))) })})
	set("date", arity{1, 1, false, func(a []operand) (operand, error) { return castTo(a[0], "date") }})
	set("to_days", arity{1, 1, false, func(a []operand) (operand, error) {
		v, err := castTo(a[0], "date")
		const yearZero = 719_528 // days from the year 0 to 1970-01-01
		return whole(v.us/value.Day + yearZero), err
	}})
	set("unix_timestamp", arity{1, 1, false, func(a []operand) (operand, error) {
		v, err := a[0].as(moments)
		return whole(v.us / value.Second), err
	}})
	set("to_timestamp", arity{1, 1, false, func(a []operand) (operand, error) {
		v, err := a[0].as(numeric)
		if err != nil {
			return unknown, err
		}
		us := truncated(new(big.Rat).Mul(v.num, big.NewRat(value.Second, 1)))
		return operand{kind: moments, us: us.Num().Int64()}, nil
	}})
	set("date_part", arity{2, 2, false, func(a []operand) (operand, error) { return datePart(a[0].shown(), a[1]) }})
	for _, part := range []string{"year", "month", "day", "hour", "minute", "second", "dayofmonth", "quarter"} {
		set(part, arity{1, 1, false, func(a []operand) (operand, error) { return datePart(part, a[0]) }})
	}

	// What is no number stands behind or before all of them, as one engine orders them.
	far := new(big.Rat).SetInt(new(big.Int).Exp(big.NewInt(10), big.NewInt(400), nil))
	for name, r := range map[string]*big.Rat{"nan": new(big.Rat).Add(far, one), "infinity": far,
		"-infinity": new(big.Rat).Neg(far)} {
		set(name, arity{0, 0, false, func([]operand) (operand, error) { return rat(r), nil }})
	}
	set("isfinite", arity{1, 1, false, func([]operand) (operand, error) { return truth(true), nil }})
	return all
}

// floor is the greatest integer that is not above r.
func floor(r *big.Rat) *big.Rat {
	q := truncated(r)
	if r.Sign() < 0 && !r.IsInt() {
		q.Sub(q, one)
	}
	return q
}

// digits computes a rounding function: of a number, and of digits behind the point.
func digits(a []operand, f func(*big.Rat, int) *big.Rat) (operand, error) {
	v, err := a[0].as(numeric)
	n := []int{0}
	if err == nil && len(a) > 1 {
		n, err = integers(a, 1)
	}
	if err != nil {
		return unknown, err
	}
	if n[0] < 0 || n[0] > value.MaxScale {
		return unknown, errors.New("too many digits to round")
	}
	return rat(f(v.num, n[0])), nil
}

// nulls counts the operands that are NULL.
func nulls(a []operand) int {
	n := 0
	for _, v := range a {
		if v.kind == null {
			n++
		}
	}
	return n
}

// extreme leaves out NULLs, as one engine does; with the others a NULL makes the
// condition unknown, which passes as well.
func extreme(sign int) function {
	return func(a []operand) (operand, error) {
		out := unknown
		for _, v := range a {
			if v.kind == null {
				continue
			}
			if out.kind == null {
				out = v
				continue
			}
			x, y, err := alike(v, out)
			if err != nil {
				return unknown, err
			}
			if compare(x, y) == sign {
				out = v
			}
		}
		return out, nil
	}
}

// substring counts characters from 1, as SQL does; a start before the text shortens the result.
func substring(a []operand) (operand, error) {
	n, err := integers(a, 1)
	if err != nil {
		return unknown, err
	}
	r := []rune(a[0].shown())
	from := n[0] - 1
	switch {
	case n[0] < 0: // from the end
		from = max(len(r)+n[0], 0)
	case n[0] == 0:
		from = 0
	}
	to := len(r)
	if len(n) > 1 {
		to = min(from+max(n[1], 0), len(r))
	}
	if from >= to {
		return textual(""), nil
	}
	return textual(string(r[from:to])), nil
}

// datePart computes EXTRACT.
func datePart(part string, v operand) (operand, error) {
	m, err := v.as(moments)
	if err != nil {
		return unknown, err
	}
	days := m.us / value.Day
	rest := m.us % value.Day
	if rest < 0 {
		days, rest = days-1, rest+value.Day
	}
	year, month, day := value.Civil(days)
	switch strings.TrimRightFunc(strings.ToLower(part), unicode.IsSpace) {
	case "year":
		return whole(year), nil
	case "month":
		return whole(int64(month)), nil
	case "quarter":
		return whole(int64(month+2) / 3), nil
	case "day", "dayofmonth":
		return whole(int64(day)), nil
	case "hour":
		return whole(rest / (value.Hour)), nil
	case "minute":
		return whole(rest / value.Minute % 60), nil
	case "second":
		return rat(big.NewRat(rest%value.Minute, value.Second)), nil
	case "dow":
		return whole((days%7 + 11) % 7), nil
	case "isodow":
		return whole((days%7+10)%7 + 1), nil
	case "epoch":
		return rat(big.NewRat(m.us, value.Second)), nil
	}
	return unknown, fmt.Errorf("the part %s of a moment is not known", part)
}
