package load_test

import (
	"fmt"
	"strings"
	"testing"

	"evensprout/internal/load"
	"evensprout/internal/loadtest"

	"evensprout/internal/journal"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/plan"
	"evensprout/internal/store"
)

const harbour = `
CREATE TABLE piers (id {key}, code VARCHAR(5) NOT NULL, CONSTRAINT pier_code UNIQUE (code));
CREATE TABLE boats (
  id {key}, pier_id INTEGER, label VARCHAR(6), seats SMALLINT, price DECIMAL(6,2), crew INTEGER NOT NULL, launched DATE,
  CONSTRAINT boat_pier FOREIGN KEY (pier_id) REFERENCES piers (id), CONSTRAINT enough_seats CHECK (seats < 30000),
    CONSTRAINT boat_label UNIQUE (label, crew)
);`

// trigger refuses a label, in each engine's words.
var trigger = map[string]string{
	"sqlite": `CREATE TRIGGER no_ghosts BEFORE INSERT ON boats WHEN NEW.label = 'ghost' BEGIN SELECT RAISE(ABORT, ` +
		`'no ghosts on this lake'); END;`,
	"postgres": `CREATE FUNCTION refuse() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN
  IF NEW.label = 'ghost' THEN RAISE EXCEPTION 'no ghosts on this lake'; END IF; RETURN NEW; END $$;
CREATE TRIGGER no_ghosts BEFORE INSERT ON boats FOR EACH ROW EXECUTE FUNCTION refuse();`,
	"mariadb": `CREATE TRIGGER no_ghosts BEFORE INSERT ON boats FOR EACH ROW IF NEW.label = 'ghost' THEN SIGNAL ` +
		`SQLSTATE '45000' SET MESSAGE_TEXT = 'no ghosts on this lake'; END IF;`,
}

// onEachWith runs a behaviour with a script that differs by engine.
func onEachWith(t *testing.T, script string, more map[string]string, behaviour func(t *testing.T, d *loadtest.DB)) {
	for _, e := range loadtest.Engines() {
		t.Run(e.Name, func(t *testing.T) {
			d := &loadtest.DB{Engine: e, URL: e.Make(t, e.Words.Replace(script+more[e.Name]))}
			d.Store = d.Open(t)
			behaviour(t, d)
		})
	}
}

// Every kind of violation is told with entity, row, field, value, constraint, the row
// collided with, and the engine's code; nothing stays.
func TestEveryKindOfViolationOnEveryEngine(t *testing.T) {
	boats := func(fields string) string {
		return "  Pier: {table: piers, given: {west: {code: WEST}}}\n  Boat:\n    table: boats\n    rows: 400\n    " +
			"fields:\n      crew: {count: 1}\n      " + fields + "\n"
	}
	for _, c := range []struct {
		kind, entities, row, summary, constraint string
		columns                                  []string
		byEngine                                 bool // the engine has a code for it
	}{
		{"unique", boats("label: {choose: [a, b]}\n      number: {value: 7, column: crew}") + "", `^Boat row \d+$`,
			"already exists", "boat_label|UNIQUE \\(label, crew\\)", []string{"label", "crew"}, true},
		{"foreign_key", boats("pier_id: {between: 1..2}"), `^Boat row \d+$`, `pier_id "2" refers to a row of piers`,
			"boat_pier|FOREIGN " +
				"KEY \\(pier_id\\)", []string{"pier_id"}, true},
		{"check", boats("seats: {between: [29700, 30001]}"), `^Boat row \d+$`, "does not hold", "enough_seats",
			[]string{"seats"}, true},
		{"raised", boats("label: {choose: {ok: 399, ghost: 1}}"), `^Boat row \d+$`, "no ghosts on this lake", "", nil,
			true},
		{"too_long", boats("label: {text: \"boat {crew}\"}"), `^Boat row 9$`, `label "boat 10": 7 characters are ` +
			`too long`, `(?i)(character varying|varchar)\(6\)`, []string{"label"}, false},
		{"out_of_range", boats("seats: {between: [32000, 40000]}"), `^Boat row \d+$`, "is out of range for",
			`(?i)smallint`, []string{"seats"}, false},
		{"out_of_range", boats("price: {between: [9000.00, 10010.00], step: 10}"), `^Boat row \d+$`, "is out of " +
			"range for", `(?i)(decimal|numeric)\(6,2\)`, []string{"price"}, false},
		{"not_null", "  Boat: {table: boats, rows: 9, fields: {crew: {derive: \"n > 5 ? n : int(m)\"}, n: {count: " +
			"1, column: seats}, m: {derive: n, if: {n: {not: 3}}, column: pier_id}}}\n", `^Boat row \d$`, "crew " +
			"must not be", "NOT NULL", []string{"crew"}, false},
	} {
		t.Run(c.kind+" "+strings.Join(c.columns, " "), func(t *testing.T) {
			onEachWith(t, harbour, trigger, func(t *testing.T, d *loadtest.DB) {
				entities := c.entities
				if c.kind == "unique" {
					entities = strings.Replace(entities, "      crew: {count: 1}\n", "", 1)
				}
				r := d.Refused(t, entities, load.Options{Chunk: 150})
				assert.Equal(t, store.ViolationKind(c.kind), r.Kind)
				assert.Regexp(t, c.row, r.Row)
				assert.Contains(t, r.Error(), c.summary)
				assert.Regexp(t, c.constraint, r.Constraint)
				assert.Equal(t, "boats", r.Table)
				if c.columns != nil {
					assert.ElementsMatch(t, c.columns, r.Columns)
					assert.Len(t, r.Values, len(c.columns))
				}
				if c.byEngine {
					assert.NotEmpty(t, r.Code, r.Message)
				}
				assert.NotEmpty(t, r.Message)
				if c.kind == "unique" {
					assert.Regexp(t, `^Boat row \d+.*, which this load wrote earlier$`, r.Other)
				}
			})
		})
	}
}

// An exclusion constraint, of the one engine that has them, is found by halves.
func TestExclusion(t *testing.T) {
	for _, e := range loadtest.Engines() {
		if e.Name != "postgres" {
			continue
		}
		d := &loadtest.DB{
			Engine: e,
			URL: e.Make(
				t,
				"CREATE TABLE stays (id INTEGER PRIMARY KEY, room INTEGER, nights INT4RANGE, CONSTRAINT no_overlap "+
					"EXCLUDE USING gist (nights WITH &&));",
			),
		}
		d.Store = d.Open(t)
		r := d.Refused(
			t,
			"  Stay: {table: stays, given: {a: {room: 1, nights: \"[1,5)\"}, b: {room: 2, nights: \"[5,9)\"}, c: "+
				"{room: 3, nights: \"[4,6)\"}}}\n",
			load.Options{},
		)
		assert.Equal(t, store.Exclusion, r.Kind)
		assert.Equal(t, "Stay.c", r.Row)
		assert.Equal(t, "no_overlap", r.Constraint)
		assert.Equal(t, []string{"nights"}, r.Columns)
		assert.Equal(t, []string{"[4,6)"}, r.Values)
		assert.Equal(t, "23P01", r.Code)
	}
}

// The row collided with is named by its key: one that was there before.
func TestTheOtherRowIsNamed(t *testing.T) {
	loadtest.OnEach(
		t,
		harbour+"INSERT INTO piers (id, code) VALUES (900, 'EAST');",
		func(t *testing.T, d *loadtest.DB) {
			r := d.Refused(t, "  Pier: {table: piers, given: {a: {code: WEST}, b: {code: EAST}}}\n", load.Options{})
			assert.Equal(t, "Pier.b", r.Row)
			assert.Equal(t, []string{"EAST"}, r.Values)
			assert.Equal(t, "id 900, which existed before this load", r.Other)
		},
	)
}

const families = `
CREATE TABLE guests (id {key}, email VARCHAR(60) NOT NULL UNIQUE, spent DECIMAL(8,2), stays INTEGER);
CREATE TABLE stays (id {key}, guest_id INTEGER NOT NULL REFERENCES guests (id), room INTEGER NOT NULL UNIQUE,
  price DECIMAL(8,2) NOT NULL, mail VARCHAR(60) NOT NULL);
CREATE TABLE letters (id {key}, stay_id INTEGER NOT NULL REFERENCES stays (id), text VARCHAR(20));`

// skip leaves out the smallest closed set: the row, what is below it, and rows that
// picked it; what adds up rows is computed over those that are there.
func TestSkipLeavesOutTheSmallestClosedSet(t *testing.T) {
	const entities = `  Guest:
    table: guests
    fields: {spent: {sum: Stay.price}, stays: {count_of: Stay}}
    given:
      ada: {email: ada@example.com, Stay: {one: {room: 1, price: 10.00}, two: {room: 2, price: 5.00}}}
      bo:  {email: bo@example.com, Stay: {three: {room: 3, price: 7.00}}}
  Stay:
    table: stays
    per: {Guest: 0}
    fields: {mail: {same: Guest.email}, room: {count: 100}, price: 1.00}
  Letter:
    table: letters
    given:
      x: {stay: Stay.one}
      y: {stay: Stay.two}
      z: {stay: Stay.three}
`
	with := strings.Replace(entities, "    given:\n      x", "    fields: {stay: {pick: Stay}}\n    given:\n      x", 1)
	loadtest.OnEach(t, families+`
INSERT INTO guests (id, email) VALUES (500, 'bo@example.com');
INSERT INTO stays (id, guest_id, room, price, mail) VALUES (600, 500, 1, 1, 'x');`, func(t *testing.T, d *loadtest.DB) {
		for _, commit := range []plan.Commit{plan.CommitChunk, plan.CommitLoad} {
			var left []string
			o := load.Options{
				Policies: plan.Policies{"unique": plan.Skip},
				Commit:   commit,
				DryRun:   commit == plan.CommitChunk,
				Rejected: func(r load.Rejection) error {
					left = append(left, r.Refusal.Error())
					return nil
				},
			}
			r, err := d.Load(t, with, o)
			require.NoError(t, err)
			assert.ElementsMatch(t, []string{
				`Guest.bo: email "bo@example.com" already exists`,
				`Stay.one: room "1" already exists`,
				"Stay.three: it refers to Guest.bo, which was rejected",
				"Letter.x: it refers to Stay.one, which was rejected",
				"Letter.z: it refers to Stay.three, which was rejected",
			}, left)
			assert.Equal(t, int64(5), r.Rejected)
			assert.Equal(t, int64(3), r.Rows)
		}
		assert.Equal(t, []string{"1 ada@example.com 5.00 1", "500 bo@example.com NULL NULL"}, d.Table(t, "guests"))
		assert.Equal(t, []string{"2 1 2 5.00 ada@example.com", "600 500 1 1.00 x"}, d.Table(t, "stays"))
		assert.Equal(t, []string{"2 2 NULL"}, d.Table(t, "letters"))
	})
}

func TestTooManyRejectsStop(t *testing.T) {
	loadtest.OnEach(t, harbour, func(t *testing.T, d *loadtest.DB) {
		const entities = "  Pier: {table: piers, rows: 50, fields: {code: {choose: [A, B, C]}}}\n"
		before := loadtest.Dump(t, d.Store)
		_, err := d.Load(t, entities, load.Options{Policies: plan.Policies{"all": plan.Skip}, MaxRejects: 46})
		var many *load.TooMany
		require.ErrorAs(t, err, &many)
		assert.Equal(t, before, loadtest.Dump(t, d.Store))
		r, err := d.Load(t, entities, load.Options{Policies: plan.Policies{"all": plan.Skip}, MaxRejects: 47})
		require.NoError(t, err)
		assert.Equal(t, int64(47), r.Rejected)
		assert.Len(t, r.Rejections, load.MaxTold)
		assert.Len(t, d.Table(t, "piers"), 3)
	})
}

// Each rejected row is counted once, in its chunk, however many chunks follow in the same transaction.
func TestRejectedRowsAreCountedOnce(t *testing.T) {
	const entities = `  Guest:
    table: guests
    rows: 8
    fields: {email: {choose: [a, b, c, d]}, spent: {sum: Stay.price}, stays: {count_of: Stay}}
  Stay:
    table: stays
    per: {Guest: 2}
    fields: {mail: {same: Guest.email}, room: {count: 100}, price: 1.00}
`
	loadtest.OnEach(t, families, func(t *testing.T, d *loadtest.DB) {
		for _, commit := range []plan.Commit{plan.CommitLoad, plan.CommitChunk} {
			d.Exec(t, "DELETE FROM stays")
			d.Exec(t, "DELETE FROM guests")
			o := load.Options{Policies: plan.Policies{"unique": plan.Skip}, Commit: commit, Chunk: 3}
			r, err := d.Load(t, entities, o)
			require.NoError(t, err)
			require.Equal(t, 8, r.Chunks)
			guests, stays := r.Entities[0], r.Entities[1]
			assert.EqualValues(t, 8, guests.Rejected+guests.Inserted, commit)
			assert.EqualValues(t, 16, stays.Rejected+stays.Inserted, commit)
			assert.Equal(t, r.Rejected, guests.Rejected+stays.Rejected)
			assert.Positive(t, guests.Rejected)
			assert.Len(t, d.Table(t, "stays"), int(stays.Inserted))
			for _, guest := range d.Table(t, "guests", "spent", "stays") {
				assert.Equal(t, "2.00 2", guest)
			}
		}
	})
}

// What only the engine knows is found by halves, and the rest is written.
func TestSkipOfWhatATriggerRaises(t *testing.T) {
	onEachWith(t, harbour, trigger, func(t *testing.T, d *loadtest.DB) {
		r, err := d.Load(
			t,
			"  Boat: {table: boats, rows: 300, fields: {crew: {count: 1}, label: {choose: {ok: 299, ghost: 1}}}}\n",
			load.Options{Policies: plan.Policies{"raised": plan.Skip}, Chunk: 100},
		)
		require.NoError(t, err)
		assert.Positive(t, r.Rejected)
		assert.Equal(t, int64(300), r.Rejected+r.Rows)
		assert.NotContains(t, strings.Join(d.Table(t, "boats", "label"), " "), "ghost")
	})
}

// redraw takes other values until none is refused, and what refers to them follows.
func TestRedrawnValuesAreFollowed(t *testing.T) {
	const entities = `  Guest:
    table: guests
    rows: 200
    fields: {email: {text: "guest{number}@example.com"}, number: {between: 1..2000, spread: free, column: stays}}
  Stay: {table: stays, per: {Guest: 1}, fields: {room: {count: 1}, price: 1.00, mail: {same: Guest.email}}}
`
	for _, commit := range []plan.Commit{plan.CommitLoad, plan.CommitChunk} {
		var first []string
		loadtest.OnEach(
			t,
			families+"INSERT INTO guests (id, email, stays) VALUES (9000, 'guest77@example.com', 77);",
			func(t *testing.T, d *loadtest.DB) {
				r, err := d.Load(
					t,
					entities,
					load.Options{Policies: plan.Policies{"unique": plan.Redraw}, Chunk: 64, Jobs: 2, Commit: commit},
				)
				require.NoError(t, err)
				assert.Positive(t, r.Redrawn)
				assert.Zero(t, r.Rejected)
				mails := map[string]string{}
				for _, line := range d.Table(t, "guests", "id", "email") {
					id, mail := cutTwo(line)
					mails[id] = mail
				}
				assert.Len(t, mails, 201)
				for _, line := range d.Table(t, "stays", "guest_id", "mail") {
					id, mail := cutTwo(line)
					assert.Equal(t, mails[id], mail)
				}
				got := d.Table(t, "guests", "id", "email", "stays")
				if first == nil {
					first = got
				}
				assert.Equal(t, first, got, "the same on every engine")
			},
		)
	}
}

func TestRedrawOfUniqueFieldsUsesTheReserve(t *testing.T) {
	loadtest.OnEach(t, harbour, func(t *testing.T, d *loadtest.DB) {
		const entities = "  Pier: {table: piers, rows: 60, fields: {code: {pattern: \"[A-Z][0-9]\", unique: true}}}\n"
		e := d.Loaded(t, entities, load.Options{})
		assert.Equal(t, int64(60), e["Pier"].Inserted)
		codes := d.Table(t, "piers", "code")
		const beside = "  Pier: {table: piers, rows: 60, fields: {id: {count: 1001}, code: {pattern: " +
			"\"[A-Z][0-9]\", unique: true}}, on_violation: {unique: redraw}}\n"
		r, err := d.Load(t, beside, load.Options{})
		if err == nil {
			assert.Equal(t, int64(60), r.Redrawn)
			assert.Len(t, d.Table(t, "piers"), 120)
			return
		}
		// 260 codes, of which 32 are kept for second attempts: too few.
		var refusal *journal.Refusal
		require.ErrorAs(t, err, &refusal)
		assert.Contains(t, refusal.Hint, "there are too few different ones")
		assert.Equal(t, codes, d.Table(t, "piers", "code"))
	})
}

func TestWhatCannotBeRedrawnStops(t *testing.T) {
	loadtest.OnEach(t, harbour, func(t *testing.T, d *loadtest.DB) {
		r := d.Refused(
			t,
			"  Pier: {table: piers, given: {a: {code: WEST}, b: {code: WEST}}}\n",
			load.Options{Policies: plan.Policies{"unique": plan.Redraw}},
		)
		assert.Contains(t, r.Hint, "none of these values can be redrawn:")
	})
}

// Rows that a trigger silently leaves out are told, and can be skipped like those that it
// refuses aloud.
func TestRowsThatATriggerLeavesOut(t *testing.T) {
	triggers := map[string][]string{
		"sqlite": {"CREATE TRIGGER quiet BEFORE INSERT ON fares WHEN NEW.price > 50 BEGIN SELECT RAISE(IGNORE); END"},
		"postgres": {
			"CREATE FUNCTION quiet() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN IF NEW.price > 50 THEN RETURN " +
				"NULL; END IF; RETURN NEW; END $$",
			"CREATE TRIGGER quiet BEFORE INSERT ON fares FOR EACH ROW EXECUTE FUNCTION quiet()",
		},
	}
	entities := "  Fare: {table: fares, rows: 60, fields: {id: {count: 1001}, code: {pattern: \"[A-Z]{6}\", " +
		"unique: true}, label: {text: \"{code}\"}, price: {between: [1, 100]}}}\n"
	loadtest.OnEach(t, loadtest.Fares, func(t *testing.T, d *loadtest.DB) {
		if triggers[d.Name] == nil {
			t.Skip("its triggers cannot leave a row out without a word")
		}
		for _, sql := range triggers[d.Name] {
			d.Exec(t, sql)
		}
		r := d.Refused(t, entities, load.Options{})
		assert.Equal(t, store.Raised, r.Kind)
		assert.Contains(t, r.Message, "something in the database, such as a trigger or rule, leaves out")
		assert.NotEmpty(t, r.Row)

		result, err := d.Load(t, entities, load.Options{Policies: plan.Policies{"all": plan.Skip}})
		require.NoError(t, err)
		loaded := 0
		for _, line := range d.Table(t, "fares", "id", "price") {
			var id int
			var price float64
			_, err := fmt.Sscan(line, &id, &price)
			require.NoError(t, err)
			if id > 1000 {
				loaded++
				assert.LessOrEqual(t, price, 50.0)
			}
		}
		assert.Equal(t, int64(60-loaded), result.Rejected)
		assert.Positive(t, result.Rejected)
		assert.Positive(t, loaded)
	})
}

// A row can be refused because of what a trigger does with it in another table.
func TestATriggerThatViolatesAnotherTable(t *testing.T) {
	loadtest.OnEach(t, `
CREATE TABLE journals (id {key});
CREATE TABLE entries (id {key}, journal_id INTEGER NOT NULL REFERENCES journals (id));
CREATE TABLE berths (id {key}, label VARCHAR(20));`, func(t *testing.T, d *loadtest.DB) {
		if d.Name != "postgres" {
			t.Skip("only PostgreSQL names the table")
		}
		d.Exec(t, `CREATE FUNCTION note() RETURNS trigger LANGUAGE plpgsql AS
			$$BEGIN INSERT INTO entries (id, journal_id) VALUES (NEW.id, 7); RETURN NEW; END$$`)
		d.Exec(t, "CREATE TRIGGER note AFTER INSERT ON berths FOR EACH ROW EXECUTE FUNCTION note()")
		r := d.Refused(t, "  Berth: {table: berths, rows: 3, fields: {label: {kind: noun}}}\n", load.Options{})
		assert.Equal(t, "a trigger of berths writes to entries: give it what it expects, or leave Berth out of the "+
			"plan", r.Hint)
		d.Exec(t, "INSERT INTO journals (id) VALUES (7)") // what it expects
		_, err := d.Load(t, "  Berth: {table: berths, rows: 3, fields: {label: {kind: noun}}}\n", load.Options{})
		require.NoError(t, err)
	})
}
