// Package predicate reads conditions written in SQL, such as CHECK constraints, in the
// spelling of any of our engines; computes them over values, exactly and the same on
// every machine; and tells what they leave to a single column.
package predicate

import (
	"slices"
	"strings"

	"evensprout/internal/value"
)

// Op is what a node of an expression does.
type Op string

// The operations.
const (
	Column   Op = "column"
	Literal  Op = "literal"
	Call     Op = "call" // a function
	Cast     Op = "cast" // to the type Name
	List     Op = "list" // of values, behind IN
	Case     Op = "case" // condition, result, condition, result, ..., else
	And      Op = "AND"  // of two or more
	Or       Op = "OR"   // of two or more
	Not      Op = "NOT"  //
	Equal    Op = "="    //
	Differs  Op = "<>"   //
	Less     Op = "<"    //
	AtMost   Op = "<="   //
	More     Op = ">"    //
	AtLeast  Op = ">="   //
	Same     Op = "IS NOT DISTINCT FROM"
	Unlike   Op = "IS DISTINCT FROM"
	In       Op = "IN"   // a value, and a list
	Like     Op = "LIKE" // a text, and a pattern; maybe the sign that takes a wildcard's meaning away
	Matches  Op = "~"    // a text, and a regular expression
	IsNull   Op = "IS NULL"
	IsTrue   Op = "IS TRUE"
	IsFalse  Op = "IS FALSE"
	Add      Op = "+"
	Subtract Op = "-"
	Multiply Op = "*"
	Divide   Op = "/"
	Modulo   Op = "%"
	Join     Op = "||"
	Negate   Op = "negate"
	Other    Op = "other" // an operator that is not known: Name
)

// Node is an expression.
type Node struct {
	Op     Op
	Name   string      // of a column, a function, a type, an unknown operator
	Schema string      // of a function; empty if it is not said, or the built-in one
	Value  value.Value // of a literal
	Args   []*Node
	Fold   bool // Like and Matches: letter case does not count
}

// Visit shows an expression and all its parts.
func (n *Node) Visit(show func(*Node)) {
	show(n)
	for _, a := range n.Args {
		a.Visit(show)
	}
}

// Columns returns the columns that an expression reads, in their order, each once.
func (n *Node) Columns() []string {
	var out []string
	n.Visit(func(x *Node) {
		if x.Op == Column && !slices.ContainsFunc(out, func(s string) bool { return strings.EqualFold(s, x.Name) }) {
			out = append(out, x.Name)
		}
	})
	return out
}

// Rename returns the expression with other names for its columns.
func (n *Node) Rename(name func(string) string) *Node {
	c := *n
	if c.Op == Column {
		c.Name = name(c.Name)
	}
	c.Args = make([]*Node, len(n.Args))
	for i, a := range n.Args {
		c.Args[i] = a.Rename(name)
	}
	return &c
}

// Replace returns the expression with other expressions in place of columns; of gives nil
// for those that stay.
func (n *Node) Replace(of func(column string) *Node) *Node {
	if n.Op == Column {
		if x := of(n.Name); x != nil {
			return x
		}
	}
	c := *n
	c.Args = make([]*Node, len(n.Args))
	for i, a := range n.Args {
		c.Args[i] = a.Replace(of)
	}
	return &c
}

// How firmly operators hold their arguments.
const (
	holdsOr = iota + 1
	holdsAnd
	holdsNot
	holdsIs
	holdsOrder
	holdsOther
	holdsSum
	holdsProduct
	holdsSign
	holdsAtom
)

// holds is how tightly the node's operator binds, for brackets.
func (n *Node) holds() int {
	switch n.Op {
	case Or:
		return holdsOr
	case And:
		return holdsAnd
	case Not:
		return holdsNot
	case IsNull, IsTrue, IsFalse, Same, Unlike:
		return holdsIs
	case Equal, Differs, Less, AtMost, More, AtLeast, In, Like, Matches:
		return holdsOrder
	case Join, Other:
		return holdsOther
	case Add, Subtract:
		return holdsSum
	case Multiply, Divide, Modulo:
		return holdsProduct
	case Negate:
		return holdsSign
	}
	return holdsAtom
}

// String writes the expression in standard SQL, as Parse reads it.
func (n *Node) String() string {
	var b strings.Builder
	n.write(&b, 0)
	return b.String()
}

// folding is the operator of a pattern: one for letters as they are, and one for any case.
func (n *Node) folding(exact, fold string) string {
	if n.Fold {
		return fold
	}
	return exact
}

// writeCase writes a CASE.
func (n *Node) writeCase(b *strings.Builder) {
	b.WriteString("CASE")
	for i := 0; i+1 < len(n.Args); i += 2 {
		b.WriteString(" WHEN ")
		n.Args[i].write(b, 0)
		b.WriteString(" THEN ")
		n.Args[i+1].write(b, 0)
	}
	if len(n.Args)%2 == 1 {
		b.WriteString(" ELSE ")
		n.Args[len(n.Args)-1].write(b, 0)
	}
	b.WriteString(" END")
}

// write writes the node, in brackets if it binds less tightly than what it is within.
func (n *Node) write(b *strings.Builder, within int) {
	h := n.holds()
	if h < within {
		b.WriteByte('(')
		defer b.WriteByte(')')
	}
	two := func(op string) {
		n.Args[0].write(b, h)
		b.WriteString(" " + op + " ")
		n.Args[1].write(b, h+1)
	}
	switch n.Op {
	case Column:
		b.WriteString(quoteName(n.Name))
	case Literal:
		b.WriteString(quoteValue(n.Value))
	case And, Or:
		for i, a := range n.Args {
			if i > 0 {
				b.WriteString(" " + string(n.Op) + " ")
			}
			a.write(b, h+1)
		}
	case Not:
		b.WriteString("NOT ")
		n.Args[0].write(b, h)
	case Negate:
		b.WriteByte('-')
		n.Args[0].write(b, h+1)
	case IsNull, IsTrue, IsFalse:
		n.Args[0].write(b, h+1)
		b.WriteString(" " + string(n.Op))
	case Matches:
		two(n.folding("~", "~*"))
	case Like:
		two(n.folding("LIKE", "ILIKE"))
		if len(n.Args) > 2 {
			b.WriteString(" ESCAPE ")
			n.Args[2].write(b, holdsAtom)
		}
	case Other:
		two(n.Name)
	case In:
		n.Args[0].write(b, h)
		b.WriteString(" IN ")
		n.Args[1].several(b, "(", ")")
	case Call:
		name := quoteName(n.Name)
		if n.Schema != "" {
			name = quoteName(n.Schema) + "." + name
		}
		n.several(b, name+"(", ")")
	case List:
		n.several(b, "ARRAY[", "]")
	case Cast:
		b.WriteString("CAST(")
		n.Args[0].write(b, 0)
		b.WriteString(" AS " + n.Name + ")")
	case Case:
		n.writeCase(b)
	default:
		two(string(n.Op))
	}
}

// several writes the operands between two signs, with commas.
func (n *Node) several(b *strings.Builder, open, shut string) {
	b.WriteString(open)
	for i, a := range n.Args {
		if i > 0 {
			b.WriteString(", ")
		}
		a.write(b, 0)
	}
	b.WriteString(shut)
}

// quoteName writes a name, in double quotes where it could be read otherwise.
func quoteName(s string) string {
	plain := s != "" && !isKeyword(s)
	for i, r := range s {
		if !(r == '_' || r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || i > 0 && r >= '0' && r <= '9') {
			plain = false
		}
	}
	if plain {
		return s
	}
	return `"` + strings.ReplaceAll(s, `"`, `""`) + `"`
}

// quoteValue writes a value as a literal of SQL.
func quoteValue(v value.Value) string {
	switch v.Type {
	case value.Null, value.Integer, value.Decimal:
		return v.String()
	case value.Boolean:
		return strings.ToUpper(v.String())
	}
	return "'" + strings.ReplaceAll(v.String(), "'", "''") + "'"
}
