package during

import (
	"bytes"
	"context"
	"errors"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/store/sqlite"
)

// Keys as digests give them.
const key1, key2 = "0123456789abcdef01234567", "76543210fedcba9876543210"

func own(t *testing.T) store.Scratch {
	o, err := sqlite.Driver{}.OpenScratch(t.Context(), "sqlite:"+filepath.Join(t.TempDir(), "none.db"))
	require.NoError(t, err)
	t.Cleanup(func() { o.Close() })
	return o
}

func names(t *testing.T, o store.Scratch) []string {
	all, err := o.List(t.Context())
	require.NoError(t, err)
	var out []string
	for _, d := range all {
		out = append(out, d.Name)
	}
	return out
}

func TestOneBuildsAndAllCopy(t *testing.T) {
	t.Setenv("XDG_CACHE_HOME", t.TempDir())
	var builds, copied atomic.Int64
	var all sync.WaitGroup
	for range 8 {
		o := own(t)
		all.Add(1)
		go func() {
			defer all.Done()
			p, err := Private(t.Context(), o, "key", func(ctx context.Context, name string) error {
				builds.Add(1)
				time.Sleep(20 * time.Millisecond)
				return o.Create(ctx, name)
			})
			if assert.NoError(t, err) {
				if p.Copied {
					copied.Add(1)
				}
				assert.NoError(t, p.Drop(t.Context(), nil))
			}
		}()
	}
	all.Wait()
	assert.EqualValues(t, 1, builds.Load())
	assert.EqualValues(t, 7, copied.Load())
	assert.Equal(t, []string{"evensprout_cache_key"}, names(t, own(t)))
}

func TestABuildThatFailsLeavesNothing(t *testing.T) {
	t.Setenv("XDG_CACHE_HOME", t.TempDir())
	o := own(t)
	broken := errors.New("broken")
	for _, key := range []string{"", "key"} {
		_, err := Private(t.Context(), o, key, func(ctx context.Context, name string) error {
			return errors.Join(o.Create(ctx, name), broken)
		})
		assert.ErrorIs(t, err, broken)
		assert.Empty(t, names(t, o))
	}
	// One that was killed half-way leaves a database without the mark; the next builds anew.
	require.NoError(t, o.Create(t.Context(), cachePrefix+key1))
	p, err := Private(t.Context(), o, key1, func(ctx context.Context, name string) error { return o.Create(ctx, name) })
	require.NoError(t, err)
	assert.False(t, p.Copied)
	require.NoError(t, p.Keep(t.Context()))
	require.NoError(t, o.Create(t.Context(), cachePrefix+key2))
	require.NoError(t, o.Create(t.Context(), "evensprout_run_reports"))
	require.NoError(t, o.Create(t.Context(), store.OwnNewPrefix+"0123456789abcdef"))

	gone, err := Sweep(t.Context(), o, false, false)
	require.NoError(t, err)
	assert.Equal(
		t,
		[]Swept{
			{cachePrefix + key2, "left half-built by a killed run", false},
			{store.OwnNewPrefix + "0123456789abcdef", "left half-built by a killed run", false},
			{"evensprout_run_reports", "its name is not one that this program creates", true},
		},
		gone,
	)
	gone, err = Sweep(t.Context(), o, true, true)
	require.NoError(t, err)
	assert.Len(t, gone, 3)
	assert.Equal(t, []string{"evensprout_run_reports"}, names(t, o))
}

func TestASweptCacheIsBuiltAgain(t *testing.T) {
	t.Setenv("XDG_CACHE_HOME", t.TempDir())
	o := &sweeping{Scratch: own(t)}
	builds := 0
	p, err := Private(t.Context(), o, "key", func(ctx context.Context, name string) error {
		builds++
		return o.Create(ctx, name)
	})
	require.NoError(t, err)
	assert.Equal(t, 2, builds)
	require.NoError(t, p.Drop(t.Context(), nil))
}

// sweeping loses what is to be copied, once.
type sweeping struct {
	store.Scratch
	done bool
}

func (s *sweeping) Copy(ctx context.Context, from, name string) error {
	if !s.done {
		s.done = true
		if err := s.Drop(ctx, from); err != nil {
			return err
		}
	}
	return s.Scratch.Copy(ctx, from, name)
}

func TestDigestsTellWhatDiffers(t *testing.T) {
	folder := t.TempDir()
	write := func(name, text string) {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(folder, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(folder, name), []byte(text), 0o644))
	}
	key := func() string {
		d := NewDigest("1")
		require.NoError(t, d.AddFile("from", folder))
		return d.Key()
	}
	seen := map[string]string{}
	note := func(what string) {
		k := key()
		assert.Empty(t, seen[k], "%s is reported from what was before", what)
		seen[k] = what
		assert.Equal(t, k, key())
		assert.Len(t, k, keyDigits)
	}
	note("an empty folder")
	write("a.sql", "x")
	note("a file")
	write("a.sql", "y")
	note("other contents")
	write("b/a.sql", "y")
	note("one below")
	require.NoError(t, os.Rename(filepath.Join(folder, "a.sql"), filepath.Join(folder, "c.sql")))
	note("another name")
	a, b := NewDigest("1"), NewDigest("1")
	a.Add("x", []byte("1"))
	a.Add("y", nil)
	b.Add("x", []byte("1y"))
	assert.NotEqual(t, a.Key(), b.Key())
	assert.Error(t, a.AddFile("x", filepath.Join(folder, "none")))
}

func TestEmptiedTablesTakeThoseThatReferToThem(t *testing.T) {
	table := func(name string, to ...string) *schema.Table {
		x := &schema.Table{Name: name}
		for _, r := range to {
			x.References = append(x.References, schema.Reference{Table: r})
		}
		return x
	}
	db := &schema.Database{
		Tables: []*schema.Table{table("a"), table("b", "a"), table("c", "b", "c"), table("d"), table("e", "d")},
	}
	var out []string
	for _, x := range Emptied(db, []*schema.Table{db.Table("a")}) {
		out = append(out, x.Name)
	}
	assert.Equal(t, []string{"a", "b", "c"}, out)
}

func TestCommandsEndAsTheyDo(t *testing.T) {
	for script, want := range map[string]int{"exit 0": 0, "exit 7": 7, "kill -9 $$": 137, "kill -TERM $$": 143} {
		c := Command{Args: []string{"sh", "-c", script}}
		code, err := c.Run(t.Context())
		require.NoError(t, err)
		assert.Equal(t, want, code, script)
	}
	code, err := (&Command{Args: []string{"no-such-command"}}).Run(t.Context())
	assert.Error(t, err)
	assert.Equal(t, 127, code)
	var out bytes.Buffer
	began := time.Now()
	// What it leaves running is ended, too: nobody works with a database that is gone.
	code, err = (&Command{Args: []string{"sh", "-c", "(sleep 60; echo late) & echo $X; exit 3"},
		Variables: []store.Variable{{Name: "X", Value: "there"}}, Out: &out}).Run(
		t.Context(),
	)
	require.NoError(t, err)
	assert.Equal(t, 3, code)
	assert.Equal(t, "there\n", out.String())
	assert.Less(t, time.Since(began), 50*time.Second)
	code, err = (&Command{Args: []string{"sleep", "60"}, Timeout: 20 * time.Millisecond}).Run(t.Context())
	require.NoError(t, err)
	assert.Equal(t, CodeTimeout, code)
}

func TestEnvironment(t *testing.T) {
	got := environment(
		[]string{"A=1", "B=2", "AB=3"},
		[]store.Variable{{Name: "A", Value: "x"}, {Name: "C", Value: ""}},
	)
	assert.Equal(t, []string{"B=2", "AB=3", "A=x", "C="}, got)
}
