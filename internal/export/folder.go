package export

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"

	"evensprout/internal/files"
	"evensprout/internal/safe"
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

// earlier are the files of an earlier export that still hold what it wrote, as its manifest says; none if there is none.
func (f *Folder) earlier() []string {
	m, err := files.ReadManifest(filepath.Join(f.path, files.ManifestName))
	if err != nil {
		return nil
	}
	old := []string{files.ManifestName}
	if f.holds(PlanName, m.PlanSHA256) {
		old = append(old, PlanName)
	}
	for _, e := range m.Entities {
		if e.File != "" && e.File == filepath.Base(e.File) && f.holds(e.File, e.SHA256) {
			old = append(old, e.File)
		}
	}
	return old
}

// holds reports whether a file has a digest.
func (f *Folder) holds(name, digest string) bool {
	file, err := safe.OpenUnlinked(filepath.Join(f.path, name))
	if err != nil {
		return false
	}
	defer file.Close()
	if info, err := file.Stat(); err != nil || !info.Mode().IsRegular() {
		return false
	}
	h := sha256.New()
	_, err = io.Copy(h, file)
	return err == nil && hex.EncodeToString(h.Sum(nil)) == digest
}

// Place moves the files to where they belong. Files of an earlier export that are as it wrote them go, if this export
// has a manifest, too; any other file of the same name is an *ErrPresent, unless it may be replaced. Databases, plans
// and the inputs of the command are never replaced.
func (f *Folder) Place(replace bool, inputs []string) error {
	old := f.earlier()
	for _, name := range f.names {
		at := filepath.Join(f.path, name)
		if _, err := os.Lstat(at); err != nil || slices.Contains(old, name) {
			continue
		}
		if !replace {
			return &ErrPresent{at}
		}
		if err := (safe.Output{Path: at, Overwrite: true, Inputs: inputs}).Check(); err != nil {
			return err
		}
	}
	if err := os.MkdirAll(f.path, 0o755); err != nil {
		return err
	}
	if !slices.Contains(f.names, files.ManifestName) {
		old = nil // one file beside an earlier export takes nothing of it away
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
