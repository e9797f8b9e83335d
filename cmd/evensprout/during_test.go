package main

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"evensprout/internal/store/storetest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// duringPlan is small, so that many runs fit into a test.
var duringPlan = harbourPlan(40, 30)

// onDuring runs a test on every engine, where the harbour's database is empty of ports.
func onDuring(t *testing.T, test func(t *testing.T, s *site)) {
	onEngines(t, duringPlan, func(t *testing.T, s *site) {
		s.write("schema.sql", strings.ReplaceAll(harbourScript, "{key}", s.key))
		if s.name == "mariadb" {
			s.write(
				"schema.sql",
				"-- with a routine\nDELIMITER //\nCREATE PROCEDURE nothing() BEGIN SELECT 1; SELECT 2; "+
					"END//\nDELIMITER ;\n"+strings.ReplaceAll(
					harbourScript,
					"{key}",
					s.key,
				),
			)
		}
		test(t, s)
	})
}

// count is a shell command that counts the rows of a table.
func (s *site) count(table string) string {
	sql := "SELECT count(*) FROM " + table
	switch s.name {
	case "sqlite":
		return fmt.Sprintf("sqlite3 \"$DATABASE_FILE\" '%s'", sql)
	case "postgres":
		return fmt.Sprintf("psql -qAt -c '%s'", sql)
	}
	return fmt.Sprintf(
		"mariadb --no-defaults -N -h \"$MYSQL_HOST\" -P \"$MYSQL_PORT\" -u \"$MYSQL_USER\" \"$MYSQL_DATABASE\" -e '%s'",
		sql,
	)
}

// sql is a shell command that runs a statement.
func (s *site) sql(statement string) string {
	if s.name == "mariadb" {
		statement = "SET autocommit = 1; " + statement // these servers begin transactions by themselves
	}
	return strings.Replace(s.count(""), "SELECT count(*) FROM ", statement, 1)
}

// sweeps removes what is left, and returns what it says.
func (s *site) sweeps(t *testing.T, args ...string) string {
	t.Helper()
	r := s.on(append([]string{"during", "--sweep"}, args...)...)
	require.Zero(t, r.code, r.errOut)
	return r.out
}

// clients installs the engine's client, which shell commands of these tests run.
func (s *site) clients(t *testing.T) {
	of := map[string][2]string{"sqlite": {"sqlite3", "sqlite3"}, "postgres": {"psql", "postgresql-client"},
		"mariadb": {"mariadb", "mariadb-client"}}[s.name]
	storetest.Client(t, of[0], of[1])
}

// sh runs a shell command during the plan.
func (s *site) sh(script string, flags ...string) result {
	s.t.Helper()
	return s.run(append(append([]string{"during", "--db", s.url}, flags...), "--", "sh", "-c", script)...)
}

func TestDuringHasADatabaseOfItsOwn(t *testing.T) {
	onDuring(t, func(t *testing.T, s *site) {
		s.clients(t)
		before := s.rows(t)
		r := s.sh(
			s.count("berths")+"; "+s.count("ports")+"; "+s.sql("DELETE FROM visits")+"; echo told >&2; exit 7",
			"--schema",
			"schema.sql",
		)
		assert.Equal(t, 7, r.code, r.errOut)
		assert.Equal(t, "80\n41\n", r.out, "one port was there before")
		assert.Contains(t, r.errOut, "told\n")
		assert.Contains(t, r.errOut, "made in")
		r = s.sh(s.count("visits")+"; echo $X", "--schema", "schema.sql", "--env", "X=at {name}")
		require.Zero(t, r.code, r.errOut)
		assert.Regexp(t, `^30\nat .*evensprout_run_`, r.out, "the copy is as it was filled")
		assert.Contains(t, r.errOut, "copied in")
		assert.Equal(t, before, s.rows(t), "the given database is not touched")

		// Another plan, another database.
		s.write("evensprout.yaml", strings.Replace(duringPlan, "seed: s", "seed: other", 1))
		r = s.sh("true", "--schema", "schema.sql")
		assert.Contains(t, r.errOut, "made in")
		s.write("schema.sql", string(must(os.ReadFile(s.file("schema.sql"))))+"\nCREATE TABLE more (id INTEGER);\n")
		r = s.sh("true", "--schema", "schema.sql")
		assert.Contains(t, r.errOut, "made in")
		r = s.sh("true", "--schema", "schema.sql", "--no-cache")
		assert.Contains(t, r.errOut, "made in")
		r = s.sh("true", "--schema", "schema.sql", "--quiet")
		assert.Empty(t, r.errOut)
		s.noSessions(t)
	})
}

func TestDuringCopiesTheGivenDatabase(t *testing.T) {
	onDuring(t, func(t *testing.T, s *site) {
		s.clients(t)
		s.exec(
			t,
			"CREATE TABLE settings (name VARCHAR(20) PRIMARY KEY)",
			"INSERT INTO settings (name) VALUES ('kept')",
			"INSERT INTO visits (id, port_id, note) VALUES (900001, 900001, 'old')",
		)
		require.Zero(t, s.on("load").code)
		before := s.rows(t)
		r := s.sh(s.count("ports") + "; " + s.count("visits") + "; " + s.count("settings"))
		require.Zero(t, r.code, r.errOut)
		assert.Equal(t, "40\n30\n1\n", r.out, "what is not planned stays, what is planned is the plan's alone")
		r = s.sh("true")
		assert.Contains(t, r.errOut, "copied in")
		s.exec(t, "INSERT INTO settings (name) VALUES ('new')")
		r = s.sh(s.count("settings"))
		assert.Contains(t, r.errOut, "made in")
		assert.Equal(t, "2\n", r.out)
		s.exec(t, "DELETE FROM settings WHERE name = 'new'")
		if s.name == "postgres" {
			busy := s.open(t)
			r = s.sh("true", "--no-cache")
			assert.Equal(t, 4, r.code)
			assert.Contains(t, r.errOut, "cannot be copied while other programs are connected to it")
			assert.Contains(t, r.errOut, "--schema schema.sql")
			require.NoError(t, busy.Close())
		}
		assert.Equal(t, before, s.rows(t))
	})
}

func TestDuringIsPrepared(t *testing.T) {
	onDuring(t, func(t *testing.T, s *site) {
		s.clients(t)
		client := map[string]string{"sqlite": `sqlite3 "$DATABASE_FILE" < schema.sql`, "postgres": "psql -q -f " +
			"schema.sql",
			"mariadb": `mariadb --no-defaults -h "$MYSQL_HOST" -P "$MYSQL_PORT" -u "$MYSQL_USER" "$MYSQL_DATABASE" ` +
				`< schema.sql`}[s.name]
		r := s.sh(s.count("berths"), "--prepare", client)
		require.Zero(t, r.code, r.errOut)
		assert.Equal(t, "80\n", r.out)
		assert.Contains(t, s.sh("true", "--prepare", client).errOut, "made in", "who knows what the command reads?")
		require.Contains(t, s.sh("true", "--prepare", client, "--prepare-from", "schema.sql").errOut, "made in")
		assert.Contains(t, s.sh("true", "--prepare", client, "--prepare-from", "schema.sql").errOut, "copied in")

		for _, x := range []struct {
			flags []string
			want  string
		}{
			{[]string{"--prepare", "echo broken >&2; exit 3"}, "ended with code 3, so nothing was loaded"},
			{[]string{"--prepare", "true"}, "the command of --prepare created no tables"},
			{[]string{"--schema", "wrong.sql"}, "wrong.sql:3: "},
			{[]string{"--schema", "none.sql"}, "none.sql"},
			{[]string{"--schema", "empty.sql"}, "the scripts of --schema create no tables"},
		} {
			s.write("wrong.sql", "CREATE TABLE a (id INTEGER);\n\nCREATE TABEL b (id INTEGER);\n")
			s.write("empty.sql", "-- nothing\n")
			r := s.sh("echo never", x.flags...)
			assert.Contains(t, []int{2, 4}, r.code, x.want)
			assert.Contains(t, r.errOut, x.want)
			assert.Empty(t, r.out, "the command was not run")
		}
	})
}

func TestDuringSharesTheGivenDatabase(t *testing.T) {
	onDuring(t, func(t *testing.T, s *site) {
		s.clients(t)
		require.Zero(
			t,
			s.run("during", "--shared", "--db", s.url, "--", "true").code,
		) // the journal's tables are there now
		before := s.rows(t)
		for _, script := range []string{
			s.count("ports"),
			s.sql("UPDATE berths SET price = 1.23") + "; exit 1",
			s.sql("INSERT INTO visits (port_id, note) SELECT min(id), 77 FROM ports") + "; kill -9 $$",
		} {
			r := s.sh(script, "--shared")
			assert.Contains(t, []int{0, 1, 137}, r.code)
			assert.Empty(t, difference(before, s.rows(t)), script)
		}
		r := s.sh("sleep 60", "--shared", "--timeout", "300ms")
		assert.Equal(t, 124, r.code)
		assert.Empty(t, difference(before, s.rows(t)))

		// A run that is killed leaves its rows, and the next one takes them back first.
		c := s.command("during", "--shared", "--db", s.url, "--", "sh", "-c", "echo ready; exec sleep 60")
		out, err := c.StdoutPipe()
		require.NoError(t, err)
		require.NoError(t, c.Start())
		_, err = out.Read(make([]byte, 10))
		require.NoError(t, err)
		require.NoError(t, c.Process.Kill())
		c.Wait()
		assert.NotEqual(t, before, s.rows(t))
		r = s.sh(s.count("ports"), "--shared")
		assert.Equal(t, "41\n", r.out, r.errOut)
		assert.Empty(t, difference(before, s.rows(t)))
	})
}

func TestRunsAtTheSameTime(t *testing.T) {
	onDuring(t, func(t *testing.T, s *site) {
		s.clients(t)
		for _, flags := range [][]string{{"--schema", "schema.sql"}, {"--shared"}} {
			var all sync.WaitGroup
			results := make([]result, 5)
			for i := range results {
				all.Add(1)
				go func() {
					defer all.Done()
					results[i] = s.sh(
						s.count("berths")+"; "+s.sql("DELETE FROM berths")+"; "+s.count("berths"),
						flags...)
				}()
			}
			all.Wait()
			for _, r := range results {
				assert.Zero(t, r.code, r.errOut)
				assert.Equal(t, "80\n0\n", r.out, r.errOut)
			}
		}
	})
}

func TestKilledRunsAreSwept(t *testing.T) {
	onDuring(t, func(t *testing.T, s *site) {
		s.clients(t)
		start := func() *exec.Cmd {
			c := s.command(
				"during",
				"--schema",
				"schema.sql",
				"--db",
				s.url,
				"--",
				"sh",
				"-c",
				"echo $DB_NAME; exec sleep 60",
			)
			out, err := c.StdoutPipe()
			require.NoError(t, err)
			require.NoError(t, c.Start())
			_, err = out.Read(make([]byte, 200))
			require.NoError(t, err)
			return c
		}
		killed, going := start(), start()
		require.NoError(t, killed.Process.Kill())
		killed.Wait()
		swept := ""
		for deadline := time.Now().Add(20 * time.Second); time.Now().Before(deadline) &&
			!strings.Contains(swept, "_run_"); time.Sleep(50 * time.Millisecond) {
			swept += s.sweeps(t) // the server may not have noticed yet
		}
		assert.Equal(t, 1, strings.Count(swept, "left by a killed run"), swept)
		require.NoError(t, going.Process.Signal(syscall.SIGTERM))
		assert.Error(t, going.Wait())
		assert.Equal(t, 128+15, going.ProcessState.ExitCode())
		r := s.sh("exit 9", "--schema", "schema.sql", "--keep-on-failure")
		assert.Equal(t, 9, r.code)
		assert.Contains(t, r.errOut, "The database is kept")
		assert.NotContains(t, s.sweeps(t), "kept")
		assert.Contains(t, s.sweeps(t, "--kept"), "kept after a failure")
		if s.name == "sqlite" {
			assert.Contains(t, s.sweeps(t, "--cached"), "cached")
			assert.Contains(t, s.sweeps(t, "--cached"), "There is nothing to remove")
		}
	})
}

func TestSignalsReachTheCommand(t *testing.T) {
	f := newFolder(t)
	f.sample(t)
	for signal, want := range map[syscall.Signal]int{syscall.SIGINT: 130, syscall.SIGTERM: 143, syscall.SIGUSR1: 42} {
		c := f.command(
			"during",
			"larkwater/evensprout.yaml",
			"--",
			"sh",
			"-c",
			"trap 'exit 42' USR1; echo $DATABASE_FILE; sleep 60 & wait $!; echo no",
		)
		var errOut bytes.Buffer
		c.Stderr = &errOut
		out, err := c.StdoutPipe()
		require.NoError(t, err)
		require.NoError(t, c.Start())
		name := make([]byte, 300)
		n, err := out.Read(name)
		require.NoError(t, err)
		path := strings.TrimSpace(string(name[:n]))
		require.FileExists(t, path)
		require.NoError(t, c.Process.Signal(signal))
		c.Wait()
		assert.Equal(t, want, c.ProcessState.ExitCode(), errOut.String())
		assert.NoFileExists(t, path)
	}
}

func TestWrongUseOfDuring(t *testing.T) {
	f := newFolder(t)
	f.sample(t)
	for _, x := range []struct {
		args, want string
		code       int
	}{
		{"during larkwater/evensprout.yaml", "command after two hyphens:", 2},
		{"during --", "command after two hyphens:", 2},
		{"during a b -- true", "one plan", 2},
		{"during --sweep -- true", "--sweep runs no command", 2},
		{"during --shared --schema x -- true", "takes the database as it is", 2},
		{"during --private --shared -- true", "--private and --shared cannot be combined", 2},
		{"during --prepare-from x -- true", "name that command with --prepare", 2},
		{"during --kept -- true", "need --sweep", 2},
		{"during --env X -- true", "--env must be NAME=TEXT", 2},
		{"during -- true", "there is no such file", 3},
		{"during larkwater/evensprout.yaml --db postgres://db.example.com/x -- true", "--allow-host db.example.com", 2},
		{"during larkwater/evensprout.yaml --db sqlite:none.db -- true", "so there are no tables to copy", 4},
		{"during larkwater/evensprout.yaml -- no-such-command", "cannot be run", 127},
		{"during larkwater/evensprout.yaml -- ./larkwater/evensprout.yaml", "permission denied", 126},
	} {
		r := f.run(strings.Fields(x.args)...)
		assert.Equal(t, x.code, r.code, "%s: %s", x.args, r.errOut)
		assert.Contains(t, r.errOut, x.want, x.args)
	}
}

// TestDuringRunsUnits loads the sample with its units, and takes them back as well.
func TestDuringRunsUnits(t *testing.T) {
	f := newFolder(t)
	storetest.Client(t, "sqlite3", "sqlite3")
	require.Zero(t, f.run("demo").code)
	for n := 6; n >= 2; n-- {
		require.Zero(t, f.run("withdraw", fmt.Sprint(n), "larkwater/evensprout.yaml").code)
	}
	before := f.dump("larkwater/larkwater.db")
	asked := `sqlite3 "$DATABASE_FILE" "SELECT (SELECT count(*) FROM tickets), (SELECT count(*) FROM refunds)"`
	for _, how := range []string{"--private", "--private", "--shared", "--shared"} {
		r := f.run("during", "larkwater/evensprout.yaml", how, "--", "sh", "-c", asked)
		require.Zero(t, r.code, r.errOut)
		assert.Equal(t, "18760|3\n", r.out, how)
		assert.Empty(t, difference(before, f.dump("larkwater/larkwater.db")), how)
	}
	// What the command does to rows that units have written goes, too.
	r := f.run(
		"during",
		"larkwater/evensprout.yaml",
		"--shared",
		"--",
		"sh",
		"-c",
		`sqlite3 "$DATABASE_FILE" "UPDATE refunds SET amount = 0; DELETE FROM tickets WHERE id > 18754; UPDATE `+
			`sailings SET seats_left = 1"`,
	)
	require.Zero(t, r.code, r.errOut)
	assert.Empty(t, difference(before, f.dump("larkwater/larkwater.db")), r.errOut)

	// A plan whose invariant is broken is told before anything is run.
	plan := string(must(os.ReadFile(f.file("larkwater/evensprout.yaml"))))
	f.write("larkwater/evensprout.yaml", plan+"  nobody travels: {no: tickets, where: id > 0}\n")
	for _, how := range []string{"--private", "--shared"} {
		r := f.run("during", "larkwater/evensprout.yaml", how, "--", "echo", "never")
		assert.Equal(t, 5, r.code, r.errOut)
		assert.Empty(t, r.out)
		assert.Contains(t, r.errOut, "nobody travels")
		assert.Empty(t, difference(before, f.dump("larkwater/larkwater.db")), how)
	}
}

func TestDuringMakesNoFilesForAPrivateDatabase(t *testing.T) {
	f := newFolder(t)
	f.write("evensprout.yaml", `name: pictures
seed: s
clock: 2026-05-01T08:00:00Z
entities:
  Boat:
    table: boats
    rows: 3
    fields: {picture: {file: {folder: pictures, as: png}}}
`)
	f.write("schema.sql", "CREATE TABLE boats (id INTEGER PRIMARY KEY, picture VARCHAR(60));")
	f.makeDB("app.db", "CREATE TABLE boats (id INTEGER PRIMARY KEY, picture VARCHAR(60));")
	r := f.run("during", "--schema", "schema.sql", "--db", "sqlite:none.db", "--", "ls")
	require.Zero(t, r.code, r.errOut)
	assert.NotContains(t, r.out, "pictures")
	assert.Contains(t, r.errOut, "are not made for a private database")
	r = f.run("during", "--shared", "--db", "sqlite:app.db", "--", "ls", "pictures")
	require.Zero(t, r.code, r.errOut)
	assert.Equal(t, 3, strings.Count(r.out, ".png"))
	assert.Empty(t, must(filepath.Glob(f.file("pictures/*"))), "gone with the rows")
}
