package main

import (
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const sharedTables = `CREATE TABLE regions (id {key}, code VARCHAR(5) NOT NULL UNIQUE, name VARCHAR(60) NOT NULL);
CREATE TABLE zones (code VARCHAR(5) PRIMARY KEY, region_id INTEGER NOT NULL,
  FOREIGN KEY (region_id) REFERENCES regions (id));
CREATE TABLE shops (id {key}, name VARCHAR(40) NOT NULL, region_id INTEGER NOT NULL, zone VARCHAR(5),
  FOREIGN KEY (region_id) REFERENCES regions (id), FOREIGN KEY (zone) REFERENCES zones (code));
`

const regionPlan = `name: regions
seed: r
clock: 2026-05-01T08:00:00Z
entities:
  Region:
    table: regions
    keys: database
    given:
      north: {code: N, name: North}
      south: {code: S, name: South}
    rows: 3
    fields: {code: {pattern: "[A-Z]{3}", unique: true}, name: {kind: locality}}
`

const zonePlan = `name: zones
seed: z
clock: 2026-05-01T08:00:00Z
builds_on: regions.yaml
entities:
  Zone:
    table: zones
    given:
      port: {code: PORT, region: Region.south}
      hill: {code: HILL, region: Region.north}
`

const shopPlan = `name: shops
seed: s
clock: 2026-06-01T08:00:00Z
builds_on: [plans/zones.yaml]
entities:
  Shop:
    table: shops
    rows: 20
    given:
      main: {name: Main, region: Region.south, zone: Zone.port}
    fields: {id: {count: 100}, name: {text: "Shop {id}"}, region: {pick: Region}, zone: {pick: Zone, nulls: 50%}}
`

// sharedPlans writes the three plans.
func (s *site) sharedPlans(t *testing.T) {
	require.NoError(t, os.MkdirAll(s.file("plans"), 0o755))
	s.write("plans/regions.yaml", regionPlan)
	s.write("plans/zones.yaml", zonePlan)
	s.write("evensprout.yaml", shopPlan)
}

// A plan refers to the rows of the plans that it builds on; a load loads those first that are not there, once, and the
// journal knows what the rows were grown from, whatever becomes of the files.
func TestPlansThatBuildOnOthers(t *testing.T) {
	onTables(t, sharedTables, shopPlan, func(t *testing.T, s *site) {
		s.sharedPlans(t)
		// Keys of regions are not those that would be planned.
		s.exec(t, "INSERT INTO regions (code, name) VALUES ('OLD', 'there before')")
		r := s.on("check")
		assert.Equal(t, 4, r.code)
		assert.Contains(
			t,
			r.errOut,
			"5 of 5 rows of plans/regions.yaml are not in the table regions, such as Region.north",
		)
		assert.Contains(t, r.errOut, "evensprout load plans/regions.yaml loads them")
		require.Zero(t, s.on("load", "plans/regions.yaml").code)
		assert.NotContains(t, s.on("check").errOut, "regions.yaml", "what the hint says works")
		require.Zero(t, s.on("withdraw").code)
		r = s.on("load")
		require.Zero(t, r.code, r.errOut)
		assert.Contains(t, r.errOut, "note: plans/regions.yaml is loaded first: 5 rows")
		assert.Contains(t, r.errOut, "note: plans/zones.yaml is loaded first: 2 rows")
		assert.Contains(t, s.on("check").out, "1 entity")
		assert.Contains(t, s.on("look", "shops", "--where", "name = 'Main'").out, "South")
		assert.NotContains(
			t,
			s.on("look", "shops", "--limit", "50").out,
			"there before",
			"only rows of the plan are picked",
		)
		r = s.on("load")
		assert.Contains(t, r.out, "Nothing to do")
		assert.NotContains(t, r.errOut, "loaded first")

		r = s.on("add", "Shop", "region=Region.north", "zone=hill")
		require.Zero(t, r.code, r.errOut)
		assert.Contains(t, r.out, "North")
		require.Zero(t, s.on("withdraw").code)

		s.write("evensprout.yaml", strings.Replace(shopPlan, "rows: 20", "rows: 25", 1))
		r = s.on("load")
		require.Zero(t, r.code, r.errOut)
		assert.Contains(t, r.out, "5", "only what is new")
		require.NoError(t, os.Rename(s.file("plans"), s.file("moved")))
		r = s.on("compare", "--load", s.lastLoad(t))
		assert.Zero(t, r.code, r.errOut)
		require.NoError(t, os.Rename(s.file("moved"), s.file("plans")))
		r = s.on("compare")
		require.Zero(t, r.code, r.errOut)
		before := s.rows(t)
		r = s.on("load", "--anew")
		require.Zero(t, r.code, r.errOut)
		assert.Empty(t, difference(before, s.rows(t)))

		during := s.sh("true")
		assert.Zero(t, during.code, during.errOut)
		assert.Contains(t, s.sh("true").errOut, "copied", "a filled database is used again")
		s.write("plans/regions.yaml", strings.Replace(regionPlan, "rows: 3", "rows: 4", 1))
		assert.Contains(t, s.sh("true").errOut, "plans/regions.yaml is loaded first: 6 rows", "but not with other rows")
	})
}

// Rows depend on what the plan says of those that they refer to, not on what was done to these since; keys are those of
// the table.
func TestRowsOfABaseAreThoseOfItsPlan(t *testing.T) {
	onTables(t, `CREATE TABLE fares (id {key}, code VARCHAR(5) NOT NULL UNIQUE, price DECIMAL(8,2) NOT NULL);
CREATE TABLE sales (id {key}, fare_id INTEGER NOT NULL, price DECIMAL(8,2) NOT NULL,
  FOREIGN KEY (fare_id) REFERENCES fares (id));`, `name: sales
seed: s
clock: 2026-05-01T08:00:00Z
builds_on: fares.yaml
entities:
  Sale: {table: sales, rows: 20, fields: {fare: {pick: Fare, column: fare_id}, price: {same: fare.price}}}
`, func(t *testing.T, s *site) {
		s.write("fares.yaml", `name: fares
seed: s
clock: 2026-05-01T08:00:00Z
entities:
  Fare:
    table: fares
    keys: database
    given: {deck: {code: DECK, price: 4.50}, cabin: {code: CABIN, price: 19.00}}
`)
		s.exec(t, "INSERT INTO fares (code, price) VALUES ('OLD', 1.00)")
		require.Zero(t, s.on("load").code)
		before := s.column(t, "sales", "price")
		assert.Equal(t, []string{"19.00", "4.50"}, unique(before))
		s.exec(t, "UPDATE fares SET price = 99.00")
		r := s.on("load", "--anew")
		require.Zero(t, r.code, r.errOut)
		assert.Equal(t, before, s.column(t, "sales", "price"))
		assert.Zero(t, s.on("compare").code)
	})
}

// unique are the distinct values, in order.
func unique(values []string) []string { return slices.Compact(slices.Sorted(slices.Values(values))) }

// lastLoad is the number of the last load of the shops.
func (s *site) lastLoad(t *testing.T) string {
	t.Helper()
	r := s.on("history")
	last := ""
	for _, line := range strings.Split(r.out, "\n") {
		if fields := strings.Fields(line); len(fields) > 2 && fields[1] == "shops" {
			last = fields[0]
		}
	}
	require.NotEmpty(t, last, r.out)
	return last
}

// A load that waits for its tables loads what it builds on once they are there; a run beside others leaves that loaded;
// an export stands on its own.
func TestPlansThatBuildOnOthersElsewhere(t *testing.T) {
	onTables(t, "CREATE TABLE others (id {key});", shopPlan, func(t *testing.T, s *site) {
		s.sharedPlans(t)
		done := make(chan result)
		go func() { done <- s.on("load", "--wait", "60s") }()
		time.Sleep(300 * time.Millisecond)
		for _, statement := range strings.SplitAfter(strings.ReplaceAll(sharedTables, "{key}", s.key), ";\n") {
			if strings.TrimSpace(statement) != "" {
				s.exec(t, strings.TrimSpace(statement))
			}
		}
		r := <-done
		require.Zero(t, r.code, r.errOut)
		assert.Contains(t, r.errOut, "plans/regions.yaml is loaded first: 5 rows")

		r = s.on("export", "--out", "rows")
		require.Zero(t, r.code, r.errOut)
		for _, name := range []string{"Region", "Zone", "Shop"} {
			assert.FileExists(t, s.file("rows/"+name+".csv"))
		}
		r = s.on("export", "--migration", "0001_shops", "--out", "scripts")
		require.Zero(t, r.code, r.errOut)
		assert.NotContains(t, s.read("scripts/0001_shops.insert.sql"), "there before")
		assert.NotContains(t, r.out, "Region", "a migration has this plan's rows alone")

		require.Zero(t, s.on("withdraw").code)
		for _, p := range []string{"plans/zones.yaml", "plans/regions.yaml"} {
			require.Zero(t, s.on("withdraw", p).code)
		}
		r = s.run("during", "--shared", "--db", s.url, "--", "true")
		require.Zero(t, r.code, r.errOut)
		assert.Contains(t, r.errOut, "what the plan builds on stays loaded")
		assert.Len(t, s.column(t, "regions", "code"), 5)
		assert.Empty(t, s.column(t, "shops", "name"))
	})
}

// A folder of plans is loaded in the order in which they build on each other.
func TestAFolderOfPlans(t *testing.T) {
	onTables(t, sharedTables, shopPlan, func(t *testing.T, s *site) {
		s.sharedPlans(t)
		s.write("plans/a-shops.yaml", strings.Replace(shopPlan, "plans/zones.yaml", "zones.yaml", 1))
		require.NoError(t, os.Remove(s.file("evensprout.yaml")))
		r := s.on("load", "plans")
		require.Zero(t, r.code, r.errOut)
		var order []string
		for _, line := range strings.Split(r.out, "\n") {
			if strings.HasSuffix(line, ".yaml") {
				order = append(order, strings.TrimPrefix(line, "plans/"))
			}
		}
		assert.Equal(t, []string{"regions.yaml", "zones.yaml", "a-shops.yaml"}, order)
		s.write("plans/b-shops.yaml", strings.Replace(shopPlan, "plans/zones.yaml", "zones.yaml", 1))
		assert.Contains(
			t,
			s.on("load", "plans").errOut,
			"a-shops.yaml and plans/b-shops.yaml both plan the table shops",
		)
		require.NoError(t, os.Mkdir(s.file("empty"), 0o755))
		assert.Contains(t, s.on("load", "empty").errOut, "empty has no plans")
	})
}

// Without a database, the rows of the other plan are those that it generates.
func TestAPreviewOfAPlanThatBuildsOnOthers(t *testing.T) {
	s := &site{folder: newFolder(t)}
	s.sharedPlans(t)
	r := s.run("preview", "--entity", "Shop")
	require.Zero(t, r.code, r.errOut)
	assert.Contains(t, r.out, "Region.south")
	assert.Contains(t, r.out, "Zone.port")
	s.write("evensprout.yaml", strings.Replace(shopPlan, "[plans/zones.yaml]", "[plans/regions.yaml, "+
		"plans/zones.yaml]", 1))
	two := s.run("preview", "--entity", "Shop")
	require.Zero(t, two.code, two.errOut)
	assert.Equal(t, r.out, two.out, "a plan on which two others build")
	s.write("evensprout.yaml", strings.Replace(shopPlan, "Region.south", "Region.suoth", 1))
	assert.Contains(t, s.run("preview").errOut, "did you mean Region.south?")
}

func TestPlansThatCannotBuildOnOthers(t *testing.T) {
	s := &site{folder: newFolder(t)}
	s.makeDB("a.db", strings.ReplaceAll(sharedTables, "{key}", "INTEGER PRIMARY KEY"))
	for name, x := range map[string]struct{ file, from, to, message string }{
		"itself": {"plans/regions.yaml", "entities:", "builds_on: regions.yaml\nentities:", "circle: " +
			"regions.yaml builds on itself"},
		"a circle": {"plans/regions.yaml", "entities:", "builds_on: ../evensprout.yaml\nentities:", "circle: " +
			"../evensprout.yaml builds on itself"},
		"no plan":       {"evensprout.yaml", "plans/zones.yaml", "plans/none.yaml", "there is no plan plans/none.yaml"},
		"a wrong plan":  {"plans/regions.yaml", "rows: 3", "rows: -3", "plans/regions.yaml:"},
		"the same name": {"evensprout.yaml", "  Shop:", "  Zone:", "Zone is also an entity of plans/zones.yaml"},
		"the same table": {"evensprout.yaml", "  Shop:\n    table: shops", "  Area:\n    table: zones\n    given: " +
			"{a: {code: A, " +
			"region: Region.north}}\n  Shop:\n    table: shops", "both use the table zones"},
		"children": {"evensprout.yaml", "rows: 20", "per: {Region: 2}", "rows cannot be planned per row of " +
			"another plan"},
		"not a path":           {"evensprout.yaml", "[plans/zones.yaml]", "{a: b}", "builds_on"},
		"a field that is none": {"evensprout.yaml", "zone: {pick", "zoen: {pick", "zoen"},
	} {
		s.sharedPlans(t)
		text := s.read(x.file)
		require.Contains(t, text, x.from, name)
		s.write(x.file, strings.Replace(text, x.from, x.to, 1))
		r := s.run("load", "--db", "sqlite:a.db")
		assert.NotZero(t, r.code, name)
		assert.Contains(t, r.errOut, x.message, name)
		assert.Equal(t, []string{"0"}, s.query("a.db", "SELECT count(*) FROM regions"), "%s: nothing is written", name)
	}
}

// A plan that plans no rows of its own runs its units, and says nothing about tables that have rows.
func TestUnitsBesideExistingRows(t *testing.T) {
	f := newFolder(t)
	f.makeDB("a.db", "CREATE TABLE boats (id INTEGER PRIMARY KEY, trips INTEGER NOT NULL); INSERT INTO boats "+
		"VALUES (1, 0)")
	f.write("evensprout.yaml", "name: sail\nseed: s\nclock: 2026-05-01T08:00:00Z\ndatabase: sqlite:a.db\nentities:\n"+
		"  Boat: {table: boats, rows: existing}\nunits:\n  sail:\n    steps:\n      - update: Boat\n        "+
		"match: {id: 1}\n"+
		"        set: {trips: trips + 1}\n")
	r := f.run("load")
	require.Zero(t, r.code, r.errOut)
	assert.NotContains(t, r.out, "when: empty")
	assert.Contains(t, r.out, "update Boat")
	assert.Contains(t, f.run("look", "boats", "--counts").out, "trips")
}

// What is loaded first keeps a journal only if the load does.
func TestBasesWithoutAJournal(t *testing.T) {
	s := &site{folder: newFolder(t)}
	s.makeDB("a.db", strings.ReplaceAll(sharedTables, "{key}", "INTEGER PRIMARY KEY"))
	s.sharedPlans(t)
	r := s.run("load", "--db", "sqlite:a.db", "--no-journal")
	require.Zero(t, r.code, r.errOut)
	assert.Equal(t, []string{"0"}, s.query("a.db", "SELECT count(*) FROM sqlite_schema WHERE name LIKE 'evensprout%'"))
}
