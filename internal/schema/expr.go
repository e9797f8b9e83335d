package schema

// Op is what an expression does.
type Op string

// The operations of expressions. Column and Input have no arguments.
const (
	OpColumn   Op = "column" // what the row holds now
	OpInput    Op = "input"  // a value that is given
	OpAdd      Op = "+"
	OpSubtract Op = "-"
	OpMultiply Op = "*"
	OpNegate   Op = "negate"
	OpJoin     Op = "join" // one text behind another
	OpEqual    Op = "="
	OpDiffers  Op = "<>"
	OpLess     Op = "<"
	OpAtMost   Op = "<="
	OpMore     Op = ">"
	OpAtLeast  Op = ">="
	OpAnd      Op = "AND"
	OpOr       Op = "OR"
	OpNot      Op = "NOT"
	OpIf       Op = "if" // condition, then, else
)

// Expr is an expression that a database computes: over columns of a row as it is, and
// over values that are given to the statement.
type Expr struct {
	Op     Op
	Column *Column // of OpColumn
	Input  int     // of OpInput: which value
	Args   []*Expr
}

// Given is the expression of a value that is given.
func Given(input int) *Expr { return &Expr{Op: OpInput, Input: input} }

// Visit shows an expression and all its parts.
func (e *Expr) Visit(show func(*Expr)) {
	show(e)
	for _, a := range e.Args {
		a.Visit(show)
	}
}

// Reads reports whether the expression looks at a column of the row.
func (e *Expr) Reads(c *Column) bool {
	found := false
	e.Visit(func(x *Expr) { found = found || x.Op == OpColumn && x.Column == c })
	return found
}
