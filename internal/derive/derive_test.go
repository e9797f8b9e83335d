package derive

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/grow"
)

func value(t testing.TB, v grow.Value, err error) grow.Value {
	require.NoError(t, err)
	return v
}

// inputs of the tests, by name.
func inputs(t testing.TB) map[string]grow.Value {
	price, err := grow.ParseDecimal("4.50")
	price = value(t, price, err)
	at, err := grow.ParseTimestamp("2026-05-01T23:30:00Z")
	at = value(t, at, err)
	born, err := grow.ParseDate("1990-02-28")
	born = value(t, born, err)
	return map[string]grow.Value{
		"n": grow.Int(7), "price": price, "name": grow.String("Zoë Larkspur"), "open": grow.Bool(true), "at": at, "born": born,
		"Passenger.code": grow.String("AB-12"), "none": {Type: grow.Null},
	}
}

func eval(t testing.TB, text string, scale int) (grow.Value, error) {
	p, err := Parse(text)
	if err != nil {
		return grow.Value{}, err
	}
	all := inputs(t)
	var in []Input
	var values []grow.Value
	for _, name := range p.Names() {
		v, ok := all[name]
		if !ok {
			return grow.Value{}, p.Missing(name, "there is no field "+name)
		}
		typ := v.Type
		if v.IsNull() {
			typ = grow.Integer
		}
		in = append(in, Input{name, typ, v.Scale})
		values = append(values, v)
	}
	x, err := p.Compile(in, scale)
	if err != nil {
		return grow.Value{}, err
	}
	out, err := x.Eval(values)
	if err == nil && !out.IsNull() {
		assert.Equal(t, x.Type, out.Type, text)
	}
	return out, err
}

func TestExpressions(t *testing.T) {
	for text, want := range map[string]string{
		"n * 2 + 1":                                "15",
		"n % 2 == 1 ? 'odd' : 'even'":              "odd",
		"price * 3":                                "13.50",
		"3 * price - decimal('0.05')":              "13.45",
		"price + n":                                "11.50",
		"-price":                                   "-4.50",
		"price < 5 && price >= decimal('4.5')":     "true",
		"price == decimal('4.500')":                "true",
		"div(price, 7, 4)":                         "0.6429",
		"div(10, 4, 0)":                            "2",
		"div(14, 4, 0)":                            "4",
		"div(-price, 2, 2)":                        "-2.25",
		"round(price * decimal('1.2345'), 2)":      "5.56",
		"int(price)":                               "4",
		"string(price) + ' EUR'":                   "4.50 EUR",
		"slug(name)":                               "zoe-larkspur",
		"upper(left(ascii(name), 3))":              "ZOE",
		"right(name, 4) + '/' + pad(string(n), 3)": "spur/007",
		"digits(Passenger.code)":                   "12",
		"left(hash(name), 8)":                      "5a9f2cb1",
		"replace(Passenger.code, '-', '')":         "AB12",
		"name.startsWith('Zo') && open":            "true",
		"size(name)":                               "12",
		"year(at) * 100 + month(at)":               "202605",
		"weekday(at)":                              "5",
		"date(at)":                                 "2026-05-01",
		"addDays(born, 1)":                         "1990-03-01",
		"addDays(at, -1)":                          "2026-04-30T23:30:00Z",
		"daysBetween(born, date('1991-02-28'))":    "365",
		"string(born) + ' ' + string(day(born))":   "1990-02-28 28",
		"born < date('2000-01-01')":                "true",
		"at + duration('45m')":                     "2026-05-02T00:15:00Z",
		"timestamp(born) < at":                     "true",
		"none + 1":                                 "NULL",
		"-n - 1":                                   "-8",
		"price > n || n <= 7":                      "true",
		"price != decimal('4.5')":                  "false",
		"born == date('1990-02-28')":               "true",
		"born != date('1990-02-28')":               "false",
		"born <= date(at) && born >= born":         "true",
		"at - duration('45m') < at":                "true",
		"name + '!' > 'Z'":                         "true",
	} {
		scale := -1
		switch text {
		case "div(price, 7, 4)":
			scale = 4
		case "div(10, 4, 0)", "div(14, 4, 0)":
			scale = 0
		}
		got, err := eval(t, text, scale)
		require.NoError(t, err, text)
		assert.Equal(t, want, got.String(), text)
	}
}

func TestExpressionsThatAreRefused(t *testing.T) {
	for _, c := range []struct {
		text, message string
		column        int
	}{
		{"price * 1.5", "this is a double", 9},
		{"n + ", "mismatched input", 5},
		{"n + nobody", "there is no field nobody", 5},
		{"n + name", "found no matching overload", 3},
		{"price == 5", "found no matching overload", 7},
		{"double(n)", "the result is a double", 0},
		{"[n]", "which no field holds", 0},
		{"slag(name)", "undeclared reference to 'slag'", 5},
		{"[1, 2].exists(x, x > n)", "", 0},
	} {
		_, err := eval(t, c.text, -1)
		var e *Error
		require.ErrorAs(t, err, &e, c.text)
		assert.Contains(t, e.Message, c.message, c.text)
		if c.column > 0 {
			assert.Equal(t, [2]int{1, c.column}, [2]int{e.Line, e.Column}, c.text)
		}
	}
}

func TestEvaluationThatFails(t *testing.T) {
	for text, message := range map[string]string{
		"div(price, n - 7, 2)":                  "a division by zero",
		"price * price * price":                 "does not fit 2 digits after the point",
		"decimal('999999999999999999') * n * n": "more digits than fit",
		"n / (n - 7)":                           "division by zero",
		"decimal(name)":                         "not a plain decimal number",
		"9223372036854775807 + n":               "overflow",
	} {
		_, err := eval(t, text, -1)
		assert.ErrorContains(t, err, message, text)
	}
}

func BenchmarkDerive(b *testing.B) {
	for name, text := range map[string]string{"decimals": "round(price * decimal('1.25'), 2)", "text": "slug(name) + '-' + string(n)"} {
		b.Run(name, func(b *testing.B) {
			p, err := Parse(text)
			require.NoError(b, err)
			all := inputs(b)
			var in []Input
			var values []grow.Value
			for _, n := range p.Names() {
				in, values = append(in, Input{n, all[n].Type, all[n].Scale}), append(values, all[n])
			}
			x, err := p.Compile(in, -1)
			require.NoError(b, err)
			b.ReportAllocs()
			for b.Loop() {
				if _, err := x.Eval(values); err != nil {
					b.Fatal(err)
				}
			}
		})
	}
}

// The expression compiler takes anything.
func FuzzDerive(f *testing.F) {
	f.Add("round(price * decimal('1.2345'), 2)")
	f.Add("n % 2 == 1 ? slug(name) : 'x'")
	f.Add("Passenger.code + string(date(at))")
	f.Fuzz(func(t *testing.T, text string) { eval(t, text, -1) })
}
