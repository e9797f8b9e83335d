package main

import (
	"os/exec"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/store/storetest"
)

// indexTables have every kind of index and key that PostgreSQL knows, and what can be said of one.
const indexTables = `
CREATE TABLE owners (id INTEGER PRIMARY KEY, name TEXT NOT NULL);
CREATE TABLE others (id INTEGER PRIMARY KEY);
INSERT INTO others SELECT generate_series(1, 10);
CREATE TABLE places (id INTEGER PRIMARY KEY, owner_id INTEGER NOT NULL, other_id INTEGER, code TEXT NOT NULL,
  a INTEGER NOT NULL, b INTEGER, c INTEGER NOT NULL, d INTEGER NOT NULL, e INTEGER, note TEXT NOT NULL,
  at TIMESTAMP NOT NULL, doc JSONB NOT NULL,
  CONSTRAINT places_code UNIQUE (code), CONSTRAINT filled UNIQUE (c) WITH (fillfactor = 60),
  CONSTRAINT wide UNIQUE (d) INCLUDE (note), CONSTRAINT late UNIQUE (a, id) DEFERRABLE,
  CONSTRAINT nullish UNIQUE NULLS NOT DISTINCT (e), CONSTRAINT said UNIQUE (b, id),
  CONSTRAINT apart EXCLUDE USING btree (id WITH =),
  CONSTRAINT of_owner FOREIGN KEY (owner_id) REFERENCES owners MATCH FULL ON UPDATE CASCADE ON DELETE CASCADE,
  CONSTRAINT of_other FOREIGN KEY (other_id) REFERENCES others ON DELETE SET NULL);
ALTER TABLE places ADD CONSTRAINT unproven FOREIGN KEY (other_id) REFERENCES others NOT VALID;
COMMENT ON CONSTRAINT said ON places IS 'it is said';
CREATE INDEX sorted ON places (a DESC NULLS LAST, b NULLS FIRST) WITH (fillfactor = 70);
CREATE UNIQUE INDEX partial ON places (lower(code)) WHERE a > 5;
CREATE INDEX hashed ON places USING hash (a);
CREATE INDEX brief ON places USING brin (at) WITH (pages_per_range = 16);
CREATE INDEX docs ON places USING gin (doc jsonb_path_ops) WITH (fastupdate = off);
CREATE INDEX spread ON places USING spgist (note);
CREATE INDEX patterns ON places (note text_pattern_ops) INCLUDE (a);
CREATE INDEX collated ON places (note COLLATE "C");
CREATE INDEX measured ON places ((a + c));
ALTER INDEX measured ALTER COLUMN 1 SET STATISTICS 500;
CREATE INDEX remarked ON places (b);
COMMENT ON INDEX remarked IS 'a remark';
CREATE INDEX "Odd ""name""" ON places (c, a);
CREATE INDEX in_order ON places (at);
ALTER TABLE places CLUSTER ON in_order;
CREATE UNIQUE INDEX identity ON places (d, c);
ALTER TABLE places REPLICA IDENTITY USING INDEX identity;
CREATE INDEX broken ON places (e, a);
UPDATE pg_index SET indisvalid = false WHERE indexrelid = 'broken'::regclass;`

const indexPlan = `name: places
seed: s
clock: 2026-05-01T08:00:00Z
entities:
  Owner: {table: owners, rows: 100, fields: {name: {kind: name}}}
  Place:
    table: places
    rows: 60000
    fields:
      owner: {pick: Owner}
      code: CODE
      a: {between: 1..1000}
      b: {between: 1..1000}
      c: {count: 1}
      d: {count: 1}
      e: {count: 1}
      note: {kind: words}
      at: {before: clock, within: 400d}
      doc: {json: {n: {between: 1..9}}}
      other_id: null
`

const uniqueCode = `{pattern: "[A-Z]{9}", unique: true}`

const manyTables = `
CREATE TABLE owners (id INTEGER PRIMARY KEY, name TEXT NOT NULL);
CREATE TABLE places (id INTEGER PRIMARY KEY, owner_id INTEGER NOT NULL CONSTRAINT of_owner REFERENCES owners,
  code TEXT NOT NULL UNIQUE);`

const manyPlan = `name: places
seed: s
clock: 2026-05-01T08:00:00Z
entities:
  Owner: {table: owners, rows: 100, fields: {name: {kind: name}}}
  Place: {table: places, rows: 50000, fields: {owner: {pick: Owner}, code: {pattern: "[A-Z]{9}", unique: true}}}
`

// dumpOfSchema is what the server's own program says of the tables.
func (s *site) dumpOfSchema(t *testing.T) string {
	t.Helper()
	out, err := exec.Command("pg_dump", "-s", "-N", "evensprout", s.url).CombinedOutput()
	require.NoError(t, err, string(out))
	var lines []string
	for line := range strings.Lines(string(out)) {
		if !strings.HasPrefix(line, "\\") { // a word that differs from run to run
			lines = append(lines, line)
		}
	}
	return strings.Join(lines, "")
}

// Indexes and keys that a large load drops and makes again are afterwards exactly as before, with all that was said of
// them.
func TestIndexesAreRebuiltExactly(t *testing.T) {
	plan := strings.NewReplacer("CODE", uniqueCode, "60000", "300").Replace(indexPlan)
	onPostgres(t, indexTables, plan, func(t *testing.T, s *site) {
		storetest.Client(t, "pg_dump", "postgresql-client")
		before := s.dumpOfSchema(t)
		require.Contains(t, before, "it is said")
		r := s.on("load", "--indexes", "rebuild")
		require.Zero(t, r.code, r.errOut)
		assert.Contains(t, r.out, "Rebuilt after the rows: 15 indexes and keys of places")
		assert.Equal(t, before, s.dumpOfSchema(t))
		assert.Equal(t, "1", s.answer(t, "SELECT count(*) FROM pg_index WHERE NOT indisvalid"))
		assert.Zero(t, s.on("compare").code)
		require.Zero(t, s.on("withdraw").code)

		r = s.on("load", "--indexes", "keep")
		require.Zero(t, r.code, r.errOut)
		assert.NotContains(t, r.out, "Rebuilt")
	})
}

// A row that an index refuses is reported alike, whether the index is in place or rebuilt after the rows.
func TestIndexesThatCannotBeRebuilt(t *testing.T) {
	plan := strings.NewReplacer("CODE", `{text: "K{k}"}`, "60000", "300").Replace(indexPlan)
	plan = strings.Replace(
		plan,
		"    fields:\n      owner",
		"    shared: {k: {between: 1..3000}}\n    fields:\n      owner",
		1,
	)
	onPostgres(t, indexTables, plan, func(t *testing.T, s *site) {
		before := s.dumpOfSchema(t)
		kept, rebuilt := s.on("load", "--indexes", "keep"), s.on("load", "--indexes", "rebuild")
		assert.Equal(t, 5, kept.code, kept.errOut)
		assert.Equal(t, 5, rebuilt.code, rebuilt.errOut)
		assert.Regexp(t, `refused: Place row \d+: code "K\d+" already exists`, kept.errOut)
		assert.Contains(t, kept.errOut, "places_code")
		assert.Equal(t, kept.errOut, rebuilt.errOut)
		assert.Equal(t, before, s.dumpOfSchema(t), "all is rolled back")
	})
}

// Where rebuilding could disturb others, or cannot be done, indexes stay in place, and a line says why.
func TestIndexesThatStayInPlace(t *testing.T) {
	onPostgres(t, manyTables, manyPlan, func(t *testing.T, s *site) {
		for _, c := range []struct {
			name, wanted string
			begin        []string
			end          string
			args         []string
		}{
			{
				"chunks", "Indexes stayed in place: commit: chunk commits in between.", nil, "",
				[]string{"--commit", "chunk"},
			},
			{"event trigger", "", []string{"CREATE FUNCTION told() RETURNS event_trigger LANGUAGE plpgsql AS 'BEGIN " +
				"RAISE EXCEPTION ''it ran''; END'", "CREATE EVENT TRIGGER told ON sql_drop EXECUTE FUNCTION told()"},
				"DROP EVENT TRIGGER told", nil},
			{"deferred checks", "", []string{"CREATE FUNCTION fine() RETURNS trigger LANGUAGE plpgsql AS 'BEGIN " +
				"RETURN NULL; END'",
				"CREATE CONSTRAINT TRIGGER later AFTER INSERT ON places DEFERRABLE INITIALLY DEFERRED FOR EACH ROW " +
					"EXECUTE FUNCTION fine()"}, "DROP TRIGGER later ON places", nil},
			{"another owner", "Indexes stayed in place: this user does not own the tables.", nil, "", nil},
		} {
			s.exec(t, c.begin...)
			as := s.url
			if c.name == "another owner" {
				as = s.as(
					t,
					"filler",
					"GRANT ALL ON owners, places TO filler",
					"GRANT ALL ON SCHEMA public, evensprout TO filler",
					"GRANT ALL ON ALL TABLES IN SCHEMA evensprout TO filler",
					"GRANT CREATE ON DATABASE "+s.databaseName()+" TO filler",
				)
			}
			if as != s.url {
				r := s.run("load", "evensprout.yaml", "--db", as, "--indexes", "rebuild")
				assert.Equal(t, 4, r.code, r.errOut)
				assert.Contains(t, r.errOut, "load as their owner, or without --indexes rebuild")
			}
			r := s.run(append([]string{"load", "evensprout.yaml", "--db", as}, c.args...)...)
			require.Zero(t, r.code, c.name+r.errOut)
			assert.NotContains(t, r.out, "Rebuilt", c.name)
			assert.Contains(t, r.out, c.wanted, c.name)
			if c.end != "" {
				s.exec(t, c.end)
			}
			require.Zero(t, s.run("withdraw", "evensprout.yaml", "--db", as).code, c.name)
		}

		// Another session reads.
		reader, err := pgx.Connect(t.Context(), s.url)
		require.NoError(t, err)
		defer reader.Close(t.Context())
		_, err = reader.Exec(t.Context(), "BEGIN; LOCK TABLE places IN ACCESS SHARE MODE")
		require.NoError(t, err)
		r := s.on("load")
		require.Zero(t, r.code, r.errOut)
		assert.Contains(t, r.out, "Indexes stayed in place: another session uses the tables.")
		reader.Close(t.Context())
		require.Zero(t, s.on("withdraw").code)
		r = s.on("load")
		require.Zero(t, r.code, r.errOut)
		assert.Contains(t, r.out, "Rebuilt after the rows: 2 indexes and keys of places")
		s.write("evensprout.yaml", strings.Replace(manyPlan, "seed: s", "seed: other", 1))
		r = s.on("load", "--anew")
		require.Zero(t, r.code, r.errOut)
		assert.Contains(t, r.out, "Rebuilt after the rows: 2 indexes and keys of places")
		assert.Zero(t, s.on("compare").code)
	})
}

// Rows that others refer to by columns without an index are removed with an index made for that alone.
func TestWithdrawWithoutAnIndex(t *testing.T) {
	const tables = `CREATE TABLE owners (id {key}, name VARCHAR(60) NOT NULL);
CREATE TABLE places (id {key}, owner_id INTEGER NOT NULL, note VARCHAR(200) NOT NULL,
  FOREIGN KEY (owner_id) REFERENCES owners (id));`
	const plan = `name: places
seed: s
clock: 2026-05-01T08:00:00Z
entities:
  Owner: {table: owners, rows: 1000, fields: {name: {kind: name}}}
  Place: {table: places, per: {Owner: 4}, fields: {note: {kind: sentence}}}
`
	onTables(t, tables, plan, func(t *testing.T, s *site) {
		before := s.rows(t)
		for _, as := range []string{"owner", "other"} {
			if as == "other" && s.name != "postgres" {
				continue
			}
			r := s.on("load")
			require.Zero(t, r.code, r.errOut)
			url := s.url
			if as == "other" {
				url = s.as(t, "remover", "GRANT ALL ON {tables} TO {user}", "GRANT ALL ON SCHEMA evensprout TO {user}",
					"GRANT ALL ON ALL TABLES IN SCHEMA evensprout TO {user}")
			}
			r = s.run("withdraw", "evensprout.yaml", "-v", "--db", url)
			require.Zero(t, r.code, r.errOut)
			if s.name != "mariadb" { // it has an index for each reference
				assert.Equal(t, as == "owner", strings.Contains(r.errOut, "DROP INDEX"), r.errOut)
			}
			assert.Empty(t, difference(before, s.rows(t)))
		}
		left := map[string]string{
			"sqlite":   "SELECT count(*) FROM sqlite_schema WHERE name LIKE 'evensprout_removing%'",
			"postgres": "SELECT count(*) FROM pg_indexes WHERE indexname LIKE 'evensprout_removing%'",
		}
		if sql := left[s.name]; sql != "" {
			assert.Equal(t, "0", s.answer(t, sql), "the index is gone")
		}
	})
}

// A unique index to which rows refer stays in place where the engine needs it to write any row; the others are rebuilt.
func TestIndexesThatReferencesNeed(t *testing.T) {
	f := newFolder(t)
	f.makeDB("a.db", `CREATE TABLE ports (id INTEGER PRIMARY KEY, code TEXT NOT NULL, name TEXT);
CREATE UNIQUE INDEX ports_code ON ports (code);
CREATE TABLE boats (id INTEGER PRIMARY KEY, port TEXT NOT NULL REFERENCES ports (code));
CREATE INDEX boats_port ON boats (port);`)
	f.write("evensprout.yaml", `name: boats
seed: b
clock: 2026-05-01T08:00:00Z
database: sqlite:a.db
entities:
  Port:
    table: ports
    rows: 50_000
    fields: {code: {pattern: "[A-Z]{8}", unique: true}}
  Boat:
    table: boats
    rows: 50_000
    fields: {port: {pick: Port}}
`)
	indexes := func() []string {
		return f.query("a.db", "SELECT sql FROM sqlite_schema WHERE type = 'index' AND sql <> ''")
	}
	before := indexes()
	r := f.run("load")
	require.Zero(t, r.code, r.errOut)
	assert.Contains(t, r.out, "Rebuilt after the rows: 1 index or key of boats.")
	assert.ElementsMatch(t, before, indexes())
	require.Zero(t, f.run("load", "--anew").code)
	assert.ElementsMatch(t, before, indexes())
	f.query("a.db", "UPDATE boats SET port = (SELECT min(code) FROM ports) WHERE id = 7")
	r = f.run("withdraw")
	assert.Equal(t, 6, r.code, r.errOut)
	assert.ElementsMatch(t, before, indexes(), "also where rows are left")
	assert.Equal(t, []string{"7"}, f.query("a.db", "SELECT id FROM boats"))
	assert.Equal(t, []string{"1"}, f.query("a.db", "SELECT count(*) FROM ports"))
	require.Zero(t, f.run("withdraw", "--also", "changed", "--also", "referring").code)
	assert.ElementsMatch(t, before, indexes())
}
