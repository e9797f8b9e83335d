//go:build unix

package safe

import (
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestFilesThatAreNoFiles(t *testing.T) {
	at := func(name string) string { return filepath.Join(t.TempDir(), name) }
	pipe, folder, file := at("pipe"), at("folder"), at("file")
	require.NoError(t, syscall.Mkfifo(pipe, 0o600))
	require.NoError(t, os.Mkdir(folder, 0o700))
	require.NoError(t, os.WriteFile(file, []byte("12345"), 0o600))
	for path, kind := range map[string]string{pipe: "a pipe", folder: "a folder", "/dev/null": "a device"} {
		_, err := Open(path)
		var other *NotRegular
		require.ErrorAs(t, err, &other, path)
		assert.Equal(t, kind, other.Kind)
		assert.Contains(t, err.Error(), "not a regular file")
	}
	text, err := ReadFile(file, 5)
	require.NoError(t, err)
	assert.Equal(t, "12345", string(text))
	_, err = ReadFile(file, 4)
	var large *TooLarge
	require.ErrorAs(t, err, &large)
	_, err = Open(at("none"))
	assert.ErrorIs(t, err, os.ErrNotExist)
}

func TestFilesOfOnesOwn(t *testing.T) {
	folder := t.TempDir()
	at := func(name string) string { return filepath.Join(folder, name) }
	f, err := OpenOwn(at("own"), 0o600)
	require.NoError(t, err)
	require.NoError(t, f.Close())
	_, err = Create(at("own"), 0o600)
	assert.ErrorIs(t, err, os.ErrExist)
	require.NoError(t, os.WriteFile(at("target"), nil, 0o600))
	require.NoError(t, os.Symlink(at("target"), at("link")))
	require.NoError(t, os.Link(at("target"), at("hard")))
	require.NoError(t, os.WriteFile(at("open"), nil, 0o600))
	require.NoError(t, os.Chmod(at("open"), 0o666))
	for _, name := range []string{"link", "hard", "open"} {
		_, err := OpenOwn(at(name), 0o600)
		assert.Error(t, err, name)
	}
	for _, name := range []string{"link", "hard"} {
		_, err := OpenLock(at(name))
		var other *NotRegular
		assert.ErrorAs(t, err, &other, name)
	}
	_, err = Create(at("link"), 0o600)
	assert.Error(t, err)
	_, err = OpenUnlinked(at("link"))
	assert.Error(t, err)

	require.NoError(t, Folder(at("cache/of/mine")))
	require.NoError(t, os.Symlink(at("cache"), at("elsewhere")))
	assert.Error(t, Folder(at("elsewhere")))
	require.NoError(t, os.Chmod(at("cache"), 0o777))
	assert.ErrorContains(t, Folder(at("cache")), "chmod go-w")
	assert.Error(t, Folder(at("own")))
}

func FuzzVisible(f *testing.F) {
	for _, s := range []string{"plain", "\x1b[31m", "a\r\nb", "\u202e", "\xff", "\u009b"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		v := Visible(s)
		assert.True(t, clean(v), "%q became %q", s, v)
		assert.Equal(t, v, Visible(v), "what is written out stays")
		if clean(s) {
			assert.Equal(t, s, v)
		}
		assert.Equal(t, strings.Count(s, "\n"), strings.Count(v, "\n"))
	})
}
