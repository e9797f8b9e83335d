package archive

import (
	"archive/zip"
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"

	"evensprout/internal/journal"

	"evensprout/internal/diag"
	"evensprout/internal/grow"
	"evensprout/internal/plan"
	"evensprout/internal/safe"
	"evensprout/internal/schema"
	"evensprout/internal/value"
)

// The members of the archive that the journal keeps of a load: all that its rows can be
// grown from again.
const (
	archivePlan      = "plan.yaml"
	archiveIndex     = "index.json"
	archiveCorrected = "corrected.ndjson"
)

// maxArchived bounds the input files that are kept with a load, in bytes: they go to the
// server in one statement. Of what is beyond that only the digest is kept.
const maxArchived = 8 << 20

// What the journal keeps of a load unpacks to no more bytes, and has no more parts.
const (
	maxUnpacked = 64 << 20
	maxMembers  = 10_000
)

// Index is what an archive says about itself.
type Index struct {
	PlanFile  string          `json:"plan_file"`
	Corrected string          `json:"corrected,omitempty"` // the rejects file that was loaded in place of the plan
	Parts     []journal.Input `json:"parts,omitempty"`
}

// Pack packs what a plan's rows are grown from.
func Pack(c *plan.Compiled) ([]byte, *Index, error) {
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	put := func(name string, data []byte) error {
		w, err := z.Create(name)
		if err != nil {
			return err
		}
		_, err = w.Write(data)
		return err
	}
	x := &Index{PlanFile: Absolute(c.Plan.File()), Corrected: c.Corrected}
	text := c.Plan.ForJournal()
	if text == nil {
		return nil, nil, fmt.Errorf("%s: the password in database: cannot be told from the rest of the plan, and the journal must not keep it: "+
			"write the URL on a line of its own, or name it in DATABASE_URL", c.Plan.File())
	}
	err := put(archivePlan, text)
	seen := map[string]bool{}
	left := int64(maxArchived)
	inputs := c.Inputs
	if c.Corrected != "" {
		inputs = append(inputs, c.Corrected)
	}
	for _, path := range inputs {
		if seen[path] || err != nil {
			continue
		}
		seen[path] = true
		a, data, failed := ReadInput(path)
		if err = failed; err != nil {
			break
		}
		if data != nil && a.Bytes <= left {
			left -= a.Bytes
			a.Member = fmt.Sprintf("file-%d%s", len(x.Parts), filepath.Ext(path))
			err = put(a.Member, data)
		}
		x.Parts = append(x.Parts, a)
	}
	if err == nil {
		err = packTables(c, x, put)
	}
	if err != nil {
		return nil, nil, err
	}
	index, err := json.Marshal(x)
	if err != nil {
		return nil, nil, err
	}
	if err := put(archiveIndex, index); err != nil {
		return nil, nil, err
	}
	if err := z.Close(); err != nil {
		return nil, nil, err
	}
	return b.Bytes(), x, nil
}

// packTables puts the rows of existing tables that a plan refers to into an archive.
func packTables(c *plan.Compiled, x *Index, put func(name string, data []byte) error) error {
	for _, t := range c.Targets {
		if !t.Plan.Existing || t.Grow.Table == nil {
			continue
		}
		data, err := packTable(t.Grow.Table, t.Table.Columns)
		if err != nil {
			return err
		}
		a := journal.Input{
			Table:  t.Table.Name,
			Member: fmt.Sprintf("rows-%d", len(x.Parts)),
			Rows:   int64(t.Grow.Table.Len()),
			Bytes:  int64(len(data)),
			Digest: digestOf(data),
		}
		if err := put(a.Member, data); err != nil {
			return err
		}
		x.Parts = append(x.Parts, a)
	}
	return nil
}

// Absolute is a path from the root, for a path that may be relative; the path itself if that
// cannot be told.
func Absolute(path string) string {
	if a, err := filepath.Abs(path); err == nil {
		return a
	}
	return path
}

// digestOf is the SHA-256 of data, in hexadecimal.
func digestOf(data []byte) string {
	d := sha256.Sum256(data)
	return hex.EncodeToString(d[:])
}

// ReadInput reads a file's digest, and its contents unless it is too large.
func ReadInput(path string) (journal.Input, []byte, error) {
	a := journal.Input{Path: Absolute(path)}
	f, err := safe.Open(path)
	if err != nil {
		return a, nil, err
	}
	defer f.Close()
	var kept bytes.Buffer
	h := sha256.New()
	if a.Bytes, err = io.Copy(io.MultiWriter(h, &limited{&kept, maxArchived + 1}), f); err != nil {
		return a, nil, err
	}
	a.Digest = hex.EncodeToString(h.Sum(nil))
	if a.Bytes > maxArchived {
		return a, nil, nil
	}
	data := append([]byte{}, kept.Bytes()...)
	if text := plan.TextForJournal(path, data); !bytes.Equal(text, data) { // a plan that holds a password
		data = text
		a.Bytes, a.Digest = int64(len(data)), digestOf(data)
	}
	return a, data, nil
}

// CorrectedSet names the rows of a rejects file in the journal.
func CorrectedSet(path string) (string, error) {
	a, _, err := ReadInput(path)
	if err != nil {
		return "", err
	}
	const digits = 16
	return "corrected " + a.Digest[:digits], nil
}

// limited keeps the first bytes that are written to it.
type limited struct {
	into *bytes.Buffer
	left int
}

// Write writes what there is room for, and drops the rest.
func (l *limited) Write(p []byte) (int, error) {
	n := min(len(p), l.left)
	l.into.Write(p[:n])
	l.left -= n
	return len(p), nil
}

// packTable packs rows that were read from the database.
func packTable(t grow.Table, columns []*schema.Column) ([]byte, error) {
	r := t.Reader()
	defer r.Close()
	p := journal.Packer{Columns: columns}
	for n := range t.Len() {
		row, err := r.Row(n)
		if err == nil {
			err = p.Add(grow.Row{}, row)
		}
		if err != nil {
			return nil, err
		}
	}
	if err := p.Close(); err != nil {
		return nil, err
	}
	var out []packedRows
	for _, x := range p.Packets {
		out = append(out, packedRows{x.Rows, x.Body})
	}
	return json.Marshal(out)
}

// packedRows is a member of an archive that holds rows of an existing table, packed.
type packedRows struct {
	Rows int64  `json:"rows"`
	Body []byte `json:"body"`
}

// Cleaned is what the journal keeps of a load without passwords, which earlier versions kept; nil if it holds none.
func Cleaned(e *journal.Entry) ([]byte, error) {
	member, x, err := openArchive(e)
	if err != nil {
		return nil, err
	}
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	changed := false
	put := func(name, path string) error {
		data, err := member(name)
		if err != nil {
			return err
		}
		if text := plan.TextForJournal(path, data); !bytes.Equal(text, data) {
			data, changed = text, true
		}
		w, err := z.Create(name)
		if err == nil {
			_, err = w.Write(data)
		}
		return err
	}
	err = put(archivePlan, "plan.yaml")
	for i := range x.Parts {
		if err == nil && x.Parts[i].Member != "" {
			err = put(x.Parts[i].Member, x.Parts[i].Path)
		}
	}
	if err == nil {
		err = put(archiveIndex, "")
	}
	if err = errors.Join(err, z.Close()); err != nil || !changed {
		return nil, err
	}
	return b.Bytes(), nil
}

// openArchive opens what the journal keeps of a load. The function reads a member.
func openArchive(e *journal.Entry) (func(string) ([]byte, error), *Index, error) {
	left := int64(maxUnpacked)
	z, err := zip.NewReader(bytes.NewReader(e.Body), int64(len(e.Body)))
	if err == nil && len(z.File) > maxMembers {
		err = fmt.Errorf("it has more than %d parts", maxMembers)
	}
	if err != nil {
		return nil, nil, fmt.Errorf("the journal's copy of load %d cannot be read: %w", e.Number, err)
	}
	member := func(name string) ([]byte, error) {
		f, err := z.Open(name)
		if err != nil {
			return nil, fmt.Errorf("the journal's copy of load %d lacks %s: %w", e.Number, name, err)
		}
		defer f.Close()
		data, err := io.ReadAll(io.LimitReader(f, left+1))
		if left -= int64(len(data)); err == nil && left < 0 {
			err = fmt.Errorf("the journal's copy of load %d unpacks to more than %d bytes", e.Number, maxUnpacked)
		}
		return data, err
	}
	text, err := member(archiveIndex)
	if err != nil {
		return nil, nil, err
	}
	var x Index
	return member, &x, json.Unmarshal(text, &x)
}

// Plan reads the plan of a load.
func Plan(e *journal.Entry) (*plan.Plan, error) {
	member, x, err := openArchive(e)
	if err != nil {
		return nil, err
	}
	source, err := member(archivePlan)
	if err != nil {
		return nil, err
	}
	return plan.ReadStored(x.PlanFile, source)
}

// unpack puts the files of an archive into a folder, and tells where each is now, by its
// path. A file that the archive only names is the operator's own.
func (o Operator) unpack(
	x *Index,
	member func(string) ([]byte, error),
	folder string,
) (map[string]string, error) {
	paths := map[string]string{}
	for _, a := range x.Parts {
		if a.Path == "" {
			continue
		}
		if a.Member == "" {
			path, err := o.file(a)
			if err != nil {
				return nil, err
			}
			paths[a.Path] = path
			continue
		}
		data, err := member(a.Member)
		if err != nil {
			return nil, err
		}
		paths[a.Path] = filepath.Join(folder, filepath.Base(a.Member))
		if err := os.WriteFile(paths[a.Path], data, 0o600); err != nil {
			return nil, err
		}
	}
	return paths, nil
}

// keptRows opens a file of rows that the journal keeps: whoever wrote the journal may name
// any other.
func (o Operator) keptRows(spec plan.FileSpec, paths map[string]string) (plan.FileRows, diag.Problems) {
	for _, at := range []*string{&spec.Path, &spec.Manifest} {
		if *at == "" {
			continue
		}
		kept, ok := paths[Absolute(*at)]
		if !ok {
			return nil, diag.Problems{{
				Message: fmt.Sprintf("the plan in the journal reads %s, which is not in the journal", *at),
			}}
		}
		*at = kept
	}
	if o.Rows == nil {
		return nil, diag.Problems{{Message: "rows of files cannot be read here"}}
	}
	return o.Rows(spec)
}

// Revive makes a plan of an archive again. The error is diag.Problems if the plan does
// not fit the database any more.
func Revive(e *journal.Entry, db *schema.Database, by Operator) (c *plan.Compiled, err error) {
	member, x, err := openArchive(e)
	if err != nil {
		return nil, err
	}
	folder, err := os.MkdirTemp("", "evensprout-")
	if err != nil {
		return nil, err
	}
	remove := func() error { return os.RemoveAll(folder) }
	defer func() {
		if err != nil {
			err = errors.Join(err, remove())
		}
	}()
	paths, err := by.unpack(x, member, folder)
	if err != nil {
		return nil, err
	}
	p, err := Plan(e)
	if err != nil {
		return nil, err
	}
	since := &plan.Migration{Renamed: func(entity, field string) string {
		if !by.Knows(e) {
			return ""
		}
		return by.renamed(entity, field)
	}}
	c, err = p.Compile(plan.Options{
		Since: since, Database: db, Clock: e.About.Clock, Shift: e.About.Shift, WithoutUnits: true, WithoutAlways: true,
		Rows:  func(spec plan.FileSpec) (plan.FileRows, diag.Problems) { return by.keptRows(spec, paths) },
		Plans: func(path string) (*plan.Plan, error) { return keptPlan(path, paths) },
		Existing: func(t *schema.Table) (grow.Table, error) {
			i := slices.IndexFunc(x.Parts, func(a journal.Input) bool { return a.Table == t.Name })
			if i < 0 {
				return nil, errors.New("they are not in the journal")
			}
			data, err := member(x.Parts[i].Member)
			if err != nil {
				return nil, err
			}
			return unpackTable(data, t.Columns)
		},
	})
	if err != nil {
		return nil, err
	}
	c.OnClose(remove)
	c.Lost = since.Lost
	if x.Corrected == "" {
		return c, nil
	}
	kept, ok := paths[Absolute(x.Corrected)]
	if !ok {
		return nil, fmt.Errorf("the journal has no copy of %s, whose rows were loaded", x.Corrected)
	}
	data, err := safe.ReadFile(kept, maxArchived)
	if err != nil {
		return nil, err
	}
	out, err := FromRejects(c, x.Corrected, bytes.NewReader(data))
	if err == nil {
		out.OnClose(c.Close)
	}
	return out, err
}

// keptPlan reads a plan that the journal keeps beside the one that builds on it.
func keptPlan(path string, paths map[string]string) (*plan.Plan, error) {
	kept, ok := paths[Absolute(path)]
	if !ok {
		return nil, fmt.Errorf("%w in the journal", plan.ErrMissing)
	}
	text, err := safe.ReadFile(kept, plan.MaxFileBytes)
	if err != nil {
		return nil, err
	}
	return plan.ReadStored(path, text)
}

// file finds, among the files of the operator's plan, the one that was loaded and that there
// was no room to keep.
func (o Operator) file(a journal.Input) (string, error) {
	if o.Plan != nil {
		for _, path := range o.Plan.Files() {
			if now, _, err := ReadInput(path); err == nil && now.Bytes == a.Bytes && now.Digest == a.Digest {
				return path, nil
			}
		}
	}
	return "", fmt.Errorf(
		"a file of rows (%s when it was loaded, %d bytes, SHA-256 %s) was too large to keep, and the named plan "+
			"has no such file: put it back, and name the plan",
		a.Path,
		a.Bytes,
		a.Digest,
	)
}

// unpackTable makes rows of what was packed, with the columns that there are now.
func unpackTable(data []byte, columns []*schema.Column) (grow.Table, error) {
	var list []packedRows
	if err := json.Unmarshal(data, &list); err != nil {
		return nil, err
	}
	e := &existing{}
	for _, p := range list {
		err := journal.Unpack(p.Body, p.Rows, false, func(names []string, _ grow.Row, values []value.Value) error {
			row := make([]value.Value, len(columns))
			for i, c := range columns {
				for j, name := range names {
					if name == c.Name {
						row[i] = values[j]
					}
				}
			}
			e.rows = append(e.rows, row)
			return nil
		})
		if err != nil {
			return nil, err
		}
	}
	return e, nil
}
