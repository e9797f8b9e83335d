//go:build unix

package security_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Rows that refer to ours, and that whoever loads does not see, stay, and so do the rows that they refer to.
func TestUnseenRowsDoNotGoWithOurs(t *testing.T) {
	replacing := strings.Replace(portsOnly, "harbour", "replacing", 1) + "    write: replace\n"
	commands := []struct {
		name, plan string
		args       []string
	}{
		{"withdraw", portsOnly, []string{"withdraw"}},
		{"withdraw what refers", portsOnly, []string{"withdraw", "--also", "referring", "--also", "changed"}},
		{"withdraw in chunks", portsOnly, []string{"withdraw", "--commit", "chunk"}},
		{"replace", replacing, []string{"load"}},
		{"replace with others", strings.Replace(replacing, "replace\n", "{mode: replace, cascade: true}\n", 1), []string{"load"}},
		{"anew", strings.Replace(portsOnly, "rows: 4", "rows: 1", 1), []string{"load", "--anew", "--also", "referring"}},
		{"unit", portsOnly + unitThatDeletes, []string{"load", "--unit", "close"}},
		{"unit without undo", portsOnly + unitThatDeletes, []string{"load", "--unit", "close", "--no-undo"}},
		{"unit that clears", portsOnly + "units:\n  close:\n    together: all\n    steps: [{clear: Port}]\n",
			[]string{"load", "--unit", "close"}},
	}
	check := func(t *testing.T, b *box, child string) {
		for _, c := range commands {
			t.Run(c.name, func(t *testing.T) {
				b.t = t
				b.write("evensprout.yaml", c.plan)
				r := b.run(append(append([]string{}, c.args...), "--db", b.url, "--allow-host", "127.0.0.1")...)
				assert.NotZero(t, r.code, r.all())
				owner := *b
				owner.url = b.env[0]
				assert.Equal(t, int64(1), owner.ask("SELECT count(*) FROM "+child+" WHERE id = 5 AND port_id = 2"), r.all())
				assert.Equal(t, int64(1), owner.ask("SELECT count(*) FROM ports WHERE id = 2"), r.all())
				assert.Contains(t, r.all(), "visits", "it is named")
			})
		}
	}
	ready := func(b *box, user string) {
		b.env = []string{b.url} // the owner's address
		b.url = as(b.url, user)
		b.write("evensprout.yaml", portsOnly)
		r := b.run("load", "--db", b.url)
		require.Zero(b.t, r.code, r.all())
	}
	t.Run("postgres, row-level security", func(t *testing.T) {
		for _, action := range []string{"CASCADE", "SET NULL"} {
			b := onPostgres(t, "")
			user := "loader_" + databaseOf(b.url)
			psql(t, b.url, "CREATE ROLE "+user+" LOGIN; GRANT CREATE, TEMPORARY ON DATABASE "+databaseOf(b.url)+" TO "+user+
				"; DROP TABLE visits; CREATE TABLE visits (id INT PRIMARY KEY, port_id INT REFERENCES ports ON DELETE "+action+");"+
				"GRANT ALL ON ports, visits TO "+user+"; GRANT ALL ON ALL SEQUENCES IN SCHEMA public TO "+user+";"+
				"ALTER TABLE visits ENABLE ROW LEVEL SECURITY; CREATE POLICY few ON visits USING (id < 0)")
			ready(b, user)
			psql(t, b.env[0], "INSERT INTO visits VALUES (5, 2)")
			t.Run(action, func(t *testing.T) { check(t, b, "visits") })
		}
	})
	t.Run("postgres, no SELECT in another schema", func(t *testing.T) {
		b := onPostgres(t, "")
		user := "loader_" + databaseOf(b.url)
		psql(t, b.url, "CREATE ROLE "+user+" LOGIN; GRANT CREATE, TEMPORARY ON DATABASE "+databaseOf(b.url)+" TO "+user+
			"; DROP TABLE visits; CREATE SCHEMA far; CREATE TABLE far.visits (id INT PRIMARY KEY, port_id INT REFERENCES ports ON DELETE "+
			"CASCADE); GRANT ALL ON ports TO "+user+"; GRANT ALL ON ALL SEQUENCES IN SCHEMA public TO "+user)
		ready(b, user)
		psql(t, b.env[0], "INSERT INTO far.visits VALUES (5, 2)")
		check(t, b, "far.visits")
	})
	t.Run("postgres, a single partition", func(t *testing.T) {
		b := onPostgres(t, "")
		psql(t, b.url, "DROP TABLE visits; CREATE TABLE visits (id INT, port_id INT) PARTITION BY LIST (id);"+
			"CREATE TABLE visits_5 PARTITION OF visits FOR VALUES IN (5); ALTER TABLE visits_5 ADD FOREIGN KEY (port_id) REFERENCES ports ON DELETE CASCADE")
		b.env = []string{b.url}
		b.write("evensprout.yaml", portsOnly)
		require.Zero(t, b.run("load", "--db", b.url).code)
		psql(t, b.url, "INSERT INTO visits VALUES (5, 2)")
		check(t, b, "visits")
	})
	for name, grant := range map[string]string{
		"mariadb, another database":    "GRANT ALL ON *.* TO '%s'@'%%'",
		"mariadb, no rights there":     "GRANT ALL ON `DB`.* TO '%s'@'%%'; GRANT PROCESS ON *.* TO '%s'@'%%'",
		"mariadb, INSERT alone there":  "GRANT ALL ON `DB`.* TO '%s'@'%%'; GRANT INSERT ON `FAR`.* TO '%s'@'%%'",
		"mariadb, SET NULL, no rights": "GRANT ALL ON `DB`.* TO '%s'@'%%'; GRANT PROCESS ON *.* TO '%s'@'%%'",
	} {
		t.Run(name, func(t *testing.T) {
			b := onMariaDB(t, "")
			db := databaseOf(b.url)
			far, user := "far_"+db+string(name[9]), "loader_"+db+string(name[9])
			action := map[bool]string{true: "SET NULL", false: "CASCADE"}[strings.Contains(name, "SET NULL")]
			statements := []string{"DROP TABLE visits", "CREATE DATABASE " + far,
				"CREATE TABLE " + far + ".visits (id INT PRIMARY KEY, port_id INT, FOREIGN KEY (port_id) REFERENCES " + db +
					".ports (id) ON DELETE " + action + ")", "CREATE USER '" + user + "'@'%'"}
			for _, g := range strings.Split(grant, "; ") {
				statements = append(statements, strings.NewReplacer("DB", db, "FAR", far, "%s", user, "%%", "%").Replace(g))
			}
			b.exec(statements...)
			t.Cleanup(func() { b.exec("DROP DATABASE " + far) })
			ready(b, user)
			owner := *b
			owner.url = b.env[0]
			owner.exec("INSERT INTO " + far + ".visits SELECT 5, id FROM ports WHERE id = 2")
			check(t, b, far+".visits")
			b.url = b.env[0]
		})
	}
}
