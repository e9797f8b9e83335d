package unit_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/journal"
	"evensprout/internal/load"
	"evensprout/internal/loadtest"
	"evensprout/internal/withdraw"
)

// depot is orders with lines, lines with notes, and a stock that lines use up.
const depot = `
CREATE TABLE orders (id {key}, no VARCHAR(10) NOT NULL UNIQUE, buyer VARCHAR(40));
CREATE TABLE stock (id INTEGER PRIMARY KEY, sku VARCHAR(10) NOT NULL UNIQUE,
  left_over INTEGER NOT NULL CHECK (left_over >= 0));
CREATE TABLE order_lines (id {key}, order_id INTEGER NOT NULL REFERENCES orders (id), position INTEGER NOT NULL,
  sku VARCHAR(10) NOT NULL, qty INTEGER NOT NULL CHECK (qty > 0), price DECIMAL(8,2), packed DATE);
CREATE TABLE line_notes (id {key}, line_id INTEGER NOT NULL REFERENCES order_lines (id), note VARCHAR(20) NOT NULL);
`

const depotPlan = `
entities:
  Stock:
    table: stock
    rows: 60
    fields: {id: {count: 1}, sku: {text: "S{id}"}, left_over: 500}
units:
  order:
    rows_from: {file: orders.ndjson, columns: {no: no, buyer: buyer, lines: lines}}
    together: TOGETHER
    steps:
      - insert: orders
        as: head
        set: {no: no, buyer: buyer.name}
      - for: line in lines
        expect: 1..6
        numbered: position
        steps:
          - update: Stock
            match: {sku: line.sku}
            set: {left_over: left_over - line.qty}
          - insert: order_lines
            as: item
            set: {order_id: head.id, position: position, sku: line.sku, qty: line.qty, price: line.price,
              packed: line.packed}
          - for: note in line.notes
            steps:
              - insert: line_notes
                set: {line_id: item.id, note: note}
`

// depotOrders is a file of so many orders; skus says out of how many their lines are.
func depotOrders(n, skus int, seed uint64) string {
	r := rand.New(rand.NewPCG(seed, 3))
	var b strings.Builder
	for i := range n {
		var lines []string
		for range 1 + r.IntN(6) {
			notes := []string{"", `"fragile"`, `"fragile", "cold"`}[r.IntN(3)]
			lines = append(
				lines,
				fmt.Sprintf(`{"sku": "S%d", "qty": %d, "price": %d.5, "packed": "2026-04-%02d", "notes": [%s]}`,
					1+r.IntN(skus), 1+r.IntN(3), r.IntN(90), 1+r.IntN(28), notes),
			)
		}
		fmt.Fprintf(
			&b,
			`{"no": "N%d", "buyer": {"name": "Buyer %d"}, "lines": [%s]}`+"\n",
			i,
			i%7,
			strings.Join(lines, ", "),
		)
	}
	return b.String()
}

// ordered is what the tables hold, whatever numbers the database gave.
func (k *desk) ordered(t *testing.T) string {
	notes := k.Table(t, "line_notes", "note")
	lines := k.Table(t, "order_lines", "position", "sku", "qty", "price", "packed")
	slices.Sort(notes)
	slices.Sort(lines)
	return strings.Join(slices.Concat(k.Table(t, "stock"), k.Table(t, "orders", "no", "buyer"), lines, notes), "\n")
}

// Lists give the same rows one occasion at a time, together and at once, also where two
// elements of an order use the same stock, and a withdrawal takes everything back.
func TestListsAreTheSameInAnyGrouping(t *testing.T) {
	for _, engine := range loadtest.Engines() {
		t.Run(engine.Name, func(t *testing.T) {
			for _, skus := range []int{2, 60} {
				var first string
				for i, size := range []string{"1", "50"} {
					d := &loadtest.DB{Engine: engine, URL: engine.Make(t, engine.Words.Replace(depot))}
					d.Store = d.Open(t)
					k := newDesk(t, d)
					k.write(t, "orders.ndjson", depotOrders(60, skus, 1))
					text := strings.Replace(depotPlan, "TOGETHER", size, 1)
					k.fill(t, text)
					r, err := k.run(t, text, k.Journaled(load.Options{}))
					require.NoError(t, err)
					assert.Equal(t, int64(60), r.Done)
					assert.True(t, r.Steps[1].Loop)
					assert.Equal(t, r.Steps[1].Rows, r.Steps[3].Rows)
					assert.Positive(t, r.Steps[5].Rows)
					if i == 0 {
						first = k.ordered(t)
					}
					assert.Equal(t, first, k.ordered(t), "together: %s, %d skus", size, skus)
				}
			}
		})
	}
}

// Lines that touch no row of another order are written at once, and still in their order.
func TestListsAtOnce(t *testing.T) {
	loadtest.OnEach(t, depot, func(t *testing.T, d *loadtest.DB) {
		k := newDesk(t, d)
		k.write(t, "orders.ndjson", depotOrders(200, 60, 1))
		text := strings.Replace(depotPlan, "TOGETHER", "200", 1)
		text = strings.Replace(text, "          - update: Stock\n            match: {sku: line.sku}\n"+
			"            set: {left_over: left_over - line.qty}\n", "", 1)
		k.fill(t, text)
		r, err := k.run(t, text, k.Journaled(load.Options{}))
		require.NoError(t, err)
		assert.Equal(t, int64(200), r.AtOnce)
		assert.Equal(t, int64(200), r.Done)
	})
}

// What is refused is named by its element, its member and its line; with a policy the occasion
// is left out as a whole.
func TestARefusedElement(t *testing.T) {
	const good = `{"no": "A", "buyer": {"name": "Ann"}, ` +
		`"lines": [{"sku": "S1", "qty": 1, "price": 1, "packed": null, "notes": null}]}`
	loadtest.OnEach(t, depot, func(t *testing.T, d *loadtest.DB) {
		k := newDesk(t, d)
		text := strings.Replace(depotPlan, "TOGETHER", "50", 1)
		k.write(t, "orders.ndjson", good)
		k.fill(t, text)
		for name, x := range map[string]struct{ line, element, message string }{
			"a check": {
				`{"no": "B", "lines": [{"sku": "S1", "qty": 1}, {"sku": "S2", "qty": 2}, {"sku": "S3", "qty": 0}]}`,
				"lines[3]", "",
			},
			"a list that is empty": {`{"no": "B", "lines": []}`, "", "lines has 0 elements, and 1 to 6 are expected"},
			"no row": {
				`{"no": "B", "lines": [{"sku": "S1", "qty": 1}, {"sku": "S999", "qty": 2}]}`, "lines[2].sku",
				"no row of stock matches",
			},
			"too long": {
				`{"no": "B", "lines": [{"sku": "S1", "qty": 1, "notes": ["a", "a note that is far too long for it"]}]}`,
				"lines[1].notes[2]", "",
			},
			"NULL": {`{"no": "B", "lines": [{"sku": "S1", "qty": 1}, {"sku": "S2"}]}`, "lines[2]", ""},
		} {
			k.write(t, "orders.ndjson", good+"\n"+x.line+"\n")
			_, err := k.run(t, text, k.Journaled(load.Options{DryRun: true}))
			var refusal *journal.Refusal
			require.ErrorAs(t, err, &refusal, name)
			assert.Contains(t, refusal.Element, x.element, name)
			assert.Contains(t, refusal.Message, x.message, name)
			assert.True(t, strings.HasSuffix(refusal.Place, "orders.ndjson:2"), refusal.Place)
			r, err := k.run(t, text, k.Journaled(load.Options{DryRun: true, Policies: skipAll()}))
			require.NoError(t, err, name)
			assert.Equal(t, [2]int64{1, 1}, [2]int64{r.Done, r.Rejected}, name)
		}
	})
}

// A run over lists is taken back as a whole.
func TestListsAreTakenBack(t *testing.T) {
	loadtest.OnEach(t, depot, func(t *testing.T, d *loadtest.DB) {
		k := newDesk(t, d)
		k.write(t, "orders.ndjson", depotOrders(40, 30, 2))
		text := strings.Replace(depotPlan, "TOGETHER", "20", 1)
		k.fill(t, text)
		before := k.ordered(t)
		r, err := k.run(t, text, k.Journaled(load.Options{}))
		require.NoError(t, err)
		require.NotEqual(t, before, k.ordered(t))
		_, err = withdraw.Run(t.Context(), k.Store, r.Load, withdraw.Options{})
		require.NoError(t, err)
		assert.Equal(t, before, k.ordered(t))
	})
}

// What is wrong with a loop is reported where the plan says it, with the occasion that shows it.
func TestLoopsThatAreWrong(t *testing.T) {
	const line = `{"no": "A", "buyer": {"name": "Ann"}, ` +
		`"lines": [{"sku": "S1", "qty": 1, "price": 1, "packed": null, "notes": ["x"]}]}`
	d := loadtest.Engines()[0].Make(t, loadtest.Engines()[0].Words.Replace(depot))
	k := newDesk(t, &loadtest.DB{Engine: loadtest.Engines()[0], URL: d})
	k.Store = k.Open(t)
	text := strings.Replace(depotPlan, "TOGETHER", "1", 1)
	for name, x := range map[string]struct{ from, to, more, message string }{
		"not a list":      {"in lines", "in buyer", "", "buyer is not a list in"},
		"text":            {"in lines", "in no", "", "no is neither a list nor an object in"},
		"an unknown list": {"in lines", "in lnies", "", "have no field lnies"},
		"an unknown key": {"line.qty", "line.qyt", "", "no line has the key qyt; known: notes, packed, " +
			"price, qty, sku"},
		"a list as a value":      {"note: note", "note: line.notes", "", "line.notes is of type json"},
		"a key of a plain value": {"note: note", "note: note.text", "", "note is not an object in"},
		"a part of a list":       {"buyer: buyer.name", "buyer: lines.sku", "", "lines is a list in"},
		"plain and a list": {"", "", `{"no": "B", "lines": [{"sku": "S1", "qty": [1]}]}`, "line.qty is a " +
			"plain value in"},
		"a name that is taken": {"note in line.notes", "line in line.notes", "", "line is already the name of"},
		"a field's name": {"note in line.notes", "no in line.notes", "", "no is already a field of the " +
			"occasion"},
		"a row outside its loop": {"set: {line_id: item.id, note: note}", "set: {line_id: item.id, note: note}\n  " +
			"    - delete: order_lines\n        match: {id: item.id}", "",
			"no earlier step finds or adds a row named item"},
		"no list named":  {"line in lines", "line", "", "for must say what an element is called"},
		"plain elements": {"", "", `{"no": "B", "lines": ["S1"]}`, "line is not an object in"},
	} {
		k.write(t, "orders.ndjson", line+"\n"+x.more)
		changed := strings.Replace(text, x.from, x.to, 1)
		_, err := k.tryPlan(t, changed)
		require.Error(t, err, name)
		assert.Contains(t, err.Error(), x.message, name)
	}
}

// Lines of a CSV file are dealt into occasions by the columns that they share, wherever they stand.
func TestGroupedLines(t *testing.T) {
	const text = `
units:
  order:
    rows_from: {file: lines.csv, group_by: [no, buyer], list: items,
      columns: {no: {column: No, as: text}, buyer: Buyer, sku: {column: SKU, as: text}, qty: Qty, note: Note}}
    together: 10
    steps:
      - insert: orders
        as: head
        set: {no: no, buyer: buyer}
      - for: item in items
        numbered: position
        steps:
          - insert: order_lines
            set: {order_id: head.id, position: position, sku: item.sku, qty: item.qty}
`
	loadtest.OnEach(t, depot, func(t *testing.T, d *loadtest.DB) {
		k := newDesk(t, d)
		const lines = "No,Buyer,SKU,Qty,Note\n007,Ann,11,1,x\n008,Bo,12,2,\n007,Ann,2026-01-01,3,\n007,Cy,13,4,\n"
		k.write(t, "lines.csv", lines)
		_, err := k.run(t, text, k.Journaled(load.Options{}))
		var refusal *journal.Refusal
		require.ErrorAs(t, err, &refusal, "an order cannot have two buyers")
		k.write(t, "lines.csv", strings.Replace(lines, "007,Cy", "009,Cy", 1))
		r, err := k.run(t, text, k.Journaled(load.Options{}))
		require.NoError(t, err)
		assert.Equal(t, int64(3), r.Done)
		assert.Equal(t, []string{"007 Ann", "008 Bo", "009 Cy"}, k.Table(t, "orders", "no", "buyer"))
		got := k.Table(t, "order_lines", "sku", "position", "qty")
		slices.Sort(got)
		assert.Equal(t, []string{"11 1 1", "12 1 2", "13 1 4", "2026-01-01 2 3"}, got)

		k.write(t, "lines.csv", lines[:strings.Index(lines, "007,Cy")]+"010,Di,1,1,\n011,Ed,1,1,\n010,Di,2,0,\n")
		_, err = k.run(t, text, k.Journaled(load.Options{}))
		require.ErrorAs(t, err, &refusal)
		assert.Contains(t, refusal.Element, "items[2]")
		assert.True(t, strings.HasSuffix(refusal.Place, "lines.csv:7"), refusal.Place)
	})
}
