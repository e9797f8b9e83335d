package main

import (
	"bytes"
	"context"
	"database/sql"
	"fmt"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/schema"
	"evensprout/internal/store/setwise"
	"evensprout/internal/store/storetest"
)

// tries is how often something is killed: a few times, or as often as EVENSPROUT_FAULTS
// says of the long form (make faults).
func tries(short int, long int) int {
	if os.Getenv("EVENSPROUT_FAULTS") != "" {
		return long
	}
	return short
}

// loadArgs are those of a chunked load that goes on where one broke off.
func loadArgs(s *site) []string {
	return []string{"load", "--resume", "--chunk", "80", "--jobs", "2", "--quiet", "--wait", "1m", "--db", s.url}
}

// undisturbed is what the tables hold before and after a load that nothing disturbs,
// and a time within which the program is to be killed.
func (s *site) undisturbed(t *testing.T) (before, after string, most time.Duration) {
	t.Helper()
	before = s.rows(t)
	started := time.Now()
	r := s.run(loadArgs(s)...)
	load := time.Since(started)
	require.Zero(t, r.code, r.errOut)
	after = s.rows(t)
	require.NotEqual(t, before, after)
	started = time.Now()
	r = s.on("withdraw", "--commit", "chunk")
	most = 3 * max(load, time.Since(started)) / 2 // so that some are not killed
	require.Zero(t, r.code, r.errOut+r.out)
	require.Empty(t, difference(before, s.rows(t)), "withdrawn")
	return before, after, most
}

// killed runs the program and kills it at a random moment; false if it was faster.
func (s *site) killed(t *testing.T, within time.Duration, args ...string) bool {
	t.Helper()
	c := s.command(args...)
	var out bytes.Buffer
	c.Stdout, c.Stderr = &out, &out
	require.NoError(t, c.Start())
	kill := time.AfterFunc(rand.N(within), func() { c.Process.Kill() })
	err := c.Wait()
	kill.Stop()
	if err == nil ||
		strings.Contains(out.String(), "there is no load to withdraw") { // it was killed behind its commit
		return false
	}
	require.Equal(t, -1, c.ProcessState.ExitCode(), out.String()) // by the signal
	return true
}

// The program is killed at random moments of a chunked load, and goes on each time: in
// the end the tables hold what an undisturbed load leaves. Then it is killed while it
// withdraws, and in the end the tables are as they were.
func TestKilledLoadsGoOn(t *testing.T) {
	onEngines(t, harbourPlan(600, 300), func(t *testing.T, s *site) {
		before, after, took := s.undisturbed(t)
		for kills := 0; kills < tries(6, 200); {
			loading := 0
			for s.killed(t, took, loadArgs(s)...) {
				kills++
				loading++
			}
			require.Empty(t, difference(after, s.rows(t)), "after %d kills of one load", loading)
			withdraw := []string{"withdraw", "--commit", "chunk", "--wait", "1m", "--db", s.url}
			for s.killed(t, took, withdraw...) {
				kills++
			}
			r := s.on("history", "--json")
			assert.Contains(t, r.out, `"withdrawn"`)
			require.Empty(t, difference(before, s.rows(t)), "withdrawn")
		}
		s.noSessions(t)
	})
}

// A load in one transaction leaves nothing when it is killed, and all when it is not.
func TestKilledTransactionsLeaveNothing(t *testing.T) {
	onEngines(t, harbourPlan(600, 300), func(t *testing.T, s *site) {
		before, after, took := s.undisturbed(t)
		for kills := 0; kills < tries(3, 60); {
			if s.killed(t, took, "load", "--commit", "load", "--quiet", "--wait", "1m", "--db", s.url) {
				kills++
				if s.rows(t) == before {
					continue
				}
			}
			require.Empty(t, difference(after, s.rows(t)), "loaded")
			for s.killed(t, took, "withdraw", "--wait", "1m", "--db", s.url) {
				kills++
				if s.rows(t) == before {
					break // it was killed behind its commit
				}
				require.Empty(t, difference(after, s.rows(t)), "not half withdrawn")
			}
			require.Empty(t, difference(before, s.rows(t)), "withdrawn")
		}
		s.noSessions(t)
	})
}

// serverKilled runs the program while its server is killed at a random moment and started
// again; false if the program was faster. The program either goes on or ends with code 4.
func (s *site) serverKilled(
	t *testing.T,
	server *storetest.Server,
	within time.Duration,
	args ...string,
) (killed, done bool) {
	t.Helper()
	c := s.command(args...)
	var out bytes.Buffer
	c.Stderr = &out
	require.NoError(t, c.Start())
	restarted := make(chan error, 1)
	kill := time.AfterFunc(rand.N(within), func() {
		server.Kill()
		restarted <- server.Start()
	})
	err := c.Wait()
	if killed = !kill.Stop(); killed {
		require.NoError(t, <-restarted)
	}
	if err != nil {
		assert.Equal(t, 4, c.ProcessState.ExitCode(), out.String())
	}
	return killed, err == nil
}

// The server is killed at random moments, and started again.
func TestKilledServers(t *testing.T) {
	onServers(t, harbourPlan(600, 300), func(t *testing.T, s *site, server *storetest.Server) {
		_, after, took := s.undisturbed(t)
		for kills := 0; kills < tries(2, 20); {
			killed, done := s.serverKilled(t, server, took, loadArgs(s)...)
			if killed {
				kills++
			}
			if done {
				require.Empty(t, difference(after, s.rows(t)), "loaded")
				require.Zero(t, s.on("withdraw").code)
			}
		}
		r := s.run(loadArgs(s)...)
		require.Zero(t, r.code, r.errOut)
		require.Empty(t, difference(after, s.rows(t)))
		s.noSessions(t)
	})
}

// Connections are cut in the middle of what the program sends, and of what the server
// answers, such as that a commit was done. The load goes on by itself, or by --resume.
func TestCutConnections(t *testing.T) {
	for _, e := range engines() {
		if e.start == nil {
			continue
		}
		t.Run(e.name, func(t *testing.T) {
			f := newFolder(t)
			f.write("evensprout.yaml", harbourPlan(600, 300))
			s := &site{folder: f, engine: e}
			s.url = s.database(t)
			before, after, _ := s.undisturbed(t)
			direct := s.url
			const most = 200_000 // bytes; a whole load has some more
			p := newProxy(t, e.start(t).Port, func() (int64, int64) {
				if rand.N(2) == 0 {
					return 20_000 + rand.Int64N(most), 1 << 40
				}
				return 1 << 40, 4_000 + rand.Int64N(30_000)
			})
			through := strings.Replace(
				direct,
				":"+strconv.Itoa(e.start(t).Port),
				":"+strconv.Itoa(p.listener.Addr().(*net.TCPAddr).Port),
				1,
			)
			require.NotEqual(t, direct, through)
			failed := 0
			for round := 0; int(p.cuts.Load()) < tries(10, 200); round++ {
				commit := []string{"chunk", "load"}[round%2]
				s.url = through
				r := s.run(
					"load",
					"--resume",
					"--chunk",
					"80",
					"--commit",
					commit,
					"--quiet",
					"--wait",
					"1m",
					"--db",
					s.url,
				)
				s.url = direct
				if r.code != 0 {
					failed++
					require.Equal(t, 4, r.code, r.errOut)
					r = s.run(
						"load",
						"--resume",
						"--chunk",
						"80",
						"--commit",
						commit,
						"--quiet",
						"--wait",
						"1m",
						"--db",
						s.url,
					)
					require.Zero(t, r.code, r.errOut)
				}
				require.Empty(t, difference(after, s.rows(t)), "round %d", round)
				r = s.on("withdraw")
				require.Zero(t, r.code, r.errOut+r.out)
				require.Empty(t, difference(before, s.rows(t)))
			}
			t.Logf("%d cuts, after which %d loads had to be resumed", p.cuts.Load(), failed)
			s.noSessions(t)
		})
	}
}

// Several replicas of a service start at the same time: one loads, the others wait and
// see that it is done.
func TestReplicasThatStartTogether(t *testing.T) {
	for _, commit := range []string{"load", "chunk"} {
		t.Run(commit, func(t *testing.T) {
			onEngines(t, harbourPlan(600, 300), func(t *testing.T, s *site) {
				_, after, _ := s.undisturbed(t)
				const replicas = 10
				results := make([]result, replicas)
				var all sync.WaitGroup
				for i := range replicas {
					all.Add(1)
					go func() {
						defer all.Done()
						results[i] = s.on("load", "--wait", "2m", "--chunk", "80", "--commit", commit, "--json")
					}()
				}
				all.Wait()
				loaded := 0
				for _, r := range results {
					assert.Zero(t, r.code, r.errOut+r.out)
					if strings.Contains(r.out, `"rows": 2100`) {
						loaded++
					} else {
						assert.Contains(t, r.out, `"rows": 0`)
					}
				}
				assert.Equal(t, 1, loaded)
				assert.Empty(t, difference(after, s.rows(t)))
				s.noSessions(t)
			})
		})
	}
}

// Somebody who reads all the time never sees a port without its two berths.
func TestReadersNeverSeeHalfAFamily(t *testing.T) {
	for _, e := range engines() {
		if e.start == nil {
			continue // a reader keeps the only writer of a file from committing
		}
		t.Run(e.name, func(t *testing.T) {
			f := newFolder(t)
			f.write("evensprout.yaml", harbourPlan(3000, 10))
			s := &site{folder: f, engine: e}
			s.url = s.database(t)
			s.exec(
				t,
				"CREATE VIEW half AS SELECT p.id FROM ports p WHERE p.id < 900000 AND (SELECT count(*) FROM berths "+
					"b WHERE b.port_id = p.id) <> 2",
				"CREATE VIEW seen AS SELECT id FROM ports",
			)
			c := s.command(loadArgs(s)...)
			require.NoError(t, c.Start())
			ended := make(chan error)
			go func() { ended <- c.Wait() }()
			db := s.open(t)
			defer db.Close()
			looks, partly := 0, 0
			for going := true; going; looks++ {
				select {
				case err := <-ended:
					require.NoError(t, err)
					going = false
				default:
				}
				half, err := db.Count(t.Context(), &schema.Table{Name: "half"})
				require.NoError(t, err)
				require.Zero(t, half, "ports without all of their berths")
				seen, err := db.Count(t.Context(), &schema.Table{Name: "seen"})
				require.NoError(t, err)
				if seen > 1 && seen < 3001 {
					partly++
				}
			}
			assert.Positive(t, partly, "the reader looked in the middle, %d times in all", looks)
		})
	}
}

// A trigger raises on a row far behind: what was committed stays, and the load goes on
// once the trigger is gone.
func TestATriggerThatRaises(t *testing.T) {
	plan := "name: many\nseed: s\nclock: 2026-05-01T08:00:00Z\ncommit: chunk\nentities:\n  Visit:\n    table: " +
		"visits\n    rows: 80000\n    fields: {port_id: {value: 900001}, note: {pattern: \"[a-z]{6}\"}}\n"
	onEngines(t, plan, func(t *testing.T, s *site) {
		before := s.rows(t)
		create := map[string][]string{
			"sqlite": {
				"CREATE TRIGGER no BEFORE INSERT ON visits WHEN NEW.id = 77777 BEGIN SELECT RAISE(ABORT, 'not this " +
					"one'); END",
			},
			"postgres": {
				"CREATE FUNCTION no() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN IF NEW.id = 77777 THEN RAISE " +
					"EXCEPTION 'not this one'; END IF; RETURN NEW; END $$",
				"CREATE TRIGGER no BEFORE INSERT ON visits FOR EACH ROW EXECUTE FUNCTION no()",
			},
			"mariadb": {
				"CREATE TRIGGER no BEFORE INSERT ON visits FOR EACH ROW IF NEW.id = 77777 THEN SIGNAL SQLSTATE " +
					"'45000' SET MESSAGE_TEXT = 'not this one'; END IF",
			},
		}
		s.exec(t, create[s.name]...)
		r := s.on("load", "--chunk", "10000")
		assert.Equal(t, 5, r.code, r.errOut)
		assert.Contains(t, r.errOut, "not this one")
		assert.Contains(t, r.errOut, "Visit row 77776")
		assert.Regexp(
			t,
			`7 chunks with 70,000 rows are committed\.\n +Resume load [0-9]+ with evensprout load --resume, or `+
				`undo it with evensprout withdraw [0-9]+\.`,
			r.errOut,
		)
		again := s.on("load")
		assert.Equal(t, 4, again.code)
		assert.Contains(t, again.errOut, "is unfinished")
		assert.Regexp(
			t,
			`resume it with evensprout load --resume, or undo it with evensprout withdraw [0-9]+`,
			again.errOut,
		)
		drop := "DROP TRIGGER no"
		if s.name == "postgres" {
			drop += " ON visits"
		}
		s.exec(t, drop)
		r = s.on("load", "--resume", "--json")
		require.Zero(t, r.code, r.errOut)
		assert.Contains(t, r.out, `"rows": 80000`)
		after := s.rows(t)
		require.Zero(t, s.on("withdraw").code)
		require.Empty(t, difference(before, s.rows(t)))
		require.Zero(t, s.on("load", "--commit", "load").code)
		assert.Empty(t, difference(after, s.rows(t)), "as if it had never stopped")
		s.noSessions(t)
	})
}

// A full disk: what is committed stays, and the load goes on when there is room.
func TestAServersFullDisk(t *testing.T) {
	onServers(t, harbourPlan(100, 30000), func(t *testing.T, s *site, server *storetest.Server) {
		disk := filepath.Join(t.TempDir(), "disk")
		require.NoError(t, os.Mkdir(disk, 0o755))
		if out, err := exec.Command("mount", "-t", "tmpfs", "-o", "size=2m,mode=0777", "tmpfs",
			disk).CombinedOutput(); err != nil {
			t.Skipf("SKIPPED, nothing can be mounted here: %s", out)
		}
		defer syscall.Unmount(disk, syscall.MNT_DETACH)
		for dir := disk; dir != os.TempDir() && dir != "/"; dir = filepath.Dir(dir) {
			require.NoError(t, os.Chmod(dir, 0o777))
		}
		require.NoError(t, server.Give(disk))
		_, after, _ := s.undisturbed(t)
		if s.name == "postgres" {
			s.exec(
				t,
				"CREATE TABLESPACE small LOCATION '"+disk+"'",
				"TRUNCATE visits",
				"ALTER TABLE visits SET TABLESPACE small",
			)
		} else {
			s.exec(t, "DROP TABLE visits", "CREATE TABLE visits (id INTEGER AUTO_INCREMENT PRIMARY KEY, port_id "+
				"INTEGER NOT NULL REFERENCES ports (id), note VARCHAR(200)) ENGINE=InnoDB DATA DIRECTORY = '"+disk+"'")
		}
		r := s.on("load", "--chunk", "5000")
		if r.code == 4 && strings.Contains(r.errOut, "the connection to the server broke") {
			t.Log("the server itself ended, as this one does when it finds no room to roll back in")
			require.NoError(t, server.Start())
		} else {
			assert.Equal(t, 1, r.code, r.errOut)
			assert.Contains(t, r.errOut, "no space left")
		}
		assert.Contains(t, r.errOut, "with evensprout load --resume, or undo it with evensprout withdraw")
		out, err := exec.Command("mount", "-o", "remount,size=200m", disk).CombinedOutput()
		require.NoError(t, err, string(out))
		r = s.on("load", "--resume")
		require.Zero(t, r.code, r.errOut)
		assert.Empty(t, difference(after, s.rows(t)))
	})
}

// as makes a user who may do what the statements grant, and returns the database's URL
// for that user; in them {db} is the database and {tables} all its tables.
func (s *site) as(t *testing.T, user string, grants ...string) string {
	t.Helper()
	name, tables := s.url[strings.LastIndexByte(s.url, '/')+1:], "ALL TABLES IN SCHEMA public"
	create := "DO $$ BEGIN CREATE ROLE {user} LOGIN; EXCEPTION WHEN duplicate_object THEN NULL; END $$"
	admin, host := "tester@", ""
	switch s.name {
	case "mariadb":
		create, tables, admin, host = "CREATE USER IF NOT EXISTS {user}", "`"+name+"`.*", "root@", "@localhost"
	case "sqlite":
		t.Skip("files have no users")
	}
	words := strings.NewReplacer("{db}", name, "{tables}", tables, "{user}", user+host)
	storetest.Exec(t, s.driver, s.url, words.Replace(create))
	for _, grant := range grants {
		storetest.Exec(t, s.driver, s.url, words.Replace(grant))
	}
	return strings.Replace(s.url, admin, user+"@", 1)
}

// A user who may not make the journal is told what to do, and what is lost without.
func TestUsersWhoMayNotMakeTheJournal(t *testing.T) {
	onEngines(t, harbourPlan(20, 10), func(t *testing.T, s *site) {
		grants := []string{"GRANT SELECT, INSERT, UPDATE, DELETE ON {tables} TO {user}"}
		switch s.name {
		case "postgres":
			grants = append(grants, "GRANT USAGE, SELECT, UPDATE ON ALL SEQUENCES IN SCHEMA public TO {user}")
		case "mariadb":
			grants = append(grants, "GRANT CREATE TEMPORARY TABLES ON {tables} TO {user}")
		}
		as := s.as(t, "clerk", grants...)
		before := s.rows(t)
		r := s.run("check", "--db", as)
		assert.Zero(t, r.code, r.errOut)
		assert.Contains(t, r.errOut, "warning: the journal cannot be kept: this user lacks CREATE on the database")
		assert.Contains(t, r.errOut, "--no-journal")
		r = s.run("load", "--db", as)
		assert.Equal(t, 4, r.code, r.errOut)
		assert.Contains(t, r.errOut, "the journal's tables cannot be")
		assert.Contains(t, r.errOut, "--no-journal")
		assert.Equal(t, before, s.rows(t))
		if s.name == "mariadb" {
			s.exec(t, "SET GLOBAL read_only = 1") // does not bind the user of the tests
			r = s.run("load", "--no-journal", "--db", as)
			s.exec(t, "SET GLOBAL read_only = 0")
			assert.Equal(t, 4, r.code, r.errOut)
			assert.Contains(t, r.errOut, "the database is read-only")
			assert.Equal(t, before, s.rows(t))
		}
		r = s.run("load", "--no-journal", "--db", as)
		assert.Zero(t, r.code, r.errOut)
		assert.NotEqual(t, before, s.rows(t))
		s.noSessions(t)
	})
}

// check tells each right that a load would miss, in one list with what else is wrong, and
// what it says comes true.
func TestRightsThatALoadWouldMiss(t *testing.T) {
	onEngines(t, harbourPlan(20, 10), func(t *testing.T, s *site) {
		as := s.as(t, "reader", "GRANT SELECT ON {tables} TO {user}")
		s.exec(t, "GRANT INSERT (id, port_id) ON visits TO reader"+map[string]string{"mariadb": "@localhost"}[s.name])
		r := s.run("check", "--db", as)
		assert.Equal(t, 4, r.code)
		for _, want := range []string{
			"evensprout.yaml:7:3: rows cannot be written to ports: this user lacks INSERT",
			"evensprout.yaml:14:3: rows cannot be written to berths: this user lacks INSERT",
			"evensprout.yaml:18:3: rows cannot be written to visits: this user lacks INSERT (note)",
			"tables with rows: ports (1)",
		} {
			assert.Contains(t, r.errOut, want)
		}
		if s.name == "postgres" {
			assert.Contains(t, r.errOut, "lacks INSERT (note), SELECT and UPDATE on the sequence visits_id_seq")
		}
		assert.Equal(t, 4, s.run("load", "--no-journal", "--db", as).code)

		// The plan is wrong as well: one list tells both.
		s.write(
			"evensprout.yaml",
			strings.NewReplacer("pick: Port", "pick: Prot", "table: berths", "table: berth").
				Replace(s.read("evensprout.yaml")),
		)
		r = s.run("check", "--db", as)
		assert.Equal(t, 3, r.code)
		for _, want := range []string{`did you mean "Port"?`, `did you mean "berths"?`, "rows cannot be written " +
			"to ports", "rows cannot be written to visits:", "tables with rows: ports (1)"} {
			assert.Contains(t, r.errOut, want)
		}
	})
}

// Of moments in columns without a time zone, check tells which zone the server has; and
// that a plan's clock is ahead of it.
func TestClocksThatDisagree(t *testing.T) {
	onEngines(t, harbourPlan(20, 10), func(t *testing.T, s *site) {
		s.exec(
			t,
			map[string]string{"mariadb": "ALTER TABLE ports MODIFY opened_at DATETIME", "postgres": "SELECT 1",
				"sqlite": "SELECT 1"}[s.name],
		)
		r := s.run("check", "--db", s.url)
		assert.Zero(t, r.code, r.errOut)
		zone := map[string]string{"mariadb": "+05:45", "postgres": "Asia/Kathmandu"}[s.name]
		if zone == "" {
			assert.Empty(t, r.errOut)
		} else {
			assert.Contains(t, r.errOut, "warning: the server's time zone is "+zone+", and ports.opened_at is "+
				"a column without a time zone: times are written there in UTC")
		}
		assert.NotContains(t, r.errOut, "ahead")
		r = s.run("check", "--db", s.url, "--clock", "2999-01-01T00:00:00Z")
		assert.Zero(t, r.code, r.errOut)
		assert.Contains(t, r.errOut, "warning: the clock of the plan, 2999-01-01T00:00:00Z, is ahead of the server's")
	})
}

// A load waits for what comes late: the tables of migrations that are still running.
func TestWaitingForMigrations(t *testing.T) {
	onEngines(t, harbourPlan(20, 10), func(t *testing.T, s *site) {
		s.exec(t, "DROP TABLE visits")
		r := s.on("load")
		assert.Equal(t, 4, r.code, "it does not wait unasked")
		c := s.command("load", "--wait", "1m", "--quiet", "--db", s.url)
		var out bytes.Buffer
		c.Stdout, c.Stderr = &out, &out
		require.NoError(t, c.Start())
		s.exec(
			t,
			"CREATE TABLE visits (id "+s.key+", port_id INTEGER NOT NULL REFERENCES ports (id), note VARCHAR(200))",
		)
		require.NoError(t, c.Wait(), out.String())
		assert.Empty(t, out.String(), "it is quiet")
		assert.Regexp(t, `== visits\n[0-9]+\|`, s.rows(t))
	})
}

// Interrupted between chunks: what is committed is told, and how to go on.
func TestInterruptedChunks(t *testing.T) {
	onEngines(t, harbourPlan(30000, 10), func(t *testing.T, s *site) {
		c := s.command("load", "--chunk", "300", "--jobs", "1", "--db", s.url)
		var errOut bytes.Buffer
		c.Stderr = &errOut
		require.NoError(t, c.Start())
		db := s.open(t)
		defer db.Close()
		for deadline := time.Now().Add(time.Minute); time.Now().Before(deadline); {
			if n, err := db.Count(t.Context(), &schema.Table{Name: "berths"}); err == nil && n > 0 {
				break
			}
		}
		require.NoError(t, c.Process.Signal(syscall.SIGTERM))
		require.Error(t, c.Wait())
		assert.Equal(t, 130, c.ProcessState.ExitCode(), errOut.String())
		assert.Contains(t, errOut.String(), "interrupted")
		assert.Regexp(
			t,
			`chunks? with [0-9,]+ rows are committed\.\n +Resume load [0-9]+ with evensprout load --resume, or `+
				`undo it with evensprout withdraw [0-9]+\.`,
			errOut.String(),
		)
		db.Close()
		s.noSessions(t)
	})
}

// A server whose table of locks is full: told, and nothing stays. When there is room, the
// load goes through.
func TestAFullTableOfLocks(t *testing.T) {
	s, _ := ownServer(t, engines()[1], harbourPlan(50, 20))
	before := s.rows(t)
	hog := s.open(t)
	exec := hog.(interface {
		Exec(context.Context, string, ...setwise.Arg) (int64, error)
	}).Exec
	// One lock after the other, until the server has no room for any more.
	_, err := exec(
		t.Context(),
		"DO $$ BEGIN FOR i IN 1..1000000 LOOP PERFORM pg_advisory_lock(i); END LOOP; EXCEPTION WHEN out_of_memory "+
			"THEN NULL; END $$",
	)
	if err == nil {
		_, err = exec(
			t.Context(),
			"DO $$ BEGIN FOR i IN 1..1000000 LOOP BEGIN PERFORM pg_advisory_lock(i); EXCEPTION WHEN out_of_memory "+
				"THEN EXIT; END; END LOOP; END $$",
		)
	}
	require.NoError(t, err)
	r := s.on("load")
	assert.Equal(t, 1, r.code, r.errOut)
	assert.Contains(t, r.errOut, "the server has no memory left for this")
	assert.Contains(t, r.errOut, "max_locks_per_transaction")
	require.NoError(t, hog.Close())
	// The server needs a moment to give the locks up.
	r = s.on("load", "--dry-run", "--wait", "10s")
	for deadline := time.Now().Add(20 * time.Second); r.code == 1 && time.Now().Before(deadline); {
		r = s.on("load", "--dry-run", "--wait", "10s")
	}
	assert.Zero(t, r.code, r.errOut)
	assert.Empty(t, difference(before, s.rows(t)))
	r = s.on("load", "--wait", "10s")
	assert.Zero(t, r.code, r.errOut)
}

// What is decided by what is there waits for what was committed on another node.
func TestNodesOfAClusterSeeEachOther(t *testing.T) {
	f := newFolder(t)
	nodes := storetest.Galera(t, 2)
	f.write(
		"evensprout.yaml",
		"name: cluster\nseed: s\nclock: 2026-05-01T08:00:00Z\nentities:\n  Port:\n    table: ports\n    rows: 5\n  "+
			"  fields: {label: {kind: locality}}\n",
	)
	first := &site{folder: f, engine: engines()[2]}
	first.url = nodes[0].Database(
		t,
		"CREATE TABLE ports (id INTEGER AUTO_INCREMENT PRIMARY KEY, label VARCHAR(60) NOT NULL);",
	)
	second := &site{folder: f, engine: engines()[2]}
	second.url = nodes[1].URL(first.url[strings.LastIndexByte(first.url, '/')+1:])
	require.Zero(t, first.on("load").code)
	require.Len(t, second.column(t, "ports", "id"), 5)

	// The second node does not apply anything for a while.
	db, err := sql.Open("mysql", fmt.Sprintf("root@tcp(127.0.0.1:%d)/mysql", nodes[1].Port))
	require.NoError(t, err)
	defer db.Close()
	conn, err := db.Conn(t.Context())
	require.NoError(t, err)
	_, err = conn.ExecContext(t.Context(), "FLUSH TABLES WITH READ LOCK")
	require.NoError(t, err)
	require.Zero(t, first.on("withdraw").code)
	time.AfterFunc(time.Second, func() { conn.ExecContext(context.Background(), "UNLOCK TABLES") })
	r := second.on("load")
	assert.Zero(t, r.code, r.errOut)
	assert.Contains(t, r.out, "5 rows into")
	assert.Len(t, second.column(t, "ports", "id"), 5)
	assert.Len(t, first.column(t, "ports", "id"), 5)
}

// A standby takes over that does not have the last commits: what is lost is written again.
// Chunks are small, so that there are many steps left when the primary ends.
func TestAStandbyTakesOver(t *testing.T) {
	for _, what := range []string{"load", "withdraw"} {
		t.Run(what, func(t *testing.T) {
			s, primary := ownServer(t, engines()[1], harbourPlan(6000, 9000))
			standby := primary.Standby(t)
			name := s.url[strings.LastIndexByte(s.url, '/')+1:]
			before := s.rows(t)
			args := []string{"load", "--chunk", "20", "--jobs", "2", "--quiet"}
			if what == "withdraw" {
				require.Zero(t, s.on(args...).code)
				args = []string{"withdraw", "--commit", "chunk"}
			}
			s.url = fmt.Sprintf("postgres://tester@127.0.0.1:%d,127.0.0.1:%d/%s", primary.Port, standby.Port, name)
			c := s.command(append(args, "--db", s.url)...)
			var out bytes.Buffer
			c.Stdout, c.Stderr = &out, &out
			require.NoError(t, c.Start())
			state := map[string]string{"load": "done", "withdraw": "withdrawn"}[what]
			steps := func() int {
				n, err := strconv.Atoi(
					primary.Ask(
						t,
						name,
						"SELECT CASE WHEN to_regclass('evensprout.chunks') IS NULL THEN 0 ELSE 1 END",
					),
				)
				if err != nil || n == 0 {
					return 0
				}
				n, _ = strconv.Atoi(
					primary.Ask(t, name, "SELECT count(*) FROM evensprout.chunks WHERE state = '"+state+"'"),
				)
				return n
			}
			wait := func(n int) {
				for deadline := time.Now().Add(20 * time.Second); steps() < n && time.Now().Before(deadline); {
					time.Sleep(2 * time.Millisecond)
				}
			}
			wait(2)
			require.NoError(t, c.Process.Signal(syscall.SIGSTOP)) // the load waits while the standby is cut off
			standby.Ask(t, name, "ALTER SYSTEM SET primary_conninfo = ''")
			standby.Ask(t, name, "SELECT pg_reload_conf()")
			time.Sleep(50 * time.Millisecond)
			seen := steps()
			require.NoError(t, c.Process.Signal(syscall.SIGCONT))
			wait(seen + 3)
			primary.Kill()
			standby.Ask(t, name, "SELECT pg_promote()")
			err := c.Wait()
			require.NoError(t, err, out.String())
			lost := standby.Ask(t, name, "SELECT pg_is_in_recovery()")
			require.Equal(t, "f", lost)
			t.Logf("%d steps had come to the standby, at least %d were done", seen, seen+3)
			if what == "load" {
				r := s.on("compare")
				assert.Zero(t, r.code, r.out+r.errOut)
				r = s.on("withdraw")
				assert.Zero(t, r.code, r.out+r.errOut)
			}
			s.url = standby.URL(name)
			assert.Empty(t, difference(before, s.rows(t)))
		})
	}
}
