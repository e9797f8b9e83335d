package grow

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/rng"
	"evensprout/internal/value"
)

// list is a table in memory.
type list [][]value.Value

func (l list) Len() uint64         { return uint64(len(l)) }
func (l list) Reader() TableReader { return listReader{l} }

type listReader struct{ list }

func (r listReader) Row(n uint64) ([]value.Value, error) {
	if r.list[n] == nil {
		return nil, errors.New("the row is lost")
	}
	return r.list[n], nil
}
func (r listReader) Close() error { return nil }

// priced is an entity whose rows stand in a table, with a grown field beside.
func priced(rows list, key []int) (*Set, *Entity) {
	s := &Set{Seed: "t", Edition: "1"}
	e := s.NewEntity("Price")
	e.Table, e.TableKey = rows, key
	s.NewField(e, "code", "code").Source = Stored(0, value.Text, 0)
	s.NewField(e, "amount", "amount").Source = Stored(1, value.Decimal, 2)
	s.NewField(e, "token", "token").Source = kind("digits")
	return s, e
}

func TestRowsOfTables(t *testing.T) {
	rows := list{
		{value.String("A"), value.Int(4)},
		{value.String("B"), must(value.ParseDecimal("1.5"))},
		{value.String("C"), {}},
	}
	s, e := priced(rows, []int{0})
	require.Empty(t, s.Finish())
	got := dump(s, e, 2)
	assert.Regexp(t, `^A \| 4.00 \| \d{8}$`, got[0])
	assert.Regexp(t, `^B \| 1.50 \| \d{8}$`, got[1])
	assert.Regexp(t, `^C \| NULL \| \d{8}$`, got[2])

	// With a key, what is grown stays with it wherever the row stands.
	s2, e2 := priced(list{rows[2], {value.String("D"), {}}, rows[0], rows[1]}, []int{0})
	require.Empty(t, s2.Finish())
	moved := dump(s2, e2, 3)
	assert.Equal(t, []string{got[2], got[0], got[1]}, []string{moved[0], moved[2], moved[3]})

	// Fingerprints do not depend on the order of rows, then.
	s3, _ := priced(list{rows[1], rows[2], rows[0]}, []int{0})
	require.Empty(t, s3.Finish())
	assert.Equal(t, must(s.Fingerprints(t.Context(), 2)), must(s3.Fingerprints(t.Context(), 1)))
}

func TestARowThatCannotBeRead(t *testing.T) {
	s, _ := priced(list{{value.String("A"), value.Int(4)}, nil}, nil)
	require.Empty(t, s.Finish())
	_, err := s.Fingerprints(t.Context(), 2)
	var row *RowError
	require.ErrorAs(t, err, &row)
	assert.Contains(t, err.Error(), "Price row 1")
	assert.Contains(t, err.Error(), "the row is lost")
}

func TestLookups(t *testing.T) {
	s, e := priced(
		list{{value.String("A"), value.Int(1)}, {value.String("B"), value.Int(2)}, {value.String("B"), value.Int(3)}},
		nil,
	)
	s.NewField(e, "id", "id").Source = must(Count(nil, 1, false))
	e.Key = e.Fields[3]
	use := s.NewEntity("Use")
	use.Rows = 4
	of := s.NewField(use, "of", "of")
	of.Source, of.Inner = must(
		Choose([]value.Value{value.String("A"), value.String("B"), value.String("C")}, nil),
	), true
	ref := s.NewField(use, "price", "price")
	ref.Source = Lookup(e, e.Key, []*Field{e.Fields[0]}, []*Field{of})
	require.Empty(t, s.Finish())
	g := NewGrower(s)
	told := map[string]bool{}
	for n := range uint64(4) {
		row := Row{N: n}
		err := g.Try(use, row, ref)
		fr := g.spare(use, row)
		key := g.value(fr, of).S
		fr.close()
		switch key {
		case "A":
			assert.NoError(t, err)
			to, ok := g.Refers(use, row, ref)
			assert.True(t, ok)
			assert.Equal(t, Row{N: 0}, to)
		case "B":
			assert.EqualError(t, err, `more than one Price has the code "B"`)
		case "C":
			assert.EqualError(t, err, `no Price has the code "C"`)
		}
		told[key] = true
	}
	assert.Len(t, told, 3)
}

// Every folded text is its own fold, and folding forgets case, marks and outer blanks.
func FuzzFold(f *testing.F) {
	for _, s := range []string{"Émile", "straße", "İstanbul", "ǅ", "ﬃ", " a ", "ς", "ẞ", "\u0345"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		once := value.Fold(s)
		if twice := value.Fold(once); twice != once {
			t.Fatalf("%q folds to %q, and that to %q", s, once, twice)
		}
		if up := value.Fold(strings.ToUpper(s)); value.IsASCII(s) && up != once {
			t.Fatalf("%q and its capitals differ", s)
		}
	})
}

// Distinct picks differ among the children of each parent, given ones too, and over
// all parents no row is starved.
func TestDistinctPicks(t *testing.T) {
	for given := range 4 {
		s := &Set{Seed: "d", Edition: "1"}
		a := s.NewEntity("Amenity")
		a.Rows = 9
		a.Key = s.NewField(a, "id", "id")
		a.Key.Source = must(Count(nil, 1, false))
		v := s.NewEntity("Vessel")
		v.Rows = 900
		v.Key = s.NewField(v, "id", "id")
		v.Key.Source = must(Count(nil, 1, false))
		v.AddGiven("otter", nil)
		link := s.NewEntity("Link")
		link.Parent = v
		link.Up = s.NewField(link, "Vessel", "Vessel")
		link.Up.Source = Upward(v)
		link.Deal = must(rng.NewDeal(link.Up.DealKey(), 2, 5))
		pick := s.NewField(link, "amenity", "amenity")
		pick.Source = Pick(a, PickOptions{By: a.Key, Distinct: true})
		for i := range given {
			link.AddGiven(
				fmt.Sprint("g", i),
				map[*Field]Given{link.Up: GivenRow(Row{Side: true}), pick: GivenRow(Row{N: uint64(2 * i)})},
			)
		}
		require.Empty(t, s.Finish())
		seen, used := map[string]bool{}, map[string]int{}
		for _, l := range dump(s, link, 100) {
			assert.False(t, seen[l], "%d given: %s twice", given, l)
			seen[l] = true
			used[strings.Split(l, " | ")[1]]++
		}
		assert.Len(t, used, 9)
		for id, n := range used {
			assert.InDelta(t, 350, n, 60, "amenity %s", id)
		}
	}
}

func TestNumbersGoBackToRows(t *testing.T) {
	s := &Set{Seed: "n", Edition: "1"}
	e := s.NewEntity("Thing")
	e.Rows = 10
	f := s.NewField(e, "id", "id")
	from := int64(100)
	f.Source = must(Count(&from, 5, false))
	require.Empty(t, s.Finish())
	for n := range uint64(10) {
		row, ok := f.RowOf(100 + 5*int64(n))
		assert.True(t, ok)
		assert.Equal(t, Row{N: n}, row)
	}
	for _, bad := range []int64{99, 101, 150, 0, -5} {
		_, ok := f.RowOf(bad)
		assert.False(t, ok, bad)
	}
}

func TestSkewIsExactAndKeepsOrder(t *testing.T) {
	get := Share{Part: 80, Whole: 100}
	last, inside := uint64(0), 0
	const steps = 10_000
	for i := range uint64(steps) {
		in, part := get.split(i * (1 << 63 / (steps / 2)))
		if in {
			inside++
			assert.GreaterOrEqual(t, part, last, "inside, the order is kept")
			last = part
		}
	}
	assert.InDelta(t, steps*8/10, inside, 1)
}

func TestBitmaps(t *testing.T) {
	for _, n := range []uint64{1, 63, 64, 65, 5000, 70_000} {
		m := &bitmap{words: make([]uint64, n/64+1)}
		var want []uint64
		for i := range n {
			if rng.Philox([4]uint64{i, n}, rng.Key{})[0]%3 == 0 || i == n-1 {
				m.set(i)
				want = append(want, i)
			}
		}
		m.seal()
		require.Equal(t, uint64(len(want)), m.count)
		for i, w := range want {
			assert.Equal(t, w, m.at(uint64(i)))
		}
	}
}

func TestValuesAreEqualByWhatTheyMean(t *testing.T) {
	for _, c := range []struct {
		a, b string
		want bool
	}{{"1", "1.00", true}, {"1.5", "1.50", true}, {"1", "2", false}, {"0.1", "0.10", true}, {"-1", "1", false}} {
		a, b := must(value.ParseDecimal(c.a)), must(value.ParseDecimal(c.b))
		assert.Equal(t, c.want, a.Equal(&b), "%s and %s", c.a, c.b)
	}
	null, text, one := value.Value{}, value.String("1"), value.Int(1)
	assert.True(t, null.Equal(&value.Value{}))
	assert.False(t, text.Equal(&one))
}

// stopping is a table whose reader cancels a context.
type stopping struct {
	list
	stop context.CancelFunc
}

func (s stopping) Len() uint64                       { return 1 << 40 }
func (s stopping) Reader() TableReader               { return s }
func (s stopping) Row(uint64) ([]value.Value, error) { s.stop(); return s.list[0], nil }
func (s stopping) Close() error                      { return nil }

// Growing more rows than anybody waits for ends when it is asked to.
func TestFingerprintsCanBeInterrupted(t *testing.T) {
	ctx, stop := context.WithCancel(t.Context())
	s := &Set{Seed: "t", Edition: "1"}
	e := s.NewEntity("Price")
	e.Table = stopping{list{{value.String("A")}}, stop}
	s.NewField(e, "code", "code").Source = Stored(0, value.Text, 0)
	require.Empty(t, s.Finish())
	_, err := s.Fingerprints(ctx, 2)
	assert.ErrorIs(t, err, context.Canceled)
}

// JSON text holds any text, and escapes no more than RFC 8785 asks for.
func TestJSONTextIsReadBack(t *testing.T) {
	for r := range rune(0x3000) {
		text := "a" + string(r) + "z"
		quoted := appendJSONText(nil, text)
		var back string
		require.NoError(t, json.Unmarshal(quoted, &back), "%U", r)
		assert.Equal(t, text, back)
		if r >= ' ' && r != '"' && r != '\\' {
			assert.Equal(t, `"`+text+`"`, string(quoted))
		}
	}
	assert.Equal(
		t,
		`"\b\t\n\f\r\u0000\u001f\"\\/`+"\u2028é\U0001F6A2\"",
		string(appendJSONText(nil, "\b\t\n\f\r\x00\x1f\"\\/\u2028é\U0001F6A2")),
	)
}
