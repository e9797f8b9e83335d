package main

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/demo"
	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/store/storetest"
	"evensprout/internal/value"
)

// dockUnit lets ships dock: each line of the file is a visit, and makes both berths of
// the port dearer by one.
const dockUnit = `units:
  dock:
    rows_from: {file: docks.csv, columns: {code: Code, note: Note}}
    together: TOGETHER
    steps:
      - find: Port
        match: {code: code}
      - insert: Visit
        set: {port_id: Port.id, note: note}
      - update: Berth
        match: {port_id: Port.id}
        set: {price: price + 1}
        expect: 2
`

const docks = 240 // lines of the file

// harbour fills a site's ports and berths; its unit is still to be run.
func (s *site) harbour(t *testing.T, together string) {
	t.Helper()
	s.write("evensprout.yaml", harbourPlan(40, 0)+strings.Replace(dockUnit, "TOGETHER", together, 1))
	s.write("docks.csv", "Code,Note\nX,X\n")
	r := s.on("load", "--without-units", "--quiet")
	require.Zero(t, r.code, r.errOut)
	codes := s.cells(t, "ports", "code")
	file := "Code,Note\n"
	for i := range docks {
		file += fmt.Sprintf("%s,ship %d\n", codes[i*7%(len(codes)-1)], i) // the last one has no berths
	}
	s.write("docks.csv", file)
}

// cells are those of a column, in the order of the table.
func (s *site) cells(t *testing.T, table, column string) []string {
	t.Helper()
	db := s.open(t)
	defer db.Close()
	tables, err := db.Survey(t.Context())
	require.NoError(t, err)
	of := tables.Table(table)
	var out []string
	require.NoError(
		t,
		db.Select(
			t.Context(),
			store.Query{Table: of, Columns: []*schema.Column{of.Column(column)}},
			func(row []value.Value) error {
				out = append(out, row[0].String())
				return nil
			},
		),
	)
	return out
}

// whole sees that each visit that is there has made two berths dearer, and no berth is
// dearer without one. It says how many there are.
func (s *site) whole(t *testing.T, before int64) int {
	t.Helper()
	visits := len(s.cells(t, "visits", "id"))
	require.Equal(t, before+int64(200*visits), s.prices(t), "half an occasion is there")
	return visits
}

func (s *site) prices(t *testing.T) int64 {
	sum := int64(0)
	for _, p := range s.cells(t, "berths", "price") {
		v, err := value.ParseDecimal(p)
		require.NoError(t, err)
		v, ok := v.Rescale(2)
		require.True(t, ok)
		sum += v.N
	}
	return sum
}

var dock = []string{"load", "--unit", "dock", "--quiet"}

// The program is killed at random moments of a unit, and run again until it is through:
// each occasion is whole or not there, and in the end each was done once.
func TestKilledUnitsGoOn(t *testing.T) {
	onEngines(t, harbourPlan(40, 0), func(t *testing.T, s *site) {
		for _, together := range []string{"1", "25"} {
			s.url = s.database(t)
			s.harbour(t, together)
			before := s.prices(t)
			for kills, rounds := 0, 0; kills < tries(4, 100); rounds++ {
				started := time.Now()
				for s.killed(t, 400*time.Millisecond, append(dock, "--db", s.url)...) {
					kills++
					s.whole(t, before)
					if time.Since(started) > 20*time.Second {
						break // it comes to an end below
					}
				}
				r := s.on(dock...)
				require.Zero(t, r.code, r.errOut)
				require.Equal(t, docks, s.whole(t, before))
				for history := s.loads(t); len(history) > 1; history = history[:len(history)-1] {
					r := s.on("withdraw", fmt.Sprint(history[len(history)-1]))
					require.Zero(t, r.code, r.errOut+r.out)
				}
				require.Zero(t, s.whole(t, before))
			}
		}
		s.noSessions(t)
	})
}

// loads are the numbers of the loads that are not withdrawn.
func (s *site) loads(t *testing.T) []int64 {
	var all []struct {
		Number int64
		State  string
	}
	r := s.on("history", "--json")
	listed(t, r, &all)
	var out []int64
	for _, e := range all {
		if e.State != "withdrawn" {
			out = append(out, e.Number)
		}
	}
	return out
}

// The server is killed in the middle of a unit.
func TestServersKilledInUnits(t *testing.T) {
	onServers(t, harbourPlan(40, 0), func(t *testing.T, s *site, server *storetest.Server) {
		s.harbour(t, "10")
		before := s.prices(t)
		for kills := 0; kills < tries(2, 20); kills++ {
			s.serverKilled(t, server, 250*time.Millisecond, append(dock, "--db", s.url)...)
			s.whole(t, before)
		}
		r := s.on(dock...)
		require.Zero(t, r.code, r.errOut)
		require.Equal(t, docks, s.whole(t, before))
		s.noSessions(t)
	})
}

// Several processes run the same file at the same time: each occasion is done once.
func TestProcessesThatRunOneFile(t *testing.T) {
	onEngines(t, harbourPlan(40, 0), func(t *testing.T, s *site) {
		for _, together := range []string{"1", "30"} {
			s.url = s.database(t)
			s.harbour(t, together)
			before := s.prices(t)
			const processes = 4
			done := make([]int64, processes)
			var all sync.WaitGroup
			for i := range processes {
				all.Go(func() {
					r := s.on("load", "--unit", "dock", "--json")
					for n := 0; r.code == 4 && s.name == "sqlite" && strings.Contains(r.errOut, "is locked by "+
						"another program") && n < 20; n++ {
						r = s.on("load", "--unit", "dock", "--json") // files have no queue of writers
					}
					assert.Zero(t, r.code, r.errOut)
					var got struct {
						Units []struct{ Done, Earlier int64 }
					}
					if assert.NoError(t, json.Unmarshal([]byte(r.out), &got), r.out) && assert.Len(t, got.Units, 1) {
						done[i] = got.Units[0].Done
						assert.LessOrEqual(t, got.Units[0].Done+got.Units[0].Earlier, int64(docks))
					}
				})
			}
			all.Wait()
			require.Equal(t, docks, s.whole(t, before))
			if s.name != "sqlite" {
				assert.Equal(t, int64(docks), done[0]+done[1]+done[2]+done[3])
			}
		}
	})
}

// A column that is mistyped in the second step is told before the first write, with all
// else that is wrong.
func TestMistypedStepsAreToldBeforeTheFirstWrite(t *testing.T) {
	onEngines(t, harbourPlan(40, 0), func(t *testing.T, s *site) {
		s.harbour(t, "1")
		before := s.rows(t)
		text := harbourPlan(40, 0) + strings.Replace(dockUnit, "TOGETHER", "1", 1)
		for old, fresh := range map[string]string{"set: {port_id: Port.id, note: note}": "set: {port_id: Port.idd, " +
			"noet: note}", "match: {port_id: Port.id}": "match: {port_id: Prot.id}", "price + 1": "number / 2",
			"match: " +
				"{code: code}": "match: {code: cod}"} {
			require.Contains(t, text, old)
			text = strings.Replace(text, old, fresh, 1)
		}
		s.write("evensprout.yaml", text)
		for _, command := range [][]string{{"check"}, {"load", "--unit", "dock"}} {
			r := s.on(command...)
			assert.Equal(t, 3, r.code, r.errOut)
			for _, want := range []string{
				"find Port: the occasions of dock have no field cod", `did you mean "code"`, "insert Visit: the " +
					"table visits has no column idd", "insert Visit: the table visits has no column noet", `did you ` +
					`mean "note"`,
				"update Berth: no earlier step finds or adds a row named Prot", "update Berth: databases " +
					"compute a division in different ways", "nothing was written",
			} {
				if strings.Contains(want, "column idd") {
					want = "the table ports has no column idd"
				}
				assert.Contains(t, r.errOut, want)
			}
		}
		assert.Equal(t, before, s.rows(t))
	})
}

// Occasions from standard input, in three forms, and what else --unit takes.
func TestOccasionsFromElsewhere(t *testing.T) {
	f := newFolder(t)
	require.Zero(t, f.run("demo").code)
	plan := "larkwater/evensprout.yaml"
	run := func(in string, args ...string) result {
		c := f.command(append([]string{"load", plan, "--unit", "sell"}, args...)...)
		c.Stdin = strings.NewReader(in)
		var out, errOut bytes.Buffer
		c.Stdout, c.Stderr = &out, &errOut
		_ = c.Run()
		return result{c.ProcessState.ExitCode(), out.String(), errOut.String()}
	}
	for i, in := range []string{
		"Order,Card,Sailing,Fare,Traveller\nWB100000,FQ049019,LW-58043,DECK,A\n", `{"Order": "WB100001", "Card": ` +
			`"FQ049019", "Sailing": "LW-58043", "Fare": "DECK", "Traveller": "B"}`,
		` [{"Order": "WB100002", "Card": "FQ049019", "Sailing": "LW-58043", "Fare": "DECK", "Traveller": "C"}]`,
	} {
		r := run(in, "--occasions", "-")
		require.Zero(t, r.code, r.errOut)
		assert.Contains(t, r.out, "1 occasion of sell")
		assert.Contains(t, run(in, "--occasions", "-").out, "its occasion is already")
		assert.Equal(
			t,
			[]string{"FQ049019"},
			f.query(
				"larkwater/larkwater.db",
				fmt.Sprintf(
					"SELECT p.card FROM bookings b JOIN passengers p ON p.id = b.passenger_id WHERE reference = "+
						"'WB10000%d'",
					i,
				),
			),
		)
	}
	r := run("Order,Card,Sailing,Fare,Traveller\nWB200000,NOCARD,LW-58043,DECK,A\n", "--occasions", "-", "--json")
	assert.Equal(t, 5, r.code)
	assert.Contains(t, r.errOut, `sell row 0: card "NOCARD": no row of passengers`)
	assert.Contains(t, r.errOut, "standard input:2")
	assert.Contains(t, r.errOut, "The unit sell was rolled back.")
	assert.Contains(t, r.out, `"step": "1: find Passenger"`)
	assert.Equal(t, 2, run("", "--occasions", "-").code, "an empty input")
	r = run("A,Order,Sailing,Fare,Traveller\n1,2,3,4,5\n", "--occasions", "-")
	assert.Equal(t, 3, r.code)
	assert.Contains(t, r.errOut, "standard input:1:1: the file has no column Card")
	assert.Contains(t, r.errOut, "1 problem", "and nothing that follows from it")
	r = run(`{"Order": `, "--occasions", "-")
	assert.Equal(t, 3, r.code)
	assert.Contains(t, r.errOut, "standard input:1", "no name of a temporary file")
	assert.NotContains(t, r.errOut, "standard-input")
	for args, want := range map[string]string{
		"--unit cell": `did you mean "sell"`, "--again": "--again needs --unit",
		"--unit sell --resume": "--unit " +
			"loads no entities", "--occasions x.csv": "--occasions needs exactly one --unit",
		"--unit sell --without-units": "--unit and --without-units cannot be combined", "--unit new_prices --unit " +
			"sell --occasions x.csv": "--occasions " +
			"needs exactly one --unit", "--unit sell --again --no-journal": "--again and --no-journal cannot be " +
			"combined",
	} {
		r := f.run(append([]string{"load", plan}, strings.Fields(args)...)...)
		assert.Equal(t, 2, r.code, args)
		assert.Contains(t, r.errOut, want)
	}
}

// What demo shows of its units is true of the tables.
func TestTheDemoRunsItsUnits(t *testing.T) {
	f := newFolder(t)
	r := f.run("demo")
	require.Zero(t, r.code, r.errOut)
	said := regexp.MustCompile(`(?m)^loading: .*\n`).ReplaceAllString(r.errOut, "") // on a slow machine
	assert.Equal(t, "note: larkwater/reference.yaml is loaded first: 10 rows\n", said, "no warnings")
	assert.Contains(t, r.out, "CHECK (seats_left >= 0) does not hold")
	assert.Contains(t, r.out, "larkwater/full-boat.csv:2")
	for _, table := range []string{"bookings", "tickets", "sailings", "passengers"} {
		found := false
		for line := range strings.Lines(r.out) {
			if cells := strings.Fields(line); len(cells) == 5 && cells[0] == table && cells[1] == cells[2] &&
				cells[3] == cells[4] {
				found = true
			}
		}
		assert.True(t, found, "%s as before", table)
	}
	db := "larkwater/larkwater.db"
	assert.Equal(t, []string{"6"}, f.query(db, "SELECT count(*) FROM bookings WHERE reference LIKE 'WB00000%'"))
	assert.Equal(
		t,
		[]string{"3"},
		f.query(
			db,
			"SELECT count(*) FROM refunds r JOIN bookings b ON b.id = r.booking_id WHERE b.status = 'cancelled' "+
				"AND b.total = r.amount",
		),
	)
	assert.Equal(t, []string{"6"}, f.query(db, "SELECT count(*) FROM holiday_timetable"))
	assert.Equal(t, []string{"19.5"}, f.query(db, "SELECT price FROM fare_classes WHERE code = 'CABIN'"))
	plan := "larkwater/evensprout.yaml"
	assert.Zero(t, f.run("compare", plan).code)
	f.makeDB(db, "UPDATE bookings SET total = 1 WHERE id = 2")
	r = f.run("compare", plan)
	assert.Equal(t, 7, r.code)
	assert.Contains(
		t,
		r.out,
		"broken: a booking's total is what its tickets cost\n  bookings: id 2, total 1.00; sum of tickets.price is",
	)
	f.makeDB(db, "UPDATE bookings SET total = (SELECT sum(price) FROM tickets WHERE booking_id = 2) WHERE id = 2")
	for range 5 {
		r := f.run("withdraw", plan)
		require.Zero(t, r.code, r.errOut+r.out)
	}
	require.Zero(t, f.run("withdraw", "larkwater/reference.yaml").code)
	g := &folder{t: t, path: t.TempDir()}
	g.makeDB("larkwater.db", demo.Schema)
	assert.Equal(t, g.dump("larkwater.db"), f.dump(db), "all is taken back")
}

// What was left out stands in a file with its step, its reason and its line; the rest is
// told in the history; and what rests on a load keeps it from being withdrawn.
func TestWhatUnitsTell(t *testing.T) {
	f := newFolder(t)
	require.Zero(t, f.run("demo").code)
	plan := "larkwater/evensprout.yaml"
	f.write("mixed.csv", `Order,Card,Sailing,Fare,Traveller
WB300000,FQ049019,LW-58043,DECK,A
WB300001,FE846229,LW-50735,DECK,no seat
WB300002,SE792962,LW-58043,DECK,barred
WB300000,FQ049019,LW-58043,CABIN,the same order
WB300003,FQ049019,LW-58043,NONE,no such fare
WB300004,FQ049019,LW-58043,DECK,`+strings.Repeat("long", 30)+`
WB300005,LF464726,LW-04185,SALOON,B
`)
	load := []string{"load", plan, "--unit", "sell", "--occasions", "mixed.csv"}
	r := f.run(append(load, "--on-violation", "all=skip", "--max-rejects", "3")...)
	assert.Equal(t, 5, r.code)
	assert.Contains(t, r.errOut, "more than 3 rows would be rejected")
	r = f.run(append(load, "--on-violation", "all=skip", "--rejects", "left.ndjson", "--json")...)
	require.Equal(t, 6, r.code, r.errOut)
	var got struct {
		Units []struct {
			Load, Occasions, Done, Earlier, Rejected int64
			Steps                                    []struct{ Step string }
		}
		Rejects string `json:"rejects_file"`
	}
	require.NoError(t, json.Unmarshal([]byte(r.out), &got), r.out)
	assert.Equal(t, "left.ndjson", got.Rejects)
	u := got.Units[0]
	assert.Equal(t, []int64{7, 5, 8}, []int64{u.Occasions, u.Rejected, int64(len(u.Steps))})
	assert.Equal(t, int64(2), u.Done+u.Earlier, "the first may have been committed before the stop")
	var told []string
	left, err := os.ReadFile(f.file("left.ndjson"))
	require.NoError(t, err)
	for line := range strings.Lines(string(left)) {
		var x struct {
			Entity    string
			Fields    map[string]string
			Violation struct{ Kind, Step, Place, Message string }
		}
		require.NoError(t, json.Unmarshal([]byte(line), &x), line)
		assert.Equal(t, "sell", x.Entity)
		assert.Len(t, x.Fields, 5)
		told = append(told, x.Violation.Place+" "+x.Violation.Step+" "+x.Violation.Kind)
	}
	assert.Equal(
		t,
		[]string{
			"mixed.csv:3 7: update Sailing check",
			"mixed.csv:4 4: require requirement",
			"mixed.csv:5 5: insert Booking unique",
			"mixed.csv:6 3: find FareClass row_count",
			"mixed.csv:7 6: insert Ticket too_long",
		},
		told,
	)

	r = f.run(append(load, "--on-violation", "all=skip", "--statements")...)
	assert.Equal(t, 6, r.code)
	assert.Contains(t, r.out, "0 occasions of sell")
	assert.Contains(t, r.out, "2 done before")
	assert.Contains(t, r.out, "this passenger may not buy (Passenger.status is barred)")
	assert.Contains(t, r.out, `UPDATE "sailings"`)

	r = f.run("history", plan)
	assert.Contains(t, r.out, "larkwater, unit new_prices")
	r = f.run("history", "3", plan)
	assert.Contains(t, r.out, "6, 0 left out, in 6 transactions")
	assert.Contains(t, r.out, "7  update Sailing    sailings                 6")
	r = f.run("history", "3", plan, "--json")
	assert.Contains(t, r.out, `"unit": "sell"`)
	r = f.run("withdraw", "2", plan)
	assert.Equal(t, 2, r.code)
	assert.Contains(t, r.errOut, "a run of the unit sell, depends on load 2")
	r = f.run("compare", "--load", "3", plan)
	assert.Equal(t, 2, r.code)
	assert.Contains(t, r.errOut, "load 3 is a run of the unit sell and has no planned")
	r = f.run("preview", plan, "--entity", "sell", "--csv", "--rows", "1")
	assert.Equal(t, "order,card,sailing,fare,traveller\r\nWB000001,FQ049019,LW-58043,DECK,Imke Salt\r\n", r.out)
	r = f.run("check", plan, "--json")
	assert.Contains(t, r.out, `"units": 4`)
	assert.Contains(t, r.out, `"invariants": 4`)
	assert.Zero(
		t,
		f.run(
			"load",
			plan,
			"--unit",
			"sell",
			"--dry-run",
			"--again",
			"--on-violation",
			"all=skip",
			"--rejects",
			"dry.ndjson",
		).code-6,
	)
	r = f.run("load", plan, "--unit", "new_prices", "--again", "--no-undo")
	require.Zero(t, r.code, r.errOut)
	assert.Contains(t, r.out, "so it cannot be withdrawn")
	r = f.run("withdraw", plan)
	assert.Equal(t, 2, r.code)
	assert.Contains(t, r.errOut, "ran with --no-undo,")
}

// Ctrl-C ends a unit between two occasions, tells what stays, and the same command goes on.
func TestInterruptedUnits(t *testing.T) {
	onEngines(t, harbourPlan(40, 0), func(t *testing.T, s *site) {
		s.harbour(t, "1")
		before := s.prices(t)
		for try := 0; ; try++ {
			require.Less(t, try, 20, "it is never in the middle")
			c := s.command("load", "--unit", "dock", "--db", s.url)
			var out bytes.Buffer
			c.Stderr = &out
			require.NoError(t, c.Start())
			kill := time.AfterFunc(
				100*time.Millisecond+rand.N(300*time.Millisecond),
				func() { c.Process.Signal(os.Interrupt) },
			)
			err := c.Wait()
			kill.Stop()
			done := s.whole(t, before)
			if err == nil || done == 0 || done == docks {
				for _, n := range s.loads(t)[1:] {
					require.Zero(t, s.on("withdraw", fmt.Sprint(n)).code)
				}
				continue
			}
			assert.Equal(t, 130, c.ProcessState.ExitCode(), out.String())
			assert.Regexp(
				t,
				fmt.Sprintf("of dock, (1 occasion is committed|%d occasions are committed)", done),
				out.String(),
			)
			assert.Contains(t, out.String(), fmt.Sprintf(" %d occasion", done))
			break
		}
		r := s.on(dock...)
		require.Zero(t, r.code, r.errOut)
		assert.Equal(t, docks, s.whole(t, before))
		s.noSessions(t)
	})
}
