package storetest

import (
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/value"
)

// rowsOf counts the rows of a table in the database of a URL.
func rowsOf(t *testing.T, f *fixture, url, table string) int64 {
	t.Helper()
	s, err := f.engine.Driver.Open(t.Context(), url)
	require.NoError(t, err)
	defer s.Close()
	db, err := s.Survey(t.Context())
	require.NoError(t, err)
	require.NotNil(t, db.Table(table), "%s has no table %s", url, table)
	n, err := s.Count(t.Context(), db.Table(table))
	require.NoError(t, err)
	return n
}

func urlOf(t *testing.T, o store.Scratch, name string) string {
	t.Helper()
	u, err := o.URL(name)
	require.NoError(t, err)
	return u
}

func owned(t *testing.T, f *fixture) {
	t.Setenv("XDG_CACHE_HOME", t.TempDir())
	require.NoError(t, f.store.Close()) // nobody may be connected to what is copied
	Exec(
		t,
		f.engine.Driver,
		f.url,
		"INSERT INTO piers (id, code, name) VALUES (1, 'AAA', 'x'), (2, 'BBB', 'y')",
		"INSERT INTO boats (id, pier_id, label) VALUES (1, 2, 'z')",
	)
	ctx := t.Context()
	o, err := f.engine.Driver.OpenScratch(ctx, f.url)
	require.NoError(t, err)
	defer o.Close()
	name := func(of string) string { return store.OwnPrefix + "suite_" + of }
	for _, n := range []string{"given", "copy", "fresh"} {
		require.NoError(t, o.Drop(ctx, name(n)), "what is not there is no fault")
	}
	has := func(n, mark string) bool {
		all, err := o.List(ctx)
		require.NoError(t, err)
		for _, d := range all {
			if d.Name == name(n) {
				return d.Mark == mark
			}
		}
		return false
	}
	require.NoError(t, o.CopyGiven(ctx, name("given"), false))
	assert.True(t, has("given", store.MarkMade))
	require.NoError(t, o.Mark(ctx, name("given"), store.MarkReady))
	assert.True(t, has("given", store.MarkReady))
	require.NoError(t, o.Copy(ctx, name("given"), name("copy")))
	assert.True(t, has("copy", store.MarkMade), "a word is about one of them alone")
	require.NoError(
		t,
		o.Run(
			ctx,
			name("copy"),
			"-- a remark; with a semicolon\nINSERT INTO piers (id, code, name) VALUES (3, 'CC;', 'it''s; "+
				"one');\n\nDELETE FROM boats;\n",
		),
	)
	assert.EqualValues(t, 3, rowsOf(t, f, urlOf(t, o, name("copy")), "piers"))
	assert.EqualValues(t, 1, rowsOf(t, f, urlOf(t, o, name("given")), "boats"), "the other is as it was")
	require.NoError(
		t,
		o.Empty(ctx, name("given"), []*schema.Table{f.db.Table("boats"), f.db.Table("piers"), f.db.Table("berths")}),
	)
	assert.Zero(t, rowsOf(t, f, urlOf(t, o, name("given")), "piers"))
	assert.EqualValues(t, 2, rowsOf(t, f, f.url, "piers"))

	require.NoError(t, o.Create(ctx, name("fresh")))
	var refused *store.ScriptError
	err = o.Run(ctx, name("fresh"), "CREATE TABLE a (id INTEGER);\n\nINSERT INTO nowhere VALUES (1);\n")
	require.ErrorAs(t, err, &refused)
	assert.Contains(t, refused.Error(), "nowhere")

	held, err := o.Hold(ctx, name("copy"))
	require.NoError(t, err)
	assert.True(t, held)
	other, err := f.engine.Driver.OpenScratch(ctx, f.url)
	require.NoError(t, err)
	defer other.Close()
	held, err = other.Hold(ctx, name("copy"))
	require.NoError(t, err)
	assert.False(t, held, "somebody has it")
	require.NoError(t, o.Release(ctx, name("copy")))
	held, err = other.Hold(ctx, name("copy"))
	require.NoError(t, err)
	assert.True(t, held)

	stranger(t, f, o, name("stranger"))

	busy, err := f.engine.Driver.Open(ctx, urlOf(t, o, name("copy")))
	require.NoError(t, err)
	defer busy.Close()
	for _, n := range []string{"given", "copy", "fresh"} {
		require.NoError(t, o.Drop(ctx, name(n)), "whoever is connected")
		assert.False(t, has(n, store.MarkMade) || has(n, store.MarkReady))
	}
	assert.EqualValues(t, 2, rowsOf(t, f, f.url, "piers"))
	f.store, err = f.engine.Driver.Open(ctx, f.url)
	require.NoError(t, err)
}

// stranger sees that a database that only has such a name is never touched.
func stranger(t *testing.T, f *fixture, o store.Scratch, name string) {
	t.Helper()
	ctx := t.Context()
	u := urlOf(t, o, name)
	there := func() int64 { return rowsOf(t, f, u, "theirs") }
	if file := f.engine.Driver.Describe(f.url).File; file != "" {
		path := f.engine.Driver.Describe(u).File
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(path, text, 0o600))
		defer os.Remove(path)
	} else {
		Exec(t, f.engine.Driver, f.url, "CREATE DATABASE "+name)
		defer Exec(t, f.engine.Driver, f.url, "DROP DATABASE "+name)
	}

	Exec(t, f.engine.Driver, u, "CREATE TABLE theirs (id INTEGER)", "INSERT INTO theirs VALUES (1)")
	theirs := &schema.Table{Name: "theirs", Schema: f.db.Table("piers").Schema}
	_, err := o.Open(ctx, name)
	for what, err := range map[string]error{
		"open": err, "empty": o.Empty(ctx, name, []*schema.Table{theirs}), "run": o.Run(ctx, name, "DELETE FROM "+
			"theirs;"), "mark": o.Mark(ctx, name, store.MarkReady),
		"drop": o.Drop(ctx, name), "copy": o.Copy(ctx, name, name+"_2"),
	} {
		var fault *store.Fault
		require.ErrorAs(t, err, &fault, what)
		assert.Equal(t, store.Refused, fault.Kind, what)
		assert.Contains(t, fault.Error(), "was not touched", what)
		assert.EqualValues(t, 1, there(), what)
	}

	all, err := o.List(ctx)
	require.NoError(t, err)
	assert.Contains(t, all, store.ScratchDatabase{Name: name})
}

// written sees that an engine reads its own literals as its bulk path writes values.
func written(t *testing.T, f *fixture) {
	boats := f.db.Table("boats")
	piers := f.db.Table("piers")
	script := f.engine.Driver.Script()
	rows := [][]value.Value{
		{value.Int(1), value.String("AA"), value.String(`it's \ "q" -- x`)},
		{value.Int(2), value.String(""), {}},
		{value.Int(3), value.String("\\N"), value.String("line\nline\ttab 日本 🙂")},
	}
	literal := func(columns []*schema.Column, row []value.Value) string {
		var out []string
		for i := range row {
			out = append(out, string(script.AppendLiteral(nil, &row[i], columns[i])))
		}
		return "(" + strings.Join(out, ", ") + ")"
	}
	names := func(columns []*schema.Column) string {
		var out []string
		for _, c := range columns {
			out = append(out, script.Quote(c.Name))
		}
		return strings.Join(out, ", ")
	}
	read := func(table *schema.Table) string {
		var b strings.Builder
		require.NoError(
			t,
			f.store.Select(
				t.Context(),
				store.Query{Table: table, Columns: table.Columns},
				func(row []value.Value) error {
					for _, v := range row {
						b.WriteString(v.String() + "|")
					}
					return nil
				},
			),
		)
		return b.String()
	}
	boat := []value.Value{
		value.Int(1),
		value.Int(1),
		value.String("x'y"),
		value.Int(40),
		{Type: value.Decimal, N: -150, Scale: 2},
		{Type: value.Date, N: 20000},
		{Type: value.Timestamp, N: 1_777_000_000_000_000},
	}
	tx := f.begin(t, false)
	for _, row := range rows {
		require.NoError(t, f.insert(t, tx, "piers", cells{"id": row[0], "code": row[1], "name": row[2]}))
	}
	of := cells{}
	for i, c := range boats.Columns {
		of[c.Name] = boat[i]
	}
	require.NoError(t, f.insert(t, tx, "boats", of))
	require.NoError(t, tx.Commit(t.Context()))
	want := read(piers) + read(boats)
	Exec(t, f.engine.Driver, f.url, "DELETE FROM boats", "DELETE FROM piers")
	var list []string
	require.NoError(t, script.Quoting(func(sql string) error { list = append(list, sql); return nil }, func() error {
		for _, row := range rows {
			list = append(
				list,
				"INSERT INTO "+script.Table(piers)+" ("+names(piers.Columns)+") VALUES "+literal(piers.Columns, row),
			)
		}
		list = append(
			list,
			"INSERT INTO "+script.Table(boats)+" ("+names(boats.Columns)+") VALUES "+literal(boats.Columns, boat),
		)
		return nil
	}))
	Exec(t, f.engine.Driver, f.url, list...)
	assert.Equal(t, want, read(piers)+read(boats))
}
