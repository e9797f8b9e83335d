package draft

import (
	"context"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/demo"
	"evensprout/internal/grow"
	"evensprout/internal/habits"
	"evensprout/internal/lexicon"
	"evensprout/internal/plan"
	"evensprout/internal/schema"
	"evensprout/internal/store/sqlite"
	"evensprout/internal/value"
)

var update = flag.Bool("update", false, "write the golden draft")

// surveyed reads the tables that a script makes.
func surveyed(t *testing.T, script string) *schema.Database {
	t.Helper()
	path := filepath.Join(t.TempDir(), "test.db")
	require.NoError(t, sqlite.Create(path, script))
	s, err := sqlite.Driver{}.Open(t.Context(), "sqlite:"+path)
	require.NoError(t, err)
	defer s.Close()
	db, err := s.Survey(t.Context())
	require.NoError(t, err)
	return db
}

// drafted drafts a plan and holds it against the tables: nothing may be amiss.
func drafted(t *testing.T, db *schema.Database, o Options) (string, *plan.Compiled) {
	t.Helper()
	o.Name = "small harbour"
	d, err := Make(t.Context(), db, o)
	require.NoError(t, err)
	text := d.Write(o)
	p, err := plan.Read("draft.yaml", []byte(text))
	require.NoError(t, err, text)
	c, err := p.Compile(plan.Options{Database: db})
	require.NoError(t, err, text)
	assert.Empty(t, c.Warnings, text)
	return text, c
}

// line is what a draft says about a field.
func line(t *testing.T, text, entity, field string) string {
	t.Helper()
	_, rest, ok := strings.Cut(text, "\n  "+entity+":\n")
	require.True(t, ok, "no %s in\n%s", entity, text)
	rest, _, _ = strings.Cut(rest, "\n\n")
	for _, l := range strings.Split(rest, "\n") {
		if name, source, ok := strings.Cut(strings.TrimSpace(l), ":"); ok && strings.Trim(name, `"`) == field {
			source, _, _ = strings.Cut(source, "   #")
			return strings.TrimSpace(source)
		}
	}
	return ""
}

func TestDraftOfTheSample(t *testing.T) {
	text, c := drafted(t, surveyed(t, demo.Schema), Options{})
	for entity, fields := range map[string]map[string]string{
		"FareClass": {"code": "{kind: noun, unique: true}"},
		"Passenger": {"given_name": "{from: who.given-name}", "email": "{from: who.email, unique: true}",
			"status": "{choose: " +
				"{active: 10, dormant: 10, barred: 2}}", "seen_at": "{after: joined_at, within: 30d, nulls: 15%}"},
		"VesselAmenity": {"per": "{Vessel: 2}", "amenity_id": "{pick: Amenity, distinct: true}"},
		"Ticket":        {"per": "{Booking: 1..3}", "position": "{count: {from: 1, restart: true}}"},
		"Timetable":     {"unique": "[[pier_id, weekday, leaves_at]]", "weekday": "{between: [1, 7]}"},
		"Crew":          {"reports_to_id": "{pick: Crew, nulls: 10%}", "id": ""},
	} {
		for field, want := range fields {
			assert.Equal(t, want, line(t, text, entity, field), "%s.%s", entity, field)
		}
	}
	assert.Equal(t, "small harbour", c.Plan.Name)
	const golden = "testdata/larkwater.yaml" // which the tests of plans hold against the JSON Schema
	if *update {
		require.NoError(t, os.WriteFile(golden, []byte(text), 0o644))
	}
	want, err := os.ReadFile(golden)
	require.NoError(t, err)
	assert.Equal(t, string(want), text, "make golden")
}

// What a column's name, type and conditions make of it.
func TestSourcesOfADraft(t *testing.T) {
	var columns []string
	want := map[string]string{}
	add := func(declaration, source string) {
		name, _, _ := strings.Cut(declaration, " ")
		columns = append(columns, declaration)
		want[name] = source
	}
	add("status TEXT NOT NULL CHECK (status IN ('on', 'off', 'yes'))", `{choose: ["on", "off", "yes"]}`)
	add("level INTEGER NOT NULL CHECK (level BETWEEN 3 AND 7)", "{between: [3, 7]}")
	add("score INTEGER NOT NULL CHECK (score >= 0 AND score < 50)", "{between: [1, 49]}")
	add("mass INTEGER NOT NULL CHECK (mass > 200)", "{between: [201, 300]}")
	add("grade INTEGER NOT NULL CHECK (grade = 1 OR grade = 2)", "{choose: [1, 2]}")
	add("n INTEGER NOT NULL", "{between: [1, 100]}")
	add("price DECIMAL(4,2) NOT NULL", "{between: [1.00, 99.99]}")
	add("lat DECIMAL(9,6)", "{kind: latitude, nulls: 10%}")
	add("work_email VARCHAR(80) NOT NULL", "{from: who.email}")
	add("prenom VARCHAR(40) NOT NULL", "{from: who.given-name}")
	add("phone VARCHAR(10) NOT NULL", "{kind: noun}")
	add("code VARCHAR(2) NOT NULL", `{pattern: "[A-Z]{2}"}`)
	add("tag VARCHAR(20) NOT NULL CHECK (tag LIKE 'q-%')", `{pattern: "q-[a-z]{3}"}`)
	add("token VARCHAR(64) NOT NULL CHECK (length(token) = 32)", `{pattern: "[0-9a-f]{32}"}`)
	add("slug_text VARCHAR(64) NOT NULL CHECK (slug_text = lower(slug_text))", "{kind: slug}")
	add("description TEXT", "{kind: paragraph, nulls: 40%}")
	add("device_uuid TEXT NOT NULL", "{uuid: v4}")
	add("birth_date DATE NOT NULL", "{between: [1950-01-01, 2008-12-31]}")
	add("since DATE NOT NULL CHECK (since < '2020-01-01')", "{between: [2018-11-26, 2019-12-31]}")
	add("opens TIME NOT NULL", "{between: [06:00, 21:45], step: 15m}")
	add("seen TIMESTAMP NOT NULL", "{after: gone, before: clock, within: 60d}")
	add("gone TIMESTAMP NOT NULL", "{before: clock, within: 400d}")
	add("is_open BOOLEAN NOT NULL", "{share: 50%}")
	add("meta JSON NOT NULL", "{json: {source: {choose: [web, app, import]}, version: {between: 1..5}}}")
	add("picture BLOB NOT NULL", "{bytes: 16}")
	add("created_at INTEGER NOT NULL", "{between: [1735689600, 1772409599]}") // before 2026-03-02
	add("last_login BIGINT NOT NULL", "{between: [1772409600, 1777593599]}")  // from there to the clock
	add("expires INTEGER NOT NULL", "{between: [1777593600, 1812153599]}")    // after the clock
	add("updated_at INTEGER NOT NULL CHECK (updated_at < 900)", "{between: [1, 100]}")
	add("clock INTEGER", "")
	text, _ := drafted(
		t,
		surveyed(
			t,
			"CREATE TABLE things (id INTEGER PRIMARY KEY, "+strings.Join(columns, ", ")+", CHECK (n % 5 = 0));",
		),
		Options{},
	)
	for name, source := range want {
		assert.Equal(t, source, line(t, text, "Thing", name), name)
	}
	assert.Equal(
		t,
		"{between: [1, 100], nulls: 10%, column: clock}",
		line(t, text, "Thing", "column_clock"),
		"a field cannot be called as the plan's clock",
	)
	assert.Contains(t, text, "meets:\n      - \"n % 5 = 0\"")
}

// grown counts the rows of an entity, and the different values of some fields.
func grown(t *testing.T, c *plan.Compiled, entity string, fields ...string) (rows, different int) {
	t.Helper()
	e := c.Target(entity).Grow
	g := grow.NewGrower(c.Set)
	defer g.Close()
	var b grow.Batch
	g.Grow(e, grow.Row{}, int(e.Rows), &b)
	seen := map[string]bool{}
	for i := range b.Len {
		var key []string
		for j, f := range e.Fields {
			for _, name := range fields {
				if f.Name == name {
					key = append(key, b.Row(i)[j].String())
				}
			}
		}
		require.Len(t, key, len(fields))
		seen[strings.Join(key, " ")] = true
	}
	require.NoError(t, g.Err())
	return b.Len, len(seen)
}

// Keys decide how many rows there can be, and which fields keep them.
func TestKeysOfADraft(t *testing.T) {
	text, c := drafted(t, surveyed(t, `
CREATE TABLE sides (code CHAR(1) PRIMARY KEY CHECK (code IN ('P', 'S')));
CREATE TABLE boats (id INTEGER PRIMARY KEY, side CHAR(1) NOT NULL UNIQUE REFERENCES sides (code), name TEXT NOT NULL);
CREATE TABLE berths (part INTEGER NOT NULL, side CHAR(1) NOT NULL REFERENCES sides (code),
  label VARCHAR(40) NOT NULL, PRIMARY KEY (side, part));
CREATE TABLE plates (a SMALLINT NOT NULL UNIQUE, b TEXT NOT NULL UNIQUE, c DECIMAL(3,0) NOT NULL UNIQUE,
  d DATE NOT NULL UNIQUE, e VARCHAR(2) NOT NULL UNIQUE);
CREATE UNIQUE INDEX plain ON plates (lower(b));
`), Options{Rows: 500})
	for entity, rows := range map[string]int{"Side": 2, "Boat": 2, "Plate": 500} {
		n, _ := grown(t, c, entity)
		assert.Equal(t, rows, n, "%s\n%s", entity, text)
	}
	for _, f := range []string{"a", "b", "c", "d", "e"} {
		n, different := grown(t, c, "Plate", f)
		assert.Equal(t, n, different, f)
	}
	n, different := grown(t, c, "Berth", "side", "part")
	assert.Equal(t, n, different)
	assert.Equal(t, 500, n)
}

// References of several columns follow the row that is picked; those that share a column
// pick rows that agree in it.
func TestWideReferencesOfADraft(t *testing.T) {
	text, c := drafted(t, surveyed(t, `
CREATE TABLE ports (id INTEGER PRIMARY KEY, name TEXT NOT NULL);
CREATE TABLE piers (port_id INTEGER NOT NULL REFERENCES ports (id), number INTEGER NOT NULL, PRIMARY KEY (port_id,
  number));
CREATE TABLE crews (port_id INTEGER NOT NULL REFERENCES ports (id), id INTEGER NOT NULL, PRIMARY KEY (port_id, id));
CREATE TABLE duties (id INTEGER PRIMARY KEY, port_id INTEGER NOT NULL, pier INTEGER NOT NULL, crew INTEGER NOT NULL,
  FOREIGN KEY (port_id, pier) REFERENCES piers (port_id, number), FOREIGN KEY (port_id, crew)
    REFERENCES crews (port_id, id));
`), Options{})
	rows := map[string]bool{}
	for _, of := range [][3]string{{"Pier", "port_id", "number"}, {"Crew", "port_id", "id"}} {
		for _, key := range pairsOf(t, c, of[0], of[1], of[2]) {
			rows[of[0]+key] = true
		}
	}
	for _, key := range pairsOf(t, c, "Duty", "port_id", "pier") {
		assert.True(t, rows["Pier"+key], "%s is not a pier\n%s", key, text)
	}
	for _, key := range pairsOf(t, c, "Duty", "port_id", "crew") {
		assert.True(t, rows["Crew"+key], "%s is not a crew\n%s", key, text)
	}
}

func pairsOf(t *testing.T, c *plan.Compiled, entity, a, b string) []string {
	t.Helper()
	target := c.Target(entity)
	g := grow.NewGrower(c.Set)
	defer g.Close()
	var batch grow.Batch
	g.Grow(target.Grow, grow.Row{}, int(target.Grow.Rows), &batch)
	require.NoError(t, g.Err())
	at := func(name string) int {
		for i, col := range target.Columns {
			if col != nil && col.Name == name {
				return i
			}
		}
		t.Fatalf("%s has no %s", entity, name)
		return 0
	}
	var out []string
	for i := range batch.Len {
		out = append(out, fmt.Sprintf("(%s, %s)", batch.Row(i)[at(a)], batch.Row(i)[at(b)]))
	}
	return out
}

// A table that cannot be filled is left out with the reason, and so is what needs it.
func TestTablesThatAreLeftOut(t *testing.T) {
	db := surveyed(t, `
CREATE TABLE schema_migrations (version TEXT PRIMARY KEY);
CREATE TABLE a (id INTEGER PRIMARY KEY, other INTEGER NOT NULL REFERENCES gone (id));
CREATE TABLE b (id INTEGER PRIMARY KEY, a INTEGER NOT NULL REFERENCES a (id));
CREATE TABLE c (id INTEGER PRIMARY KEY, a INTEGER REFERENCES a (id));
CREATE TABLE d (id INTEGER PRIMARY KEY, n INTEGER NOT NULL CHECK (n > 5) CHECK (n < 3));
`)
	text, c := drafted(t, db, Options{})
	assert.Contains(t, text, "# left out: d: no value is known for n that satisfies CHECK (n > 5) and CHECK (n < 3)")
	assert.Contains(t, text, "# left out: schema_migrations: it records migrations")
	assert.Contains(t, text, "# left out: a: it refers to gone, which does not")
	assert.Contains(t, text, "# left out: b: it refers to a, which is left out")
	assert.Equal(t, []string{"C"}, c.Names())
	assert.Equal(t, "null", line(t, text, "C", "a"))
}

// A guessed reference to a table that is left out is forgotten: no constraint asks for it.
// Rows that are planned per row of a table go with it.
func TestChildrenOfTablesThatAreLeftOut(t *testing.T) {
	db := surveyed(t, `
CREATE TABLE ports (id INTEGER PRIMARY KEY, n INTEGER NOT NULL CHECK (n > 5 AND n < 3));
CREATE TABLE berths (id INTEGER PRIMARY KEY, port_id INTEGER NOT NULL REFERENCES ports (id) ON DELETE CASCADE);
CREATE TABLE stays (id INTEGER PRIMARY KEY, berth_id INTEGER NOT NULL REFERENCES berths (id) ON DELETE CASCADE);
CREATE TABLE boats (id INTEGER PRIMARY KEY);`)
	text, c := drafted(t, db, Options{})
	require.Len(t, c.Targets, 1, text)
	assert.Contains(t, text, "berths: it refers to ports, which is left out")
	assert.Contains(t, text, "stays: it refers to berths, which is left out")
}

// A reference that may be NULL is NULL where its table is left out, also if nothing else is.
func TestReferencesToTablesThatAreLeftOut(t *testing.T) {
	text, c := drafted(t, surveyed(t, `
CREATE TABLE ports (id INTEGER PRIMARY KEY, n INTEGER NOT NULL CHECK (n > 5 AND n < 3));
CREATE TABLE boats (id INTEGER PRIMARY KEY, port_id INTEGER REFERENCES ports (id), name TEXT NOT NULL);`), Options{})
	assert.Equal(t, []string{"Boat"}, c.Names(), text)
	assert.Equal(t, "null", line(t, text, "Boat", "port_id"))
}

func TestGuessesOfTablesThatAreLeftOut(t *testing.T) {
	text, c := drafted(t, surveyed(t, `
CREATE TABLE metadata (id INTEGER PRIMARY KEY, at DATE NOT NULL CHECK (at > '2025-02-01' AND at < '2025-01-01'));
CREATE TABLE notes (metadata_id INTEGER NOT NULL, line INTEGER NOT NULL, PRIMARY KEY (metadata_id, line));
CREATE TABLE tags (id INTEGER PRIMARY KEY, metadata_id INTEGER);
`), Options{})
	assert.Contains(t, text, "# left out: metadata: no value is known for at")
	assert.ElementsMatch(t, []string{"Note", "Tag"}, c.Names())
	assert.NotContains(t, text, "pick")
}

// Where references share a column that is a key nowhere, the tables share its values;
// else all follow the key.
func TestColumnsThatReferencesBindTogether(t *testing.T) {
	text, c := drafted(t, surveyed(t, `
CREATE TABLE portals (realm TEXT NOT NULL, id TEXT NOT NULL, up TEXT, PRIMARY KEY (realm, id), FOREIGN KEY (realm,
  up) REFERENCES portals (realm, id));
CREATE TABLE ghosts (realm VARCHAR(12) NOT NULL, id TEXT NOT NULL, PRIMARY KEY (realm, id));
CREATE TABLE messages (id INTEGER PRIMARY KEY, realm TEXT NOT NULL, portal TEXT NOT NULL, ghost TEXT NOT NULL,
  FOREIGN KEY (realm, portal) REFERENCES portals (realm, id), FOREIGN KEY (realm, ghost) REFERENCES ghosts (realm, id));
`), Options{})
	shared := line(t, text, "Portal", "realm")
	assert.Regexp(t, `^\{choose: \[([^,]{1,12}, ){3}[^,]{1,12}\]\}$`, shared)
	assert.Equal(t, shared, line(t, text, "Ghost", "realm"))
	rows := map[string]bool{}
	for _, of := range []string{"Portal", "Ghost"} {
		for _, key := range pairsOf(t, c, of, "realm", "id") {
			rows[of+key] = true
		}
	}
	for _, of := range [][2]string{{"Portal", "portal"}, {"Ghost", "ghost"}} {
		for _, key := range pairsOf(t, c, "Message", "realm", of[1]) {
			assert.True(t, rows[of[0]+key], "%s is no %s\n%s", key, of[0], text)
		}
	}

	text, _ = drafted(t, surveyed(t, `
CREATE TABLE tenants (id INTEGER PRIMARY KEY, name TEXT NOT NULL);
CREATE TABLE rooms (tenant INTEGER NOT NULL, id INTEGER NOT NULL, PRIMARY KEY (tenant, id));
CREATE TABLE stays (id INTEGER PRIMARY KEY, tenant INTEGER NOT NULL REFERENCES tenants (id), room INTEGER NOT NULL,
  FOREIGN KEY (tenant, room) REFERENCES rooms (tenant, id));
`), Options{})
	assert.Equal(t, "{pick: Tenant}", strings.Replace(line(t, text, "Room", "tenant"), ", by: id", "", 1))
	assert.Contains(t, text, "# guess: rows that refer to both agree on it")
}

// What others refer to is as short as the shortest of their columns.
func TestKeysThatNarrowColumnsReferTo(t *testing.T) {
	_, c := drafted(t, surveyed(t, `
CREATE TABLE partners (code VARCHAR(40) PRIMARY KEY, name TEXT NOT NULL);
CREATE TABLE orders (id INTEGER PRIMARY KEY, partner VARCHAR(20) NOT NULL REFERENCES partners (code));
CREATE TABLE bills (partner VARCHAR(6) NOT NULL REFERENCES partners (code), number INTEGER NOT NULL);
`), Options{})
	codes := pairsOf(t, c, "Partner", "code", "code")
	assert.NotEmpty(t, codes)
	for _, code := range codes {
		assert.LessOrEqual(t, len(code), len("(, )")+2*6)
	}
}

// A table that has all the rows that its keys let it have is taken as it is; where there
// is room for more, there are so many that those that meet what is there find a place.
func TestFullTables(t *testing.T) {
	db := surveyed(t, `
CREATE TABLE services (id INTEGER PRIMARY KEY AUTOINCREMENT, grade INTEGER NOT NULL CHECK (grade BETWEEN 1 AND 25),
  mail BOOLEAN NOT NULL, chat BOOLEAN NOT NULL, UNIQUE (grade, mail, chat));
CREATE TABLE guests (id INTEGER PRIMARY KEY, services_id INTEGER NOT NULL REFERENCES services (id) ON DELETE CASCADE);
`)
	for there, want := range map[uint64]string{100: "rows: existing   # the 100 existing rows",
		10: "rows: 56\n", 1: "rows: 99\n"} {
		o := Options{
			Name: "x",
			Rows: 100,
			Held: map[*schema.Table]*habits.Contents{
				db.Table("services"): {Rows: there, Highest: map[string]int64{"id": 200}},
			},
		}
		d, err := Make(t.Context(), db, o)
		require.NoError(t, err)
		text := d.Write(o)
		assert.Contains(t, text, want)
		_, guest, _ := strings.Cut(text, "  Guest:")
		assert.Equal(
			t,
			there == 100,
			strings.Contains(guest, "services_id: {pick: Service}"),
			"nothing is planned per existing rows\n%s",
			text,
		)
	}
}

// References that no constraint declares are proposed where name and type agree.
func TestGuessedReferences(t *testing.T) {
	text, _ := drafted(t, surveyed(t, `
CREATE TABLE app_users (id INTEGER PRIMARY KEY, name TEXT NOT NULL);
CREATE TABLE app_notes (id INTEGER PRIMARY KEY, user_id INTEGER NOT NULL, created_by_user_id INTEGER, text_id TEXT);
`), Options{})
	assert.Equal(t, "{pick: AppUser}", line(t, text, "AppNote", "user_id"))
	assert.Equal(t, "{pick: AppUser, nulls: 10%}", line(t, text, "AppNote", "created_by_user_id"))
	assert.Contains(t, text, "# guess: no constraint says so")
	assert.NotContains(t, line(t, text, "AppNote", "text_id"), "pick")
}

// A partial index with too few values is kept by having no row that it binds.
func TestPartialIndexesWithFewValues(t *testing.T) {
	text, c := drafted(t, surveyed(t, `
CREATE TABLE fares (id INTEGER PRIMARY KEY, kind TEXT NOT NULL CHECK (kind IN ('x', 'z')),
  is_default BOOLEAN NOT NULL, closed_on DATE);
CREATE UNIQUE INDEX one_default ON fares (kind) WHERE is_default;
CREATE UNIQUE INDEX one_open ON fares (kind) WHERE closed_on IS NULL;
CREATE TABLE codes (id INTEGER PRIMARY KEY, code TEXT NOT NULL, gone BOOLEAN NOT NULL);
CREATE UNIQUE INDEX one_code ON codes (code) WHERE NOT gone;
`), Options{})
	n, _ := grown(t, c, "Fare")
	assert.Equal(t, 100, n)
	assert.Contains(t, text, "- NOT is_default")
	assert.Contains(t, text, "- NOT closed_on IS NULL")
	assert.Equal(t, "{kind: title, unique: true}", line(t, text, "Code", "code"))
}

// A table that joins another with itself, never a row with itself.
func TestTablesThatJoinATableWithItself(t *testing.T) {
	_, c := drafted(t, surveyed(t, `
CREATE TABLE users (id INTEGER PRIMARY KEY, name TEXT NOT NULL);
CREATE TABLE follows (follower_id INTEGER NOT NULL REFERENCES users (id), followed_id INTEGER NOT NULL
  REFERENCES users (id), PRIMARY KEY (follower_id, followed_id), CHECK (follower_id <> followed_id));
`), Options{Rows: 300})
	pairs := pairsOf(t, c, "Follow", "follower_id", "followed_id")
	assert.Len(t, pairs, 300)
	seen := map[string]bool{}
	for _, p := range pairs {
		var a, b int
		_, err := fmt.Sscanf(p, "(%d, %d)", &a, &b)
		require.NoError(t, err)
		assert.NotEqual(t, a, b)
		assert.False(t, seen[p], p)
		seen[p] = true
	}
}

// Tables that need rows of each other first are filled where the engine can put that off.
func TestTablesThatNeedEachOther(t *testing.T) {
	db := surveyed(t, `
CREATE TABLE staff (id INTEGER PRIMARY KEY, store_id INTEGER NOT NULL REFERENCES stores (id));
CREATE TABLE stores (id INTEGER PRIMARY KEY, manager_id INTEGER NOT NULL REFERENCES staff (id));
CREATE TABLE items (id INTEGER PRIMARY KEY, store_id INTEGER NOT NULL REFERENCES stores (id));
CREATE TABLE notes (id INTEGER PRIMARY KEY, store_id INTEGER NOT NULL);
`)
	_, c := drafted(t, db, Options{Loosens: true})
	assert.ElementsMatch(t, []string{"Staff", "Store", "Item", "Note"}, c.Names())
	text, c := drafted(t, db, Options{})
	assert.Equal(t, []string{"Note"}, c.Names(), "nobody says that it must refer to a store")
	assert.Contains(t, text, "# left out: items: it refers to stores, which is left out")
}

// Rows that triggers of another table add, with keys of theirs, are left to them.
func TestTablesThatTriggersFill(t *testing.T) {
	text, c := drafted(t, surveyed(t, `
CREATE TABLE films (id INTEGER PRIMARY KEY, title TEXT NOT NULL);
CREATE TABLE film_texts (film_id INTEGER NOT NULL, lang TEXT NOT NULL, title TEXT NOT NULL, PRIMARY KEY (film_id,
  lang));
CREATE TABLE log (id INTEGER PRIMARY KEY, at TEXT NOT NULL);
CREATE TRIGGER text AFTER INSERT ON films BEGIN INSERT OR IGNORE INTO "film_texts" VALUES (NEW.id, 'en',
  NEW.title); INSERT INTO log (at) VALUES ('x'); END;
`), Options{})
	assert.ElementsMatch(t, []string{"Film", "Log"}, c.Names())
	assert.Contains(t, text, "# left out: film_texts: triggers of films add its rows")
}

// Ranges that differ may overlap all the same: what keeps them apart is another column of
// the exclusion constraint, or that they are points.
func TestExclusionsOfRangesForEachRoom(t *testing.T) {
	db := surveyed(t, "CREATE TABLE bookings (id INTEGER PRIMARY KEY, room INTEGER NOT NULL, during TEXT NOT NULL);")
	during := db.Tables[0].Column("during")
	during.Kind, during.Form = schema.Any, `\["2026-0[1-9]-0[1-9]","2027-0[1-9]-0[1-9]"\)`
	db.Tables[0].Exclusions = []schema.Exclusion{
		{Name: "apart", Columns: []string{"room", "during"}, Operators: []string{"=", "&&"}},
	}
	text, _ := drafted(t, db, Options{})
	assert.Contains(t, text, "during_point: {between: [2024-01-01, 2028-12-31], unique: true}")
	_, c := drafted(t, db, Options{Rows: 20_000})
	n, rooms := grown(t, c, "Booking", "room")
	assert.Equal(t, 20_000, n)
	assert.Equal(t, 20_000, rooms, "more than there are points")
}

// A table of a sub-type has a row for nearly each row of its type.
func TestTablesOfSubTypes(t *testing.T) {
	text, c := drafted(t, surveyed(t, `
CREATE TABLE accounts (id INTEGER PRIMARY KEY, kind TEXT NOT NULL CHECK (kind IN ('asset', 'debt')), UNIQUE (id, kind));
CREATE TABLE asset_accounts (account_id INTEGER PRIMARY KEY, kind TEXT NOT NULL CHECK (kind = 'asset'),
  FOREIGN KEY (account_id, kind) REFERENCES accounts (id, kind));
`), Options{Rows: 1000})
	assert.Equal(
		t,
		"{pick: Account, where: {kind: [asset]}, unique: true}",
		strings.ReplaceAll(line(t, text, "AssetAccount", "account_id"), `"`, ""),
	)
	n, different := grown(t, c, "AssetAccount", "account_id")
	assert.Equal(t, 450, n)
	assert.Equal(t, 450, different)
}

// Numbers that a condition over several columns singles out are among the values.
func TestNumbersThatConditionsSingleOut(t *testing.T) {
	text, c := drafted(
		t,
		surveyed(
			t,
			"CREATE TABLE nodes (id INTEGER PRIMARY KEY, parent_id INTEGER REFERENCES nodes, depth INTEGER NOT "+
				"NULL, CHECK ((parent_id IS NULL) = (depth = 0)));",
		),
		Options{},
	)
	assert.Equal(t, "{choose: [0, 1, 2]}", line(t, text, "Node", "depth"))
	n, _ := grown(t, c, "Node")
	assert.Equal(t, 100, n)
}

// What only the database can compute is put to it with values, of several columns too.
func TestTheDatabaseIsAsked(t *testing.T) {
	db := surveyed(
		t,
		"CREATE TABLE things (id INTEGER PRIMARY KEY, a INTEGER NOT NULL, b INTEGER NOT NULL, c TEXT NOT NULL, e "+
			"TEXT, d TEXT NOT NULL);",
	)
	db.Tables[0].Checks = []schema.Check{
		{Expression: "far(a, b)"},
		{Expression: "signal(c)"},
		{Expression: "stamp(e)"},
		{Expression: "never(d)"},
	}
	asked := map[string]int{}
	probe := func(_ context.Context, columns []*schema.Column, condition string, rows [][]value.Value) ([]bool, error) {
		asked[condition]++
		out := make([]bool, len(rows))
		for i, r := range rows {
			switch condition {
			case "far(a, b)":
				out[i] = len(columns) == 2 && r[0].N > r[1].N+20
			case "signal(c)":
				out[i] = strings.ToUpper(r[0].S) == r[0].S
			case "stamp(e)":
				_, err := time.Parse(time.DateTime, r[0].S)
				out[i] = err == nil // and NULL is none
			}
		}
		return out, nil
	}
	d, err := Make(t.Context(), db, Options{Name: "x", Probe: probe})
	require.NoError(t, err)
	assert.Equal(t, []Left{{Table: "things", Reason: "no value is known that satisfies CHECK (never(d))"}}, d.Left)
	db.Tables[0].Checks = db.Tables[0].Checks[:3]
	d, err = Make(t.Context(), db, Options{Name: "x", Probe: probe})
	require.NoError(t, err)
	text := d.Write(Options{Name: "x"})
	assert.Equal(t, `{pattern: "[A-Z]{8}"}`, line(t, text, "Thing", "c"))
	assert.Regexp(t, `^\{pattern: "202.*:\[0-5\]\[0-9\]"\}$`, line(t, text, "Thing", "e"), "and no share of NULL")
	var a, b int
	_, err = fmt.Sscanf(line(t, text, "Thing", "a")+line(t, text, "Thing", "b"), "{choose: [%d]}{choose: [%d]}", &a, &b)
	require.NoError(t, err, text)
	assert.Greater(t, a, b+20)
}

func TestNaming(t *testing.T) {
	text, _ := drafted(
		t,
		surveyed(
			t,
			"CREATE TABLE things (id INTEGER PRIMARY KEY, given_name TEXT, n1 INTEGER CHECK (n1 > 3), n2 INTEGER, "+
				"CHECK (n2 <> n1));",
		),
		Options{Names: lexicon.Camel},
	)
	assert.Contains(t, line(t, text, "Thing", "givenName"), "{kind: given-name")
}
