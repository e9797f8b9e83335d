// Command figures prints what can be counted about the program's own code, and with -hold ends
// with an error where a figure is above its limit.
package main

import (
	"bufio"
	"flag"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
)

// figure is a count and how high it may be. Limits that are above the goal are what the code has
// now: they only go down.
type figure struct {
	name        string
	is          float64
	limit, goal float64
	atLeast     bool
	where       []string
}

// code is what was counted.
type code struct {
	lines        map[string]int // of packages, without tests
	comments     int            // lines that are comments alone, without tests
	all          int            // lines, without tests
	complexities []measured
	parameters   []measured // functions with more than 5
	bare         []string   // exported names without a comment
}

type measured struct {
	place string
	n     int
}

func main() {
	hold := flag.Bool("hold", false, "end with an error where a figure is above its limit")
	verbose := flag.Bool("v", false, "name the places")
	flag.Parse()
	c := &code{lines: map[string]int{}}
	for _, root := range []string{"cmd", "internal", "fixture", "security", "scripts"} {
		err := filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") {
				return err
			}
			return c.read(path)
		})
		if err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
	}
	good := true
	for _, f := range c.figures() {
		good = f.print(*verbose) && good
	}
	if *hold && !good {
		os.Exit(1)
	}
}

// print writes a figure beside its limit, and reports whether it is within it.
func (f figure) print(verbose bool) bool {
	mark, word := " ", "at most"
	bad := f.is > f.limit
	if f.atLeast {
		word, bad = "at least", f.is < f.limit
	}
	if bad {
		mark = "!"
	}
	fmt.Printf("%s %-45s %8.4g   %s %g (goal %g)\n", mark, f.name, f.is, word, f.limit, f.goal)
	if verbose || bad {
		for _, place := range f.where {
			fmt.Println("      ", place)
		}
	}
	return !bad
}

// figures puts what was counted beside its limits.
func (c *code) figures() []figure {
	large := figure{name: "packages over 5,000 lines", limit: 4, goal: 1}
	for of, n := range c.lines {
		if n > 5000 {
			large.where = append(large.where, fmt.Sprintf("%s: %d", of, n))
		}
	}
	slices.Sort(large.where)
	large.is = float64(len(large.where))
	over := func(name string, most int, limit, goal float64) figure {
		f := figure{name: name, limit: limit, goal: goal}
		for _, m := range c.complexities {
			if m.n > most {
				f.where = append(f.where, fmt.Sprintf("%s: %d", m.place, m.n))
			}
		}
		f.is = float64(len(f.where))
		return f
	}
	sum := 0
	for _, m := range c.complexities {
		sum += m.n
	}
	many := figure{name: "functions with more than 5 parameters", is: float64(len(c.parameters)), limit: 0}
	for _, m := range c.parameters {
		many.where = append(many.where, fmt.Sprintf("%s: %d", m.place, m.n))
	}
	return []figure{
		large,
		over("functions of cyclomatic complexity over 25", 25, 0, 0),
		over("functions over 15", 15, 87, 90),
		{name: "mean complexity", is: float64(sum) / float64(len(c.complexities)), limit: 5.209, goal: 4.8},
		many,
		{name: "exported names without a comment", is: float64(len(c.bare)), limit: 0, goal: 0, where: c.bare},
		{
			name:    "comment lines, in percent",
			is:      100 * float64(c.comments) / float64(c.all),
			limit:   6.6,
			goal:    12,
			atLeast: true,
		},
	}
}

// read counts a file.
func (c *code) read(path string) error {
	text, err := os.ReadFile(path)
	if err != nil {
		return err
	}
	test := strings.HasSuffix(path, "_test.go")
	scanner := bufio.NewScanner(strings.NewReader(string(text)))
	scanner.Buffer(nil, 1<<20)
	for scanner.Scan() {
		line := scanner.Text()
		if test {
			continue
		}
		c.all++
		c.lines[filepath.Dir(path)]++
		if strings.HasPrefix(strings.TrimSpace(line), "//") {
			c.comments++
		}
	}
	if err := scanner.Err(); err != nil || test {
		return err
	}
	files := token.NewFileSet()
	file, err := parser.ParseFile(files, path, text, parser.ParseComments)
	if err != nil {
		return err
	}
	for _, d := range file.Decls {
		switch d := d.(type) {
		case *ast.FuncDecl:
			place := fmt.Sprintf("%s %s", files.Position(d.Pos()), d.Name.Name)
			c.complexities = append(c.complexities, measured{place, complexity(d)})
			if n := d.Type.Params.NumFields(); n > 5 {
				c.parameters = append(c.parameters, measured{place, n})
			}
			if d.Name.IsExported() && d.Doc == nil && reachable(d) && !speaksForItself(d.Name.Name) {
				c.bare = append(c.bare, place)
			}
		case *ast.GenDecl:
			for _, s := range d.Specs {
				if t, ok := s.(*ast.TypeSpec); ok && t.Name.IsExported() && d.Doc == nil && t.Doc == nil &&
					t.Comment == nil {
					c.bare = append(c.bare, fmt.Sprintf("%s %s", files.Position(t.Pos()), t.Name.Name))
				}
			}
		}
	}
	return nil
}

// complexity counts the ways through a function: one, and one for each decision (McCabe 1976).
func complexity(f *ast.FuncDecl) int {
	n := 1
	ast.Inspect(f, func(x ast.Node) bool {
		switch x := x.(type) {
		case *ast.IfStmt, *ast.ForStmt, *ast.RangeStmt:
			n++
		case *ast.CaseClause:
			if x.List != nil {
				n++
			}
		case *ast.CommClause:
			if x.Comm != nil {
				n++
			}
		case *ast.BinaryExpr:
			if x.Op == token.LAND || x.Op == token.LOR {
				n++
			}
		}
		return true
	})
	return n
}

// reachable reports whether a function can be called from outside its package: methods of types
// that are not exported cannot.
func reachable(f *ast.FuncDecl) bool {
	if f.Recv == nil {
		return true
	}
	of := f.Recv.List[0].Type
	if pointer, ok := of.(*ast.StarExpr); ok {
		of = pointer.X
	}
	name, ok := of.(*ast.Ident)
	return ok && name.IsExported()
}

// speaksForItself reports whether a name means the same in all of Go.
func speaksForItself(name string) bool {
	return slices.Contains(
		[]string{
			"Error",
			"Unwrap",
			"String",
			"Close",
			"MarshalJSON",
			"UnmarshalJSON",
			"Len",
			"Less",
			"Swap",
			"Write",
			"Read",
		},
		name,
	)
}
