package derive

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/value"
)

func known(t testing.TB, v value.Value, err error) value.Value {
	require.NoError(t, err)
	return v
}

// inputs of the tests, by name.
func inputs(t testing.TB) map[string]value.Value {
	price, err := value.ParseDecimal("4.50")
	price = known(t, price, err)
	at, err := value.ParseTimestamp("2026-05-01T23:30:00Z")
	at = known(t, at, err)
	born, err := value.ParseDate("1990-02-28")
	born = known(t, born, err)
	return map[string]value.Value{
		"n": value.Int(
			7,
		), "price": price, "name": value.String("Zoë Larkspur"), "open": value.Bool(true), "at": at, "born": born,
		"Passenger.code": value.String("AB-12"), "none": {Type: value.Null},
	}
}

func eval(t testing.TB, text string, scale int) (value.Value, error) {
	p, err := Parse(text)
	if err != nil {
		return value.Value{}, err
	}
	all := inputs(t)
	var in []Input
	var values []value.Value
	for _, name := range p.Names() {
		v, ok := all[name]
		if !ok {
			return value.Value{}, p.Missing(name, "there is no field "+name)
		}
		typ := v.Type
		if v.IsNull() {
			typ = value.Integer
		}
		in = append(in, Input{name, typ, v.Scale})
		values = append(values, v)
	}
	x, err := p.Compile(in, scale)
	if err != nil {
		return value.Value{}, err
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
		{"n + ", "the expression ends too early", 5},
		{"n + nobody", "there is no field nobody", 5},
		{"n + name", "+ cannot be applied to a whole number and a text", 3},
		{"price == 5", "a decimal and a whole number cannot be compared", 7},
		{"double(n)", "the result is a double", 0},
		{"[n]", "which no field can hold", 0},
		{"slag(name)", "there is no function slag", 5},
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

// What a message advises makes the expression right.
func TestAdviceOfExpressions(t *testing.T) {
	for _, c := range []struct{ wrong, message, hint, right string }{
		{"n < 3 ? 'x' : 1", "type, got a text and a whole number", "string(x) makes a text",
			"n < 3 ? 'x' " +
				": string(1)"},
		{"n ? 'x' : 'y'", "part before ? must be true or false,", "x > 0 ? ...", "n > 0 ? 'x' : 'y'"},
		{"!n", "! needs true or false", "compare it", "!(n > 0)"},
		{"n && n > 3", "true or false is needed here, got a whole number", "compare it", "n > 0 && n > 3"},
		{"born + n", "+ cannot be applied to a date and a whole number", "addDays(d, n)", "addDays(born, n)"},
		{"born < '1990-01-01'", "a date and a text cannot be compared", `date("2026-05-01")`, "born < " +
			"date('1990-01-01')"},
		{"at < '2026-01-01'", "a moment and a text cannot be compared", `timestamp("2026-05-01T08:00:00Z")`, "at < " +
			"timestamp('2026-01-01T00:00:00Z')"},
		{"at + 90", "+ cannot be applied to a moment and a whole number", `duration("90m")`, "at + duration('90m')"},
		{"name + n", "+ cannot be applied to a text and a whole number", "string(x)", "name + string(n)"},
		{"price == 5", "cannot be compared", "int(x) a whole number", "int(price) == 5"},
		{"lower(n)", "lower does not accept a whole number", "string(x)", "lower(string(n))"},
		{"name.contains(n)", "contains does not accept a text and a whole number", "string(x)",
			"name.contains(string(n))"},
		{"-name", "- cannot be applied to a text", "int(x)", "-int('3')"},
		{"slag(name)", "there is no function slag", "slug", "slug(name)"},
		{"n +", "the expression ends too early", "something is missing", "n + 1"},
		{"(n + 1", "ends too early", "a parenthesis is not closed", "(n + 1)"},
		{"n + 1)", `")" is not expected here`, "the operators are", "n + 1"},
		{"n =! 3", "is not a part of an expression", "", "n != 3"},
		{"n > 3 AND n < 9", `"AND" is not expected here`, "&&", "n > 3 && n < 9"},
	} {
		_, err := eval(t, c.wrong, -1)
		var e *Error
		require.ErrorAs(t, err, &e, c.wrong)
		assert.Contains(t, e.Message, c.message, c.wrong)
		assert.Contains(t, e.Hint, c.hint, c.wrong)
		for _, raw := range []string{"overload", "input", "token", "undeclared"} {
			assert.NotContains(t, e.Message, raw, c.wrong)
		}
		_, err = eval(t, c.right, -1)
		assert.NoError(t, err, c.right)
	}
}

func TestEvaluationThatFails(t *testing.T) {
	for text, message := range map[string]string{
		"div(price, n - 7, 2)":                  "division by zero",
		"price * price * price":                 "does not fit into 2 decimal places:",
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
	for name, text := range map[string]string{"decimals": "round(price * decimal('1.25'), 2)", "text": "slug(name) " +
		"+ '-' + string(n)"} {
		b.Run(name, func(b *testing.B) {
			p, err := Parse(text)
			require.NoError(b, err)
			all := inputs(b)
			var in []Input
			var values []value.Value
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
