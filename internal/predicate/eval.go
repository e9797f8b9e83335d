package predicate

import (
	"errors"
	"fmt"
	"math/big"
	"regexp"
	"slices"
	"strings"

	"evensprout/internal/value"
)

// Condition is an expression that can be computed over values.
type Condition struct {
	Columns []string // whose values it takes, in this order
	root    *step
}

// Unsupported tells what in an expression cannot be computed here.
type Unsupported struct{ What string }

func (e *Unsupported) Error() string { return e.What + " cannot be computed by this program" }

// step is a node made ready.
type step struct {
	*Node
	column int // of Column
	args   []*step
	fixed  operand        // of Literal
	re     *regexp.Regexp // of Matches and Like with a fixed pattern
	run    function       // of Call
}

// Compile makes an expression ready. An error is an *Unsupported.
func Compile(n *Node) (*Condition, error) {
	c := &Condition{Columns: n.Columns()}
	root, err := c.prepare(n)
	if err != nil {
		return nil, err
	}
	c.root = root
	return c, nil
}

// String writes the condition in standard SQL.
func (c *Condition) String() string { return c.root.Node.String() }

// prepare checks that an operator can be computed here, and finds its columns.
func (c *Condition) prepare(n *Node) (*step, error) {
	s := &step{Node: n}
	args := n.Args
	if n.Op == In {
		args = append([]*Node{n.Args[0]}, n.Args[1].Args...)
	}
	for _, a := range args {
		x, err := c.prepare(a)
		if err != nil {
			return nil, err
		}
		s.args = append(s.args, x)
	}

	switch n.Op {
	case Column:
		for i, name := range c.Columns {
			if strings.EqualFold(name, n.Name) {
				s.column = i
			}
		}
	case Literal:
		s.fixed = of(n.Value)
	case Call:
		if n.Schema != "" { // it may do something else than the built-in one of its name
			return nil, &Unsupported{fmt.Sprintf("the function %s.%s", n.Schema, n.Name)}
		}
		s.run = functions[n.Name].run
		if a := functions[n.Name]; a.run == nil || len(n.Args) < a.least || a.most >= 0 && len(n.Args) > a.most {
			return nil, &Unsupported{fmt.Sprintf("the function %s", n.Name)}
		}
	case List:
		return nil, &Unsupported{"an array"}
	case Other:
		return nil, &Unsupported{fmt.Sprintf("the operator %s", n.Name)}
	case Cast:
		if castKinds[n.Name] == null && n.Name != "binary" {
			return nil, &Unsupported{"a cast to " + n.Name}
		}
	case Matches, Like:
		re, err := pattern(n)
		if err != nil {
			return nil, err
		}
		s.re = re
	}
	return s, nil
}

// pattern compiles the pattern of LIKE, or a regular expression.
func pattern(n *Node) (*regexp.Regexp, error) {
	p := n.Args[1]
	if p.Op != Literal || p.Value.Type != value.Text {
		return nil, &Unsupported{"a pattern that is not a fixed text"}
	}
	expr := p.Value.S
	if n.Op == Like {
		escape := '\\'
		if len(n.Args) > 2 {
			escape = 0
			for _, r := range n.Args[2].Value.S {
				escape = r
			}
		}
		expr = likePattern(expr, escape)
	}
	if n.Fold {
		expr = "(?i)" + expr
	}
	re, err := regexp.Compile(expr)
	if err != nil {
		return nil, &Unsupported{fmt.Sprintf("the regular expression %s", p.Value.S)}
	}
	return re, nil
}

// likePattern is a LIKE pattern as a regular expression.
func likePattern(like string, escape rune) string {
	var b strings.Builder
	b.WriteString("(?s)^")
	away := false
	for _, r := range like {
		switch {
		case away:
			b.WriteString(regexp.QuoteMeta(string(r)))
			away = false
		case r == escape:
			away = true
		case r == '%':
			b.WriteString(".*")
		case r == '_':
			b.WriteString(".")
		default:
			b.WriteString(regexp.QuoteMeta(string(r)))
		}
	}
	b.WriteString("$")
	return b.String()
}

// Holds reports whether a CHECK constraint would let the values pass: the condition is
// true, or unknown. Values that it cannot be computed over, do not pass.
func (c *Condition) Holds(values []value.Value) bool {
	t, err := c.Truth(values)
	return err == nil && t != 0
}

// Truth is 1 where the condition is true, 0 where it is false, -1 where it is unknown.
func (c *Condition) Truth(values []value.Value) (int, error) {
	v, err := c.root.eval(values)
	if err != nil {
		return 0, err
	}
	return truthOf(v)
}

var errZero = errors.New("division by zero")

// eval computes a node over a row.
func (s *step) eval(row []value.Value) (operand, error) {
	switch s.Op {
	case Column:
		return of(row[s.column]), nil
	case Literal:
		return s.fixed, nil
	case And, Or:
		return s.logic(row)
	case Case:
		return s.cases(row)
	case In:
		return s.in(row)
	case Call:
		if s.Name == "coalesce" || s.Name == "ifnull" || s.Name == "nvl" {
			return s.first(row)
		}
	}

	args := make([]operand, len(s.args))
	for i, a := range s.args {
		v, err := a.eval(row)
		if err != nil {
			return unknown, err
		}
		args[i] = v
	}
	return s.apply(args)
}

// cases is the result of the first condition of CASE that is true.
func (s *step) cases(row []value.Value) (operand, error) {
	for i := 0; i+1 < len(s.args); i += 2 {
		t, err := s.args[i].truth(row)
		if err != nil {
			return unknown, err
		}
		if t == 1 {
			return s.args[i+1].eval(row)
		}
	}
	if len(s.args)%2 == 1 {
		return s.args[len(s.args)-1].eval(row)
	}
	return unknown, nil
}

// first is the first argument that is not NULL; those behind it are not computed.
func (s *step) first(row []value.Value) (operand, error) {
	for _, a := range s.args {
		if v, err := a.eval(row); err != nil || v.kind != null {
			return v, err
		}
	}
	return unknown, nil
}

// apply computes an operator that takes NULL as a value, and leaves the others to known.
func (s *step) apply(args []operand) (operand, error) {
	switch s.Op {
	case Not:
		t, err := truthOf(args[0])
		if err != nil || t < 0 {
			return unknown, err
		}
		return truth(t == 0), nil
	case IsNull:
		return truth(args[0].kind == null), nil
	case IsTrue, IsFalse:
		t, err := truthOf(args[0])
		return truth(t == 1 && s.Op == IsTrue || t == 0 && s.Op == IsFalse), err
	case Same, Unlike:
		if args[0].kind == null || args[1].kind == null {
			return truth((args[0].kind == args[1].kind) == (s.Op == Same)), nil
		}
		a, b, err := alike(args[0], args[1])
		if err != nil {
			return unknown, err
		}
		return truth((compare(a, b) == 0) == (s.Op == Same)), nil
	}

	takesNull := s.Op == Call && functions[s.Name].nulls
	if !takesNull && slices.ContainsFunc(args, func(a operand) bool { return a.kind == null }) {
		return unknown, nil
	}
	if s.Op == Call {
		return s.run(args)
	}
	return s.known(args)
}

// known computes an operator of operands none of which is NULL.
func (s *step) known(args []operand) (operand, error) {
	switch s.Op {
	case Equal, Differs, Less, AtMost, More, AtLeast:
		a, b, err := alike(args[0], args[1])
		if err != nil {
			return unknown, err
		}
		return truth(s.Op.accepts(compare(a, b))), nil
	case Like, Matches:
		v, err := args[0].as(text)
		if err != nil {
			return unknown, err
		}
		return truth(s.re.MatchString(v.s)), nil
	case Cast:
		return castTo(args[0], s.Name)
	case Negate:
		v, err := args[0].as(numeric)
		if err != nil {
			return unknown, err
		}
		return rat(new(big.Rat).Neg(v.num)), nil
	case Join:
		a, errA := args[0].as(text)
		b, errB := args[1].as(text)
		return textual(a.s + b.s), errors.Join(errA, errB)
	}
	return s.arithmetic(args[0], args[1])
}

// accepts reports whether a comparison holds for two operands of this order: -1, 0 or 1.
func (op Op) accepts(order int) bool {
	switch op {
	case Equal:
		return order == 0
	case Differs:
		return order != 0
	case Less:
		return order < 0
	case AtMost:
		return order <= 0
	case More:
		return order > 0
	}
	return order >= 0
}

// truth computes a node as a truth: 1, 0, or -1 for unknown.
func (s *step) truth(row []value.Value) (int, error) {
	v, err := s.eval(row)
	if err != nil {
		return 0, err
	}
	return truthOf(v)
}

// logic is AND and OR with three values. A part that cannot be computed does not count
// where another part decides.
func (s *step) logic(row []value.Value) (operand, error) {
	decides := 0
	if s.Op == Or {
		decides = 1
	}
	out := truth(decides == 0)
	var fault error
	for _, a := range s.args {
		t, err := a.truth(row)
		switch {
		case err != nil:
			fault = err
		case t == decides:
			return truth(decides == 1), nil
		case t < 0:
			out = unknown
		}
	}
	return out, fault
}

// in computes IN: unknown if nothing is equal and a member is NULL.
func (s *step) in(row []value.Value) (operand, error) {
	v, err := s.args[0].eval(row)
	if err != nil || v.kind == null {
		return unknown, err
	}
	out := truth(false)
	for _, item := range s.args[1:] {
		w, err := item.eval(row)
		if err != nil {
			return unknown, err
		}
		if w.kind == null {
			out = unknown
			continue
		}
		if a, b, err := alike(v, w); err == nil && compare(a, b) == 0 {
			return truth(true), nil
		}
	}
	return out, nil
}

// move adds and subtracts moments, dates and spans; false if a and b are something else.
func (s *step) move(a, b operand) (operand, bool) {
	sign := int64(1)
	switch s.Op {
	case Add:
	case Subtract:
		sign = -1
	default:
		return unknown, false
	}
	switch {
	case a.kind == moments && b.kind == moments && s.Op == Subtract:
		if a.day && b.day {
			return whole((a.us - b.us) / value.Day), true
		}
		return operand{kind: span, us: a.us - b.us}, true
	case a.kind == moments && a.day && b.kind == numeric && b.num.IsInt():
		return operand{kind: moments, us: a.us + sign*b.num.Num().Int64()*value.Day, day: true}, true
	case b.kind == span && (a.kind == moments || a.kind == span):
		return operand{kind: a.kind, us: a.us + sign*b.us}, true
	}
	return unknown, false
}

// arithmetic computes exactly, in rational numbers.
func (s *step) arithmetic(a, b operand) (operand, error) {
	if moved, ok := s.move(a, b); ok {
		return moved, nil
	}
	x, errX := a.as(numeric)
	y, errY := b.as(numeric)
	if err := errors.Join(errX, errY); err != nil {
		return unknown, err
	}
	z := new(big.Rat)
	switch s.Op {
	case Add:
		return rat(z.Add(x.num, y.num)), nil
	case Subtract:
		return rat(z.Sub(x.num, y.num)), nil
	case Multiply:
		return rat(z.Mul(x.num, y.num)), nil
	case Divide:
		if y.num.Sign() == 0 {
			return unknown, errZero
		}
		z.Quo(x.num, y.num)
		if s.divides(s.args[0]) && s.divides(s.args[1]) && x.num.IsInt() && y.num.IsInt() {
			return rat(truncated(z)), nil
		}
		return rat(z), nil
	case Modulo:
		return modulo(x.num, y.num)
	}
	return unknown, fmt.Errorf("%s cannot be computed", s.Op)
}

// divides reports whether a part looks like a whole number, whose division leaves out the
// rest on two of our engines. The third keeps it: where that matters, the database says.
func (s *step) divides(of *step) bool {
	return of.Op == Column || of.Op == Literal && of.Value.Type == value.Integer
}

// modulo is the remainder with the sign of x, as in SQL.
func modulo(x, y *big.Rat) (operand, error) {
	if y.Sign() == 0 {
		return unknown, errZero
	}
	q := truncated(new(big.Rat).Quo(x, y))
	return rat(new(big.Rat).Sub(x, q.Mul(q, y))), nil
}

// truncated is a number without its fraction.
func truncated(r *big.Rat) *big.Rat {
	return new(big.Rat).SetInt(new(big.Int).Quo(r.Num(), r.Denom()))
}

// castKinds are the kinds of operand that types in SQL convert to.
var castKinds = map[string]kind{
	"text": text, "character": text, "varchar": text, "bpchar": text, "char": text, "name": text, "citext": text,
	"integer": numeric, "int": numeric, "int2": numeric, "int4": numeric, "int8": numeric, "smallint": numeric,
	"bigint": numeric, "signed": numeric, "unsigned": numeric,
	"numeric": numeric, "decimal": numeric, "double": numeric, "real": numeric, "float": numeric, "float4": numeric,
	"float8":  numeric,
	"boolean": boolean, "bool": boolean, "date": moments, "timestamp": moments, "timestamptz": moments,
	"datetime": moments, "interval": span,
}

// wholeTypes are the integer types: a cast to one of them rounds.
var wholeTypes = map[string]bool{
	"integer":  true,
	"int":      true,
	"int2":     true,
	"int4":     true,
	"int8":     true,
	"smallint": true,
	"bigint":   true,
	"signed":   true,
	"unsigned": true,
}

// castTo converts an operand to a type in SQL.
func castTo(v operand, typ string) (operand, error) {
	if typ == "binary" {
		return v, nil
	}
	out, err := v.as(castKinds[typ])
	if err != nil {
		return unknown, err
	}
	switch {
	case wholeTypes[typ] && out.kind == numeric && !out.num.IsInt():
		return rat(rounded(out.num, 0)), nil
	case typ == "date" && out.kind == moments:
		days := out.us / value.Day
		if out.us%value.Day < 0 {
			days--
		}
		return operand{kind: moments, us: days * value.Day, day: true}, nil
	case out.kind == moments:
		out.day = false
	}
	return out, nil
}

// rounded is a number with so many digits behind the point, halves away from zero.
func rounded(r *big.Rat, digits int) *big.Rat {
	out, _ := new(big.Rat).SetString(r.FloatString(max(digits, 0)))
	return out
}
