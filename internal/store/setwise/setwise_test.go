package setwise_test

import (
	"context"
	"fmt"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/store/setwise"
	"evensprout/internal/store/sqlite"
	"evensprout/internal/value"
)

// quoted writes names as SQL's standard does.
type quoted struct{}

func (quoted) Quote(name string) string     { return `"` + name + `"` }
func (quoted) Table(t *schema.Table) string { return `"` + t.Name + `"` }

func TestNames(t *testing.T) {
	columns := []*schema.Column{{Name: "id"}, {Name: "order"}}
	assert.Equal(t, []string{`s."id"`, `s."order"`}, setwise.Names(quoted{}, "s.", columns))
}

// A word is mentioned as a whole, in any case, quoted or not.
func TestMentions(t *testing.T) {
	for text, want := range map[string]bool{
		"price > 0": true, "PRICE > 0": true, `"price" > 0`: true, "unit_price > 0": false,
		"prices > 0": false, "": false,
	} {
		assert.Equal(t, want, setwise.Mentions(text, "price"), text)
	}
}

// The text of a trigger says which columns it looks at, whether it may refuse rows, and
// into which tables it writes.
func TestWatch(t *testing.T) {
	boats := &schema.Table{Name: "boats", Columns: []*schema.Column{{Name: "name"}, {Name: "seats"}, {Name: "note"}}}
	setwise.Watch(boats, `BEGIN
		IF NEW.seats < 1 THEN RAISE EXCEPTION 'no seats'; END IF;
		INSERT INTO "log".entries (what) VALUES (NEW.name);
	END`)
	assert.Equal(t, []string{"name", "seats"}, boats.Watched)
	assert.Equal(t, []string{"entries"}, boats.Feeds)
	assert.True(t, boats.Raises)

	quiet := &schema.Table{Columns: []*schema.Column{{Name: "name"}}}
	setwise.Watch(quiet, "BEGIN UPDATE boats SET seats = 1; END")
	assert.Empty(t, quiet.Watched)
	assert.False(t, quiet.Raises)
}

func TestAnyOf(t *testing.T) {
	assert.Equal(t, `(calm|it's rough|a\.b)`, setwise.AnyOf([]string{"calm", "it's rough", "a.b"}))
}

// What engines show as text is read as the column's kind; what is none of it stays a text.
func TestReadText(t *testing.T) {
	column := func(k schema.Kind) *schema.Column { return &schema.Column{Kind: k, Scale: 2} }
	for _, c := range []struct {
		kind schema.Kind
		text string
		want string
		of   value.Type
	}{
		{schema.Integer, "42", "42", value.Integer},
		{schema.Decimal, "4.5", "4.50", value.Decimal},
		{schema.Boolean, "t", "true", value.Boolean},
		{schema.Boolean, "0", "false", value.Boolean},
		{schema.Date, "2026-05-01", "2026-05-01", value.Date},
		{schema.Time, "08:15:00.500000", "08:15:00.5", value.Time},
		{schema.Timestamp, "2026-05-01 08:15:00+00", "2026-05-01T08:15:00Z", value.Timestamp},
		{schema.Bytes, `\x4142`, "AB", value.Bytes},
		{schema.Integer, "many", "many", value.Text},
		{schema.Date, "infinity", "infinity", value.Text},
	} {
		v := setwise.ReadText(column(c.kind), c.text)
		assert.Equal(t, c.of, v.Type, c.text)
		if c.of == value.Bytes {
			assert.Equal(t, c.want, v.S, c.text)
			continue
		}
		assert.Equal(t, c.want, v.String(), c.text)
	}
}

// harbour opens a file with a table of rows.
func harbour(tb testing.TB, rows int) (store.Store, *schema.Table) {
	tb.Helper()
	path := filepath.Join(tb.TempDir(), "harbour.db")
	require.NoError(tb, sqlite.Create(path, fmt.Sprintf(`
CREATE TABLE berths (id INTEGER PRIMARY KEY, code TEXT NOT NULL UNIQUE, price DECIMAL(8,2));
WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < %d)
INSERT INTO berths SELECT i, 'B' || i, i * 0.25 FROM n;`, rows)))
	s, err := sqlite.Driver{}.Open(context.Background(), "sqlite:"+path)
	require.NoError(tb, err)
	tb.Cleanup(func() { require.NoError(tb, s.Close()) })
	db, err := s.Survey(context.Background())
	require.NoError(tb, err)
	return s, db.Table("berths")
}

// staged are rows of which the first half is in the table.
func staged(from, n int) store.Rows {
	return func(yield func(*value.Batch) bool) {
		b := &value.Batch{Len: n, Width: 2}
		for i := range n {
			b.Values = append(b.Values, value.String(fmt.Sprintf("B%d", from+i)), value.Value{
				Type: value.Decimal, N: int64(from+i) * 50, Scale: 2,
			})
		}
		yield(b)
	}
}

// A stage tells which of its rows the table has, which of them differ, and writes them.
func TestStage(t *testing.T) {
	s, berths := harbour(t, 100)
	tx, err := s.Begin(t.Context(), store.TxOptions{})
	require.NoError(t, err)
	defer tx.Rollback()
	w := &store.Write{
		Into:  store.Into{Table: berths, Columns: berths.Columns[1:], Fields: []int{0, 1}},
		Mode:  store.Upsert,
		Match: berths.Columns[1:2],
		Set:   berths.Columns[2:],
	}
	st, err := tx.Stage(t.Context(), w, staged(51, 100))
	require.NoError(t, err)
	assert.EqualValues(t, 100, st.Rows())
	unmatched, err := st.Unmatched(t.Context(), 0)
	require.NoError(t, err)
	assert.Len(t, unmatched, 50)
	assert.EqualValues(t, 50, unmatched[0])
	differing, err := st.Differing(t.Context())
	require.NoError(t, err)
	assert.Len(t, differing, 50)
	require.NoError(t, st.Drop(t.Context(), []int64{99}))
	done, err := st.Apply(t.Context(), 0, 100)
	require.NoError(t, err)
	assert.Equal(t, store.Outcome{Inserted: 49, Updated: 50}, done)
	n, err := tx.Count(t.Context(), berths)
	require.NoError(t, err)
	assert.EqualValues(t, 149, n)
}

func BenchmarkSelect(b *testing.B) {
	s, berths := harbour(b, 10_000)
	for b.Loop() {
		rows := 0
		err := s.Select(b.Context(), store.Query{Table: berths, Columns: berths.Columns, AsIs: true},
			func([]value.Value) error {
				rows++
				return nil
			})
		if err != nil || rows != 10_000 {
			b.Fatal(rows, err)
		}
	}
	b.ReportMetric(float64(b.N)*10_000/b.Elapsed().Seconds(), "rows/s")
}

func BenchmarkStage(b *testing.B) {
	s, berths := harbour(b, 10_000)
	w := &store.Write{
		Into:  store.Into{Table: berths, Columns: berths.Columns[1:], Fields: []int{0, 1}},
		Mode:  store.Upsert,
		Match: berths.Columns[1:2],
		Set:   berths.Columns[2:],
	}
	for b.Loop() {
		tx, err := s.Begin(b.Context(), store.TxOptions{})
		if err != nil {
			b.Fatal(err)
		}
		st, err := tx.Stage(b.Context(), w, staged(1, 10_000))
		if err == nil {
			_, err = st.Apply(b.Context(), 0, 10_000)
		}
		if err != nil {
			b.Fatal(err)
		}
		if err := tx.Rollback(); err != nil {
			b.Fatal(err)
		}
	}
	b.ReportMetric(float64(b.N)*10_000/b.Elapsed().Seconds(), "rows/s")
}
