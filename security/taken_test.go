//go:build unix

package security_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// Rows that a trigger or a rule takes away again do not count as loaded, and nothing of the load stays.
func TestRowsThatTheDatabaseTakesAway(t *testing.T) {
	const function = "CREATE FUNCTION away() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN DELETE FROM ports WHERE id = NEW.id AND NEW.id = 2; RETURN NULL; END $$;"
	for name, script := range map[string]string{
		"after":    function + "CREATE TRIGGER away AFTER INSERT ON ports FOR EACH ROW EXECUTE FUNCTION away()",
		"deferred": function + "CREATE CONSTRAINT TRIGGER away AFTER INSERT ON ports DEFERRABLE INITIALLY DEFERRED FOR EACH ROW EXECUTE FUNCTION away()",
		"before":   "CREATE FUNCTION away() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN IF NEW.id = 2 THEN RETURN NULL; END IF; RETURN NEW; END $$;CREATE TRIGGER away BEFORE INSERT ON ports FOR EACH ROW EXECUTE FUNCTION away()",
		"nothing":  "CREATE RULE away AS ON INSERT TO ports DO INSTEAD NOTHING",
		"some":     "CREATE RULE away AS ON INSERT TO ports WHERE NEW.id = 2 DO INSTEAD NOTHING",
		"another":  "CREATE TABLE other (id INT, label TEXT); CREATE RULE away AS ON INSERT TO ports DO INSTEAD INSERT INTO other VALUES (NEW.id, NEW.label)",
		"statement": "CREATE FUNCTION away() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN DELETE FROM ports WHERE id = 2; RETURN NULL; END $$;" +
			"CREATE TRIGGER away AFTER INSERT ON ports FOR EACH STATEMENT EXECUTE FUNCTION away()",
	} {
		t.Run("postgres/"+name, func(t *testing.T) {
			t.Parallel()
			b := onPostgres(t, "")
			b.write("evensprout.yaml", portsOnly)
			psql(t, b.url, script)
			for _, args := range [][]string{{"load"}, {"load", "--commit", "chunk"}} {
				r := b.on(args...)
				assert.NotZero(t, r.code, "%v: %s", args, r.all())
				if args[len(args)-1] == "load" {
					assert.Zero(t, b.ask("SELECT count(*) FROM ports"), r.all())
				}
			}
		})
	}
	t.Run("mariadb", func(t *testing.T) {
		b := onMariaDB(t, "CREATE TRIGGER away AFTER INSERT ON visits FOR EACH ROW DELETE FROM ports WHERE id > 0 AND id NOT IN (SELECT 1);")
		b.exec("DROP TABLE visits", "CREATE TABLE visits (id INT AUTO_INCREMENT PRIMARY KEY, port_id INT)",
			"CREATE TRIGGER away AFTER INSERT ON visits FOR EACH ROW DELETE FROM ports WHERE id = 2")
		r := b.on("load")
		assert.NotZero(t, r.code, r.all())
		assert.Zero(t, b.ask("SELECT count(*) FROM ports"))
	})
	t.Run("sqlite", func(t *testing.T) {
		b := onSQLite(t, "CREATE TRIGGER away AFTER INSERT ON ports BEGIN DELETE FROM ports WHERE id = 2; END;")
		r := b.on("load")
		assert.NotZero(t, r.code, r.all())
		assert.Zero(t, b.ask("SELECT count(*) FROM ports"))
	})
}
