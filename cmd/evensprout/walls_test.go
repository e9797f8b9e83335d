package main

import (
	"go/parser"
	"go/token"
	"io/fs"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// walls say which packages of ours each package may import. A package stands below those that
// import it: what is not listed here is a door that somebody broke into a wall.
var walls = map[string]string{
	"internal/safe":        "",
	"internal/demo":        "",
	"internal/parquetrows": "",
	"internal/cover":       "",
	"internal/lexicon":     "schema value",
	"internal/passhash":    "",
	"internal/rng":         "",
	"internal/diag":        "",
	"internal/value":       "",
	"internal/schema":      "value",
	"internal/fit":         "schema value",
	"internal/predicate":   "value",
	"internal/words":       "value",
	"internal/ask":         "",
	"internal/cell":        "value",
	"internal/grow":        "cover diag rng value words",
	"internal/derive":      "schema value",
	"internal/plan":        "cell cover derive diag fit grow passhash predicate rng safe schema value words",
	"internal/order":       "grow plan",
	"internal/store":       "diag fit schema value",

	"internal/store/setwise":   "schema store store/dialect value",
	"internal/store/sqlite":    "predicate safe schema store store/dialect store/setwise value",
	"internal/store/postgres":  "schema store store/dialect store/setwise value",
	"internal/store/mysql":     "schema store store/dialect store/setwise value",
	"internal/store/storetest": "predicate schema store store/setwise value",

	"internal/files":      "cell diag grow order parquetrows plan rng safe value",
	"internal/canvas":     "safe",
	"internal/goldentest": "",
	"internal/report":     "canvas diag safe value",
	"internal/diagram":    "canvas diag grow order plan report schema",
	"internal/page":       "diag diagram grow plan report safe value",

	"internal/page/pagetest": "",

	"internal/habits":   "schema sources store value",
	"internal/sources":  "grow plan schema value",
	"internal/draft":    "grow habits lexicon plan predicate safe schema sources store value",
	"internal/mapping":  "diag draft lexicon plan safe schema value",
	"internal/fileplan": "diag draft grow lexicon plan safe schema",
	"internal/addition": "diag grow lookup plan schema sources store value",
	"internal/lookup":   "cell diag fit predicate schema store value",
	"internal/merge":    "draft plan safe schema",
	"internal/prove":    "diag draft grow journal lexicon load plan schema store value",
	"internal/export":   "safe cell diag files grow order plan schema store value",
	"internal/during":   "plan safe schema store value",
	"internal/trial":    "diag grow plan schema store store/setwise value",
	"internal/journal":  "diag grow order plan schema store value",
	"internal/archive":  "diag grow journal order plan safe schema store value",
	"internal/replay":   "archive grow journal load order schema store value",
	"internal/loadtest": "archive diag files grow journal load plan preflight replay schema store store/mysql " +
		"store/postgres store/sqlite store/storetest value withdraw",
	"internal/app":           "archive diag files grow journal load plan preflight safe schema store value",
	"internal/store/dialect": "schema store",
	"internal/preflight":     "diag grow journal load plan schema store value",
	"internal/unit":          "archive cell diag grow journal load plan schema store value",
	"internal/withdraw":      "archive diag grow journal load order plan replay schema store value",
	"internal/load":          "archive diag grow journal order plan schema store value",
	"internal/cli": "addition app archive ask cell demo diag diagram draft during export fileplan files grow habits " +
		"journal lexicon " +
		"load lookup mapping merge order page plan predicate prove replay report safe schema store store/mysql " +
		"store/postgres store/sqlite trial unit value withdraw words",
}

// Each package imports what the walls let through, and nothing else.
func TestWalls(t *testing.T) {
	const module, root = "evensprout/", "../.."
	imports := map[string]map[string]bool{}
	err := filepath.WalkDir(filepath.Join(root, "internal"), func(file string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(file, ".go") || strings.HasSuffix(file, "_test.go") {
			return err
		}
		of, err := filepath.Rel(root, filepath.Dir(file))
		require.NoError(t, err)
		of = filepath.ToSlash(of)
		if imports[of] == nil {
			imports[of] = map[string]bool{}
		}
		parsed, err := parser.ParseFile(token.NewFileSet(), file, nil, parser.ImportsOnly)
		require.NoError(t, err)
		for _, x := range parsed.Imports {
			name, err := strconv.Unquote(x.Path.Value)
			require.NoError(t, err)
			if name, ours := strings.CutPrefix(name, module); ours {
				imports[of][name] = true
			}
		}
		return nil
	})
	require.NoError(t, err)
	for of, found := range imports {
		let, known := walls[of]
		assert.True(t, known, "%s has no walls: say in this test what it may import", of)
		var want []string
		for _, name := range strings.Fields(let) {
			want = append(want, path.Join("internal", name))
		}
		slices.Sort(want)
		assert.Equal(t, want, slices.Sorted(maps.Keys(found)), of)
	}
	for of := range walls {
		assert.Contains(t, imports, of, "there is no package %s", of)
	}
}

// What writes reads the journal under a lock: only there is it true by the time that it is used. Who reads it without
// one only shows it to people, looks at it again under a lock, or rolls everything back; these are all of them.
func TestWhatWritesReadsTheJournalUnderALock(t *testing.T) {
	const root = "../../internal"
	found := map[string]int{}
	err := filepath.WalkDir(root, func(file string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(file, ".go") || strings.HasSuffix(file, "_test.go") {
			return err
		}
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		name, err := filepath.Rel(root, file)
		require.NoError(t, err)
		if n := strings.Count(string(text), "Unlocked("); n > 0 && !strings.HasPrefix(name, "journal/") {
			found[filepath.ToSlash(name)] = n
		}
		return nil
	})
	require.NoError(t, err)
	assert.Equal(t, map[string]int{
		"app/workspace.go":     1, // where a further set begins: load looks again
		"cli/add.go":           1, // numbers of additions, under the lock of additions
		"cli/bases.go":         1, // how many rows a base has: a load of it looks again
		"cli/compare.go":       2, // shown
		"cli/complete.go":      1, // shown
		"cli/during_shared.go": 3, // which loads are to be withdrawn: withdraw looks again
		"cli/export.go":        1, // written to files
		"cli/history.go":       4, // shown
		"cli/load.go":          5, // which load is to be resumed or retried, and whether there is one: load looks again
		"cli/page.go":          1, // shown
		"cli/withdraw.go":      1, // which load is the last one: withdraw looks again
		"load/load.go":         1, // of a dry run
		"load/past_load.go":    1, // rows that were never loaded
		"loadtest/loadtest.go": 1, // for tests
		"preflight/foresee.go": 1, // shown
		"unit/runs.go":         1, // of a dry run
	}, found)
}
