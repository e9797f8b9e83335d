//go:build unix

package security_test

import (
	"fmt"
	"hash/fnv"
	"io"
	"os"
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// lockPath is where a lock lies beside a database file.
func lockPath(database, name string) string {
	h := fnv.New32a()
	io.WriteString(h, name)
	return fmt.Sprintf("%s-evensprout-%08x", database, h.Sum32())
}

// Output that could not be written is a failure.
func TestLostOutputIsAFailure(t *testing.T) {
	if _, err := os.Stat("/dev/full"); err != nil {
		t.Skip("there is no /dev/full here")
	}
	b := onSQLite(t, "")
	b.seeded()
	for _, args := range []string{"look", "look ports", "look --json", "history", "history --json", "compare",
		"survey", "export " +
			"--entity Port --format csv", "export --entity Port --format ndjson", "catalog", "preview", "check",
		"--version", "--help", "load --help", "history 1 " +
			"--plan", "plan-schema"} {
		for name, to := range map[string]string{"full": ">/dev/full", "broken pipe": "| true"} {
			script := fmt.Sprintf("set -o pipefail; %s %s --db '%s' %s", program, args, b.url, to)
			if strings.HasPrefix(args, "--") || args == "catalog" || args == "plan-schema" ||
				strings.HasSuffix(args, "--help") {
				script = fmt.Sprintf("set -o pipefail; %s %s %s", program, args, to)
			}
			if name == "broken pipe" { // the reader is gone before anything is written
				script = strings.Replace(script, program, "(sleep 0.2; exec "+program, 1)
				script = strings.Replace(script, to, ") "+to, 1)
			}
			c := exec.Command("bash", "-c", script)
			c.Dir = b.folder
			out, err := c.CombinedOutput()
			var exit *exec.ExitError
			require.ErrorAs(t, err, &exit, "%s %s: %s", args, to, out)
			assert.Equal(t, 1, exit.ExitCode(), "%s %s: %s", args, to, out)
			if name == "full" {
				assert.Contains(t, string(out), "the results could not be written", args)
			} else { // a reader such as head has what it wants
				assert.Empty(t, string(out), args)
			}
		}
	}
}

// A command of the user's has the signals of pipes as it would have them otherwise.
func TestCommandsKeepTheirSignals(t *testing.T) {
	b := onSQLite(t, "")
	r := b.on("during", "--schema", "schema.sql", "--", "bash", "-c", "yes | head -1; echo ${PIPESTATUS[0]}")
	require.Zero(t, r.code, r.err)
	assert.Equal(t, "y\n141\n", r.out)
}

// Cells that a spreadsheet would take for formulas can be guarded.
func TestFormulasInCSV(t *testing.T) {
	b := onSQLite(t, "")
	b.write(
		"evensprout.yaml",
		"name: x\nseed: s\nclock: 2026-05-01T08:00:00Z\nentities:\n  Port:\n    table: ports\n    rows: 4\n    "+
			"fields:\n      label: {choose: [\"=cmd|' /C calc'!A0\", \"+1\", \"-1\", \"@SUM(A1)\"], unique: true}\n",
	)
	plain := b.run("export", "--entity", "Port", "--format", "csv")
	require.Zero(t, plain.code, plain.err)
	assert.Contains(t, plain.out, "=cmd")
	r := b.run("export", "--entity", "Port", "--format", "csv", "--guard-formulas")
	require.Zero(t, r.code, r.err)
	for line := range strings.Lines(r.out) {
		assert.NotRegexp(t, `(^|,)"?[=+@-]`, line)
	}
	assert.Contains(t, r.out, "'=cmd")
}

// Rights that are lacking, and other traps, are said in plain words.
func TestTrapsAreExplained(t *testing.T) {
	t.Run("row-level security", func(t *testing.T) {
		b := onPostgres(t, "")
		user := role(t, b, "")
		psql(
			t,
			b.url,
			"GRANT ALL ON ALL TABLES IN SCHEMA public TO "+user+
				"; GRANT ALL ON ALL SEQUENCES IN SCHEMA public TO "+user+"; GRANT "+
				"CREATE ON DATABASE "+databaseOf(
				b.url,
			)+" TO "+user+"; ALTER TABLE ports ENABLE ROW LEVEL SECURITY; CREATE POLICY none ON ports USING (false)",
		)
		r := b.run("check", "--db", as(b.url, user))
		l := b.run("load", "--db", as(b.url, user))
		assert.NotZero(t, l.code)
		assert.Contains(t, r.all(), "row-level security")
		assert.NotZero(t, r.code, "check says what load would meet: %s", r.all())
		assert.NotContains(t, l.err, "[42501]")
	})
	t.Run("no CONNECT on postgres", func(t *testing.T) {
		b := onPostgres(t, "")
		user := role(t, b, "CREATEDB")
		psql(
			t,
			b.url,
			"GRANT ALL ON ALL TABLES IN SCHEMA public TO "+user+"; REVOKE CONNECT ON DATABASE postgres FROM PUBLIC",
		)
		defer psql(t, b.url, "GRANT CONNECT ON DATABASE postgres TO PUBLIC")
		r := b.run("during", "--db", as(b.url, user), "--schema", "schema.sql", "--no-cache", "--", "true")
		assert.Zero(t, r.code, r.err)
		r = b.run("during", "--db", as(b.url, user), "--no-cache", "--", "true")
		assert.NotZero(t, r.code)
	})
	t.Run("words of an enum", func(t *testing.T) {
		b := onMariaDB(
			t,
			"CREATE TABLE moods (id INTEGER AUTO_INCREMENT PRIMARY KEY, mood ENUM('calm', 'a\\\\b', 'c\\nd', "+
				"'it''s', '日本') NOT NULL);",
		)
		r := b.on("survey", "--tables", "moods", "--out", "moods.yaml")
		require.Zero(t, r.code, r.err)
		r = b.on("load", "moods.yaml")
		require.Zero(t, r.code, r.err)
		assert.EqualValues(t, 0, b.ask("SELECT count(*) FROM moods WHERE mood = ''"))
		assert.EqualValues(t, 5, b.ask("SELECT count(DISTINCT mood) FROM moods"))
	})
	t.Run("NUL in NDJSON", func(t *testing.T) {
		b := onSQLite(t, "")
		b.write("f.ndjson", "{\"label\": \"a\"}\n{\"label\": \"b\\u0000c\"}\n")
		b.write(
			"p.yaml",
			"name: x\nseed: s\nclock: 2026-05-01T08:00:00Z\nentities:\n  Port:\n    table: ports\n    rows_from: "+
				"{file: f.ndjson, columns: {label: label}}\n",
		)
		r := b.on("load", "p.yaml")
		assert.NotZero(t, r.code)
		assert.Contains(t, r.err, "f.ndjson:2")
		assert.Contains(t, r.err, "NUL")
	})
	t.Run("line ends in SQL exports", func(t *testing.T) {
		for _, e := range engines[1:] {
			b := boxFor(t, e, "")
			b.write(
				"evensprout.yaml",
				"name: x\nseed: s\nclock: 2026-05-01T08:00:00Z\nentities:\n  Port:\n    table: ports\n    rows: "+
					"1\n    fields: {label: \"a\\r\\nb\\rc\\nd\"}\n",
			)
			r := b.on("export", "--format", "sql", "--out", "out.sql")
			require.Zero(t, r.code, r.err)
			assert.NotContains(t, b.read("out.sql"), "\r", e.name)
			o, err := e.driver.OpenScratch(t.Context(), b.url)
			require.NoError(t, err)
			defer o.Close()
			require.NoError(t, o.Create(t.Context(), "evensprout_lines"))
			require.NoError(t, o.Run(t.Context(), "evensprout_lines", b.read("schema.sql")+b.read("out.sql")))
			u, err := o.URL("evensprout_lines")
			require.NoError(t, err)
			assert.EqualValues(t, 8, askAt(t, e.driver, u, "SELECT char_length(label) FROM ports"), e.name)
			assert.EqualValues(
				t,
				1,
				askAt(
					t,
					e.driver,
					u,
					map[string]string{"postgres": `SELECT count(*) FROM ports WHERE label = E'a\r\nb\rc\nd'`,
						"mariadb": `SELECT ` +
							`count(*) FROM ports WHERE label = CONCAT('a', CHAR(13), CHAR(10), 'b', CHAR(13), 'c', ` +
							`CHAR(10), 'd')`}[e.name],
				),
			)
			require.NoError(t, o.Drop(t.Context(), "evensprout_lines"))
		}
	})
}
