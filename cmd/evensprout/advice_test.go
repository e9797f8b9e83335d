package main

import (
	"fmt"
	"maps"
	"os"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/store/storetest"
)

const shelfTables = `
CREATE TABLE shelves (id {key}, code VARCHAR(8) NOT NULL UNIQUE);
CREATE TABLE books (id {key}, shelf_id INTEGER NOT NULL REFERENCES shelves (id), title VARCHAR(40));
CREATE TABLE lent (id {key}, book_id INTEGER NOT NULL REFERENCES books (id));`

const shelfPlan = `name: shelf
seed: s
clock: 2026-05-01T08:00:00Z
entities:
  Shelf:
    table: shelves
    rows: 5
    fields: {code: {pattern: "[A-Z]{3}", unique: true}}
  Book:
    table: books
    rows: 20
    fields: {shelf: {pick: Shelf}, title: {kind: title}}
`

// shelfUnit is appended to the plan where a case needs a unit.
const shelfUnit = `units:
  lend:
    per: {Book: 1}
    steps:
      - {insert: lent, set: {book_id: Book}}
`

// advised is a command that says what to do, and what is done.
type advised struct {
	says   string // a part of the hint
	engine string // those on which it can appear, with blanks between; empty: all
	plan   string // empty: shelfPlan
	tables string // empty: shelfTables
	first  func(t *testing.T, s *site)
	wrong  []string                    // a command; --db is added unless bare
	follow func(t *testing.T, s *site) // what the hint says is done, if it is not a command alone
	right  []string                    // the command then; the wrong one, if there is none
	bare   bool
	server bool                    // on a server of its own
	spoilt func(url string) string // what is wrong with the address in the wrong command
	code   int                     // of the right command
}

func did(args ...string) func(t *testing.T, s *site) {
	return func(t *testing.T, s *site) {
		t.Helper()
		words := s.words(t, args...)
		r := s.on(words...)
		require.Zero(t, r.code, r.out+r.errOut)
	}
}

// journal is the name of a table of the journal.
func (s *site) journal(table string) string {
	if s.name == "postgres" {
		return "evensprout." + table
	}
	return "evensprout_" + table
}

var loadWord = regexp.MustCompile(`LOAD\d`)

// words puts the numbers of the site's loads in place of LOAD1, LOAD2, ...: servers of a cluster leave numbers out.
func (s *site) words(t *testing.T, words ...string) []string {
	t.Helper()
	var numbers []int64
	var out []string
	for _, word := range words {
		out = append(out, loadWord.ReplaceAllStringFunc(word, func(at string) string {
			if numbers == nil {
				var loads []struct{ Number int64 }
				r := s.on("history", "--json")
				listed(t, r, &loads)
				for _, l := range loads {
					numbers = append(numbers, l.Number)
				}
				slices.Sort(numbers)
			}
			n := int(at[len(at)-1] - '1')
			require.Less(t, n, len(numbers), word)
			return fmt.Sprint(numbers[n])
		}))
	}
	return out
}

func rewritten(pairs ...string) func(t *testing.T, s *site) {
	return func(t *testing.T, s *site) {
		t.Helper()
		plan := s.read("evensprout.yaml")
		for i := 0; i < len(pairs); i += 2 {
			require.Contains(t, plan, pairs[i])
		}
		s.write("evensprout.yaml", strings.NewReplacer(pairs...).Replace(plan))
	}
}

func after(steps ...func(t *testing.T, s *site)) func(t *testing.T, s *site) {
	return func(t *testing.T, s *site) {
		t.Helper()
		for _, do := range steps {
			do(t, s)
		}
	}
}

func sqlDone(statements ...string) func(t *testing.T, s *site) {
	return func(t *testing.T, s *site) { s.exec(t, statements...) }
}

// beside writes a file, and makes the plan read its rows from it.
func beside(name, text, columns string) func(t *testing.T, s *site) {
	return func(t *testing.T, s *site) {
		s.write(name, text)
		s.write(
			"evensprout.yaml",
			"name: file\nseed: s\nclock: 2026-05-01T08:00:00Z\nentities:\n  Shelf:\n    table: shelves\n    "+
				"rows_from: {file: "+name+", columns: "+columns+"}\n",
		)
	}
}

// replaced changes the plan.
func replaced(from, to string) func(t *testing.T, s *site) {
	return func(t *testing.T, s *site) {
		t.Helper()
		text := s.read("evensprout.yaml")
		require.Contains(t, text, from)
		s.write("evensprout.yaml", strings.ReplaceAll(text, from, to))
	}
}

// instead makes an address with something else in a place.
func instead(pattern, with string) func(string) string {
	re := regexp.MustCompile(pattern)
	return func(url string) string { return re.ReplaceAllString(url, with) }
}

var advice = map[string]advised{
	"PostgreSQL: an address": {
		says:   "such as postgres://user@host:5432/database",
		engine: "postgres",
		spoilt: instead(`$`, "?options=a=b=c"),
		wrong:  []string{"load"},
	},
	"PostgreSQL: a port": {
		says:   "check host and port in the URL, and that the server is running",
		engine: "postgres",
		spoilt: instead(`:\d+/`, ":9/"),
		wrong:  []string{"load"},
	},
	"PostgreSQL: a user": {
		says:   "check the user and password in the URL",
		engine: "postgres",
		spoilt: instead(`tester@`, "nobody@"),
		wrong:  []string{"load"},
	},
	"PostgreSQL: no database": {
		says:   "create the database and run your migrations first",
		engine: "postgres",
		spoilt: instead(`/test_\d+`, "/nothing"),
		wrong:  []string{"load"},
	},
	"MariaDB: an address": {
		says:   "such as mysql://user@host:3306/database",
		engine: "mariadb",
		spoilt: instead(`/test_\d+`, ""),
		wrong:  []string{"load"},
	},
	"MariaDB: a port": {
		says:   "check host and port in the URL, and that the server is running",
		engine: "mariadb",
		spoilt: instead(`:\d+/`, ":9/"),
		wrong:  []string{"load"},
	},
	"MariaDB: a user": {
		says:   "check the user and password in the URL",
		engine: "mariadb",
		spoilt: instead(`root@`, "nobody:x@"),
		wrong:  []string{"load"},
	},
	"MariaDB: no database": {
		says:   "create the database and run your migrations first",
		engine: "mariadb",
		spoilt: instead(`/test_\d+`, "/nothing"),
		wrong:  []string{"load"},
	},
	"a script that fails": {
		says:  "nothing was loaded, and the database created for it is dropped",
		first: func(t *testing.T, s *site) { s.write("schema.sql", "CREATE TABLE;") },
		wrong: []string{"during", "--schema", "schema.sql", "--", "true"},
		follow: func(t *testing.T, s *site) {
			s.write("schema.sql", strings.ReplaceAll(shelfTables, "{key}", s.key))
		},
	},
	"migrations that fail": {
		says:  "its output is above",
		wrong: []string{"during", "--prepare", "echo no such migration; exit 3", "--", "true"},
		right: []string{"during", "--", "true"},
	},
	"rows in the way of restoring": {
		says: "delete the rows of lent first, or change what they refer to",
		first: after(
			did("load"),
			sqlDone(
				"INSERT INTO books (id, shelf_id) VALUES (900, 1)",
				"INSERT INTO lent (id, book_id) VALUES (1, 900)",
			),
		),
		wrong:  []string{"load", "--restore"},
		follow: sqlDone("DELETE FROM lent"),
	},
	"an open quote": {
		says:   "is a quote not closed, or is this another kind of file?",
		first:  beside("shelves.csv", "code\n\"ABC\n"+strings.Repeat("DEF\n", 5<<20), "{code: code}"),
		wrong:  []string{"load"},
		follow: beside("shelves.csv", "code\n\"ABC\"\nDEF\n", "{code: code}"),
	},
	"a user who may not make tables": {
		says:   "or load with --no-journal",
		engine: "postgres",
		first: func(t *testing.T, s *site) {
			s.url = s.as(
				t,
				"clerk",
				"GRANT SELECT, INSERT, UPDATE, DELETE ON shelves, books, lent TO clerk",
				"GRANT SELECT, UPDATE ON ALL SEQUENCES IN SCHEMA public TO clerk",
			)
		},
		wrong: []string{"load"},
		right: []string{"load", "--no-journal"},
	},
	"a withdrawal that was interrupted": {
		says: "finish that with evensprout withdraw LOAD1 --commit chunk, then load again",
		first: after(
			did("load"),
			func(t *testing.T, s *site) { s.exec(t, "UPDATE "+s.journal("loads")+" SET state = 'withdrawing'") },
		),
		wrong:  []string{"load"},
		follow: did("withdraw", "LOAD1", "--commit", "chunk"),
	},
	"a role that may not connect": {
		says:   "GRANT CONNECT ON DATABASE ... TO the user of the URL lets it in",
		engine: "postgres",
		first: func(t *testing.T, s *site) {
			admin := s.url
			name := admin[strings.LastIndexByte(admin, '/')+1:]
			s.url = s.as(
				t,
				"visitor",
				"REVOKE CONNECT ON DATABASE {db} FROM PUBLIC",
				"GRANT SELECT, INSERT, UPDATE, DELETE ON shelves, books, lent TO visitor",
				"GRANT SELECT, UPDATE ON ALL SEQUENCES IN SCHEMA public TO visitor",
			)
			s.lets = func() { storetest.Exec(t, s.driver, admin, "GRANT CONNECT ON DATABASE "+name+" TO visitor") }
		},
		wrong:  []string{"load", "--no-journal"},
		follow: func(t *testing.T, s *site) { s.lets() },
	},
	"another run has the database": {
		says: "--wait says how long to wait for it; without --shared, each run has a database of its own",
		first: meanwhile(func(t *testing.T, s *site) bool {
			_, err := os.Stat(s.file("started"))
			return err == nil
		}, "during", "--shared", "--", "sh", "-c", "touch started; while [ ! -e finish ]; do sleep 0.05; done"),
		wrong:  []string{"during", "--shared", "--wait", "100ms", "--", "true"},
		follow: func(t *testing.T, s *site) { s.write("finish", "") },
		right:  []string{"during", "--shared", "--wait", "1m", "--", "true"},
	},
	"a manifest that is gone": {
		says: "the manifest that export wrote is beside the files",
		first: func(t *testing.T, s *site) {
			did("export", "--out", "rows")(t, s)
			require.NoError(t, os.Rename(s.file("rows/manifest.json"), s.file("manifest.json")))
		},
		wrong: []string{"load", "rows/evensprout.yaml"},
		follow: func(t *testing.T, s *site) {
			require.NoError(t, os.Rename(s.file("manifest.json"), s.file("rows/manifest.json")))
		},
	},
	"two loads at a time": {
		says:   "wait for it with --wait 5m",
		engine: "postgres mariadb",
		first:  held("evensprout load shelf"),
		wrong:  []string{"load"},
		follow: soon,
		right:  []string{"load", "--wait", "5m"},
	},
	"SQLite: no database": {
		engine: "sqlite",
		says:   "run your migrations first",
		spoilt: instead(`harbour`, "nothing"),
		wrong:  []string{"load"},
	},
	"indexes of tables with rows": {
		says:  "load without --indexes rebuild",
		first: sqlDone("INSERT INTO shelves (id, code) VALUES (90, 'a')"),
		wrong: []string{"load", "--indexes", "rebuild"},
		right: []string{"load"},
	},
	"indexes and another mode": {
		says:  "load without --indexes rebuild",
		wrong: []string{"load", "--indexes", "rebuild", "--on-violation", "unique=skip"},
		right: []string{"load", "--on-violation", "unique=skip"},
	},
	"indexes and chunks": {
		says:   "load with --commit load, or without --indexes rebuild",
		engine: "sqlite postgres",
		wrong:  []string{"load", "--indexes", "rebuild", "--commit", "chunk"},
		right:  []string{"load", "--indexes", "rebuild", "--commit", "load"},
	},
	"indexes of MariaDB": {
		says:   "load without --indexes rebuild",
		engine: "mariadb",
		wrong:  []string{"load", "--indexes", "rebuild"},
		right:  []string{"load"},
	},
	"anew with files": {
		says:   "run evensprout withdraw, then load",
		plan:   strings.Replace(shelfPlan, "{kind: title}", "{file: {folder: covers, as: png, size: 8x8}}", 1),
		first:  did("load"),
		wrong:  []string{"load", "--anew"},
		follow: did("withdraw"),
		right:  []string{"load"},
	},
	"replace what is referred to": {
		says: "or remove these rows with write: {mode: replace, cascade: true}",
		first: after(
			did("load"),
			sqlDone("INSERT INTO lent (id, book_id) VALUES (1, 3)"),
			rewritten(
				"    rows: 5\n",
				"    rows: 5\n    write: replace\n",
				"    rows: 20\n",
				"    rows: 20\n    write: replace\n",
			),
		),
		wrong: []string{"load"},
		follow: rewritten(
			"    rows: 20\n    write: replace",
			"    rows: 20\n    write: {mode: replace, cascade: true}",
		),
	},
	"withdrawn already": {
		says:  "evensprout history lists the loads",
		first: after(did("load"), did("withdraw", "LOAD1")),
		wrong: []string{"withdraw", "LOAD1"},
		right: []string{"history"},
	},
	"no such load": {
		says:  "evensprout history lists",
		first: did("load"),
		wrong: []string{"withdraw", "77"},
		right: []string{"history"},
	},
	"a further set too early": {
		says:   "evensprout load, then load --extra",
		wrong:  []string{"load", "--extra", "more"},
		follow: did("load"),
	},
	"rows that meet a further set": {
		says:   "evensprout withdraw LOAD2 first",
		first:  after(did("load"), did("load", "--extra", "more"), rewritten("rows: 20", "rows: 30")),
		wrong:  []string{"load"},
		follow: did("withdraw", "LOAD2"),
	},
	"or by another name": {
		says:   "or load more rows with --extra and another name",
		first:  after(did("load"), did("load", "--extra", "more"), rewritten("rows: 20", "rows: 30")),
		wrong:  []string{"load"},
		follow: rewritten("rows: 30", "rows: 20"),
		right:  []string{"load", "--extra", "other"},
	},
	"nothing to withdraw": {
		says:  "evensprout history lists the loads of this database",
		wrong: []string{"withdraw"},
		right: []string{"history"},
	},
	"another plan's load": {
		says: "the last load in this database is of shelf: evensprout withdraw LOAD1",
		first: func(t *testing.T, s *site) {
			did("load")(t, s)
			s.write("other.yaml", strings.Replace(shelfPlan, "name: shelf", "name: other", 1))
		},
		wrong: []string{"withdraw", "other.yaml"},
		right: []string{"withdraw", "LOAD1"},
	},
	"parts behind": {
		says:   "evensprout withdraw LOAD2 first",
		first:  after(did("load"), rewritten("rows: 20", "rows: 30"), did("load")),
		wrong:  []string{"withdraw", "LOAD1"},
		follow: did("withdraw", "LOAD2"),
	},
	"rows that are gone": {
		says:   "put them back with evensprout load --restore",
		first:  after(did("load"), sqlDone("DELETE FROM books WHERE id < 4")),
		wrong:  []string{"load"},
		follow: did("load", "--restore"),
	},
	"what is gone is listed": {
		says:  "evensprout compare shows them",
		first: after(did("load"), sqlDone("DELETE FROM books WHERE id < 4")),
		wrong: []string{"load"},
		right: []string{"compare"},
		code:  7,
	},
	"what is left goes": {
		says:   "or undo the rest with evensprout withdraw LOAD1",
		first:  after(did("load"), sqlDone("DELETE FROM books WHERE id < 4")),
		wrong:  []string{"load"},
		follow: did("withdraw", "LOAD1"),
	},
	"a changed plan: anew": {
		says:  "evensprout load --anew replaces the earlier rows",
		first: after(did("load"), rewritten("seed: s", "seed: other")),
		wrong: []string{"load"},
		right: []string{"load", "--anew"},
	},
	"a changed plan: withdraw": {
		says:   "evensprout withdraw LOAD1 only removes them",
		first:  after(did("load"), rewritten("seed: s", "seed: other")),
		wrong:  []string{"load"},
		follow: did("withdraw", "LOAD1"),
	},
	"a changed plan: extra": {
		says:  "load --extra NAME loads an extra set beside them",
		first: after(did("load"), rewritten("kind: title", "kind: locality")),
		wrong: []string{"load"},
		right: []string{"load", "--extra", "NAME"},
	},
	"anew with others' rows": {
		says: "undo them too with evensprout load --anew --also referring",
		first: after(
			did("load"),
			sqlDone("INSERT INTO lent (id, book_id) VALUES (1, 3)"),
			rewritten("seed: s", "seed: other"),
		),
		wrong: []string{"load", "--anew"},
		right: []string{"load", "--anew", "--also", "referring"},
	},
	"no database": {
		says:  "--db sqlite:app.db, postgres://user@host/name or mysql://user@host/name",
		bare:  true,
		wrong: []string{"load"},
		right: []string{"load", "--db", "URL"},
	},
	"survey of no database": {
		says:  "draft from Go structs alone with --structs FOLDER",
		bare:  true,
		wrong: []string{"survey"},
		right: []string{"survey", "--db", "URL"},
	},
	"export in SQL": {
		says:  "--db sqlite:app.db",
		bare:  true,
		wrong: []string{"export", "--format", "sql", "--dialect", "sqlite"},
		right: []string{"export", "--format", "sql", "--db", "URL"},
	},
	"no tables": {
		says:   "run your migrations first",
		tables: "CREATE TABLE one (id {key}); DROP TABLE one;",
		wrong:  []string{"load"},
		follow: func(t *testing.T, s *site) {
			for _, statement := range strings.Split(strings.ReplaceAll(shelfTables, "{key}", s.key), ";")[:2] {
				s.exec(t, statement)
			}
		},
	},
	"no tables to survey": {
		says:   "run your migrations first",
		tables: "CREATE TABLE one (id {key}); DROP TABLE one;",
		wrong:  []string{"survey"},
		follow: sqlDone("CREATE TABLE one (id INTEGER PRIMARY KEY)"),
	},
	"an unknown kind of database": {
		says:  "a URL begins with ",
		bare:  true,
		wrong: []string{"load", "--db", "sqllite:x.db"},
		right: []string{"load", "--db", "URL"},
	},
	"an option of SQLite": {
		engine: "sqlite",
		says:   "sqlite:path.db?mode=ro to only read",
		bare:   true,
		wrong:  []string{"look", "shelves", "--db", "URL?mod=ro"},
		right:  []string{"look", "shelves", "--db", "URL?mode=ro"},
	},
	"a file of no kind": {
		says:   "known: .csv, .tsv, .ndjson, .jsonl, .json, .xlsx, .parquet, .txt",
		first:  beside("shelves.dat", "code\nABC\n", "{code: code}"),
		wrong:  []string{"load"},
		follow: beside("shelves.csv", "code\nABC\n", "{code: code}"),
	},
	"a file without a first line": {
		says:   "the first line names the columns",
		first:  beside("shelves.csv", "", "{code: code}"),
		wrong:  []string{"load"},
		follow: beside("shelves.csv", "code\nABC\n", "{code: code}"),
	},
	"a column without a name": {
		says:   "the first line names every column",
		first:  beside("shelves.csv", "code,\nABC,1\n", "{code: code}"),
		wrong:  []string{"load"},
		follow: beside("shelves.csv", "code,n\nABC,1\n", "{code: code}"),
	},
	"an empty list": {
		says:   "the file must hold a list of objects: [{...}, {...}]",
		first:  beside("shelves.json", "", "{code: code}"),
		wrong:  []string{"load"},
		follow: beside("shelves.json", `[{"code": "ABC"}]`, "{code: code}"),
	},
	"a flag": {
		says:  "evensprout --help lists the commands",
		wrong: []string{"nonesuch"},
		bare:  true,
		right: []string{"--help"},
	},
	"keys of the database": {
		says:   "remove keys: database, so that the plan assigns keys",
		engine: "postgres",
		tables: "CREATE TABLE shelves (id INTEGER PRIMARY KEY, code VARCHAR(8) NOT NULL UNIQUE); CREATE TABLE " +
			"books (id {key}, shelf_id INTEGER NOT NULL REFERENCES shelves (id), title VARCHAR(40));",
		plan:   strings.Replace(shelfPlan, "    rows: 5\n", "    rows: 5\n    keys: database\n", 1),
		wrong:  []string{"load"},
		follow: rewritten("    keys: database\n", ""),
	},
	"an expression that overflows": {
		says: "narrow the fields that the expression reads",
		plan: strings.Replace(
			shelfPlan,
			"title: {kind: title}",
			"title: {derive: \"string(id * 4000000000000000000)\"}",
			1,
		),
		wrong:  []string{"load"},
		follow: rewritten("4000000000000000000", "4"),
	},
	"a step that is refused": {
		says: "--on-violation unique=skip",
		plan: strings.Replace(
			shelfPlan+shelfUnit,
			"{insert: lent, set: {book_id: Book}}",
			"{insert: lent, set: {id: 1, book_id: Book}}",
			1,
		),
		first: did("load", "--without-units"),
		wrong: []string{"load"},
		right: []string{"load", "--on-violation", "unique=skip"},
		code:  6,
	},
	"upsert instead of insert": {
		says: "use upsert instead of insert",
		plan: strings.Replace(
			shelfPlan+shelfUnit,
			"{insert: lent, set: {book_id: Book}}",
			"{insert: lent, set: {id: 1, book_id: Book}}",
			1,
		),
		first: did("load", "--without-units"),
		wrong: []string{"load"},
		follow: rewritten(
			"{insert: lent, set: {id: 1, book_id: Book}}",
			"{upsert: lent, match: {id: 1}, set: {book_id: Book}}",
		),
	},
	"clear what is referred to": {
		says: "first delete the rows that refer to it, in a separate step",
		plan: shelfPlan + "units:\n  empty:\n    rows: 1\n    together: all\n    steps:\n      - {clear: " +
			"books}\n      - {insert: books, set: {shelf_id: 1, title: \"'x'\"}}\n",
		first:  after(did("load", "--without-units"), sqlDone("INSERT INTO lent (id, book_id) VALUES (1, 3)")),
		wrong:  []string{"load", "--unit", "empty"},
		follow: rewritten("      - {clear: books}\n", "      - {clear: lent}\n      - {clear: books}\n"),
	},
	"a primary key that changes": {
		says: "load with --no-undo",
		plan: shelfPlan + "units:\n  move:\n    rows: 1\n    steps:\n      - {update: books, match: {id: 1}, set: " +
			"{id: 900}}\n",
		first: did("load", "--without-units"),
		wrong: []string{"load", "--unit", "move"},
		right: []string{"load", "--unit", "move", "--no-undo"},
	},
	"a schema for during": {
		says:   "--schema schema.sql",
		tables: "CREATE TABLE one (id {key}); DROP TABLE one;",
		first: func(t *testing.T, s *site) {
			s.write("schema.sql", strings.ReplaceAll(shelfTables, "{key}", s.key))
		},
		wrong: []string{"during", "--", "true"},
		right: []string{"during", "--schema", "schema.sql", "--", "true"},
	},
}

// allAdvice are the cases of both tables.
func allAdvice() map[string]advised {
	all := maps.Clone(advice)
	maps.Copy(all, adviceOfServers)
	return all
}

// Whatever a command advises is done, and the trouble is gone.
func TestAdviceOfCommandsIsFollowed(t *testing.T) {
	for name, c := range allAdvice() {
		for _, e := range engines() {
			if c.engine == "" || slices.Contains(strings.Fields(c.engine), e.name) {
				t.Run(name+"/"+e.name, func(t *testing.T) { c.isFollowed(t, e) })
			}
		}
	}
}

// isFollowed provokes the advice on an engine, and does what it says.
func (c advised) isFollowed(t *testing.T, e engine) {
	s := &site{folder: newFolder(t), engine: e, script: shelfTables}
	address := regexp.MustCompile(`^URL`)
	if c.tables != "" {
		s.script = c.tables
	}
	plan := shelfPlan
	if c.plan != "" {
		plan = c.plan
	}
	s.write("evensprout.yaml", plan)
	if c.server {
		e.start(t) // installs the server, or skips
		server, err := e.fresh()
		require.NoError(t, err)
		t.Cleanup(server.Remove)
		s.start = func(testing.TB) *storetest.Server { return server }
	}
	s.url = s.database(t)
	if c.first != nil {
		c.first(t, s)
	}
	run := func(args []string) result {
		t.Helper()
		var out []string
		for _, a := range args {
			out = append(out, address.ReplaceAllString(a, s.url))
		}
		if c.bare {
			return s.run(out...)
		}
		// Flags come before a command of the user's.
		return s.run(append([]string{out[0], "--db", s.url}, out[1:]...)...)
	}
	url := s.url
	if c.spoilt != nil {
		s.url = c.spoilt(url)
		require.NotEqual(t, url, s.url)
	}
	says := s.words(t, c.says)[0]
	r := run(s.words(t, c.wrong...))
	s.url = url
	assert.NotZero(t, r.code, r.out)
	assert.Contains(t, strings.Join(strings.Fields(r.errOut), " "), says)
	if c.follow != nil {
		c.follow(t, s)
	}
	right := c.right
	if right == nil {
		right = c.wrong
	}
	r = run(s.words(t, right...))
	assert.Equal(t, c.code, r.code, r.out+r.errOut)
	if c.code == 0 {
		assert.NotContains(t, r.errOut, says)
	}
}
