package during

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"evensprout/internal/schema"
)

// Digest names what a database is made from: two with the same name are the same.
type Digest struct{ h hash.Hash }

// NewDigest begins with the form of digests.
func NewDigest(form string) *Digest {
	d := &Digest{sha256.New()}
	d.Add("form", []byte(form))
	return d
}

// Add adds a part.
func (d *Digest) Add(what string, content []byte) {
	fmt.Fprintf(d.h, "%d %s %d\n", len(what), what, len(content))
	d.h.Write(content)
}

// AddFile adds what a file holds; of a folder, all files in and below it, with their names.
func (d *Digest) AddFile(what, path string) error {
	info, err := os.Stat(path)
	if err != nil {
		return err
	}
	if !info.IsDir() {
		f, err := os.Open(path)
		if err != nil {
			return err
		}
		defer f.Close()
		h := sha256.New()
		if _, err := io.Copy(h, f); err != nil {
			return err
		}
		d.Add(what, h.Sum(nil))
		return nil
	}
	return filepath.WalkDir(path, func(at string, e fs.DirEntry, err error) error {
		if err != nil || !e.Type().IsRegular() {
			return err
		}
		name, err := filepath.Rel(path, at)
		if err != nil {
			return err
		}
		return d.AddFile(what+" "+filepath.ToSlash(name), at)
	})
}

// AddSchema adds the tables of a database.
func (d *Digest) AddSchema(db *schema.Database) error {
	text, err := json.Marshal(db)
	if err == nil {
		d.Add("tables", text)
	}
	return err
}

const keyDigits = 24

// Key is short enough for the name of a database.
func (d *Digest) Key() string { return hex.EncodeToString(d.h.Sum(nil))[:keyDigits] }

// Emptied are the tables whose rows go when those of some tables go: these, and all that
// refer to them.
func Emptied(db *schema.Database, planned []*schema.Table) []*schema.Table {
	out := slices.Clone(planned)
	for i := 0; i < len(out); i++ {
		for _, t := range db.Tables {
			if slices.Contains(out, t) {
				continue
			}
			if slices.ContainsFunc(t.References, func(r schema.Reference) bool { return strings.EqualFold(r.Table, out[i].Name) }) {
				out = append(out, t)
			}
		}
	}
	return out
}
