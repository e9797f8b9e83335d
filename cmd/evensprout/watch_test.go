package main

import (
	"bufio"
	"bytes"
	"os"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/demo"
)

// shared is a buffer that a process writes while a test reads it.
type shared struct {
	mu sync.Mutex
	b  bytes.Buffer

	seen int
}

func (s *shared) Write(p []byte) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.b.Write(p)
}

// has reports whether a text was written so many times.
func (s *shared) has(text string, times int) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return strings.Count(s.b.String(), text) >= times
}

// since is what was written since it was last asked for.
func (s *shared) since() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	text := s.b.String()[s.seen:]
	s.seen = s.b.Len()
	return text
}

// A command that watches runs again at each save; a mistake is shown, and the database stays as it was.
func TestSavesAreWatched(t *testing.T) {
	f := newFolder(t)
	text := strings.ReplaceAll(demo.Entities, "rows: 5000", "rows: 50")
	f.write("evensprout.yaml", text)
	f.makeDB("larkwater.db", demo.Schema)
	c := f.command("load", "--watch")
	var out shared
	c.Stdout, c.Stderr = &out, &out
	require.NoError(t, c.Start())
	wait := func(text string, times int) {
		t.Helper()
		require.Eventually(t, func() bool { return out.has(text, times) }, 20*time.Second, 20*time.Millisecond, text)
	}
	wait("watching 1 file: save to run again", 1)
	assert.Equal(t, []string{"52"}, f.query("larkwater.db", "SELECT count(*) FROM passengers"))

	f.write("evensprout.yaml", strings.ReplaceAll(text, "rows: 50\n", "rows: 60\n"))
	wait("watching", 2)
	assert.Equal(t, []string{"62"}, f.query("larkwater.db", "SELECT count(*) FROM passengers"))
	f.write("evensprout.yaml", strings.ReplaceAll(text, "given-name", "givn-name"))
	wait("there is no kind givn-name", 1)
	wait("watching", 3)
	assert.Equal(t, []string{"62"}, f.query("larkwater.db", "SELECT count(*) FROM passengers"))
	f.write("new.yaml", text) // editors put a new file in the place of the old one
	require.NoError(t, os.Rename(f.file("new.yaml"), f.file("evensprout.yaml")))
	wait("watching", 4)
	assert.Equal(t, []string{"52"}, f.query("larkwater.db", "SELECT count(*) FROM passengers"))
	require.NoError(t, c.Process.Signal(os.Interrupt))
	assert.NoError(t, c.Wait(), "Ctrl-C is how a watch ends")
}

// A watch of a plan with units changes rows in place. Runs of units stay where the edit does not concern them, and all
// ends as a load into an empty database does.
func TestAWatchWithUnits(t *testing.T) {
	f := newFolder(t)
	require.Zero(t, f.run("demo", "--quiet").code)
	f.path = f.file("larkwater")
	text := f.read("evensprout.yaml")
	text = strings.ReplaceAll(text, "rows: 5000", "rows: 100")
	f.write("evensprout.yaml", text)
	c := f.command("load", "--watch")
	var out shared
	c.Stdout, c.Stderr = &out, &out
	require.NoError(t, c.Start())
	runs := 0
	next := func() string {
		t.Helper()
		runs++
		require.Eventually(t, func() bool { return out.has("watching", runs) }, 20*time.Second, 5*time.Millisecond)
		return out.since()
	}
	next()
	edit := func(old, now string) string {
		t.Helper()
		require.Contains(t, text, old)
		text = strings.Replace(text, old, now, 1)
		f.write("evensprout.yaml", text)
		return next()
	}

	said := edit("kind: tel, nulls: 25%", "kind: tel, nulls: 60%")
	assert.Contains(t, said, "changed in place: only rows that differ are written")
	assert.Contains(t, said, "all 19 occasions of 4 units are already done")
	assert.NotContains(t, said, "withdrawn")
	said = edit("dormant: 15", "dormant: 16") // units read it
	assert.Contains(t, said, "changed in place")
	assert.Contains(t, said, "withdrawn: 24 rows")
	assert.Contains(t, said, "done: 19 occasions of 4 units")
	said = edit("points: points + 10", "points: points + 11")
	assert.Contains(t, said, "the plan has the same rows as before")
	assert.Contains(t, said, "done: 19 occasions of 4 units")
	said = edit("seats:       {between: [40, 400]", "seats:       {between: [40, 900]")
	assert.Contains(t, said, "CHECK (seats BETWEEN 40 AND 400) does not hold")
	assert.Contains(t, said, "the tables are unchanged")
	edit("seats:       {between: [40, 900]", "seats:       {between: [40, 400]")
	sales := f.read("sales.csv")
	f.write("sales.csv", sales[:strings.LastIndex(strings.TrimSuffix(sales, "\n"), "\n")+1])
	said = next()
	assert.Contains(t, said, "the plan has the same rows as before")
	assert.Contains(t, said, "done: 18 occasions of 4 units")
	require.NoError(t, c.Process.Signal(os.Interrupt))
	require.NoError(t, c.Wait())

	dump := func() []string {
		return append(f.query("larkwater.db", "SELECT id || tel || status || points FROM passengers ORDER BY id"),
			f.query("larkwater.db", "SELECT seats_left FROM sailings ORDER BY id")...)
	}
	watched := dump()
	assert.Zero(t, f.run("compare").code)
	require.Zero(t, f.run("load", "--anew", "--quiet").code)
	assert.Equal(t, dump(), watched)
}

// A save while the command runs counts: it runs again afterwards.
func TestSavesDuringARunAreSeen(t *testing.T) {
	f := newFolder(t)
	text := strings.ReplaceAll(demo.Entities, "rows: 5000", "rows: 20_000")
	f.write("evensprout.yaml", text)
	f.makeDB("larkwater.db", demo.Schema)
	c := f.command("load", "--watch", "--without-units")
	var out shared
	c.Stdout, c.Stderr = &out, &out
	require.NoError(t, c.Start())
	begun := func() bool {
		_, err := os.Stat(f.file("larkwater.db-wal"))
		_, journal := os.Stat(f.file("larkwater.db-journal"))
		return err == nil || journal == nil
	}
	require.Eventually(t, begun, 20*time.Second, time.Millisecond)
	assert.False(t, out.has("watching", 1), "the first run is not over")
	f.write("evensprout.yaml", strings.ReplaceAll(demo.Entities, "rows: 5000", "rows: 60"))
	require.Eventually(t, func() bool { return out.has("evensprout.yaml was saved", 1) && out.has("watching", 2) },
		60*time.Second, 20*time.Millisecond)
	assert.Equal(t, []string{"62"}, f.query("larkwater.db", "SELECT count(*) FROM passengers"))
	require.NoError(t, c.Process.Signal(os.Interrupt))
	assert.NoError(t, c.Wait())
}

func TestPreviewsAndChecksAreWatched(t *testing.T) {
	f := newFolder(t)
	f.write("evensprout.yaml", demo.Entities)
	f.makeDB("larkwater.db", demo.Schema)
	for command, want := range map[string]string{"preview": "Passenger  5,002 rows", "check": "fine: larkwater"} {
		c := f.command(command, "--watch")
		var out shared
		c.Stdout, c.Stderr = &out, &out
		require.NoError(t, c.Start())
		require.Eventually(t, func() bool { return out.has(want, 1) && out.has("watching", 1) }, 20*time.Second,
			20*time.Millisecond, command)
		f.write("evensprout.yaml", demo.Entities)
		require.Eventually(t, func() bool { return out.has(want, 2) }, 20*time.Second, 20*time.Millisecond, command)
		require.NoError(t, c.Process.Signal(os.Interrupt))
		assert.NoError(t, c.Wait())
	}
	r := f.run("preview", "-", "--watch")
	assert.Contains(t, r.errOut, "--watch needs a plan in a file")
}

// look --watch shows the tables again each second, with what was written in between.
func TestLookingAgain(t *testing.T) {
	f := newFolder(t)
	f.makeDB("a.db", "CREATE TABLE boats (id INTEGER PRIMARY KEY)")
	c := f.command("look", "boats", "--watch", "--db", "sqlite:a.db")
	out, err := c.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, c.Start())
	lines := bufio.NewScanner(out)
	shows := func(text string) bool {
		for lines.Scan() {
			if strings.Contains(lines.Text(), text) {
				return true
			}
		}
		return false
	}
	require.True(t, shows("0 rows"))
	f.query("a.db", "INSERT INTO boats (id) VALUES (7)")
	assert.True(t, shows("1 row"))
	require.NoError(t, c.Process.Signal(os.Interrupt))
	assert.NoError(t, c.Wait(), "the person ends it")
}
