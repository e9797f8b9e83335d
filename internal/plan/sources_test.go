package plan

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/grow"
	"evensprout/internal/value"
)

// row is the cells of a grown row, by field; references as labels.
type row map[string]string

// grown compiles entities and grows all rows of one, given rows first.
func grown(t *testing.T, entities, name string) []row {
	t.Helper()
	c, problems := compileText(entities, nil)
	require.NotNil(t, c, problems.Error())
	return rowsOf(t, c, name)
}

func rowsOf(t *testing.T, c *Compiled, name string) []row {
	t.Helper()
	e := c.Target(name).Grow
	g := grow.NewGrower(c.Set)
	var out []row
	for _, side := range []bool{true, false} {
		total := e.Rows
		if side {
			total = uint64(len(e.Side))
		}
		var b grow.Batch
		g.Grow(e, grow.Row{Side: side}, int(total), &b)
		for i := range b.Len {
			r := row{"": e.Label(b.At(i))}
			for j, f := range e.Fields {
				if f.Inner {
					continue
				}
				r[f.Name] = b.Row(i)[j].String()
				if to, ok := g.Refers(e, b.At(i), f); ok {
					r[f.Name] = f.Target().Label(to)
				}
			}
			out = append(out, r)
		}
	}
	require.NoError(t, g.Err())
	return out
}

func prints(t *testing.T, c *Compiled) []grow.Fingerprint {
	p, err := c.Set.Fingerprints(t.Context(), 2)
	require.NoError(t, err)
	return p
}

func count(rows []row, field string) map[string]int {
	n := map[string]int{}
	for _, r := range rows {
		n[r[field]]++
	}
	return n
}

func TestPartsOfADrawAgree(t *testing.T) {
	rows := grown(t, `  Passenger:
    rows: 3000
    shared:
      who: {kind: person}
      home: {kind: place}
      made: {before: clock, within: 90d}
    fields:
      given: {from: who.given-name}
      family: {from: who.family-name}
      email: {from: who.email, unique: true}
      login: {text: "{who.username|upper}"}
      town: {from: home.locality}
      region: {from: home.region}
      country: {from: home.country-name}
      postcode: {from: home.postal-code}
      created_at: {from: made}
      updated_at: {from: made}
`, "Passenger")
	emails, regionOf, countryOf, codeOf := map[string]bool{}, map[string]string{}, map[string]string{},
		map[string]string{}
	same := func(of map[string]string, key, value string) {
		if known, ok := of[key]; ok {
			assert.Equal(t, known, value, key)
		}
		of[key] = value
	}
	for _, r := range rows {
		emails[value.Fold(r["email"])] = true
		local, _, _ := strings.Cut(r["email"], "@")
		assert.Equal(t, strings.ToUpper(local), r["login"])
		assert.True(
			t,
			strings.HasPrefix(local, value.Fold(r["given"])+"."),
			"%s %s",
			r["given"],
			r["email"],
		)
		assert.Equal(t, r["created_at"], r["updated_at"])
		same(regionOf, r["town"], r["region"])
		same(countryOf, r["region"], r["country"])
		same(codeOf, r["town"], r["postcode"][:3])
	}
	assert.Len(t, emails, 3000)
	assert.Equal(t, map[string]int{"United States": 3000}, count(rows, "country"))
}

// A given value of a field that takes a unique draw displaces the row that would have it.
func TestGivenValuesOfDrawsAreTaken(t *testing.T) {
	for _, draw := range []string{"{kind: person}", "{kind: person, unique: true}"} {
		plan := "  Passenger:\n    rows: 300\n    shared: {who: " + draw + "}\n    fields: {email: {from: " +
			"who.email, unique: true}}\n"
		before := grown(t, plan, "Passenger")
		after := grown(t, plan+"    given: {ada: {email: \""+before[123]["email"]+"\"}}\n", "Passenger")
		assert.Equal(t, before[123]["email"], after[0]["email"])
		for i := range before {
			assert.Equal(t, i != 123, before[i]["email"] == after[i+1]["email"], "row %d", i)
		}
		assert.Len(t, count(after, "email"), 301)
	}
}

func TestIfLeavesCellsEmpty(t *testing.T) {
	rows := grown(t, `  Fare: {given: {deck: {code: D}, cabin: {code: C}}}
  Ticket:
    rows: 900
    fields:
      fare: {pick: Fare}
      status: {choose: [open, used, void]}
      paid: {share: 50%}
      used_at: {before: clock, within: 9d, if: {status: used}}
      note: {kind: noun, if: {status: {not: [open, void]}}}
      receipt: {kind: digits, if: paid}
      bed: {between: 1..4, if: {fare: Fare.cabin, status: [open, used]}}
      gap: {value: x, if: {receipt: null}}
`, "Ticket")
	for _, r := range rows {
		assert.Equal(t, r["status"] == "used", r["used_at"] != "NULL")
		assert.Equal(t, r["status"] == "used", r["note"] != "NULL")
		assert.Equal(t, r["paid"] == "true", r["receipt"] != "NULL")
		assert.Equal(t, r["fare"] == "Fare.cabin" && r["status"] != "void", r["bed"] != "NULL")
		assert.Equal(t, r["receipt"] == "NULL", r["gap"] == "x")
	}
}

// Two references that agree: the cabin is one of the sailing's vessel.
func TestPicksUnderConditions(t *testing.T) {
	entities := `  Vessel: {rows: 5, fields: {open: {share: 60%}}}
  Cabin: {per: {Vessel: 2..4}, fields: {berths: {between: 1..4}}}
  Sailing: {rows: 20, fields: {vessel: {pick: Vessel, where: open}}}
  Booking: {rows: 600, fields: {sailing: {pick: Sailing}}}
  Ticket:
    per: {Booking: 1..2}
    fields:
      sailing: {same: Booking.sailing}
      cabin: {pick: Cabin, where: {Vessel: {same: sailing.vessel}}}
      large: {pick: Cabin, where: {berths: [3, 4]}}
      other: {pick: Cabin, where: {berths: {same: cabin.berths}, Vessel.open: {not: true}}}
`
	c, problems := compileText(entities, nil)
	require.NotNil(t, c, problems.Error())
	vessel, berths, open, vesselOf, sailingOf := map[string]string{}, map[string]string{}, map[string]string{},
		map[string]string{}, map[string]string{}
	for _, r := range rowsOf(t, c, "Vessel") {
		open[r[""]] = r["open"]
	}
	for _, r := range rowsOf(t, c, "Cabin") {
		vessel[r[""]], berths[r[""]] = r["Vessel"], r["berths"]
	}
	for _, r := range rowsOf(t, c, "Sailing") {
		vesselOf[r[""]] = r["vessel"]
		assert.Equal(t, "true", open[r["vessel"]])
	}
	for _, r := range rowsOf(t, c, "Booking") {
		sailingOf[r[""]] = r["sailing"]
	}
	tickets := rowsOf(t, c, "Ticket")
	for _, r := range tickets {
		assert.Equal(t, sailingOf[r["Booking"]], r["sailing"])
		assert.Equal(t, vesselOf[r["sailing"]], vessel[r["cabin"]])
		assert.GreaterOrEqual(t, berths[r["large"]], "3")
		if r["other"] != "NULL" {
			assert.Equal(t, berths[r["cabin"]], berths[r["other"]])
			assert.Equal(t, "false", open[vessel[r["other"]]])
		}
	}
	even := count(tickets, "large")
	for cabin, n := range even {
		assert.InDelta(t, len(tickets)/len(even), n, 8, "%s: rows under a fixed condition are picked evenly", cabin)
	}
}

func TestSkewMakesHotRows(t *testing.T) {
	rows := grown(
		t,
		"  Pier: {rows: 100}\n  Trip: {rows: 10000, fields: {pier: {pick: Pier, skew: {top: 20%, get: 80%}}}}\n",
		"Trip",
	)
	hot := 0
	for _, n := range count(rows, "pier") {
		if n > 200 {
			hot += n
			assert.InDelta(t, 400, n, 30)
		} else {
			assert.InDelta(t, 25, n, 15)
		}
	}
	assert.InDelta(t, 8000, hot, 20)
}

// Trees have the depth and fan that were asked for, and more rows only append.
func TestTrees(t *testing.T) {
	plan := "  Crew: {rows: %d, fields: {boss: {tree: {depth: 4, fan: 2..5}}}, given: {ada: {}}}\n"
	rows := grown(t, fmt.Sprintf(plan, 2000), "Crew")
	boss, children := map[string]string{}, map[string]int{}
	for _, r := range rows {
		boss[r[""]] = r["boss"]
		children[r["boss"]]++
	}
	depths := map[int]int{}
	for name := range boss {
		depth := 1
		for up := boss[name]; up != "NULL"; up = boss[up] {
			depth++
			require.LessOrEqual(t, depth, 4, "a circle, or too deep")
		}
		depths[depth]++
	}
	assert.Len(t, depths, 4)
	fans := map[int]int{}
	for name, n := range children {
		if name != "NULL" {
			fans[n]++
		}
	}
	for _, n := range []int{2, 3, 4, 5} {
		assert.Positive(t, fans[n], "fan %d", n)
	}
	more := grown(t, fmt.Sprintf(plan, 2500), "Crew")
	assert.Equal(t, rows, more[:len(rows)])
	for _, r := range grown(t, "  Crew: {rows: 9, fields: {boss: {tree: {depth: 2, fan: 2, root: self}}}}\n",
		"Crew")[:2] {
		assert.Equal(t, "Crew row 0", r["boss"])
	}
}

func TestRunningTotals(t *testing.T) {
	entities := `  Account: {rows: 300, fields: {opening: {between: [0.00, 50.00]}}}
  Entry:
    per: {Account: 0..9}
    fields:
      amount: {between: [-20, 30]}
      balance: {running: amount, start: Account.opening}
      total: {running: amount}
`
	c, problems := compileText(entities, nil)
	require.NotNil(t, c, problems.Error())
	opening := map[string]int64{}
	for _, r := range rowsOf(t, c, "Account") {
		v, _ := value.ParseDecimal(r["opening"])
		opening[r[""]] = v.N
	}
	last, sum := "", int64(0)
	entries := rowsOf(t, c, "Entry")
	for _, r := range entries {
		if r["Account"] != last {
			last, sum = r["Account"], 0
		}
		amount, _ := value.ParseDecimal(r["amount"])
		sum += amount.N
		balance, _ := value.ParseDecimal(r["balance"])
		assert.Equal(t, fmt.Sprint(sum), r["total"])
		assert.Equal(t, opening[last]+100*sum, balance.N)
	}
	// Any row alone, in any order.
	g := grow.NewGrower(c.Set)
	e := c.Target("Entry").Grow
	for i := len(entries) - 1; i >= 0; i -= 7 {
		var b grow.Batch
		g.Grow(e, grow.Row{N: uint64(i)}, 1, &b)
		assert.Equal(t, entries[i]["total"], b.Row(0)[3].String())
	}
}

func TestJSONIsCanonical(t *testing.T) {
	rows := grown(t, `  Thing:
    rows: 200
    fields:
      name: {kind: noun}
      meta:
        json:
          zebra: {kind: noun}
          alpha: {between: [1.00, 2.50], step: 0.25}
          "Äther": fixed "text"
          nested: {n: {between: 1..3}, none: null, yes: true, copy: {same: name}}
          tags: {list: {of: {kind: colour}, count: 0..3}}
          pair: [1, {share: 50%}]
          odd: {json: {count: 3, same: {between: 1..2}}}
      labels: {list: {of: {n: {between: 1..9}}, count: 2}}
`, "Thing")
	tags := map[int]int{}
	for _, r := range rows {
		var v struct {
			Alpha  float64
			Nested struct {
				N    int
				Yes  bool
				Copy string
			}
			Tags []string
			Pair []any
		}
		require.NoError(t, json.Unmarshal([]byte(r["meta"]), &v), r["meta"])
		assert.True(t, strings.HasPrefix(r["meta"], `{"alpha":`), "keys are sorted")
		assert.Contains(t, r["meta"], `"zebra":`)
		assert.Contains(t, r["meta"], `,"Äther":"fixed \"text\""}`, "by their code units")
		assert.True(t, v.Alpha >= 1 && v.Alpha <= 2.5)
		assert.Equal(t, r["name"], v.Nested.Copy)
		assert.NotContains(t, r["meta"], ".50,", "no zeros at the end")
		tags[len(v.Tags)]++
		assert.Len(t, v.Pair, 2)
		assert.Regexp(t, `"odd":\{"count":3,"same":[12]\}`, r["meta"])
		assert.Regexp(t, `^\[\{"n":\d\},\{"n":\d\}\]$`, r["labels"])
	}
	for n := range 4 {
		assert.InDelta(t, 50, tags[n], 3, "lengths are even")
	}
}

func TestDerive(t *testing.T) {
	rows := grown(t, `  Trip: {rows: 50, fields: {on: {between: [2026-06-01, 2026-06-30]}}}
  Ticket:
    per: {Trip: 1..2}
    fields:
      price: {between: [4.50, 19.00], step: 0.25}
      seats: {between: 1..4, nulls: 10%}
      total: {derive: price * seats}
      tax: {derive: "round(total * decimal('0.2'), 2)"}
      month: {derive: "string(month(Trip.on)) + '/' + string(year(Trip.on))"}
      cheap: {derive: price < 10}
      next: {derive: "addDays(Trip.on, 1)"}
`, "Ticket")
	for _, r := range rows {
		price, _ := value.ParseDecimal(r["price"])
		assert.Equal(t, fmt.Sprint(price.N < 1000), r["cheap"])
		assert.Equal(t, "6/2026", r["month"])
		if r["seats"] == "NULL" {
			assert.Equal(t, "NULL", r["total"])
			continue
		}
		seats, _ := value.ParseDecimal(r["seats"])
		assert.Equal(t, value.Value{Type: value.Decimal, Scale: 2, N: price.N * seats.N}.String(), r["total"])
	}
}

// An expression that fails for some row is told with the row.
func TestDeriveThatFails(t *testing.T) {
	c, problems := compileText(cellOf(`{derive: "div(1, size(other) - 4, 2)", scale: 2}`), nil)
	require.NotNil(t, c, problems.Error())
	_, err := c.Set.Fingerprints(t.Context(), 2)
	var row *grow.RowError
	require.ErrorAs(t, err, &row)
	assert.Regexp(t, `^Thing row \d+, field cell: division by zero$`, err.Error())
}

// Rows by hand: nested in their parent or naming it, or as a table.
func TestGivenRowsInEveryForm(t *testing.T) {
	entities := `  Fare:
    given: [[code, label, price], [DECK, Open deck, 4.50], [CABIN, Cabin, 19.00]]
  Passenger:
    rows: 3
    fields: {name: {kind: name}}
    given:
      ada:
        name: Ada Quill
        Booking:
          first:
            Ticket: {a: {fare: Fare.CABIN}, b: {fare: Fare.DECK}}
          second: {note: late}
      bo: {}
  Booking:
    per: {Passenger: 1..2, given: instead}
    fields: {note: {kind: noun}, total: {sum: Ticket.price}}
    given:
      third: {Passenger: Passenger.ada}
  Ticket:
    per: {Booking: 1, given: instead}
    fields: {fare: {pick: Fare}, price: {same: fare.price}}
`
	c, problems := compileText(entities, nil)
	require.NotNil(t, c, problems.Error())
	fares := rowsOf(t, c, "Fare")
	assert.Equal(
		t,
		"Fare.CABIN CABIN Cabin 19.00",
		fmt.Sprint(fares[1][""], " ", fares[1]["code"], " ", fares[1]["label"], " ", fares[1]["price"]),
	)
	var mine []string
	for _, r := range rowsOf(t, c, "Booking") {
		if r["Passenger"] == "Passenger.ada" {
			mine = append(mine, r[""]+" "+r["note"]+" "+r["total"])
		}
	}
	require.Len(t, mine, 3, "no generated ones beside them")
	assert.Regexp(t, `^Booking.first \w+ 23.50$`, mine[0])
	assert.Regexp(t, `^Booking.second late (4.50|19.00)$`, mine[1])
	assert.Regexp(t, `^Booking.third`, mine[2])
	tickets := rowsOf(t, c, "Ticket")
	assert.Equal(
		t,
		"Booking.first Fare.CABIN 19.00",
		tickets[0]["Booking"]+" "+tickets[0]["fare"]+" "+tickets[0]["price"],
	)
	for _, bad := range [][2]string{
		{"  A: {given: [[a, b], [1]]}\n", "each line of the table must have 2 cells"},
		{"  A: {given: [[a], [x], [x]]}\n", "the row x is repeated here"},
		{"  A: {given: [[a]]}\n", "a line of field names"},
		{"  A: {given: {x: {B: [1]}}}\n  B: {per: {A: 1}}\n", "be a mapping of names,"},
		{"  A: {given: {x: {B: {y: {}}}, z: {B: {y: {}}}}}\n  B: {per: {A: 1}}\n", "the row B.y exists already"},
		{"  A: {rows: 1}\n  B: {per: {A: 1, given: never}}\n", "beside or instead,"},
	} {
		_, problems := compileText(bad[0], nil)
		require.NotEmpty(t, problems, bad[0])
		assert.Contains(t, problems[0].Message, bad[1])
	}
}

func TestBytes(t *testing.T) {
	lengths := map[int]int{}
	for _, r := range grown(t, "  Thing: {rows: 300, fields: {token: {bytes: 3..5}, id: {bytes: 16}}}\n", "Thing") {
		lengths[len(r["token"])/2]++
		assert.Len(t, r["id"], 32)
	}
	assert.Len(t, lengths, 3)
}

// Each wrong use of these sources is told at its place.
func TestProblemsOfMoreSources(t *testing.T) {
	for _, c := range []struct{ name, entities, place, message, hint string }{
		{"a draw that is not there", cellOf("{from: who.email}"), "9:20", "Thing has no shared value " +
			"who", "shared: {who:"},
		{"a part that is not there", "  A:\n    rows: 1\n    shared: {who: {kind: person}}\n    fields:\n      a: " +
			"{from: who.mail}\n", "9:17", "person has no part mail", ""},
		{"a part of a noun", "  A:\n    rows: 1\n    shared: {what: {kind: noun}}\n    fields:\n      a: {from: " +
			"what.name}\n", "9:17", "what has no parts", ""},
		{"a unique part that many share", "  A:\n    rows: 9\n    shared: {who: {kind: person}}\n    fields:\n      " +
			"a: {from: who.name, unique: true}\n", "9:7", "many rows of person have the same name:", ""},
		{"a draw with a column", "  A:\n    rows: 1\n    shared: {who: {kind: person, column: x}}\n    fields:\n    " +
			"  a: {from: who.name}\n", "7:42", "a shared value is not stored", ""},
		{"a draw and a field of one name", "  A:\n    rows: 1\n    shared: {a: {kind: noun}}\n    fields:\n      a: " +
			"{kind: noun}\n", "9:7", "a is already the name of a draw", ""},
		{"a given draw", "  A:\n    rows: 1\n    shared: {who: {kind: person}}\n    fields: {n: {from: who.name}}\n " +
			"   given: {x: {who: 7}}\n", "9:17", "who is a shared value", ""},
		{"a kind with parts as a field", cellOf("{kind: person}"), "9:20", "person has parts", "shared:"},
		{"if without a field", cellOf("{kind: noun, if: {nobody: 1}}"), "9:31", "Thing has no field nobody", ""},
		{"if with another type", cellOf("{kind: digits, if: {other: 5}}"), "9:40", "is of type text", ""},
		{"if that is no truth", cellOf("{kind: digits, if: other}"), "9:32", "not true or false by itself", ""},
		{"if that is nothing", cellOf("{kind: digits, if: [1]}"), "9:32", "a condition must be a mapping", ""},
		{"if in a circle", cellOf("{kind: digits, if: {cell: x}}"), "9:7", "circle: Thing.cell depends on itself",
			""},
		{"where with a stranger", "  A: {rows: 2}\n  B: {rows: 2, fields: {a: {pick: A, where: {x: 1}}}}\n", "6:46",
			"A has no " +
				"field x", ""},
		{"where that nobody meets", "  A: {rows: 2, fields: {n: 1}}\n  B: {rows: 2, fields: {a: {pick: A, where: " +
			"{n: 2}}}}\n", "6:25", "no row of A meets the condition", ""},
		{"skew without a share", "  A: {rows: 2}\n  B: {rows: 2, fields: {a: {pick: A, skew: {top: 20%}}}}\n", "6:44",
			"share of the picks", ""},
		{"where and distinct", "  A: {rows: 2, fields: {n: 1}}\n  B: {per: {A: 1}, fields: {a: {pick: A, distinct: " +
			"true, where: {n: 1}}}}\n", "6:29", "only one of distinct, where and skew", ""},
		{"a tree without depth", cellOf("{tree: {fan: 2}}"), "9:20", "tree needs a depth", ""},
		{"a tree too large", cellOf("{tree: {depth: 40, fan: 3}}"), "9:20", "more than 4294967296 rows", ""},
		{"running without a parent", cellOf("{running: other}"), "9:23", "Thing has no parent", ""},
		{"running text", "  A: {rows: 1}\n  B:\n    per: {A: 2}\n    fields:\n      n: {kind: noun}\n      r: " +
			"{running: n}\n", "10:20", "a total needs numbers", ""},
		{"JSON with a wrong kind", cellOf("{json: {a: {kind: nown}}}"), "9:31", "no kind nown", ""},
		{"a list of nothing", cellOf("{list: {count: 2}}"), "9:20", "a list needs of:", ""},
		{"an expression that is none", cellOf(`{derive: "1 +"}`), "9:26", "the expression ends too early", ""},
		{"an expression with a stranger", cellOf(`{derive: size(othr) + 1}`), "9:27", "Thing has no field othr",
			`did you ` +
				`mean "other"?`},
		{"an expression of two types", cellOf(`{derive: "other + 1"}`), "9:29", "+ cannot be applied to a text " +
			"and a whole number", ""},
		{"an expression with a double", cellOf(`{derive: 1.5 * 2.0}`), "9:22", "not exact", "decimal("},
		{"an expression with a bare comma", cellOf("{derive: left(other, 2)}"), "9:32", "the expression ends too " +
			"early", ""},
		{"an expression in a circle", cellOf(`{derive: size(cell)}`), "9:7", "circle: ", ""},
		{"a file outside", cellOf("{file: {folder: ../x, as: png}}"), "9:29", "is not inside", ""},
		{"a file of no kind", cellOf("{file: {folder: x, as: gif}}"), "9:36", "a png picture or a txt document", ""},
		{"a file without a folder", cellOf("{file: {as: png}}"), "9:20", "a folder", ""},
		{"a picture too large", cellOf("{file: {folder: x, as: png, size: 3000x1}}"), "9:20", "1 to 2000 pixels", ""},
		{"bytes by the megabyte", cellOf("{bytes: 5000000}"), "9:21", "must be between", ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			_, problems := compileText(c.entities, nil)
			require.NotEmpty(t, problems)
			p := problems[0]
			assert.Contains(t, p.Message, c.message)
			assert.Contains(t, p.Hint, c.hint)
			assert.Equal(t, c.place, fmt.Sprintf("%d:%d", p.Line, p.Column), p.String())
		})
	}
}
