//go:build unix

package safe

import (
	"fmt"
	"io/fs"
	"os"
	"syscall"
)

const (
	noFollow    = syscall.O_NOFOLLOW
	nonBlocking = syscall.O_NONBLOCK
)

// oneName reports whether a file has no other name, by which a link could lead to it.
func oneName(path string, info fs.FileInfo) error {
	if s, ok := info.Sys().(*syscall.Stat_t); ok && s.Nlink > 1 {
		return &NotRegular{path, "a hard link to another file"}
	}
	return nil
}

// mine reports whether only this user may write.
func mine(path string, info fs.FileInfo) error {
	s, ok := info.Sys().(*syscall.Stat_t)
	switch {
	case ok && int(s.Uid) != os.Geteuid():
		return fmt.Errorf("%s belongs to another user", path)
	case info.Mode().IsRegular() && ok && s.Nlink > 1:
		return fmt.Errorf("%s also has another name (a hard link)", path)
	case info.Mode().Perm()&0o022 != 0:
		return fmt.Errorf("other users can write to %s: run chmod go-w on it", path)
	}
	return nil
}

// keepOwner gives a new file the owner and group of another one.
func keepOwner(f *os.File, of fs.FileInfo) error {
	was, ok := of.Sys().(*syscall.Stat_t)
	if !ok {
		return nil
	}
	info, err := f.Stat()
	if err != nil {
		return err
	}
	if now, ok := info.Sys().(*syscall.Stat_t); ok && now.Uid == was.Uid && now.Gid == was.Gid {
		return nil
	}
	return f.Chown(int(was.Uid), int(was.Gid))
}
