package files

import (
	"bytes"
	"encoding/json"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/grow"
	"evensprout/internal/plan"
	"evensprout/internal/rng"
	"evensprout/internal/value"
)

// everyType is a column of every type that rows have.
var everyType = []Column{
	{
		"whole",
		value.Integer,
		0,
	}, {"price", value.Decimal, 2}, {"a \"name\", with", value.Text, 0}, {"raw", value.Bytes, 0},
	{"yes", value.Boolean, 0}, {"day", value.Date, 0},
	{"at", value.Time, 6}, {"moment", value.Timestamp, 6}, {"id", value.UUID, 0}, {"more", value.JSON, 0},
}

var someTexts = []string{
	"",
	" ",
	"plain",
	"comma, and \"quotes\"",
	"two\nlines",
	"\\N",
	"\\.",
	"tab\t",
	"päöü 日本 🙂",
	"<a & b>",
	"\u2028",
	"NULL",
	"true",
	"007",
	"'",
	strings.Repeat("x", 5000),
}

func someRow() []value.Value {
	n := func() int64 { return rand.Int64N(2_000_000) - 1_000_000 }
	row := []value.Value{
		value.Int(
			n(),
		), {Type: value.Decimal, Scale: 2, N: n()}, value.String(someTexts[rand.IntN(len(someTexts))]),
		{Type: value.Bytes, S: "\x00\xff" + someTexts[rand.IntN(len(someTexts))]},
		value.Bool(
			n() > 0,
		), {Type: value.Date, N: n() % 20000}, {Type: value.Time, N: (n() + 1_000_000) * 1000, Scale: 6},
		{Type: value.Timestamp, N: n() * 1_000_003, Scale: 6},
		{Type: value.UUID, N: n(), M: rand.Uint64()}, {Type: value.JSON, S: `{"a":[1,2.50,"x\n<y>"]}`},
	}
	for i := range row {
		if rand.IntN(5) == 0 {
			row[i] = value.Value{}
		}
	}
	return row
}

// canonical is rows as fingerprints see them.
func canonical(rows [][]value.Value) string {
	var b []byte
	for _, row := range rows {
		for i := range row {
			b = row[i].AppendCanonical(b)
		}
	}
	return string(b)
}

func TestWhatIsWrittenIsReadAgain(t *testing.T) {
	for _, format := range Formats() {
		var want [][]value.Value
		var b bytes.Buffer
		w, err := NewWriter(format, &b, everyType)
		require.NoError(t, err)
		for range 500 {
			row := someRow()
			want = append(want, row)
			require.NoError(t, w.Write(row))
		}
		require.NoError(t, w.Close())
		path := filepath.Join(t.TempDir(), "rows."+format)
		require.NoError(t, os.WriteFile(path, b.Bytes(), 0o644))
		manifest := filepath.Join(t.TempDir(), ManifestName)
		m := NewManifest()
		m.Entities = []ManifestRows{{Entity: "Thing", Rows: 500, First: 9, Given: []RowID{{1, 2}}}}
		text, err := json.Marshal(m)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(manifest, text, 0o644))
		spec := plan.FileSpec{Path: path, Manifest: manifest, Entity: "Thing"}
		for _, c := range everyType {
			spec.Columns = append(spec.Columns, &plan.FileColumn{Field: c.Name, Column: c.Name, As: c.Type})
		}
		table, problems := Rows(spec)
		require.Empty(t, problems, format)
		defer table.Close()
		var got [][]value.Value
		r := table.Reader()
		for n := range table.Len() {
			row, err := r.Row(n)
			require.NoError(t, err)
			got = append(got, append([]value.Value{}, row...))
		}
		require.Len(t, got, len(want), format)
		for i := range want {
			require.Equal(
				t,
				canonical(want[i:i+1]),
				canonical(got[i:i+1]),
				"%s: row %d: %v, and not %v",
				format,
				i,
				got[i],
				want[i],
			)
		}
		first, ok := table.(grow.Identified).ID(0)
		assert.True(t, ok)
		assert.Equal(t, rng.ID{1, 2}, first)
		next, _ := table.(grow.Identified).ID(1)
		assert.Equal(t, rng.ID{0, 9}, next)
	}
}

func TestEmptyFilesAreWhole(t *testing.T) {
	for format, want := range map[string]string{"csv": "a,b\r\n", "ndjson": "", "json": "[]\n"} {
		var b bytes.Buffer
		w, err := NewWriter(format, &b, []Column{{"a", value.Text, 0}, {"b", value.Integer, 0}})
		require.NoError(t, err)
		require.NoError(t, w.Close())
		assert.Equal(t, want, b.String())
	}
	_, err := NewWriter("xml", nil, nil)
	assert.ErrorContains(t, err, "csv, ndjson, json, parquet")
}

func TestCSVIsAsTheRFCSays(t *testing.T) {
	var b bytes.Buffer
	w, err := NewWriter("csv", &b, []Column{{"a", value.Text, 0}, {"b", value.Text, 0}})
	require.NoError(t, err)
	for _, row := range [][]value.Value{{value.String("x"), {}}, {value.String(""), value.String("say \"hi\", you")},
		{{}, value.String("two\nlines")}} {
		require.NoError(t, w.Write(row))
	}
	require.NoError(t, w.Close())
	assert.Equal(t, "a,b\r\nx,\r\n\"\",\"say \"\"hi\"\", you\"\r\n,\"two\nlines\"\r\n", b.String())
}

func TestManifestsThatAreNone(t *testing.T) {
	data := write(t, "rows.csv", "a\n1\n")
	spec := plan.FileSpec{
		Path:    data,
		Entity:  "Thing",
		Columns: []*plan.FileColumn{{Field: "a", Column: "a", As: value.Integer}},
	}
	for text, want := range map[string]string{
		"":              "not a manifest",
		"[]":            "not a manifest",
		`{"format": 9}`: "its format is 9",
		`{"format": 1, "entities": [{"entity": "Other", "rows": 1}]}`: "does not mention Thing",
		`{"format": 1, "entities": [{"entity": "Thing", "rows": 2}]}`: "the file " +
			"has 1 rows, and its manifest says 2",
		`{"format": 1, "entities": [{"entity": "Thing", "rows": 1, "given": ["xyz"]}]}`: "identity of a row",
		`{"format": 1, "entities": [{"entity": "Thing", "rows": 1, ` +
			`"given": ["zz000000000000000000000000000000"]}]}`: "identity of a row",
	} {
		spec.Manifest = write(t, ManifestName, text)
		_, problems := Rows(spec)
		require.NotEmpty(t, problems, text)
		assert.Contains(t, problems.Error(), want, text)
	}
	spec.Manifest = filepath.Join(t.TempDir(), "none.json")
	_, problems := Rows(spec)
	assert.Contains(t, problems.Error(), "there is no such file")
}

// What is written is read, also where values are as large as they may be.
func TestLargeValuesInParquet(t *testing.T) {
	path := filepath.Join(t.TempDir(), "rows.parquet")
	f, err := os.Create(path)
	require.NoError(t, err)
	w, err := NewWriter("parquet", f, []Column{{"a", value.Text, 0}, {"b", value.Bytes, 0}})
	require.NoError(t, err)
	large := strings.Repeat("x", maxLine-1<<20)
	for range 3 {
		require.NoError(t, w.Write([]value.Value{value.String(large), {Type: value.Bytes, S: large[:1000]}}))
	}
	require.NoError(t, w.Close())
	require.NoError(t, f.Close())
	rows, err := records(path, Options{})
	require.NoError(t, err)
	require.Len(t, rows, 3)
	assert.Contains(t, rows[2], large)
}

func FuzzParquet(f *testing.F) {
	var b bytes.Buffer
	w, err := NewWriter("parquet", &b, everyType)
	require.NoError(f, err)
	for range 20 {
		require.NoError(f, w.Write(someRow()))
	}
	require.NoError(f, w.Close())
	f.Add(b.Bytes())
	f.Add([]byte("PAR1PAR1"))
	f.Fuzz(func(t *testing.T, data []byte) {
		path := filepath.Join(t.TempDir(), "rows.parquet")
		require.NoError(t, os.WriteFile(path, data, 0o644))
		records(path, Options{})
	})
}

func FuzzManifest(f *testing.F) {
	f.Add(
		[]byte(
			`{"format": 1, "entities": [{"entity": "Thing", "rows": 1, "given": ` +
				`["00000000000000010000000000000002"]}]}`,
		),
	)
	f.Fuzz(func(t *testing.T, data []byte) {
		path := filepath.Join(t.TempDir(), ManifestName)
		require.NoError(t, os.WriteFile(path, data, 0o644))
		if m, err := ReadManifest(path); err == nil {
			m.Entity("Thing")
		}
	})
}
