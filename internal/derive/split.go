package derive

import (
	"fmt"
	"slices"

	"cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/operators"
	"cel.dev/cel-go/parser"

	"evensprout/internal/schema"
	"evensprout/internal/value"
)

// Known is a part of an expression that does not depend on the row: it is computed
// before, and given to the database.
type Known struct {
	*Expression
	Names []string // of its inputs
}

// pushed are the operators that every database computes alike, and their names there.
var pushed = map[string]schema.Op{
	operators.Add: schema.OpAdd, operators.Subtract: schema.OpSubtract, operators.Multiply: schema.OpMultiply,
	operators.Negate: schema.OpNegate,
	operators.Equals: schema.OpEqual, operators.NotEquals: schema.OpDiffers, operators.Less: schema.OpLess,
	operators.LessEquals: schema.OpAtMost,
	operators.Greater:    schema.OpMore, operators.GreaterEquals: schema.OpAtLeast, operators.LogicalAnd: schema.OpAnd,
	operators.LogicalOr:  schema.OpOr,
	operators.LogicalNot: schema.OpNot, operators.Conditional: schema.OpIf,
}

// Split compiles an expression over a row that only the database knows: row says which
// of the names are its columns. The inputs of the result are the known parts, by place.
// scale is the number of digits after the point of decimals.
func (p *Parsed) Split(inputs []Input, row map[string]*schema.Column, scale int) (*schema.Expr, []Known, error) {
	whole, err := p.Compile(inputs, scale)
	if err != nil {
		return nil, nil, err
	}
	s := &splitter{Parsed: p, inputs: inputs, row: row, scale: scale}
	e, err := s.split(p.tree.Expr())
	if err != nil {
		return nil, nil, err
	}
	if whole.Type == value.Text {
		e.Visit(func(x *schema.Expr) {
			if x.Op == schema.OpAdd {
				x.Op = schema.OpJoin // what is added to a text is one
			}
		})
	}
	return e, s.known, nil
}

type splitter struct {
	*Parsed
	inputs []Input
	row    map[string]*schema.Column
	scale  int
	known  []Known
}

// reads reports whether a part of the expression looks at the row.
func (s *splitter) reads(e ast.Expr) bool {
	found := false
	ast.PreOrderVisit(e, ast.NewExprVisitor(func(x ast.Expr) { found = found || s.row[path(x)] != nil }))
	return found
}

func (s *splitter) fail(e ast.Expr, hint, format string, args ...any) error {
	at := s.tree.SourceInfo().GetStartLocation(e.ID())
	return &Error{Line: at.Line(), Column: at.Column() + 1, Message: fmt.Sprintf(format, args...), Hint: hint}
}

func (s *splitter) split(e ast.Expr) (*schema.Expr, error) {
	if !s.reads(e) {
		return s.compute(e)
	}
	if c := s.row[path(e)]; c != nil {
		return &schema.Expr{Op: schema.OpColumn, Column: c}, nil
	}
	const hint = "look the row up with find, and compute with what it holds"
	if e.Kind() != ast.CallKind {
		return nil, s.fail(e, hint, "databases compute this part in different ways")
	}
	op, ok := pushed[e.AsCall().FunctionName()]
	if !ok {
		name := e.AsCall().FunctionName()
		if name == operators.Divide || name == operators.Modulo {
			name = "a division"
		}
		return nil, s.fail(
			e,
			hint,
			"databases compute %s in different ways, so it cannot read what the row holds now",
			name,
		)
	}

	out := &schema.Expr{Op: op}
	for _, a := range e.AsCall().Args() {
		x, err := s.split(a)
		if err != nil {
			return nil, err
		}
		out.Args = append(out.Args, x)
	}

	if op == schema.OpMultiply && s.decimals(out) > 1 {
		return nil, s.fail(
			e,
			hint+`, such as round(found.price * decimal("1.10"), 2)`,
			"a product of decimals has more digits than the column, and databases round in different ways",
		)
	}
	return out, nil
}

// decimals counts the factors of a product that have digits after the point.
func (s *splitter) decimals(e *schema.Expr) int {
	switch {
	case e.Op == schema.OpColumn && e.Column.Kind == schema.Decimal && e.Column.Scale > 0,
		e.Op == schema.OpInput && s.known[e.Input].Type == value.Decimal:
		return 1
	case e.Op == schema.OpMultiply:
		return s.decimals(e.Args[0]) + s.decimals(e.Args[1])
	}
	most := 0
	for _, a := range e.Args {
		most = max(most, s.decimals(a))
	}
	return most
}

// compute makes a known part.
func (s *splitter) compute(e ast.Expr) (*schema.Expr, error) {
	text, err := parser.Unparse(e, s.tree.SourceInfo())
	if err != nil {
		return nil, s.fail(e, "", "%s", err)
	}
	p, err := Parse(text)
	if err != nil {
		return nil, err
	}
	var inputs []Input
	for _, name := range p.Names() {
		i := slices.IndexFunc(s.inputs, func(in Input) bool { return in.Name == name })
		inputs = append(inputs, s.inputs[i])
	}
	x, err := p.Compile(inputs, s.scale)
	if err != nil {
		return nil, err
	}
	s.known = append(s.known, Known{x, p.Names()})
	return schema.Given(len(s.known) - 1), nil
}
