package main

import (
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// adviceElsewhere are hints that other tests provoke, by a part of them.
var adviceElsewhere = map[string]string{
	"XDG_CACHE_HOME names another place":                 "TestDuringLeavesTheGivenDatabaseAlone",
	"load --resume goes on with it; evensprout withdraw": "TestATriggerThatRaises",
	"the parameter search_path=":                         "TestSchemasAreApart",
	"closes it, and leaves the tables as they are":       "TestAfterAMigration",
	"and its occasions are done again":                   "TestAWithdrawalOfARunCanBeFinished",
	"writes the journal's plan: read it":                 "TestAChangedPlanIsNotResumed",
	"raise max_locks_per_transaction":                    "TestAFullTableOfLocks",
	"in the URL: ?tls=false":                             "TestPasswordsTravelEncrypted",
	"in the URL: ?sslmode=disable":                       "TestPasswordsTravelEncrypted",
	"ALTER ROLE ... CREATEDB lets it; during --shared":   "TestTrapsAreExplained",
	"everything that was not committed is rolled back":   "TestCutConnections",
	"everything was rolled back: tables and files":       "TestFilesInTheWay",
}

// adviceAlone are hints that no test follows, and why.
var adviceAlone = map[string]string{
	"GRANT ALL ON": "a user of MariaDB who may make no database",
	"say host, port, user and password in the plain form": "an address that the driver reads in another way",
	"only databases that this program made and marked":    "a database with the name of a run's own, and another mark",
	"ALTER TABLE ... ENGINE=InnoDB":                       "rows that must be looked for in a table of an engine without savepoints",
	"writes its plan: read it, then evensprout withdraw":  "a journal whose tables and plan are not those of the user",
	"run all parts of the same number of parts":           "parts that other processes have left, and then another number of parts",
	"--db URL names the database":                         "the command asks for a database before",
	"its first row names the columns":                     "a workbook with an empty sheet",
	"plan more of the rows that are picked":               "the plan is refused before, unless many loads have left nothing",
	"name its file: evensprout withdraw":                  "a journal to which others may write",
	"--wait says how long to wait for that":               "a part that another process is writing",
	"load again":                                          "another set came in between two statements",
	"other rows stand in the way":                         "what stands in the way of removed rows is found before",
	"raise max_allowed_packet":                            "the server's settings",
	"try again when migrations are done":                  "a table that goes while it is read",
	"look at the tables before you do anything else":      "a commit whose answer is lost, without a journal",
	"close other connections, or try again":               "a server without a free connection",
	"say fixture.URL, or set DATABASE_URL":                "the Go package's own tests",
	"names another place for it":                          "a home that cannot be written to",
	"two at a time would measure each other":              "two trials at a time",
}

var adviceVerb = regexp.MustCompile(`%[+#]?[a-z]`)

// Every hint of a command is in the table of advice, or another test provokes it.
func TestEveryHintHasATest(t *testing.T) {
	root := "../.."
	tests := map[string]bool{}
	type hint struct{ place, text string }
	var hints []hint
	fset := token.NewFileSet()
	err := filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") {
			return err
		}
		file, err := parser.ParseFile(fset, path, nil, 0)
		if err != nil {
			return err
		}
		ours := !strings.HasSuffix(path, "_test.go") && !strings.Contains(path, "/plan/") && !strings.Contains(path, "/derive/")
		ast.Inspect(file, func(n ast.Node) bool {
			var at ast.Expr
			switch n := n.(type) {
			case *ast.FuncDecl:
				tests[n.Name.Name] = true
			case *ast.KeyValueExpr:
				if key, ok := n.Key.(*ast.Ident); ok && key.Name == "Hint" {
					at = n.Value
				}
			case *ast.CallExpr:
				if f, ok := n.Fun.(*ast.Ident); ok && f.Name == "hint" && len(n.Args) == 1 {
					at = n.Args[0]
				}
			}
			if at == nil || !ours {
				return true
			}
			if call, ok := at.(*ast.CallExpr); ok && len(call.Args) > 0 {
				at = call.Args[0]
			}
			if sum, ok := at.(*ast.BinaryExpr); ok {
				for {
					left, more := sum.X.(*ast.BinaryExpr)
					if !more {
						break
					}
					sum = left
				}
				at = sum.X
			}
			if lit, ok := at.(*ast.BasicLit); ok && lit.Kind == token.STRING {
				text, _ := strconv.Unquote(lit.Value)
				hints = append(hints, hint{fset.Position(lit.Pos()).String(), strings.Join(strings.Fields(text), " ")})
			}
			return true
		})
		return nil
	})
	require.NoError(t, err)
	covered, alone := 0, 0
	var missing []string
next:
	for _, h := range hints {
		var pattern strings.Builder
		at := 0
		for _, m := range adviceVerb.FindAllStringIndex(h.text, -1) {
			pattern.WriteString(regexp.QuoteMeta(h.text[at:m[0]]) + `\S+`)
			at = m[1]
		}
		pattern.WriteString(regexp.QuoteMeta(h.text[at:]))
		for _, c := range advice {
			says := strings.Join(strings.Fields(c.says), " ")
			if strings.Contains(h.text, says) || regexp.MustCompile(pattern.String()).MatchString(says) || strings.Contains(adviceVerb.ReplaceAllString(h.text, "N"), regexp.MustCompile(`\b\d\b`).ReplaceAllString(says, "N")) {
				covered++
				continue next
			}
		}
		for part, test := range adviceElsewhere {
			if strings.Contains(h.text, part) {
				assert.True(t, tests[test], "there is no test %s", test)
				covered++
				continue next
			}
		}
		for part := range adviceAlone {
			if strings.Contains(h.text, part) {
				alone++
				continue next
			}
		}
		missing = append(missing, fmt.Sprintf("%s: %s", h.place, h.text))
	}
	assert.Empty(t, missing)
	t.Logf("%d hints: %d are provoked in a test, %d are not, for the reasons given", len(hints), covered, alone)
}
