// Package derive compiles expressions in CEL, the open Common Expression Language,
// over fields of a plan. Decimals are a type of their own, exact; doubles are
// refused, because they are not the same on every machine.
package derive

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common"
	"cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"

	"evensprout/internal/value"
)

// Input is a field that an expression reads.
type Input struct {
	Name  string // as the expression writes it, such as price or Passenger.joined_at
	Type  value.Type
	Scale uint8
}

// Expression is a compiled expression: a pure function of its inputs.
type Expression struct {
	Type    value.Type
	Scale   uint8 // of a decimal: results have so many digits after the point
	inputs  []Input
	program cel.Program
}

// Error is a fault in an expression.
type Error struct {
	Line, Column int // from 1, in characters; 0 if it is about the whole
	Message      string
	Hint         string
	Name         string // the name that was not found, or empty
}

func (e *Error) Error() string { return e.Message }

const maxLength = 4000 // characters

// Parsed is an expression whose names are not looked up yet.
type Parsed struct {
	text  string
	env   *cel.Env
	tree  *ast.AST
	names []string
	at    map[string]common.Location
}

// environment is our functions. It takes some milliseconds to make, and does not change.
var environment = sync.OnceValues(func() (*cel.Env, error) {
	return cel.NewCustomEnv(
		append([]cel.EnvOption{standard(), cel.ClearMacros(), cel.DefaultUTCTimeZone(true)}, library()...)...)
})

// Parse reads an expression and finds the fields that it names.
func Parse(text string) (*Parsed, error) {
	if len(text) > maxLength {
		return nil, &Error{Message: fmt.Sprintf("the expression is longer than %d characters", maxLength)}
	}
	env, err := environment()
	if err != nil {
		return nil, err
	}
	p := &Parsed{text: text, env: env, at: map[string]common.Location{}}
	tree, issues := env.Parse(text)
	if err := fault(issues); err != nil {
		return nil, err
	}
	native := tree.NativeRep()
	p.tree = native
	var double *Error
	inner := map[int64]bool{} // parts of longer names
	ast.PreOrderVisit(native.Expr(), ast.NewExprVisitor(func(e ast.Expr) {
		switch e.Kind() {
		case ast.LiteralKind:
			if _, ok := e.AsLiteral().(types.Double); ok && double == nil {
				at := native.SourceInfo().GetStartLocation(e.ID())
				double = &Error{
					Line:    at.Line(),
					Column:  at.Column() + 1,
					Message: "this is a double, which is not exact",
					Hint:    `write decimal("4.50") for a decimal`,
				}
			}
		case ast.IdentKind, ast.SelectKind:
			name := path(e)
			if name == "" || inner[e.ID()] {
				if e.Kind() == ast.SelectKind {
					inner[e.AsSelect().Operand().ID()] = inner[e.ID()]
				}
				return
			}
			for x := e; x.Kind() == ast.SelectKind; {
				x = x.AsSelect().Operand()
				inner[x.ID()] = true
			}
			if !slices.Contains(p.names, name) {
				p.names = append(p.names, name)
				p.at[name] = native.SourceInfo().GetStartLocation(e.ID())
			}
		}
	}))
	if double != nil {
		return nil, double
	}
	return p, nil
}

// path is the dotted name that an expression stands for, or empty.
func path(e ast.Expr) string {
	switch e.Kind() {
	case ast.IdentKind:
		return e.AsIdent()
	case ast.SelectKind:
		if e.AsSelect().IsTestOnly() {
			return ""
		}
		if of := path(e.AsSelect().Operand()); of != "" {
			return of + "." + e.AsSelect().FieldName()
		}
	}
	return ""
}

// Names are the fields that the expression reads, in the order of their first place.
func (p *Parsed) Names() []string { return p.names }

// Missing is the fault of a name that is no field.
func (p *Parsed) Missing(name, message string) *Error {
	e := &Error{Message: message, Name: name}
	if at := p.at[name]; at != nil {
		e.Line, e.Column = at.Line(), at.Column()+1
	}
	return e
}

// resultType is the logical type of a result.
func resultType(result *cel.Type) (value.Type, error) {
	if result.IsExactType(cel.DoubleType) {
		return value.Null, &Error{
			Message: "the result is a double, which is not exact",
			Hint:    "int(x) or decimal(x) makes an exact number",
		}
	}
	found := value.Null
	for t, c := range celTypes {
		if c.IsExactType(result) && (found == value.Null || t < found) {
			found = t
		}
	}
	if found == value.Null {
		return found, &Error{
			Message: fmt.Sprintf("the result is of type %s, which no field can hold", result),
			Hint:    "a number, a text, true or false, a date or a moment",
		}
	}
	return found, nil
}

// Compile checks the types. The inputs are the fields that Names named. scale is the
// number of digits after the point of a decimal result; below 0 it is the largest of
// the inputs'.
func (p *Parsed) Compile(inputs []Input, scale int) (*Expression, error) {
	var variables []cel.EnvOption
	largest := uint8(0)
	for _, in := range inputs {
		t, ok := typeOf(in.Type)
		if !ok {
			return nil, p.Missing(
				in.Name,
				fmt.Sprintf("%s is of type %s, which expressions cannot use", in.Name, in.Type),
			)
		}
		variables = append(variables, cel.Variable(in.Name, t))
		if in.Type == value.Decimal {
			largest = max(largest, in.Scale)
		}
	}

	env, err := p.env.Extend(variables...)
	if err != nil {
		return nil, err
	}
	checked, issues := env.Compile(p.text)
	if err := fault(issues); err != nil {
		return nil, err
	}
	x := &Expression{inputs: inputs}
	if x.Type, err = resultType(checked.OutputType()); err != nil {
		return nil, err
	}
	if x.Type == value.Decimal {
		x.Scale = largest
		if scale >= 0 {
			x.Scale = uint8(scale)
		}
	}

	options := []cel.ProgramOption{cel.EvalOptions(cel.OptOptimize)}
	if loops(checked) { // to count what is computed costs time, so only what may never end is counted
		options = append(options, cel.CostLimit(maxCost))
	}
	if x.program, err = env.Program(checked, options...); err != nil {
		return nil, &Error{Message: err.Error()}
	}
	return x, nil
}

// maxCost bounds what an expression with a loop may compute, in steps of one evaluation.
const maxCost = 1_000_000

// loops reports whether an expression has a macro such as map, which goes over a list.
func loops(checked *cel.Ast) bool {
	found := false
	ast.PostOrderVisit(
		checked.NativeRep().Expr(),
		ast.NewExprVisitor(func(e ast.Expr) { found = found || e.Kind() == ast.ComprehensionKind }),
	)
	return found
}

func fault(issues *cel.Issues) error {
	if issues == nil || issues.Err() == nil {
		return nil
	}
	first := issues.Errors()[0]
	message, _, _ := strings.Cut(first.Message, "\n")
	message = strings.TrimPrefix(message, "Syntax error: ")
	message, hint := reworded(message)
	return &Error{Line: first.Location.Line(), Column: first.Location.Column() + 1, Message: message, Hint: hint}
}

// celTypes are the types of fields in expressions.
var celTypes = map[value.Type]*cel.Type{
	value.Integer: cel.IntType, value.Decimal: decimalType, value.Text: cel.StringType, value.Bytes: cel.BytesType,
	value.Boolean: cel.BoolType,
	value.Date:    dateType, value.Timestamp: cel.TimestampType,
}

func typeOf(t value.Type) (*cel.Type, bool) {
	switch t {
	case value.UUID, value.JSON, value.Time:
		return cel.StringType, true
	}
	c, ok := celTypes[t]
	return c, ok
}

// values are the inputs of one evaluation.
type values struct {
	inputs []Input
	values []value.Value
}

func (v *values) ResolveName(name string) (any, bool) {
	for i := range v.inputs {
		if v.inputs[i].Name == name {
			return toCEL(&v.values[i]), true
		}
	}
	return nil, false
}

func (v *values) Parent() cel.Activation { return nil }

// Eval computes the result; NULL if any input is NULL.
func (x *Expression) Eval(inputs []value.Value) (value.Value, error) {
	for i := range inputs {
		if inputs[i].IsNull() {
			return value.Value{}, nil
		}
	}
	out, _, err := x.program.Eval(&values{x.inputs, inputs})
	if err != nil {
		return value.Value{}, errors.New(strings.TrimPrefix(err.Error(), "evaluation error: "))
	}
	return x.fromCEL(out)
}

func toCEL(v *value.Value) ref.Val {
	switch v.Type {
	case value.Integer:
		return types.Int(v.N)
	case value.Decimal:
		return decimal{v.N, v.Scale}
	case value.Boolean:
		return types.Bool(v.N != 0)
	case value.Bytes:
		return types.Bytes(v.S)
	case value.Date:
		return date(v.N)
	case value.Timestamp:
		return types.Timestamp{Time: time.UnixMicro(v.N).UTC()}
	}
	return types.String(v.String())
}

func (x *Expression) fromCEL(out ref.Val) (value.Value, error) {
	switch v := out.(type) {
	case types.Int:
		return value.Int(int64(v)), nil
	case types.Bool:
		return value.Bool(bool(v)), nil
	case types.String:
		return value.String(string(v)), nil
	case types.Bytes:
		return value.Value{Type: value.Bytes, S: string(v)}, nil
	case types.Timestamp:
		return value.Value{Type: value.Timestamp, N: v.UnixMicro()}, nil
	case date:
		return value.Value{Type: value.Date, N: int64(v)}, nil
	case decimal:
		r, ok := v.value().Rescale(x.Scale)
		if !ok {
			return r, fmt.Errorf("%s does not fit into %d decimal places: use scale: N, or round(x, %d)",
				v.value(), x.Scale, x.Scale)
		}
		return r, nil
	}
	return value.Value{}, fmt.Errorf("the result %v has a type that no field can hold", out)
}
