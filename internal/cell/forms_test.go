package cell

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/value"
)

func TestNumbersAndDatesInOtherForms(t *testing.T) {
	comma, point := Forms{Decimal: "comma", Dates: "d.m.y"}, Forms{Decimal: "point", Dates: "m/d/y"}
	for text, want := range map[string]string{
		"1.234,50": "1234.50", "12,5": "12.5", "-7": "-7", "1 000 000": "1000000", "1'234": "1234", "1.234": "1234",
		"007": "007", "1.23": "1.23", "12,5 kg": "12,5 kg", "1,2,3": "1,2,3",
		"31.12.2026": "2026-12-31", "1.2.2026 7:05": "2026-02-01 " +
			"07:05:00", "31.2.2026": "31.2.2026", "12/31/2026": "12/31/2026",
	} {
		assert.Equal(t, want, comma.Plain(Cell{Kind: Text, Text: text}).Text, text)
	}
	assert.Equal(t, "1234.50", point.Plain(Cell{Kind: Text, Text: "1,234.50"}).Text)
	assert.Equal(t, "2026-12-31", point.Plain(Cell{Kind: Text, Text: "12/31/2026"}).Text)
	assert.Equal(t, "12/31/26", point.Plain(Cell{Kind: Text, Text: "12/31/26"}).Text, "a year has four digits")
	assert.Equal(t, "1,5", Forms{}.Plain(Cell{Kind: Text, Text: "1,5"}).Text)
	v, err := Parse(comma.Plain(Cell{Kind: Text, Text: "1.234,50"}), value.Decimal)
	require.NoError(t, err)
	assert.Equal(t, "1234.50", v.String())
}

func TestFormsAreRecognised(t *testing.T) {
	for _, c := range []struct {
		numbers, dates []string
		want           Forms
		fault          string
	}{
		{[]string{"1", "12,5"}, nil, Forms{Decimal: "comma"}, ""},
		{[]string{"1,234", "1,234.5"}, nil, Forms{Decimal: "point"}, ""},
		{[]string{"1.5", "2"}, []string{"2026-01-01"}, Forms{}, ""},
		{[]string{"1,234"}, nil, Forms{}, "decimal comma or a thousands separator"},
		{nil, []string{"31.12.2026", "1.2.2026"}, Forms{Dates: "d.m.y"}, ""},
		{nil, []string{"1/2/2026", "2/25/2026"}, Forms{Dates: "m/d/y"}, ""},
		{nil, []string{"1/2/2026"}, Forms{}, "d/m/y or m/d/y: say which"},
		{nil, []string{"soon"}, Forms{}, ""},
	} {
		got, err := Recognise(c.numbers, c.dates, false)
		if c.fault != "" {
			assert.ErrorContains(t, err, c.fault)
			continue
		}
		require.NoError(t, err)
		assert.Equal(t, c.want, got)
	}
}

func FuzzShape(f *testing.F) {
	f.Add(`{"a": [1, 2.50, null], "b": {"c": "2026-01-01"}}`)
	f.Add(`[[[[]]]]`)
	f.Add(`"x"`)
	f.Fuzz(func(t *testing.T, text string) {
		s := NewShape()
		if !json.Valid([]byte(text)) || s.See([]byte(text), 1) != nil {
			return
		}
		typ, scale := s.Result()
		if typ != value.Null {
			_, err := ParseJSON([]byte(text), typ, scale)
			assert.NoError(t, err, "what was seen can be read")
		}
	})
}
