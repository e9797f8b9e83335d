package sqlite

import (
	"path/filepath"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A network file system is recognised by its number.
func TestNetworkFileSystems(t *testing.T) {
	here := t.TempDir()
	assert.Empty(t, network(here))
	assert.Empty(t, network(filepath.Join(here, "none.db")))

	var s syscall.Statfs_t
	require.NoError(t, syscall.Statfs(here, &s))
	networks[uint32(s.Type)] = "NFS"
	t.Cleanup(func() { delete(networks, uint32(s.Type)) })
	path := filepath.Join(here, "a.db")
	require.NoError(t, Create(path, "CREATE TABLE a (id INTEGER PRIMARY KEY)"))
	db, err := Driver{}.Open(t.Context(), "sqlite:"+path)
	require.NoError(t, err)
	defer db.Close()
	assert.Equal(t, "the file is on a network file system (NFS): if locks do not work there, another program that "+
		"writes at the same time can damage the database", db.Traits().Notice)
}
