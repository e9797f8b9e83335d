//go:build unix

package security_test

import (
	"context"
	"fmt"
	"os"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/store/setwise"
)

// An application adds a row that refers to one of the plan's, and commits while the program is about to delete that
// row. Whatever the program decides, the committed row stays, with its reference.

// application is a transaction of another program.
type application struct {
	b      *box
	engine setwise.Engine
	close  func() error
}

func (b *box) application(isolation string) *application {
	b.t.Helper()
	s, err := b.driver.Open(context.Background(), b.url)
	require.NoError(b.t, err)
	a := &application{b: b, engine: s.(setwise.Engine), close: s.Close}
	b.t.Cleanup(func() { a.close() })
	if b.name == "postgres" {
		a.exec("BEGIN ISOLATION LEVEL " + isolation)
		return a
	}
	a.exec("SET TRANSACTION ISOLATION LEVEL " + isolation)
	a.exec("START TRANSACTION")
	return a
}

func (a *application) exec(sql string) {
	a.b.t.Helper()
	_, err := a.engine.Exec(context.Background(), sql)
	require.NoError(a.b.t, err, sql)
}

var askingMariaDB sync.Mutex

// waiting are the sessions of the box's database that wait for a lock.
func (b *box) waiting() int64 {
	if b.name == "postgres" {
		return b.ask("SELECT count(*) FROM pg_stat_activity WHERE datname = current_database() AND wait_event_type = 'Lock'")
	}
	// The server looks again only if nobody has asked for a tenth of a second.
	askingMariaDB.Lock()
	defer askingMariaDB.Unlock()
	time.Sleep(3 * tick)
	return b.ask("SELECT count(*) FROM information_schema.innodb_trx x JOIN information_schema.processlist p " +
		"ON p.id = x.trx_mysql_thread_id WHERE p.db = DATABASE() AND x.trx_state = 'LOCK WAIT'")
}

// commitWhenWaitedFor commits as soon as a command waits for the transaction, or is done.
func (a *application) commitWhenWaitedFor(args ...string) result {
	done := make(chan result, 1)
	go func() { done <- a.b.on(args...) }()
	for {
		select {
		case r := <-done:
			a.exec("COMMIT")
			return r
		case <-time.After(tick):
		}
		if a.b.waiting() > 0 {
			a.exec("COMMIT")
			return <-done
		}
	}
}

// portsOnly fills the table that others refer to.
const portsOnly = `name: harbour
seed: s
clock: 2026-05-01T08:00:00Z
entities:
  Port:
    table: ports
    rows: 4
    fields:
      label: {kind: locality}
`

// race is a command that deletes rows of ports, one of which the application refers to just then.
type race struct {
	name  string
	plan  string   // with which the command runs
	setup []string // statements after the first load
	port  int      // to which the application refers
	args  []string
}

var races = []race{
	{name: "withdraw", plan: portsOnly, port: 2, args: []string{"withdraw"}},
	{name: "withdraw, row by row", plan: portsOnly, port: 2, args: []string{"withdraw"},
		setup: []string{"UPDATE ports SET label = 'changed' WHERE id = 4"}},
	{name: "withdraw in chunks", plan: portsOnly, port: 2, args: []string{"withdraw", "--commit", "chunk"}},
	{name: "replace", plan: portsOnly + "    write: replace\n", port: 2, args: []string{"load", "--extra", "again"}},
	{name: "anew with fewer rows", plan: strings.Replace(portsOnly, "rows: 4", "rows: 1", 1), port: 2,
		args: []string{"load", "--anew"}},
	{name: "anew with other rows", plan: strings.Replace(portsOnly, "seed: s", "seed: t", 1), port: 2,
		args: []string{"load", "--anew"}},
	{name: "restore", plan: portsOnly, port: 77, setup: []string{"INSERT INTO ports (id, label) VALUES (77, 'extra')"},
		args: []string{"load", "--restore", "--delete-extra"}},
	{name: "a unit that deletes", plan: portsOnly + unitThatDeletes, port: 2,
		args: []string{"load", "--unit", "close"}},
}

const unitThatDeletes = `units:
  close:
    steps:
      - delete: Port
        match: {id: 2}
`

func TestCommittedRowsDoNotGoWithOurs(t *testing.T) {
	for _, e := range engines[1:] { // nobody else writes to SQLite meanwhile
		for _, reference := range []string{"ON DELETE CASCADE", "ON DELETE SET NULL"} {
			for i, isolation := range []string{"READ COMMITTED", "REPEATABLE READ", "SERIALIZABLE"} {
				for j, r := range races {
					if i != j%3 && os.Getenv("EVENSPROUT_FAULTS") != "long" {
						continue // a sample: each command with one of the levels
					}
					t.Run(fmt.Sprintf("%s/%s/%s/%s", e.name, reference, isolation, r.name), func(t *testing.T) {
						t.Parallel()
						r.run(t, e, reference, isolation)
					})
				}
			}
		}
	}
}

func (r race) run(t *testing.T, e engine, reference, isolation string) {
	b := boxFor(t, e, "")
	b.exec("DROP TABLE visits", "CREATE TABLE visits (id INTEGER PRIMARY KEY, port_id INTEGER, FOREIGN KEY (port_id) REFERENCES ports (id) "+reference+")")
	b.write("evensprout.yaml", portsOnly)
	require.Zero(t, b.on("load").code)
	b.exec(r.setup...)
	b.write("evensprout.yaml", r.plan)
	a := b.application(isolation)
	a.exec(fmt.Sprintf("INSERT INTO visits (id, port_id) VALUES (5, %d)", r.port))
	done := a.commitWhenWaitedFor(r.args...)
	if r.name == "a unit that deletes" && done.code == 0 {
		// That is what the unit says. The row that went with it comes back.
		undone := b.on("withdraw")
		require.Zero(t, undone.code, undone.all())
	}
	assert.Equal(t, int64(1), b.ask(fmt.Sprintf("SELECT count(*) FROM visits WHERE id = 5 AND port_id = %d", r.port)),
		"the committed row is gone, or has lost its reference: %s", done.all())
	assert.Equal(t, int64(1), b.ask(fmt.Sprintf("SELECT count(*) FROM ports WHERE id = %d", r.port)), done.all())
}
