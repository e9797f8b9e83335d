package main

import (
	"encoding/json"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Tables for the plan that uses every source.
const everyTable = `
CREATE TABLE piers (id INTEGER PRIMARY KEY, code CHAR(3) NOT NULL UNIQUE, name TEXT NOT NULL, opened DATE NOT NULL,
  depth DECIMAL(4,1) NOT NULL);
CREATE TABLE vessels (id INTEGER PRIMARY KEY, name VARCHAR(40) NOT NULL UNIQUE, pier_id INTEGER NOT NULL
  REFERENCES piers (id), open BOOLEAN NOT NULL, notes TEXT NOT NULL);
CREATE TABLE cabins (id INTEGER PRIMARY KEY, vessel_id INTEGER NOT NULL REFERENCES vessels (id),
  number INTEGER NOT NULL, berths INTEGER NOT NULL CHECK (berths IN (2, 4)), UNIQUE (vessel_id, number));
CREATE TABLE crews (id INTEGER PRIMARY KEY, boss INTEGER REFERENCES crews (id), friend INTEGER REFERENCES crews (id),
  vessel INTEGER NOT NULL REFERENCES vessels (id), home INTEGER NOT NULL REFERENCES vessels (id));
CREATE TABLE passengers (
  id INTEGER PRIMARY KEY, given_name TEXT NOT NULL, family_name TEXT NOT NULL, email TEXT NOT NULL UNIQUE,
    handle TEXT NOT NULL, seq INTEGER NOT NULL UNIQUE,
  town TEXT NOT NULL, country TEXT NOT NULL, created_at TIMESTAMP NOT NULL,
  updated_at TIMESTAMP NOT NULL CHECK (updated_at > created_at), born DATE NOT NULL,
  wakes_at TIME NOT NULL, status TEXT NOT NULL, fee DECIMAL(4,2) NOT NULL,
    barred_at TIMESTAMP, key UUID NOT NULL UNIQUE,
  stamp UUID NOT NULL UNIQUE,
  token BLOB NOT NULL, password VARCHAR(60) NOT NULL UNIQUE, photo TEXT NOT NULL UNIQUE,
  meta JSON NOT NULL, CHECK ((barred_at IS NOT NULL) = (status = 'barred')));
CREATE TABLE bookings (
  id INTEGER PRIMARY KEY, passenger_id INTEGER NOT NULL REFERENCES passengers (id), vessel_id INTEGER NOT NULL
    REFERENCES vessels (id), total DECIMAL(8,2) NOT NULL,
  tickets INTEGER NOT NULL, least DECIMAL(8,2) NOT NULL, most DECIMAL(8,2) NOT NULL CHECK (most >= least));
CREATE TABLE tickets (
  id INTEGER PRIMARY KEY, booking_id INTEGER NOT NULL REFERENCES bookings (id), cabin_id INTEGER NOT NULL
    REFERENCES cabins (id), day DATE NOT NULL, bed INTEGER NOT NULL REFERENCES cabins (id),
  price DECIMAL(8,2) NOT NULL, paid DECIMAL(8,2) NOT NULL, tax DECIMAL(8,3) NOT NULL, name TEXT NOT NULL,
    vessel_id INTEGER NOT NULL REFERENCES vessels (id), UNIQUE (cabin_id, day));
CREATE TABLE visits (
  id INTEGER PRIMARY KEY, vessel_id INTEGER NOT NULL REFERENCES vessels (id), reason TEXT NOT NULL,
  came_at TIMESTAMP NOT NULL, left_at TIMESTAMP NOT NULL CHECK (left_at > came_at), guide INTEGER NOT NULL
    REFERENCES crews (id), note TEXT NOT NULL, warned_at TIMESTAMP,
  CHECK ((warned_at IS NOT NULL) = (reason = 'storm')));
CREATE TABLE inspections (
  id INTEGER PRIMARY KEY, season TEXT NOT NULL, passed BOOLEAN NOT NULL, score INTEGER NOT NULL,
  fine DECIMAL(5,2), remark TEXT, CHECK (passed = FALSE OR score > 4), CHECK ((fine IS NULL) = passed));
CREATE TABLE notices (
  id INTEGER PRIMARY KEY, author TEXT NOT NULL, subject TEXT NOT NULL, signed TEXT NOT NULL, body TEXT NOT NULL,
  page TEXT NOT NULL, sent_at TIMESTAMP NOT NULL, read_at TIMESTAMP NOT NULL CHECK (read_at > sent_at),
  ports JSON NOT NULL, only CHAR(3) NOT NULL REFERENCES piers (code), fixed INTEGER);
CREATE TABLE accounts (id INTEGER PRIMARY KEY, opening DECIMAL(6,2) NOT NULL);
CREATE TABLE transfers (
  id INTEGER PRIMARY KEY, account_id INTEGER NOT NULL REFERENCES accounts (id), amount DECIMAL(6,2) NOT NULL,
  balance DECIMAL(8,2) NOT NULL, guest INTEGER NOT NULL REFERENCES passengers (id), UNIQUE (account_id, guest));
`

// The plan that uses every source, in a real database: what it promises holds there.
func TestEverySourceInADatabase(t *testing.T) {
	f := newFolder(t)
	plan, err := os.ReadFile("../../internal/plan/testdata/edition1.yaml")
	require.NoError(t, err)
	f.write("evensprout.yaml", strings.Replace(string(plan), "rows: 8\n", "rows: 250\n", 1))
	f.makeDB("every.db", everyTable)
	r := f.run("check", "--db", "sqlite:every.db")
	require.Zero(t, r.code, r.errOut)
	assert.Empty(t, r.errOut)
	r = f.run("load", "--db", "sqlite:every.db", "--chunk", "37", "--json")
	require.Zero(t, r.code, r.errOut)
	var loaded struct {
		Entities []struct{ Entity, Fingerprint string }
	}
	require.NoError(t, json.Unmarshal([]byte(r.out), &loaded))
	preview := f.run("preview", "--rows", "0").out
	for _, e := range loaded.Entities {
		assert.Contains(t, preview, e.Fingerprint, e.Entity)
	}
	assert.Empty(t, f.query("every.db", "PRAGMA foreign_key_check"))
	for question, sql := range map[string]string{
		"a bed is in the booking's vessel": "SELECT count(*) FROM tickets t JOIN cabins c ON c.id = t.bed JOIN " +
			"bookings b ON b.id = t.booking_id WHERE c.vessel_id <> b.vessel_id",
		"the vessel is the booking's": "SELECT count(*) FROM tickets t JOIN bookings b ON b.id = " +
			"t.booking_id WHERE t.vessel_id <> b.vessel_id",
		"totals add up": "SELECT count(*) FROM bookings b WHERE round(100*total) <> (SELECT " +
			"round(100*sum(price)) FROM tickets WHERE booking_id = b.id) OR tickets <> (SELECT count(*) FROM " +
			"tickets WHERE booking_id = b.id)",
		"running totals end at the total": "SELECT count(*) FROM bookings b WHERE round(100*total) <> (SELECT " +
			"round(100*max(paid)) FROM tickets WHERE booking_id = b.id)",
		"taxes are a fifth": "SELECT count(*) FROM tickets WHERE round(1000*tax) <> round(200*price)",
		"names agree with addresses": "SELECT count(*) FROM passengers WHERE id > 1000 AND email NOT LIKE " +
			"replace(lower(family_name), 'ć', '_') || '%' AND email NOT LIKE '%.' || " +
			"replace(replace(lower(family_name), 'ć', 'c'), 'á', 'a') || '%'",
		"home is an open vessel": "SELECT count(*) FROM crews c JOIN vessels v ON v.id = c.home WHERE " +
			"NOT v.open",
		"nobody is above the third level": "SELECT count(*) FROM crews a JOIN crews b ON b.id = a.boss JOIN " +
			"crews c ON c.id = b.boss JOIN crews d ON d.id = c.boss",
		"JSON is JSON": "SELECT count(*) FROM passengers WHERE NOT json_valid(meta)",
		"tokens are bytes": "SELECT count(*) FROM passengers WHERE typeof(token) <> 'blob' OR " +
			"length(token) NOT BETWEEN 4 AND 6",
		"the name is the passenger's": "SELECT count(*) FROM tickets t JOIN bookings b ON b.id = " +
			"t.booking_id JOIN passengers p ON p.id = b.passenger_id WHERE p.family_name <> t.name",
		"one visit in four is sudden": "SELECT count(*) <> (SELECT (count(*) + 2) / 4 FROM visits) AND abs(count(*) " +
			"* 4 - (SELECT count(*) FROM visits)) > 12 FROM visits WHERE reason = 'storm'",
		"every pair of season and remark is inspected": "SELECT count(DISTINCT season || (remark IS NULL)) <> 6 FROM " +
			"inspections",
		"the last balance is what came in": "SELECT count(*) FROM accounts a WHERE round(100*opening) + (SELECT " +
			"round(100*sum(amount)) FROM transfers WHERE account_id = a.id) <> (SELECT round(100*max(balance)) " +
			"FROM transfers WHERE account_id = a.id)",
		"notices are sent in working hours": "SELECT count(*) FROM notices WHERE substr(sent_at, 12, 2) NOT " +
			"BETWEEN '09' AND '16' OR strftime('%w', sent_at) = '6'",
		"everybody wakes on a quarter hour": "SELECT count(*) FROM passengers WHERE substr(wakes_at, 4, 2) % 15 <> " +
			"0 OR wakes_at NOT BETWEEN '05:30:00' AND '09:00:00'",
	} {
		assert.Equal(t, []string{"0"}, f.query("every.db", sql), question)
	}
	photos := f.query("every.db", "SELECT photo FROM passengers")
	assert.Len(t, photos, 251)
	for _, p := range photos[:20] {
		assert.FileExists(t, f.file("images/"+p))
	}
}

// A field that is wrong in the database's eyes is told with its row, whatever made it.
func TestRefusalsOfEverySource(t *testing.T) {
	f := newFolder(t)
	plan, err := os.ReadFile("../../internal/plan/testdata/edition1.yaml")
	require.NoError(t, err)
	f.write("evensprout.yaml", string(plan))
	for name, c := range map[string]struct {
		old, new string
		wants    []string
	}{
		"derived": {"tax DECIMAL(8,3) NOT NULL", "tax DECIMAL(8,3) NOT NULL CHECK (tax < 3.5)",
			[]string{"Ticket row", "tax", "CHECK (tax " +
				"< 3.5)"}},
		"running": {"paid DECIMAL(8,2) NOT NULL", "paid DECIMAL(4,2) NOT NULL CHECK (paid < 30)",
			[]string{"Ticket row", "paid", "CHECK (paid " +
				"< 30)"}},
		"json": {"meta JSON NOT NULL", "meta JSON NOT NULL CHECK (json_extract(meta, '$.level') < 9)",
			[]string{"Passenger " +
				"row", "meta", "json_extract"}},
		"draw": {"country TEXT NOT NULL", "country TEXT NOT NULL CHECK (country <> 'United States')",
			[]string{"Passenger", "country = United States"}},
		"sum": {"total DECIMAL(8,2) NOT NULL", "total DECIMAL(8,2) NOT NULL CHECK (total < 40)",
			[]string{"Booking row", "total", "CHECK " +
				"(total < 40)"}},
	} {
		f.makeDB(name+".db", strings.Replace(everyTable, c.old, c.new, 1))
		before := f.dump(name + ".db")
		r := f.run("load", "--db", "sqlite:"+name+".db")
		assert.Equal(t, 5, r.code, name+r.errOut)
		for _, want := range c.wants {
			assert.Contains(t, r.errOut, want, name)
		}
		assert.Equal(t, before, f.dump(name+".db"))
		assert.NoDirExists(t, f.file("images"), "no files without rows")
	}
}
