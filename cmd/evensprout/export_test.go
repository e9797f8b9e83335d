package main

import (
	"encoding/json"
	"fmt"
	"math/bits"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/demo"
	"evensprout/internal/store/storetest"
)

// noteScript is tables with one of everything that scripts and files may stumble over;
// {key} is a key that numbers itself, {json} and {bytes} are types.
const noteScript = `
CREATE TABLE authors (code VARCHAR(9) PRIMARY KEY, label VARCHAR(60) NOT NULL);
CREATE TABLE notes (id {key}, author_code VARCHAR(9) NOT NULL REFERENCES authors (code), above_id INTEGER
  REFERENCES notes (id), body VARCHAR(200), empty VARCHAR(9), price DECIMAL(9,2),
  flag BOOLEAN NOT NULL, day DATE, at {moment} NULL, opens TIME, raw {bytes}, mark CHAR(36), more {json});
CREATE TABLE marks (note_id INTEGER NOT NULL REFERENCES notes (id), number INTEGER NOT NULL, PRIMARY KEY (note_id,
  number));`

const notePlan = `name: notes
seed: n
clock: 2026-05-01T08:00:00Z
entities:
  Author:
    table: authors
    given: {pen: {code: PEN, label: Pen}, ink: {code: INK, label: "I'nk"}}
  Note:
    table: notes
    rows: 1100
    given:
      odd: {body: "it's \\ a \"test\"\nwith; lines -- and 'quotes' \\' :x \\N \\.", price: 1.50, empty: "", author: ink}
      far: {body: "päöü 日本 🙂", price: -0.01, empty: null}
    fields:
      author: {pick: Author, column: author_code, by: code}
      above: {pick: Note}
      flag: {share: 50%}
      day: {between: [2026-01-01, 2026-12-31]}
      at: {before: clock, within: 9d}
      opens: {between: [06:00, 21:45], step: 15m}
      raw: {bytes: 0..9, nulls: 20%}
      mark: {uuid: v4}
      more: {json: {a: 1, b: "x'y\\z"}}
  Mark:
    table: marks
    per: {Note: 0..3}
    fields: {number: {count: {restart: true}}}
`

// noteTypes are the types of an engine.
func (e engine) noteTypes() *strings.Replacer {
	types := map[string][3]string{"sqlite": {"TIMESTAMP", "BLOB", "TEXT"},
		"postgres": {"TIMESTAMP", "BYTEA", "JSONB"}, "mariadb": {"DATETIME", "VARBINARY(20)", "JSON"}}[e.name]
	return strings.NewReplacer("{key}", e.key, "{moment}", types[0], "{bytes}", types[1], "{json}", types[2])
}

// onNotes runs a test on every engine with the notes' tables.
func onNotes(t *testing.T, test func(t *testing.T, s *site)) {
	for _, e := range engines() {
		t.Run(e.name, func(t *testing.T) {
			f := newFolder(t)
			f.write("evensprout.yaml", notePlan)
			s := &site{folder: f, engine: e}
			s.url = s.notes(t)
			test(t, s)
		})
	}
}

// notes makes a database with the notes' tables.
func (s *site) notes(t *testing.T) string {
	script := s.noteTypes().Replace(noteScript)
	if s.name == "mariadb" { // it reads references beside a column, and forgets them
		script = strings.NewReplacer("REFERENCES authors (code)", "", "REFERENCES notes (id)", "", " more JSON);",
			" more JSON, "+
				"FOREIGN KEY (author_code) REFERENCES authors (code), FOREIGN KEY (above_id) REFERENCES notes (id));",
			"PRIMARY KEY (note_id, number)", "PRIMARY KEY (note_id, number), FOREIGN KEY (note_id) REFERENCES "+
				"notes (id)").
			Replace(script)
	}
	if s.start != nil {
		return s.start(t).Database(t, script)
	}
	name := fmt.Sprintf("notes%d.db", len(must(filepath.Glob(s.file("*.db")))))
	s.makeDB(name, script)
	return "sqlite:" + s.file(name)
}

func must[T any](v T, err error) T {
	if err != nil {
		panic(err)
	}
	return v
}

// client runs a script in the engine's own client; without it, the test is skipped.
func (s *site) client(t *testing.T, script string) {
	t.Helper()
	var c *exec.Cmd
	switch s.name {
	case "sqlite":
		c = exec.Command(storetest.Client(t, "sqlite3", "sqlite3"), "-bail", strings.TrimPrefix(s.url, "sqlite:"))
	case "postgres":
		c = exec.Command(storetest.Client(t, "psql", "postgresql-client"), "-q", "-v", "ON_ERROR_STOP=1", s.url)
	default:
		host, name, _ := strings.Cut(strings.TrimPrefix(s.url, "mysql://root@127.0.0.1:"), "/")
		c = exec.Command(
			storetest.Client(t, "mariadb", "mariadb-client"),
			"--no-defaults",
			"-h",
			"127.0.0.1",
			"-P",
			host,
			"-u",
			"root",
			name,
		)
	}
	in, err := os.Open(s.file(script))
	require.NoError(t, err)
	defer in.Close()
	c.Stdin = in
	out, err := c.CombinedOutput()
	require.NoError(t, err, string(out))
}

// other is the same site with another database.
func (s *site) other(t *testing.T) *site {
	o := *s
	o.url = s.notes(t)
	return &o
}

func TestScriptsThatStockClientsLoad(t *testing.T) {
	onNotes(t, func(t *testing.T, s *site) {
		scripted := s.other(t)
		empty := scripted.rows(t)
		r := s.on("load", "--no-journal", "--quiet")
		require.Zero(t, r.code, r.errOut)
		require.Zero(t, s.on("export", "--out", "rows.sql").code)
		scripted.client(t, "rows.sql")
		assert.Empty(t, difference(s.rows(t), scripted.rows(t)), "loaded, and from the script")

		pair := s.other(t)
		pair.exec(
			t,
			"INSERT INTO authors (code, label) VALUES ('OLD', 'there before')",
			"INSERT INTO notes (id, author_code, flag) VALUES (900001, 'OLD', true)",
		)
		before := pair.rows(t)
		r = s.on("export", "--migration", "0042_notes", "--out", "migrations")
		require.Zero(t, r.code, r.errOut)
		assert.Contains(t, r.out, "0042_notes.remove.sql")
		pair.client(t, "migrations/0042_notes.insert.sql")
		assert.NotEqual(t, before, pair.rows(t))
		pair.client(t, "migrations/0042_notes.remove.sql")
		assert.Empty(t, difference(before, pair.rows(t)), "applied and taken back")
		scripted.client(t, "migrations/0042_notes.remove.sql")
		assert.Equal(t, empty, scripted.rows(t))
		r = s.on("export", "--migration", "7_notes.sql, 7_notes_back.sql", "--out", "migrations")
		require.Zero(t, r.code, r.errOut)
		assert.Contains(t, r.out, "and 7_notes_back.sql, which takes them out")
		for name, of := range map[string]string{"7_notes.sql": "insert", "7_notes_back.sql": "remove"} {
			assert.Equal(t, s.read("migrations/0042_notes."+of+".sql"), s.read("migrations/"+name), name)
		}
		// What numbers itself goes on behind the rows of the script.
		if s.name != "sqlite" {
			scripted.client(t, "rows.sql")
			scripted.exec(t, "INSERT INTO notes (author_code, flag) VALUES ('PEN', true)")
		}
	})
}

// exported is what a manifest says, by entity.
func (f *folder) exported(t *testing.T, folder string) map[string]map[string]any {
	t.Helper()
	var m struct{ Entities []map[string]any }
	require.NoError(t, json.Unmarshal(must(os.ReadFile(f.file(folder+"/manifest.json"))), &m))
	out := map[string]map[string]any{}
	for _, e := range m.Entities {
		out[e["entity"].(string)] = e
	}
	return out
}

func TestExportsAreReadBack(t *testing.T) {
	onNotes(t, func(t *testing.T, s *site) {
		want := map[string]string{}
		r := s.on("load", "--no-journal", "--json")
		require.Zero(t, r.code, r.errOut)
		var loaded struct {
			Load     int64
			Entities []struct{ Entity, Fingerprint string }
		}
		require.NoError(t, json.Unmarshal([]byte(r.out), &loaded))
		for _, e := range loaded.Entities {
			want[e.Entity] = e.Fingerprint
		}
		for _, format := range []string{"csv", "ndjson", "json", "parquet"} {
			for _, names := range []string{"fields", "columns"} {
				at := format + "-" + names
				r := s.on("export", "--format", format, "--names", names, "--out", at)
				require.Zero(t, r.code, r.errOut)
				for name, e := range s.exported(t, at) {
					assert.Equal(t, want[name], e["fingerprint"], "%s %s", at, name)
				}
				again := s.other(t)
				r = again.on("load", at+"/evensprout.yaml", "--json")
				require.Zero(t, r.code, "%s: %s", at, r.errOut)
				assert.NotContains(t, r.errOut, "warning", at)
				require.NoError(t, json.Unmarshal([]byte(r.out), &loaded))
				require.Len(t, loaded.Entities, 3)
				for _, e := range loaded.Entities {
					assert.Equal(t, want[e.Entity], e.Fingerprint, "%s %s, loaded from the files", at, e.Entity)
				}
				assert.Empty(t, difference(s.rows(t), again.rows(t)), at)
				if format == "ndjson" && names == "fields" {
					// The journal keeps what the rows were read from.
					require.NoError(t, os.RemoveAll(s.file(at)))
					require.NoError(t, os.MkdirAll(s.file(at), 0o755))
					r := again.on("withdraw", fmt.Sprint(loaded.Load))
					require.Zero(t, r.code, r.errOut)
				}
			}
		}
	})
}

func TestPartsOfExportsAddUp(t *testing.T) {
	f := newFolder(t)
	f.write("evensprout.yaml", demo.Entities)
	require.Zero(t, f.run("export", "--format", "ndjson", "--out", "whole", "--without-database").code)
	whole := f.exported(t, "whole")
	sums, rows, lines := map[string][2]uint64{}, map[string]float64{}, 0
	for n := 1; n <= 5; n++ {
		at := fmt.Sprintf("part%d", n)
		c := f.command("export", "--format", "ndjson", "--out", at, "--part", "env/5", "--without-database")
		c.Env = append(c.Env, fmt.Sprintf("JOB_COMPLETION_INDEX=%d", n-1))
		out, err := c.CombinedOutput()
		require.NoError(t, err, string(out))
		assert.NoFileExists(t, f.file(at+"/evensprout.yaml"), "a part refers to rows of others")
		for name, e := range f.exported(t, at) {
			hi, err := strconv.ParseUint(e["fingerprint"].(string)[:16], 16, 64)
			require.NoError(t, err)
			lo, err := strconv.ParseUint(e["fingerprint"].(string)[16:], 16, 64)
			require.NoError(t, err)
			sum := sums[name]
			var carry uint64
			sum[1], carry = bits.Add64(sum[1], lo, 0)
			sum[0], _ = bits.Add64(sum[0], hi, carry)
			sums[name] = sum
			rows[name] += e["rows"].(float64)
		}
		lines += strings.Count(string(must(os.ReadFile(f.file(at+"/Ticket.ndjson")))), "\n")
	}
	for name, e := range whole {
		assert.Equal(t, e["fingerprint"], fmt.Sprintf("%016x%016x", sums[name][0], sums[name][1]), name)
		assert.Equal(t, e["rows"], rows[name], name)
	}
	assert.Equal(t, 18754, lines)
}

func TestFixtureFiles(t *testing.T) {
	f := newFolder(t)
	f.sample(t)
	r := f.run("export", "larkwater/evensprout.yaml", "--row", "Passenger.bo", "--references", "rows")
	require.Zero(t, r.code, r.errOut)
	var bo struct {
		GivenName string `json:"given_name"`
		Booking   []struct {
			Total   json.Number
			Sailing map[string]any
			Ticket  []struct{ Price json.Number }
		}
	}
	require.NoError(t, json.Unmarshal([]byte(r.out), &bo))
	assert.Equal(t, "Bo", bo.GivenName)
	require.Len(t, bo.Booking, 2)
	assert.Equal(t, json.Number("25.50"), bo.Booking[0].Total)
	assert.Regexp(t, "^LW-", bo.Booking[0].Sailing["code"])
	assert.NotEmpty(t, bo.Booking[0].Ticket)

	r = f.run(
		"export",
		"larkwater/evensprout.yaml",
		"--row",
		"Passenger.7",
		"--references",
		"names",
		"--names",
		"columns",
	)
	require.Zero(t, r.code, r.errOut)
	assert.Contains(t, r.out, `"bookings": [`)
	r = f.run("export", "larkwater/evensprout.yaml", "--nest", "--references", "names", "--out", "all.json")
	require.Zero(t, r.code, r.errOut)
	var all map[string][]map[string]any
	require.NoError(t, json.Unmarshal(must(os.ReadFile(f.file("all.json"))), &all))
	assert.Len(t, all["Passenger"], 5002)
	assert.NotContains(t, all, "Booking", "bookings stand inside passengers")
	tickets := 0
	for _, p := range all["Passenger"] {
		for _, b := range p["Booking"].([]any) {
			tickets += len(b.(map[string]any)["Ticket"].([]any))
		}
	}
	assert.Equal(t, 18754, tickets)
}

func TestStreams(t *testing.T) {
	f := newFolder(t)
	f.sample(t)
	r := f.run("export", "larkwater/evensprout.yaml", "--entity", "FareClass")
	require.Zero(t, r.code, r.errOut)
	assert.Equal(
		t,
		"code,label,price\r\nDECK,Open "+
			"deck,4.50\r\nSALOON,Saloon,7.25\r\nCABIN,Cabin,19.00\r\nBICYCLE,Bicycle,2.00\r\n",
		r.out,
	)
	r = f.run(
		"export",
		"larkwater/evensprout.yaml",
		"--entity",
		"FareClass",
		"--entity",
		"Pier",
		"--format",
		"ndjson",
	)
	require.Zero(t, r.code, r.errOut)
	lines := strings.Split(strings.TrimSpace(r.out), "\n")
	assert.Len(t, lines, 13)
	assert.Equal(t, `{"FareClass":{"code":"DECK","label":"Open deck","price":4.50}}`, lines[0])
	r = f.run("export", "larkwater/evensprout.yaml", "--format", "json")
	require.Zero(t, r.code, r.errOut)
	var all map[string][]any
	require.NoError(t, json.Unmarshal([]byte(r.out), &all))
	assert.Len(t, all["Ticket"], 18754)
}

func TestWrongExports(t *testing.T) {
	f := newFolder(t)
	f.sample(t)
	require.NoError(t, os.Mkdir(f.file("taken"), 0o755))
	f.write("taken/Pier.csv", "mine")
	f.write("file", "")
	for _, x := range []struct {
		args, want string
		code       int
	}{
		{"", "standard output can hold one entity", 2},
		{"--format cvs", "did you mean csv?", 2},
		{"--names colums", "did you mean columns?", 2},
		{"--entity Peer", "did you mean Pier?", 2},
		{"--row Passenger.adda", "did you mean ada?", 2},
		{"--row Passenger.5000", "numbered from 0", 2},
		{"--row Passenger.ada --format csv", "write JSON", 2},
		{"--nest --migration x", "--format says", 2},
		{"--migration a/b", "without a folder", 2},
		{"--migration up/a.sql,down/a.sql", "without a folder", 2},
		{"--migration a.sql,", "needs the names of two files", 2},
		{"--migration a.sql,..", "needs the names of two files", 2},
		{"--migration a.sql,A.sql", "names the same file twice", 2},
		{"--format sql --dialect orakel", "--dialect must be one of", 2},
		{"--dialect mysql", "needs --format sql", 2},
		{"--part 0/4 --format sql", "numbered 1 to 4,", 2},
		{"--part env/4 --format sql", "JOB_COMPLETION_INDEX", 2},
		{"--out taken", "nothing was written; --overwrite replaces it", 2},
		{"--out file", "is a file, not a folder", 1},
		{"--without-database --names columns --out x", "needs the database's tables", 4},
		{"--without-database --format sql", "it cannot be combined with", 2},
		{"--references rows --out x", "needs --nest or --row", 2},
	} {
		r := f.run(append([]string{"export", "larkwater/evensprout.yaml"}, strings.Fields(x.args)...)...)
		assert.Equal(t, x.code, r.code, x.args)
		assert.Contains(t, r.errOut, x.want, x.args)
	}
	assert.Equal(t, "mine", string(must(os.ReadFile(f.file("taken/Pier.csv")))))
	assert.Empty(t, must(filepath.Glob(f.file(".*.part-*"))), "nothing half-done is left")
	require.Zero(t, f.run("export", "larkwater/evensprout.yaml", "--out", "taken", "--overwrite").code)
	// What an export wrote, the next one replaces, and removes what it no longer writes.
	require.Zero(
		t,
		f.run("export", "larkwater/evensprout.yaml", "--out", "taken", "--entity", "Pier", "--format", "json").code,
	)
	assert.Len(t, must(filepath.Glob(f.file("taken/*"))), 3)
}

func TestEditedExports(t *testing.T) {
	f := newFolder(t)
	f.sample(t)
	r := f.run("export", "larkwater/evensprout.yaml", "--out", "rows")
	require.Zero(t, r.code, r.errOut)
	plan, piers := string(
		must(os.ReadFile(f.file("rows/evensprout.yaml"))),
	), string(
		must(os.ReadFile(f.file("rows/Pier.csv"))),
	)
	for _, x := range []struct{ file, old, new, want string }{
		{"rows/Pier.csv", piers[strings.LastIndex(strings.TrimSpace(piers), "\n")+1:], "", "the file has 8 rows, " +
			"and its manifest says 9"},
		{"rows/evensprout.yaml", `into: "fare_class_code"`, `into: "fare_clas_code"`, `did you mean ` +
			`"fare_class_code"?`},
		{"rows/evensprout.yaml", "hidden: true", "hidden: perhaps", "hidden must be true or false"},
		{"rows/evensprout.yaml", "manifest: manifest.json", "manifest: none.json", "there is no such file"},
		{"rows/evensprout.yaml", "manifest: manifest.json", "manifset: manifest.json", "did you mean"},
		{"rows/Pier.csv", "code", "kode", "the file has no column code"},
		{"rows/Ticket.csv", ",DECK,", ",DEKC,", `no FareClass has the code "DEKC"`},
	} {
		before := string(must(os.ReadFile(f.file(x.file))))
		require.Contains(t, before, x.old)
		f.write(x.file, strings.Replace(before, x.old, x.new, 1))
		r := f.run("check", "rows/evensprout.yaml", "--db", "sqlite:larkwater/larkwater.db")
		assert.Contains(t, []int{3, 4}, r.code, x.want)
		assert.Contains(t, r.errOut, x.want)
		f.write(x.file, before)
	}
	// A value that is changed by hand is loaded as it stands.
	first := f.query("larkwater/larkwater.db", "SELECT name FROM piers ORDER BY id LIMIT 1")[0]
	f.write("rows/Pier.csv", strings.Replace(piers, first, "Barrowfield", 1))
	f.makeDB("fresh.db", demo.Schema)
	r = f.run("load", "rows/evensprout.yaml", "--db", "sqlite:fresh.db")
	require.Zero(t, r.code, r.errOut)
	assert.Equal(t, []string{"1"}, f.query("fresh.db", "SELECT count(*) FROM piers WHERE name = 'Barrowfield'"))
	assert.Contains(t, plan, "# Rows that evensprout")
}

func TestParquetOfOthers(t *testing.T) {
	f := newFolder(t)
	f.sample(t)
	require.Zero(t, f.run("export", "larkwater/evensprout.yaml", "--out", "rows", "--format", "parquet").code)
	f.write("piers.yaml", `name: piers
seed: s
clock: 2026-05-01T08:00:00Z
entities:
  Pier:
    table: piers
    rows_from: {file: rows/Pier.parquet, key: [code], columns: {code: code, name: name, postal_code: postal_code,
      closed_on: closed_on}}
`)
	f.makeDB("fresh.db", demo.Schema)
	r := f.run("load", "piers.yaml", "--db", "sqlite:fresh.db")
	require.Zero(t, r.code, r.errOut)
	columns := "SELECT code, name, postal_code, closed_on FROM piers ORDER BY code"
	assert.Equal(t, f.query("larkwater/larkwater.db", columns), f.query("fresh.db", columns))
}

// TestScriptsOfCircles writes references that lead to later rows, and takes the rows out again.
func TestScriptsOfCircles(t *testing.T) {
	const plan = `name: circle
seed: c
clock: 2026-05-01T08:00:00Z
entities:
  Dock:
    table: docks
    rows: 700
    fields: {flagship: {pick: Boat, column: flagship_id, nulls: 10%}}
  Boat:
    table: boats
    rows: 900
    fields: {dock: {pick: Dock, column: dock_id}}
`
	for _, e := range engines() {
		t.Run(e.name, func(t *testing.T) {
			f := newFolder(t)
			f.write("evensprout.yaml", plan)
			s := &site{folder: f, engine: e}
			made := 0
			fresh := func() *site {
				o := *s
				if made++; e.start == nil {
					name := fmt.Sprintf("circle%d.db", made)
					f.makeDB(
						name,
						"CREATE TABLE docks (id INTEGER PRIMARY KEY, flagship_id INTEGER REFERENCES boats (id)); "+
							"CREATE TABLE boats (id INTEGER PRIMARY KEY, dock_id INTEGER NOT NULL REFERENCES docks "+
							"(id));",
					)
					o.url = "sqlite:" + f.file(name)
					return &o
				}
				o.url = e.start(t).
					Database(t, "CREATE TABLE docks (id INTEGER PRIMARY KEY, flagship_id INTEGER); CREATE TABLE "+
						"boats (id INTEGER PRIMARY KEY, dock_id INTEGER NOT NULL, FOREIGN KEY (dock_id) REFERENCES "+
						"docks (id)); ALTER TABLE docks ADD FOREIGN KEY (flagship_id) REFERENCES boats (id);")
				return &o
			}
			loaded, scripted := fresh(), fresh()
			r := loaded.on("load", "--no-journal", "--quiet")
			require.Zero(t, r.code, r.errOut)
			before := scripted.rows(t)
			r = scripted.on("export", "--migration", "circle")
			require.Zero(t, r.code, r.errOut)
			scripted.client(t, "circle.insert.sql")
			assert.Empty(t, difference(loaded.rows(t), scripted.rows(t)))
			scripted.client(t, "circle.remove.sql")
			assert.Equal(t, before, scripted.rows(t))
			text := string(must(os.ReadFile(f.file("circle.insert.sql"))))
			assert.Equal(t, e.name != "sqlite", strings.Contains(text, "references that close a circle"))

			// Parts of a circle, and its files.
			require.Zero(t, loaded.on("export", "--out", "rows", "--format", "ndjson").code)
			again := fresh()
			r = again.on("load", "rows/evensprout.yaml", "--quiet")
			require.Zero(t, r.code, r.errOut)
			assert.Empty(t, difference(loaded.rows(t), again.rows(t)))
		})
	}
}

// Nested rows are read back as families, with the same fingerprints.
func TestNestedRowsAreReadBack(t *testing.T) {
	onNotes(t, func(t *testing.T, s *site) {
		r := s.on("load", "--no-journal", "--json")
		require.Zero(t, r.code, r.errOut)
		type loaded struct {
			Entities []struct{ Entity, Fingerprint string }
		}
		var want, got loaded
		require.NoError(t, json.Unmarshal([]byte(r.out), &want))
		r = s.on("export", "--nest", "--out", "nested")
		require.Zero(t, r.code, r.errOut)
		assert.Contains(t, r.out, "evensprout.yaml, which reads them back")
		again := s.other(t)
		r = again.on("load", "nested/evensprout.yaml", "--json")
		require.Zero(t, r.code, r.errOut)
		require.NoError(t, json.Unmarshal([]byte(r.out), &got))
		assert.ElementsMatch(t, want.Entities, got.Entities)
		assert.Empty(t, difference(s.rows(t), again.rows(t)))
	})
}
