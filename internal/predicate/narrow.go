package predicate

import (
	"math/big"
	"slices"
	"strings"

	"evensprout/internal/value"
)

// Domain is what conditions leave to one column.
type Domain struct {
	Only              []value.Value // just these values; nil: any
	Not               []value.Value // but not these
	Min               *Limit
	Max               *Limit
	Shortest, Longest int     // of texts, in characters; Longest 0: any
	Shapes            []*Node // Like and Matches that texts must meet
	NotNull           bool
	Null              bool    // nothing but NULL
	From              []*Node // the conditions behind all this
}

// Limit is the end of a range.
type Limit struct {
	Value value.Value
	Open  bool // the value itself lies outside
}

// Empty tells that no value is left.
func (d *Domain) Empty() bool {
	if d.Null {
		return d.NotNull
	}
	if d.Only != nil && len(d.allowed()) == 0 {
		return true
	}
	if d.Min != nil && d.Max != nil {
		order, ok := Order(d.Min.Value, d.Max.Value)
		if ok && (order > 0 || order == 0 && (d.Min.Open || d.Max.Open)) {
			return true
		}
	}
	return d.Longest > 0 && d.Shortest > d.Longest
}

// allowed are the values of Only that the rest lets pass.
func (d *Domain) allowed() []value.Value {
	var out []value.Value
	for _, v := range d.Only {
		if d.lets(v) {
			out = append(out, v)
		}
	}
	return out
}

// lets reports whether a domain holds a value.
func (d *Domain) lets(v value.Value) bool {
	for _, n := range d.Not {
		if o, ok := Order(v, n); ok && o == 0 {
			return false
		}
	}
	if d.Min != nil {
		if o, ok := Order(v, d.Min.Value); ok && (o < 0 || o == 0 && d.Min.Open) {
			return false
		}
	}
	if d.Max != nil {
		if o, ok := Order(v, d.Max.Value); ok && (o > 0 || o == 0 && d.Max.Open) {
			return false
		}
	}
	return true
}

// Order compares two values as a condition would; false if they do not compare.
func Order(a, b value.Value) (int, bool) {
	x, y, err := alike(of(a), of(b))
	if err != nil || x.kind == null || y.kind == null {
		return 0, false
	}
	return compare(x, y), true
}

// Narrow finds what conditions, all of which must hold, leave to single columns, and
// returns the conditions that it could not bring into that form. Where one of several
// is enough, it settles for one that fits the others. Columns are named as the
// conditions write them, folded.
func Narrow(conditions []*Node) (map[string]*Domain, []*Node) {
	s := &scope{domains: map[string]*Domain{}}
	var later []*Node
	for _, n := range conditions {
		for _, c := range conjuncts(push(n, false)) {
			if c.Op == Or {
				later = append(later, c)
				continue
			}
			s.add(c)
		}
	}
	for _, n := range later {
		s.either(n)
	}
	return s.domains, s.rest
}

// scope is the domains of columns within one branch of a condition.
type scope struct {
	domains map[string]*Domain
	rest    []*Node
}

// clone copies a scope, so that a branch can narrow its own.
func (s *scope) clone() *scope {
	c := &scope{domains: map[string]*Domain{}, rest: slices.Clone(s.rest)}
	for k, d := range s.domains {
		x := *d
		c.domains[k] = &x
	}
	return c
}

// conjuncts are the conditions that AND joins.
func conjuncts(n *Node) []*Node {
	if n.Op != And {
		return []*Node{n}
	}
	var out []*Node
	for _, a := range n.Args {
		out = append(out, conjuncts(a)...)
	}
	return out
}

// push drives NOT down to the leaves.
func push(n *Node, not bool) *Node {
	switch n.Op {
	case Not:
		return push(n.Args[0], !not)
	case And, Or:
		op := n.Op
		if not {
			op = map[Op]Op{And: Or, Or: And}[op]
		}
		m := &Node{Op: op}
		for _, a := range n.Args {
			x := push(a, not)
			if x.Op == op { // one level
				m.Args = append(m.Args, x.Args...)
			} else {
				m.Args = append(m.Args, x)
			}
		}
		return m
	case Case: // one branch with its condition
		m := &Node{Op: Or}
		for i := 0; i+1 < len(n.Args); i += 2 {
			// A condition that is unknown leads on: the branch is surely taken only if it is true.
			m.Args = append(
				m.Args,
				&Node{
					Op:   And,
					Args: []*Node{push(&Node{Op: IsTrue, Args: n.Args[i : i+1]}, false), push(n.Args[i+1], not)},
				},
			)
		}
		if len(n.Args)%2 == 1 {
			rest := &Node{Op: And, Args: []*Node{push(n.Args[len(n.Args)-1], not)}}
			for i := 0; i+1 < len(n.Args); i += 2 {
				rest.Args = append(rest.Args, push(&Node{Op: IsFalse, Args: n.Args[i : i+1]}, false))
			}
			m.Args = append(m.Args, rest)
		}
		return m
	case IsTrue, IsFalse:
		if !not { // which NULL is not
			return &Node{
				Op:   And,
				Args: []*Node{push(n.Args[0], n.Op == IsFalse), negation(&Node{Op: IsNull, Args: n.Args})},
			}
		}
	}

	if !not {
		return n
	}
	if op, ok := opposite[n.Op]; ok {
		return &Node{Op: op, Args: n.Args}
	}
	return negation(n)
}

// opposite are the operators that NOT makes of others.
var opposite = map[Op]Op{
	Equal:   Differs,
	Differs: Equal,
	Less:    AtLeast,
	AtMost:  More,
	More:    AtMost,
	AtLeast: Less,
	Same:    Unlike,
	Unlike:  Same,
}

// either settles for one of several conditions.
func (s *scope) either(n *Node) {
	// NULL passes a CHECK by itself: column IS NULL OR ... leaves what the rest leaves.
	if merged := sameColumn(n); merged != nil {
		s.add(merged)
		return
	}
	var best *scope
	bestCost := 0
	for _, a := range n.Args {
		t := s.clone()
		for _, c := range conjuncts(a) {
			if c.Op == Or {
				t.either(c)
			} else {
				t.add(c)
			}
		}
		cost := 0
		bad := false
		for name, d := range t.domains {
			bad = bad || d.Empty()
			if d.Null && (s.domains[name] == nil || !s.domains[name].Null) {
				cost += 10 // rows with values tell more
			}
		}
		cost += 3 * (len(t.rest) - len(s.rest))
		if !bad && (best == nil || cost < bestCost) {
			best, bestCost = t, cost
		}
	}

	if best == nil {
		s.rest = append(s.rest, n)
		return
	}
	*s = *best
}

// sameColumn brings (x = 'a' OR x = 'b' OR x IS NULL) to x IN ('a', 'b'); nil if the
// condition is another.
func sameColumn(n *Node) *Node {
	column := ""
	list := &Node{Op: List}
	var others []*Node
	for _, a := range n.Args {
		switch {
		case a.Op == IsNull && a.Args[0].Op == Column:
			if column != "" && !strings.EqualFold(column, a.Args[0].Name) {
				return nil
			}
			column = a.Args[0].Name
			continue
		case a.Op == Equal && a.Args[0].Op == Column && literal(a.Args[1]) != nil:
			list.Args = append(list.Args, a.Args[1])
		case a.Op == In && a.Args[0].Op == Column:
			list.Args = append(list.Args, a.Args[1].Args...)
		default:
			others = append(others, a)
		}
		for _, c := range a.Columns() {
			if column != "" && !strings.EqualFold(column, c) {
				return nil
			}
			column = c
		}
	}

	switch {
	case column == "":
		return nil
	case len(list.Args) > 0 && len(others) == 0:
		return &Node{Op: In, Args: []*Node{{Op: Column, Name: column}, list}}
	case len(list.Args) == 0 && len(others) == 1 && others[0].Op != Or:
		return others[0]
	}
	return nil
}

// bare takes casts away that change nothing about a column's values.
func bare(n *Node) *Node {
	for n.Op == Cast && castKinds[n.Name] == text || n.Op == Cast && castKinds[n.Name] == numeric &&
		!wholeTypes[n.Name] {
		n = n.Args[0]
	}
	return n
}

// literal is the value of a fixed expression, or nil.
func literal(n *Node) *value.Value {
	if n.Op == Literal {
		return &n.Value
	}
	if len(n.Columns()) > 0 {
		return nil
	}
	c, err := Compile(n)
	if err != nil {
		return nil
	}
	v, err := c.root.eval(nil)
	if err != nil {
		return nil
	}
	switch v.kind {
	case numeric:
		if g, ok := number(v.shown()); ok {
			return &g
		}
	case text:
		g := value.String(v.s)
		return &g
	case boolean:
		g := value.Bool(v.num.Sign() != 0)
		return &g
	case moments:
		g := value.Value{Type: value.Timestamp, N: v.us}
		if v.day {
			g = value.Value{Type: value.Date, N: v.us / value.Day}
		}
		return &g
	}
	return nil
}

// mirrored are the operators with their operands swapped.
var mirrored = map[Op]Op{Equal: Equal, Differs: Differs, Less: More, AtMost: AtLeast, More: Less, AtLeast: AtMost}

// of returns the domain of a column, and makes it if there is none.
func (s *scope) of(column string) *Domain {
	key := strings.ToLower(column)
	d := s.domains[key]
	if d == nil {
		d = &Domain{}
		s.domains[key] = d
	}
	return d
}

// add takes a condition that is neither AND nor OR.
func (s *scope) add(n *Node) {
	if n.Op == And || n.Op == Or {
		for _, c := range conjuncts(n) {
			if c.Op == Or {
				s.either(c)
			} else {
				s.add(c)
			}
		}
		return
	}

	columns := n.Columns()
	if len(columns) == 0 {
		if v := literal(n); v != nil && v.Type == value.Boolean && v.N != 0 || v != nil && v.IsNull() {
			return // always so
		}
		s.rest = append(s.rest, n)
		return
	}

	if len(columns) > 1 {
		s.rest = append(s.rest, n)
		return
	}
	x := *s.of(columns[0])
	if !x.narrow(n) {
		s.rest = append(s.rest, n)
		return
	}
	x.From = append(slices.Clone(x.From), n)
	*s.of(columns[0]) = x
}

// narrow takes a condition on one column in; false if it has another form.
func (d *Domain) narrow(n *Node) bool {
	switch n.Op {
	case Column: // a boolean by itself
		return d.only([]value.Value{value.Bool(true)})
	case Not:
		return d.narrowNot(n)
	case IsNull, In, Like, Matches, Same, Unlike:
		return bare(n.Args[0]).Op == Column && d.narrowColumn(n)
	}
	return d.narrowOrder(n)
}

// narrowNot takes in a condition that must not hold.
func (d *Domain) narrowNot(n *Node) bool {
	a := n.Args[0]
	switch {
	case a.Op == Column:
		return d.only([]value.Value{value.Bool(false)})
	case a.Op == IsNull && bare(a.Args[0]).Op == Column:
		d.NotNull = true
		return true
	case a.Op == In && bare(a.Args[0]).Op == Column:
		return d.except(a.Args[1].Args)
	case (a.Op == Like || a.Op == Matches) && bare(a.Args[0]).Op == Column:
		d.Shapes = append(slices.Clone(d.Shapes), n)
		return true
	}
	return false
}

// narrowColumn takes in a condition whose first operand is the column.
func (d *Domain) narrowColumn(n *Node) bool {
	switch n.Op {
	case IsNull:
		d.Null = true
		return true
	case In:
		var values []value.Value
		for _, a := range n.Args[1].Args {
			v := literal(a)
			if v == nil {
				return false
			}
			if !v.IsNull() {
				values = append(values, *v)
			}
		}
		return d.only(values)
	case Same, Unlike:
		v := literal(n.Args[1])
		if v == nil || v.IsNull() {
			return false
		}
		if n.Op == Unlike {
			return d.except(n.Args[1:])
		}
		d.NotNull = true
		return d.only([]value.Value{*v})
	}

	d.Shapes = append(slices.Clone(d.Shapes), n)
	return true
}

// lengths are the functions that tell how long a text is.
var lengths = []string{"length", "char_length", "character_length", "octet_length"}

// narrowOrder takes in a comparison of the column, or of its length, with a literal.
func (d *Domain) narrowOrder(n *Node) bool {
	op, ok := mirrored[n.Op]
	if !ok {
		return false
	}
	left, right := bare(n.Args[0]), n.Args[1]
	if literal(left) != nil {
		left, right = bare(n.Args[1]), n.Args[0]
	} else {
		op = n.Op
	}
	v := literal(right)
	if v == nil {
		return false
	}
	if v.IsNull() {
		return true // never false
	}
	for left.Op == Add || left.Op == Subtract || left.Op == Multiply {
		var ok bool
		if left, op, v, ok = unwrap(left, op, v); !ok {
			return false
		}
		left = bare(left)
	}

	if left.Op == Call && left.Schema == "" && slices.Contains(lengths, left.Name) &&
		bare(left.Args[0]).Op == Column && v.Type == value.Integer {
		return d.length(op, int(v.N))
	}
	if left.Op != Column {
		return false
	}
	switch op {
	case Equal:
		return d.only([]value.Value{*v})
	case Differs:
		return d.except([]*Node{{Op: Literal, Value: *v}})
	case More, AtLeast:
		limit := &Limit{*v, op == More}
		if d.Min == nil || tighter(limit, d.Min, 1) {
			d.Min = limit
		}
	default:
		limit := &Limit{*v, op == Less}
		if d.Max == nil || tighter(limit, d.Max, -1) {
			d.Max = limit
		}
	}
	return true
}

// solved takes an operation with y away from x: of + that is x - y. It reports whether a
// comparison turns round by that; nil if it cannot be taken away. first tells that y is the
// first operand, as in 10 - n < 3.
func solved(op Op, first bool, x, y *big.Rat) (z *big.Rat, turns bool) {
	z = new(big.Rat)
	switch {
	case op == Add:
		return z.Sub(x, y), false
	case op == Subtract && first:
		return z.Sub(y, x), true
	case op == Subtract:
		return z.Add(x, y), false
	case y.Sign() == 0:
		return nil, false
	}
	return z.Quo(x, y), y.Sign() < 0
}

// unwrap takes one operation with a fixed number away from the side of the column:
// n * 2 < 50 becomes n < 25. False where that is not exact.
func unwrap(n *Node, op Op, v *value.Value) (*Node, Op, *value.Value, bool) {
	inner, by, first := n.Args[0], literal(n.Args[1]), false
	if by == nil {
		inner, by, first = n.Args[1], literal(n.Args[0]), true
	}
	if by == nil || by.IsNull() {
		return nil, op, nil, false
	}
	x, errX := of(*v).as(numeric)
	y, errY := of(*by).as(numeric)
	if errX != nil || errY != nil || x.kind == null {
		return nil, op, nil, false
	}
	z, turns := solved(n.Op, first, x.num, y.num)
	if z == nil {
		return nil, op, nil, false
	}
	if turns {
		op = mirrored[op]
	}
	out, exact := number(rat(z).shown())
	if back, ok := new(big.Rat).SetString(rat(z).shown()); !exact || !ok || back.Cmp(z) != 0 {
		return nil, op, nil, false
	}
	return inner, op, &out, true
}

// tighter reports whether limit a leaves less than b; sign is 1 for lower and -1 for upper
// limits.
func tighter(a, b *Limit, sign int) bool {
	order, ok := Order(a.Value, b.Value)
	return ok && (order == sign || order == 0 && a.Open)
}

// only narrows a domain to a list; false if nothing is left.
func (d *Domain) only(values []value.Value) bool {
	if d.Only == nil {
		d.Only = values
		if values == nil {
			d.Only = []value.Value{}
		}
		return true
	}
	d.Only = slices.DeleteFunc(slices.Clone(d.Only), func(v value.Value) bool {
		return !slices.ContainsFunc(values, func(w value.Value) bool {
			order, ok := Order(v, w)
			return ok && order == 0
		})
	})
	return true
}

// except takes literals out of a domain; false if one of them is an expression.
func (d *Domain) except(list []*Node) bool {
	not := slices.Clone(d.Not)
	for _, a := range list {
		v := literal(a)
		if v == nil {
			return false
		}
		not = append(not, *v)
	}
	d.Not = not
	return true
}

// length narrows the length of a text in characters.
func (d *Domain) length(op Op, n int) bool {
	atMost := func(n int) {
		if d.Longest == 0 || n < d.Longest {
			d.Longest = n
		}
	}
	switch op {
	case Equal:
		d.Shortest = max(d.Shortest, n)
		atMost(n)
	case More:
		d.Shortest = max(d.Shortest, n+1)
	case AtLeast:
		d.Shortest = max(d.Shortest, n)
	case Less:
		atMost(n - 1)
	case AtMost:
		atMost(n)
	default:
		return false
	}
	return d.Longest != 0 || d.Shortest > 0 || op != Less && op != AtMost && op != Equal
}

// Values are the values that are left, in their order; nil if they are not counted.
func (d *Domain) Values() []value.Value {
	if d.Only == nil {
		return nil
	}
	return d.allowed()
}
