package main

import (
	"fmt"
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
	ports := tries(3000, 333_334)
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
	part := func(n int) result {
		return at(n%3).on("load", "--part", fmt.Sprintf("%d/6", n+1), "--chunk", fmt.Sprint(ports/12), "--quiet")
	}
	for deadline := time.Now().Add(20 * time.Second); ; time.Sleep(50 * time.Millisecond) {
		if at(1).on("check").code == 0 && at(2).on("check").code == 0 { // the tables have come to all nodes
			break
		}
		require.True(t, time.Now().Before(deadline), at(1).on("check").errOut)
	}

	results := make([]result, 6)
	var all sync.WaitGroup
	for n := range results {
		all.Go(func() { results[n] = part(n) })
	}
	for deadline := time.Now().Add(2 * time.Minute); len(at(0).column(t, "ports", "id")) < ports/4; {
		require.True(t, time.Now().Before(deadline), "the load does not begin")
	}
	nodes[1].Kill()
	all.Wait()
	require.NoError(t, nodes[1].Start())
	broken := 0
	for n, r := range results {
		for tries := 0; r.code != 0; tries++ {
			broken++
			assert.Equal(t, 4, r.code, r.errOut)
			require.Less(t, tries, 5, r.errOut)
			r = part(n)
		}
	}
	t.Logf("%d parts were started again", broken)
	for n := range nodes {
		r := at(n).on("compare")
		assert.Zero(t, r.code, "node %d: %s", n, r.out+r.errOut)
		assert.Len(t, at(n).column(t, "ports", "id"), ports)
		assert.Len(t, at(n).column(t, "berths", "id"), 2*ports)
	}
	r := at(2).on("withdraw", "--commit", "chunk")
	require.Zero(t, r.code, r.out+r.errOut)
	for n := range nodes {
		assert.Empty(t, at(n).column(t, "ports", "id"))
		assert.Empty(t, at(n).column(t, "berths", "id"))
	}
}
