package main

import (
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const beforeMigration = `
CREATE TABLE ports (id INTEGER PRIMARY KEY, name VARCHAR(40) NOT NULL, fax VARCHAR(20), note VARCHAR(40));
CREATE TABLE old_logs (id INTEGER PRIMARY KEY, line VARCHAR(40) NOT NULL);
CREATE TABLE boats (id INTEGER PRIMARY KEY, port_id INTEGER NOT NULL REFERENCES ports (id), seats INTEGER NOT NULL);`

const portsHead = "name: ports\nedition: 1\nseed: 7\nclock: 2026-11-29T00:00:00Z\ndatabase: sqlite:a.db\n"

const migrationOfSix = `
ALTER TABLE ports DROP COLUMN fax;
ALTER TABLE ports RENAME COLUMN note TO remark;
ALTER TABLE ports ADD COLUMN city VARCHAR(40);
ALTER TABLE boats ADD COLUMN built_on DATE;
DROP TABLE old_logs;
CREATE TABLE trips (id INTEGER PRIMARY KEY, boat_id INTEGER NOT NULL REFERENCES boats (id),
    sails_at TIMESTAMP NOT NULL);`

const writtenByHand = `# Our ports: ask Ola before changing them.
name: ports
edition: 1
seed: 7
clock: 2026-11-29T00:00:00Z
database: sqlite:a.db

entities:
    Port:       # the harbour
        table: ports
        rows: 5

        fields:
            # names as on the signs
            name: {kind: words}
            fax:  {kind: tel}
            note: {kind: title, nulls: 40%}

    OldLog:
        table: old_logs
        rows: 3
        fields: {line: {kind: words}}
    # boats come last
    Boat:
        table: boats
        rows: 9
        fields:
            port:   {pick: Port, column: port_id}
            seats: {value: 12}   # all the same
`

// A migration of six changes: what is new is added, what is gone is marked, and every line of a person stays.
func TestMergingAfterAMigration(t *testing.T) {
	for name, ending := range map[string]string{"lf": "\n", "crlf": "\r\n"} {
		t.Run(name, func(t *testing.T) { mergeSixChanges(t, ending) })
	}
}

func mergeSixChanges(t *testing.T, ending string) {
	text := strings.ReplaceAll(writtenByHand, "\n", ending)
	f := newFolder(t)
	f.makeDB("a.db", beforeMigration)
	f.write("a.yaml", text)
	r := f.run("check", "a.yaml")
	require.Zero(t, r.code, r.out+r.errOut)
	r = f.run("survey", "--db", "sqlite:a.db", "--into", "a.yaml")
	require.Zero(t, r.code, r.out+r.errOut)
	assert.Contains(t, r.out, "nothing to add")
	assert.Equal(t, text, f.read("a.yaml"))

	f.makeDB("a.db", migrationOfSix)
	r = f.run("survey", "--db", "sqlite:a.db", "--into", "a.yaml", "--dry-run")
	require.Zero(t, r.code, r.errOut)
	assert.Equal(t, text, f.read("a.yaml"), "a dry run writes nothing")
	shown := r.out
	r = f.run("survey", "--db", "sqlite:a.db", "--into", "a.yaml")
	require.Zero(t, r.code, r.errOut)
	assert.Equal(t, strings.Split(shown, "This is a dry run")[0], strings.Split(r.out, "merged: a.yaml")[0])
	merged := f.read("a.yaml")
	assert.Equal(t, strings.Count(merged, "\n"), strings.Count(merged, ending), "lines end as they did")
	rest := merged
	for line := range strings.Lines(text) {
		i := strings.Index(rest, strings.TrimRight(line, "\r\n"))
		require.GreaterOrEqual(t, i, 0, "%q is no longer there, or not in its place:\n%s", line, merged)
		rest = rest[i:]
	}
	for _, want := range []string{
		"# gone: the table ports has no column for fax",
		"            remark: {kind: title, nulls: 40%}   # new; if this was note, add was: note and remove " +
			"the line of note",
		"            city: {kind: locality, nulls: 10%}   # new; if this was fax or note, add was: with that " +
			"name and remove its line",
		"# gone: the database has no table for OldLog", "            built_on: ",
		"    Trip:   # new",
	} {
		assert.Contains(t, merged, want)
	}
	assert.Contains(t, r.out, `not in the database: the database has no table or column for 3 lines of the plan`)

	r = f.run("survey", "--db", "sqlite:a.db", "--into", "a.yaml")
	require.Zero(t, r.code, r.errOut)
	assert.Equal(t, merged, f.read("a.yaml"), "merged again, nothing changes")
	assert.Contains(t, r.out, "nothing to add")
	assert.Contains(t, r.out, "for 3 lines of the plan")

	f.write("a.yaml", withoutMarked(merged))
	r = f.run("check", "a.yaml")
	assert.Zero(t, r.code, r.out+r.errOut+f.read("a.yaml"))
	r = f.run("load", "a.yaml")
	assert.Zero(t, r.code, r.out+r.errOut)
}

// withoutMarked does what the merge asks a person for.
func withoutMarked(text string) string {
	var b strings.Builder
	entity := false
	for line := range strings.Lines(text) {
		deep := strings.HasPrefix(line, "     ")
		entity = entity && deep || !deep && strings.Contains(line, "# gone:")
		if !entity && !strings.Contains(line, "# gone:") {
			b.WriteString(line)
		}
	}
	return b.String()
}

// A column under another name keeps its values when the plan says so: the merge writes how.
func TestMergingProposesARename(t *testing.T) {
	f := newFolder(t)
	f.makeDB("a.db", "CREATE TABLE ports (id INTEGER PRIMARY KEY, note VARCHAR(40))")
	f.write("a.yaml", portsHead+"entities:\n  ports:\n    rows: 5\n    fields:\n"+
		"      note: {kind: words}\n")
	require.Zero(t, f.run("load", "a.yaml").code)
	was := f.query("a.db", "SELECT note FROM ports ORDER BY id")
	f.makeDB("a.db", "ALTER TABLE ports RENAME COLUMN note TO remark")
	r := f.run("survey", "--db", "sqlite:a.db", "--into", "a.yaml")
	require.Zero(t, r.code, r.errOut)
	assert.Contains(
		t,
		f.read("a.yaml"),
		"# new; if this was note, add was: note and remove the line of note",
	)

	f.write("a.yaml", portsHead+"entities:\n  ports:\n    rows: 5\n    fields:\n"+
		"      remark: {kind: words, was: note}\n")
	require.Zero(t, f.run("load", "a.yaml").code)
	assert.Equal(t, was, f.query("a.db", "SELECT remark FROM ports ORDER BY id"))
}

// A line that survey wrote follows its column; a line that somebody has edited is theirs.
func TestMergingAfterTypesChange(t *testing.T) {
	f := newFolder(t)
	f.makeDB(
		"a.db",
		"CREATE TABLE ports (id INTEGER PRIMARY KEY, name VARCHAR(40) NOT NULL, town VARCHAR(40) NOT NULL, "+
			"seats INTEGER NOT NULL CHECK (seats BETWEEN 1 AND 90), berths INTEGER NOT NULL CHECK (berths < 50))",
	)
	r := f.run("survey", "--db", "sqlite:a.db", "--out", "a.yaml")
	require.Zero(t, r.code, r.errOut)
	drafted := f.read("a.yaml")
	assert.Contains(t, drafted, "# drafted 1: ")
	r = f.run("survey", "--into", "a.yaml")
	require.Zero(t, r.code, r.errOut)
	assert.Contains(t, r.out, "nothing to add")
	assert.Equal(t, drafted, f.read("a.yaml"))

	edited := regexp.MustCompile(`(?m)^      berths: .*$`).
		ReplaceAllString(drafted, "      berths: {value: 40}   # as agreed")
	require.NotEqual(t, drafted, edited)
	f.write("a.yaml", edited)
	f.makeDB("a.db", "DROP TABLE ports; CREATE TABLE ports (id INTEGER PRIMARY KEY, name VARCHAR(40) NOT NULL, "+
		"town VARCHAR(40), seats INTEGER NOT NULL CHECK (seats BETWEEN 200 AND 300), "+
		"berths INTEGER NOT NULL CHECK (berths < 20))")
	r = f.run("survey", "--into", "a.yaml")
	require.Zero(t, r.code, r.errOut)
	assert.Contains(t, r.out, "Port.berths: the column has changed; you have edited the line, so compare it")
	assert.Contains(t, r.out, "Port.seats: the column has changed")
	merged := f.read("a.yaml")
	assert.Contains(t, merged, "      berths: {value: 40}   # as agreed\n")
	assert.Contains(t, merged, "      seats:  {between: [200, 300]")
	assert.Regexp(t, `      town: .*nulls: `, merged)
	assert.Equal(t, lineOf(edited, "      name:"), lineOf(merged, "      name:"))
	r = f.run("survey", "--into", "a.yaml")
	require.Zero(t, r.code, r.errOut)
	assert.Contains(t, r.out, "nothing to add")
	assert.Equal(t, merged, f.read("a.yaml"), "merged again, nothing changes")
	assert.Equal(t, 4, f.run("check", "a.yaml").code)
	f.write("a.yaml", strings.Replace(merged, "{value: 40}", "{value: 10}", 1))
	r = f.run("load", "a.yaml")
	assert.Zero(t, r.code, r.out+r.errOut)

	// digests that somebody has cut off or broken mean that nothing is known
	for _, marks := range []string{"", "# drafted 1: ?", "# drafted 1: AAAA"} {
		broken := regexp.MustCompile(`(?m)^# drafted 1: .*$`).ReplaceAllString(drafted, marks)
		f.write("b.yaml", broken)
		r = f.run("survey", "--into", "b.yaml")
		require.Zero(t, r.code, r.errOut)
		assert.Equal(t, lineOf(drafted, "      seats:"), lineOf(f.read("b.yaml"), "      seats:"))
	}
}

// On every engine, a draft is up to date at once, and follows what changes.
func TestMergingOnEachEngine(t *testing.T) {
	onTables(t, wareTables, "", func(t *testing.T, s *site) {
		require.Zero(t, s.on("survey", "--out", "a.yaml").code)
		drafted := s.read("a.yaml")
		r := s.on("survey", "--into", "a.yaml")
		require.Zero(t, r.code, r.errOut)
		assert.Contains(t, r.out, "nothing to add")
		assert.Equal(t, drafted, s.read("a.yaml"))

		s.exec(t, "ALTER TABLE ports ADD COLUMN city VARCHAR(40)", "ALTER TABLE wares DROP COLUMN label",
			"ALTER TABLE wares ADD COLUMN weight_kg INTEGER NOT NULL DEFAULT 1 CHECK (weight_kg BETWEEN 1 AND 90)")
		r = s.on("survey", "--into", "a.yaml")
		require.Zero(t, r.code, r.errOut)
		assert.Contains(t, r.out, "for 1 line of the plan")
		s.write("a.yaml", withoutMarked(s.read("a.yaml")))
		assert.Contains(t, s.read("a.yaml"), "      city: ")
		assert.Contains(t, s.read("a.yaml"), "      weight_kg: ")
		r = s.on("load", "a.yaml")
		assert.Zero(t, r.code, r.out+r.errOut+s.read("a.yaml"))
	})
}

// lineOf is the line that begins so.
func lineOf(text, start string) string {
	for line := range strings.Lines(text) {
		if strings.HasPrefix(line, start) {
			return line
		}
	}
	return ""
}

// Where a plan leaves no room, the merge says what is missing and leaves the line alone.
func TestMergingLeavesConflictsToAPerson(t *testing.T) {
	f := newFolder(t)
	f.makeDB("a.db", "CREATE TABLE ports (id INTEGER PRIMARY KEY, name VARCHAR(40), city VARCHAR(40))")
	text := portsHead + "entities:\n  ports: {rows: 5, fields: {name: {kind: words}}}\n"
	f.write("a.yaml", text)
	r := f.run("survey", "--db", "sqlite:a.db", "--into", "a.yaml")
	require.Zero(t, r.code, r.errOut)
	assert.Contains(t, r.out, "a.yaml:7 ports: 1 new column: add by hand, because the fields are in braces")
	assert.Contains(t, r.out, "city: ")
	assert.Equal(t, text, f.read("a.yaml"))
}

// Names of a database that carry line ends add no lines of a plan.
func TestMergingAgainstHostileNames(t *testing.T) {
	f := newFolder(t)
	f.makeDB("a.db", "CREATE TABLE \"p\nseed: 9\n#\" (id INTEGER PRIMARY KEY, \"a\n  b\" VARCHAR(40));"+
		"CREATE TABLE ports (id INTEGER PRIMARY KEY, \"x\nname: q\" VARCHAR(40), \"# gone: y\" VARCHAR(40))")
	f.write("a.yaml", portsHead+"entities:\n  ports:\n    rows: 5\n    fields:\n"+
		"      note: {kind: words}\n")
	r := f.run("survey", "--db", "sqlite:a.db", "--into", "a.yaml")
	require.Zero(t, r.code, r.errOut)
	for line := range strings.Lines(f.read("a.yaml")) {
		assert.NotRegexp(t, `^(seed: 9|name: q|  b)`, line)
	}
	f.write("a.yaml", strings.Replace(f.read("a.yaml"), "      note: {kind: words}", "      # note", 1))
	assert.Zero(t, f.run("load", "a.yaml").code)
}

func TestMergingIsRefused(t *testing.T) {
	f := newFolder(t)
	f.makeDB("a.db", "CREATE TABLE ports (id INTEGER PRIMARY KEY, name VARCHAR(40))")
	f.write("a.yaml", portsHead+"entities:\n  ports: {rows: 5}\n")
	for args, want := range map[string]string{
		"--into a.yaml --out b.yaml": "--into changes a plan, so it cannot be combined with --out",
		"--into a.yaml --json":       "--json describes the tables, so it cannot be combined with --into",
		"--dry-run":                  "--dry-run needs --into",
		"--into none.yaml":           "there is no plan none.yaml; --out writes a new one",
	} {
		r := f.run(append([]string{"survey", "--db", "sqlite:a.db"}, strings.Fields(args)...)...)
		assert.NotZero(t, r.code, args)
		assert.Contains(t, r.errOut, want, args)
	}
}
