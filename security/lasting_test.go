//go:build unix

package security_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Where no transaction takes rows back, a dry run writes nothing, and a load says so before it writes.
func TestRowsThatCannotBeRolledBack(t *testing.T) {
	for name, script := range map[string][]string{
		"MyISAM": {"ALTER TABLE ports ENGINE = MyISAM"},
		"Aria":   {"ALTER TABLE ports ENGINE = Aria TRANSACTIONAL = 0"},
		"MEMORY": {"ALTER TABLE ports ENGINE = MEMORY"},
		"trigger": {"CREATE TABLE log (n INT) ENGINE = MyISAM",
			"CREATE TRIGGER spill BEFORE INSERT ON ports FOR EACH ROW INSERT INTO log VALUES (1)",
			"CREATE TRIGGER spilled BEFORE DELETE ON ports FOR EACH ROW INSERT INTO log VALUES (2)"},
		"procedure": {"CREATE TABLE log (n INT) ENGINE = MyISAM", "CREATE PROCEDURE note() INSERT INTO log VALUES (1)",
			"CREATE TRIGGER spill BEFORE INSERT ON ports FOR EACH ROW CALL note()",
			"CREATE TRIGGER spilled BEFORE DELETE ON ports FOR EACH ROW CALL note()"},
		"two steps": {"CREATE TABLE log (n INT) ENGINE = MyISAM", "CREATE TABLE steps (n INT)",
			"CREATE TRIGGER next BEFORE INSERT ON steps FOR EACH ROW INSERT INTO log VALUES (1)",
			"CREATE TRIGGER spill BEFORE INSERT ON ports FOR EACH ROW INSERT INTO steps VALUES (1)",
			"CREATE TRIGGER spilled BEFORE DELETE ON ports FOR EACH ROW INSERT INTO steps VALUES (1)"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			b := onMariaDB(t, "")
			b.exec("DROP TABLE visits")
			require.NotEmpty(t, b.url)
			b.write("evensprout.yaml", portsOnly)
			b.exec(script...)
			b.exec("INSERT INTO ports (id, label) VALUES (1000, 'there before')")
			b.write("replace.yaml", strings.Replace(portsOnly, "harbour", "replacing", 1)+"    write: replace\n")
			b.write("rows.csv", "id,label\n2000,from a file\n")
			b.write("unit.yaml", strings.Replace(portsOnly, "harbour", "unit", 1)+
				"units:\n  one:\n    steps: [{insert: ports, set: {id: 3000, label: \"'x'\"}}]\n")
			state := func() string {
				text := b.dump()
				return text
			}
			refused := func(args ...string) {
				before := state()
				r := b.on(args...)
				assert.NotZero(t, r.code, "%v: %s", args, r.all())
				assert.Contains(t, r.err, "no transactions", "%v", args)
				assert.Equal(t, before, state(), "%v", args)
			}
			refused("load", "--dry-run")
			refused("load")
			refused("load", "replace.yaml", "--dry-run")
			refused("load", "replace.yaml")
			refused("load", "--file", "rows.csv", "--table", "ports", "--dry-run")
			refused("add", "Port", "--dry-run")
			refused("load", "unit.yaml", "--unit", "one", "--dry-run")

			r := b.on("load", "--commit", "chunk")
			require.Zero(t, r.code, "the hint works: %s", r.all())
			refused("withdraw", "--dry-run")
			refused("withdraw")
			refused("load", "--restore", "--dry-run")
			refused("load", "--anew", "--dry-run")
			r = b.on("withdraw", "--commit", "chunk")
			require.Zero(t, r.code, r.all())
			assert.Equal(t, int64(1), b.ask("SELECT count(*) FROM ports"))
			b.exec("ALTER TABLE ports ENGINE = InnoDB", "DROP TRIGGER IF EXISTS spill", "DROP TRIGGER IF EXISTS spilled")
			r = b.on("load", "--dry-run")
			assert.Zero(t, r.code, fmt.Sprint("the hint works: ", r.all()))
		})
	}
}
