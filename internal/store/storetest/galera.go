package storetest

import (
	"fmt"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// Options of a node.
const (
	clusterAddress = "--wsrep-cluster-address=gcomm://"
	newCluster     = "--wsrep-new-cluster" // of the first one, the first time
)

// Galera is a cluster of MariaDB nodes for one test. Where Galera is not there and
// cannot be installed, the test is skipped.
func Galera(t testing.TB, size int) []*Server {
	t.Helper()
	MariaDB(t) // installs the server, or skips
	provider := func() string {
		found, _ := filepath.Glob("/usr/lib*/galera*/libgalera_smm.so")
		if len(found) == 0 {
			return ""
		}
		return found[0]
	}
	for name, there := range map[string]func() bool{"galera-4": func() bool { return provider() != "" },
		"rsync": func() bool { return program("rsync") != "" }, "lsof": func() bool { return program("lsof") != "" }} {
		if there() {
			continue
		}
		if err := install(name); err != nil {
			t.Skipf("no cluster: %v", err)
		}
	}
	nodes := make([]*Server, size)
	var groups []string // the addresses of the nodes for each other
	for i := range nodes {
		s, err := newServer("mysql")
		require.NoError(t, err)
		t.Cleanup(s.Remove)
		var ports [3]int // of the group, and of the transfers of state
		for j := range ports {
			ports[j], err = freePort()
			require.NoError(t, err)
		}
		data := filepath.Join(s.folder, "data")
		require.NoError(
			t,
			s.run(
				program("mariadb-install-db"),
				"--no-defaults",
				"--datadir="+data,
				"--tmpdir="+s.folder,
				"--auth-root-authentication-method=normal",
				"--skip-test-db",
			),
		)
		at := func(port int) string { return "127.0.0.1:" + strconv.Itoa(port) }
		s.command = []string{
			program("mariadbd"),
			"--no-defaults",
			"--datadir=" + data,
			"--tmpdir=" + s.folder,
			"--port=" + strconv.Itoa(s.Port),
			"--bind-address=127.0.0.1",
			"--socket=" + filepath.Join(
				s.folder,
				"socket",
			),
			"--pid-file=" + filepath.Join(s.folder, "pid"),
			"--innodb-flush-log-at-trx-commit=0",
			"--binlog-format=ROW",
			"--innodb-autoinc-lock-mode=2",
			"--wsrep-on=ON",
			"--wsrep-provider=" + provider(),
			"--wsrep-cluster-name=tests",
			"--wsrep-node-address=" + at(
				ports[0],
			),
			fmt.Sprintf(
				"--wsrep-provider-options=base_port=%d;ist.recv_addr=%s;gcache.size=16M",
				ports[0],
				at(ports[1]),
			),
			"--wsrep-sst-method=rsync",
			"--wsrep-sst-receive-address=" + at(ports[2]),
			clusterAddress + strings.Join(groups, ","),
		}
		groups = append(groups, at(ports[0]))
		if i == 0 {
			s.command = append(s.command, newCluster)
		}
		s.url = fmt.Sprintf("mysql://root@127.0.0.1:%d/%%s", s.Port)
		s.create = createMariaDB
		require.NoError(t, s.Start())
		nodes[i] = s
	}
	for _, s := range nodes { // one that starts again joins the others, the first one too
		for i, arg := range s.command {
			if strings.HasPrefix(arg, clusterAddress) {
				s.command[i] = clusterAddress + strings.Join(groups, ",")
			}
		}
		s.command = slices.DeleteFunc(s.command, func(arg string) bool { return arg == newCluster })
	}
	return nodes
}
