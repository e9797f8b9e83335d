package load

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"

	"evensprout/internal/grow"
)

// placeholders are the files that rows name. They are written aside while rows are
// written, and put into their places right before the commit; if that fails, they are
// taken away again. Everything stays inside the plan's folder.
type placeholders struct {
	root   *os.Root
	grower *grow.Grower
	aside  string            // folder of the files not in place yet
	files  map[string]string // place to the name aside
	placed []string
}

// FileError is a placeholder file that cannot be made or put into place.
type FileError struct {
	Path string
	Err  error
}

func (e *FileError) Error() string { return fmt.Sprintf("the file %s: %s", e.Path, e.Err) }
func (e *FileError) Unwrap() error { return e.Err }

const maxPlaceholders = 1_000_000

// newPlaceholders makes the folder for the files that rows name.
func newPlaceholders(folder string, s *grow.Set) (*placeholders, error) {
	root, err := os.OpenRoot(folder)
	if err != nil {
		return nil, err
	}
	return &placeholders{
		root:   root,
		grower: grow.NewGrower(s),
		aside:  ".evensprout-unfinished",
		files:  map[string]string{},
	}, nil
}

// add writes the files of a batch aside.
func (p *placeholders) add(b *grow.Batch) error {
	for j, f := range b.Entity.Fields {
		spec, ok := f.File()
		if !ok {
			continue
		}
		for i := range b.Len {
			v := b.Row(i)[j]
			if v.IsNull() {
				continue
			}
			place := path.Join(spec.Folder, v.S)
			if len(p.files) >= maxPlaceholders {
				return &FileError{place, fmt.Errorf("more than %d files in one load", maxPlaceholders)}
			}
			if len(p.files) == 0 {
				if err := p.root.Mkdir(p.aside, 0o700); err != nil {
					if errors.Is(err, fs.ErrExist) {
						err = errors.New(
							"it is left from an unfinished or running load; if none is running, remove it",
						)
					}
					return &FileError{p.aside, err}
				}
			}
			name := path.Join(p.aside, fmt.Sprint(len(p.files)))
			if err := p.root.WriteFile(name, p.grower.File(b.Entity, b.At(i), f), 0o644); err != nil {
				return &FileError{place, err}
			}
			p.files[place] = name
		}
	}
	return nil
}

// place puts the files where they belong. A file that is there already must have the
// same contents: nothing of somebody else's is overwritten.
func (p *placeholders) place() error {
	for place, name := range p.files {
		if err := p.root.MkdirAll(path.Dir(place), 0o755); err != nil {
			return &FileError{place, err}
		}
		there, err := Regular(p.root, place)
		if err != nil {
			return &FileError{place, err}
		}
		if there {
			old, err := p.root.Open(place)
			if err != nil { // it is there: what cannot be read is not replaced
				return &FileError{place, err}
			}
			same, err := p.same(old, name)
			if err == nil && !same {
				err = errors.New("it already exists, with other contents")
			}
			if err != nil {
				return &FileError{place, err}
			}
			continue
		}
		// A link is not made over a file that somebody has put there meanwhile.
		if err := p.root.Link(name, place); errors.Is(err, fs.ErrExist) {
			return &FileError{place, errors.New("it already exists")}
		} else if err == nil {
			err = p.root.Remove(name)
			p.placed = append(p.placed, place)
			if err != nil {
				return &FileError{place, err}
			}
			continue
		}
		if err := p.root.Rename(name, place); err != nil { // a file system without links
			return &FileError{place, err}
		}
		p.placed = append(p.placed, place)
	}
	return nil
}

// Regular reports whether a file is there; an error, whether something else is.
func Regular(root *os.Root, place string) (bool, error) {
	info, err := root.Lstat(place)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return false, nil
	case err != nil:
		return false, err
	case !info.Mode().IsRegular():
		return false, errors.New("it already exists, and is no regular file")
	}
	return true, nil
}

// same reports whether a file holds what is in another.
func (p *placeholders) same(old *os.File, name string) (bool, error) {
	defer old.Close()
	a, err := io.ReadAll(io.LimitReader(old, grow.MaxFileBytes*2))
	if err != nil {
		return false, err
	}
	b, err := p.root.ReadFile(name)
	return bytes.Equal(a, b), err
}

// end removes what is aside, and, unless the load is committed, what was placed.
func (p *placeholders) end(committed bool) error {
	var first error
	note := func(err error) {
		if err != nil && first == nil && !errors.Is(err, fs.ErrNotExist) {
			first = err
		}
	}
	if !committed {
		for _, place := range p.placed {
			note(p.root.Remove(place))
		}
	}
	if len(p.files) > 0 {
		note(p.root.RemoveAll(p.aside))
	}
	note(p.grower.Close())
	note(p.root.Close())
	return first
}
