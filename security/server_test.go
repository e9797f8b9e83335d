//go:build unix

package security_test

import (
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A copy must not reach what the given database only refers to.
func TestCopiesDoNotReachFurther(t *testing.T) {
	t.Run("foreign partition", func(t *testing.T) {
		remote := onPostgres(t, "INSERT INTO ports (label) VALUES ('theirs');")
		b := onPostgres(t, "")
		psql(
			t,
			b.url,
			fmt.Sprintf(
				`CREATE EXTENSION postgres_fdw; CREATE SERVER other FOREIGN DATA WRAPPER postgres_fdw
  OPTIONS (host '127.0.0.1', port '%d', dbname '%s');
			CREATE USER MAPPING FOR tester SERVER other OPTIONS (user 'tester', password_required 'false');
			DROP TABLE visits; DROP TABLE ports;
			CREATE TABLE ports (id INTEGER NOT NULL, label VARCHAR(60)) PARTITION BY RANGE (id);
			CREATE FOREIGN TABLE far PARTITION OF ports FOR VALUES
			  FROM (0) TO (1000000) SERVER other OPTIONS (table_name 'ports');`,
				engines[1].start(t).Port,
				databaseOf(remote.url),
			),
		)
		b.write(
			"evensprout.yaml",
			"name: x\nseed: s\nentities:\n  Port:\n    table: ports\n    rows: 2\n    fields: {label: {kind: "+
				"locality}}\n",
		)
		before := remote.dump()
		for _, flags := range [][]string{{"--no-cache"}, {}, {"--with-external", "--no-cache"}} {
			r := b.on(append(append([]string{"during"}, flags...), "--", "true")...)
			assert.NotZero(t, r.code, r.all())
			assert.Contains(t, r.err, "ports")
			assert.Contains(t, r.err, "public.far")
			assert.Equal(t, before, remote.dump())
		}
	})
	t.Run("foreign child", func(t *testing.T) {
		remote := onPostgres(t, "INSERT INTO ports (label) VALUES ('theirs');")
		b := onPostgres(t, "")
		psql(
			t,
			b.url,
			fmt.Sprintf(
				`CREATE EXTENSION postgres_fdw; CREATE SERVER other FOREIGN DATA WRAPPER postgres_fdw
  OPTIONS (host '127.0.0.1', port '%d', dbname '%s');
			CREATE USER MAPPING FOR tester SERVER other OPTIONS (user 'tester', password_required 'false');
			CREATE FOREIGN TABLE far () INHERITS (ports) SERVER other OPTIONS (table_name 'ports');`,
				engines[1].start(t).Port,
				databaseOf(remote.url),
			),
		)
		before := remote.dump()
		r := b.on("during", "--no-cache", "--", "true")
		assert.NotZero(t, r.code, r.all())
		assert.Equal(t, before, remote.dump())
	})
	t.Run("foreign table left out", func(t *testing.T) {
		storeClient(t)
		remote := onPostgres(t, "INSERT INTO ports (label) VALUES ('theirs');")
		b := onPostgres(t, "")
		psql(
			t,
			b.url,
			fmt.Sprintf(
				`CREATE EXTENSION postgres_fdw; CREATE SERVER other FOREIGN DATA WRAPPER postgres_fdw
  OPTIONS (host '127.0.0.1', port '%d', dbname '%s');
			CREATE USER MAPPING FOR tester SERVER other OPTIONS (user 'tester', password_required 'false');
			CREATE FOREIGN TABLE far (id INTEGER, label VARCHAR(60)) SERVER other OPTIONS (table_name 'ports');`,
				engines[1].start(t).Port,
				databaseOf(remote.url),
			),
		)
		before := remote.dump()
		r := b.on("during", "--no-cache", "--", "psql", "-qAtc", "DELETE FROM far")
		assert.Contains(t, r.err, `"far" does not exist`)
		assert.Equal(t, before, remote.dump())
		r = b.on("during", "--no-cache", "--with-external", "--", "psql", "-qAtc", "SELECT count(*) FROM far")
		assert.Equal(t, "1\n", r.out, "it is there if it is asked for")
	})
	t.Run("merge table", func(t *testing.T) {
		b := onMariaDB(t, "")
		name := databaseOf(b.url)
		b.exec(
			"CREATE TABLE part (id INTEGER NOT NULL, label VARCHAR(60)) ENGINE=MyISAM",
			"INSERT INTO part VALUES (1, 'theirs')",
			"CREATE TABLE whole (id INTEGER NOT NULL, label VARCHAR(60)) ENGINE=MERGE UNION=(part)",
		)
		b.write(
			"evensprout.yaml",
			"name: x\nseed: s\nentities:\n  Whole:\n    table: whole\n    rows: 2\n    fields: {id: count, label: "+
				"{kind: locality}}\n",
		)
		r := b.on("during", "--no-cache", "--", "true")
		assert.NotZero(t, r.code)
		assert.Contains(t, r.err, "MRG_MyISAM")
		assert.EqualValues(t, 1, b.ask("SELECT count(*) FROM part"))
		b.write("evensprout.yaml", plan)
		r = b.on("during", "--no-cache", "--", "true")
		assert.Zero(t, r.code, r.err)
		assert.EqualValues(t, 1, b.ask("SELECT count(*) FROM "+name+".part"))
	})
	t.Run("federated table", func(t *testing.T) {
		remote := onMariaDB(t, "INSERT INTO ports (label) VALUES ('theirs');")
		b := onMariaDB(t, "")
		if b.ask("SELECT count(*) FROM information_schema.all_plugins WHERE plugin_name = 'FEDERATED'") == 0 {
			t.Skip("this server has no FEDERATED tables")
		}
		b.exec("INSTALL SONAME 'ha_federatedx'")
		t.Cleanup(func() { b.exec("UNINSTALL SONAME 'ha_federatedx'") })
		b.exec(
			"CREATE TABLE far (id INTEGER NOT NULL, label VARCHAR(60)) ENGINE=FEDERATED CONNECTION='" +
				strings.SplitN(remote.url, "?", 2)[0] + "/ports'",
		)
		before := remote.dump()
		b.write(
			"evensprout.yaml",
			"name: x\nseed: s\nentities:\n  Far:\n    table: far\n    rows: 2\n    fields: {id: count, label: "+
				"{kind: locality}}\n",
		)
		for _, flags := range [][]string{{"--no-cache"}, {}, {"--with-external", "--no-cache"}} {
			r := b.on(append(append([]string{"during"}, flags...), "--", "true")...)
			assert.NotZero(t, r.code, r.all())
			assert.Contains(t, r.err, "FEDERATED")
			assert.Equal(t, before, remote.dump())
		}
		b.write("evensprout.yaml", plan)
		r := b.on("during", "--no-cache", "--", "true")
		assert.Zero(t, r.code, r.err)
		assert.Equal(t, before, remote.dump())
		b.exec("DROP TABLE far")
	})
	t.Run("trigger that names the database", func(t *testing.T) {
		b := onMariaDB(t, "CREATE TABLE log (n INTEGER);")
		name := databaseOf(b.url)
		b.exec("CREATE TRIGGER loud AFTER INSERT ON ports FOR EACH ROW INSERT INTO `" + name + "`.log VALUES (1)")
		r := b.on("during", "--no-cache", "--", "true")
		assert.NotZero(t, r.code)
		assert.Contains(t, r.err, "trigger loud contains the database's name")
		assert.Zero(t, b.ask("SELECT count(*) FROM log"))
	})
}

// mallory is a role that may make objects in public, where the operator's search path leads.
// What the operator runs of hers is written down in evil.log.
const mallory = `
CREATE SCHEMA evil; CREATE TABLE evil.log (what TEXT,
  who TEXT DEFAULT current_user); GRANT USAGE ON SCHEMA evil TO PUBLIC; GRANT INSERT, SELECT ON evil.log TO PUBLIC;
CREATE FUNCTION evil.note(what TEXT) RETURNS void LANGUAGE plpgsql AS $$
  BEGIN INSERT INTO evil.log (what) VALUES (what); EXCEPTION WHEN OTHERS THEN RAISE EXCEPTION 'EVIL RAN: %',
  what; END $$;`

func role(t *testing.T, b *box, options string) string {
	name := "role_" + databaseOf(b.url)
	psql(t, b.url, "CREATE ROLE "+name+" LOGIN "+options)
	return name
}

// Operators and functions in public that fit queries better than those of pg_catalog do.
func TestTheSearchPathIsNotTrusted(t *testing.T) {
	var hostile strings.Builder
	hostile.WriteString(mallory)
	types := []string{
		"name",
		"text",
		"oid",
		"int4",
		"int8",
		"int2",
		`"char"`,
		"bool",
		"regclass",
		"varchar",
		"timestamptz",
	}
	n := 0
	function := func(name string, arguments []string, result, value string) {
		fmt.Fprintf(
			&hostile,
			"CREATE FUNCTION public.%s(%s) RETURNS %s LANGUAGE plpgsql AS $$ BEGIN PERFORM evil.note('%s(%s)'); "+
				"RETURN %s; END $$;\n",
			name,
			strings.Join(arguments, ", "),
			result,
			name,
			strings.ReplaceAll(strings.Join(arguments, ", "), "'", ""),
			value,
		)
	}
	for _, op := range []string{"=", "<>", "~~", "!~~", "||", "<", ">", "<=", ">=", "+", "-", "->>", "<<", "|", "&"} {
		result, value := "boolean", "true"
		if op == "||" || op == "->>" {
			result, value = "text", "''"
		}
		if op == "+" || op == "-" || op == "<<" || op == "|" || op == "&" {
			result, value = "int8", "0"
		}
		for _, a := range types {
			for _, c := range types {
				n++
				f := fmt.Sprintf("hostile_%d", n)
				function(f, []string{a, c}, result, value)
				fmt.Fprintf(
					&hostile,
					"DO $$ BEGIN CREATE OPERATOR public.%s (LEFTARG = %s, RIGHTARG = %s, FUNCTION = public.%s); "+
						"EXCEPTION WHEN OTHERS THEN NULL; END $$;\n",
					op,
					a,
					c,
					f,
				)
			}
		}
	}
	for name, lists := range map[string][]string{
		"hashtextextended": {"text, int4"}, "pg_try_advisory_lock": {"numeric", "int4"},
		"pg_advisory_unlock": {"int4"}, "generate_series": {"int4, int8", "int8, int4"},
		"setval": {"text, int8", "text, int4", "varchar, int8"}, "nextval": {"text", "varchar"},
		"count": {"int4", "text"}, "sum": {"oid"}, "format_type": {"int4, int4", "oid, int8"},
		"pg_get_expr": {"text, oid", "pg_node_tree, int4"}, "has_table_privilege": {"name, text", "int4, text"},
		"has_database_privilege": {"text, text", "name, name"}, "string_agg": {"name, text", "name, name"},
		"quote_ident": {"name"}, "current_setting": {"name"}, "set_config": {"name, text, boolean"},
		"array_to_string": {"name[], text"}, "pg_table_is_visible": {"int4"}, "to_char": {"timestamptz, " +
			"name"},
		"unnest": {"int2vector"}, "chr": {"int8", "int2"}, "pg_get_constraintdef": {"int4"},
		"pg_get_indexdef": {"oid, int8, " +
			"boolean", "oid, int4, text"}, "row_security_active": {"int4"}, "lastval": {"int4"},
		"pg_has_role":     {"oid, name", "oid, text"},
		"current_schemas": {"text"}, "starts_with": {"name, text"}, "substring": {"name, text"},
		"shobj_description": {"oid, text", "oid, varchar"}, "pg_total_relation_size": {"oid"},
	} {
		for _, list := range lists {
			fmt.Fprintf(
				&hostile,
				"DO $x$ BEGIN CREATE FUNCTION public.%s(%s) RETURNS text LANGUAGE plpgsql AS $$ BEGIN PERFORM "+
					"evil.note('%s'); RETURN NULL; END $$; EXCEPTION WHEN OTHERS THEN NULL; END $x$;\n",
				name,
				list,
				name,
			)
		}
	}
	b := onPostgres(t, "")
	psql(t, b.url, hostile.String())
	commands := [][]string{
		{
			"look",
		}, {"look", "ports"}, {"look", "ports", "--where", "id > 0"}, {"survey"}, {"survey", "--learn"}, {"check"},
		{"load", "--dry-run"}, {"load"}, {"load"}, {"history"}, {"history", "1"}, {"compare"}, {"load", "--restore"},
		{
			"withdraw",
			"1",
		}, {"load", "--commit", "chunk", "--chunk", "2"}, {"withdraw"}, {"during", "--no-cache", "--", "true"},
		{"during", "--shared", "--", "true"}, {"during", "--sweep"}, {"trial", "--repeat", "1"},
	}
	for _, c := range commands {
		r := b.on(c...)
		assert.NotContains(t, r.all(), "EVIL", c)
		assert.Zero(t, r.code, "%v: %s", c, r.err)
		assert.Zero(t, b.ask("SELECT pg_catalog.count(*) FROM evil.log"), "%v ran hostile code", c)
	}
}

// A survey asks the database about conditions without running what belongs to others.
func TestConditionsRunNobodysCode(t *testing.T) {
	for name, c := range map[string]struct{ before, check, why string }{
		"function of another": {"CREATE FUNCTION public.fine(v INTEGER) RETURNS boolean LANGUAGE plpgsql " +
			"IMMUTABLE AS $$ BEGIN PERFORM evil.note('called'); RETURN v > 3; END $$;", "public.fine(n)", "belongs to"},
		"operator of another": {"CREATE FUNCTION public.odd(a INTEGER, b INTEGER) RETURNS boolean LANGUAGE " +
			"plpgsql IMMUTABLE AS $$ BEGIN PERFORM evil.note('called'); RETURN a > b; END $$; CREATE OPERATOR " +
			"public.=>> (LEFTARG = INTEGER, RIGHTARG = INTEGER, FUNCTION = public.odd);", "n OPERATOR(public.=>>) 3",
			"belongs to"},
		"function in a built-in one": {"CREATE FUNCTION public.fine() RETURNS boolean LANGUAGE plpgsql AS $$ BEGIN " +
			"PERFORM evil.note('called'); RETURN true; END $$;", "n > 3 AND query_to_xml('SELECT public.fine()', " +
			"true, true, '') IS NOT NULL", "query_to_xml"},
		"settings": {"", "n > 3 AND set_config('application_name', 'evil', false) <> ''", "set_config"},
		"sleep":    {"", "n > 3 AND pg_sleep(n) IS NOT NULL", "pg_sleep"},
		"locks":    {"", "pg_try_advisory_lock(n)", "pg_try_advisory_lock"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			b := onPostgres(t, "")
			user := role(t, b, "")
			psql(
				t,
				b.url,
				mallory+c.before+"CREATE TABLE tides (id INTEGER PRIMARY KEY, n INTEGER NOT NULL CHECK ("+c.check+
					")); GRANT "+
					"ALL ON ALL TABLES IN SCHEMA public TO "+user+"; TRUNCATE evil.log",
			)
			for _, who := range []string{user, "tester"} {
				r := b.run("survey", "--db", as(b.url, who))
				require.Zero(t, r.code, r.err)
				assert.Zero(t, b.ask("SELECT count(*) FROM evil.log"))
				assert.NotContains(t, r.all(), "EVIL")
				assert.Regexp(t, "the database did not test|only the database can test", r.out)
				if who == user && name != "operator of another" {
					assert.Contains(t, r.out, c.why)
				}
				assert.Less(t, r.took.Seconds(), 20.0)
			}
		})
	}
	t.Run("a superuser is not asked at all", func(t *testing.T) {
		b := onPostgres(
			t,
			"CREATE TABLE tides (id INTEGER PRIMARY KEY, n INTEGER NOT NULL CHECK (hashint4(n) % 5 = 0));",
		)
		user, member, lowered := role(t, b, ""), "member_"+databaseOf(b.url), "lowered_"+databaseOf(b.url)
		psql(
			t,
			b.url,
			"GRANT ALL ON ALL TABLES IN SCHEMA public TO "+user+"; CREATE ROLE "+member+" LOGIN IN ROLE tester; "+
				"CREATE ROLE "+lowered+" SUPERUSER LOGIN; ALTER ROLE "+lowered+" SET role = "+user,
		)
		for who, asked := range map[string]bool{user: true, "tester": false, member: false, lowered: false} {
			r := b.run("survey", "--db", as(b.url, who))
			require.Zero(t, r.code, r.err)
			assert.Equal(t, asked, strings.Contains(r.out, "the database accepts"), "%s: %s", who, r.out)
			assert.Equal(
				t,
				!asked,
				strings.Contains(r.out, "this user is a superuser, or can become one; run survey as another role"),
				"%s: %s",
				who,
				r.out,
			)
		}
	})
	t.Run("function of one's own is asked, and writes nothing", func(t *testing.T) {
		b := onPostgres(t, "")
		user := role(t, b, "")
		psql(
			t,
			b.url,
			mallory+"CREATE FUNCTION public.fine(v INTEGER) RETURNS boolean LANGUAGE plpgsql IMMUTABLE AS $$ BEGIN "+
				"RETURN v % 7 = 3; END $$; CREATE TABLE tides (id INTEGER PRIMARY KEY, n INTEGER NOT NULL CHECK "+
				"(public.fine(n)));"+
				"ALTER FUNCTION public.fine OWNER TO "+user+"; GRANT ALL ON ALL TABLES IN SCHEMA public TO "+user,
		)
		r := b.run("survey", "--db", as(b.url, user))
		require.Zero(t, r.code, r.err)
		assert.Contains(t, r.out, "the values that the database accepts")
		psql(
			t,
			b.url,
			"CREATE OR REPLACE FUNCTION public.fine(v INTEGER) RETURNS boolean LANGUAGE plpgsql IMMUTABLE AS $$ "+
				"BEGIN INSERT INTO evil.log VALUES ('wrote'); RETURN true; END $$;",
		)
		r = b.run("survey", "--db", as(b.url, user))
		require.Zero(t, r.code, r.err)
		assert.Zero(t, b.ask("SELECT count(*) FROM evil.log"))
	})
	t.Run("a condition that takes for ever ends", func(t *testing.T) {
		b := onPostgres(t, "")
		user := role(t, b, "")
		psql(
			t,
			b.url,
			"CREATE FUNCTION public.slow(v INTEGER) RETURNS boolean LANGUAGE plpgsql IMMUTABLE AS $$ BEGIN LOOP v "+
				":= v + 1; EXIT WHEN v < 0; v := v % 1000; END LOOP; RETURN true; END $$; CREATE TABLE tides (id "+
				"INTEGER PRIMARY KEY, n INTEGER NOT NULL CHECK (public.slow(n)));"+
				"ALTER FUNCTION public.slow OWNER TO "+user+"; GRANT ALL ON ALL TABLES IN SCHEMA public TO "+user,
		)
		r := b.run("survey", "--db", as(b.url, user))
		require.Zero(t, r.code, r.err)
		assert.Contains(t, r.out, "it takes longer than 2s")
	})
	t.Run("a regular expression", func(t *testing.T) {
		b := onPostgres(
			t,
			`CREATE TABLE tides (id INTEGER PRIMARY KEY, n TEXT NOT NULL CHECK (n ~ '^((((((a*)*)*)*)*)*)*b\1$' OR `+
				`length(n) > 3));`,
		)
		r := b.on("survey")
		require.Zero(t, r.code, r.err)
		assert.Less(t, r.took.Seconds(), 30.0)
	})
}

// invariants and units with a condition in SQL.
var invariants = map[string]string{
	"rows":  "always:\n  nothing: {no: Port, where: \"NOT ({writes})\"}\n",
	"alone": "always:\n  nothing: {sql: \"{writes}\"}\n",
	"requirement": "units:\n  call:\n    rows: 1\n    steps:\n      - require: {sql: \"{writes}\"}\n      - " +
		"insert: Port\n        set: {label: \"'x'\"}\n",
}

// Conditions that people give are read, and nothing is written meanwhile.
func TestConditionsWriteNothing(t *testing.T) {
	t.Run("postgres", func(t *testing.T) {
		b := onPostgres(
			t,
			"INSERT INTO ports (label) VALUES ('x'); CREATE TABLE log (n INTEGER); CREATE SEQUENCE counter;"+
				"CREATE FUNCTION writes() RETURNS boolean LANGUAGE plpgsql AS $$ BEGIN INSERT INTO log VALUES (1); "+
				"RETURN true; END $$;",
		)
		for _, condition := range []string{"writes()", "nextval('counter') > 0", "id IN (SELECT lo_creat(-1)::int)",
			"setval('counter', " +
				"40) > 0"} {
			r := b.on("look", "ports", "--where", condition)
			assert.NotZero(t, r.code, condition)
			assert.Zero(t, b.ask("SELECT count(*) FROM log"), condition)
		}
		assert.EqualValues(t, 1, b.ask("SELECT nextval('counter')"))
		for name, more := range invariants {
			b.write("evensprout.yaml", plan+strings.ReplaceAll(more, "{writes}", "writes()"))
			for _, args := range [][]string{{"check"}, {"load"}, {"compare"}} {
				r := b.on(args...)
				assert.Zero(t, b.ask("SELECT count(*) FROM log"), "%s %v", name, args)
				if args[0] == "load" {
					assert.NotZero(t, r.code, "%s: %s", name, r.all())
					assert.Contains(t, r.err, "read-only", name)
				}
			}
		}
	})
	t.Run("mariadb", func(t *testing.T) {
		b := onMariaDB(t, "INSERT INTO ports (label) VALUES ('x'); CREATE TABLE log (n INTEGER);"+
			"CREATE FUNCTION writes() RETURNS INTEGER BEGIN INSERT INTO log VALUES (1); RETURN 1; END;")
		target := b.file("outfile")
		require.NoError(t, os.Chmod(b.folder, 0o777))
		for _, condition := range []string{
			"writes() = 1", "1 /*! ) INTO OUTFILE '" + target + "' -- */", "1 /*M! ) INTO OUTFILE '" + target +
				"' -- */", "1) INTO " +
				"OUTFILE '" + target + "' -- ", "1 /*!99999 ) */", "id = 1 -- /*! x", "SLEEP(0) OR writes()",
			"1 /*!50000 OR writes() */", "1 # )", "1; DELETE FROM ports",
		} {
			b.on("look", "ports", "--where", condition)
			assert.Zero(t, b.ask("SELECT count(*) FROM log"), condition)
			assert.NoFileExists(t, target, condition)
			assert.EqualValues(t, 1, b.ask("SELECT count(*) FROM ports"), condition)
		}
		for name, more := range invariants {
			b.write("evensprout.yaml", plan+strings.ReplaceAll(more, "{writes}", "writes() = 1"))
			for _, args := range [][]string{{"check"}, {"load", "--dry-run"}, {"compare"}} {
				b.on(args...)
				assert.Zero(t, b.ask("SELECT count(*) FROM log"), "%s %v", name, args)
			}
			b.write("evensprout.yaml", plan+strings.ReplaceAll(more, "{writes}", "1 = 1 /*!50000 OR writes() */"))
			assert.Contains(t, b.on("check").err, "a comment that MySQL and MariaDB execute", name)
		}
	})
	t.Run("sqlite", func(t *testing.T) {
		b := onSQLite(t, "INSERT INTO ports (label) VALUES ('x');")
		for _, condition := range []string{"1); DELETE FROM ports; --", "1) UNION SELECT writefile('x', 'y') --",
			"load_extension('x.so')", "id IN " +
				"(DELETE FROM ports RETURNING id)"} {
			b.on("look", "ports", "--where", condition)
			assert.EqualValues(t, 1, b.ask("SELECT count(*) FROM ports"), condition)
		}
	})
}

// A script that makes the tables of a run does not reach other files.
func TestScriptsStayInTheirFile(t *testing.T) {
	for _, script := range []string{
		"ATTACH 'prod.db' AS other; DELETE FROM other.ports;",
		"ATTACH DATABASE 'new.db' AS other; CREATE TABLE other.t (x);",
		"PRAGMA temp_store_directory = '/tmp';",
	} {
		b := onSQLite(t, "")
		before := b.seeded()
		b.write("bad.sql", b.read("schema.sql")+script)
		for _, args := range [][]string{{"during", "--schema", "bad.sql", "--no-cache", "--", "true"}, {"survey", "--prove", "--ddl", "bad.sql", "--out", "d.yaml"}} {
			r := b.on(args...)
			require.NotZero(t, r.code, "%v %s: %s", args, script, r.all())
		}
		require.Equal(t, before, b.dump(), script)
		require.NoFileExists(t, b.file("new.db"))
	}
}
