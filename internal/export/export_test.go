package export

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/demo"
	"evensprout/internal/files"
	"evensprout/internal/grow"
	"evensprout/internal/order"
	"evensprout/internal/plan"
	"evensprout/internal/store"
)

func compiled(t *testing.T, text string) *plan.Compiled {
	p, err := plan.Read("evensprout.yaml", []byte(text))
	require.NoError(t, err)
	c, err := p.Compile(plan.Options{})
	require.NoError(t, err)
	t.Cleanup(func() { c.Close() })
	return c
}

// memory takes files.
type memory map[string]*bytes.Buffer

type buffer struct{ *bytes.Buffer }

func (buffer) Close() error { return nil }

func (m memory) create(name string) (io.WriteCloser, error) {
	m[name] = &bytes.Buffer{}
	return buffer{m[name]}, nil
}

func TestPartsAreTheWholeFileByFile(t *testing.T) {
	c := compiled(t, demo.Entities)
	whole := memory{}
	want, err := Files(t.Context(), c, Options{Format: "ndjson", Names: Fields, Jobs: 3}, whole.create)
	require.NoError(t, err)
	for _, parts := range []uint64{1, 2, 7} {
		joined := map[string]string{}
		sums := map[string]grow.Fingerprint{}
		for n := uint64(1); n <= parts; n++ {
			m := memory{}
			got, err := Files(
				t.Context(),
				c,
				Options{Format: "ndjson", Names: Fields, Jobs: 2, Part: order.Part{Number: n, Of: parts}},
				m.create,
			)
			require.NoError(t, err)
			for _, e := range got.Entities {
				sum := sums[e.Entity]
				sum.Add(e.Fingerprint)
				sums[e.Entity] = sum
				joined[e.File] += m[e.File].String()
				assert.EqualValues(t, m[e.File].Len(), e.Bytes)
				if n > 1 {
					assert.Empty(t, e.Given, "given rows belong to the first part")
				}
			}
		}
		for _, e := range want.Entities {
			assert.True(t, whole[e.File].String() == joined[e.File], "%s in %d parts", e.File, parts)
			assert.Equal(t, e.Fingerprint, sums[e.Entity])
		}
	}
	prints, err := c.Set.Fingerprints(t.Context(), 2)
	require.NoError(t, err)
	for i, e := range c.Set.Entities {
		assert.Equal(t, prints[i], want.Entity(e.Name).Fingerprint, e.Name)
	}
}

func TestStreamsHoldWhatFilesHold(t *testing.T) {
	c := compiled(t, demo.Entities)
	m := memory{}
	_, err := Files(t.Context(), c, Options{Format: "json", Names: Fields}, m.create)
	require.NoError(t, err)
	var out bytes.Buffer
	_, err = Stream(t.Context(), c, Options{Format: "json", Names: Fields}, &out)
	require.NoError(t, err)
	var all map[string]json.RawMessage
	require.NoError(t, json.Unmarshal(out.Bytes(), &all))
	for name, text := range all {
		assert.JSONEq(t, m[name+".json"].String(), string(text))
	}
	out.Reset()
	_, err = Stream(t.Context(), c, Options{Format: "csv", Names: Fields, Entities: []string{"Pier"}}, &out)
	require.NoError(t, err)
	assert.Equal(t, 10, strings.Count(out.String(), "\r\n"))
	_, err = Stream(t.Context(), c, Options{Format: "csv", Names: Fields}, &out)
	assert.ErrorContains(t, err, "holds one entity")
}

func TestAnExportThatIsInterruptedEnds(t *testing.T) {
	c := compiled(t, demo.Entities)
	ctx, cancel := context.WithCancel(t.Context())
	m := memory{}
	_, err := Files(ctx, c, Options{Format: "csv", Names: Fields, Jobs: 2}, func(name string) (io.WriteCloser, error) {
		if name == "Passenger.csv" {
			cancel()
		}
		return m.create(name)
	})
	assert.ErrorIs(t, err, context.Canceled)
}

func TestNamesOfFilesAreApart(t *testing.T) {
	c := compiled(t, `name: odd
seed: s
clock: 2026-05-01T08:00:00Z
entities:
  boat: {rows: 1, fields: {a: "yes: no # x"}}
  Boat: {rows: 1, fields: {a: 1}}
  BOAT: {rows: 2, fields: {a: null, b: {between: [1.00, 2.00]}}}
  Boat_2: {rows: 1, fields: {a: true}}
`)
	m := memory{}
	got, err := Files(t.Context(), c, Options{Format: "csv", Names: Fields}, m.create)
	require.NoError(t, err)
	seen := map[string]bool{}
	for _, e := range got.Entities {
		name := strings.ToLower(e.File)
		assert.False(t, seen[name], e.File)
		assert.Equal(t, filepath.Base(e.File), e.File)
		assert.NotContains(t, e.File, "..")
		seen[name] = true
	}
	// Whatever names there are, the plan that reads the files back can be read.
	text := Plan(c, got)
	folder := t.TempDir()
	for name, b := range m {
		require.NoError(t, os.WriteFile(filepath.Join(folder, name), b.Bytes(), 0o644))
	}
	manifest, err := json.Marshal(got)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(folder, files.ManifestName), manifest, 0o644))
	p, err := plan.Read(filepath.Join(folder, PlanName), text)
	require.NoError(t, err)
	again, err := p.Compile(plan.Options{Rows: files.Rows})
	require.NoError(t, err, string(text))
	defer again.Close()
	prints, err := again.Set.Fingerprints(t.Context(), 1)
	require.NoError(t, err)
	for i, e := range again.Set.Entities {
		assert.Equal(t, got.Entity(e.Name).Fingerprint, prints[i], e.Name)
	}
}

func TestFoldersAreWhole(t *testing.T) {
	at := filepath.Join(t.TempDir(), "deep", "rows")
	put := func(replace bool, names ...string) error {
		f, err := NewFolder(at)
		require.NoError(t, err)
		defer f.Close()
		m := files.NewManifest()
		for _, n := range names {
			require.NoError(t, f.Put(n, []byte(n)))
			m.Entities = append(m.Entities, files.ManifestRows{File: n, SHA256: fmt.Sprintf("%x", sha256.Sum256([]byte(n)))})
		}
		require.NoError(t, f.PutManifest(m))
		return f.Place(replace, nil)
	}
	have := func() (out []string) {
		list, err := os.ReadDir(at)
		require.NoError(t, err)
		for _, e := range list {
			out = append(out, e.Name())
		}
		return out
	}
	require.NoError(t, put(false, "a.csv", "b.csv"))
	assert.Equal(t, []string{"a.csv", "b.csv", "manifest.json"}, have())
	require.NoError(t, put(false, "b.csv", "c.csv"))
	assert.Equal(t, []string{"b.csv", "c.csv", "manifest.json"}, have(), "what is no longer written goes")
	require.NoError(t, os.WriteFile(filepath.Join(at, "d.csv"), []byte("mine"), 0o644))
	var present *ErrPresent
	require.ErrorAs(t, put(false, "d.csv"), &present)
	assert.Equal(t, []string{"b.csv", "c.csv", "d.csv", "manifest.json"}, have(), "nothing has changed")
	require.NoError(t, put(true, "d.csv"))
	assert.Equal(t, []string{"d.csv", "manifest.json"}, have())
	left, err := filepath.Glob(filepath.Join(filepath.Dir(at), ".*"))
	require.NoError(t, err)
	assert.Empty(t, left)
	f, err := NewFolder(at)
	require.NoError(t, err)
	defer f.Close()
	_, err = f.Create("../x")
	assert.ErrorContains(t, err, "name of a file in a folder")
	require.NoError(t, os.WriteFile(filepath.Join(t.TempDir(), "file"), nil, 0o644))
}

func TestNestedRows(t *testing.T) {
	c := compiled(t, demo.Entities)
	passenger := c.Target("Passenger")
	for references, want := range map[References]string{Keys: `"sailing": 161`, Named: `"sailing": "Sailing row ` +
		`160"`, Rows: `"code": "LW-`} {
		var out bytes.Buffer
		require.NoError(
			t,
			One(c, Options{Names: Fields, References: references}, passenger, grow.Row{N: 1, Side: true}, &out),
		)
		require.True(t, json.Valid(out.Bytes()), out.String())
		assert.Contains(t, out.String(), want)
	}
	var out bytes.Buffer
	m, err := Nested(
		t.Context(),
		c,
		Options{Names: Fields, Entities: []string{"Vessel", "VesselAmenity"}, References: Keys},
		"rows.json",
		&out,
	)
	require.NoError(t, err)
	assert.Equal(t, "Vessel.VesselAmenity", m.Entity("VesselAmenity").Inside)
	var all map[string][]struct{ VesselAmenity []any }
	require.NoError(t, json.Unmarshal(out.Bytes(), &all))
	require.Len(t, all["Vessel"], 12)
	for _, v := range all["Vessel"] {
		assert.Len(t, v.VesselAmenity, 3)
	}
	assert.NotContains(t, all, "VesselAmenity")
}

// Statements need the tables: a plan that was held against none is refused.
func TestStatementsNeedTheTables(t *testing.T) {
	c := compiled(t, demo.Entities)
	var fault *store.Fault
	require.ErrorAs(t, Statements(t.Context(), c, nil, nil), &fault)
	assert.Equal(t, "name the database with --db URL", fault.Hint)
}
