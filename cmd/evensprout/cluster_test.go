package main

import (
	"database/sql"
	"fmt"
	"math/rand/v2"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/store/storetest"
)

// Six parts write through three nodes of a cluster, of which one is killed in the middle and started again. Parts that
// failed are started again; then nothing is missing on any node, and nothing is there twice.
func TestKilledNodes(t *testing.T) {
	t.Run("small loads", func(t *testing.T) { killNodes(t, 3000, tries(1, 50)) })
	if tries(0, 1) > 0 {
		t.Run("a million rows", func(t *testing.T) { killNodes(t, 333_334, 1) })
	}
}

// killNodes loads, compares and withdraws several times, and kills a node at a random moment of each load.
func killNodes(t *testing.T, ports, times int) {
	f := newFolder(t)
	f.write("evensprout.yaml", fmt.Sprintf(`name: cluster
seed: s
clock: 2026-05-01T08:00:00Z
commit: chunk
entities:
  Port:
    table: ports
    rows: %d
    fields: {code: {pattern: "[A-Z]{3}[0-9]{6}", unique: true}, label: {kind: locality}}
  Berth:
    table: berths
    per: {Port: 2}
    fields: {number: {count: {restart: true}}, price: {between: [1.00, 90.00]}}
`, ports))
	nodes := storetest.Galera(t, 3)
	site0 := &site{folder: f, engine: engines()[2]}
	site0.url = nodes[0].Database(t, `
CREATE TABLE ports (id INTEGER AUTO_INCREMENT PRIMARY KEY, code VARCHAR(12) NOT NULL UNIQUE,
  label VARCHAR(60) NOT NULL);
CREATE TABLE berths (id INTEGER AUTO_INCREMENT PRIMARY KEY, port_id INTEGER NOT NULL, number INTEGER NOT NULL,
  price DECIMAL(8,2) NOT NULL, FOREIGN KEY (port_id) REFERENCES ports (id));`)
	name := site0.url[strings.LastIndexByte(site0.url, '/')+1:]
	at := func(node int) *site { return &site{folder: f, engine: engines()[2], url: nodes[node].URL(name)} }
	part := func(n int, more ...string) result {
		args := []string{"load", "--part", fmt.Sprintf("%d/6", n+1), "--chunk", fmt.Sprint(ports / 12), "--quiet"}
		return at(n % 3).on(append(args, more...)...)
	}
	everywhere := func() { // all nodes have the tables, and take statements
		for deadline := time.Now().Add(time.Minute); ; time.Sleep(50 * time.Millisecond) {
			if at(0).on("check").code == 0 && at(1).on("check").code == 0 && at(2).on("check").code == 0 {
				return
			}
			require.True(t, time.Now().Before(deadline), at(1).on("check").errOut)
		}
	}

	everywhere()
	for range times {
		killed := rand.N(3)
		early := rand.N(ports / 2)
		results := make([]result, 6)
		var all sync.WaitGroup
		for n := range results {
			all.Go(func() { results[n] = part(n) })
		}
		other := nodes[(killed+1)%3].Port
		db, err := sql.Open("mysql", fmt.Sprintf("root@tcp(127.0.0.1:%d)/%s", other, name))
		require.NoError(t, err)
		for loaded, deadline := 0, time.Now().Add(2*time.Minute); loaded <= early; {
			// A node ends a query that stands in the way of what another node has committed.
			err := db.QueryRow("SELECT COUNT(*) FROM ports").Scan(&loaded)
			require.True(t, time.Now().Before(deadline), "the load does not begin: %v", err)
		}
		db.Close()
		nodes[killed].Kill()
		all.Wait()
		require.NoError(t, nodes[killed].Start())
		broken := 0
		for n, r := range results {
			for tries := 0; r.code != 0; tries++ {
				broken++
				assert.Equal(t, 4, r.code, r.errOut)
				require.Less(t, tries, 5, r.errOut)
				r = part(n, "--wait", "1m") // the node may still be joining
			}
		}
		t.Logf("node %d was killed after %d of %d ports; %d parts were started again", killed, early, ports, broken)
		everywhere()
		for n := range nodes {
			r := at(n).on("compare")
			require.Zero(t, r.code, "node %d: %s", n, r.out+r.errOut)
			require.Len(t, at(n).column(t, "ports", "id"), ports)
			require.Len(t, at(n).column(t, "berths", "id"), 2*ports)
		}
		r := at((killed+1)%3).on("withdraw", "--commit", "chunk")
		require.Zero(t, r.code, r.out+r.errOut)
		for n := range nodes {
			require.Empty(t, at(n).column(t, "ports", "id"))
			require.Empty(t, at(n).column(t, "berths", "id"))
		}
	}
}
