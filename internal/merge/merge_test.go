package merge

import (
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/draft"
	"evensprout/internal/plan"
	"evensprout/internal/schema"
)

// harbour has piers, and boats that lie at them. changed is the same after a migration.
func harbour(changed bool) *schema.Database {
	key := &schema.Column{
		Name:     "id",
		Declared: "INTEGER",
		Kind:     schema.Integer,
		NotNull:  true,
		Identity: schema.Serial,
	}
	text := func(name string, length int) *schema.Column {
		return &schema.Column{Name: name, Declared: "VARCHAR", Kind: schema.Text, Length: length, NotNull: true}
	}
	piers := &schema.Table{
		Name:       "piers",
		PrimaryKey: []string{"id"},
		Columns:    []*schema.Column{key, text("name", 40)},
	}
	pier := &schema.Column{Name: "pier_id", Declared: "INTEGER", Kind: schema.Integer, NotNull: true}
	boats := &schema.Table{
		Name: "boats", PrimaryKey: []string{"id"}, Columns: []*schema.Column{key, pier, text("label", 20)},
		References: []schema.Reference{{Columns: []string{"pier_id"}, Table: "piers", Targets: []string{"id"}}},
	}
	db := &schema.Database{Tables: []*schema.Table{piers, boats}}
	if changed {
		piers.Columns = append(piers.Columns, text("city", 30))
		boats.Columns[2] = text("label", 3)
		db.Tables = append(db.Tables, &schema.Table{Name: "ropes", Columns: []*schema.Column{text("note", 30)}})
	}
	db.Link()
	return db
}

// merged merges a draft for a database into a plan; nil if that is none.
func merged(t *testing.T, text string, db *schema.Database) *Merged {
	p, err := plan.Read("a.yaml", []byte(text))
	if err != nil {
		return nil
	}
	o := draft.Options{Name: "harbour"}
	o.Entities, o.Fields = Names(p, db)
	d, err := draft.Make(t.Context(), db, o)
	require.NoError(t, err)
	m, err := Plan(p, db, d)
	if err != nil {
		return nil
	}
	return m
}

// signedDraft is what survey writes for a database.
func signedDraft(t testing.TB, db *schema.Database) string {
	o := draft.Options{Name: "harbour"}
	d, err := draft.Make(t.Context(), db, o)
	require.NoError(t, err)
	text, err := Sign("a.yaml", d.Write(o), db)
	require.NoError(t, err)
	return text
}

func TestADraftIsUpToDate(t *testing.T) {
	for _, changed := range []bool{false, true} {
		text := signedDraft(t, harbour(changed))
		m := merged(t, text, harbour(changed))
		assert.Empty(t, m.Changes)
		assert.False(t, m.Changed())
		assert.Equal(t, text, string(m.Text))
	}
}

// What is merged is what survey would have drafted.
func TestAMergedDraftIsTheOtherDraft(t *testing.T) {
	m := merged(t, signedDraft(t, harbour(false)), harbour(true))
	var what []string
	for _, c := range m.Changes {
		assert.False(t, c.Manual)
		what = append(what, c.What)
	}
	assert.Equal(t, []string{"Pier: 1 new column", "Boat.label: the column has changed", "new table ropes"}, what)
	squeeze := func(text string) (out []string) {
		for line := range strings.Lines(text) {
			line, _, _ = strings.Cut(line, "   # new")
			if line = squeezed(line); line != "" && !ofDigests(line) {
				out = append(out, line)
			}
		}
		return out
	}
	assert.ElementsMatch(t, squeeze(signedDraft(t, harbour(true))), squeeze(string(m.Text)))
}

// FuzzMerge merges into any plan: its lines stay in their order, and a second merge changes nothing.
func FuzzMerge(f *testing.F) {
	f.Add(signedDraft(f, harbour(false)))
	f.Add(signedDraft(f, harbour(true)))
	f.Add(
		"entities:\r\n  Pier: {rows: 4}\r\n  boats:\r\n    fields: {x: {value: 1},\r\n      y: {value: 2}}\r\n",
	)
	f.Add(
		"entities:\n  piers:\n    fields:\n      \"na\\nme\": {value: a}\n      ? old\n      : {value: |\n        a}\n",
	)
	f.Fuzz(func(t *testing.T, text string) {
		for _, changed := range []bool{false, true} {
			m := merged(t, text, harbour(changed))
			if m == nil {
				continue
			}
			rest := string(m.Text)
			for i, line := range strings.Split(text, "\n") {
				mended := func(c Change) bool { return c.Line == i+1 && c.Old != "" }
				line = strings.TrimRight(line, " \r")
				if ofDigests(line) || slices.ContainsFunc(m.Changes, mended) {
					continue
				}
				_, after, ok := strings.Cut(rest, line)
				require.True(t, ok, "line %d is not in its place: %q", i+1, line)
				rest = after
			}
			again := merged(t, string(m.Text), harbour(changed))
			require.NotNil(t, again, "the merged plan cannot be read")
			require.Equal(t, string(m.Text), string(again.Text))
		}
	})
}
