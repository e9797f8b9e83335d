package mysql

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/store/storetest"
	"evensprout/internal/value"
)

func TestMain(m *testing.M) { storetest.Main(m) }

// makeDatabase makes a database and returns its URL.
func makeDatabase(t *testing.T, script string) string {
	return storetest.MariaDB(t).Database(t, script)
}

func open(t *testing.T, script string) store.Store {
	s, err := Driver{}.Open(t.Context(), makeDatabase(t, script))
	require.NoError(t, err)
	return s
}

func TestBehaviours(t *testing.T) {
	storetest.Run(t, storetest.Engine{Driver: Driver{}, Make: makeDatabase, Triggers: `
		CREATE TRIGGER refuse BEFORE INSERT ON boats FOR EACH ROW IF NEW.label = 'forbidden' THEN
  SIGNAL SQLSTATE '45000' SET MESSAGE_TEXT = 'not on this lake'; END IF;`,
		NoLate: true,
		Zone:   "+05:45", Lacks: "this user lacks CREATE TEMPORARY TABLES on the database, CREATE on the database, " +
			"INSERT (name), UPDATE, DELETE",
		Clerk: func(t *testing.T, url string) string {
			table := "`" + url[strings.LastIndexByte(url, '/')+1:] + "`.piers"
			// By a role, as is usual where there are many users.
			storetest.Exec(
				t,
				Driver{},
				url,
				"CREATE USER clerk@localhost",
				"CREATE ROLE writer",
				"GRANT INSERT (id, code) ON "+table+" TO writer",
				"GRANT SELECT ON "+table+" TO clerk@localhost",
				"GRANT writer TO clerk@localhost",
				"SET DEFAULT ROLE writer FOR clerk@localhost",
			)
			return strings.Replace(url, "root@", "clerk@", 1)
		}})
}

func TestSurveySeesWhatTheServerKnows(t *testing.T) {
	s := open(t, `
CREATE TABLE docks (id INTEGER AUTO_INCREMENT PRIMARY KEY, name TEXT);
CREATE TABLE boats (
  id BIGINT UNSIGNED AUTO_INCREMENT PRIMARY KEY, dock_id INTEGER, weather ENUM('calm', 'it''s rough'),
    tag VARCHAR(7) NOT NULL, seen DATETIME(3), at TIME,
  price DECIMAL(8,2) UNSIGNED, twice INTEGER AS (dock_id * 2) STORED, raw VARBINARY(9), extra JSON, gone BOOLEAN,
    small TINYINT UNSIGNED NOT NULL DEFAULT 3,
  CONSTRAINT dock FOREIGN KEY (dock_id) REFERENCES docks (id) ON DELETE CASCADE, CONSTRAINT price_above
    CHECK (price > 0), UNIQUE KEY tags (tag, seen), UNIQUE KEY begins (tag(3)));
CREATE VIEW seen_boats AS SELECT * FROM boats;`)
	defer s.Close()
	db, err := s.Survey(t.Context())
	require.NoError(t, err)
	assert.ElementsMatch(t, []string{"docks", "boats"}, db.TableNames())
	boats := db.Table("boats")
	id := boats.Column("id")
	assert.Equal(t, [4]any{schema.Integer, 64, true, schema.Serial}, [4]any{id.Kind, id.Bits, id.Unsigned, id.Identity})
	assert.Equal(t, []string{"calm", "it's rough"}, boats.Column("weather").Values)
	assert.Equal(t, [2]int{3, 0}, [2]int{boats.Column("seen").Digits, boats.Column("at").Digits})
	assert.True(t, boats.Column("price").Unsigned)
	assert.True(t, boats.Column("twice").Generated)
	assert.True(t, boats.Column("small").Default)
	assert.False(t, boats.Column("tag").Default)
	for name, kind := range map[string]schema.Kind{"raw": schema.Bytes, "extra": schema.JSON, "gone": schema.Boolean,
		"price": schema.Decimal} {
		assert.Equal(t, kind, boats.Column(name).Kind, name)
	}
	require.Len(t, boats.References, 1)
	assert.True(t, boats.References[0].Cascade)
	require.Len(t, boats.Checks, 1, "that JSON is valid is no check of the user's")
	assert.Equal(t, "price_above", boats.Checks[0].Name)
	for _, u := range boats.Uniques {
		assert.Equal(t, u.Name == "begins", u.Partial, u.Name)
	}
}

// A server that does not allow LOAD DATA LOCAL is loaded by INSERT, with the same rows.
func TestWithoutLoadData(t *testing.T) {
	s := open(t, "CREATE TABLE notes (id INTEGER PRIMARY KEY, text LONGTEXT, raw BLOB, seen DATETIME(6))")
	defer s.Close()
	d := s.(*database)
	db, err := s.Survey(t.Context())
	require.NoError(t, err)
	table := db.Table("notes")
	batch := func(first int64) *value.Batch {
		b := &value.Batch{Width: 4}
		for i := range int64(1200) {
			moment, _ := value.ParseTimestamp("2026-05-01T08:00:00.5Z")
			text := strings.Repeat("x'\\\n\t\"", int(i%90))
			b.Values = append(
				b.Values,
				value.Int(first+i),
				value.String(text),
				value.Value{Type: value.Bytes, S: "\x00\xff'" + text},
				moment,
			)
			b.Len++
		}
		return b
	}
	tx, err := s.Begin(t.Context(), store.TxOptions{})
	require.NoError(t, err)
	into := store.Into{Table: table, Columns: table.Columns, Fields: []int{0, 1, 2, 3}}
	insert := func(first int64) {
		n, err := tx.Insert(t.Context(), into, func(yield func(*value.Batch) bool) { yield(batch(first)) })
		require.NoError(t, err)
		assert.Equal(t, int64(1200), n)
	}
	insert(0)
	d.local, d.packet = false, 100_000 // small, so that statements are cut by bytes
	insert(10_000)
	require.NoError(t, tx.Commit(t.Context()))
	var rows [2][]string
	require.NoError(
		t,
		s.Select(t.Context(), store.Query{Table: table, Columns: table.Columns}, func(row []value.Value) error {
			half := 0
			if row[0].N >= 10_000 {
				half = 1
			}
			rows[half] = append(rows[half], row[1].String()+row[2].String()+row[3].String())
			return nil
		}),
	)
	assert.Equal(t, rows[0], rows[1])
	insertStatements := int64(0)
	for _, st := range s.Statements() {
		if strings.HasPrefix(st.Text, "INSERT") {
			insertStatements += st.Times
		}
	}
	assert.Greater(t, insertStatements, int64(3))
}

// The server cuts, rounds and leaves out what does not fit, with a warning: that is a
// violation, and nothing of it stays.
func TestWarningsAreViolations(t *testing.T) {
	s := open(t, "CREATE TABLE t (id INTEGER PRIMARY KEY, day DATE, n DECIMAL(4,1), label VARCHAR(3))")
	defer s.Close()
	db, err := s.Survey(t.Context())
	require.NoError(t, err)
	table := db.Table("t")
	n, _ := value.ParseDecimal("1.25")
	for column, v := range map[string]value.Value{"day": value.String("no day"), "n": n,
		"label": value.String("long")} {
		tx, err := s.Begin(t.Context(), store.TxOptions{})
		require.NoError(t, err)
		into := store.Into{
			Table:   table,
			Columns: []*schema.Column{table.Column("id"), table.Column(column)},
			Fields:  []int{0, 1},
		}
		_, err = tx.Insert(t.Context(), into, func(yield func(*value.Batch) bool) {
			yield(&value.Batch{Len: 2, Width: 2, Values: []value.Value{value.Int(1), {}, value.Int(2), v}})
		})
		var violation *store.Violation
		require.ErrorAs(t, err, &violation, column)
		assert.Equal(t, int64(1), violation.Row)
		assert.Equal(t, []string{column}, violation.Columns)
		require.NoError(t, tx.Rollback())
		count, err := s.Count(t.Context(), table)
		require.NoError(t, err)
		assert.Zero(t, count)
	}
}

func TestFaultsOfConnecting(t *testing.T) {
	server := storetest.MariaDB(t)
	for url, want := range map[string]store.FaultKind{
		server.URL("nowhere"): store.Missing, "mysql://me@127.0.0.1:1/x": store.Unreachable,
		"mysql://host": store.BadURL, "mysql:x": store.BadURL,
		"mysql://me@host/x?allowAllFiles=true": store.BadURL,
	} {
		_, err := Driver{}.Open(t.Context(), url)
		var f *store.Fault
		require.ErrorAs(t, err, &f, url)
		assert.Equal(t, want, f.Kind, url)
	}
}

// A table whose engine has no savepoints takes rows all the same; only a refusal ends it.
func TestEnginesWithoutSavepoints(t *testing.T) {
	for _, engine := range []string{"Aria", "MyISAM"} {
		t.Run(engine, func(t *testing.T) { withoutSavepoints(t, engine) })
	}
}

func withoutSavepoints(t *testing.T, engine string) {
	s := open(
		t,
		"CREATE TABLE marks (id INTEGER PRIMARY KEY) ENGINE="+engine+"; CREATE TABLE past (id INTEGER PRIMARY KEY) "+
			"WITH SYSTEM VERSIONING;",
	)
	defer s.Close()
	db, err := s.Survey(t.Context())
	require.NoError(t, err)
	require.NotNil(t, db.Table("past"), "a table with a history is one")
	tx, err := s.Begin(t.Context(), store.TxOptions{})
	require.NoError(t, err)
	defer tx.Rollback()
	marks := db.Table("marks")
	require.NoError(t, tx.Savepoint(t.Context(), "a"))
	require.NoError(t, tx.Add(t.Context(), marks, []store.Cell{{Column: marks.Columns[0], Value: value.Int(1)}}))
	require.NoError(t, tx.Savepoint(t.Context(), "b"))
	var fault *store.Fault
	require.ErrorAs(t, tx.RollbackTo(t.Context(), "b"), &fault)
	assert.Equal(t, store.Refused, fault.Kind)
	assert.Contains(t, fault.Message, "engine without savepoints,")
	require.NoError(t, tx.Release(t.Context(), "b"))
	require.NoError(t, tx.Commit(t.Context()))
}

// A table counts as written to only where its rows are changed, not where its name stands.
func TestWritesTo(t *testing.T) {
	for text, want := range map[string]bool{
		"INSERT INTO `log` (`id`) VALUES (1)": true, "UPDATE `log` AS t SET a = 1": true, "DELETE FROM `log`": true,
		"DELETE t FROM `log` AS t JOIN s AS s ON 1": true, "INSERT INTO `x` (`log`) VALUES (1)": false,
		"INSERT INTO `x` (`a`) SELECT a FROM `log`": false, "SELECT * FROM `log`": false, "DELETE FROM `log``s`": false,
	} {
		assert.Equal(t, want, writesTo(text, "`log`"), text)
	}
}
