package load_test

import (
	"encoding/json"
	"path/filepath"
	"strings"
	"testing"

	"evensprout/internal/archive"
	"evensprout/internal/load"
	"evensprout/internal/loadtest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/diag"
	"evensprout/internal/plan"
)

// What was left out is corrected by hand and loaded again, on every engine.
func TestCorrectedRejectsAreLoaded(t *testing.T) {
	const entities = `  Guest:
    table: guests
    given:
      ada: {email: ada@example.com, spent: 12.50, stays: 3}
      bo:  {email: ada@example.com, spent: 1.25, stays: 1}
  Stay:
    table: stays
    per: {Guest: 1}
    fields: {room: {count: 1}, price: 2.00, mail: {same: Guest.email}}
`
	loadtest.OnEach(t, families, func(t *testing.T, d *loadtest.DB) {
		var file strings.Builder
		r, err := d.Load(
			t,
			entities,
			load.Options{Policies: plan.Policies{"unique": plan.Skip}, Rejected: func(x load.Rejection) error {
				fields := map[string]any{}
				for i, name := range x.Fields {
					if v := x.Values[i]; !v.IsNull() {
						fields[name] = v.String()
					}
				}
				b, err := json.Marshal(
					map[string]any{"entity": x.Refusal.Entity, "fields": fields, "violation": x.Refusal},
				)
				file.WriteString(string(b) + "\n")
				return err
			}},
		)
		require.NoError(t, err)
		assert.Equal(t, int64(2), r.Rejected)
		fixed := strings.Replace(file.String(), `"email":"ada@example.com"`, `"email":"bo@example.com"`, 1)
		c, err := archive.FromRejects(d.Compile(t, entities), "left.ndjson", strings.NewReader(fixed))
		require.NoError(t, err)
		r, err = load.Run(t.Context(), c, d.Store, load.Options{})
		require.NoError(t, err)
		assert.Equal(t, int64(2), r.Rows)
		assert.Equal(t, []string{"1 ada@example.com 12.50 3", "2 bo@example.com 1.25 1"}, d.Table(t, "guests"))
		assert.Len(t, d.Table(t, "stays"), 2)
		// Not corrected: the line is named.
		_, err = load.Run(t.Context(), c, d.Store, load.Options{})
		var present *load.Present
		require.ErrorAs(t, err, &present)
	})
}

func TestFaultsOfRejectsFiles(t *testing.T) {
	s := database(t, strings.ReplaceAll(families, "{key}", "INTEGER PRIMARY KEY"))
	c := compile(
		t,
		s,
		loadtest.Head+"  Guest: {table: guests, rows: 3, fields: {email: {kind: email, unique: true}, spent: "+
			"{between: [1.00, 2.00]}, stays: 1}}\n",
	)
	_, err := archive.FromRejects(c, "left.ndjson", strings.NewReader(`{"entity":"Gest","fields":{}}
not json
{"entity":"Guest","fields":{"email":7,"spent":"1.234","stays":1.5,"colour":"red"}}

{"entity":"Guest","fields":{"email":"x","spent":null}} {"more":1}
`))
	var p diag.Problems
	require.ErrorAs(t, err, &p)
	text := p.Error()
	for _, want := range []string{`left.ndjson:1:1: the plan has no entity "Gest"`, `did you mean "Guest"?`,
		"left.ndjson:2:1: this line", "Guest.email: 7 is not text:",
		`"1.234" has more than 2`, `"1.5" is not a whole number`, `Guest has no field "colour"`,
		"left.ndjson:5:1: this line"} {
		assert.Contains(t, text, want)
	}
}

// What hangs on a rejected row counts against the limit, too.
func TestTheLimitCountsConsequences(t *testing.T) {
	loadtest.OnEach(t, families, func(t *testing.T, d *loadtest.DB) {
		const entities = "  Guest: {table: guests, given: {a: {email: a@example.com}, b: {email: " +
			"a@example.com}}}\n  Stay: {table: stays, per: {Guest: 3}, fields: {room: {count: 1}, price: 2.00, " +
			"mail: {same: Guest.email}}}\n"
		before := loadtest.Dump(t, d.Store)
		_, err := d.Load(t, entities, load.Options{Policies: plan.Policies{"unique": plan.Skip}, MaxRejects: 3})
		var many *load.TooMany
		require.ErrorAs(t, err, &many)
		assert.Equal(t, before, loadtest.Dump(t, d.Store))
		r, err := d.Load(t, entities, load.Options{Policies: plan.Policies{"unique": plan.Skip}, MaxRejects: 4})
		require.NoError(t, err)
		assert.Equal(t, int64(4), r.Rejected)
	})
}

// A chunk that is written again meets its own rows again: they are no twins.
func TestRowsOfAChunkThatIsWrittenAgainAreNoTwins(t *testing.T) {
	loadtest.OnEach(
		t,
		families+"INSERT INTO guests (id, email, stays) VALUES (900, 'x17@example.com', 17);",
		func(t *testing.T, d *loadtest.DB) {
			const entities = "  Guest: {table: guests, write: {mode: upsert, match: [id]}, rows: 60, fields: {id: " +
				"{derive: \"n + 0\"}, n: {count: 1, column: stays}, email: {text: \"x{m}@example.com\"}, m: " +
				"{between: 10..400, spread: free, column: spent}}}\n"
			r, err := d.Load(t, entities, load.Options{Policies: plan.Policies{"unique": plan.Redraw}, Chunk: 20})
			require.NoError(t, err)
			assert.Positive(t, r.Redrawn)
			assert.Equal(t, int64(60), r.Rows)
		},
	)
}

// Files go with the rows that are really written, whatever way these take.
func TestFilesOfRowsThatAreLeftOut(t *testing.T) {
	const tables = "CREATE TABLE photos (id INTEGER PRIMARY KEY, code VARCHAR(9) NOT NULL UNIQUE, photo VARCHAR(60));"
	loadtest.OnEach(t, tables, func(t *testing.T, d *loadtest.DB) {
		for _, write := range []string{"insert", "{mode: upsert, match: [id]}"} {
			folder := t.TempDir()
			r, err := d.Load(
				t,
				"  Photo: {table: photos, write: "+write+", rows: 9, fields: {id: {count: 1}, code: {choose: [a, "+
					"b, c]}, photo: {file: {folder: pics, as: png, size: 2x2}}}}\n",
				load.Options{Folder: folder, Policies: plan.Policies{"unique": plan.Skip}},
			)
			require.NoError(t, err)
			files, err := filepath.Glob(filepath.Join(folder, "pics", "*.png"))
			require.NoError(t, err)
			var names []string
			for _, f := range files {
				names = append(names, filepath.Base(f))
			}
			if write == "insert" {
				assert.Equal(t, int64(6), r.Rejected)
				assert.ElementsMatch(t, d.Table(t, "photos", "photo"), names)
			} else {
				assert.Len(t, names, 3)
			}
		}
	})
}
