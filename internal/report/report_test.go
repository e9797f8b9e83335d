package report

import (
	"encoding/json"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/grow"
)

func passengers(rows int) Table {
	t := Table{Columns: []Column{{Name: "id", Number: true}, {Name: "name"}, {Name: "note"}, {Name: "joined", Whole: true}}}
	for range rows {
		t.Rows = append(t.Rows, []string{"1001", "Zoë Larkspur", strings.Repeat("calm water ", 9), "2026-05-01 08:00:00"})
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
				if !strings.Contains(line, "not shown") {
					assert.LessOrEqual(t, utf8.RuneCountInString(line), max(width, 24), "%d columns wide: %q", width, line)
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
	assert.Contains(t, many, "not shown, for want of room: joined")
	few := Page{Width: 40}.Draw(passengers(1))
	assert.Contains(t, few, "joined  2026-05-01 08:00:00", "a few rows lie on their side")
	assert.NotContains(t, few, "not shown")
}

func TestControlCharactersAreShownAsBlanks(t *testing.T) {
	out := Page{Width: 80}.Draw(Table{Columns: []Column{{Name: "a"}}, Rows: [][]string{{"x\x1b[31m\ny\tz\u2028"}}})
	assert.Contains(t, out, "x [31m y z")
	assert.NotContains(t, out, "\x1b")
}

func TestColourOnlyWhereAsked(t *testing.T) {
	assert.Equal(t, "x", Page{}.Alarm("x"))
	assert.Contains(t, Page{Color: true}.Alarm("x"), "\x1b[")
}

func TestCounts(t *testing.T) {
	assert.Equal(t, "1 row", Count(1, "row", "rows"))
	assert.Equal(t, "1,234,567 rows", Count(uint64(1234567), "row", "rows"))
	assert.Equal(t, "0 rows", Count(0, "row", "rows"))
}

func TestObjectsKeepTheirOrderAndNumbersTheirDigits(t *testing.T) {
	o := &Object{}
	price, _ := grow.ParseDecimal("4.50")
	moment, _ := grow.ParseTimestamp("2026-05-01T08:00:00Z")
	o.Set("z", JSON(price))
	o.Set("a", JSON(grow.String("\"quoted\"")))
	o.Set("n", JSON(grow.Value{}))
	o.Set("b", JSON(grow.Bool(true)))
	o.Set("i", JSON(grow.Int(9007199254740993)))
	o.Set("m", JSON(moment))
	o.Set("y", JSON(grow.Value{Type: grow.Bytes, S: "\x00\x01"}))
	b, err := json.Marshal(o)
	require.NoError(t, err)
	assert.Equal(t, `{"z":4.50,"a":"\"quoted\"","n":null,"b":true,"i":9007199254740993,"m":"2026-05-01T08:00:00Z","y":"AAE="}`, string(b))
}
