//go:build unix

package security_test

import (
	"archive/zip"
	"bytes"
	"compress/flate"
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/store"
	"evensprout/internal/value"
)

// number is that of the last load.
func (b *box) number() int64 {
	if b.name == "postgres" {
		return b.ask("SELECT max(number) FROM evensprout.loads")
	}
	return b.ask("SELECT max(number) FROM evensprout_loads")
}

// forge changes the last load of the journal, as somebody may who can write to it.
func (b *box) forge(change func(about map[string]any, member map[string][]byte) (state, actor string)) {
	b.t.Helper()
	ctx := context.Background()
	s, err := b.driver.Open(ctx, b.url)
	require.NoError(b.t, err)
	defer s.Close()
	j, err := s.Journal(ctx, true)
	require.NoError(b.t, err)
	var text, body string
	number := store.Cell{Column: j.Loads.Column("number"), Value: value.Int(b.number())}
	require.NoError(
		b.t,
		s.Select(
			ctx,
			store.Query{
				Table:   j.Loads,
				Columns: []*column{j.Loads.Column("about"), j.Loads.Column("body")},
				Where:   []store.Cell{number},
			},
			func(row []valueOf) error {
				text, body = strings.Clone(row[0].S), strings.Clone(row[1].S)
				return nil
			},
		),
	)
	about := map[string]any{}
	require.NoError(b.t, json.Unmarshal([]byte(text), &about))
	members := map[string][]byte{}
	z, err := zip.NewReader(strings.NewReader(body), int64(len(body)))
	require.NoError(b.t, err)
	for _, f := range z.File {
		r, err := f.Open()
		require.NoError(b.t, err)
		var data bytes.Buffer
		data.ReadFrom(r)
		members[f.Name] = data.Bytes()
	}
	state, actor := change(about, members)
	var packed bytes.Buffer
	w := zip.NewWriter(&packed)
	for name, data := range members {
		m, err := w.Create(name)
		require.NoError(b.t, err)
		m.Write(data)
	}
	require.NoError(b.t, w.Close())
	changed, err := json.Marshal(about)
	require.NoError(b.t, err)
	tx, err := s.Begin(ctx, store.TxOptions{})
	require.NoError(b.t, err)
	_, err = tx.Set(ctx, j.Loads, []store.Cell{
		{
			Column: j.Loads.Column("about"),
			Value:  value.String(string(changed)),
		}, {Column: j.Loads.Column("body"), Value: value.Value{Type: value.Bytes, S: packed.String()}},
		{
			Column: j.Loads.Column("state"),
			Value:  value.String(state),
		}, {Column: j.Loads.Column("actor"), Value: value.String(actor)},
	}, []store.Cell{number})
	require.NoError(b.t, err)
	require.NoError(b.t, tx.Commit(ctx))
}

const secretFile = "the,secret\nroot,hunter2\n"

// No path that stands in the journal is opened.
func TestTheJournalNamesNoFiles(t *testing.T) {
	on(t, "CREATE TABLE notes (id INTEGER PRIMARY KEY, secret VARCHAR(100));", func(t *testing.T, b *box) {
		b.seeded()
		b.write("secret/passwords.csv", secretFile)
		n := fmt.Sprint(b.number())
		evil := "name: harbour\nseed: s\nclock: 2026-05-01T08:00:00Z\nentities:\n  Note:\n    table: notes\n    " +
			"rows_from: " + b.file(
			"secret/passwords.csv",
		) + "\n    fields: {id: {count: 1}}\n"
		for name, parts := range map[string]any{
			"not in the index": nil,
			"in the index, absent": []map[string]any{{"path": b.file("secret/passwords.csv"),
				"bytes": len(secretFile), "digest": "0000"}},
			"member that is a path": []map[string]any{{"path": b.file("secret/passwords.csv"),
				"bytes": len(secretFile), "digest": "0000", "member": "../../../" + b.file("secret/passwords.csv")}},
		} {
			for _, args := range [][]string{{"load", "--resume"}, {"load", "--restore"}, {"compare"},
				{"compare", "--load", n}, {"withdraw", n}, {"history", n}} {
				state := "open"
				if args[len(args)-1] != "--resume" {
					state = "done"
				}
				b.forge(func(about map[string]any, members map[string][]byte) (string, string) {
					members["plan.yaml"] = []byte(evil)
					index, _ := json.Marshal(map[string]any{"plan_file": b.file("evensprout.yaml"), "parts": parts})
					members["index.json"] = index
					about["entities"] = []map[string]any{
						{"entity": "Note", "table": "notes", "mode": "insert", "rows": 1},
					}
					return state, "somebody"
				})
				r := b.on(args...)
				assert.NotContains(t, r.all(), "hunter2", "%s %v", name, args)
				assert.Zero(t, b.ask("SELECT count(*) FROM notes"), "%s %v: %s", name, args, r.err)
			}
		}
	})
}

// A plan that stands in the journal does not replace the operator's.
func TestTheJournalsPlanIsNotFollowed(t *testing.T) {
	on(
		t,
		"CREATE TABLE payroll (id INTEGER PRIMARY KEY, amount INTEGER NOT NULL);\nINSERT INTO payroll VALUES (1, "+
			"100), (2, 200);",
		func(t *testing.T, b *box) {
			b.seeded()
			payroll := "SELECT count(*) * 1000 + sum(amount) FROM payroll"
			for name, evil := range map[string]string{
				"another table": "name: harbour\nseed: s\nclock: 2026-05-01T08:00:00Z\nentities:\n  Pay:\n    " +
					"table: payroll\n    rows: 2\n    fields: {id: {count: 1}, amount: {between: [7, 9]}}\n",
				"replace": "name: harbour\nseed: s\nclock: 2026-05-01T08:00:00Z\nentities:\n  Pay:\n    " +
					"table: payroll\n    rows: 2\n    write: replace\n    fields: {id: {count: 1}, amount: " +
					"{between: [7, 9]}}\n",
			} {
				for _, state := range []string{"open", "done"} {
					for _, args := range [][]string{{"load", "--resume"}, {"load", "--restore"},
						{"load", "--restore", "--delete-extra"}, {"during", "--sweep"},
						{"during", "--shared", "--", "true"}, {"load"}} {
						b.forge(func(about map[string]any, members map[string][]byte) (string, string) {
							members["plan.yaml"] = []byte(evil)
							about["entities"] = []map[string]any{
								{"entity": "Pay", "table": "payroll", "mode": "insert", "rows": 2},
							}
							return state, "during, somebody"
						})
						r := b.on(args...)
						assert.EqualValues(t, 2300, b.ask(payroll), "%s %s %v: %s", name, state, args, r.all())
						if len(args) > 1 &&
							(args[1] == "--resume" && state == "open" || args[1] == "--restore" && state == "done") {
							assert.Contains(t, r.err, "differs from evensprout.yaml", "%v", args)
							assert.Contains(t, r.err, "error: load "+fmt.Sprint(b.number()))
						}
					}
				}
			}
			// What the message advises works: the journal's plan can be read.
			r := b.on("history", fmt.Sprint(b.number()), "--plan")
			assert.Contains(t, r.out, "payroll")
		},
	)
}

// What an honest load wrote is resumed by the same plan, and by what history --plan writes.
func TestAChangedPlanIsNotResumed(t *testing.T) {
	on(t, "", func(t *testing.T, b *box) {
		b.seeded()
		b.forge(func(about map[string]any, members map[string][]byte) (string, string) { return "open", "somebody" })
		b.write("evensprout.yaml", strings.Replace(plan, "rows: 6", "rows: 7", 1))
		r := b.on("load", "--resume")
		require.NotZero(t, r.code)
		assert.Contains(t, r.err, "entities.Visit.rows was 6, and is 7")
		assert.Contains(t, r.err, fmt.Sprintf("evensprout history %d --plan > was.yaml", b.number()))
		b.write("was.yaml", b.on("history", fmt.Sprint(b.number()), "--plan").out)
		r = b.on("load", "was.yaml", "--resume")
		assert.Zero(t, r.code, r.err)
	})
}

// Where others may write to the journal, it does not widen what a withdrawal touches.
func TestSharedJournals(t *testing.T) {
	evil := "name: harbour\nseed: s\nclock: 2026-05-01T08:00:00Z\nentities:\n  Pay:\n    table: payroll\n    rows: " +
		"2\n    fields: {id: {count: 1}}\n"
	for _, e := range engines[1:] {
		t.Run(e.name, func(t *testing.T) {
			b := boxFor(
				t,
				e,
				"CREATE TABLE payroll (id INTEGER PRIMARY KEY, amount INTEGER);\nINSERT INTO payroll VALUES (1, "+
					"100), (2, 200);",
			)
			b.seeded()
			if e.name == "postgres" {
				user := role(t, b, "")
				psql(
					t,
					b.url,
					"GRANT USAGE ON SCHEMA evensprout TO "+user+
						"; GRANT ALL ON ALL TABLES IN SCHEMA evensprout TO "+user,
				)
			} else {
				b.exec("CREATE USER 'clerk'@'127.0.0.1'",
					"GRANT SELECT, INSERT, UPDATE, DELETE ON "+databaseOf(b.url)+".evensprout_loads "+
						"TO 'clerk'@'127.0.0.1'")
				defer b.exec("DROP USER 'clerk'@'127.0.0.1'")
			}
			forge := func() {
				b.forge(func(about map[string]any, members map[string][]byte) (string, string) {
					members["plan.yaml"] = []byte(evil)
					about["entities"] = []map[string]any{
						{"entity": "Pay", "table": "payroll", "mode": "insert", "rows": 2},
					}
					return "done", "somebody"
				})
			}
			forge()
			r := b.on("withdraw", fmt.Sprint(b.number()))
			assert.NotZero(t, r.code)
			assert.Contains(t, r.err, "payroll")
			assert.EqualValues(t, 2, b.ask("SELECT count(*) FROM payroll"))
			require.NoError(t, os.Rename(b.file("evensprout.yaml"), b.file("plan.yaml")))
			r = b.on("withdraw", fmt.Sprint(b.number()))
			assert.Contains(t, r.err, "can also write to the journal")
			assert.EqualValues(t, 2, b.ask("SELECT count(*) FROM payroll"))
		})
	}
}

// The journal's tables are what this program makes, and belong to whom they should.
func TestTheJournalsTablesAreLookedAt(t *testing.T) {
	for name, attack := range map[string]string{
		"trigger": "CREATE FUNCTION evil.trigger() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN PERFORM " +
			"evil.note('trigger'); RETURN NEW; END $$; CREATE TRIGGER x BEFORE INSERT OR UPDATE ON " +
			"evensprout.loads FOR EACH ROW EXECUTE FUNCTION evil.trigger();",
		"rule": "CREATE RULE x AS ON INSERT TO evensprout.chunks DO ALSO SELECT evil.note('rule');",
		"policy": "CREATE FUNCTION evil.allow() RETURNS boolean LANGUAGE plpgsql AS $$ BEGIN PERFORM " +
			"evil.note('policy'); RETURN true; END $$; CREATE POLICY x ON evensprout.loads USING (evil.allow());",
		"row-level security": "ALTER TABLE evensprout.loads ENABLE ROW LEVEL SECURITY;",
		"default": "CREATE FUNCTION evil.text() RETURNS text LANGUAGE plpgsql AS $$ BEGIN PERFORM " +
			"evil.note('default'); RETURN ''; END $$; ALTER TABLE evensprout.loads ADD COLUMN x text DEFAULT " +
			"evil.text();",
		"check": "CREATE FUNCTION evil.fine(t text) RETURNS boolean LANGUAGE plpgsql AS $$ BEGIN " +
			"PERFORM evil.note('check'); RETURN true; END $$; ALTER TABLE evensprout.loads ADD CHECK " +
			"(evil.fine(plan));",
		"index": "CREATE FUNCTION evil.key(t text) RETURNS text LANGUAGE plpgsql IMMUTABLE AS $$ " +
			"BEGIN PERFORM evil.note('index'); RETURN t; END $$; TRUNCATE evensprout.loads; CREATE INDEX ON " +
			"evensprout.loads (evil.key(plan));",
		"view in its place": "DROP TABLE evensprout.loads; CREATE VIEW evensprout.loads AS SELECT 1 AS number, " +
			"evil.note('view')::text AS x;",
		"foreign table": "CREATE EXTENSION file_fdw; CREATE SERVER f FOREIGN DATA WRAPPER file_fdw; DROP " +
			"TABLE evensprout.loads; CREATE FOREIGN TABLE evensprout.loads (number int) SERVER f OPTIONS (filename " +
			"'/etc/passwd');",
		"another's table":  "ALTER TABLE evensprout.loads OWNER TO {role};",
		"another's schema": "ALTER SCHEMA evensprout OWNER TO {role};",
		"child":            "CREATE TABLE evil.child () INHERITS (evensprout.loads);",
		"domain": "CREATE FUNCTION evil.good(t text) RETURNS boolean LANGUAGE plpgsql AS $$ BEGIN " +
			"PERFORM evil.note('domain'); RETURN true; END $$; CREATE DOMAIN evil.words AS text CHECK " +
			"(evil.good(VALUE)); ALTER TABLE evensprout.loads ALTER COLUMN actor TYPE evil.words;",
	} {
		t.Run("postgres/"+name, func(t *testing.T) {
			t.Parallel()
			b := onPostgres(t, "")
			b.seeded()
			user := role(t, b, "")
			psql(t, b.url, mallory+strings.ReplaceAll(attack, "{role}", user))
			psql(t, b.url, "DELETE FROM evil.log")
			for _, args := range [][]string{{"history"}, {"load"}, {"withdraw", "1"}, {"compare"},
				{"during", "--sweep"}, {"load", "--restore"}} {
				r := b.on(args...)
				assert.NotZero(t, r.code, "%v: %s", args, r.all())
				assert.NotContains(t, r.all(), "EVIL")
				assert.Zero(t, b.ask("SELECT count(*) FROM evil.log"), args)
				assert.Contains(t, r.err, "the journal is not used", args)
			}
		})
	}
	t.Run("mariadb/trigger", func(t *testing.T) {
		b := onMariaDB(t, "CREATE TABLE log (n INTEGER);")
		b.seeded()
		b.exec("CREATE TRIGGER x BEFORE UPDATE ON evensprout_loads FOR EACH ROW INSERT INTO log VALUES (1)")
		r := b.on("withdraw", "1")
		assert.Contains(t, r.err, "has a trigger x")
		assert.Zero(t, b.ask("SELECT count(*) FROM log"))
	})
	t.Run("mariadb/merge table", func(t *testing.T) {
		b := onMariaDB(t, "CREATE TABLE part (number BIGINT) ENGINE=MyISAM;")
		b.seeded()
		b.exec("DROP TABLE evensprout_loads", "CREATE TABLE evensprout_loads (number BIGINT) ENGINE=MERGE UNION=(part)")
		assert.Contains(t, b.on("history").err, "is not an ordinary table")
	})
	t.Run("sqlite/trigger", func(t *testing.T) {
		b := onSQLite(t, "CREATE TABLE log (n INTEGER);")
		b.seeded()
		b.exec("CREATE TRIGGER x BEFORE UPDATE ON Evensprout_loads BEGIN INSERT INTO log VALUES (1); END")
		r := b.on("withdraw", "1")
		assert.Contains(t, r.err, "has a trigger x")
		assert.Zero(t, b.ask("SELECT count(*) FROM log"))
	})
}

// deflated are zeros that unpack to so many bytes.
func deflated(n int) []byte {
	var b bytes.Buffer
	w, _ := flate.NewWriter(&b, flate.BestCompression)
	zeros := make([]byte, 1<<20)
	for ; n > 0; n -= len(zeros) {
		w.Write(zeros)
	}
	w.Close()
	return b.Bytes()
}

const mebibyte = 1 << 20

// peakLimit bounds the memory of a run that refuses what it is given.
const peakLimit = 256 * mebibyte

// What the journal unpacks to is bounded.
func TestTheJournalIsBounded(t *testing.T) {
	t.Run("plan", func(t *testing.T) {
		b := onSQLite(t, "")
		b.seeded()
		b.forge(func(about map[string]any, members map[string][]byte) (string, string) {
			members["plan.yaml"] = make([]byte, 1<<30)
			return "done", "somebody"
		})
		for _, args := range [][]string{{"withdraw", "1"}, {"compare"}, {"load", "--restore"},
			{"history", "1", "--plan"}} {
			r := b.on(args...)
			assert.NotZero(t, r.code, args)
			assert.Less(t, r.peak, int64(peakLimit), "%v: %d MiB", args, r.peak>>20)
		}
	})
	t.Run("chunk", func(t *testing.T) {
		b := onSQLite(t, "")
		b.seeded()
		bomb := fmt.Sprintf("x'%x'", deflated(1<<30))
		b.exec(
			"UPDATE evensprout_chunks SET record = "+bomb,
			"INSERT OR IGNORE INTO evensprout_chunks (\"load\", family, side, first, state, result, record) VALUES "+
				"(1, 0, 0, 0, 'done', '{}', "+bomb+")",
		)
		for _, args := range [][]string{{"withdraw", "1"}, {"compare"}, {"history", "1"}} {
			r := b.on(args...)
			assert.NotZero(t, r.code, args)
			assert.Less(t, r.peak, int64(peakLimit), "%v: %d MiB", args, r.peak>>20)
		}
	})
	t.Run("many chunks", func(t *testing.T) {
		b := onSQLite(t, "")
		b.seeded()
		b.exec(
			"WITH RECURSIVE n (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 600000) INSERT INTO " +
				"evensprout_chunks (\"load\", family, side, first, state, result) SELECT 1, 0, 0, i + 1000, " +
				"'done', '{}' FROM n",
		)
		r := b.on("withdraw", "1")
		assert.NotZero(t, r.code)
		assert.Less(t, r.peak, int64(peakLimit), "%d MiB", r.peak>>20)
	})
	t.Run("former contents", func(t *testing.T) {
		b := onSQLite(t, "")
		b.seeded()
		b.exec(
			fmt.Sprintf(
				"INSERT INTO evensprout_contents (\"load\", family, side, first, seq, entity, \"of\", what, "+
					"\"rows\", body) VALUES (1, 0, 0, 0, 99, 'Port', 'ports', 'removed', 3000000, x'%x')",
				deflated(1<<30),
			),
		)
		r := b.on("withdraw", "1")
		assert.Less(t, r.peak, int64(peakLimit), "%d MiB", r.peak>>20)
	})
	t.Run("cell", func(t *testing.T) {
		b := onSQLite(t, "")
		b.seeded()
		b.exec("UPDATE evensprout_loads SET body = zeroblob(400000000)")
		for _, args := range [][]string{{"withdraw", "1"}, {"history"}, {"compare"}} {
			r := b.on(args...)
			assert.Less(t, r.peak, int64(peakLimit), "%v: %d MiB", args, r.peak>>20)
		}
	})
}

// Placeholder files are removed from the folder of the operator's plan, never from one that
// the journal names.
func TestTheJournalNamesNoFolder(t *testing.T) {
	b := onSQLite(t, "CREATE TABLE photos (id INTEGER PRIMARY KEY, file VARCHAR(60));")
	b.write(
		"evensprout.yaml",
		"name: harbour\nseed: s\nclock: 2026-05-01T08:00:00Z\nentities:\n  Photo:\n    table: photos\n    rows: "+
			"2\n    fields: {file: {file: {folder: images, as: png, size: 4x4}}}\n",
	)
	r := b.on("load")
	require.Zero(t, r.code, r.err)
	found, err := filepath.Glob(b.file("images/*.png"))
	require.NoError(t, err)
	require.Len(t, found, 2)
	theirs := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(theirs, "images"), 0o755))
	for _, f := range found {
		data, err := os.ReadFile(f)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(filepath.Join(theirs, "images", filepath.Base(f)), data, 0o644))
	}
	b.forge(func(about map[string]any, members map[string][]byte) (string, string) {
		about["folder"] = theirs
		return "done", "somebody"
	})
	r = b.on("withdraw", "1")
	require.Zero(t, r.code, r.err)
	left, err := filepath.Glob(filepath.Join(theirs, "images", "*.png"))
	require.NoError(t, err)
	assert.Len(t, left, 2)
	left, err = filepath.Glob(b.file("images/*.png"))
	require.NoError(t, err)
	assert.Empty(t, left)
}
