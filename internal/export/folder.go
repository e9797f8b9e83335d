package export

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"

	"evensprout/internal/files"
)

// Folder takes the files of an export. They lie in a folder beside it until Place, so that
// an export that fails leaves nothing, and one that another program reads is whole.
type Folder struct {
	path, work string
	names      []string
}

// ErrPresent tells that a file is there already that no export wrote.
type ErrPresent struct{ Path string }

func (e *ErrPresent) Error() string {
	return fmt.Sprintf("%s already exists, and export did not write it", e.Path)
}

// NewFolder begins to fill a folder, which need not be there.
func NewFolder(path string) (*Folder, error) {
	path = filepath.Clean(path)
	if info, err := os.Stat(path); err == nil && !info.IsDir() {
		return nil, fmt.Errorf("%s is a file, not a folder", path)
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return nil, err
	}
	work, err := os.MkdirTemp(filepath.Dir(path), "."+filepath.Base(path)+".part-")
	if err != nil {
		return nil, err
	}
	return &Folder{path: path, work: work}, nil
}

// Create makes a file.
func (f *Folder) Create(name string) (io.WriteCloser, error) {
	if name != filepath.Base(name) {
		return nil, fmt.Errorf("%q is not the name of a file in a folder", name)
	}
	f.names = append(f.names, name)
	return os.OpenFile(filepath.Join(f.work, name), os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o644)
}

// Put makes a file with a content.
func (f *Folder) Put(name string, content []byte) error {
	w, err := f.Create(name)
	if err != nil {
		return err
	}
	_, err = w.Write(content)
	return errors.Join(err, w.Close())
}

// PutManifest makes the file of a manifest.
func (f *Folder) PutManifest(m *files.Manifest) error {
	text, err := json.MarshalIndent(m, "", "  ")
	if err != nil {
		return err
	}
	return f.Put(files.ManifestName, append(text, '\n'))
}

// earlier are the files of an earlier export, as its manifest says; none if there is none.
func (f *Folder) earlier() []string {
	m, err := files.ReadManifest(filepath.Join(f.path, files.ManifestName))
	if err != nil {
		return nil
	}
	old := []string{files.ManifestName, PlanName}
	for _, e := range m.Entities {
		if e.File != "" && e.File == filepath.Base(e.File) {
			old = append(old, e.File)
		}
	}
	return old
}

// Place moves the files to where they belong. Files of an earlier export, as its manifest
// says, go; any other file of the same name is an *ErrPresent, unless it may be replaced.
func (f *Folder) Place(replace bool) error {
	old := f.earlier()
	for _, name := range f.names {
		at := filepath.Join(f.path, name)
		if _, err := os.Lstat(at); err == nil && !replace && !slices.Contains(old, name) {
			return &ErrPresent{at}
		}
	}
	if err := os.MkdirAll(f.path, 0o755); err != nil {
		return err
	}
	for _, name := range old {
		if !slices.Contains(f.names, name) {
			if err := os.Remove(filepath.Join(f.path, name)); err != nil && !errors.Is(err, os.ErrNotExist) {
				return err
			}
		}
	}
	for _, name := range f.names {
		if err := os.Rename(filepath.Join(f.work, name), filepath.Join(f.path, name)); err != nil {
			return err
		}
	}
	return nil
}

// Close removes what was not placed.
func (f *Folder) Close() error { return os.RemoveAll(f.work) }
