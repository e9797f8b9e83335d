package files

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"evensprout/internal/grow"
	"evensprout/internal/order"
	"evensprout/internal/rng"
	"evensprout/internal/safe"
)

// ManifestName is what the manifest of an export is called.
const ManifestName = "manifest.json"

// manifestFormat numbers the form of manifests.
const manifestFormat = 1

// Manifest says what an export wrote: what the files hold, and which rows.
type Manifest struct {
	Format   int            `json:"format"`
	Plan     string         `json:"plan"`
	Edition  string         `json:"edition"`
	Seed     string         `json:"seed"`
	Clock    string         `json:"clock,omitempty"`
	MadeBy   string         `json:"made_by"`
	Kind     string         `json:"kind"`           // of the files: csv, ndjson, json, parquet, sql
	Names    string         `json:"names"`          // of their columns: fields, or columns
	Part     *order.Part    `json:"part,omitempty"` // nil: all rows
	Entities []ManifestRows `json:"entities"`

	PlanSHA256 string `json:"plan_sha256,omitempty"` // of the plan beside the files; empty if there is none
}

// ManifestRows is the rows of one entity.
type ManifestRows struct {
	Entity string `json:"entity"`
	Table  string `json:"table,omitempty"`
	// File is beside the manifest; empty where all rows are in one stream.
	File string `json:"file,omitempty"`
	// Inside is, of nested JSON, the lists that hold the rows, such as Order.Line.
	Inside      string           `json:"inside,omitempty"`
	Rows        uint64           `json:"rows"`
	Fingerprint grow.Fingerprint `json:"fingerprint"`
	Bytes       int64            `json:"bytes,omitempty"`
	SHA256      string           `json:"sha256,omitempty"`
	// Given are the identities of the rows at the beginning, written by hand or below
	// such; the others are grown ones, numbered from First on.
	Given   []RowID          `json:"given,omitempty"`
	First   uint64           `json:"first"`
	Columns []ManifestColumn `json:"columns"`
}

// ManifestColumn is a column of a file.
type ManifestColumn struct {
	Name   string `json:"name"`
	Field  string `json:"field"`
	Column string `json:"column,omitempty"` // of the table, if that is known
	Type   string `json:"type"`
	Scale  uint8  `json:"scale,omitempty"`
	Hidden bool   `json:"hidden,omitempty"` // a key that the plan does not mention
	Refers string `json:"refers,omitempty"` // Entity.field, whose value it holds
}

// RowID is an identity as 32 hexadecimal digits.
type RowID rng.ID

// MarshalText writes the digits.
func (id RowID) MarshalText() ([]byte, error) {
	return fmt.Appendf(nil, "%016x%016x", id[0], id[1]), nil
}

// UnmarshalText reads the digits.
func (id *RowID) UnmarshalText(text []byte) error {
	if len(text) != 32 {
		return fmt.Errorf("%q is not the identity of a row", text)
	}
	for i := range id {
		n, err := strconv.ParseUint(string(text[16*i:16*i+16]), 16, 64)
		if err != nil {
			return fmt.Errorf("%q is not the identity of a row", text)
		}
		id[i] = n
	}
	return nil
}

const maxManifest = 128 << 20 // bytes

// ReadManifest reads a manifest. An error is an *Error.
func ReadManifest(path string) (*Manifest, error) {
	f, err := safe.Open(path)
	if errors.Is(err, os.ErrNotExist) {
		return nil, &Error{
			File:    path,
			Message: "there is no such file",
			Hint:    "the manifest that export wrote is beside the files",
		}
	}
	if err != nil {
		return nil, &Error{File: path, Message: "the file cannot be read: " + err.Error()}
	}
	defer f.Close()
	data, err := io.ReadAll(io.LimitReader(f, maxManifest+1))
	if err != nil {
		return nil, &Error{File: path, Message: "the file cannot be read: " + err.Error()}
	}
	if len(data) > maxManifest {
		return nil, &Error{File: path, Message: fmt.Sprintf("the manifest is longer than %d MiB", maxManifest>>20)}
	}
	var m Manifest
	if err := json.Unmarshal(data, &m); err != nil {
		return nil, &Error{File: path, Message: "this is not a manifest of an export: " + err.Error()}
	}
	if m.Format != manifestFormat {
		return nil, &Error{
			File: path,
			Message: fmt.Sprintf(
				"this program cannot read this manifest: its format is %d, and %d is supported",
				m.Format,
				manifestFormat,
			),
		}
	}
	return &m, nil
}

// NewManifest begins a manifest.
func NewManifest() *Manifest { return &Manifest{Format: manifestFormat, Entities: []ManifestRows{}} }

// Entity is what the manifest says of an entity; nil if nothing.
func (m *Manifest) Entity(name string) *ManifestRows {
	i := slices.IndexFunc(m.Entities, func(r ManifestRows) bool { return r.Entity == name })
	if i < 0 {
		return nil
	}
	return &m.Entities[i]
}

// runIDs are the identities of rows: some by themselves, then numbered ones.
type runIDs struct {
	given []RowID
	first uint64
}

// ID is the identity that a row had when it was grown.
func (t *Table) ID(n uint64) (rng.ID, bool) {
	switch {
	case t.ids == nil:
		return rng.ID{}, false
	case n < uint64(len(t.ids.given)):
		return rng.ID(t.ids.given[n]), true
	}
	return rng.ID{0, t.ids.first + n - uint64(len(t.ids.given))}, true
}

// identify takes the identities of the rows from the manifest.
func (l *loader) identify() {
	m, err := ReadManifest(l.spec.Manifest)
	if err != nil {
		l.fault(err)
		l.problems[len(l.problems)-1].File = l.spec.Manifest
		return
	}
	rows := m.Entity(l.spec.Entity)
	if rows == nil {
		var names []string
		for _, e := range m.Entities {
			names = append(names, e.Entity)
		}
		l.add(
			0,
			0,
			fmt.Sprintf("the manifest %s does not mention %s", filepath.Base(l.spec.Manifest), l.spec.Entity),
			"it has "+strings.Join(names, ", "),
		)
		return
	}

	if rows.Rows != l.table.rows {
		l.add(
			0,
			0,
			fmt.Sprintf("the file has %d rows, and its manifest says %d", l.table.rows, rows.Rows),
			"rows added or removed by hand have no identity there: remove manifest from rows_from, and give a key",
		)
		return
	}
	l.table.ids = &runIDs{rows.Given, rows.First}
}
