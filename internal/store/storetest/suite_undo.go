package storetest

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/value"
)

// staged says what rows of a stage are for.
type staged struct {
	mode       store.Mode
	table      string
	match, set []string
}

// stage stages rows of a table whose cells are all its columns named.
func (f *fixture) stage(
	t *testing.T,
	tx store.Tx,
	to staged,
	rows ...[]value.Value,
) store.Stage {
	t.Helper()
	of, match, set := f.db.Table(to.table), to.match, to.set
	w := &store.Write{Into: store.Into{Table: of}, Mode: to.mode}
	for _, name := range match {
		w.Match = append(w.Match, of.Column(name))
	}
	for _, name := range set {
		w.Set = append(w.Set, of.Column(name))
	}
	for _, c := range append(append([]*schema.Column{}, w.Match...), w.Set...) {
		w.Fields, w.Columns = append(w.Fields, len(w.Columns)), append(w.Columns, c)
	}
	w.Alike = len(set) == 0
	st, err := tx.Stage(t.Context(), w, func(yield func(*value.Batch) bool) {
		for _, row := range rows {
			if !yield(&value.Batch{Len: 1, Width: len(row), Values: row}) {
				return
			}
		}
	})
	require.NoError(t, err)
	return st
}

// threePiers are rows 1 to 3 with the codes A to C.
func (f *fixture) threePiers(t *testing.T) store.Tx {
	t.Helper()
	tx := f.begin(t, false)
	require.NoError(t, f.insert(t, tx, "piers", pier(1, "A"), pier(2, "B"), pier(3, "C")))
	require.NoError(t, tx.Commit(t.Context()))
	return f.begin(t, false)
}

func heldAgainst(t *testing.T, f *fixture) {
	tx := f.threePiers(t)
	defer tx.Rollback()
	st := f.stage(t, tx, staged{store.Update, "piers", []string{"id"}, []string{"code"}},
		[]value.Value{
			value.Int(1),
			value.String("A"),
		},
		[]value.Value{value.Int(2), value.String("b")},
		[]value.Value{value.Int(9), value.String("Z")},
	)
	unmatched, err := st.Unmatched(t.Context(), 0)
	require.NoError(t, err)
	assert.Equal(t, []int64{2}, unmatched)
	differing, err := st.Differing(t.Context())
	require.NoError(t, err)
	assert.Equal(t, []int64{1}, differing, "bytes count, whatever the collation")
	var prior []string
	require.NoError(t, st.Prior(t.Context(), func(row int64, values []value.Value) error {
		assert.Equal(t, int64(1), row)
		for _, v := range values {
			prior = append(prior, v.String())
		}
		return nil
	}))
	assert.Equal(t, []string{"2", "B", "NULL"}, prior, "all columns, as they were")
	var strangers []int64
	require.NoError(
		t,
		st.Strangers(t.Context(), []*schema.Column{f.db.Table("piers").Column("id")}, func(row []value.Value) error {
			strangers = append(strangers, row[0].N)
			return nil
		}),
	)
	assert.Equal(t, []int64{3}, strangers)
	n, err := st.Remove(t.Context())
	require.NoError(t, err)
	assert.Equal(t, int64(2), n)
	left, err := tx.Count(t.Context(), f.db.Table("piers"))
	require.NoError(t, err)
	assert.Equal(t, int64(1), left)
}

func referring(t *testing.T, f *fixture) {
	tx := f.threePiers(t)
	defer tx.Rollback()
	require.NoError(
		t,
		f.insert(t, tx, "boats", boat(1, cells{"pier_id": value.Int(2)}), boat(2, cells{"pier_id": value.Int(2)})),
	)
	require.NoError(t, f.insert(t, tx, "berths", cells{"pier_id": value.Int(3), "number": value.Int(7)}))
	st := f.stage(t, tx, staged{store.Update, "piers", []string{"id"}, []string{"code"}},
		[]value.Value{
			value.Int(1),
			value.String("A"),
		},
		[]value.Value{value.Int(2), value.String("B")},
		[]value.Value{value.Int(3), value.String("C")},
	)
	referred, err := st.Referred(t.Context(), f.db, nil)
	require.NoError(t, err)
	assert.Equal(t, []store.Referral{{Row: 1, Table: "boats"}, {Row: 2, Table: "berths"}}, referred)
	referred, err = st.Referred(t.Context(), f.db, []*schema.Column{f.db.Table("boats").Column("pier_id")})
	require.NoError(t, err)
	assert.Equal(t, []store.Referral{{Row: 2, Table: "berths"}}, referred)
	found := map[string][]string{}
	require.NoError(t, st.Referrers(t.Context(), f.db, func(of *schema.Table, key []value.Value) error {
		text := ""
		for _, v := range key {
			text += v.String() + " "
		}
		found[of.Name] = append(found[of.Name], text)
		return nil
	}))
	assert.ElementsMatch(t, []string{"1 ", "2 "}, found["boats"])
	assert.Equal(t, []string{"3 7 "}, found["berths"])
}

func spans(t *testing.T, f *fixture) {
	tx := f.threePiers(t)
	defer tx.Rollback()
	piers, boats := f.db.Table("piers"), f.db.Table("boats")
	require.NoError(t, f.insert(t, tx, "boats", boat(1, cells{"pier_id": value.Int(2)})))
	span := func(table *schema.Table, column string, first, last int64) store.Span {
		return store.Span{Table: table, Key: table.Column(column), First: first, Last: last}
	}
	for _, c := range []struct {
		span     store.Span
		referred bool
	}{
		{span(piers, "id", 1, 1), false},
		{span(piers, "id", 1, 2), true},
		{span(piers, "id", 3, 9), false},
		{span(boats, "id", 1, 9), false},
	} {
		referred, err := tx.RefersInto(t.Context(), f.db, c.span)
		require.NoError(t, err)
		assert.Equal(t, c.referred, referred, c.span)
	}
	n, err := tx.Between(t.Context(), span(piers, "id", 2, 9))
	require.NoError(t, err)
	assert.Equal(t, int64(2), n)

	var shown []string
	show := func(row []value.Value) error {
		for _, v := range row {
			shown = append(shown, v.String())
		}
		return nil
	}
	require.NoError(t, tx.RemoveSpan(t.Context(), span(piers, "id", 3, 9), piers.Columns, show))
	assert.Equal(t, []string{"3", "C", "NULL"}, shown)
	left, err := tx.Count(t.Context(), piers)
	require.NoError(t, err)
	assert.Equal(t, int64(2), left)

	require.NoError(t, f.insert(t, tx, "berths", cells{"pier_id": value.Int(1), "number": value.Int(7)}))
	require.NoError(t, tx.Savepoint(t.Context(), "before"))
	var violation *store.Violation
	err = tx.RemoveSpan(t.Context(), span(piers, "id", 1, 1), piers.Columns, func([]value.Value) error { return nil })
	require.ErrorAs(t, err, &violation)
	assert.Equal(t, store.ForeignKey, violation.Kind)
	require.NoError(t, tx.RollbackTo(t.Context(), "before"))
}

func alike(t *testing.T, f *fixture) {
	tx := f.threePiers(t)
	defer tx.Rollback()
	require.NoError(
		t,
		f.insert(
			t,
			tx,
			"boats",
			boat(1, cells{"label": value.String("same")}),
			boat(2, cells{"label": value.String("same")}),
			boat(3, cells{"label": value.String("Same")}),
		),
	)
	st := f.stage(t, tx, staged{store.Update, "boats", []string{"label", "launched"}, nil},
		[]value.Value{value.String("same"), {}}, []value.Value{value.String("other"), {}})
	copies := map[int64]int64{}
	require.NoError(t, st.Copies(t.Context(), func(row, n int64) error {
		copies[row] = n
		return nil
	}))
	assert.Equal(t, map[int64]int64{0: 2, 1: 0}, copies, "NULLs are alike, letters of another case are not")
}

func smallTables(t *testing.T, f *fixture) {
	tx := f.threePiers(t)
	defer tx.Rollback()
	piers := f.db.Table("piers")
	cell := func(name string, v value.Value) store.Cell {
		return store.Cell{Column: piers.Column(name), Value: v}
	}
	require.NoError(
		t,
		tx.Add(
			t.Context(),
			piers,
			[]store.Cell{cell("id", value.Int(4)), cell("code", value.String("")), cell("name", value.Value{})},
		),
	)
	n, err := tx.Set(
		t.Context(),
		piers,
		[]store.Cell{cell("name", value.String("x"))},
		[]store.Cell{cell("code", value.String("")), cell("name", value.Value{})},
	)
	require.NoError(t, err)
	assert.Equal(t, int64(1), n, "an empty text is not NULL")
	n, err = tx.Delete(t.Context(), piers, []store.Cell{cell("name", value.Value{})})
	require.NoError(t, err)
	assert.Equal(t, int64(3), n)
	err = tx.Add(t.Context(), piers, []store.Cell{cell("id", value.Int(4)), cell("code", value.String("D"))})
	var v *store.Violation
	require.ErrorAs(t, err, &v)
	assert.Equal(t, store.Unique, v.Kind)
	assert.Equal(t, "piers", v.Table)
}

func journal(t *testing.T, f *fixture) {
	j, err := f.store.Journal(t.Context(), false)
	require.NoError(t, err)
	require.Nil(t, j, "it is not made unasked")
	for range 2 {
		j, err = f.store.Journal(t.Context(), true)
		require.NoError(t, err)
		require.NotNil(t, j)
	}
	db, err := f.store.Survey(t.Context())
	require.NoError(t, err)
	assert.Equal(t, f.db.TableNames(), db.TableNames(), "the tool's own tables are not surveyed")
	tx := f.begin(t, false)
	defer tx.Rollback()
	cell := func(name string, v value.Value) store.Cell {
		return store.Cell{Column: j.Loads.Column(name), Value: v}
	}
	blob := value.Value{Type: value.Bytes, S: "\x00\xff'\\\n"}
	moment := value.Value{Type: value.Timestamp, N: 1_750_000_000_123_456, Scale: 6}
	row := []store.Cell{
		cell("plan", value.String("p")),
		cell("extra", value.String("")),
		cell("part", value.Int(1)),
		cell("token", value.String("t")),
		cell("state", value.String("open")),
		cell(
			"began",
			moment,
		),
		cell("actor", value.String("Zoë's \\ \"x\"")),
		cell("about", value.String("{}")),
		cell("body", blob),
	}
	require.NoError(t, tx.Add(t.Context(), j.Loads, row))
	var got []value.Value
	require.NoError(
		t,
		f.store.Select(
			t.Context(),
			store.Query{
				Table: j.Loads,
				Columns: []*schema.Column{
					j.Loads.Column("began"),
					j.Loads.Column("body"),
					j.Loads.Column("actor"),
					j.Loads.Column("ended"),
				},
			},
			func(row []value.Value) error {
				got = append(got, row...)
				return nil
			},
		),
	)
	require.Len(t, got, 4)
	assert.Equal(t, moment.N, got[0].N, "moments are of UTC")
	assert.Equal(t, blob, got[1])
	assert.Equal(t, "Zoë's \\ \"x\"", got[2].S)
	assert.True(t, got[3].IsNull())
	err = tx.Add(t.Context(), j.Loads, row)
	var v *store.Violation
	require.ErrorAs(t, err, &v, "two loads of a plan cannot be the same part")
	assert.Equal(t, store.Unique, v.Kind)
}

func locks(t *testing.T, f *fixture) {
	holder, err := f.store.Lock(t.Context(), "a lock")
	require.NoError(t, err)
	require.Empty(t, holder)
	other, err := f.engine.Driver.Open(t.Context(), f.url)
	require.NoError(t, err)
	holder, err = other.Lock(t.Context(), "another lock")
	require.NoError(t, err)
	assert.Empty(t, holder)
	holder, err = other.Lock(t.Context(), "a lock")
	require.NoError(t, err)
	assert.Regexp(t, "process|connection", holder, "it is reported who has it")
	require.NoError(t, f.store.Unlock(t.Context(), "a lock"))
	holder, err = other.Lock(t.Context(), "a lock")
	require.NoError(t, err)
	assert.Empty(t, holder)
	require.NoError(t, other.Close())
	assert.Eventually(t, func() bool {
		holder, err := f.store.Lock(t.Context(), "a lock")
		return err == nil && holder == ""
	}, 10*time.Second, time.Millisecond, "the end of a session gives its locks up")
}
