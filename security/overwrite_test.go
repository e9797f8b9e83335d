//go:build unix

package security_test

import (
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Outputs replace what the program made before, and nothing else.
func TestOutputsReplaceOnlyTheirKind(t *testing.T) {
	commands := map[string][]string{
		"page":            {"page", "--out"},
		"load --page":     {"load", "--page"},
		"compare --page":  {"compare", "--page"},
		"diagram svg":     {"diagram", "--format", "svg", "--out"},
		"diagram mermaid": {"diagram", "--format", "mermaid", "--out"},
		"trial --chart":   {"trial", "--repeat", "1", "--counts", "2", "--entity", "Port", "--chart"},
		"export":          {"export", "--format", "sql", "--dialect", "sqlite", "--out"},
	}
	for name, args := range commands {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			b := onSQLite(t, "")
			require.Zero(t, b.on("load").code)
			end := map[bool]string{true: "chart.svg", false: "out.txt"}[name == "trial --chart"]
			b.write("mine.svg", "<svg>mine</svg>\n")
			b.write("rows.csv", "label\nmine\n")
			b.write("q.yaml", plan)
			require.NoError(t, os.Symlink("mine.svg", b.file("link.svg")))
			require.NoError(t, os.Symlink("prod.db", b.file("linked.svg")))
			require.NoError(t, os.Link(b.file("evensprout.yaml"), b.file("same.svg")))
			before, rows := b.files(), b.dump()
			for _, target := range []string{"mine.svg", "link.svg", "linked.svg", "same.svg", "evensprout.yaml", "q.yaml", "prod.db"} {
				for _, extra := range [][]string{nil, {"--overwrite"}} {
					if target == "mine.svg" && extra != nil {
						continue // that is what it asks for
					}
					list := append(append([]string{}, args...), target)
					r := b.on(append(list, extra...)...)
					assert.NotZero(t, r.code, "%v %v: %s", list, extra, r.all())
					for file, text := range before {
						if now := b.files()[file]; !strings.HasSuffix(file, ".db") {
							assert.Equal(t, text, now, "%v %v changed %s", list, extra, filepath.Base(file))
						}
					}
					assert.Equal(t, rows, b.dump(), "%v %v", list, extra)
				}
			}
			// The first time, again, and over a file of somebody else after a word.
			again := append(append([]string{}, args...), end)
			for i := range 2 {
				r := b.on(again...)
				if name == "export" && i == 1 {
					assert.NotZero(t, r.code)
					continue // rows alone carry no mark
				}
				assert.Zero(t, r.code, "%v: %s", again, r.all())
			}
			if strings.HasSuffix(name, "--page") { // load and compare have no flag for that
				r := b.on(append(append([]string{}, args...), "mine.svg")...)
				assert.Contains(t, r.err, "remove this one")
				require.NoError(t, os.Remove(b.file("mine.svg")))
				r = b.on(append(append([]string{}, args...), "mine.svg")...)
				assert.Zero(t, r.code, r.all())
				return
			}
			r := b.on(append(append(append([]string{}, args...), "mine.svg"), "--overwrite")...)
			assert.Zero(t, r.code, r.all())
			assert.NotEqual(t, "<svg>mine</svg>\n", b.read("mine.svg"))
		})
	}
}

// A folder of rows replaces the rows that an earlier export wrote, unless somebody has changed them since.
func TestExportsReplaceTheirOwnRows(t *testing.T) {
	b := onSQLite(t, "")
	args := []string{"export", "--format", "csv", "--out", "rows"}
	require.Zero(t, b.run(args...).code)
	require.Zero(t, b.run(args...).code, "again")
	b.write("rows/Port.csv", "mine\n")
	assert.NotZero(t, b.run(args...).code)
	assert.Equal(t, "mine\n", b.read("rows/Port.csv"))
	require.Zero(t, b.run(append(args, "--overwrite")...).code)
	b.write("rows/evensprout.yaml", plan)
	assert.NotZero(t, b.run(args...).code)
	assert.NotZero(t, b.run(append(args, "--overwrite")...).code, "a plan is never replaced")
	assert.Equal(t, plan, b.read("rows/evensprout.yaml"))
	before := b.files()
	require.Zero(t, b.on("export", "--format", "sql", "--dialect", "sqlite", "--out", "rows/other.sql").code)
	for file := range before {
		assert.FileExists(t, file, "one more file takes nothing away")
	}
}

// A plan that is edited keeps its mode, its owner and its other names; and what somebody saves meanwhile is not lost.
func TestEditedPlansKeepWhatTheyAre(t *testing.T) {
	edits := map[string][]string{
		"add --keep":    {"add", "Port", "label=Quay", "--keep", "quay"},
		"survey --into": {"survey", "--into", "evensprout.yaml"},
	}
	for name, args := range edits {
		t.Run(name, func(t *testing.T) {
			b := onSQLite(t, "CREATE TABLE quays (id INTEGER PRIMARY KEY, label VARCHAR(60) NOT NULL);")
			require.NoError(t, os.Chmod(b.file("evensprout.yaml"), 0o640))
			if os.Geteuid() == 0 {
				require.NoError(t, os.Chown(b.file("evensprout.yaml"), 65534, 65534))
			}
			require.NoError(t, os.Link(b.file("evensprout.yaml"), b.file("hard.yaml")))
			was, err := os.Stat(b.file("evensprout.yaml"))
			require.NoError(t, err)
			r := b.on(args...)
			require.Zero(t, r.code, r.all())
			now, err := os.Stat(b.file("evensprout.yaml"))
			require.NoError(t, err)
			assert.NotEqual(t, plan, b.read("evensprout.yaml"))
			assert.Equal(t, b.read("evensprout.yaml"), b.read("hard.yaml"))
			assert.True(t, os.SameFile(was, now))
			assert.Equal(t, was.Mode(), now.Mode())
			assert.Equal(t, was.Sys().(*syscall.Stat_t).Uid, now.Sys().(*syscall.Stat_t).Uid)
		})
		t.Run(name+" beside an editor", func(t *testing.T) {
			t.Parallel()
			b := onPostgres(t, "CREATE TABLE quays (id INTEGER PRIMARY KEY, label VARCHAR(60) NOT NULL);")
			a := b.application("READ COMMITTED") // which keeps the command from going on once it has read the plan
			a.exec("LOCK TABLE ports, quays IN ACCESS EXCLUSIVE MODE")
			done := make(chan result, 1)
			list := args
			if args[0] == "survey" {
				list = append(list, "--prove")
			}
			go func() { done <- b.on(list...) }()
			require.Eventually(t, func() bool { return b.waiting() > 0 }, patience, tick)
			b.write("evensprout.yaml", strings.Replace(plan, "rows: 4", "rows: 5", 1))
			a.exec("ROLLBACK")
			r := <-done
			require.Zero(t, r.code, r.all())
			text := b.read("evensprout.yaml")
			assert.Contains(t, text, "rows: 5", "the edit is lost: %s", r.all())
			assert.Contains(t, strings.ToLower(text), "quay", "and what the command adds is there")
		})
	}
}
