package safe

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
)

// Output is a file that a command makes for people to look at: a page, a picture, a text. It replaces nothing but what
// the program itself has made before, unless Overwrite says so; and never a link, a plan, a database, or a file that
// the command reads.
type Output struct {
	Path      string
	Overwrite bool
	Inputs    []string // files that the command reads; empty names do not count
}

// InTheWayError tells why an output is not written over what is there.
type InTheWayError struct {
	Path, Why string
	// Asks tells that --overwrite allows it.
	Asks bool
}

func (e *InTheWayError) Error() string { return e.Path + " " + e.Why + ", so it is not written over" }

// mark stands in each file that the program makes, in a comment, not far from its beginning.
const mark = "made by evensprout: a later run replaces this file"

// mostLooked is how much of a file is read to find the mark, in bytes.
const mostLooked = 4096

// Check reports whether the file can be written, before work that takes long.
func (o Output) Check() error {
	_, err := o.look()
	return err
}

// look reports whether a file is there that may be replaced.
func (o Output) look() (there bool, err error) {
	info, err := os.Lstat(o.Path)
	if errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	if !info.Mode().IsRegular() {
		return true, &NotRegular{o.Path, kind(info.Mode())}
	}
	for _, in := range o.Inputs {
		if in == "" {
			continue
		}
		if other, err := os.Stat(in); err == nil && os.SameFile(other, info) {
			return true, &InTheWayError{Path: o.Path, Why: "is a file that this command uses"}
		}
	}
	f, err := Open(o.Path)
	if err != nil {
		return true, err
	}
	defer f.Close()
	head, err := io.ReadAll(io.LimitReader(f, mostLooked))
	if err != nil {
		return true, err
	}
	end := strings.ToLower(filepath.Ext(o.Path))
	switch {
	case bytes.HasPrefix(head, []byte("SQLite format 3\x00")):
		return true, &InTheWayError{Path: o.Path, Why: "is a database"}
	case end == ".yaml" || end == ".yml":
		return true, &InTheWayError{Path: o.Path, Why: "may be a plan"}
	case !bytes.Contains(head, []byte(mark)) && !o.Overwrite:
		return true, &InTheWayError{Path: o.Path, Why: "is there, and this program did not make it", Asks: true}
	}
	return true, nil
}

// Write makes the file, or replaces it when the new one is whole.
func (o Output) Write(data []byte) error {
	there, err := o.look()
	if err != nil {
		return err
	}
	data = marked(data)
	if !there {
		f, err := Create(o.Path, 0o644)
		if err != nil {
			return err
		}
		_, err = f.Write(data)
		return errors.Join(err, f.Close())
	}
	return replace(o.Path, data, nil, false)
}

// ChangedError tells that a file is not what it was when it was read.
type ChangedError struct{ Path string }

func (e *ChangedError) Error() string {
	return e.Path + " was changed by another program in the meantime, so it is not written over"
}

// Replace writes a file anew: the former one is there until the new one is whole. Mode, owner and other names of the
// file stay, and of a symbolic link the file that it names is replaced. If was is not nil, the file must still hold it.
func Replace(path string, data, was []byte) error {
	path, err := filepath.EvalSymlinks(path)
	if err != nil {
		return err
	}
	return replace(path, data, was, true)
}

// replace is Replace for a path that is no link. Unless names are kept, other names of the file keep what it held.
func replace(path string, data, was []byte, names bool) error {
	info, err := os.Stat(path)
	if err != nil {
		return err
	}
	work := filepath.Join(filepath.Dir(path), "."+filepath.Base(path)+".new")
	file, err := Create(work, info.Mode().Perm())
	if err != nil {
		return fmt.Errorf("%s cannot be written: %w", work, err)
	}
	_, err = file.Write(data)
	owner := keepOwner(file, info)
	inPlace := names && (oneName(path, info) != nil || owner != nil) // else its other names, or its owner, would be lost
	err = errors.Join(err, file.Chmod(info.Mode().Perm()), file.Sync(), file.Close())
	if err == nil && was != nil {
		var now []byte
		if now, err = os.ReadFile(path); err == nil && !bytes.Equal(now, was) {
			err = &ChangedError{path}
		}
	}
	if err == nil && inPlace {
		err = overwrite(path, data)
		if err != nil { // the new text is whole beside it
			return fmt.Errorf("%w; the new text is in %s", err, work)
		}
		return os.Remove(work)
	}
	if err == nil {
		err = os.Rename(work, path)
	}
	if err != nil {
		return errors.Join(err, os.Remove(work))
	}
	return nil
}

// overwrite writes into a file that is there.
func overwrite(path string, data []byte) error {
	f, err := os.OpenFile(path, os.O_WRONLY|noFollow, 0)
	if err != nil {
		return err
	}
	_, err = f.Write(data)
	if err == nil {
		err = f.Truncate(int64(len(data)))
	}
	return errors.Join(err, f.Sync(), f.Close())
}

// marked is a file with the mark in a comment of its format; unchanged if the format is not known.
func marked(data []byte) []byte {
	comment := []byte("<!-- " + mark + " -->\n")
	const png = "\x89PNG\r\n\x1a\n"
	switch {
	case bytes.HasPrefix(data, []byte("<!DOCTYPE html>\n")), bytes.HasPrefix(data, []byte("<svg")):
		// Behind the first line, which is a whole tag: a picture begins with it.
		at := bytes.IndexByte(data, '\n') + 1
		return append(append(append([]byte{}, data[:at]...), comment...), data[at:]...)
	case bytes.HasPrefix(data, []byte("erDiagram")):
		return append([]byte("%% "+mark+"\n"), data...)
	case bytes.HasPrefix(data, []byte(png)) && len(data) > len(png)+8:
		// Behind the first chunk, whose length stands in front of it.
		at := len(png) + 12 + int(binary.BigEndian.Uint32(data[len(png):]))
		if at > len(data) {
			return data
		}
		chunk := append([]byte("tEXtComment\x00"), mark...)
		var b []byte
		b = append(b, data[:at]...)
		b = binary.BigEndian.AppendUint32(b, uint32(len(chunk)-4))
		b = append(b, chunk...)
		b = binary.BigEndian.AppendUint32(b, crc32.ChecksumIEEE(chunk))
		return append(b, data[at:]...)
	}
	return data
}
