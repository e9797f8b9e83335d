package predicate

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/value"
)

func date(t testing.TB, s string) value.Value {
	v, err := value.ParseDate(s)
	require.NoError(t, err)
	return v
}

// The spellings of three engines come to one.
func TestSpellingsComeToOne(t *testing.T) {
	for text, want := range map[string]string{
		`((status)::text = ANY ((ARRAY['on'::character varying, 'off'::character varying])::text[]))`: `status IN ` +
			`('on', 'off')`,
		"(`rating` between 1 and 5)":                    `rating >= 1 AND rating <= 5`,
		`[order no] NOT IN (1, -2)`:                     `NOT "order no" IN (1, -2)`,
		`a != b AND NOT (c IS NOT NULL OR d)`:           `a <> b AND NOT (NOT c IS NULL OR d)`,
		`name ~~* 'a%'::text`:                           `name ILIKE 'a%'`,
		`(x <> ALL (ARRAY[1, 2]))`:                      `NOT x IN (1, 2)`,
		`price > (0)::numeric`:                          `price > 0`,
		`EXTRACT(year FROM at) >= 2020`:                 `date_part('year', "at") >= 2020`,
		`at >= '2024-01-01'::date`:                      `"at" >= '2024-01-01'`,
		`CASE kind WHEN 'a' THEN x > 1 ELSE y END`:      `CASE WHEN kind = 'a' THEN x > 1 ELSE y END`,
		`length(trim(both from name)) > 0 -- not empty`: `length(trim(name)) > 0`,
		`'it''s' = E'it\'s'`:                            `'it''s' = 'it''s'`,
		`a IS DISTINCT FROM b and at is null or x regexp '^[a-z]'`: `a IS DISTINCT FROM b AND "at" IS NULL OR x ~ ` +
			`'^[a-z]'`,
		`a - (b - c) * -2 > +1`:   `a - (b - c) * -2 > 1`,
		`doc ->> 'kind' = 'boat'`: `doc ->> 'kind' = 'boat'`,
	} {
		n, err := Parse(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, n.String(), text)
		again, err := Parse(n.String())
		require.NoError(t, err, n.String())
		assert.Equal(t, n.String(), again.String())
	}
}

func TestFaultsNameTheirPlace(t *testing.T) {
	for text, want := range map[string]string{
		"a >":                      "3: expected a value, got the end",
		"a = 1 b":                  `6: "b" is not expected here`,
		"name = 'x":                "7: a quoted part is not closed",
		"(a = 1":                   "6: expected ), got the end",
		"a IN (SELECT 1)":          `13: a query inside the condition`,
		"CASE END":                 `5: expected a value, got "END"`,
		strings.Repeat("(", 500):   "levels deep",
		strings.Repeat("a", 30000): "longer than 20000 bytes",
	} {
		_, err := Parse(text)
		var fault *Error
		require.ErrorAs(t, err, &fault, text)
		if at, message, ok := strings.Cut(want, ": "); ok {
			assert.Equal(t, message, fault.Message)
			assert.Equal(t, at, value.Int(int64(fault.Offset)).String(), text)
		} else {
			assert.Contains(t, fault.Message, want)
		}
	}
	for _, text := range []string{"weigh(x) > 1", "a && b", "x SIMILAR TO 'a'", `x ~ '(?=a)'`, "a LIKE b", "(a, b) = " +
		"(1, 2)"} {
		n, err := Parse(text)
		require.NoError(t, err, text)
		_, err = Compile(n)
		assert.ErrorAs(t, err, new(*Unsupported), text)
	}
}

// What conditions let pass, with NULL as neither true nor false.
func TestConditionsHold(t *testing.T) {
	null := value.Value{}
	for _, c := range []struct {
		text   string
		values []value.Value // of the columns in their order
		want   bool
	}{
		{"a > 1", []value.Value{value.Int(2)}, true}, {"a > 1", []value.Value{value.Int(1)}, false},
		{"a > 1", []value.Value{null}, true},
		{"a > 0.5 AND b", []value.Value{value.Int(1), value.Bool(false)}, false},
		{"a < 0 AND b", []value.Value{value.Int(1), null}, false},
		{"a < 0 OR b", []value.Value{value.Int(1), null}, true}, {"NOT (a = 1)", []value.Value{null}, true},
		{"a IS NULL", []value.Value{value.Int(0)}, false},
		{"a IN (1, NULL)", []value.Value{value.Int(2)}, true}, {"a IN (1, 3)", []value.Value{value.Int(2)}, false},
		{"a NOT IN " +
			"(1, NULL)", []value.Value{value.Int(1)}, false},
		{"a LIKE 'q\\_%'", []value.Value{value.String("q_x")}, true},
		{"a LIKE 'q\\_%'", []value.Value{value.String("qax")}, false}, {"a LIKE " +
			"'q!_' ESCAPE '!'", []value.Value{value.String("q_")}, true},
		{"a ~ '^[[:alnum:]_]+$'", []value.Value{value.String("ab_1")}, true},
		{"a ~ '^[[:alnum:]_]+$'", []value.Value{value.String("ab-1")}, false},
		{"a > interval '0'", []value.Value{value.String("3 days")}, true},
		{"a > '1 day 02:30:00'::interval", []value.Value{value.String("26:00:00")}, false}, {"a < '1 day " +
			"02:30:00'::interval", []value.Value{value.String("1 day 2 hours")}, true},
		{"a >= '-1 week'::interval", []value.Value{value.String("00:00:00")}, true},
		{"a = interval '90'", []value.Value{value.String("1 minute 30 " +
			"secs")}, true},
		{"length(a) = 4", []value.Value{value.String("Zoë!")}, true},
		{"octet_length(a) = 4", []value.Value{value.String("Zoë")}, true},
		{"a * b = 0.30", []value.Value{{Type: value.Decimal, Scale: 1, N: 1}, value.Int(3)}, true},
		{"a / 2 = 1", []value.Value{value.Int(3)}, true}, {"a % 5 = 0", []value.Value{value.Int(-10)}, true},
		{"a / b > 0", []value.Value{value.Int(1), value.Int(0)}, false},
		{"a = lower(a)", []value.Value{value.String("Pier")}, false},
		{"ends > starts", []value.Value{date(t, "2026-02-02"), date(t, "2026-02-01")}, true},
		{"ends - starts <= 1", []value.Value{date(t, "2026-02-03"), date(t, "2026-02-01")}, false},
		{"at >= '2026-02-01'", []value.Value{date(t, "2026-01-31")}, false},
		{"date_part('month', at) = 2", []value.Value{date(t, "2026-02-28")}, true},
		{"CASE WHEN a > 5 THEN b = 1 ELSE b = 2 END", []value.Value{value.Int(9), value.Int(2)}, false},
		{"CASE WHEN a " +
			"> 5 THEN b = 1 END", []value.Value{value.Int(1), value.Int(2)}, true},
		{"coalesce(a, b) = 2", []value.Value{null, value.Int(2)}, true},
		{"num_nonnulls(a, b) = 1", []value.Value{null, value.Int(2)}, true}, {"(a IS NULL) " +
			"= (b IS NULL)", []value.Value{null, value.Int(1)}, false},
		{"a IS TRUE", []value.Value{null}, false}, {"a IS DISTINCT FROM 1", []value.Value{null}, true}, {"amount <> " +
			"'NaN'::numeric", []value.Value{value.Int(1)}, true},
		{"a = '7'", []value.Value{value.Int(7)}, true}, {"a = 'x'", []value.Value{value.Int(7)}, false}, {"strpos(a, " +
			"'@') > 1", []value.Value{value.String("x@y")}, true},
		{"substr(a, 2, 2) = 'bc'", []value.Value{value.String("abcd")}, true},
	} {
		n, err := Parse(c.text)
		require.NoError(t, err, c.text)
		k, err := Compile(n)
		require.NoError(t, err, c.text)
		assert.Equal(t, c.want, k.Holds(c.values), "%s over %v", c.text, c.values)
	}
}

func narrow(t *testing.T, texts ...string) (map[string]*Domain, []*Node) {
	var list []*Node
	for _, s := range texts {
		n, err := Parse(s)
		require.NoError(t, err)
		list = append(list, n)
	}
	return Narrow(list)
}

func TestConditionsNarrowColumns(t *testing.T) {
	domains, rest := narrow(
		t,
		"n BETWEEN 3 AND 9 AND 5 < n",
		"code IN ('a', 'b', 'c')",
		"code <> 'b'",
		"length(name) >= 4",
		"name LIKE 'x%'",
		"a < b",
		"flag IS NOT NULL",
	)
	more, left := narrow(t, "m * 2 < 50", "10 - k <= 4", "-2 * j >= 6", "q / 3 > 1", "3 * x <= 10")
	assert.Equal(t, value.Int(25), more["m"].Max.Value)
	assert.Equal(t, value.Int(6), more["k"].Min.Value)
	assert.Equal(t, value.Int(-3), more["j"].Max.Value)
	assert.Len(t, left, 2, "a division, and what is not exact")
	n := domains["n"]
	assert.Equal(t, value.Int(5), n.Min.Value)
	assert.True(t, n.Min.Open)
	assert.Equal(t, value.Int(9), n.Max.Value)
	assert.Equal(t, []value.Value{value.String("a"), value.String("c")}, domains["code"].Values())
	assert.Equal(t, 4, domains["name"].Shortest)
	assert.Len(t, domains["name"].Shapes, 1)
	assert.True(t, domains["flag"].NotNull)
	require.Len(t, rest, 1)
	assert.Equal(t, "a < b", rest[0].String())
}

// Of several ways, one is chosen that fits the rest, rather one with values.
func TestOneOfSeveralWaysIsChosen(t *testing.T) {
	domains, rest := narrow(t, "(amount IS NULL AND currency IS NULL) OR (amount IS NOT NULL AND currency IS NOT NULL)")
	assert.Empty(t, rest)
	assert.True(t, domains["amount"].NotNull && domains["currency"].NotNull)
	domains, _ = narrow(t, "kind = 'a' AND x > 5 OR kind = 'b' AND x < 0", "kind <> 'a'")
	assert.Equal(t, []value.Value{value.String("b")}, domains["kind"].Values())
	assert.Equal(t, value.Int(0), domains["x"].Max.Value)
	domains, _ = narrow(t, "type = 'FS' OR type = 'FF' OR type IS NULL")
	assert.Len(t, domains["type"].Values(), 2)
	domains, _ = narrow(t, "x IS NULL OR x > 3")
	assert.Equal(t, value.Int(3), domains["x"].Min.Value)
	domains, _ = narrow(t, "x > 3 AND x < 2")
	assert.True(t, domains["x"].Empty())
	domains, _ = narrow(t, "is_a IS FALSE OR is_b IS FALSE")
	assert.True(t, domains["is_a"].NotNull)
}

// Whatever stands there, reading and computing end, and what is written reads the same.
func FuzzConditions(f *testing.F) {
	for _, s := range []string{"a > 1 AND b IN ('x', 2)", "CASE WHEN a THEN b END", "a ~ 'x' OR NOT b LIKE '%'",
		"x::date - y " +
			"<= 3 * (2 - z)", "date_part('year', a) = round(b, 2)", "[a b] = `c` || \"d\"", "EXTRACT(dow FROM a) IN " +
			"(1,2)", "a = ANY(ARRAY[1,2]) IS TRUE"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, text string) {
		n, err := Parse(text)
		if err != nil {
			return
		}
		again, err := Parse(n.String())
		if err != nil {
			t.Fatalf("%q was read as %q, which cannot be read: %v", text, n, err)
		}
		if again.String() != n.String() {
			t.Fatalf("%q was read as %q, and that as %q", text, n, again)
		}
		Narrow([]*Node{n})
		c, err := Compile(n)
		if err != nil {
			return
		}
		for _, v := range []value.Value{{}, value.Int(3), value.String("2026-01-01"), value.Bool(true),
			{Type: value.Decimal, Scale: 2, N: -125}, {Type: value.Date, N: 20000},
			{Type: value.Timestamp, N: 1 << 50}} {
			values := make([]value.Value, len(c.Columns))
			for i := range values {
				values[i] = v
			}
			c.Holds(values)
		}
	})
}
