package sqlite

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"zombiezen.com/go/sqlite"

	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/store/storetest"
	"evensprout/internal/value"
)

// makeDatabase makes a database and returns its URL.
func makeDatabase(t *testing.T, script string) string {
	path := filepath.Join(t.TempDir(), "test.db")
	require.NoError(t, Create(path, script))
	return "sqlite:" + path
}

func open(t *testing.T, script string) store.Store {
	s, err := Driver{}.Open(t.Context(), makeDatabase(t, script))
	require.NoError(t, err)
	return s
}

func TestBehaviours(t *testing.T) {
	storetest.Run(t, storetest.Engine{
		Driver: Driver{}, Make: makeDatabase,
		Triggers: `CREATE TRIGGER refuse BEFORE INSERT ON boats WHEN NEW.label = 'forbidden'
			BEGIN SELECT RAISE(ABORT, 'not on this lake'); END;`,
		Lacks: "the URL says mode=ro, so it is read-only",
		Clerk: func(_ *testing.T, url string) string { return url + "?mode=ro" },
	})
}

func TestStrictTablesTellBadValues(t *testing.T) {
	s := open(t, "CREATE TABLE t (id INTEGER PRIMARY KEY, n INT) STRICT")
	defer s.Close()
	db, err := s.Survey(t.Context())
	require.NoError(t, err)
	tx, err := s.Begin(t.Context(), store.TxOptions{})
	require.NoError(t, err)
	table := db.Table("t")
	_, err = tx.Insert(
		t.Context(),
		store.Into{Table: table, Columns: []*schema.Column{table.Column("n")}, Fields: []int{0}},
		func(yield func(*value.Batch) bool) {
			yield(&value.Batch{Len: 1, Width: 1, Values: []value.Value{value.String("many")}})
		},
	)
	var v *store.Violation
	require.ErrorAs(t, err, &v)
	assert.Equal(t, store.BadValue, v.Kind)
	assert.Equal(t, []string{"n"}, v.Columns)
	require.NoError(t, tx.Rollback())
}

// A decimal of more digits than the engine keeps is refused, never rounded.
func TestDecimalsAreNeverRounded(t *testing.T) {
	c := &schema.Column{Name: "n", Kind: schema.Decimal, Declared: "DECIMAL", Exact: maxExact}
	for text, fine := range map[string]bool{"999999999999999": true, "9999999999999.99": true,
		"99999999999999.99": false, "1000000000000000.0": false} {
		v, err := value.ParseDecimal(text)
		require.NoError(t, err)
		v.Type = value.Decimal
		assert.Equal(t, fine, store.Misfit(c, &v) == nil, text)
	}
	s := open(t, "CREATE TABLE t (n DECIMAL(15,2))")
	defer s.Close()
	conn := s.(*database).conn
	v, _ := value.ParseDecimal("9999999999999.99")
	stmt := conn.Prep("INSERT INTO t VALUES (?)")
	bind(stmt, 1, &v, c)
	_, err := stmt.Step()
	require.NoError(t, err)
	require.NoError(t, stmt.Reset())
	require.NoError(
		t,
		s.Select(
			t.Context(),
			store.Query{
				Table:   &schema.Table{Name: "t"},
				Columns: []*schema.Column{{Name: "n", Kind: schema.Decimal, Scale: 2}},
			},
			func(row []value.Value) error {
				assert.Equal(t, "9999999999999.99", row[0].String())
				return nil
			},
		),
	)
}

// The journal mode of somebody's file is theirs.
func TestJournalModeIsLeftAlone(t *testing.T) {
	for _, mode := range []string{"delete", "wal"} {
		path := filepath.Join(t.TempDir(), "test.db")
		require.NoError(t, Create(path, "PRAGMA journal_mode = "+mode+"; CREATE TABLE t (id INTEGER PRIMARY KEY);"))
		s, err := Driver{}.Open(t.Context(), "sqlite:"+path)
		require.NoError(t, err)
		tx, err := s.Begin(t.Context(), store.TxOptions{Late: true})
		require.NoError(t, err)
		require.NoError(t, tx.Commit(t.Context()))
		d := s.(*database)
		require.NoError(t, d.rows("PRAGMA journal_mode", nil, func(st *sqlite.Stmt) error {
			assert.Equal(t, mode, st.ColumnText(0))
			return nil
		}))
		require.NoError(t, s.Close())
	}
}

func TestFilesThatAreNoDatabases(t *testing.T) {
	folder := t.TempDir()
	junk := filepath.Join(folder, "junk.db")
	require.NoError(
		t,
		os.WriteFile(junk, []byte("this is a letter, not a database, and long enough to tell the difference"), 0o644),
	)
	for url, want := range map[string]store.FaultKind{
		"sqlite:" + filepath.Join(folder, "none.db"): store.Missing, "sqlite:" + junk: store.Foreign, "sqlite:" +
			folder: store.Foreign,
		"sqlite:": store.BadURL, "sqlite::memory:": store.BadURL, "sqlite:x.db?cache=shared": store.BadURL,
	} {
		_, err := Driver{}.Open(t.Context(), url)
		var f *store.Fault
		require.ErrorAs(t, err, &f, url)
		assert.Equal(t, want, f.Kind, url)
	}
	assert.Error(t, Create(junk, ""), "an existing file is never overwritten")
}

// A file that is replaced while it is open is named as what it is: rights are not the cause.
func TestAFileThatWasReplaced(t *testing.T) {
	path := filepath.Join(t.TempDir(), "harbour.db")
	require.NoError(t, Create(path, "CREATE TABLE x (id INTEGER)"))
	s, err := Driver{}.Open(t.Context(), "sqlite:"+path)
	require.NoError(t, err)
	defer s.Close()
	require.NoError(t, os.Rename(path, path+".old"))
	require.NoError(t, Create(path, "CREATE TABLE x (id INTEGER)"))
	tx, err := s.Begin(t.Context(), store.TxOptions{})
	if err == nil {
		defer tx.Rollback()
		_, err = s.(*database).Exec(t.Context(), "INSERT INTO x VALUES (1)")
	}
	var fault *store.Fault
	require.ErrorAs(t, err, &fault)
	assert.Contains(t, fault.Message, "was replaced, moved or removed while it was open")
	assert.Contains(t, fault.Hint, "nothing was written to the new file")
}

func TestBeside(t *testing.T) {
	for url, want := range map[string]string{
		"sqlite:a.db": "sqlite:/plans/a.db", "sqlite:../a.db?mode=ro": "sqlite:/a.db?mode=ro",
		"sqlite:/x/a.db": "sqlite:/x/a.db", "sqlite:": "sqlite:",
	} {
		assert.Equal(t, want, Driver{}.Beside(url, "/plans"))
	}
}

func TestChecksAreFoundInDefinitions(t *testing.T) {
	sql := `CREATE TABLE "check (x)" ( -- CHECK (no)
		a INT CHECK (a > 0 AND (a < 9)), b TEXT DEFAULT 'CHECK (''x'')' check(b IN ('a)', 'b')), /* CHECK (c) */
		checked INT, CONSTRAINT later CHECK (a <> b))`
	assert.Equal(
		t,
		[]schema.Check{
			{Expression: "a > 0 AND (a < 9)"},
			{Expression: "b IN ('a)', 'b')"},
			{Name: "later", Expression: "a <> b"},
		},
		checks(sql),
	)
}

func FuzzChecks(f *testing.F) {
	f.Add(`CREATE TABLE t (a INT CHECK (a > 0))`)
	f.Add(`CHECK (' -- [ "`)
	f.Fuzz(func(t *testing.T, sql string) { checks(sql) })
}

func TestDeclaredTypes(t *testing.T) {
	for declared, want := range map[string]schema.Column{
		"": {Kind: schema.Any}, "VARCHAR(20)": {Kind: schema.Text, Length: 20},
		"character varying ( 7 )": {Kind: schema.Text, Length: 7},
		"DECIMAL(8, 2)":           {Kind: schema.Decimal, Precision: 8, Scale: 2}, "NUMERIC": {Kind: schema.Decimal},
		"BIGINT":   {Kind: schema.Integer},
		"SMALLINT": {Kind: schema.Integer, Bits: 16}, "double precision": {Kind: schema.Real},
		"TIMESTAMP": {Kind: schema.Timestamp},
		"datetime":  {Kind: schema.Timestamp}, "DATE": {Kind: schema.Date}, "TIME": {Kind: schema.Time},
		"uuid": {Kind: schema.UUID},
		"JSON": {Kind: schema.JSON, Numbers: true}, "PHONE": {Kind: schema.Any, Numbers: true}, "ANY": {Kind: schema.Any, Numbers: true}, "POINT": {Kind: schema.Integer}, "BLOB": {Kind: schema.Bytes}, "boolean": {Kind: schema.Boolean},
		"x(": {Kind: schema.Any, Numbers: true},
	} {
		c := schema.Column{Declared: declared}
		describe(&c)
		want.Declared = declared
		if want.Kind == schema.Decimal || want.Kind == schema.Real {
			want.Exact = maxExact
		}
		assert.Equal(t, want, c, declared)
	}
}

// What the engine refuses whatever stands in a row is known beforehand.
func TestTablesThatTakeNoRow(t *testing.T) {
	s := open(t, `
CREATE TABLE books (id INTEGER PRIMARY KEY, title TEXT);
CREATE TRIGGER sort AFTER INSERT ON books BEGIN UPDATE books SET title = title_sort(title) WHERE id = NEW.id; END;
CREATE TABLE shelves (id INTEGER PRIMARY KEY);`)
	defer s.Close()
	db, err := s.Survey(t.Context())
	require.NoError(t, err)
	assert.Contains(t, db.Table("books").Broken, "no such function: title_sort")
	assert.Empty(t, db.Table("shelves").Broken)
}

// A type is a name: what a column holds, its conditions and references tell.
func TestTypesThatSayOtherwise(t *testing.T) {
	s := open(t, `
CREATE TABLE flows (id TEXT PRIMARY KEY, began TIMESTAMP CHECK (began >= 0), ended TIMESTAMP
  CHECK (ended > '2020-01-01'));
CREATE TABLE codes (id UUID PRIMARY KEY REFERENCES flows (id), flow UUID REFERENCES flows (id), other UUID);
CREATE TABLE uses (code VARCHAR(36) REFERENCES codes (id));`)
	defer s.Close()
	db, err := s.Survey(t.Context())
	require.NoError(t, err)
	assert.Equal(t, schema.Integer, db.Table("flows").Column("began").Kind)
	assert.Equal(t, schema.Timestamp, db.Table("flows").Column("ended").Kind)
	assert.Equal(t, schema.Text, db.Table("codes").Column("flow").Kind)
	assert.Equal(t, schema.Text, db.Table("codes").Column("id").Kind)
	assert.Equal(t, schema.UUID, db.Table("codes").Column("other").Kind)
	assert.Equal(t, schema.Text, db.Table("uses").Column("code").Kind, "of the key that the key refers to")
}

// A connection that held the lock for a while leaves others a turn before its next transaction.
func TestOthersGetATurn(t *testing.T) {
	path := filepath.Join(t.TempDir(), "a.db")
	require.NoError(t, Create(path, "CREATE TABLE a (id INTEGER PRIMARY KEY)"))
	s, err := Driver{}.Open(t.Context(), "sqlite:"+path)
	require.NoError(t, err)
	defer s.Close()
	s.(*database).held = mostHeld
	began := time.Now()
	tx, err := s.Begin(t.Context(), store.TxOptions{})
	require.NoError(t, err)
	assert.GreaterOrEqual(t, time.Since(began), turn)
	assert.Zero(t, s.(*database).held)
	require.NoError(t, tx.Commit(t.Context()))
	assert.Positive(t, s.(*database).held, "the time of the next ones is added up")
}
