package main

import (
	"bytes"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"evensprout/internal/cli"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// sqlPattern matches statements and parts of them: nobody reads these.
var sqlPattern = regexp.MustCompile(
	`\b(SELECT|INSERT|UPDATE|DELETE|CREATE|ALTER|DROP|SET|FROM|WHERE|SAVEPOINT|CAST|` +
		`VARCHAR|BIGINT|NULL|ORDER BY|pg_|information_schema)\b`,
)

// wordsPattern matches text: two words in a row.
var wordsPattern = regexp.MustCompile(`[a-z]{2,}[,:;]? [a-z({%<-]`)

// Every text that the program can show is in one file, so that its wording is reviewed as a whole, and a
// change of it is seen. go test ./cmd/evensprout -run TestMessages -update writes the file.
func TestMessages(t *testing.T) {
	var b strings.Builder
	for _, args := range [][]string{{}, {"demo"}, {"survey"}, {"check"}, {"preview"}, {"catalog"}, {"plan-schema"},
		{"load"}, {"look"}, {"compare"}, {"withdraw"}, {"history"}, {"during"}, {"trial"}, {"export"}, {"version"},
		{"completion"}} {
		var out, errOut bytes.Buffer
		require.Zero(t, cli.Main(append(args, "--help"), nil, &out, &errOut), errOut.String())
		fmt.Fprintf(&b, "==== evensprout %s --help\n%s\n", strings.Join(args, " "), out.String())
		lines := strings.Split(out.String(), "\n")
		assert.LessOrEqual(t, len(lines), 90, "the help of %v fits on two screens of 45 lines", args)
		for _, l := range lines {
			assert.LessOrEqual(t, len(l), 80, l)
		}
	}
	found := map[string][]string{}
	for _, root := range []string{"../../internal", "../../fixture"} {
		require.NoError(t, filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
			test := strings.HasSuffix(path, "_test.go") || strings.Contains(path, "storetest") ||
				strings.Contains(path, "loadtest")
			if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || test {
				return err
			}
			room, err := filepath.Rel("../..", filepath.Dir(path))
			if err != nil {
				return err
			}
			texts, err := textsOf(path)
			found[room] = append(found[room], texts...)
			return err
		}))
	}
	var rooms []string
	for room := range found {
		rooms = append(rooms, room)
	}
	slices.Sort(rooms)
	for _, room := range rooms {
		texts := found[room]
		slices.Sort(texts)
		fmt.Fprintf(&b, "==== %s\n%s\n\n", filepath.ToSlash(room), strings.Join(slices.Compact(texts), "\n"))
	}
	golden := filepath.Join("testdata", "messages.golden")
	got := b.String()
	if *update {
		require.NoError(t, os.WriteFile(golden, []byte(got), 0o644))
	}
	want, err := os.ReadFile(golden)
	require.NoError(t, err)
	assert.Equal(t, string(want), got)
}

// textsOf returns the texts of a file, each in quotes; ... stands for what is not written there.
func textsOf(path string) ([]string, error) {
	file, err := parser.ParseFile(token.NewFileSet(), path, nil, 0)
	if err != nil {
		return nil, err
	}
	var out []string
	ast.Inspect(file, func(n ast.Node) bool {
		x, ok := n.(ast.Expr)
		if !ok {
			return true
		}
		text, ok := joined(x)
		if !ok {
			return true
		}
		if wordsPattern.MatchString(text) && !sqlPattern.MatchString(text) && strings.Count(text, "\n") < 8 {
			out = append(out, strconv.Quote(text))
		}
		return false
	})
	return out, nil
}

// joined is the text of literals that are added; false if there is none.
func joined(x ast.Expr) (string, bool) {
	switch x := x.(type) {
	case *ast.BasicLit:
		text, err := strconv.Unquote(x.Value)
		return text, x.Kind == token.STRING && err == nil
	case *ast.ParenExpr:
		return joined(x.X)
	case *ast.BinaryExpr:
		if x.Op != token.ADD {
			return "", false
		}
		left, ok := joined(x.X)
		right, also := joined(x.Y)
		if !ok && !also {
			return "", false
		}
		if !ok {
			left = "..."
		}
		if !also {
			right = "..."
		}
		return left + right, true
	}
	return "", false
}
