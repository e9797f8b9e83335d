package during

import (
	"context"
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

	"evensprout/internal/plan"
	"evensprout/internal/safe"
	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/value"
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
		f, err := safe.Open(path)
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
			if slices.ContainsFunc(
				t.References,
				func(r schema.Reference) bool { return strings.EqualFold(r.Table, out[i].Name) },
			) {
				out = append(out, t)
			}
		}
	}
	return out
}

// MaxRows bounds the rows of unplanned tables that are looked at to know whether a database
// is still the same.
const MaxRows = 20_000

// AddRows adds the rows of the tables that stay when the planned ones are emptied; false if
// there are too many.
func (d *Digest) AddRows(ctx context.Context, s store.Store, db *schema.Database, p *plan.Plan) (bool, error) {
	emptied := Emptied(db, planned(p, db))
	left := int64(MaxRows)
	for _, t := range db.Tables {
		if slices.Contains(emptied, t) || t.External != "" {
			continue
		}
		n, err := s.Count(ctx, t)
		if err != nil {
			return false, err
		}
		if left -= n; left < 0 {
			return false, nil
		}
		var b []byte
		err = s.Select(ctx, store.Query{Table: t, Columns: t.Columns}, func(row []value.Value) error {
			for i := range row {
				b = row[i].AppendCanonical(b)
			}
			return nil
		})
		if err != nil {
			return false, err
		}
		d.Add(t.Name, b)
	}
	return true, nil
}

// External are the tables that would be emptied for a plan in a copy of a database, and
// whose rows are kept elsewhere: to empty them would empty those.
func External(db *schema.Database, p *plan.Plan) []*schema.Table {
	return slices.DeleteFunc(Emptied(db, planned(p, db)), func(t *schema.Table) bool { return t.External == "" })
}

// planned are the tables into which a plan, or one that it builds on, inserts rows.
func planned(p *plan.Plan, db *schema.Database) []*schema.Table {
	var out []*schema.Table
	for _, of := range append([]*plan.Plan{p}, p.Bases()...) {
		for _, t := range of.Outline(db) {
			if t.Table != nil && !t.Plan.Existing && (t.Plan.Write == nil || t.Plan.Write.Mode == plan.Insert) {
				out = append(out, t.Table)
			}
		}
	}
	return out
}

// Filled are the tables that are to be emptied before a plan is loaded into a copy of a
// database: nil if none of them has rows.
func Filled(ctx context.Context, s store.Store, db *schema.Database, p *plan.Plan) ([]*schema.Table, error) {
	tables := Emptied(db, planned(p, db))
	for _, t := range tables {
		if n, err := s.Count(ctx, t); err != nil || n > 0 {
			return tables, err
		}
	}
	return nil, nil
}
