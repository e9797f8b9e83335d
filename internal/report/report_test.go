package report

import (
	"encoding/json"
	"strconv"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/diag"
	"evensprout/internal/value"
)

func passengers(rows int) Table {
	t := Table{
		Columns: []Column{{Name: "id", Number: true}, {Name: "name"}, {Name: "note"}, {Name: "joined", Whole: true}},
	}
	for range rows {
		t.Rows = append(
			t.Rows,
			[]string{"1001", "Zoë Larkspur", strings.Repeat("calm water ", 9), "2026-05-01 08:00:00"},
		)
	}
	return t
}

func TestTablesAreAligned(t *testing.T) {
	out := Page{Width: 200}.Draw(Table{
		Columns: []Column{{Name: "Table"}, {Name: "Rows", Number: true}},
		Rows:    [][]string{{"piers", "9"}, {"größe", "18,754"}},
	})
	assert.Equal(t, "  Table    Rows\n  ─────────────\n  piers       9\n  größe  18,754", out)
}

func TestTablesFitTheirPage(t *testing.T) {
	for _, width := range []int{20, 40, 60, 80, 120, 200} {
		for _, rows := range []int{1, 5, 50} {
			out := Page{Width: width}.Draw(passengers(rows))
			for _, line := range strings.Split(out, "\n") {
				if !strings.Contains(line, "hidden columns") {
					assert.LessOrEqual(
						t,
						utf8.RuneCountInString(line),
						max(width, 24),
						"%d columns wide: %q",
						width,
						line,
					)
				}
			}
		}
	}
}

func TestNarrowTablesCutNameAndLieDown(t *testing.T) {
	wide := Page{Width: 80}.Draw(passengers(9))
	assert.Contains(t, wide, "calm water c…", "what is long is cut")
	assert.Contains(t, wide, "2026-05-01 08:00:00", "moments never are")
	many := Page{Width: 40}.Draw(passengers(9))
	assert.Contains(t, many, "hidden columns: joined")
	few := Page{Width: 40}.Draw(passengers(1))
	assert.Contains(t, few, "joined  2026-05-01 08:00:00", "a few rows lie on their side")
	assert.NotContains(t, few, "hidden columns")
}

func TestControlCharactersAreWrittenOut(t *testing.T) {
	out := Page{Width: 80}.Draw(Table{Columns: []Column{{Name: "a"}}, Rows: [][]string{{"x\x1b[31m\ny\tz\u2028"}}})
	assert.Contains(t, out, "x\\x1b[31m y z")
	assert.NotContains(t, out, "\x1b")
}

func TestColourOnlyWhereAsked(t *testing.T) {
	assert.Equal(t, "x", Page{}.Alarm("x"))
	assert.Contains(t, Page{Color: true}.Alarm("x"), "\x1b[")
}

func TestCounts(t *testing.T) {
	assert.Equal(t, "1 row", diag.Count(1, "row", "rows"))
	assert.Equal(t, "1,234,567 rows", diag.Count(uint64(1234567), "row", "rows"))
	assert.Equal(t, "0 rows", diag.Count(0, "row", "rows"))
}

func TestObjectsKeepTheirOrderAndNumbersTheirDigits(t *testing.T) {
	o := &Object{}
	price, _ := value.ParseDecimal("4.50")
	moment, _ := value.ParseTimestamp("2026-05-01T08:00:00Z")
	o.Set("z", JSON(price))
	o.Set("a", JSON(value.String("\"quoted\"")))
	o.Set("n", JSON(value.Value{}))
	o.Set("b", JSON(value.Bool(true)))
	o.Set("i", JSON(value.Int(9007199254740993)))
	o.Set("m", JSON(moment))
	o.Set("y", JSON(value.Value{Type: value.Bytes, S: "\x00\x01"}))
	b, err := json.Marshal(o)
	require.NoError(t, err)
	assert.Equal(
		t,
		`{"z":4.50,"a":"\"quoted\"","n":null,"b":true,"i":9007199254740993,"m":"2026-05-01T08:00:00Z","y":"AAE="}`,
		string(b),
	)
}

func ints(n ...int64) []value.Value {
	out := make([]value.Value, len(n))
	for i := range n {
		out[i] = value.Int(n[i])
	}
	return out
}

func TestSpreads(t *testing.T) {
	few := SpreadOf(append(ints(1, 1, 1, 2), value.Value{}), nil)
	assert.Equal(
		t,
		Spread{Rows: 5, Nulls: 1, Distinct: 2, Least: "1", Most: "2", Choices: []Choice{{"1", 3}, {"2", 1}}},
		few,
	)
	assert.Equal(t, "1 ███████▌ 75.0%  2 ██▌ 25.0%", few.Picture())

	var many []value.Value
	for i := range int64(320) {
		many = append(many, value.Int(i))
	}
	s := SpreadOf(many, nil)
	assert.Len(t, s.Counts, 16)
	assert.Equal(t, []string{"0", "20", "40"}, s.Starts[:3])
	assert.Equal(t, "0 ████████████████ 319", s.Picture())

	text := SpreadOf(
		[]value.Value{
			value.String("a"),
			value.String("bb"),
			value.String("ccc"),
			value.String("dd"),
			value.String("e"),
			value.String("f"),
			value.String("g"),
			value.String("h"),
			value.String("äöü"),
		},
		nil,
	)
	assert.Equal(t, "1 █▄▄ 3 characters", text.Picture())
	assert.Equal(t, "no values", SpreadOf(make([]value.Value, 3), nil).Picture())

	var labels []string
	for i := range 100 {
		labels = append(labels, string(rune('A'+i%10)))
	}
	refs := SpreadOf(make100(), labels)
	assert.Equal(t, "10× A ██████████ 10× J", refs.Picture())
}

func make100() []value.Value {
	out := make([]value.Value, 100)
	for i := range out {
		out[i] = value.Int(1)
	}
	return out
}

// The ends of what integers hold do not break a histogram.
func TestSpreadOfExtremes(t *testing.T) {
	s := SpreadOf(ints(-1<<63, 1<<63-1, 0, 1, 2, 3, 4, 5, 6, 7), nil)
	total := 0
	for _, n := range s.Counts {
		total += n
	}
	assert.Equal(t, 10, total)
}

// Rows referred to, the most first, keep their slope in however few columns.
func TestManyChoicesAreSqueezed(t *testing.T) {
	for _, n := range []int{fewChoices + 1, bins, bins + 1, 1000} {
		s := Spread{Rows: n * (n + 1) / 2, Distinct: n}
		for i := range n {
			s.Choices = append(s.Choices, Choice{"Pier " + diag.Number(i+1), n - i})
		}
		words := strings.Split(s.Picture(), " ")
		require.Len(t, words, 7)
		assert.Equal(
			t,
			[]string{diag.Number(n) + "×", "Pier", "1", "1×", "Pier", diag.Number(n)},
			append(words[:3:3], words[4:]...),
		)
		heights := []rune(words[3])
		assert.Len(t, heights, min(n, bins))
		assert.Equal(t, '█', heights[0])
		assert.IsNonIncreasing(t, heights)
		assert.Greater(t, heights[0], heights[len(heights)-1])
	}
}

// Bars fit a narrow page, and share out all rows.
func TestBarsFitTheirPage(t *testing.T) {
	var moments []value.Value
	for i := range int64(500) {
		v, err := value.ParseTimestamp("2026-05-01T08:00:00Z")
		require.NoError(t, err)
		v.N += i * i * 60_000_000
		moments = append(moments, v)
	}
	var texts []value.Value
	for i := range 40 {
		texts = append(texts, value.String(strings.Repeat("é", i)))
	}
	for _, values := range [][]value.Value{moments, texts, ints(1, 1, 2)} {
		s := SpreadOf(values, nil)
		for _, width := range []int{60, 80, 200} {
			bars, ok := s.Bars(Page{Width: width})
			require.True(t, ok)
			assert.LessOrEqual(t, len(bars.Rows), 16)
			sum := 0
			for _, row := range bars.Rows {
				n, err := strconv.Atoi(row[1])
				require.NoError(t, err)
				sum += n
			}
			assert.Equal(t, len(values), sum)
			for _, line := range strings.Split(Page{Width: width}.Draw(bars), "\n") {
				assert.LessOrEqual(t, utf8.RuneCountInString(line), width)
			}
		}
	}
	_, ok := SpreadOf(nil, nil).Bars(Page{Width: 60})
	assert.False(t, ok)
}
