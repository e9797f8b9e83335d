package value

import (
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestDecimalsAreReadAndShownExactly(t *testing.T) {
	for _, text := range []string{"0", "7", "-7", "4.50", "-0.05", "0.001", "922337203685477.5807",
		"-9223372036854775808", "12345678.000000000000000001"[:20]} {
		v, err := ParseDecimal(text)
		require.NoError(t, err, text)
		assert.Equal(t, text, v.String())
	}
	for _, text := range []string{"", ".", "1.", ".5", "1e5", "0x10", "1.2.3", "--1", "1.-2", "9223372036854775808",
		"0.1234567890123456789", "one"} {
		_, err := ParseDecimal(text)
		assert.Error(t, err, text)
	}
}

func TestRescaleLosesNothing(t *testing.T) {
	v := must(ParseDecimal("4.50"))
	r, ok := v.Rescale(1)
	assert.True(t, ok)
	assert.Equal(t, "4.5", r.String())
	_, ok = v.Rescale(0)
	assert.False(t, ok)
	_, ok = Int(math.MaxInt64).Rescale(1)
	assert.False(t, ok)
}

func TestUUIDsAreReadAndShown(t *testing.T) {
	const text = "019de28d-3c00-7cbb-955b-ce3417366a71"
	assert.Equal(t, text, must(ParseUUID(text)).String())
	for _, bad := range []string{"", "x", text[:35], text + "0", "019d-e28d3c00-7cbb-955b-ce3417366a71",
		"019de28d_3c00_7cbb_955b_ce3417366a71"} {
		_, err := ParseUUID(bad)
		assert.Error(t, err, bad)
	}
}

func TestDatesAreReadAndShown(t *testing.T) {
	for _, text := range []string{"1970-01-01", "2024-02-29", "1900-02-28", "0001-01-01", "9999-12-31"} {
		assert.Equal(t, text, must(ParseDate(text)).String())
	}
	assert.Equal(t, int64(0), must(ParseDate("1970-01-01")).N)
	for _, bad := range []string{"2023-02-29", "1900-02-29", "2026-13-01", "2026-00-10", "2026-1-1", "26-01-01",
		"2026/01/01", "2026-04-31"} {
		_, err := ParseDate(bad)
		assert.Error(t, err, bad)
	}
}

// Every day of a long stretch has the date after the day before.
func TestCivilIsTheInverseOfDays(t *testing.T) {
	for days := int64(-800_000); days < 800_000; days += 37 {
		y, m, d := Civil(days)
		assert.Equal(t, days, daysOf(y, m, d))
		assert.True(t, m >= 1 && m <= 12 && d >= 1 && d <= monthDays(y, m))
	}
}

func TestMomentsAreReadAndShown(t *testing.T) {
	for text, want := range map[string]string{
		"2026-05-01T08:00:00Z": "2026-05-01T08:00:00Z", "2026-05-01 08:00:00": "2026-05-01T08:00:00Z",
		"2026-05-01T08:00Z":       "2026-05-01T08:00:00Z",
		"2026-05-01T08:00:00.25Z": "2026-05-01T08:00:00.25Z", "2026-05-01T08:00:00+02:00": "2026-05-01T06:00:00Z",
		"2026-01-01T00:30:00+01:00": "2025-12-31T23:30:00Z",
		"1969-12-31T23:59:59Z":      "1969-12-31T23:59:59Z",
	} {
		assert.Equal(t, want, must(ParseTimestamp(text)).String(), text)
	}
	for _, bad := range []string{"", "noon", "2026-05-01", "2026-05-01T25:00:00Z", "2026-05-01T08:60:00Z",
		"2026-05-01T08:00:00+2", "2026-05-01T08:00:00.1234567Z"} {
		_, err := ParseTimestamp(bad)
		assert.Error(t, err, bad)
	}
	assert.Equal(t, "06:05:00", must(ParseTime("06:05")).String())
	_, err := ParseTime("24:00:00")
	assert.Error(t, err)
}

func TestSpans(t *testing.T) {
	from := must(ParseTimestamp("2024-01-31T10:00:00Z"))
	for text, want := range map[string]string{
		"90m": "2024-01-31T11:30:00Z", "1h30m": "2024-01-31T11:30:00Z", "1d": "2024-02-01T10:00:00Z",
		"2w":  "2024-02-14T10:00:00Z",
		"1mo": "2024-02-29T10:00:00Z", "13mo": "2025-02-28T10:00:00Z", "1y": "2025-01-31T10:00:00Z",
		"30s": "2024-01-31T10:00:30Z",
	} {
		span := must(ParseSpan(text))
		assert.Equal(t, want, Value{Type: Timestamp, N: span.After(from.N, 1)}.String(), text)
	}
	for _, bad := range []string{"", "90", "d", "1.5d", "0d", "-1d", "3x", "99999999999999d", "1 d"} {
		_, err := ParseSpan(bad)
		assert.Error(t, err, bad)
	}
}

func TestFold(t *testing.T) {
	for _, same := range [][]string{
		{"Émile", "emile", "EMILE ", "e\u0301mile"}, {"straße", "STRASSE"}, {"Ångström", "angstrom"}, {"ﬁne", "fine"},
		{"Øre", "ore"}, {"Σίσυφος", "σισυφοσ"},
	} {
		for _, s := range same {
			assert.Equal(t, Fold(same[0]), Fold(s), s)
		}
	}
	assert.NotEqual(t, Fold("a b"), Fold("ab"))
	assert.NotEqual(t, Fold("a-b"), Fold("a_b"))
}

func TestMomentsByTheirLooks(t *testing.T) {
	for text, want := range map[string]string{
		"2026-05-01": "date", "2026-05-01T08:00": "timestamp", "2026-05-01 08:00:00.5Z": "timestamp", "08:15": "time",
		"08:15:30": "time", "08:15:30.25": "time",
		"2026-02-30": "wrong", "25:00": "wrong", "2026-05-01T99:00": "wrong", "": "no", "8:15": "no",
		"2026-5-1": "no", "08:15 or " +
			"later": "no", "2026-05-01x": "no",
		"192.0.2.1": "no", "12345678901234567890123456789012345678901234567890": "no",
	} {
		v, looks, err := ReadMoment(text)
		got := v.Type.String()
		switch {
		case !looks:
			got = "no"
		case err != nil:
			got = "wrong"
		}
		assert.Equal(t, want, got, text)
	}
}

func must[T any](v T, err error) T {
	if err != nil {
		panic(err)
	}
	return v
}
