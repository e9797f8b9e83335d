package grow

import (
	"cmp"
	"flag"
	"fmt"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/goldentest"
	"evensprout/internal/rng"
	"evensprout/internal/value"
	"evensprout/internal/words"
)

var update = flag.Bool("update", false, "add new lines to the golden files")

// fleet is a family of three, a picked entity and given rows: every source of
// the edition in few rows.
type fleet struct {
	set                           *Set
	port, person, booking, ticket *Entity
	member                        *Entity
	extraField, withGiven         bool
	rows                          uint64
}

func must[T any](v T, err error) T {
	if err != nil {
		panic(err)
	}
	return v
}

func kind(name string) Source {
	for _, k := range Kinds() {
		if k.Name == name {
			return must(NewKind(k, KindOptions{}))
		}
	}
	panic("no kind " + name)
}

func (x *fleet) field(e *Entity, name string, s Source) *Field {
	f := x.set.NewField(e, name, name)
	f.Source = s
	return f
}

func (x *fleet) template(e *Entity, text string) Source {
	return must(Template(text, func(name string) (*Path, error) {
		for _, f := range e.Fields {
			if f.Name == name {
				return &Path{Field: f}, nil
			}
		}
		return nil, fmt.Errorf("no field %s", name)
	}))
}

func (x *fleet) build(t testing.TB) *fleet {
	clock := must(value.ParseTimestamp("2026-05-01T08:00:00Z"))
	x.set = &Set{Seed: "test", Edition: "1", Clock: clock}
	if x.rows == 0 {
		x.rows = 200
	}
	// Keys come first: references store them.
	x.port = x.set.NewEntity("Port")
	x.port.Rows = 12
	x.port.Key = x.field(x.port, "id", RandomUUID())
	x.field(x.port, "name", kind("locality"))
	x.field(x.port, "rank", must(Between(value.Int(1), value.Int(3), 0)))

	x.person = x.set.NewEntity("Person")
	x.person.Rows = x.rows
	x.person.Key = x.field(x.person, "id", must(Count(nil, 1, false)))
	given := x.field(x.person, "given", kind("given-name"))
	family := x.field(x.person, "family", kind("family-name"))
	email := x.field(
		x.person,
		"email",
		x.template(x.person, "{given|ascii|lower}.{family|ascii|lower}@example.net"),
	)
	status := x.field(
		x.person,
		"status",
		must(
			Choose(
				[]value.Value{value.String("active"), value.String("dormant"), value.String("barred")},
				[]uint64{80, 15, 5},
			),
		),
	)
	x.field(x.person, "newsletter", True(Share{31, 100}))
	joined := x.field(
		x.person,
		"joined_at",
		must(Moment(nil, &End{Fixed: clock}, MomentOptions{Within: must(value.ParseSpan("400d"))})),
	)
	seen := x.field(
		x.person,
		"seen_at",
		must(
			Moment(
				&End{Path: &Path{Field: joined}},
				&End{Fixed: clock},
				MomentOptions{Within: must(value.ParseSpan("90d")), Digits: 3},
			),
		),
	)
	seen.Nulls = Share{12, 100}
	code := x.field(x.person, "code", must(Pattern("[A-HJ-NP-Z]{3}[0-9]{6}")))
	x.field(x.person, "fee", must(Between(must(value.ParseDecimal("1.00")), must(value.ParseDecimal("20.00")), 25)))
	x.field(
		x.person,
		"born",
		must(Between(must(value.ParseDate("1950-01-01")), must(value.ParseDate("2008-12-31")), 0)),
	)
	x.field(x.person, "token", OrderedUUID(clock))
	x.field(x.person, "bio", kind("html"))
	x.field(x.person, "friend", Pick(x.person, PickOptions{By: x.person.Key}))
	x.field(x.person, "copy", Same(Path{Field: status}))
	if x.extraField {
		x.field(x.person, "extra", kind("noun"))
	}
	require.NoError(t, x.person.UniqueText(email))
	require.NoError(t, x.person.Unique(code))

	x.booking = x.set.NewEntity("Booking")
	x.booking.Parent = x.person
	x.booking.Key = x.field(x.booking, "id", must(Count(nil, 1, false)))
	x.booking.Up = x.field(x.booking, "person", Upward(x.person))
	x.booking.Deal = must(rng.NewDeal(x.booking.Up.DealKey(), 0, 3))
	x.field(x.booking, "port", Pick(x.port, PickOptions{By: x.port.Key}))
	booked := x.field(
		x.booking,
		"booked_at",
		must(
			Moment(
				&End{Path: &Path{Hops: []*Field{x.booking.Up}, Field: joined}},
				nil,
				MomentOptions{Within: must(value.ParseSpan("60d"))},
			),
		),
	)
	total := x.field(x.booking, "total", nil)
	tickets := x.field(x.booking, "tickets", nil)

	x.ticket = x.set.NewEntity("Ticket")
	x.ticket.Parent = x.booking
	x.ticket.Up = x.field(x.ticket, "booking", Upward(x.booking))
	x.ticket.Deal = must(rng.NewDeal(x.ticket.Up.DealKey(), 1, 4))
	x.field(x.ticket, "seat", must(Count(nil, 1, true)))
	price := x.field(
		x.ticket,
		"price",
		must(
			Choose(
				[]value.Value{must(value.ParseDecimal("4.50")), value.Int(19), must(value.ParseDecimal("7.25"))},
				[]uint64{3, 1, 2},
			),
		),
	)
	x.field(x.ticket, "name", Same(Path{Hops: []*Field{x.ticket.Up, x.booking.Up}, Field: family}))
	total.Source = must(Aggregate(Sum, []*Entity{x.ticket}, price))
	tickets.Source = must(Aggregate(CountOf, []*Entity{x.ticket}, nil))
	first := x.field(x.person, "last_booked", nil)
	first.Source = must(Aggregate(MaxOf, []*Entity{x.booking}, booked))

	x.member = x.set.NewEntity("Member") // three different people at each port
	x.member.Parent = x.port
	x.member.Up = x.field(x.member, "port", Upward(x.port))
	x.member.Deal = must(rng.NewDeal(x.member.Up.DealKey(), 3, 3))
	pick := x.field(x.member, "person", Pick(x.person, PickOptions{By: x.person.Key, Distinct: true}))

	if x.withGiven {
		taken := x.cells(t, x.person, 7)
		x.port.AddGiven("west", map[*Field]Given{})
		x.person.AddGiven(
			"ada",
			map[*Field]Given{given: {Value: value.String("Ada")}, code: {Value: taken["code"]}},
		)
		x.person.AddGiven("bo", map[*Field]Given{email: {Value: taken["email"]}})
		x.member.AddGiven("westada", map[*Field]Given{
			x.member.Up: GivenRow(Row{N: 0, Side: true}), pick: GivenRow(Row{N: 0, Side: true}),
		})
	}
	for _, fault := range x.set.Finish() {
		require.NoError(t, fault)
	}
	return x
}

// cells grows a row of the same fleet without given rows.
func (x *fleet) cells(t testing.TB, e *Entity, n uint64) map[string]value.Value {
	other := (&fleet{rows: x.rows}).build(t)
	of := other.set.Entities[e.index]
	cells := map[string]value.Value{}
	var b Batch
	NewGrower(other.set).Grow(of, Row{N: n}, 1, &b)
	for i, f := range of.Fields {
		cells[f.Name] = b.Row(0)[i]
	}
	return cells
}

// dump grows all rows of an entity, one text line each.
func dump(s *Set, e *Entity, step int) []string {
	var lines []string
	g := NewGrower(s)
	var b Batch
	each := func(total uint64, side bool) {
		for at := uint64(0); at < total; at += uint64(step) {
			g.Grow(e, Row{N: at, Side: side}, int(min(uint64(step), total-at)), &b)
			for i := range b.Len {
				var cells []string
				for j, v := range b.Row(i) {
					if !e.Fields[j].Inner {
						cells = append(cells, v.String())
					}
				}
				lines = append(lines, strings.Join(cells, " | "))
			}
		}
	}
	each(uint64(len(e.Side)), true)
	each(e.Rows, false)
	return lines
}

// fieldOfKind are fields that keep the names that their kinds had when these rows were first kept:
// rows depend on the names of fields, and not on those of kinds.
var fieldOfKind = map[string]string{
	"title": "text.title", "words": "text.words", "sentence": "text.sentence", "paragraph": "text.paragraph",
	"html": "text.html",
}

// The rows of an edition never change: this fails first.
func TestGoldenRows(t *testing.T) {
	x := (&fleet{withGiven: true}).build(t)
	var out strings.Builder
	for _, e := range x.set.Entities {
		var names []string
		for _, f := range e.Fields {
			names = append(names, f.Name)
		}
		fmt.Fprintf(&out, "== %s: %s\n", e.Name, strings.Join(names, " | "))
		lines := dump(x.set, e, 50)
		for _, l := range lines[:min(10, len(lines))] {
			out.WriteString(l + "\n")
		}
	}
	out.WriteString("== kinds\n")
	for _, k := range Kinds() {
		s := &Set{Seed: "kinds", Edition: "1"}
		e := s.NewEntity("Sample")
		e.Rows = 3
		name := cmp.Or(fieldOfKind[k.Name], k.Name)
		f := s.NewField(e, name, name)
		f.Source = must(NewKind(k, KindOptions{}))
		f.Inner = k.Parts != nil
		for _, p := range k.PartNames() {
			s.NewField(e, p, p).Source = must(PartOf(f, p))
		}
		require.Empty(t, s.Finish())
		fmt.Fprintf(&out, "%s: %s\n", k.Name, strings.Join(dump(s, e, 3), " / "))
	}
	for i, p := range must(x.set.Fingerprints(t.Context(), 2)) {
		fmt.Fprintf(&out, "%s %s\n", x.set.Entities[i].Name, p)
	}
	goldentest.Frozen(t, filepath.Join("testdata", "edition1.golden"), out.String(), *update)
}

// The same for each kind that depends on the locale or the subject: fingerprints of 100 rows.
func TestGoldenLocales(t *testing.T) {
	var out strings.Builder
	note := func(k Kind, name string, o KindOptions) {
		s := &Set{Seed: "kinds", Edition: "1"}
		e := s.NewEntity("Sample")
		e.Rows = 100
		f := s.NewField(e, k.Name, k.Name)
		f.Source = must(NewKind(k, o))
		f.Inner = k.Parts != nil
		for _, p := range k.PartNames() {
			s.NewField(e, p, p).Source = must(PartOf(f, p))
		}
		require.Empty(t, s.Finish())
		fmt.Fprintf(&out, "%s %s %s\n", name, k.Name, must(s.Fingerprints(t.Context(), 1))[0])
	}
	for _, locale := range words.Locales() {
		for _, k := range Kinds() {
			if k.Locales {
				note(k, locale, KindOptions{Locales: Locales{{locale, 1}}})
			}
		}
	}
	for _, subject := range Subjects {
		for _, k := range Kinds() {
			if k.Subjects {
				note(k, subject, KindOptions{Subject: subject})
			}
		}
	}
	goldentest.Frozen(t, filepath.Join("testdata", "edition1-locales.golden"), out.String(), *update)
}

func TestFingerprintsDoNotDependOnWorkersOrOrder(t *testing.T) {
	one := must((&fleet{withGiven: true, rows: 9000}).build(t).set.Fingerprints(t.Context(), 1))
	assert.Equal(t, one, must((&fleet{withGiven: true, rows: 9000}).build(t).set.Fingerprints(t.Context(), 7)))
	assert.NotEqual(t, one[1], must((&fleet{rows: 9000}).build(t).set.Fingerprints(t.Context(), 2))[1])
}

func TestRowsAreTheSameInAnySteps(t *testing.T) {
	x := (&fleet{withGiven: true}).build(t)
	for _, e := range x.set.Entities {
		assert.Equal(t, dump(x.set, e, 1000), dump(x.set, e, 7), e.Name)
	}
}

// More rows only append; a further field leaves the others as they are.
func TestEditsLeaveTheRestAlone(t *testing.T) {
	small := (&fleet{rows: 200}).build(t)
	// Nobody picks from tickets, and bookings and persons keep their earlier rows
	// in all fields but those that pick from persons.
	more := (&fleet{rows: 300}).build(t)
	for _, pair := range [][2]*Entity{{small.booking, more.booking}, {small.ticket, more.ticket},
		{small.person, more.person}} {
		a, b := dump(small.set, pair[0], 64), dump(more.set, pair[1], 64)
		require.Less(t, len(a), len(b))
		assert.Equal(t, a, b[:len(a)], pair[0].Name)
	}
	wide := (&fleet{rows: 200, extraField: true}).build(t)
	a, b := dump(small.set, small.person, 64), dump(wide.set, wide.person, 64)
	for i := range a {
		assert.Equal(t, strings.Split(a[i], " | ")[:15], strings.Split(b[i], " | ")[:15])
	}
}

func TestGivenRowsShiftNothingAndNeverCollide(t *testing.T) {
	plain, with := (&fleet{}).build(t), (&fleet{withGiven: true}).build(t)
	a, b := dump(plain.set, plain.person, 64), dump(with.set, with.person, 64)
	require.Equal(t, len(a)+2, len(b))
	changed := 0
	for i := range a {
		x, y := strings.Split(a[i], " | "), strings.Split(b[i+2], " | ")
		// The number (moved beyond the given ones) and the pick of a friend
		// depend on how many rows there are.
		same := x[3] == y[3] && x[8] == y[8]
		assert.Equal(t, append(x[4:8:8], x[9:13]...), append(y[4:8:8], y[9:13]...))
		if !same {
			changed++
			assert.Equal(t, 7, i, "only the row whose values were given away moves")
		}
	}
	assert.Equal(t, 1, changed)
	for _, column := range []int{0, 3, 8} {
		seen := map[string]bool{}
		for _, l := range b {
			v := value.Fold(strings.Split(l, " | ")[column])
			assert.False(t, seen[v], v)
			seen[v] = true
		}
	}
}

func TestAggregatesAgreeWithTheRowsBelow(t *testing.T) {
	x := (&fleet{withGiven: true}).build(t)
	sums, counts := map[string]int64{}, map[string]int{}
	for _, l := range dump(x.set, x.ticket, 64) {
		c := strings.Split(l, " | ")
		v := must(value.ParseDecimal(c[2]))
		sums[c[0]] += v.N
		counts[c[0]]++
	}
	for _, l := range dump(x.set, x.booking, 64) {
		c := strings.Split(l, " | ")
		assert.Equal(t, sums[c[0]], must(value.ParseDecimal(c[4])).N, l)
		assert.Equal(t, fmt.Sprint(counts[c[0]]), c[5], l)
	}
}

func TestReferencesPointToRowsThatExist(t *testing.T) {
	x := (&fleet{withGiven: true}).build(t)
	ids := map[string]bool{}
	for _, l := range dump(x.set, x.person, 64) {
		c := strings.Split(l, " | ")
		if c[13] == "NULL" {
			assert.Empty(t, ids, "only the first row has no friend")
		} else {
			assert.True(t, ids[c[13]], "a friend is an earlier row")
		}
		ids[c[0]] = true
	}
	ports := map[string]int{}
	for _, l := range dump(x.set, x.booking, 64) {
		c := strings.Split(l, " | ")
		assert.True(t, ids[c[1]])
		ports[c[2]]++
	}
	assert.Len(t, ports, 13, "no port is starved")
	pairs := map[string]bool{}
	for _, l := range dump(x.set, x.member, 64) {
		assert.False(t, pairs[l], "twice: %s", l)
		pairs[l] = true
	}
	assert.Len(t, pairs, 13*3+1)
}

// A row far out is grown as fast as the first: nothing counts up to it.
func TestAnyRowAlone(t *testing.T) {
	x := (&fleet{rows: 1_000_000_000}).build(t)
	g := NewGrower(x.set)
	var b Batch
	last := x.ticket.Rows - 1
	g.Grow(x.ticket, Row{N: last}, 1, &b)
	assert.NotEmpty(t, b.Row(0)[3].S)
	parent, _ := g.dealt[x.ticket.index].Parent(last)
	g.Grow(x.booking, Row{N: parent}, 1, &b)
	assert.Positive(t, b.Row(0)[4].N)
}

func TestUniqueFillsASpaceToTheLastValue(t *testing.T) {
	for _, n := range []uint64{1, 5, 63, 64, 676} {
		s := &Set{Seed: "full", Edition: "1"}
		e := s.NewEntity("Thing")
		e.Rows = n
		f := s.NewField(e, "n", "n")
		f.Source = must(Between(value.Int(1), value.Int(int64(n)), 0))
		require.NoError(t, e.Unique(f))
		require.Empty(t, s.Finish())
		seen := map[string]bool{}
		for _, l := range dump(s, e, 100) {
			seen[l] = true
		}
		assert.Len(t, seen, int(n))
	}
}

func TestGivenRowsOfATinySpaceDisplaceGrownOnes(t *testing.T) {
	for given := 1; given <= 4; given++ {
		s := &Set{Seed: "tiny", Edition: "1"}
		e := s.NewEntity("Thing")
		e.Rows = uint64(8 - given)
		f := s.NewField(e, "n", "n")
		f.Source = must(Between(value.Int(1), value.Int(8), 0))
		require.NoError(t, e.Unique(f))
		for i := range given {
			e.AddGiven(fmt.Sprint("g", i), map[*Field]Given{f: {Value: value.Int(int64(8 - i))}})
		}
		require.Empty(t, s.Finish())
		seen := map[string]bool{}
		for _, l := range dump(s, e, 100) {
			seen[l] = true
		}
		assert.Len(t, seen, 8, "%d given", given)
	}
}

func TestTooFewValuesAreKnownBeforeTheFirstRow(t *testing.T) {
	s := &Set{Seed: "few", Edition: "1"}
	e := s.NewEntity("Thing")
	e.Rows = 101
	f := s.NewField(e, "code", "code")
	f.Source = must(Pattern("[A-J][0-9]"))
	require.NoError(t, e.Unique(f))
	faults := s.Finish()
	require.Len(t, faults, 1)
	assert.Contains(t, faults[0].Message, "101 rows need different values of code, and only 100")
}

// Texts unique through their parts get a number once the space is used up.
func TestUniqueTextAddsANumberOnceUsedUp(t *testing.T) {
	x := &fleet{set: &Set{Seed: "names", Edition: "1"}}
	e := x.set.NewEntity("Thing")
	e.Rows = 50_000
	x.field(e, "given", kind("given-name"))
	x.field(e, "family", kind("family-name"))
	f := x.field(e, "email", x.template(e, "{given|ascii|lower}.{family|ascii|lower}@example.net"))
	require.NoError(t, e.UniqueText(f))
	require.Empty(t, x.set.Finish())
	seen := map[string]bool{}
	for _, l := range dump(x.set, e, 4096) {
		v := value.Fold(strings.Split(l, " | ")[2])
		assert.False(t, seen[v], v)
		seen[v] = true
	}
	assert.Len(t, seen, 50_000)
}

// A unique field of a kind has all of its values that differ as folded text, and a
// pattern of plain letters all of its own.
func TestUniqueKindsAndPatternsUseTheirWholeSpace(t *testing.T) {
	grown := func(src Source, rows uint64) (map[string]bool, []*FinishError) {
		s := &Set{Seed: "whole", Edition: "1"}
		e := s.NewEntity("Thing")
		e.Rows = rows
		f := s.NewField(e, "x", "x")
		f.Source = src
		require.NoError(t, e.Unique(f))
		if faults := s.Finish(); len(faults) > 0 {
			return nil, faults
		}
		var b Batch
		NewGrower(s).Grow(e, Row{}, int(rows), &b)
		seen := map[string]bool{}
		for i := range b.Len {
			seen[value.Fold(b.Row(i)[0].S)] = true
		}
		return seen, nil
	}
	for _, k := range Kinds() {
		built := k.in(nil, "")
		if k.record != nil || k.Space() == 0 || k.Space() > 4_000 || k.Type() != value.Text {
			continue
		}
		want := map[string]bool{}
		for i := range k.Space() {
			want[value.Fold(string(built.append(&k, nil, i)))] = true
		}
		src, err := NewKind(k, KindOptions{})
		require.NoError(t, err)
		seen, faults := grown(src, uint64(len(want)))
		require.Empty(t, faults, k.Name)
		assert.Equal(t, want, seen, k.Name)
		_, faults = grown(src, uint64(len(want))+1)
		assert.NotEmpty(t, faults, k.Name)
	}
	for pattern, n := range map[string]uint64{"[A-C][x-z]": 9, "[aAbB]-[0-9]": 20, "(sea|SEA|bay)": 3, "[éeë]x": 1} {
		src, err := Pattern(pattern)
		require.NoError(t, err)
		seen, faults := grown(src, n)
		if n == 3 { // one of three is told apart by letter case alone
			assert.NotEmpty(t, faults, pattern)
			continue
		}
		require.Empty(t, faults, pattern)
		assert.Len(t, seen, int(n), pattern)
	}
}
