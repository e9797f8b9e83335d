package main

import (
	"encoding/json"
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const tariffTables = `CREATE TABLE regions (code VARCHAR(5) PRIMARY KEY, name VARCHAR(20) NOT NULL);
CREATE TABLE tariffs (id {key}, code VARCHAR(10) NOT NULL UNIQUE, price DECIMAL(8,2) NOT NULL,
  region VARCHAR(5) NOT NULL,
  valid_from DATE, note VARCHAR(40), FOREIGN KEY (region) REFERENCES regions (code));
CREATE TABLE stops (id {key}, region VARCHAR(5) NOT NULL, seen {moment},
  FOREIGN KEY (region) REFERENCES regions (code));
`

const tariffPlan = `name: tariff
seed: t
clock: 2026-05-01T08:00:00Z
entities:
  Region:
    table: regions
    given:
      n: {code: N, name: North}
      s: {code: S, name: South}
  Tariff:
    table: tariffs
    fields: {id: {count: 1}, valid_from: 2026-01-01, note: none}
    given:
      basic: {code: BASIC, price: 9.00, region: Region.n}
      plus: {code: PLUS, price: 19.00, region: Region.s, note: 'back\slash'}
      old: {code: OLD, price: 1.00, region: Region.s}
  Stop:
    table: stops
    rows: 20
    fields: {id: {count: 100}, region: {pick: Region}, seen: {between: [2026-01-01T00:00:00Z, 2026-02-01T00:00:00Z]}}
`

// newTariffs changes, adds and removes rows, also of what others refer to.
func newTariffs(plan string) string {
	return strings.NewReplacer("price: 9.00", "price: 9.50, note: 'it''s \\ new'", "s: {code: S, name: South}",
		"w: {code: W, name: West}", "price: 19.00, region: Region.s", "price: 19.00, region: Region.w",
		"      old: {code: OLD, price: 1.00, region: Region.s}\n",
		"      fresh: {code: FRESH, price: 29.00, region: Region.w}\n", "rows: 20", "rows: 24").Replace(plan)
}

// A migration of what changed leads from the rows of one version of the plan to those of the next, and back.
func TestMigrationsOfWhatChanged(t *testing.T) {
	tables := strings.ReplaceAll(tariffTables, "{moment}", "TIMESTAMP NULL")
	onTables(t, tables, tariffPlan, func(t *testing.T, s *site) {
		var loaded struct{ Load int64 }
		require.NoError(t, json.Unmarshal([]byte(s.on("load", "--json").out), &loaded))
		before := s.rows(t)
		s.write("old.yaml", tariffPlan)
		s.write("evensprout.yaml", newTariffs(tariffPlan))
		r := s.on("export", "--migration", "by_load", "--since", fmt.Sprint(loaded.Load))
		require.Zero(t, r.code, r.errOut)
		assert.Contains(t, r.out, "done: 5 rows added, ")
		assert.Contains(t, r.out, " and 1 removed by by_load.insert.sql, and by_load.remove.sql takes that back")
		require.Zero(t, s.on("export", "--migration", "by_plan", "--since-plan", "old.yaml").code)
		for _, of := range []string{"insert", "remove"} {
			assert.Equal(t, s.read("by_load."+of+".sql"), s.read("by_plan."+of+".sql"), of)
		}
		r = s.on("export", "--migration", "bare", "--since-plan", "old.yaml", "--no-transaction", "--no-schema")
		require.Zero(t, r.code, r.errOut)

		for _, of := range []string{"insert", "remove"} {
			s.write("run."+of+".sql", s.asRunner(s.read("bare."+of+".sql")))
		}
		for _, name := range []string{"by_load", "run"} {
			s.client(t, name+".insert.sql")
			changed := s.rows(t)
			assert.NotEqual(t, before, changed)
			want := s.loadedAnew(t)
			assert.Empty(t, difference(want, changed), "%s: as the new plan loads them", name)
			s.client(t, name+".remove.sql")
			assert.Empty(t, difference(before, s.rows(t)), "%s: and back", name)
		}
		for _, of := range []string{"insert", "remove"} {
			text := s.read("bare." + of + ".sql")
			for _, word := range []string{"BEGIN", "COMMIT", "START " +
				"TRANSACTION", "SET NAMES", "SET TimeZone", "public"} {
				assert.NotContains(t, text, word)
			}
		}
	})
}

// asRunner puts a script into a transaction of a session with settings of its own, which must be as they were behind
// it.
func (s *site) asRunner(script string) string {
	switch s.name {
	case "mariadb":
		return "SET time_zone = '+05:00', sql_mode = 'ANSI_QUOTES';\nSTART TRANSACTION;\n" + script + "COMMIT;\n" +
			"INSERT INTO regions SELECT 'ZONE', 'leaks' WHERE @@time_zone <> '+05:00' OR @@sql_mode <> 'ANSI_QUOTES';\n"
	case "postgres":
		return "SET TimeZone = 'Asia/Tokyo';\nBEGIN;\n" + script + "COMMIT;\n" +
			"INSERT INTO regions SELECT 'ZONE', 'leaks' WHERE current_setting('TimeZone') <> 'Asia/Tokyo';\n"
	}
	return "BEGIN;\n" + script + "COMMIT;\n"
}

// loadedAnew are the rows that the plan loads into a database of its own.
func (s *site) loadedAnew(t *testing.T) string {
	t.Helper()
	o := *s
	tables := strings.ReplaceAll(s.script, "{key}", s.key)
	if s.start != nil {
		o.url = s.start(t).Database(t, tables)
	} else {
		name := fmt.Sprintf("anew%d.db", len(must(os.ReadDir(s.path))))
		s.makeDB(name, tables)
		o.url = "sqlite:" + s.file(name)
	}
	r := o.on("load", "--no-journal", "--quiet")
	require.Zero(t, r.code, r.errOut)
	return o.rows(t)
}

func TestMigrationsThatAreRefused(t *testing.T) {
	f := newFolder(t)
	f.write("evensprout.yaml", "database: sqlite:a.db\n"+tariffPlan)
	f.makeDB("a.db", strings.NewReplacer("{key}", "INTEGER PRIMARY KEY", "{moment}", "TIMESTAMP").Replace(tariffTables))
	// OLD gets the code of PLUS.
	f.write(
		"swapped.yaml",
		strings.NewReplacer("code: PLUS", "code: OLD", "code: OLD", "code: PLUS").Replace(tariffPlan),
	)
	f.write("broken.yaml", "name: [")
	for args, want := range map[string]string{
		"--since 1":               "--since and --since-plan need --migration",
		"--migration m --since 7": "the journal",
		"--migration m --since 1 --since-plan old.yaml": "use only one of --since and --since-plan",
		"--migration m --since-plan none.yaml":          "none.yaml",
		"--migration m --since-plan broken.yaml":        "broken.yaml:1",
		"--format csv --no-transaction":                 "--no-transaction and --no-schema need --format sql",
		"--migration m --since-plan swapped.yaml":       `a row of tariffs takes the code "`,
	} {
		r := f.run(append([]string{"export"}, strings.Fields(args)...)...)
		assert.NotZero(t, r.code, args)
		assert.Contains(t, r.errOut, want, args)
	}
	assert.NoFileExists(t, f.file("m.insert.sql"))

	// What the hints say works.
	middle := "database: sqlite:a.db\n" + tariffPlan
	for _, line := range strings.SplitAfter(tariffPlan, "\n") {
		if strings.Contains(line, "code: PLUS") || strings.Contains(line, "code: OLD") {
			middle = strings.Replace(middle, line, "", 1)
		}
	}
	f.write("middle.yaml", middle)
	for name, args := range map[string][]string{"one": {"middle.yaml", "--since-plan", "swapped.yaml"},
		"two": {"evensprout.yaml", "--since-plan", "middle.yaml"}} {
		r := f.run(append([]string{"export", "--migration", name}, args...)...)
		assert.Zero(t, r.code, r.errOut)
	}
	f.write("large.yaml", strings.Replace(tariffPlan, "rows: 20", "rows: 1000001", 1))
	r := f.run("export", "--migration", "m", "--since-plan", "large.yaml")
	assert.Contains(t, r.errOut, "name the entities that a migration is about: --entity")
	r = f.run("export", "--migration", "m", "--since-plan", "large.yaml", "--entity", "Tariff")
	assert.Zero(t, r.code, r.errOut)
}
