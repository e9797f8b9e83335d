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
	"name the entities that a migration is about":         "TestMigrationsThatAreRefused",
	"a list of objects needs no inside:":                  "TestNestedRows",
	"load as their owner, or without --indexes rebuild":   "TestIndexesThatStayInPlace",
	"make two migrations":                                 "TestMigrationsThatAreRefused",
	"run the same command again: nothing of that load":    "TestPromotions",
	"run the same command again: it does what is missing": "TestAServerThatLacksTheRunIsNoticed",
	"use PostgreSQL, MariaDB, MySQL or a SQLite file":     "TestVersionsOfServers",
	"choose another folder with XDG_CACHE_HOME":           "TestDuringLeavesTheGivenDatabaseAlone",
	"resume it with evensprout load --resume":             "TestATriggerThatRaises",
	"the parameter search_path=":                          "TestSchemasAreApart",
	"removes it from the journal, and leaves its rows":    "TestAfterAMigration",
	"and its occasions are repeated":                      "TestAWithdrawalOfARunCanBeFinished",
	"writes that plan: read it":                           "TestAChangedPlanIsNotResumed",
	"raise max_locks_per_transaction":                     "TestAFullTableOfLocks",
	"in the URL with ?tls=false":                          "TestPasswordsTravelEncrypted",
	"in the URL with ?sslmode=disable":                    "TestPasswordsTravelEncrypted",
	"ALTER ROLE ... CREATEDB allows it; during --shared":  "TestTrapsAreExplained",
	"everything that was not committed is rolled back":    "TestCutConnections",
	"everything was rolled back: tables and files":        "TestFilesInTheWay",
	"to allow it: --allow-logins":                         "TestLoginsStayOnThisMachine",
	"name the database with --db URL":                     "TestStatementsNeedTheTables",
	"pass fixture.URL, set DATABASE_URL":                  "TestDriversThatHideTheirConnection",
	"withdraw it with that version; or delete":            "TestAJournalOfOtherRows",
	"load again": "TestExtraSets",
	"use the version of the program that recorded it": "TestAJournalOfAnotherVersion",
	"make larger ones: --chunk ":                      "TestManyChunks",
	"to a pool in session mode":                       "TestPoolers",
	"or wait until this one has joined":               "TestKilledNodes",
	"load as a user that sees all rows of":            "TestUnseenRowsDoNotGoWithOurs",
	"leave such rows out of the plan, or disable":     "TestRowsThatTheDatabaseTakesAway",
	"is it a PostgreSQL server?":                      "TestFloodsOfServers",
	"run the same command again":                      "TestTwoCommandsAtOnce",
}

// adviceAlone are hints that no test follows, and why.
var adviceAlone = map[string]string{
	"write host, port, user and password in the plain form": "no address is known that the drivers take and that " +
		"cannot be written down: TestAddressesOfOtherDatabases writes all forms down",
	"try again when migrations are done": "the server must show a table in part, twenty times in per second",
}

var adviceNumber = regexp.MustCompile(`\b(LOAD)?\d\b`)

var adviceVerb = regexp.MustCompile(`%[+#]?[a-z]`)

// leadingText is the text that an expression begins with, in one literal or in several that
// are added, and whether that is all of it.
func leadingText(x ast.Expr) (text string, all bool) {
	switch x := x.(type) {
	case *ast.BasicLit:
		text, err := strconv.Unquote(x.Value)
		return text, err == nil && x.Kind == token.STRING
	case *ast.BinaryExpr:
		left, all := leadingText(x.X)
		if !all {
			return left, false
		}
		right, all := leadingText(x.Y)
		return left + right, all
	}
	return "", false
}

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
		ours := !strings.HasSuffix(path, "_test.go") && !strings.Contains(path, "/plan/") &&
			!strings.Contains(path, "/derive/")
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
			if text, _ := leadingText(at); text != "" {
				hints = append(hints, hint{fset.Position(at.Pos()).String(), strings.Join(strings.Fields(text), " ")})
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
		for _, c := range allAdvice() {
			says := strings.Join(strings.Fields(c.says), " ")
			if strings.Contains(h.text, says) || regexp.MustCompile(pattern.String()).MatchString(says) ||
				strings.Contains(adviceVerb.ReplaceAllString(h.text, "N"), adviceNumber.ReplaceAllString(says, "N")) {
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
