package postgres

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
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
	return storetest.Postgres(t).Database(t, script)
}

func open(t *testing.T, script string) store.Store {
	s, err := Driver{}.Open(t.Context(), makeDatabase(t, script))
	require.NoError(t, err)
	return s
}

func TestBehaviours(t *testing.T) {
	storetest.Run(t, storetest.Engine{Driver: Driver{}, Make: makeDatabase, Triggers: `
		CREATE FUNCTION refuse() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN
  IF NEW.label = 'forbidden' THEN RAISE EXCEPTION 'not on this lake'; END IF; RETURN NEW; END $$;
		CREATE TRIGGER refuse BEFORE INSERT ON boats FOR EACH ROW EXECUTE FUNCTION refuse();`,
		Deferrable: `ALTER TABLE boats ALTER CONSTRAINT boats_pier_id_fkey DEFERRABLE;`,
		Zone:       "Asia/Kathmandu", Lacks: "this user lacks TEMPORARY on the database, CREATE on the database, " +
			"INSERT (name), UPDATE, DELETE",
		Plain: func(t *testing.T, url string) string {
			storetest.Exec(t, Driver{}, url, "CREATE ROLE plain LOGIN")
			return strings.Replace(url, "tester@", "plain@", 1)
		},
		Clerk: func(t *testing.T, url string) string {
			name := url[strings.LastIndexByte(url, '/')+1:]
			storetest.Exec(
				t,
				Driver{},
				url,
				"CREATE ROLE clerk LOGIN",
				"GRANT SELECT ON piers TO clerk",
				"GRANT INSERT (id, code) ON piers TO clerk",
				`REVOKE TEMPORARY ON DATABASE "`+name+`" FROM public`,
			)
			return strings.Replace(url, "tester@", "clerk@", 1)
		}})
}

func survey(t *testing.T, script string) *schema.Database {
	s := open(t, script)
	defer s.Close()
	db, err := s.Survey(t.Context())
	require.NoError(t, err)
	return db
}

// What tables can have, as the program sees it.
func TestSurveySeesWhatTheServerKnows(t *testing.T) {
	db := survey(t, `
CREATE TYPE mood AS ENUM ('calm', 'rough');
CREATE DOMAIN short AS VARCHAR(7) NOT NULL;
CREATE SCHEMA yard;
CREATE TABLE yard.docks (id INTEGER GENERATED ALWAYS AS IDENTITY PRIMARY KEY, name TEXT);
CREATE TABLE boats (
  id SERIAL PRIMARY KEY, dock_id INTEGER REFERENCES yard.docks (id) DEFERRABLE, weather mood, tag short,
    seen TIMESTAMPTZ(3), at TIME(0),
  price NUMERIC(8,2), free NUMERIC, twice INTEGER GENERATED ALWAYS AS (4 * 2) STORED, raw BYTEA, extra JSONB,
    key UUID, gone BOOLEAN, kept INTEGER,
  CONSTRAINT price_above CHECK (price > 0 AND (kept < 9)), UNIQUE (tag, seen) DEFERRABLE);
CREATE UNIQUE INDEX some_tags ON boats (tag) WHERE NOT gone;
CREATE UNIQUE INDEX low_tags ON boats (lower(tag));
CREATE TABLE days (id INTEGER, day DATE) PARTITION BY RANGE (day);
CREATE TABLE days_1 PARTITION OF days FOR VALUES FROM ('2026-01-01') TO ('2027-01-01');
CREATE VIEW seen_boats AS SELECT * FROM boats;`)
	assert.ElementsMatch(t, []string{"yard.docks", "boats", "days"}, db.TableNames())
	docks, boats := db.Table("yard.docks"), db.Table("boats")
	assert.Equal(t, schema.Always, docks.Column("id").Identity)
	assert.Equal(t, "docks", docks.LocalName())
	assert.Equal(t, schema.Serial, boats.Column("id").Identity)
	assert.Equal(t, []string{"calm", "rough"}, boats.Column("weather").Values)
	tag := boats.Column("tag")
	assert.Equal(t, [3]any{schema.Text, 7, true}, [3]any{tag.Kind, tag.Length, tag.NotNull})
	assert.Equal(t, 3, boats.Column("seen").Digits)
	assert.Equal(t, 0, boats.Column("at").Digits)
	assert.Equal(t, [2]int{8, 2}, [2]int{boats.Column("price").Precision, boats.Column("price").Scale})
	assert.Zero(t, boats.Column("free").Precision)
	assert.True(t, boats.Column("twice").Generated)
	kinds := map[string]schema.Kind{
		"raw":   schema.Bytes,
		"extra": schema.JSON,
		"key":   schema.UUID,
		"gone":  schema.Boolean,
		"seen":  schema.Timestamp,
	}
	for name, kind := range kinds {
		assert.Equal(t, kind, boats.Column(name).Kind, name)
	}
	require.Len(t, boats.References, 1)
	assert.Equal(t, docks, boats.References[0].To)
	assert.True(t, boats.References[0].Deferrable)
	assert.Equal(
		t,
		[]schema.Check{{Name: "price_above", Expression: "(price > (0)::numeric) AND (kept < 9)"}},
		boats.Checks,
	)
	for _, u := range boats.Uniques {
		switch u.Name {
		case "some_tags", "low_tags":
			assert.True(t, u.Partial, u.Name)
		default:
			assert.True(t, u.Deferrable, u.Name)
		}
		_, why := boats.Backing(u.Columns)
		assert.NotEmpty(t, why, "no key of this table can back a match")
	}
	assert.Len(t, boats.Uniques, 3)
}

// Numbers in the server's binary form come back as they went.
func TestNumericForm(t *testing.T) {
	s := open(t, "CREATE TABLE n (id INTEGER PRIMARY KEY, v NUMERIC)")
	defer s.Close()
	db, err := s.Survey(t.Context())
	require.NoError(t, err)
	table := db.Table("n")
	var b value.Batch
	b.Width = 2
	var want []string
	for _, text := range []string{"0", "1", "-1", "9999", "10000", "10001", "99999999", "100000000", "0.1", "0.01",
		"0.0001", "0.00001", "-0.00010000", "12345.6789", "1234.56789",
		"9223372036854775807", "-9223372036854775808", "0.999999999999999999", "9.223372036854775807",
		"92233720368547758.07", "100.00", "10000.0000", "-123456789.000000001"} {
		v, err := value.ParseDecimal(text)
		require.NoError(t, err)
		b.Values = append(b.Values, value.Int(int64(b.Len)), v)
		b.Len++
		want = append(want, text)
	}
	tx, err := s.Begin(t.Context(), store.TxOptions{})
	require.NoError(t, err)
	_, err = tx.Insert(
		t.Context(),
		store.Into{Table: table, Columns: table.Columns, Fields: []int{0, 1}},
		func(yield func(*value.Batch) bool) { yield(&b) },
	)
	require.NoError(t, err)
	require.NoError(t, tx.Commit(t.Context()))
	var got []string
	require.NoError(
		t,
		s.Select(
			t.Context(),
			store.Query{Table: table, Columns: []*schema.Column{{Name: "v", Kind: schema.Any}}},
			func(row []value.Value) error {
				got = append(got, row[0].String())
				return nil
			},
		),
	)
	assert.Equal(t, want, got)
}

// Types without a binary form here go as text.
func TestOtherTypesGoAsText(t *testing.T) {
	s := open(t, "CREATE TABLE o (id INTEGER PRIMARY KEY, span INTERVAL, tags TEXT[], net INET, note TEXT)")
	defer s.Close()
	db, err := s.Survey(t.Context())
	require.NoError(t, err)
	table := db.Table("o")
	b := &value.Batch{
		Len:   1,
		Width: 5,
		Values: []value.Value{
			value.Int(1),
			value.String("3 days"),
			value.String(`{"a b","c"}`),
			value.String("192.0.2.7"),
			value.String("tab\tand \\ and\nline"),
		},
	}
	tx, err := s.Begin(t.Context(), store.TxOptions{})
	require.NoError(t, err)
	_, err = tx.Insert(
		t.Context(),
		store.Into{Table: table, Columns: table.Columns, Fields: []int{0, 1, 2, 3, 4}},
		func(yield func(*value.Batch) bool) { yield(b) },
	)
	require.NoError(t, err)
	require.NoError(t, tx.Commit(t.Context()))
	require.NoError(
		t,
		s.Select(t.Context(), store.Query{Table: table, Columns: table.Columns}, func(row []value.Value) error {
			assert.Equal(
				t,
				[]string{"1", "3 days", `{"a b",c}`, "192.0.2.7", "tab\tand \\ and\nline"},
				[]string{row[0].String(), row[1].String(), row[2].String(), row[3].String(), row[4].String()},
			)
			return nil
		}),
	)
}

func TestFaultsOfConnecting(t *testing.T) {
	server := storetest.Postgres(t)
	for url, want := range map[string]store.FaultKind{
		server.URL("nowhere"): store.Missing, "postgres://me@127.0.0.1:1/x": store.Unreachable,
		"postgres://me@127.0.0.1:port/x": store.BadURL,
	} {
		_, err := Driver{}.Open(t.Context(), url)
		var f *store.Fault
		require.ErrorAs(t, err, &f, url)
		assert.Equal(t, want, f.Kind, url)
		assert.NotEmpty(t, f.Hint)
	}
}

// What a server ends by itself, as far as its version has it, does not end a load.
func TestTimeoutsOfTheServer(t *testing.T) {
	server := storetest.Postgres(t)
	url := server.Database(t, "CREATE TABLE x (id INTEGER)")
	known := 0
	for _, name := range []string{"statement_timeout", "idle_in_transaction_session_timeout", "idle_session_timeout",
		"transaction_timeout"} {
		admin, err := pgconn.Connect(t.Context(), url)
		require.NoError(t, err)
		set := fmt.Sprintf("ALTER DATABASE %q SET %s = '100ms'", Driver{}.Describe(url).Name, name)
		if _, err := admin.Exec(t.Context(), set).ReadAll(); err == nil {
			known++
		}
		require.NoError(t, admin.Close(t.Context()))
	}
	assert.GreaterOrEqual(t, known, 2)
	s, err := Driver{}.Open(t.Context(), url)
	require.NoError(t, err)
	defer s.Close()
	tx, err := s.Begin(t.Context(), store.TxOptions{})
	require.NoError(t, err)
	_, err = s.(*database).Exec(t.Context(), "SELECT pg_sleep(0.2)")
	require.NoError(t, err)
	time.Sleep(200 * time.Millisecond)
	require.NoError(t, tx.Commit(t.Context()))
}

// Opening and surveying a database leaves no errors in the server's log, where its administrator would look for causes.
func TestNoErrorsInTheLogOfTheServer(t *testing.T) {
	server := storetest.Postgres(t)
	url := server.Database(t, "CREATE TABLE x (id INTEGER)")
	before := len(server.Log())
	s, err := Driver{}.Open(t.Context(), url)
	require.NoError(t, err)
	defer s.Close()
	_, err = s.Survey(t.Context())
	require.NoError(t, err)
	assert.NotContains(t, server.Log()[before:], "ERROR")
}

// A column may refer to a key by a smaller type, and somebody may have made operators of their own.
func TestSpansOfOtherTypes(t *testing.T) {
	url := storetest.Postgres(t).Database(t, "CREATE TABLE a (id INTEGER PRIMARY KEY); "+
		"CREATE TABLE b (a_id SMALLINT REFERENCES a); INSERT INTO a VALUES (7), (8); INSERT INTO b VALUES (7); "+
		"CREATE FUNCTION never(integer, bigint) RETURNS boolean LANGUAGE sql AS 'SELECT false'; "+
		"CREATE OPERATOR >= (LEFTARG = integer, RIGHTARG = bigint, FUNCTION = never)")
	s, err := Driver{}.Open(t.Context(), url)
	require.NoError(t, err)
	defer s.Close()
	db, err := s.Survey(t.Context())
	require.NoError(t, err)
	tx, err := s.Begin(t.Context(), store.TxOptions{})
	require.NoError(t, err)
	defer tx.Rollback()
	a := db.Table("a")
	for first, want := range map[int64]bool{7: true, 8: false} {
		span := store.Span{Table: a, Key: a.Columns[0], First: first, Last: 1_000_000}
		referred, err := tx.RefersInto(t.Context(), db, span)
		require.NoError(t, err)
		assert.Equal(t, want, referred, first)
		n, err := tx.Between(t.Context(), span)
		require.NoError(t, err)
		assert.Equal(t, 9-first, n)
	}
}

// After every way out the server shows none of our sessions.
func TestNoSessionStays(t *testing.T) {
	url := storetest.Postgres(t).Database(t, "CREATE TABLE x (id INTEGER)")
	watcher, err := Driver{}.Open(t.Context(), url)
	require.NoError(t, err)
	defer watcher.Close()
	s, err := Driver{}.Open(t.Context(), url)
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(t.Context())
	_, err = s.Begin(ctx, store.TxOptions{})
	require.NoError(t, err)
	cancel()
	require.NoError(t, s.Close())
	activity := &schema.Table{Schema: "pg_catalog", Name: "pg_stat_activity"}
	name := &schema.Column{Name: "datname", Kind: schema.Text}
	database := Driver{}.Describe(url).Name
	require.Eventually(t, func() bool {
		n := 0
		require.NoError(
			t,
			watcher.Select(
				t.Context(),
				store.Query{
					Table:   activity,
					Columns: []*schema.Column{name},
					Where:   []store.Cell{{Column: name, Value: value.String(database)}},
				},
				func([]value.Value) error {
					n++
					return nil
				},
			),
		)
		return n == 1
	}, 5*time.Second, 5*time.Millisecond)
}

// Closing waits for the end of a session whose statement was interrupted: the next program
// finds its locks free.
func TestClosingFreesTheLocksOfInterruptedSessions(t *testing.T) {
	url := makeDatabase(t, "CREATE VIEW slow AS SELECT pg_sleep(60)::text AS n")
	next, err := Driver{}.Open(t.Context(), url)
	require.NoError(t, err)
	defer next.Close()
	slow, n := &schema.Table{Schema: "public", Name: "slow"}, &schema.Column{Name: "n", Kind: schema.Text}
	for range 5 {
		s, err := Driver{}.Open(t.Context(), url)
		require.NoError(t, err)
		holder, err := s.Lock(t.Context(), "harbour")
		require.NoError(t, err)
		require.Empty(t, holder)
		ctx, cancel := context.WithTimeout(t.Context(), 200*time.Millisecond)
		err = s.Select(
			ctx,
			store.Query{Table: slow, Columns: []*schema.Column{n}},
			func([]value.Value) error { return nil },
		)
		cancel()
		require.Error(t, err)
		require.NoError(t, s.Close())
		holder, err = next.Lock(t.Context(), "harbour")
		require.NoError(t, err)
		require.Empty(t, holder)
		require.NoError(t, next.Unlock(t.Context(), "harbour"))
	}
}

// Policies on rows bind those who do not own the table; who does may put its references off.
func TestWhatOwnersMay(t *testing.T) {
	url := makeDatabase(
		t,
		"CREATE TABLE docks (id INTEGER PRIMARY KEY); ALTER TABLE docks ENABLE ROW LEVEL SECURITY; CREATE ROLE "+
			"guest LOGIN; GRANT SELECT, INSERT ON docks TO guest;",
	)
	for user, owner := range map[string]bool{"tester@": true, "guest@": false} {
		s, err := Driver{}.Open(t.Context(), strings.Replace(url, "tester@", user, 1))
		require.NoError(t, err)
		db, err := s.Survey(t.Context())
		require.NoError(t, err)
		docks := db.Table("docks")
		assert.Equal(t, !owner, docks.Secured, user)
		why, err := s.Denied(t.Context(), store.Access{Table: docks, Insert: docks.Columns, Loosen: true})
		require.NoError(t, err)
		assert.Equal(t, owner, why == "", "%s: %s", user, why)
		require.NoError(t, s.Close())
	}
}

// A server answers COMMIT of a transaction that has failed by rolling back, without an error.
func TestCommitOfAFailedTransaction(t *testing.T) {
	s := open(t, "CREATE TABLE piers (id INTEGER PRIMARY KEY);")
	defer s.Close()
	tx, err := s.Begin(t.Context(), store.TxOptions{})
	require.NoError(t, err)
	_, err = s.(*database).Exec(t.Context(), "INSERT INTO piers VALUES (1)")
	require.NoError(t, err)
	_, err = s.(*database).Exec(t.Context(), "INSERT INTO piers VALUES (1)")
	require.Error(t, err)
	assert.ErrorContains(t, tx.Commit(t.Context()), "so it was rolled back")
	require.NoError(t, tx.Rollback())
}

// Staged rows are looked up by a hash or an index, also in a table that the planner believes to have one row: because
// it was analyzed while it was empty, or because its rows are wider than a page.
func TestStagedRowsAreNotLookedUpOneByOne(t *testing.T) {
	wide := make([]string, 500)
	for i := range wide {
		wide[i] = fmt.Sprintf(", c%d VARCHAR(20)", i)
	}
	for name, script := range map[string]string{
		"analyzed while empty": "CREATE TABLE boats (id INTEGER PRIMARY KEY, name TEXT)",
		"wide":                 "CREATE TABLE boats (id INTEGER PRIMARY KEY" + strings.Join(wide, "") + ")",
	} {
		t.Run(name, func(t *testing.T) {
			s := open(t, script+` WITH (autovacuum_enabled = off); INSERT INTO boats SELECT generate_series(1, 2000);
DELETE FROM boats; ANALYZE boats; INSERT INTO boats SELECT generate_series(1, 2000)`)
			defer s.Close()
			d := s.(*database)
			for _, sql := range []string{
				"CREATE TEMPORARY TABLE stage (id INTEGER, place INTEGER, rest TEXT)",
				"ALTER TABLE stage ALTER rest SET STORAGE PLAIN", // a row a page
				"INSERT INTO stage SELECT generate_series(1, 2000), 1, repeat('x', 7500)", "ANALYZE stage (place)",
			} {
				_, err := d.Exec(t.Context(), sql)
				require.NoError(t, err)
			}
			var plan []string
			sql := "EXPLAIN SELECT s.place FROM stage AS s " +
				"WHERE NOT EXISTS (SELECT 1 FROM boats AS t WHERE t.id = s.id)"
			require.NoError(t, d.Query(t.Context(), sql, nil, []*schema.Column{{Name: "plan", Kind: schema.Text}},
				func(row []value.Value) error {
					plan = append(plan, row[0].S)
					return nil
				}))
			assert.NotContains(t, strings.Join(plan, "\n"), "Materialize")
			assert.NotContains(t, strings.Join(plan, "\n"), "Join Filter")
		})
	}
}
