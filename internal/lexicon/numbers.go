package lexicon

import (
	"slices"
	"strings"
)

// Number is a range of numbers, or a kind, that the name of a number suggests.
type Number struct {
	ways   string // as in sources.txt
	Kind   string // of the catalog; empty: the range
	Lo, Hi int64  // in whole units; of a kind, what its values lie between
	Shape  string // of a wide range; empty: even
	Above  bool   // of a kind: its values lie above Lo
}

// numberWays are tried by their scores; of equal ones the first counts.
var numberWays = []Number{
	{"http status | status code | http code", "http-status", 200, 503, "", false},
	{"rating | rating amount | review rating | @review rating", "rating", 1, 5, "", false},
	{"quantity | order quantity | quantity ordered | unit quantity", "quantity", 1, 20, "", false},
	{"stock | stock quantity | stock level | stock number", "stock", 0, 400, "", false},
	{"file size | size | image size | text size | file length", "file-size", 1000, 9_999_999, "", false},
	{"duration millisecond | millisecond", "", 2, 5000, "lognormal", false},
	{"duration second", "", 5, 3600, "lognormal", false},
	{"page | page count | page number", "", 60, 900, "", false},
	{"mileage", "", 1000, 180_000, "", false},
	{"views | views count", "", 1, 5000, "lognormal", false},
	{"duration | duration minute | minute duration", "duration-minutes", 15, 120, "", false},
	{"age | person age", "age", 18, 89, "", false},
	{"latitude", "latitude", -90, 90, "", false},
	{"longitude", "longitude", -180, 180, "", false},
	{"price | price amount | product price | order price | price unit | unit amount", "price", 0, 999, "", true},
	{"tax percent | tax price | vat percent | vat price | vat", "tax-rate", 0, 25, "", false},
	{"discount | discount percent | percent discount", "discount-percent", 0, 75, "", false},
	{"weight | product weight | delivery weight", "weight-kg", 0, 80, "", true},
	{"temperature", "temperature-c", 15, 30, "", false},
	{"humidity", "humidity-percent", 30, 70, "", false},
	{"battery | battery level | battery percent", "battery-percent", 0, 100, "", false},
	{"salary | salary amount | @person salary", "salary", 24_000, 150_000, "", false},
	{"year", "year", 2010, 2026, "", false},
	{"port", "", 1024, 9999, "", false},
	{"person height | @person height", "height-cm", 150, 195, "", false},
	{"weekday", "", 1, 7, "", false},
	{"month", "", 1, 12, "", false},
	{"day", "", 1, 28, "", false},
	{"hour", "", 0, 23, "", false},
	{"minute | second", "", 0, 59, "", false},
	{"percent | percent amount", "", 0, 100, "", false},
	{"amount | total | cost | subtotal | fee | payment | total amount | order total | amount total | invoice total | " +
		"total price | payment amount | cost amount", "", 5, 900, "lognormal", false},
	{"tax | tax amount | discount amount | vat amount", "", 1, 60, "lognormal", false},
	{"balance | account balance", "", 10, 9000, "lognormal", false},
	{"budget", "", 1000, 90_000, "lognormal", false},
	{"width | height | length | depth | image width | image height", "", 100, 2000, "", false},
	{"bed | seat | guest | guest number | person number", "", 1, 8, "", false},
	{"floor", "", 0, 12, "", false},
	{"priority | level", "", 1, 5, "", false},
	{"position | rank | number position", "", 1, 20, "", false},
	{"count | number | total count | number total", "", 0, 50, "", false},
}

// waysOf reads ways as sources.txt writes them.
func waysOf(text, source string, order int) []way {
	var out []way
	for _, part := range strings.Split(text, "|") {
		w := way{source: source, order: order}
		for _, notion := range strings.Fields(part) {
			if subject, ok := strings.CutPrefix(notion, "@"); ok {
				w.subject = subject
			} else {
				w.notions = append(w.notions, notion)
			}
		}
		out = append(out, w)
	}
	return out
}

// NumberOf is the number that a column's name suggests; nil if it suggests none.
func NumberOf(table, column string) *Number {
	of, in := Of(column), Of(table)
	var best *Number
	most := leastScore - 1
	for i := range numberWays {
		for _, w := range waysOf(numberWays[i].ways, "", i) {
			if n := w.score(of, in); n > most {
				best, most = &numberWays[i], n
			}
		}
	}
	return best
}

// Numbers are all that a name can suggest.
func Numbers() []Number { return slices.Clone(numberWays) }
