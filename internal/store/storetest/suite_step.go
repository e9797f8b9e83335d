package storetest

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/value"
)

// threeBoats are rows 1 to 3 at pier 1.
func (f *fixture) threeBoats(t *testing.T) store.Tx {
	t.Helper()
	tx := f.threePiers(t)
	for i := range int64(3) {
		require.NoError(
			t,
			f.insert(
				t,
				tx,
				"boats",
				cells{
					"id":      value.Int(i + 1),
					"pier_id": value.Int(1),
					"label":   value.String("x"),
					"seats":   value.Int(10 * (i + 1)),
					"price":   {Type: value.Decimal, N: 725, Scale: 2},
					"launched": {
						Type: value.Date,
						N:    20000 + i,
					},
					"seen_at": {Type: value.Timestamp, N: 1_700_000_000_000_000},
				},
			),
		)
	}

	require.NoError(t, tx.Commit(t.Context()))
	return f.begin(t, false)
}

func column(c *schema.Column) *schema.Expr { return &schema.Expr{Op: schema.OpColumn, Column: c} }

func operation(op schema.Op, args ...*schema.Expr) *schema.Expr {
	return &schema.Expr{Op: op, Args: args}
}

// steps of one occasion and of many mean the same.
func steps(t *testing.T, f *fixture) {
	boats := f.db.Table("boats")
	of := func(name string) *schema.Column { return boats.Column(name) }
	for _, ids := range [][]int64{{2}, {1, 2, 3}, {3, 99, 1}} {
		tx := f.threeBoats(t)
		inputs := []*schema.Column{
			of("id"),
			store.ColumnFor(value.Integer, 0),
			store.ColumnFor(value.Decimal, 2),
			store.ColumnFor(value.Date, 0),
			store.ColumnFor(value.Timestamp, 6),
			store.ColumnFor(value.Text, 0),
			store.ColumnFor(value.Boolean, 0),
		}
		var rows [][]value.Value
		for _, id := range ids {
			rows = append(
				rows,
				[]value.Value{
					value.Int(id),
					value.Int(5),
					{Type: value.Decimal, N: 210, Scale: 2},
					{Type: value.Date, N: 20001},
					{Type: value.Timestamp, N: 1_700_000_000_000_000},
					value.String("-y"),
					value.Bool(true),
				},
			)
		}
		o, err := tx.StageInputs(t.Context(), inputs, rows)
		require.NoError(t, err)
		match := []store.Matched{{Column: of("id"), Input: 0}}
		look := &store.Step{
			Table: boats,
			Match: match,
			Lock:  store.ForWrite,
			Read:  []*schema.Column{of("id"), of("label"), of("seats"), of("price"), of("launched")},
		}
		looked := func() map[int64][]string {
			out := map[int64][]string{}
			require.NoError(t, o.Look(t.Context(), look, func(n int64, row []value.Value) error {
				var cells []string
				for _, v := range row {
					cells = append(cells, v.String())
				}
				out[n] = cells
				return nil
			}))
			return out
		}
		before := looked()
		assert.Len(t, before, min(len(ids), 3)-count(ids, 99))

		change := &store.Step{
			Table: boats,
			Match: match,
			Read:  []*schema.Column{of("id"), of("seats")},
			Set: []store.Assigned{
				{Column: of("seats"), Expr: operation(schema.OpSubtract, column(of("seats")), schema.Given(1))},
				{Column: of("price"), Expr: operation(schema.OpSubtract, column(of("price")), schema.Given(2))},
				{Column: of("label"), Expr: operation(schema.OpJoin, column(of("label")), schema.Given(5))},
				{
					Column: of("launched"),
					Expr: operation(
						schema.OpIf,
						operation(
							schema.OpAnd,
							operation(schema.OpLess, column(of("launched")), schema.Given(3)),
							operation(schema.OpEqual, column(of("seen_at")), schema.Given(4)),
						),
						schema.Given(3),
						column(of("launched")),
					),
				},
			},
		}
		seats := map[int64]int64{}
		n, shown, err := o.Change(t.Context(), change, func(row []value.Value) error {
			seats[row[0].N] = row[1].N
			return nil
		})
		require.NoError(t, err)
		if f.store.Traits().CountsMatches {
			assert.Equal(t, int64(len(before)), n)
		}
		for i, row := range looked() {
			id := ids[i]
			assert.Equal(t, value.Int(id).String(), row[0])
			assert.Equal(
				t,
				[]string{"x-y", value.Int(10*id - 5).String(), "5.15"},
				row[1:4],
				"exact, also where decimals are binary",
			)
			assert.Equal(t, value.Value{Type: value.Date, N: max(20001, 20000+id-1)}.String(), row[4])
			if shown {
				assert.Equal(t, 10*id-5, seats[id])
			}
		}
		require.NoError(t, o.Remove(t.Context(), &store.Step{Table: boats, Match: match}))
		assert.Empty(t, looked())
		left, err := tx.Count(t.Context(), boats)
		require.NoError(t, err)
		assert.Equal(t, int64(3-len(before)), left)
		require.NoError(t, tx.Rollback())
		tx = f.begin(t, false)
		_, err = tx.Clear(t.Context(), boats)
		require.NoError(t, err)
		_, err = tx.Clear(t.Context(), f.db.Table("piers"))
		require.NoError(t, err)
		require.NoError(t, tx.Commit(t.Context()))
	}
}

func count(ids []int64, id int64) int {
	n := 0
	for _, x := range ids {
		if x == id {
			n++
		}
	}
	return n
}

// A step's row is added, conditions in SQL are looked at, and a change that a check refuses
// says so.
func stepsThatAdd(t *testing.T, f *fixture) {
	tx := f.threeBoats(t)
	defer tx.Rollback()
	boats := f.db.Table("boats")
	seats, id, label := boats.Column("seats"), boats.Column("id"), boats.Column("label")
	o, err := tx.StageInputs(
		t.Context(),
		[]*schema.Column{id, label, seats},
		[][]value.Value{{value.Int(7), value.String("seven"), value.Int(70)}},
	)
	require.NoError(t, err)
	add := &store.Step{
		Table: boats,
		Set: []store.Assigned{
			{Column: id, Expr: schema.Given(0)},
			{Column: label, Expr: schema.Given(1)},
			{Column: seats, Expr: schema.Given(2)},
		},
	}
	_, err = o.Add(t.Context(), add, nil)
	require.NoError(t, err)
	for condition, want := range map[string]bool{"= 70": true, "> 70": false, "> (SELECT min(seats) FROM boats " +
		"WHERE id = 99)": false} {
		held, err := tx.Holds(
			t.Context(),
			[]string{"(SELECT seats FROM boats WHERE label = ", ") " + condition},
			[]store.Cell{{Column: store.ColumnFor(value.Text, 0), Value: value.String("seven")}},
		)
		require.NoError(t, err)
		assert.Equal(t, want, held, condition)
	}
	require.NoError(t, tx.Savepoint(t.Context(), "here"))
	change := &store.Step{
		Table: boats,
		Match: []store.Matched{{Column: id, Input: 0}},
		Set:   []store.Assigned{{Column: seats, Expr: operation(schema.OpSubtract, column(seats), schema.Given(2))}},
	}
	_, _, err = o.Change(t.Context(), change, nil)
	var v *store.Violation
	require.ErrorAs(t, err, &v)
	assert.Equal(t, store.Check, v.Kind)
	assert.Equal(t, "boats", v.Table)
	require.NoError(t, tx.RollbackTo(t.Context(), "here"))

	// And what must always hold.
	piers := f.db.Table("piers")
	shown := func(r *schema.Rule, most int) (rows []string) {
		require.NoError(
			t,
			tx.Broken(
				t.Context(),
				r,
				most,
				func(columns []*schema.Column, row []value.Value, computed value.Value) error {
					text := ""
					for i, c := range columns {
						text += c.Name + " " + row[i].String() + ", "
					}
					rows = append(rows, text+computed.String())
					return nil
				},
			),
		)
		return rows
	}
	by := boats.Reference("pier_id")
	assert.Equal(
		t,
		[]string{"id 1, 3"},
		shown(
			&schema.Rule{
				Table: piers,
				Aggregate: &schema.Aggregate{
					Function: "count",
					Of:       boats,
					By:       by,
					Op:       schema.OpLess,
					Value:    value.Int(2),
				},
			},
			9,
		),
	)
	assert.Equal(
		t,
		[]string{"id 1, 60"},
		shown(
			&schema.Rule{
				Table: piers,
				Aggregate: &schema.Aggregate{
					Function: "sum",
					Of:       boats,
					Column:   seats,
					By:       by,
					Op:       schema.OpEqual,
					Value:    value.Int(0),
				},
			},
			9,
		),
	)
	assert.Len(
		t,
		shown(
			&schema.Rule{
				Table:  boats,
				Every:  operation(schema.OpLess, column(seats), schema.Given(0)),
				Values: []value.Value{value.Int(20)},
			},
			2,
		),
		2,
		"at most so many",
	)
	assert.Equal(t, []string{"id 7, NULL"}, shown(&schema.Rule{Table: boats, Where: "label = 'seven'"}, 9))
	assert.Equal(t, []string{"NULL"}, shown(&schema.Rule{SQL: "(SELECT count(*) FROM boats) = 3"}, 9))
	assert.Empty(t, shown(&schema.Rule{SQL: "(SELECT count(*) FROM boats) = 4"}, 9))
}
