package main

import (
	"bytes"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"zombiezen.com/go/sqlite"
	"zombiezen.com/go/sqlite/sqlitex"
)

// application is another program that has a SQLite file open.
type application struct {
	t    *testing.T
	conn *sqlite.Conn
}

func openApplication(t *testing.T, s *site) *application {
	conn, err := sqlite.OpenConn(strings.TrimPrefix(s.url, "sqlite:"), sqlite.OpenReadWrite)
	require.NoError(t, err)
	t.Cleanup(func() { conn.Close() })
	conn.SetBusyTimeout(20 * time.Second)
	return &application{t, conn}
}

func (a *application) do(sql string) {
	require.NoError(a.t, sqlitex.ExecuteTransient(a.conn, sql, nil), sql)
}

// longer is longer than the engine waits for a lock.
const longer = 4 * time.Second

// An application holds the lock of a file, or reads in it, for longer than the engine waits. Without --wait that is
// reported, and nothing is written; with it, the load goes on afterwards.
func TestAFileThatIsLocked(t *testing.T) {
	held := map[string]string{"written to": "BEGIN IMMEDIATE", "read": "BEGIN"}
	commands := map[string][]string{
		"load":          {"load"},
		"load in steps": {"load", "--commit", "chunk", "--chunk", "100"},
		"withdraw":      {"withdraw"},
	}
	for how, begin := range held {
		for what, command := range commands {
			t.Run(what+" while it is "+how, func(t *testing.T) {
				f := newFolder(t)
				f.write("evensprout.yaml", harbourPlan(50, 20))
				s := &site{folder: f, engine: engines()[0]}
				s.url = s.database(t)
				require.Zero(t, s.on("load").code)
				before, after := s.rows(t), ""
				require.Zero(t, s.on("withdraw").code)
				after = s.rows(t)
				if command[0] == "load" {
					before, after = after, before
				} else {
					require.Zero(t, s.on("load").code)
				}
				a := openApplication(t, s)
				a.do(begin)
				a.do("SELECT count(*) FROM ports") // takes the lock of a reader
				r := s.on(command...)
				assert.Equal(t, 4, r.code, r.errOut)
				assert.Contains(t, r.errOut, "is locked by another program (waited 3s)")
				assert.Contains(t, r.errOut, "load and withdraw wait with --wait 5m")

				c := s.command(append(command, "--wait", "1m", "--db", s.url)...)
				var out bytes.Buffer
				c.Stdout, c.Stderr = &out, &out
				require.NoError(t, c.Start())
				time.Sleep(longer)
				if how == "written to" { // nobody can begin to read while a commit waits for a reader
					assert.Equal(t, before, s.rows(t))
				}
				a.do("ROLLBACK")
				require.NoError(t, c.Wait(), out.String())
				assert.Empty(t, difference(after, s.rows(t)))
				if how == "written to" {
					assert.Contains(t, out.String(), "is locked by another program (waited 3s); waiting up to ")
				}
			})
		}
	}
}

// A load that commits in between lets an application write, whatever the journal mode of the file is.
func TestAnApplicationWritesMeanwhile(t *testing.T) {
	for _, mode := range []string{"delete", "wal"} {
		t.Run(mode, func(t *testing.T) {
			f := newFolder(t)
			f.write("evensprout.yaml", harbourPlan(50, 300_000))
			s := &site{folder: f, engine: engines()[0]}
			s.url = s.database(t)
			a := openApplication(t, s)
			a.do("PRAGMA journal_mode = " + mode)
			a.do("CREATE TABLE notes (at INTEGER)")
			c := s.command("load", "--commit", "chunk", "--chunk", "5000", "--db", s.url)
			var out bytes.Buffer
			c.Stdout, c.Stderr = &out, &out
			require.NoError(t, c.Start())
			ended := make(chan error, 1)
			began := time.Now()
			go func() { ended <- c.Wait() }()
			writes, longest := 0, time.Duration(0)
			for going := true; going; writes++ {
				started := time.Now()
				a.do(fmt.Sprintf("INSERT INTO notes VALUES (%d)", writes))
				longest = max(longest, time.Since(started))
				select {
				case err := <-ended:
					require.NoError(t, err, out.String())
					going = false
				case <-time.After(10 * time.Millisecond):
				}
			}
			t.Logf("%d writes in %s, the longest took %s", writes, time.Since(began).Round(time.Millisecond), longest)
			// The load gives a turn after each second in which it held the lock.
			assert.Greater(t, writes, int(time.Since(began)/(4*time.Second)))
			assert.Zero(t, s.on("compare").code)
		})
	}
}
