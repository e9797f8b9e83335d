package storetest

import (
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"syscall"
)

// memory is where Linux keeps files in memory, and room what the tests need of it, in
// bytes.
const (
	memory = "/dev/shm"
	room   = 4 << 30
)

// InMemory puts the temporary files of this test process in memory where the machine has
// room for them: databases then wait for no disk. It returns what removes them. TMPDIR,
// if it is set, is left as it is.
func InMemory() (remove func()) {
	none := func() {}
	if os.Getenv("TMPDIR") != "" || runtime.GOOS != "linux" {
		return none
	}
	var fs syscall.Statfs_t
	if syscall.Statfs(memory, &fs) != nil || int64(fs.Bavail)*int64(fs.Bsize) < room {
		return none
	}
	removeAbandoned()
	folder, err := os.MkdirTemp(memory, fmt.Sprintf("evensprout-%d-", os.Getpid()))
	if err != nil {
		return none
	}

	// Servers run as users of their own.
	if os.Chmod(folder, 0o755) != nil || os.Setenv("TMPDIR", folder) != nil {
		os.RemoveAll(folder)
		return none
	}
	return func() { os.RemoveAll(folder) }
}

// removeAbandoned removes what test processes left that were killed.
func removeAbandoned() {
	folders, _ := filepath.Glob(memory + "/evensprout-*-*")
	for _, folder := range folders {
		id, _, _ := strings.Cut(strings.TrimPrefix(filepath.Base(folder), "evensprout-"), "-")
		pid, err := strconv.Atoi(id)
		if err == nil && syscall.Kill(pid, 0) == syscall.ESRCH {
			os.RemoveAll(folder)
		}
	}
}
