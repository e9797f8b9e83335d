// Package safe opens files that somebody else may have prepared: links, pipes and devices in
// the place of files, files and folders of other users, and files without end.
package safe

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"strings"
)

// NotRegular tells that a path leads to something that is no regular file, such as a pipe.
type NotRegular struct{ Path, Kind string }

func (e *NotRegular) Error() string {
	return fmt.Sprintf("%s is %s, not a regular file", e.Path, e.Kind)
}

// TooLarge tells that a file has more bytes than are read.
type TooLarge struct {
	Path string
	Most int64
}

func (e *TooLarge) Error() string {
	return fmt.Sprintf("%s is larger than %d MiB", e.Path, e.Most>>20)
}

// Open opens a regular file for reading. A pipe that nobody writes into does not block it.
// What this process was given open, such as /dev/stdin, may be a pipe.
func Open(path string) (*os.File, error) {
	if given(path) {
		return os.Open(path)
	}
	f, err := os.OpenFile(path, os.O_RDONLY|nonBlocking, 0)
	if err != nil {
		return nil, err
	}
	info, err := f.Stat()
	if err == nil && !info.Mode().IsRegular() {
		err = &NotRegular{path, kind(info.Mode())}
	}
	if err != nil {
		return nil, errors.Join(err, f.Close())
	}
	return f, nil
}

// given reports whether a path names what this process was started with.
func given(path string) bool {
	return path == "/dev/stdin" || strings.HasPrefix(path, "/dev/fd/") || strings.HasPrefix(path, "/proc/self/fd/")
}

// kind names what a file is, if it is not a regular one.
func kind(m fs.FileMode) string {
	switch {
	case m.IsDir():
		return "a folder"
	case m&fs.ModeNamedPipe != 0:
		return "a pipe"
	case m&fs.ModeSocket != 0:
		return "a socket"
	case m&fs.ModeSymlink != 0:
		return "a symbolic link"
	}
	return "a device"
}

// ReadFile reads a regular file of at most so many bytes.
func ReadFile(path string, most int64) ([]byte, error) {
	f, err := Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	data, err := io.ReadAll(io.LimitReader(f, most+1))
	if err == nil && int64(len(data)) > most {
		err = &TooLarge{path, most}
	}
	if err != nil {
		return nil, err
	}
	return data, nil
}

// Create makes a file that was not there. Nothing is followed or replaced.
func Create(path string, mode fs.FileMode) (*os.File, error) {
	return os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL|noFollow, mode)
}

// OpenOwn opens or makes a file of this user's alone, to be read and written: no link leads
// to it, it has no other name, and no other user owns it or may write to it.
func OpenOwn(path string, mode fs.FileMode) (*os.File, error) {
	f, err := os.OpenFile(path, os.O_RDWR|os.O_CREATE|noFollow|nonBlocking, mode)
	if err != nil {
		if info, failed := os.Lstat(path); failed == nil && !info.Mode().IsRegular() {
			err = &NotRegular{path, kind(info.Mode())}
		}
		return nil, err
	}
	if err := Owned(f); err != nil {
		return nil, errors.Join(err, f.Close())
	}
	return f, nil
}

// OpenLock opens or makes a file that several users may lock: no link leads to it.
func OpenLock(path string) (*os.File, error) {
	f, err := os.OpenFile(path, os.O_RDWR|os.O_CREATE|noFollow|nonBlocking, 0o644)
	if err == nil {
		var info fs.FileInfo
		if info, err = f.Stat(); err == nil && !info.Mode().IsRegular() {
			err = &NotRegular{path, kind(info.Mode())}
		}
		if err == nil {
			err = oneName(path, info)
		}
		if err == nil {
			return f, nil
		}
		return nil, errors.Join(err, f.Close())
	}
	if info, failed := os.Lstat(path); failed == nil && !info.Mode().IsRegular() {
		err = &NotRegular{path, kind(info.Mode())}
	}
	return nil, err
}

// OpenUnlinked opens a file for reading unless a symbolic link leads to it.
func OpenUnlinked(path string) (*os.File, error) {
	return os.OpenFile(path, os.O_RDONLY|noFollow|nonBlocking, 0)
}

// Owned reports whether an open file is a regular one of this user's alone.
func Owned(f *os.File) error {
	info, err := f.Stat()
	if err != nil {
		return err
	}
	if !info.Mode().IsRegular() {
		return &NotRegular{f.Name(), kind(info.Mode())}
	}
	if at, err := os.Lstat(f.Name()); err == nil && !os.SameFile(at, info) {
		return &NotRegular{f.Name(), kind(at.Mode())}
	}
	return mine(f.Name(), info)
}

// Folder makes a folder of this user's alone, with what is above it, unless it is there; an
// error reports if it is a link, another user's, or writable by others.
func Folder(path string) error {
	if err := os.MkdirAll(path, 0o700); err != nil {
		return err
	}
	info, err := os.Lstat(path)
	if err != nil {
		return err
	}
	if !info.IsDir() {
		return fmt.Errorf("%s is %s, not a folder", path, kind(info.Mode()))
	}
	return mine(path, info)
}
