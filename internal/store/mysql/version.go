package mysql

import (
	"fmt"
	"strings"

	"evensprout/internal/store"
)

// release is a version, as far as it decides anything.
type release struct{ major, minor int }

func (n release) String() string { return fmt.Sprintf("%d.%d", n.major, n.minor) }

func (n release) before(m release) bool {
	return n.major < m.major || n.major == m.major && n.minor < m.minor
}

// The versions that will do: docs/engines.md says what the tests run on.
var (
	oldestMaria = release{10, 5}
	testedMaria = release{10, 11}
	oldestMySQL = release{8, 0}
)

// checkVersion refuses a server that is too old, or that does not say which it is. notice says that a server is newer
// than those of the tests; mostly empty.
func checkVersion(version, where string) (maria bool, notice string, err error) {
	var n release
	if got, _ := fmt.Sscanf(version, "%d.%d", &n.major, &n.minor); got != 2 {
		return false, "", store.OtherServer(where, version)
	}
	name, oldest := "MySQL", oldestMySQL
	if maria = strings.Contains(version, "MariaDB"); maria {
		name, oldest = "MariaDB", oldestMaria
	}
	switch {
	case n.before(oldest):
		err = store.OldServer(where, name+" "+n.String(), name+" "+oldest.String())
	case maria && testedMaria.before(n):
		notice = store.NewServer(name+" "+n.String(), "version "+testedMaria.String())
	}
	return maria, notice, err
}
