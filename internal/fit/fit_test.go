package fit

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/schema"
	"evensprout/internal/value"
)

func TestWhatDoesNotFitAColumn(t *testing.T) {
	number := func(text string) value.Value {
		v, err := value.ParseDecimal(text)
		require.NoError(t, err)
		return v
	}
	moment, err := value.ParseTimestamp("2026-05-01T08:00:00.25Z")
	require.NoError(t, err)
	price := schema.Column{Kind: schema.Decimal, Precision: 6, Scale: 2}
	wide := schema.Column{Kind: schema.Decimal, Precision: 38, Scale: 18}
	small := schema.Column{Kind: schema.Integer, Bits: 8}
	for _, c := range []struct {
		column schema.Column
		value  value.Value
		want   Reason
	}{
		{schema.Column{NotNull: true}, value.Value{}, NotNull}, {schema.Column{}, value.Value{}, ""},
		{schema.Column{Kind: schema.Text, Length: 3}, value.String("äöü"), ""},
		{schema.Column{Kind: schema.Text, Length: 3}, value.String("abcd"), TooLong},
		{schema.Column{Kind: schema.Bytes, Length: 3}, value.String("äö"), TooLong},
		{schema.Column{Kind: schema.Bytes, Length: 3}, value.Value{Type: value.Bytes, S: "abcd"}, TooLong},
		{schema.Column{Kind: schema.Text, Values: []string{"calm"}}, value.String("calm"), ""},
		{schema.Column{Kind: schema.Text, Values: []string{"calm"}}, value.String("Calm"), BadValue},
		{small, value.Int(127), ""}, {small, value.Int(128), OutOfRange}, {small, value.Int(-128), ""},
		{small, value.Int(-129), OutOfRange},
		{schema.Column{Kind: schema.Integer, Bits: 8, Unsigned: true}, value.Int(255), ""},
		{schema.Column{Kind: schema.Integer, Bits: 8, Unsigned: true}, value.Int(256), OutOfRange},
		{schema.Column{Kind: schema.Integer, Bits: 64, Unsigned: true}, value.Int(-1), OutOfRange},
		{price, number("9999.99"), ""}, {price, number("10000.00"), OutOfRange},
		{price, number("-10000"), OutOfRange}, {price, number("1.230"), ""}, {price, number("1.234"), OutOfRange},
		{price, number("9999"), ""}, {wide, number("9223372036854775807"), ""},
		{wide, number("0.999999999999999999"), ""},
		{schema.Column{Kind: schema.Decimal, Exact: 15}, number("999999999999999"), ""},
		{schema.Column{Kind: schema.Decimal, Exact: 15}, number("1000000000000000"), OutOfRange},
		{schema.Column{Kind: schema.Decimal, Precision: 6, Scale: 2, Unsigned: true}, number("-0.01"), OutOfRange},
		{schema.Column{Kind: schema.Real, Float: 32}, value.Int(16777216), ""},
		{schema.Column{Kind: schema.Real, Float: 32}, value.Int(16777217), OutOfRange},
		{schema.Column{Kind: schema.Real, Float: 32}, number("12.345"), ""},
		{schema.Column{Kind: schema.Real, Float: 32}, number("12.3450"), ""},
		{schema.Column{Kind: schema.Real, Float: 32}, number("123456.789"), OutOfRange},
		{schema.Column{Kind: schema.Real, Float: 64}, value.Int(9007199254740992), ""},
		{schema.Column{Kind: schema.Real, Float: 64}, value.Int(9007199254740993), OutOfRange},
		{schema.Column{Kind: schema.Real, Float: 64}, number("-0.1"), ""},
		{schema.Column{Kind: schema.Real, Float: 32, Precision: 7, Scale: 2}, number("12.345"), OutOfRange},
		{schema.Column{Kind: schema.Real, Float: 32, Precision: 7, Scale: 2}, number("12.34"), ""},
		{schema.Column{Kind: schema.Any, Precision: 18, Scale: 2}, number("12.345"), OutOfRange},
		{schema.Column{Kind: schema.Any, Least: 1901, Most: 2155}, value.Int(5), OutOfRange},
		{schema.Column{Kind: schema.Any, Least: 1901, Most: 2155}, value.String("0"), OutOfRange},
		{schema.Column{Kind: schema.Any, Least: 1901, Most: 2155}, value.String("2026"), ""},
		{schema.Column{Kind: schema.Any, Numbers: true}, value.String("00501"), BadValue},
		{schema.Column{Kind: schema.Any, Numbers: true}, value.String(" 501"), BadValue},
		{schema.Column{Kind: schema.Any, Numbers: true}, value.String("1e3"), BadValue},
		{schema.Column{Kind: schema.Any, Numbers: true}, value.String("1.50"), BadValue},
		{schema.Column{Kind: schema.Any, Numbers: true}, value.String("12345678901234567890"), BadValue},
		{schema.Column{Kind: schema.Any, Numbers: true}, value.String("+1"), BadValue},
		{schema.Column{Kind: schema.Any, Numbers: true}, value.String("501"), ""},
		{schema.Column{Kind: schema.Any, Numbers: true}, value.String("1.5"), ""},
		{schema.Column{Kind: schema.Any, Numbers: true}, value.String("0x10"), ""},
		{schema.Column{Kind: schema.Any, Numbers: true}, value.String("inf"), ""},
		{schema.Column{Kind: schema.Any, Numbers: true}, value.String("1 2"), ""},
		{schema.Column{Kind: schema.Any}, value.String("00501"), ""},
		{schema.Column{Kind: schema.Timestamp, Type: "datetime", Digits: 2}, moment, ""},
		{schema.Column{Kind: schema.Timestamp, Type: "datetime", Digits: 1}, moment, OutOfRange},
	} {
		v := Value(&c.column, &c.value)
		if c.want == "" {
			assert.Nil(t, v, "%+v %s", c.column, c.value)
			continue
		}
		require.NotNil(t, v, "%+v %s", c.column, c.value)
		assert.Equal(t, c.want, v.Reason)
	}
}
