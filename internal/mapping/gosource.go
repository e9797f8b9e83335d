package mapping

import (
	"errors"
	"fmt"
	"go/ast"
	"go/constant"
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"reflect"
	"slices"
	"strconv"
	"strings"

	"evensprout/internal/safe"
	"evensprout/internal/schema"
)

// Limits on what is read.
const (
	maxFiles = 2000
	maxBytes = 4 << 20 // of a file
	maxDepth = 8       // of structs inside each other
)

// Read reads the Go files of a folder and what is below it, tests and vendored code left
// out. A struct is taken if one of its fields has the tag. The error tells every file
// that cannot be read as Go.
func Read(folder, tag string) ([]Entity, error) {
	r := &reader{tag: tag, files: token.NewFileSet(), packages: map[string]*pack{}}
	count := 0
	var faults []error
	err := filepath.WalkDir(folder, func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if d.IsDir() {
			if name := d.Name(); path != folder &&
				(name == "vendor" || name == "testdata" || strings.HasPrefix(name, ".") ||
					strings.HasPrefix(name, "_")) {
				return filepath.SkipDir
			}
			return nil
		}
		if !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") || !d.Type().IsRegular() {
			return nil
		}
		if count++; count > maxFiles {
			return fmt.Errorf("%s has more than %d Go files: name the folder of the structs", folder, maxFiles)
		}
		if info, err := d.Info(); err == nil && info.Size() > maxBytes {
			return nil
		}
		text, err := safe.ReadFile(path, maxBytes)
		if err != nil {
			return err
		}
		f, err := parser.ParseFile(r.files, path, text, parser.SkipObjectResolution)
		if err != nil {
			faults = append(faults, err)
			return nil
		}
		r.add(filepath.Dir(path), f)
		return nil
	})
	if err = errors.Join(append(faults, err)...); err != nil {
		return nil, err
	}
	if count == 0 {
		return nil, fmt.Errorf("%s has no Go files", folder)
	}
	var out []Entity
	for _, p := range r.order {
		out = append(out, r.structs(p)...)
	}
	return out, nil
}

// reader reads the structs of folders, a package each.
type reader struct {
	tag      string
	files    *token.FileSet
	packages map[string]*pack
	order    []*pack
}

// pack is the declarations of one package.
type pack struct {
	types   map[string]*ast.TypeSpec
	names   []string // of types, in their order
	tables  map[string]string
	choices map[string][]Choice // constants by their type
}

// add adds the types and constants of a file.
func (r *reader) add(folder string, f *ast.File) {
	p := r.packages[folder]
	if p == nil {
		p = &pack{types: map[string]*ast.TypeSpec{}, tables: map[string]string{}, choices: map[string][]Choice{}}
		r.packages[folder] = p
		r.order = append(r.order, p)
	}
	for _, d := range f.Decls {
		switch d := d.(type) {
		case *ast.GenDecl:
			switch d.Tok {
			case token.TYPE:
				for _, s := range d.Specs {
					t := s.(*ast.TypeSpec)
					p.types[t.Name.Name] = t
					p.names = append(p.names, t.Name.Name)
				}
			case token.CONST:
				p.constants(d)
			}
		case *ast.FuncDecl:
			p.method(d)
		}
	}
}

// constants reads a block of constants, with iota and what a line repeats from the one
// before it.
func (p *pack) constants(d *ast.GenDecl) {
	var typ string
	var values []ast.Expr
	for i, s := range d.Specs {
		v := s.(*ast.ValueSpec)
		if v.Type != nil || v.Values != nil {
			typ, values = "", v.Values
			if id, ok := v.Type.(*ast.Ident); ok {
				typ = id.Name
			}
		}
		for j, name := range v.Names {
			if j >= len(values) || name.Name == "_" {
				continue
			}
			of, x := typ, values[j]
			if call, ok := x.(*ast.CallExpr); ok && len(call.Args) == 1 { // Status("open")
				if id, ok := call.Fun.(*ast.Ident); ok && of == "" {
					of, x = id.Name, call.Args[0]
				}
			}
			if of == "" {
				continue
			}
			c := valueOf(x, int64(i))
			switch {
			case c == nil:
			case c.Kind() == constant.String:
				p.choices[of] = append(p.choices[of], Choice{Text: constant.StringVal(c), IsText: true})
			case c.Kind() == constant.Int:
				if n, exact := constant.Int64Val(c); exact {
					p.choices[of] = append(p.choices[of], Choice{Number: n})
				}
			}
		}
	}
}

// binaryOf computes an operator of two constants; nil if it is none of those that are known.
func binaryOf(op token.Token, a, b constant.Value) constant.Value {
	if a == nil || b == nil || a.Kind() != b.Kind() {
		return nil
	}
	switch op {
	case token.ADD:
		return constant.BinaryOp(a, op, b)
	case token.SUB, token.MUL:
		if a.Kind() == constant.Int {
			return constant.BinaryOp(a, op, b)
		}
	case token.SHL:
		if n, ok := constant.Uint64Val(b); ok && n < 63 && a.Kind() == constant.Int {
			return constant.Shift(a, op, uint(n))
		}
	}
	return nil
}

// valueOf computes a constant of literals and iota; nil if it is made of more.
func valueOf(x ast.Expr, iota int64) constant.Value {
	switch x := x.(type) {
	case *ast.BasicLit:
		if v := constant.MakeFromLiteral(x.Value, x.Kind, 0); v.Kind() != constant.Unknown {
			return v
		}
	case *ast.Ident:
		if x.Name == "iota" {
			return constant.MakeInt64(iota)
		}
	case *ast.ParenExpr:
		return valueOf(x.X, iota)
	case *ast.UnaryExpr:
		if v := valueOf(x.X, iota); v != nil && v.Kind() == constant.Int && x.Op == token.SUB {
			return constant.UnaryOp(x.Op, v, 0)
		}
	case *ast.BinaryExpr:
		return binaryOf(x.Op, valueOf(x.X, iota), valueOf(x.Y, iota))
	}
	return nil
}

// method reads func (T) TableName() string { return "..." }.
func (p *pack) method(d *ast.FuncDecl) {
	if d.Name.Name != "TableName" || d.Recv == nil || len(d.Recv.List) != 1 || d.Body == nil || len(d.Body.List) != 1 {
		return
	}
	t := d.Recv.List[0].Type
	if star, ok := t.(*ast.StarExpr); ok {
		t = star.X
	}
	id, ok := t.(*ast.Ident)
	ret, isReturn := d.Body.List[0].(*ast.ReturnStmt)
	if !ok || !isReturn || len(ret.Results) != 1 {
		return
	}
	if lit, ok := ret.Results[0].(*ast.BasicLit); ok && lit.Kind == token.STRING {
		if s, err := strconv.Unquote(lit.Value); err == nil {
			p.tables[id.Name] = s
		}
	}
}

// structs returns the structs of a package that are mapped to tables.
func (r *reader) structs(p *pack) []Entity {
	var out []Entity
	for _, name := range p.names {
		t := p.types[name]
		body, ok := t.Type.(*ast.StructType)
		if !ok || !ast.IsExported(name) || t.TypeParams != nil {
			continue
		}
		s := Entity{Name: name, Table: p.tables[name], Place: r.files.Position(t.Pos()), Of: ofStruct}
		tagged := r.fields(p, body, &s, 0)
		if tagged || s.Table != "" {
			out = append(out, s)
		}
	}
	return out
}

// fields adds the fields of a struct, and those of structs that are embedded; it reports
// whether one has the tag.
func (r *reader) fields(p *pack, body *ast.StructType, s *Entity, depth int) bool {
	if depth > maxDepth {
		return false
	}
	tagged := false
	for _, f := range body.Fields.List {
		column, has := "", false
		if f.Tag != nil {
			if text, err := strconv.Unquote(f.Tag.Value); err == nil {
				column, has = reflect.StructTag(text).Lookup(r.tag)
				column, _, _ = strings.Cut(column, ",")
			}
		}
		tagged = tagged || has
		if column == "-" {
			continue
		}
		if len(f.Names) == 0 && !has { // embedded
			t := f.Type
			if star, ok := t.(*ast.StarExpr); ok {
				t = star.X
			}
			if id, ok := t.(*ast.Ident); ok && p.types[id.Name] != nil {
				if inner, ok := p.types[id.Name].Type.(*ast.StructType); ok {
					tagged = r.fields(p, inner, s, depth+1) || tagged
				}
			}
			continue
		}
		for _, name := range f.Names {
			if !name.IsExported() {
				continue
			}
			x := Field{Name: name.Name, Column: column, Place: r.files.Position(name.Pos())}
			if !r.describe(p, f.Type, &x, 0) && !has {
				continue // a list or a struct of its own: no column
			}
			if !slices.ContainsFunc(s.Fields, func(o Field) bool { return o.Name == x.Name }) {
				s.Fields = append(s.Fields, x)
			}
		}
	}
	return tagged
}

// plainTypes are the types that need no look into their package.
var plainTypes = map[string]Field{
	"string": {
		Kind: schema.Text,
	}, "bool": {Kind: schema.Boolean}, "float32": {Kind: schema.Real}, "float64": {Kind: schema.Real},
	"int": {
		Kind: schema.Integer,
	}, "int64": {Kind: schema.Integer}, "int32": {Kind: schema.Integer, Bits: 32},
	"rune": {Kind: schema.Integer, Bits: 32}, "int16": {Kind: schema.Integer, Bits: 16},
	"int8": {Kind: schema.Integer, Bits: 8},
	"uint": {
		Kind:     schema.Integer,
		Unsigned: true,
	}, "uint64": {Kind: schema.Integer, Unsigned: true}, "uint32": {Kind: schema.Integer, Bits: 32, Unsigned: true},
	"uint16": {Kind: schema.Integer, Bits: 16, Unsigned: true},
	"uint8":  {Kind: schema.Integer, Bits: 8, Unsigned: true}, "byte": {Kind: schema.Integer, Bits: 8, Unsigned: true},
	"time.Time": {Kind: schema.Timestamp}, "json.RawMessage": {Kind: schema.JSON},
	"sql.NullString": {
		Kind:     schema.Text,
		Nullable: true,
	}, "sql.NullBool": {Kind: schema.Boolean, Nullable: true}, "sql.NullFloat64": {Kind: schema.Real, Nullable: true},
	"sql.NullTime": {Kind: schema.Timestamp, Nullable: true},
	"sql.NullInt64": {
		Kind:     schema.Integer,
		Nullable: true,
	}, "sql.NullInt32": {Kind: schema.Integer, Bits: 32, Nullable: true},
	"sql.NullInt16": {Kind: schema.Integer, Bits: 16, Nullable: true},
	"sql.NullByte":  {Kind: schema.Integer, Bits: 8, Unsigned: true, Nullable: true},
	"sql.RawBytes":  {Kind: schema.Bytes},
}

// describeByName says what a type of another module holds, as far as its name tells.
func (f *Field) describeByName(name string) {
	switch name {
	case "UUID":
		f.Kind = schema.UUID
	case "NullUUID":
		f.Kind, f.Nullable = schema.UUID, true
	case "Decimal":
		f.Kind = schema.Decimal
	case "NullDecimal":
		f.Kind, f.Nullable = schema.Decimal, true
	default:
		f.Kind = schema.Any
	}
}

// describe says what a type holds; false for lists, maps and structs, which are no
// columns by themselves.
func (r *reader) describe(p *pack, t ast.Expr, f *Field, depth int) bool {
	if depth == 0 {
		f.Type = spelling(t)
	}
	if depth > maxDepth {
		return false
	}
	switch t := t.(type) {
	case *ast.StarExpr:
		f.Nullable = true
		return r.describe(p, t.X, f, depth+1)
	case *ast.ParenExpr:
		return r.describe(p, t.X, f, depth+1)
	case *ast.IndexExpr: // sql.Null[T]
		if spelling(t.X) == "sql.Null" {
			f.Nullable = true
			return r.describe(p, t.Index, f, depth+1)
		}
	case *ast.ArrayType:
		of := spelling(t.Elt)
		if of == "byte" || of == "uint8" {
			f.Kind = schema.Bytes
			if t.Len != nil && spelling(t.Len) == "16" {
				f.Kind = schema.UUID
			}
			return true
		}
		f.Kind = schema.Any
		return false
	case *ast.Ident, *ast.SelectorExpr:
		name := spelling(t)
		if k, ok := plainTypes[name]; ok {
			f.Kind, f.Bits, f.Unsigned, f.Nullable = k.Kind, k.Bits, k.Unsigned, f.Nullable || k.Nullable
			return true
		}
		if own := p.types[name]; own != nil {
			if _, ok := own.Type.(*ast.StructType); ok {
				f.Kind = schema.Any
				return false
			}
			f.Choices = p.choices[name]
			return r.describe(p, own.Type, f, depth+1)
		}
		f.describeByName(name[strings.LastIndexByte(name, '.')+1:])
		return true
	}

	f.Kind = schema.Any
	return false
}

// spelling is a type as the source writes it, as far as it matters.
func spelling(t ast.Expr) string {
	switch t := t.(type) {
	case *ast.Ident:
		return t.Name
	case *ast.SelectorExpr:
		return spelling(t.X) + "." + t.Sel.Name
	case *ast.StarExpr:
		return "*" + spelling(t.X)
	case *ast.ArrayType:
		if t.Len != nil {
			return "[" + spelling(t.Len) + "]" + spelling(t.Elt)
		}
		return "[]" + spelling(t.Elt)
	case *ast.BasicLit:
		return t.Value
	case *ast.IndexExpr:
		return spelling(t.X) + "[" + spelling(t.Index) + "]"
	case *ast.MapType:
		return "map[" + spelling(t.Key) + "]" + spelling(t.Value)
	case *ast.StructType:
		return "struct"
	}
	return "another type"
}
