package load_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"evensprout/internal/load"
	"evensprout/internal/loadtest"

	"evensprout/internal/journal"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/grow"
	"evensprout/internal/store"
)

// Every kind of violation in the plan's words, with what to do; nothing stays.
func TestEveryKindOfRefusal(t *testing.T) {
	const tables = `
CREATE TABLE piers (id INTEGER PRIMARY KEY, code TEXT);
CREATE TABLE boats (
  id INTEGER PRIMARY KEY, pier_id INTEGER REFERENCES piers (id), label VARCHAR(6), seats SMALLINT
    CHECK (seats < 40000), price DECIMAL(6,2), crew INTEGER NOT NULL DEFAULT 1
);
CREATE TRIGGER no_ghosts BEFORE INSERT ON boats WHEN NEW.label = 'ghost' BEGIN SELECT RAISE(ABORT,
  'no ghosts on this lake'); END;`
	for _, c := range []struct {
		field, kind, summary, constraint, hint string
	}{
		{"pier_id: {value: 7}", "foreign_key", `pier_id "7" refers to a row of piers`, "FOREIGN KEY (pier_id)",
			"{pick: " +
				"ENTITY}"},
		{"label: {text: \"boat number {crew}\"}\n      crew: {count: 1}", "too_long", `label "boat number 1": 13 ` +
			`characters are too long for VARCHAR(6)`, "VARCHAR(6)", "trim:N"},
		{"seats: {between: [30000, 39000]}", "out_of_range", "is out of range for SMALLINT", "SMALLINT",
			"narrow seats"},
		{"price: {between: [9000.00, 20000.00], step: 1000}", "out_of_range", "is out of range for DECIMAL(6,2)",
			"DECIMAL(6,2)", "narrow price"},
		{"price: {between: [1.001, 1.009]}", "out_of_range", "more decimal places", "DECIMAL(6,2)",
			"narrow price"},
		{"label: ghost", "raised", "no ghosts on this lake", "trigger", ""},
		{"id: {between: 1..5}", "unique", `already exists`, "PRIMARY KEY (id)", "add unique: true to id in the plan"},
		{"id: 7", "unique", `already exists`, "PRIMARY KEY (id)", "--on-violation unique=skip leaves the row out"},
		{"seats: {value: 40000}", "out_of_range", "40000 is out of range", "SMALLINT", "narrow seats"},
	} {
		s := database(t, tables)
		before := loadtest.Dump(t, s)
		_, err := load.Run(
			t.Context(),
			compile(t, s, loadtest.Head+"  Boat:\n    table: boats\n    rows: 40\n    fields:\n      "+c.field+"\n"),
			s,
			load.Options{},
		)
		var r *journal.Refusal
		require.ErrorAs(t, err, &r, c.field)
		assert.Equal(t, store.ViolationKind(c.kind), r.Kind, c.field)
		assert.Contains(t, r.Error(), c.summary)
		assert.Regexp(t, `^Boat row \d+: `, r.Error())
		assert.Contains(t, r.Constraint, c.constraint)
		assert.Contains(t, r.Hint, c.hint)
		assert.Equal(t, before, loadtest.Dump(t, s))
	}
}

func TestSummariesStayShort(t *testing.T) {
	r := &journal.Refusal{
		Kind:   store.Unique,
		Entity: "Boat",
		Fields: []string{"note"},
		Values: []string{strings.Repeat("ä", 500)},
	}
	assert.Less(t, len(r.Error()), 200)
	assert.NotContains(t, r.Error(), "\ufffd")
}

// An expression that fails in the middle of a load rolls it back.
func TestAnExpressionThatFailsRollsBack(t *testing.T) {
	s := database(t, "CREATE TABLE piers (id INTEGER PRIMARY KEY, code TEXT)")
	before := loadtest.Dump(t, s)
	c := compile(
		t,
		s,
		loadtest.Head+`  Pier: {table: piers, rows: 3000, fields: {code: {derive: "string(div(100, n - 2500, `+
			`0))"}, n: {count: 0, column: id}}}`,
	)
	_, err := load.Run(t.Context(), c, s, load.Options{Chunk: 100})
	var row *grow.RowError
	require.ErrorAs(t, err, &row)
	assert.Equal(t, "Pier row 2500, field code: division by zero", err.Error())
	assert.Equal(t, before, loadtest.Dump(t, s))
}

const photoPlan = loadtest.Head + `  Pier: {table: piers, rows: 20, fields: {code: {pattern: "[A-Z]{5}", unique: ` +
	`true}, photo: {file: {folder: pics, as: png, size: 4x4}, column: photo}}}`

var photoTables = strings.Replace(boats, "UNIQUE);", "UNIQUE, photo TEXT);", 1)

func TestPlaceholdersStayInTheirFolder(t *testing.T) {
	outside, inside := t.TempDir(), t.TempDir()
	require.NoError(t, os.Symlink(outside, filepath.Join(inside, "pics")))
	s := database(t, photoTables)
	_, err := load.Run(t.Context(), compile(t, s, photoPlan), s, load.Options{Folder: inside})
	var f *load.FileError
	require.ErrorAs(t, err, &f)
	entries, err := os.ReadDir(outside)
	require.NoError(t, err)
	assert.Empty(t, entries, "a link does not lead out of the plan's folder")
	entries, err = os.ReadDir(inside)
	require.NoError(t, err)
	assert.Len(t, entries, 1, "nothing is left aside")
}

func TestAnotherLoadsUnfinishedFiles(t *testing.T) {
	folder := t.TempDir()
	require.NoError(t, os.Mkdir(filepath.Join(folder, ".evensprout-unfinished"), 0o755))
	s := database(t, photoTables)
	_, err := load.Run(t.Context(), compile(t, s, photoPlan), s, load.Options{Folder: folder})
	assert.ErrorContains(t, err, "left from an unfinished or running load")
	assert.DirExists(t, filepath.Join(folder, ".evensprout-unfinished"), "it is not ours")
}

// When the commit itself is refused, the files that were in place go again.
func TestFilesGoWithARefusedCommit(t *testing.T) {
	folder := t.TempDir()
	s := database(t, `
CREATE TABLE captains (id INTEGER PRIMARY KEY, ship_id INTEGER NOT NULL REFERENCES ships (id), second_id INTEGER
  REFERENCES ships (id), photo TEXT);
CREATE TABLE ships (id INTEGER PRIMARY KEY, captain_id INTEGER NOT NULL REFERENCES captains (id));`)
	c := compile(
		t,
		s,
		loadtest.Head+"  Captain: {table: captains, rows: 9, fields: {ship: {pick: Ship}, second: {value: 77, "+
			"column: second_id}, photo: {file: {folder: pics, as: txt}}}}\n  Ship: {table: ships, rows: 5, fields: "+
			"{captain: {pick: Captain}}}\n",
	)
	_, err := load.Run(t.Context(), c, s, load.Options{Folder: folder})
	var r *journal.Refusal
	require.ErrorAs(t, err, &r)
	left, err := filepath.Glob(filepath.Join(folder, "pics", "*"))
	require.NoError(t, err)
	assert.Empty(t, left)
	assert.NoDirExists(t, filepath.Join(folder, ".evensprout-unfinished"))
}
