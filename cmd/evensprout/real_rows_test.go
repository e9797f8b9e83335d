package main

import (
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/bcrypt"
)

const userTables = `
CREATE TABLE users (id {key}, email VARCHAR(120) NOT NULL UNIQUE, password_hash VARCHAR(100) NOT NULL);`

const userPlan = `name: users
seed: s
clock: 2026-05-01T08:00:00Z
entities:
  User:
    table: users
    rows: 3
    shared: {who: {kind: person}}
    fields:
      email:         {from: who.email, unique: true}
      password_hash: {login: "letmein", as: bcrypt, cost: 5}
    given:
      ada: {email: ada@example.com}
`

// A made-up user can log in: the stored hash is one of the password, and load says who can.
func TestUsersCanLogIn(t *testing.T) {
	onTables(t, userTables, userPlan, func(t *testing.T, s *site) {
		r := s.on("load")
		require.Zero(t, r.code, r.errOut)
		assert.Contains(
			t,
			r.out,
			"You can log in to your application as, for example:\n  ada@example.com (User.ada), "+
				"password letmein\n",
		)
		hashes := s.column(t, "users", "password_hash")
		require.Len(t, hashes, 4)
		for _, hash := range hashes {
			require.NoError(t, bcrypt.CompareHashAndPassword([]byte(hash), []byte("letmein")))
			assert.Equal(t, hashes[0], hash, "one hash is computed once")
		}
		assert.Zero(t, s.on("compare").code)

		s.write("evensprout.yaml", strings.Replace(userPlan, "cost: 5", "cost: 4, salt: each", 1))
		r = s.on("load", "--anew", "--json")
		require.Zero(t, r.code, r.errOut)
		hashes = s.column(t, "users", "password_hash")
		assert.NotEqual(t, hashes[0], hashes[1], "each row has a salt of its own")
		for _, hash := range hashes {
			require.NoError(t, bcrypt.CompareHashAndPassword([]byte(hash), []byte("letmein")))
		}
		assert.Zero(t, s.on("compare").code)
	})
}

// Users with known passwords go to another machine only if that is said, too.
func TestLoginsStayOnThisMachine(t *testing.T) {
	f := newFolder(t)
	f.write("evensprout.yaml", userPlan)
	args := []string{"--db", "postgres://me@quay.example/app", "--allow-host", "quay.example"}
	for _, command := range [][]string{{"load"}, {"load", "--dry-run"}, {"load", "--anew"}} {
		r := f.run(append(command, args...)...)
		assert.Equal(t, 2, r.code, r.errOut)
		assert.Contains(
			t,
			r.errOut,
			"the plan has users with known passwords (login), and quay.example is not this machine",
		)
		assert.Contains(t, r.errOut, "--allow-logins")
	}
	r := f.run(append([]string{"load", "--allow-logins"}, args...)...)
	assert.Equal(t, 4, r.code, "now it is tried, and there is no such host")
	for _, hidden := range []string{
		"shared: {who: {kind: person}, pw: {login: x, as: bcrypt}}",
		`shared: {pw: {case: {"1 = 1": {login: x, as: bcrypt}}}}`,
		"meets: []\n    profiles: {p: {share: 1, fields: {email: {login: x, as: bcrypt}}}}",
	} {
		f.write(
			"evensprout.yaml",
			strings.Replace(strings.Replace(userPlan, "shared: {who: {kind: person}}", hidden, 1),
				`{login: "letmein", as: bcrypt, cost: 5}`, "x", 1),
		)
		r := f.run(append([]string{"load"}, args...)...)
		assert.Contains(t, r.errOut, "known passwords", hidden)
	}
}

const callTables = `
CREATE TABLE calls (id {key}, code CHAR(2) NOT NULL, town VARCHAR(40) NOT NULL, vessel VARCHAR(40) NOT NULL UNIQUE);`

const callPlan = `name: calls
seed: s
clock: 2026-05-01T08:00:00Z
kinds:
  vessel: {file: vessels.txt}
  stop:   {file: stops.csv, weight: calls}
entities:
  Call:
    table: calls
    rows: 40
    shared: {at: {kind: stop}}
    fields:
      code:   {from: at.code}
      town:   {from: at.town}
      vessel: {kind: vessel, unique: true}
`

// A list beside the plan is a kind: its entries keep their weights, their parts agree, and the journal keeps the
// list with the load.
func TestOwnKinds(t *testing.T) {
	vessels := strings.Builder{}
	for _, a := range []string{"Red", "Blue", "Old", "Far", "Low", "High", "North", "South"} {
		for _, b := range []string{"Heron", "Teal", "Kestrel", "Otter", "Grebe", "Swift"} {
			vessels.WriteString(a + " " + b + "\n\n")
		}
	}
	onTables(t, callTables, callPlan, func(t *testing.T, s *site) {
		s.write("vessels.txt", vessels.String())
		s.write("stops.csv", "code,town,calls\nLW,Larkwater,6\nFF,Far Ferry,2.5\nOE,Otter End,1.5\n")
		r := s.on("load")
		require.Zero(t, r.code, r.errOut)
		towns := map[string]int{}
		codes := s.column(t, "calls", "code")
		for i, town := range s.column(t, "calls", "town") {
			towns[town]++
			assert.Equal(
				t,
				map[string]string{"LW": "Larkwater", "FF": "Far Ferry", "OE": "Otter End"}[codes[i]],
				town,
			)
		}
		assert.InDelta(t, 24, towns["Larkwater"], 2)
		assert.InDelta(t, 10, towns["Far Ferry"], 2)

		s.write("stops.csv", "code,town,calls\nLW,Larkwater,6\nFF,Far Ferry,2.5\nOE,Otter Bay,1.5\n")
		r = s.on("load")
		assert.Equal(t, 4, r.code, r.out)
		assert.Contains(t, r.errOut, "stops.csv")
		assert.Zero(t, s.on("compare").code, "the rows are as the list was")
		require.Zero(t, s.on("load", "--anew").code)
		assert.Contains(t, s.column(t, "calls", "town"), "Otter Bay")
	})
}

// What is wrong with a list is reported at its place.
func TestOwnKindsThatAreWrong(t *testing.T) {
	f := newFolder(t)
	for name, c := range map[string]struct{ vessels, stops, old, new, want string }{
		"no file":       {"", "", "vessels.txt", "none.txt", "evensprout.yaml:5:18: none.txt: there is no such file"},
		"no weight":     {"", "", "weight: calls", "weight: cals", `did you mean "calls"?`},
		"a bad weight":  {"", "code,town,calls\nLW,Larkwater,-1\n", "", "", "stops.csv:2:1: stop: the weight must be"},
		"all weights 0": {"", "code,town,calls\nLW,Larkwater,0\n", "", "", "all weights are 0"},
		"too few":       {"Kestrel\nHeron\n", "", "", "", "40"},
		"empty":         {"\n\n", "", "", "", "vessels.txt: the list is empty"},
		"no text":       {"a\x00b\n", "", "", "", "vessels.txt:1"},
		"a parameter":   {"", "", "{kind: vessel, ", "{kind: vessel, locale: de, ", "vessel has no parameter locale"},
		"no part":       {"", "", "at.town", "at.twn", "stop has no part twn"},
		"parts":         {"", "", "{from: at.town}", "{kind: stop}", "stop has parts"},
	} {
		vessels, stops := c.vessels, c.stops
		if vessels == "" {
			vessels = "Kestrel\nHeron\nTeal\n"
		}
		if stops == "" {
			stops = "code,town,calls\nLW,Larkwater,6\n"
		}
		f.write("vessels.txt", vessels)
		f.write("stops.csv", stops)
		f.write(
			"evensprout.yaml",
			strings.Replace(strings.Replace(callPlan, c.old, c.new, 1), "rows: 40", "rows: 40", 1),
		)
		r := f.run("check")
		assert.Equal(t, 3, r.code, name)
		assert.Contains(t, r.errOut, c.want, name)
	}
}

const oddTables = `
CREATE TABLE passengers (id {key}, name VARCHAR(80) NOT NULL, note VARCHAR(200), town VARCHAR(12),
  joined TIMESTAMP NOT NULL, seen TIMESTAMP NOT NULL, born DATE NOT NULL, points INTEGER NOT NULL,
  fare DECIMAL(6,2) NOT NULL, CHECK (points <> 0));`

const oddPlan = `name: odd
seed: s
clock: 2026-05-01T08:00:00Z
awkward: 40%
entities:
  Passenger:
    table: passengers
    rows: 2000
    shared: {who: {kind: person}}
    fields:
      name:   {from: who.name}
      note:   {kind: sentence, nulls: 10%, awkward: {share: 60%, longest: 80}}
      town:   {kind: locality, awkward: {share: 60%, longest: 12}}
      joined: {before: clock, within: 900d}
      seen:   {after: joined, before: clock, within: 30d}
      born:   {between: [1940-01-01, 2008-12-31]}
      points: {between: [-5, 500]}
      fare:   {between: [0.00, 999.99], shape: normal}
    meets: [points <> 0]
`

// Awkward values reach each engine and come back as they are; load counts them, preview lists them.
func TestAwkwardValues(t *testing.T) {
	onTables(t, oddTables, oddPlan, func(t *testing.T, s *site) {
		var loaded struct {
			Entities []struct{ Awkward map[string]int }
		}
		r := s.on("load", "--json")
		require.Zero(t, r.code, r.errOut)
		require.NoError(t, json.Unmarshal([]byte(r.out), &loaded))
		r = s.on("compare")
		assert.Zero(t, r.code, r.out)
		notes := map[string]int{}
		for _, x := range s.column(t, "passengers", "note") {
			notes[x]++
		}
		for _, text := range []string{"", " ", "=1+1", "NULL", "'; DROP TABLE t; --",
			"\U0001d4d4\U0001d4ff\U0001d4ee\U0001d4f7 \U0001f986"} {
			assert.Positive(t, notes[text], text)
		}
		assert.NotContains(t, s.column(t, "passengers", "points"), "0", "conditions hold")
		for _, name := range []string{"text.rtl", "text.longest", "moment.leap-day", "moment.dst-skipped",
			"number.largest", "number.many-decimals", "moment.last"} {
			assert.Positive(t, loaded.Entities[0].Awkward[name], name)
		}
		assert.Zero(t, loaded.Entities[0].Awkward["number.zero"])

		var listed struct {
			Entities []struct {
				Fields map[string][]struct {
					Name string
					Rows int
				}
			}
		}
		r = s.run("preview", "--awkward", "--json")
		require.NoError(t, json.Unmarshal([]byte(r.out), &listed))
		sums := map[string]int{}
		for _, list := range listed.Entities[0].Fields {
			for _, x := range list {
				sums[x.Name] += x.Rows
			}
		}
		assert.Equal(t, loaded.Entities[0].Awkward, sums, "what is listed is what was counted")
		require.Zero(t, s.on("withdraw").code)
	})
}

// The command line can mix awkward values in; the journal keeps the plan with them.
func TestAwkwardOnTheCommandLine(t *testing.T) {
	plain := strings.NewReplacer("awkward: 40%\n", "", ", awkward: {share: 60%, longest: 80}", "",
		", awkward: {share: 60%, longest: 12}", "").Replace(oddPlan)
	f := newFolder(t)
	f.write("evensprout.yaml", plain)
	f.makeDB("odd.db", strings.ReplaceAll(oddTables, "{key}", "INTEGER PRIMARY KEY"))
	r := f.run("load", "--awkward", "3%", "--db", "sqlite:odd.db")
	require.Zero(t, r.code, r.errOut)
	assert.Contains(t, r.out, "awkward values (preview --awkward lists them):\n  moment ")
	assert.Zero(t, f.run("compare", "--db", "sqlite:odd.db").code)
	r = f.run("load", "--db", "sqlite:odd.db")
	assert.Contains(t, r.errOut, "awkward is gone; it was 3%")
	r = f.run("preview", "--awkward")
	assert.Contains(t, r.errOut, "the plan mixes in no awkward values; these are what load --awkward 2% would add")
	assert.Contains(t, r.out, "text.sql")
	assert.NotContains(t, r.out, "\u202e", "what acts on a terminal is shown as an escape")
	for args, want := range map[string]string{
		"load --awkward 300%":             "must be a share between 0% and 100%",
		"load --awkward x":                "must be a share between 0% and 100%",
		"preview --awkward --spread":      "use only one of",
		"check --awkward 2% in-line.yaml": "cannot be combined with a plan in one line",
		"check --awkward 2% odd.yaml":     "the plan has awkward: already",
	} {
		f.write(
			"in-line.yaml",
			`{name: a, seed: s, clock: 2026-05-01T08:00:00Z, entities: {A: {rows: 1, fields: {n: 1}}}}`,
		)
		f.write("odd.yaml", oddPlan)
		r := f.run(strings.Fields(args)...)
		assert.Equal(t, 2, r.code, args)
		assert.Contains(t, r.errOut, want, args)
	}
}

const memberTables = `
CREATE TABLE ports (id {key}, code CHAR(1) NOT NULL UNIQUE);
CREATE TABLE members (id {key}, name VARCHAR(80) NOT NULL, status VARCHAR(20) NOT NULL,
  port_id INTEGER REFERENCES ports (id),
  barred_at DATE);
CREATE TABLE trips (id {key}, member_id INTEGER NOT NULL REFERENCES members (id));`

const memberPlan = `name: members
seed: s
clock: 2026-05-01T08:00:00Z
entities:
  Port: {table: ports, keys: database, given: [[code], [A], [B], [C]]}
  Member:
    table: members
    keys: database
    rows: 1000
    fields:
      name:   {kind: name}
      status: active
      port:   {pick: Port, where: {code: [A, B]}}
    profiles:
      regular: {share: 70, per: {Trip: 2..4}}
      lapsed:  {share: 25, fields: {status: dormant, port: {pick: Port, where: {code: C}}}}
      barred:
        share: 5
        per: {Trip: 0}
        fields: {status: barred, port: null, barred_at: {before: 2026-05-01, within: 90d}}
    given:
      ada: {name: Ada Quill, profile: barred}
  Trip: {table: trips, keys: database, per: {Member: 1}}
`

// The rows of a profile agree across fields, references and children, also where the database gives the keys.
func TestProfiles(t *testing.T) {
	onTables(t, memberTables, memberPlan, func(t *testing.T, s *site) {
		s.exec(t, "INSERT INTO ports (code) VALUES ('Z')", "DELETE FROM ports")
		r := s.on("load")
		require.Zero(t, r.code, r.errOut)
		shares, names := map[string]int{}, s.column(t, "members", "name")
		for i, status := range s.column(t, "members", "status") {
			if shares[status]++; names[i] == "Ada Quill" {
				assert.Equal(t, "barred", status)
			}
		}
		assert.Equal(t, map[string]int{"active": 700, "dormant": 250, "barred": 51}, shares)
		for question, sql := range map[string]string{
			"lapsed members are at C": "SELECT count(*) FROM members m LEFT JOIN ports p ON p.id = m.port_id WHERE " +
				"(m.status = 'dormant') <> (coalesce(p.code, '') = 'C')",
			"barred members have a date and no port": "SELECT count(*) FROM members WHERE (status = 'barred') <> " +
				"(barred_at IS NOT NULL) OR (status = 'barred') <> (port_id IS NULL)",
			"trips are by profile": "SELECT count(*) FROM (SELECT m.status, count(t.id) AS n FROM members m LEFT " +
				"JOIN trips t ON t.member_id = m.id GROUP BY m.id, m.status) x WHERE NOT (status = 'active' AND n " +
				"BETWEEN 2 AND 4 " +
				"OR status = 'dormant' AND n = 1 OR status = 'barred' AND n = 0)",
		} {
			assert.Equal(t, "0", s.answer(t, sql), question)
		}
		assert.Zero(t, s.on("compare").code)
		s.write("evensprout.yaml", strings.Replace(memberPlan, "rows: 1000", "rows: 1500", 1))
		r = s.on("load")
		require.Zero(t, r.code, r.errOut)
		assert.Zero(t, s.on("compare").code, "more rows append")
	})
}

// answer is the only cell of a query's answer.
func (s *site) answer(t *testing.T, sql string) string {
	t.Helper()
	s.exec(t, "CREATE TABLE answers AS "+strings.Replace(sql, "count(*)", "count(*) AS n", 1))
	defer s.exec(t, "DROP TABLE answers")
	return strings.Join(s.column(t, "answers", "n"), " ")
}
